// SPDX-License-Identifier: Apache-2.0
// The flow of pictures and sound: decoded ahead in bounded queues, shown and sounded when due.
#include <fmt/format.h>

#include "playback/engine.h"

namespace ruedo {
using machine::Input;

namespace {
constexpr std::size_t frames_wanted = 8, prepared_wanted = 3;
constexpr Time audio_wanted = 400_ms, audio_enough = 120_ms, audio_per_job = 80_ms;
constexpr Time tick_every = 10_ms;
/// Later than this, decoding on is of no use; earlier than that, all is well again.
constexpr Time leap_at = 150_ms, well_again = 100_ms;
/// After a stall, this much buffered is enough to resume, whatever the rest would need.
constexpr Time enough_ahead = 5_s;
}  // namespace

void Controller::Engine::pump() {
    pump_video();
    pump_prepare();
    pump_audio();
}

void Controller::Engine::pump_video() {
    if (!pictures_ || video_busy_ || state_.seeking || items_.size() >= frames_wanted || !video_worker_) return;
    if (state_.phase == Phase::opening || state_.phase == Phase::failed || state_.phase == Phase::closed) return;
    bool again = video_end_ && looping();
    if (video_end_ && !again) return;
    video_busy_ = true;
    int lap = video_lap_ + (again ? 1 : 0);
    bool leap = std::exchange(leap_next_, false) && !again;
    auto t = now();
    // The keyframe must be there not much later than it is due. Where decoding on would catch up sooner, it is too far.
    auto from = fold(media_now() + scaled(decoding_cost_ * 5 / 4 - leap_at * 2 / 3, rate_));
    auto to = looping() ? loop_to() - 1_ns : Time::max();
    if (leap && decoding_speed_ > 1.05 * rate_ && !items_.empty())
        to = std::min(to, from + scaled(media_now() - items_.back().at, rate_ / (decoding_speed_ - rate_)));
    auto job = [pictures = pictures_, cancel = cancel_, again, leap, from, to, start = loop_from(),
                sparing = way_ != Way::all]() -> Result<Decoded> {
        Decoded d;
        auto before = pictures->left_out();
        pictures->set_sparing(sparing);
        if (again) {
            RUEDO_TRY(d.picture, pictures->at(start, cancel.get()));
        } else {
            if (leap) {
                RUEDO_TRY(d.picture, pictures->leap(from, to, cancel.get()));
                d.leapt = d.picture.has_value();
            }
            if (!d.picture) {
                RUEDO_TRY(d.picture, pictures->next(cancel.get()));
            }
        }
        if (!d.picture) d.end = pictures->end();
        d.left_out = pictures->left_out() - before;
        return d;
    };
    beside(*video_worker_, env_.costs.picture, generation_, std::move(job),
           [this, lap, t, leap](Result<Decoded> result) {
               if (leap && result && !result->leapt) no_leap_before_ = media_now() + 500_ms;
               take_frame(std::move(result), lap, t);
           });
}

void Controller::Engine::take_frame(Result<Decoded> result, int lap, Time begun) {
    video_busy_ = false;
    if (!result) {
        if (result.error().code != ErrorCode::cancelled) fail_with(result.error());
        return;
    }
    counters_.damaged = pictures_->damaged();
    if (pictures_->cut() && !cut_) cut_ = pictures_->cut();
    counters_.dropped += result->left_out;
    auto& picture = result->picture;
    if (picture && looping() && picture->pts >= loop_to() && lap == video_lap_) picture.reset();
    if (!picture) {
        video_end_ = true;
        auto last = items_.empty() ? shown_at_ : items_.back().at;
        auto duration = items_.empty() ? (shown_ ? shown_->duration : Time{}) : items_.back().picture.duration;
        video_until_ = result->end && video_lap_ == 0 ? *result->end : std::max(last, Time{}) + duration;
        if (!duration_known_ && !audio_) duration_ = video_until_, duration_known_ = true;
    } else {
        video_end_ = false;
        video_lap_ = lap;
        auto at = picture->pts;
        // A live picture counts from when it comes: after a pause, or when the device's clock runs off, so does ours.
        if (only_now() && !audio_ && clock_.running() && std::abs((at - media_now()).ns) > (150_ms).ns)
            clock_.start(at, now());
        if (lap > 0) at = std::max(at, loop_from()) + loop_length() * lap;
        if (result->leapt) note("giving-way", fmt::format("on from the keyframe at {}", format_time(picture->pts)));
        reaches(at + picture->duration);
        items_.push_back(item_of(std::move(*picture), at));
        if (clock_.running() && !only_now()) shed_load(at, begun);
    }
    pump();
    if (clock_.running()) present_due();
    check_fed();
}

/// Decoding that can't keep up gives way, step by step: late pictures are not shown and not converted
/// (`present_due`); pictures that nothing depends on are not decoded; at last, on from the next keyframe. Sound goes
/// on. `at` is the newest picture's time, decoded since `begun`.
void Controller::Engine::shed_load(Time at, Time begun) {
    auto t = now();
    auto lead = at - clock_.at(t);
    auto cost = t - begun;
    auto duration = items_.back().picture.duration.ns > 0 ? items_.back().picture.duration : 33_ms;
    auto smooth = [](double& v, double now_is) { v = v == 0 ? now_is : v + 0.25 * (now_is - v); };
    // What waits for its turn in the queue is not decoding.
    smooth(decoding_speed_, duration.seconds() / std::max(1e-4, cost.seconds()));
    decoding_cost_ = decoding_cost_.ns == 0 ? cost : decoding_cost_ + (cost - decoding_cost_) / 4;
    if (lead > scaled(well_again, rate_)) {
        if (way_ != Way::all && items_.size() >= 3) {
            way_ = Way::all;
            note("caught-up", fmt::format("{:.0f} ms ahead", lead.ms()));
        }
        return;
    }
    if (way_ == Way::all && lead.ns < 0) {
        way_ = Way::sparing;
        note("giving-way", fmt::format("{:.0f} ms late: pictures that nothing depends on are left out", -lead.ms()));
    }
    if (lead > -scaled(leap_at, rate_) || clock_.at(t) < no_leap_before_) {
        // Nothing to leap to and no sound to keep to: time waits for the pictures.
        if (lead < -scaled(too_late, rate_) && !audio_master_ && clock_.at(t) < no_leap_before_) {
            clock_.start(at, t);
            note("giving-way", "time waits for the pictures");
        }
        return;
    }
    way_ = Way::leaping;
    leap_next_ = true;
}

/// The next picture to be made into display pixels is the one that is due now, or else the first to come.
void Controller::Engine::pump_prepare() {
    if (prepare_busy_ || !prepare_worker_) return;
    std::size_t ahead = 0;
    for (auto& item : items_) {
        if (ahead++ >= prepared_wanted) return;
        if (item.prepared) continue;
        prepare_busy_ = item.preparing = true;
        auto job = [picture = item.picture, sink = env_.sink] { return sink->prepare(picture); };
        beside(*prepare_worker_, env_.costs.conversion, prepare_generation_, std::move(job),
               [this, ticket = item.ticket](std::shared_ptr<const RgbImage> image) {
                   prepare_busy_ = false;
                   for (auto& i : items_)
                       if (i.ticket == ticket) i.image = image, i.prepared = true, i.preparing = false;
                   present_due();
                   pump_prepare();
               });
        return;
    }
}

void Controller::Engine::begin_audio_at(Time at) {
    audio_lap_ = lap_of(at);
    audio_next_ = audio_fed_ = audio_from_ = at;
    stretched_ = 0;
    audio_pace_ = rate_ * pace_boost_;
    stretcher_ = audio_pace_ == 1 ? nullptr : std::make_shared<TimeStretcher>(audio_pace_);
}

/// Lays out sound anew from `at` (unrolled) on.
void Controller::Engine::prime_audio(Time at) {
    if (!audio_ || !mixer_input_ || !audio_worker_) return;
    ++audio_generation_;
    audio_busy_ = true;
    audio_end_ = audio_done_ = audio_master_ = false;
    mixer_input_->clear();
    begin_audio_at(at);
    renew(audio_cancel_);
    auto job = [audio = audio_, cancel = audio_cancel_, to = fold(at), end = looping() ? loop_to() : Time::max()] {
        ReadScope scope(cancel.get());
        audio->set_end(end);
        return audio->seek(to);
    };
    beside(*audio_worker_, env_.costs.audio, audio_generation_, std::move(job), [this](Status outcome) {
        audio_busy_ = false;
        if (!outcome) return fail_with(outcome.error());
        pump_audio();
    });
}

void Controller::Engine::pump_audio() {
    if (!audio_ || audio_busy_ || !mixer_input_ || state_.phase == Phase::failed || state_.phase == Phase::closed)
        return;
    if (mixer_input_->buffered() >= audio_wanted) return;
    bool again = audio_end_ && looping();
    if (audio_end_ && !again) return;
    audio_busy_ = true;
    struct AudioJob {
        std::vector<float> before, samples;
        std::size_t fed = 0;
        bool end = false;
        std::optional<Time> track_end;
    };
    // At another pace what waits in the old stretcher comes out first.
    auto pace_before = std::exchange(audio_pace_, rate_ * pace_boost_);
    auto old = pace_before == audio_pace_ ? nullptr : stretcher_;
    if (pace_before != audio_pace_)
        stretcher_ = audio_pace_ == 1 ? nullptr : std::make_shared<TimeStretcher>(audio_pace_);
    auto wanted = static_cast<std::size_t>(time_to_ticks(scaled(audio_per_job, audio_pace_), mix_rate)) * 2;
    bool last = !looping();
    auto job = [audio = audio_, cancel = audio_cancel_, stretcher = stretcher_, old, wanted, again, last,
                from = loop_from(), end = looping() ? loop_to() : Time::max()]() -> Result<AudioJob> {
        ReadScope scope(cancel.get());
        AudioJob made;
        if (old) old->flush(made.before);
        audio->set_end(end);
        if (again) RUEDO_TRY_DO(audio->seek(from));
        std::vector<float> samples;
        while (samples.size() < wanted && !made.end) {
            RUEDO_TRY(auto block, audio->next());
            if (!block)
                made.end = true, made.track_end = audio->track_end();
            else
                samples.insert(samples.end(), block->samples.begin(), block->samples.end());
        }
        made.fed = samples.size() / 2;
        if (!stretcher) {
            made.samples = std::move(samples);
            return made;
        }
        // A loop goes on within the stretcher, so that no lap is longer or shorter than another.
        if (!samples.empty()) stretcher->process(samples, made.samples);
        if (made.end && last) stretcher->flush(made.samples);
        return made;
    };
    beside(*audio_worker_, env_.costs.audio, audio_generation_, std::move(job),
           [this, again, last, pace_before](Result<AudioJob> result) {
               if (!mixer_input_) return;
               audio_busy_ = false;
               if (!result) return fail_with(result.error());
               auto& made = *result;
               if (audio_->cut() && !cut_) cut_ = audio_->cut();
               // A stretcher rounds its last stretch up; what counts is how much went in.
               auto as_long_as_fed = [&](std::vector<float>& samples, double pace) {
                   auto in_all = static_cast<std::size_t>(
                       std::max<std::int64_t>(0, time_to_ticks(scaled(audio_fed_ - audio_from_, 1 / pace), mix_rate)));
                   samples.resize((in_all - std::min(in_all, stretched_)) * 2);
               };
               if (pace_before != audio_pace_) {
                   if (pace_before != 1) as_long_as_fed(made.before, pace_before);
                   mixer_input_->push(audio_next_, pace_before, made.before);
                   audio_next_ = audio_from_ = audio_fed_;
                   stretched_ = 0;
               }
               if (again) {
                   // Laps are a whole number of nanoseconds, samples are not: what was rounded is put right at each
                   // seam.
                   auto exact = loop_from() + loop_length() * ++audio_lap_;
                   audio_next_ += exact - audio_fed_;
                   audio_fed_ = exact;
               }
               audio_fed_ += ticks_to_time(static_cast<std::int64_t>(made.fed), 1, mix_rate);
               reaches(audio_fed_);
               audio_end_ = made.end;
               if (audio_end_ && last && stretcher_) as_long_as_fed(made.samples, audio_pace_);
               stretched_ += made.samples.size() / 2;
               mixer_input_->push(audio_next_, audio_pace_, made.samples);
               audio_next_ +=
                   scaled(ticks_to_time(static_cast<std::int64_t>(made.samples.size() / 2), 1, mix_rate), audio_pace_);
               if (audio_end_ && !looping()) {
                   mixer_input_->finish();
                   audio_until_ = audio_next_ = audio_fed_;
                   audio_track_end_ = made.track_end;
                   if (!duration_known_ && !pictures_) duration_ = fold(audio_until_), duration_known_ = true;
               }
               pump_audio();
               start_clock_if_ready();
               check_fed();
           });
}

/// Media time runs from when the first sound is heard, or at once where there is none.
void Controller::Engine::start_clock_if_ready() {
    if (!want_run_ || clock_.running()) return;
    auto at = clock_.at(now());
    if (audio_ && mixer_input_ && !audio_done_) {
        if (mixer_input_->buffered() < audio_enough && !audio_end_ && !audio_master_) return;
        if (!audio_master_) {
            if (audio_end_ && mixer_input_->buffered().ns == 0) {
                audio_done_ = true;  // sound ends before here
            } else {
                if (!armed_) mixer_input_->start();
                audio_master_ = true;
                return;
            }
        } else {
            auto heard = mixer_input_->heard(now());
            if (!heard) return;
            at = std::max(at, *heard);
        }
    }
    clock_.start(at, now());
    note("running");
    present_due();
}

/// After starving: enough of both again.
void Controller::Engine::check_fed() {
    if (state_.phase != Phase::waiting || state_.seeking) return;
    bool audio = !mixer_input_ || mixer_input_->buffered() >= audio_enough || audio_end_;
    bool pictures = !pictures_ || !items_.empty() || video_end_;
    if (audio && pictures && enough_is_here()) {
        starved_.reset();
        input(Input::fed);
    }
}

/// Going on at the first bytes that come would only starve again. So much must be here that the rest can be played
/// through at the rate at which it comes, or some seconds, whichever is less.
bool Controller::Engine::enough_is_here() {
    if (!fetched_ || !starved_ || only_now()) return true;
    auto t = now(), at = fold(media_now());
    auto ahead = buffered_.to - at;
    if (buffered_.to > starved_->buffered) starved_->buffered = buffered_.to, starved_->grown = t;
    bool all_here = duration_known_ && buffered_.to >= duration_ - 50_ms;
    // Where nothing arrives any more, the next read says why.
    if (all_here || ahead >= scaled(enough_ahead, rate_) || t - starved_->grown > 5_s) return true;
    auto waited = t - starved_->at;
    auto fetched = clip_->fetched().value_or(Clip::Fetched{});
    if (!fetched.of || !duration_known_ || duration_.ns <= 0 || waited < 250_ms) return false;
    auto rate = static_cast<double>(fetched.bytes - starved_->received) / waited.seconds();
    auto missing = static_cast<double>(*fetched.of) * (duration_ - buffered_.to).seconds() / duration_.seconds();
    return rate > 0 && missing / rate < 0.95 * (duration_ - at).seconds() / rate_;
}

/// Looks whether the process was stopped, or the machine asleep, since the last tick: no time has passed then.
void Controller::Engine::look_whether_stood_still(Time t) {
    auto before = std::exchange(ticked_, t);
    if (before.ns == INT64_MIN || before.ns == INT64_MAX || t - before < stood_still || only_now()) return;
    auto at = clock_.at(before + tick_every);
    if (audio_master_ && mixer_input_)
        if (auto heard = mixer_input_->heard(t)) at = *heard;
    clock_.start(at, t);
    note("stood-still", fmt::format("for {:.0f} ms", (t - before).ms()));
}

/// Traces where a live transcode restarts.
void Controller::Engine::look_at_converter() {
    auto made = clip_ ? clip_->made() : std::nullopt;
    if (!made || made->places == std::exchange(made_places_, made->places)) return;
    note("converting", fmt::format("from {}", format_time(made->from)));
}

/// What the clip has to tell, of the rungs of a stream for instance.
void Controller::Engine::look_at_news() {
    if (!clip_) return;
    for (auto& n : clip_->news()) note(n.name, n.detail);
}

/// Moved, held or played at another rate, it is where its user wants it: there is nothing to make up for.
void Controller::Engine::reset_pace_boost() {
    on_time_.reset(), pace_boost_ = 1;
    clock_.set_rate(rate_, now());
}

/// A live source makes up for what stalls cost it, until it is as near to its edge as before. The edge alone does not
/// say so: it is an estimate that grows while the first playlists are read, without any stall.
void Controller::Engine::catch_up(Time t) {
    constexpr double boosted_pace = 1.05;
    constexpr Time worth_it = 1_s, near = 50_ms, least_ahead = 3_s;
    auto newest = rate_ == 1 && !looping() ? edge() : std::nullopt;
    auto at = media_now();
    if (!newest)
        on_time_.reset();
    else if (!on_time_)
        on_time_ = {t, at, *newest - at};
    auto lost =
        on_time_ ? std::min((t - on_time_->wall) - (at - on_time_->media), *newest - at - on_time_->behind) : Time{};
    bool enough = !fetched_ || !on_time_ || buffered_.to - at >= std::min(least_ahead, on_time_->behind / 2);
    auto boost = enough && lost > (pace_boost_ > 1 ? near : worth_it) ? boosted_pace : 1;
    if (boost == pace_boost_) return;
    pace_boost_ = boost;
    clock_.set_rate(rate_ * pace_boost_, t);
    if (pace_boost_ > 1)
        note("catching-up", fmt::format("5 % faster, to make up for {:.1f} s", lost.seconds()));
    else
        note("back-at-edge", newest ? fmt::format("{:.1f} s behind the live edge", (*newest - at).seconds()) : "");
}

void Controller::Engine::tick() {
    if (tick_timer_) env_.strand->cancel(std::exchange(tick_timer_, 0));
    if (!want_run_) return;
    auto t = now();
    if (mixer_input_) env_.mixer->watch();
    look_at_converter();
    look_at_news();
    if (clock_.running())
        look_whether_stood_still(t);
    else
        ticked_ = t;
    if (clip_ && !altered_ && t - looked_at_file_ > 500_ms) {
        looked_at_file_ = t;
        if ((altered_ = clip_->altered()))
            note("finding", fmt::format("“{}” was changed while it played; what follows may not be what was opened.",
                                        clip_->info().name));
    }
    if (!clock_.running()) {
        start_clock_if_ready();
    } else {
        if (audio_master_ && mixer_input_) {
            if (auto heard = mixer_input_->heard(t)) {
                // Sound leads: comes round to it, or, where it is too far off, goes there.
                if (std::abs((*heard - clock_.at(t)).ns) > scaled(too_late, rate_).ns)
                    clock_.start(*heard, t);
                else
                    clock_.follow(*heard, t);
                bool drained = audio_end_ && !looping() && *heard >= audio_until_ - 2_ms;
                if (drained) {
                    audio_master_ = false;
                    audio_done_ = true;
                    clock_.let_run(t);  // the monotonic clock goes on from here
                }
            }
            if (next_input_ && audio_end_ && (!pictures_ || video_end_)) {
                // Where the pictures go on for longer, the next one waits for their end.
                if (!pictures_ || video_until_ - audio_until_ <= 40_ms) mixer_input_->then(next_input_.get());
                handed_input_ = std::exchange(next_input_, nullptr);
            }
            if (mixer_input_->starved() && !audio_end_) {
                note("starved", "sound ran out");
                if (fetched_) starved_ = Starved{t, buffered_.to, t, clip_->fetched().value_or(Clip::Fetched{}).bytes};
                input(Input::starved);
            }
        }
        if (pictures_ && !video_end_ && items_.empty() && !state_.seeking && !audio_) {
            if (starved_since_.ns == INT64_MAX) starved_since_ = t;
            if (t - starved_since_ > 250_ms && shown_ && clock_.at(t) > shown_at_ + shown_->duration + 250_ms) {
                note("starved", "no picture is ready");
                if (fetched_) starved_ = Starved{t, buffered_.to, t, clip_->fetched().value_or(Clip::Fetched{}).bytes};
                input(Input::starved);
            }
        } else {
            starved_since_ = {INT64_MAX};
        }
        catch_up(t);
        if (auto lap = lap_of(clock_.at(t)); lap > seen_lap_) {
            seen_lap_ = lap;
            note("looped");
        }
        if (clock_.running()) schedule_frame();
        check_end(t);
    }
    pump();
    publish();
    if (want_run_ && !tick_timer_) tick_timer_ = env_.strand->at(t + tick_every, guarded([this] { tick(); }));
}

void Controller::Engine::check_end(Time t) {
    if (looping() || state_.phase != Phase::playing) return;
    if (pictures_ && (!video_end_ || !items_.empty())) return;
    if (audio_ && !audio_end_) return;
    Time end{};
    if (pictures_) end = std::max(end, video_until_);
    if (audio_) end = std::max(end, audio_until_);
    if (clock_.at(t) < end) {
        if (clock_.when(end) < t + tick_every) {
            if (tick_timer_) env_.strand->cancel(tick_timer_);
            tick_timer_ = env_.strand->at(clock_.when(end), guarded([this] { tick(); }));
        }
        return;
    }
    // Some containers can't tell a file that was cut from one that ends; its length can.
    if (!cut_ && clip_ && clip_->altered() && duration_known_ && end + 500_ms < duration_)
        cut_ =
            Error{ErrorCode::truncated,
                  fmt::format("“{}” was changed while it played, and nothing follows that plays.", clip_->info().name),
                  "Open it again once it is complete."};
    if (cut_) return fail_with(*cut_);
    // Now it is known: one value for the end, whatever the header said and however samples were rounded.
    end = Time{};
    if (pictures_) end = video_until_;
    if (audio_) end = std::max(end, audio_track_end_.value_or(audio_until_));
    input(Input::reached_end);
    clock_.hold(end);
    duration_ = fold(end), duration_known_ = true;
    note("ended");
}

}  // namespace ruedo
