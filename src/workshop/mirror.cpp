// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/mirror.h"

#include <QPainter>
#include <algorithm>

#include "view/look.h"
#include "view/paint_player.h"
#include "view/screen_view.h"

namespace ruedo {

Mirror::Mirror(ScreenView& screen, QWidget* parent) : QWidget(parent), screen_(screen) {
    // Half as often as pictures come is enough to compare by.
    connect(&follow_, &QTimer::timeout, this, [this] {
        if (isVisible()) update();
    });
    follow_.start(66);
    setMinimumSize(40, 30);
}
void Mirror::set_mount(Mount mount) {
    mount_ = mount;
    setAccessibleName(QString("The player on %1").arg(text(mount_name(mount))));
    update();
}
void Mirror::set_document(const PlayerDocument& document) {
    document_ = document;
    update();
}
MountShape Mirror::shape() const { return shape_of(mount_, size_.width(), size_.height()); }

const PlayerDocument& Mirror::document() const { return document_ ? *document_ : screen_.document(); }
std::size_t Mirror::lender(std::size_t player) const { return std::min(player, screen_.count() - 1); }
Box Mirror::box(std::size_t player) const {
    return place_players(document().screen, document().players.size(), shape()).at(player);
}
ControlContext Mirror::context(std::size_t player) const {
    auto context = screen_.player(lender(player)).session().context();
    context.handset = shape().handset;
    // It is looked at, not touched: nothing hides.
    context.awake = true;
    return context;
}
Layout Mirror::laid_out(std::size_t player) const {
    return lay_out(document().player(player), shape_in(shape(), box(player)), context(player),
                   screen_.player(lender(player)).session().source());
}

void Mirror::paintEvent(QPaintEvent*) {
    auto mount = shape();
    auto& c = look::colours();
    QPainter g(this);
    int below = named_ ? 34 : 0;
    auto scale = std::min((width() - 2.0) / mount.width, (height() - 2.0 - below) / mount.height);
    QSizeF size(mount.width * scale, mount.height * scale);
    QRectF place(QPointF((width() - size.width()) / 2, (height() - below - size.height()) / 2), size);
    if (named_) {
        g.setFont(look::font(look::Size::small));
        g.setPen(c.soft);
        g.drawText(
            QRectF(0, place.bottom() + 2, width(), below - 2), Qt::AlignHCenter | Qt::AlignTop,
            QString("%1\n%2 × %3").arg(text(mount_name(mount_)).replace('-', ' ')).arg(mount.width).arg(mount.height));
    }
    g.fillRect(place.adjusted(-1, -1, 1, 1), c.line);
    g.translate(place.topLeft());
    g.scale(scale, scale);
    g.setClipRect(QRectF(0, 0, mount.width, mount.height));
    g.fillRect(QRectF(0, 0, mount.width, mount.height), QColor(text(document().screen.ground)));
    for (std::size_t i = 0; i < document().players.size(); ++i) {
        auto& player = screen_.player(lender(i));
        auto b = box(i);
        PlayerStill still{.picture = player.surface().still(), .poster = player.poster_now()};
        auto strip = player.strip_items();
        still.strip = strip;
        g.save();
        g.translate(b.x, b.y);
        g.setClipRect(QRectF(0, 0, b.width, b.height), Qt::IntersectClip);
        paint_player(g, {b.width, b.height}, document().player(i), laid_out(i), context(i), player.session().source(),
                     still);
        g.restore();
    }
}

}  // namespace ruedo
