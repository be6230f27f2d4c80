// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/mount.h"

#include <QPainter>

#include "view/look.h"

namespace ruedo {

MountView::MountView(PlayerView* player, QWidget* parent) : QWidget(parent), player_(player) {
    player_->setParent(this);
    player_->on_full_screen_left = [this] { place(); };
}
void MountView::set_mount(Mount mount) {
    mount_ = mount;
    place();
    update();
}
void MountView::resizeEvent(QResizeEvent*) { place(); }

void MountView::place() {
    auto area = rect().adjusted(14, 14, -14, -14);
    if (mount_ == Mount::window) {
        frame_ = area;
        screen_ = frame_.adjusted(1, 25, -1, -1);
    } else {
        bool upright = mount_ == Mount::handset_upright;
        // A handset's screen of 9 by 18.
        auto r = fit_rect(Fit::contain, upright ? 9 : 18, upright ? 18 : 9, area.width() - 24, area.height() - 24);
        screen_ = QRect(area.left() + 12 + static_cast<int>(r.x), area.top() + 12 + static_cast<int>(r.y),
                        static_cast<int>(r.width), static_cast<int>(r.height));
        frame_ = screen_.adjusted(-11, -11, 11, 11);
    }
    if (!player_->in_full_screen()) player_->setGeometry(screen_);
}

void MountView::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    if (mount_ == Mount::window) {
        g.setPen(QPen(c.line, 1));
        g.setBrush(c.panel);
        g.drawRect(QRectF(frame_).adjusted(0.5, 0.5, -0.5, -0.5));
        g.setFont(look::font(look::Size::small));
        g.setPen(c.soft);
        g.drawText(QRect(frame_.left() + 10, frame_.top(), frame_.width() - 20, 25), Qt::AlignVCenter | Qt::AlignLeft,
                   QString("window, %1 × %2").arg(screen_.width()).arg(screen_.height()));
    } else {
        g.setPen(QPen(c.soft, 2));
        g.setBrush(c.ink);
        g.drawRoundedRect(frame_, 14, 14);
        g.setFont(look::font(look::Size::small));
        g.setPen(c.soft);
        g.drawText(rect().adjusted(16, 12, -16, -12), Qt::AlignLeft | Qt::AlignTop,
                   QString(mount_ == Mount::handset_upright ? "handset\nupright" : "handset sideways"));
    }
}

}  // namespace ruedo
