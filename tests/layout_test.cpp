// SPDX-License-Identifier: Apache-2.0
// Where everything stands: rules that hold for any player on any mount.
#include "players.h"
#include "player/session.h"
#include "scene/scene.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
ControlContext random_moment(std::mt19937& random) {
    ControlContext c;
    auto& s = c.snapshot;
    s.state.phase = static_cast<Phase>(1 + random() % 7);
    s.state.intent = static_cast<Intent>(random() % 2);
    s.motion = static_cast<Motion>(random() % 3);
    s.has_video = random() % 4, s.has_audio = random() % 4, s.live = random() % 4 == 0;
    if (!s.live || random() % 2) s.seekable = TimeRange{{}, 90_s};
    s.duration_known = !s.live, s.duration = 90_s, s.position = random() % 2 ? Time{} : 31_s;
    if (s.state.phase == Phase::failed)
        s.error = Error{ErrorCode::io, std::string(random() % 200, 'w'), "Try something else."};
    if (random() % 4) s.display_width = 16 * (1 + static_cast<int>(random() % 90)), s.display_height = 360;
    if (random() % 2)
        s.track_options = std::make_shared<const std::vector<TrackOption>>(std::vector<TrackOption>{
            {Kind::audio, 1, "en", "English"}, {Kind::audio, 2, "de", "German"}, {Kind::text, 3, "en", "English"}});
    c.title = std::string(random() % 40, 't');
    c.count = 1 + random() % 3, c.has_next = random() % 2;
    c.awake = random() % 4, c.handset = random() % 2, c.full_screen = random() % 2;
    if (random() % 4 == 0) c.countdown = 2500_ms;
    return c;
}
MountShape random_mount(std::mt19937& random) {
    static constexpr std::array mounts{Mount::window, Mount::handset_upright, Mount::handset_sideways, Mount::tablet,
                                       Mount::wall};
    auto of = mounts.at(random() % mounts.size());
    if (random() % 6 == 0) {
        PlayerSpec hung;
        hung.hang.surface_width = 200 + static_cast<int>(random() % 1800);
        hung.hang.surface_height = 120 + static_cast<int>(random() % 1000);
        return scene::surface_of(hung);
    }
    if (random() % 8 == 0) return shape_of(of, 200, 120);
    if (random() % 8 == 0) return shape_of(of, 3840, 2160);
    return shape_of(of, 200 + static_cast<int>(random() % 3641), 120 + static_cast<int>(random() % 2041));
}
std::string box_text(const Box& b) {
    return std::to_string(b.x) + "," + std::to_string(b.y) + " " + std::to_string(b.width) + "x" +
           std::to_string(b.height);
}
}  // namespace

TEST_CASE("On any mount no two controls meet, none stands outside, and none is too small to be pressed", "[layout]") {
    std::mt19937 random(51);
    std::size_t shown = 0, folded = 0, with_more = 0;
    for (int i = 0; i < 4000; ++i) {
        PlayerSpec p = usual_player();
        random_controls(p, random);
        auto mount = random_mount(random);
        auto context = random_moment(random);
        SourceSpec source;
        source.fit = static_cast<Fit>(random() % 4);
        source.align_x = static_cast<double>(random() % 3) / 2, source.align_y = static_cast<double>(random() % 3) / 2;
        auto l = lay_out(p, mount, context, &source);
        INFO("case " << i << ": " << mount.width << " x " << mount.height << (mount.touch ? " by touch" : ""));
        REQUIRE(l.controls.size() == p.controls.size());
        Box whole{0, 0, mount.width, mount.height};
        CHECK((mount.loose || l.whole == whole));
        if (mount.loose) {
            // Bars take nothing from the surface, and hang clear of it.
            CHECK((l.area.width == mount.width && l.area.height == mount.height));
            whole = l.whole;
            for (auto& b : l.bars) CHECK(l.area.meets(b.box) == (p.bars[b.bar].where == BarSpec::Where::on));
        }
        Box safe{mount.left, mount.top, whole.width - mount.left - mount.right,
                 whole.height - mount.top - mount.bottom};
        CHECK(whole.holds(l.area));
        CHECK(l.area.holds(l.picture));
        // Everything that takes room, with a name.
        std::vector<std::pair<Box, std::string>> all;
        for (std::size_t k = 0; k < l.controls.size(); ++k) {
            auto& c = l.controls[k];
            INFO(p.controls[k].name << " in " << p.controls[k].slot << ": " << box_text(c.box));
            CHECK_FALSE((c.shown && c.folded));
            CHECK((c.shown && c.enabled) == c.why.empty());
            if (!c.shown) continue;
            all.emplace_back(c.box, p.controls[k].name);
            if (p.controls[k].kind->takes_input()) {
                CHECK(c.box.width >= mount.least());
                CHECK(c.box.height >= mount.least());
            }
            if (p.controls[k].kind->form == ControlKind::Form::rail) CHECK(c.box.width >= 120);
            ++shown;
        }
        for (auto& m : l.more) {
            all.emplace_back(m.box, "more");
            CHECK(std::min(m.box.width, m.box.height) >= mount.least());
            CHECK_FALSE(m.controls.empty());
            ++with_more;
        }
        for (std::size_t a = 0; a < all.size(); ++a) {
            INFO(all[a].second << " at " << box_text(all[a].first));
            CHECK(safe.holds(all[a].first));
            for (std::size_t b = a + 1; b < all.size(); ++b) {
                INFO("and " << all[b].second << " at " << box_text(all[b].first));
                CHECK_FALSE(all[a].first.meets(all[b].first));
            }
        }
        // A bar's controls are on its plate; bars do not meet, and those beside the picture leave it alone.
        for (std::size_t a = 0; a < l.bars.size(); ++a) {
            CHECK(safe.holds(l.bars[a].box));
            auto& bar = p.bars[l.bars[a].bar];
            for (std::size_t b = a + 1; b < l.bars.size(); ++b) CHECK_FALSE(l.bars[a].box.meets(l.bars[b].box));
            for (std::size_t k = 0; k < l.controls.size(); ++k)
                if (l.controls[k].shown && p.controls[k].slot.starts_with(bar.name + "/"))
                    CHECK(l.bars[a].box.holds(l.controls[k].box));
            if (bar.where != BarSpec::Where::on) CHECK_FALSE(l.bars[a].box.meets(l.picture));
        }
        // What folds away is to be had from a control for more, once.
        std::multiset<std::size_t> to_be_had;
        for (auto& m : l.more) to_be_had.insert(m.controls.begin(), m.controls.end());
        for (std::size_t k = 0; k < l.controls.size(); ++k) {
            INFO(p.controls[k].name);
            CHECK(to_be_had.count(k) == (l.controls[k].folded && !l.more.empty() ? 1U : 0U));
            folded += l.controls[k].folded;
        }
    }
    CHECK(shown > 10000);
    CHECK(folded > 500);
    CHECK(with_more > 200);
}

TEST_CASE("As a bar gets narrower, what has the highest rank folds first, and comes back as it widens", "[layout]") {
    PlayerSpec p = usual_player();
    for (auto kind : {"time", "left", "speed", "stop", "loop"}) p.put({.kind = &control_kind(kind)}, "foot/end");
    std::mt19937 random(52);
    ControlContext c;
    c.snapshot.state.phase = Phase::paused;
    c.snapshot.has_video = c.snapshot.has_audio = c.snapshot.duration_known = true;
    c.snapshot.seekable = TimeRange{{}, 90_s}, c.snapshot.duration = 90_s;
    c.snapshot.display_width = 1600, c.snapshot.display_height = 900;
    std::size_t before = 0;
    for (int width = 220; width < 1400; width += 7) {
        auto mount = shape_of(Mount::window, width, 700);
        auto l = lay_out(p, mount, c);
        INFO("at " << width);
        int worst_shown = 0, best_folded = 10;
        std::size_t shown = 0;
        for (std::size_t k = 0; k < p.controls.size(); ++k) {
            auto& spec = p.controls[k];
            if (!spec.slot.starts_with("foot/")) continue;
            // Rails have a row of their own where they need one.
            if (l.controls[k].shown && !spec.kind->stretches()) worst_shown = std::max(worst_shown, spec.rank());
            if (l.controls[k].folded) best_folded = std::min(best_folded, spec.rank());
            shown += l.controls[k].shown;
        }
        CHECK(worst_shown <= best_folded);
        CHECK(shown + 1 >= before);
        before = shown;
    }
    auto wide = lay_out(p, shape_of(Mount::window, 1400, 700), c);
    CHECK(wide.more.empty());
}

TEST_CASE("A bar beside the picture takes room from it, one clear of it stands off, and one on it covers it",
          "[layout]") {
    ControlContext c;
    c.snapshot.state.phase = Phase::paused;
    c.snapshot.has_video = c.snapshot.duration_known = true;
    c.snapshot.display_width = 1600, c.snapshot.display_height = 900;
    SourceSpec source;
    for (auto edge : {BarSpec::Edge::bottom, BarSpec::Edge::top})
        for (auto where : {BarSpec::Where::on, BarSpec::Where::beside, BarSpec::Where::clear}) {
            PlayerSpec p;
            p.bars = {{.edge = edge, .where = where}};
            p.put({.kind = &control_kind("toggle")}, "foot/start");
            auto l = lay_out(p, shape_of(Mount::window, 800, 600), c, &source);
            REQUIRE(l.bars.size() == 1);
            auto& bar = l.bars[0].box;
            bool low = edge == BarSpec::Edge::bottom;
            int off = low ? bar.y - l.picture.bottom() : l.picture.y - bar.bottom();
            INFO(bar.y << " " << l.picture.y << " " << l.picture.bottom());
            if (where == BarSpec::Where::on)
                CHECK(off < 0);
            else
                CHECK(off == (where == BarSpec::Where::beside ? 0 : 8));
        }
}

TEST_CASE("Every place where a control can be let go of takes it, and the hand is never over two", "[layout]") {
    std::mt19937 random(53);
    std::size_t dropped = 0;
    for (int i = 0; i < 150; ++i) {
        PlayerSpec p = usual_player();
        random_controls(p, random);
        auto mount = random_mount(random);
        auto context = random_moment(random);
        context.awake = true;
        auto l = lay_out(p, mount, context);
        auto zones = drop_zones(p, mount, l);
        INFO("case " << i << ": " << mount.width << " x " << mount.height);
        for (std::size_t a = 0; a < zones.size(); ++a) {
            INFO(zones[a].words << ", " << box_text(zones[a].box));
            CHECK_FALSE(zones[a].box.empty());
            CHECK_FALSE(zones[a].words.empty());
            CHECK(l.whole.holds(zones[a].box));
            for (std::size_t b = a + 1; b < zones.size(); ++b)
                if (zones[a].slot != zones[b].slot || zones[a].at != zones[b].at)
                    CHECK_FALSE((zones[a].box.meets(zones[b].box) && !zones[b].bar && zones[b].at != SIZE_MAX));
            auto after = p;
            auto name = drop(after, zones[a], ControlSpec{.kind = &control_kind("toggle")});
            auto* made = after.control(name);
            REQUIRE(made);
            CHECK(made->slot == zones[a].slot);
            auto there = after.in_slot(made->slot);
            auto index = static_cast<std::size_t>(made - after.controls.data());
            auto at = static_cast<std::size_t>(std::find(there.begin(), there.end(), index) - there.begin());
            CHECK(at == std::min(zones[a].at, there.size() - 1));
            // What was there stays in its order.
            std::erase_if(after.controls, [&](auto& c) { return c.name == name; });
            CHECK(after.controls == p.controls);
            ++dropped;
            // Moving one that is there loses none.
            if (p.controls.empty()) continue;
            after = p;
            auto moved = random() % p.controls.size();
            CHECK(drop(after, zones[a], moved) == p.controls[moved].name);
            CHECK(after.controls.size() == p.controls.size());
            CHECK(after.control(p.controls[moved].name)->slot == zones[a].slot);
        }
    }
    CHECK(dropped > 1000);
}

TEST_CASE("With arrow keys a control goes everywhere, and back the way it came", "[layout]") {
    PlayerSpec p = usual_player();
    p.bars.push_back({.name = "head", .edge = BarSpec::Edge::top});
    auto at = [&] { return p.control("volume")->slot; };
    auto go = [&](Toward t) { return nudge(p, static_cast<std::size_t>(p.control("volume") - p.controls.data()), t); };
    CHECK(at() == "foot/end");
    REQUIRE(go(Toward::left));  // before mute
    CHECK(at() == "foot/end");
    std::vector<std::string> seen;
    while (go(Toward::up)) seen.push_back(at());
    CHECK(seen == std::vector<std::string>{"bottom-right", "right", "top-right", "head/end"});
    seen.clear();
    while (go(Toward::left)) seen.push_back(at());
    CHECK(seen == std::vector<std::string>{"head/middle", "head/start"});
    int steps = 0;
    while (go(Toward::down) && steps < 100) ++steps;
    CHECK(at() == "foot/start");
    CHECK(p.controls.size() == usual_player().controls.size());
}

TEST_CASE("A session in virtual time counts down, starts, hides, and does what stands at the end", "[layout]") {
    for (auto at_end : {AtEnd::hold, AtEnd::poster, AtEnd::leave, AtEnd::again}) {
        std::shared_ptr<VirtualStrand> strand = make_virtual_strand();
        Mixer mixer(*strand, {});
        bool left = false;
        PlayerDocument d;
        SourceSpec s;
        s.name = "Fog signal", s.file = fixture("vp9_opus.webm").string();
        s.start = {Start::How::delay, 2_s};
        d.sources = {s};
        d.player().at_end = at_end, d.player().hide_after = 1_s, d.player().muted = true, d.player().speed = 2;
        PlayerSession session({.strand = strand,
                               .make =
                                   [&](std::shared_ptr<FrameSink> sink) {
                                       return std::make_unique<Controller>(Controller::Env{
                                           strand, &mixer, &CodecRegistry::standard(), std::move(sink)});
                                   },
                               .sink = make_null_sink({}),
                               .leave = [&] { left = true; }});
        session.load(d, 0, "/");
        auto run = [&](Time t) {
            for (auto end = strand->now() + t; strand->now() < end;) {
                strand->run_until(strand->now() + 50_ms);
                session.follow();
            }
        };
        run(500_ms);
        auto c = session.context();
        CHECK(c.title == "Fog signal");
        CHECK(c.snapshot.muted);
        REQUIRE(c.countdown);
        CHECK((*c.countdown > 1400_ms && *c.countdown < 2_s));
        CHECK(control_kind("countdown").label(c, {}) == "2");
        CHECK_FALSE(c.started);
        run(2_s);
        c = session.context();
        CHECK_FALSE(c.countdown);
        CHECK(c.started);
        CHECK(c.snapshot.rate == 2);
        run(1100_ms);
        CHECK_FALSE(session.context().awake);
        session.press({});  // a press is a touch, whoever makes it
        CHECK(session.context().awake);
        run(1050_ms);
        CHECK_FALSE(session.context().awake);
        CHECK(session.key("Alt+Left"));  // and a key
        run(100_ms);
        CHECK(session.context().awake);
        CHECK_FALSE(session.key("Alt+Q"));
        run(4_s);
        auto phase = session.snapshot().state.phase;
        CHECK((phase == Phase::ended) == (at_end == AtEnd::hold || at_end == AtEnd::leave));
        CHECK((phase == Phase::ready) == (at_end == AtEnd::poster));
        CHECK((phase == Phase::playing) == (at_end == AtEnd::again));
        CHECK(left == (at_end == AtEnd::leave));
        if (at_end == AtEnd::poster) CHECK_FALSE(session.context().started);
    }
}

TEST_CASE("What starves for longer than the player waits says so, with a way on, until something comes", "[layout]") {
    ControlContext c;
    c.snapshot.state = {Phase::waiting, Intent::play};
    c.snapshot.motion = Motion::starved;
    auto seen = [&](const char* kind) { return control_kind(kind).absent(c).empty(); };
    c.waited = 100_ms;
    CHECK((!seen("waiting") && !seen("failure")));  // a moment's wait is no news
    c.waited = 2_s;
    CHECK((seen("waiting") && !seen("failure") && !seen("retry")));
    c.waited = 9_s, c.given_up = true;
    CHECK((!seen("waiting") && seen("failure") && seen("retry")));
    CHECK(control_kind("failure").label(c, {}).find("9 seconds") != std::string::npos);
    CHECK(Condition::parse("waiting for 8 s")->holds(c));
    CHECK_FALSE(Condition::parse("waiting for 10 s")->holds(c));
}
