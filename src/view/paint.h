// SPDX-License-Identifier: Apache-2.0
// How controls look: each is drawn by one function, in the widget that is pressed, in a mirror and in a picture alike.
#pragma once
#include <QImage>
#include <QPainter>

#include "player/layout.h"

namespace ruedo {

inline QRect rect_of(const Box& b) { return {b.x, b.y, b.width, b.height}; }

struct StripItem {
    QString name;
    QImage poster;
};

/// What a control is drawn with besides its document and the moment.
struct Drawn {
    bool focus = false, pressed = false;
    bool on_picture = false;          ///< No bar's plate lies under it.
    bool on_dark = false;             ///< What lies under it is dark.
    ThemeSpec theme{};                ///< For what it sets nothing itself.
    std::optional<double> dragged{};  ///< Where a rail or dial is held, 0 to 1.
    int turned = 0;                   ///< Degrees, of what turns.
    std::span<const StripItem> strip{};

    /// True where it looks otherwise than before.
    bool set_ground(bool picture, bool dark, const ThemeSpec& by) {
        bool same = picture == on_picture && dark == on_dark && by == theme;
        on_picture = picture, on_dark = dark, theme = by;
        return !same;
    }
};
void paint_control(QPainter& painter, const ControlSpec& control, const ControlContext& context, QRectF box,
                   const Drawn& drawn = {});
void paint_bar(QPainter& painter, const ThemeSpec& theme, double cover, QRectF box);
/// The control that stands for what has folded away.
void paint_more(QPainter& painter, QRectF box, const Drawn& drawn);

/// The rail inside a rail control's box.
QRectF rail_in(QRectF box, const ControlSpec& control);
/// Where in a dial's box a hand points, 0 to 1; its ends stand left and right of an opening at the foot.
double dial_at(QRectF box, QPointF at);
/// The box of the `i`-th poster in a strip, and which is the first to be seen.
QRectF strip_box(QRectF box, std::size_t i, std::size_t first);
std::size_t strip_first(QRectF box, std::size_t count, std::size_t index);

}  // namespace ruedo
