// SPDX-License-Identifier: GPL-3.0-or-later
// Trials laid over each other: how alike against how large, with the line of those that none beats.
#pragma once
#include <QWidget>
#include <functional>
#include <memory>

#include "convert/trial.h"

namespace ruedo {

class RunsChart : public QWidget {
  public:
    struct Run {
        std::shared_ptr<const SampleEncode> sample_encode;
        Recipe recipe;
        QString words;  ///< What tells it from the others.
    };
    explicit RunsChart(QWidget* parent = nullptr);
    /// `now` counts from 0 where it is one of them.
    void show_runs(std::vector<Run> runs, std::size_t now);
    const std::vector<Run>& runs() const { return runs_; }
    QPointF point_of(std::size_t run) const;
    std::function<void(std::size_t)> on_run;
    QSize sizeHint() const override { return {300, 118}; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    QRectF plot() const;
    std::optional<std::size_t> run_at(QPointF at) const;
    QString words_of(const Run& run) const;
    std::vector<Run> runs_;
    std::size_t now_ = 0;
};

}  // namespace ruedo
