// SPDX-License-Identifier: Apache-2.0
// Which rung the next segment comes in: pure, without clock or network, so that it can be simulated (simulate.h) and
// tested. docs/streams.md tells how the rules compare.
#pragma once
#include <deque>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/time.h"

namespace ruedo::adapt {

/// What a link is expected to give, in bits a second.
struct Estimate {
    double mean = 0;  ///< 0 while nothing is known.
    double low = 0;   ///< It was seldom less, of late.
    bool known() const { return mean > 0; }
};

/// Learns from what was fetched. The harmonic mean, which counts slow moments for what they cost, of the last few
/// segments, newer ones more; `low` is less by the errors that the last forecasts had.
class Throughput {
  public:
    /// So many bytes took so long, the request's own delay included.
    void add(std::uint64_t bytes, Time took);
    Estimate now() const;
    /// Begins with what was known of the same link before.
    void expect(double bits_a_second);

  private:
    struct Sample {
        double bits, seconds;
    };
    std::deque<Sample> samples_;
    std::deque<double> errors_;  ///< Forecast over what came, less one.
    double prior_ = 0;
};

/// All that a decision rests on.
struct Situation {
    std::span<const double> bitrates;  ///< Of the rungs, ascending, in bits a second.
    std::span<const double> scores{};  ///< How good each looks, on any scale; empty where it is not known.
    Time segment{};                    ///< Length of the segment to be fetched.
    /// Bits of the k-th segment from here, 0 for the next, in a rung; where they are not known, length times bitrate.
    std::function<double(std::size_t rung, std::size_t k)> bits;
    std::size_t left = SIZE_MAX;  ///< Segments still to come, this one too.
    Time ahead{};                 ///< What is here beyond the place that plays.
    Time most_ahead{};            ///< No more than this is kept.
    Estimate throughput;
    std::optional<std::size_t> last;  ///< Rung of the segment before.
    std::size_t highest = SIZE_MAX;   ///< As many pixels as are shown need no rung above this one.
    /// What a segment in a rung is worth: as `adapt::worth` has it from the lowest to the highest, and between them by
    /// how good they look, where that is known.
    double worth(std::size_t rung) const;
    std::size_t top() const { return std::min(highest, bitrates.size() - 1); }
    double bits_of(std::size_t rung, std::size_t k = 0) const {
        return bits ? bits(rung, k) : bitrates[rung] * segment.seconds();
    }
};
struct RungChoice {
    std::size_t rung = 0;
    std::string why;  ///< "1.2 Mbit/s expected, 8 s ahead: the middle rung".
};

/// One rule. Keeps what it needs to know of earlier decisions; one for each run.
class Policy {
  public:
    virtual ~Policy() = default;
    virtual RungChoice choose(const Situation& situation) = 0;
};
/// "throughput", "buffer" or "lookahead"; nothing for any other name.
std::unique_ptr<Policy> make_policy(std::string_view name);
std::span<const std::string_view> policy_names();
inline constexpr std::string_view default_policy = "lookahead";

/// Whether a segment that is on its way in `rung` is given up for a lower one: `bits_left` of it are missing, and it
/// has been on its way for `since`. The rung to fetch instead.
std::optional<std::size_t> give_up_for(const Situation& situation, std::size_t rung, double bits_left,
                                       double bits_so_far, Time since);

/// What a run was worth: each segment shown counts 1 and the logarithm of its bitrate over the lowest one's; from that
/// goes what changes between neighbours, as the difference of their logarithms, and for every second of standing still
/// (waiting for the start too) the logarithm of the highest bitrate over the lowest, and 1.
struct Quality {
    double value = 0;
    void show(std::span<const double> bitrates, std::size_t rung, std::optional<std::size_t> before);
    void stall(std::span<const double> bitrates, Time length);
};
double worth(std::span<const double> bitrates, std::size_t rung);
double stall_cost(std::span<const double> bitrates);

}  // namespace ruedo::adapt
