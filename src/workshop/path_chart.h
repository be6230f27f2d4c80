// SPDX-License-Identifier: GPL-3.0-or-later
// The path: media time up, wall time along. Playing is a slope, a pause is level, a seek an upright step.
#pragma once
#include <qcustomplot.h>

#include "playback/playback.h"

namespace ruedo {

class PathChart : public QCustomPlot {
  public:
    explicit PathChart(QWidget* parent = nullptr);
    /// A look at the controller, some ten times a second; `wall` counts from when the controller was made.
    void sample(const Snapshot& snapshot, Time wall);
    void note(const Event& event);
    void forget();
    /// The stretch that is seen, as JSON Lines.
    QString visible_events() const;
    /// Events that are marked where they happened: troubles, and their ends.
    std::size_t marked() const;
    /// Where a converter in front of the player was seen to be.
    std::size_t made() const;

  protected:
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    void follow();
    void measure();
    QCPGraph *shown_, *sounded_, *decoded_, *made_, *link_, *rung_, *buffered_low_, *buffered_high_, *calls_, *drops_,
        *troubles_, *eased_;
    std::vector<Event> events_;
    std::vector<QCPItemText*> texts_;
    std::vector<std::pair<double, double>> points_;
    QCPItemLine* ruler_ = nullptr;
    QCPItemText* ruler_text_ = nullptr;
    double last_wall_ = 0, duration_ = 1;
    std::uint64_t dropped_ = 0;
    bool following_ = true;
    QPoint pressed_;
};

}  // namespace ruedo
