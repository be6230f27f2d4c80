// SPDX-License-Identifier: GPL-3.0-or-later
// Several players on one screen, as the workshop and packed apps have them.
#include <QTest>

#include "view/screen_view.h"
#include "window_support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Screen {
    PlaybackHost host{false};
    ScreenView view{host};
    explicit Screen(const PlayerDocument& d, QSize size = {900, 420}) {
        view.set_standalone();
        view.resize(size);
        view.show();
        view.take(d, "/");
        view.activateWindow();
        (void)soon([&] { return view.isActiveWindow(); }, 5000);  // else keys would go nowhere
    }
    Phase phase(std::size_t i) { return view.player(i).snapshot().state.phase; }
    bool both(Phase first, Phase second) {
        return soon([&] { return phase(0) == first && phase(1) == second; });
    }
    int opened(std::size_t i) {
        int n = 0;
        for (auto& e : view.player(i).controller().events()) n += e.name == "opened";
        return n;
    }
};
PlayerDocument two_of(std::initializer_list<const char*> names) {
    auto d = document_of(names);
    add_player(d);
    d.player(0).sources = {{d.sources[0].name}};
    d.player(1).sources = {{d.sources[1].name}};
    return d;
}
}  // namespace

TEST_CASE("Two players on a screen stand apart, play on their own, and one that fails leaves the other alone",
          "[view]") {
    auto d = two_of({"vp9_opus.webm", "h264_high_aac.mp4"});
    Screen s(d);
    REQUIRE(s.both(Phase::ready, Phase::ready));
    CHECK(s.view.player(0).snapshot().source == "vp9_opus.webm");
    CHECK(s.view.player(1).snapshot().source == "h264_high_aac.mp4");
    CHECK_FALSE(s.view.player(0).geometry().intersects(s.view.player(1).geometry()));
    CHECK(s.view.rect().contains(s.view.player(1).geometry()));
    s.view.player(1).controller().play();
    CHECK(s.both(Phase::ready, Phase::playing));
    s.view.player(0).controller().play();
    s.view.player(1).controller().pause();
    CHECK(s.both(Phase::playing, Phase::paused));
    // One below the other: nothing is opened anew.
    d.screen.arrangement = ScreenSpec::Arrangement::column;
    s.view.take(d, "/");
    CHECK(s.view.player(1).y() > s.view.player(0).y());
    CHECK((s.opened(0) == 1 && s.opened(1) == 1));
    d.sources[1].file = "/nowhere/at-all.mp4";
    s.view.take(d, "/");
    CHECK(s.both(Phase::playing, Phase::failed));
    s.view.player(0).controller().release();
    CHECK(s.both(Phase::closed, Phase::failed));
}

TEST_CASE("Players that stay play on when others come, go, change places or are renamed", "[view]") {
    auto d = two_of({"vp9_opus.webm", "h264_high_aac.mp4"});
    for (auto& s : d.sources) s.loop.kind = Loop::Kind::all;
    Screen s(d);
    REQUIRE(s.both(Phase::ready, Phase::ready));
    s.view.player(1).controller().play();
    REQUIRE(s.both(Phase::ready, Phase::playing));
    auto* second = &s.view.player(1);
    std::vector<PlayerView*> gone;
    s.view.on_removed = [&](PlayerView& view) { gone.push_back(&view); };
    auto goes_on = [&](std::size_t at) {
        CHECK(&s.view.player(at) == second);
        CHECK(second->snapshot().state.phase == Phase::playing);
        CHECK(s.opened(at) == 1);
    };
    d.player(1).name = "Stairs";
    s.view.take(d, "/");
    goes_on(1);
    std::swap(d.players[0], d.players[1]);
    s.view.take(d, "/", 0, 1);
    goes_on(0);
    add_player(d);
    s.view.take(d, "/");
    REQUIRE(s.view.count() == 3);
    goes_on(0);
    CHECK(soon([&] { return s.phase(2) == Phase::ready; }));
    CHECK(gone.empty());
    // A source before its own goes from its queue.
    d.player(0).sources.reset();
    s.view.take(d, "/");
    goes_on(0);
    CHECK(s.view.source_of(0) == 1);
    d.players.erase(d.players.begin() + 1, d.players.end());
    s.view.take(d, "/");
    REQUIRE(s.view.count() == 1);
    CHECK(gone.size() == 2);
    goes_on(0);
    // Nothing to play: its place stays, empty; and it comes back.
    d.player(0).sources.emplace();
    s.view.take(d, "/");
    CHECK(soon([&] { return s.phase(0) == Phase::closed; }));
    CHECK(s.view.source_of(0) == d.sources.size());
    d.player(0).sources.reset();
    s.view.take(d, "/");
    CHECK(soon([&] { return s.phase(0) == Phase::ready; }));
}

TEST_CASE("Whoever begins to sound makes the other silent, where the document says so", "[view]") {
    auto d = two_of({"vp9_opus.webm", "h264_high_aac.mp4"});
    for (auto& s : d.sources) s.loop.kind = Loop::Kind::all;
    for (bool one : {false, true}) {
        d.screen.one_sounds = one;
        Screen s(d);
        REQUIRE(s.both(Phase::ready, Phase::ready));
        s.view.player(0).controller().play();
        REQUIRE(s.both(Phase::playing, Phase::ready));
        s.view.player(1).controller().play();
        REQUIRE(s.both(Phase::playing, Phase::playing));
        auto muted = [&](std::size_t i) { return s.view.player(i).snapshot().muted; };
        if (!one) {
            pass(200);
            CHECK((!muted(0) && !muted(1)));
            continue;
        }
        CHECK(soon([&] { return muted(0) && !muted(1); }));
        pass(150);  // until that has been seen by the rule as well, which looks now and then
        s.view.player(0).controller().set_muted(false);
        CHECK(soon([&] { return !muted(0) && muted(1); }));
        CHECK(s.both(Phase::playing, Phase::playing));
    }
}

TEST_CASE("The keys are the first player's to begin with, whichever is ready first", "[view]") {
    auto d = two_of({"vp9_opus.webm", "h264_high_aac.mp4"});
    d.sources[0].file = "/nowhere/at-all.mp4";
    PlaybackHost host{false};
    ScreenView view{host};
    view.set_standalone();
    view.resize(900, 420);
    view.take(d, "/");
    auto phase = [&](std::size_t i) { return view.player(i).snapshot().state.phase; };
    REQUIRE(soon([&] { return phase(0) == Phase::failed && phase(1) == Phase::ready; }));
    pass(150);  // until controls have heard of it
    view.show();
    view.activateWindow();
    REQUIRE(soon([&] { return view.isActiveWindow() && QApplication::focusWidget(); }, 5000));
    CHECK((view.active() == 0 && view.player(0).hasFocus()));
}

TEST_CASE("Keys, full screen and leaving belong to the player that is meant", "[view]") {
    auto d = two_of({"vp9_opus.webm", "h264_high_aac.mp4"});
    for (auto& s : d.sources) s.loop.kind = Loop::Kind::all;
    Screen s(d);
    REQUIRE(s.both(Phase::ready, Phase::ready));
    std::vector<std::size_t> active;
    s.view.on_active = [&](std::size_t i) { active.push_back(i); };
    auto toggle = [&] {
        s.view.activateWindow();
        CHECK(soon([&] { return s.view.isActiveWindow(); }, 5000));
        QTest::keyClick(&s.view, Qt::Key_Space, Qt::ControlModifier);
    };
    CHECK((s.view.active() == 0 && s.view.player(0).hasFocus()));
    s.view.player(0).clearFocus();
    toggle();
    INFO("active " << s.view.isActiveWindow() << ", phases " << static_cast<int>(s.phase(0)) << " "
                   << static_cast<int>(s.phase(1)) << ", focus "
                   << (QApplication::focusWidget() ? QApplication::focusWidget()->metaObject()->className() : "none"));
    CHECK(s.both(Phase::playing, Phase::ready));
    s.view.player(1).setFocus();
    CHECK(soon([&] { return active == std::vector<std::size_t>{1}; }));
    QTest::keyClick(&s.view.player(1), Qt::Key_Space);
    CHECK(s.both(Phase::playing, Phase::playing));
    toggle();
    CHECK(s.both(Phase::playing, Phase::paused));
    // One of them over the whole screen, and back in its place, without opening anything again.
    auto place = s.view.player(1).geometry();
    s.view.player(1).toggle_full_screen();
    CHECK(s.view.player(1).isWindow());
    CHECK_FALSE(s.view.player(0).in_full_screen());
    s.view.player(1).toggle_full_screen();
    CHECK(s.view.player(1).geometry() == place);
    CHECK(s.both(Phase::playing, Phase::paused));
    CHECK(s.opened(1) == 1);
    // The app is left when the last one has been.
    int left = 0;
    s.view.on_leave = [&] { ++left; };
    s.view.player(1).session().press({.what = Press::What::leave});
    CHECK(s.both(Phase::playing, Phase::closed));
    CHECK(left == 0);
    s.view.player(0).session().press({.what = Press::What::leave});
    CHECK(s.both(Phase::closed, Phase::closed));
    CHECK(left == 1);
}
