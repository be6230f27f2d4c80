// SPDX-License-Identifier: Apache-2.0
#include "container/isobmff/entries.h"

#include <algorithm>

namespace ruedo::isobmff {

std::uint64_t movie_ticks(Time t) {
    return static_cast<std::uint64_t>(std::max<std::int64_t>(0, time_to_ticks(t, movie_scale)));
}
std::uint32_t track_scale(const MuxerTrack& t) {
    return t.kind() == Kind::audio ? static_cast<std::uint32_t>(t.audio.rate) : t.timescale;
}

namespace {
void matrix(BoxWriter& w, int rotation) {
    constexpr std::uint32_t one = 0x10000, minus = 0xFFFF0000;
    std::array<std::uint32_t, 4> m = rotation == 90    ? std::array<std::uint32_t, 4>{0, one, minus, 0}
                                     : rotation == 180 ? std::array<std::uint32_t, 4>{minus, 0, 0, minus}
                                     : rotation == 270 ? std::array<std::uint32_t, 4>{0, minus, one, 0}
                                                       : std::array<std::uint32_t, 4>{one, 0, 0, one};
    w.u32(m[0]).u32(m[1]).u32(0).u32(m[2]).u32(m[3]).u32(0).u32(0).u32(0).u32(0x40000000);
}

/// ISO/IEC 14496-1 clause 7.2.6: object type and kind of stream, then the codec's own header; sizes in four bytes.
void elementary_stream(BoxWriter& w, unsigned object, unsigned kind, const Bytes& config) {
    w.full("esds", 0, 0, [&] {
        auto size = [&](std::size_t n) {
            for (unsigned shift : {21U, 14U, 7U, 0U}) w.u8((shift ? 0x80 : 0) | (n >> shift & 0x7F));
        };
        auto n = config.size();
        auto own = n ? 5 + n : 0;
        w.u8(3), size(3 + 5 + 13 + own + 6), w.u16(0).u8(0);
        w.u8(4), size(13 + own), w.u8(object).u8(kind).u24(0).u32(0).u32(0);
        if (n) w.u8(5), size(n), w.raw(config);
        w.u8(6), size(1), w.u8(2);
    });
}

void audio_entry(BoxWriter& w, const MuxerTrack& s) {
    auto entry = [&] {
        w.be(0, 6)
            .u16(1)
            .u64(0)
            .u16(static_cast<unsigned>(s.audio.channels))
            .u16(16)
            .u32(0)
            .u32(s.audio.rate < 65536 ? static_cast<std::uint32_t>(s.audio.rate) << 16 : 0);
    };
    switch (s.codec) {
        case Codec::opus:
            w.box("Opus", [&] {
                entry();
                w.box("dOps", [&] {
                    // OpusHead without its magic, big-endian.
                    ByteReader head(s.config);
                    head.skip(9);
                    auto channels = head.u8();
                    w.u8(0).u8(channels).u16(head.le(2)).u32(head.le(4)).u16(head.le(2)).raw(head.rest());
                });
            });
            break;
        case Codec::ac3:
            w.box("ac-3", [&] { entry(), w.box("dac3", [&] { w.raw(s.config); }); });
            break;
        case Codec::flac:
            w.box("fLaC", [&] {
                entry();
                w.full("dfLa", 0, 0, [&] { w.raw(ByteView(s.config).subspan(4)); });
            });
            break;
        default:
            w.box("mp4a", [&] {
                entry();
                // Layer III of less than 32 kHz is MPEG-2’s (ISO/IEC 14496-1 table 5).
                unsigned layer_3 = s.audio.rate < 32000 ? 0x69 : 0x6B;
                elementary_stream(w, s.codec == Codec::mp3 ? layer_3 : 0x40, 0x15, s.config);
            });
    }
}

void video_entry(BoxWriter& w, const MuxerTrack& s) {
    auto& cut = s.video.crop;
    auto fill = [&] {
        w.be(0, 6)
            .u16(1)
            .be(0, 8)
            .be(0, 8)
            .u16(static_cast<unsigned>(s.video.width + cut.left + cut.right))
            .u16(static_cast<unsigned>(s.video.height + cut.top + cut.bottom))
            .u32(0x480000)
            .u32(0x480000)
            .u32(0)
            .u16(1)
            .be(0, 8)
            .be(0, 8)
            .be(0, 8)
            .be(0, 8)
            .u16(24)
            .u16(0xFFFF);
        // ISO/IEC 14496-1 table 5.
        if (s.codec == Codec::mpeg4) elementary_stream(w, 0x20, 0x11, s.config);
        if (s.codec == Codec::mpeg2) elementary_stream(w, 0x61, 0x11, s.config);
        if (s.codec == Codec::mjpeg) elementary_stream(w, 0x6C, 0x11, {});
        if (s.codec == Codec::h264) w.box("avcC", [&] { w.raw(s.config); });
        if (s.codec == Codec::hevc) w.box("hvcC", [&] { w.raw(s.config); });
        if (s.codec == Codec::vp9) w.full("vpcC", 1, 0, [&] { w.raw(s.config); });
        if (s.codec == Codec::av1) w.box("av1C", [&] { w.raw(s.config); });
        // What is not stated is not guessed: a reader would take it for known.
        if (auto& c = s.video.colour; c.stated())
            w.box("colr", [&] {
                w.text("nclx")
                    .u16(c.primaries)
                    .u16(c.transfer)
                    .u16(c.matrix_code())
                    .u8(c.range == Colour::Range::full ? 0x80 : 0);
            });
        if (s.video.pixel_aspect.stated())
            w.box("pasp", [&] {
                w.u32(static_cast<std::uint64_t>(s.video.pixel_aspect.num))
                    .u32(static_cast<std::uint64_t>(s.video.pixel_aspect.den));
            });
        // The clean aperture: its size, and how far its centre lies from the frame's (ISO/IEC 14496-12 clause 12.1.4).
        if (cut != Crop{})
            w.box("clap", [&] {
                auto offset = [&](int before, int after) { w.u32(static_cast<std::uint32_t>(before - after)).u32(2); };
                w.u32(static_cast<std::uint64_t>(s.video.width)).u32(1);
                w.u32(static_cast<std::uint64_t>(s.video.height)).u32(1);
                offset(cut.left, cut.right), offset(cut.top, cut.bottom);
            });
    };
    if (s.codec == Codec::h264)
        w.box("avc1", fill);
    else if (s.codec == Codec::hevc)
        w.box("hvc1", fill);
    else if (s.codec == Codec::vp9)
        w.box("vp09", fill);
    else if (s.codec == Codec::av1)
        w.box("av01", fill);
    else
        w.box("mp4v", fill);
}
}  // namespace

void movie_header(BoxWriter& w, Time end, std::size_t tracks, const ClipTags& tags) {
    auto length = movie_ticks(end);
    auto created = static_cast<std::uint64_t>(tags.created ? std::max<std::int64_t>(0, *tags.created + epoch_1904) : 0);
    if (created > UINT32_MAX) created = 0;
    unsigned v = length > UINT32_MAX ? 1 : 0, n = v ? 8 : 4;
    w.full("mvhd", v, 0, [&] {
        w.be(created, n).be(created, n).u32(movie_scale).be(length, n).u32(0x10000).u16(0x100).be(0, 8).u16(0);
        matrix(w, 0);
        w.be(0, 8).be(0, 8).be(0, 8).u32(tracks + 1);
    });
}

void movie_tags(BoxWriter& w, const ClipTags& tags) {
    if (tags.title.empty() && tags.cover.empty()) return;
    auto item = [&](const char(&name)[5], std::uint32_t type, auto&& value) {
        w.box(name, [&] { w.box("data", [&] { w.u32(type).u32(0), value(); }); });
    };
    w.box("udta", [&] {
        w.full("meta", 0, 0, [&] {
            w.full("hdlr", 0, 0, [&] { w.u32(0).text("mdirappl").u64(0).u8(0); });
            w.box("ilst", [&] {
                if (!tags.title.empty()) item("\xA9nam", 1, [&] { w.text(tags.title); });
                if (!tags.cover.empty())
                    item("covr", ClipTags::image_type(tags.cover) == "image/png" ? 14 : 13, [&] { w.raw(tags.cover); });
            });
        });
    });
}

void track_header(BoxWriter& w, const MuxerTrack& t, std::size_t number, Time end) {
    auto length = movie_ticks(end);
    unsigned v = length > UINT32_MAX ? 1 : 0, n = v ? 8 : 4;
    bool audio = t.kind() == Kind::audio, video = t.kind() == Kind::video;
    w.full("tkhd", v, t.is_default ? 3 : 2, [&] {
        w.be(0, n)
            .be(0, n)
            .u32(number)
            .u32(0)
            .be(length, n)
            .be(0, 8)
            .u16(0)
            .u16(audio   ? 1
                 : video ? 0
                         : 2)  // of tracks of one group one is meant to be played
            .u16(audio ? 0x100 : 0)
            .u16(0);
        matrix(w, t.video.rotation);
        auto flat = t.video;
        flat.rotation = 0;
        w.u32(video ? static_cast<std::uint32_t>(flat.display_width()) << 16 : 0)
            .u32(video ? static_cast<std::uint32_t>(flat.display_height()) << 16 : 0);
    });
}

void edit_list(BoxWriter& w, std::uint64_t start, std::uint64_t length, std::uint64_t media_time) {
    unsigned v = std::max({start, length, media_time}) > INT32_MAX ? 1 : 0, n = v ? 8 : 4;
    w.box("edts", [&] {
        w.full("elst", v, 0, [&] {
            w.u32(start ? 2 : 1);
            if (start) w.be(start, n).be(UINT64_MAX, n).u32(0x10000);
            w.be(length, n).be(media_time, n).u32(0x10000);
        });
    });
}

void media_header(BoxWriter& w, const MuxerTrack& t, std::uint64_t length) {
    unsigned v = length > UINT32_MAX ? 1 : 0, n = v ? 8 : 4;
    w.full("mdhd", v, 0, [&] {
        auto language = iso639_from_bcp47(t.language);
        unsigned packed = 0;
        for (char c : language) packed = packed << 5 | (static_cast<unsigned>(c) - 0x60);
        w.be(0, n).be(0, n).u32(track_scale(t)).be(length, n).u16(packed).u16(0);
    });
    // All of the tag, where the three letters don't say it (8.4.6).
    if (t.language.find('-') != std::string::npos) w.full("elng", 0, 0, [&] { w.text(t.language).u8(0); });
    auto kind = t.kind();
    w.full("hdlr", 0, 0, [&] {
        w.u32(0).text(kind == Kind::audio ? "soun" : kind == Kind::video ? "vide" : "text").u32(0).u32(0).u32(0);
        w.text(kind == Kind::audio ? "Sound" : kind == Kind::video ? "Pictures" : "Captions").u8(0);
    });
}

void media_kind(BoxWriter& w, const MuxerTrack& t) {
    if (t.kind() == Kind::audio)
        w.full("smhd", 0, 0, [&] { w.u32(0); });
    else if (t.kind() == Kind::video)
        w.full("vmhd", 0, 1, [&] { w.u64(0); });
    else
        w.full("nmhd", 0, 0, [] {});
}

void sample_description(BoxWriter& w, const MuxerTrack& t) {
    w.full("stsd", 0, 0, [&] {
        w.u32(1);
        if (t.kind() == Kind::audio)
            audio_entry(w, t);
        else if (t.kind() == Kind::video)
            video_entry(w, t);
        else
            w.box("wvtt", [&] { w.be(0, 6).u16(1), w.box("vttC", [&] { w.text("WEBVTT"); }); });
    });
}

Status CueSamples::add(const MuxerPacket& cue, const Put& put) {
    RUEDO_TRY_DO(until(cue.pts, put));
    auto end = std::find(cue.data.begin(), cue.data.end(), '\n');
    BoxWriter w;
    w.box("vttc", [&] {
        if (end != cue.data.begin()) w.box("sttg", [&] { w.raw({cue.data.begin(), end}); });
        w.box("payl", [&] { w.raw({end == cue.data.end() ? end : end + 1, cue.data.end()}); });
    });
    active_.push_back({cue.pts + cue.duration, std::move(w.bytes)});
    return {};
}
Status CueSamples::finish(const Put& put) {
    auto last = at_;
    for (auto& s : active_) last = std::max(last, s.end);
    return until(last, put);
}
Status CueSamples::until(Time t, const Put& put) {
    while (at_ < t) {
        auto next = t;
        for (auto& s : active_) next = std::min(next, s.end);
        BoxWriter w;
        for (auto& s : active_) w.raw(s.box);
        if (active_.empty()) w.box("vtte", [] {});
        RUEDO_TRY_DO(put({at_, at_, next - at_, true, w.bytes}));
        at_ = next;
        std::erase_if(active_, [&](auto& s) { return s.end <= at_; });
    }
    return {};
}

}  // namespace ruedo::isobmff
