// SPDX-License-Identifier: Apache-2.0
// Rooms as nobody would furnish them, for rules that hold for all.
#pragma once
#include "players.h"
#include "scene/scene.h"

namespace ruedo::test {

struct Chance {
    std::mt19937 random;
    explicit Chance(unsigned seed) : random(seed) {}
    double from(double low, double high) { return std::uniform_real_distribution<double>(low, high)(random); }
    unsigned any() { return static_cast<unsigned>(random()); }
    bool one_in(unsigned n) { return random() % n == 0; }
    scene::Vec place(double wide = 3) { return {from(-wide, wide), from(0.3, 2.6), from(-wide - 2, wide - 2)}; }
    scene::Axes axes() { return scene::Axes::turned(from(-M_PI, M_PI), from(-1.5, 1.5)); }
    scene::Vec direction() {
        for (;;) {
            scene::Vec v{from(-1, 1), from(-1, 1), from(-1, 1)};
            if (auto l = scene::length(v); l > 0.1 && l < 1) return scene::unit(v);
        }
    }
};

/// One player with the usual controls, on a bar clear of the picture, two metres before the start.
inline PlayerDocument hung_player() {
    PlayerDocument d;
    d.mount = Mount::room;
    d.player().bars[0].where = BarSpec::Where::clear;
    return d;
}
inline std::vector<Layout> laid_out(const PlayerDocument& d, const ControlContext& moment = usual_moment()) {
    std::vector<Layout> all;
    for (auto& p : d.players) all.push_back(lay_out(p, scene::surface_of(p), moment));
    return all;
}

}  // namespace ruedo::test
