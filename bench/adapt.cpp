// SPDX-License-Identifier: Apache-2.0
// Rules of adaptation against whoever knew the weather beforehand.
#include <future>

#include "bench/rows.h"
#include "stream/simulate.h"

namespace ruedo::bench {
namespace {
struct Links {
    adapt::Ladder ladder = adapt::usual_ladder();
    std::vector<stream::NetworkTrace> network_traces = stream::synthetic_traces(100, 1);
    std::vector<double> optima;
    Links() {
        optima.resize(network_traces.size());
        auto every_other = [&](std::size_t i) {
            for (; i < network_traces.size(); i += 2) optima[i] = adapt::optimum(ladder, network_traces[i], 30_s, 1_s);
        };
        auto beside = std::async(std::launch::async, every_other, 1);
        every_other(0);
        beside.get();
    }
};
const Links& links() {
    static const Links all;
    return all;
}
/// Of the optimum, over a hundred links.
json share_row(std::string_view policy, double goal) {
    double sum = 0;
    for (std::size_t i = 0; i < links().network_traces.size(); ++i)
        sum += adapt::share(adapt::simulate(links().ladder, links().network_traces[i], policy).qoe, links().optima[i]);
    return row(sum / static_cast<double>(links().network_traces.size()), goal, "higher", "of the optimum",
               links().network_traces.size());
}
}  // namespace

json adapt_lookahead_row() { return share_row("lookahead", 0.9); }
/// The other two are there to be compared with: what they reach is held, so that a change shows.
json adapt_buffer_row() { return share_row("buffer", 0.85); }
json adapt_throughput_row() { return share_row("throughput", 0.65); }
/// Simulated time against the time it takes.
json adapt_speed_row() {
    Time simulated{};
    auto ms = ms_of([&] {
        for (auto& w : links().network_traces)
            simulated += adapt::simulate(links().ladder, w, adapt::default_policy).length;
    });
    return row(simulated.ms() / ms, 1000, "higher", "times real time", links().network_traces.size());
}

}  // namespace ruedo::bench
