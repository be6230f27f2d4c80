// SPDX-License-Identifier: Apache-2.0
// Values of a document as they are read: each is what it must be, or a mistake that says where and what.
#pragma once
#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "player/player.h"

namespace ruedo::reading {
using nlohmann::json;

/// A mistake in a document, at a JSON pointer.
struct Mistake {
    std::string at, what;
};

template <class E, std::size_t N>
E one_of(const json& j, const std::string& at, const std::array<std::string_view, N>& names) {
    if (j.is_string())
        for (std::size_t i = 0; i < N; ++i)
            if (names[i] == j.get_ref<const std::string&>()) return static_cast<E>(i);
    std::string list;
    for (auto n : names) list += fmt::format("{}“{}”", list.empty() ? "" : ", ", n);
    throw Mistake{at, "must be one of " + list};
}
inline std::string text(const json& j, const std::string& at) {
    if (!j.is_string() || j.get_ref<const std::string&>().size() > 4096)
        throw Mistake{at, "must be a text of at most 4096 bytes"};
    return j.get<std::string>();
}
inline Time time(const json& j, const std::string& at) {
    bool whole = j.is_number_integer() && (!j.is_number_unsigned() || j.get<std::uint64_t>() <= INT64_MAX);
    if (!whole || j.get<std::int64_t>() < 0) throw Mistake{at, "must be a whole number of nanoseconds, 0 or more"};
    return {j.get<std::int64_t>()};
}
inline Time time_within(const json& j, const std::string& at, Time low, Time high) {
    auto t = time(j, at);
    if (t < low || t > high)
        throw Mistake{at,
                      fmt::format("must be from {:g} to {:g} seconds, in nanoseconds", low.seconds(), high.seconds())};
    return t;
}
inline double number(const json& j, const std::string& at, double low, double high) {
    if (!j.is_number() || !(j.get<double>() >= low && j.get<double>() <= high))
        throw Mistake{at, fmt::format("must be a number from {:g} to {:g}", low, high)};
    return j.get<double>();
}
inline double fraction(const json& j, const std::string& at) { return number(j, at, 0, 1); }
inline int whole(const json& j, const std::string& at, int low, int high) {
    if (!j.is_number_integer() || j.get<double>() < low || j.get<double>() > high)
        throw Mistake{at, fmt::format("must be a whole number from {} to {}", low, high)};
    return j.get<int>();
}
inline bool yes_or_no(const json& j, const std::string& at) {
    if (!j.is_boolean()) throw Mistake{at, "must be true or false"};
    return j.get<bool>();
}
inline std::string colour(const json& j, const std::string& at) {
    auto c = text(j, at);
    if (!is_colour(c)) throw Mistake{at, "must be a colour such as “#17131A”"};
    return c;
}
inline const json& list(const json& j, const std::string& at, std::size_t most) {
    if (!j.is_array() || j.size() > most) throw Mistake{at, fmt::format("must be a list of at most {}", most)};
    return j;
}
/// Whatever goes through values step by step would go as deep as they do.
inline bool deeper_than(const json& j, int levels) {
    if (!j.is_structured()) return false;
    return levels == 0 || std::any_of(j.begin(), j.end(), [&](auto& inner) { return deeper_than(inner, levels - 1); });
}
/// Visits the members of an object; those that `visit` does not know are kept in `extra`.
template <class F>
void members(const json& j, const std::string& at, std::string* extra, F&& visit) {
    if (!j.is_object()) throw Mistake{at.empty() ? "/" : at, "must be an object"};
    json unknown = json::object();
    for (auto& [key, value] : j.items()) {
        if (visit(key, value, at + "/" + key)) continue;
        if (!extra) throw Mistake{at + "/" + key, "is not known"};
        if (deeper_than(value, 64)) throw Mistake{at + "/" + key, "goes more than 64 levels deep"};
        unknown[key] = value;
    }
    if (extra && !unknown.empty()) *extra = unknown.dump(-1, ' ', false, json::error_handler_t::replace);
}

/// The other way round: what is known, and what was kept.
inline json with(json known, const std::string& extra) {
    if (auto kept = json::parse(extra, nullptr, false); kept.is_object())
        for (auto& [key, value] : kept.items())
            if (!known.contains(key)) known[key] = value;
    return known;
}

json source_json(const SourceSpec& source);
SourceSpec source_from(const json& j, const std::string& at);
/// The player of the first format.
PlayerSpec player_from_first(const json& j, const std::string& at);

}  // namespace ruedo::reading
