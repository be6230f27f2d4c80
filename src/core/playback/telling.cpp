// SPDX-License-Identifier: Apache-2.0
// What the engine tells of itself: the snapshot that any thread may take, and the report at the end.
#include "playback/engine.h"

#include <fmt/format.h>

namespace ruedo {

void Controller::Engine::publish() {
    Snapshot s;
    s.state = state_;
    s.duration = duration_;
    s.duration_known = duration_known_;
    s.live = clip_ && clip_->info().live;
    s.seekable = places();
    s.has_video = pictures_ != nullptr;
    s.has_audio = audio_ != nullptr;
    s.buffered_from = fetched_ ? buffered_.from : Time{};
    s.buffered_to = fetched_ ? buffered_.to : duration_;
    s.decoded_to = fold(items_.empty() ? std::max(shown_at_, Time{}) : items_.back().at);
    s.sounded_to = fold(audio_next_);
    if (auto made = clip_ ? clip_->made() : std::nullopt) s.converted_to = made->to;
    s.shown = shown_ ? shown_->pts : Time{};
    if (clip_) {
        s.source = clip_->info().name;
        for (auto& f : clip_->info().findings) s.partial = s.partial || f.code == "truncated";
        s.partial = s.partial || cut_;
    } else {
        s.source = std::filesystem::path(source_).filename().string();
    }
    if (pictures_) {
        s.display_width = pictures_->track().video.display_width();
        s.display_height = pictures_->track().video.display_height();
    }
    s.edge = edge();
    s.pace = rate_ * pace_boost_;
    s.volume = volume_, s.muted = muted_, s.rate = rate_, s.loop = loop_;
    s.error = error_;
    s.counters = counters_;
    s.since = since_;
    s.frames_ahead = items_.size();
    s.audio_ahead = mixer_input_ ? mixer_input_->buffered() : Time{};
    s.av_offset = av_offset_;
    s.stream = stream_;
    if (stalled_since_.ns != INT64_MAX) s.counters.stalled += now() - stalled_since_;
    s.track_options = track_options_, s.cues = cues_, s.pictures = frame_times_;
    s.level = mixer_input_ ? mixer_input_->level() : 0;
    s.audio_track = audio_ ? audio_->track().id : 0, s.text_track = text_track_;
    bool moving = clock_.running();
    s.motion = moving ? Motion::moving
               : state_.intent == Intent::play && (state_.phase == Phase::playing || state_.phase == Phase::waiting ||
                                                   state_.phase == Phase::opening)
                   ? Motion::starved
                   : Motion::still;
    {
        std::lock_guard lock(published_mutex_);
        s.events = trace_.count();
        published_ = std::move(s);

        published_clock_ = clock_;
        published_at_ = now();
    }
    published_changed_.notify_all();
}

Snapshot Controller::Engine::snapshot() const {
    std::lock_guard lock(published_mutex_);
    auto s = published_;
    // While it runs this is published every few milliseconds; where it was not, the process stood still.
    auto u = published_clock_.at(std::min(env_.strand->now(), published_at_ + 100_ms));
    bool loops = s.loop.kind != Loop::Kind::none && s.state.phase != Phase::ended;
    auto from = s.loop.kind == Loop::Kind::range ? s.loop.from : Time{},
         to = s.loop.kind == Loop::Kind::range ? std::min(s.loop.to, s.duration) : s.duration;
    if (loops && to > from && u >= to) u = from + Time{(u - from).ns % (to - from).ns};
    s.position = std::max(Time{}, s.duration_known ? std::min(u, s.duration) : u);
    s.events = trace_.count();
    return s;
}

bool Controller::Engine::wait(const std::function<bool(const Snapshot&)>& done, Time deadline) {
    auto end = std::chrono::steady_clock::time_point(std::chrono::nanoseconds((monotonic_now() + deadline).ns));
    for (;;) {
        if (done(snapshot())) return true;
        std::unique_lock lock(published_mutex_);
        if (published_changed_.wait_until(
                lock, std::min(end, std::chrono::steady_clock::now() + std::chrono::milliseconds(20))) ==
                std::cv_status::timeout &&
            std::chrono::steady_clock::now() >= end) {
            lock.unlock();
            return done(snapshot());
        }
    }
}

PlaybackReport Controller::Engine::report() const {
    PlaybackReport r;
    r.snapshot = snapshot();
    if (clip_) r.stream = clip_->stream();
    auto spread = [](std::vector<std::int64_t> v) -> std::optional<Spread> {
        if (v.empty()) return std::nullopt;
        auto at = [&](double q) {
            return static_cast<double>(
                       v[std::min(v.size() - 1, static_cast<std::size_t>(q * static_cast<double>(v.size())))]) /
                   1e6;
        };
        std::sort(v.begin(), v.end());
        auto middle = at(0.5);
        // Too early is as wrong as too late, so the tail is that of the distances.
        for (auto& x : v) x = std::abs(x);
        std::sort(v.begin(), v.end());
        return Spread{middle, at(0.99), static_cast<double>(v.back()) / 1e6, v.size()};
    };
    r.av_offset_ms = audio_ || !offsets_.empty() ? spread(offsets_) : std::nullopt;
    r.pacing_ms = spread(pacing_);
    if (first_frame_) r.first_frame_ms = (*first_frame_ - opened_at_).ms();
    r.events = trace_.after(0);
    return r;
}

}  // namespace ruedo
