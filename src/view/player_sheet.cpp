// SPDX-License-Identifier: Apache-2.0
#include "view/player_sheet.h"

#include <QEvent>
#include <QPainter>
#include <QPainterPath>
#include <algorithm>
#include <cmath>

namespace ruedo {

void PlayerSheet::mark(const QRect& part) {
    bool first = dirty_.isEmpty();
    dirty_ += part;
    if (first && !dirty_.isEmpty() && on_changed) on_changed();
}

void PlayerSheet::watch(const QWidget& child, const QEvent& event) {
    if (&child == &picture_ || child.parentWidget() != &player_) return;
    switch (event.type()) {
        case QEvent::Move:
        case QEvent::Resize:
            // Where it stood is not known here.
            return mark_all();
        case QEvent::Show:
        case QEvent::Hide:
        case QEvent::ZOrderChange:
        case QEvent::EnabledChange:
        case QEvent::FocusIn:
        case QEvent::FocusOut:
        case QEvent::Enter:
        case QEvent::Leave:
        case QEvent::MouseButtonPress:
        case QEvent::MouseButtonRelease:
        case QEvent::MouseMove:
        case QEvent::Wheel:
        case QEvent::KeyPress:
        case QEvent::KeyRelease:
            return mark(child.geometry());
        default:
            return;
    }
}

void PlayerSheet::set_corners(const QRectF& picture, double radius, const QColor& surround) {
    if (picture == rounded_ && radius == radius_ && surround == surround_) return;
    rounded_ = picture, radius_ = radius, surround_ = surround;
    mark_all();
}

void PlayerSheet::paint_corners(QPainter& g) const {
    if (radius_ <= 0) return;
    QPainterPath whole, round;
    whole.addRect(rounded_), round.addRoundedRect(rounded_, radius_, radius_);
    g.setRenderHint(QPainter::Antialiasing);
    g.fillPath(whole.subtracted(round), surround_);
}

bool PlayerSheet::refresh() {
    auto dirty = std::exchange(dirty_, {}) & player_.rect();
    bool other_size = image_.size() != player_.size();
    if (other_size) {
        image_ = QImage(player_.size(), QImage::Format_ARGB32_Premultiplied);
        image_.fill(Qt::transparent);
        dirty = player_.rect();
    }
    if (dirty.isEmpty()) return other_size;
    // Into a second image first: a holder of the old one keeps it where both look the same.
    auto bounds = dirty.boundingRect();
    auto before = image_.copy(bounds), now = before;
    {
        QPainter g(&now);
        g.translate(-bounds.topLeft());
        g.setClipRegion(dirty);
        g.setCompositionMode(QPainter::CompositionMode_Source);
        g.fillRect(bounds, Qt::transparent);
        g.setCompositionMode(QPainter::CompositionMode_SourceOver);
        paint_corners(g);
        // In the order in which they lie on each other.
        for (auto* object : player_.children()) {
            auto* child = qobject_cast<QWidget*>(object);
            if (!child || child == &picture_ || child->isHidden() || child->isWindow() ||
                !dirty.intersects(child->geometry()))
                continue;
            g.save();
            child->render(&g, child->pos(), QRegion(), QWidget::DrawChildren);
            g.restore();
        }
    }
    if (now == before) return other_size;
    QPainter g(&image_);
    g.setCompositionMode(QPainter::CompositionMode_Source);
    g.drawImage(bounds.topLeft(), now);
    return true;
}

std::vector<QRect> PlayerSheet::parts() const {
    std::vector<QRect> parts;
    auto add = [&](QRect part) {
        part &= player_.rect();
        if (part.isEmpty()) return;
        // What touches another one becomes one with it.
        for (bool grown = true; grown;) {
            grown = false;
            for (auto it = parts.begin(); it != parts.end(); ++it)
                if (it->adjusted(-1, -1, 1, 1).intersects(part)) {
                    part |= *it;
                    parts.erase(it);
                    grown = true;
                    break;
                }
        }
        parts.push_back(part);
    };
    for (auto* object : player_.children())
        if (auto* child = qobject_cast<QWidget*>(object);
            child && child != &picture_ && !child->isHidden() && !child->isWindow())
            add(child->geometry());
    if (radius_ > 0) {
        auto r = static_cast<int>(std::ceil(radius_)) + 1;
        auto of = rounded_.toAlignedRect();
        for (auto at : {of.topLeft(), QPoint(of.right() - r + 1, of.top()), QPoint(of.left(), of.bottom() - r + 1),
                        of.bottomRight() - QPoint(r - 1, r - 1)})
            add(QRect(at, QSize(r, r)));
    }
    return parts;
}

}  // namespace ruedo
