// SPDX-License-Identifier: Apache-2.0
// docs/room.md.
#include <fmt/format.h>

#include "player/room.h"
#include "scene/findings.h"

namespace ruedo::scene {

std::string room_page() {
    using namespace room_limits;
    HangSpec hang;
    RoomSpec room;
    auto names = [](std::span<const std::string_view> list) {
        std::string all;
        for (auto name : list) all += fmt::format("{}`\"{}\"`", all.empty() ? "" : ", ", name);
        return all;
    };
    std::string page = fmt::format(
        R"(# The room

Where a document's `mount` is `"room"`, its players hang in a room and are pressed by a ray. Lengths are metres,
right-handed: x to the right, y up from the floor, z towards a viewer at the origin who looks ahead. )"
        R"(`turn_deg` goes round
upright, to the left from above; `tilt_deg` looks up for a viewer and a hand, and leans a )"
        R"(surface back.
Places may be from {0:g} to {1:g}, lengths from {2:g} to {3:g}: a slip is a finding (below) )"
        R"(rather than refused.

| key of `room` | values | default |
|---|---|---|
| `viewer` | where one begins: `at_m`, `turn_deg`, `tilt_deg`, and `field_deg`, how much is seen from )"
        R"(top to bottom ({4:g} to {5:g}) | [0, {6:g}, 0], straight ahead, {7:g} |
| `hand` | what points besides the pointer: `at_m`, `turn_deg`, `tilt_deg` | none |
| `solids` | up to {8} plain things that can hide others: `name`, `kind` ({9}), `at_m` (the middle of )"
        R"(its foot), `turn_deg`, `width_m`, `height_m`, `depth_m`, `colour` | none |
| `walls`, `floor` | colours | {10}, {11} |
| `sound_by_place` | sound grows softer with distance and comes from where its screen hangs | false |

| key of a player's `room` | values | default |
|---|---|---|
| `at_m` | the middle of its screen | its share of a row (or column, as `screen` has it) 2 m before the start |
| `facing` | {12}: as it was turned, to the viewer's eye, along the view | `"fixed"` |
| `turn_deg`, `tilt_deg` | how it was turned | 0, 0 |
| `width_m` | along the surface; the height follows from the surface's shape | {13:g} |
| `bend_m` | radius it is bent round its viewer by; 0 for flat | 0 |
| `surface` | pixels that the player is drawn into, {14} to {15} each way | [{16}, {17}] |
| `margin_m`, `backing`, `cover` | a panel behind it: by how much it stands out, its colour, how much )"
        R"(it covers | 0, {18}, 1 |

A bar that lies on the picture stays there. Others hang by themselves; `room` of a bar says where:

| key | values | default |
|---|---|---|
| `side` | {19} | below, or above for one at the upper edge |
| `gap_m` | from the screen's edge; in front of it: from its middle downwards | 0.06; 0.01 where it )"
        R"(lies beside the picture |
| `tilt_deg` | leaning back; at the sides turned to the middle | 25 below, else 0 |
| `out_m` | how far before the screen | 0.1; 0 where it lies beside the picture |

A ray ends at the first thing it meets; only a backing that covers nothing lets it through. On the )"
        R"(front of a screen or a
bar it lands on a pixel of the player's layout, and what is there is pressed as on any other mount. )"
        R"(What stops it is
in the trace (`ray-stopped`).

Sound by place: 1 / max(1, d) times the volume, with d in metres from the eye to the middle of the )"
        R"(screen (6 dB less for
each doubling beyond one metre); left by cos(a) and right by sin(a), times the square root of two, )"
        R"(where a goes from 0
(all left) over 45 degrees (ahead) to 90 with the sine of how far to the right of the view the screen hangs.

## What a review turns up

Seen from where the viewer begins.

| code | what it says |
|---|---|
)",
        -place, place, least_length, most_length, least_field, most_field, room.viewer.at.y, room.viewer.field,
        RoomSpec::most_solids, names(solid_names()), room.walls, room.floor, names(facing_names()), hang.width,
        least_surface, most_surface, hang.surface_width, hang.surface_height, hang.backing, names(side_names()));
    for (auto& row : finding_rows()) page += fmt::format("| `{}` | {} |\n", row.code, row.meaning);
    return page;
}

}  // namespace ruedo::scene
