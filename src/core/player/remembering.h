// SPDX-License-Identifier: Apache-2.0
// What a packed app keeps of its players from one run to the next, where the document says so. A file of its own beside
// nothing else: one that is damaged is as good as none.
#pragma once
#include <filesystem>
#include <map>

#include "player/session.h"

namespace ruedo {

struct Remembered {
    std::optional<double> volume;
    bool muted = false;
    std::string source;  ///< Which one played; by its name.
    Time at{};
    std::optional<std::string> text_language;  ///< Of the captions that were shown; empty for none.
    bool operator==(const Remembered&) const = default;
};
/// By the players’ names.
using Memory = std::map<std::string, Remembered>;

/// What the session’s player is to remember of this moment. Near the end of a source its place is the start.
Remembered remember(const PlayerSession& session);
/// Volume and captions, as the document’s own.
void recall(PlayerDocument& document, const Memory& memory);
/// Source and place; after the session has loaded its document.
void recall(PlayerSession& session, const Memory& memory);

Memory read_memory(const std::filesystem::path& file);
Status write_memory(const Memory& memory, const std::filesystem::path& file);
/// Writes what differs between `before` and `now` over the file's current content, possibly by other processes: of
/// several instances of an app the last one to change a thing wins, thing by thing.
Status keep_memory(const Memory& now, const Memory& before, const std::filesystem::path& file);
/// Where the app whose executable this is keeps it ($XDG_STATE_HOME, or ~/.local/state); empty without a home.
std::filesystem::path memory_file(const std::string& app_name, const std::filesystem::path& executable);

}  // namespace ruedo
