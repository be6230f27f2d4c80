// SPDX-License-Identifier: Apache-2.0
#include <cubeb/cubeb.h>

#include <atomic>
#include <cmath>

#include "playback/mixer.h"

namespace ruedo {
namespace {

/// The sound server, through cubeb.
class ServerDevice final : public AudioDevice {
  public:
    static std::unique_ptr<AudioDevice> make() {
        auto d = std::make_unique<ServerDevice>();
        if (cubeb_init(&d->context_, "ruedo", "pulse-rust") != CUBEB_OK &&
            cubeb_init(&d->context_, "ruedo", "pulse") != CUBEB_OK)
            return nullptr;
        std::string backend = cubeb_get_backend_id(d->context_);
        if (backend.rfind("pulse", 0) != 0) return nullptr;  // other back ends here lose time without saying so
        cubeb_stream_params params{CUBEB_SAMPLE_FLOAT32NE, mix_rate, mix_channels, CUBEB_LAYOUT_STEREO,
                                   CUBEB_STREAM_PREF_NONE};
        uint32_t latency = 0;
        if (cubeb_get_min_latency(d->context_, &params, &latency) != CUBEB_OK) latency = 1200;
        latency = std::max<uint32_t>(latency, 1440);
        if (cubeb_stream_init(d->context_, &d->stream_, "playback", nullptr, nullptr, nullptr, &params, latency, data,
                              state, d.get()) != CUBEB_OK)
            return nullptr;
        return d;
    }
    ~ServerDevice() override {
        stop();
        if (stream_) cubeb_stream_destroy(stream_);
        if (context_) cubeb_destroy(context_);
    }
    Status start(Pull pull) override {
        pull_ = std::move(pull);
        if (cubeb_stream_start(stream_) != CUBEB_OK)
            return fail(ErrorCode::io, "The sound device could not be started.");
        return {};
    }
    void stop() override {
        if (stream_) cubeb_stream_stop(stream_);
    }
    std::int64_t played(Time) override {
        uint64_t position = 0;
        return cubeb_stream_get_position(stream_, &position) == CUBEB_OK ? static_cast<std::int64_t>(position) : 0;
    }
    bool failed() const override { return failed_; }
    std::string describe() const override { return "the sound server"; }

  private:
    static long data(cubeb_stream*, void* user, const void*, void* out, long frames) {
        static_cast<ServerDevice*>(user)->pull_(static_cast<float*>(out), static_cast<std::size_t>(frames));
        return frames;
    }
    static void state(cubeb_stream*, void* user, cubeb_state state) {
        if (state == CUBEB_STATE_ERROR) static_cast<ServerDevice*>(user)->failed_ = true;
    }
    cubeb* context_ = nullptr;
    cubeb_stream* stream_ = nullptr;
    Pull pull_;
    std::atomic<bool> failed_ = false;
};

class SilentDevice final : public AudioDevice {
  public:
    SilentDevice(Strand& strand, double drift_ppm) : strand_(strand), speed_(1 + drift_ppm * 1e-6) {}
    ~SilentDevice() override { stop(); }
    Status start(Pull pull) override {
        state_ = std::make_shared<State>();
        state_->pull = std::move(pull);
        state_->started = state_->ticked = strand_.now();
        state_->speed = speed_;
        tick(strand_, state_);
        return {};
    }
    void stop() override {
        if (!state_) return;
        std::lock_guard lock(state_->mutex);
        state_->stopped = true;
    }
    std::int64_t played(Time now) override {
        std::lock_guard lock(state_->mutex);
        return std::min(state_->supplied, elapsed(*state_, now));
    }
    std::string describe() const override { return "a silent stand-in"; }

  private:
    struct State {
        std::mutex mutex;
        Pull pull;
        Time started{}, ticked{};
        double speed = 1;
        std::int64_t supplied = 0;
        bool stopped = false;
        std::vector<float> buffer;
    };
    static std::int64_t elapsed(const State& s, Time now) {
        return static_cast<std::int64_t>(std::floor((now - s.started).seconds() * mix_rate * s.speed));
    }
    static void tick(Strand& strand, std::shared_ptr<State> state) {
        auto now = strand.now();
        {
            std::lock_guard lock(state->mutex);
            if (state->stopped) return;
            // As with a real device, nothing is heard while the process stands still.
            if (now - state->ticked > 100_ms) state->started += now - state->ticked - 10_ms;
            state->ticked = now;
            // Two ticks of lead, so that a late tick leaves no hole.
            auto wanted = elapsed(*state, now) + mix_rate / 50;
            auto n = std::min<std::int64_t>(wanted - state->supplied, mix_rate);
            if (n > 0) {
                state->buffer.resize(static_cast<std::size_t>(n) * 2);
                state->pull(state->buffer.data(), static_cast<std::size_t>(n));
                state->supplied += n;
            }
        }
        strand.at(now + 10_ms, [&strand, state = std::move(state)]() mutable { tick(strand, std::move(state)); });
    }
    Strand& strand_;
    double speed_;
    std::shared_ptr<State> state_;
};

}  // namespace

std::unique_ptr<AudioDevice> make_server_device() { return ServerDevice::make(); }
std::unique_ptr<AudioDevice> make_silent_device(Strand& strand, double drift_ppm) {
    return std::make_unique<SilentDevice>(strand, drift_ppm);
}

}  // namespace ruedo
