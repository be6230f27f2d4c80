// SPDX-License-Identifier: Apache-2.0
// Writing MP4 (ISO/IEC 14496-12, -14, -15): media first into the file, the index in front of it at the end.
#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "container/container.h"

namespace ruedo::isobmff {
namespace {

constexpr std::uint32_t movie_scale = 48000;

/// Builds nested boxes; sizes are filled in when a box ends.
class BoxWriter : public ByteWriter {
  public:
    template <class F>
    BoxWriter& box(const char (&type)[5], F&& fill) {
        auto at = bytes.size();
        u32(0).text(std::string_view(type, 4));
        fill();
        auto size = bytes.size() - at;
        for (unsigned i = 0; i < 4; ++i) bytes[at + i] = static_cast<std::uint8_t>(size >> (24 - 8 * i));
        return *this;
    }
    template <class F>
    BoxWriter& full(const char (&type)[5], unsigned version, unsigned flags, F&& fill) {
        return box(type, [&] { u8(version).u24(flags), fill(); });
    }
};

struct Sample {
    std::uint32_t size;
    std::int32_t delta, shift;
    bool sync;
};
struct Chunk {
    std::uint64_t offset;
    std::uint32_t samples;
};

struct TrackState {
    WriteTrack spec;
    std::vector<Sample> samples;
    std::vector<Chunk> chunks;
    std::int64_t first_dts = 0, last_dts = 0, last_duration = 0, media_duration = 0;
    Time first_pts = Time::max(), end{};
    bool audio() const { return spec.audio.rate > 0; }
    std::uint32_t scale() const { return audio() ? static_cast<std::uint32_t>(spec.audio.rate) : spec.timescale; }
};

class Mp4Writer final : public ClipWriter {
  public:
    explicit Mp4Writer(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}

    Result<std::size_t> add(const WriteTrack& track) override {
        static constexpr std::array known{Codec::h264,  Codec::hevc, Codec::vp9,  Codec::av1,
                                          Codec::mpeg4, Codec::aac,  Codec::opus, Codec::ac3};
        if (std::find(known.begin(), known.end(), track.codec) == known.end())
            return fail(Code::codec_missing, fmt::format("{} can’t be put into MP4 here.", codec_title(track.codec)),
                        "Choose H.264, VP9 or AV1, and AAC or Opus.");
        tracks_.emplace_back();
        tracks_.back().spec = track;
        return tracks_.size() - 1;
    }

    Outcome write(std::size_t index, const WritePacket& p) override {
        auto& t = tracks_.at(index);
        if (sink_->position() == 0) {
            // A 64-bit size, since it is not known yet how much will come.
            BoxWriter w;
            if (room_) w.box("free", [&] { w.bytes.resize(w.bytes.size() + room_ - 8); });
            w.u32(1).text("mdat").u64(0);
            TRY_DO(sink_->write(w.bytes));
        }
        auto dts = time_to_ticks(p.dts, t.scale()), pts = time_to_ticks(p.pts, t.scale());
        if (t.samples.empty())
            t.first_dts = dts;
        else {
            if (dts < t.last_dts) return fail(Code::internal, "Packets came out of decoding order.");
            t.samples.back().delta = static_cast<std::int32_t>(dts - t.last_dts);
        }
        t.last_dts = dts;
        t.last_duration = std::max<std::int64_t>(0, time_to_ticks(p.dts + p.duration, t.scale()) - dts);
        t.samples.push_back({static_cast<std::uint32_t>(p.data.size()), static_cast<std::int32_t>(t.last_duration),
                             static_cast<std::int32_t>(pts - dts), p.keyframe});
        t.first_pts = std::min(t.first_pts, p.pts);
        t.end = std::max(t.end, p.pts + p.duration);
        if (last_track_ != index || t.chunks.empty() || t.chunks.back().samples >= 64)
            t.chunks.push_back({sink_->position(), 0});
        ++t.chunks.back().samples;
        last_track_ = index;
        return sink_->write(p.data);
    }

    Outcome finish(Time sound_end, const Progress& told) override {
        if (sink_->position() == 0)
            return fail(Code::empty, "Nothing was written into the clip.", "Choose a source with pictures or sound.");
        ByteWriter size;
        size.u64(sink_->position() - room_);
        TRY_DO(sink_->write_at(room_ + 8, size.bytes));
        for (auto& t : tracks_) {
            t.media_duration = t.last_dts - t.first_dts + t.last_duration;
            if (t.audio() && sound_end.ns > 0) t.end = std::min(t.end, sound_end);
        }
        // The index's own size shifts what it points to; with 64-bit offsets from 4 GB on it does not depend on that.
        bool large = sink_->position() > 0xF0000000ULL;
        // What was kept for it may do, with a box of nothing behind it; else everything moves.
        if (room_) {
            auto whole = index(0, large);
            if (whole.size() == room_ || whole.size() + 8 <= room_) {
                BoxWriter rest;
                if (whole.size() < room_) rest.u32(static_cast<std::uint32_t>(room_ - whole.size())).text("free");
                TRY_DO(sink_->write_at(whole.size(), rest.bytes));
                TRY_DO(sink_->write_at(0, whole));
                return sink_->commit();
            }
        }
        auto head = index(0, large).size();
        auto whole = index(head, large);
        TRY_DO(sink_->insert_gap(0, whole.size(), told));
        TRY_DO(sink_->write_at(0, whole));
        return sink_->commit();
    }

    void expect(std::uint64_t packets) override {
        // Times, size, place and being a keyframe; boxes round them.
        room_ = std::min<std::uint64_t>(2048 + packets * 24, 256 << 20);
    }

  private:
    Bytes index(std::uint64_t shift, bool large);
    void track_box(BoxWriter& w, const TrackState& t, std::size_t number, std::uint64_t shift, bool large);
    void sample_entry(BoxWriter& w, const TrackState& t);
    void tables(BoxWriter& w, const TrackState& t, std::uint64_t shift, bool large);

    std::unique_ptr<ByteSink> sink_;
    std::vector<TrackState> tracks_;
    std::size_t last_track_ = SIZE_MAX;
    std::uint64_t room_ = 0;  ///< Kept in front for the index.
};

constexpr std::uint64_t movie_ticks(Time t) {
    return static_cast<std::uint64_t>(std::max<std::int64_t>(0, t.ns)) / 1'000'000'000 * movie_scale +
           (static_cast<std::uint64_t>(std::max<std::int64_t>(0, t.ns)) % 1'000'000'000 * movie_scale + 500'000'000) /
               1'000'000'000;
}

void matrix(BoxWriter& w, int rotation) {
    constexpr std::uint32_t one = 0x10000, minus = 0xFFFF0000;
    std::array<std::uint32_t, 4> m = rotation == 90    ? std::array<std::uint32_t, 4>{0, one, minus, 0}
                                     : rotation == 180 ? std::array<std::uint32_t, 4>{minus, 0, 0, minus}
                                     : rotation == 270 ? std::array<std::uint32_t, 4>{0, minus, one, 0}
                                                       : std::array<std::uint32_t, 4>{one, 0, 0, one};
    w.u32(m[0]).u32(m[1]).u32(0).u32(m[2]).u32(m[3]).u32(0).u32(0).u32(0).u32(0x40000000);
}

Bytes Mp4Writer::index(std::uint64_t shift, bool large) {
    BoxWriter w;
    w.box("ftyp", [&] { w.text("isom").u32(0x200).text("isomiso2mp41"); });
    Time end{};
    for (auto& t : tracks_) end = std::max(end, t.end);
    w.box("moov", [&] {
        auto length = movie_ticks(end);
        unsigned v = length > UINT32_MAX ? 1 : 0, n = v ? 8 : 4;
        w.full("mvhd", v, 0, [&] {
            w.be(0, n).be(0, n).u32(movie_scale).be(length, n).u32(0x10000).u16(0x100).be(0, 8).u16(0);
            matrix(w, 0);
            w.be(0, 8).be(0, 8).be(0, 8).u32(tracks_.size() + 1);
        });
        for (std::size_t i = 0; i < tracks_.size(); ++i)
            if (!tracks_[i].samples.empty()) track_box(w, tracks_[i], i + 1, shift, large);
    });
    return w.bytes;
}

void Mp4Writer::track_box(BoxWriter& w, const TrackState& t, std::size_t number, std::uint64_t shift, bool large) {
    auto start = std::max(t.first_pts, Time{});
    auto length = movie_ticks(t.end) - movie_ticks(start);
    w.box("trak", [&] {
        unsigned v = movie_ticks(t.end) > UINT32_MAX ? 1 : 0, n = v ? 8 : 4;
        w.full("tkhd", v, 3, [&] {
            w.be(0, n)
                .be(0, n)
                .u32(number)
                .u32(0)
                .be(movie_ticks(t.end), n)
                .be(0, 8)
                .u16(0)
                .u16(t.audio() ? 1 : 0)
                .u16(t.audio() ? 0x100 : 0)
                .u16(0);
            matrix(w, t.spec.video.rotation);
            auto flat = t.spec.video;
            flat.rotation = 0;
            w.u32(static_cast<std::uint32_t>(flat.display_width()) << 16)
                .u32(static_cast<std::uint32_t>(flat.display_height()) << 16);
        });
        w.box("edts", [&] {
            bool empty = movie_ticks(start) > 0;
            w.full("elst", v, 0, [&] {
                w.u32(empty ? 2 : 1);
                if (empty) w.be(movie_ticks(start), n).be(UINT64_MAX, n).u32(0x10000);
                auto media_time = time_to_ticks(start, t.scale()) - t.first_dts;
                w.be(length, n).be(static_cast<std::uint64_t>(media_time), n).u32(0x10000);
            });
        });
        w.box("mdia", [&] {
            unsigned mv = t.media_duration > UINT32_MAX ? 1 : 0, mn = mv ? 8 : 4;
            w.full("mdhd", mv, 0, [&] {
                auto language = iso639_from_bcp47(t.spec.language);
                unsigned packed = 0;
                for (char c : language) packed = packed << 5 | (static_cast<unsigned>(c) - 0x60);
                w.be(0, mn)
                    .be(0, mn)
                    .u32(t.scale())
                    .be(static_cast<std::uint64_t>(t.media_duration), mn)
                    .u16(packed)
                    .u16(0);
            });
            // All of the tag, where the three letters don't say it (8.4.6).
            if (t.spec.language.find('-') != std::string::npos)
                w.full("elng", 0, 0, [&] { w.text(t.spec.language).u8(0); });
            w.full("hdlr", 0, 0, [&] {
                w.u32(0)
                    .text(t.audio() ? "soun" : "vide")
                    .u32(0)
                    .u32(0)
                    .u32(0)
                    .text(t.audio() ? "Sound" : "Pictures")
                    .u8(0);
            });
            w.box("minf", [&] {
                if (t.audio())
                    w.full("smhd", 0, 0, [&] { w.u32(0); });
                else
                    w.full("vmhd", 0, 1, [&] { w.u64(0); });
                w.box("dinf", [&] { w.full("dref", 0, 0, [&] { w.u32(1), w.full("url ", 0, 1, [] {}); }); });
                w.box("stbl", [&] {
                    w.full("stsd", 0, 0, [&] { w.u32(1), sample_entry(w, t); });
                    tables(w, t, shift, large);
                });
            });
        });
    });
}

/// ISO/IEC 14496-1 clause 7.2.6: object type and kind of stream, then the codec's own header; sizes in four bytes.
void elementary_stream(BoxWriter& w, unsigned object, unsigned kind, const Bytes& config) {
    w.full("esds", 0, 0, [&] {
        auto size = [&](std::size_t n) {
            for (unsigned shift : {21U, 14U, 7U, 0U}) w.u8((shift ? 0x80 : 0) | (n >> shift & 0x7F));
        };
        auto n = config.size();
        w.u8(3), size(3 + 5 + 13 + 5 + n + 6), w.u16(0).u8(0);
        w.u8(4), size(13 + 5 + n), w.u8(object).u8(kind).u24(0).u32(0).u32(0);
        w.u8(5), size(n), w.raw(config);
        w.u8(6), size(1), w.u8(2);
    });
}

void Mp4Writer::sample_entry(BoxWriter& w, const TrackState& t) {
    auto& s = t.spec;
    if (t.audio()) {
        auto entry = [&] {
            w.be(0, 6)
                .u16(1)
                .u64(0)
                .u16(static_cast<unsigned>(s.audio.channels))
                .u16(16)
                .u32(0)
                .u32(static_cast<std::uint32_t>(s.audio.rate) << 16);
        };
        if (s.codec == Codec::opus) {
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
            return;
        }
        if (s.codec == Codec::ac3) {
            w.box("ac-3", [&] {
                entry();
                w.box("dac3", [&] { w.raw(s.config); });
            });
            return;
        }
        w.box("mp4a", [&] {
            entry();
            elementary_stream(w, 0x40, 0x15, s.config);
        });
        return;
    }
    auto fill = [&] {
        w.be(0, 6)
            .u16(1)
            .be(0, 8)
            .be(0, 8)
            .u16(static_cast<unsigned>(s.video.width))
            .u16(static_cast<unsigned>(s.video.height))
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
        if (s.codec == Codec::h264) w.box("avcC", [&] { w.raw(s.config); });
        if (s.codec == Codec::hevc) w.box("hvcC", [&] { w.raw(s.config); });
        if (s.codec == Codec::mpeg4) elementary_stream(w, 0x20, 0x11, s.config);
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
    };
    if (s.codec == Codec::h264)
        w.box("avc1", fill);
    else if (s.codec == Codec::hevc)
        w.box("hvc1", fill);
    else if (s.codec == Codec::vp9)
        w.box("vp09", fill);
    else if (s.codec == Codec::mpeg4)
        w.box("mp4v", fill);
    else
        w.box("av01", fill);
}

/// Writes a table of runs: `key(i)` equal for neighbours makes one entry.
template <class Key, class Put>
void runs(BoxWriter& w, std::size_t count, Key key, Put put) {
    auto at = w.size();
    w.u32(0);
    std::uint32_t entries = 0;
    for (std::size_t i = 0; i < count;) {
        auto j = i + 1;
        while (j < count && key(j) == key(i)) ++j;
        put(i, static_cast<std::uint32_t>(j - i));
        ++entries;
        i = j;
    }
    for (unsigned k = 0; k < 4; ++k) w.bytes[at + k] = static_cast<std::uint8_t>(entries >> (24 - 8 * k));
}

void Mp4Writer::tables(BoxWriter& w, const TrackState& t, std::uint64_t shift, bool large) {
    auto& s = t.samples;
    w.full("stts", 0, 0, [&] {
        runs(
            w, s.size(), [&](auto i) { return s[i].delta; },
            [&](auto i, auto n) { w.u32(n).u32(static_cast<std::uint32_t>(s[i].delta)); });
    });
    if (std::any_of(s.begin(), s.end(), [](auto& x) { return x.shift != 0; })) {
        bool negative = std::any_of(s.begin(), s.end(), [](auto& x) { return x.shift < 0; });
        w.full("ctts", negative ? 1 : 0, 0, [&] {
            runs(
                w, s.size(), [&](auto i) { return s[i].shift; },
                [&](auto i, auto n) { w.u32(n).u32(static_cast<std::uint32_t>(s[i].shift)); });
        });
    }
    if (std::any_of(s.begin(), s.end(), [](auto& x) { return !x.sync; })) {
        w.full("stss", 0, 0, [&] {
            w.u32(static_cast<std::uint64_t>(std::count_if(s.begin(), s.end(), [](auto& x) { return x.sync; })));
            for (std::size_t i = 0; i < s.size(); ++i)
                if (s[i].sync) w.u32(i + 1);
        });
    }
    w.full("stsc", 0, 0, [&] {
        runs(
            w, t.chunks.size(), [&](auto i) { return t.chunks[i].samples; },
            [&](auto i, auto) { w.u32(i + 1).u32(t.chunks[i].samples).u32(1); });
    });
    w.full("stsz", 0, 0, [&] {
        w.u32(0).u32(s.size());
        for (auto& x : s) w.u32(x.size);
    });
    if (large)
        w.full("co64", 0, 0, [&] {
            w.u32(t.chunks.size());
            for (auto& c : t.chunks) w.u64(c.offset + shift);
        });
    else
        w.full("stco", 0, 0, [&] {
            w.u32(t.chunks.size());
            for (auto& c : t.chunks) w.u32(c.offset + shift);
        });
}

}  // namespace
}  // namespace ruedo::isobmff

namespace ruedo {
std::unique_ptr<ClipWriter> write_mp4(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<isobmff::Mp4Writer>(std::move(sink));
}
Result<std::unique_ptr<ClipWriter>> write_mp4(const std::filesystem::path& path, bool replace) {
    TRY(auto file, FileWriter::create(path, replace));
    return write_mp4(std::make_unique<FileWriter>(std::move(file)));
}
}  // namespace ruedo
