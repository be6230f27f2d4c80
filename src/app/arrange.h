// SPDX-License-Identifier: GPL-3.0-or-later
// What stands where on a mount, after calls in virtual time: `ruedo arrange`.
#pragma once
#include "headless.h"
#include "player/session.h"

namespace ruedo {

struct ArrangeOptions {
    PlayerDocument document;
    std::filesystem::path folder;
    std::size_t source = 0;
    MountShape mount;
    std::string mount_name;
    std::vector<ScriptedCall> script;
    std::optional<Time> at;  ///< Half a second after the last call, and at least one after opening, without.
};

/// The moment that was reached.
struct Arranged {
    PlayerDocument document;
    std::size_t source = 0;
    MountShape mount;
    ControlContext context;
    Layout layout;
    std::optional<Picture> picture;  ///< The one that is shown.
    std::filesystem::path folder;
};
/// Calls that cannot be carried out fail: a control that is not there (`not-found`), or not to be pressed just then
/// (`refused`).
Result<Arranged> arrange(const ArrangeOptions& options);
nlohmann::json to_json(const Arranged& arranged, std::string_view mount_name);

}  // namespace ruedo
