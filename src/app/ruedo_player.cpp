// SPDX-License-Identifier: Apache-2.0
// What a packed app runs: its document lies beside the executable.
#include <QApplication>
#include <QIcon>
#include <QKeyEvent>
#include <QTimer>
#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>

#include "display.h"
#include "headless.h"
#include "playback/outputs.h"
#include "player/remembering.h"
#include "view/desktop_player.h"
#include "view/host_watch.h"
#include "view/look.h"
#include "view/screen_view.h"

using namespace ruedo;

namespace {
int print(const nlohmann::json& document, int exit) {
    // A folder may bear a name that is not UTF-8.
    auto text = document.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
    bool written = std::fwrite(text.data(), 1, text.size(), stdout) == text.size() && std::fflush(stdout) == 0;
    return written ? exit : 1;
}
int usage(const char* why) {
    std::fprintf(stderr, "%s\n", why);
    return print(error_document({ErrorCode::usage, why, "Run it without arguments, or with --check TIME --json."}), 2);
}
int run(int argc, char** argv) {
    auto exe = executable_path();
    std::optional<Time> check;
    for (int i = 1; i < argc; ++i) {
        if (!std::strcmp(argv[i], "--json")) continue;
        if (!std::strcmp(argv[i], "--check") && i + 1 < argc) {
            check = parse_time(argv[++i]);
            if (!check) return usage("--check takes a time with a unit, such as 5s.");
        } else if (argv[i][0] == '-' && std::strcmp(argv[i], "-platform") != 0 &&
                   (i == 0 || std::strcmp(argv[i - 1], "-platform") != 0)) {
            return usage("There is no such option.");
        }
    }
    auto document = load_document(exe.parent_path() / "player.json");
    if (check) {
        catch_interrupts();
        if (!document) return print(error_document(document.error()), 1);

        HeadlessOptions o;
        // What the first player that has something to play begins with.
        auto part = part_of(*document, 0);
        for (std::size_t i = 1; part.sources.empty() && i < document->players.size(); ++i) part = part_of(*document, i);
        if (part.sources.empty())
            return print(error_document({ErrorCode::empty, "No player of the app has a source to play.",
                                         "Pack it again with one that has."}),
                         1);
        o.source = resolve(part.sources.front(), exe.parent_path());
        o.open = open_options(part, part.sources.front(), exe.parent_path());
        o.length = check;
        auto result = play_headless(o);
        return print(result.report, result.exit);
    }
    if (!document) {
        std::fprintf(stderr, "%s\n%s\n", document.error().sentence.c_str(), document.error().hint.c_str());
        return 1;
    }
    if (auto why = no_display(argc, argv)) {
        std::fprintf(stderr, "%s\n--check TIME plays without one.\n", why->sentence.c_str());
        return 1;
    }
    QApplication app(argc, argv);
    look::apply();
    app.setApplicationName(QString::fromStdString(document->app_name));
    app.setWindowIcon(QIcon(QString::fromStdString((exe.parent_path() / (exe.filename().string() + ".png")).string())));
    PlaybackHost host;
    ScreenView view(host);
    view.set_standalone();
    view.setWindowTitle(QString::fromStdString(document->app_name));
    auto shape = shape_of(document->mount, document->mount_width, document->mount_height);
    view.set_mount(document->mount);
    view.resize(std::min(shape.width, 1280), std::min(shape.height, 720));
    view.on_leave = [&app] { app.quit(); };
    DesktopPlayer desktop(view, QString::fromStdString(document->app_name),
                          QString::fromStdString(file_stem(document->app_name)));
    if (!desktop.take_name(QString::fromStdString(exe.string()))) return 0;  // it runs, and shows itself
    HostWatch watch(view, [&view](std::string_view word) { view.host(word); });
    auto outputs = OutputWatch::start([&view](std::string_view word) {
        QMetaObject::invokeMethod(&view, [&view, word = std::string(word)] { view.host(word); });
    });
    view.show();
    auto kept = memory_file(document->app_name, exe);
    auto memory = read_memory(kept);
    recall(*document, memory);
    view.take(*document, exe.parent_path());
    for (std::size_t i = 0; i < view.count(); ++i) recall(view.player(i).session(), memory);
    auto keep = [&] {
        Memory now;
        for (std::size_t i = 0; i < view.count(); ++i)
            if (!document->player(i).remembered.empty())
                now[document->player(i).name] = remember(view.player(i).session());
        // Failing to save the state must not disturb playback.
        if (now != memory && !kept.empty() && keep_memory(now, memory, kept)) memory = std::move(now);
    };
    QTimer often;
    QObject::connect(&often, &QTimer::timeout, &view, keep);
    QObject::connect(&app, &QApplication::aboutToQuit, &view, keep);
    often.start(5000);
    // Asked to go from outside it keeps what it is to remember, as when it is closed.
    catch_interrupts();
    QTimer asked;
    QObject::connect(&asked, &QTimer::timeout, &app, [] {
        if (interrupted()) QCoreApplication::exit(0);
    });
    asked.start(50);
    // The view from above belongs to the workshop.
    if (auto* room = view.room()) room->set_top_view(false);
    return app.exec();
}
}  // namespace

int main(int argc, char** argv) {
    const WorkersEnd workers_end;
    try {
        return run(argc, argv);
    } catch (const std::exception& e) {
        return print(error_document({ErrorCode::internal, std::string("A fault inside: ") + e.what() + ".",
                                     "Tell who made this app."}),
                     1);
    }
}
