// SPDX-License-Identifier: GPL-3.0-or-later
// Rows of what is seen: controls drawn over a picture, and how long the window's event loop stands.
#include <QApplication>
#include <QMouseEvent>
#include <QPainter>
#include <filesystem>
#include <fmt/format.h>
#include <unistd.h>

#include <cmath>
#include <thread>

#include "bench/clips.h"
#include "bench/rows.h"
#include "player/rules.h"
#include "player/templates.h"
#include "view/look.h"
#include "view/paint_player.h"
#include "workshop/arranging.h"
#include "workshop/moment.h"
#include "workshop/mount.h"
#include "workshop/path_chart.h"
#include "workshop/prepare_page.h"
#include "workshop/window.h"

namespace ruedo::bench {
namespace {
/// One for all rows; without a display it draws into memory.
QApplication& application() {
    static int argc = 1;
    static char name[] = "ruedo-bench";
    static char* argv[] = {name, nullptr};
    if (qgetenv("DISPLAY").isEmpty() && qgetenv("WAYLAND_DISPLAY").isEmpty()) qputenv("QT_QPA_PLATFORM", "offscreen");
    // Settings are nobody’s, and gone with the program.
    static const ScratchFolder settings("bench-settings");
    if (settings.make()) qputenv("XDG_CONFIG_HOME", settings.path().c_str());
    // Never taken down: at the end of the program nothing is left that it could be taken down after.
    static auto& app = *new QApplication(argc, argv);
    static bool once = (look::apply(), true);
    (void)once;
    return app;
}
PlayerDocument full_set(const std::filesystem::path& file) {
    PlayerDocument d;
    SourceSpec s;
    s.name = "Lantern", s.file = std::filesystem::absolute(file).string();
    s.loop.kind = Loop::Kind::all;
    d.sources = {s};
    for (auto& t : templates())
        if (t.name == "full set") d = with_template(d, t);
    return d;
}
}  // namespace

/// Every control of the full set over 1280 x 720, with the layout that goes before.
json overlay() {
    application();
    auto player = full_set("x").player();
    ControlContext c;
    auto& s = c.snapshot;
    s.state.phase = Phase::playing, s.state.intent = Intent::play;
    s.has_video = s.has_audio = s.duration_known = true;
    s.duration = 90_s, s.buffered_to = 60_s, s.display_width = 1280, s.display_height = 720;
    s.seekable = TimeRange{{}, 90_s};
    c.count = 3, c.title = "Lantern", c.has_next = c.has_previous = true;
    auto mount = shape_of(Mount::window, 1280, 720);
    QImage image(1280, 720, QImage::Format_RGB32);
    image.fill(look::surround);
    return of_pairs(200, 3, "lower", "ms a frame for the full set of controls over 1280 x 720", [&] {
        s.position += 33_ms;
        return ms_of([&] {
            QPainter g(&image);
            auto layout = lay_out(player, mount, c);
            for (auto& b : layout.bars) {
                auto& bar = player.bars[b.bar];
                paint_bar(g, player.theme_on(&bar), bar.cover, QRectF(rect_of(b.box)));
            }
            for (std::size_t i = 0; i < player.controls.size(); ++i)
                if (layout.controls[i].shown)
                    paint_control(g, player.controls[i], c, QRectF(rect_of(layout.controls[i].box)));
        });
    });
}

namespace {
/// An hour of playing with seeks, twenty looks and sixty events a second.
void an_hour(const std::function<void(const Snapshot&, Time)>& look, const std::function<void(const Event&)>& note) {
    Snapshot s;
    s.state.phase = Phase::playing, s.state.intent = Intent::play, s.motion = Motion::moving;
    s.has_video = s.has_audio = s.duration_known = true, s.duration = 7200_s;
    Event e;
    for (int i = 0; i < 3600 * 60; ++i) {
        auto wall = Time{i * std::int64_t{1'000'000'000} / 60};
        s.position = wall + 500_ms * ((i / 1800) % 7);
        if (i % 3 == 0) {
            s.buffered_to = s.position + 20_s, s.decoded_to = s.position + 200_ms, s.sounded_to = s.position + 400_ms;
            look(s, wall);
        }
        e.n = static_cast<std::uint64_t>(i) + 1, e.wall = wall, e.media = s.position;
        e.name = i % 1800 == 0 ? "seek" : i % 600 == 0 ? "call" : "shown";
        note(e);
    }
}
}  // namespace

/// The path of an hour, all of it and a stretch: against as many bare line segments as it is wide.
json path_row() {
    application();
    PathChart chart;
    chart.resize(560, 250);
    an_hour([&](auto& s, Time t) { chart.sample(s, {}, t); }, [&](auto& e) { chart.note(e); });
    QImage image(chart.size(), QImage::Format_ARGB32_Premultiplied);
    std::vector<QPointF> points;
    for (int i = 0; i < 3600 * 20; ++i) points.emplace_back(560.0 * i / 72000, 125 + 100 * std::sin(i * 0.001));
    std::int64_t from = 0;
    return of_pairs(60, 3, "lower", "times what drawing each of its 72,000 samples as a line takes", [&] {
        from = (from + 37) % 3000;
        auto ours = ms_of([&] {
            chart.look_at(1_s * from, from < 1500 ? 3600_s : 60_s);
            QPainter g(&image);
            chart.render(&g);
        });
        auto bare = ms_of([&] {
            QPainter g(&image);
            g.setPen(QPen(Qt::red, 1));
            for (std::size_t i = 1; i < points.size(); ++i) g.drawLine(points[i - 1], points[i]);
        });
        return ours / bare;
    });
}

/// A moment of an hour is pointed at: everything as it was then.
json history_row() {
    application();
    History history;
    an_hour([&](auto& s, Time t) { history.add(s, {}, t); }, [&](auto& e) { history.add(e); });
    MomentPanel panel;
    panel.resize(290, 250);
    std::int64_t at = 0;
    return of_pairs(100, 20, "lower", "ms to show the player as it was at a moment of an hour", [&] {
        at = (at + 1'234'567'891'011) % 3'600'000'000'000;
        return ms_of([&] { panel.show_moment(history, Time{at}); });
    });
}

/// A document of fifty controls is edited; from then until the window tells what its review found.
json findings_row() {
    auto& app = application();
    auto d = full_set(clip("vp9-720p30.webm"));
    auto& player = d.player();
    for (std::size_t i = 0; player.controls.size() < 50; ++i) {
        auto again = player.controls[i];
        player.put(again, again.slot);
    }
    auto file = std::filesystem::temp_directory_path() / fmt::format("ruedo-bench-{}.ruedo", ::getpid());
    if (!save_document(d, file)) std::exit(1);
    PlaybackHost host(false);
    WorkshopWindow window(host);
    window.show();
    window.open_project(file);
    auto& sentences = window.sentences();
    auto until = [&](auto wanted) {
        for (auto end = monotonic_now() + 10_s; !wanted() && monotonic_now() < end;)
            app.processEvents(QEventLoop::AllEvents, 1);
    };
    until([&] { return !sentences.findings().empty(); });
    auto row = of_pairs(40, 30, "lower", "ms from an edit of fifty controls until its findings are told", [&] {
        auto edited = window.project().document();
        auto& words = edited.player().controls.back().settings.words;
        words = words.empty() ? "said" : "";
        auto before = sentences.reviews();
        return ms_of([&] {
            window.project().change(edited, "words");
            until([&] { return sentences.reviews() > before; });
        });
    });
    std::filesystem::remove(file);
    return row;
}

/// The findings that need a clip's pictures, from opening it on; the window waits 200 ms for hands to be still before.
json contrast_row() {
    auto d = full_set(clip("vp9-1080p30.webm"));
    return of_pairs(5, 800, "lower", "ms to look at the pictures of a 1080p clip and judge what is drawn on them",
                    [&] { return ms_of([&] { (void)review_contrast(d, "/"); }); });
}

/// A 1080p clip plays in the workshop's window while a control is dragged about; how late a timer of the event loop is.
json heartbeat() {
    auto& app = application();
    PlaybackHost host(false);
    WorkshopWindow window(host);
    window.show();
    auto file = std::filesystem::temp_directory_path() / fmt::format("ruedo-bench-{}.ruedo", ::getpid());
    if (!save_document(full_set(clip("vp9-1080p30.webm")), file)) std::exit(1);
    window.open_project(file);
    auto run = [&](Time length, auto each) {
        for (auto end = monotonic_now() + length; monotonic_now() < end; each())
            app.processEvents(QEventLoop::AllEvents, 2);
    };
    run(500_ms, [] {});
    window.player().controller().play();
    window.mount().set_arranging(true);
    run(500_ms, [] {});
    auto& layer = window.mount().layer();
    auto send = [&](QEvent::Type type, QPointF at, Qt::MouseButtons held) {
        QMouseEvent e(type, at, layer.mapToGlobal(at), type == QEvent::MouseMove ? Qt::NoButton : Qt::LeftButton, held,
                      Qt::NoModifier);
        QApplication::sendEvent(&layer, &e);
    };
    std::vector<double> turns, bare;
    auto box = window.player().layout_now().controls.at(0).box;
    QPointF from(box.x + box.width / 2.0, box.y + box.height / 2.0);
    send(QEvent::MouseButtonPress, from, Qt::LeftButton);
    auto last = monotonic_now();
    double step = 0;
    run(5_s, [&] {
        step += 0.02;
        send(QEvent::MouseMove,
             {layer.width() * (0.5 + 0.4 * std::cos(step)), layer.height() * (0.5 + 0.4 * std::sin(step * 1.3))},
             Qt::LeftButton);
        auto now = monotonic_now();
        turns.push_back((now - last).ms());
        last = now;
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
        last += 1_ms;
    });
    send(QEvent::MouseButtonRelease, {-10, -10}, Qt::NoButton);
    window.player().controller().pause();
    for (auto end = monotonic_now() + 2_s; monotonic_now() < end;) {
        auto before = monotonic_now();
        std::this_thread::sleep_for(std::chrono::milliseconds(2));
        bare.push_back((monotonic_now() - before - 2_ms).ms());
    }
    std::filesystem::remove(file);
    auto late = [](std::vector<double> v) {
        std::sort(v.begin(), v.end());
        return v.empty() ? 1e9 : v[v.size() * 999 / 1000];
    };
    return row(late(turns), std::max(50.0, late(bare)), "lower",
               "ms that the event loop stands, p99.9, while 1080p plays and a control is dragged", turns.size());
}

/// 720p60 plays in a room at 1280 x 800: pictures that come to the screen, of those that were due.
json room_rate() {
    auto& app = application();
    PlaybackHost host(false);
    ScreenView view(host);
    auto d = full_set(clip("h264-720p60.mp4"));
    d.mount = Mount::room;
    for (auto& b : d.player().bars) b.where = BarSpec::Where::clear;
    view.resize(1280, 800);
    view.set_mount(Mount::room);
    view.show();
    view.take(d, "/");
    auto run = [&](Time length) {
        for (auto end = monotonic_now() + length; monotonic_now() < end;) app.processEvents(QEventLoop::AllEvents, 2);
    };
    run(1_s);
    view.player(0).controller().play();
    run(1_s);
    // The best of three, as for pacing: a machine of several tenants stands still now and then.
    double best = 0;
    std::uint64_t shown = 0;
    for (int i = 0; i < 3 && best < 0.98; ++i) {
        auto before = view.player(0).snapshot().counters.presented;
        auto begun = monotonic_now();
        run(4_s);
        auto came = view.player(0).snapshot().counters.presented - before;
        best = std::max(best, static_cast<double>(came) / ((monotonic_now() - begun).seconds() * 60));
        shown += came;
    }
    return row(best, 0.98, "higher", "pictures of 720p60 that reach the screen in a room at 1280 x 800, of those due",
               shown);
}

/// While two conversions go on, pictures before and after are stepped through, zoomed and wiped: how long until what
/// was asked for stands there, and how long the event loop stands, whichever is worse.
json prepare_answers() {
    auto& app = application();
    namespace fs = std::filesystem;
    const ScratchFolder scratch("bench-prepare");
    if (!scratch.make()) std::exit(1);
    const auto& folder = scratch.path();
    qputenv("XDG_STATE_HOME", QByteArray::fromStdString((folder / "state").string()));
    std::vector<double> answers, turns;
    {
        PlaybackHost host(false);
        WorkshopWindow window(host);
        window.show();
        PlayerDocument d;
        d.target = "handset-basic";
        SourceSpec s;
        s.name = "Clip", s.file = fs::absolute(beginning("h264-720p60.mp4", 3_s)).string();
        d.sources = {s};
        if (!save_document(d, folder / "b.ruedo") || !window.open_project(folder / "b.ruedo")) std::exit(1);
        window.show_step(WorkshopWindow::prepare);
        auto& page = window.prepare_page();
        auto until = [&](auto done, Time limit = 60_s) {
            auto last = monotonic_now();
            for (auto end = last + limit; !done() && last < end;) {
                app.processEvents(QEventLoop::AllEvents, 2);
                auto now = monotonic_now();
                turns.push_back((now - last).ms());
                last = now;
            }
            if (!done()) {
                fmt::print(stderr, "prepare-answers: nothing came after {} answers.\n", answers.size());
                std::exit(1);
            }
        };
        until([&] { return page.sample_encode() && page.wipe().both(); });
        Recipe slow;
        slow.video.action = Recipe::Do::encode, slow.video.codec = Codec::vp9, slow.video.effort = 2;
        for (auto* out : {"1.webm", "2.webm"})
            if (!page.cards().queue().add(s.file, folder / out, slow)) std::exit(1);
        page.cards().look();
        auto running = [&] {
            auto jobs = page.cards().shown();
            return std::count_if(jobs.begin(), jobs.end(), [](auto& j) { return j.state == Job::State::running; });
        };
        until([&] { return running() == 2; });
        turns.clear();
        auto& pairing = page.before_after().pairing();
        pairing.show(page.sample_encode()->from);
        until([&] { return pairing.place() == page.sample_encode()->from; });
        for (int i = 0; i < 120; ++i) {
            auto before = monotonic_now();
            auto stood = pairing.place();
            pairing.step(i % 25 == 24 ? -1 : 1);
            until([&] { return pairing.place() != stood; });
            answers.push_back((monotonic_now() - before).ms());
            before = monotonic_now();
            page.wipe().set_zoom(i % 5);
            page.wipe().set_line(i % 10 / 10.0);
            page.wipe().repaint();
            answers.push_back((monotonic_now() - before).ms());
        }
        if (running() != 2) std::exit(1);
    }
    auto worst = [](std::vector<double>& v) {
        std::sort(v.begin(), v.end());
        return v[v.size() * 99 / 100];
    };
    return row(std::max(worst(answers), worst(turns)), 50, "lower",
               "ms until a step, the line or a zoom of 720p stands there, p99, while two conversions go on",
               answers.size());
}

/// A project of 200 sources and twelve players, from opening it until the window is drawn, answers, and each player
/// holds its first picture.
json crowd() {
    auto& app = application();
    PlaybackHost host(false);
    PlayerDocument d;
    for (int i = 0; i < 200; ++i) {
        SourceSpec s;
        s.name = fmt::format("Clip {}", i);
        s.file = std::filesystem::absolute(clip("h264-720p60.mp4")).string();
        d.sources.push_back(s);
    }
    while (add_player(d)) {
    }
    auto file = std::filesystem::temp_directory_path() / fmt::format("ruedo-bench-crowd-{}.ruedo", ::getpid());
    if (!save_document(d, file)) std::exit(1);
    std::vector<double> seconds;
    for (int i = 0; i < 5; ++i) {
        auto begin = monotonic_now();
        WorkshopWindow window(host);
        window.show();
        window.open_project(file);
        auto held = [&] {
            for (std::size_t p = 0; p < window.screen().count(); ++p)
                if (!window.screen().player(p).surface().has_picture()) return false;
            return window.screen().count() == d.players.size();
        };
        while (!held() && monotonic_now() - begin < 30_s) app.processEvents(QEventLoop::AllEvents, 2);
        app.processEvents();
        seconds.push_back((monotonic_now() - begin).seconds());
    }
    std::filesystem::remove(file);
    std::sort(seconds.begin(), seconds.end());
    return row(seconds[2], 1.5, "lower", "s from opening 200 sources and 12 players to all of them on the screen",
               seconds.size());
}

}  // namespace ruedo::bench
