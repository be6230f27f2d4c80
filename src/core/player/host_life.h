// SPDX-License-Identifier: Apache-2.0
// The life of the app round a player: what can happen to it, and what the player does then. One row for each, of which
// documents, sentences, the ring’s hoop, scripts and docs/host.md are made. Pure: no clock, no I/O.
#pragma once
#include <array>
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace ruedo {

/// What a player does when something happens to its app.
enum class HostAction { go_on, pause, pause_and_return, soften, silence, let_go, begin_anew };
std::string_view action_name(HostAction action);   ///< In documents: "pause-and-return".
std::string_view action_words(HostAction action);  ///< In sentences: "pauses, and resumes after it".

struct HostRow {
    std::string_view name;     ///< In documents: what holds while it lasts.
    std::string_view begins;   ///< What the host says, in scripts too; several rows may end by the same word.
    std::string_view ends;     ///< Empty for what is but a moment.
    std::string_view meaning;  ///< For the documentation: when it is so.
    std::string_view told;     ///< In sentences: "When other windows cover it".
    std::string_view hoop;     ///< On the ring: "covered"; empty for what has no place of its own there.
    std::span<const HostAction> actions;  ///< Those to choose from, the usual one first.
    HostAction usual() const { return actions.front(); }
};
inline constexpr std::size_t host_row_count = 10;
std::span<const HostRow, host_row_count> host_rows();
/// The number of the row of that name, which there must be.
std::size_t host_row(std::string_view name);
/// Whether the host can say so: a word that begins or ends something.
bool is_host_word(std::string_view word);
/// “background”, “foreground” …, for the hint after a typing error.
std::string host_words();

/// What a player does about each row; the usual where nothing is said.
struct HostSpec {
    std::array<std::optional<HostAction>, host_row_count> actions{};
    std::string extra{};  ///< Members of newer versions, kept as they are: JSON, or nothing.
    HostAction of(std::size_t row) const { return actions[row].value_or(host_rows()[row].usual()); }
    bool operator==(const HostSpec&) const = default;
};

/// What holds round one player, and what it owes for it.
struct HostLife {
    std::array<bool, host_row_count> holds{};
    bool owes_playing = false;  ///< It was paused for something, to go on after it.
    bool let_go = false;        ///< Everything was released, to be taken up again.
    bool anew = false;          ///< And then from the beginning.
    bool operator==(const HostLife&) const = default;
    /// How much is heard: 1, 0.2 for softened, or nothing.
    double heard(const HostSpec& spec) const;
    /// "in front", "covered" …: the place on the hoop, the one that weighs most.
    std::string_view place() const;
};

/// What the player has to do now.
struct HostEffects {
    bool pause = false, play = false, let_go = false, come_back = false;
    std::string told;  ///< For the trace: "background: pauses"; empty where nothing changed.
};
/// The host says a word. `plays`: the player is asked to play just now.
HostEffects happen(HostLife& life, std::string_view word, const HostSpec& spec, bool plays);
/// The user pressed play or pause: nothing is owed any more.
void user_acts(HostLife& life);

/// The page of the documentation.
std::string host_page();

namespace reading {
// As JSON; reading throws a `Mistake`.
nlohmann::json host_json(const HostSpec& spec);
HostSpec host_from(const nlohmann::json& j, const std::string& at);
}  // namespace reading

}  // namespace ruedo
