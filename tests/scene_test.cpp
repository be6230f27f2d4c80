// SPDX-License-Identifier: Apache-2.0
// Players in a room: where everything stands, what a ray meets, and what a review turns up. Compared with the same sums
// done another way, in matrices and with long doubles.
#include <set>

#include "player/drop.h"
#include "player/screen.h"
#include "scene/findings.h"
#include "scenes.h"

using namespace ruedo;
using namespace ruedo::test;
using scene::Axes;
using scene::Eye;
using scene::Panel;
using scene::Ray;
using scene::Vec;

namespace {
using Long = long double;
struct Long3 {
    Long x, y, z;
};
/// Round y by `turn`, then round the own x by `tilt`, as matrices have it.
Long3 turned(const Long3& v, Long turn, Long tilt) {
    Long3 a{v.x, v.y * std::cos(tilt) - v.z * std::sin(tilt), v.y * std::sin(tilt) + v.z * std::cos(tilt)};
    return {a.x * std::cos(turn) + a.z * std::sin(turn), a.y, -a.x * std::sin(turn) + a.z * std::cos(turn)};
}
double apart(const Vec& a, const Long3& b) {
    return static_cast<double>(
        std::sqrt((a.x - b.x) * (a.x - b.x) + (a.y - b.y) * (a.y - b.y) + (a.z - b.z) * (a.z - b.z)));
}
std::set<std::string> codes(const PlayerDocument& d) {
    std::set<std::string> all;
    for (auto& f : scene::review(d, "/", 1280, 800)) all.insert(f.code);
    return all;
}
}  // namespace

TEST_CASE("Turning, projecting and bending agree with the same sums in long doubles to a millionth", "[scene]") {
    Chance chance(7);
    double worst = 0;
    for (int i = 0; i < 20'000; ++i) {
        auto turn = chance.from(-7, 7), tilt = chance.from(-1.57, 1.57);
        auto axes = Axes::turned(turn, tilt);
        worst = std::max(worst, apart(axes.right, turned({1, 0, 0}, turn, tilt)));
        worst = std::max(worst, apart(axes.up, turned({0, 1, 0}, turn, tilt)));
        worst = std::max(worst, apart(axes.face, turned({0, 0, 1}, turn, tilt)));
        auto towards = Axes::facing(axes.face);
        worst = std::max(worst, scene::length(towards.face - axes.face));
        CHECK(scene::dot(cross(towards.right, towards.up), towards.face) == Approx(1));

        Panel p{chance.place(), axes, chance.from(0.2, 4), chance.from(0.2, 3),
                chance.one_in(2) ? 0 : chance.from(1, 9)};
        auto u = chance.from(0, 1), v = chance.from(0, 1);
        Long across = (Long(u) - 0.5L) * p.width, y = (0.5L - v) * p.height, x = across, z = 0;
        if (p.bend > 0) {
            x = p.bend * std::sin(across / p.bend), z = p.bend - p.bend * std::cos(across / p.bend);
        }
        auto at = turned({x, y, z}, turn, tilt);
        worst = std::max(worst, apart(p.at(u, v), {at.x + p.middle.x, at.y + p.middle.y, at.z + p.middle.z}));

        Eye eye{chance.place(), chance.axes(), scene::radians(chance.from(20, 120)), 1280, 800};
        auto seen = eye.project(p.at(u, v));
        if (!seen || seen->depth < 0.05) continue;
        // Back along the pixel's own ray, and through a matrix of the view.
        auto ray = eye.ray(seen->x, seen->y);
        auto back = ray.at(scene::length(p.at(u, v) - eye.at));
        CHECK(scene::length(back - p.at(u, v)) < 1e-6);
        Vec d = p.at(u, v) - eye.at;
        Long f = 400.0L / std::tan(Long(eye.field) / 2);
        Long right = Long(d.x) * eye.axes.right.x + Long(d.y) * eye.axes.right.y + Long(d.z) * eye.axes.right.z;
        Long away = -(Long(d.x) * eye.axes.face.x + Long(d.y) * eye.axes.face.y + Long(d.z) * eye.axes.face.z);
        CHECK(std::abs(static_cast<double>(640 + f * right / away) - seen->x) <
              1e-6 * std::max(1.0, std::abs(seen->x)));
    }
    CHECK(worst < 1e-6);
}

TEST_CASE("A ray meets a surface where the surface says that place is, on a hundred thousand poses", "[scene]") {
    Chance chance(8);
    int met = 0, fronts = 0;
    double worst = 0;
    for (int i = 0; i < 100'000; ++i) {
        Panel p{chance.place(), chance.axes(), chance.from(0.05, 6), chance.from(0.05, 4), 0};
        if (chance.one_in(2)) p.bend = chance.from(p.width / (2 * M_PI * scene::most_of_a_round), 20);
        Eye eye{chance.place(), chance.axes(), scene::radians(60), 1280, 800};
        auto u = chance.from(0.001, 0.999), v = chance.from(0.001, 0.999);
        auto to = p.at(u, v) - eye.at;
        auto far = scene::length(to);
        auto facing = scene::dot(p.face_at(u), eye.at - p.at(u, v)) / far;
        if (far < 0.01 || std::abs(facing) < 1e-3) continue;
        auto hit = p.hit({eye.at, scene::unit(to)});
        REQUIRE(hit);
        if (hit->t < far - 1e-6) {
            // A bent one may be met before, on its other side.
            CHECK(p.bend > 0);
            CHECK(scene::length(p.at(hit->u, hit->v) - (eye.at + scene::unit(to) * hit->t)) < 1e-6);
            continue;
        }
        ++met, fronts += hit->front;
        CHECK(hit->front == (facing > 0));
        // Half a pixel of the finest surface there may be.
        worst = std::max({worst, std::abs(hit->u - u) * 8192, std::abs(hit->v - v) * 8192});
    }
    CHECK(met > 60'000);
    CHECK((fronts > met / 4 && fronts < met * 3 / 4));
    CHECK(worst < 0.5);
}

TEST_CASE("Solids are met where small steps along the ray first find them", "[scene][seek]") {
    Chance chance(9);
    int met = 0;
    for (int i = 0; i < 3000; ++i) {
        scene::Body b{chance.place(),      Axes::turned(chance.from(-3, 3), 0),
                      chance.from(0.2, 2), chance.from(0.2, 2),
                      chance.from(0.2, 2), chance.one_in(2)};
        Ray ray{chance.place(), chance.direction()};
        if (chance.one_in(2))
            ray.to = scene::unit(b.foot + Vec{0, b.height / 2, 0} - ray.from + chance.direction() * 0.5);
        auto hit = b.hit(ray);
        std::optional<double> first;
        for (double t = 0; t < 12 && !first; t += 0.004)
            if (b.holds(ray.at(t))) first = t;
        if (first) {
            REQUIRE(hit);
            CHECK(*hit <= *first);
            CHECK(*hit > *first - 0.0041);
            ++met;
        } else if (hit) {
            // Only a corner that the steps went over.
            CHECK_FALSE((b.holds(ray.at(*hit + 0.004)) && b.holds(ray.at(*hit + 0.008))));
        }
        CHECK((hit && *hit == 0) == b.holds(ray.from));
    }
    CHECK(met > 300);
}

TEST_CASE("Whatever is seen of a control is where its press lands, and what is hidden lands elsewhere", "[scene]") {
    Chance chance(10);
    int seen = 0, hidden = 0, behind = 0;
    for (int i = 0; i < 10'000; ++i) {
        auto d = hung_player();
        if (chance.one_in(3)) random_controls(d.player(), chance.random);
        if (chance.one_in(4)) add_player(d);
        for (auto& p : d.players) {
            auto& h = p.hang;
            if (chance.one_in(3)) h.at = chance.place(2).point();
            h.turn = chance.from(-180, 180), h.tilt = chance.from(-60, 60), h.width = chance.from(0.3, 3);
            if (chance.one_in(2)) h.turn /= 8;
            if (chance.one_in(3)) h.bend = chance.from(0.5, 4);
            if (chance.one_in(2)) h.margin = chance.from(0.01, 0.4), h.cover = chance.one_in(3) ? 0 : 0.5;
            h.facing = static_cast<HangSpec::Facing>(chance.random() % 3);
            h.surface_width = 320 + static_cast<int>(chance.random() % 1600);
            for (auto& b : p.bars) {
                b.where = static_cast<BarSpec::Where>(chance.random() % 3);
                b.floats = FloatSpec{static_cast<FloatSpec::Side>(chance.random() % 5), chance.from(0, 0.3),
                                     chance.from(-50, 50), chance.from(0, 0.4)};
            }
        }
        while (chance.one_in(2)) {
            auto s = SolidSpec::usual(static_cast<SolidSpec::Kind>(chance.random() % 3));
            s.at = {chance.from(-2, 2), 0, chance.from(-2.5, -0.8)}, s.turn = chance.from(-90, 90);
            d.room.solids.push_back(s);
        }
        auto eye = Eye::of(d.room.viewer, 1280, 800);
        if (chance.one_in(2))
            eye.at = chance.place(2), eye.axes = Axes::turned(chance.from(-1, 1), chance.from(-0.5, 0.5));
        auto layouts = laid_out(d);
        auto s = scene::build(d, layouts, eye);
        for (std::size_t p = 0; p < layouts.size(); ++p)
            for (std::size_t c = 0; c < layouts[p].controls.size(); ++c) {
                auto& control = layouts[p].controls[c];
                if (!control.shown) continue;
                auto look = scene::look_at(s, eye, p, control.box);
                REQUIRE(look);
                auto at = eye.project(look->middle);
                if (!at || look->distance < 0.02) continue;
                auto aim = s.aim(eye.ray(at->x, at->y));
                bool lands =
                    aim.landing && aim.landing->player == p &&
                    control_at(layouts[p], static_cast<int>(aim.landing->x), static_cast<int>(aim.landing->y)) == c;
                auto facing =
                    std::abs(scene::dot(scene::unit(look->middle - eye.at),
                                        s.things[*s.thing_at(p, control.box.x, control.box.y)].panel.axes.face));
                if (facing < 1e-3) continue;
                INFO("room " << i << ", control " << d.player(p).controls[c].name);
                if (!look->from_front || look->hidden_by) {
                    CHECK_FALSE(lands);
                    ++(look->from_front ? hidden : behind);
                } else {
                    CHECK(lands);
                    ++seen;
                }
            }
    }
    CHECK(seen > 10'000);
    CHECK(hidden > 1'000);
    CHECK(behind > 1'000);
}

TEST_CASE("A ray tells what it goes through, where it ends, and what it has missed", "[scene]") {
    auto d = hung_player();
    d.player().hang.margin = 0.2, d.player().hang.cover = 0;
    auto eye = Eye::of(d.room.viewer, 1280, 800);
    auto layouts = laid_out(d);
    auto s = scene::build(d, layouts, eye);
    auto ahead = s.aim(eye.ray(640, 400));
    REQUIRE(ahead.landing);
    CHECK(ahead.landing->x == Approx(640).margin(0.5));
    CHECK(ahead.landing->y == Approx(360 + layouts[0].area.y).margin(0.5));
    CHECK(s.told(ahead) == "Lands on the screen at 640, 360, 2.00 m away.");
    // A finger's reach ends before it, or goes through it.
    CHECK_FALSE(s.aim(eye.ray(640, 400), 1.9).stop);
    CHECK(s.aim(eye.ray(640, 400), 2.1).landing);
    // From behind it goes through what covers nothing, and meets the back.
    auto back = s.aim({{0, 1.6, -4}, {0, 0, 1}});
    CHECK(s.told(back) == "Meets the back of the screen, 2.00 m away through the backing.");
    CHECK_FALSE(back.landing);
    d.player().hang.cover = 1;
    s = scene::build(d, layouts, eye);
    CHECK(s.told(s.aim({{0, 1.6, -4}, {0, 0, 1}})) == "Is stopped by the backing, 1.99 m away.");
    d.room.solids = {SolidSpec::usual(SolidSpec::Kind::pillar)};
    d.room.solids[0].name = "Column", d.room.solids[0].at = {0, 0, -1};
    s = scene::build(d, layouts, eye);
    CHECK(s.told(s.aim(eye.ray(640, 400))) == "Is stopped by “Column”, 80 cm away, before the screen.");
    CHECK(s.told(s.aim({{0, 1.6, 0}, {0, 0, 1}})) == "Meets nothing.");
}

TEST_CASE("A new room shows the player straight ahead, and several in a row without one before another", "[scene]") {
    auto d = hung_player();
    CHECK(codes(d).empty());
    for (std::size_t n = 2; n <= 3; ++n) {
        add_player(d);
        for (std::size_t p = 0; p < n; ++p) d.player(p).hang.width = 0.6, d.player(p).hang.surface_width = 640;
        auto found = codes(d);
        INFO(n << " players");
        CHECK_FALSE(found.contains("screens-cross"));
        CHECK_FALSE(found.contains("control-hidden"));
        CHECK_FALSE(found.contains("out-of-view"));
    }
}

TEST_CASE(
    "Each finding of a room is turned up by what it is about, goes with its mend, and is told in the documentation",
    "[scene]") {
    std::vector<std::pair<std::string, std::function<void(PlayerDocument&)>>> rooms{
        {"unit-slip", [](auto& d) { d.player().hang.width = 1280; }},
        {"out-of-view", [](auto& d) { d.player().hang.at = Point{0, 1.6, 3}; }},
        {"seen-from-behind", [](auto& d) { d.player().hang.turn = 180; }},
        {"too-near", [](auto& d) { d.player().hang.at = Point{0, 1.6, -0.3}, d.player().hang.width = 0.3; }},
        {"off-sight", [](auto& d) { d.player().hang.at = Point{1.8, 1.6, -2}; }},
        {"press-small", [](auto& d) { d.player().hang.width = 0.5; }},
        {"letters-small", [](auto& d) { d.player().hang.surface_width = 1920, d.player().hang.surface_height = 1080; }},
        {"surface-slip", [](auto& d) { d.player().hang.surface_width = 160, d.player().hang.surface_height = 90; }},
        {"surface-slip", [](auto& d) { d.player().hang.surface_width = 8192, d.player().hang.surface_height = 4608; }},
        {"surface-slip",
         [](auto& d) {
             SourceSpec s;
             s.name = "Lantern", s.file = fixture("vp9_opus.webm").string();
             d.sources = {s};
             d.player().hang.surface_height = 20;
         }},
        {"surface-slip",
         [](auto& d) {
             // Made for one clip; another one has come.
             for (auto name : {"vp9_opus.webm", "rotate90.mp4"}) {
                 SourceSpec s;
                 s.name = name, s.file = fixture(name).string();
                 d.sources.push_back(s);
             }
         }},
        {"screens-cross",
         [](auto& d) {
             add_player(d);
             d.player(0).hang.at = d.player(1).hang.at = Point{0, 1.6, -2};
             d.player(1).hang.turn = 60;
         }},
        {"control-hidden",
         [](auto& d) {
             d.room.solids = {SolidSpec::usual(SolidSpec::Kind::bench)};
             d.room.solids[0].at = {0, 0, -0.9}, d.room.solids[0].height = 1.4;
         }},
        {"viewer-inside",
         [](auto& d) {
             d.room.solids = {SolidSpec::usual(SolidSpec::Kind::wall)};
             d.room.solids[0].at = {0, 0, 0};
         }},
    };
    std::set<std::string> covered;
    for (auto& [code, slip] : rooms) {
        auto d = hung_player();
        slip(d);
        auto found = scene::review(d, "/", 1280, 800);
        auto it = std::find_if(found.begin(), found.end(), [&](auto& f) { return f.code == code; });
        INFO(code << ": " << d.player().hang.width);
        REQUIRE(it != found.end());
        covered.insert(code);
        if (d.sources.size() == 2) CHECK(it->sentence.find("“rotate90.mp4”") != std::string::npos);
        CHECK(to_json(d).contains(nlohmann::json::json_pointer(it->where.substr(0, it->where.find("/room")))));
        if (!it->fix) continue;
        it->fix->apply(d);
        CHECK_FALSE(codes(d).contains(code));
        // What fixed it is a document like any other.
        CHECK(value(document_from_json(to_json(d), "x")) == d);
    }
    for (auto& row : scene::finding_rows()) {
        INFO(row.code);
        CHECK(covered.contains(std::string(row.code)));
    }
}

TEST_CASE("Senseless rooms are built without a fall, whatever their numbers", "[scene]") {
    Chance chance(11);
    auto wild = [&] {
        static constexpr std::array odd{0.0, -0.0, 1e-300, 1e300, -1e300, 1e6, -5.0};
        auto n = chance.random() % 9;
        return n < odd.size() ? odd[n] : n == 7 ? NAN : INFINITY;
    };
    for (int i = 0; i < 3000; ++i) {
        auto d = hung_player();
        auto& h = d.player().hang;
        if (chance.one_in(2)) h.at = Point{wild(), wild(), wild()};
        if (chance.one_in(2)) h.turn = wild(), h.tilt = wild();
        if (chance.one_in(2)) h.width = wild(), h.bend = wild();
        if (chance.one_in(2)) h.margin = wild(), h.cover = wild();
        d.player().bars[0].floats = FloatSpec{FloatSpec::Side::below, wild(), wild(), wild()};
        SolidSpec solid;
        solid.at = {wild(), wild(), wild()}, solid.width = wild(), solid.height = wild(), solid.turn = wild();
        d.room.solids.push_back(solid);
        if (chance.one_in(2)) d.room.viewer.at = {wild(), wild(), wild()};
        auto layouts = laid_out(d);
        auto eye = Eye::of(d.room.viewer, 1280, 800);
        auto s = scene::build(d, layouts, eye);
        for (auto& t : s.things) {
            if (t.kind == scene::Thing::Kind::solid) continue;
            CHECK(std::isfinite(t.panel.middle.x + t.panel.width + t.panel.height + t.panel.bend));
            CHECK(t.panel.width > 0);
        }
        CHECK(std::isfinite(s.low.x + s.high.z));
        (void)s.told(s.aim(eye.ray(chance.from(0, 1280), chance.from(0, 800))));
        (void)scene::review(d, "/", 1280, 800);
    }
}

TEST_CASE("A document says what its room may be, and refuses the rest by its place", "[scene]") {
    auto refused = [](const char* part, const nlohmann::json& with, std::string_view where) {
        auto j = to_json(hung_player());
        j["players"][0]["room"] = nlohmann::json::object();
        j["room"] = {{"viewer", nlohmann::json::object()}};
        j["players"][0]["bars"][0]["room"] = nlohmann::json::object();
        j[nlohmann::json::json_pointer(part)] = with;
        auto read = document_from_json(j, "x");
        INFO(part << " " << with.dump());
        REQUIRE_FALSE(read);
        CHECK(read.error().code == ErrorCode::malformed);
        CHECK(read.error().sentence.find(where) != std::string::npos);
    };
    refused("/players/0/room/width_m", 0, "/room/width_m");
    refused("/players/0/room/width_m", nullptr, "/room/width_m");
    refused("/players/0/room/surface", {1'000'000, 20}, "/surface/0");
    refused("/players/0/room/surface", {0, 20}, "/surface/0");
    refused("/players/0/room/at_m", {0, 1}, "/at_m");
    refused("/players/0/room/at_m", {0, 1, 1e9}, "/at_m/2");
    refused("/players/0/room/facing", "away", "/facing");
    refused("/players/0/bars/0/room/side", "under", "/side");
    refused("/room/viewer/field_deg", 0, "/field_deg");
    refused("/room/solids", nlohmann::json(std::vector<nlohmann::json>(1000, {{"kind", "wall"}})), "/room/solids");
    auto j = to_json(hung_player());
    j["players"] = std::vector<nlohmann::json>(1000, j["players"][0]);
    CHECK_FALSE(document_from_json(j, "x"));
    // What is missing is as usual, also for solids; names are given.
    j = to_json(hung_player());
    j["room"] = {{"solids", {{{"kind", "pillar"}}, {{"kind", "pillar"}}}}, {"later", 1}};
    auto d = value(document_from_json(j, "x"));
    REQUIRE(d.room.solids.size() == 2);
    CHECK(d.room.solids[1].name == "pillar 2");
    CHECK(d.room.solids[0].width == SolidSpec::usual(SolidSpec::Kind::pillar).width);
    CHECK(to_json(d)["room"]["later"] == 1);
}

TEST_CASE("Sound grows softer by six decibels a doubling and comes from its side", "[scene]") {
    Eye eye;
    auto ahead = scene::heard(eye.at + Vec{0, 0, -1}, eye);
    CHECK(ahead.left == Approx(1));
    CHECK(ahead.right == Approx(1));
    CHECK(scene::heard(eye.at + Vec{0, 0, -4}, eye).left == Approx(0.25));
    CHECK(scene::heard(eye.at + Vec{0, 0, -0.1}, eye).left == Approx(1));
    auto right = scene::heard(eye.at + Vec{1, 0, 0}, eye);
    CHECK(right.left == Approx(0).margin(1e-9));
    CHECK(right.right == Approx(M_SQRT2));
    for (double a = 0; a < 6.28; a += 0.1) {
        auto h = scene::heard(eye.at + Vec{2 * std::sin(a), 0, -2 * std::cos(a)}, eye);
        CHECK(h.left * h.left + h.right * h.right == Approx(0.5));
    }
}

TEST_CASE("A screen hung before a viewer is as far as was said, in the middle of what is seen, and upright",
          "[scene]") {
    Chance chance(53);
    for (int i = 0; i < 2000; ++i) {
        ViewerSpec viewer;
        viewer.at = chance.place(5).point();
        viewer.turn = chance.from(-180, 180), viewer.tilt = chance.from(-80, 80);
        auto metres = chance.from(0.2, 9);
        auto hung = scene::before_viewer(viewer, metres);
        auto eye = Eye::of(viewer, 1280, 800);
        CHECK(scene::length(Vec(hung.at) - eye.at) == Approx(metres).margin(0.001));
        auto seen = eye.project(hung.at);
        REQUIRE(seen);
        // To the millimetre, as it is rounded.
        auto off = 0.001 / metres * eye.focal() + 1e-6;
        CHECK((std::abs(seen->x - 640) < off && std::abs(seen->y - 400) < off));
        auto axes = Axes::of(hung);
        CHECK(axes.up == Vec{0, 1, 0});
        auto back = unit(Vec{-eye.look().x, 0, -eye.look().z});
        CHECK(scene::dot(axes.face, back) == Approx(1));
    }
}

TEST_CASE("A place of a player, on its screen or beyond it, is where a ray through it lands, and from behind nowhere",
          "[scene]") {
    Chance chance(59);
    int outside = 0, behind = 0;
    for (int i = 0; i < 2000; ++i) {
        auto d = hung_player();
        auto& h = d.player().hang;
        h.at = chance.place().point();
        h.turn = chance.from(-180, 180), h.tilt = chance.from(-60, 60);
        h.width = chance.from(0.3, 4);
        Eye eye;
        eye.at = chance.place(5);
        auto s = scene::build(d, laid_out(d), eye);
        auto screen = s.screen_of(0);
        REQUIRE(screen);
        auto& thing = s.things[*screen];
        auto x = chance.from(-1, 2) * thing.sheet.width + thing.sheet.x;
        auto y = chance.from(-1, 2) * thing.sheet.height + thing.sheet.y;
        if (auto t = s.thing_at(0, x, y); t && *t != *screen) continue;  // on a bar, which hangs elsewhere
        auto place = s.place_beyond(0, x, y);
        if (auto on = s.place_of(0, x, y)) CHECK(*on == place);
        outside += !s.place_of(0, x, y);
        auto landing = s.landing_beyond(0, {eye.at, unit(place - eye.at)});
        auto before = scene::dot(eye.at - thing.panel.middle, thing.panel.axes.face);
        if (std::abs(before) < 0.05) continue;
        CHECK(landing.has_value() == (before > 0));
        behind += before < 0;
        if (!landing) continue;
        // As well as the angle lets it be told.
        auto margin = 1e-6 * thing.sheet.width * scene::length(place - eye.at) / before;
        CHECK(std::abs(landing->x - x) < margin);
        CHECK(std::abs(landing->y - y) < margin);
    }
    CHECK((outside > 300 && behind > 300));
}

TEST_CASE("Angles between places are those of a triangle, whichever way they are asked for", "[scene]") {
    Chance chance(61);
    for (int i = 0; i < 5000; ++i) {
        auto a = chance.place(), b = chance.place(), c = chance.place();
        auto at_a = scene::angle_between(a, b, c), at_b = scene::angle_between(b, a, c),
             at_c = scene::angle_between(c, a, b);
        CHECK(at_a == scene::angle_between(a, c, b));
        CHECK(at_a + at_b + at_c == Approx(M_PI));
        CHECK(scene::angle_between(a, b, b) == Approx(0).margin(1e-6));
    }
}
