// SPDX-License-Identifier: GPL-3.0-or-later
// One picture as it is and as it will be, under one line.
#pragma once
#include <QImage>
#include <QWidget>

namespace ruedo {

class Wipe : public QWidget {
  public:
    explicit Wipe(QWidget* parent = nullptr);
    /// Either may be missing; `word` says why there is nothing behind the line.
    void show_pictures(const QImage& before, const QImage& after, const QString& word);
    /// Where the line stands, 0 to 1 of the picture's width.
    double line() const { return line_; }
    void set_line(double line);

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    QRectF picture() const;
    QImage before_, after_;
    QString word_;
    double line_ = 0.5;
};

}  // namespace ruedo
