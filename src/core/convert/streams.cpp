// SPDX-License-Identifier: Apache-2.0
#include "convert/streams.h"

#include <algorithm>
#include <cmath>
#include <deque>

#include "codec/ahead.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

/// The source's own ticks, where those that are usual do not hold them whole.
std::uint32_t timescale_for(const Track& source, std::uint32_t usual) {
    auto& tick = source.tick;
    bool other = tick.num == 1 && tick.den >= 1000 && tick.den <= 1'000'000'000 && usual % tick.den != 0;
    return other ? static_cast<std::uint32_t>(tick.den) : usual;
}

/// Packets as they are.
class Copied final : public OutputTrack {
  public:
    static Result<std::unique_ptr<OutputTrack>> make(Clip& clip, const Track& track, Time from, Time to) {
        auto s = std::make_unique<Copied>();
        s->track_ = track, s->from_ = from, s->to_ = std::min(to, track.end);
        s->trimmed_ = track.kind == Kind::audio && s->to_ != Time::max();
        if (auto headers = split_laced(track.config); track.codec == Codec::vorbis && headers.size() == 3)
            s->vorbis_ = parse_vorbis_modes(headers[0], headers[2]);
        s->reader_ = clip.reader(track.id);
        auto heads = clip.reader(track.id);
        PacketHead head;
        RUEDO_TRY(bool any, heads->next(head));
        bool audio = track.kind == Kind::audio;
        s->cuts_ = from.ns > 0 || (any && edited_off(track, head));
        if (s->cuts_) {
            auto begin = audio ? from - track.preroll : from;
            RUEDO_TRY_DO(s->reader_->seek(begin));
            RUEDO_TRY_DO(heads->seek(begin));
            RUEDO_TRY(any, heads->next(head));
            // Pictures before the first that is shown stay where it needs them.
            s->cuts_ = audio || from.ns > 0 || (any && head.pts >= from);
        }
        // Where the container does not say when packets are decoded, their order and their times do: each as late as
        // its place among the times allows.
        std::vector<Time> times;
        bool stated = true;
        while (any) {
            if (!s->leaves_out(head)) {
                if (audio) {
                    s->first_ = s->heard_ = head.pts - from;
                    if (s->vorbis_) {
                        RUEDO_TRY(any, heads->next(head));
                        s->heard_ = head.pts - from;
                    }
                    break;
                }
                stated = stated && head.dts;
                times.push_back(head.pts - from);
                if (head.pts < s->to_) s->needed_ = times.size();
                s->seen_.see(head);
            }
            if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(clip.info().name));
            RUEDO_TRY(any, heads->next(head));
        }
        times.resize(s->needed_);
        s->order_ = times;
        std::sort(s->order_.begin(), s->order_.end());
        if (!stated) {
            Time late{};
            for (std::size_t i = 0; i < times.size(); ++i) late = std::max(late, s->order_[i] - times[i]);
            for (auto& t : s->order_) s->dts_.push_back(t - late);
        }
        return s;
    }
    Result<std::optional<OutputPacket>> next() override {
        PacketHead head;
        while (track_.kind == Kind::audio || count_ < needed_) {
            auto more = reader_->next(head);
            if (!more && more.error().code == ErrorCode::truncated) cut_ = more.error();
            if (!more && !cut_) return std::unexpected(more.error());
            if (!more || !*more) return std::nullopt;
            if (leaves_out(head)) continue;
            OutputPacket m{head.pts - from_, head.dts.value_or(head.pts) - from_, head.duration, head.keyframe, {}};
            if (!dts_.empty()) m.dts = dts_.front(), dts_.pop_front();
            // A picture is shown until the next one is, which is not the next to be decoded.
            if (track_.kind != Kind::audio) {
                auto next = std::upper_bound(order_.begin(), order_.end(), m.pts);
                auto end = std::min(seen_.of(track_).value_or(head.pts), to_);
                auto until = next != order_.end() ? *next : end - from_;
                m.duration = std::max(Time{}, until - m.pts);
            }
            if (auto read = reader_->read(m.data); !read) {
                if (read.error().code != ErrorCode::truncated) return std::unexpected(read.error());
                cut_ = read.error();
                return std::nullopt;
            }
            if (vorbis_) time_by_samples(m);
            // Parts of a joined file may overlap a little, and damaged times go back: packets are decoded in their
            // order.
            if (m.dts < last_dts_) {
                if (track_.kind == Kind::audio) m.pts += last_dts_ - m.dts;
                m.dts = last_dts_;
            }
            last_dts_ = m.dts;
            if (track_.kind == Kind::audio) seen_.see(head);
            auto ends = track_.kind == Kind::audio ? seen_.of(track_) : std::max(end_, m.pts + m.duration) + from_;
            end_ = std::min(ends.value_or(end_ + from_), to_) - from_;
            trimmed_ = trimmed_ || head.trim_end.ns > 0 || (to_ != Time::max() && m.pts + m.duration > to_ - from_);
            ++count_;
            return m;
        }
        return std::nullopt;
    }
    MuxerTrack track() const override {
        MuxerTrack w;
        w.codec = track_.codec, w.config = track_.config;
        w.video = track_.video, w.audio = track_.audio;
        w.language = track_.language;
        // What comes before it is heard; and where Matroska rounds times to milliseconds, the first to be heard is not
        // rounded.
        auto delay = std::max(Time{}, track_.start - from_) - first_;
        if (vorbis_ && delay.ns > 0) delay -= Time{(heard_ + delay).ns % (1_ms).ns};
        if (track_.kind == Kind::audio && delay.ns > 0)
            w.delay_samples = static_cast<unsigned>(
                std::lround(delay.seconds() * (track_.codec == Codec::opus ? 48000 : track_.audio.rate)));
        w.timescale = timescale_for(track_, w.timescale);
        return w;
    }

  private:
    /// Containers that round times, and say no length of a packet, leave those to be counted.
    void time_by_samples(OutputPacket& m) {
        bool first = vorbis_block_ == 0;
        auto length = vorbis_packet_samples(*vorbis_, m.data, vorbis_block_);
        if (first) return;
        constexpr Time rounding = 2_ms;
        if (std::abs((m.pts - vorbis_to_).ns) <= rounding.ns) m.pts = m.dts = vorbis_to_;
        m.duration = ticks_to_time(length, 1, static_cast<std::uint64_t>(std::max(track_.audio.rate, 1)));
        vorbis_to_ = m.pts + m.duration;
    }
    bool leaves_out(const PacketHead& head) const {
        // Pictures that come behind the first and are shown before it belong to what was cut off. Of those shown after
        // the last, packets before it in decoding order may be needed.
        if (track_.kind != Kind::audio) return cuts_ && head.pts < from_;
        return head.pts >= to_ || (cuts_ && head.pts + head.duration <= from_ - track_.preroll);
    }
    Track track_;
    Time from_{}, to_ = Time::max(), last_dts_{INT64_MIN};
    Time first_{}, heard_{};    ///< Its first packet, and the first that sound is decoded from.
    bool cuts_ = false;         ///< What comes before `from_` is left out.
    std::uint64_t needed_ = 0;  ///< Of pictures so many, the last one shown among them.
    std::unique_ptr<TrackReader> reader_;
    std::deque<Time> dts_;
    std::optional<VorbisModes> vorbis_;
    std::int64_t vorbis_block_ = 0;
    Time vorbis_to_{INT64_MIN / 2};  ///< Where the packet before ends.
    TrackEnd seen_;                  ///< Of all pictures; of sound of what has been copied.
    std::vector<Time> order_;        ///< When pictures are shown, from `from_` on.
};

/// Pictures, one by one, from a moment on and at the rate that is wanted.
class FrameSource {
  public:
    FrameSource(std::unique_ptr<FrameReader> reader, bool in_gaps, std::optional<Frame> first, Time from, Time to,
                std::optional<Rational> rate, std::optional<Rational> steps)
        : ahead_(std::move(reader), in_gaps),
          first_(std::move(first)),
          from_(from),
          to_(to),
          rate_(rate),
          steps_(steps) {}
    /// Times count from the start of the output; every frame has a duration.
    Result<std::optional<Frame>> next() {
        if (!rate_) {
            if (!begun_) {
                RUEDO_TRY(coming_, pull());
                begun_ = true;
            }
            if (!coming_ || coming_->pts >= to_) return std::nullopt;
            auto p = std::move(*coming_);
            RUEDO_TRY(coming_, pull());
            // Of several in one step the last is kept: were each to have its own, all that follow would be late.
            while (steps_ && coming_ && coming_->pts < to_ && step_of(coming_->pts) == step_of(p.pts)) {
                auto at = p.pts;
                p = std::move(*coming_);
                p.pts = at;
                RUEDO_TRY(coming_, pull());
            }
            // A picture lasts until the next one's time.
            auto until = coming_ ? coming_->pts : end_after(p);
            lasted_ = until - p.pts;
            until = std::min(to_, until);
            p.pts = std::max(Time{}, p.pts - from_);
            p.duration = std::max(1_ns, until - from_ - p.pts);
            return p;
        }
        auto at = [&](std::int64_t n) {
            return base_ + ticks_to_time(n * rate_->den, 1, static_cast<std::uint64_t>(rate_->num));
        };
        auto now = at(number_);
        while (!ended_ && (!coming_ || coming_->pts - from_ <= now)) {
            if (coming_) {
                if (shown_) lasted_ = coming_->pts - shown_->pts;
                shown_ = std::move(coming_);
            }
            RUEDO_TRY(coming_, pull());
            ended_ = !coming_;
        }
        if (!shown_) {
            // Nothing is shown before the first frame, and the output begins with it: at its time, or where times
            // are counted from nought, at the nearest step.
            if (!coming_ || coming_->pts >= to_) return std::nullopt;
            auto first = coming_->pts - from_;
            if (steps_)
                number_ = step_of(coming_->pts);
            else
                base_ = first;
            shown_ = std::move(coming_);
            RUEDO_TRY(coming_, pull());
            ended_ = !coming_;
            return next();
        }
        auto end = to_ == Time::max() ? to_ : to_ - from_;
        if (ended_) end = std::min(end, end_after(*shown_) - from_);
        if (now >= end) return std::nullopt;
        Frame p = *shown_;
        p.pts = now, p.duration = at(++number_) - now;
        return p;
    }

    const std::optional<Error>& cut() const { return ahead_.cut(); }

  private:
    Result<std::optional<Frame>> pull() {
        if (first_) return std::exchange(first_, std::nullopt);
        return ahead_.next();
    }
    /// The nearest.
    std::int64_t step_of(Time t) const {
        return (time_to_ticks_floor(t - from_, static_cast<std::uint64_t>(2 * steps_->num)) / steps_->den + 1) / 2;
    }
    /// Of the last picture: that of the track, or it lasts as long as the one before it, where nothing is said.
    Time end_after(const Frame& p) const {
        auto end = ahead_.end().value_or(p.pts);
        return end > p.pts ? end : p.pts + (p.duration.ns > 0 ? p.duration : lasted_);
    }
    FramesAhead ahead_;
    std::optional<Frame> first_, shown_, coming_;
    Time from_, to_;
    std::optional<Rational> rate_, steps_;
    Time lasted_{}, base_{};  ///< How long the one before lasted; when pictures at a rate begin.
    std::int64_t number_ = 0;
    bool ended_ = false, begun_ = false;
};

/// Pictures as they are encoded: fitted, in the encoder's numbers, with their captions drawn in. Their times count from
/// the start of the output.
class Fitted {
  public:
    Fitted(std::unique_ptr<FrameSource> pictures, Time from, const Plan& plan, std::unique_ptr<CaptionBurner> captions)
        : pictures_(std::move(pictures)), from_(from), plan_(plan), captions_(std::move(captions)) {}
    Result<std::optional<Frame>> next() {
        if (!rest_) {
            RUEDO_TRY(auto picture, pictures_->next());
            if (!picture) return std::nullopt;
            RUEDO_TRY(auto made, reshaper_.make(*picture, plan_.reshape));
            made.pts = picture->pts, made.duration = picture->duration;
            if (!captions_) return made;
            made.pixel_aspect = plan_.format.pixel_aspect, made.rotation = plan_.format.rotation;
            constexpr Time long_lasting{200'000'000};
            splits_ = made.duration > long_lasting;
            rest_ = std::move(made);
        }
        // A picture that stays for long is made anew where its captions change.
        auto made = *rest_;
        auto end = made.pts + made.duration,
             changes = splits_ ? captions_->changes_after(made.pts + from_) : Time::max();
        auto until = changes == Time::max() ? end : std::min(end, changes - from_);
        made.duration = until - made.pts;
        rest_->pts = until, rest_->duration = end - until;
        if (until == end) rest_.reset();
        RUEDO_TRY(auto burn_in, captions_->burn(made, made.pts + from_));
        return burn_in;
    }
    /// Whether there is anything to be done to what is decoded.
    bool works() const {
        auto& given = plan_.video->video;
        Frame picture;
        picture.width = given.width, picture.height = given.height, picture.colour = given.colour;
        return captions_ || !plan_.reshape.leaves(picture);
    }
    const std::optional<Error>& cut() const { return pictures_->cut(); }

  private:
    std::unique_ptr<FrameSource> pictures_;
    Time from_;
    const Plan& plan_;
    std::unique_ptr<CaptionBurner> captions_;
    Reshaper reshaper_;
    std::optional<Frame> rest_;  ///< What is still to come of a picture.
    bool splits_ = false;
};

/// Those, encoded. Reshaping is a stage of its own where there is anything to be done.
class EncodedVideo final : public OutputTrack {
  public:
    EncodedVideo(std::unique_ptr<Fitted> pictures, const Plan& plan, std::unique_ptr<VideoEncoder> encoder,
                 bool in_gaps)
        : pictures_(std::move(pictures)), plan_(plan), encoder_(std::move(encoder)), in_gaps_(in_gaps) {}
    Result<std::optional<OutputPacket>> next() override {
        while (ready_.empty() && !drained_) {
            std::vector<Encoded> out;
            auto picture = pull();
            if (!picture && picture.error().code == ErrorCode::truncated) {
                cut_ = picture.error();
                picture = std::optional<Frame>{};
            }
            if (!picture) return std::unexpected(picture.error());
            if (auto& made = *picture) {
                end_ = std::max(end_, made->pts + made->duration);
                durations_[made->pts] = made->duration;
                RUEDO_TRY_DO(encoder_->encode(*made, out));
            } else {
                if (!cut_) cut_ = pictures_->cut();
                RUEDO_TRY_DO(encoder_->drain(out));
                drained_ = true;
            }
            for (auto& e : out) ready_.push_back(std::move(e));
        }
        if (ready_.empty()) {
            // Frees its memory for the next step, such as checking the output.
            if (encoder_) config_ = encoder_->config();
            ahead_.reset(), pictures_.reset(), encoder_.reset();
            return std::nullopt;
        }
        auto e = std::move(ready_.front());
        ready_.pop_front();
        OutputPacket m{e.pts, e.dts, {}, e.keyframe, std::move(e.data)};
        if (auto it = durations_.find(e.pts); it != durations_.end()) {
            m.duration = it->second;
            durations_.erase(it);
        }
        ++count_;
        return m;
    }
    MuxerTrack track() const override {
        MuxerTrack w;
        w.codec = plan_.video_codec, w.config = encoder_ ? encoder_->config() : config_;
        w.video = plan_.format, w.video.crop = padding_;
        w.language = plan_.video->language;
        w.timescale = timescale_for(*plan_.video, w.timescale);
        return w;
    }

  private:
    Result<std::optional<Frame>> pull() {
        if (!apart_) return pictures_->next();
        if (!ahead_)
            // It keeps up with the encoder, so that it gives way to nothing but what a whole job gives way to.
            ahead_ = std::make_unique<Ahead<Frame>>(frames_between(plan_.format, in_gaps_), false,
                                                    [this](auto&) { return pictures_->next(); });
        return ahead_->next();
    }

    std::unique_ptr<Fitted> pictures_;
    const Plan& plan_;
    std::unique_ptr<VideoEncoder> encoder_;  ///< Until all is encoded ...
    Bytes config_;                           ///< ... and then what its header was.
    Crop padding_ = encoder_->padding();
    std::map<Time, Time> durations_;
    std::deque<Encoded> ready_;
    bool in_gaps_, apart_ = pictures_->works(), drained_ = false;
    std::unique_ptr<Ahead<Frame>> ahead_;
};

}  // namespace

Result<std::unique_ptr<OutputTrack>> copied_stream(Clip& clip, const Track& track, Time from, Time to) {
    return Copied::make(clip, track, from, to);
}
VideoEncodeOptions encoder_options(const Plan& plan, const Recipe& recipe, Rational rate) {
    auto& v = recipe.video;
    auto* form = video_encoder_traits(plan.video_codec);
    VideoEncodeOptions e;
    e.width = plan.format.width, e.height = plan.format.height;
    e.pixel_aspect = plan.format.pixel_aspect, e.colour = plan.format.colour;
    e.profile = plan.profile, e.level = plan.level;
    e.rate = rate;
    auto pictures = v.keyframes.seconds() * static_cast<double>(rate.num) / static_cast<double>(rate.den);
    e.keyframe_every = std::max(1, static_cast<int>(std::min(pictures, 1e6) + 0.5));
    e.b_frames = form ? form->b_frames : 0;
    e.effort = v.effort;
    e.control = VideoEncodeOptions::Control::quality;
    e.quality = v.quality.value_or(form ? form->quality : 30);
    return e;
}

Result<std::unique_ptr<OutputTrack>> StreamMaker::pictures(Time from, Time to, const EncodingPass& pass) const {
    if (!plan.encode_video) return copied_stream(*clip, *plan.video, from, to);
    auto e = encoder_options(plan, recipe, rate);
    if (pass.bitrate) e.control = VideoEncodeOptions::Control::bitrate, e.bitrate = pass.bitrate;
    e.pass = pass.number, e.stats = pass.notes;
    return encode_frames(std::move(e), from, to, video_encoder_traits(plan.video_codec)->several);
}
Result<std::unique_ptr<OutputTrack>> StreamMaker::quick_frames(Time from) const {
    auto e = encoder_options(plan, recipe, rate);
    e.effort = 0, e.b_frames = 0;
    return encode_frames(std::move(e), from, Time::max(), false);  // somebody waits for it: nothing gives way
}
Result<std::unique_ptr<OutputTrack>> StreamMaker::encode_frames(VideoEncodeOptions e, Time from, Time to,
                                                                bool in_gaps) const {
    RUEDO_TRY(auto reader, FrameReader::open(clip, *plan.video, codecs));
    std::optional<Frame> first;
    if (from.ns > 0) {
        RUEDO_TRY(first, reader->at(from));
        // The one that is seen there is seen from there on; before the first one there is none.
        if (first->pts <= from) {
            first->duration = first->pts + first->duration - from;
            first->pts = from;
        }
    }
    e.go_on = [more = go_on, name = clip->info().name]() -> Status {
        if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(name));
        return more ? more() : Status{};
    };
    RUEDO_TRY(auto encoder, codecs.video_encoder(plan.video_codec, e));
    RUEDO_TRY(auto letters, burner());
    auto pictures = std::make_unique<FrameSource>(
        std::move(reader), in_gaps, std::move(first), from, to, constant ? std::optional(rate) : std::nullopt,
        plan.container_format->name == "ogg" ? std::optional(rate) : std::nullopt);
    auto fitted = std::make_unique<Fitted>(std::move(pictures), from, plan, std::move(letters));
    return std::make_unique<EncodedVideo>(std::move(fitted), plan, std::move(encoder), in_gaps);
}
Result<std::unique_ptr<AudioReader>> StreamMaker::open_audio(const Plan::Audio& s, Time from) const {
    RUEDO_TRY(auto audio, AudioReader::open(clip, *s.track, codecs, s.form));
    RUEDO_TRY_DO(audio->seek(from));
    return audio;
}
Result<std::unique_ptr<OutputTrack>> StreamMaker::audio(const Plan::Audio& s, Time from, Time to, Level level) const {
    if (!s.encode) return copied_stream(*clip, *s.track, from, to);
    RUEDO_TRY(auto reader, open_audio(s, from));
    RUEDO_TRY(auto encoder,
              codecs.audio_encoder(
                  s.codec, {.rate = s.form.rate, .channels = s.form.channels, .bitrate = s.bitrate, .bits = s.bits}));
    return encoded_audio(std::move(reader), s, std::move(encoder), from, to, level);
}
Result<std::unique_ptr<CaptionBurner>> StreamMaker::burner() const {
    if (!plan.burn_in && plan.burn_in_file.empty()) return nullptr;
    RUEDO_TRY(auto cues, plan.burn_in ? read_cues(*clip, *plan.burn_in) : load_captions(plan.burn_in_file));
    RUEDO_TRY(auto letters, codecs.text_setter());
    return std::make_unique<CaptionBurner>(std::move(cues), std::move(letters));
}
Result<std::unique_ptr<OutputTrack>> StreamMaker::captions(const Plan::Captions& c, Time from, Time to) const {
    RUEDO_TRY(auto cues, read_cues(*clip, *c.track));
    return caption_stream(std::move(cues), c, from, to);
}

}  // namespace ruedo
