// SPDX-License-Identifier: Apache-2.0
// A player on a link, without either: how a rule of adaptation does on a ladder in some weather, and how well anybody
// could have done who knew the weather beforehand.
#pragma once
#include "stream/adapt.h"
#include "stream/weather.h"

namespace ruedo::adapt {

/// What is to be played.
struct Ladder {
    std::vector<double> bitrates;  ///< Bits a second, ascending.
    Time segment{};
    std::size_t segments = 0;
    /// Bits of each segment of each rung; where it is empty, as the bitrate has it.
    std::vector<std::vector<double>> sizes;
    double bits(std::size_t rung, std::size_t k) const {
        return k < (rung < sizes.size() ? sizes[rung].size() : 0) ? sizes[rung][k] : bitrates[rung] * segment.seconds();
    }
};

struct Run {
    double qoe = 0;
    std::size_t stalls = 0, switches = 0;
    Time stalled{};  ///< After playing began.
    Time started{};  ///< When it began.
    double mean_bitrate = 0;
    Time length{};  ///< From the first request to the last picture.
};
/// Plays the whole ladder once.
Run simulate(const Ladder& ladder, const stream::NetworkTrace& network_trace, std::string_view policy,
             Time most_ahead = 30_s);
/// The offline optimum for a known trace: dynamic programming over segment, rung, time and standing
/// still; times are told apart by `grain`. What it finds can be played, so it is never more than is possible.
double optimum(const Ladder& ladder, const stream::NetworkTrace& network_trace, Time most_ahead = 30_s,
               Time grain = 500_ms);
/// What a run reached of the best: 1 where there was nothing to be had.
double share(double qoe, double best);
/// Whether the lowest rung plays through without standing still once it has begun.
bool sustained(const Ladder& ladder, const stream::NetworkTrace& network_trace, Time most_ahead = 30_s);

/// The ladder that measurements are made on: five rungs, five minutes.
Ladder usual_ladder();

}  // namespace ruedo::adapt
