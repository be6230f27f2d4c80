// SPDX-License-Identifier: Apache-2.0
// The flow of pictures and sound: decoded ahead in bounded queues, shown and sounded when due.
#include <fmt/format.h>

#include "playback/engine.h"

namespace ruedo {
using machine::Input;

namespace {
constexpr std::size_t pictures_wanted = 8, prepared_wanted = 3;
constexpr Time decode_cost = 4_ms, sound_cost = 1_ms;
constexpr Time sound_wanted = 400_ms, sound_enough = 120_ms, sound_per_job = 80_ms;
constexpr Time tick_every = 10_ms;
constexpr std::size_t figures_kept = 200'000;
}  // namespace

void Controller::Engine::pump() {
    pump_pictures();
    pump_prepare();
    pump_sound();
}

void Controller::Engine::pump_pictures() {
    if (!pictures_ || picture_busy_ || state_.seeking || items_.size() >= pictures_wanted || !picture_lane_) return;
    if (state_.phase == Phase::opening || state_.phase == Phase::failed || state_.phase == Phase::closed) return;
    bool again = pictures_end_ && looping();
    if (pictures_end_ && !again) return;
    picture_busy_ = true;
    auto result = std::make_shared<Result<std::optional<Picture>>>(std::nullopt);
    int lap = picture_lap_ + (again ? 1 : 0);
    auto job = [result, pictures = pictures_, cancel = cancel_, again, from = loop_from()] {
        *result = [&]() -> Result<std::optional<Picture>> {
            if (!again) return pictures->next(cancel.get());
            TRY(auto first, pictures->at(from, cancel.get()));
            return first;
        }();
    };
    picture_lane_->run(decode_cost, std::move(job), guarded([this, result, lap, generation = generation_] { take_picture(generation, std::move(*result), lap); }));
}

void Controller::Engine::take_picture(std::uint64_t generation, Result<std::optional<Picture>> result, int lap) {
    if (generation != generation_) return;
    picture_busy_ = false;
    if (!result) {
        if (result.error().code != Code::cancelled) fail_with(result.error());
        return;
    }
    counters_.damaged = pictures_->damaged();
    auto& picture = *result;
    if (picture && looping() && picture->pts >= loop_to() && lap == picture_lap_) picture.reset();
    if (!picture) {
        pictures_end_ = true;
        auto last = items_.empty() ? shown_at_ : items_.back().at;
        auto duration = items_.empty() ? (shown_ ? shown_->duration : Time{}) : items_.back().picture.duration;
        pictures_until_ = std::max(last, Time{}) + duration;
        if (!duration_known_ && !sound_) duration_ = pictures_until_, duration_known_ = true;
    } else {
        pictures_end_ = false;
        picture_lap_ = lap;
        auto at = picture->pts;
        // A live picture counts from when it comes: after a pause, or when the device's clock runs off, so does ours.
        if (live() && clock_.running() && std::abs((at - media_now()).ns) > (150_ms).ns) clock_.start(at, now());
        if (lap > 0) at = std::max(at, loop_from()) + loop_length() * lap;
        items_.push_back(item_of(std::move(*picture), at));
    }
    pump();
    if (clock_.running()) present_due();
    check_fed();
}

void Controller::Engine::pump_prepare() {
    if (prepare_busy_ || !prepare_lane_) return;
    std::size_t ahead = 0;
    for (auto& item : items_) {
        if (ahead++ >= prepared_wanted) return;
        if (item.prepared) continue;
        prepare_busy_ = true;
        auto image = std::make_shared<std::shared_ptr<const Image>>();
        auto job = [image, picture = item.picture, sink = env_.sink] { *image = sink->prepare(picture); };
        prepare_lane_->run({}, std::move(job), guarded([this, image, ticket = item.ticket] {
            prepare_busy_ = false;
            for (auto& i : items_)
                if (i.ticket == ticket) i.image = *image, i.prepared = true;
            pump_prepare();
            present_due();
        }));
        return;
    }
}

/// Lays out sound anew from `at` (unrolled) on.
void Controller::Engine::prime_sound(Time at) {
    if (!sound_ || !voice_ || !sound_lane_) return;
    ++sound_generation_;
    sound_busy_ = true;
    sound_end_ = sound_done_ = sound_master_ = false;
    voice_->clear();
    sound_lap_ = lap_of(at);
    sound_next_ = at;
    stretcher_ = rate_ == 1 ? nullptr : std::make_shared<Stretcher>(rate_);
    auto outcome = std::make_shared<Outcome>();
    *sound_cancel_ = true;
    {
        std::lock_guard lock(published_mutex_);
        sound_cancel_ = std::make_shared<std::atomic<bool>>(stop_all_.load());
    }
    auto job = [outcome, sound = sound_, cancel = sound_cancel_, to = fold(at), end = looping() ? loop_to() : Time::max()] {
        ReadScope scope(cancel.get());
        sound->set_end(end);
        *outcome = sound->seek(to);
    };
    sound_lane_->run(sound_cost, std::move(job), guarded([this, outcome, generation = sound_generation_] {
        if (generation != sound_generation_) return;
        sound_busy_ = false;
        if (!*outcome) return fail_with(outcome->error());
        pump_sound();
    }));
}

void Controller::Engine::pump_sound() {
    if (!sound_ || sound_busy_ || !voice_ || state_.phase == Phase::failed || state_.phase == Phase::closed) return;
    if (voice_->buffered() >= sound_wanted) return;
    bool again = sound_end_ && looping();
    if (sound_end_ && !again) return;
    sound_busy_ = true;
    struct Made { std::vector<float> samples; bool end = false; Outcome outcome; };
    auto made = std::make_shared<Made>();
    auto wanted = static_cast<std::size_t>(time_to_ticks(scaled(sound_per_job, rate_), mix_rate)) * 2;
    auto job = [made, sound = sound_, cancel = sound_cancel_, stretcher = stretcher_, wanted, again, from = loop_from(), end = looping() ? loop_to() : Time::max()] {
        ReadScope scope(cancel.get());
        sound->set_end(end);
        if (again) made->outcome = sound->seek(from);
        std::vector<float> samples;
        while (made->outcome && samples.size() < wanted && !made->end) {
            auto block = sound->next();
            if (!block) made->outcome = std::unexpected(block.error());
            else if (!*block) made->end = true;
            else samples.insert(samples.end(), (*block)->samples.begin(), (*block)->samples.end());
        }
        if (!stretcher) {
            made->samples = std::move(samples);
            return;
        }
        if (!samples.empty()) stretcher->process(samples, made->samples);
        if (made->end) stretcher->flush(made->samples);
    };
    sound_lane_->run(sound_cost, std::move(job), guarded([this, made, again, generation = sound_generation_] {
        if (generation != sound_generation_ || !voice_) return;
        sound_busy_ = false;
        if (!made->outcome) return fail_with(made->outcome.error());
        if (again) ++sound_lap_, sound_next_ = loop_from() + loop_length() * sound_lap_;
        sound_end_ = made->end;
        voice_->push(sound_next_, rate_, made->samples);
        sound_next_ += scaled(ticks_to_time(static_cast<std::int64_t>(made->samples.size() / 2), 1, mix_rate), rate_);
        if (sound_end_ && !looping()) {
            voice_->finish();
            sound_until_ = sound_next_;
            if (!duration_known_ && !pictures_) duration_ = fold(sound_until_), duration_known_ = true;
        }
        pump_sound();
        start_clock_if_ready();
        check_fed();
    }));
}

/// Media time runs from when the first sound is heard, or at once where there is none.
void Controller::Engine::start_clock_if_ready() {
    if (!want_run_ || clock_.running()) return;
    auto at = clock_.at(now());
    if (sound_ && voice_ && !sound_done_) {
        if (voice_->buffered() < sound_enough && !sound_end_ && !sound_master_) return;
        if (!sound_master_) {
            if (sound_end_ && voice_->buffered().ns == 0) {
                sound_done_ = true;  // sound ends before here
            } else {
                if (!armed_) voice_->start();
                sound_master_ = true;
                return;
            }
        } else {
            auto heard = voice_->heard(now());
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
    bool sound = !voice_ || voice_->buffered() >= sound_enough || sound_end_;
    bool pictures = !pictures_ || !items_.empty() || pictures_end_;
    if (sound && pictures) input(Input::fed);
}

void Controller::Engine::tick() {
    if (tick_timer_) env_.strand->cancel(std::exchange(tick_timer_, 0));
    if (!want_run_) return;
    auto t = now();
    if (voice_) env_.mixer->watch();
    if (!clock_.running()) {
        start_clock_if_ready();
    } else {
        if (sound_master_ && voice_) {
            if (auto heard = voice_->heard(t)) {
                clock_.follow(*heard, t);
                bool drained = sound_end_ && !looping() && *heard >= sound_until_ - 2_ms;
                if (drained) sound_master_ = false, sound_done_ = true, clock_.let_run(t);  // the monotonic clock goes on from here
            }
            if (next_voice_ && sound_end_ && (!pictures_ || pictures_end_)) {
                // Where the pictures go on for longer, the next one waits for their end.
                if (!pictures_ || pictures_until_ - sound_until_ <= 40_ms) voice_->then(next_voice_.get());
                handed_voice_ = std::exchange(next_voice_, nullptr);
            }
            if (voice_->starved() && !sound_end_) {
                note("starved", "sound ran out");
                input(Input::starved);
            }
        }
        if (pictures_ && !pictures_end_ && items_.empty() && !state_.seeking && !sound_) {
            if (starved_since_.ns == INT64_MAX) starved_since_ = t;
            if (t - starved_since_ > 250_ms && shown_ && clock_.at(t) > shown_at_ + shown_->duration + 250_ms) {
                note("starved", "no picture is ready");
                input(Input::starved);
            }
        } else {
            starved_since_ = {INT64_MAX};
        }
        if (auto lap = lap_of(clock_.at(t)); lap > seen_lap_) {
            seen_lap_ = lap;
            note("looped");
        }
        if (clock_.running()) schedule_picture();
        check_end(t);
    }
    pump();
    publish();
    if (want_run_ && !tick_timer_) tick_timer_ = env_.strand->at(t + tick_every, guarded([this] { tick(); }));
}

void Controller::Engine::check_end(Time t) {
    if (looping() || state_.phase != Phase::playing) return;
    if (pictures_ && (!pictures_end_ || !items_.empty())) return;
    if (sound_ && !sound_end_) return;
    Time end{};
    if (pictures_) end = std::max(end, pictures_until_);
    if (sound_) end = std::max(end, sound_until_);
    if (clock_.at(t) < end) {
        if (clock_.when(end) < t + tick_every) {
            if (tick_timer_) env_.strand->cancel(tick_timer_);
            tick_timer_ = env_.strand->at(clock_.when(end), guarded([this] { tick(); }));
        }
        return;
    }
    input(Input::reached_end);
    clock_.hold(end);
    if (!duration_known_ || duration_ > end + 1_s) duration_ = fold(end), duration_known_ = true;
    note("ended");
}

void Controller::Engine::schedule_picture() {
    if (picture_timer_) env_.strand->cancel(std::exchange(picture_timer_, 0));
    if (items_.empty() || !clock_.running()) return;
    auto due = std::max(clock_.when(items_.front().at), now());
    picture_timer_ = env_.strand->at(due, guarded([this] {
        picture_timer_ = 0;
        present_due();
    }));
}

/// Shows what is due. A late picture gives way to a later one that is due too; none comes before its time.
void Controller::Engine::present_due() {
    if (items_.empty()) return;
    bool first = shown_at_.ns == INT64_MIN;
    if (first || !clock_.running()) {
        // The first one after opening or seeking is shown as soon as it is there, whatever the clock does.
        if (first && items_.front().prepared) {
            auto item = std::move(items_.front());
            items_.pop_front();
            show(std::move(item), now());
            pump();
        }
        if (clock_.running()) schedule_picture();
        return;
    }
    auto t = now();
    auto media = clock_.at(t);
    auto refresh = env_.sink->refresh();
    while (!items_.empty() && items_.front().at <= media) {
        auto& front = items_.front();
        bool later_due = items_.size() > 1 && items_[1].at <= media;
        auto due = clock_.when(front.at);
        // Closer together than the display shows: some are left out on purpose.
        auto apart = items_.size() > 1 ? scaled(items_[1].at - front.at, 1 / rate_) : refresh;
        bool too_fast = refresh.ns > 0 && apart < refresh * 3 / 4;
        if (too_fast && t - last_shown_wall_ < refresh * 3 / 4) {
            ++counters_.skipped;
        } else if (refresh.ns > 0 && later_due && t - last_shown_wall_ < 250_ms) {
            ++(too_fast ? counters_.skipped : counters_.dropped);
        } else if (!front.prepared) {
            break;
        } else {
            auto item = std::move(front);
            items_.pop_front();
            show(std::move(item), due);
            continue;
        }
        items_.pop_front();
    }
    pump();
    schedule_picture();
}

void Controller::Engine::count_repeats(Time due) {
    auto refresh = env_.sink->refresh();
    if (refresh.ns > 0 && clock_.running() && last_due_.ns > 0) {
        auto refreshes = (due - last_due_ + refresh / 2).ns / refresh.ns;
        if (refreshes > 1 && refreshes < 1000) counters_.repeated += static_cast<std::uint64_t>(refreshes - 1);
    }
    last_due_ = clock_.running() ? due : Time{};
}

void Controller::Engine::show(Item item, Time due) {
    auto t = now();
    bool first = shown_at_.ns == INT64_MIN;
    shown_at_ = item.at;
    shown_ = item.picture;
    current_ = item.picture.pts;
    last_shown_wall_ = t;
    count_repeats(due);
    env_.sink->show(item.image, item.picture, due);
    if (!first_picture_) {
        first_picture_ = t;
        note("first-picture", {}, t - opened_at_, item.picture.pts);
    }
    if (env_.sink->reports_paint()) {
        if (unpainted_ && clock_.running() && !first) ++counters_.dropped;  // overtaken before it came to the screen
        unpainted_ = item.picture.pts;
        return;
    }
    ++counters_.presented;
    if (!clock_.running() || first) return;
    if (pacing_.size() < figures_kept) pacing_.push_back(std::abs((t - due).ns));
    measure_offset(item.at, t);
}

/// Sight against sound, both as they really come: the sound being heard when the picture is seen.
void Controller::Engine::measure_offset(Time picture, Time when) {
    if (!sound_master_ || !voice_ || offsets_.size() >= figures_kept) return;
    auto heard = voice_->heard(when);
    if (!heard) return;
    av_offset_ = *heard - picture;
    offsets_.push_back(av_offset_->ns);
}

void Controller::Engine::painted(Time pts, Time due, Time when) {
    if (!unpainted_ || *unpainted_ != pts) return;
    unpainted_.reset();
    ++counters_.presented;
    if (!clock_.running() || due.ns == 0) return;
    if (pacing_.size() < figures_kept) pacing_.push_back(std::abs((when - due).ns));
    if (shown_ && shown_->pts == pts) measure_offset(shown_at_, when);
}

void Controller::Engine::refresh() {
    if (!shown_ || !prepare_lane_) return;
    for (auto& item : items_) item.prepared = false;
    if (clock_.running()) return pump_prepare();
    auto image = std::make_shared<std::shared_ptr<const Image>>();
    auto job = [image, picture = *shown_, sink = env_.sink] { *image = sink->prepare(picture); };
    prepare_lane_->run({}, std::move(job), guarded([this, image, pts = shown_->pts, generation = generation_] {
        if (generation == generation_ && shown_ && shown_->pts == pts && !clock_.running()) env_.sink->show(*image, *shown_, {});
    }));
}

/// Looks again and again how far a clip on the network is here.
void Controller::Engine::measure_buffer() {
    if (!buffered_ || !buffer_lane_) return;
    struct Found { std::pair<Time, Time> range; std::vector<Cue> cues; };
    auto found = std::make_shared<Found>();
    auto* text = text_track_ && text_track_ < first_outside ? clip_->info().find(text_track_) : nullptr;
    auto job = [found, walk = buffered_, at = fold(media_now()), text = text ? std::optional(*text) : std::nullopt] {
        found->range = walk->around(at);
        if (text) found->cues = walk->captions(*text, at);
    };
    buffer_lane_->run({}, std::move(job), guarded([this, found, walk = buffered_, generation = text_generation_] {
        if (walk != buffered_) return;
        buffered_range_ = found->range;
        if (cues_ && generation == text_generation_ && !found->cues.empty()) {
            auto all = std::make_shared<Cues>(*cues_);
            for (auto& c : found->cues)
                if (std::none_of(all->list.begin(), all->list.end(), [&](auto& k) { return k.start == c.start && k.runs == c.runs; })) all->list.push_back(c);
            std::stable_sort(all->list.begin(), all->list.end(), [](auto& a, auto& b) { return a.start < b.start; });
            cues_ = std::move(all);
        }
        publish();
        buffer_timer_ = env_.strand->at(now() + 250_ms, guarded([this] {
            buffer_timer_ = 0;
            measure_buffer();
        }));
    }));
}

}  // namespace ruedo
