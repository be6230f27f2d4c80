// SPDX-License-Identifier: Apache-2.0
#include "convert/through.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>

#include "convert/streams.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

constexpr Time near_enough{2'000'000'000};  ///< What is so little ahead is reached by going on.

/// What was made in one go, from one place on.
struct Stretch {
    Time from{};
    std::unique_ptr<OutputTrack> stream;  ///< None once it has given all.
    std::deque<OutputPacket> packets;     ///< With times of the clip; the first ones may be forgotten.
    std::size_t forgotten = 0;
    Time converted_to{};
    /// Made, but not known yet to be not the last, which alone may end before its packet does.
    std::optional<OutputPacket> held{};
    std::size_t count() const { return forgotten + packets.size(); }
};

/// One track that is made. Several readers share what was made of it.
class TranscodedTrack {
  public:
    using Begin = std::function<Result<std::unique_ptr<OutputTrack>>(Time from)>;
    TranscodedTrack(Begin begin, std::function<Time(Time)> place, std::uint64_t keep,
                    std::shared_ptr<LiveTranscodeCounts> counts, bool leads)
        : begin_(std::move(begin)),
          place_(std::move(place)),
          keep_(keep),
          counts_(std::move(counts)),
          leads_(leads),
          opened_(monotonic_now()) {}
    /// What the stream says of itself.
    Result<MuxerTrack> describe() {
        std::lock_guard lock(mutex_);
        RUEDO_TRY(auto stretch, begin({}));
        return stretch->stream->track();
    }
    struct Place {
        std::shared_ptr<Stretch> stretch;
        std::size_t number = 0;
        Time next{};  ///< Where the packet begins that is taken next.
    };
    /// A keyframe from which what is shown at `t` can be decoded.
    Result<Place> find(Time t) {
        std::lock_guard lock(mutex_);
        auto stretch = holding(t);
        if (!stretch) {
            RUEDO_TRY(stretch, begin(std::max(Time{}, place_(t))));
        }
        // As far as it has to be made to know that a later keyframe is too late.
        while (stretch->converted_to <= t && stretch->stream) RUEDO_TRY_DO(make(*stretch));
        Place p{stretch, stretch->forgotten, stretch->from};
        for (std::size_t i = 0; i < stretch->packets.size(); ++i)
            if (stretch->packets[i].keyframe && stretch->packets[i].pts <= t) p.number = stretch->forgotten + i;
        return p;
    }
    /// The packet at a place, which moves behind it; nothing at the end.
    Result<std::optional<OutputPacket>> take(Place& p) {
        std::lock_guard lock(mutex_);
        for (;;) {
            auto& s = *p.stretch;
            if (p.number < s.forgotten) {
                // Others were so far ahead that it is not kept any more: made again, from there on.
                RUEDO_TRY(auto again, begin(std::max(Time{}, place_(p.next))));
                p = {again, again->forgotten, p.next};
                continue;
            }
            if (p.number < s.count()) {
                auto& m = s.packets[p.number - s.forgotten];
                // What another stretch has from here on is not made again.
                if (auto next = beginning_by(s, m.pts)) {
                    p = {next, next->forgotten, m.pts};
                    s.stream.reset();
                    continue;
                }
                ++p.number;
                p.next = m.pts + m.duration;
                return m;
            }
            if (!s.stream) {
                auto next = beginning_by(s, s.converted_to + 1_ms);
                if (!next) return std::nullopt;
                p = {next, next->forgotten, s.converted_to};
                continue;
            }
            RUEDO_TRY_DO(make(s));
        }
    }

  private:
    Result<std::shared_ptr<Stretch>> begin(Time from) {
        if (!stretches_.empty() && leads_) ++counts_->restarts;
        auto s = std::make_shared<Stretch>();
        s->from = s->converted_to = from;
        RUEDO_TRY(s->stream, begin_(from));
        stretches_.push_back(s);
        if (leads_) counts_->from_ns = counts_->to_ns = from.ns;
        return s;
    }
    /// One that has `t`, or comes to it soon.
    std::shared_ptr<Stretch> holding(Time t) {
        std::shared_ptr<Stretch> best;
        for (auto& s : stretches_) {
            bool reaches = t < s->converted_to || (s->stream && t < s->converted_to + near_enough);
            bool still_there = s->packets.empty() || s->packets.front().pts <= t || s->forgotten == 0;
            if (s->from <= t && reaches && still_there && (!best || s->from > best->from)) best = s;
        }
        return best;
    }
    /// Another stretch that begins behind this one, but not behind `t`.
    std::shared_ptr<Stretch> beginning_by(const Stretch& s, Time t) {
        std::shared_ptr<Stretch> best;
        for (auto& other : stretches_)
            if (other->from > s.from && other->from <= t && other->forgotten == 0 &&
                (!best || other->from > best->from))
                best = other;
        return best;
    }
    Status make(Stretch& s) {
        RUEDO_TRY(auto m, s.stream->next());
        if (m) {
            m->pts = m->pts + s.from, m->dts = m->dts + s.from;
            std::swap(m, s.held);
            if (!m) return {};
        } else {
            std::swap(m, s.held);
            if (m && s.stream->trimmed()) m->trim = std::max(Time{}, m->pts + m->duration - (s.stream->end() + s.from));
            s.stream.reset();
            if (!m) return {};
        }
        s.converted_to = std::max(s.converted_to, m->pts + m->duration - m->trim);
        held_ += m->data.size();
        s.packets.push_back(std::move(*m));
        if (leads_) {
            if (!counts_->first_frame_ns) counts_->first_frame_ns = (monotonic_now() - opened_).ns;
            counts_->from_ns = s.from.ns, counts_->to_ns = s.converted_to.ns;
        }
        forget(s);
        return {};
    }
    /// The oldest first: other stretches, then what lies far behind in this one.
    void forget(const Stretch& now) {
        auto drop = [&](Stretch& s, std::size_t leave) {
            while (held_ > keep_ && s.packets.size() > leave) {
                held_ -= s.packets.front().data.size();
                s.packets.pop_front();
                ++s.forgotten;
            }
        };
        for (auto it = stretches_.begin(); held_ > keep_ && it != stretches_.end();) {
            if (it->get() == &now || it->use_count() > 1) {
                ++it;
                continue;
            }
            for (auto& m : (*it)->packets) held_ -= m.data.size();
            it = stretches_.erase(it);
        }
        for (auto& s : stretches_) drop(*s, 512);
        counts_->kept_bytes += held_ - std::exchange(told_, held_);
    }

    std::mutex mutex_;
    Begin begin_;
    std::function<Time(Time)> place_;  ///< Where what is shown at a time begins.
    std::uint64_t keep_, held_ = 0, told_ = 0;
    std::shared_ptr<LiveTranscodeCounts> counts_;
    bool leads_;  ///< It is the one that tells how far converting has come.
    Time opened_;
    std::vector<std::shared_ptr<Stretch>> stretches_;
};

class TranscodedReader final : public TrackReader {
  public:
    explicit TranscodedReader(std::shared_ptr<TranscodedTrack> track) : track_(std::move(track)) {}
    Result<bool> next(PacketHead& head) override {
        if (!place_.stretch) {
            RUEDO_TRY(place_, track_->find({}));
        }
        RUEDO_TRY(auto m, track_->take(place_));
        if (!m) return false;
        head = {};
        head.pts = m->pts, head.dts = m->dts, head.duration = m->duration;
        head.keyframe = m->keyframe, head.size = m->data.size();
        head.trim_end = m->trim;
        data_ = std::move(m->data);
        return true;
    }
    Status read(Bytes& out) override {
        out = data_;
        return {};
    }
    Status seek(Time t) override {
        RUEDO_TRY(place_, track_->find(std::max(t, Time{})));
        return {};
    }

  private:
    std::shared_ptr<TranscodedTrack> track_;
    TranscodedTrack::Place place_;
    Bytes data_;
};

class LiveTranscodeClip final : public Clip {
  public:
    LiveTranscodeClip(std::shared_ptr<Clip> clip, CodecRegistry& codecs) : clip_(std::move(clip)), codecs_(codecs) {}
    Status open(const LiveTranscodeOptions& o) {
        if (o.counts) counts_ = o.counts;
        auto& from = clip_->info();
        if (from.live) return fail(ErrorCode::refused, fmt::format("“{}” has no end.", from.name), "Play it as it is.");
        // Nothing is put into a container, but what may stay as it is depends on one.
        RUEDO_TRY(auto container_format, container_format_for(o.target, from));
        recipe_.video.keyframes = 1_s;
        // The size of the complete output does not matter to live transcoding.
        auto target = o.target;
        target.bundle_bytes = 0;
        RUEDO_TRY(plan_, plan_for(from, recipe_, *container_format, codecs_, &target,
                                  {{}, {}, [this](const Track& t) {
                                       // Times in a container's ticks are off by a little.
                                       auto rate = about(t).about(), whole = std::round(rate);
                                       return std::abs(rate - whole) < 0.01 * rate ? whole : rate;
                                   }}));
        if (plan_.video) rate_ = plan_.most_rate ? *plan_.most_rate : about(*plan_.video);
        info_ = from;
        info_.container = container_format->container;
        info_.tracks.clear();
        info_.findings = plan_.why;
        if (plan_.video) RUEDO_TRY_DO(add_video(o));
        for (auto& s : plan_.audio_tracks) RUEDO_TRY_DO(add_audio(s, o));
        for (auto& t : from.tracks)
            if (t.kind == Kind::text) info_.tracks.push_back(t);
        return {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        auto it = made_.find(id);
        return it == made_.end() ? clip_->reader(id) : std::make_unique<TranscodedReader>(it->second);
    }
    std::optional<TimeRange> seekable() const override { return clip_->seekable(); }
    std::optional<Fetched> fetched() const override { return clip_->fetched(); }
    std::optional<Made> made() const override {
        if (made_.empty()) return std::nullopt;
        return Made{Time{counts_->from_ns}, Time{counts_->to_ns}, counts_->restarts + 1};
    }
    bool altered() const override { return clip_->altered(); }

  private:
    StreamMaker maker() const { return {clip_, plan_, recipe_, codecs_, rate_, plan_.most_rate.has_value()}; }
    /// A track of ours is as the writer of a file would be told, and keeps the number of what it is made of.
    Track described(const Track& source, const MuxerTrack& made) const {
        Track t;
        t.id = source.id, t.kind = source.kind, t.language = source.language, t.is_default = source.is_default;
        t.codec = made.codec, t.codec_tag = codec_title(made.codec), t.config = made.config;
        t.video = made.video, t.audio = made.audio;
        t.start = source.start, t.tick = {1, 1'000'000'000};
        describe_from_config(t);
        return t;
    }
    /// How many pictures come in a second, about, by the first of them.
    Rational about(const Track& source) const {
        auto heads = clip_->reader(source.id);
        PacketHead head;
        std::vector<Time> times;
        while (times.size() < 32 && heads->next(head).value_or(false)) times.push_back(head.pts);
        std::sort(times.begin(), times.end());
        auto length = times.empty() ? Time{} : times.back() - times.front();
        if (length.ns <= 0) return {30, 1};
        auto rate = Rational{static_cast<std::int64_t>(times.size() - 1) * 1'000'000'000, length.ns}.reduced();
        return rate.num > 1000 * rate.den || rate.den > 1'000'000 ? Rational{30, 1} : rate;
    }
    Status add_video(const LiveTranscodeOptions& o) {
        auto& source = *plan_.video;
        if (!plan_.encode_video) return info_.tracks.push_back(source), Status{};
        auto place = [this, &source](Time t) {
            // At a constant rate, wherever it begins, in the same steps.
            if (plan_.most_rate) {
                auto at = [&](std::int64_t n) {
                    return ticks_to_time(n * rate_.den, 1, static_cast<std::uint64_t>(rate_.num));
                };
                auto n = t.ns / at(1).ns;
                return at(at(n + 1) <= t ? n + 1 : n);
            }
            auto reader = clip_->reader(source.id);
            return frame_time_at(*reader, source, t).value_or(t);
        };
        auto track = std::make_shared<TranscodedTrack>([this](Time from) { return maker().quick_frames(from); }, place,
                                                       o.keep, counts_, true);
        RUEDO_TRY(auto made, track->describe());
        info_.tracks.push_back(described(source, made));
        made_[source.id] = std::move(track);
        return {};
    }
    Status add_audio(const Plan::Audio& s, const LiveTranscodeOptions& o) {
        if (!s.encode) return info_.tracks.push_back(*s.track), Status{};
        auto track =
            std::make_shared<TranscodedTrack>([this, &s](Time from) { return maker().audio(s, from, Time::max()); },
                                              [](Time t) { return t; }, o.keep, counts_, made_.empty());
        RUEDO_TRY(auto made, track->describe());
        info_.tracks.push_back(described(*s.track, made));
        made_[s.track->id] = std::move(track);
        return {};
    }

    std::shared_ptr<Clip> clip_;
    CodecRegistry& codecs_;
    Recipe recipe_;
    Plan plan_;
    Rational rate_{30, 1};
    std::shared_ptr<LiveTranscodeCounts> counts_ = std::make_shared<LiveTranscodeCounts>();
    std::map<std::uint64_t, std::shared_ptr<TranscodedTrack>> made_;
};
}  // namespace

Result<std::unique_ptr<Clip>> open_live_transcode(std::shared_ptr<Clip> clip, const LiveTranscodeOptions& options,
                                                  CodecRegistry& codecs) {
    auto through = std::make_unique<LiveTranscodeClip>(std::move(clip), codecs);
    RUEDO_TRY_DO(through->open(options));
    return through;
}

}  // namespace ruedo
