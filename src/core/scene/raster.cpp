// SPDX-License-Identifier: Apache-2.0
#include "scene/raster.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace ruedo::scene {
namespace {

/// `part` of 256.
std::uint32_t over(std::uint32_t below, std::uint32_t above, std::uint32_t part) {
    auto scaled = [&](std::uint32_t pixel, std::uint32_t by) {
        auto odd = ((pixel >> 8 & 0xFF00FF) * by + 0x800080) & 0xFF00FF00;
        return odd | (((pixel & 0xFF00FF) * by + 0x800080) >> 8 & 0xFF00FF);
    };
    auto top = part == 256 ? above : scaled(above, part);
    auto alpha = top >> 24;
    return top + scaled(below, 256 - (alpha + (alpha >> 7)));
}

std::uint32_t shaded(std::uint32_t pixel, float light) {
    auto by = static_cast<std::uint32_t>(std::clamp(light, 0.0F, 1.0F) * 256);
    return 0xFF000000 | ((pixel >> 8 & 0xFF) * by & 0xFF00) | (((pixel & 0xFF00FF) * by) >> 8 & 0xFF00FF);
}

/// How much of a metre's line is in a width around `at`, both in metres.
float of_lines(float at, float width) {
    static constexpr float half = 0.006F;
    auto up_to = [](float v) -> float {
        auto whole = std::floor(v + 0.5F);
        return whole * 2 * half + std::min(half, std::max(-half, v - whole));
    };
    return (up_to(at + width / 2) - up_to(at - width / 2)) / width;
}

void plain_run(const Plain& p, const Mapping& m, int x, int y, int first, int count, std::uint32_t* out) {
    auto px = x + 0.5, py = y + 0.5;
    auto sx = static_cast<float>(m.x0 + m.xx * px + m.xy * py), sy = static_cast<float>(m.y0 + m.yx * px + m.yy * py),
         sw = static_cast<float>(m.w0 + m.wx * px + m.wy * py);
    auto dx = static_cast<float>(m.xx), dy = static_cast<float>(m.yx), dw = static_cast<float>(m.wx);
    auto vx = static_cast<float>(m.xy), vy = static_cast<float>(m.yy), vw = static_cast<float>(m.wy);
    auto lx = static_cast<float>(p.lamp_x), ly = static_cast<float>(p.lamp_y),
         off = static_cast<float>(p.lamp_far * p.lamp_far);
    for (int i = 0; i < count; ++i) {
        auto f = static_cast<float>(first + i), w = 1 / (sw + f * dw), u = (sx + f * dx) * w, v = (sy + f * dy) * w;
        auto far = (u - lx) * (u - lx) + (v - ly) * (v - ly) + off;
        auto light = 0.7F + 0.34F / (1 + far / 14);
        if (p.lines) {
            // The pixel as wide on the floor as its two steps together.
            auto wide = std::abs((dx - u * dw) * w) + std::abs((vx - u * vw) * w);
            auto deep = std::abs((dy - v * dw) * w) + std::abs((vy - v * vw) * w);
            auto free = (1 - of_lines(u, std::max(wide, 1e-5F))) * (1 - of_lines(v, std::max(deep, 1e-5F)));
            light *= 0.62F + 0.38F * free;
        }
        out[i] = shaded(p.colour, light);
    }
}
}  // namespace

std::optional<Bound> Bound::of(double a, double b, double c, bool soft) {
    auto size = std::hypot(a, b);
    if (!(size > 1e-12 * std::abs(c))) return {};
    return Bound{a / size, b / size, c / size, soft, (std::abs(a) + std::abs(b)) / (2 * size)};
}

Drawn::Covered Drawn::covered(double x, double y) const {
    struct At {
        double x, y;
    };
    std::array<At, 24> corners{{{x, y}, {x + 1, y}, {x + 1, y + 1}, {x, y + 1}}}, cut;
    std::size_t n = 4;
    for (auto& b : bounds) {
        if (!b.soft) continue;
        auto v = b.at(x + 0.5, y + 0.5);
        if (v >= b.reach) continue;
        if (v <= -b.reach) return {};
        std::size_t kept = 0;
        for (std::size_t i = 0; i < n && kept + 2 < cut.size(); ++i) {
            auto &p = corners[i], &q = corners[(i + 1) % n];
            auto vp = b.at(p.x, p.y), vq = b.at(q.x, q.y);
            if (vp >= 0) cut[kept++] = p;
            if ((vp >= 0) != (vq >= 0)) {
                auto t = vp / (vp - vq);
                cut[kept++] = {p.x + (q.x - p.x) * t, p.y + (q.y - p.y) * t};
            }
        }
        if (kept < 3) return {};
        corners = cut, n = kept;
    }
    double twice = 0;
    double left = x + 1, top = y + 1, right = x, bottom = y;
    for (std::size_t i = 0; i < n; ++i) {
        auto &p = corners[i], &q = corners[(i + 1) % n];
        twice += (p.x - x) * (q.y - y) - (q.x - x) * (p.y - y);
        left = std::min(left, p.x), right = std::max(right, p.x);
        top = std::min(top, p.y), bottom = std::max(bottom, p.y);
    }
    return {std::clamp(std::abs(twice) / 2, 0.0, 1.0), {left, top, right - left, bottom - top}};
}

void Drawn::row(int y, int from, int to, std::uint32_t* row) const {
    int first = std::max(from, box.x), last = std::min(to, box.right());  // what may be touched,
    int whole = first, whole_end = last;                                  // and what is covered as a whole
    auto clip = [](double v, int low, int high) { return v <= low ? low : v >= high ? high : static_cast<int>(v); };
    for (auto& b : bounds) {
        auto k = b.b * (y + 0.5) + b.c;
        if (b.soft) {
            // From where the value at a pixel's centre exceeds the threshold.
            auto beyond = [&](double least, int& low, int& high) {
                if (std::abs(b.a) < 1e-12) {
                    if (!(k > least)) high = low;
                    return;
                }
                auto at = (least - k) / b.a - 0.5;
                if (b.a > 0)
                    low = std::max(low, clip(std::ceil(at), from, to));
                else
                    high = std::min(high, clip(std::floor(at) + 1, from, to));
            };
            beyond(-b.reach, first, last);
            beyond(b.reach, whole, whole_end);
        } else {
            auto holds = [&](int x) { return b.holds(b.a * (x + 0.5) + k); };
            if (b.a == 0) {
                if (!holds(0)) return;
                continue;
            }
            // The exact answer is its sign's, which the other side of the line shares.
            auto at = clip(std::ceil(-k / b.a - 0.5), from, to);
            if (b.a > 0) {
                while (at > from && holds(at - 1)) --at;
                while (at < to && !holds(at)) ++at;
                first = std::max(first, at), whole = std::max(whole, at);
            } else {
                while (at < to && holds(at)) ++at;
                while (at > from && !holds(at - 1)) --at;
                last = std::min(last, at), whole_end = std::min(whole_end, at);
            }
        }
        if (first >= last) return;
    }
    std::array<std::uint32_t, run_length> run;
    if (!texture && !plain) run.fill(colour);
    for (int x = first, count; x < last; x += count) {
        count = std::min(run_length - x % run_length, last - x);
        if (texture)
            sample_run(*texture, mapping, x, y, count, run.data());
        else if (plain)
            plain_run(*plain, mapping, x & ~(run_length - 1), y, x % run_length, count, run.data());
        for (int i = 0; i < count; ++i) {
            int at = x + i;
            auto above = run[static_cast<std::size_t>(i)];
            if (at >= whole && at < whole_end) {
                row[at] = see_through ? over(row[at], above, 256) : above;
                continue;
            }
            auto c = covered(at, y);
            auto part = static_cast<std::uint32_t>(c.part * 256 + 0.5);
            // Beyond its edge there is nothing to be seen of it.
            if (part && texture) above = sample_part(*texture, mapping, c.around);
            if (part) row[at] = over(row[at], see_through ? above : above | 0xFF000000, part);
        }
    }
}

}  // namespace ruedo::scene
