// SPDX-License-Identifier: Apache-2.0
#include "stream/weather.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <random>

#include "io/io.h"
#include "io/transfer.h"

namespace ruedo::stream {
namespace {
/// Bits a second. At less than that a list of segments alone takes minutes, and times leave what can be counted.
constexpr double least_mean = 100;
}  // namespace

void NetworkTrace::settle() {
    before_.assign(1, 0);
    for (std::size_t i = 0; i < steps.size(); ++i) {
        auto to = i + 1 < steps.size() ? steps[i + 1].from : length;
        before_.push_back(before_.back() + steps[i].bits_a_second * (to - steps[i].from).seconds());
    }
    lap_ = before_.back();
}
double NetworkTrace::mean() const { return lap_ / std::max(1e-9, length.seconds()); }

double NetworkTrace::at(Time t) const {
    t = Time{t.ns % std::max<std::int64_t>(1, length.ns)};
    auto it = std::upper_bound(steps.begin(), steps.end(), t, [](Time v, auto& s) { return v < s.from; });
    return it == steps.begin() ? 0 : std::prev(it)->bits_a_second;
}
double NetworkTrace::bits(Time from, Time to) const {
    auto until = [&](Time t) {
        auto laps = t.ns / std::max<std::int64_t>(1, length.ns);
        auto rest = Time{t.ns % std::max<std::int64_t>(1, length.ns)};
        auto it = std::upper_bound(steps.begin(), steps.end(), rest, [](Time v, auto& s) { return v < s.from; });
        auto i = static_cast<std::size_t>(it - steps.begin()) - 1;
        return static_cast<double>(laps) * lap_ + before_[i] +
               steps[i].bits_a_second * (rest - steps[i].from).seconds();
    };
    return until(to) - until(from);
}
Time NetworkTrace::done(Time t, double wanted) const {
    if (lap_ <= 0) return Time::max();
    auto laps = t.ns / length.ns;
    auto total = bits(Time{laps * length.ns}, t) + wanted;
    // Later than can be told apart from never.
    if (total / lap_ > static_cast<double>(INT64_MAX / 4) / static_cast<double>(length.ns)) return Time::max();
    laps += static_cast<std::int64_t>(total / lap_);
    total = std::fmod(total, lap_);
    auto it = std::upper_bound(before_.begin(), before_.end(), total);
    auto i = std::min(static_cast<std::size_t>(it - before_.begin()), steps.size()) - 1;
    auto into = steps[i].bits_a_second > 0 ? (total - before_[i]) / steps[i].bits_a_second : 0;
    return std::max(t, Time{laps * length.ns} + steps[i].from + Time{std::llround(into * 1e9)});
}

std::shared_ptr<const LinkModel> link_of(NetworkTrace network_trace, std::function<Time()> now) {
    class Link final : public LinkModel {
      public:
        Link(NetworkTrace w, std::function<Time()> n) : network_trace_(std::move(w)), now_(std::move(n)) {}
        Time now() const override { return now_(); }
        // There and back before the first bit.
        Time done(Time asked, double bits) const override {
            return network_trace_.done(asked + network_trace_.delay * 2, bits);
        }
        double bits(Time asked, Time until) const override {
            auto from = asked + network_trace_.delay * 2;
            return until > from ? network_trace_.bits(from, until) : 0;
        }

      private:
        NetworkTrace network_trace_;
        std::function<Time()> now_;
    };
    return std::make_shared<Link>(std::move(network_trace), std::move(now));
}

Result<NetworkTrace> network_trace_from_csv(ByteView bytes, const std::string& name) {
    std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    NetworkTrace w;
    w.name = name;
    std::size_t number = 0;
    auto value = [](std::string_view s) -> std::optional<double> {
        s = transfer::trimmed(s);
        double v = 0;
        auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
        bool fine = ec == std::errc{} && end == s.data() + s.size() && v >= 0 && v <= 1e6;
        return fine ? std::optional(v) : std::nullopt;
    };
    while (!text.empty()) {
        auto line = text.substr(0, text.find('\n'));
        text.remove_prefix(std::min(text.size(), line.size() + 1));
        ++number;
        line = transfer::trimmed(line);
        if (line.empty() || line.starts_with('#')) continue;
        auto comma = line.find(',');
        auto t = value(line.substr(0, comma));
        auto rate = comma == std::string_view::npos ? std::nullopt : value(line.substr(comma + 1));
        if (!t && w.steps.empty() && number == 1) continue;  // what the columns are called
        if (!t || !rate || (!w.steps.empty() && *t * 1e9 <= static_cast<double>(w.steps.back().from.ns)))
            return fail(
                ErrorCode::malformed,
                fmt::format("Line {} of “{}” is not seconds and Mbit/s, later than the line before.", number, name),
                "Write lines such as “12.5, 3.2”.");
        if (w.steps.empty() && *t > 0) w.steps.push_back({{}, *rate * 1e6});
        w.steps.push_back({Time{std::llround(*t * 1e9)}, *rate * 1e6});
        if (w.steps.size() > 1'000'000)
            return fail(ErrorCode::limit, fmt::format("“{}” has more than a million lines.", name), {});
    }
    if (w.steps.empty())
        return fail(ErrorCode::empty, fmt::format("“{}” holds no line of seconds and Mbit/s.", name),
                    "Write lines such as “12.5, 3.2”.");
    auto n = w.steps.size();
    auto last = n > 1 ? w.steps[n - 1].from - w.steps[n - 2].from : 1_s;
    w.length = w.steps.back().from + last;
    w.settle();
    if (w.mean() < least_mean)
        return fail(ErrorCode::malformed, fmt::format("Nothing ever gets through by “{}”.", name),
                    fmt::format("On average at least {:g} Mbit/s have to.", least_mean / 1e6));
    return w;
}

namespace {
NetworkTrace made(std::string name, std::string about, std::vector<std::pair<double, double>> steps, double length,
                  Time delay, Time jitter, double refused = 0) {
    NetworkTrace w;
    w.name = std::move(name), w.about = std::move(about);
    for (auto [t, mbit] : steps) w.steps.push_back({Time{std::llround(t * 1e9)}, mbit * 1e6});
    w.length = Time{std::llround(length * 1e9)};
    w.delay = delay, w.jitter = jitter, w.refused = refused;
    w.settle();
    return w;
}
}  // namespace

const std::vector<NetworkTrace>& network_traces() {
    static const std::vector<NetworkTrace> all{
        made("calm", "20 Mbit/s, hardly any delay", {{0, 20}}, 60, 5_ms, 0_ms),
        made("fair", "5 Mbit/s, 20 ms each way", {{0, 5}}, 60, 20_ms, 2_ms),
        made("low", "1 Mbit/s, 40 ms each way", {{0, 1}}, 60, 40_ms, 10_ms),
        made("stairs", "from 6 Mbit/s down to 0.7 and up again, 15 s each",
             {{0, 6}, {15, 3}, {30, 1.5}, {45, 0.7}, {60, 1.5}, {75, 3}}, 90, 25_ms, 5_ms),
        made("tunnel", "4 Mbit/s, and nothing for 12 s in every minute", {{0, 4}, {30, 0}, {42, 4}}, 60, 30_ms, 10_ms),
        made("gusts", "between 0.5 and 8 Mbit/s, anew every few seconds",
             {{0, 3}, {2, 8}, {5, 1}, {8, 0.5}, {10, 4}, {14, 6}, {17, 0.8}, {21, 2.5}, {25, 7}, {28, 1.2}}, 31, 50_ms,
             40_ms),
        made("squall", "3 Mbit/s, and one request in ten is refused", {{0, 3}}, 60, 30_ms, 20_ms, 0.1),
    };
    return all;
}

Result<NetworkTrace> find_network_trace(const std::string& name) {
    for (auto& w : network_traces())
        if (w.name == name) return w;
    if (name.find('.') == std::string::npos && name.find('/') == std::string::npos) {
        std::string names;
        for (auto& w : network_traces()) names += (names.empty() ? "" : ", ") + w.name;
        return fail(ErrorCode::not_found, fmt::format("There is no weather “{}”.", name),
                    fmt::format("There are {}; or name a file of seconds and Mbit/s.", names));
    }
    RUEDO_TRY(auto bytes, read_file(name));
    return network_trace_from_csv(bytes, name);
}

std::vector<NetworkTrace> synthetic_traces(std::size_t count, std::uint64_t seed) {
    std::vector<NetworkTrace> all;
    for (std::size_t i = 0; i < count; ++i) {
        // The engine's numbers are laid down by the language, the distributions are not: ours are made from bits.
        std::mt19937_64 random(seed * 1'000'003 + i);
        auto uniform = [&](double low, double high) {
            return low + (high - low) * static_cast<double>(random() >> 11) / 9007199254740992.0;
        };
        auto level = [&](double low, double high) { return low * std::pow(high / low, uniform(0, 1)); };
        auto normal = [&] {
            return std::sqrt(-2 * std::log(uniform(1e-12, 1))) * std::cos(6.283185307179586 * uniform(0, 1));
        };
        NetworkTrace w;
        constexpr double length = 320;
        auto base = level(0.8, 6);
        auto put = [&](double t, double mbit) { w.steps.push_back({Time{std::llround(t * 1e9)}, mbit * 1e6}); };
        static constexpr const char* kinds[] = {"steady", "steps", "tunnels", "phone"};
        switch (i % 4) {
            case 0:
                for (double t = 0; t < length; t += 1) put(t, base * std::exp(0.05 * normal()));
                break;
            case 1:
                for (double t = 0; t < length; t += uniform(10, 40)) put(t, level(0.6, 7));
                break;
            case 2: {
                double next = uniform(20, 60);
                for (double t = 0; t < length; t += 1) {
                    bool inside = t >= next && t < next + 8;
                    if (t >= next + 8) next = t + uniform(30, 80);
                    put(t, inside ? 0.02 : base * std::exp(0.1 * normal()));
                }
                break;
            }
            default: {
                // Its logarithm wanders and is drawn back.
                double x = 0;
                for (double t = 0; t < length; t += 1) {
                    x = 0.9 * x + 0.28 * normal();
                    put(t, std::clamp(base * std::exp(x), 0.08, 40.0));
                }
                break;
            }
        }
        w.length = Time{static_cast<std::int64_t>(length * 1e9)};
        w.delay = Time{std::llround(uniform(10, 60) * 1e6)};
        w.name = fmt::format("{}-{:02}", kinds[i % 4], i / 4 + 1);
        w.settle();
        all.push_back(std::move(w));
    }
    return all;
}

}  // namespace ruedo::stream
