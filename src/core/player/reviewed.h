// SPDX-License-Identifier: Apache-2.0
// What the rules of a review share: a player as it is looked at, where things stand in the document, how one is fixed.
#pragma once
#include <fmt/format.h>

#include <algorithm>

#include "capture/camera.h"
#include "player/rules.h"
#include "player/screen.h"

namespace ruedo::reviewed {
using Fix = DocumentFinding::Fix;
using R = const Reviewing&;
using Kinds = std::initializer_list<std::string_view>;

/// One player of the document that is looked at.
struct Player {
    R r;
    std::size_t number;
    const PlayerSpec& spec;
    std::vector<std::size_t> queue;

    std::string at(std::string_view of) const { return fmt::format("/players/{}/{}", number, of); }
    bool alone() const { return r.document.players.size() == 1; }
    std::string nothing(std::string_view rest) const {
        return alone() ? fmt::format("Nothing on the player {}.", rest)
                       : fmt::format("Nothing on “{}” {}.", spec.name, rest);
    }
    /// Where there are several, each is named first.
    std::string of(std::string_view sentence, std::string_view of_several) const {
        return alone() ? std::string(sentence) : fmt::format("On “{}” {}", spec.name, of_several);
    }
    std::string named(const ControlSpec& c) const {
        return alone() ? fmt::format("“{}”", c.name) : fmt::format("“{}” on “{}”", c.name, spec.name);
    }
    static bool among(const ControlSpec& c, Kinds kinds) {
        return std::find(kinds.begin(), kinds.end(), c.kind->name) != kinds.end();
    }
    /// Whether one of these can be used in some moment of which `when` is true.
    bool usable(Kinds kinds, std::string_view when = {}) const {
        return std::any_of(spec.controls.begin(), spec.controls.end(), [&](auto& c) {
            if (!among(c, kinds)) return false;
            auto all = Condition::parse(c.settings.when);
            auto use = Condition::parse(c.settings.usable);
            auto then = Condition::parse(when);
            return all && use && then && all->goes_with(*use) && all->goes_with(*then) && use->goes_with(*then);
        });
    }
    /// In the slot, or where it would be looked for: at the end of a bar.
    Fix put(std::string_view what, const char* kind, std::string slot = {}) const {
        return {fmt::format("Put {} on it", what), [kind, slot, player = number](PlayerDocument& d) {
                    auto& p = d.player(player);
                    auto usual = p.bars.empty() ? "bottom" : p.bars.front().name + "/end";
                    p.put({.kind = &control_kind(kind)}, slot.empty() ? usual : slot);
                }};
    }
    template <class Change>
    Fix change(std::string words, Change how) const {
        return {std::move(words), [player = number, how](PlayerDocument& d) { how(d.player(player)); }};
    }
    bool handset() const { return shape_of(r.document.mount).handset; }
    const std::optional<ClipInfo>& clip(std::size_t source) const { return r.clips[source]; }
};
template <class F>
void every_player(R r, F&& f) {
    for (std::size_t i = 0; i < r.document.players.size(); ++i)
        f(Player{r, i, r.document.player(i), queue_of(r.document, i)});
}
/// Those that have something to play.
template <class F>
void each_player(R r, F&& f) {
    every_player(r, [&](const Player& p) {
        if (!p.queue.empty()) f(p);
    });
}
template <class F>
void each_control(R r, F&& f) {
    every_player(r, [&](const Player& p) {
        for (std::size_t i = 0; i < p.spec.controls.size(); ++i) f(p, i, p.spec.controls[i]);
    });
}
template <class F>
void each_source(R r, F&& f) {
    for (std::size_t i = 0; i < r.document.sources.size(); ++i) f(i, r.document.sources[i]);
}
inline std::string source_at(std::size_t i, std::string_view member) {
    return fmt::format("/sources/{}/{}", i, member);
}
inline std::string control_at(const Player& p, std::size_t i, std::string_view member = {}) {
    return p.at(fmt::format("controls/{}{}{}", i, member.empty() ? "" : "/", member));
}
inline bool comes_over_a_network(const SourceSpec& s) { return is_address(s.file) && !is_camera(s.file); }
template <class Change>
Fix fix_source(std::string words, std::size_t source, Change how) {
    return {std::move(words), [source, how](PlayerDocument& d) { how(d.sources.at(source)); }};
}
/// A control’s own settings.
template <class Change>
Fix fix_control(const Player& p, std::size_t i, std::string words, Change how) {
    return p.change(std::move(words), [i, how](PlayerSpec& spec) { how(spec.controls.at(i)); });
}
inline Fix take_away(const Player& p, std::size_t i) {
    return p.change("Take it away", [i](PlayerSpec& spec) {
        spec.controls.erase(spec.controls.begin() + static_cast<std::ptrdiff_t>(i));
    });
}

/// What of a player’s sources is known says that none of them has it.
inline bool none_has(const Player& p, bool (*has)(const SourceSpec&, const ClipInfo&)) {
    return !p.queue.empty() && std::all_of(p.queue.begin(), p.queue.end(), [&](auto i) {
        auto& clip = p.clip(i);
        return clip && !has(p.r.document.sources[i], *clip);
    });
}
inline bool has_kind(const ClipInfo& c, Kind kind) {
    return std::any_of(c.tracks.begin(), c.tracks.end(), [&](auto& t) { return t.kind == kind; });
}

/// The tables that make up `review_rules`.
std::span<const ReviewRule> rules_of_players();
std::span<const ReviewRule> rules_of_controls();
std::span<const ReviewRule> rules_of_sources();
std::span<const ReviewRule> rules_of_members();

}  // namespace ruedo::reviewed
