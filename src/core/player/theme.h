// SPDX-License-Identifier: Apache-2.0
// How the controls of a player look where they have no settings of their own: one row for each member, of which
// documents, their schema, the sentences and docs/project.md are made.
#pragma once
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <span>
#include <string>
#include <variant>

namespace ruedo {

/// Of a player, or of one of its bars, where it counts before the player's. What is empty, or out of its range, is
/// inherited.
struct ThemeSpec {
    std::string accent;      ///< Colour of positions, levels and the chief control.
    std::string text;        ///< Colour of words and marks.
    std::string background;  ///< Colour of bars, and behind what stands on the picture alone.
    std::string font;        ///< Family of its words.
    int corner = -1;         ///< Radius of corners, in pixels.
    int mark_size = 0;       ///< Per cent of the usual size of marks.
    std::string extra{};     ///< Members this version does not know: JSON, or nothing.
    bool operator==(const ThemeSpec&) const = default;
};

/// One member: its name in documents, what it may be, and where it is kept.
struct ThemeMember {
    enum class Type { colour, family, integer };
    using Place = std::variant<std::string ThemeSpec::*, int ThemeSpec::*>;
    std::string_view name;
    Type type;
    std::string_view meaning, unit;
    std::string_view sentence;  ///< How it is said; its value stands in the braces.
    std::string_view usual;     ///< How it is said where nobody sets it.
    std::string_view subject;   ///< What it is called in the one sentence of all that is at its default.
    Place place;
    int low = 0, high = 0;  ///< Of whole numbers.

    nlohmann::json get(const ThemeSpec& theme) const;
    /// Says what is wrong with a value that it does not take, in words that go on after its place in the document.
    std::optional<std::string> set(ThemeSpec& theme, const nlohmann::json& value) const;
    bool is_set(const ThemeSpec& theme) const;
};
std::span<const ThemeMember> theme_members();

/// What bars are where no theme says otherwise, and the accent on them.
constexpr std::string_view usual_background = "#EDE3CF", usual_accent = "#8A2436";
/// `own`, and where that sets nothing, `inherited`.
ThemeSpec inheriting(const ThemeSpec& own, const ThemeSpec& inherited);

/// The contrast of two colours (WCAG 2.2), 1 to 21.
double contrast(std::string_view a, std::string_view b);
/// Whether light words are read better on a colour (“#RRGGBB”) than dark ones.
bool is_dark(std::string_view colour);

}  // namespace ruedo
