// SPDX-License-Identifier: Apache-2.0
// What can be set of a control: one row for each setting.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <nlohmann/json.hpp>

#include "player/controls.h"

namespace ruedo {
namespace {

constexpr std::array<std::string_view, 3> show_names{"mark", "words", "both"};

using Setting = SettingKind::Type;
const std::array settings_rows{
    SettingKind{"by_ns", Setting::time, "what a press skips", "A press skips {}.", "10 seconds", "",
                &ControlSettings::by, 1'000'000, 3'600'000'000'000},
    SettingKind{"frames", Setting::integer, "how many frames a press steps", "A press steps {}.", "1 frame", "",
                &ControlSettings::frames, 1, 1000},
    SettingKind{"speeds", Setting::speeds, "the speeds that presses go through, 0.25 to 4, rising",
                "Presses go through the speeds {}.", "0.5 1 1.5 2", "", &ControlSettings::speeds},
    SettingKind{"template", Setting::template_words, "its text; properties stand in braces", "Its text is {}.",
                "nothing", "", &ControlSettings::words},
    SettingKind{"figures", Setting::yes_or_no, "time and time left are shown under the rail",
                "Under the rail it shows {}.", "time and time left/no figures", "", &ControlSettings::figures},
    SettingKind{"ticks", Setting::yes_or_no, "keyframes are marked on the rail, of local clips", "On the rail {}.",
                "keyframes are marked/no keyframes are marked", "", &ControlSettings::ticks},
    SettingKind{"stills", Setting::yes_or_no, "while it is dragged, the frame at that position is shown above it",
                "While it is dragged, {}.", "the frame at that position is shown above it/no frame is shown", "",
                &ControlSettings::stills},
    SettingKind{"show", Setting::choice, "a mark, words, or both", "It shows {}.", "a mark", "",
                &ControlSettings::show},
    SettingKind{"words", Setting::words, "its label, where the default is not meant", "Its label is {}.",
                "the action a press will take", "label", &ControlSettings::words},
    SettingKind{"when", Setting::condition, "when it is visible (docs/conditions.md)", "It appears {}.",
                "with the other controls", "visibility", &ControlSettings::when},
    SettingKind{"usable", Setting::condition, "when it can be used (docs/conditions.md)", "It can be used {}.",
                "whenever it has an effect", "use", &ControlSettings::usable},
    SettingKind{"size", Setting::integer, "height in pixels; 0 for the mount’s default", "Its height is {}.",
                "the mount’s default", "height", &ControlSettings::size, 0, 400},
    SettingKind{"ink", Setting::colour, "colour of its mark and words", "Its colour is {}.", "the theme’s", "colour",
                &ControlSettings::ink},
    SettingKind{"ground", Setting::colour, "colour of its background", "Its background is {}.", "the theme’s",
                "background", &ControlSettings::ground},
    SettingKind{"radius", Setting::integer, "corner radius of its background, in pixels; -1 for the default",
                "Its corner radius is {}.", "the default", "corners", &ControlSettings::radius, -1, 200},
    SettingKind{"rank", Setting::integer, "what moves into the ⋯ menu first has the highest, 1 to 9; 0 for the default",
                "Without enough room it moves into the ⋯ menu {}.", "in the default order", "order in the ⋯ menu",
                &ControlSettings::rank, 0, 9},
};

template <class... F>
struct Each : F... {
    using F::operator()...;
};

}  // namespace

std::span<const SettingKind> setting_kinds() { return settings_rows; }
const SettingKind* find_setting(std::string_view name) {
    auto it = std::find_if(settings_rows.begin(), settings_rows.end(), [&](auto& s) { return s.name == name; });
    return it == settings_rows.end() ? nullptr : &*it;
}

nlohmann::json SettingKind::get(const ControlSettings& settings) const {
    return std::visit(Each{[&](Time ControlSettings::* m) { return nlohmann::json((settings.*m).ns); },
                           [&](ControlSettings::Show ControlSettings::* m) {
                               return nlohmann::json(show_names.at(static_cast<std::size_t>(settings.*m)));
                           },
                           [&](auto m) { return nlohmann::json(settings.*m); }},
                      place);
}

std::optional<std::string> SettingKind::set(ControlSettings& settings, const nlohmann::json& v) const {
    auto text = [&]() -> const std::string* {
        return v.is_string() && v.get_ref<const std::string&>().size() <= 4096 ? &v.get_ref<const std::string&>()
                                                                               : nullptr;
    };
    auto integer = [&](auto write) -> std::optional<std::string> {
        bool fits = v.is_number_integer() && (!v.is_number_unsigned() || v.get<std::uint64_t>() <= INT64_MAX);
        if (!fits || v.get<std::int64_t>() < low || v.get<std::int64_t>() > high)
            return type == Type::time ? fmt::format("must be an integer of nanoseconds from {} to {}", low, high)
                                      : fmt::format("must be an integer from {} to {}", low, high);
        write(v.get<std::int64_t>());
        return {};
    };
    auto words = [&](std::string ControlSettings::* m) -> std::optional<std::string> {
        if (!text()) return "must be a text of at most 4096 bytes";
        if (type == Type::colour && !text()->empty() && !is_colour(*text()))
            return "must be a colour such as “#17131A”";
        if (type == Type::template_words)
            if (auto wrong = wrong_words(*text())) return wrong;
        settings.*m = *text();
        return {};
    };
    return std::visit(
        Each{[&](Time ControlSettings::* m) { return integer([&](auto n) { settings.*m = Time{n}; }); },
             [&](int ControlSettings::* m) { return integer([&](auto n) { settings.*m = static_cast<int>(n); }); },
             [&](std::string ControlSettings::* m) { return words(m); },
             [&](bool ControlSettings::* m) -> std::optional<std::string> {
                 if (!v.is_boolean()) return "must be true or false";
                 settings.*m = v.get<bool>();
                 return {};
             },
             [&](ControlSettings::Show ControlSettings::* m) -> std::optional<std::string> {
                 auto at = text() ? std::find(show_names.begin(), show_names.end(), *text()) : show_names.end();
                 if (at == show_names.end()) return "must be one of “mark”, “words”, “both”";
                 settings.*m = static_cast<ControlSettings::Show>(at - show_names.begin());
                 return {};
             },
             [&](std::vector<double> ControlSettings::* m) -> std::optional<std::string> {
                 std::vector<double> list;
                 bool fine = v.is_array() && !v.empty() && v.size() <= 12;
                 for (std::size_t i = 0; fine && i < v.size(); ++i) {
                     fine = v[i].is_number() && v[i].get<double>() >= 0.25 && v[i].get<double>() <= 4 &&
                            (list.empty() || v[i].get<double>() > list.back());
                     if (fine) list.push_back(v[i].get<double>());
                 }
                 if (!fine) return "must be one to twelve rising speeds from 0.25 to 4";
                 settings.*m = std::move(list);
                 return {};
             }},
        place);
}

bool is_colour(std::string_view text) {
    return text.size() == 7 && text[0] == '#' &&
           std::all_of(text.begin() + 1, text.end(), [](unsigned char c) { return std::isxdigit(c); });
}

}  // namespace ruedo
