// SPDX-License-Identifier: GPL-3.0-or-later
// The workshop and its command line in one program.
#include <QApplication>
#include <QElapsedTimer>
#include <QFileInfo>
#include <cstdio>
#include <cstdlib>

#include "commands.h"
#include "display.h"
#include "headless.h"
#include "sound_file.h"
#include "view/look.h"
#include "scene/projection.h"
#include "view/paint_player.h"
#include "view/player_sheet.h"

#include "view/poster.h"
#include "workshop/start_panel.h"
#include "workshop/window.h"

using namespace ruedo;

namespace {
/// `ruedo play --window`: the packed player's view around the same script.
HeadlessResult play_in_window(const HeadlessOptions& o, int& argc, char** argv) {
    if (auto why = no_display(argc, argv)) return {error_document(*why), 1};
    QApplication app(argc, argv);
    look::apply();
    PlaybackHost host;
    host.open_clip = o.open_clip;
    host.stream = o.stream;
    PlayerDocument document;
    SourceSpec source;
    std::error_code ec;
    source.file = is_address(o.source) ? o.source : std::filesystem::absolute(o.source, ec).string();
    if (ec) return {error_document(errno_error(ec.value(), "Finding the working folder")), 1};
    source.start.how = Start::How::play;
    source.loop = o.open.loop;
    document.sources.push_back(source);
    PlayerView view(host);
    view.set_standalone();
    view.setWindowTitle(QString::fromStdString(std::filesystem::path(o.source).filename().string()));
    view.resize(960, 540);
    view.show();
    std::unique_ptr<WavFile> heard;
    if (!o.audio.empty()) {
        auto made = WavFile::create(host.mixer, o.audio, o.source, o.replace);
        if (!made) return {error_document(made.error()), exit_code(made.error())};
        heard = std::move(*made);
    }
    auto& controller = view.controller();
    QElapsedTimer clock;
    clock.start();
    view.load(document, 0, ".");
    ScriptRun run(o, controller);
    QTimer timer;
    timer.setTimerType(Qt::PreciseTimer);
    QObject::connect(&timer, &QTimer::timeout, [&] {
        Time wall{clock.nsecsElapsed()};
        bool any = false;
        for (; run.next() && *run.next() <= wall; any = true) run.perform_next();
        if (any) (void)controller.snapshot_after_calls();
        // Just opened it is held until its start is taken up; that is not yet an end.
        bool begun = controller.snapshot().state.phase != Phase::empty;
        if ((begun && run.over()) || interrupted() || (o.length && wall >= *o.length)) app.quit();
    });
    timer.start(5);
    app.exec();
    auto result = run.result(false);
    controller.pause();
    if (heard && result.exit == 0)
        if (auto written = heard->finish(); !written)
            return {error_document(written.error()), exit_code(written.error())};
    return result;
}

/// What a player shows in the moment that was reached.
struct Still {
    std::optional<RgbImage> rendered;
    PlayerStill still;
    std::vector<StripItem> strip;
    Still(const Arranged::Player& p, const std::filesystem::path& folder) {
        if (p.picture) {
            auto& look = p.document.player().picture;
            auto& s = p.context.snapshot;
            rendered = render(*p.picture, look.render_width > 0 ? look.render_width : s.display_width,
                              look.render_width > 0 ? look.render_height : s.display_height);
            still.picture = QImage(rendered->pixels.data(), rendered->width, rendered->height, rendered->stride(),
                                   QImage::Format_RGB32);
        }
        for (auto& s : p.document.sources) strip.push_back({text(s.name), {}});
        still.strip = strip;
        if (p.source >= p.document.sources.size()) return;
        auto& source = p.document.sources[p.source];
        if (!poster_stands(source, p.context.snapshot)) return;
        if (source.poster_at)
            still.poster = find_poster(resolve(source, folder), 1920, 1280, nullptr, source.poster_at);
        else if (!source.poster.empty() && !is_address(source.poster))
            still.poster = QImage(text(resolve(source.poster, folder)));
        if (source.no_poster) still.picture = {};
    }
    Still(const Still&) = delete;
};

RgbImage shoot_room(const Arranged& a) {
    std::vector<QImage> sheets;
    std::vector<scene::Laid> laid;
    for (auto& p : a.players) {
        auto& whole = p.layout.whole;
        QImage sheet(whole.width, whole.height, QImage::Format_ARGB32_Premultiplied);
        sheet.fill(Qt::transparent);
        {
            QPainter g(&sheet);
            Still still(p, a.folder);
            auto* source = p.source < p.document.sources.size() ? &p.document.sources[p.source] : nullptr;
            paint_player(g, sheet.size(), p.document.player(), p.layout, p.context, source, still.still);
        }
        laid.push_back({{{texture_of(sheet), whole.rect(), {whole.rect()}}}, p.document.player().picture.surround});
        sheets.push_back(std::move(sheet));
    }
    scene::Projection projection;
    projection.draw(a.room->scene, a.room->eye, laid);
    return projection.image();
}

/// `ruedo arrange --shot`: the same drawing as in the window, without one.
Result<RgbImage> shoot(const Arranged& a, int& argc, char** argv) {
    qputenv("QT_QPA_PLATFORM", "offscreen");
    QApplication app(argc, argv);
    look::apply();
    if (a.room) return shoot_room(a);
    QImage shot(a.mount.width, a.mount.height, QImage::Format_RGB32);
    shot.fill(QColor(text(a.document.screen.ground)));
    {
        QPainter g(&shot);
        for (auto& p : a.players) {
            Still still(p, a.folder);
            g.save();
            g.setClipRect(p.box.x, p.box.y, p.box.width, p.box.height);
            g.translate(p.box.x, p.box.y);
            auto* source = p.source < p.document.sources.size() ? &p.document.sources[p.source] : nullptr;
            paint_player(g, {p.box.width, p.box.height}, p.document.player(), p.layout, p.context, source, still.still);
            g.restore();
        }
    }
    RgbImage image{shot.width(), shot.height(), {}};
    image.pixels.assign(shot.constBits(), shot.constBits() + shot.sizeInBytes());
    return image;
}
}  // namespace

namespace {
int run_window(int argc, char** argv) {
    if (is_command(argc, argv)) return run_command(argc, argv, {play_in_window, shoot});
    if (auto why = no_display(argc, argv)) {
        std::fprintf(stderr, "%s\n%s\n", why->sentence.c_str(), why->hint.c_str());
        return 1;
    }
    QApplication app(argc, argv);
    app.setApplicationName("ruedo");
    app.setOrganizationName("ruedo");
    look::apply();
    PlaybackHost host;
    WorkshopWindow window(host);
    window.show();
    auto left = Project::recovered();
    QStringList asked;
    for (int i = 1; i < argc; ++i) asked << QString::fromLocal8Bit(argv[i]);
    bool project = asked.size() == 1 && asked[0].endsWith(".ruedo");
    // What was left of the project that is asked for is taken up with it.
    std::error_code ec;
    bool same = left && project && std::filesystem::absolute(argv[1], ec) == left->path;
    if (left && (asked.isEmpty() || same))
        window.project().recover(*left);
    else if (project)
        window.open_project(argv[1]);
    else if (!asked.isEmpty())
        window.add_sources(asked);  // to a new project
    else if (!Project::recent().isEmpty())
        window.open_project(Project::recent().first().toStdString());
    else if (auto demo = demo_project(); !demo.isEmpty())
        window.open_project(demo.toStdString());
    // Asked to go from outside it goes at once, in order: what was not saved is there in the next start, and so is what
    // was being made.
    catch_interrupts();
    QTimer watch;
    QObject::connect(&watch, &QTimer::timeout, &app, [&window] {
        // To quit would ask first. What could not be kept was not all done.
        if (interrupted()) QCoreApplication::exit(window.project().keep_unsaved() ? 0 : 1);
    });
    watch.start(100);
    return app.exec();
}
}  // namespace

int main(int argc, char** argv) {
    const WorkersEnd workers_end;
    try {
        return run_window(argc, argv);
    } catch (const std::exception& e) {
        std::fprintf(stderr, "A fault inside: %s.\nIt is ours; tell who made this program how to bring it about.\n",
                     e.what());
        return 1;
    }
}
