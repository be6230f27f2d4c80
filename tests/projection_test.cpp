// SPDX-License-Identifier: Apache-2.0
// The picture of a room against sixty-four rays for each pixel, and against itself drawn anew.
#include "player/screen.h"
#include "scene/order.h"
#include "scene/projection.h"
#include "scenes.h"

using namespace ruedo;
using namespace ruedo::test;
using scene::Axes;
using scene::Eye;
using scene::Laid;
using scene::Projection;
using scene::Scene;
using scene::Texture;
using scene::Vec;

namespace {
/// Slopes, circles, hard edges and fine lines, as pictures have them.
RgbImage picture_of(int width, int height, unsigned seed) {
    RgbImage image;
    image.width = width, image.height = height;
    image.pixels.resize(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 4);
    Chance chance(seed);
    struct Disc {
        double x, y, r;
        std::array<int, 3> colour;
    };
    std::vector<Disc> discs;
    for (int i = 0; i < 40; ++i)
        discs.push_back({chance.from(0, width),
                         chance.from(0, height),
                         chance.from(4, 120),
                         {static_cast<int>(chance.random() % 256), static_cast<int>(chance.random() % 256),
                          static_cast<int>(chance.random() % 256)}});
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            std::array<double, 3> c{255.0 * x / width, 255.0 * y / height, 128 + 90 * std::sin(x * 0.02 + y * 0.013)};
            for (auto& d : discs)
                if (auto dx = x - d.x, dy = y - d.y, off = std::sqrt(dx * dx + dy * dy) - d.r; off < 1)
                    for (std::size_t k = 0; k < 3; ++k)
                        c[k] += (d.colour[k] - c[k]) * std::clamp(1 - off, 0.0, 1.0) * 0.8;
            auto* at = &image.pixels[static_cast<std::size_t>(y * width + x) * 4];
            for (std::size_t k = 0; k < 3; ++k) at[k] = static_cast<std::uint8_t>(std::clamp(c[k], 0.0, 255.0));
            at[3] = 255;
        }
    return image;
}
/// A sheet of the size of a layout: plates of bars, half see-through, with marks on them.
RgbImage controls_of(const Layout& l) {
    RgbImage image;
    image.width = l.whole.width, image.height = l.whole.height;
    image.pixels.resize(static_cast<std::size_t>(image.width) * static_cast<std::size_t>(image.height) * 4);
    std::fill(image.pixels.begin(), image.pixels.end(), std::uint8_t{0});
    auto fill = [&](const Box& b, std::array<std::uint8_t, 4> c) {
        for (int y = b.y; y < b.bottom(); ++y)
            for (int x = b.x; x < b.right(); ++x)
                std::copy(c.begin(), c.end(), &image.pixels[static_cast<std::size_t>(y * image.width + x) * 4]);
    };
    for (auto& b : l.bars) fill(b.box, {180, 190, 200, 220});
    for (auto& c : l.controls)
        if (c.shown) fill({c.box.x + 8, c.box.y + 8, c.box.width - 16, c.box.height - 16}, {40, 60, 138, 255});
    return image;
}
struct Room {
    PlayerDocument document = hung_player();
    std::vector<Layout> layouts;
    std::vector<RgbImage> pictures, controls;
    std::vector<Laid> laid;
    std::uint64_t revision = 0;
    explicit Room(const PlayerDocument& d) : document(d), layouts(laid_out(d)) {
        for (std::size_t i = 0; i < layouts.size(); ++i) {
            auto& h = d.player(i).hang;
            pictures.push_back(picture_of(h.surface_width, h.surface_height, static_cast<unsigned>(3 + i)));
            controls.push_back(controls_of(layouts[i]));
        }
        lay();
    }
    void lay() {
        laid.clear(), ++revision;
        for (std::size_t i = 0; i < layouts.size(); ++i) {
            auto& l = layouts[i];

            auto over = Texture::of(controls[i], revision);
            over.see_through = true;
            std::vector<RectF> parts;
            for (auto& b : l.bars) parts.push_back(b.box.rect());
            laid.push_back(
                {{{Texture::of(pictures[i], revision), l.area.rect(), {l.area.rect()}}, {over, l.whole.rect(), parts}},
                 "#17131A"});
        }
    }
    Scene build(const Eye& eye) const { return scene::build(document, layouts, eye); }
};
using Rgba = std::array<double, 4>;
Rgba texel(const Texture& t, double x, double y) {
    // Bilinear between the middles of texels.
    x -= 0.5, y -= 0.5;
    auto at = [&](double px, double py) {
        auto* p = t.pixels + static_cast<std::ptrdiff_t>(std::clamp(py, 0.0, t.height - 1.0)) * t.stride +
                  static_cast<std::ptrdiff_t>(std::clamp(px, 0.0, t.width - 1.0)) * 4;
        return Rgba{double(p[0]), double(p[1]), double(p[2]), t.see_through ? p[3] / 255.0 : 1.0};
    };
    auto fx = x - std::floor(x), fy = y - std::floor(y);
    auto a = at(std::floor(x), std::floor(y)), b = at(std::floor(x) + 1, std::floor(y));
    auto c = at(std::floor(x), std::floor(y) + 1), d = at(std::floor(x) + 1, std::floor(y) + 1);
    Rgba out;
    for (std::size_t k = 0; k < 4; ++k)
        out[k] = (a[k] * (1 - fx) + b[k] * fx) * (1 - fy) + (c[k] * (1 - fx) + d[k] * fx) * fy;
    return out;
}
/// What a ray sees, the nearest first, over `ground`; nothing where it meets nothing.
std::optional<Rgba> seen_by(const Room& room, const Scene& s, const scene::Ray& ray, const std::uint8_t* ground) {
    auto aim = s.aim(ray);
    if (aim.met.empty()) return {};
    Rgba sum{0, 0, 0, 0};
    auto add = [&](const Rgba& c) {
        for (std::size_t k = 0; k < 3; ++k) sum[k] += c[k] * (1 - sum[3]);
        sum[3] += c[3] * (1 - sum[3]);
    };
    auto plain = [](std::string_view colour, double cover) {
        auto p = scene::pixel_of(colour);
        return Rgba{(p & 255) * cover, (p >> 8 & 255) * cover, (p >> 16 & 255) * cover, cover};
    };
    for (auto& m : aim.met) {
        auto& t = s.things[m.thing];
        if (t.kind == scene::Thing::Kind::backing) {
            add(plain(t.colour, t.cover));
        } else if (!m.front) {
            add(plain("#3A312C", 1));
        } else {
            auto& layers = room.laid[t.player].layers;
            auto x = t.sheet.x + m.u * t.sheet.width, y = t.sheet.y + m.v * t.sheet.height;
            for (auto layer = layers.rbegin(); layer != layers.rend(); ++layer)
                for (auto& p : layer->parts)
                    if (x >= p.x && x < p.x + p.width && y >= p.y && y < p.y + p.height) {
                        add(texel(layer->texture, (x - layer->place.x) * layer->texture.width / layer->place.width,
                                  (y - layer->place.y) * layer->texture.height / layer->place.height));
                        break;
                    }
            if (t.kind == scene::Thing::Kind::screen) add(plain("#17131A", 1));
        }
        if (sum[3] >= 1) break;
    }
    for (std::size_t k = 0; k < 3; ++k) sum[k] += ground[k] * (1 - sum[3]);
    return sum;
}
/// Of the pixels that anything of a player has a part in, against eight by eight rays for each.
double decibels(const Room& room, const Eye& eye, std::size_t* counted = nullptr) {
    auto s = room.build(eye);
    Projection with, without;
    with.draw(s, eye, room.laid);
    auto empty = s;
    empty.things.clear();
    without.draw(empty, eye, {});
    double squares = 0;
    std::size_t n = 0;
    for (int y = 0; y < eye.height; ++y)
        for (int x = 0; x < eye.width; ++x) {
            auto at = static_cast<std::size_t>(y * eye.width + x) * 4;
            auto* ground = &without.image().pixels[at];
            Rgba mean{};
            bool any = false;
            for (int i = 0; i < 64; ++i) {
                auto c = seen_by(room, s, eye.ray(x + (i % 8 + 0.5) / 8, y + (i / 8 + 0.5) / 8), ground);
                any = any || c;
                for (std::size_t k = 0; k < 3; ++k) mean[k] += (c ? (*c)[k] : ground[k]) / 64;
            }
            if (!any) continue;
            for (std::size_t k = 0; k < 3; ++k) {
                auto off = with.image().pixels[at + k] - mean[k];
                squares += off * off, ++n;
            }
        }
    REQUIRE(n > 1000);
    if (counted) *counted = n / 3;
    return 10 * std::log10(255 * 255 / (squares / static_cast<double>(n) + 1e-9));
}
Eye eye_at(const Vec& at, double turn, double tilt, int width = 320, int height = 200) {
    return {at, scene::Axes::turned(scene::radians(turn), scene::radians(tilt)), scene::radians(60), width, height};
}
}  // namespace

TEST_CASE("A screen with its bar and backing looks as sixty-four rays a pixel see it, grazing ones among them",
          "[scene]") {
    auto d = hung_player();
    d.player().hang.margin = 0.1, d.player().hang.cover = 0.6, d.player().hang.backing = "#8A2436";
    auto bent = d, bar_on = d;
    bent.player().hang.bend = 1.2, bent.player().hang.width = 2.2;
    bar_on.player().bars[0].where = BarSpec::Where::on;
    Room flat(d), round(bent), on(bar_on);
    struct Pose {
        const char* name;
        const Room& room;
        Eye eye;
    };
    for (auto& p :
         {Pose{"straight", flat, eye_at({0, 1.6, 0}, 0, 0)}, Pose{"near", flat, eye_at({0.1, 1.5, -1.3}, 5, 3)},
          Pose{"far", flat, eye_at({0.3, 1.8, 2.6}, 2, -1)},
          Pose{"from the left", flat, eye_at({-1.6, 1.6, -1}, -55, 0)},
          Pose{"from the right and above", flat, eye_at({1.5, 2.4, -0.7}, 48, -24)},
          Pose{"grazing", flat, eye_at({1.9, 1.65, -1.75}, 78, -2)},
          Pose{"grazing from below", flat, eye_at({0.2, 0.15, -1.72}, 3, 70)},
          Pose{"rolled over the edge", flat, eye_at({-0.9, 2.9, -1.6}, -60, -66)},
          Pose{"bent", round, eye_at({0.5, 1.7, -0.2}, 14, -4)},
          Pose{"with the bar on the picture", on, eye_at({-0.7, 1.4, -0.6}, -25, 6)}}) {
        std::size_t pixels = 0;
        auto dB = decibels(p.room, p.eye, &pixels);
        INFO(p.name << ": " << pixels << " pixels, " << dB << " dB");
        CHECK(dB >= 40);
        if (getenv("RUEDO_SAY")) std::printf("%-30s %6zu %.2f dB\n", p.name, pixels, dB);
    }
}

TEST_CASE("What goes through something else is cut where it does, from every side", "[scene]") {
    auto d = hung_player();
    add_player(d);
    for (std::size_t i = 0; i < 2; ++i) d.player(i).hang.at = Point{0, 1.5, -2}, d.player(i).hang.turn = i ? 65 : -20;
    d.player(1).hang.bend = 1.5;
    Room room(d);
    for (double turn = -150; turn < 180; turn += 55) {
        auto a = scene::radians(turn);
        auto dB = decibels(room, eye_at({2.2 * std::sin(a), 1.7, -2 + 2.2 * std::cos(a)}, turn, -5, 160, 100));
        INFO("from " << turn << " degrees: " << dB << " dB");
        // Their line of meeting is not smoothed.
        CHECK(dB >= 33);
    }
}

TEST_CASE("Every pixel of the view is drawn, wherever the eye is and whatever stands in the room", "[scene]") {
    Chance chance(21);
    for (int i = 0; i < 60; ++i) {
        auto d = hung_player();
        d.player().hang.turn = chance.from(-180, 180), d.player().hang.bend = chance.one_in(2) ? 1.5 : 0;
        d.player().hang.surface_width = 320, d.player().hang.surface_height = 180;
        for (auto kind : {SolidSpec::Kind::wall, SolidSpec::Kind::pillar, SolidSpec::Kind::bench}) {
            auto s = SolidSpec::usual(kind);
            s.at = {chance.from(-2, 2), 0, chance.from(-3, 1)}, s.turn = chance.from(-90, 90);
            d.room.solids.push_back(s);
        }
        Room room(d);
        Projection one(1), three(3);
        for (int k = 0; k < 3; ++k) {
            auto eye = eye_at(chance.place(), chance.from(-180, 180), chance.from(-80, 80),
                              160 + static_cast<int>(chance.random() % 9), 100);
            // Straight on: lines go through pixels' middles. And inside the screen, in its plane, or in that of its
            // edge.
            if (k == 2) eye = eye_at({0, 1.6, 0}, 0, 0, 160, 100);
            if (i % 5 == 1 && k == 0) eye = eye_at({0, 1.6, -2}, 0, 0, 160, 100);
            if (i % 5 == 2 && k == 0) eye.at = room.build(eye).things[0].panel.at(0.3, 0.6);
            if (i % 5 == 3 && k == 0) eye.at = room.build(eye).things[0].panel.at(0, -1);
            auto s = room.build(eye);
            one.draw(s, eye, room.laid);
            three.draw(s, eye, room.laid);
            for (std::size_t at = 3; at < one.image().pixels.size(); at += 4)
                if (one.image().pixels[at] != 255) FAIL("a pixel that nothing covers, in room " << i);
            CHECK(std::equal(one.image().pixels.begin(), one.image().pixels.end(), three.image().pixels.begin()));
            Projection plain(1);
            scene::use_wide_registers(false);
            plain.draw(s, eye, room.laid);
            scene::use_wide_registers(true);
            CHECK(std::equal(one.image().pixels.begin(), one.image().pixels.end(), plain.image().pixels.begin()));
        }
    }
}

TEST_CASE("A change draws only what it touches, and then it looks as if all had been drawn anew", "[scene]") {
    Chance chance(22);
    for (int i = 0; i < 25; ++i) {
        auto d = hung_player();
        add_player(d);
        for (auto& p : d.players) {
            p.hang.surface_width = 320, p.hang.surface_height = 180, p.hang.width = 1;
            p.hang.turn = chance.from(-60, 60), p.hang.margin = chance.one_in(2) ? 0.1 : 0, p.hang.cover = 0.5;
        }
        d.room.solids.push_back(SolidSpec::usual(SolidSpec::Kind::pillar));
        d.room.solids[0].at = {chance.from(-1, 1), 0, -1};
        Room room(d);
        Projection kept(2);
        auto eye = eye_at({chance.from(-1, 1), 1.6, chance.from(-0.5, 1)}, chance.from(-20, 20), 0, 200, 120);
        auto s = room.build(eye);
        CHECK(kept.draw(s, eye, room.laid) == Box{0, 0, 200, 120});
        // Nothing has changed: nothing is drawn.
        CHECK(kept.draw(s, eye, room.laid).empty());
        CHECK(kept.work().faces == 0);
        CHECK(kept.work().halved == 0);
        for (int step = 0; step < 6; ++step) {
            auto before = kept.image().pixels;
            std::size_t player = chance.random() % 2;
            auto what = chance.random() % 4;
            if (what < 2) {
                // The next picture of one of them.
                room.pictures[player] = picture_of(320, 180, chance.any());
                auto& t = room.laid[player].layers[0].texture;
                t = Texture::of(room.pictures[player], ++room.revision);
            } else if (what == 2) {
                for (auto& b : room.controls[player].pixels) b = static_cast<std::uint8_t>(b / 2);
                room.laid[player].layers[1].texture.revision = ++room.revision;
            } else {
                eye.at.x += 0.1;
                s = room.build(eye);
            }
            auto part = kept.draw(s, eye, room.laid);
            Projection anew(1);
            anew.draw(s, eye, room.laid);

            CHECK(std::equal(kept.image().pixels.begin(), kept.image().pixels.end(), anew.image().pixels.begin()));
            for (int y = 0; y < 120; ++y)
                for (int x = 0; x < 200; ++x) {
                    auto at = static_cast<std::size_t>(y * 200 + x) * 4;
                    bool same = std::equal(&before[at], &before[at] + 4, &kept.image().pixels[at]);
                    if (!same && !part.holds({x, y, 1, 1})) FAIL("changed outside of what was said");
                }
            if (what < 2) CHECK(part.width < 200);
        }
    }
}

TEST_CASE("Halved pictures keep the mean, whatever the size, and pictures of a single row or column are drawn",
          "[scene]") {
    Chance chance(23);
    for (int i = 0; i < 200; ++i) {
        int w = 1 + static_cast<int>(chance.random() % 70), h = 1 + static_cast<int>(chance.random() % 70);
        auto image = picture_of(w, h, chance.any());
        scene::Levels levels;
        levels.take(Texture::of(image, 1));
        levels.make(scene::Levels::most, [](int rows, auto work) { work(0, rows); });
        REQUIRE(levels.made() >= 0);
        for (int l = 1; l <= levels.made(); ++l) {
            auto &from = levels.level(l - 1), &to = levels.level(l);
            CHECK(to.width == (from.width + 1) / 2);
            CHECK(to.height == (from.height + 1) / 2);
            for (int y = 0; y < to.height; ++y)
                for (int x = 0; x < to.width; ++x)
                    for (int c = 0; c < 4; ++c) {
                        auto at = [&](int px, int py) {
                            return int(from.pixels[std::min(py, from.height - 1) * from.stride +
                                                   std::min(px, from.width - 1) * 4 + c]);
                        };
                        auto mean = (at(2 * x, 2 * y) + at(2 * x + 1, 2 * y) + at(2 * x, 2 * y + 1) +
                                     at(2 * x + 1, 2 * y + 1) + 2) /
                                    4;
                        REQUIRE(int(to.pixels[y * to.stride + x * 4 + c]) == mean);
                    }
        }
        std::array<std::uint32_t, scene::run_length> out{};
        scene::sample_run(levels, {0, chance.from(0.1, 9), 0, 0, 0, chance.from(0.1, 9), 1, 0.01, 0}, 0, 0,
                          scene::run_length, out.data());
        for (auto p : out) CHECK(p >> 24 == 255);
    }
}

TEST_CASE("Halved pictures are the same however their rows are shared out", "[scene]") {
    Chance chance(29);
    for (int i = 0; i < 60; ++i) {
        auto image = picture_of(4 + static_cast<int>(chance.random() % 90), 4 + static_cast<int>(chance.random() % 90),
                                chance.any());
        scene::Levels whole, shared;
        whole.take(Texture::of(image, 1)), shared.take(Texture::of(image, 1));
        whole.make(scene::Levels::most, [](int rows, auto work) { work(0, rows); });
        shared.make(scene::Levels::most, [&](int rows, auto work) {
            // From the last rows to the first, a few at a time.
            for (int to = rows; to > 0;) {
                int from = std::max(0, to - 1 - static_cast<int>(chance.random() % 5));
                work(from, to);
                to = from;
            }
        });
        REQUIRE(whole.made() == shared.made());
        for (int l = 1; l <= whole.made(); ++l) {
            auto &a = whole.level(l), &b = shared.level(l);
            CHECK(std::equal(a.pixels, a.pixels + a.stride * a.height, b.pixels));
        }
    }
}

TEST_CASE("How far a step goes on a texture is what going that step comes to", "[scene][seek]") {
    Chance chance(31);
    for (int i = 0; i < 5000; ++i) {
        scene::Mapping m{chance.from(-50, 50), chance.from(-4, 4),       chance.from(-4, 4),
                         chance.from(-50, 50), chance.from(-4, 4),       chance.from(-4, 4),
                         chance.from(1, 2),    chance.from(-2e-4, 2e-4), chance.from(-2e-4, 2e-4)};
        auto x = chance.from(0, 1280), y = chance.from(0, 800);
        auto place = [&](double px, double py) {
            auto w = m.w0 + m.wx * px + m.wy * py;
            return std::pair{(m.x0 + m.xx * px + m.xy * py) / w, (m.y0 + m.yx * px + m.yy * py) / w};
        };
        constexpr double little = 1e-4;
        auto way = [&](double right, double down) {
            auto [ax, ay] = place(x - right * little / 2, y - down * little / 2);
            auto [bx, by] = place(x + right * little / 2, y + down * little / 2);
            return std::hypot(bx - ax, by - ay) / little;
        };
        auto steps = m.steps_at(x, y);
        CHECK(steps.right == Approx(way(1, 0)).epsilon(1e-4).margin(1e-6));
        CHECK(steps.down == Approx(way(0, 1)).epsilon(1e-4).margin(1e-6));
        // Larger steps never ask for a larger picture, and twice as large ones for one halving more at most.
        auto level = scene::level_for(steps), twice = scene::level_for({steps.right * 2, steps.down * 2});
        CHECK((level >= 0 && twice >= level && twice <= level + 1));
        CHECK(level == scene::level_for({steps.down, steps.right}));
    }
    CHECK(scene::level_for({NAN, NAN}) == 0);
    CHECK(scene::level_for({INFINITY, INFINITY}) <= scene::Levels::most);
}

TEST_CASE("Faces lie in their planes, go round the right way, and cover what they are faces of", "[scene]") {
    Chance chance(37);
    auto area = [](const scene::Face& f) {
        Vec twice;
        for (std::size_t i = 1; i + 1 < f.corners.size(); ++i)
            twice = twice + cross(f.corners[i] - f.corners[0], f.corners[i + 1] - f.corners[0]);
        return scene::dot(twice, f.face) / 2;
    };
    for (int i = 0; i < 1500; ++i) {
        scene::Thing t;
        bool solid = chance.one_in(2);
        double wanted = 0;
        if (solid) {
            t.kind = scene::Thing::Kind::solid;
            t.body = {chance.place(),      Axes::turned(chance.from(-3, 3), 0),
                      chance.from(0.1, 3), chance.from(0.1, 3),
                      chance.from(0.1, 3), chance.one_in(2)};
            auto& b = t.body;
            wanted = b.round ? 0 : 2 * (b.width * b.height + b.depth * b.height + b.width * b.depth);
        } else {
            auto width = chance.from(0.2, 4);
            t.panel = {chance.place(), chance.axes(), width, chance.from(0.2, 3),
                       chance.one_in(2) ? 0 : chance.from(width / 5, 9)};
            t.sheet = {0, 0, 1280, 720};
            wanted = t.panel.width * t.panel.height;
        }
        auto faces = scene::faces_of(t, 5);
        REQUIRE_FALSE(faces.empty());
        double all = 0;
        for (auto& f : faces) {
            CHECK((f.thing == 5 && f.corners.size() >= 3 && f.edges.size() == f.corners.size()));
            for (auto& c : f.corners) CHECK(std::abs(f.side(c)) < 1e-9);
            CHECK(area(f) > 0);
            all += area(f);
        }
        if (wanted > 0) CHECK(all == Approx(wanted).epsilon(solid || t.panel.bend == 0 ? 1e-9 : 0.01));
        // From anywhere, those that are given are all of them but what is seen edge-on, cut or whole.
        scene::Order order(faces);
        double given = 0;
        for (auto* f : order.from(chance.place(9))) given += area(*f);
        CHECK(given <= all * (1 + 1e-9));
        CHECK(given == Approx(all).epsilon(0.02));
    }
}
