// SPDX-License-Identifier: Apache-2.0
// Playing without a window: what `ruedo play` and a packed app's `--check` share.
#pragma once
#include <nlohmann/json.hpp>

#include "io/io.h"
#include "playback/playback.h"
#include "player/room.h"
#include "stream/weather.h"

namespace ruedo {

/// One timed call: "3s seek 10s".
struct ScriptedCall {
    Time at{};
    std::string verb;
    Time time{};
    double number = 0;
    std::string name{};  ///< Of a control or a key; what the host says.
    int x = 0, y = 0;    ///< Of a touch, in pixels.
    PoseSpec pose{};     ///< Of a hand.
};
/// "1s pause; 2s play"; nothing (and `why`) when it can't be followed. With hands also what they do to a player that is
/// laid out: "press NAME", "drag NAME 0.5", "key Ctrl+Space", "touch X Y", "host background"; in a room "hand X Y Z
/// TURN TILT" and "pull".
std::optional<std::vector<ScriptedCall>> parse_script(std::string_view text, std::string& why, bool hands = false);
void perform(Controller& controller, const ScriptedCall& call);

struct HeadlessOptions {
    std::string source;  ///< A path or an address.
    OpenOptions open;
    StreamOptions stream;                                 ///< Of a source that is a stream.
    std::optional<stream::NetworkTrace> network_trace{};  ///< In virtual time, of the link it comes over.
    bool virtual_time = false;
    std::optional<Time> length;  ///< Wall or virtual time; to the end without.
    std::vector<ScriptedCall> script;
    std::filesystem::path audio;  ///< A WAV file to write, if any.
    bool replace = false;         ///< It may take the place of another file.
    bool device = true;           ///< Use the sound server when there is one.
    /// How the source is opened; as usual without.
    std::function<Result<std::unique_ptr<Clip>>(const std::string&)> open_clip{};
};
struct HeadlessResult {
    nlohmann::json report;
    int exit = 0;
};
HeadlessResult play_headless(const HeadlessOptions& options);

/// A script being carried out, and whether anything more can come of it.
class ScriptRun {
  public:
    ScriptRun(const HeadlessOptions& options, Controller& controller) : options_(options), controller_(controller) {}
    /// When the next call is due, since playing began; nothing when all were made.
    std::optional<Time> next() const {
        return at_ < options_.script.size() ? std::optional(options_.script[at_].at) : std::nullopt;
    }
    void perform_next() { perform(controller_, options_.script[at_++]); }
    /// It ended, failed or was closed; or it is held, and nobody will set it going again. Without a length only.
    bool over() const;
    /// The report and its exit code.
    HeadlessResult result(bool virtual_time) const;

  private:
    const HeadlessOptions& options_;
    Controller& controller_;
    std::size_t at_ = 0;
};
/// 0, or what a command exits with for such an error.
int exit_code(const Error& error);

/// Set by SIGINT, SIGTERM and SIGHUP after `catch_interrupts`. Reads of this thread give up by themselves while an
/// `InterruptScope` lives.
void catch_interrupts();
bool interrupted();
class InterruptScope {
  public:
    InterruptScope();

  private:
    ReadScope scope_;
};

nlohmann::json error_document(const Error& error);

}  // namespace ruedo
