// SPDX-License-Identifier: GPL-3.0-or-later
// The path: media time up, wall time along. Playing is a slope, a pause is level, a seek an upright step.
#pragma once
#include <QWidget>

#include "playback/runs.h"
#include "workshop/history.h"

class QCustomPlot;
class QCPAxis;
class QCPGraph;
class QCPItemLine;
class QCPItemText;

namespace ruedo {

/// Hides the charting library from its users: its headers are slow to compile.
class PathChart : public QWidget {
  public:
    explicit PathChart(QWidget* parent = nullptr);
    /// A look at the controller, some ten times a second; `wall` counts from when the controller was made.
    void sample(const Snapshot& snapshot, const HostLife& life, Time wall);
    void note(const Event& event);
    void forget();
    /// The stretch that is seen, as JSON Lines.
    QString visible_events() const;
    /// That stretch of wall time is seen, until something is followed again.
    void look_at(Time from, Time length);
    /// Events that are marked where they happened: troubles, and their ends.
    std::size_t marked() const;
    /// Where words stand in it, oldest first. None lies on another: the newer one is read, and closer to there is room
    /// for both.
    std::vector<QRectF> words() const;
    /// Where a converter in front of the player was seen to be.
    std::size_t made() const;
    /// A moment was pointed at, or, with nothing, what is now again.
    std::function<void(std::optional<Time> wall)> on_point;
    void point(std::optional<Time> wall);
    std::optional<Time> pointed() const { return pointed_; }
    /// All that was seen of this player ...
    History& history() { return history_; }
    /// ... and the same as a run.
    Run run() const;
    /// A run to lay beside it, aligned at something that happens in both; nothing to let go of it.
    void compare(std::optional<Run> kept, const Anchor& anchor = anchors().front());
    const std::optional<Run>& kept() const { return kept_run_; }
    /// Where the two part, in words; looked for anew at every event.
    const std::optional<Difference>& difference() const { return difference_; }
    std::function<void()> on_difference;

  protected:
    void mousePressEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    bool event(QEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    void follow();
    void redraw();
    void make_room();
    void draw_over(QPainter& g) const;
    void measure();
    void lay_beside();
    void step_event(int by);
    void mark_drops(double wall, double media, std::uint64_t count);
    QCPItemText* write(const QString& words, double wall, double media, bool at_top, const QFont& font);
    QCustomPlot* plot_;  ///< Fills it, and draws; what a hand does comes here first.
    QCPAxis *wall_, *media_, *rate_;
    QCPGraph *shown_, *sounded_, *decoded_, *made_, *link_, *rung_, *buffered_low_, *buffered_high_, *calls_,
        *troubles_, *eased_, *kept_, *drops_;
    History history_;
    std::optional<Time> pointed_;
    std::optional<Run> kept_run_;
    const Anchor* anchor_ = &anchors().front();
    std::optional<Difference> difference_;
    std::optional<double> shift_;  ///< By which the kept run lies moved along.
    bool looks_for_difference_ = false;
    double looked_ = 0;  ///< When it was looked for last.
    Snapshot last_;
    /// Words beside a place on the path, in what room there is; or at the top, where a call was made.
    struct Labels {
        QCPItemText* item;
        double wall, media;
        bool at_top;
    };
    std::vector<Labels> words_;
    /// Frames dropped one after the other, in seconds of wall time.
    struct Drops {
        double to = -1e9;
        std::uint64_t count = 0;
        QCPItemText* words = nullptr;  ///< Where it is still there.
    };
    Drops dropping_;
    std::vector<std::pair<double, double>> points_;
    QCPItemLine* ruler_ = nullptr;
    QCPItemText* ruler_text_ = nullptr;
    double last_wall_ = 0, duration_ = 1;
    std::uint64_t dropped_ = 0;
    bool following_ = true;
    QPoint pressed_;
};

}  // namespace ruedo
