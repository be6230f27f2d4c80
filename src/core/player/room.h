// SPDX-License-Identifier: Apache-2.0
// What a document says of the room that its players may hang in. Lengths are metres; places are right-handed: x to the
// right, y up from the floor, z towards a viewer at the origin who looks ahead. Angles are degrees: `turn` goes round
// upright, to the left from above; `tilt` goes up for a viewer and a hand, and leans a surface back.
#pragma once
#include <nlohmann/json_fwd.hpp>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace ruedo {

struct Point {
    double x = 0, y = 0, z = 0;
    bool operator==(const Point&) const = default;
};

/// Where a viewer stands, or a hand is held, and where it points.
struct PoseSpec {
    Point at{0, 1.6, 0};
    double turn = 0, tilt = 0;
    bool operator==(const PoseSpec&) const = default;
};
struct ViewerSpec : PoseSpec {
    double field = 60;  ///< How much is seen from top to bottom.
    bool operator==(const ViewerSpec&) const = default;
};

/// A player's screen in a room.
struct HangSpec {
    enum class Facing {
        fixed,   ///< As it was turned.
        viewer,  ///< To the viewer's eye, wherever that is.
        view     ///< Along the view: as a pane that the viewer looks straight through.
    };
    std::optional<Point> at;  ///< Its middle; without, it has its share of a row before the start (`hung_at`).
    Facing facing = Facing::fixed;
    double turn = 0, tilt = 0;
    double width = 1.6;                              ///< Along the surface where it is bent.
    double bend = 0;                                 ///< Radius it is bent round its viewer by; 0 for flat.
    int surface_width = 1280, surface_height = 720;  ///< Pixels that the player is drawn into.
    double margin = 0;                               ///< By how much its backing stands out on every side; 0 for none.
    std::string backing = "#2A211C";
    double cover = 1;  ///< How much of what is behind it the backing covers, 0 to 1.
    std::string extra{};
    double height() const { return width * surface_height / surface_width; }
    bool operator==(const HangSpec&) const = default;
};
/// A bar that does not lie on the picture, in a room.
struct FloatSpec {
    enum class Side { below, above, left, right, front };
    Side side = Side::below;
    double gap = 0.06;  ///< From the screen's edge; in front of it: from its middle downwards.
    double tilt = 25;   ///< Leaning back; at the sides: turned to the middle.
    double out = 0.1;   ///< How far before the screen it stands.
    bool operator==(const FloatSpec&) const = default;
};

/// Something plain that can hide what is behind it.
struct SolidSpec {
    enum class Kind { wall, pillar, bench };
    std::string name;  ///< Of its own in the room.
    Kind kind = Kind::wall;
    Point at{0, 0, -3};  ///< The middle of its foot.
    double turn = 0;
    double width = 2, height = 2.4, depth = 0.2;  ///< A pillar is as thick as it is wide.
    std::string colour = "#B9A98C";
    std::string extra{};
    bool operator==(const SolidSpec&) const = default;
    /// As such things usually are.
    static SolidSpec usual(Kind kind);
};

struct RoomSpec {
    static constexpr std::size_t most_solids = 64;
    ViewerSpec viewer;             ///< Where one begins.
    std::optional<PoseSpec> hand;  ///< What points besides the pointer.
    std::vector<SolidSpec> solids;
    std::string walls = "#CDBFA6", floor = "#A08E72";
    bool audio_by_place = false;  ///< Sound grows softer with distance and comes from where the screen hangs.
    std::string extra{};
    bool operator==(const RoomSpec&) const = default;
    /// "Pillar 2" where "Pillar" is taken.
    std::string free_solid_name(std::string_view wanted) const;
};

// In the order of the enumerations.
std::span<const std::string_view> facing_names();
std::span<const std::string_view> side_names();
std::span<const std::string_view> solid_names();

namespace room_limits {
/// What a document may say. Much of it is senseless, and told as a finding: a slip is easier to see than to be refused.
constexpr double place = 1000, least_length = 0.001, most_length = 10000, least_field = 10, most_field = 150;
constexpr int least_surface = 16, most_surface = 8192;
}  // namespace room_limits

namespace reading {
// Errors are thrown as `Mistake`.
nlohmann::json room_json(const RoomSpec& room);
RoomSpec room_from(const nlohmann::json& j, const std::string& at);
nlohmann::json hang_json(const HangSpec& hang);
HangSpec hang_from(const nlohmann::json& j, const std::string& at);
nlohmann::json float_json(const FloatSpec& spec);
FloatSpec float_from(const nlohmann::json& j, const std::string& at);
}  // namespace reading

}  // namespace ruedo
