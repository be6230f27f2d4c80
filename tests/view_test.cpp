// SPDX-License-Identifier: GPL-3.0-or-later
// The player's widget, driven as a hand would.
#include <QAbstractButton>
#include <QAccessible>
#include <QImage>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QTest>
#include <QTimer>
#include <set>
#include <thread>

#include "streams.h"
#include "view/look.h"
#include "window_support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Seat {
    PlaybackHost host{false};
    PlayerView view{host};
    explicit Seat(const PlayerDocument& d, QSize size = {640, 420}) {
        view.set_standalone();
        view.resize(size);
        view.show();
        view.load(d, 0, "/");
    }
    bool phase(Phase wanted) {
        return soon([&] { return view.snapshot().state.phase == wanted && !view.snapshot().state.seeking; });
    }
    /// The number of the frame that is on the screen.
    std::optional<int> frame() {
        QImage shot(view.surface().size(), QImage::Format_RGB32);
        view.surface().render(&shot);
        auto r = view.surface().video_rect().toAlignedRect();
        auto part = shot.copy(r);
        RgbImage image{part.width(), part.height(), {}};
        image.pixels.assign(part.constBits(), part.constBits() + part.sizeInBytes());
        return demo::read_strip(image);
    }
};
}  // namespace

TEST_CASE("The first frame is held in its right shape, with a large mark to begin", "[view]") {
    for (auto name : {"vp9_opus.webm", "rotate90.mp4", "par43_sps.mp4", "odd_853x481_vp9.webm"}) {
        INFO(name);
        Seat seat(document_of({name}));
        REQUIRE(seat.phase(Phase::ready));
        REQUIRE(soon([&] { return seat.frame() == 0; }));
        auto display = facts(name)["tracks"][0]["display"];
        auto r = seat.view.surface().video_rect();
        CHECK(std::abs(r.width() / r.height() - display[0].get<double>() / display[1].get<double>()) < 0.02);
        auto* mark = control(&seat.view, "Play from the start");
        REQUIRE(mark);
        CHECK(soon([&] { return mark->isVisible(); }));
        click(mark);
        CHECK(seat.phase(Phase::playing));
        CHECK(soon([&] { return !mark->isVisible(); }));
        CHECK(soon([&] { return seat.frame().value_or(0) > 3; }));
    }
}

TEST_CASE("The toggle shows what a press will do, whoever changed the state", "[view]") {
    Seat seat(document_of({"vp9_opus.webm"}));
    REQUIRE(seat.phase(Phase::ready));
    auto* toggle = control(&seat.view, "Play");
    REQUIRE(toggle);
    click(toggle);
    CHECK(soon([&] { return toggle->accessibleName() == "Pause"; }));
    seat.view.controller().pause();  // not through the button
    CHECK(soon([&] { return toggle->accessibleName() == "Play"; }));
    toggle->setFocus();
    key(toggle, Qt::Key_Space);
    CHECK(soon([&] { return toggle->accessibleName() == "Pause"; }));
    seat.view.controller().seek(5900_ms);
    CHECK(seat.phase(Phase::ended));
    CHECK(soon([&] { return toggle->accessibleName() == "Play"; }));
}

TEST_CASE("Dragging the position seeks while it moves and lands exactly when let go", "[view][seek]") {
    Seat seat(document_of({"h264_high_aac.mp4"}));
    REQUIRE(seat.phase(Phase::ready));
    auto* slider = control(&seat.view, "Position");
    REQUIRE(slider);
    REQUIRE(soon([&] { return slider->isEnabled(); }));
    double from = 8, wide = slider->width() - 16.0, y = slider->height() / 2.0;
    press(slider, {from + wide * 0.1, y});
    for (int i = 1; i <= 10; ++i) move(slider, {from + wide * (0.1 + 0.06 * i), y}, Qt::LeftButton), pass(10);
    let_go(slider, {from + wide * 0.7, y});
    REQUIRE(soon([&] {
        auto s = seat.view.snapshot();
        return !s.state.seeking && std::abs((s.position - 4200_ms).ns) < (30_ms).ns;
    }));
    CHECK(soon([&] {
        auto f = seat.frame();
        return f && std::abs(*f - 126) <= 1;
    }));
    key(slider, Qt::Key_Home);
    CHECK(soon([&] { return seat.view.snapshot().position == Time{} && seat.frame() == 0; }));
    key(slider, Qt::Key_Right);
    CHECK(soon([&] { return seat.view.snapshot().position >= 1_s; }));
}

TEST_CASE("While the position is dragged the picture of the place stands above it, where that is wanted", "[view]") {
    auto d = document_of({"h264_high_aac.mp4"});
    for (bool wanted : {true, false}) {
        for (auto& c : d.player().controls) c.settings.stills = wanted;
        Seat seat(d);
        REQUIRE(seat.phase(Phase::ready));
        auto* slider = control(&seat.view, "Position");
        REQUIRE(slider);
        REQUIRE(soon([&] { return slider->isEnabled(); }));
        double y = slider->height() / 2.0;
        auto still = [&] { return control(&seat.view, "Frame under the pointer"); };
        press(slider, {slider->width() * 0.3, y});
        if (!wanted) {
            pass(150);
            CHECK_FALSE(still());
            let_go(slider, {slider->width() * 0.3, y});
            continue;
        }
        REQUIRE(soon([&] { return still() && still()->isVisible(); }));
        auto before = still()->geometry();
        CHECK(before.bottom() <= slider->y());
        CHECK(seat.view.rect().contains(before));
        auto shot = still()->grab().toImage();
        std::set<QRgb> colours;
        for (int x = 2; x < shot.width() - 2; ++x) colours.insert(shot.pixel(x, shot.height() / 2));
        CHECK(colours.size() > 8);
        // It goes with the hand, and stays inside.
        move(slider, {slider->width() - 9.0, y}, Qt::LeftButton);
        CHECK(soon([&] { return still()->x() > before.x(); }));
        CHECK(seat.view.rect().contains(still()->geometry()));
        let_go(slider, {slider->width() - 9.0, y});
        CHECK_FALSE(still()->isVisible());
    }
}

TEST_CASE("Skips, volume and mute do what they say", "[view]") {
    auto d = document_of({"vp9_opus.webm"});
    for (auto& c : d.player().controls) c.settings.by = 2_s;
    Seat seat(d);
    REQUIRE(seat.phase(Phase::ready));
    auto* forward = control(&seat.view, "Forward 2 seconds");
    auto* back = control(&seat.view, "Back 2 seconds");
    REQUIRE(forward);
    REQUIRE(back);
    click(forward);
    click(forward);
    CHECK(soon([&] { return seat.view.snapshot().position == 4_s; }));
    click(back);
    CHECK(soon([&] { return seat.view.snapshot().position == 2_s; }));
    auto* volume = control(&seat.view, "Volume");
    REQUIRE(volume);
    key(volume, Qt::Key_Home);
    CHECK(soon([&] { return seat.view.snapshot().volume == 0; }));
    // The dial is open at its foot: half way up is at the top, its ends are left and right of the opening.
    auto middle = QPointF(volume->width() / 2.0, volume->height() / 2.0);
    for (auto [dx, dy, level] : {std::tuple{0, -15, 0.5},
                                 {-15, 0, 1 / 6.0},
                                 {15, 0, 5 / 6.0},
                                 {-11, 11, 0.0},
                                 {11, 11, 1.0},
                                 {-4, 16, 0.0},
                                 {4, 16, 1.0},
                                 {0, -15, 0.5}}) {
        INFO("at " << dx << ", " << dy);
        press(volume, middle + QPointF(dx, dy));
        let_go(volume, middle + QPointF(dx, dy));
        CHECK(soon([&, wanted = level] { return std::abs(seat.view.snapshot().volume - wanted) < 0.02; }));
    }
    auto* mute = control(&seat.view, "Sound off");
    REQUIRE(mute);
    click(mute);
    CHECK(soon([&] { return seat.view.snapshot().muted && mute->accessibleName() == "Sound on"; }));
}

TEST_CASE("Controls hide while it plays without the pointer and come back for pointer and key", "[view]") {
    auto d = document_of({"vp9_opus.webm"});
    d.player().hide_after = 1_s;
    d.sources[0].loop.kind = Loop::Kind::all;
    Seat seat(d);
    REQUIRE(seat.phase(Phase::ready));
    pass(1300);
    CHECK(seat.view.controls_shown());  // held: they stay
    auto* mute = control(&seat.view, "Sound off");
    REQUIRE(mute);
    seat.view.setFocus();
    seat.view.controller().play();
    REQUIRE(seat.phase(Phase::playing));
    CHECK(soon([&] { return !seat.view.controls_shown(); }, 4000));
    move(&seat.view.surface(), {50, 50});
    CHECK(seat.view.controls_shown());
    CHECK(soon([&] { return !seat.view.controls_shown(); }, 4000));
    key(&seat.view, Qt::Key_Tab);
    CHECK(seat.view.controls_shown());
    // Hiding one that has the keyboard calls none of them back; who reads them unseen reads what is true.
    mute->setFocus(Qt::TabFocusReason);
    CHECK(soon([&] { return !seat.view.controls_shown(); }, 4000));
    pass(300);
    CHECK_FALSE((seat.view.controls_shown() || mute->isVisible()));
    CHECK(mute->accessibleName() == "Sound off");
    seat.view.controller().set_muted(true);
    CHECK(soon([&] { return mute->accessibleName() == "Sound on"; }));
    CHECK((!mute->isVisible() && seat.view.hasFocus()));
    move(&seat.view.surface(), {60, 60});
    CHECK((mute->isVisible() && mute->hasFocus()));
}

TEST_CASE("Controls stay while a menu that one of them opened is looked at, and it goes when its control does",
          "[view]") {
    auto d = document_of({"vp9_opus.webm"});
    d.player().hide_after = 1_s;
    d.sources[0].loop.kind = Loop::Kind::all;
    Seat seat(d, {240, 200});
    REQUIRE(seat.phase(Phase::ready));
    seat.view.controller().play();
    REQUIRE(seat.phase(Phase::playing));
    auto* more = control(&seat.view, "More");
    REQUIRE((more && soon([&] { return more->isVisible(); })));
    click(more);
    auto* menu = dynamic_cast<QMenu*>(QApplication::activePopupWidget());
    REQUIRE(menu);
    pass(1800);
    CHECK((seat.view.controls_shown() && QApplication::activePopupWidget() == menu));
    menu->close();
    CHECK(soon([&] { return !seat.view.controls_shown(); }, 4000));

    auto with = document_of({"text_webvtt.mkv"});
    with.player().put({.kind = &control_kind("tracks"), .name = "choices"}, "top-left");
    Seat chosen(with);
    REQUIRE(chosen.phase(Phase::ready));
    auto* track_options = chosen.view.control_widget("choices");
    REQUIRE((track_options && soon([&] { return track_options->isVisible() && track_options->isEnabled(); })));
    click(track_options);
    REQUIRE(QApplication::activePopupWidget());
    std::erase_if(with.player().controls, [](auto& c) { return c.name == "choices"; });
    chosen.view.apply(with, 0);
    QApplication::sendPostedEvents(nullptr, QEvent::DeferredDelete);
    CHECK(QApplication::activePopupWidget() == nullptr);
    CHECK(chosen.view.snapshot().state.phase == Phase::ready);
}

TEST_CASE("Resizing neither stops playing nor leaves the picture in the wrong place", "[view]") {
    auto d = document_of({"vp9_opus.webm"});
    d.sources[0].start.how = Start::How::play;
    d.sources[0].loop.kind = Loop::Kind::all;
    Seat seat(d);
    REQUIRE(seat.phase(Phase::playing));
    std::mt19937 random(20);
    auto before = seat.view.snapshot().counters.presented;
    for (int i = 0; i < 40; ++i) {
        seat.view.resize(200 + static_cast<int>(random() % 700), 160 + static_cast<int>(random() % 500));
        pass(25);
        auto r = seat.view.surface().video_rect();
        CHECK(std::abs(r.center().x() - seat.view.width() / 2.0) < 1.5);
        CHECK(std::abs(r.center().y() - seat.view.height() / 2.0) < 1.5);
        CHECK(std::abs(r.width() / r.height() - 16.0 / 9) < 0.03);
    }
    CHECK(seat.view.snapshot().state.phase == Phase::playing);
    CHECK(soon([&] { return seat.view.snapshot().counters.presented > before + 15; }));
    seat.view.controller().pause();
    REQUIRE(seat.phase(Phase::paused));
    seat.view.resize(900, 300);
    auto at = seat.view.snapshot().shown;
    CHECK(soon([&] {
        auto f = seat.frame();
        return f && std::abs(*f - time_to_ticks(at, 30)) <= 1;
    }));
    // What was made at a size is not made anew for a change that leaves the size.
    auto& surface = seat.view.surface();
    auto fits = [&] {
        return surface.still().size() == (surface.video_rect().size() * surface.devicePixelRatioF()).toSize();
    };
    REQUIRE(soon(fits));
    pass(50);
    auto made = surface.still();
    for (int corner : {12, 4, 0}) {
        VideoSpec look;
        look.corner = corner;
        surface.set_look(look);
        pass(50);
        CHECK(surface.still().constBits() == made.constBits());
    }
    seat.view.resize(700, 460);
    CHECK(soon([&] { return fits() && surface.still().constBits() != made.constBits(); }));
}

TEST_CASE("An error stands where the picture would be, with a way to try again", "[view]") {
    Folder folder;
    PlayerDocument d;
    SourceSpec s;
    s.file = "late.webm";
    d.sources = {s};
    PlaybackHost host{false};
    PlayerView view(host);
    view.resize(500, 400);
    view.show();
    view.load(d, 0, folder.path);
    REQUIRE(soon([&] { return view.snapshot().state.phase == Phase::failed; }));
    auto* sentence = view.control_widget("failure");
    REQUIRE(sentence);
    REQUIRE(soon([&] { return sentence->isVisible() && sentence->accessibleName().contains("late.webm"); }));
    fs::copy_file(fixture("vp9_opus.webm"), folder / "late.webm");
    click(view.control_widget("retry"));
    CHECK(soon([&] { return view.snapshot().state.phase == Phase::ready; }));
    CHECK(soon([&] { return !sentence->isVisible(); }));
}

TEST_CASE("The keys of the player work, and every control can be named and reached", "[view]") {
    Seat seat(document_of({"vp9_opus.webm"}));
    REQUIRE(seat.phase(Phase::ready));
    auto trigger = [&](const QKeySequence& keys) {
        for (auto* a : seat.view.actions())
            if (a->shortcut() == keys) {
                a->trigger();
                return true;
            }
        return false;
    };
    REQUIRE(trigger(Qt::CTRL | Qt::Key_Space));
    CHECK(seat.phase(Phase::playing));
    REQUIRE(trigger(Qt::Key_Space));
    CHECK(seat.phase(Phase::paused));
    seat.view.controller().seek(3_s);
    CHECK(soon([&] { return seat.view.snapshot().position == 3_s; }));
    REQUIRE(trigger(Qt::ALT | Qt::SHIFT | Qt::Key_Right));
    CHECK(soon([&] { return seat.view.snapshot().position == 3033_ms; }));
    REQUIRE(trigger(Qt::ALT | Qt::SHIFT | Qt::Key_Left));
    CHECK(soon([&] { return seat.view.snapshot().position == 3_s; }));
    REQUIRE(trigger(Qt::ALT | Qt::Key_Down));
    CHECK(soon([&] { return seat.view.snapshot().volume < 0.97; }));
    REQUIRE(trigger(Qt::Key_F11));
    CHECK(soon([&] { return seat.view.in_full_screen(); }));
    REQUIRE(trigger(Qt::Key_Escape));
    CHECK(soon([&] { return !seat.view.in_full_screen(); }));
    CHECK(seat.view.snapshot().position == 3_s);  // the same player, not restarted
    int reachable = 0;
    for (auto* w : seat.view.findChildren<QWidget*>())
        if (w->isVisible() && (w->focusPolicy() & Qt::TabFocus)) {
            CHECK_FALSE((w->accessibleName().isEmpty() && !qobject_cast<QAbstractButton*>(w)));
            CHECK(w->width() >= 44);
            CHECK(w->height() >= 44);
            ++reachable;
        }
    CHECK(reachable >= 7);
}

TEST_CASE("A screen reader names, reads, presses and sets what is on a player", "[view]") {
    auto d = document_of({"h264_high_aac.mp4"});
    d.player().put({.kind = &control_kind("time"), .name = "said"}, "top-left");
    Seat seat(d);
    REQUIRE(seat.phase(Phase::ready));
    auto spoken = [](QWidget* w) { return QAccessible::queryAccessibleInterface(w); };
    // Whatever shows has a part to play and a name.
    int pressed = 0, set = 0, read = 0;
    auto shown = [&](const char* name) {
        auto* w = control(&seat.view, name);
        return w && w->isVisible();
    };
    // The player is ready before its controls have heard of it.
    REQUIRE(soon([&] {
        auto* heard = spoken(control(&seat.view, "Position"))->valueInterface();
        return heard && heard->maximumValue().toInt() == static_cast<int>(seat.view.snapshot().duration.ms()) &&
               shown("Position") && shown("Volume") && shown("Play") && shown("Play from the start");
    }));
    for (auto* w : seat.view.findChildren<QWidget*>()) {
        if (!w->isVisible() || !(dynamic_cast<ShowsControl*>(w) || w == &seat.view.surface())) continue;
        auto* i = spoken(w);
        REQUIRE(i);
        INFO(i->text(QAccessible::Name).toStdString());
        CHECK_FALSE(i->text(QAccessible::Name).isEmpty());
        CHECK(i->role() != QAccessible::Client);
        CHECK(i->role() != QAccessible::NoRole);
        pressed += i->actionInterface() && i->actionInterface()->actionNames().contains("Press");
        set += i->valueInterface() != nullptr;
        read += i->role() == QAccessible::StaticText && i->text(QAccessible::Name).contains(':');
    }
    CHECK(pressed >= 4);
    CHECK(set == 2);
    CHECK(read == 1);
    CHECK(spoken(&seat.view)->text(QAccessible::Name) == "Player");
    CHECK(spoken(&seat.view.surface())->text(QAccessible::Name) == "Picture of h264_high_aac.mp4");
    CHECK(spoken(seat.view.control_widget("failure"))->role() == QAccessible::AlertMessage);
    // What it sets is done, as if by hand; what plays by itself sets nothing.
    auto* position = spoken(control(&seat.view, "Position"))->valueInterface();
    auto* volume = spoken(control(&seat.view, "Volume"))->valueInterface();
    REQUIRE((position && volume));
    CHECK(position->maximumValue().toInt() == static_cast<int>(seat.view.snapshot().duration.ms()));
    position->setCurrentValue(4200);
    CHECK(soon([&] { return seat.view.snapshot().position == 4200_ms && seat.frame() == 126; }));
    volume->setCurrentValue(35);
    CHECK(soon([&] { return std::abs(seat.view.snapshot().volume - 0.35) < 0.01; }));
    auto seeks = [&] {
        auto events = seat.view.controller().events(0);
        return std::count_if(events.begin(), events.end(),
                             [](auto& e) { return e.name == "call" && e.detail.starts_with("seek"); });
    };
    auto before = seeks();
    spoken(control(&seat.view, "Play"))->actionInterface()->doAction("Press");
    REQUIRE(seat.phase(Phase::playing));
    CHECK(soon([&] { return position->currentValue().toInt() >= 5000; }));
    CHECK(seeks() == before);
}

TEST_CASE("Sound and captions of a stream are chosen while it plays, from the player itself", "[view][captions]") {
    Folder folder;
    fs::copy(made_ladder().path, folder / "ladder", fs::copy_options::recursive);
    auto master = folder / "ladder/master.m3u8";
    auto text = text_of(master);
    put_text(folder / "ladder/said/list.m3u8",
             "#EXTM3U\n#EXT-X-TARGETDURATION:6\n#EXTINF:6,\none.vtt\n#EXT-X-ENDLIST\n");
    put_text(folder / "ladder/said/one.vtt", "WEBVTT\n\n00:00.000 --> 00:06.000\nthe whole while\n");
    auto more = [&](const std::string& kind, const std::string& group, const std::string& name, const std::string& at) {
        auto line = fmt::format("#EXT-X-MEDIA:TYPE={},GROUP-ID=\"{}\",NAME=\"{}\",LANGUAGE=\"{}\",URI=\"{}\"\n", kind,
                                group, name, name == "Deutsch" ? "de" : "en", at);
        text.insert(text.find("#EXT-X-STREAM-INF"), line);
    };
    more("AUDIO", "sound", "Deutsch", "sound/m4s/list.m3u8");
    more("SUBTITLES", "said", "English", "said/list.m3u8");
    for (std::size_t at = 0; (at = text.find("AUDIO=\"sound\"", at)) != text.npos; at += 30)
        text.insert(at, "SUBTITLES=\"said\",");
    put_text(master, text);
    PlayerDocument d;
    SourceSpec source;
    source.name = "coast", source.file = master.string();
    d.sources = {source};
    d.player().put({.kind = &control_kind("tracks"), .name = "choices"}, "top-left");
    Seat seat(d);
    REQUIRE(seat.phase(Phase::ready));
    seat.view.controller().play();
    REQUIRE(seat.phase(Phase::playing));
    auto now = [&] { return seat.view.snapshot(); };
    auto choose = [&](const QString& words) {
        bool pressed = false;
        click(seat.view.control_widget("choices"));
        auto* menu = dynamic_cast<QMenu*>(QApplication::activePopupWidget());
        REQUIRE(menu);
        for (auto* a : menu->actions())
            if (a->text().startsWith(words)) a->trigger(), pressed = true;
        menu->close();
        return pressed;
    };
    auto of = [&](Kind kind, std::string_view language) {
        for (auto& c : *now().track_options)
            if (c.kind == kind && c.language == language) return c.id;
        return std::uint64_t{0};
    };
    auto before = now().audio_track;
    auto deutsch = of(Kind::audio, "de");
    REQUIRE((deutsch != 0 && deutsch != before));
    REQUIRE(soon([&] { return choose("Sound: German"); }));
    CHECK(soon([&] { return now().audio_track == deutsch && now().level > 0; }));
    REQUIRE(soon([&] { return choose("Captions: English"); }));
    CHECK(soon([&] {
        auto* shown = control(&seat.view, "Captions");
        return now().text_track == of(Kind::text, "en") && shown->isVisible() &&
               shown->accessibleDescription() == "the whole while";
    }));
    REQUIRE(soon([&] { return choose("No captions"); }));
    CHECK(soon([&] { return now().text_track == 0 && !control(&seat.view, "Captions")->isVisible(); }));
    CHECK(soon([&] { return now().state.phase == Phase::ended; }));
    CHECK(now().error == std::nullopt);
}

TEST_CASE("Captions stand where their settings say, and go when they are over", "[view][captions]") {
    Folder folder;
    std::string vtt =
        "WEBVTT\n\n00:00.000 --> 00:02.000\nbelow\n\n00:00.000 --> 00:02.000 line:0 align:start position:0%\nabove\n";
    put(folder / "c.en.vtt", {reinterpret_cast<const std::uint8_t*>(vtt.data()), vtt.size()});
    auto d = document_of({"vp9_opus.webm"});
    d.sources[0].captions = {(folder / "c.en.vtt").string()};
    d.sources[0].text_language = "en";
    Seat seat(d, {800, 500});
    REQUIRE(seat.phase(Phase::ready));
    auto& layer = seat.view.captions();
    REQUIRE(soon([&] { return layer.isVisible() && layer.lines().size() == 2; }));
    // Bright words on dark plates: one at the top left, one low in the middle, above the controls.
    QImage shot(layer.size(), QImage::Format_ARGB32);
    shot.fill(Qt::transparent);
    layer.render(&shot, {}, {}, QWidget::DrawChildren);
    auto p = seat.view.surface().video_rect();
    auto covered = [&](double x0, double x1, double y0, double y1) {
        for (int y = static_cast<int>(p.top() + p.height() * y0); y < p.top() + p.height() * y1; ++y)
            for (int x = static_cast<int>(p.left() + p.width() * x0); x < p.left() + p.width() * x1; ++x)
                if (shot.rect().contains(x, y) && qAlpha(shot.pixel(x, y)) > 100) return true;
        return false;
    };
    CHECK(covered(0, 0.3, 0, 0.2));
    CHECK_FALSE(covered(0.4, 1, 0, 0.4));
    CHECK(covered(0.4, 0.6, 0.6, 1));
    CHECK_FALSE(covered(0, 0.3, 0.4, 1));
    auto* tracks = control(&seat.view, "Sound and captions");
    REQUIRE(tracks);
    CHECK(soon([&] { return tracks->isVisible(); }));
    seat.view.controller().seek(3_s);
    CHECK(soon([&] { return !layer.isVisible(); }));
    seat.view.controller().seek(1_s);
    CHECK(soon([&] { return layer.isVisible(); }));
    seat.view.controller().choose_text(0);
    CHECK(soon([&] { return !layer.isVisible(); }));
}

TEST_CASE("Two players share a window: keys belong to the one that has the focus, else to the chief one", "[view]") {
    PlaybackHost host(false);
    QWidget window;
    window.resize(900, 420);
    std::array<PlayerView*, 2> views{};
    for (std::size_t i = 0; i < 2; ++i) {
        views[i] = new PlayerView(host, &window);
        views[i]->setGeometry(static_cast<int>(i) * 450, 0, 440, 400);
        views[i]->load(document_of({"vp9_opus.webm"}), 0, "/");
    }
    auto* other = new QLineEdit(&window);
    other->setGeometry(0, 400, 100, 20);
    views[0]->take_keys_everywhere();
    window.show();
    window.activateWindow();
    auto both = [&](Phase first, Phase second) {
        return soon(
            [&] { return views[0]->snapshot().state.phase == first && views[1]->snapshot().state.phase == second; });
    };
    REQUIRE(both(Phase::ready, Phase::ready));
    auto press_toggle = [&](QWidget* at) {
        at->setFocus();
        pass(30);
        QTest::keyClick(QApplication::focusWidget(), Qt::Key_Space, Qt::ControlModifier);
    };
    press_toggle(views[1]);
    CHECK(both(Phase::ready, Phase::playing));
    press_toggle(control(views[1], "Position"));
    CHECK(both(Phase::ready, Phase::paused));
    press_toggle(other);
    CHECK(both(Phase::playing, Phase::paused));
    press_toggle(views[0]);
    CHECK(both(Phase::paused, Phase::paused));
}

TEST_CASE("A queue plays the next source in the same view, and a strip loads what is pressed", "[view]") {
    auto d = document_of({"audio_info.mp3", "vp9_opus.webm", "rotate90.mp4"});
    auto& p = d.player();
    p.at_end = AtEnd::next;
    std::erase_if(p.controls, [](auto& c) { return c.slot == "foot/start"; });
    for (auto kind : {"previous", "toggle", "next"}) p.put({.kind = &control_kind(kind)}, "foot/start");
    p.put({.kind = &control_kind("strip")}, "foot/middle");
    Seat seat(d, {900, 500});
    REQUIRE(seat.phase(Phase::ready));
    std::vector<std::size_t> turned;
    seat.view.on_turned = [&](std::size_t i) { turned.push_back(i); };
    auto* strip = control(&seat.view, "Sources");
    REQUIRE(strip);
    CHECK(soon([&] { return strip->isVisible(); }));
    CHECK_FALSE(control(&seat.view, "Previous source")->isEnabled());
    seat.view.controller().seek(2_s);
    seat.view.controller().play();
    REQUIRE(soon([&] { return turned == std::vector<std::size_t>{1}; }));
    CHECK(seat.view.index() == 1);
    CHECK(soon([&] { return seat.frame().value_or(-1) > 3; }));
    CHECK(seat.view.snapshot().state.phase == Phase::playing);
    // The third poster: as wide as the others.
    press(strip, {2 * 70 + 20, 30});
    let_go(strip, {2 * 70 + 20, 30});
    REQUIRE(soon([&] {
        return seat.view.index() == 2 && seat.view.snapshot().source == "rotate90.mp4" &&
               seat.view.snapshot().state.phase == Phase::playing;
    }));
    CHECK(soon([&] { return !control(&seat.view, "Next source")->isEnabled(); }));
    click(control(&seat.view, "Previous source"));
    REQUIRE(soon([&] { return seat.view.index() == 1 && seat.view.snapshot().source == "vp9_opus.webm"; }));
    seat.view.on_turned = {};
}

TEST_CASE("A poster stands until it is started, and never over the moving picture", "[view]") {
    Folder folder;
    QImage red(320, 180, QImage::Format_RGB32);
    red.fill(QColor(200, 20, 20));
    for (auto name : {"p.png", "p.jpg"}) {
        REQUIRE(red.save(QString::fromStdString((folder / name).string())));
        auto d = document_of({"vp9_opus.webm"});
        d.sources[0].poster = (folder / name).string();
        Seat seat(d, {640, 360});
        REQUIRE(seat.phase(Phase::ready));
        auto* poster = control(&seat.view, "Poster");
        REQUIRE(poster);
        REQUIRE(soon([&] { return poster->isVisible(); }));
        QImage shot(poster->size(), QImage::Format_RGB32);
        poster->render(&shot);
        CHECK(qRed(shot.pixel(320, 60)) > 150);
        CHECK(qGreen(shot.pixel(320, 60)) < 60);
        auto* mark = control(&seat.view, "Play from the start");
        REQUIRE(soon([&] { return mark->isVisible(); }));
        click(mark);
        REQUIRE(seat.phase(Phase::playing));
        REQUIRE(soon([&] { return seat.frame().value_or(-1) > 2; }));
        CHECK_FALSE(poster->isVisible());
    }
}

TEST_CASE("A chosen frame stands as the poster, or nothing at all, and both are gone once it plays", "[view]") {
    auto d = document_of({"vp9_opus.webm"});
    for (int frame : {90, -1}) {
        d.sources[0].poster_at = frame < 0 ? std::nullopt : std::optional(ticks_to_time(frame, 1, 30));
        d.sources[0].no_poster = frame < 0;
        Seat seat(d, {640, 360});
        REQUIRE(seat.phase(Phase::ready));
        auto* poster = control(&seat.view, "Poster");
        auto seen = [&]() -> std::optional<int> {
            QImage shot(poster->size(), QImage::Format_RGB32);
            poster->render(&shot);
            RgbImage image{shot.width(), shot.height(), {}};
            image.pixels.assign(shot.constBits(), shot.constBits() + shot.sizeInBytes());
            return demo::read_strip(image);
        };
        REQUIRE(soon([&] { return poster->isVisible(); }));
        if (frame < 0)
            CHECK_FALSE(seen());
        else
            CHECK(soon([&] { return seen() == frame; }));
        seat.view.controller().play();
        REQUIRE(seat.phase(Phase::playing));
        CHECK(soon([&] { return !poster->isVisible() && seat.frame().value_or(0) > 2; }));
    }
}

TEST_CASE("At every size the controls that are shown have room, and the large mark leaves them alone", "[view]") {
    std::vector<PlayerDocument> documents{document_of({"vp9_opus.webm"}), document_of({"rotate90.mp4"}),
                                          document_of({"two_audio_languages.mkv"}), document_of({"audio_opus.ogg"})};
    documents[0].player().put({.kind = &control_kind("strip")}, "foot/middle");
    for (auto kind : {"previous", "next"}) documents[2].player().put({.kind = &control_kind(kind)}, "foot/start");
    std::mt19937 random(101);
    for (auto& d : documents) {
        INFO(d.sources[0].name);
        Seat seat(d);
        REQUIRE(seat.phase(Phase::ready));
        std::vector<QSize> sizes{{223, 447}, {447, 223}, {360, 780},  {780, 360},
                                 {701, 445}, {320, 240}, {1280, 720}, {240, 300}};
        for (int i = 0; i < 12; ++i)
            sizes.emplace_back(224 + static_cast<int>(random() % 1000), 220 + static_cast<int>(random() % 600));
        for (auto size : sizes) {
            INFO("in " << size.width() << " x " << size.height());
            seat.view.resize(size);
            pass(130);  // the view follows ten times a second
            auto* toggle = control(&seat.view, "Play");
            REQUIRE(toggle);
            // What is placed is a widget there, whole, and meets no other.
            auto& layout = seat.view.layout_now();
            std::vector<QWidget*> shown;
            for (auto* w : seat.view.findChildren<QWidget*>(Qt::FindDirectChildrenOnly)) {
                bool control = w->isVisible() && (dynamic_cast<ShowsControl*>(w) || dynamic_cast<MoreButton*>(w));
                if (control) shown.push_back(w);
            }
            auto placed =
                std::count_if(layout.controls.begin(), layout.controls.end(), [](auto& c) { return c.shown; });
            CHECK(shown.size() == static_cast<std::size_t>(placed) + layout.more.size());
            for (auto* w : shown) {
                INFO(w->accessibleName().toStdString());
                CHECK(seat.view.rect().contains(w->geometry()));
                CHECK(w->width() >= 24);
                CHECK(w->height() >= 24);
                for (auto* other : shown)
                    if (other != w) CHECK_FALSE(w->geometry().intersects(other->geometry()));
            }
            if (auto* position = control(&seat.view, "Position"); position && position->isVisible())
                CHECK(position->width() >= 150);
        }
    }
}

TEST_CASE("A player that is opened anew keeps what was asked for meanwhile", "[view]") {
    auto d = document_of({"two_audio_languages.mkv"});
    Seat seat(d);
    // Before anything is open, while it opens, and after.
    std::mt19937 random(102);
    for (int i = 0; i < 12; ++i) {
        seat.view.load(d, 0, "/");
        pass(static_cast<int>(random() % 30));
        d.sources[0].audio_language = i % 2 ? "" : "de";
        seat.view.apply(d, 0);
        REQUIRE(seat.phase(Phase::ready));
        auto spoken = [&] {
            auto s = seat.view.snapshot();
            for (auto& c : *s.track_options)
                if (c.id == s.audio_track) return c.language;
            return std::string();
        };
        INFO("round " << i);
        CHECK(soon([&] { return spoken() == (i % 2 ? "en" : "de"); }, 5000));
    }
}

TEST_CASE("Drawing the player into an image shows nothing to anybody, so it is not counted", "[view]") {
    VideoSurface surface;
    surface.resize(320, 180);
    surface.show();
    pass(50);
    auto strand = make_real_strand();
    Mixer mixer(*strand);
    Controller controller({std::move(strand), &mixer, &CodecRegistry::standard(), surface.sink()});
    surface.report_to(&controller);
    auto presented = [&] { return controller.snapshot_after_calls().counters.presented; };
    // The window's thread stands here, so nothing comes to the screen meanwhile.
    controller.open(fixture("vp9_opus.webm").string());
    REQUIRE(controller.wait([](auto& s) { return s.state.phase == Phase::ready; }, 20_s));
    for (int i = 0; i < 2000 && !surface.has_picture(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
    REQUIRE(surface.has_picture());
    for (int i = 0; i < 3; ++i) {
        auto drawn = surface.grab().toImage();
        CHECK(drawn.pixelColor(160, 90) != look::surround);
    }
    CHECK(presented() == 0);
    // Nor was anything taken from the screen, which shows it once.
    CHECK(soon([&] { return presented() == 1; }));
    CHECK_FALSE(surface.grab().isNull());
    surface.update();
    pass(50);
    CHECK(presented() == 1);
    surface.report_to(nullptr);
}

TEST_CASE("A control's own colour reaches everything that is drawn of it, and usual ones turn light on what is dark",
          "[view]") {
    ControlContext moment;
    moment.snapshot.has_video = moment.snapshot.duration_known = true;
    moment.snapshot.state.phase = Phase::paused;
    moment.snapshot.position = 20_s, moment.snapshot.duration = 60_s;
    auto drawn = [&](const char* kind, const char* own, bool dark) {
        QImage image(240, 44, QImage::Format_RGB32);
        image.fill(dark ? Qt::black : Qt::white);
        ControlSpec c{.kind = &control_kind(kind)};
        c.settings.ink = own;
        Drawn how;
        how.on_dark = dark;
        QPainter g(&image);
        paint_control(g, c, moment, QRectF(0, 0, 240, 44), how);
        return image;
    };
    auto count = [](const QImage& image, auto&& is) {
        int n = 0;
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x) n += is(image.pixelColor(x, y));
        return n;
    };
    auto green = [](const QColor& c) { return c.green() > 200 && c.red() < 60 && c.blue() < 60; };
    auto inky = [](const QColor& c) { return c.lightness() < 70; };
    auto papery = [](const QColor& c) { return c.lightness() > 200; };
    for (auto kind : {"position", "time", "left", "title", "volume"}) {
        INFO(kind);
        moment.title = "Title";
        CHECK(count(drawn(kind, "#00FF00", false), green) > 10);
        // Nothing of the usual colour is left.
        CHECK(count(drawn(kind, "#00FF00", false), inky) == 0);
        CHECK(count(drawn(kind, "", false), inky) > 10);
        CHECK(count(drawn(kind, "", true), papery) > 10);
    }
}

TEST_CASE("A theme reaches controls that set nothing themselves, on a bar and on the picture, and no others",
          "[view]") {
    auto moment = usual_moment();
    moment.snapshot.duration_known = true;
    moment.snapshot.position = 20_s, moment.snapshot.duration = 60_s;
    moment.title = "Title";
    Drawn how;
    auto drawn = [&](const char* kind, const char* own = "") {
        QImage image(240, 44, QImage::Format_RGB32);
        image.fill(Qt::white);
        ControlSpec c{.kind = &control_kind(kind)};
        c.settings.ink = own;
        QPainter g(&image);
        paint_control(g, c, moment, QRectF(0, 0, 240, 44), how);
        return image;
    };
    auto count = [](const QImage& image, const QColor& colour) {
        int n = 0;
        for (int y = 0; y < image.height(); ++y)
            for (int x = 0; x < image.width(); ++x) n += image.pixelColor(x, y) == colour;
        return n;
    };
    const QColor accent(0, 0x66, 0xCC), words(0, 0x44, 0), behind(0xFF, 0xEE, 0xDD), own(0xFF, 0, 0);
    how.theme = {.accent = "#0066CC", .text = "#004400", .background = "#FFEEDD"};
    for (auto kind : {"position", "volume", "start"}) CHECK(count(drawn(kind), accent) > 20);
    for (auto kind : {"position", "time", "title", "stop"}) CHECK(count(drawn(kind), words) > 4);
    for (auto kind : {"position", "time", "stop"}) {
        INFO(kind);
        auto image = drawn(kind, "#FF0000");
        CHECK((count(image, own) > 4 && count(image, words) == 0 && count(image, accent) == 0));
    }
    how.theme.mark_size = 60;
    auto small = count(drawn("stop"), words);
    how.theme.mark_size = 140;
    CHECK(count(drawn("stop"), words) > 3 * small);
    // On the picture a plate lies under it, with its corners.
    how.on_picture = true;
    CHECK(count(drawn("stop"), behind) == 0);  // it covers most of what is behind it, not all
    QImage plate(100, 40, QImage::Format_RGB32);
    for (int corner : {0, 18}) {
        how.theme.corner = corner;
        plate.fill(Qt::black);
        QPainter g(&plate);
        paint_bar(g, how.theme, 1, QRectF(plate.rect()));
        CHECK(plate.pixelColor(50, 20) == behind);
        CHECK((plate.pixelColor(1, 1) == QColor(Qt::black)) == (corner > 0));
    }
    // Which families there are differs; that one is asked for does not.
    how.theme.mark_size = 0, how.theme.font = "monospace";
    auto with = drawn("title");
    how.theme.font.clear();
    CHECK(with != drawn("title"));
}
