// SPDX-License-Identifier: Apache-2.0
#include "player/theme.h"

#include <fmt/format.h>

#include <array>
#include <nlohmann/json.hpp>

#include "player/controls.h"

namespace ruedo {
namespace {
using ThemeType = ThemeMember::Type;
const std::array theme_rows{
    ThemeMember{"accent", ThemeType::colour, "colour of positions, levels and the chief control", "",
                "Its accent is {}.", "wine", "accent", &ThemeSpec::accent},
    ThemeMember{"text", ThemeType::colour, "colour of words and marks", "", "Words and marks are {}.",
                "dark on light and light on dark", "text", &ThemeSpec::text},
    ThemeMember{"background", ThemeType::colour, "colour of bars, and behind single controls on the picture", "",
                "The background is {}.", "sand", "background", &ThemeSpec::background},
    ThemeMember{"font", ThemeType::family, "font family; one that a device lacks is replaced by the device’s own", "",
                "The font is {}.", "the system’s", "font", &ThemeSpec::font},
    ThemeMember{"corner_px", ThemeType::integer, "corner radius of bars and controls", "px", "The corner radius is {}.",
                "the default", "corners", &ThemeSpec::corner, 0, 100},
    ThemeMember{"mark_size", ThemeType::integer, "size of marks, in per cent of the default", "%", "Marks are {}.",
                "at their default size", "marks", &ThemeSpec::mark_size, 50, 150},
};
}  // namespace

std::span<const ThemeMember> theme_members() { return theme_rows; }

bool ThemeMember::is_set(const ThemeSpec& theme) const {
    return std::visit([&](auto m) { return theme.*m != ThemeSpec{}.*m; }, place);
}
nlohmann::json ThemeMember::get(const ThemeSpec& theme) const {
    return std::visit([&](auto m) { return nlohmann::json(theme.*m); }, place);
}
std::optional<std::string> ThemeMember::set(ThemeSpec& theme, const nlohmann::json& v) const {
    if (auto* number = std::get_if<int ThemeSpec::*>(&place)) {
        if (!v.is_number_integer() || v.get<double>() < low || v.get<double>() > high)
            return fmt::format("must be an integer from {} to {}", low, high);
        theme.*(*number) = v.get<int>();
        return {};
    }
    auto* text = v.is_string() ? &v.get_ref<const std::string&>() : nullptr;
    if (type == Type::colour && (!text || !is_colour(*text))) return "must be a colour such as “#17131A”";
    if (!text || text->empty() || text->size() > 200) return "must be a text of 1 to 200 bytes";
    theme.*std::get<std::string ThemeSpec::*>(place) = *text;
    return {};
}

ThemeSpec inheriting(const ThemeSpec& own, const ThemeSpec& inherited) {
    auto theme = inherited;
    for (auto& row : theme_rows)
        if (row.is_set(own)) std::visit([&](auto m) { theme.*m = own.*m; }, row.place);
    return theme;
}

}  // namespace ruedo
