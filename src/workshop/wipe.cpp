// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/wipe.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>

#include "picture/picture.h"
#include "view/look.h"

namespace ruedo {

Wipe::Wipe(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(320, 200);
    setAccessibleName("The picture as it is and as it will be");
    setCursor(Qt::SplitHCursor);
    setToolTip("Drag the line, or move it with the arrow keys.");
}

void Wipe::show_pictures(const QImage& before, const QImage& after, const QString& word) {
    before_ = before, after_ = after, word_ = word;
    setAccessibleDescription(after.isNull() ? word : QString());
    update();
}

void Wipe::set_line(double line) {
    line_ = std::clamp(line, 0.0, 1.0);
    update();
}

QRectF Wipe::picture() const {
    auto& image = before_.isNull() ? after_ : before_;
    if (image.isNull()) return rect();
    auto r = fit_rect(Fit::contain, image.width(), image.height(), width(), height());
    return {r.x, r.y, r.width, r.height};
}

void Wipe::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::SmoothPixmapTransform);
    g.setRenderHint(QPainter::Antialiasing);
    g.fillRect(rect(), look::surround);
    auto r = picture();
    auto split = r.left() + r.width() * line_;
    if (!before_.isNull()) g.drawImage(r, before_);
    if (!after_.isNull()) {
        g.save();
        g.setClipRect(QRectF(split, r.top(), r.right() - split, r.height()));
        g.drawImage(r, after_);
        g.restore();
    }
    auto tag = [&](const QString& words, bool right) {
        g.setFont(look::font(look::Size::small));
        auto wide = g.fontMetrics().horizontalAdvance(words) + 18.0;
        QRectF box(right ? r.right() - wide - 8 : r.left() + 8, r.top() + 8, wide, 24);
        g.setPen(Qt::NoPen);
        g.setBrush(c.panel);
        g.drawRoundedRect(box, 4, 4);
        g.setPen(c.ink);
        g.drawText(box, Qt::AlignCenter, words);
    };
    if (!before_.isNull()) tag("as it is", false);
    tag(after_.isNull() ? word_ : QString("as it will be"), true);
    if (after_.isNull() || before_.isNull()) return;
    g.setPen(QPen(QColor(0xF7, 0xF1, 0xE5), 2));
    g.drawLine(QPointF(split, r.top()), QPointF(split, r.bottom()));
    // A bead on the line, for the hand.
    g.setBrush(hasFocus() ? c.ochre : QColor(0xF7, 0xF1, 0xE5));
    g.setPen(QPen(look::surround, 1.5));
    g.drawEllipse(QPointF(split, r.center().y()), 11, 11);
}

void Wipe::mousePressEvent(QMouseEvent* e) { mouseMoveEvent(e); }
void Wipe::mouseMoveEvent(QMouseEvent* e) {
    if (!(e->buttons() & Qt::LeftButton)) return;
    auto r = picture();
    set_line((e->position().x() - r.left()) / std::max(1.0, r.width()));
}
void Wipe::keyPressEvent(QKeyEvent* e) {
    auto step = e->modifiers() & Qt::ShiftModifier ? 0.1 : 0.02;
    if (e->modifiers() & (Qt::AltModifier | Qt::ControlModifier)) return QWidget::keyPressEvent(e);
    if (e->key() == Qt::Key_Left)
        set_line(line_ - step);
    else if (e->key() == Qt::Key_Right)
        set_line(line_ + step);
    else
        QWidget::keyPressEvent(e);
}

}  // namespace ruedo
