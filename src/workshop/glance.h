// SPDX-License-Identifier: GPL-3.0-or-later
// What a card needs of a source: poster and facts, found beside the window and kept on disk by content.
#pragma once
#include <QImage>
#include <QObject>
#include <map>
#include <memory>

#include "facts/facts.h"
#include "view/desk.h"

namespace ruedo {

struct Thumbnail {
    QImage poster;                             ///< Twice the size it is shown at.
    std::shared_ptr<const SourceFacts> facts;  ///< Nothing when the source does not open.
    std::optional<Error> error;
    bool from_service = false;  ///< From a catalogue; the clip itself was not analysed.
};

class PosterCache : public QObject {
    Q_OBJECT
  public:
    explicit PosterCache(QObject* parent = nullptr);
    /// What is known; otherwise it is looked for, and `found` says when.
    const Thumbnail* at(const std::string& source);
    /// Looks again at what did not open, or changed.
    void forget(const std::string& source);
    int waiting() const { return waiting_; }
    static constexpr int poster_width = 196, poster_height = 128;

  signals:
    void found(const std::string& source);

  private:
    std::map<std::string, std::optional<Thumbnail>> known_;
    int waiting_ = 0;
    BackgroundTasks tasks_{nullptr, 2, QThread::LowPriority};
};

}  // namespace ruedo
