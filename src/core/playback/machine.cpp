// SPDX-License-Identifier: Apache-2.0
#include "playback/machine.h"

#include <fmt/format.h>

#include <algorithm>
#include <deque>

namespace ruedo::machine {
namespace {

bool has_clip(Phase p) {
    return p == Phase::ready || p == Phase::playing || p == Phase::paused || p == Phase::waiting || p == Phase::ended;
}

/// Asks for the wanted time: at once, or after the seek that is under way.
void ask_seek(Step& s) {
    if (s.state.seeking) {
        s.state.queued = true;
        s.effects.push_back(Effect::queue_seek);
    } else {
        s.state.seeking = true;
        s.effects.push_back(Effect::begin_seek);
    }
}

Step refuse(State state) { return {state, {Effect::refuse}}; }

Step on_call(State state, Input call) {
    Step s{state, {}};
    auto& now = s.state;
    if (call == Input::release) {
        if (now.phase == Phase::closed) return refuse(state);
        now = {Phase::closed, Intent::hold, false, false};
        s.effects = {Effect::release_all};
        return s;
    }
    if (call == Input::open) {
        if (now.phase == Phase::closed) return refuse(state);
        now = {Phase::opening, Intent::hold, false, false};
        s.effects = {Effect::open_source};
        return s;
    }
    if (now.phase == Phase::opening) {
        // Remembered until the source is open.
        switch (call) {
            case Input::play:
                now.intent = Intent::play;
                return s;
            case Input::pause:
                now.intent = Intent::hold;
                return s;
            case Input::stop:
                now.intent = Intent::hold, now.queued = false, s.effects = {Effect::to_start};
                return s;
            case Input::seek:
                now.queued = true, s.effects = {Effect::queue_seek};
                return s;
            default:
                return refuse(state);
        }
    }
    if (!has_clip(now.phase)) return refuse(state);
    switch (call) {
        case Input::play:
            if (now.intent == Intent::play) return s;
            now.intent = Intent::play;
            if (now.phase == Phase::ended) {
                now.phase = Phase::waiting;
                s.effects = {Effect::to_start};
                ask_seek(s);
            } else if (now.seeking) {
                now.phase = Phase::waiting;  // `landed` sets it going
            } else {
                now.phase = Phase::playing;
                s.effects = {Effect::run};
            }
            return s;
        case Input::pause:
            if (now.intent == Intent::hold) return s;
            now.intent = Intent::hold;
            now.phase = Phase::paused;
            s.effects = {Effect::halt};
            return s;
        case Input::stop:
            if (now.phase == Phase::ready && !now.seeking) return s;
            if (now.intent == Intent::play) s.effects = {Effect::halt};
            now.intent = Intent::hold;
            now.phase = Phase::ready;
            s.effects.push_back(Effect::to_start);
            ask_seek(s);
            return s;
        case Input::seek:
            if (now.intent == Intent::play) {
                if (now.phase == Phase::playing) s.effects = {Effect::halt};
                now.phase = Phase::waiting;
            } else {
                now.phase = Phase::paused;
            }
            ask_seek(s);
            return s;
        case Input::step:
            if (now.intent == Intent::play) s.effects = {Effect::halt};
            now.intent = Intent::hold;
            now.phase = Phase::paused;
            s.effects.push_back(Effect::show_step);
            ask_seek(s);
            return s;
        default:
            return refuse(state);
    }
}

Step on_report(State state, Input report) {
    Step s{state, {}};
    auto& now = s.state;
    switch (report) {
        case Input::opened:
            if (now.phase != Phase::opening) return s;  // overtaken
            if (now.queued) {
                now.queued = false;
                now.seeking = true;
                now.phase = now.intent == Intent::play ? Phase::waiting : Phase::paused;
                s.effects = {Effect::begin_seek};
            } else if (now.intent == Intent::play) {
                now.phase = Phase::playing;
                s.effects = {Effect::run};
            } else {
                now.phase = Phase::ready;
            }
            return s;
        case Input::open_failed:
            if (now.phase == Phase::opening) now = {Phase::failed, Intent::hold, false, false};
            return s;
        case Input::landed:
            if (!now.seeking) return s;
            now.seeking = false;
            if (now.queued) {
                now.queued = false;
                now.seeking = true;
                s.effects = {Effect::begin_seek};
            } else if (now.intent == Intent::play) {
                now.phase = Phase::playing;
                s.effects = {Effect::run};
            }
            return s;
        case Input::starved:
            if (now.phase == Phase::playing) now.phase = Phase::waiting, s.effects = {Effect::halt};
            return s;
        case Input::fed:
            if (now.phase == Phase::waiting && !now.seeking) now.phase = Phase::playing, s.effects = {Effect::run};
            return s;
        case Input::reached_end:
            if (now.phase == Phase::playing)
                now.phase = Phase::ended, now.intent = Intent::hold, s.effects = {Effect::halt};
            return s;
        case Input::start_due:
            return now.phase == Phase::ready && !now.seeking ? on_call(state, Input::play) : s;
        case Input::broke:
            if (has_clip(now.phase)) now = {Phase::failed, Intent::hold, false, false}, s.effects = {Effect::halt};
            return s;
        default:
            return s;  // `released` changes nothing: closed is the end
    }
}

constexpr std::array<std::string_view, phase_count> phase_names{"empty",   "opening", "ready",  "playing", "paused",
                                                                "waiting", "ended",   "failed", "closed"};
constexpr std::array<std::string_view, input_count> input_names{
    "open",    "play",    "pause",           "stop",           "seek",
    "step",    "release", "opened",          "could not open", "landed",
    "starved", "fed",     "reached the end", "start due",      "broke",
    "released"};
constexpr std::array<std::string_view, 9> effect_names{"open the source", "begin seek", "queue seek",  "run",   "halt",
                                                       "show step",       "to start",   "release all", "refuse"};
}  // namespace

bool State::audio() const {
    if (phase == Phase::playing) return intent == Intent::play && !seeking && !queued;
    if (phase == Phase::waiting) return intent == Intent::play;
    if (phase == Phase::opening) return !seeking;
    if (intent == Intent::play) return false;
    if (queued && !seeking) return false;
    return !(seeking &&
             (phase == Phase::empty || phase == Phase::failed || phase == Phase::closed || phase == Phase::ended));
}

Step step(State state, Input input) {
    return static_cast<std::size_t>(input) < call_count ? on_call(state, input) : on_report(state, input);
}

std::string_view name(Phase phase) { return phase_names.at(static_cast<std::size_t>(phase)); }
std::string_view name(Intent intent) { return intent == Intent::play ? "play" : "hold"; }
std::string_view name(Input input) { return input_names.at(static_cast<std::size_t>(input)); }
std::string_view name(Effect effect) { return effect_names.at(static_cast<std::size_t>(effect)); }

bool allowed(State state, Input call) {
    auto s = step(state, call);
    return std::find(s.effects.begin(), s.effects.end(), Effect::refuse) == s.effects.end();
}
std::string_view refusal(State state, Input call) {
    if (allowed(state, call)) return {};
    switch (state.phase) {
        case Phase::empty:
            return "no source has been opened";
        case Phase::opening:
            return "the source is still being opened";
        case Phase::failed:
            return "the source failed; open it again first";
        case Phase::closed:
            return "the controller has been released";
        default:
            return "this can't be done now";
    }
}

std::vector<State> reachable_states() {
    std::vector<State> seen{State{}};
    for (std::size_t i = 0; i < seen.size(); ++i)
        for (std::size_t k = 0; k < input_count; ++k) {
            auto next = step(seen[i], static_cast<Input>(k)).state;
            if (std::find(seen.begin(), seen.end(), next) == seen.end()) seen.push_back(next);
        }
    return seen;
}

std::string table() {
    auto describe = [](State s) {
        std::string text(name(s.phase));
        if (s.phase == Phase::opening) text += s.intent == Intent::play ? ", to play" : ", to hold";
        if (s.seeking) text += ", seeking";
        if (s.queued) text += s.seeking ? ", another queued" : ", seek queued";
        return text;
    };
    auto states = reachable_states();
    std::sort(states.begin(), states.end(), [](State a, State b) {
        auto key = [](State s) { return std::tuple(s.phase, s.intent, s.seeking, s.queued); };
        return key(a) < key(b);
    });
    std::string out =
        "# The controller's states\n\nMade from `src/core/playback/machine.cpp`. A cell says what an input leads to; "
        "*italics* are what "
        "is done on the way. An empty cell means that nothing changes.\n\n## Calls\n\n";
    auto part = [&](std::size_t from, std::size_t to) {
        out += "| state |";
        for (auto k = from; k < to; ++k) out += fmt::format(" {} |", name(static_cast<Input>(k)));
        out += "\n|---|";
        for (auto k = from; k < to; ++k) out += "---|";
        out += "\n";
        for (auto s : states) {
            out += fmt::format("| **{}** |", describe(s));
            for (auto k = from; k < to; ++k) {
                auto r = step(s, static_cast<Input>(k));
                std::string cell = r.state == s ? "" : describe(r.state);
                for (auto e : r.effects) cell += fmt::format("{}*{}*", cell.empty() ? "" : "; ", name(e));
                out += fmt::format(" {} |", cell);
            }
            out += "\n";
        }
    };
    part(0, call_count);
    out += "\n## Reports of the engine\n\n";
    part(call_count, input_count);
    return out;
}

}  // namespace ruedo::machine
