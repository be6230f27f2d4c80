// SPDX-License-Identifier: Apache-2.0
// Writing Ogg (RFC 3533): Theora, Opus (RFC 7845), Vorbis and FLAC (RFC 9639 clause 10.1). Every page's position is
// counted from the packets themselves, since times of other containers are rounded.
#include <fmt/format.h>

#include <algorithm>

#include "container/container.h"
#include "container/ogg/pages.h"
#include "media/codec_headers.h"

namespace ruedo::ogg {
namespace {

constexpr Time longest_page{500'000'000};

/// A comment header behind what each codec puts before it.
Bytes comments(std::string_view before, const MuxerTrack& t, const ClipTags& tags, bool framed) {
    ByteWriter w;
    w.text(before).raw(make_comments(t.language, tags));
    if (framed) w.u8(1);
    return w.bytes;
}

/// What goes before the first packet of a codec; empty where its configuration can't be followed.
std::vector<Bytes> headers_of(const MuxerTrack& t, const ClipTags& tags) {
    std::vector<Bytes> out;
    auto laced = t.codec == Codec::vorbis || t.codec == Codec::theora ? split_laced(t.config) : std::vector<ByteView>{};
    if (laced.size() == 3) {
        for (auto h : laced) out.emplace_back(h.begin(), h.end());
        if (!t.language.empty() || !tags.title.empty() || !tags.cover.empty())
            out[1] = comments(t.codec == Codec::vorbis ? "\3vorbis" : "\x81theora", t, tags, t.codec == Codec::vorbis);
    } else if (t.codec == Codec::opus && parse_opus_head(t.config)) {
        auto head = t.config;
        auto skipped = std::min(t.delay_samples, 65535U);
        head[10] = static_cast<std::uint8_t>(skipped), head[11] = static_cast<std::uint8_t>(skipped >> 8);
        out = {std::move(head), comments("OpusTags", t, tags, false)};
    } else if (t.codec == Codec::flac && parse_flac_info(t.config)) {
        ByteWriter first, second;
        first.u8(0x7F).text("FLAC").u8(1).u8(0).u16(1).raw(ByteView(t.config).first(42));
        first.bytes[9 + 4] = 0;  // not the last block of metadata
        auto text = make_comments(t.language, tags);
        second.u8(0x84).u24(text.size()).raw(text);
        out = {std::move(first.bytes), std::move(second.bytes)};
    }
    return out;
}

struct Stream {
    MuxerTrack spec;
    std::vector<Bytes> headers;
    Logical logical;
    PacketLength length;
    ogg_stream_state state{};
    ogg_int64_t packets = 0;
    std::int64_t position = 0;  ///< Unit after what was put in.
    std::int64_t last_frame = -1, last_key = 0;
    bool begun = false, there = false;
    Bytes held;  ///< The last packet waits: only it may say that it is the last.
    std::int64_t held_granule = 0;
    Time page_from{}, held_end{}, end{};

    /// Positions of Opus count what its header says is to be skipped (RFC 7845 clause 4.3).
    std::int64_t skipped() const { return spec.codec == Codec::opus ? std::int64_t{spec.delay_samples} : 0; }
};

class OggMuxer final : public Muxer {
  public:
    explicit OggMuxer(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}
    ~OggMuxer() override {
        for (auto& s : streams_) ogg_stream_clear(&s->state);
    }
    Result<std::size_t> add(const MuxerTrack& track) override {
        RUEDO_TRY_DO(container_format_named("ogg")->check(track));
        auto s = std::make_unique<Stream>();
        s->spec = track;
        s->headers = headers_of(track, tags_);
        bool fine = !s->headers.empty() && s->logical.begin(s->headers[0]);
        for (std::size_t i = 1; fine && i < s->headers.size(); ++i) s->logical.add_header(s->headers[i]);
        if (!fine || !s->logical.complete())
            return fail(ErrorCode::malformed,
                        fmt::format("The {} track’s header can’t be followed.", codec_title(track.codec)),
                        "Let it be encoded anew.");
        ogg_stream_init(&s->state, static_cast<int>(streams_.size()) + 1);
        streams_.push_back(std::move(s));
        return streams_.size() - 1;
    }
    Status write(std::size_t index, const MuxerPacket& p) override {
        if (sink_->position() == 0) RUEDO_TRY_DO(write_heads());
        auto& s = *streams_.at(index);
        if (s.logical.is_video()) return write_picture(s, p);
        RUEDO_TRY_DO(release(s, false));
        auto rate = s.logical.den;
        auto stated = time_to_ticks(p.pts, rate) + s.skipped();
        // Times only count where the sound begins, or is clearly apart from what came before. Nothing is heard of the
        // first packet of Vorbis: the second begins it, before 0 where its first samples are not to be heard.
        bool begins = !s.begun;
        s.begun = s.length.previous_block > 0 || s.spec.codec != Codec::vorbis;
        if (begins || std::abs(stated - s.position) > static_cast<std::int64_t>(rate / 10))
            s.position = begins ? stated : std::max(s.position, stated);
        s.position += s.length.of(s.logical, p.data);
        hold(s, p, s.position);
        return {};
    }
    Status finish(const Progress&) override {
        if (sink_->position() == 0)
            return fail(ErrorCode::empty, "Nothing was written into the clip.",
                        "Choose a source with pictures or sound.");
        for (std::size_t i = 0; i < streams_.size(); ++i) {
            auto& s = streams_[i];
            // The last picture is shown for as long as it lasts.
            if (s->there && s->logical.is_video()) RUEDO_TRY_DO(repeat_until(*s, s->logical.nearest(s->held_end)));
            // The last page of a sound may claim less than it holds, and so cuts the end.
            if (auto end = end_of(i); end && s->there && !s->logical.is_video()) {
                auto cut = time_to_ticks(*end, s->logical.den) + s->skipped();
                s->held_granule = std::min(s->held_granule, cut);
            }
            RUEDO_TRY_DO(release(*s, true));
            RUEDO_TRY_DO(pages(*s, true));
        }
        return sink_->commit();
    }

  private:
    /// The first page of every stream, then what else stands before the first packets.
    Status write_heads() {
        // Pictures first, as players like it that look at the first page only.
        std::vector<Stream*> order;
        for (bool video : {true, false})
            for (auto& s : streams_)
                if (s->logical.is_video() == video) order.push_back(s.get());
        for (bool first : {true, false})
            for (auto* s : order) {
                for (std::size_t i = first ? 0 : 1; i < (first ? 1 : s->headers.size()); ++i)
                    put(*s, s->headers[i], 0, false);
                RUEDO_TRY_DO(pages(*s, true));
            }
        return {};
    }
    /// Frames are counted, so a place among them that none comes to is filled with one that repeats the last.
    Status write_picture(Stream& s, const MuxerPacket& p) {
        auto number = std::max(s.last_frame + 1, s.logical.nearest(p.pts));
        if (s.last_frame < 0 && !p.keyframe) return {};  // nothing that could be decoded yet
        RUEDO_TRY_DO(repeat_until(s, number));
        RUEDO_TRY_DO(release(s, false));
        // A page begins with a keyframe, so that seeking finds it at once.
        if (p.keyframe && s.last_frame >= 0) RUEDO_TRY_DO(pages(s, true));
        if (p.keyframe) s.last_key = number;
        return hold_frame(s, p, number);
    }
    Status repeat_until(Stream& s, std::int64_t number) {
        auto& l = s.logical;
        while (s.last_frame >= 0 && s.last_frame + 1 < number) {
            auto n = s.last_frame + 1;
            RUEDO_TRY_DO(release(s, false));
            RUEDO_TRY_DO(hold_frame(s, {l.time_of(n), l.time_of(n), l.time_of(n + 1) - l.time_of(n), false, {}}, n));
        }
        return {};
    }
    Status hold_frame(Stream& s, const MuxerPacket& p, std::int64_t n) {
        auto& l = s.logical;
        auto key = std::min(s.last_key, n);
        if ((n - key) >> l.shift)
            return fail(ErrorCode::limit, "Its keyframes lie further apart than its Theora header lets Ogg count.",
                        "Let the pictures be encoded anew.");
        s.last_frame = n;
        hold(s, p, ((key + (l.counts_from_one ? 1 : 0)) << l.shift) + (n - key));
        return {};
    }
    static void hold(Stream& s, const MuxerPacket& p, std::int64_t position) {
        s.held.assign(p.data.begin(), p.data.end());
        s.held_granule = position;
        s.held_end = p.pts + p.duration;
        s.there = true;
    }
    Status release(Stream& s, bool last) {
        if (!s.there) return {};
        s.there = false;
        put(s, s.held, s.held_granule, last);
        bool full = s.held_end - s.page_from >= longest_page;
        s.end = s.held_end;
        return pages(s, full);
    }
    static void put(Stream& s, Bytes& data, std::int64_t position, bool last) {
        ogg_packet p{};
        p.packet = data.data(), p.bytes = static_cast<long>(data.size());
        p.b_o_s = s.packets == 0, p.e_o_s = last;
        p.granulepos = position;
        p.packetno = s.packets++;
        ogg_stream_packetin(&s.state, &p);
    }
    Status pages(Stream& s, bool all) {
        // A page has no position before 0, so the first goes on beyond it.
        if (!s.logical.is_video() && s.position <= 0 && !all) return {};
        ogg_page page;
        while (all ? ogg_stream_flush(&s.state, &page) : ogg_stream_pageout(&s.state, &page)) {
            RUEDO_TRY_DO(sink_->write({page.header, static_cast<std::size_t>(page.header_len)}));
            RUEDO_TRY_DO(sink_->write({page.body, static_cast<std::size_t>(page.body_len)}));
            s.page_from = s.end;
        }
        return {};
    }

    std::unique_ptr<ByteSink> sink_;
    std::vector<std::unique_ptr<Stream>> streams_;
};

}  // namespace
}  // namespace ruedo::ogg

namespace ruedo {
std::unique_ptr<Muxer> ogg_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<ogg::OggMuxer>(std::move(sink));
}
}  // namespace ruedo
