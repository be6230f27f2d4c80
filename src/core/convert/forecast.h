// SPDX-License-Identifier: Apache-2.0
// When work will be over that goes through a clip from its beginning to its end.
#pragma once
#include <optional>
#include <vector>

#include "base/time.h"

namespace ruedo {

/// What of a clip is hard takes longer, and is where the source spent its bytes: how much longer is learned as the work
/// goes on, from a guess. Pure: times are the caller's. Not thread-safe.
class Forecast {
  public:
    /// Time goes with this power of the bytes, as encoders were seen to have it, before anything is learned.
    static constexpr double guess = 0.35;
    /// A stretch of the work: its share of the whole by length, and how many bytes the source has in a second there.
    struct Part {
        double share = 0, density = 1;
    };
    /// `parts` in the order in which they are gone through; without any, all is alike.
    explicit Forecast(std::vector<Part> parts = {});
    /// `done` of the whole by length, 0 to 1, at `now`; neither ever falls.
    void reached(double done, Time now);
    /// From the last `now` to the end; nothing before a little has been done.
    std::optional<Time> left() const;

  private:
    struct Step {
        double seconds = 0, at = 0;  ///< How long it took, and when it was over.
        double from = 0, to = 0;     ///< What was done in it.
    };
    /// What lies between two places costs, by an exponent.
    double cost(double from, double to, std::size_t exponent) const;
    std::vector<std::vector<double>> costs_;  ///< For each exponent, summed up to each part's end.
    std::vector<double> ends_;                ///< Of the parts, in what is done.
    std::vector<Step> steps_;
    double done_ = 0, begun_ = 0, now_ = 0, step_from_ = 0, step_at_ = 0;
    bool started_ = false;
};

}  // namespace ruedo
