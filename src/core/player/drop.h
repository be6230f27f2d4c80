// SPDX-License-Identifier: Apache-2.0
// Where a control can be let go of: every place between the controls of a bar, the nine places on the picture, and bars
// that are not there yet.
#pragma once
#include "player/layout.h"

namespace ruedo {

struct DropZone {
    Box box;                     ///< Where the hand is for it to count.
    Box mark;                    ///< Where the control would come to stand.
    std::string slot;            ///< Of a bar that may have to be made first.
    std::size_t at = SIZE_MAX;   ///< Before which of those there; the last without.
    std::optional<BarSpec> bar;  ///< To be made.
    std::string words;           ///< "The end group of the bar “foot”, after “volume”".
};
/// Zones that overlap nowhere, those of bars first.
std::vector<DropZone> drop_zones(const PlayerSpec& player, const MountShape& mount, const Layout& layout);
const DropZone* zone_at(std::span<const DropZone> zones, int x, int y);

/// Puts a new control (or moves one that is there) to a zone; gives its name.
std::string drop(PlayerSpec& player, const DropZone& zone, ControlSpec control);
std::string drop(PlayerSpec& player, const DropZone& zone, std::size_t control);

/// The neighbouring place in a direction: along a bar or a place's row and on to the next group; across, to the places
/// on the picture and the bars. False when there is nothing that way.
enum class Toward { left, right, up, down };
bool nudge(PlayerSpec& player, std::size_t control, Toward toward);

/// A control as text, and back: the same JSON as in the document.
std::string control_text(const ControlSpec& control);
Result<ControlSpec> control_from_text(std::string_view text);

}  // namespace ruedo
