// SPDX-License-Identifier: Apache-2.0
// Captions over the picture, placed by what their settings say.
#pragma once
#include <QWidget>

#include "playback/playback.h"

namespace ruedo {

class CaptionsLayer : public QWidget {
  public:
    explicit CaptionsLayer(QWidget* parent);
    /// What is to be seen at the snapshot's position, within `picture` and above `free_below` pixels.
    void follow(const Snapshot& snapshot, const QRectF& picture, double free_below);
    QStringList lines() const;

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<Cue> shown_;
    QRectF picture_;
    double free_below_ = 0;
};

}  // namespace ruedo
