// SPDX-License-Identifier: Apache-2.0
// Theora through libtheora.
#include <theora/theoradec.h>
#include <theora/theoraenc.h>

#include <algorithm>
#include <fstream>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        auto d = std::make_unique<Decoder>();
        th_comment comment;
        th_comment_init(&comment);
        bool good = true;
        int number = 0;
        for (auto header : split_laced(track.config)) {
            auto packet = as_packet(header);
            packet.b_o_s = number++ == 0;
            good = good && th_decode_headerin(&d->info_, &comment, &d->setup_, &packet) > 0;
        }
        th_comment_clear(&comment);
        if (!good || number != 3)
            return fail(ErrorCode::malformed, "The Theora track's headers can’t be followed.",
                        "Export the clip again.");
        if (!frame_fits(d->info_.frame_width, d->info_.frame_height))
            return std::unexpected(frame_too_large(d->info_.frame_width, d->info_.frame_height));
        d->reset();
        if (!d->context_)
            return fail(ErrorCode::malformed, "The Theora track's headers do not fit together.",
                        "Export the clip again.");
        return d;
    }
    Decoder() { th_info_init(&info_); }
    ~Decoder() override {
        if (context_) th_decode_free(context_);
        th_setup_free(setup_);
        th_info_clear(&info_);
    }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        auto packet = as_packet(data);
        // An empty packet repeats the picture before it.
        auto result = th_decode_packetin(context_, &packet, nullptr);
        if (result != 0 && result != TH_DUPFRAME)
            return fail(ErrorCode::malformed, "A picture of the Theora track is damaged.", "Export the clip again.");
        if (pts < from_) return {};
        th_ycbcr_buffer planes;
        if (th_decode_ycbcr_out(context_, planes) != 0) return {};
        std::array<const std::uint8_t*, 3> from{};
        std::array<int, 3> strides{};
        for (std::size_t i = 0; i < 3; ++i) {
            auto x = static_cast<std::ptrdiff_t>(info_.pic_x) / (i ? 2 : 1),
                 y = static_cast<std::ptrdiff_t>(info_.pic_y) / (i ? 2 : 1);
            strides[i] = planes[i].stride;
            from[i] = planes[i].data + y * strides[i] + x;
        }
        auto p = copy_frame(static_cast<int>(info_.pic_width), static_cast<int>(info_.pic_height), from, strides);
        p.pts = pts;
        p.colour = *Colour::always(Codec::theora);
        out.push_back(std::move(p));
        return {};
    }
    Status drain(std::vector<Frame>&) override { return {}; }
    void reset() override {
        if (context_) th_decode_free(context_);
        context_ = th_decode_alloc(&info_, setup_);
    }

  private:
    static ogg_packet as_packet(ByteView data) {
        ogg_packet p{};
        p.packet = const_cast<unsigned char*>(data.data());
        p.bytes = static_cast<long>(data.size());
        p.granulepos = -1;
        return p;
    }
    th_info info_{};
    th_setup_info* setup_ = nullptr;
    th_dec_ctx* context_ = nullptr;
};

/// Pictures have one rate, which is the track's; sizes are filled up to whole blocks and cropped away by the header.
class Encoder final : public VideoEncoder {
  public:
    static Result<std::unique_ptr<VideoEncoder>> make(Codec, const VideoEncodeOptions& o) {
        if (o.width < 1 || o.height < 1 || o.width > 8192 || o.height > 8192)
            return fail(ErrorCode::limit, "The Theora encoder takes sizes up to 8192 × 8192.", "Choose a smaller one.");
        auto e = std::make_unique<Encoder>();
        auto& i = e->info_;
        i.frame_width = static_cast<unsigned>(o.width + 15) & ~15U;
        i.frame_height = static_cast<unsigned>(o.height + 15) & ~15U;
        i.pic_width = static_cast<unsigned>(o.width), i.pic_height = static_cast<unsigned>(o.height);
        i.fps_numerator = static_cast<unsigned>(o.rate.num), i.fps_denominator = static_cast<unsigned>(o.rate.den);
        i.aspect_numerator = static_cast<unsigned>(o.pixel_aspect.stated() ? o.pixel_aspect.num : 1);
        i.aspect_denominator = static_cast<unsigned>(o.pixel_aspect.stated() ? o.pixel_aspect.den : 1);
        i.colorspace = TH_CS_UNSPECIFIED;
        i.pixel_fmt = TH_PF_420;
        bool quality = o.control == VideoEncodeOptions::Control::quality;
        i.quality = quality ? std::clamp(o.quality, 0, 63) : 0;
        i.target_bitrate = quality ? 0 : static_cast<int>(std::min(o.bitrate, 0x7FFFFFFFU));
        int apart = std::max(1, o.keyframe_every);
        // Room to count what repeats a picture, too, where they come at no one rate.
        i.keyframe_granule_shift = 20;
        e->context_ = th_encode_alloc(&i);
        if (!e->context_)
            return fail(ErrorCode::limit, "The Theora encoder refused these settings.", "Choose another size or rate.");
        RUEDO_TRY_DO(e->keyframe_every(apart));
        int quickest = 0;
        th_encode_ctl(e->context_, TH_ENCCTL_GET_SPLEVEL_MAX, &quickest, sizeof quickest);
        int speed = o.effort == 0 ? quickest : o.effort == 1 ? 1 : 0;
        th_encode_ctl(e->context_, TH_ENCCTL_SET_SPLEVEL, &speed, sizeof speed);
        th_comment comment;
        th_comment_init(&comment);
        std::vector<Bytes> headers;
        ogg_packet packet;
        while (th_encode_flushheader(e->context_, &comment, &packet) > 0)
            headers.emplace_back(packet.packet, packet.packet + packet.bytes);
        th_comment_clear(&comment);
        if (headers.size() != 3) return fail(ErrorCode::internal, "The Theora encoder gave no headers.");
        e->config_ = lace_headers(headers);
        e->options_ = o;
        return o.pass ? e->begin_pass(std::move(e)) : Result<std::unique_ptr<VideoEncoder>>(std::move(e));
    }
    Encoder() { th_info_init(&info_); }
    ~Encoder() override {
        if (context_) th_encode_free(context_);
        th_info_clear(&info_);
    }
    Status encode(const Frame& p, std::vector<Encoded>& out) override {
        if (options_.pass == 2) RUEDO_TRY_DO(recall());
        th_ycbcr_buffer planes;
        for (std::size_t i = 0; i < 3; ++i) {
            auto w = (i ? (p.width + 1) / 2 : p.width), h = (i ? (p.height + 1) / 2 : p.height);
            auto across = static_cast<int>(info_.frame_width) / (i ? 2 : 1),
                 down = static_cast<int>(info_.frame_height) / (i ? 2 : 1);
            planes[i] = {across, down, across, nullptr};
            auto& padded = padded_[i];
            padded.resize(static_cast<std::size_t>(across) * static_cast<std::size_t>(down));
            planes[i].data = padded.data();
            for (std::ptrdiff_t y = 0; y < down; ++y) {
                auto* from = p.plane[i] + std::min<std::ptrdiff_t>(y, h - 1) * p.stride[i];
                auto* to = padded.data() + y * across;
                std::copy_n(from, w, to);
                std::fill(to + w, to + across, from[w - 1]);
            }
        }
        // The library counts the pictures it is given; what is to be kept apart are moments.
        auto moment = time_to_ticks(p.pts, static_cast<std::uint64_t>(options_.rate.num)) / options_.rate.den;
        bool due = moment - last_key_ >= options_.keyframe_every;
        if (due) RUEDO_TRY_DO(keyframe_every(1));
        if (th_encode_ycbcr_in(context_, planes) != 0)
            return fail(ErrorCode::internal, "The Theora encoder failed on a picture.");
        if (due) RUEDO_TRY_DO(keyframe_every(options_.keyframe_every));
        if (options_.pass == 1) RUEDO_TRY_DO(learn());
        ogg_packet packet;
        while (th_encode_packetout(context_, 0, &packet) > 0) {
            Encoded e;
            e.data.assign(packet.packet, packet.packet + packet.bytes);
            e.pts = e.dts = p.pts;
            // The second bit of a picture's packet says that it needs others (clause 7.1); an empty one repeats the
            // last.
            e.keyframe = packet.bytes > 0 && (packet.packet[0] & 0x40) == 0;
            if (e.keyframe) last_key_ = moment;
            out.push_back(std::move(e));
        }
        return {};
    }
    Status drain(std::vector<Encoded>&) override {
        if (options_.pass != 1) return {};
        RUEDO_TRY_DO(learn(true));
        std::ofstream file(options_.stats, std::ios::binary);
        file.write(reinterpret_cast<const char*>(learned_.data()), static_cast<std::streamsize>(learned_.size()));
        return file.flush() ? Status{}
                            : fail(ErrorCode::io, "What the first of two passes learned could not be kept.",
                                   "Make room on the disk.");
    }
    Bytes config() const override { return config_; }

  private:
    Status keyframe_every(int pictures) {
        auto distance = static_cast<ogg_uint32_t>(std::max(1, pictures));
        if (th_encode_ctl(context_, TH_ENCCTL_SET_KEYFRAME_FREQUENCY_FORCE, &distance, sizeof distance) != 0)
            return fail(ErrorCode::internal, "The Theora encoder refused a distance of keyframes.");
        return {};
    }
    static Result<std::unique_ptr<VideoEncoder>> begin_pass(std::unique_ptr<Encoder> e) {
        if (e->options_.stats.empty())
            return fail(ErrorCode::internal, "Encoding in two passes needs a place between them.");
        if (e->options_.pass == 1) {
            RUEDO_TRY_DO(e->learn());
            return e;
        }
        std::ifstream file(e->options_.stats, std::ios::binary);
        e->learned_.assign(std::istreambuf_iterator<char>(file), {});
        if (e->learned_.empty()) return fail(ErrorCode::internal, "The first of two passes left nothing behind.");
        return e;
    }
    /// What the first pass says of the picture before; at the end a summary, which goes in front of all of it, where
    /// room
    /// was left at the beginning.
    Status learn(bool summary = false) {
        unsigned char* data = nullptr;
        auto n = th_encode_ctl(context_, TH_ENCCTL_2PASS_OUT, &data, sizeof data);
        if (n < 0) return fail(ErrorCode::internal, "The first of two passes failed.");
        if (summary)
            std::copy_n(data, std::min(static_cast<std::size_t>(n), learned_.size()), learned_.begin());
        else
            learned_.insert(learned_.end(), data, data + n);
        return {};
    }
    /// As much of it as the next picture needs.
    Status recall() {
        for (;;) {
            auto left = learned_.size() - told_;
            auto n = th_encode_ctl(context_, TH_ENCCTL_2PASS_IN, learned_.data() + told_, left);
            if (n < 0) return fail(ErrorCode::internal, "What the first of two passes learned does not fit.");
            if (n == 0) return {};
            told_ += static_cast<std::size_t>(n);
        }
    }
    th_info info_{};
    th_enc_ctx* context_ = nullptr;
    std::int64_t last_key_ = 0;  ///< In pictures of the rate.
    VideoEncodeOptions options_;
    Bytes config_, learned_;
    std::array<Bytes, 3> padded_;
    std::size_t told_ = 0;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "theora",
                                    .library = "libtheora",
                                    .licence = "BSD-3-Clause",
                                    .package = "libtheora0",
                                    .decodes = {Codec::theora},
                                    .encodes = {Codec::theora},
                                    .video_decoder = &Decoder::make,
                                    .video_encoder = &Encoder::make};
    return &module;
}
