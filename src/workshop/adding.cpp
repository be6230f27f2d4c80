// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/adding.h"

#include <QCoreApplication>
#include <QDir>
#include <QDirIterator>
#include <QElapsedTimer>
#include <QPointer>
#include <QUrl>

#include "container/container.h"
#include "io/http.h"
#include "text/cues.h"
#include "view/look.h"

namespace ruedo {

QString dialog_filter() {
    QStringList patterns;
    for (auto e : media_extensions()) patterns << "*." + text(e);
    return QString("What opens here (%1);;All files (*)").arg(patterns.join(' '));
}

Adding::Adding(QObject* parent) : QObject(parent) { pool_.setMaxThreadCount(1); }
Adding::~Adding() {
    *cancel_ = true;
    pool_.waitForDone();
}
void Adding::stop() {
    *cancel_ = true;
    cancel_ = std::make_shared<std::atomic<bool>>(false);
}

namespace {
struct Look {
    QStringList files;
    QHash<QString, QStringList> captions;
    QList<Adding::Refusal> refusals;
};
}  // namespace

void Adding::add(const QStringList& sources) {
    ++busy_;
    pool_.start([this_ = QPointer(this), sources, cancel = cancel_] {
        Look look;
        int looked = 0;
        QElapsedTimer since;
        since.start();
        auto tell = [&] {
            ++looked;
            if (since.elapsed() < 100) return;
            since.restart();
            QMetaObject::invokeMethod(
                qApp,
                [this_, looked] {
                    if (this_) emit this_->progressed(looked);
                },
                Qt::QueuedConnection);
        };
        for (auto& name : sources) {
            if (*cancel) break;
            if (is_address(name.toStdString())) {
                look.files << name;
                continue;
            }
            if (!QFileInfo(name).isDir()) {
                tell();
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
                 it.hasNext() && !*cancel && inside.size() < 10'000;) {
                auto file = it.next();
                tell();
                auto source = open_file(file.toStdString());
                if (source && opens_here(**source)) inside << file;
            }
            inside.sort();
            if (inside.isEmpty())
                look.refusals << Adding::Refusal{QString("Nothing in “%1” opens here.").arg(QFileInfo(name).fileName()),
                                                 "Choose another folder.",
                                                 {}};
            look.files << inside;
        }
        for (auto& file : look.files)
            if (!*cancel && !is_address(file.toStdString()))
                for (auto& captions : captions_beside(file.toStdString()))
                    look.captions[file] << QString::fromStdString(captions);
        QMetaObject::invokeMethod(
            qApp,
            [this_, look, stopped = cancel->load()] {
                if (!this_) return;
                --this_->busy_;
                if (!stopped && !look.files.isEmpty()) emit this_->found(look.files, look.captions);
                if (!stopped && !look.refusals.isEmpty()) emit this_->refused(look.refusals);
                emit this_->done();
            },
            Qt::QueuedConnection);
    });
}

}  // namespace ruedo
