#include <ruedo/view/player_view.h>

#include <QApplication>

int main(int argc, char** argv) {
    const ruedo::WorkersEnd workers_end;
    ruedo::CodecRegistry::set_standard_folder(RUEDO_CODECS);
    QApplication app(argc, argv);
    ruedo::PlaybackHost host(false);
    ruedo::PlayerView view(host);
    ruedo::PlayerDocument document;
    document.sources.push_back({.name = "A clip", .file = argv[1]});
    view.load(document, 0, ".");
    view.show();
    QTimer::singleShot(1500, &app, [&] { app.exit(view.surface().has_picture() ? 0 : 1); });
    return app.exec();
}
