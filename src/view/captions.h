// SPDX-License-Identifier: Apache-2.0
// Captions over the picture, placed by what their settings say.
#pragma once
#include <QPainter>
#include <QWidget>

#include "playback/playback.h"

namespace ruedo {

/// What captions say at the snapshot's position, within `picture` and above `foot`.
void paint_cues(QPainter& painter, const Snapshot& snapshot, const QRectF& picture, double foot);

class CaptionsLayer : public QWidget {
  public:
    explicit CaptionsLayer(QWidget* parent);
    /// The cues visible at the snapshot's position, within `picture` and above `foot`.
    void follow(const Snapshot& snapshot, const QRectF& picture, double foot);
    /// How large the mount's pixels are seen; letters are sized for the mount.
    void set_scale(double scale) { scale_ = scale; }
    QStringList lines() const;
    std::function<void()> on_changed;  ///< Other captions are to be seen.

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    std::vector<Cue> shown_;
    QRectF picture_;
    double foot_ = 0, scale_ = 1;
};

}  // namespace ruedo
