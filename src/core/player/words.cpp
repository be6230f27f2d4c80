// SPDX-License-Identifier: Apache-2.0
// Words of a developer's own, in which properties stand in braces.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "playback/properties.h"
#include "player/controls.h"

namespace ruedo {
namespace {
/// Shorter names for what labels mostly say.
struct Short {
    std::string_view name, property;
};
constexpr std::array short_names{Short{"time", "position_ns"},     Short{"length", "duration_ns"},
                                 Short{"left", "left_ns"},         Short{"behind", "behind_ns"},
                                 Short{"error", "error_sentence"}, Short{"speed", "rate"}};
const Property* property_said(std::string_view name) {
    for (auto& s : short_names)
        if (s.name == name) return find_property(s.property);
    return find_property(name);
}
std::string value_said(const Property& p, const Snapshot& s) {
    auto v = p.value(s);
    if (v.is_null()) return "–";
    switch (p.type) {
        case Property::Type::time:
            return format_clock(Time{v.get<std::int64_t>()});
        case Property::Type::yes_or_no:
            return v.get<bool>() ? "yes" : "no";
        case Property::Type::number:
            return fmt::format("{:.3g}", v.get<double>());
        case Property::Type::whole:
            return v.dump();
        case Property::Type::word:
        case Property::Type::text:
            return v.get<std::string>();
    }
    return {};
}
/// Calls `plain` with what stands outside braces and `named` with what stands inside; false where a brace is alone.
template <class Plain, class Named>
bool through_words(std::string_view words, Plain plain, Named named) {
    while (!words.empty()) {
        auto open = words.find_first_of("{}");
        plain(words.substr(0, open));
        if (open == std::string_view::npos) return true;
        auto close = words.find('}', open);
        if (words[open] == '}' || close == std::string_view::npos) return false;
        named(words.substr(open + 1, close - open - 1));
        words.remove_prefix(close + 1);
    }
    return true;
}
}  // namespace

std::string short_words() {
    std::string list;
    for (auto& s : short_names) list += fmt::format("{} `{}` for `{}`", list.empty() ? "" : ",", s.name, s.property);
    return list;
}

std::string fill_words(std::string_view words, const ControlContext& c) {
    std::string said;
    through_words(
        words, [&](auto plain) { said += plain; },
        [&](auto name) {
            if (name == "title")
                said += c.title.empty() ? c.snapshot.source : c.title;
            else if (name == "number" || name == "count")
                said += std::to_string(name == "number" ? c.index + 1 : c.count);
            else if (auto* p = property_said(name))
                said += value_said(*p, c.snapshot);
        });
    return said;
}
std::optional<std::string> wrong_words(std::string_view words) {
    std::optional<std::string> wrong;
    bool closed = through_words(
        words, [](auto) {},
        [&](auto name) {
            if (!wrong && name != "title" && name != "number" && name != "count" && !property_said(name))
                wrong = fmt::format("speaks of “{}”, which is no property", name);
        });
    return wrong || closed ? wrong : std::optional<std::string>("has a brace that stands alone");
}

}  // namespace ruedo
