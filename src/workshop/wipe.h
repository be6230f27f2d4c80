// SPDX-License-Identifier: GPL-3.0-or-later
// One picture as it is and as it will be: under one line, side by side, or how they differ; whole, or as large as it
// takes to see its pixels.
#pragma once
#include <QImage>
#include <QWidget>
#include <functional>
#include <optional>
#include <vector>

namespace ruedo {

class Wipe : public QWidget {
  public:
    enum class Comparing { line, beside, difference };
    explicit Wipe(QWidget* parent = nullptr);
    /// Either may be missing; `word` says why there is nothing behind the line.
    void show_pictures(const QImage& before, const QImage& after, const QString& word, const QImage& difference = {});
    void see(Comparing seen);
    Comparing seen() const { return seen_; }
    /// Where the line stands, 0 to 1 across what can be seen of the picture.
    double line() const { return line_; }
    void set_line(double line);
    /// Points of the screen to a pixel of the picture; 0 for as large as the whole of it fits.
    double zoom() const { return zoom_; }
    void set_zoom(double zoom);
    /// What stands in the middle where it does not fit, in pixels of the picture as it is.
    QPointF centre() const;
    bool has_before() const { return !before_.isNull(); }
    /// Whether there are pictures of both.
    bool both() const { return !before_.isNull() && !after_.isNull(); }
    std::function<void()> on_zoomed;

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    QSizeF video_size() const;
    double scale_in(const QRectF& room) const;
    /// Where all of the picture would lie, were there the room; and the part of the room that it covers.
    QRectF whole_in(const QRectF& room) const;
    QRectF seen_in(const QRectF& room) const { return whole_in(room).intersected(room); }
    std::vector<QRectF> rooms() const;
    void draw(QPainter& painter, const QRectF& room, const QImage& image) const;
    void pan(QPointF by);
    void set_cursor(QPointF at);
    bool near_line(QPointF at) const;
    QImage before_, after_, difference_;
    QString word_;
    Comparing seen_ = Comparing::line;
    double line_ = 0.5, zoom_ = 0;
    QPointF middle_{0.5, 0.5};  ///< Of the picture, what stands in the middle: 0 to 1.
    std::optional<QPointF> held_;
};

}  // namespace ruedo
