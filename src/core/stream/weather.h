// SPDX-License-Identifier: Apache-2.0
// How a link behaves over time: the same for a simulation, and for the service that has real sockets (host.h).
#pragma once
#include <functional>
#include <string>
#include <vector>

#include "base/result.h"
#include "base/bytes.h"
#include "base/time.h"
#include "media/streaming.h"

namespace ruedo::stream {

struct NetworkTrace {
    struct Step {
        Time from{};
        double bits_a_second = 0;  ///< 0 where nothing gets through.
    };
    std::string name, about;
    std::vector<Step> steps;  ///< By their beginnings; the first at 0.
    Time length{};            ///< Then it starts over.
    Time delay{};             ///< One way.
    Time jitter{};            ///< Added at random, up to this much.
    double refused = 0;       ///< Share of requests that are answered with status 503.

    double at(Time t) const;
    /// When so many bits, sent from `t` on, have all come through; `Time::max()` for never.
    Time done(Time t, double bits) const;
    /// How many bits come through between two moments.
    double bits(Time from, Time to) const;
    double mean() const;
    /// Fills in what `done` and `bits` count with; call after changing `steps`.
    void settle();

  private:
    std::vector<double> before_;  ///< Bits that came through before each step.
    double lap_ = 0;
};

/// Lines of seconds and Mbit/s, a comma between them; it ends where the last line begins plus as much as the line
/// before it lasted, and starts over. `malformed` names the line.
Result<NetworkTrace> network_trace_from_csv(ByteView text, const std::string& name);
/// Those that have names.
const std::vector<NetworkTrace>& network_traces();
/// One of those, or a file. `not-found` lists the names.
Result<NetworkTrace> find_network_trace(const std::string& name_or_file);

/// The weather as a link in virtual time that began when `now` was 0.
std::shared_ptr<const LinkModel> link_of(NetworkTrace network_trace, std::function<Time()> now);

/// `count` made links for measuring: a quarter each are steady, change in steps, go through tunnels, and are as noisy
/// as those of a moving phone. The same seed gives the same ones on any machine.
std::vector<NetworkTrace> synthetic_traces(std::size_t count, std::uint64_t seed);

}  // namespace ruedo::stream
