// SPDX-License-Identifier: Apache-2.0
#include "scene/order.h"

#include <algorithm>

namespace ruedo::scene {
namespace {
constexpr double on_plane = in_one_plane;

constexpr int round_sides = 48;

Face polygon(std::vector<Vec> corners, const Vec& face, std::size_t thing) {
    Face f;
    f.edges.resize(corners.size());
    f.face = face, f.offset = dot(face, corners[0]), f.thing = thing, f.origin = corners[0];
    f.corners = std::move(corners);
    return f;
}

std::vector<Face> of_panel(const Thing& t, std::size_t number) {
    auto& p = t.panel;
    std::vector<Face> out;
    // The chord of a strip lies at most a twentieth of a millimetre, or a ten-thousandth of the radius, off the bend.
    int strips = 1;
    if (p.bend > 0) {
        auto off = std::clamp(p.bend * 1e-4, 1e-6, 5e-5);
        auto each = 2 * std::acos(std::max(0.0, 1 - off / p.bend));
        strips = std::clamp(static_cast<int>(std::ceil(p.width / p.bend / each)), 2, 96);
    }
    for (int i = 0; i < strips; ++i) {
        double u0 = i / static_cast<double>(strips), u1 = (i + 1) / static_cast<double>(strips);
        auto a = p.at(u0, 1), b = p.at(u1, 1), c = p.at(u1, 0), d = p.at(u0, 0);
        auto f = polygon({a, b, c, d}, unit(cross(b - a, d - a)), number);
        f.edges[1].cut = i + 1 < strips, f.edges[3].cut = i > 0;
        auto along = c - d;
        auto wide = length(along);
        auto pixels = t.sheet.width * (u1 - u0);
        f.across = along * (pixels / (wide * wide)), f.down = p.axes.up * (-t.sheet.height / p.height);
        // So that what is measured from there is a place on the sheet.
        f.origin = d - along * ((t.sheet.x + t.sheet.width * u0) / pixels) +
                   p.axes.up * (t.sheet.y * p.height / std::max(1, t.sheet.height));
        if (t.sheet.empty()) f.across = f.down = {}, f.origin = d;
        out.push_back(std::move(f));
    }
    return out;
}

std::vector<Face> of_body(const Thing& t, std::size_t number) {
    auto& b = t.body;
    std::vector<Vec> foot;
    if (b.round)
        for (int i = 0; i < round_sides; ++i) {
            auto a = 2 * M_PI * i / round_sides;
            foot.push_back(b.foot + b.axes.right * (b.width / 2 * std::sin(a)) +
                           b.axes.face * (b.width / 2 * std::cos(a)));
        }
    else
        for (auto [x, z] : {std::pair(-0.5, 0.5), {0.5, 0.5}, {0.5, -0.5}, {-0.5, -0.5}})
            foot.push_back(b.foot + b.axes.right * (x * b.width) + b.axes.face * (z * b.depth));
    auto up = b.axes.up * b.height;
    auto n = foot.size();
    std::vector<Face> sides;
    for (std::size_t i = 0; i < n; ++i) {
        auto &p = foot[i], &q = foot[(i + 1) % n];
        sides.push_back(polygon({p, q, q + up, p + up}, unit(cross(q - p, up)), number));
    }
    std::vector<Vec> lid, base(foot.rbegin(), foot.rend());
    for (auto& p : foot) lid.push_back(p + up);
    auto top = polygon(lid, b.axes.up, number), bottom = polygon(base, -b.axes.up, number);
    for (std::size_t i = 0; i < n; ++i) {
        auto& s = sides[i];
        s.edges[0].beyond = bottom.face, s.edges[2].beyond = top.face;
        s.edges[1].beyond = sides[(i + 1) % n].face, s.edges[3].beyond = sides[(i + n - 1) % n].face;
        top.edges[i].beyond = s.face;
        // The bottom goes round the other way.
        bottom.edges[i].beyond = sides[(2 * n - 2 - i) % n].face;
    }
    sides.push_back(std::move(top)), sides.push_back(std::move(bottom));
    return sides;
}

/// The part of a face on one side of a plane; the edge it is cut along is not a visible edge.
std::optional<Face> part_of(const Face& f, const Face& plane, double sign) {
    Face out = f;
    out.corners.clear(), out.edges.clear();
    auto n = f.corners.size();
    for (std::size_t i = 0; i < n; ++i) {
        auto &a = f.corners[i], &b = f.corners[(i + 1) % n];
        auto da = plane.side(a), db = plane.side(b);
        auto where = [](double d) { return d > on_plane ? 1 : d < -on_plane ? -1 : 0; };
        int wa = where(da) * static_cast<int>(sign), wb = where(db) * static_cast<int>(sign);
        if (wa >= 0) {
            out.corners.push_back(a);
            out.edges.push_back(f.edges[i]);
            // Along the cut from here on.
            if (wb < 0 && wa == 0) out.edges.back() = {.cut = true};
        }
        if (wa * wb < 0) {
            // The same place for both parts, whichever way round they go.
            bool swap = da > db;
            auto &p = swap ? b : a, &q = swap ? a : b;
            auto dp = swap ? db : da, dq = swap ? da : db;
            out.corners.push_back(p + (q - p) * (dp / (dp - dq)));
            out.edges.push_back(wa > 0 ? Face::Edge{.cut = true} : f.edges[i]);
        }
    }
    if (out.corners.size() < 3) return {};
    return out;
}
}  // namespace

std::vector<Face> faces_of(const Thing& thing, std::size_t number) {
    return thing.kind == Thing::Kind::solid ? of_body(thing, number) : of_panel(thing, number);
}

Order::Order(std::vector<Face> faces) : root_(divide(std::move(faces))) {}

std::unique_ptr<Order::Node> Order::divide(std::vector<Face> faces) {
    if (faces.empty()) return nullptr;
    auto node = std::make_unique<Node>();
    // From the middle of the list: the strips of a bend then make a tree and no chain.
    auto plane = faces[faces.size() / 2];
    std::vector<Face> before, behind;
    for (auto& f : faces) {
        double low = INFINITY, high = -INFINITY;
        for (auto& c : f.corners) {
            auto d = plane.side(c);
            low = std::min(low, d), high = std::max(high, d);
        }
        if (low >= -on_plane && high <= on_plane) {
            node->here.push_back(std::move(f));
        } else if (low >= -on_plane) {
            before.push_back(std::move(f));
        } else if (high <= on_plane) {
            behind.push_back(std::move(f));
        } else {
            if (auto p = part_of(f, plane, 1)) before.push_back(std::move(*p));
            if (auto p = part_of(f, plane, -1)) behind.push_back(std::move(*p));
        }
    }
    faces.clear(), faces.shrink_to_fit();
    node->before = divide(std::move(before)), node->behind = divide(std::move(behind));
    return node;
}

void Order::walk(const Node* node, const Vec& eye, std::vector<const Face*>& out) {
    if (!node) return;
    auto side = node->here.front().side(eye);
    walk(side >= 0 ? node->behind.get() : node->before.get(), eye, out);
    if (std::abs(side) > on_plane)
        for (auto& f : node->here) out.push_back(&f);
    walk(side >= 0 ? node->before.get() : node->behind.get(), eye, out);
}
std::vector<const Face*> Order::from(const Vec& eye) const {
    std::vector<const Face*> out;
    walk(root_.get(), eye, out);
    return out;
}

}  // namespace ruedo::scene
