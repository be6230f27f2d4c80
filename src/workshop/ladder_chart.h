// SPDX-License-Identifier: GPL-3.0-or-later
// The rungs of a stream as steps, the more bits the higher, and on each its segments over the stream's length: where
// they do not begin together it shows.
#pragma once
#include <QWidget>

#include "media/streaming.h"

namespace ruedo {

class LadderChart : public QWidget {
  public:
    explicit LadderChart(QWidget* parent = nullptr);
    void show_stream(std::optional<StreamReport> stream);
    QSize sizeHint() const override { return {400, 150}; }
    /// What is said about the step under a point; empty beside them.
    QString words_at(QPointF at) const;

  protected:
    void paintEvent(QPaintEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;

  private:
    struct Step {
        QRectF box;
        const Rung* rung;
    };
    std::vector<Step> steps() const;
    double x_of(Time t) const;
    Time end() const;
    std::optional<StreamReport> stream_;
};

}  // namespace ruedo
