// SPDX-License-Identifier: Apache-2.0
// What rows are made of.
#pragma once
#include <algorithm>
#include <nlohmann/json.hpp>
#include <vector>

#include "base/time.h"

namespace ruedo::bench {
using nlohmann::json;

inline json row(double ratio, double goal, const char* better, const char* unit, std::size_t samples) {
    return {{"ratio", ratio}, {"goal", goal}, {"better", better}, {"unit", unit}, {"samples", samples}};
}
inline double median(std::vector<double> v) {
    std::sort(v.begin(), v.end());
    return v.empty() ? 0 : v[v.size() / 2];
}
/// Where no more than `bound` can be had, whatever is done, the row says so; its goal stands.
inline json bounded(json made, double bound) {
    made["bound"] = bound;
    return made;
}
inline bool met(const json& r) { return r["better"] == "higher" ? r["ratio"] >= r["goal"] : r["ratio"] <= r["goal"]; }
template <class F>
double ms_of(F&& f) {
    auto begin = monotonic_now();
    f();
    return (monotonic_now() - begin).ms();
}

/// By how much the middle half of the ratios differs, as a share of their median.
inline double spread(std::vector<double> v) {
    if (v.size() < 4) return 0;
    std::sort(v.begin(), v.end());
    auto middle = median(v);
    return middle > 0 ? (v[v.size() * 3 / 4] - v[v.size() / 4]) / middle : 0;
}
/// Beyond this a machine that halts, or has other guests, was measured rather than what runs on it.
constexpr double most_spread = 0.3;

/// What every row is made of: the median over pairs, taken one right after the other. Of many, the first ones warm up.
/// Where they spread too far as many are taken once more, and where they still do the row says so (`unsteady`).
template <class F>
json of_pairs(int pairs, double goal, const char* better, const char* unit, F&& pair) {
    std::vector<double> ratios;
    for (int i = -pairs / 10; i < pairs; ++i)
        if (double ratio = pair(); i >= 0) ratios.push_back(ratio);
    for (int i = 0; i < pairs && spread(ratios) > most_spread; ++i) ratios.push_back(pair());
    auto made = row(median(ratios), goal, better, unit, ratios.size());
    made["spread"] = spread(ratios);
    if (spread(ratios) > most_spread) made["unsteady"] = true;
    return made;
}
/// Neither a hit nor a miss.
inline bool unsteady(const json& r) { return r.value("unsteady", false); }

json rewrap_row();
json ladder_row();
json play_through_row();
json compare_row();
json room_row();
json room_still_row();
json adapt_lookahead_row();
json adapt_buffer_row();
json adapt_throughput_row();
json adapt_speed_row();

// Rows that need a window; built where there is one.
json overlay();
json path_row();
json history_row();
json findings_row();
json contrast_row();
json heartbeat();
json prepare_answers();
json crowd();
json room_rate();

}  // namespace ruedo::bench
