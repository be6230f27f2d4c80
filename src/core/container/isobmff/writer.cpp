// SPDX-License-Identifier: Apache-2.0
// Writing MP4 (ISO/IEC 14496-12, -14, -15): media first into the file, the index in front of it at the end.
#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "container/isobmff/entries.h"

namespace ruedo::isobmff {
namespace {

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
    MuxerTrack spec;
    std::vector<Sample> samples;
    std::vector<Chunk> chunks;
    std::int64_t first_dts = 0, last_dts = 0, last_duration = 0, media_duration = 0;
    Time first_pts = Time::max(), end{};
    CueSamples cues;
    std::uint32_t scale() const { return track_scale(spec); }
    /// How long a sample lasts is said in the order of decoding. Where that lets none reach the end, the last one does,
    /// and the edit list cuts it off there.
    void reach_end() {
        auto dts = first_dts, reached = INT64_MIN, ends = time_to_ticks(end, scale());
        for (auto& s : samples) reached = std::max(reached, dts + s.shift + s.delta), dts += s.delta;
        if (samples.empty() || reached >= ends - 1) return;
        last_duration = std::max(last_duration, ends - last_dts);
        samples.back().delta = static_cast<std::int32_t>(last_duration);
    }
};

class Mp4Muxer final : public Muxer {
  public:
    explicit Mp4Muxer(std::unique_ptr<ByteSink> sink) : sink_(std::move(sink)) {}

    Result<std::size_t> add(const MuxerTrack& track) override {
        RUEDO_TRY_DO(container_format_named("mp4")->check(track));
        tracks_.emplace_back();
        tracks_.back().spec = track;
        return tracks_.size() - 1;
    }

    Status write(std::size_t index, const MuxerPacket& p) override {
        auto& t = tracks_.at(index);
        if (t.spec.kind() != Kind::text) return put(index, p);
        return t.cues.add(p, [&](auto& sample) { return put(index, sample); });
    }

    Status finish(const Progress& told) override {
        for (std::size_t i = 0; i < tracks_.size(); ++i)
            RUEDO_TRY_DO(tracks_[i].cues.finish([&](auto& sample) { return put(i, sample); }));
        if (sink_->position() == 0)
            return fail(ErrorCode::empty, "Nothing was written into the clip.",
                        "Choose a source with pictures or sound.");
        ByteWriter size;
        size.u64(sink_->position() - room_);
        RUEDO_TRY_DO(sink_->write_at(room_ + 8, size.bytes));
        for (std::size_t i = 0; i < tracks_.size(); ++i) {
            auto& t = tracks_[i];
            t.reach_end();
            t.media_duration = t.last_dts - t.first_dts + t.last_duration;
            if (auto end = end_of(i)) t.end = std::min(t.end, *end);
        }
        // The index's own size shifts what it points to; with 64-bit offsets from 4 GB on it does not depend on that.
        bool large = sink_->position() > 0xF0000000ULL;
        // What was kept for it may do, with a box of nothing behind it; else everything moves.
        if (room_) {
            auto whole = index(0, large);
            if (whole.size() == room_ || whole.size() + 8 <= room_) {
                BoxWriter rest;
                if (whole.size() < room_) rest.u32(static_cast<std::uint32_t>(room_ - whole.size())).text("free");
                RUEDO_TRY_DO(sink_->write_at(whole.size(), rest.bytes));
                RUEDO_TRY_DO(sink_->write_at(0, whole));
                return sink_->commit();
            }
        }
        auto head = index(0, large).size();
        auto whole = index(head, large);
        RUEDO_TRY_DO(sink_->insert_gap(0, whole.size(), told));
        RUEDO_TRY_DO(sink_->write_at(0, whole));
        return sink_->commit();
    }

    void expect(std::uint64_t packets) override {
        // Times, size, place and being a keyframe; boxes round them.
        room_ = std::min<std::uint64_t>(2048 + packets * 24, 256 << 20);
    }

  private:
    Status put(std::size_t index, const MuxerPacket& p) {
        auto& t = tracks_.at(index);
        if (sink_->position() == 0) {
            // A 64-bit size, since it is not known yet how much will come.
            BoxWriter w;
            if (room_) w.box("free", [&] { w.bytes.resize(w.bytes.size() + room_ - 8); });
            w.u32(1).text("mdat").u64(0);
            RUEDO_TRY_DO(sink_->write(w.bytes));
        }
        auto dts = time_to_ticks(p.dts, t.scale()), pts = time_to_ticks(p.pts, t.scale());
        if (t.samples.empty())
            t.first_dts = dts;
        else {
            if (dts < t.last_dts) return fail(ErrorCode::internal, "Packets came out of decoding order.");
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

    Bytes index(std::uint64_t shift, bool large);
    void tables(BoxWriter& w, const TrackState& t, std::uint64_t shift, bool large);

    std::unique_ptr<ByteSink> sink_;
    std::vector<TrackState> tracks_;
    std::size_t last_track_ = SIZE_MAX;
    std::uint64_t room_ = 0;  ///< Kept in front for the index.
};

Bytes Mp4Muxer::index(std::uint64_t shift, bool large) {
    BoxWriter w;
    w.box("ftyp", [&] { w.text("isom").u32(0x200).text("isomiso2mp41"); });
    Time end{};
    for (auto& t : tracks_) end = std::max(end, t.end);
    w.box("moov", [&] {
        movie_header(w, end, tracks_.size(), tags_);
        for (std::size_t i = 0; i < tracks_.size(); ++i) {
            auto& t = tracks_[i];
            if (t.samples.empty()) continue;
            // The encoder's delay precedes the first audible sample.
            auto delay = t.spec.kind() == Kind::audio
                             ? ticks_to_time(t.spec.delay_samples, 1, static_cast<std::uint64_t>(t.scale()))
                             : Time{};
            auto start = std::max(t.first_pts + delay, Time{});
            w.box("trak", [&] {
                track_header(w, t.spec, i + 1, t.end);
                edit_list(w, movie_ticks(start), movie_ticks(t.end) - movie_ticks(start),
                          static_cast<std::uint64_t>(time_to_ticks(start, t.scale()) - t.first_dts));
                w.box("mdia", [&] {
                    media_header(w, t.spec, static_cast<std::uint64_t>(t.media_duration));
                    media_information(w, t.spec, [&] { tables(w, t, shift, large); });
                });
            });
        }
        movie_tags(w, tags_);
    });
    return w.bytes;
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

void Mp4Muxer::tables(BoxWriter& w, const TrackState& t, std::uint64_t shift, bool large) {
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
std::unique_ptr<Muxer> mp4_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<isobmff::Mp4Muxer>(std::move(sink));
}
Result<std::unique_ptr<Muxer>> mp4_muxer(const std::filesystem::path& path, bool replace) {
    RUEDO_TRY(auto file, FileWriter::create(path, replace ? Replace::anything : Replace::nothing));
    return mp4_muxer(std::make_unique<FileWriter>(std::move(file)));
}
}  // namespace ruedo
