// SPDX-License-Identifier: Apache-2.0
// Writing sound without a container: MP3, AAC in ADTS and AC-3, frame after frame, and FLAC (RFC 9639 clause 8).
#include <algorithm>

#include "container/container.h"
#include "media/codec_headers.h"

namespace ruedo::elementary {
namespace {

constexpr unsigned decoder_delay = 529;  ///< Samples that every layer III decoder adds, which files do not state.

class BareFrameMuxer final : public Muxer {
  public:
    explicit BareFrameMuxer(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}
    Result<std::size_t> add(const MuxerTrack& track) override {
        if (spec_.codec != Codec::unknown || !frame_parser(track.codec))
            return fail(ErrorCode::limit, "Bare sound is one track of frames.", "Choose a container.");
        if (track.codec == Codec::aac && adts_header(track.config, 0).empty())
            return fail(ErrorCode::malformed, "The track’s header has no form in ADTS.", "Let it be encoded anew.");
        spec_ = track;
        return 0;
    }
    Status write(std::size_t, const MuxerPacket& p) override {
        if (spec_.codec == Codec::aac) {
            auto head = adts_header(spec_.config, p.data.size());
            if (head.empty())
                return fail(ErrorCode::limit, "A packet is too long for ADTS.", "Let it be encoded anew.");
            RUEDO_TRY_DO(sink_->write(head));
        }
        if (spec_.codec == Codec::mp3) {
            if (places_.empty()) RUEDO_TRY_DO(begin(p.data));
            places_.push_back(sink_->position());
        }
        any_ = true;
        return sink_->write(p.data);
    }
    Status finish(const Progress&) override {
        if (!any_) return fail(ErrorCode::empty, "Nothing was written into the clip.", "Choose a source with sound.");
        if (spec_.codec == Codec::mp3) RUEDO_TRY_DO(state(end_of(0)));
        return sink_->commit();
    }

  private:
    /// A frame of the same kind, and long enough, that holds no sound but what there is to say; a decoder that does not
    /// know of it hears a moment of silence.
    Status begin(ByteView first) {
        if (!tags_.title.empty() || !tags_.cover.empty()) {
            // ID3v2.4, a text frame in UTF-8 and a picture; sizes of seven bits a byte.
            auto size = [](std::size_t n) {
                return Bytes{static_cast<std::uint8_t>(n >> 21 & 127), static_cast<std::uint8_t>(n >> 14 & 127),
                             static_cast<std::uint8_t>(n >> 7 & 127), static_cast<std::uint8_t>(n & 127)};
            };
            ByteWriter w, frames;
            if (auto n = tags_.title.size() + 1; n > 1) frames.text("TIT2").raw(size(n)).u16(0).u8(3).text(tags_.title);
            if (!tags_.cover.empty()) {
                ByteWriter picture;
                picture.u8(3).text(ClipTags::image_type(tags_.cover)).u8(0).u8(3).u8(0).raw(tags_.cover);
                frames.text("APIC").raw(size(picture.size())).u16(0).raw(picture.bytes);
            }
            w.text("ID3").u8(4).u8(0).u8(0).raw(size(frames.size())).raw(frames.bytes);
            RUEDO_TRY_DO(sink_->write(w.bytes));
            info_at_ = w.size();
        }
        auto head = parse_mp3_frame(first);
        if (!head)
            return fail(ErrorCode::malformed, "A packet of the MPEG sound track is damaged.", "Export it again.");
        side_ = head->samples == 1152 ? (head->channels == 1 ? 17 : 32) : (head->channels == 1 ? 9 : 17);
        frame_.assign(first.begin(), first.begin() + 4);
        frame_[1] |= 1;  // no checksum follows
        for (unsigned bitrate = frame_[2] >> 4; bitrate < 15; ++bitrate) {
            frame_[2] = static_cast<std::uint8_t>((frame_[2] & 0x0D) | bitrate << 4);  // not padded either
            auto made = parse_mp3_frame(frame_);
            if (!made || made->size < 4 + side_ + 4 + 4 + 4 + 4 + 100 + 4 + 36) continue;
            frame_.resize(made->size);
            samples_ = static_cast<std::uint64_t>(made->samples);
            rate_ = static_cast<std::uint64_t>(made->rate);
            return sink_->write(frame_);
        }
        return fail(ErrorCode::limit, "The sound’s rate has no frame that could state its length.",
                    "Let it be encoded anew.");
    }
    /// How many frames and bytes follow, where each hundredth begins, and what is to be cut at both ends.
    Status state(std::optional<Time> stated) {
        ByteWriter w;
        auto bytes = sink_->position() - info_at_;
        w.raw(ByteView(frame_).first(4)).bytes.resize(4 + side_);
        w.text("Info").u32(0xF).u32(places_.size()).u32(bytes);
        for (std::size_t i = 0; i < 100; ++i)
            w.u8(std::min<std::uint64_t>(255, (places_[i * places_.size() / 100] - info_at_) * 256 / bytes));
        w.u32(0);
        auto all = places_.size() * samples_;
        std::uint64_t delay = spec_.delay_samples >= decoder_delay ? spec_.delay_samples - decoder_delay : 0,
                      padding = 0;
        auto end = stated ? static_cast<std::uint64_t>(time_to_ticks(*stated, rate_)) : all - std::min(all, delay);
        if (delay + end < all) padding = std::min<std::uint64_t>(0xFFF, all - delay - end);
        w.text("ruedo    ").bytes.resize(w.size() + 12);
        w.u24(std::min<std::uint64_t>(delay, 0xFFF) << 12 | padding);
        w.bytes.resize(frame_.size());
        return sink_->write_at(info_at_, w.bytes);
    }
    std::unique_ptr<ByteSink> sink_;
    MuxerTrack spec_;
    Bytes frame_;
    std::size_t side_ = 32;
    std::uint64_t info_at_ = 0;  ///< Behind a title.
    std::uint64_t samples_ = 1152, rate_ = 48000;
    std::vector<std::uint64_t> places_;
    bool any_ = false;
};

class FlacMuxer final : public Muxer {
  public:
    explicit FlacMuxer(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}
    Result<std::size_t> add(const MuxerTrack& track) override {
        RUEDO_TRY_DO(container_format_named("flac")->check(track));
        auto info = parse_flac_info(track.config);
        if (!info || sink_->position())
            return fail(ErrorCode::malformed, "The FLAC track’s header can’t be followed.", "Let it be encoded anew.");
        info_ = *info;
        ByteWriter w;
        auto said = tags_;
        said.cover.clear();  // it has a block of its own here
        auto comments = make_comments(track.language, said);
        w.raw(ByteView(track.config).first(42)).u8(tags_.cover.empty() ? 0x84 : 4).u24(comments.size()).raw(comments);
        if (!tags_.cover.empty()) {
            auto picture = make_picture_block(tags_.cover);
            w.u8(0x86).u24(picture.size()).raw(picture);
        }
        w.bytes[4] = 0;  // another block follows
        head_.assign(w.bytes.begin(), w.bytes.begin() + 42);
        RUEDO_TRY_DO(sink_->write(w.bytes));
        return 0;
    }
    Status write(std::size_t, const MuxerPacket& p) override {
        auto frame = parse_flac_frame(p.data);
        if (!frame)
            return fail(ErrorCode::malformed, "A packet of the FLAC track is damaged.", "Let it be encoded anew.");
        samples_ += static_cast<std::uint64_t>(frame->samples);
        auto size = static_cast<std::uint32_t>(p.data.size());
        least_ = std::min(least_, size), most_ = std::max(most_, size);
        return sink_->write(p.data);
    }
    Status finish(const Progress&) override {
        if (!samples_)
            return fail(ErrorCode::empty, "Nothing was written into the clip.", "Choose a source with sound.");
        // Lengths are known now. The checksum over all samples holds where all are there.
        ByteWriter w;
        w.raw(ByteView(head_).first(12)).u24(least_).u24(most_);
        auto packed = ByteReader(ByteView(head_).subspan(18)).u64();
        w.u64((packed & ~0xFFFFFFFFFULL) | (samples_ & 0xFFFFFFFFFULL));
        if (samples_ == info_.samples)
            w.raw(ByteView(head_).subspan(26));
        else
            w.bytes.resize(42);
        RUEDO_TRY_DO(sink_->write_at(0, w.bytes));
        return sink_->commit();
    }

  private:
    std::unique_ptr<ByteSink> sink_;
    FlacInfo info_;
    Bytes head_;
    std::uint64_t samples_ = 0;
    std::uint32_t least_ = 0xFFFFFF, most_ = 0;
};

}  // namespace
}  // namespace ruedo::elementary

namespace ruedo {
std::unique_ptr<Muxer> bare_frame_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<elementary::BareFrameMuxer>(std::move(sink));
}
std::unique_ptr<Muxer> flac_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<elementary::FlacMuxer>(std::move(sink));
}
}  // namespace ruedo
