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
    bool integer = j.is_number_integer() && (!j.is_number_unsigned() || j.get<std::uint64_t>() <= INT64_MAX);
    if (!integer || j.get<std::int64_t>() < 0) throw Mistake{at, "must be an integer number of nanoseconds, 0 or more"};
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
inline int integer(const json& j, const std::string& at, int low, int high) {
    if (!j.is_number_integer() || j.get<double>() < low || j.get<double>() > high)
        throw Mistake{at, fmt::format("must be an integer from {} to {}", low, high)};
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
/// A time as people write it: with a unit (“1.5s”), or as minutes and seconds (“0:30”).
inline std::optional<Time> written_time(std::string_view text) {
    auto colon = text.find(':');
    if (colon == text.npos || text.find(':', colon + 1) != text.npos) return parse_time(text);
    return parse_time(fmt::format("0:{:0>2}{}", text.substr(0, colon), text.substr(colon)));
}
/// Whether some member of it is a time as people write it.
inline bool has_written_times(const json& j) {
    return j.is_object() && std::any_of(j.begin(), j.end(), [](auto& v) {
               return v.is_string() && written_time(v.template get_ref<const std::string&>());
           });
}
/// Visits the members of an object. A time of which `visit` knows the nanoseconds (“by_ns”) may be written as text
/// (“by”). In `extra` is kept what is not known, and times as they were written.
template <class F>
void members(const json& j, const std::string& at, std::string* extra, F&& visit) {
    if (!j.is_object()) throw Mistake{at.empty() ? "/" : at, "must be an object"};
    json kept = json::object();
    auto is_time = [&](const std::string& key, const json& value, const std::string& place) {
        if (!value.is_string() || key.ends_with("_ns")) return false;
        auto t = written_time(value.get_ref<const std::string&>());
        const auto ns = key + "_ns";
        const auto meant = t ? json(t->ns) : value;
        try {
            return visit(ns, meant, place);
        } catch (const Mistake&) {
            if (t) throw;
            throw Mistake{place, "must be a time, such as “10s” or “0:30”"};
        }
    };
    for (auto& [key, value] : j.items()) {
        auto place = at + "/" + pointer_part(key);
        if (visit(key, value, place)) {
            if (has_written_times(value)) kept[key] = value;
            continue;
        }
        if (is_time(key, value, place)) {
            kept[key] = value;
            continue;
        }
        if (!extra) throw Mistake{place, "is not known"};
        if (deeper_than(value, 64)) throw Mistake{place, "goes more than 64 levels deep"};
        kept[key] = value;
    }
    if (extra && !kept.empty()) *extra = kept.dump(-1, ' ', false, json::error_handler_t::replace);
}

/// Whether times as they were written say what is known now.
inline bool says_the_same(const json& written, const json& known) {
    if (!written.is_object() || !known.is_object()) return written == known;
    return written.size() == known.size() && std::all_of(written.items().begin(), written.items().end(), [&](auto& m) {
               if (known.contains(m.key())) return says_the_same(m.value(), known[m.key()]);
               auto ns = m.key() + "_ns";
               auto t = m.value().is_string() ? written_time(m.value().template get_ref<const std::string&>())
                                              : std::nullopt;
               return t && known.contains(ns) && known[ns] == t->ns;
           });
}
/// The other way round: what is known, and what was kept. A time that is what it was stays as it was written.
inline json with(json known, const std::string& extra) {
    if (auto kept = json::parse(extra, nullptr, false); kept.is_object())
        for (auto& [key, value] : kept.items()) {
            auto ns = key + "_ns";
            if (known.contains(key)) {
                if (says_the_same(value, known[key])) known[key] = value;
            } else if (!known.contains(ns)) {
                known[key] = value;
            } else if (says_the_same({{key, value}}, {{ns, known[ns]}})) {
                known.erase(ns), known[key] = value;
            }
        }
    return known;
}

json source_json(const SourceSpec& source);
SourceSpec source_from(const json& j, const std::string& at);
/// The player of the first format.
PlayerSpec player_from_first(const json& j, const std::string& at);

}  // namespace ruedo::reading
