// SPDX-License-Identifier: Apache-2.0
#include "convert/streams.h"

#include <algorithm>
#include <cmath>
#include <deque>

#include "codec/ahead.h"

namespace ruedo {
namespace {

/// The source's own ticks, where those that are usual do not hold them whole.
std::uint32_t timescale_for(const Track& source, std::uint32_t usual) {
    auto& tick = source.tick;
    bool other = tick.num == 1 && tick.den >= 1000 && tick.den <= 1'000'000'000 && usual % tick.den != 0;
    return other ? static_cast<std::uint32_t>(tick.den) : usual;
}

/// Packets as they are.
class Copied final : public MadeStream {
  public:
    static Result<std::unique_ptr<MadeStream>> make(Clip& clip, const Track& track, Time to) {
        auto s = std::make_unique<Copied>();
        s->track_ = track, s->to_ = to;
        s->reader_ = clip.reader(track.id);
        // Where the container does not say when packets are decoded, their order and their times do: each as late as
        // its place among the times allows.
        std::vector<Time> times;
        auto heads = clip.reader(track.id);
        PacketHead head;
        bool stated = true;
        for (;;) {
            TRY(bool more, heads->next(head));
            if (!more) break;
            if (track.kind == Kind::audio) {
                if (times.empty()) s->first_ = head.pts;
                break;
            }
            stated = stated && head.dts;
            times.push_back(head.pts);
            if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(clip.info().name));
        }
        if (!stated) {
            auto order = times;
            std::sort(order.begin(), order.end());
            Time late{};
            for (std::size_t i = 0; i < order.size(); ++i) late = std::max(late, order[i] - times[i]);
            for (auto& t : order) s->dts_.push_back(t - late);
        }
        return s;
    }
    Result<std::optional<MadePacket>> next() override {
        PacketHead head;
        for (;;) {
            auto more = reader_->next(head);
            if (!more && more.error().code == Code::truncated) cut_ = more.error();
            if (!more && !cut_) return std::unexpected(more.error());
            if (!more || !*more) return std::nullopt;
            MadePacket m{head.pts, head.dts.value_or(head.pts), head.duration, head.keyframe, {}};
            if (!dts_.empty()) m.dts = dts_.front(), dts_.pop_front();
            if (auto read = reader_->read(m.data); !read) {
                if (read.error().code != Code::truncated) return std::unexpected(read.error());
                cut_ = read.error();
                return std::nullopt;
            }
            if (head.pts >= to_) continue;
            seen_.see(head);
            end_ = seen_.of(track_).value_or(end_);
            ++count_;
            return m;
        }
    }
    WriteTrack track() const override {
        WriteTrack w;
        w.codec = track_.codec, w.config = track_.config;
        w.video = track_.video, w.audio = track_.audio;
        w.language = track_.language;
        if (track_.kind == Kind::audio && first_.ns < 0)
            w.delay_samples = static_cast<unsigned>(
                std::lround(-first_.seconds() * (track_.codec == Codec::opus ? 48000 : track_.audio.rate)));
        w.timescale = timescale_for(track_, w.timescale);
        return w;
    }

  private:
    Track track_;
    Time to_ = Time::max(), first_{};
    std::unique_ptr<TrackReader> reader_;
    std::deque<Time> dts_;
    TrackEnd seen_;
};

/// Pictures, one by one, from a moment on and at the rate that is wanted.
class Pictures {
  public:
    Pictures(std::unique_ptr<PictureReader> reader, std::optional<Picture> first, Time from, Time to,
             std::optional<Rational> rate)
        : ahead_(std::move(reader)), first_(std::move(first)), from_(from), to_(to), rate_(rate) {}
    /// Times count from the beginning of what is made; every picture says how long it lasts.
    Result<std::optional<Picture>> next() {
        if (!rate_) {
            if (!begun_) {
                TRY(coming_, pull());
                begun_ = true;
            }
            if (!coming_ || coming_->pts >= to_) return std::nullopt;
            auto p = std::move(*coming_);
            TRY(coming_, pull());
            // A picture lasts until the next one's time, the last as long as the one before it, where nothing is said.
            auto until = coming_ ? coming_->pts : p.pts + (p.duration.ns > 0 ? p.duration : lasted_);
            lasted_ = until - p.pts;
            until = std::min(to_, until);
            p.pts = std::max(Time{}, p.pts - from_);
            p.duration = std::max(1_ns, until - from_ - p.pts);
            return p;
        }
        auto at = [&](std::int64_t n) {
            return ticks_to_time(n * rate_->den, 1, static_cast<std::uint64_t>(rate_->num));
        };
        auto now = at(number_);
        while (!ended_ && (!coming_ || coming_->pts - from_ <= now)) {
            if (coming_) {
                if (shown_) lasted_ = coming_->pts - shown_->pts;
                shown_ = std::move(coming_);
            }
            TRY(coming_, pull());
            ended_ = !coming_;
        }
        if (!shown_) return std::nullopt;
        auto end = to_ == Time::max() ? to_ : to_ - from_;
        if (ended_) end = std::min(end, shown_->pts + (shown_->duration.ns > 0 ? shown_->duration : lasted_) - from_);
        if (now >= end) return std::nullopt;
        Picture p = *shown_;
        p.pts = now, p.duration = at(++number_) - now;
        return p;
    }

    const std::optional<Error>& cut() const { return ahead_.cut(); }

  private:
    Result<std::optional<Picture>> pull() {
        if (first_) return std::exchange(first_, std::nullopt);
        return ahead_.next();
    }
    PicturesAhead ahead_;
    std::optional<Picture> first_, shown_, coming_;
    Time from_, to_;
    std::optional<Rational> rate_;
    Time lasted_{};
    std::int64_t number_ = 0;
    bool ended_ = false, begun_ = false;
};

/// Pictures decoded, fitted and encoded.
class EncodedPictures final : public MadeStream {
  public:
    EncodedPictures(std::unique_ptr<Pictures> pictures, const Plan& plan, std::unique_ptr<VideoEncoder> encoder)
        : pictures_(std::move(pictures)), plan_(plan), encoder_(std::move(encoder)) {}
    Result<std::optional<MadePacket>> next() override {
        while (ready_.empty() && !drained_) {
            std::vector<Encoded> out;
            auto picture = pictures_->next();
            if (!picture && picture.error().code == Code::truncated) {
                cut_ = picture.error();
                picture = std::optional<Picture>{};
            }
            if (!picture) return std::unexpected(picture.error());
            if (*picture) {
                auto wanted = plan_.reshape;
                wanted.colour = (*picture)->colour.resolved((*picture)->height);
                auto durations = (*picture)->duration;
                TRY(auto made, reshaper_.make(**picture, wanted));
                made.pts = (*picture)->pts;
                durations_[made.pts] = durations;
                end_ = std::max(end_, made.pts + durations);
                TRY_DO(encoder_->encode(made, out));
            } else {
                if (!cut_) cut_ = pictures_->cut();
                TRY_DO(encoder_->drain(out));
                drained_ = true;
            }
            for (auto& e : out) ready_.push_back(std::move(e));
        }
        if (ready_.empty()) return std::nullopt;
        auto e = std::move(ready_.front());
        ready_.pop_front();
        MadePacket m{e.pts, e.dts, {}, e.keyframe, std::move(e.data)};
        if (auto it = durations_.find(e.pts); it != durations_.end()) {
            m.duration = it->second;
            durations_.erase(it);
        }
        ++count_;
        return m;
    }
    WriteTrack track() const override {
        WriteTrack w;
        w.codec = plan_.video_codec, w.config = encoder_->config();
        w.video = plan_.format;
        w.video.colour = plan_.video->video.colour.resolved(plan_.video->video.height);
        w.language = plan_.video->language;
        w.timescale = timescale_for(*plan_.video, w.timescale);
        return w;
    }

  private:
    std::unique_ptr<Pictures> pictures_;
    const Plan& plan_;
    std::unique_ptr<VideoEncoder> encoder_;
    Reshaper reshaper_;
    std::map<Time, Time> durations_;
    std::deque<Encoded> ready_;
    bool drained_ = false;
};

/// Sound decoded and encoded; it begins and ends to the sample.
class EncodedSound final : public MadeStream {
  public:
    EncodedSound(std::unique_ptr<SoundReader> sound, const Plan& plan, std::unique_ptr<AudioEncoder> encoder, Time from,
                 Time to, float gain)
        : sound_(std::move(sound)), plan_(plan), encoder_(std::move(encoder)), gain_(gain) {
        if (to != Time::max()) most_ = time_to_ticks_floor(to - from, mix_rate);
    }
    Result<std::optional<MadePacket>> next() override {
        auto block = encoder_->frame_samples();
        while (!ended_ && held_.size() < 2 * block) {
            TRY(auto some, sound_->next());
            if (!some) {
                ended_ = true;
                cut_ = sound_->cut();
                break;
            }
            auto frames = static_cast<std::int64_t>(some->frames());
            if (taken_ + frames > most_) frames = most_ - taken_, ended_ = true;
            for (std::int64_t i = 0; i < 2 * frames; ++i)
                held_.push_back(some->samples[static_cast<std::size_t>(i)] * gain_);
            taken_ += frames;
            end_ = ticks_to_time(taken_, 1, mix_rate);
        }
        auto delay = static_cast<std::int64_t>(encoder_->delay_samples());
        // What was put in has come out once the encoder's delay is filled up as well.
        if (ended_ && fed_ - delay >= taken_) return std::nullopt;
        std::vector<float> samples(2 * block);
        auto n = std::min(held_.size(), samples.size());
        std::copy_n(held_.begin(), n, samples.begin());
        held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(n));
        TRY(auto data, encoder_->encode(samples));
        MadePacket m;
        m.pts = m.dts = ticks_to_time(fed_ - delay, 1, mix_rate);
        fed_ += static_cast<std::int64_t>(block);
        m.duration = ticks_to_time(fed_ - delay, 1, mix_rate) - m.pts;
        m.data = std::move(data);
        ++count_;
        return m;
    }
    WriteTrack track() const override {
        WriteTrack w;
        w.codec = plan_.audio_codec, w.config = encoder_->config();
        w.audio = {mix_rate, mix_channels};
        w.language = plan_.audio->language;
        w.delay_samples = encoder_->delay_samples();
        return w;
    }

  private:
    std::unique_ptr<SoundReader> sound_;
    const Plan& plan_;
    std::unique_ptr<AudioEncoder> encoder_;
    float gain_;
    std::deque<float> held_;
    std::int64_t taken_ = 0, fed_ = 0, most_ = INT64_MAX;
    bool ended_ = false;
};

}  // namespace

Result<std::unique_ptr<MadeStream>> copied_stream(Clip& clip, const Track& track, Time to) {
    return Copied::make(clip, track, to);
}
std::unique_ptr<MadeStream> encoded_pictures(std::unique_ptr<PictureReader> reader, std::optional<Picture> first,
                                             Time from, Time to, std::optional<Rational> rate, const Plan& plan,
                                             std::unique_ptr<VideoEncoder> encoder) {
    return std::make_unique<EncodedPictures>(
        std::make_unique<Pictures>(std::move(reader), std::move(first), from, to, rate), plan, std::move(encoder));
}
std::unique_ptr<MadeStream> encoded_sound(std::unique_ptr<SoundReader> sound, const Plan& plan,
                                          std::unique_ptr<AudioEncoder> encoder, Time from, Time to, float gain) {
    return std::make_unique<EncodedSound>(std::move(sound), plan, std::move(encoder), from, to, gain);
}

}  // namespace ruedo
