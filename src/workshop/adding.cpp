// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/adding.h"

#include <QDir>
#include <QDirIterator>
#include <QElapsedTimer>
#include <QUrl>

#include "container/container.h"
#include "io/http.h"
#include "stream/stream.h"
#include "text/cues.h"
#include "view/look.h"

namespace ruedo {

QString dialog_filter() {
    QStringList patterns;
    for (auto e : media_extensions()) patterns << "*." + text(e);
    return QString("What opens here (%1);;All files (*)").arg(patterns.join(' '));
}

namespace {
/// A stream is added by its playlist: its segments and further lists are parts of it.
void take_parts_out(QStringList& files) {
    QSet<QString> parts;
    for (auto& file : files) {
        if (!file.endsWith(".m3u8", Qt::CaseInsensitive) && !file.endsWith(".mpd", Qt::CaseInsensitive)) continue;
        std::filesystem::path playlist = file.toStdString();
        auto made_of = stream::files_of(playlist);
        if (!made_of) continue;
        for (auto& part : *made_of)
            if (part != playlist.lexically_normal()) parts << QString::fromStdString(part.string());
    }
    files.removeIf([&](auto& file) { return parts.contains(file); });
}

struct Look {
    QStringList files;
    QHash<QString, QStringList> captions;
    QList<Adding::Refusal> refusals;
};
}  // namespace

void Adding::stop() {
    tasks_.forget_all();
    busy_ = 0;
    emit done();
}

void Adding::add(const QStringList& sources) {
    ++busy_;
    // Each its own place: what is asked later does not take the place of what is under way.
    auto place = std::to_string(++asked_);
    auto work = [this, sources](const BackgroundTasks::Question& question) {
        Look look;
        int looked = 0;
        QElapsedTimer since;
        since.start();
        auto describe = [&] {
            ++looked;
            if (since.elapsed() < 100) return;
            since.restart();
            question.post([this, looked] { emit progressed(looked); });
        };
        for (auto& name : sources) {
            if (question.given_up()) break;
            if (is_address(name.toStdString())) {
                look.files << name;
                continue;
            }
            if (!QFileInfo(name).isDir()) {
                describe();
                auto file = open_file(name.toStdString());
                if (file) {
                    look.files << name;
                } else {
                    auto near = nearest_name(name.toStdString());
                    look.refusals << Adding::Refusal{
                        text(file.error().sentence), text(file.error().hint),
                        near && !QFileInfo::exists(name) ? QString::fromStdString(near->string()) : QString()};
                }
                continue;
            }
            QStringList inside;
            for (QDirIterator it(name, QDir::Files, QDirIterator::Subdirectories);
                 it.hasNext() && !question.given_up() && inside.size() < 10'000;) {
                auto file = it.next();
                describe();
                auto source = open_file(file.toStdString());
                if (source && opens_here(**source)) inside << file;
            }
            inside.sort();
            take_parts_out(inside);
            if (inside.isEmpty())
                look.refusals << Adding::Refusal{QString("Nothing in “%1” opens here.").arg(QFileInfo(name).fileName()),
                                                 "Choose another folder.",
                                                 {}};
            look.files << inside;
        }
        std::map<std::filesystem::path, std::vector<std::filesystem::path>> captions;  // of each folder
        for (auto& file : look.files) {
            auto source = file.toStdString();
            if (question.given_up() || is_address(source)) continue;
            auto [in, fresh] = captions.try_emplace(std::filesystem::path(source).parent_path());
            if (fresh) in->second = captions_in(in->first);
            for (auto& beside : captions_beside(source, in->second))
                look.captions[file] << QString::fromStdString(beside);
        }
        return look;
    };
    tasks_.ask(place, place, std::move(work), [this, place](Look look) {
        --busy_;
        tasks_.forget(place);
        if (!look.files.isEmpty()) emit found(look.files, look.captions);
        if (!look.refusals.isEmpty()) emit refused(look.refusals);
        emit done();
    });
}

}  // namespace ruedo
