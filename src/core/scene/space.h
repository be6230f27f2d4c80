// SPDX-License-Identifier: Apache-2.0
// Places, directions and surfaces in a room, all in double precision. Right-handed metres as in player/room.h; angles
// are radians here. Everything is a plain value, safe on any thread; nothing fails, and what has no size meets no ray.
#pragma once
#include <cmath>
#include <optional>
#include <vector>

#include "player/room.h"

namespace ruedo::scene {

struct Vec {
    double x = 0, y = 0, z = 0;
    constexpr Vec() = default;
    constexpr Vec(double right, double up, double towards) : x(right), y(up), z(towards) {}
    constexpr Vec(const Point& p) : x(p.x), y(p.y), z(p.z) {}
    constexpr Vec operator+(const Vec& o) const { return {x + o.x, y + o.y, z + o.z}; }
    constexpr Vec operator-(const Vec& o) const { return {x - o.x, y - o.y, z - o.z}; }
    constexpr Vec operator*(double f) const { return {x * f, y * f, z * f}; }
    constexpr Vec operator-() const { return {-x, -y, -z}; }
    constexpr bool operator==(const Vec&) const = default;
    Point point() const { return {x, y, z}; }
};
constexpr double dot(const Vec& a, const Vec& b) { return a.x * b.x + a.y * b.y + a.z * b.z; }
constexpr Vec cross(const Vec& a, const Vec& b) {
    return {a.y * b.z - a.z * b.y, a.z * b.x - a.x * b.z, a.x * b.y - a.y * b.x};
}
inline double length(const Vec& v) { return std::sqrt(dot(v, v)); }
/// Straight ahead where there is no direction.
inline Vec unit(const Vec& v) {
    auto l = length(v);
    return l > 0 && std::isfinite(l) ? v * (1 / l) : Vec{0, 0, -1};
}
constexpr double radians(double degrees) { return degrees * M_PI / 180; }
constexpr double degrees(double radians) { return radians * 180 / M_PI; }

/// Which way something is turned: its right, its up, and out of its face.
struct Axes {
    Vec right{1, 0, 0}, up{0, 1, 0}, face{0, 0, 1};
    /// First round upright by `turn`, then about its own right, so that its face sinks and its back rises by `tilt`: a
    /// viewer, who looks out of the back, looks up.
    static Axes turned(double turn, double tilt);
    static Axes of(const PoseSpec& pose);
    /// Upright, its face along `direction`.
    static Axes facing(const Vec& direction);
    bool operator==(const Axes&) const = default;
};

/// Where a screen hangs straight before a viewer, upright and facing it; to the millimetre.
PoseSpec before_viewer(const PoseSpec& viewer, double metres);

struct Ray {
    Vec from, to{0, 0, -1};  ///< `to` is a direction of length 1.
    Vec at(double t) const { return from + to * t; }
};

/// A viewer's eye, and the picture of what it sees: `width` x `height` pixels, x to the right and y down, whole numbers
/// between pixels.
struct Eye {
    Vec at{0, 1.6, 0};
    Axes axes;
    double field = radians(60);  ///< From top to bottom.
    int width = 1280, height = 800;
    static Eye of(const ViewerSpec& viewer, int width, int height);

    Vec look() const { return -axes.face; }
    double focal() const { return height / 2.0 / std::tan(field / 2); }  ///< Of a pinhole, in pixels.
    Ray ray(double x, double y) const;
    struct ScreenPoint {
        double x, y;
        double depth;  ///< Metres along the view.
    };
    /// Nothing behind the eye.
    std::optional<ScreenPoint> project(const Vec& place) const;
    bool operator==(const Eye&) const = default;
};

/// A rectangle in space, flat or bent to a part of an upright (along its own up) cylinder round a viewer in front of
/// it.
struct Panel {
    Vec middle;
    Axes axes;
    double width = 1, height = 1;  ///< Along the surface.
    double bend = 0;               ///< Radius; 0 for flat.

    /// `u` from its left to its right, `v` from top to bottom, 0 to 1.
    Vec at(double u, double v) const;
    /// Out of its face, there.
    Vec face_at(double u) const;
    struct Hit {
        double t;  ///< Metres along the ray.
        double u, v;
        bool front;
    };
    /// The nearest place where a ray meets it.
    std::optional<Hit> hit(const Ray& ray) const;
    bool operator==(const Panel&) const = default;
};

/// A box that stands on `foot`, or a cylinder as wide as it.
struct Body {
    Vec foot;
    Axes axes;
    double width = 1, height = 1, depth = 1;
    bool round = false;
    /// Metres along the ray; 0 from inside.
    std::optional<double> hit(const Ray& ray) const;
    bool holds(const Vec& place) const;
};

/// The angle under which the way from `a` to `b` is seen.
double angle_between(const Vec& eye, const Vec& a, const Vec& b);

}  // namespace ruedo::scene
