// SPDX-License-Identifier: Apache-2.0
// What lies between the picture of a player and its controls.
#pragma once
#include <QPainter>

#include "view/player_view.h"
#include "view/spoken.h"

namespace ruedo {

/// What lies under the controls of a bar.
class PlayerView::Plate : public QWidget {
  public:
    explicit Plate(QWidget* parent) : QWidget(parent) { hide(); }
    void set_look(const ThemeSpec& theme, double cover) {
        if (theme == theme_ && cover == cover_) return;
        theme_ = theme, cover_ = cover;
        update();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        paint_bar(g, theme_, cover_, QRectF(rect()));
    }

  private:
    ThemeSpec theme_;
    double cover_ = 1;
};

/// A still in the place of the picture.
class PlayerView::Poster : public QWidget {
  public:
    explicit Poster(QWidget* parent) : QWidget(parent) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAccessibleName("Poster");
        speak_as(*this, QAccessible::Graphic);
        hide();
    }
    /// True where it looks otherwise than before.
    bool set(const QImage& image, const QColor& surround) {
        bool other = image.cacheKey() != image_.cacheKey() || surround != surround_;
        if (other) image_ = image, surround_ = surround, update();
        if (isVisible() == image_.isNull()) setVisible(!image_.isNull());
        return other;
    }
    const QImage& image() const { return image_; }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::SmoothPixmapTransform);
        g.fillRect(rect(), surround_);
        auto size = QSizeF(image_.size()).scaled(QSizeF(this->size()), Qt::KeepAspectRatio);
        g.drawImage(QRectF(QPointF(width() - size.width(), height() - size.height()) / 2, size), image_);
    }

  private:
    QImage image_;
    QColor surround_;
};

}  // namespace ruedo
