// SPDX-License-Identifier: Apache-2.0
#include "stream/simulate.h"

#include <algorithm>
#include <cmath>
#include <unordered_map>

namespace ruedo::adapt {
using stream::NetworkTrace;
namespace {

/// Where a run stands between two segments.
struct Moment {
    Time now{};      ///< Wall time.
    Time stalled{};  ///< All standing still, the wait for the start too.
    Time ahead{};
};
/// A segment has come at `at`: what was played meanwhile, and how long nothing could be.
void come(Moment& m, Time at, Time segment) {
    auto took = at - m.now;
    auto stall = std::max(Time{}, took - m.ahead);
    m.stalled += stall;
    m.ahead = std::max(Time{}, m.ahead - took) + segment;
    m.now = at;
}
/// No more than this is kept: until there is room, it plays.
void make_room(Moment& m, Time segment, Time most) {
    auto wait = std::max(Time{}, m.ahead + segment - most);
    m.now += wait, m.ahead -= wait;
}
Time arrival(const NetworkTrace& w, Time asked, double bits) { return w.done(asked + w.delay * 2, bits); }

}  // namespace

Ladder usual_ladder() { return {{400e3, 800e3, 1.5e6, 2.7e6, 4.5e6}, 4_s, 75, {}}; }

Run simulate(const Ladder& ladder, const NetworkTrace& network_trace, std::string_view name, Time most_ahead) {
    auto policy = make_policy(name);
    Throughput throughput;
    Moment m;
    Run run;
    Quality quality;
    double bits_in_all = 0;
    std::optional<std::size_t> last;
    for (std::size_t k = 0; k < ladder.segments; ++k) {
        make_room(m, ladder.segment, most_ahead);
        Situation s;
        s.bitrates = ladder.bitrates, s.segment = ladder.segment;
        s.bits = [&](std::size_t rung, std::size_t i) { return ladder.bits(rung, k + i); };
        s.left = ladder.segments - k;
        s.ahead = m.ahead, s.most_ahead = most_ahead, s.throughput = throughput.now(), s.last = last;
        auto rung = policy->choose(s).rung;
        auto asked = m.now;
        for (;;) {
            auto bits = ladder.bits(rung, k);
            auto done = arrival(network_trace, asked, bits);
            // Sampled while it arrives, as the real one is.
            std::optional<std::size_t> instead;
            auto t = asked + 500_ms;
            for (; rung > 0 && t < done && !instead; t += 250_ms) {
                auto begun = asked + network_trace.delay * 2;
                auto so_far = t > begun ? network_trace.bits(begun, t) : 0;
                auto then = s;
                then.ahead = std::max(Time{}, m.ahead - (t - m.now));
                instead = give_up_for(then, rung, bits - so_far, so_far, t - asked);
                if (instead) {
                    throughput.add(static_cast<std::uint64_t>(so_far / 8) + 1, t - asked);
                    break;
                }
            }
            if (instead) {
                rung = *instead, asked = t;
                continue;
            }
            throughput.add(static_cast<std::uint64_t>(bits / 8), done - asked);
            auto before = m.stalled;
            come(m, done, ladder.segment);
            if (k == 0)
                run.started = m.stalled;
            else if (m.stalled > before)
                ++run.stalls;
            bits_in_all += bits;
            break;
        }
        quality.show(ladder.bitrates, rung, last);
        if (last && *last != rung) ++run.switches;
        last = rung;
    }
    quality.stall(ladder.bitrates, m.stalled);
    run.qoe = quality.value;
    run.stalled = m.stalled - run.started;
    run.mean_bitrate = bits_in_all / (ladder.segment * static_cast<std::int64_t>(ladder.segments)).seconds();
    run.length = m.now + m.ahead;
    return run;
}

double share(double qoe, double best) { return best > 1 ? std::max(0.0, qoe) / best : qoe >= best - 1 ? 1 : 0; }

bool sustained(const Ladder& ladder, const NetworkTrace& network_trace, Time most_ahead) {
    Moment m;
    Time began{};
    for (std::size_t k = 0; k < ladder.segments; ++k) {
        make_room(m, ladder.segment, most_ahead);
        come(m, arrival(network_trace, m.now, ladder.bits(0, k)), ladder.segment);
        if (k == 0) began = m.stalled;
    }
    return m.stalled == began;
}

double optimum(const Ladder& ladder, const NetworkTrace& network_trace, Time most_ahead, Time grain) {
    struct State {
        Moment moment;
        double value = 0;
    };
    auto n = ladder.bitrates.size();
    auto cost = stall_cost(ladder.bitrates);
    auto most_worth = worth(ladder.bitrates, n - 1);
    // What any run reaches is a floor: what can't come up to it any more is let go.
    double floor = -1e300;
    for (auto name : policy_names()) floor = std::max(floor, simulate(ladder, network_trace, name, most_ahead).qoe);
    using Key = std::uint64_t;
    std::vector<std::unordered_map<Key, State>> now(n), next(n);
    bool first = true;
    for (std::size_t k = 0; k < ladder.segments; ++k) {
        for (auto& m : next) m.clear();
        auto rest = static_cast<double>(ladder.segments - k - 1) * most_worth;
        auto put = [&](const State& from, std::optional<std::size_t> last) {
            auto m = from.moment;
            make_room(m, ladder.segment, most_ahead);
            for (std::size_t r = 0; r < n; ++r) {
                auto to = m;
                auto before = to.stalled;
                come(to, arrival(network_trace, m.now, ladder.bits(r, k)), ladder.segment);
                auto value = from.value + worth(ladder.bitrates, r) - cost * (to.stalled - before).seconds();
                if (last) value -= std::abs(worth(ladder.bitrates, r) - worth(ladder.bitrates, *last));
                if (value + rest < floor) continue;
                auto key = static_cast<Key>(to.now.ns / grain.ns) << 24 | static_cast<Key>(to.ahead.ns / grain.ns);
                auto [it, is_new] = next[r].try_emplace(key, State{to, value});
                if (!is_new && it->second.value < value) it->second = {to, value};
            }
        };
        if (std::exchange(first, false))
            put({}, std::nullopt);
        else
            for (std::size_t r = 0; r < n; ++r)
                for (auto& [key, state] : now[r]) put(state, r);
        std::swap(now, next);
    }
    double best = floor;
    for (auto& states : now)
        for (auto& [key, state] : states) best = std::max(best, state.value);
    return best;
}

}  // namespace ruedo::adapt
