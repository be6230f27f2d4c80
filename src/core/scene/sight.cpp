// SPDX-License-Identifier: Apache-2.0
// How what hangs in a room looks and sounds from where an eye is.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "scene/scene.h"

namespace ruedo::scene {

std::optional<Look> look_at(const Scene& s, const Eye& eye, std::size_t player, const Box& part) {
    double x = part.x + part.width / 2.0, y = part.y + part.height / 2.0;
    auto thing = s.thing_at(player, x, y);
    if (!thing || part.empty()) return {};
    auto& t = s.things[*thing];
    auto at = [&](double px, double py) {
        return t.panel.at((px - t.sheet.x) / t.sheet.width, (py - t.sheet.y) / t.sheet.height);
    };
    Look look;
    look.middle = at(x, y);
    look.distance = length(look.middle - eye.at);
    look.metres_wide = t.panel.width * part.width / t.sheet.width;
    look.metres_high = t.panel.height * part.height / t.sheet.height;
    look.wide = angle_between(eye.at, at(part.x, y), at(part.right(), y));
    look.high = angle_between(eye.at, at(x, part.y), at(x, part.bottom()));
    double left = INFINITY, top = INFINITY, right = -INFINITY, bottom = -INFINITY;
    look.projected = true;
    // A bent edge reaches farther than its ends do.
    constexpr int steps = 16;
    for (int i = 0; i <= steps && look.projected; ++i)
        for (double py : {static_cast<double>(part.y), static_cast<double>(part.bottom())}) {
            auto seen = eye.project(at(part.x + part.width * static_cast<double>(i) / steps, py));
            if (!seen) {
                look.projected = false;
                break;
            }
            left = std::min(left, seen->x), right = std::max(right, seen->x);
            top = std::min(top, seen->y), bottom = std::max(bottom, seen->y);
        }
    if (look.projected) look.box = {left, top, right - left, bottom - top};
    auto middle = eye.project(look.middle);
    look.in_view = middle && middle->x >= 0 && middle->x < eye.width && middle->y >= 0 && middle->y < eye.height;
    auto u = (x - t.sheet.x) / t.sheet.width;
    look.from_front = dot(eye.at - look.middle, t.panel.face_at(u)) > 0;
    auto aim = s.aim({eye.at, unit(look.middle - eye.at)});
    // What is bent may hide a part of itself.
    if (auto* end = aim.end(); end && end->t < look.distance + (end->thing == *thing ? -1e-6 : in_one_plane))
        look.hidden_by = end->thing;
    return look;
}

std::optional<VisibleSize> visible_size(const Scene& s, const Eye& eye, std::size_t player) {
    auto i = s.screen_of(player);
    if (!i) return {};
    auto& p = s.things[*i].panel;
    constexpr double step = 0.01;
    auto left = eye.project(p.at(0.5 - step, 0.5)), right = eye.project(p.at(0.5 + step, 0.5));
    auto top = eye.project(p.at(0.5, 0.5 - step)), bottom = eye.project(p.at(0.5, 0.5 + step));
    if (!left || !right || !top || !bottom) return {};
    return VisibleSize{std::hypot(right->x - left->x, right->y - left->y) / (2 * step),
                       std::hypot(bottom->x - top->x, bottom->y - top->y) / (2 * step)};
}

std::string surface_sentence(int width, int height, const VisibleSize& seen) {
    auto kept = std::min(1.0, seen.width / width) * std::min(1.0, seen.height / height);
    auto grown = std::max(seen.width / width, seen.height / height);
    auto said =
        fmt::format("Its surface of {} × {} pixels is seen as {:.0f} × {:.0f}", width, height, seen.width, seen.height);
    if (grown > 1.1) return fmt::format("{}: each pixel is {:.1f} times as large.", said, grown);
    if (kept > 0.9) return said + ": about pixel for pixel.";
    return fmt::format("{}: {:.0f} % of them remain.", said, std::max(1.0, kept * 100));
}

StereoGain heard(const Vec& source, const Eye& eye) {
    auto to = source - eye.at;
    auto d = length(to);
    auto side = d > 0 ? std::clamp(dot(to, eye.axes.right) / d, -1.0, 1.0) : 0;
    auto a = (side + 1) * M_PI / 4;
    auto gain = M_SQRT2 / std::max(1.0, d);
    return {gain * std::cos(a), gain * std::sin(a)};
}

}  // namespace ruedo::scene
