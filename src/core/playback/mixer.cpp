// SPDX-License-Identifier: Apache-2.0
#include "playback/mixer.h"

#include <algorithm>
#include <cmath>

namespace ruedo {
namespace {
constexpr std::int64_t fade_frames = mix_rate * 5 / 1000;
const float level_fall = std::pow(0.01F, 1.0F / mix_rate);  // 40 dB in a second
constexpr float gain_step = 1.0F / (mix_rate * 10 / 1000);
}  // namespace

void DeviceClock::restart(Time now) {
    *this = {};
    base_ = last_seen_ = last_change_ = now;
}

void DeviceClock::observe(std::int64_t frames, std::int64_t supplied, Time now) {
    // Nobody looked for a while: the process stood still. The device may have as well, so its clock restarts from here.
    bool stood_still = now - last_seen_ > 100_ms;
    last_seen_ = now;
    if (frames != last_frames_ || stood_still) last_change_ = now;
    last_frames_ = frames;
    if (started_ && stood_still) {
        ahead_ = false;
        base_ = now;
        base_frames_ = static_cast<double>(frames);
        return;
    }
    if (frames <= supplied)
        ahead_ = false;
    else if (!std::exchange(ahead_, true))
        ahead_since_ = now;
    if (!started_) {
        if (frames <= 0) return;
        started_ = true;
        base_ = now;
        base_frames_ = static_cast<double>(frames);
        return;
    }
    // Proportional and integral: a tenth of the error at once, and the line's slope a little. The slope stays
    // within what quartz does; a device in trouble is noticed by standing still, not by following it.
    double predicted = base_frames_ + (now - base_).seconds() * mix_rate * slope_;
    double error = std::clamp(static_cast<double>(frames) - predicted, -4800.0, 4800.0);
    slope_ = std::clamp(slope_ + error * 2e-7, 0.998, 1.002);
    base_frames_ = predicted + error * 0.05;
    base_ = now;
}

double DeviceClock::frames_at(Time now) {
    if (!started_) return 0;
    double frames = base_frames_ + std::min((now - base_).seconds(), 0.2) * mix_rate * slope_;
    return given_ = std::max(given_, frames);
}

bool DeviceClock::stuck(Time now) const {
    if (!started_) return now - base_ > 1500_ms;
    return now - last_change_ > 200_ms || (ahead_ && now - ahead_since_ > 200_ms);
}

MixerInput::~MixerInput() {
    std::lock_guard lock(mixer_.mutex_);
    std::erase(mixer_.inputs_, this);
    for (auto* v : mixer_.inputs_)
        if (v->next_ == this) v->next_ = nullptr;
}

void MixerInput::push(Time pts, double rate, std::span<const float> samples) {
    if (samples.empty()) return;
    std::lock_guard lock(mixer_.mutex_);
    chunks_.push_back({pts, rate, {samples.begin(), samples.end()}});
    waiting_ += samples.size() / 2;
    starved_ = false;
}
void MixerInput::finish() {
    std::lock_guard lock(mixer_.mutex_);
    finished_ = true;
}
void MixerInput::start() {
    {
        std::lock_guard lock(mixer_.mutex_);
        running_ = true;
        fade_ = 0;
    }
    mixer_.strand_.post([guard = mixer_.guard_] {
        std::lock_guard lock(guard->mutex);
        if (guard->mixer) guard->mixer->begin();
    });
}
void MixerInput::clear() {
    std::lock_guard lock(mixer_.mutex_);
    if (running_ && tail_.empty()) {
        auto left = fade_frames;
        for (auto& chunk : chunks_)
            for (; chunk.at * 2 < chunk.samples.size() && left > 0; ++chunk.at, --left)
                for (std::size_t c = 0; c < 2; ++c)
                    tail_.push_back(chunk.samples[chunk.at * 2 + c] * gain_[c] * fade_ * static_cast<float>(left) /
                                    fade_frames);
    }
    next_ = nullptr;
    mixed_to_ = -1;
    chunks_.clear();
    marks_.clear();
    waiting_ = 0;
    running_ = finished_ = starved_ = false;
}
void MixerInput::cut(Time from) {
    std::lock_guard lock(mixer_.mutex_);
    finished_ = false;
    waiting_ = 0;
    for (auto it = chunks_.begin(); it != chunks_.end(); ++it) {
        auto keep = scaled(from - it->pts, 1 / it->rate);
        auto frames = keep.ns <= 0 ? 0 : static_cast<std::size_t>(time_to_ticks(keep, mix_rate));
        if (frames * 2 < it->samples.size()) {
            it->samples.resize(std::max(frames, it->at) * 2);
            waiting_ += it->samples.size() / 2 - it->at;
            chunks_.erase(it->samples.empty() ? it : it + 1, chunks_.end());
            return;
        }
        waiting_ += it->samples.size() / 2 - it->at;
    }
}
double MixerInput::level() const {
    std::lock_guard lock(mixer_.mutex_);
    return running_ ? std::min(1.0F, level_) : 0;
}
void MixerInput::set_gain(float left, float right) {
    std::lock_guard lock(mixer_.mutex_);
    target_ = {left, right};
    if (!running_) gain_ = target_;
}
Time MixerInput::buffered() const {
    std::lock_guard lock(mixer_.mutex_);
    return ticks_to_time(static_cast<std::int64_t>(waiting_), 1, mix_rate);
}
bool MixerInput::starved() const {
    std::lock_guard lock(mixer_.mutex_);
    return running_ && starved_ && !finished_;
}
std::optional<Time> MixerInput::heard(Time now) {
    std::lock_guard lock(mixer_.mutex_);
    double f = mixer_.heard_frames(now);
    while (marks_.size() > 1 && static_cast<double>(marks_[1].frame) <= f) marks_.pop_front();
    if (marks_.empty() || static_cast<double>(marks_.front().frame) > f) return std::nullopt;
    auto& m = marks_.front();
    double into = std::min(f - static_cast<double>(m.frame), static_cast<double>(m.length));
    return m.media + Time{static_cast<std::int64_t>(into * m.rate * 1e9 / mix_rate)};
}

void MixerInput::mark(std::int64_t frame, Time media, double rate, std::int64_t length) {
    {
        std::lock_guard lock(mixer_.mark_mutex_);
        if (!mixer_.first_mark_) mixer_.first_mark_ = {frame, media};
    }
    if (!marks_.empty()) {
        auto& m = marks_.back();
        auto expected =
            m.media + Time{static_cast<std::int64_t>(static_cast<double>(m.length) * m.rate * 1e9 / mix_rate)};
        auto off = (expected - media).ns;
        if (m.frame + m.length == frame && m.rate == rate && off < 100'000 && off > -100'000) {
            m.length += length;
            return;
        }
    }
    marks_.push_back({frame, media, rate, length});
}

void MixerInput::then(MixerInput* next) {
    std::lock_guard lock(mixer_.mutex_);
    next_ = next;
}

void MixerInput::mix(float* out, std::size_t frames, std::int64_t device_frame) {
    if (device_frame < mixed_to_) return;
    auto tail = std::min(tail_.size(), frames * 2);
    for (std::size_t i = 0; i < tail; ++i) out[i] += tail_[i];
    tail_.erase(tail_.begin(), tail_.begin() + static_cast<std::ptrdiff_t>(tail));
    if (!running_) return;
    level_ *= std::pow(level_fall, static_cast<float>(frames));
    std::size_t done = 0;
    while (done < frames && !chunks_.empty()) {
        auto& chunk = chunks_.front();
        auto n = std::min(frames - done, chunk.samples.size() / 2 - chunk.at);
        auto media =
            chunk.pts + Time{static_cast<std::int64_t>(static_cast<double>(chunk.at) * chunk.rate * 1e9 / mix_rate)};
        mark(device_frame + static_cast<std::int64_t>(done), media, chunk.rate, static_cast<std::int64_t>(n));
        for (std::size_t i = 0; i < n; ++i) {
            for (std::size_t c = 0; c < 2; ++c) {
                if (gain_[c] < target_[c]) gain_[c] = std::min(target_[c], gain_[c] + gain_step);
                if (gain_[c] > target_[c]) gain_[c] = std::max(target_[c], gain_[c] - gain_step);
            }
            if (fade_ < 1) fade_ = std::min(1.0F, fade_ + 1.0F / fade_frames);
            auto left = chunk.samples[2 * (chunk.at + i)] * gain_[0] * fade_,
                 right = chunk.samples[2 * (chunk.at + i) + 1] * gain_[1] * fade_;
            out[2 * (done + i)] += left, out[2 * (done + i) + 1] += right;
            level_ = std::max({level_, std::abs(left), std::abs(right)});
        }
        chunk.at += n;
        done += n;
        waiting_ -= n;
        if (chunk.at * 2 >= chunk.samples.size()) chunks_.pop_front();
    }
    if (done < frames && finished_ && next_) {
        // Handed over within the block, sample after sample; nothing fades.
        auto* next = std::exchange(next_, nullptr);
        next->running_ = true;
        next->fade_ = 1;
        next->mix(out + 2 * done, frames - done, device_frame + static_cast<std::int64_t>(done));
        next->mixed_to_ = device_frame + static_cast<std::int64_t>(frames);
    }
    if (done < frames) starved_ = true;
}

Mixer::Mixer(Strand& strand, std::function<std::unique_ptr<AudioDevice>()> device)
    : strand_(strand), guard_(std::make_shared<Guard>()), make_device_(std::move(device)), beside_(strand.worker()) {
    guard_->mixer = this;
}

Mixer::~Mixer() {
    {
        std::lock_guard lock(guard_->mutex);
        guard_->mixer = nullptr;
    }
    if (pulled_) {
        std::lock_guard lock(pulled_->mutex);
        pulled_->mixer = nullptr;
    }
    std::lock_guard lock(device_mutex_);
    if (device_) device_->stop();
    device_.reset();
}

std::shared_ptr<MixerInput> Mixer::add_input() {
    std::shared_ptr<MixerInput> mixer_input(new MixerInput(*this));
    std::lock_guard lock(mutex_);
    inputs_.push_back(mixer_input.get());
    return mixer_input;
}
std::uint64_t Mixer::on_change(std::function<void(const std::string&)> told) {
    std::lock_guard lock(mutex_);
    told_.emplace(next_listener_, std::move(told));
    return next_listener_++;
}
void Mixer::forget(std::uint64_t listener) {
    std::lock_guard lock(mutex_);
    told_.erase(listener);
}
void Mixer::on_mix(std::function<void(std::span<const float>, std::int64_t)> tap) {
    std::lock_guard lock(mutex_);
    tap_ = std::move(tap);
}
std::optional<std::pair<std::int64_t, Time>> Mixer::first_mark() const {
    std::lock_guard lock(mark_mutex_);
    return first_mark_;
}
std::string Mixer::device_name() const {
    std::lock_guard lock(mutex_);
    return name_;
}

void Mixer::pull(float* out, std::size_t frames) {
    std::lock_guard lock(mutex_);
    std::fill_n(out, frames * 2, 0.0F);
    for (auto* mixer_input : inputs_) mixer_input->mix(out, frames, mixed_);
    for (std::size_t i = 0; i < frames * 2; ++i) out[i] = std::clamp(out[i], -1.0F, 1.0F);
    if (tap_) tap_({out, frames * 2}, mixed_);
    mixed_ += static_cast<std::int64_t>(frames);
}

double Mixer::heard_frames(Time now) {
    return std::min(static_cast<double>(base_) + clock_.frames_at(now), static_cast<double>(mixed_));
}

void Mixer::begin() {
    std::lock_guard lock(device_mutex_);
    if (device_) return;
    auto device = make_device_ ? make_device_() : nullptr;
    bool real = device != nullptr;
    use(real ? std::move(device) : make_silent_device(strand_), real);
}

/// With `device_mutex_` held.
void Mixer::use(std::unique_ptr<AudioDevice> device, bool real) {
    auto now = strand_.now();
    std::vector<std::function<void(const std::string&)>> listeners;
    bool change = device_ != nullptr;
    if (pulled_) {
        std::lock_guard lock(pulled_->mutex);
        pulled_->mixer = nullptr;
    }
    {
        std::lock_guard lock(mutex_);
        // Sound that was mixed but not heard is lost with its device; its time goes on where it stood. A device
        // that takes over from the stand-in begins with what is mixed next.
        base_ = real ? mixed_ : static_cast<std::int64_t>(heard_frames(now));
        clock_.restart(now);
        real_ = real;
        next_try_ = now + 2_s;
    }
    if (device_) beside_->run({}, [old = std::move(device_)]() mutable { old->stop(), old.reset(); }, [] {});
    pulled_ = std::make_shared<Tap>();
    pulled_->mixer = this;
    auto pull_from = [tap = pulled_](float* out, std::size_t frames) {
        std::lock_guard lock(tap->mutex);
        if (tap->mixer)
            tap->mixer->pull(out, frames);
        else
            std::fill_n(out, frames * 2, 0.0F);
    };
    device_ = std::move(device);
    auto started = device_->start(pull_from);
    if (!started && real) {
        device_ = make_silent_device(strand_);
        real_ = false;
        (void)device_->start(pull_from);
    }
    std::string sentence;
    {
        std::lock_guard lock(mutex_);
        name_ = device_->describe();
        sentence = (change ? "sound goes on through " : "sound goes through ") + name_;
        for (auto& [id, told] : told_) listeners.push_back(told);
    }
    for (auto& told : listeners) told(sentence);
}

/// With the guard held: away from a device that was lost, or back to one if there is one again.
void Mixer::change(bool lost) {
    if (lost) return take_over(make_silent_device(strand_), false);
    auto found = std::make_shared<std::unique_ptr<AudioDevice>>();
    beside_->run(
        {}, [found, make = make_device_] { *found = make(); },
        [found, guard = guard_] {
            std::lock_guard lock(guard->mutex);
            if (guard->mixer) guard->mixer->take_over(std::move(*found), true);
        });
}
void Mixer::take_over(std::unique_ptr<AudioDevice> device, bool real) {
    std::lock_guard lock(device_mutex_);
    changing_ = false;
    if (device) use(std::move(device), real);
}

void Mixer::watch() {
    std::lock_guard lock(device_mutex_);
    auto now = strand_.now();
    // Once in a while is enough, however many are playing: each look corrects the clock a little.
    if (!device_ || now < next_watch_) return;
    next_watch_ = now + 9_ms;
    auto played = device_->played(now);
    bool failed = device_->failed();
    bool stuck, try_again;
    {
        std::lock_guard inner(mutex_);
        clock_.observe(played, mixed_ - base_, now);
        stuck = real_ && (failed || clock_.stuck(now));
        try_again = !real_ && make_device_ && now >= next_try_;
        if (try_again) next_try_ = now + 2_s;
    }
    if (changing_ || (!stuck && !try_again)) return;
    changing_ = true;
    strand_.post([guard = guard_, stuck] {
        std::lock_guard guarded(guard->mutex);
        if (guard->mixer) guard->mixer->change(stuck);
    });
}

}  // namespace ruedo
