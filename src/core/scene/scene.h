// SPDX-License-Identifier: Apache-2.0
// A document's players as they hang in its room: what stands where, what a ray meets, and how it looks from an eye. A
// scene is a value made from the document, the players' layouts and the eye; nothing here draws.
#pragma once
#include <span>

#include "player/layout.h"
#include "scene/space.h"

namespace ruedo::scene {

/// The most of the cylinder's round that a bent screen takes.
constexpr double most_of_a_round = 0.9;
constexpr double backing_behind = 0.01;  ///< Metres from a screen to its backing.
constexpr double in_one_plane = 1e-7;    ///< Metres that are no distance.

struct Thing {
    enum class Kind { screen, backing, bar, solid };
    static constexpr std::size_t none = SIZE_MAX;
    Kind kind = Kind::screen;
    std::string name;           ///< "the screen of “Player”", "the pillar".
    std::size_t player = none;  ///< Whose it is; of a solid its place in the document.
    std::size_t bar = none;     ///< Of a bar: which.
    Panel panel;                ///< But for solids.
    Body body;                  ///< Of solids.
    Box sheet;                  ///< Of screens and bars: which pixels of the player's layout it shows.
    std::string colour;         ///< Of backings and solids.
    double cover = 1;           ///< Of a backing.
    bool takes_presses() const { return kind == Kind::screen || kind == Kind::bar; }
};

/// Where a ray meets a thing.
struct Meeting {
    std::size_t thing;
    double t;     ///< Metres along the ray.
    double u, v;  ///< Of a panel, 0 to 1.
    bool front;
    Vec at;
};
/// What comes of pointing somewhere.
struct Aim {
    std::vector<Meeting> met;         ///< All of it, the nearest first.
    std::optional<std::size_t> stop;  ///< Which of `met` the ray ends at; what is before that it passes through.
    /// Where on a player it lands, in pixels of its layout: from the front, on a screen or a bar.
    struct Landing {
        std::size_t player;
        double x, y;
    };
    std::optional<Landing> landing;
    /// A screen or bar that it would have landed on but for its end.
    std::optional<std::size_t> missed;
    const Meeting* end() const { return stop ? &met[*stop] : nullptr; }
};

struct Scene {
    std::vector<Thing> things;
    /// The walls are as far as everything needs: x from `low.x` to `high.x` and so on; the floor is at 0.
    Vec low, high;
    std::string walls, floor;

    /// `reach` is how far the ray goes: a fingertip's is short.
    Aim aim(const Ray& ray, double reach = INFINITY) const;
    /// "Lands on the screen of “Player”, 2.00 m away." Names what is passed, and what stops it.
    std::string told(const Aim& aim) const;
    std::optional<std::size_t> screen_of(std::size_t player) const;
    /// The screen or bar that shows a place of a player's layout.
    std::optional<std::size_t> thing_at(std::size_t player, double x, double y) const;
    /// That place in the room; nothing where no thing shows it.
    std::optional<Vec> place_of(std::size_t player, double x, double y) const;
    /// The same where nothing shows it: as if the screen went on beyond its edges.
    Vec place_beyond(std::size_t player, double x, double y) const;
    /// The pixel of a player's layout where a ray meets the screen, or the plane in which it hangs; nothing from
    /// behind.
    std::optional<Aim::Landing> landing_beyond(std::size_t player, const Ray& ray) const;
};

/// What a player of a document is laid out in where it hangs: its surface, with what does not lie on the picture clear
/// of it (`MountShape::loose`).
MountShape surface_of(const PlayerSpec& player);
/// The middle of a player's screen, and which way it faces an eye.
Vec hung_at(const PlayerDocument& document, std::size_t player);
Axes hung_towards(const PlayerDocument& document, std::size_t player, const Eye& eye);
/// `layouts`: one for each player, laid out in `surface_of` it; players beyond them do not hang.
Scene build(const PlayerDocument& document, std::span<const Layout> layouts, const Eye& eye);

/// How a part of a player's layout looks from an eye.
struct Look {
    bool projected = false;  ///< All of its corners are before the eye; then `box` is where they are in the view.
    RectF box{};
    double wide = 0, high = 0;  ///< Radians it is seen under at its middle.
    double distance = 0;        ///< From the eye to its middle.
    Vec middle{};
    double metres_wide = 0, metres_high = 0;
    bool in_view = false;  ///< Its middle is within the view.
    bool from_front = false;
    std::optional<std::size_t> hidden_by;  ///< Thing that stands before its middle.
    bool seen() const { return in_view && from_front && !hidden_by; }
};
std::optional<Look> look_at(const Scene& scene, const Eye& eye, std::size_t player, const Box& part);
/// How many pixels of the view a player's whole surface would cover if it were seen all over as its middle is.
struct VisibleSize {
    double width = 0, height = 0;
};
std::optional<VisibleSize> visible_size(const Scene& scene, const Eye& eye, std::size_t player);
/// The same in words, for a surface of that size: how many of its pixels are left.
std::string surface_sentence(int width, int height, const VisibleSize& seen);

/// Sound of a screen as it is heard: softer with distance, 1 / max(1, d) with d in metres (6 dB for each doubling
/// beyond one metre), and turned to its side, left cos(a), right sin(a) with a from 0 (all left) over 45 degrees
/// (ahead) to 90, after how far it is to the right of where the viewer looks (its sine); each times the square root of
/// two, so that what is ahead and near stays as it is.
struct StereoGain {
    double left = 1, right = 1;
};
StereoGain heard(const Vec& source, const Eye& eye);

/// What a review turns up of how the players hang, seen from where the viewer begins in a view of `width` x `height`.
/// `ask` opens what lies on this machine; addresses are not asked. Codes and their order: docs/room.md.
std::vector<DocumentFinding> review(const PlayerDocument& document, const std::filesystem::path& folder,
                                    int width = 1280, int height = 800, const InfoOf& ask = info_of);

/// The player's own review (player/player.h), and in a room that of the room, in the document's own view.
std::vector<DocumentFinding> review_all(const PlayerDocument& document, const std::filesystem::path& folder,
                                        const InfoOf& ask = info_of);

}  // namespace ruedo::scene
