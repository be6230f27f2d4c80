// SPDX-License-Identifier: Apache-2.0
#include "player/rules.h"

#include "player/reviewed.h"

namespace ruedo {
namespace reviewed {
namespace {

// ---- ways on and out

void nothing_to_play(R r) {
    if (r.document.sources.empty()) return;
    every_player(r, [&](const Player& p) {
        if (p.queue.empty())
            r.note(p.of("there is nothing to play.", "there is nothing to play."), p.at("sources"),
                   p.change("Let it play every source", [](PlayerSpec& s) { s.sources.reset(); }));
    });
}
void no_way_to_start(R r) {
    each_player(r, [&](const Player& p) {
        if (r.document.sources[p.queue.front()].start.how == Start::How::hold && !p.usable({"toggle", "play", "start"}))
            r.note(p.of("The player is paused at the start and no control starts it.",
                        "it is paused at the start and no control starts it."),
                   p.at("controls"), p.put("the large mark", "start", "centre"));
    });
}
void silent_failure(R r) {
    each_player(r, [&](const Player& p) {
        if (!p.usable({"failure"}))
            r.note(p.of("The player does not show failures.", "failures are not shown."), p.at("controls"),
                   p.put("the failure sign", "failure", "centre"));
    });
}
void no_way_on(R r) {
    each_player(r, [&](const Player& p) {
        if (p.usable({"failure"}) && !p.usable({"retry", "leave", "next", "previous", "strip"}))
            r.note(
                p.of("After a failure no control retries or leaves.", "after a failure no control retries or leaves."),
                p.at("controls"), p.put("“try again”", "retry", "centre"));
    });
}
void no_way_to_pause(R r) {
    each_player(r, [&](const Player& p) {
        // What nobody is meant to touch is let be: a loop in a hall, for instance.
        bool touched = std::any_of(p.spec.controls.begin(), p.spec.controls.end(), [](auto& c) {
            return c.kind->takes_input() && !Player::among(c, {"start", "retry", "mute", "volume"});
        });
        if (!touched) return;
        bool all_live =
            std::all_of(p.queue.begin(), p.queue.end(), [&](auto i) { return is_camera(r.document.sources[i].file); });
        if (!all_live && !p.usable({"toggle", "pause", "stop"}, "playing"))
            r.note(p.nothing("pauses it"), p.at("controls"), p.put("“play or pause”", "toggle"));
    });
}
void no_way_out_of_full_screen(R r) {
    each_player(r, [&](const Player& p) {
        if (p.usable({"full-screen"}, "not in full screen") && !p.usable({"full-screen", "leave"}, "in full screen"))
            r.note(p.nothing("leads out of full screen, though something leads into it"), p.at("controls"),
                   p.put("“full screen”", "full-screen"));
    });
}
void no_way_to_leave(R r) {
    each_player(r, [&](const Player& p) {
        if (p.handset() && !p.usable({"leave"}) && p.spec.at_end != AtEnd::leave)
            r.note(p.nothing("leaves it"), p.at("controls"), p.put("“leave”", "leave"));
    });
}
void no_way_back(R r) {
    each_player(r, [&](const Player& p) {
        bool stays = p.spec.at_end == AtEnd::hold || (p.spec.at_end == AtEnd::next && p.queue.size() < 2);
        bool loops = std::all_of(p.queue.begin(), p.queue.end(), [&](auto i) {
            return r.document.sources[i].loop.kind != Loop::Kind::none || is_camera(r.document.sources[i].file);
        });
        if (stays && !loops &&
            !p.usable({"toggle", "play", "start", "position", "back", "stop", "strip", "previous", "next"},
                      "at the end"))
            r.note(p.nothing("leads back from the end"), p.at("controls"), p.put("“play or pause”", "toggle"));
    });
}
bool over_a_network(const Player& p) {
    return std::any_of(p.queue.begin(), p.queue.end(),
                       [&](auto i) { return comes_over_a_network(p.r.document.sources[i]); });
}
void silent_waiting(R r) {
    each_player(r, [&](const Player& p) {
        if (over_a_network(p) && !p.usable({"waiting"}, "waiting"))
            r.note(p.nothing("says that it waits for the network"), p.at("controls"),
                   p.put("the waiting sign", "waiting"));
    });
}
void waits_for_ever(R r) {
    each_player(r, [&](const Player& p) {
        if (over_a_network(p) && p.spec.give_up_after == Time{} && p.usable({"waiting"}, "waiting"))
            r.note("If the network stalls, the spinner never ends.", p.at("give_up_after_ns"),
                   p.change("Give up after 30 seconds", [](PlayerSpec& s) { s.give_up_after = 30_s; }));
    });
}
void silent_delay(R r) {
    each_player(r, [&](const Player& p) {
        for (auto i : p.queue)
            if (auto& s = r.document.sources[i];
                s.start.how == Start::How::delay && s.start.delay > 1_s && !p.usable({"countdown"}, "counting down"))
                return r.note(fmt::format("“{}” starts by itself after {:g} s, and nothing counts down to it.", s.name,
                                          s.start.delay.seconds()),
                              source_at(i, "start"), p.put("the countdown", "countdown"));
    });
}

// ---- several of them, and the app round them

void all_at_once(R r) {
    std::vector<std::string_view> loud;
    for (std::size_t p = 0; p < r.document.players.size(); ++p)
        if (starts_loud(r.document, p)) loud.push_back(r.document.player(p).name);
    if (loud.size() > 1 && !r.document.screen.one_sounds)
        r.note(fmt::format("“{}” and “{}” both start by themselves with sound.", loud[0], loud[1]), "/players",
               Fix{"Let one sound at a time", [](PlayerDocument& d) { d.screen.one_sounds = true; }});
}
void plays_unseen(R r) {
    static const auto row = host_row("background");
    each_player(r, [&](const Player& p) {
        if (p.spec.host.of(row) == HostAction::go_on)
            r.note(fmt::format("“{}” keeps playing in the background.", p.spec.name), p.at("host/background"),
                   p.change("Let it pause", [](PlayerSpec& s) { s.host.actions[row].reset(); }));
    });
}
void never_released(R r) {
    static const auto row = host_row("background");
    each_player(r, [&](const Player& p) {
        bool camera =
            std::any_of(p.queue.begin(), p.queue.end(), [&](auto i) { return is_camera(r.document.sources[i].file); });
        if (camera && p.spec.host.of(row) != HostAction::let_go)
            r.note(fmt::format("“{}” keeps its camera in the background.", p.spec.name),
                   fmt::format("/players/{}", p.number), p.change("Release it in the background", [](PlayerSpec& s) {
                       s.host.actions[row] = HostAction::let_go;
                   }));
    });
}

constexpr std::array player_rows{
    ReviewRule{"nothing-to-play", "A player with an empty queue, though there are sources.",
               "Its place on the screen stays empty.", nothing_to_play, Severity::error},
    ReviewRule{"no-way-to-start", "It is paused at the start, and no control starts it.",
               "Add a control that plays, or let the source start by itself.", no_way_to_start},
    ReviewRule{"silent-failure", "Failures are not shown.", "Add the failure sign; without it the screen stays empty.",
               silent_failure},
    ReviewRule{"no-way-on", "After a failure nothing retries or leaves.", "Add “try again” or “leave”.", no_way_on},
    ReviewRule{"no-way-to-pause", "No control pauses it.", "A key may, but users can’t see keys.", no_way_to_pause},
    ReviewRule{"no-way-out-of-full-screen", "A control leads into full screen, and none out of it.",
               "Without a keyboard users are stuck in full screen.", no_way_out_of_full_screen},
    ReviewRule{"no-way-to-leave", "On a handset no control leaves the player.", "There is no window to close.",
               no_way_to_leave},
    ReviewRule{"no-way-back", "It stays at its end, and no control plays it again.", "Users can only close it.",
               no_way_back},
    ReviewRule{"silent-waiting", "A source on a network, and no spinner while it waits.",
               "A frozen frame looks broken.", silent_waiting},
    ReviewRule{"waits-for-ever", "A spinner without a timeout.", "The spinner promises data that may never arrive.",
               waits_for_ever},
    ReviewRule{"silent-delay", "A source starts by itself after a delay, and nothing counts down.",
               "It would start unexpectedly.", silent_delay},
    ReviewRule{"all-at-once", "Several players start by themselves with sound.",
               "They would be heard at the same time.", all_at_once},
    ReviewRule{"plays-unseen", "It plays on in the background.",
               "Sound from an invisible player is taken for a fault, and it costs power.", plays_unseen},
    ReviewRule{"never-released", "A camera stays open in the background.",
               "No other app could use it, and its light stays on.", never_released},
};
}  // namespace

std::span<const ReviewRule> rules_of_players() { return player_rows; }
}  // namespace reviewed

std::span<const ReviewRule> review_rules() {
    static const auto all = [] {
        std::vector<ReviewRule> list;
        for (auto part : {reviewed::rules_of_players(), reviewed::rules_of_controls(), reviewed::rules_of_sources(),
                          reviewed::rules_of_members()})
            list.insert(list.end(), part.begin(), part.end());
        return list;
    }();
    return all;
}

std::string findings_page() {
    std::string page =
        "# Findings\n\nMade from the tables in `src/core/player/rules*.cpp`. What a review of a player\nfinds besides "
        "the findings about files and addresses, and those about a room "
        "([room.md](room.md)). Most have a fix in one press.\n\n"
        "| code | what is found | why it matters |\n|---|---|---|\n";
    for (auto& r : review_rules()) page += fmt::format("| `{}` | {} | {} |\n", r.code, r.meaning, r.why);
    return page +
           "| `hard-to-read` | Words or marks whose contrast with the clip’s own pictures is below 4.5 to 1. | Users "
           "can’t read them there. |\n";
}

}  // namespace ruedo
