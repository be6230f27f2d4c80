// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <algorithm>
#include <cstddef>
#include <cstdint>

namespace ruedo {

/// Keeps what an encoder makes in one pass to the bitrate that was asked for, by asking it for more or less than that:
/// by as much as it made too little or too much so far, and so that this is made up for within two seconds.
class SteeredRate {
  public:
    explicit SteeredRate(double asked) : asked_(asked), next_(asked) {}  ///< Bits per second.
    /// A frame of so many bytes that is shown for so long came out.
    void add(std::size_t bytes, double seconds) {
        made_ += 8.0 * static_cast<double>(bytes);
        wanted_ += asked_ * seconds, aimed_ += next_ * seconds;
        since_ += seconds;
    }
    /// What to ask for from now on, where that has changed: twice a second at most, not in the first one.
    bool changed() {
        if (since_ < 0.5 || wanted_ < asked_) return false;
        since_ = 0;
        auto bias = std::clamp(aimed_ / std::max(made_, 1.0), 0.5, 2.0);
        auto owed = 1 + (wanted_ - made_) / (2 * asked_);
        next_ = asked_ * std::clamp(bias * owed, 0.4, 2.5);
        return true;
    }
    double next() const { return next_; }  ///< Bits per second.

  private:
    double asked_, next_, made_ = 0, wanted_ = 0, aimed_ = 0, since_ = 0;
};

}  // namespace ruedo
