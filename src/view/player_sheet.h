// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <QImage>
#include <QRegion>
#include <QWidget>
#include <functional>
#include <vector>

#include "scene/texture.h"

namespace ruedo {

/// An image as what is laid on a screen; its pixels stay its own.
inline scene::Texture texture_of(const QImage& image, std::uint64_t revision = 0) {
    return {.pixels = image.constBits(),
            .width = image.width(),
            .height = image.height(),
            .stride = static_cast<int>(image.bytesPerLine()),
            .see_through = image.hasAlphaChannel(),
            .revision = revision};
}

/// Everything that a player shows but its picture, on one transparent sheet, for composing the player elsewhere.
/// Only what has changed is drawn again.
class PlayerSheet {
  public:
    /// `picture` is the child that is left out.
    PlayerSheet(QWidget& player, const QWidget& picture) : player_(player), picture_(picture) {}
    /// A part of it wants to be drawn anew; `on_changed` hears of the first.
    void mark(const QRect& part);
    void mark_all() { mark(player_.rect()); }
    /// Of a child: what it tells of itself by its events.
    void watch(const QWidget& child, const QEvent& event);
    /// Corners of this radius are laid over the picture.
    void set_corners(const QRectF& picture, double radius, const QColor& surround);
    /// Brings it up to date; false where it looks as before.
    bool refresh();
    const QImage& image() const { return image_; }  ///< Premultiplied, of the player's size.
    /// Where there is something on it, in rectangles apart from each other.
    std::vector<QRect> parts() const;
    std::function<void()> on_changed;

  private:
    void paint_corners(QPainter& g) const;
    QWidget& player_;
    const QWidget& picture_;
    QImage image_;
    QRegion dirty_;
    QRectF rounded_;
    double radius_ = 0;
    QColor surround_;
};

}  // namespace ruedo
