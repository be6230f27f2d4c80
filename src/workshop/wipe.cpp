// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/wipe.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <algorithm>
#include <cmath>

#include "view/look.h"

namespace ruedo {
namespace {
const QColor chalk{0xF7, 0xF1, 0xE5};
}

Wipe::Wipe(QWidget* parent) : QWidget(parent) {
    setFocusPolicy(Qt::StrongFocus);
    setMinimumSize(320, 200);
    setMouseTracking(true);
    setAccessibleName("Original and conversion");
    setToolTip("Drag the line, or move it with the arrow keys; the wheel zooms.");
}

void Wipe::show_pictures(const QImage& before, const QImage& after, const QString& word, const QImage& difference) {
    before_ = before, after_ = after, word_ = word, difference_ = difference;
    setAccessibleDescription(after.isNull() ? word : QString());
    update();
}
void Wipe::see(Comparing seen) {
    seen_ = seen;
    update();
}
void Wipe::set_line(double line) {
    line_ = std::clamp(line, 0.0, 1.0);
    update();
}
void Wipe::set_zoom(double zoom) {
    zoom_ = zoom <= 0 ? 0 : std::clamp(zoom, 0.05, 32.0);
    pan({});
    update();
    if (on_zoomed) on_zoomed();
}

QSizeF Wipe::video_size() const {
    auto& image = before_.isNull() ? after_ : before_;
    return image.isNull() ? QSizeF(size()) : QSizeF(image.size());
}
QPointF Wipe::centre() const {
    auto size = video_size();
    return {middle_.x() * size.width(), middle_.y() * size.height()};
}
double Wipe::scale_in(const QRectF& room) const {
    auto size = video_size();
    return zoom_ > 0 ? zoom_ : std::min(room.width() / size.width(), room.height() / size.height());
}
QRectF Wipe::whole_in(const QRectF& room) const {
    auto size = video_size() * scale_in(room);
    // What fits stands in the middle; what does not, where it was dragged to.
    auto place = [](double from, double across, double wide, double middle) {
        return across <= wide ? from + (wide - across) / 2 : from + wide / 2 - across * middle;
    };
    return {place(room.left(), size.width(), room.width(), middle_.x()),
            place(room.top(), size.height(), room.height(), middle_.y()), size.width(), size.height()};
}
std::vector<QRectF> Wipe::rooms() const {
    QRectF all = rect();
    if (seen_ != Comparing::beside) return {all};
    auto half = (all.width() - 6) / 2;
    return {QRectF(0, 0, half, all.height()), QRectF(half + 6, 0, half, all.height())};
}
void Wipe::pan(QPointF by) {
    auto room = rooms().front();
    auto size = video_size() * scale_in(room);
    auto moved = [](double middle, double shift, double across, double wide) {
        if (across <= wide) return 0.5;
        auto edge = wide / 2 / across;
        return std::clamp(middle - shift / across, edge, 1 - edge);
    };
    middle_ = {moved(middle_.x(), by.x(), size.width(), room.width()),
               moved(middle_.y(), by.y(), size.height(), room.height())};
    update();
}

void Wipe::draw(QPainter& g, const QRectF& room, const QImage& image) const {
    if (image.isNull()) return;
    auto whole = whole_in(room), seen = seen_in(room);
    if (seen.isEmpty()) return;
    // Pixels that are as large as that are to be told apart.
    g.setRenderHint(QPainter::SmoothPixmapTransform, scale_in(room) < 2);
    auto sx = image.width() / whole.width(), sy = image.height() / whole.height();
    g.drawImage(seen, image,
                QRectF((seen.left() - whole.left()) * sx, (seen.top() - whole.top()) * sy, seen.width() * sx,
                       seen.height() * sy));
}

void Wipe::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    g.fillRect(rect(), look::surround);
    auto all = rooms();
    auto tag = [&](const QRectF& place, const QString& words, bool right) {
        if (words.isEmpty()) return;
        g.setFont(look::font(look::Size::small));
        auto wide = g.fontMetrics().horizontalAdvance(words) + 18.0;
        QRectF box(right ? place.right() - wide - 8 : place.left() + 8, place.top() + 8, wide, 24);
        g.setPen(Qt::NoPen);
        g.setBrush(c.panel);
        g.drawRoundedRect(box, 4, 4);
        g.setPen(c.ink);
        g.drawText(box, Qt::AlignCenter, words);
    };
    auto after_word = after_.isNull() ? word_ : QString("converted");
    if (seen_ == Comparing::beside) {
        draw(g, all[0], before_), draw(g, all[1], after_);
        if (!before_.isNull()) tag(seen_in(all[0]), "original", false);
        return tag(seen_in(all[1]), after_word, false);
    }
    auto room = all.front(), seen = seen_in(room);
    if (seen_ == Comparing::difference && both()) {
        draw(g, room, difference_);
        return tag(seen, "difference, amplified eight times", false);
    }
    auto split = seen.left() + seen.width() * line_;
    draw(g, room, before_);
    if (!after_.isNull()) {
        g.save();
        g.setClipRect(QRectF(split, seen.top(), seen.right() - split, seen.height()));
        draw(g, room, after_);
        g.restore();
    }
    if (!before_.isNull()) tag(seen, "original", false);
    tag(seen, after_word, true);
    if (!both()) return;
    g.setPen(QPen(chalk, 2));
    g.drawLine(QPointF(split, seen.top()), QPointF(split, seen.bottom()));
    // A bead on the line, for the hand.
    g.setBrush(hasFocus() ? c.ochre : chalk);
    g.setPen(QPen(look::surround, 1.5));
    g.drawEllipse(QPointF(split, seen.center().y()), 11, 11);
}

bool Wipe::near_line(QPointF at) const {
    if (seen_ != Comparing::line) return false;
    auto seen = seen_in(rooms().front());
    return zoom_ <= 0 || std::abs(at.x() - seen.left() - seen.width() * line_) < 16;
}
void Wipe::set_cursor(QPointF at) {
    setCursor(near_line(at) ? Qt::SplitHCursor : zoom_ > 0 ? Qt::OpenHandCursor : Qt::ArrowCursor);
}
/// A press moves the line, but where it is seen so large that a hand moves the picture and the line has to be touched.
void Wipe::mousePressEvent(QMouseEvent* e) {
    bool hand = e->button() == Qt::RightButton || e->button() == Qt::MiddleButton;
    if (hand || !near_line(e->position())) {
        held_ = e->position();
        setCursor(Qt::ClosedHandCursor);
    } else {
        held_.reset();
        mouseMoveEvent(e);
    }
}
void Wipe::mouseMoveEvent(QMouseEvent* e) {
    if (!e->buttons()) return set_cursor(e->position());
    if (held_) {
        pan(e->position() - *held_);
        held_ = e->position();
    } else {
        auto seen = seen_in(rooms().front());
        set_line((e->position().x() - seen.left()) / std::max(1.0, seen.width()));
    }
}
void Wipe::mouseReleaseEvent(QMouseEvent* e) {
    held_.reset();
    set_cursor(e->position());
}
/// What lies under the pointer stays there.
void Wipe::wheelEvent(QWheelEvent* e) {
    auto all = rooms();
    auto room = all.size() > 1 && e->position().x() >= all[1].left() ? all[1] : all[0];
    auto whole = whole_in(room);
    auto under = QPointF((e->position().x() - whole.left()) / std::max(1.0, whole.width()),
                         (e->position().y() - whole.top()) / std::max(1.0, whole.height()));
    auto fits = std::min(room.width() / video_size().width(), room.height() / video_size().height());
    auto zoom = scale_in(room) * std::pow(1.2, e->angleDelta().y() / 120.0);
    zoom_ = zoom <= fits ? 0 : std::min(zoom, 32.0);
    auto grown = video_size() * scale_in(room);
    middle_ = {under.x() - (e->position().x() - room.center().x()) / std::max(1.0, grown.width()),
               under.y() - (e->position().y() - room.center().y()) / std::max(1.0, grown.height())};
    pan({});
    if (on_zoomed) on_zoomed();
    e->accept();
}
void Wipe::keyPressEvent(QKeyEvent* e) {
    if (e->modifiers() & (Qt::AltModifier | Qt::ControlModifier)) return QWidget::keyPressEvent(e);
    auto step = e->modifiers() & Qt::ShiftModifier ? 0.1 : 0.02;
    bool aside = e->key() == Qt::Key_Left || e->key() == Qt::Key_Right;
    bool upright = e->key() == Qt::Key_Up || e->key() == Qt::Key_Down;
    auto towards = e->key() == Qt::Key_Left || e->key() == Qt::Key_Up ? -1 : 1;
    if (e->key() == Qt::Key_Plus || e->key() == Qt::Key_Minus) {
        auto scale = scale_in(rooms().front());
        set_zoom(e->key() == Qt::Key_Plus ? scale * 1.5 : scale / 1.5);
    } else if (aside && seen_ == Comparing::line) {
        set_line(line_ + towards * step);
    } else if (aside || (upright && zoom_ > 0)) {
        auto by = -towards * 500.0 * step;
        pan(aside ? QPointF(by, 0) : QPointF(0, by));
    } else {
        QWidget::keyPressEvent(e);
    }
}

}  // namespace ruedo
