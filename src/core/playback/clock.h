// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <algorithm>

#include "base/time.h"

namespace ruedo {

/// Media time over a strand's time. Held, it stands; running, it goes `rate` times as fast, and a little faster or
/// slower while it comes round to what its master says.
class MediaClock {
  public:
    void hold(Time media) { media_ = media, running_ = false, slew_ = 1; }
    void start(Time media, Time now) { media_ = media, wall_ = now, running_ = true, slew_ = 1; }
    void set_rate(double rate, Time now) {
        if (running_) media_ = at(now), wall_ = now;
        rate_ = rate;
    }
    /// Comes round to what the master says within some 200 ms; never backward, never by a jump.
    void follow(Time media, Time now) {
        media_ = at(now);
        wall_ = now;
        slew_ = std::clamp(1 + static_cast<double>((media - media_).ns) / (2e8 * rate_), 0.5, 2.0);
    }
    /// Goes on by itself, at exactly its rate.
    void let_run(Time now) { media_ = at(now), wall_ = now, slew_ = 1; }
    bool running() const { return running_; }
    double rate() const { return rate_; }
    Time at(Time now) const { return running_ ? media_ + grown(now - wall_, rate_ * slew_) : media_; }
    /// When `media` will be reached; a running clock only. Rounded up, so that it has been reached by then.
    Time when(Time media) const {
        return wall_ + grown(media - media_, 1 / (rate_ * slew_)) + Time{rate_ * slew_ == 1 ? 0 : 1};
    }

  private:
    static Time grown(Time t, double factor) { return factor == 1 ? t : scaled(t, factor); }
    Time media_{}, wall_{};
    double rate_ = 1, slew_ = 1;
    bool running_ = false;
};

}  // namespace ruedo
