// SPDX-License-Identifier: Apache-2.0
// What is set while it plays: how loud, how fast, and what is repeated.
#include <fmt/format.h>

#include "playback/engine.h"

namespace ruedo {
using machine::Input;

void Controller::Engine::set_volume(double volume, bool muted) {
    volume_ = std::clamp(volume, 0.0, 1.0);
    muted_ = muted;
    audio_as_set();
    note("volume", muted_ ? fmt::format("{:.2f}, muted", volume_) : fmt::format("{:.2f}", volume_));
}

void Controller::Engine::set_place(double left, double right) {
    place_ = {left, right};
    audio_as_set();
}
void Controller::Engine::set_ducked(double part) {
    ducked_ = std::clamp(part, 0.0, 1.0);
    audio_as_set();
}
void Controller::Engine::shown_at(int width, int height) {
    shown_width_ = width, shown_height_ = height;
    if (clip_) clip_->shown_at(width, height);
}
void Controller::Engine::audio_as_set() {
    auto gain = muted_ ? 0 : gain_of(volume_) * static_cast<float>(ducked_);
    if (mixer_input_)
        mixer_input_->set_gain(gain * static_cast<float>(place_[0]), gain * static_cast<float>(place_[1]));
}

void Controller::Engine::set_rate(double rate) {
    rate = std::clamp(rate, 0.25, 4.0);
    if (rate == rate_) return;
    auto was_running = clock_.running() || want_run_;
    rate_ = rate;
    if (audio_ && state_.phase != Phase::closed) {
        // Sound is made anew at the new speed from where it is heard; pictures go on with it.
        auto at = media_now();
        clock_.hold(at);
        clock_.set_rate(rate, now());
        prime_audio(at);
        want_run_ = was_running;
        if (was_running) tick();
    } else {
        clock_.set_rate(rate, now());
        schedule_frame();
    }
    note("rate", fmt::format("{:.2f}", rate_));
}

void Controller::Engine::set_loop(Loop loop) {
    if (loop == loop_) return;
    auto at = fold(media_now()), shown_at = fold(shown_at_);
    bool begun = state_.phase == Phase::playing || state_.phase == Phase::waiting || state_.phase == Phase::paused;
    bool beyond = lap_of(media_now()) > 0 || video_lap_ > 0 || audio_lap_ > 0 || (begun && audio_end_);
    bool looped = looping(), range = looped && loop_.kind == Loop::Kind::range;
    loop_ = loop;
    range = range || (looping() && loop.kind == Loop::Kind::range);
    if (looping() && at >= loop_to()) at = loop_from();
    note("loop", loop.kind == Loop::Kind::none ? "off"
                 : loop.kind == Loop::Kind::all
                     ? "all"
                     : fmt::format("{} to {}", format_time(loop.from), format_time(loop.to)));
    // Times on the unrolled timeline mean something else now, so begin a new one here. What was read for the old one
    // is of no use any more, that which is on its way neither. What has ended has none until it is played again.
    bool anew = range || (beyond && (looped || looping()));
    if (anew && clip_ && state_.phase != Phase::opening && state_.phase != Phase::ended) {
        if (clock_.running())
            clock_.start(at, now());
        else
            clock_.hold(at);
        seen_lap_ = 0, shown_at_ = shown_at;
        ++audio_generation_;
        audio_busy_ = true;  // until the seek primes it
        if (mixer_input_) mixer_input_->clear(), begin_audio_at(at);
        if (!state_.seeking && machine::allowed(state_, Input::seek)) seek(at, SeekMode::exact);
    }
    pump();
}

}  // namespace ruedo
