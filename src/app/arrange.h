// SPDX-License-Identifier: GPL-3.0-or-later
// What stands where on a mount, after calls in virtual time: `ruedo arrange`.
#pragma once
#include "headless.h"
#include "player/screen.h"
#include "player/session.h"
#include "scene/scene.h"

namespace ruedo {

struct ArrangeOptions {
    PlayerDocument document;
    std::filesystem::path folder;
    /// What is begun with, by the first player in whose queue it is; without, each begins with its first.
    std::optional<std::size_t> source{};
    MountShape mount;
    std::string mount_name;
    std::vector<ScriptedCall> script;
    /// In virtual time, of the link that streams come over.
    std::optional<stream::NetworkTrace> network_trace{};
    std::optional<Time> at;  ///< Half a second after the last call, and at least one after opening, without.
};

/// The moment that was reached.
struct Arranged {
    struct Player {
        PlayerDocument document;  ///< Its part: the player, and the sources of its queue.
        std::size_t source = 0;   ///< In its part.
        Box box;                  ///< On the mount; everything else counts from its corner.
        ControlContext context;
        Layout layout;
        std::vector<Event> events;     ///< Since it was opened.
        std::optional<Frame> picture;  ///< The one that is shown.
    };
    PlayerDocument document;
    MountShape mount;
    std::vector<Player> players;
    std::filesystem::path folder;
    /// Where the mount is a room: what hangs in it, seen from its start; and what presses came to.
    struct Room {
        scene::Eye eye;
        scene::Scene scene;
        struct Press {
            Time at;
            std::string told;
            std::optional<scene::Aim::Landing> landing;
        };
        std::vector<Press> presses;
    };
    std::optional<Room> room{};
};
/// Calls that cannot be carried out fail: a control that is not there (`not-found`), or not to be pressed just then
/// (`refused`). A control whose name several players know is named with its player: "Left/toggle". Other calls and keys
/// go to the player that was pressed last, at first to the first.
Result<Arranged> arrange(const ArrangeOptions& options);
nlohmann::json to_json(const Arranged& arranged, std::string_view mount_name);

}  // namespace ruedo
