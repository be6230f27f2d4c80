// SPDX-License-Identifier: GPL-3.0-or-later
// Adding sources: files, folders and addresses are looked through beside the window, then put on the shelf at once.
#pragma once
#include <QHash>
#include <QObject>
#include <QStringList>

#include "view/desk.h"

namespace ruedo {

/// The filter of a file dialog, made from what opens here.
QString dialog_filter();

class Adding : public QObject {
    Q_OBJECT
  public:
    explicit Adding(QObject* parent = nullptr) : QObject(parent) {}
    /// Paths, folders and http addresses. Files that are named are taken as they are; of folders, those that open
    /// by their content.
    void add(const QStringList& sources);
    void stop();
    bool busy() const { return busy_ > 0; }

    struct Refusal {
        QString sentence, hint, instead;
    };  ///< `instead` is a path that does exist, if one is near.

  signals:
    void progressed(int looked_at);
    /// `captions` of a file: those that lie beside it.
    void found(const QStringList& files, const QHash<QString, QStringList>& captions);
    void refused(const QList<Adding::Refusal>& refusals);
    void done();

  private:
    BackgroundTasks tasks_{nullptr, 1};
    int busy_ = 0, asked_ = 0;
};

}  // namespace ruedo
