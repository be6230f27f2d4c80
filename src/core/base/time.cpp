// SPDX-License-Identifier: Apache-2.0
#include "base/time.h"

#include <fmt/format.h>
#include <time.h>

#include <array>
#include <charconv>
#include <cmath>
#include <numeric>

namespace ruedo {
namespace {
__extension__ typedef __int128 Wide;

std::int64_t saturate(Wide v) {
    if (v > INT64_MAX) return INT64_MAX;
    if (v < INT64_MIN) return INT64_MIN;
    return static_cast<std::int64_t>(v);
}

Wide divide_nearest(Wide v, Wide by) { return v >= 0 ? (v + by / 2) / by : -((-v + by / 2) / by); }

/// All of `text` as an unsigned number, digits only.
std::optional<std::int64_t> digits(std::string_view text) {
    std::int64_t v = 0;
    if (text.empty() || text.front() < '0' || text.front() > '9') return std::nullopt;
    auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), v);
    if (ec != std::errc{} || end != text.data() + text.size()) return std::nullopt;
    return v;
}

/// A decimal number of units of `unit` nanoseconds, exactly: "1.5" of 1e9 is 1'500'000'000.
std::optional<Time> decimal(std::string_view text, std::int64_t unit) {
    auto dot = text.find('.');
    auto whole = digits(text.substr(0, dot));
    if (!whole) return std::nullopt;
    Wide ns = static_cast<Wide>(*whole) * unit;
    if (dot != std::string_view::npos) {
        auto part = text.substr(dot + 1);
        if (part.empty() || part.size() > 18) return std::nullopt;
        auto fraction = digits(part);
        if (!fraction) return std::nullopt;
        Wide scale = 1;
        for (std::size_t i = 0; i < part.size(); ++i) scale *= 10;
        ns += divide_nearest(static_cast<Wide>(*fraction) * unit, scale);
    }
    if (ns > longest_asked.ns) return std::nullopt;
    return Time{static_cast<std::int64_t>(ns)};
}
struct Unit {
    std::string_view suffix;
    std::int64_t ns;
};
constexpr std::array<Unit, 6> units{{{"ns", 1},
                                     {"us", 1'000},
                                     {"ms", 1'000'000},
                                     {"s", 1'000'000'000},
                                     {"m", 60'000'000'000},
                                     {"h", 3'600'000'000'000}}};
}  // namespace

Rational Rational::reduced() const {
    auto g = std::gcd(num, den);
    return g == 0 ? *this : Rational{num / g, den / g};
}

Time ticks_to_time(std::int64_t ticks, std::uint64_t num, std::uint64_t den) {
    if (den == 0) return {};
    // The product fits: |ticks| < 2^63, and num * 1e9 is kept below 2^64 by reducing first.
    auto g = std::gcd(num * 1'000'000'000ULL, den);
    if (num > UINT64_MAX / 1'000'000'000ULL) return {ticks < 0 ? INT64_MIN : INT64_MAX};
    Wide up = static_cast<Wide>(num * 1'000'000'000ULL / g);
    Wide down = static_cast<Wide>(den / g);
    return {saturate(divide_nearest(static_cast<Wide>(ticks) * up, down))};
}

std::int64_t time_to_ticks_floor(Time t, std::uint64_t rate) {
    Wide v = static_cast<Wide>(t.ns) * static_cast<Wide>(rate);
    Wide q = v / 1'000'000'000;
    if (v < 0 && q * 1'000'000'000 != v) --q;
    return saturate(q);
}

std::int64_t time_to_ticks(Time t, std::uint64_t rate) {
    return saturate(divide_nearest(static_cast<Wide>(t.ns) * static_cast<Wide>(rate), 1'000'000'000));
}

Time scaled(Time t, double factor) {
    auto v = static_cast<double>(t.ns) * factor;
    if (!(v > -9.2e18)) return {INT64_MIN};
    return v < 9.2e18 ? Time{static_cast<std::int64_t>(std::llround(v))} : Time::max();
}

std::optional<Time> parse_time(std::string_view text) {
    if (auto colon = text.find(':'); colon != std::string_view::npos) {
        auto second = text.find(':', colon + 1);
        if (second == std::string_view::npos || second != colon + 3) return std::nullopt;
        auto hours = digits(text.substr(0, colon));
        auto minutes = digits(text.substr(colon + 1, 2));
        auto rest = text.substr(second + 1);
        if (!hours || !minutes || *hours > 2'000'000 || *minutes > 59) return std::nullopt;
        if (rest.size() < 2 || (rest.size() > 2 && rest[2] != '.')) return std::nullopt;
        auto seconds = decimal(rest, 1'000'000'000);
        if (!seconds || *seconds >= 60_s) return std::nullopt;
        auto t = 1_s * (*hours * 3600 + *minutes * 60) + *seconds;
        return t <= longest_asked ? std::optional(t) : std::nullopt;
    }
    for (auto& unit : units)
        if (text.ends_with(unit.suffix)) return decimal(text.substr(0, text.size() - unit.suffix.size()), unit.ns);
    return std::nullopt;
}

std::string not_a_time(std::string_view text) {
    auto why = [&]() -> std::string_view {
        if (text.starts_with('-')) return "none is below zero";
        if (text.find(':') != text.npos)
            return "with colons it is written like 1:02:03.250, and shorter than 146 years";
        for (auto& unit : units) {
            if (!text.ends_with(unit.suffix)) continue;
            text.remove_suffix(unit.suffix.size());
            bool number = !text.empty() && text.find_first_not_of("0123456789.") == text.npos && text.front() != '.' &&
                          text.back() != '.' && text.find('.') == text.rfind('.');
            return number ? "it is longer than 146 years" : "before its unit it needs a number, such as 250ms";
        }
        return "it needs a unit, such as 250ms";
    };
    auto shown = fmt::format("“{}” is not a time: ", text);
    return shown.append(why());
}

std::optional<Rational> parse_rational(std::string_view text) {
    auto whole = [](std::string_view part) -> std::optional<std::int64_t> {
        std::int64_t n = 0;
        auto [end, ec] = std::from_chars(part.data(), part.data() + part.size(), n);
        if (ec != std::errc{} || end != part.data() + part.size() || n < 0 || n > 1'000'000'000) return std::nullopt;
        return n;
    };
    Rational r{0, 1};
    if (auto stroke = text.find('/'); stroke != std::string_view::npos) {
        auto num = whole(text.substr(0, stroke)), den = whole(text.substr(stroke + 1));
        if (!num || !den) return std::nullopt;
        r = {*num, *den};
    } else if (auto point = text.find('.'); point != std::string_view::npos) {
        auto decimals = text.substr(point + 1);
        auto before = whole(text.substr(0, point)), after = whole(decimals);
        if (!before || !after || decimals.size() > 6) return std::nullopt;
        for (std::size_t i = 0; i < decimals.size(); ++i) r.den *= 10;
        r.num = *before * r.den + *after;
    } else {
        auto n = whole(text);
        if (!n) return std::nullopt;
        r.num = *n;
    }
    return r.stated() ? std::optional(r.reduced()) : std::nullopt;
}

std::string format_time(Time t) {
    const char* sign = t.ns < 0 ? "-" : "";
    auto ms = (t.ns < 0 ? -t.ns : t.ns) / 1'000'000;
    return fmt::format("{}{}:{:02}:{:02}.{:03}", sign, ms / 3'600'000, ms / 60'000 % 60, ms / 1000 % 60, ms % 1000);
}

std::string format_clock(Time t) {
    auto s = (t.ns < 0 ? -t.ns : t.ns) / 1'000'000'000;
    if (s >= 3600) return fmt::format("{}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60);
    return fmt::format("{}:{:02}", s / 60, s % 60);
}

Time monotonic_now() {
    timespec ts{};
    clock_gettime(CLOCK_MONOTONIC, &ts);
    return {static_cast<std::int64_t>(ts.tv_sec) * 1'000'000'000 + ts.tv_nsec};
}

}  // namespace ruedo
