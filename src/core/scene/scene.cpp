// SPDX-License-Identifier: Apache-2.0
#include "scene/scene.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo::scene {
namespace {

/// As far as anything is drawn and met; a document may say more.
constexpr double farthest = 500;
double tame(double v, double low, double high, double otherwise) {
    return std::isfinite(v) ? std::clamp(v, low, high) : otherwise;
}
Vec tame(const Vec& v) {
    auto one = [](double c) { return tame(c, -farthest, farthest, 0.0); };
    return {one(v.x), one(v.y), one(v.z)};
}

/// A bar's place: from the edge of the screen on its side, `off` metres out.
Panel float_bar(const Panel& screen, const FloatSpec& spec, double width, double height, double off) {
    using Side = FloatSpec::Side;
    auto gap = tame(spec.gap, 0, farthest, 0) + off, out = tame(spec.out, 0, farthest, 0);
    auto lean = radians(tame(spec.tilt, -90, 90, 0));
    double c = std::cos(lean), s = std::sin(lean);
    bool aside = spec.side == Side::left || spec.side == Side::right;
    double u = spec.side == Side::left ? 0 : spec.side == Side::right ? 1 : 0.5;
    double v = spec.side == Side::above ? 0 : spec.side == Side::below ? 1 : 0.5;
    auto face = screen.face_at(u), up = screen.axes.up, right = cross(up, face);
    auto edge = screen.at(u, v) + face * out;
    Panel bar{.middle = {}, .axes = {}, .width = width, .height = height, .bend = 0};
    if (aside) {
        auto side = spec.side == Side::left ? -1.0 : 1.0;
        bar.axes = {right * c + face * (side * s), up, face * c - right * (side * s)};
        bar.middle = edge + right * (side * gap) + bar.axes.right * (side * width / 2);
        return bar;
    }
    bar.axes = {right, up * c - face * s, face * c + up * s};
    if (spec.side == Side::front)
        bar.middle = edge - up * gap;
    else
        bar.middle = spec.side == Side::below ? edge - up * gap - bar.axes.up * (height / 2)
                                              : edge + up * gap + bar.axes.up * (height / 2);
    return bar;
}

/// Everything that is drawn stands inside the walls, with room to spare.
void put_up_walls(Scene& s, const Eye& eye) {
    s.low = {-4, 0, -5}, s.high = {4, 3, 3};
    auto hold = [&](const Vec& p) {
        s.low.x = std::min(s.low.x, p.x - 0.6), s.high.x = std::max(s.high.x, p.x + 0.6);
        s.low.z = std::min(s.low.z, p.z - 0.6), s.high.z = std::max(s.high.z, p.z + 0.6);
        s.low.y = std::min(s.low.y, p.y - 0.6), s.high.y = std::max(s.high.y, p.y + 0.6);
    };
    hold(tame(eye.at));
    for (auto& t : s.things) {
        if (t.kind == Thing::Kind::solid) {
            auto r = std::hypot(t.body.width, t.body.depth) / 2;
            hold(t.body.foot + Vec{r, t.body.height, r}), hold(t.body.foot - Vec{r, 0, r});
            continue;
        }
        for (double u : {0.0, 0.5, 1.0})
            for (double v : {0.0, 1.0}) hold(t.panel.at(u, v));
    }
    // The floor is where feet are, even where something hangs through it.
    s.low.y = std::min(0.0, s.low.y);
}

std::string distance_told(double metres) {
    return metres < 1 ? fmt::format("{:.0f} cm", metres * 100) : fmt::format("{:.2f} m", metres);
}

}  // namespace

MountShape surface_of(const PlayerSpec& player) {
    auto shape = shape_of(Mount::room, player.hang.surface_width, player.hang.surface_height);
    shape.loose = true;
    return shape;
}

Vec hung_at(const PlayerDocument& d, std::size_t player) {
    auto& own = d.player(player).hang;
    if (own.at) return tame(Vec(*own.at));
    // Its share of those that were given no place: a row or a column two metres before the start, at the height of the
    // eyes.
    constexpr double ahead = 2, between = 0.25;
    bool column = d.screen.arrangement == ScreenSpec::Arrangement::column;
    double whole = -between, before = 0;
    for (std::size_t i = 0; i < d.players.size(); ++i) {
        auto& h = d.player(i).hang;
        if (h.at) continue;
        auto size = std::min(column ? h.height() : h.width, farthest) + between;
        whole += size;
        if (i < player) before += size;
    }
    auto begin = Axes::turned(radians(d.room.viewer.turn), 0);
    auto along = before + (column ? own.height() : own.width) / 2 - whole / 2;
    Vec eye = tame(Vec(d.room.viewer.at));
    return tame(eye - begin.face * ahead + (column ? Vec{0, -along, 0} : begin.right * along));
}

Axes hung_towards(const PlayerDocument& d, std::size_t player, const Eye& eye) {
    auto& own = d.player(player).hang;
    switch (own.facing) {
        case HangSpec::Facing::viewer:
            return Axes::facing(eye.at - hung_at(d, player));
        case HangSpec::Facing::view:
            return Axes::facing(eye.axes.face);
        case HangSpec::Facing::fixed:
            break;
    }
    // What was given no place faces the start.
    auto turn = own.turn + (own.at ? 0 : d.room.viewer.turn);
    return Axes::turned(radians(tame(turn, -720, 720, 0)), -radians(tame(own.tilt, -90, 90, 0)));
}

Scene build(const PlayerDocument& d, std::span<const Layout> layouts, const Eye& eye) {
    Scene s;
    s.walls = d.room.walls, s.floor = d.room.floor;
    for (std::size_t p = 0; p < std::min(d.players.size(), layouts.size()); ++p) {
        auto& spec = d.player(p);
        auto& hang = spec.hang;
        auto& layout = layouts[p];
        auto named = [&](std::string_view what) {
            return d.players.size() == 1 ? fmt::format("the {}", what) : fmt::format("the {} of “{}”", what, spec.name);
        };
        Thing screen{.kind = Thing::Kind::screen, .name = named("screen"), .player = p, .sheet = layout.area};
        auto width = tame(hang.width, room_limits::least_length, farthest, 1.6);
        auto metres = width / std::max(1, layout.area.width);  // of a pixel
        screen.panel = {hung_at(d, p), hung_towards(d, p, eye), width, metres * layout.area.height, 0};
        if (hang.bend > 0) screen.panel.bend = std::max(hang.bend, width / (2 * M_PI * most_of_a_round));
        if (!(screen.panel.bend < farthest)) screen.panel.bend = 0;
        auto base = screen.panel;
        if (hang.margin > 0) {
            auto margin = tame(hang.margin, 0, farthest, 0);
            Thing backing{.kind = Thing::Kind::backing,
                          .name = named("backing"),
                          .player = p,
                          .panel = base,
                          .colour = hang.backing,
                          .cover = tame(hang.cover, 0, 1, 1)};
            backing.panel.middle = backing.panel.middle - base.axes.face * backing_behind;
            backing.panel.width += 2 * margin, backing.panel.height += 2 * margin;
            if (auto& bend = backing.panel.bend; bend > 0)
                bend = std::max(bend + backing_behind, backing.panel.width / (2 * M_PI * most_of_a_round));
            s.things.push_back(std::move(backing));
        }
        s.things.push_back(std::move(screen));
        std::array<double, 5> taken{};
        for (auto& b : layout.bars) {
            auto& bar = spec.bars[b.bar];
            if (bar.where == BarSpec::Where::on) continue;
            auto how = float_of(bar);
            auto& off = taken.at(static_cast<std::size_t>(how.side));
            Thing thing{.kind = Thing::Kind::bar,
                        .name = named(fmt::format("bar “{}”", bar.name)),
                        .player = p,
                        .bar = b.bar,
                        .panel = float_bar(base, how, b.box.width * metres, b.box.height * metres, off),
                        .sheet = b.box};
            bool aside = how.side == FloatSpec::Side::left || how.side == FloatSpec::Side::right;
            off += (aside ? thing.panel.width : thing.panel.height) + 0.02;
            s.things.push_back(std::move(thing));
        }
    }
    for (std::size_t i = 0; i < std::min(d.room.solids.size(), RoomSpec::most_solids); ++i) {
        auto& o = d.room.solids[i];
        auto size = [](double v) { return tame(v, room_limits::least_length, farthest, 1.0); };
        bool round = o.kind == SolidSpec::Kind::pillar;
        s.things.push_back({.kind = Thing::Kind::solid,
                            .name = fmt::format("“{}”", o.name),
                            .player = i,
                            .body = {tame(Vec(o.at)), Axes::turned(radians(tame(o.turn, -360, 360, 0)), 0),
                                     size(o.width), size(o.height), round ? size(o.width) : size(o.depth), round},
                            .colour = o.colour});
    }
    put_up_walls(s, eye);
    return s;
}

Aim Scene::aim(const Ray& ray, double reach) const {
    Aim aim;
    for (std::size_t i = 0; i < things.size(); ++i) {
        auto& t = things[i];
        if (t.kind == Thing::Kind::solid) {
            if (auto at = t.body.hit(ray); at && *at <= reach) aim.met.push_back({i, *at, 0, 0, true, ray.at(*at)});
        } else if (auto hit = t.panel.hit(ray); hit && hit->t <= reach) {
            aim.met.push_back({i, hit->t, hit->u, hit->v, hit->front, ray.at(hit->t)});
        }
    }
    std::sort(aim.met.begin(), aim.met.end(), [](auto& a, auto& b) { return a.t < b.t; });
    // Of what lies in one plane the later thing is drawn over the others.
    for (std::size_t i = 1; i < aim.met.size(); ++i)
        for (auto k = i;
             k > 0 && aim.met[k].t - aim.met[k - 1].t < in_one_plane && aim.met[k].thing > aim.met[k - 1].thing; --k)
            std::swap(aim.met[k], aim.met[k - 1]);
    for (std::size_t i = 0; i < aim.met.size(); ++i) {
        auto& m = aim.met[i];
        auto& thing = things[m.thing];
        bool takes = thing.takes_presses() && m.front;
        if (aim.stop) {
            if (takes && !aim.landing && !aim.missed) aim.missed = m.thing;
            continue;
        }
        if (thing.kind == Thing::Kind::backing && thing.cover <= 0) continue;
        aim.stop = i;
        if (takes) {
            auto& b = thing.sheet;
            // The last pixel's far edge is still its own.
            auto inside = [](double part, int size) { return std::min(part * size, std::nextafter(size, 0.0)); };
            aim.landing = Aim::Landing{thing.player, b.x + inside(m.u, b.width), b.y + inside(m.v, b.height)};
        }
    }
    return aim;
}

std::string Scene::told(const Aim& aim) const {
    if (!aim.stop) return "Meets nothing.";
    std::string passed;
    for (std::size_t i = 0; i < *aim.stop; ++i)
        passed += fmt::format("{}{}", passed.empty() ? " through " : ", ", things[aim.met[i].thing].name);
    auto& m = aim.met[*aim.stop];
    auto& thing = things[m.thing];
    std::string missed = aim.missed ? fmt::format(", before {}", things[*aim.missed].name) : std::string();
    if (aim.landing)
        return fmt::format("Lands on {} at {:.0f}, {:.0f}, {} away{}.", thing.name, std::floor(aim.landing->x),
                           std::floor(aim.landing->y), distance_told(m.t), passed);
    if (thing.takes_presses())
        return fmt::format("Meets the back of {}, {} away{}{}.", thing.name, distance_told(m.t), passed, missed);
    return fmt::format("Is stopped by {}, {} away{}{}.", thing.name, distance_told(m.t), passed, missed);
}

std::optional<std::size_t> Scene::screen_of(std::size_t player) const {
    for (std::size_t i = 0; i < things.size(); ++i)
        if (things[i].kind == Thing::Kind::screen && things[i].player == player) return i;
    return {};
}
std::optional<std::size_t> Scene::thing_at(std::size_t player, double x, double y) const {
    for (std::size_t i = 0; i < things.size(); ++i) {
        auto& t = things[i];
        if (t.takes_presses() && t.player == player && x >= t.sheet.x && x < t.sheet.right() && y >= t.sheet.y &&
            y < t.sheet.bottom())
            return i;
    }
    return {};
}
Vec Scene::place_beyond(std::size_t player, double x, double y) const {
    if (auto place = place_of(player, x, y)) return *place;
    auto i = screen_of(player);
    if (!i) return {};
    auto& t = things[*i];
    return t.panel.at((x - t.sheet.x) / t.sheet.width, (y - t.sheet.y) / t.sheet.height);
}
std::optional<Aim::Landing> Scene::landing_beyond(std::size_t player, const Ray& ray) const {
    auto i = screen_of(player);
    if (!i) return {};
    auto& t = things[*i];
    auto sheet = [&](double u, double v) {
        return Aim::Landing{player, t.sheet.x + u * t.sheet.width, t.sheet.y + v * t.sheet.height};
    };
    if (auto hit = t.panel.hit(ray); hit && hit->front) return sheet(hit->u, hit->v);
    auto along = dot(ray.to, t.panel.axes.face), off = dot(t.panel.middle - ray.from, t.panel.axes.face);
    if (!(along < 0) || !(off < 0)) return {};
    auto at = ray.at(off / along) - t.panel.middle;
    return sheet(dot(at, t.panel.axes.right) / t.panel.width + 0.5, 0.5 - dot(at, t.panel.axes.up) / t.panel.height);
}
std::optional<Vec> Scene::place_of(std::size_t player, double x, double y) const {
    auto i = thing_at(player, x, y);
    if (!i) return {};
    auto& t = things[*i];
    return t.panel.at((x - t.sheet.x) / t.sheet.width, (y - t.sheet.y) / t.sheet.height);
}

}  // namespace ruedo::scene
