// SPDX-License-Identifier: Apache-2.0
// Exact time: integer nanoseconds as a strong type, and the one place where container ticks become time.
#pragma once
#include <compare>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace ruedo {

/// A point on a timeline or a length of time, in nanoseconds. Never a floating-point number of seconds. Files may
/// state any number, so sums saturate.
struct Time {
    std::int64_t ns = 0;

    constexpr auto operator<=>(const Time&) const = default;
    constexpr Time operator-() const { return Time{} - *this; }
    constexpr Time operator+(Time o) const {
        std::int64_t sum = 0;
        return __builtin_add_overflow(ns, o.ns, &sum) ? Time{o.ns < 0 ? INT64_MIN : INT64_MAX} : Time{sum};
    }
    constexpr Time operator-(Time o) const {
        std::int64_t difference = 0;
        return __builtin_sub_overflow(ns, o.ns, &difference) ? Time{o.ns > 0 ? INT64_MIN : INT64_MAX}
                                                             : Time{difference};
    }
    constexpr Time operator*(std::int64_t k) const {
        std::int64_t product = 0;
        return __builtin_mul_overflow(ns, k, &product) ? Time{(ns < 0) != (k < 0) ? INT64_MIN : INT64_MAX}
                                                       : Time{product};
    }
    constexpr Time operator/(std::int64_t k) const { return {ns / k}; }
    constexpr Time& operator+=(Time o) { return *this = *this + o; }
    constexpr Time& operator-=(Time o) { return *this = *this - o; }
    /// For showing to people and for ratios only.
    constexpr double ms() const { return static_cast<double>(ns) / 1e6; }
    constexpr double seconds() const { return static_cast<double>(ns) / 1e9; }
    static constexpr Time max() { return {INT64_MAX}; }
};

constexpr Time operator""_ns(unsigned long long v) { return {static_cast<std::int64_t>(v)}; }
constexpr Time operator""_ms(unsigned long long v) { return {static_cast<std::int64_t>(v) * 1'000'000}; }
constexpr Time operator""_s(unsigned long long v) { return {static_cast<std::int64_t>(v) * 1'000'000'000}; }

/// A fraction as a file states it, such as 30000/1001. `den` of 0 means "not stated".
struct Rational {
    std::int64_t num = 0;
    std::int64_t den = 0;
    constexpr bool operator==(const Rational&) const = default;
    constexpr bool stated() const { return num > 0 && den > 0; }
    /// Near to it; `den` must not be 0.
    constexpr double about() const { return static_cast<double>(num) / static_cast<double>(den); }
    /// The same value in lowest terms.
    Rational reduced() const;
};

/// `ticks` of `num/den` seconds each, as time, rounded to nearest (halves away from zero). Saturates.
Time ticks_to_time(std::int64_t ticks, std::uint64_t num, std::uint64_t den);
/// The last tick of a 1/`rate` second scale at or before `t` (floor). Saturates.
std::int64_t time_to_ticks_floor(Time t, std::uint64_t rate);
/// The nearest tick of a 1/`rate` second scale.
std::int64_t time_to_ticks(Time t, std::uint64_t rate);
/// `t` times `factor`, rounded to nearest; for playing speeds.
Time scaled(Time t, double factor);

/// Sums with a wall clock must fit as well, so no time that is asked for is longer than this: 146 years.
constexpr Time longest_asked{std::int64_t{1} << 62};
/// "250ms", "1.5s", "40us", "7ns" or "h:mm:ss.mmm" ("1:02:03.250"). A bare or negative number is nothing, nor is one
/// beyond `longest_asked`.
std::optional<Time> parse_time(std::string_view text);
/// For sentences: that `text`, of which `parse_time` makes nothing, is no time, and why.
std::string not_a_time(std::string_view text);
/// "30", "30000/1001" or "29.97"; nothing for what is not above 0, or has more than six decimals.
std::optional<Rational> parse_rational(std::string_view text);
/// "0:00:03.250": hours, minutes, seconds, milliseconds (rounded down).
std::string format_time(Time t);
/// "1:02:03" or "2:03", as shown beside a position slider.
std::string format_clock(Time t);

/// Monotonic time since an arbitrary start (CLOCK_MONOTONIC).
Time monotonic_now();

}  // namespace ruedo
