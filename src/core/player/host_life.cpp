// SPDX-License-Identifier: Apache-2.0
#include "player/host_life.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "player/reading.h"

namespace ruedo {
namespace {
struct ActionWords {
    std::string_view name, words;
};
constexpr std::array action_rows{ActionWords{"go-on", "keeps playing"},
                                 ActionWords{"pause", "pauses"},
                                 ActionWords{"pause-and-return", "pauses, and resumes after it"},
                                 ActionWords{"soften", "plays softly until it is over"},
                                 ActionWords{"silence", "plays silently until it is over"},
                                 ActionWords{"let-go", "releases everything, and returns to its position"},
                                 ActionWords{"begin-anew", "releases everything, and starts over"}};

using enum HostAction;
constexpr std::array covered{go_on, pause, pause_and_return};
constexpr std::array background{pause, pause_and_return, let_go, go_on};
constexpr std::array call{pause_and_return, pause, silence, go_on};
constexpr std::array asleep{pause, pause_and_return, let_go};
constexpr std::array torn_down{let_go, begin_anew};
constexpr std::array lost{pause, silence, go_on};
constexpr std::array lent{pause_and_return, pause, soften, silence, go_on};
constexpr std::array shared{soften, pause_and_return, silence, go_on};
constexpr std::array unplugged{pause, go_on};
constexpr std::array output{go_on, pause};

constexpr std::array<HostRow, host_row_count> rows{
    HostRow{"covered", "covered", "foreground", "other windows cover all of it", "When other windows cover it, it",
            "covered", covered},
    HostRow{"background", "background", "foreground", "it is minimized, or another app is in front",
            "In the background it", "in the background", background},
    HostRow{"call", "call", "end-call", "a phone call is active", "While a phone call lasts it", "called away", call},
    HostRow{"asleep", "sleep", "wake", "the machine sleeps, or its session is locked", "When the machine sleeps it",
            "asleep", asleep},
    HostRow{"torn-down", "tear-down", "bring-back", "the system ends it to save memory, and brings it back later",
            "When it is torn down and brought back it", "torn down", torn_down},
    HostRow{"sound-lost", "lose-sound", "sound-back", "another app has taken audio output for good",
            "When another app takes over audio, it", "", lost},
    HostRow{"sound-lent", "lend-sound", "sound-back", "another app needs audio for a moment, such as a spoken hint",
            "When another app needs audio briefly, it", "", lent},
    HostRow{"sound-shared", "share-sound", "sound-back", "another app plays too, and asks for lower volume",
            "When another app asks it to be quieter, it", "", shared},
    HostRow{"unplugged", "unplug", "", "the output device was removed, such as headphones",
            "When headphones are pulled out, it", "", unplugged},
    HostRow{"output", "output-changed", "", "audio continues on another device",
            "When audio moves to another device, it", "", output},
};
constexpr double softened = 0.2;
bool holds_it_back(HostAction d) { return d == pause || d == pause_and_return || d == let_go || d == begin_anew; }
}  // namespace

std::string_view action_name(HostAction d) { return action_rows.at(static_cast<std::size_t>(d)).name; }
std::string_view action_words(HostAction d) { return action_rows.at(static_cast<std::size_t>(d)).words; }
std::span<const HostRow, host_row_count> host_rows() { return rows; }
std::size_t host_row(std::string_view name) {
    return static_cast<std::size_t>(std::find_if(rows.begin(), rows.end(), [&](auto& r) { return r.name == name; }) -
                                    rows.begin());
}
bool is_host_word(std::string_view word) {
    return !word.empty() &&
           std::any_of(rows.begin(), rows.end(), [&](auto& r) { return r.begins == word || r.ends == word; });
}
std::string host_words() {
    std::string all;
    auto add = [&](std::string_view word) {
        auto quoted = fmt::format("“{}”", word);
        if (!word.empty() && all.find(quoted) == all.npos) all += (all.empty() ? "" : ", ") + quoted;
    };
    for (auto& r : rows) add(r.begins), add(r.ends);
    return all;
}

double HostLife::heard(const HostSpec& spec) const {
    double part = 1;
    for (std::size_t i = 0; i < host_row_count; ++i) {
        if (!holds[i]) continue;
        if (spec.of(i) == soften) part = std::min(part, softened);
        if (spec.of(i) == silence) part = 0;
    }
    return part;
}

std::string_view HostLife::place() const {
    // A player that was torn down is not in the background, and a call outranks what lies beneath it.
    for (std::size_t i : {4U, 3U, 2U, 1U, 0U})
        if (holds[i]) return rows[i].hoop;
    return "in front";
}

HostEffects happen(HostLife& life, std::string_view word, const HostSpec& spec, bool plays) {
    HostEffects out;
    auto tell = [&](std::string_view what, std::string_view does) {
        out.told += fmt::format("{}{}: {}", out.told.empty() ? "" : "; ", what, does);
    };
    bool ended = false;
    for (std::size_t i = 0; i < host_row_count; ++i) {
        auto& row = rows[i];
        if (word == row.ends && life.holds[i]) {
            life.holds[i] = false;
            ended = true;
            if (spec.of(i) == soften || spec.of(i) == silence) tell(row.name, "over, as loud as before");
        }
        if (word != row.begins || life.holds[i]) continue;
        life.holds[i] = !row.ends.empty();
        auto action = spec.of(i);
        tell(row.name, action_words(action));
        if (!holds_it_back(action)) continue;
        // `pause-and-return` owes playing; `pause` cancels that.
        if (action == pause)
            life.owes_playing = false;
        else if (plays)
            life.owes_playing = true;
        out.pause = out.pause || plays;
        if (action == let_go || action == begin_anew) {
            out.let_go = !life.let_go;
            life.let_go = true;
            life.anew = action == begin_anew;
        }
    }
    if (!ended) return out;
    bool held = false, gone = false;
    for (std::size_t i = 0; i < host_row_count; ++i) {
        held = held || (life.holds[i] && holds_it_back(spec.of(i)));
        gone = gone || (life.holds[i] && (spec.of(i) == let_go || spec.of(i) == begin_anew));
    }
    if (life.let_go && !gone) {
        out.come_back = true;
        life.let_go = false;
        tell(word, life.anew ? "starts over" : "returns to its position");
    }
    // `pause` never resumes by itself; a player that released everything comes back held.
    if (!held && std::exchange(life.owes_playing, false)) out.play = true, tell(word, "keeps playing");
    return out;
}

void user_acts(HostLife& life) { life.owes_playing = false; }

namespace reading {
json host_json(const HostSpec& s) {
    json j = json::object();
    for (std::size_t i = 0; i < host_row_count; ++i)
        if (s.actions[i]) j[std::string(host_rows()[i].name)] = action_name(*s.actions[i]);
    return with(std::move(j), s.extra);
}
HostSpec host_from(const json& j, const std::string& at) {
    HostSpec s;
    members(j, at, &s.extra, [&](auto& k, auto& v, auto p) {
        auto rows = host_rows();
        auto row = std::find_if(rows.begin(), rows.end(), [&](auto& r) { return r.name == k; });
        if (row == rows.end()) return false;
        std::string names;
        for (auto action : row->actions) {
            if (v == action_name(action)) return s.actions[static_cast<std::size_t>(row - rows.begin())] = action, true;
            names += fmt::format("{}“{}”", names.empty() ? "" : ", ", action_name(action));
        }
        throw Mistake{p, "must be one of " + names};
    });
    return s;
}
}  // namespace reading

std::string host_page() {
    std::string page =
        "# The host’s life\n\nMade from `src/core/player/host_life.cpp`. Events of the app around a player, and how "
        "the player can react: the member\n`host` of a player, `{\"background\": \"let-go\"}`. The default is the "
        "first one. Scripts say `host WORD`, the\nring has a hoop for it, and in a packed "
        "app the desktop says what it knows.\n\n| member | when | the host says | the player |\n|---|---|---|---|\n";
    for (auto& r : rows) {
        std::string actions;
        for (auto d : r.actions) actions += fmt::format("{}`{}`", actions.empty() ? "" : ", ", action_name(d));
        page += fmt::format("| `{}` | {} | `{}`{} | {} |\n", r.name, r.meaning, r.begins,
                            r.ends.empty() ? std::string() : fmt::format(", `{}`", r.ends), actions);
    }
    page += "\n| | it |\n|---|---|\n";
    for (auto& d : action_rows) page += fmt::format("| `{}` | {} |\n", d.name, d.words);
    return page +
           "\nSoftly means a fifth of the volume. Where several hold at once, the quietest counts, and it resumes when "
           "the last is over.\nIf the user presses play or pause meanwhile, that counts: then it does not resume by "
           "itself. A player that released everything comes back paused, unless\nit was playing.\n";
}

}  // namespace ruedo
