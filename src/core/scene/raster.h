// SPDX-License-Identifier: Apache-2.0
// One flat thing in the view: the half planes that bound it, and what its pixels are.
#pragma once
#include <optional>
#include <vector>

#include "player/layout.h"
#include "scene/texture.h"

namespace ruedo::scene {

/// a x + b y + c >= 0 inside, in pixels from the line.
struct Bound {
    double a, b, c;
    bool soft;     ///< An edge that is seen: pixels on it count by the part inside. Else by their middle.
    double reach;  ///< From a pixel's middle to its farthest corner, across the line.
    /// Nothing where it bounds nothing: the line lies nowhere in the view.
    static std::optional<Bound> of(double a, double b, double c, bool soft);
    double at(double x, double y) const { return a * x + (b * y + c); }
    /// Of a hard one; of two that share it exactly one holds a place on it.
    bool holds(double value) const { return value > 0 || (value == 0 && (a > 0 || (a == 0 && b > 0))); }
};

/// Light of a lamp on something plain, by how far it is; and a floor's lines, one a metre.
struct Plain {
    std::uint32_t colour = 0;
    double lamp_x = 0, lamp_y = 0, lamp_far = 0;  ///< On its plane, and off it, in metres.
    bool lines = false;
};

struct Drawn {
    Box box;  ///< Pixels of the view that it may touch.
    std::vector<Bound> bounds;
    Mapping mapping;
    const Levels* texture = nullptr;    ///< What its pixels are; else
    std::optional<Plain> plain;         ///< this; else
    std::uint32_t colour = 0xFF000000;  ///< this one, multiplied by its A.
    bool see_through = false;
    /// Draws the part of it in row `y` between two columns onto `row`, whose first pixel is column 0.
    void row(int y, int from, int to, std::uint32_t* row) const;
    /// How much of a pixel it covers, 0 to 1, and the least rectangle around that.
    struct Covered {
        double part = 0;
        RectF around{};
    };
    Covered covered(double x, double y) const;
};

}  // namespace ruedo::scene
