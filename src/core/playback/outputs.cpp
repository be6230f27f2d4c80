// SPDX-License-Identifier: Apache-2.0
#include "playback/outputs.h"

#include <cubeb/cubeb.h>

#include <condition_variable>
#include <mutex>
#include <set>
#include <string>
#include <thread>

namespace ruedo {
namespace {

struct Outputs {
    std::set<std::string> all;
    std::string preferred;
};

class ServerOutputs final : public OutputWatch {
  public:
    explicit ServerOutputs(std::function<void(std::string_view)> told) : told_(std::move(told)) {}
    ~ServerOutputs() override {
        if (watched_) cubeb_register_device_collection_changed(context_, CUBEB_DEVICE_TYPE_OUTPUT, nullptr, nullptr);
        {
            std::lock_guard lock(mutex_);
            stop_ = true;
        }
        changed_.notify_all();
        if (thread_.joinable()) thread_.join();
        if (context_) cubeb_destroy(context_);
    }
    bool begin() {
        if (cubeb_init(&context_, "ruedo outputs", "pulse-rust") != CUBEB_OK &&
            cubeb_init(&context_, "ruedo outputs", "pulse") != CUBEB_OK)
            return false;
        if (std::string_view(cubeb_get_backend_id(context_)).rfind("pulse", 0) != 0) return false;
        now_ = list();
        // The server’s own thread may not ask it anything.
        auto says = [](cubeb*, void* self) { static_cast<ServerOutputs*>(self)->wake(); };
        watched_ = cubeb_register_device_collection_changed(context_, CUBEB_DEVICE_TYPE_OUTPUT, says, this) == CUBEB_OK;
        if (!watched_) return false;
        thread_ = std::thread([this] { run(); });
        return true;
    }

  private:
    void wake() {
        {
            std::lock_guard lock(mutex_);
            ++said_;
        }
        changed_.notify_all();
    }
    Outputs list() {
        Outputs outputs;
        cubeb_device_collection found{};
        if (cubeb_enumerate_devices(context_, CUBEB_DEVICE_TYPE_OUTPUT, &found) != CUBEB_OK) return outputs;
        for (std::size_t i = 0; i < found.count; ++i) {
            auto& d = found.device[i];
            if (!d.device_id || d.state != CUBEB_DEVICE_STATE_ENABLED) continue;
            outputs.all.insert(d.device_id);
            if (d.preferred != CUBEB_DEVICE_PREF_NONE) outputs.preferred = d.device_id;
        }
        cubeb_device_collection_destroy(context_, &found);
        return outputs;
    }
    void run() {
        std::uint64_t seen = 0;
        std::unique_lock lock(mutex_);
        for (;;) {
            // Servers announce devices, not always which one is the default.
            bool said = changed_.wait_for(lock, std::chrono::seconds(2), [&] { return stop_ || said_ != seen; });
            // One that goes and the choice of another one are two words of one thing.
            if (said) changed_.wait_for(lock, std::chrono::milliseconds(200), [&] { return stop_; });
            if (stop_) return;
            seen = said_;
            lock.unlock();
            auto now = list();
            bool gone = !now_.preferred.empty() && !now.all.contains(now_.preferred);
            bool other = now.preferred != now_.preferred && !now.preferred.empty();
            now_ = std::move(now);
            if (gone || other) told_(gone ? "unplug" : "output-changed");
            lock.lock();
        }
    }
    std::function<void(std::string_view)> told_;
    cubeb* context_ = nullptr;
    bool watched_ = false;
    Outputs now_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::uint64_t said_ = 0;
    bool stop_ = false;
    std::thread thread_;
};
}  // namespace

std::unique_ptr<OutputWatch> OutputWatch::start(std::function<void(std::string_view)> told) {
    auto watch = std::make_unique<ServerOutputs>(std::move(told));
    return watch->begin() ? std::move(watch) : nullptr;
}

}  // namespace ruedo
