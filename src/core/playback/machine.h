// SPDX-License-Identifier: Apache-2.0
// The controller's life as a pure function: step(state, input) -> state, effects. No clock, no I/O.
#pragma once
#include <array>
#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace ruedo::machine {

enum class Phase : std::uint8_t { empty, opening, ready, playing, paused, waiting, ended, failed, closed };
enum class Intent : std::uint8_t { hold, play };

/// Calls come from the user, reports from the engine.
enum class Input : std::uint8_t {
    open,
    play,
    pause,
    stop,
    seek,
    step,
    release,  // calls
    opened,
    open_failed,
    landed,
    starved,
    fed,
    reached_end,
    start_due,
    broke,
    released  // reports
};
inline constexpr std::size_t phase_count = 9, input_count = 16, call_count = 7;

enum class Effect : std::uint8_t {
    open_source,  ///< Drop what there is and open the source.
    begin_seek,   ///< Look for the wanted time; the report is `landed`.
    queue_seek,   ///< Remember the wanted time; the newest wins.
    run,          ///< Let media time run.
    halt,         ///< Stop media time where it is.
    show_step,    ///< Show the next or the previous picture.
    to_start,     ///< The wanted time is the start.
    release_all,  ///< Let go of everything.
    refuse        ///< Nothing is done; the trace says so.
};

struct State {
    Phase phase = Phase::empty;
    Intent intent = Intent::hold;
    bool seeking = false;  ///< A seek is under way; `landed` will come.
    bool queued = false;   ///< A newer seek waits for it.
    bool operator==(const State&) const = default;
    /// Can this state occur at all? (Checked by tests over every reachable state.)
    bool audio() const;
};

struct Step {
    State state;
    std::vector<Effect> effects;
};

Step step(State state, Input input);

std::string_view name(Phase phase);
std::string_view name(Intent intent);
std::string_view name(Input input);
std::string_view name(Effect effect);

/// Every state that inputs can lead to from the empty one.
std::vector<State> reachable_states();
/// The table for the documentation, in Markdown.
std::string table();

/// Whether a call would be carried out in this state, and if not, why.
bool allowed(State state, Input call);
std::string_view refusal(State state, Input call);

}  // namespace ruedo::machine
