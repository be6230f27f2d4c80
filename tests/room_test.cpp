// SPDX-License-Identifier: GPL-3.0-or-later
// The room as the workshop and packed apps have it: from the mouse over a ray to a control and its controller.
#include <QTest>
#include <QToolTip>
#include <cmath>

#include "scenes.h"
#include "view/screen_view.h"
#include "window_support.h"
#include "workshop/arranging.h"
#include "workshop/mount.h"
#include "workshop/window.h"

using namespace ruedo;
using namespace ruedo::test;
using scene::Vec;

namespace {
PlayerDocument in_a_room(std::initializer_list<const char*> names = {"vp9_opus.webm"}) {
    auto d = document_of(names);
    auto hung = hung_player();
    d.players = hung.players, d.mount = Mount::room;
    for (auto& s : d.sources) s.loop.kind = Loop::Kind::all;
    return d;
}
struct Hung {
    PlaybackHost host{false};
    ScreenView view{host};
    explicit Hung(const PlayerDocument& d, QSize size = {900, 600}) {
        view.set_standalone();
        view.resize(size);
        view.set_mount(Mount::room);
        view.show();
        view.take(d, "/");
        view.activateWindow();
        REQUIRE(soon([&] { return phase() == Phase::ready; }));
        REQUIRE(soon([&] { return !view.player(0).surface().still().isNull(); }));
    }
    RoomView& room() { return *view.room(); }
    PlayerView& player() { return view.player(0); }
    Phase phase() { return player().snapshot().state.phase; }
    /// Where the middle of a control is seen.
    QPointF place(const char* name) {
        auto* w = player().control_widget(name);
        REQUIRE(w);
        auto at = room().seen(0, QRectF(w->geometry()).center());
        REQUIRE(at);
        return *at;
    }
    void press_at(QPointF at) {
        move(&room(), at);
        press(&room(), at);
        let_go(&room(), at);
    }
    std::string last(const char* event) {
        std::string detail;
        for (auto& e : player().controller().events())
            if (e.name == event) detail = e.detail;
        return detail;
    }
    QImage grab() { return view.grab().toImage().convertToFormat(QImage::Format_RGB32); }
};
}  // namespace

TEST_CASE("A press on what is seen of a control in a room does what that control does, and is told in the trace",
          "[room]") {
    Hung h(in_a_room());
    REQUIRE(soon([&] { return h.player().control_widget("start")->isVisible(); }));
    h.press_at(h.place("start"));
    CHECK(soon([&] { return h.phase() == Phase::playing; }));
    CHECK(soon([&] { return h.last("ray").starts_with("Lands on the screen"); }));
    h.press_at(h.place("toggle"));
    CHECK(soon([&] { return h.phase() == Phase::paused; }));
    CHECK(soon([&] { return h.last("ray").starts_with("Lands on the bar “foot”"); }));
    // The focus went where the press went, as on any other mount; keys then go there.
    CHECK(QApplication::focusWidget() == h.player().control_widget("toggle"));
    key(QApplication::focusWidget(), Qt::Key_Space);
    CHECK(soon([&] { return h.phase() == Phase::playing; }));
    // From the side, and from above, it is pressed where it is seen there.
    h.room().orbit(Vec{0, 1.6, -2}, 40, -12);
    h.press_at(h.place("toggle"));
    CHECK(soon([&] { return h.phase() == Phase::paused; }));
    // Let go of elsewhere it is no press.
    press(&h.room(), h.place("toggle"));
    move(&h.room(), QPointF(5, 5), Qt::LeftButton);
    let_go(&h.room(), QPointF(5, 5));
    pass(200);
    CHECK(h.phase() == Phase::paused);
}

TEST_CASE("Rails are dragged, dials are turned by the wheel and what is pointed at shows it, in a room", "[room]") {
    Hung h(in_a_room());
    auto* rail = h.player().control_widget("position");
    REQUIRE(rail);
    auto at = [&](double part) {
        auto r = QRectF(rail->geometry());
        return *h.room().seen(0, QPointF(r.left() + 10 + (r.width() - 20) * part, r.center().y()));
    };
    auto length = h.player().snapshot().duration;
    press(&h.room(), at(0.2));
    for (double part = 0.2; part <= 0.75; part += 0.05) move(&h.room(), at(part), Qt::LeftButton);
    let_go(&h.room(), at(0.75));
    CHECK(soon([&] {
        auto s = h.player().snapshot();
        return !s.state.seeking && std::abs((s.position - scaled(length, 0.75)).seconds()) < 0.2 * length.seconds();
    }));
    auto volume = h.player().snapshot().volume;
    auto over = h.place("volume");
    move(&h.room(), over);
    CHECK(h.player().control_widget("volume")->underMouse());
    QWheelEvent wheel(over, h.room().mapToGlobal(over), {}, {0, -120}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase,
                      false);
    QApplication::sendEvent(&h.room(), &wheel);
    CHECK(soon([&] { return h.player().snapshot().volume < volume; }));
    move(&h.room(), h.place("mute"));
    CHECK_FALSE(h.player().control_widget("volume")->underMouse());
    CHECK(h.player().control_widget("mute")->underMouse());
    // What was drawn piece by piece looks as if it had been drawn at once.
    (void)h.player().sheet().refresh();
    h.player().sheet().mark_all();
    CHECK_FALSE(h.player().sheet().refresh());
    CHECK(h.room().told().startsWith("Lands on the bar"));
    // Where nothing takes the wheel one walks.
    auto before = h.room().viewer();
    QWheelEvent ahead({20, 20}, {}, {}, {0, 120}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase, false);
    QApplication::sendEvent(&h.room(), &ahead);
    CHECK(h.room().viewer().at.z < before.at.z);
}

TEST_CASE("What stands before a screen stops a press, and so does its back; both are told", "[room]") {
    auto d = in_a_room();
    d.room.solids = {SolidSpec::usual(SolidSpec::Kind::pillar)};
    d.room.solids[0].name = "Column", d.room.solids[0].at = {0, 0, -1}, d.room.solids[0].width = 0.5;
    Hung h(d);
    h.press_at(h.place("start"));
    CHECK(soon([&] { return h.last("ray-stopped").find("“Column”") != std::string::npos; }));
    CHECK(h.phase() == Phase::ready);
    auto v = h.room().viewer();
    v.at = {0, 1.6, -4}, v.turn = 180;
    h.room().set_viewer(v);
    h.press_at({450, 300});
    CHECK(soon([&] { return h.last("ray-stopped").starts_with("Meets the back of the screen"); }));
    CHECK(h.phase() == Phase::ready);
    // The same key leads back to the start.
    key(&h.room(), Qt::Key_Home);
    CHECK(h.room().viewer() == d.room.viewer);
}

TEST_CASE(
    "In a room the picture is seen where it hangs, moves while it plays, and nothing is drawn while nothing moves",
    "[room]") {
    Hung h(in_a_room());
    h.room().set_top_view(false);
    auto middle = h.room().seen(0, QPointF(640, 200 + h.player().layout_now().area.y));
    REQUIRE(middle);
    pass(400);
    auto still = h.grab();
    auto faces = h.room().drawn_faces();

    pass(600);
    CHECK(h.room().drawn_faces() == faces);
    CHECK(h.grab() == still);
    // What is on the picture is what its surface shows.
    auto shown = h.player().surface().still();
    auto expected = shown.pixelColor(shown.width() / 2, shown.height() * 200 / 720);
    auto seen = still.pixelColor(middle->toPoint());
    CHECK(std::abs(expected.lightness() - seen.lightness()) < 40);
    auto before = h.player().snapshot().counters.presented;
    h.player().controller().play();
    CHECK(soon([&] { return h.player().snapshot().counters.presented > before + 8; }));
    CHECK(h.room().drawn_faces() > faces);
    CHECK(soon([&] { return h.grab() != still; }));
    // A mount that is no room has its own player back, which goes on.
    h.view.set_mount(Mount::window);
    CHECK(h.view.room() == nullptr);
    CHECK(h.phase() == Phase::playing);
    before = h.player().snapshot().counters.presented;
    CHECK(soon([&] { return h.player().snapshot().counters.presented > before + 4; }));
    CHECK(h.player().layout_now().whole == Box{0, 0, 900, 600});
}

TEST_CASE("Keys and the mouse walk, turn and go round; the focus of a control keeps its own keys", "[room]") {
    Hung h(in_a_room());
    auto& room = h.room();
    auto start = room.viewer();
    key(&room, Qt::Key_Up);
    CHECK(room.viewer().at.z == Approx(start.at.z - 0.25));
    key(&room, Qt::Key_Left);
    CHECK(room.viewer().turn == Approx(5));
    key(&room, Qt::Key_Right, Qt::ShiftModifier);
    CHECK(room.viewer().at.x > 0.2);
    key(&room, Qt::Key_PageUp);
    CHECK(room.viewer().at.y == Approx(1.7));
    key(&room, Qt::Key_Home);
    CHECK(room.viewer() == start);
    press(&room, {10, 10});
    move(&room, {60, 30}, Qt::LeftButton);
    let_go(&room, {60, 30});
    CHECK(room.viewer().turn > 1);
    CHECK(room.viewer().tilt > 1);
    room.reset();
    // Round what is pointed at: it stays where it is seen.
    auto on = h.place("start");
    auto at = room.aim_at(on).end()->at;
    press(&room, on, Qt::RightButton);
    move(&room, on + QPointF(120, 0), Qt::RightButton);
    let_go(&room, on + QPointF(120, 0));
    CHECK(room.viewer().turn != Approx(0));
    auto now = room.seen(at);
    REQUIRE(now);
    CHECK(std::hypot(now->x() - on.x(), now->y() - on.y()) < 1);
    room.reset();
    REQUIRE(soon([&] { return h.player().control_widget("position")->isEnabled(); }));
    h.player().control_widget("position")->setFocus();
    auto viewer = room.viewer();
    REQUIRE(QApplication::focusWidget() == h.player().control_widget("position"));
    key(QApplication::focusWidget(), Qt::Key_Right);
    CHECK(room.viewer() == viewer);
    REQUIRE(soon([&] { return h.player().control_widget("toggle")->isEnabled(); }));
    h.player().control_widget("toggle")->setFocus();
    REQUIRE(QApplication::focusWidget() == h.player().control_widget("toggle"));
    key(QApplication::focusWidget(), Qt::Key_PageUp);
    CHECK_FALSE(room.viewer() == viewer);
}

TEST_CASE("A hand has a ray of its own, is dragged by its handles, and presses; a finger presses by going through",
          "[room]") {
    auto d = in_a_room();
    d.room.hand = PoseSpec{{0.2, 1.2, -0.6}, 0, 0};
    Hung h(d);
    auto& room = h.room();
    REQUIRE(room.hand());
    auto aim_hand = [&](const char* control) {
        auto to = *room.scene().place_of(0, QRectF(h.player().control_widget(control)->geometry()).center().x(),
                                         QRectF(h.player().control_widget(control)->geometry()).center().y());
        auto way = unit(to - Vec(room.hand()->at));
        auto hand = *room.hand();
        hand.turn = scene::degrees(std::atan2(-way.x, -way.z)), hand.tilt = scene::degrees(std::asin(way.y));
        room.set_hand(hand);
    };
    aim_hand("start");
    room.hand_press();
    room.hand_release();
    CHECK(soon([&] { return h.phase() == Phase::playing; }));
    aim_hand("toggle");
    room.hand_press();
    room.hand_release();
    CHECK(soon([&] { return h.phase() == Phase::paused; }));
    // What it does is kept as calls that the command line carries out.
    room.record_hand(true);
    aim_hand("mute");
    room.hand_press(), room.hand_release();
    CHECK(soon([&] { return h.player().snapshot().muted; }));
    room.record_hand(false);
    auto lines = room.recorded().split(";\n");
    REQUIRE(lines.size() == 3);
    CHECK(lines[0].contains("ms hand 0.2000 1.2000 -0.6000"));
    CHECK(lines[2].endsWith("ms pull"));
    // A press on one of its handles is a press of the hand.
    press(&room, *room.seen(room.hand_aim().end()->at));
    let_go(&room, *room.seen(room.hand_aim().end()->at));
    CHECK(soon([&] { return !h.player().snapshot().muted; }));
    aim_hand("toggle");
    // The tip of its ray goes where it is dragged to.
    auto told = room.hand_aim();
    REQUIRE(told.end());
    auto tip = *room.seen(told.end()->at), to = h.place("mute");
    int heard = 0;
    room.on_hand_moved = [&] { ++heard; };
    press(&room, tip);
    move(&room, to, Qt::LeftButton);
    let_go(&room, to);
    CHECK(heard == 1);
    auto now = room.seen(room.hand_aim().end()->at);
    REQUIRE(now);
    CHECK(std::hypot(now->x() - to.x(), now->y() - to.y()) < 1.5);
    // Near: beside the control and before the bar it is moved into it. The bar leans, so going down goes through.
    bool muted = h.player().snapshot().muted;
    auto mute = *room.scene().place_of(0, QRectF(h.player().control_widget("mute")->geometry()).center().x(),
                                       QRectF(h.player().control_widget("mute")->geometry()).center().y());
    auto v = room.viewer();
    v.at = (mute + Vec{0, 0.1, 0.5}).point();
    room.set_viewer(v);
    auto bar = room.scene()
                   .things[*room.scene().thing_at(0, h.player().control_widget("mute")->geometry().center().x(),
                                                  h.player().control_widget("mute")->geometry().center().y())]
                   .panel.axes;
    room.set_hand(PoseSpec{(mute + bar.up * 0.001 + Vec{0, 0.03, 0}).point(), 0, 0});
    auto from = *room.seen(Vec(room.hand()->at)), below = *room.seen(mute - Vec{0, 0.03, 0});
    press(&room, from);
    for (int i = 1; i <= 6; ++i) move(&room, from + (below - from) * i / 6.0, Qt::LeftButton);
    for (int i = 5; i >= 0; --i) move(&room, from + (below - from) * i / 6.0, Qt::LeftButton);
    let_go(&room, from);
    CHECK(soon([&] { return h.player().snapshot().muted != muted; }));
}

TEST_CASE("Several players hang side by side, each is pressed on its own, and goes where it is hung", "[room]") {
    auto d = in_a_room({"vp9_opus.webm", "h264_high_aac.mp4"});
    add_player(d);
    d.player(1).bars[0].where = BarSpec::Where::clear;
    for (std::size_t i = 0; i < 2; ++i) d.player(i).sources = {{d.sources[i].name}}, d.player(i).hang.width = 0.9;
    Hung h(d);
    auto phase = [&](std::size_t i) { return h.view.player(i).snapshot().state.phase; };
    REQUIRE(soon([&] { return phase(1) == Phase::ready; }));
    auto place = [&](std::size_t i, const char* name) {
        return *h.room().seen(i, QRectF(h.view.player(i).control_widget(name)->geometry()).center());
    };
    h.press_at(place(1, "toggle"));
    CHECK(soon([&] { return phase(1) == Phase::playing; }));
    CHECK(phase(0) == Phase::ready);
    CHECK(h.view.active() == 1);
    h.press_at(place(0, "toggle"));
    CHECK(soon([&] { return phase(0) == Phase::playing; }));
    CHECK(phase(1) == Phase::playing);
    // Hung elsewhere it plays on and is pressed there; the other's place is the other's.
    auto& opened = h.view.player(1).controller();
    d.player(1).hang.at = Point{0.9, 1.9, -1.6}, d.player(1).hang.facing = HangSpec::Facing::viewer;
    h.view.take(d, "/");
    CHECK(&h.view.player(1).controller() == &opened);
    h.press_at(place(1, "toggle"));
    CHECK(soon([&] { return phase(1) == Phase::paused; }));
    CHECK(phase(0) == Phase::playing);
    // Gone from the document, it is gone from the room.
    d.players.pop_back();
    h.view.take(d, "/");
    CHECK(h.view.count() == 1);
    CHECK(soon([&] { return !h.room().scene().screen_of(1); }));
}

TEST_CASE("In a room a poster stands before the start, a start may wait, and full screen is flat and leads back",
          "[room]") {
    auto d = in_a_room();
    d.sources[0].no_poster = true;
    d.player().picture.surround = "#8A2436";
    Hung h(d);
    h.room().set_top_view(false);
    auto at = [&](double x, double y) { return h.room().seen(0, QPointF(x, y))->toPoint(); };
    auto wine = [&] { return h.grab().pixelColor(at(300, 200)) == QColor("#8A2436"); };
    CHECK(soon(wine));
    // The surround is seen before there is anything to start.
    REQUIRE(soon([&] {
        auto* start = h.player().control_widget("start");
        return h.phase() == Phase::ready && start && !start->isHidden() && start->isEnabled();
    }));
    h.press_at(h.place("start"));
    CHECK(soon([&] { return h.phase() == Phase::playing; }));
    CHECK(soon([&] { return !wine(); }));
    // The mark that it was started by has hidden itself.
    CHECK(soon([&] { return h.player().control_widget("start")->isHidden(); }));
    d.sources[0].start = {Start::How::delay, 700_ms};
    h.view.take(d, "/");
    CHECK(soon([&] { return h.phase() == Phase::ready; }));
    CHECK(soon([&] { return h.phase() == Phase::playing; }));
    auto& controller = h.player().controller();
    h.player().toggle_full_screen();
    CHECK(soon([&] { return h.player().in_full_screen(); }));
    CHECK(h.player().layout_now().loose == false);
    h.player().toggle_full_screen();
    CHECK(soon([&] { return !h.player().in_full_screen() && h.player().layout_now().loose; }));
    CHECK(&h.player().controller() == &controller);
    h.press_at(h.place("toggle"));
    CHECK(soon([&] { return h.phase() == Phase::paused; }));
}

TEST_CASE("Where the document asks for it, a player in a room is softer from afar and heard from its side", "[room]") {
    auto d = in_a_room();
    d.room.audio_by_place = true;
    // The loudest of either side since it was asked last; it outlives what is heard.
    std::pair<float, float> loudest;
    std::mutex mutex;
    Hung h(d);
    h.host.mixer.on_mix([&](std::span<const float> block, std::int64_t) {
        std::lock_guard lock(mutex);
        for (std::size_t i = 0; i + 1 < block.size(); i += 2) {
            loudest.first = std::max(loudest.first, std::abs(block[i]));
            loudest.second = std::max(loudest.second, std::abs(block[i + 1]));
        }
    });
    auto take = [&] {
        std::lock_guard lock(mutex);
        return std::exchange(loudest, {});
    };
    auto heard = [&] {
        take();
        pass(700);
        return take();
    };
    h.player().controller().play();
    REQUIRE(soon([&] { return h.phase() == Phase::playing; }));
    auto v = h.room().viewer();
    v.at = {0, 1.6, -1};
    h.room().set_viewer(v);
    // Its bursts lie apart, and a machine that stands still misses some: each is waited for.
    float near = 0;
    REQUIRE(soon([&] { return (near = heard().first) > 0.4F; }));
    v.at = {0, 1.6, 2};
    h.room().set_viewer(v);
    CHECK(soon([&] {
        auto far = heard().first;
        return far > 0.2F * near && far < 0.3F * near;
    }));
    v.at = {0, 1.6, -1.2}, v.turn = -80;
    h.room().set_viewer(v);
    CHECK(soon([&] {
        auto aside = heard();
        return aside.first > 0.4F && aside.first > 20 * aside.second;
    }));
}

TEST_CASE("In the workshop a room is told in sentences, a screen is dragged by its mark and its edge, and undone",
          "[room]") {
    PlaybackHost host(false);
    WorkshopWindow window(host);
    window.resize(1280, 800);
    window.show();
    Folder folder;
    auto d = in_a_room();
    d.mount = Mount::window;
    done(save_document(d, folder / "room.ruedo"));
    window.open_project(folder / "room.ruedo");
    REQUIRE(soon([&] { return window.player().snapshot().state.phase == Phase::ready; }));
    auto& controller = window.player().controller();
    CHECK(window.sentences().set_value("mount", "room"));
    REQUIRE(window.screen().room());
    // The same player, opened once.
    CHECK(&window.player().controller() == &controller);
    CHECK(window.sentences().plain_text().contains("It hangs in a row, 2 m in front of the start."));
    auto& room = *window.screen().room();
    auto& layer = window.mount().layer();
    REQUIRE(soon([&] { return room.scene().screen_of(0).has_value() && layer.width() > 100; }));
    window.mount().set_arranging(true);
    auto hung = [&] { return scene::hung_at(window.project().document(), 0); };
    auto at = hung();
    auto v = room.viewer();
    v.at.z = 1.5, v.tilt = -12;
    room.set_viewer(v);
    auto mark = *room.seen(Vec{at.x, 0, at.z}), aside = *room.seen(Vec{at.x + 0.5, 0, at.z - 0.25});
    press(&layer, mark);
    move(&layer, (mark + aside) / 2, Qt::LeftButton);
    move(&layer, aside, Qt::LeftButton);
    let_go(&layer, aside);
    // In round distances along the floor, its height kept.
    CHECK(hung().x == Approx(at.x + 0.5));
    CHECK(hung().z == Approx(at.z - 0.25));
    CHECK(hung().y == Approx(at.y));
    CHECK(window.project().undo_text() == "Hanging “Player” elsewhere");
    auto& panel = room.scene().things[*room.scene().screen_of(0)].panel;
    auto edge = *room.seen(panel.at(0, 0.5)), up = *room.seen(panel.at(0, 0.5) + Vec{0, 0.31, 0});
    press(&layer, edge);
    move(&layer, up, Qt::LeftButton);
    let_go(&layer, up);
    CHECK(hung().y == Approx(at.y + 0.3));
    CHECK(hung().z == Approx(at.z - 0.25));
    window.project().undo(), window.project().undo();
    CHECK(hung() == at);
    // A press on a control selects it; the wheel and empty places go to the room.
    auto* mute = window.player().control_widget("mute");
    auto on = *room.seen(0, QRectF(mute->geometry()).center());
    press(&layer, on);
    let_go(&layer, on);
    CHECK(window.project().selected() == "mute");
    auto turn = room.viewer().turn;
    press(&layer, {8, 8});
    move(&layer, {40, 8}, Qt::LeftButton);
    let_go(&layer, {40, 8});
    CHECK(room.viewer().turn > turn);
    // A control is dragged to another place on the picture through the room.
    room.reset();
    on = *room.seen(0, QRectF(mute->geometry()).center());
    auto corner = *room.seen(0, QPointF(40, 360));
    press(&layer, on);
    for (double part = 0.2; part <= 1.01; part += 0.2) move(&layer, on + (corner - on) * part, Qt::LeftButton);
    let_go(&layer, corner);
    CHECK(window.project().spec().control("mute")->slot == "left");
    // Words of the room: each value that is offered is taken, and is another document.
    for (auto& [key, value] : std::vector<std::pair<QString, QString>>{{"hang", "own"},
                                                                       {"hang-x", "0.5"},
                                                                       {"hang-turn", "20"},
                                                                       {"facing", "viewer"},
                                                                       {"hang-width", "2.5"},
                                                                       {"bend", "3"},
                                                                       {"surface", "1920x1080"},
                                                                       {"margin", "4"},
                                                                       {"cover", "50"},
                                                                       {"float side foot", "above"},
                                                                       {"start-z", "0.5"},
                                                                       {"field", "75"},
                                                                       {"solids", "pillar"},
                                                                       {"solid height 0", "2"},
                                                                       {"hand", "hand"},
                                                                       {"sound-place", "yes"}}) {
        auto before = window.project().document();
        INFO(key.toStdString());
        CHECK(window.sentences().set_value(key, value));
        CHECK_FALSE(window.project().document() == before);
        CHECK(soon([&] { return room.document() == window.project().document(); }));
    }
    QString why;
    CHECK_FALSE(window.sentences().set_value("surface", "1000000x20", &why));
    CHECK(why.startsWith("A size such as"));
    // What a review turns up of the room stands with the other findings, and its fix fixes it.
    CHECK(window.sentences().set_value("float side foot", "below"));
    CHECK(window.sentences().set_value("hang-width", "0.4"));
    auto small = [&] {
        auto& found = window.sentences().findings();
        return std::find_if(found.begin(), found.end(), [](auto& f) { return f.code == "press-small"; });
    };
    REQUIRE(soon([&] { return small() != window.sentences().findings().end(); }));
    window.sentences().fix(static_cast<std::size_t>(small() - window.sentences().findings().begin()));
    CHECK(soon([&] { return small() == window.sentences().findings().end(); }));

    CHECK(window.project().spec().hang.width > 0.4);
    // And back: the same player is in the window again.
    CHECK(window.sentences().set_value("mount", "window"));
    CHECK(window.screen().room() == nullptr);
    CHECK(&window.player().controller() == &controller);
}
