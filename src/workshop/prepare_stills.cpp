// SPDX-License-Identifier: GPL-3.0-or-later
// Posters and sheets out of Prepare.
#include <QFileInfo>

#include "view/look.h"
#include "workshop/prepare_page.h"

namespace ruedo {
namespace fs = std::filesystem;

void PreparePage::set_poster(const std::string& of, const std::function<void(SourceSpec&)>& how, const QString& told) {
    auto d = project_.document();
    bool there = false;
    for (auto& s : d.sources) {
        if (resolve(s, project_.folder()) != of) continue;
        there = true;
        s.poster.clear(), s.poster_at.reset(), s.no_poster = false;
        how(s);
    }
    if (there) project_.change(d, "Poster");
    note_->setText(there ? told : QString("Its original is not on the shelf."));
    note_->show();
}
void PreparePage::keep_poster(Time at, Poster how) {
    auto of = seen();
    auto clock = [](Time t) { return text(format_clock(t)); };
    if (how == Poster::as_it_is)
        return set_poster(
            of, [at](auto& s) { s.poster_at = at; }, QString("The frame at %1 is the poster now.").arg(clock(at)));
    if (how == Poster::sharpest)
        return tasks_.ask(
            "poster", of + "|" + std::to_string(at.ns),
            [of, at](const std::atomic<bool>& cancel) {
                return sharpest_near(of, at, 500_ms, CodecRegistry::standard(), &cancel);
            },
            [this, of, at, clock](Result<Time> found) {
                tasks_.forget("poster");
                auto t = found.value_or(at);
                set_poster(
                    of, [t](auto& s) { s.poster_at = t; },
                    QString("The sharpest frame nearby is at %1; it is the poster now.").arg(clock(t)));
            });
    auto shape = shape_of(project_.document().mount);
    StillOptions o;
    o.at = {at}, o.width = shape.width, o.height = shape.height, o.fills = true;
    write_stills("poster", o, [this, of](const QString& file) {
        set_poster(
            of, [&](auto& s) { s.poster = project_.file_for(file.toStdString()); },
            QString("“%1” is the poster now.").arg(QFileInfo(file).fileName()));
    });
}
void PreparePage::make_sheet() {
    StillOptions o;
    o.columns = 4, o.rows = 3, o.width = 320, o.height = 320;
    write_stills("sheet", o, [this](const QString& file) {
        note_->setText(QString("“%1” was saved beside the project.").arg(QFileInfo(file).fileName()));
        note_->show();
    });
}
/// One file beside the project, under a name that nothing has yet.
void PreparePage::write_stills(const char* what, const StillOptions& options,
                               std::function<void(const QString&)> done) {
    auto number = std::to_string(++number_);
    tasks_.ask(
        what, number,
        [of = seen(), asked = options, what = std::string(what), folder = project_.folder(),
         scratch =
             scratch_.path() / ("stills-" + number)](const BackgroundTasks::Question& question) -> Result<QString> {
            auto o = asked;
            o.out = o.columns ? scratch / "sheet.png" : scratch;
            std::error_code ec;
            fs::create_directories(scratch, ec);
            o.go_on = [&] { return !question.given_up(); };
            RUEDO_TRY(auto made, stills(of, o, CodecRegistry::standard()));
            auto out = free_place(folder, of, what, "png");
            fs::copy_file(made.front().path, out, ec);
            if (ec) return std::unexpected(errno_error(ec.value(), "Writing “" + out.filename().string() + "”"));
            return text(out.string());
        },
        [this, done = std::move(done)](Result<QString> file) {
            if (file) return done(*file);
            note_->setText(text(file.error().sentence + " " + file.error().hint));
            note_->show();
        });
}

}  // namespace ruedo
