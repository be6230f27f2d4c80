// SPDX-License-Identifier: Apache-2.0
// States, calls, opening and seeking. The flow of pictures and sound is in flow.cpp.
#include "playback/engine.h"

#include <fmt/format.h>

namespace ruedo {
using machine::Effect;
using machine::Input;

Controller::Engine::Engine(Env env)
    : env_(std::move(env)), made_at_(env_.strand->now()), opened_at_(made_at_), since_(made_at_) {
    if (!env_.codecs) env_.codecs = &CodecRegistry::standard();
    if (!env_.sink) env_.sink = make_null_sink({});
    env_.stream.on_demand = env_.stream.on_demand || env_.strand->is_virtual();
}

Time Controller::Engine::fold(Time u) const {
    if (!looping() || u < loop_to()) return u;
    return loop_from() + Time{(u - loop_from()).ns % loop_length().ns};
}
int Controller::Engine::lap_of(Time u) const {
    if (!looping() || u < loop_to()) return 0;
    return static_cast<int>((u - loop_from()).ns / loop_length().ns);
}

void Controller::Engine::note(std::string_view name, std::string detail, std::optional<Time> took,
                              std::optional<Time> target) {
    Event e;
    e.wall = now() - trace_start();
    e.media = fold(media_now());
    e.name = name;
    e.detail = std::move(detail);
    e.took = took;
    e.target = target;
    e.pictures = items_.size();
    e.audio = mixer_input_ ? mixer_input_->buffered() : Time{};
    e.av_offset = av_offset_;
    if (auto made = clip_ ? clip_->made() : std::nullopt) e.made = made->to;
    publish();
    trace_.add(std::move(e));
}

void Controller::Engine::cancel_work() {
    stop_all_ = true;
    std::lock_guard lock(published_mutex_);
    for (auto* flag : {&cancel_, &audio_cancel_, &switch_cancel_, &text_cancel_, &buffer_cancel_, &list_cancel_})
        **flag = true;
}

void Controller::Engine::renew(CancelFlag& flag) {
    std::lock_guard lock(published_mutex_);
    *flag = true;
    flag = std::make_shared<std::atomic<bool>>(stop_all_.load());
}

/// A fault of ours: the source fails with words, the process goes on.
void Controller::Engine::fault(const std::string& what) {
    if (state_.phase == Phase::closed || state_.phase == Phase::failed) return;
    Error error{ErrorCode::internal,
                fmt::format("A fault inside, while playing “{}”: {}.",
                            std::filesystem::path(source_).filename().string(), what),
                "Open it again; if it happens twice, tell who made this app."};
    if (state_.phase == Phase::opening)
        opened(std::unexpected(std::move(error)));
    else
        fail_with(std::move(error));
}

void Controller::Engine::input(Input in, std::string_view detail) {
    auto before = state_;
    auto result = machine::step(state_, in);
    state_ = result.state;
    if (state_.phase != before.phase || state_.intent != before.intent) since_ = now();
    if (in == Input::starved && state_.phase == Phase::waiting && before.phase != Phase::waiting)
        ++counters_.stalls, stalled_since_ = now();
    else if (stalled_since_.ns != INT64_MAX && state_.phase != Phase::waiting)
        counters_.stalled += now() - std::exchange(stalled_since_, {INT64_MAX});
    bool is_call = static_cast<std::size_t>(in) < machine::call_count;
    bool refused = std::find(result.effects.begin(), result.effects.end(), Effect::refuse) != result.effects.end();
    if (refused) {
        note("refused", fmt::format("{}: {}", machine::name(in), machine::refusal(before, in)));
        return;
    }
    if (is_call)
        note("call", detail.empty() ? std::string(machine::name(in)) : fmt::format("{} {}", machine::name(in), detail));
    for (auto effect : result.effects) apply(effect);
    if (state_.phase != before.phase)
        note("state", std::string(machine::name(state_.phase)));
    else
        publish();
}

void Controller::Engine::apply(Effect effect) {
    switch (effect) {
        case Effect::open_source:
            open_source();
            break;
        case Effect::begin_seek:
            begin_seek();
            break;
        case Effect::queue_seek:
            // The one under way is given up where its answer is no longer wanted; while dragging it is shown.
            if (seeking_for_ && seeking_for_->mode == SeekMode::exact && wanted_ && wanted_->steps == 0)
                *cancel_ = true;
            break;
        case Effect::run:
            run();
            break;
        case Effect::halt:
            halt();
            break;
        case Effect::to_start:
            wanted_ = SeekRequest{loop_from(), SeekMode::exact, 0, now()};
            break;
        case Effect::release_all:
            let_go();
            break;
        case Effect::show_step:
        case Effect::refuse:
            break;
    }
}

void Controller::Engine::call(Input in) { input(in); }

void Controller::Engine::open(std::string source, OpenOptions options) {
    if (state_.phase == Phase::closed) return input(Input::open);
    source_ = std::move(source);
    options_ = options;
    volume_ = options.volume, muted_ = options.muted, rate_ = options.rate, loop_ = options.loop;
    clock_.set_rate(rate_, now());
    input(Input::open, std::filesystem::path(source_).filename().string());
    if (options.start.how == Start::How::play && state_.phase == Phase::opening) input(Input::play);
}

void Controller::Engine::seek(Time t, SeekMode mode) {
    auto window = clip_ ? places() : TimeRange{{}, Time::max()};
    if (!window) return note("refused", "seek: a live source has no other place");
    if (duration_known_ && duration_.ns > 0) t = std::min(t, duration_);
    t = std::clamp(t, window->from, std::max(window->from, window->to));
    if (looping()) t = std::min(t, loop_to() - 1_ns);
    SeekRequest w{std::max(t, Time{}), mode, 0, now()};
    if (machine::allowed(state_, Input::seek)) wanted_ = w;
    input(Input::seek, format_time(w.time));
}

void Controller::Engine::skip(Time by) {
    auto base = wanted_ && wanted_->steps == 0                               ? wanted_->time
                : seeking_for_ && state_.seeking && seeking_for_->steps == 0 ? seeking_for_->time
                                                                             : fold(media_now());
    seek(base + by, SeekMode::exact);
}

void Controller::Engine::step(int pictures) {
    if (pictures == 0 || !pictures_) {
        note("refused", "step: there are no pictures to step through");
        return;
    }
    if (only_now()) return note("refused", "step: a live source has no other place");
    if (machine::allowed(state_, Input::step)) {
        if (wanted_ && wanted_->steps != 0)
            wanted_->steps += pictures;
        else
            wanted_ = SeekRequest{{}, SeekMode::exact, pictures, now()};
    }
    input(Input::step, fmt::format("{:+}", pictures));
}

std::shared_ptr<MixerInput> Controller::Engine::arm() {
    armed_ = mixer_input_ != nullptr;
    input(Input::play);
    return mixer_input_;
}
void Controller::Engine::disarm() {
    if (!std::exchange(armed_, false)) {
        if (state_.intent == Intent::hold) input(Input::play);
        return;
    }
    if (mixer_input_ && want_run_) mixer_input_->start();
}

void Controller::Engine::reset_source() {
    ++generation_;
    ++audio_generation_;
    for (auto* flag : {&cancel_, &audio_cancel_, &switch_cancel_, &text_cancel_, &buffer_cancel_, &list_cancel_})
        renew(*flag);
    for (auto* timer : {&frame_timer_, &tick_timer_, &delay_timer_, &buffer_timer_})
        if (*timer) env_.strand->cancel(std::exchange(*timer, 0));
    if (mixer_input_) mixer_input_->clear();
    mixer_input_.reset(), next_input_.reset(), handed_input_.reset();
    armed_ = false;
    if (mixer_listener_) env_.mixer->forget(std::exchange(mixer_listener_, 0));
    video_worker_.reset(), audio_worker_.reset(), switch_worker_.reset(), prepare_worker_.reset(),
        buffer_worker_.reset(), text_worker_.reset(), list_worker_.reset();
    fetched_ = false, buffered_ = {}, starved_.reset(), stream_.reset(), stalled_since_ = {INT64_MAX};
    way_ = Way::all, leap_next_ = false, decoding_speed_ = 0, decoding_cost_ = {},
    no_leap_before_ = ticked_ = {INT64_MIN};
    altered_ = false;
    reset_pace_boost();
    cut_.reset(), audio_track_end_.reset();
    track_options_ = no_track_options(), cues_.reset(), frame_times_.reset();
    text_track_ = 0;
    ++text_generation_, ++audio_switch_, ++prepare_generation_, ++buffer_generation_, ++list_generation_;
    video_busy_ = audio_busy_ = prepare_busy_ = false;
    items_.clear();
    shown_.reset();
    current_.reset();
    shown_at_ = {INT64_MIN};
    pictures_.reset(), audio_.reset(), stretcher_.reset(), clip_.reset();
    wanted_.reset(), seeking_for_.reset();
    clock_.hold({});
    want_run_ = false;
    video_end_ = audio_end_ = false;
    audio_done_ = true, audio_master_ = false;
    video_lap_ = audio_lap_ = seen_lap_ = 0;
    duration_ = {}, duration_known_ = false;
    error_.reset();
    first_frame_.reset();
    av_offset_.reset();
    unpainted_.reset();
}

void Controller::Engine::let_go() {
    reset_source();
    env_.sink->clear();
    note("released");
}

void Controller::Engine::open_source() {
    reset_source();
    env_.sink->clear();
    counters_ = {};
    offsets_.clear(), pacing_.clear();
    opened_at_ = now();
    last_due_ = last_shown_wall_ = {INT64_MIN / 2};
    video_worker_ = env_.strand->worker();
    audio_worker_ = env_.strand->worker();
    prepare_worker_ = env_.strand->worker();
    auto job = [source = source_, language = options_.audio_language, codecs = env_.codecs, cancel = cancel_,
                from = loop_.kind == Loop::Kind::range ? std::optional(loop_.from) : std::nullopt,
                until = monotonic_now() + options_.open_within, open = env_.open_clip,
                stream = env_.stream]() -> Result<Playable> {
        ReadScope scope(cancel.get(), false, until);
        if (!open) return open_playable(source, *codecs, language, from, stream);
        RUEDO_TRY(auto clip, open(source));
        return open_playable(std::shared_ptr<Clip>(std::move(clip)), *codecs, language, from);
    };
    beside(*video_worker_, env_.costs.open, generation_, std::move(job),
           [this](Result<Playable> result) { opened(std::move(result)); });
}

void Controller::Engine::opened(Result<Playable> result) {
    if (!result) {
        if (result.error().code == ErrorCode::cancelled) return;
        error_ = result.error();
        video_worker_.reset(), audio_worker_.reset(), prepare_worker_.reset();
        note("error", error_->sentence);
        input(Input::open_failed);
        return;
    }
    auto& o = *result;
    clip_ = o.clip;
    pictures_ = std::move(o.pictures);
    audio_ = std::move(o.audio);
    duration_ = clip_->info().duration;
    duration_known_ = clip_->info().duration_known;
    playing_ = std::move(o.playing);
    fetched_ = clip_->fetched().has_value();
    if (fetched_) {
        buffer_worker_ = env_.strand->worker();
        measure_buffer();
    }
    if (audio_) {
        mixer_input_ = env_.mixer->add_input();
        audio_as_set();
        mixer_listener_ = env_.mixer->on_change([weak = weak_from_this()](const std::string& sentence) {
            auto self = weak.lock();
            if (!self) return;
            self->strand().post([weak, sentence] {
                if (auto engine = weak.lock()) engine->note("sound", sentence);
            });
        });
    }
    note("opened",
         fmt::format("{}, {}", clip_->info().container, duration_known_ ? format_time(duration_) : "length unknown"));
    made_places_ = 0;
    look_at_converter();
    look_at_news();
    list_track_options();
    if (lists_frames_) find_frames();
    choose_spoken();  // it may have been asked for while this was opened
    if (o.lacking) note(o.unseen ? "pictures-missing" : "sound-missing", o.lacking->sentence);
    for (auto& f : clip_->info().findings) note("finding", f.sentence);
    auto start = o.from;
    clock_.hold(start);
    if (shown_width_ > 0) clip_->shown_at(shown_width_, shown_height_);
    if (o.first) {
        items_.push_back(item_of(*o.first, o.first->pts));
        current_ = o.first->pts;
        pump_prepare();
    }
    if (wanted_ && !state_.queued) wanted_.reset();
    if (!state_.queued) prime_audio(start);
    input(Input::opened);
    if (options_.start.how == Start::How::delay && state_.phase == Phase::ready)
        delay_timer_ = env_.strand->at(now() + options_.start.delay, guarded([this] {
                                           delay_timer_ = 0;
                                           input(Input::start_due);
                                       }));
    pump();
}

void Controller::Engine::begin_seek() {
    auto wanted = wanted_.value_or(SeekRequest{fold(media_now()), SeekMode::exact, 0, now()});
    wanted_.reset();
    reset_pace_boost();
    seeking_for_ = wanted;
    if (frame_timer_) env_.strand->cancel(std::exchange(frame_timer_, 0));
    // A step forward may already be decoded.
    if (wanted.steps > 0 && current_) {
        while (!items_.empty() && items_.front().picture.pts <= *current_) items_.pop_front();
        if (items_.size() >= static_cast<std::size_t>(wanted.steps)) {
            items_.erase(items_.begin(), items_.begin() + wanted.steps - 1);
            auto picture = items_.front().picture;
            items_.pop_front();
            env_.strand->post(guarded([this, picture, wanted, generation = generation_] {
                if (generation == generation_) landed(std::optional(picture), wanted);
            }));
            return;
        }
    }
    items_.clear();
    ++generation_;
    video_busy_ = false;
    renew(cancel_);  // a read that waits for the network is of no use any more
    video_end_ = false;
    leap_next_ = false;
    if (!pictures_) {
        env_.strand->post(guarded([this, wanted, generation = generation_] {
            if (generation == generation_) landed(std::optional<Frame>{}, wanted);
        }));
        return;
    }
    auto from = current_.value_or(Time{});
    auto job = [pictures = pictures_, cancel = cancel_, wanted, from,
                end = looping() ? loop_to() : Time::max()]() -> Result<std::optional<Frame>> {
        pictures->set_sparing(false);
        if (wanted.steps == 0) {
            RUEDO_TRY(auto picture, wanted.mode == SeekMode::keyframe
                                        ? pictures->keyframe_near(wanted.time, cancel.get())
                                        : pictures->at(wanted.time, cancel.get()));
            return picture;
        }
        std::optional<Frame> picture;
        if (wanted.steps > 0) RUEDO_TRY_DO(pictures->at(from, cancel.get()));
        for (int left = wanted.steps; left > 0; --left) {
            RUEDO_TRY(auto next, pictures->next(cancel.get()));
            if (!next || next->pts >= end) break;
            picture = next;
        }
        auto at = from;
        for (int left = wanted.steps; left < 0; ++left) {
            if (at <= pictures->track().start) break;
            RUEDO_TRY(auto before, pictures->at(at - 1_ns, cancel.get()));
            at = before.pts;
            picture = before;
        }
        if (!picture) {
            RUEDO_TRY(picture, pictures->at(from, cancel.get()));
        }
        return picture;
    };
    beside(*video_worker_, env_.costs.seek, generation_, std::move(job),
           [this, wanted](Result<std::optional<Frame>> result) { landed(std::move(result), wanted); });
}

void Controller::Engine::landed(Result<std::optional<Frame>> result, SeekRequest wanted) {
    if (!state_.seeking) return;
    if (!result && result.error().code == ErrorCode::cancelled && state_.queued) {
        note("seek-dropped", "a newer one is wanted", now() - wanted.asked, wanted.time);
        input(Input::landed);
        return;
    }
    if (!result) {
        if (result.error().code != ErrorCode::cancelled) fail_with(result.error());
        return;
    }
    Time at = wanted.time;
    if (*result && (wanted.steps != 0 || wanted.mode == SeekMode::keyframe || (*result)->pts > at)) at = (*result)->pts;
    video_lap_ = seen_lap_ = 0;
    clock_.hold(at);
    shown_at_ = {INT64_MIN};
    if (*result) {
        items_.push_front(item_of(**result, (*result)->pts));
        current_ = (*result)->pts;
    }
    seeking_for_ = wanted;
    note("seek",
         wanted.steps                        ? "step"
         : wanted.mode == SeekMode::keyframe ? "to a keyframe"
                                             : "exact",
         now() - wanted.asked, at);
    look_at_converter();
    if (!state_.queued) prime_audio(at);
    input(Input::landed);
    pump();
}

void Controller::Engine::run() {
    if (only_now() && !audio_) items_.clear();  // what waited through a pause is old
    want_run_ = true;
    starved_since_ = ticked_ = {INT64_MAX};
    if (audio_ && audio_generation_ == 0) prime_audio(media_now());
    tick();
}

void Controller::Engine::halt() {
    auto at = media_now();
    bool was_running = clock_.running();
    armed_ = false;
    clock_.hold(at);
    if (state_.intent == Intent::hold) reset_pace_boost();
    want_run_ = false;
    if (frame_timer_) env_.strand->cancel(std::exchange(frame_timer_, 0));
    if (tick_timer_) env_.strand->cancel(std::exchange(tick_timer_, 0));
    // What was decoded ahead was mixed ahead too: sound is laid out again from what was heard last.
    bool again = state_.phase == Phase::paused || state_.phase == Phase::waiting;
    if (mixer_input_ && (was_running || !again)) {
        mixer_input_->clear();
        if (again && !state_.seeking) prime_audio(at);
    }
    if (state_.phase == Phase::failed) {
        items_.clear();
        ++generation_;
    }
}

void Controller::Engine::fail_with(Error error) {
    error_ = std::move(error);
    note("error", error_->sentence);
    input(Input::broke);
    env_.sink->clear();
}

}  // namespace ruedo
