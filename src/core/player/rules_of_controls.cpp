// SPDX-License-Identifier: Apache-2.0
// What can be wrong with a control, and with several of them.
#include "player/reviewed.h"

namespace ruedo::reviewed {
namespace {

Fix as_its_kind_does(const Player& p, std::size_t i) {
    return fix_control(p, i, "Use the default visibility", [](ControlSpec& s) { s.settings.when.clear(); });
}
/// What a condition of it says, where both can be read.
struct Conditions {
    Condition when, usable;
};
std::optional<Conditions> conditions_of(const ControlSpec& c) {
    auto when = Condition::parse(c.settings.when), usable = Condition::parse(c.settings.usable);
    return when && usable ? std::optional(Conditions{*when, *usable}) : std::nullopt;
}
void never_seen(R r) {
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        if (auto is = conditions_of(c); is && !is->when.possible())
            r.note(fmt::format("{} never appears: “{}” never holds.", p.named(c), is->when.text()),
                   control_at(p, i, "when"), as_its_kind_does(p, i));
    });
}
void never_usable(R r) {
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        auto is = conditions_of(c);
        if (!is || !is->when.possible() || is->when.goes_with(is->usable)) return;
        auto sentence = is->usable.possible()
                            ? fmt::format("{} can be used only while it is hidden: “{}” and “{}” never hold together.",
                                          p.named(c), is->when.text(), is->usable.text())
                            : fmt::format("{} can never be used: “{}” never holds.", p.named(c), is->usable.text());
        r.note(std::move(sentence), control_at(p, i, "usable"),
               fix_control(p, i, "Let it be used whenever it has an effect",
                           [](ControlSpec& s) { s.settings.usable.clear(); }));
    });
}
/// What an accent colours are shapes that mean something.
void accent_hard_to_see(R r) {
    constexpr double enough = 3;
    every_player(r, [&](const Player& p) {
        for (std::size_t i = 0; i < p.spec.bars.size(); ++i) {
            auto& bar = p.spec.bars[i];
            auto theme = p.spec.theme_on(&bar);
            auto behind = theme.background.empty() ? std::string(usual_background) : theme.background;
            if (theme.accent.empty() || contrast(theme.accent, behind) >= enough) continue;
            bool own = !bar.theme.accent.empty();
            r.note(fmt::format("The accent {} is hard to see on the bar “{}”: its contrast with {} is {:.1f} to 1.",
                               theme.accent, bar.name, behind, contrast(theme.accent, behind)),
                   p.at(own ? fmt::format("bars/{}/theme/accent", i) : std::string("theme/accent")),
                   p.change("Use the default accent",
                            [i, own](PlayerSpec& s) { (own ? s.bars.at(i).theme : s.theme).accent.clear(); }));
            if (!own) return;  // the others inherit it as well
        }
    });
}
void says_nothing(R r) {
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        if (Player::among(c, {"words"}) && c.settings.words.empty())
            r.note(fmt::format("{} says nothing.", p.named(c)), control_at(p, i), take_away(p, i));
    });
}
/// No layout lays one over another; what can meet is two that do the same.
void in_one_place(R r) {
    each_player(r, [&](const Player& p) {
        auto& all = p.spec.controls;
        for (std::size_t a = 0; a < all.size(); ++a)
            for (std::size_t b = a + 1; b < all.size(); ++b) {
                auto &x = all[a], &y = all[b];
                if (x.kind != y.kind || x.slot != y.slot || !x.kind->takes_input()) continue;
                if (x.settings.by != y.settings.by || x.settings.frames != y.settings.frames ||
                    x.settings.speeds != y.settings.speeds)
                    continue;
                auto one = Condition::parse(x.settings.when), other = Condition::parse(y.settings.when);
                if (!one || !other || !one->goes_with(*other)) continue;
                r.note(fmt::format("{} and {} do the same in one place.", p.named(x), p.named(y)),
                       control_at(p, b, "slot"), take_away(p, b));
                return;
            }
    });
}
void press_small(R r) {
    auto touch = shape_of(r.document.mount).touch;
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        int least = touch ? 44 : 24;
        if (c.kind->takes_input() && c.settings.size > 0 && c.settings.size < least)
            r.note(fmt::format("{} is {} pixels high; {} needs {}.", p.named(c), c.settings.size,
                               touch ? "a finger" : "a pointer", least),
                   control_at(p, i, "size"),
                   fix_control(p, i, fmt::format("Make it {} pixels high", least),
                               [least](ControlSpec& s) { s.settings.size = least; }));
    });
}
void not_by_keyboard(R r) {
    // Whatever has the focus counts as touched, so what shows only while nobody touches is gone by then.
    static const auto touched = *Condition::parse("not no touch for 0.1 s");
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        auto when = Condition::parse(c.settings.when);
        if (c.kind->takes_input() && when && when->possible() && !when->goes_with(touched))
            r.note(fmt::format("{} can’t be reached by keyboard: it hides as soon as a key is pressed.", p.named(c)),
                   control_at(p, i, "when"), as_its_kind_does(p, i));
    });
}
void no_name(R r) {
    auto moment = usual_moment();
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        auto label = label_of(c, moment);
        bool blank = label.find_first_not_of(" \t\n") == std::string::npos;
        if (c.kind->takes_input() && blank)
            r.note(fmt::format("{} has no accessible name.", p.named(c)), control_at(p, i, "words"),
                   fix_control(p, i, "Use its default label", [](ControlSpec& s) { s.settings.words.clear(); }));
    });
}
void key_of_two(R r) {
    each_player(r, [&](const Player& p) {
        for (bool onward : {false, true}) {
            std::optional<std::pair<std::size_t, Time>> first;
            for (std::size_t i = 0; i < p.spec.controls.size(); ++i) {
                auto& c = p.spec.controls[i];
                auto press = c.kind->press(usual_moment(), c.settings);
                if (press.what != Press::What::skip || (press.by > Time{}) != onward) continue;
                if (!first) {
                    first = {i, press.by};
                } else if (press.by != first->second) {
                    r.note(fmt::format("{} and {} both want the key {}; the first has it.",
                                       p.named(p.spec.controls[first->first]), p.named(c),
                                       onward ? "Alt+Right" : "Alt+Left"),
                           control_at(p, i),
                           fix_control(p, i, "Make both skip equally far",
                                       [by = p.spec.controls[first->first].settings.by](ControlSpec& s) {
                                           s.settings.by = by;
                                       }));
                    break;
                }
            }
        }
    });
}
void nothing_behind(R r) {
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        if (Player::among(c, {"volume", "mute", "level"}) &&
            none_has(p, [](const SourceSpec&, const ClipInfo& clip) { return has_kind(clip, Kind::audio); }))
            r.note(fmt::format("{} has no effect: no source has sound.", p.named(c)), control_at(p, i),
                   take_away(p, i));
    });
}
void rail_on_live(R r) {
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        if (!Player::among(c, {"position"})) return;
        bool all = !p.queue.empty() && std::all_of(p.queue.begin(), p.queue.end(), [&](auto s) {
            auto& clip = p.clip(s);
            return is_camera(r.document.sources[s].file) ||
                   (clip && clip->live && clip->container != "hls" && clip->container != "dash");
        });
        if (all)
            r.note(fmt::format("{} can’t seek: every source is live.", p.named(c)), control_at(p, i), take_away(p, i));
    });
}
void captions_unreachable(R r) {
    each_player(r, [&](const Player& p) {
        if (p.usable({"captions", "tracks"})) return;
        for (auto i : p.queue) {
            auto& s = r.document.sources[i];
            auto& clip = p.clip(i);
            if ((s.captions.empty() && !(clip && has_kind(*clip, Kind::text))) || !s.text_language.empty()) continue;
            return r.note(fmt::format("“{}” has captions, and nothing on the player shows them.", s.name),
                          p.at("controls"), p.put("“captions”", "captions"));
        }
    });
}
void silent_for_good(R r) {
    each_player(r, [&](const Player& p) {
        if ((p.spec.muted || p.spec.volume == 0) && !p.usable({"mute", "volume"}) &&
            !none_has(p, [](const SourceSpec&, const ClipInfo& c) { return has_kind(c, Kind::audio); }))
            r.note("It starts muted, and no control unmutes it.", p.at("controls"), p.put("“mute”", "mute"));
    });
}

constexpr std::array control_rows{
    ReviewRule{"never-seen", "A control that is never visible.", "Its condition never holds.", never_seen},
    ReviewRule{"never-usable", "A control that can never be used while it is visible.", "Its conditions never hold.",
               never_usable},
    ReviewRule{"accent-hard-to-see", "The accent of a theme has a contrast below 3 to 1 with its bar.",
               "Position and volume can’t be read.", accent_hard_to_see},
    ReviewRule{"says-nothing", "An empty template.", "Give it words, or remove it.", says_nothing},
    ReviewRule{"in-one-place", "Two controls with the same function in one place.",
               "Users look for a difference between the two.", in_one_place},
    ReviewRule{"too-small", "A control smaller than a finger (44 pixels) or a pointer (24) needs.",
               "Users will miss it.", press_small},
    ReviewRule{"not-by-keyboard", "A control that is visible only without input.",
               "Users without a pointer can’t reach it.", not_by_keyboard},
    ReviewRule{"no-name", "A control with a blank label.", "A screen reader can’t say what it does.", no_name},
    ReviewRule{"key-of-two", "Two controls skip in the same direction by different times.", "One key can’t do both.",
               key_of_two},
    ReviewRule{"nothing-behind", "A control for audio where no source has any.", "It would never be visible.",
               nothing_behind},
    ReviewRule{"rail-on-live", "A position control where every source is live without a seekable window.",
               "There is nowhere to seek.", rail_on_live},
    ReviewRule{"captions-unreachable", "Captions without a control to show them.",
               "Users who need captions can’t turn them on.", captions_unreachable},
    ReviewRule{"silent-for-good", "It starts muted, and no control unmutes it.", "It would stay silent.",
               silent_for_good},
};
}  // namespace

std::span<const ReviewRule> rules_of_controls() { return control_rows; }

}  // namespace ruedo::reviewed
