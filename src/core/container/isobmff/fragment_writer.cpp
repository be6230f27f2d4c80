// SPDX-License-Identifier: Apache-2.0
// Writing MP4 in fragments (ISO/IEC 14496-12 clause 8.8): what is there can be played before the rest is written. An
// index of the fragments stands at the end (mfra, 8.8.9).
#include <algorithm>

#include "container/isobmff/entries.h"

namespace ruedo::isobmff {
namespace {

constexpr Time shortest_fragment{1'000'000'000}, longest_fragment{4'000'000'000};
constexpr std::size_t heaviest_fragment = 32 << 20;

struct Waiting {
    std::int64_t dts = 0, duration = 0;
    std::int32_t shift = 0;
    bool sync = true;
    Bytes data;
};
struct Place {
    std::uint64_t time = 0, moof = 0;
};
struct FragmentTrack {
    MuxerTrack spec;
    CueSamples cues;
    std::vector<Waiting> waiting;
    std::vector<Place> places;
    std::int64_t lead = 0;  ///< Ticks by which media time is ahead of presentation time, so that none is negative.
    Time end{};
};

class FragmentMuxer final : public Muxer {
  public:
    FragmentMuxer(std::unique_ptr<ByteSink> sink, bool by_segments)
        : sink_(std::move(sink)), by_segments_(by_segments) {}
    void begins_segment() override { begins_segment_ = true; }

    Result<std::size_t> add(const MuxerTrack& track) override {
        RUEDO_TRY_DO(container_format_named("mp4-fragments")->check(track));
        tracks_.emplace_back();
        tracks_.back().spec = track;
        if (track.kind() == Kind::audio) tracks_.back().lead = track.delay_samples;
        return tracks_.size() - 1;
    }
    Status write(std::size_t index, const MuxerPacket& p) override {
        auto& t = tracks_.at(index);
        if (t.spec.kind() != Kind::text) return put(index, p);
        return t.cues.add(p, [&](auto& sample) { return put(index, sample); });
    }
    Status finish(const Progress&) override {
        for (std::size_t i = 0; i < tracks_.size(); ++i) {
            auto& t = tracks_[i];
            RUEDO_TRY_DO(t.cues.finish([&](auto& sample) { return put(i, sample); }));
            // A last sample that is longer than what is presented says so by its length.
            auto end = end_of(i);
            if (!end || t.waiting.empty()) continue;
            auto& last = t.waiting.back();
            auto ticks = time_to_ticks(*end, track_scale(t.spec)) + t.lead - last.dts;
            last.duration = std::clamp<std::int64_t>(ticks, 1, std::max<std::int64_t>(1, last.duration));
            t.end = std::min(t.end, *end);
        }
        RUEDO_TRY_DO(flush(true));
        if (sink_->position() == 0)
            return fail(ErrorCode::empty, "Nothing was written into the clip.",
                        "Choose a source with pictures or sound.");
        Time end{};
        for (auto& t : tracks_) end = std::max(end, t.end);
        ByteWriter length;
        length.u64(movie_ticks(end));
        RUEDO_TRY_DO(sink_->write_at(length_at_, length.bytes));
        BoxWriter w;
        w.box("mfra", [&] {
            for (std::size_t i = 0; i < tracks_.size(); ++i)
                w.full("tfra", 1, 0, [&] {
                    auto& places = tracks_[i].places;
                    w.u32(i + 1).u32(0).u32(places.size());
                    for (auto& p : places) w.u64(p.time).u64(p.moof).u8(1).u8(1).u8(1);
                });
            // The whole box’s size, its last four bytes being these.
            w.full("mfro", 0, 0, [&] { w.u32(w.size() + 4); });
        });
        RUEDO_TRY_DO(sink_->write(w.bytes));
        return sink_->commit();
    }

  private:
    Status put(std::size_t index, const MuxerPacket& p) {
        auto& t = tracks_.at(index);
        bool leads = index == leading();
        if (by_segments_) {
            // The last packet before it is as long as it says: nothing waits beyond a segment's end.
            if (std::exchange(begins_segment_, false) && !t.waiting.empty()) RUEDO_TRY_DO(flush(true));
        } else if (leads && !t.waiting.empty()) {
            auto long_enough = [&](Time least) { return p.dts - begun_ >= least; };
            bool video = t.spec.kind() == Kind::video;
            if ((p.keyframe && long_enough(video ? shortest_fragment : longest_fragment)) || held_ > heaviest_fragment)
                RUEDO_TRY_DO(flush(false, time_to_ticks(p.dts, track_scale(t.spec)) + t.lead));
        }
        auto scale = track_scale(t.spec);
        auto dts = time_to_ticks(p.dts, scale), pts = time_to_ticks(p.pts, scale);
        if (begins_) begun_ = p.dts, begins_ = false;
        // Until the header is written, every track's start can still be set by its first packet.
        if (!headed_ && t.waiting.empty()) t.lead = std::max(t.lead, -dts);
        auto ticks = std::max<std::int64_t>(1, time_to_ticks(p.dts + p.duration, scale) - dts);
        t.waiting.push_back({dts + t.lead, ticks, static_cast<std::int32_t>(pts - dts), p.keyframe,
                             Bytes(p.data.begin(), p.data.end())});
        held_ += p.data.size();
        t.end = std::max(t.end, p.pts + p.duration);
        return {};
    }

    /// The track at whose keyframes fragments begin: the pictures, or what there is.
    std::size_t leading() const {
        auto it = std::find_if(tracks_.begin(), tracks_.end(), [](auto& t) { return t.spec.kind() == Kind::video; });
        return it == tracks_.end() ? 0 : static_cast<std::size_t>(it - tracks_.begin());
    }
    Status head() {
        BoxWriter w;
        w.box("ftyp", [&] { w.text("iso6").u32(0x200).text("iso6iso5isomcmfc"); });
        w.box("moov", [&] {
            movie_header(w, {}, tracks_.size(), tags_);
            for (std::size_t i = 0; i < tracks_.size(); ++i) {
                auto& t = tracks_[i];
                w.box("trak", [&] {
                    track_header(w, t.spec, i + 1, {});
                    // A length of 0: to the end of the file.
                    if (t.lead) edit_list(w, 0, 0, static_cast<std::uint64_t>(t.lead));
                    w.box("mdia", [&] {
                        media_header(w, t.spec, 0);
                        media_information(w, t.spec, [&] {
                            for (auto* table : {&"stts", &"stsc", &"stco"}) w.full(*table, 0, 0, [&] { w.u32(0); });
                            w.full("stsz", 0, 0, [&] { w.u32(0).u32(0); });
                        });
                    });
                });
            }
            w.box("mvex", [&] {
                w.full("mehd", 1, 0, [&] {
                    length_at_ = w.size();
                    w.u64(0);
                });
                for (std::size_t i = 0; i < tracks_.size(); ++i)
                    w.full("trex", 0, 0, [&] { w.u32(i + 1).u32(1).u32(0).u32(0).u32(0); });
            });
            movie_tags(w, tags_);
        });
        headed_ = true;
        return sink_->write(w.bytes);
    }
    /// One fragment of what waits. The last packet of a sound waits on, so that the end can still shorten it.
    /// `upcoming` is when the first picture that is not in it is decoded.
    Status flush(bool last, std::int64_t upcoming = 0) {
        std::vector<std::vector<Waiting>> now(tracks_.size());
        bool any = false;
        for (std::size_t i = 0; i < tracks_.size(); ++i) {
            auto& t = tracks_[i];
            now[i] = std::exchange(t.waiting, {});
            if (!last && i == leading() && !now[i].empty()) now[i].back().duration = upcoming - now[i].back().dts;
            if (!last && t.spec.kind() == Kind::audio && !now[i].empty()) {
                t.waiting.push_back(std::move(now[i].back()));
                now[i].pop_back();
            }
            any = any || !now[i].empty();
        }
        if (!any) return {};
        if (!headed_) RUEDO_TRY_DO(head());
        auto moof = sink_->position();
        // Offsets count from the moof, whose size does not depend on them.
        std::uint64_t size = 0;
        for (int round = 0; round < 2; ++round) {
            BoxWriter w;
            auto data = size + 8;
            w.box("moof", [&] {
                w.full("mfhd", 0, 0, [&] { w.u32(number_ + 1); });
                for (std::size_t i = 0; i < now.size(); ++i) {
                    if (now[i].empty()) continue;
                    w.box("traf", [&] { run(w, i, now[i], data); });
                    for (auto& s : now[i]) data += s.data.size();
                }
            });
            size = w.size();
            if (round == 0) continue;
            w.u32(data - size).text("mdat");
            RUEDO_TRY_DO(sink_->write(w.bytes));
        }
        ++number_;
        held_ = 0, begins_ = true;
        for (std::size_t i = 0; i < now.size(); ++i) {
            if (now[i].empty()) continue;
            auto& first = now[i].front();
            if (first.sync) tracks_[i].places.push_back({static_cast<std::uint64_t>(first.dts + first.shift), moof});
            for (auto& s : now[i]) RUEDO_TRY_DO(sink_->write(s.data));
        }
        return {};
    }
    void run(BoxWriter& w, std::size_t i, const std::vector<Waiting>& samples, std::uint64_t data) {
        w.full("tfhd", 0, 0x020000, [&] { w.u32(i + 1); });  // the base is the moof
        w.full("tfdt", 1, 0, [&] { w.u64(static_cast<std::uint64_t>(samples.front().dts)); });
        bool shifted = std::any_of(samples.begin(), samples.end(), [](auto& s) { return s.shift != 0; });
        w.full("trun", 1, 0x1 | 0x100 | 0x200 | 0x400 | (shifted ? 0x800 : 0), [&] {
            w.u32(samples.size()).u32(data);
            for (std::size_t k = 0; k < samples.size(); ++k) {
                auto& s = samples[k];
                auto lasts = k + 1 < samples.size() ? samples[k + 1].dts - s.dts : s.duration;
                w.u32(static_cast<std::uint64_t>(lasts)).u32(s.data.size());
                // Depends on others or not, and is a sync sample or not (8.8.3.1).
                w.u32(s.sync ? 0x02000000 : 0x01010000);
                if (shifted) w.u32(static_cast<std::uint32_t>(s.shift));
            }
        });
    }

    std::unique_ptr<ByteSink> sink_;
    std::vector<FragmentTrack> tracks_;
    std::uint64_t number_ = 0, length_at_ = 0;
    std::size_t held_ = 0;
    Time begun_{};
    bool headed_ = false, begins_ = true;
    bool by_segments_, begins_segment_ = false;
};

}  // namespace
}  // namespace ruedo::isobmff

namespace ruedo {
std::unique_ptr<Muxer> fragmented_mp4_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<isobmff::FragmentMuxer>(std::move(sink), false);
}
std::unique_ptr<Muxer> mp4_segment_muxer(std::unique_ptr<ByteSink> sink) {
    return std::make_unique<isobmff::FragmentMuxer>(std::move(sink), true);
}
}  // namespace ruedo
