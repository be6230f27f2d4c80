// SPDX-License-Identifier: Apache-2.0
#include "scene/space.h"

#include <algorithm>
#include <array>
#include <utility>

namespace ruedo::scene {

Axes Axes::turned(double turn, double tilt) {
    double s = std::sin(turn), c = std::cos(turn), st = std::sin(tilt), ct = std::cos(tilt);
    return {{c, 0, -s}, {s * st, ct, c * st}, {s * ct, -st, c * ct}};
}
Axes Axes::of(const PoseSpec& pose) { return turned(radians(pose.turn), radians(pose.tilt)); }
Axes Axes::facing(const Vec& direction) {
    auto d = unit(direction);
    return turned(std::atan2(d.x, d.z), -std::asin(std::clamp(d.y, -1.0, 1.0)));
}

PoseSpec before_viewer(const PoseSpec& viewer, double metres) {
    auto axes = Axes::of(viewer);
    auto to = Vec(viewer.at) - axes.face * metres;
    auto round = [](double v) { return std::round(v * 1000) / 1000; };
    return {{round(to.x), round(to.y), round(to.z)}, viewer.turn, 0};
}

Eye Eye::of(const ViewerSpec& v, int width, int height) {
    return {v.at, Axes::of(v), radians(v.field), std::max(1, width), std::max(1, height)};
}
Ray Eye::ray(double x, double y) const {
    auto d = axes.right * (x - width / 2.0) - axes.up * (y - height / 2.0) - axes.face * focal();
    return {at, unit(d)};
}
std::optional<Eye::ScreenPoint> Eye::project(const Vec& place) const {
    auto to = place - at;
    auto depth = -dot(to, axes.face);
    if (!(depth > 0)) return {};
    auto f = focal() / depth;
    return ScreenPoint{width / 2.0 + dot(to, axes.right) * f, height / 2.0 - dot(to, axes.up) * f, depth};
}

Vec Panel::at(double u, double v) const {
    auto across = (u - 0.5) * width, down = (0.5 - v) * height;
    if (bend <= 0) return middle + axes.right * across + axes.up * down;
    auto a = across / bend;
    return middle + axes.right * (bend * std::sin(a)) + axes.face * (bend * (1 - std::cos(a))) + axes.up * down;
}
Vec Panel::face_at(double u) const {
    if (bend <= 0) return axes.face;
    auto a = (u - 0.5) * width / bend;
    return axes.face * std::cos(a) - axes.right * std::sin(a);
}

std::optional<Panel::Hit> Panel::hit(const Ray& ray) const {
    if (!(width > 0) || !(height > 0)) return {};
    auto from = ray.from - middle;
    Vec o{dot(from, axes.right), dot(from, axes.up), dot(from, axes.face)};
    Vec d{dot(ray.to, axes.right), dot(ray.to, axes.up), dot(ray.to, axes.face)};
    auto found = [&](double t, double across, bool front) -> std::optional<Hit> {
        auto u = across / width + 0.5, v = 0.5 - (o.y + t * d.y) / height;
        if (!(t > 0) || !(u >= 0 && u <= 1 && v >= 0 && v <= 1)) return {};
        return Hit{t, u, v, front};
    };
    if (bend <= 0) {
        if (d.z == 0) return {};
        auto t = -o.z / d.z;
        return found(t, o.x + t * d.x, d.z < 0);
    }
    // From the cylinder's axis.
    auto oz = o.z - bend;
    auto a = d.x * d.x + d.z * d.z, half = o.x * d.x + oz * d.z, c = o.x * o.x + oz * oz - bend * bend;
    auto inside = half * half - a * c;
    if (a == 0 || inside < 0) return {};
    // Without taking the difference of what is nearly the same.
    auto q = -(half + std::copysign(std::sqrt(inside), half));
    std::array<double, 2> ts{q / a, q == 0 ? 0 : c / q};
    if (ts[0] > ts[1]) std::swap(ts[0], ts[1]);
    for (auto t : ts) {
        auto x = o.x + t * d.x, z = oz + t * d.z;
        if (auto h = found(t, std::atan2(x, -z) * bend, x * d.x + z * d.z > 0)) return h;
    }
    return {};
}

std::optional<double> Body::hit(const Ray& ray) const {
    auto from = ray.from - foot;
    Vec o{dot(from, axes.right), dot(from, axes.up), dot(from, axes.face)};
    Vec d{dot(ray.to, axes.right), dot(ray.to, axes.up), dot(ray.to, axes.face)};
    double near = 0, far = INFINITY;
    auto within = [&](double at, double by, double low, double high) {
        if (by == 0) {
            if (at < low || at > high) far = -1;
            return;
        }
        auto a = (low - at) / by, b = (high - at) / by;
        near = std::max(near, std::min(a, b)), far = std::min(far, std::max(a, b));
    };
    within(o.y, d.y, 0, height);
    if (round) {
        auto r = width / 2;
        auto a = d.x * d.x + d.z * d.z, half = o.x * d.x + o.z * d.z, c = o.x * o.x + o.z * o.z - r * r;
        auto inside = half * half - a * c;
        if (a == 0) {
            if (c > 0) return {};
        } else {
            if (inside < 0) return {};
            auto root = std::sqrt(inside);
            near = std::max(near, (-half - root) / a), far = std::min(far, (-half + root) / a);
        }
    } else {
        within(o.x, d.x, -width / 2, width / 2);
        within(o.z, d.z, -depth / 2, depth / 2);
    }
    if (!(near <= far)) return {};
    return near;
}
bool Body::holds(const Vec& place) const {
    auto from = place - foot;
    auto x = dot(from, axes.right), y = dot(from, axes.up), z = dot(from, axes.face);
    if (y < 0 || y > height) return false;
    return round ? x * x + z * z <= width * width / 4 : std::abs(x) <= width / 2 && std::abs(z) <= depth / 2;
}

double angle_between(const Vec& eye, const Vec& a, const Vec& b) {
    auto p = a - eye, q = b - eye;
    return std::atan2(length(cross(p, q)), dot(p, q));
}

}  // namespace ruedo::scene
