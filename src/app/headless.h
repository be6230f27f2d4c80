// SPDX-License-Identifier: Apache-2.0
// Playing without a window: what `ruedo play` and a packed app's `--check` share.
#pragma once
#include <nlohmann/json.hpp>

#include "playback/playback.h"

namespace ruedo {

/// One timed call: "3s seek 10s".
struct ScriptedCall {
    Time at{};
    std::string verb;
    Time time{};
    double number = 0;
};
/// "1s pause; 2s play"; nothing (and `why`) when it can't be followed.
std::optional<std::vector<ScriptedCall>> parse_script(std::string_view text, std::string& why);
void perform(Controller& controller, const ScriptedCall& call);

struct HeadlessOptions {
    std::string source;                     ///< A path or an address.
    OpenOptions open;
    bool virtual_time = false;
    std::optional<Time> length;             ///< Wall or virtual time; to the end without.
    std::vector<ScriptedCall> script;
    std::filesystem::path sound;            ///< A WAV file to write, if any.
    bool device = true;                     ///< Use the sound server when there is one.
};
struct HeadlessResult {
    nlohmann::json report;
    int exit = 0;
};
HeadlessResult play_headless(const HeadlessOptions& options);

/// Set by SIGINT and SIGTERM after `catch_interrupts`.
void catch_interrupts();
bool interrupted();

nlohmann::json error_document(const Error& error);

}  // namespace ruedo
