// SPDX-License-Identifier: GPL-3.0-or-later
// The player put together by hand in the workshop's window, with mouse and keys.
#include <QClipboard>
#include <QDropEvent>
#include <QMimeData>
#include <QTest>
#include <QTextBrowser>
#include <set>

#include "player/templates.h"
#include "workshop/ring.h"
#include "view/look.h"
#include "window_support.h"
#include "workshop/arranging.h"
#include "workshop/mirror.h"
#include "workshop/mount.h"
#include "workshop/sentences.h"
#include "workshop/window.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Bench {
    Folder folder;
    PlaybackHost host{false};
    WorkshopWindow window{host};
    explicit Bench(PlayerDocument d = document_of({"vp9_opus.webm"})) {
        done(save_document(d, folder / "a.ruedo"));
        window.show();
        REQUIRE(window.open_project(folder / "a.ruedo"));
        REQUIRE(soon([&] { return window.player().snapshot().state.phase == Phase::ready; }));
        window.mount().set_arranging(true);
        pass(50);
    }
    Project& project() { return window.project(); }
    PlayerSpec player() { return project().spec(); }
    ArrangeLayer& layer() { return window.mount().layer(); }
    Layout layout() { return window.player().layout_now(); }
    QPointF middle(const std::string& control) {
        auto p = player();
        auto box = layout().controls[static_cast<std::size_t>(p.control(control) - p.controls.data())].box;
        return {box.x + box.width / 2.0, box.y + box.height / 2.0};
    }
    /// From the tray onto a point of the player, as a hand does.
    void carry(const char* kind, QPointF to) {
        auto* item = control(&window, "Add " + text(control_kind(kind).title));
        REQUIRE(item);
        press(item, {20, 20});
        auto at = [&](QPointF on_layer) { return item->mapFromGlobal(layer().mapToGlobal(on_layer)); };
        for (double part : {0.2, 0.6, 1.0}) {
            auto from = QPointF(item->mapToGlobal(QPointF(20, 20))), end = QPointF(layer().mapToGlobal(to));
            move(item, item->mapFromGlobal(from + (end - from) * part), Qt::LeftButton);
        }
        let_go(item, at(to));
        pass(30);
    }
    /// From where it stands to a point of the player.
    void drag(const std::string& name, QPointF to) {
        auto from = middle(name);
        press(&layer(), from);
        for (double part : {0.3, 0.7, 1.0}) move(&layer(), from + (to - from) * part, Qt::LeftButton);
        let_go(&layer(), to);
        pass(30);
    }
};
}  // namespace

TEST_CASE("From a bare picture: play, position and volume beside it, captions when there are any, a strip",
          "[arrange][captions]") {
    auto d = document_of({"text_webvtt.mkv", "vp9_opus.webm"});
    d.player().bars.clear(), d.player().controls.clear();
    Bench b(d);
    b.window.player().controller().play();
    REQUIRE(soon([&] { return b.window.player().snapshot().state.phase == Phase::playing; }));
    auto bottom = b.layer().height() - 70.0, wide = b.layer().width() * 1.0;
    // The strips at the lower edge offer bars: on the picture, beside it, clear of it.
    auto zones = drop_zones(b.player(), b.window.player().mount_shape(), b.layout());
    auto beside = std::find_if(zones.begin(), zones.end(), [](auto& z) {
        return z.bar && z.bar->edge == BarSpec::Edge::bottom && z.bar->where == BarSpec::Where::beside;
    });
    REQUIRE(beside != zones.end());
    bottom = beside->box.y + 10.0;
    b.carry("toggle", {wide * 0.1, bottom});
    REQUIRE(b.player().bars.size() == 1);
    CHECK(b.player().bars[0].where == BarSpec::Where::beside);
    CHECK(b.player().control("toggle")->slot == "foot/start");
    auto bar = b.layout().bars.at(0).box;
    CHECK_FALSE(bar.meets(b.layout().picture));
    b.carry("position", {bar.x + bar.width / 2.0, bar.y + 10.0});
    b.carry("volume", {bar.right() - 8.0, bar.y + 10.0});
    b.carry("captions", {bar.right() - 8.0, bar.y + 10.0});
    b.carry("strip", {b.layout().picture.width / 2.0, b.layout().picture.y + 90.0});
    CHECK(b.player().control("position")->slot == "foot/middle");
    CHECK(b.player().control("volume")->slot == "foot/end");
    CHECK(b.player().control("captions")->slot == "foot/end");
    CHECK(b.player().control("strip")->slot.starts_with("top"));
    // It played on all the while, and what was put there works.
    CHECK(b.window.player().snapshot().state.phase == Phase::playing);
    b.window.mount().set_arranging(false);
    auto* captions = b.window.player().control_widget("captions");
    CHECK(soon([&] { return captions->isVisible(); }));
    auto* toggle = b.window.player().control_widget("toggle");
    QTest::mouseClick(toggle, Qt::LeftButton);
    CHECK(soon([&] { return b.window.player().snapshot().state.phase == Phase::paused; }));
    // The other source has no captions: there is no button for them.
    b.project().set_current(1);
    CHECK(soon([&] { return b.window.player().snapshot().source == "vp9_opus.webm" && !captions->isVisible(); }));
    // Each step can be taken back, with words.
    int steps = 0;
    CHECK(b.project().undo_text().contains("strip"));
    for (; b.project().can_undo(); ++steps) b.project().undo();
    CHECK(steps == 5);
    CHECK(b.player().controls.empty());
}

TEST_CASE("Picture, keys and text select the same control, and keys move it, take it away and copy it", "[arrange]") {
    Bench b;
    auto& project = b.project();
    auto told = [&] { return b.window.sentences().plain_text(); };
    press(&b.layer(), b.middle("mute"));
    let_go(&b.layer(), b.middle("mute"));
    CHECK(project.selected() == "mute");
    CHECK(told().startsWith("mute"));
    auto order = b.layer().order();
    auto at = order.indexOf("mute");
    QTest::keyClick(&b.layer(), Qt::Key_Tab);
    CHECK(text(project.selected()) == order[at + 1]);
    QTest::keyClick(&b.layer(), Qt::Key_Backtab);
    CHECK(project.selected() == "mute");
    // Left: before the tracks; up: onto the picture; and back by undoing.
    auto slot = [&] { return b.player().control("mute")->slot; };
    QTest::keyClick(&b.layer(), Qt::Key_Left);
    CHECK(b.player().in_slot("foot/end").front() ==
          static_cast<std::size_t>(project.document().player().control("mute") -
                                   project.document().player().controls.data()));
    QTest::keyClick(&b.layer(), Qt::Key_Up);
    CHECK(slot() == "bottom-right");
    CHECK(project.undo_text() == "mute to the bottom right corner of the picture");
    project.undo();
    CHECK(slot() == "foot/end");
    CHECK(project.selected() == "mute");
    // A copy is text that can be pasted, here or in another document.
    b.layer().setFocus();
    QTest::keyClick(&b.layer(), Qt::Key_C, Qt::ControlModifier);
    CHECK(QApplication::clipboard()->text().contains("\"kind\": \"mute\""));
    auto sources = project.document().sources.size();
    QTest::keyClick(&b.layer(), Qt::Key_V, Qt::ControlModifier);
    CHECK(project.selected() == "mute 2");
    CHECK(project.document().sources.size() == sources);
    QTest::keyClick(&b.layer(), Qt::Key_Delete);
    CHECK_FALSE(b.player().control("mute 2"));
    CHECK_FALSE(project.selected().empty());
    QTest::keyClick(&b.layer(), Qt::Key_Escape);
    CHECK(project.selected().empty());
    QApplication::clipboard()->setText("no control");
    auto before = project.document();
    QTest::keyClick(&b.layer(), Qt::Key_V, Qt::ControlModifier);
    CHECK(project.document() == before);
}

TEST_CASE("A control is dragged along the bar and onto the picture, and lands where it was shown to", "[arrange]") {
    Bench b;
    std::mt19937 random(61);
    for (int i = 0; i < 25; ++i) {
        auto names = b.layer().order();
        auto name = names[static_cast<int>(random() % static_cast<unsigned>(names.size()))].toStdString();
        auto zones = drop_zones(b.player(), b.window.player().mount_shape(), b.layout());
        auto zone = zones[random() % zones.size()];
        INFO(name << " to " << zone.words);
        auto count = b.player().controls.size();
        b.drag(name, {zone.box.x + zone.box.width / 2.0, zone.box.y + zone.box.height / 2.0});
        REQUIRE(b.player().control(name));
        CHECK(b.player().control(name)->slot == zone.slot);
        CHECK(b.player().controls.size() == count);
        CHECK(b.project().selected() == name);
    }
    // Outside the player nothing happens.
    auto before = b.project().document();
    b.drag(b.layer().order().front().toStdString(), {-40, -40});
    CHECK(b.project().document() == before);
}

TEST_CASE("A condition of one's own decides when a control is seen, and what is wrong with one is said in place",
          "[arrange]") {
    Bench b;
    b.window.mount().set_arranging(true);
    b.project().select("mute");
    auto& s = b.window.sentences();
    QString problem;
    CHECK_FALSE(s.set_value("when", "has colour", &problem));
    CHECK(problem.contains("has colour"));
    REQUIRE(s.set_value("when", "muted  or not always"));
    CHECK(b.player().control("mute")->settings.when == "muted or not always");
    auto* mute = b.window.player().control_widget("mute");
    CHECK(soon([&] { return !mute->isVisible(); }));
    b.window.player().controller().set_muted(true);
    CHECK(soon([&] { return mute->isVisible(); }));
    // Words, a size, colours: the widget follows at once.
    REQUIRE(s.set_value("show", "both"));
    REQUIRE(s.set_value("words", "Hush"));
    REQUIRE(s.set_value("size", "60"));
    CHECK(soon([&] { return mute->height() == 60 && mute->width() > 80 && mute->accessibleName() == "Hush"; }));
    // Another kind of control in its place.
    REQUIRE(s.set_value("kind", "stop"));
    CHECK(b.project().selected() == "stop");
    CHECK_FALSE(b.player().control("mute"));
    // What can never be is found.
    REQUIRE(s.set_value("when", "playing and held"));
    CHECK(soon([&] {
        auto* findings = static_cast<QTextBrowser*>(control(&b.window, "Findings"));
        return findings->toPlainText().contains("never appears");
    }));
    // And a press on its words fixes it, as one step.
    auto& found = s.findings();
    auto never = std::find_if(found.begin(), found.end(), [](auto& f) { return f.code == "never-seen"; });
    REQUIRE(never != found.end());
    s.fix(static_cast<std::size_t>(never - found.begin()));
    CHECK(b.player().control("stop")->settings.when.empty());
    CHECK(b.project().undo_text().startsWith("Use the default visibility"));
    // Only what speaks of a word is told when it is sought.
    b.project().select({});
    s.search("volume");
    CHECK(s.plain_text().contains("volume"));
    CHECK_FALSE(s.plain_text().contains("corners"));
    s.search({});
    CHECK(s.plain_text().contains("corners"));
}

TEST_CASE("Turning the handset is one press, and neither that nor arranging interrupts playing", "[arrange]") {
    auto d = document_of({"vp9_opus.webm"});
    d.mount = Mount::handset_upright;
    d.sources[0].loop.kind = Loop::Kind::all;
    Bench b(d);
    auto& view = b.window.player();
    view.controller().play();
    REQUIRE(soon([&] { return view.snapshot().state.phase == Phase::playing; }));
    auto opened = [&] {
        int n = 0;
        for (auto& e : view.controller().events()) n += e.name == "opened";
        return n;
    };
    CHECK(opened() == 1);
    for (auto* button : b.window.mount().findChildren<QPushButton*>()) {
        if (button->text() != "Turn") continue;
        auto upright = view.size();
        button->click();
        CHECK(soon([&] { return view.width() > view.height() && upright.width() < upright.height(); }));
        button->click();
        CHECK(soon([&] { return view.width() < view.height(); }));
    }
    b.window.mount().set_arranging(false);
    b.window.mount().set_arranging(true);
    CHECK(view.snapshot().state.phase == Phase::playing);
    CHECK(opened() == 1);
    // It is laid out for a handset's own pixels and seen smaller; presses land where they are seen.
    CHECK(view.mount_shape().width == 360);
    CHECK(view.scale() < 1);
    auto* rail = view.control_widget("position");
    REQUIRE(rail->isVisible());
    auto player = b.player();
    auto index = static_cast<std::size_t>(player.control("position") - player.controls.data());
    auto seen = view.seen(b.layout().controls[index].box);
    CHECK(rail->geometry() == seen);
    b.window.mount().set_arranging(false);
    view.controller().pause();
    press(rail, {rail->width() / 2.0, rail->height() / 2.0});
    let_go(rail, {rail->width() / 2.0, rail->height() / 2.0});
    CHECK(soon([&] { return std::abs((view.snapshot().position - 3_s).ns) < (60_ms).ns; }));
    view.controller().play();
    REQUIRE(soon([&] { return view.snapshot().state.phase == Phase::playing; }));
    b.window.mount().set_arranging(true);
    auto middle = rail->geometry().center();
    press(&b.layer(), middle);
    let_go(&b.layer(), middle);
    CHECK(b.project().selected() == "position");
    // Controls keep clear of what is cut out of the screen.
    auto shape = view.mount_shape();
    CHECK(shape.touch);
    for (auto& c : b.layout().controls)
        if (c.shown) CHECK(c.box.y >= shape.top);
}

TEST_CASE("A window has the size that is typed or dragged, and what is chosen on the player outlasts an edit",
          "[arrange]") {
    Bench b;
    auto& view = b.window.player();
    auto& mount = b.window.mount();
    mount.set_arranging(false);
    auto& s = b.window.sentences();
    REQUIRE(s.set_value("mount-size", "320x240"));
    CHECK(soon([&] { return view.size() == QSize(320, 240); }));
    CHECK_FALSE(s.set_value("mount-size", "320"));
    // By its lower right corner.
    auto corner = QPointF(b.window.screen().geometry().bottomRight() + QPoint(2, 2));
    press(&mount, corner);
    move(&mount, corner + QPointF(60, 40), Qt::LeftButton);
    let_go(&mount, corner + QPointF(60, 40));
    CHECK(std::abs(b.project().document().mount_width - 380) <= 4);
    CHECK(std::abs(b.project().document().mount_height - 280) <= 4);
    CHECK(b.project().undo_text() == "Size of the window");
    // Larger than the room there is, it is seen smaller.
    REQUIRE(s.set_value("mount-size", "1280x720"));
    CHECK(soon([&] { return view.mount_shape().width == 1280 && view.scale() < 0.6; }));
    // Silenced and looped on the player itself: an edit of something else leaves that alone.
    view.controller().set_muted(true);
    view.controller().set_loop({Loop::Kind::all, {}, {}});
    REQUIRE(soon([&] { return view.snapshot().muted && view.snapshot().loop.kind == Loop::Kind::all; }));
    REQUIRE(s.set_value("corner", "8"));
    pass(60);
    CHECK(view.snapshot().muted);
    CHECK(view.snapshot().loop.kind == Loop::Kind::all);
    REQUIRE(s.set_value("muted", "yes"));
    REQUIRE(s.set_value("muted", "no"));
    CHECK(soon([&] { return !view.snapshot().muted; }));
}

TEST_CASE("A word that was changed offers its default, and a condition that can never be is marked with the reason",
          "[arrange]") {
    Bench b;
    auto& s = b.window.sentences();
    b.project().select("back");
    for (auto [key, value] : {std::pair{"by_ns", "25"},
                              {"when", "muted"},
                              {"size", "60"},
                              {"show", "both"},
                              {"ink", "#8A2436"},
                              {"volume", "40"},
                              {"hide", "9"},
                              {"queue", "leave"}}) {
        INFO(key);
        auto before = b.project().document();
        CHECK_FALSE(s.reset(key));
        REQUIRE(s.set_value(key, value));
        REQUIRE(s.reset(key));
        CHECK(b.project().document() == before);
    }
    REQUIRE(s.set_value("when", "playing and held"));
    CHECK(soon([&] { return s.wrong("when").contains("never appears"); }));
    REQUIRE(s.set_value("when", "playing"));
    CHECK(soon([&] { return s.wrong("when").isEmpty(); }));
}

TEST_CASE("Side by side the other mounts show the same pictures, laid out for themselves, and nothing is decoded twice",
          "[arrange]") {
    Bench b;
    auto& view = b.window.player();
    b.window.mount().set_arranging(false);
    b.window.mount().set_side_by_side(true);
    auto mirrors = b.window.mount().mirrors();
    REQUIRE(mirrors.size() == 4);
    view.controller().play();
    REQUIRE(soon([&] { return view.snapshot().counters.presented > 10; }));
    view.controller().pause();
    REQUIRE(soon([&] { return view.snapshot().state.phase == Phase::paused; }));
    auto presented = view.snapshot().counters.presented;
    std::set<std::pair<int, int>> shapes;
    for (auto* m : mirrors) {
        CHECK(b.window.mount().rect().contains(m->geometry()));
        CHECK_FALSE(m->geometry().intersects(view.geometry()));
        shapes.insert({m->shape().width, m->shape().height});
        auto layout = m->laid_out();
        CHECK(layout.controls.size() == b.player().controls.size());
        // The picture is there: what is drawn is not of one colour.
        auto shot = m->grab().toImage();
        std::set<QRgb> colours;
        for (int x = 0; x < shot.width(); x += 3)
            for (int y = 0; y < shot.height(); y += 3) colours.insert(shot.pixel(x, y));
        CHECK(colours.size() > 20);
    }
    CHECK(shapes.size() == 4);
    CHECK(view.snapshot().counters.presented == presented);
    // A poster that stands in front of the picture does so there as well: here it is nothing but the surround.
    auto upper_colours = [&](Mirror* m) {
        auto shot = m->grab().toImage();
        std::set<QRgb> colours;
        for (int x = shot.width() / 2 - 8; x < shot.width() / 2 + 8; ++x)
            for (int y = shot.height() / 3; y < shot.height() / 3 + 8; ++y) colours.insert(shot.pixel(x, y));
        return colours.size();
    };
    CHECK(upper_colours(mirrors.back()) > 1);
    REQUIRE(b.window.sentences().set_value("poster", "none"));
    view.controller().stop();
    REQUIRE(soon([&] { return !view.poster_now().isNull(); }));
    CHECK(upper_colours(mirrors.back()) == 1);
    b.window.mount().set_side_by_side(false);
    CHECK(b.window.mount().mirrors().empty());
}

TEST_CASE("A player to begin from is chosen with a picture of it, taken over in one step, and plays",
          "[arrange][seek]") {
    Bench b(document_of({"vp9_opus.webm", "h264_high_aac.mp4"}));
    auto before = b.project().document();
    for (auto& t : templates()) {
        INFO(t.name);
        b.window.mount().choose_template();
        auto* item = static_cast<QAbstractButton*>(control(&b.window, "Start from " + text(t.name)));
        REQUIRE(item);
        item->click();
        pass(30);
        auto after = b.project().document();
        CHECK(after == with_template(before, t));
        CHECK(value(document_from_json(to_json(after), "x")) == after);
        // But for the bare picture, nothing in them stands in the way.
        for (auto& f : review(after, b.folder.path)) {
            INFO(f.sentence);
            CHECK((t.name == "bare picture" || !f.where.starts_with("/players")));
        }
        // On no usual mount does any of them fold more than half away.
        for (auto mount :
             {Mount::window, Mount::handset_upright, Mount::handset_sideways, Mount::tablet, Mount::wall}) {
            auto context = b.window.player().session().context();
            context.awake = true;
            if (t.players > 1 && mount == Mount::handset_upright) continue;  // too narrow for two of anything
            auto boxes = place_players(after.screen, after.players.size(), shape_of(mount));
            auto l = lay_out(after.player(), shape_in(shape_of(mount), boxes[0]), context, &after.sources[0]);
            auto folded = std::count_if(l.controls.begin(), l.controls.end(), [](auto& c) { return c.folded; });
            CHECK(folded * 2 <= std::ssize(l.controls));
        }
        b.project().undo();
        CHECK(b.project().document() == before);
    }
}

TEST_CASE("Two players are put together on one screen, each by itself, and controls go from one to the other",
          "[arrange]") {
    Bench b(document_of({"vp9_opus.webm", "h264_high_aac.mp4"}));
    auto& s = b.window.sentences();
    auto& screen = b.window.screen();
    auto& first = b.window.player();
    first.controller().play();
    REQUIRE(soon([&] { return first.snapshot().state.phase == Phase::playing; }));
    REQUIRE(s.set_value("players", "2"));
    REQUIRE(screen.count() == 2);
    CHECK(b.project().undo_text() == "Players on the screen");
    auto& second = screen.player(1);
    REQUIRE(soon([&] { return second.snapshot().state.phase == Phase::ready; }));
    CHECK(first.snapshot().state.phase == Phase::playing);

    // A press on the other one selects it: sentences, ring and path are its own.
    auto* ring = &b.window.ring();
    auto at = QPointF(second.geometry().center());
    at.setY(second.geometry().top() + 20);
    press(&b.layer(), at);
    let_go(&b.layer(), at);
    CHECK(b.project().player() == 1);
    CHECK(&b.window.player() == &second);
    CHECK(&b.window.ring() != ring);
    CHECK(b.window.ring().isVisible());
    CHECK_FALSE(ring->isVisible());
    CHECK(s.plain_text().contains("is the second of them"));
    REQUIRE(s.set_value("plays", "h264_high_aac.mp4"));
    CHECK(soon([&] { return second.snapshot().source == "h264_high_aac.mp4"; }));
    CHECK(b.project().current() == 1);
    CHECK_FALSE(s.set_value("plays", "no such clip"));
    REQUIRE(s.set_value("player-name", "Stairs"));
    CHECK_FALSE(s.set_value("player-name", b.project().document().player(0).name.c_str()));
    REQUIRE(s.set_value("volume", "40"));
    CHECK(soon([&] { return second.snapshot().volume == 0.4; }));
    CHECK(first.snapshot().volume == 1);

    // A new control goes where it is let go; dragged over to the other player it is that one's.
    auto onto = [&](PlayerView& view) { return QPointF(view.geometry().topLeft() + QPoint(40, 40)); };
    b.carry("title", onto(second));
    CHECK(b.player().control("title"));
    CHECK(b.project().player() == 1);
    auto box = second.layout_now()
                   .controls[static_cast<std::size_t>(b.project().spec().control("title") -
                                                      b.project().spec().controls.data())]
                   .box;
    auto from = QPointF(b.layer().seen(1, box).center());
    press(&b.layer(), from);
    for (double part : {0.3, 0.7, 1.0}) move(&b.layer(), from + (onto(first) - from) * part, Qt::LeftButton);
    let_go(&b.layer(), onto(first));
    CHECK(b.project().player() == 0);
    CHECK(b.project().selected() == "title");
    CHECK(b.project().document().player(0).control("title"));
    CHECK_FALSE(b.project().document().player(1).control("title"));
    b.project().undo();
    CHECK(b.project().document().player(1).control("title"));

    // One below the other, the second in front of the first; both go on.
    b.project().select_player(1);
    REQUIRE(s.set_value("arrangement", "column"));
    CHECK(soon([&] { return second.y() > first.y(); }));
    REQUIRE(s.set_value("place", "1"));
    CHECK(soon([&] { return second.y() < first.y(); }));
    CHECK(b.project().player() == 0);
    CHECK(&b.window.player() == &second);
    CHECK(second.snapshot().source == "h264_high_aac.mp4");
    REQUIRE(s.set_value("one-sounds", "yes"));
    second.controller().play();
    CHECK(soon([&] { return first.snapshot().muted || first.snapshot().state.phase == Phase::ended; }));

    // Side by side the other mounts show both.
    b.window.mount().set_side_by_side(true);
    for (auto* m : b.window.mount().mirrors()) CHECK(m->laid_out(1).controls.size() > 0);
    b.window.mount().set_side_by_side(false);

    // With nothing selected on it, Delete takes the player away; undone it is back.
    b.window.mount().set_arranging(true);
    b.project().select_player(0);
    b.layer().setFocus();
    key(&b.layer(), Qt::Key_Delete);
    CHECK(b.project().document().players.size() == 1);
    CHECK(screen.count() == 1);
    CHECK(&b.window.player() == &first);
    b.project().undo();
    CHECK(screen.count() == 2);
    CHECK(soon([&] { return screen.player(0).snapshot().source == "h264_high_aac.mp4"; }));
}

TEST_CASE("A finger presses and drags what a mouse does, in use and while arranging", "[arrange]") {
    auto* finger = QTest::createTouchDevice();
    Bench b;
    b.window.mount().set_arranging(false);
    pass(30);
    auto* toggle = b.window.player().control_widget("toggle");
    auto tap = [&](QWidget* on, QPoint at) {
        QTest::touchEvent(on, finger).press(0, at);
        QTest::touchEvent(on, finger).release(0, at);
    };
    tap(toggle, toggle->rect().center());
    CHECK(soon([&] { return b.window.player().snapshot().state.phase == Phase::playing; }));
    tap(toggle, toggle->rect().center());
    CHECK(soon([&] { return b.window.player().snapshot().state.phase == Phase::paused; }));
    auto* position = b.window.player().control_widget("position");
    auto along = [&](double part) {
        return QPoint(static_cast<int>(position->width() * part), position->height() / 2);
    };
    QTest::touchEvent(position, finger).press(0, along(0.2));
    for (double part : {0.3, 0.5, 0.7}) QTest::touchEvent(position, finger).move(0, along(part));
    QTest::touchEvent(position, finger).release(0, along(0.7));
    CHECK(soon([&] {
        auto now = b.window.player().snapshot();
        return !now.state.seeking && now.position > 3600_ms && now.position < 4800_ms;
    }));
    // Arranging, a tap selects and a finger carries.
    b.window.mount().set_arranging(true);
    pass(30);
    auto from = b.middle("toggle").toPoint(), to = b.middle("volume").toPoint() + QPoint(4, 0);
    auto before = b.player().control("toggle")->slot;
    tap(&b.layer(), from);
    CHECK(b.project().selected() == "toggle");
    QTest::touchEvent(&b.layer(), finger).press(0, from);
    for (double part : {0.3, 0.6, 1.0}) QTest::touchEvent(&b.layer(), finger).move(0, from + ((to - from) * part));
    QTest::touchEvent(&b.layer(), finger).release(0, to);
    pass(30);
    CHECK(b.player().control("toggle")->slot != before);
    b.project().undo();
    CHECK(b.player().control("toggle")->slot == before);
}

TEST_CASE("Two windows are two workshops: each plays, is pressed, changed and closed on its own", "[arrange]") {
    auto first = std::make_unique<Bench>();
    Bench second(document_of({"h264_high_aac.mp4"}));
    for (auto* b : {first.get(), &second}) b->window.mount().set_arranging(false);
    auto phase = [](Bench& b) { return b.window.player().snapshot().state.phase; };
    first->window.player().controller().play();
    REQUIRE(soon([&] { return phase(*first) == Phase::playing; }));
    CHECK(phase(second) == Phase::ready);
    second.window.activateWindow();
    second.window.player().setFocus();
    pass(30);
    QTest::keyClick(&second.window, Qt::Key_Space, Qt::ControlModifier);
    CHECK(soon([&] { return phase(second) == Phase::playing; }));
    CHECK(phase(*first) == Phase::playing);
    second.project().set_current(0);
    second.window.mount().set_arranging(true);
    second.project().select("volume");
    QTest::keyClick(&second.layer(), Qt::Key_Delete);
    CHECK_FALSE(second.player().control("volume"));
    CHECK(first->player().control("volume"));
    CHECK_FALSE(first->project().can_undo());
    auto events = second.window.player().controller().events().size();
    first.reset();
    pass(100);
    CHECK(phase(second) == Phase::playing);
    auto all = second.window.player().controller().events(events);
    for (auto& e : all) CHECK(e.name != "error");
    second.project().undo();
    CHECK(second.player().control("volume"));
}

TEST_CASE("What is dropped while arranging joins the shelf, and what is under way goes on", "[arrange]") {
    Bench b;
    b.window.player().controller().play();
    REQUIRE(soon([&] { return b.window.player().snapshot().state.phase == Phase::playing; }));
    b.project().select("toggle");
    auto drop = [&](const QMimeData& what) {
        QDragEnterEvent enter({300, 300}, Qt::CopyAction, &what, Qt::LeftButton, {});
        QApplication::sendEvent(&b.window, &enter);
        if (!enter.isAccepted()) return false;
        QDropEvent dropped({300, 300}, Qt::CopyAction, &what, Qt::LeftButton, {});
        QApplication::sendEvent(&b.window, &dropped);
        return true;
    };
    QMimeData files;
    files.setUrls({QUrl::fromLocalFile(QString::fromStdString(fixture("h264_high_aac.mp4").string())),
                   QUrl::fromLocalFile(QString::fromStdString(fixture("audio.flac").string()))});
    // In the middle of dragging a control, too.
    auto from = b.middle("toggle");
    press(&b.layer(), from);
    move(&b.layer(), from + QPointF(40, 0), Qt::LeftButton);
    CHECK(drop(files));
    CHECK(soon([&] { return b.project().document().sources.size() == 3; }));
    move(&b.layer(), from, Qt::LeftButton);
    let_go(&b.layer(), from);
    CHECK(b.project().selected() == "toggle");
    CHECK(b.window.mount().arranging());
    CHECK(b.window.player().snapshot().state.phase == Phase::playing);
    CHECK(b.window.player().snapshot().source == "vp9_opus.webm");
    QMimeData nothing;
    nothing.setData("application/x-other", "?");
    CHECK_FALSE(drop(nothing));
    CHECK(b.project().document().sources.size() == 3);
    b.project().undo();
    CHECK(b.project().document().sources.size() < 3);
    CHECK(b.window.player().snapshot().source == "vp9_opus.webm");
}
