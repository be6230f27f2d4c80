// SPDX-License-Identifier: Apache-2.0
// What stands where: a pure function of the player, what it is seen in, and the moment. The window, mirrors, the
// command line and packed apps all go by it. All numbers are whole pixels of the mount.
#pragma once
#include "picture/picture.h"
#include "player/player.h"

namespace ruedo {

struct Box {
    int x = 0, y = 0, width = 0, height = 0;
    int right() const { return x + width; }
    int bottom() const { return y + height; }
    bool empty() const { return width <= 0 || height <= 0; }
    bool holds(const Box& o) const { return o.x >= x && o.y >= y && o.right() <= right() && o.bottom() <= bottom(); }
    bool meets(const Box& o) const { return x < o.right() && o.x < right() && y < o.bottom() && o.y < bottom(); }
    bool operator==(const Box&) const = default;
    RectF rect() const {
        return {static_cast<double>(x), static_cast<double>(y), static_cast<double>(width),
                static_cast<double>(height)};
    }
};

/// What a player is seen in.
struct MountShape {
    int width = 960, height = 540;
    bool touch = false;
    bool handset = false;
    int left = 0, top = 0, right = 0, bottom = 0;  ///< Kept clear of controls: cut-outs, rounded corners.
    /// All of it is for the picture, and bars that do not lie on that hang clear of it: the layout is higher than the
    /// mount by theirs, with room between.
    bool loose = false;
    /// The least side of what can be pressed; the usual one.
    int least() const { return touch ? 44 : 24; }
    int unit() const { return touch ? 48 : 44; }
};
/// The mount at a size of its own choosing (0) or another.
MountShape shape_of(Mount mount, int width = 0, int height = 0);

struct Layout {
    struct Bar {
        std::size_t bar;
        Box box;
    };
    struct Control {
        Box box;
        bool shown = false, enabled = false, folded = false;
        bool on_bar = false;   ///< A bar's plate lies under it.
        bool on_dark = false;  ///< What lies under it is dark, so that its usual colours are light.
        ThemeSpec theme{};     ///< Its bar's and its player's.
        std::string why;       ///< Where it is not shown or not enabled.
    };
    /// Stands for what did not fit.
    struct More {
        Box box;
        std::vector<std::size_t> controls;
        std::string bar;  ///< On which it stands; empty on the picture.
    };
    Box whole;              ///< Everything stands in it: the mount, or more where that is loose.
    bool loose = false;     ///< As the mount is.
    Box area;               ///< The room there is for the picture.
    Box picture;            ///< The visible part of it.
    int captions_foot = 0;  ///< Captions keep above this.
    std::vector<Bar> bars;
    std::vector<Control> controls;  ///< One for each of the player's.
    std::vector<More> more;
};

/// Whether what a control of this theme is drawn on is dark, or all of a bar where there is none.
bool lies_on_dark(const ControlSpec* control, const ThemeSpec& theme);

/// `source` says how the picture lies; without one, or before its size is known, it takes all the room there is.
Layout lay_out(const PlayerSpec& player, const MountShape& mount, const ControlContext& context,
               const SourceSpec* source = nullptr);

/// A moment in which everything that a player has can be seen and used.
ControlContext usual_moment();

/// The shown control at a place; nothing where there is none.
std::optional<std::size_t> control_at(const Layout& layout, int x, int y);

/// Whether the poster that was chosen for a source stands in front of its first frame in this moment.
bool poster_stands(const SourceSpec& source, const Snapshot& snapshot);
/// Why a control is not to be seen in this moment, wherever it stands; empty when it is.
std::string unseen(const PlayerSpec& player, const ControlSpec& control, const ControlContext& context);
/// Why it does nothing in this moment; empty when it does.
std::string unusable(const ControlSpec& control, const ControlContext& context);

/// About as wide as words are in the interface's typeface at so many pixels of height.
int words_width(std::string_view words, int pixels);
/// The height of words in a control so high.
int words_pixels(const ControlSpec& control, int height);

}  // namespace ruedo
