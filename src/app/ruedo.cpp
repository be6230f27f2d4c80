// SPDX-License-Identifier: GPL-3.0-or-later
// The workshop and its command line in one program.
#include <QApplication>
#include <QElapsedTimer>
#include <QFileInfo>
#include <cstdio>
#include <cstdlib>

#include "commands.h"
#include "view/look.h"
#include "workshop/window.h"

using namespace ruedo;

namespace {
bool has_display() { return std::getenv("DISPLAY") || std::getenv("WAYLAND_DISPLAY") || std::getenv("QT_QPA_PLATFORM"); }

/// `ruedo play --window`: the packed player's view around the same script.
HeadlessResult play_in_window(const HeadlessOptions& o, int& argc, char** argv) {
    if (!has_display()) return {error_document({Code::io, "There is no display to open a window on.", "Leave --window out, or start it where there is one."}), 1};
    QApplication app(argc, argv);
    look::apply();
    PlaybackHost host;
    PlayerDocument document;
    SourceSpec source;
    source.file = is_address(o.source) ? o.source : std::filesystem::absolute(o.source).string();
    source.start.how = Start::How::play;
    source.loop = o.open.loop;
    document.sources.push_back(source);
    PlayerView view(host);
    view.set_standalone();
    view.setWindowTitle(QString::fromStdString(std::filesystem::path(o.source).filename().string()));
    view.resize(960, 540);
    view.show();
    auto& controller = view.controller();
    QElapsedTimer clock;
    clock.start();
    view.load(document, 0, ".");
    std::size_t next = 0;
    QTimer timer;
    timer.setTimerType(Qt::PreciseTimer);
    QObject::connect(&timer, &QTimer::timeout, [&] {
        Time wall{clock.nsecsElapsed()};
        while (next < o.script.size() && o.script[next].at <= wall) perform(controller, o.script[next++]);
        auto phase = controller.snapshot().state.phase;
        bool over = phase == Phase::failed || phase == Phase::closed || (!o.length && phase == Phase::ended && next >= o.script.size());
        if (over || interrupted() || (o.length && wall >= *o.length)) app.quit();
    });
    timer.start(5);
    app.exec();
    auto report = controller.report();
    if (interrupted()) return {error_document({Code::cancelled, "Playing was interrupted.", "Run it again."}), 130};
    return {to_json(report, false), report.snapshot.state.phase == Phase::failed ? 1 : 0};
}
}  // namespace

int main(int argc, char** argv) {
    if (is_command(argc, argv)) return run_command(argc, argv, play_in_window);
    if (!has_display()) {
        std::fprintf(stderr, "There is no display to open a window on. “ruedo --help” lists what works without one.\n");
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
    if (argc > 1) window.open_project(argv[1]);
    else if (left) window.project().recover(*left);
    else if (!Project::recent().isEmpty()) window.open_project(Project::recent().first().toStdString());
    return app.exec();
}
