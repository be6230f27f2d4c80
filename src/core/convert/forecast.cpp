// SPDX-License-Identifier: Apache-2.0
#include "convert/forecast.h"

#include <algorithm>
#include <cmath>

namespace ruedo {
namespace {
/// Time goes with so high a power of the bytes: from not at all to in proportion.
constexpr std::size_t exponents = 21;
constexpr double exponent_of(std::size_t i) { return static_cast<double>(i) / (exponents - 1); }
constexpr double trust = 0.15;  ///< How much of that is kept against what is learned.
constexpr std::size_t most_steps = 400;
}  // namespace

Forecast::Forecast(std::vector<Part> parts) {
    if (parts.empty()) parts.push_back({1, 1});
    double length = 0, bytes = 0;
    for (auto& p : parts) length += p.share, bytes += p.share * p.density;
    auto mean = length > 0 && bytes > 0 ? bytes / length : 1;
    costs_.resize(exponents);
    double end = 0;
    for (auto& p : parts) ends_.push_back(end += length > 0 ? p.share / length : 0);
    for (std::size_t e = 0; e < exponents; ++e) {
        double sum = 0;
        for (auto& p : parts)
            costs_[e].push_back(sum += p.share * std::pow(std::max(0.02, p.density / mean), exponent_of(e)));
    }
}

double Forecast::cost(double from, double to, std::size_t e) const {
    auto up_to = [&](double done) {
        auto it = std::lower_bound(ends_.begin(), ends_.end(), done);
        if (it == ends_.end()) return costs_[e].back();
        auto i = static_cast<std::size_t>(it - ends_.begin());
        auto begin = i ? ends_[i - 1] : 0, before = i ? costs_[e][i - 1] : 0;
        auto inside = *it > begin ? (done - begin) / (*it - begin) : 1;
        return before + inside * (costs_[e][i] - before);
    };
    return up_to(to) - up_to(from);
}

void Forecast::reached(double done, Time now) {
    now_ = now.seconds();
    // Until something has come out it only fills what lies between, which is no pace.
    if (!started_ || (steps_.empty() && done <= done_)) {
        started_ = true;
        done_ = step_from_ = done, begun_ = step_at_ = now_;
        return;
    }
    done_ = std::max(done_, done);
    // Steps large enough to be measured, and few enough to be gone over.
    auto least = std::max(0.25, (now_ - begun_) / most_steps);
    if (now_ - step_at_ < least || done_ <= step_from_) return;
    steps_.push_back({now_ - step_at_, now_, step_from_, done_});
    step_at_ = now_, step_from_ = done_;
    if (steps_.size() < most_steps) return;
    std::vector<Step> fewer;
    for (std::size_t i = 0; i + 1 < steps_.size(); i += 2)
        fewer.push_back(
            {steps_[i].seconds + steps_[i + 1].seconds, steps_[i + 1].at, steps_[i].from, steps_[i + 1].to});
    steps_ = std::move(fewer);
}

std::optional<Time> Forecast::left() const {
    if (steps_.empty() || now_ - begun_ < 0.5) return std::nullopt;
    // What is long past counts less: the machine may have become busier.
    auto memory = 5 + (now_ - begun_) / 3;
    double best = HUGE_VAL, pace = 0;
    std::size_t chosen = 0;
    for (std::size_t e = 0; e < exponents; ++e) {
        double weight = 0, spent = 0, costs = 0, off = 0;
        for (auto& s : steps_) {
            auto w = std::exp((s.at - now_) / memory);
            weight += w * s.seconds, spent += w * s.seconds, costs += w * cost(s.from, s.to, e);
        }
        if (costs <= 0) continue;
        for (auto& s : steps_) {
            auto wanted = cost(s.from, s.to, e) * spent / costs;
            auto ratio = std::log(std::max(1e-9, wanted) / std::max(1e-9, s.seconds));
            off += std::exp((s.at - now_) / memory) * s.seconds * ratio * ratio;
        }
        auto apart = exponent_of(e) - Forecast::guess;
        auto score = off / weight + trust * apart * apart;
        if (score < best) best = score, pace = spent / costs, chosen = e;
    }
    if (!std::isfinite(best)) return std::nullopt;
    auto seconds = std::max(0.0, cost(step_from_, 1, chosen) * pace - (now_ - step_at_));
    return Time{static_cast<std::int64_t>(std::min(seconds, 1e9) * 1e9)};
}

}  // namespace ruedo
