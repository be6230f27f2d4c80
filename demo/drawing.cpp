// SPDX-License-Identifier: Apache-2.0
#include "demo/drawing.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <vector>

namespace ruedo::demo {

Canvas::Canvas(int width, int height) {
    image_.width = width, image_.height = height;
    image_.pixels.assign(static_cast<std::size_t>(width * height) * 4, 255);
}

namespace {
std::uint8_t level(double v) { return static_cast<std::uint8_t>(std::clamp(v, 0.0, 255.0)); }
}  // namespace

void Canvas::blend(int y, int from, int to, Rgb c, double a) {
    from = std::max(from, 0), to = std::min(to, image_.width);
    int k = static_cast<int>(std::min(a, 1.0) * 256);
    if (y < 0 || y >= image_.height || k <= 0) return;
    const int b = level(c.b), g = level(c.g), r = level(c.r);
    auto* p = &image_.pixels[static_cast<std::size_t>(y * image_.width) * 4];
    auto mix = [k](int old, int v) { return static_cast<std::uint8_t>(old + (((v - old) * k) >> 8)); };
    for (int x = from; x < to; ++x) {
        auto* at = p + x * 4;
        at[0] = mix(at[0], b), at[1] = mix(at[1], g), at[2] = mix(at[2], r);
    }
}

void Canvas::gradient(Rgb top, Rgb bottom) {
    for (int y = 0; y < image_.height; ++y) {
        double k = static_cast<double>(y) / image_.height;
        auto v = [&](double a, double b) { return static_cast<std::uint8_t>(a + (b - a) * k); };
        std::uint8_t b = v(top.b, bottom.b), g = v(top.g, bottom.g), r = v(top.r, bottom.r);
        auto* p = &image_.pixels[static_cast<std::size_t>(y * image_.width) * 4];
        for (int x = 0; x < image_.width; ++x, p += 4) p[0] = b, p[1] = g, p[2] = r;
    }
}
void Canvas::rect(double x0, double y0, double x1, double y1, Rgb c, double alpha) {
    x0 = std::max(x0, 0.0), y0 = std::max(y0, 0.0), x1 = std::min<double>(x1, image_.width),
    y1 = std::min<double>(y1, image_.height);
    for (int y = static_cast<int>(std::floor(y0)); y < y1; ++y) {
        double row = alpha * std::clamp(std::min(y + 1.0, y1) - std::max<double>(y, y0), 0.0, 1.0);
        int from = static_cast<int>(std::floor(x0)), first = static_cast<int>(std::ceil(x0)),
            last = static_cast<int>(std::floor(x1));
        if (first > last) return blend(y, from, from + 1, c, row * (x1 - x0));
        if (from < first) blend(y, from, first, c, row * (first - x0));
        blend(y, first, last, c, row);
        if (last < x1) blend(y, last, last + 1, c, row * (x1 - last));
    }
}
void Canvas::circle(Point o, double r, Rgb c, double alpha) {
    for (int y = static_cast<int>(o.y - r) - 1; y <= o.y + r + 1; ++y)
        for (int x = static_cast<int>(o.x - r) - 1; x <= o.x + r + 1; ++x) {
            double dx = x + 0.5 - o.x, dy = y + 0.5 - o.y, square = dx * dx + dy * dy;
            if (square < (r + 0.5) * (r + 0.5))
                blend(y, x, x + 1, c, alpha * std::min(1.0, r + 0.5 - std::sqrt(square)));
        }
}
void Canvas::glow(Point o, double r, Rgb c, double strength) {
    for (int y = static_cast<int>(o.y - r); y <= o.y + r; ++y)
        for (int x = static_cast<int>(o.x - r); x <= o.x + r; ++x) {
            double dx = x + 0.5 - o.x, dy = y + 0.5 - o.y;
            double square = (dx * dx + dy * dy) / (r * r);
            if (square >= 1) continue;
            double d = std::sqrt(square);
            blend(y, x, x + 1, c, strength * (1 - d) * (1 - d));
        }
}
void Canvas::polygon(std::span<const Point> q, Rgb c, double alpha) {
    double x0 = 1e9, x1 = -1e9, y0 = 1e9, y1 = -1e9, area = 0;
    for (std::size_t i = 0; i < q.size(); ++i) {
        auto &a = q[i], &b = q[(i + 1) % q.size()];
        area += a.x * b.y - b.x * a.y;
        x0 = std::min(x0, a.x), x1 = std::max(x1, a.x), y0 = std::min(y0, a.y), y1 = std::max(y1, a.y);
    }
    // Inside is where every edge's distance is positive; distances grow linearly along a row.
    struct Edge {
        double nx, ny, d;
    };
    std::vector<Edge> edges;
    for (std::size_t i = 0; i < q.size(); ++i) {
        auto &a = q[i], &b = q[(i + 1) % q.size()];
        double length = std::max(1e-9, std::hypot(b.x - a.x, b.y - a.y)) * (area < 0 ? -1 : 1);
        Edge e{-(b.y - a.y) / length, (b.x - a.x) / length, 0};
        e.d = -(e.nx * a.x + e.ny * a.y);
        edges.push_back(e);
    }
    for (int y = std::max(0, static_cast<int>(y0) - 1); y <= std::min<double>(image_.height - 1, y1 + 1); ++y) {
        // Where all distances are above 0 something of a pixel is covered, and above 1 all of it.
        double any_from = x0 - 1, any_to = x1 + 1, all_from = any_from, all_to = any_to;
        for (auto& e : edges) {
            double at_left = e.nx * 0.5 + e.ny * (y + 0.5) + e.d + 0.5;
            if (std::abs(e.nx) < 1e-9) {
                if (at_left <= 0) any_to = any_from;
                if (at_left < 1) all_to = all_from;
                continue;
            }
            double any = -at_left / e.nx, all = (1 - at_left) / e.nx;
            if (e.nx > 0)
                any_from = std::max(any_from, any), all_from = std::max(all_from, all);
            else
                any_to = std::min(any_to, any), all_to = std::min(all_to, all);
        }
        int from = std::max(0, static_cast<int>(std::ceil(any_from))),
            to = std::min(image_.width, static_cast<int>(std::floor(any_to)) + 1),
            inner = std::clamp(static_cast<int>(std::ceil(all_from)), from, std::max(from, to)),
            outer = std::clamp(static_cast<int>(std::floor(all_to)) + 1, inner, std::max(inner, to));
        auto edge = [&](int x) {
            double inside = 1;
            for (auto& e : edges) inside = std::min(inside, e.nx * (x + 0.5) + e.ny * (y + 0.5) + e.d + 0.5);
            if (inside > 0) blend(y, x, x + 1, c, alpha * inside);
        };
        for (int x = from; x < inner; ++x) edge(x);
        blend(y, inner, outer, c, alpha);
        for (int x = outer; x < to; ++x) edge(x);
    }
}

void Canvas::text(Point at, double size, std::string_view text, Rgb c) {
    // Five columns of seven rows each, the top row in the lowest bit.
    static const std::map<char, std::array<unsigned, 5>> font{
        {'0', {0x3E, 0x51, 0x49, 0x45, 0x3E}}, {'1', {0, 0x42, 0x7F, 0x40, 0}},
        {'2', {0x42, 0x61, 0x51, 0x49, 0x46}}, {'3', {0x21, 0x41, 0x45, 0x4B, 0x31}},
        {'4', {0x18, 0x14, 0x12, 0x7F, 0x10}}, {'5', {0x27, 0x45, 0x45, 0x45, 0x39}},
        {'6', {0x3C, 0x4A, 0x49, 0x49, 0x30}}, {'7', {1, 0x71, 9, 5, 3}},
        {'8', {0x36, 0x49, 0x49, 0x49, 0x36}}, {'9', {6, 0x49, 0x49, 0x29, 0x1E}},
        {':', {0, 0x36, 0x36, 0, 0}},          {'.', {0, 0x60, 0x60, 0, 0}}};
    double cell = size / 7;
    for (char ch : text) {
        if (auto it = font.find(ch); it != font.end())
            for (int x = 0; x < 5; ++x)
                for (int y = 0; y < 7; ++y)
                    if (it->second[static_cast<std::size_t>(x)] >> y & 1)
                        rect(at.x + x * cell, at.y + y * cell, at.x + (x + 1) * cell, at.y + (y + 1) * cell, c);
        at.x += 6 * cell;
    }
}

}  // namespace ruedo::demo
