// SPDX-License-Identifier: GPL-3.0-or-later
// What a trial cost over its time: how alike each picture is, and the bytes before and after.
#pragma once
#include <QWidget>
#include <functional>
#include <memory>

#include "convert/trial.h"
#include "picture/quality.h"

namespace ruedo {

class CostStrip : public QWidget {
  public:
    explicit CostStrip(QWidget* parent = nullptr);
    void show_sample_encode(std::shared_ptr<const SampleEncode> sample_encode);
    /// What was kept lies behind it.
    void show_kept(std::vector<std::shared_ptr<const SampleEncode>> kept);
    /// The moment that is looked at; a press chooses another.
    void set_place(Time at);
    std::function<void(Time)> on_place;
    QSize sizeHint() const override { return {400, 120}; }
    /// What is said about the whole: the least there is, or why there is none.
    QString alike_in_words() const;
    /// What is said about the place under the pointer.
    QString words_at(double x) const;

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    QRectF upper() const;
    QRectF lower() const;
    double x_of(Time t) const;
    Time time_at(double x) const;
    double least_alike() const;
    /// The compared picture at a time.
    const Comparison::Place* place_at(Time t) const;
    std::shared_ptr<const SampleEncode> sample_encode_;
    std::vector<std::shared_ptr<const SampleEncode>> kept_;
    Time at_{};
};

}  // namespace ruedo
