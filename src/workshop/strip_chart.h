// SPDX-License-Identifier: GPL-3.0-or-later
// A source over its whole length: bytes a second with the keyframes marked, and loudness beneath.
#pragma once
#include <QWidget>

#include "facts/facts.h"

namespace ruedo {

class StripChart : public QWidget {
  public:
    explicit StripChart(QWidget* parent = nullptr);
    void show_facts(std::shared_ptr<const SourceFacts> facts);
    QSize sizeHint() const override { return {400, 176}; }
    /// What is said about the place under the pointer.
    QString words_at(double x) const;

  protected:
    void paintEvent(QPaintEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void leaveEvent(QEvent*) override;

  private:
    QRectF upper() const;
    QRectF lower() const;
    double x_of(Time t) const;
    std::shared_ptr<const SourceFacts> facts_;
    double pointer_ = -1;
};

}  // namespace ruedo
