// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <algorithm>

#include "base/time.h"

namespace ruedo {

/// Media time over a strand's time. Held, it stands; running, it goes `rate` times as fast.
class MediaClock {
  public:
    void hold(Time media) { media_ = media, running_ = false; }
    void start(Time media, Time now) { media_ = media, wall_ = now, running_ = true; }
    void set_rate(double rate, Time now) {
        if (running_) media_ = at(now), wall_ = now;
        rate_ = rate;
    }
    /// Takes over what the master says; never backward.
    void follow(Time media, Time now) {
        media_ = std::max(media, at(now));
        wall_ = now;
    }
    bool running() const { return running_; }
    double rate() const { return rate_; }
    Time at(Time now) const { return running_ ? media_ + (rate_ == 1 ? now - wall_ : scaled(now - wall_, rate_)) : media_; }
    /// When `media` will be reached; a running clock only. Rounded up, so that it has been reached by then.
    Time when(Time media) const {
        auto ahead = media - media_;
        return wall_ + (rate_ == 1 ? ahead : scaled(ahead, 1 / rate_) + Time{1});
    }

  private:
    Time media_{}, wall_{};
    double rate_ = 1;
    bool running_ = false;
};

}  // namespace ruedo
