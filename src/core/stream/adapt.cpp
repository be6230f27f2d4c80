// SPDX-License-Identifier: Apache-2.0
#include "stream/adapt.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace ruedo::adapt {

void Throughput::add(std::uint64_t bytes, Time took) {
    if (bytes == 0 || took.ns <= 0) return;
    auto bits = static_cast<double>(bytes) * 8, seconds = std::max(1e-4, took.seconds());
    if (auto before = now(); before.known()) {
        errors_.push_back(before.mean / (bits / seconds) - 1);
        if (errors_.size() > 5) errors_.pop_front();
    }
    samples_.push_back({bits, seconds});
    if (samples_.size() > 6) samples_.pop_front();
}
void Throughput::expect(double bits_a_second) { prior_ = bits_a_second; }

Estimate Throughput::now() const {
    if (samples_.empty()) return {prior_, prior_ / 2};
    std::vector<double> sorted;
    for (auto& s : samples_) sorted.push_back(s.seconds / s.bits);
    std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 2), sorted.end());
    // An outage is not how the link is: none counts as slower than half the median.
    auto slowest = 2 * sorted[sorted.size() / 2];
    // Seconds add up, and so do bits: what is small, as sound is, says little. The older, the less it weighs.
    double seconds = 0, bits = 0, w = 1;
    for (auto s = samples_.rbegin(); s != samples_.rend(); ++s, w *= 0.7)
        seconds += w * std::min(slowest * s->bits, s->seconds), bits += w * s->bits;
    auto mean = bits / seconds;
    double over = 0;
    for (auto e : errors_) over = std::max(over, e);
    return {mean, mean / (1 + over)};
}

double worth(std::span<const double> bitrates, std::size_t rung) { return 1 + std::log(bitrates[rung] / bitrates[0]); }
double Situation::worth(std::size_t rung) const {
    auto range = scores.empty() ? 0 : scores.back() - scores.front();
    if (scores.size() != bitrates.size() || range <= 0) return adapt::worth(bitrates, rung);
    auto most = adapt::worth(bitrates, bitrates.size() - 1) - 1;
    return 1 + most * std::clamp((scores[rung] - scores.front()) / range, 0.0, 1.0);
}
double stall_cost(std::span<const double> bitrates) { return worth(bitrates, bitrates.size() - 1); }
void Quality::show(std::span<const double> b, std::size_t rung, std::optional<std::size_t> before) {
    value += worth(b, rung);
    if (before) value -= std::abs(worth(b, rung) - worth(b, *before));
}
void Quality::stall(std::span<const double> b, Time length) { value -= stall_cost(b) * length.seconds(); }

namespace {
std::string rate(double bits) {
    return bits >= 1e6 ? fmt::format("{:.1f} Mbit/s", bits / 1e6) : fmt::format("{:.0f} kbit/s", bits / 1e3);
}
std::string name_of(std::size_t rung, std::size_t count) {
    if (count == 1) return "the only rung";
    if (rung == 0) return "the lowest rung";
    if (rung + 1 == count) return "the highest rung";
    return count == 3 ? std::string("the middle rung") : fmt::format("rung {} of {}", rung + 1, count);
}
RungChoice chosen(const Situation& s, std::size_t rung, std::string_view because = {}) {
    auto why = s.throughput.known()
                   ? fmt::format("{} expected, {:.1f} s ahead: {}", rate(s.throughput.mean), s.ahead.seconds(),
                                 name_of(rung, s.bitrates.size()))
                   : fmt::format("nothing is known of the link yet: {}", name_of(rung, s.bitrates.size()));
    if (!because.empty()) why += fmt::format(" ({})", because);
    return {rung, why};
}
/// The highest whose bits arrive at this rate within `within`.
std::size_t affordable(const Situation& s, double bits_a_second, Time within) {
    std::size_t best = 0;
    for (std::size_t r = 0; r <= s.top(); ++r)
        if (s.bits_of(r) <= bits_a_second * within.seconds()) best = r;
    return best;
}
/// To begin with: what a modest link carries; with an estimate, the rung whose segment arrives in half its duration.
std::optional<RungChoice> first(const Situation& s) {
    if (s.last) return std::nullopt;
    if (!s.throughput.known()) return chosen(s, affordable(s, 1'500'000, s.segment));
    return chosen(s, affordable(s, s.throughput.low, s.segment / 2), "to start soon");
}

/// What comes in the time it lasts, with something to spare; up only when there is enough ahead.
class ByThroughput final : public Policy {
  public:
    RungChoice choose(const Situation& s) override {
        if (auto f = first(s)) return *f;
        auto rung = affordable(s, s.throughput.low * 0.9, s.segment);
        if (rung > *s.last && s.ahead < s.segment)
            return chosen(s, std::min(*s.last, s.top()), "too little ahead to go up");
        return chosen(s, rung);
    }
};

/// BOLA (Spiteri, Urgaonkar and Sitaraman, INFOCOM 2016), its basic form: the rung with the most of
/// (V (utility + gp) - buffer) / size, where buffers and sizes are in segments. V and gp are laid out so that the
/// lowest is asked for below 3 segments ahead, and the highest near the most that is kept.
class ByBuffer final : public Policy {
  public:
    RungChoice choose(const Situation& s) override {
        if (auto f = first(s)) return *f;
        auto length = std::max(0.1, s.segment.seconds());
        auto most = std::max(6.0, s.most_ahead.seconds() / length) - 1;
        double low = std::min(3.0, most / 3);
        auto top = std::log(s.bitrates.back() / s.bitrates[0]);
        // Where the two highest of the ladder meet, and where the lowest gives way.
        double gp = top > 0 ? std::max(0.1, low * top / (most - low)) + 0.0 : 1;
        double v = (most - 1) / (top + gp);
        auto buffer = s.ahead.seconds() / length;
        std::size_t best = 0;
        double most_worth = -1e300;
        for (std::size_t r = 0; r <= s.top(); ++r) {
            auto utility = s.worth(r) - 1;
            auto score = (v * (utility + gp) - buffer) / (s.bits_of(r) / 1e6);
            if (score > most_worth) most_worth = score, best = r;
        }
        // Up no further than the link carries, so that it does not swing (the same paper, 4.3).
        if (best > *s.last && s.throughput.known()) {
            auto carried = std::max(*s.last, affordable(s, s.throughput.mean, s.segment));
            best = std::min({best, carried, s.top()});
        }
        return chosen(s, best, "by what is ahead");
    }
};

/// Looks a few segments ahead (Yin, Jindal, Sekar and Sinopoli, SIGCOMM 2015): of all ways to choose them, the one
/// worth most at the expected rate. Beyond what the paper has, it costs to have little ahead: a link may go into a
/// tunnel. The numbers were found by measuring on made links (docs/streams.md).
class ByLookahead final : public Policy {
  public:
    RungChoice choose(const Situation& s) override {
        if (auto f = first(s)) return *f;
        if (!s.throughput.known()) return chosen(s, std::min(*s.last, s.top()));
        rate_ = 0.8 * s.throughput.mean;

        depth_ = std::min<std::size_t>(s.left, s.bitrates.size() <= 4 ? 6 : 5);
        s_ = &s;
        best_ = -1e300, best_rung_ = 0;
        look(0, s.ahead.seconds(), *s.last, 0, 0);
        return chosen(s, best_rung_);
    }

  private:
    void look(std::size_t k, double ahead, std::size_t last, double value, std::size_t first_rung) {
        if (k == depth_) {
            // What is left ahead is worth something too: it is what the next ones are chosen on.
            value += 0.1 * ahead / std::max(0.1, s_->segment.seconds());
            if (value > best_) best_ = value, best_rung_ = first_rung;
            return;
        }
        // Towards the end no more need be held ready than is still to come.
        auto rest = static_cast<double>(std::min<std::size_t>(s_->left - k, 1000) + 1) * s_->segment.seconds();
        auto reserve = std::min({20.0, s_->most_ahead.seconds() * 2 / 3, rest});
        for (std::size_t r = 0; r <= s_->top(); ++r) {
            auto seconds = s_->bits_of(r, k) / rate_;
            auto stall = std::max(0.0, seconds - ahead);
            auto after = std::min(std::max(0.0, ahead - seconds) + s_->segment.seconds(), s_->most_ahead.seconds());
            auto v = value + s_->worth(r) - std::abs(s_->worth(r) - s_->worth(last)) - stall_cost(s_->bitrates) * stall;
            auto short_of = std::max(0.0, reserve - after);
            v -= 0.09 * short_of * short_of / reserve;
            // Nothing that is left could make up for it.
            if (v + static_cast<double>(depth_ - k) * s_->worth(s_->top()) + 1 < best_) continue;
            look(k + 1, after, r, v, k == 0 ? r : first_rung);
        }
    }
    const Situation* s_ = nullptr;
    double rate_ = 0, best_ = 0;
    std::size_t depth_ = 0, best_rung_ = 0;
};

struct Row {
    std::string_view name;
    std::unique_ptr<Policy> (*make)();
};
constexpr std::array rows{Row{"throughput", [] { return std::unique_ptr<Policy>(new ByThroughput); }},
                          Row{"buffer", [] { return std::unique_ptr<Policy>(new ByBuffer); }},
                          Row{"lookahead", [] { return std::unique_ptr<Policy>(new ByLookahead); }}};
}  // namespace

std::unique_ptr<Policy> make_policy(std::string_view name) {
    auto it = std::find_if(rows.begin(), rows.end(), [&](auto& r) { return r.name == name; });
    return it == rows.end() ? nullptr : it->make();
}
std::span<const std::string_view> policy_names() {
    static const auto names = [] {
        std::array<std::string_view, rows.size()> all;
        std::transform(rows.begin(), rows.end(), all.begin(), [](auto& r) { return r.name; });
        return all;
    }();
    return names;
}

std::optional<std::size_t> give_up_for(const Situation& s, std::size_t rung, double bits_left, double bits_so_far,
                                       Time since) {
    // At the very start an answer's rate says little.
    if (rung == 0 || since < 500_ms || bits_left <= 0) return std::nullopt;
    auto bits_a_second = std::max(1.0, bits_so_far) / since.seconds();
    auto left = bits_left / bits_a_second;
    if (left <= s.ahead.seconds()) return std::nullopt;
    for (auto r = rung; r-- > 0;) {
        auto instead = s.bits_of(r) / bits_a_second;
        if (instead < left * 0.7 && (instead <= s.ahead.seconds() || r == 0)) return r;
    }
    return std::nullopt;
}

}  // namespace ruedo::adapt
