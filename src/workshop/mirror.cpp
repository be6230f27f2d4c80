// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/mirror.h"

#include <QPainter>
#include <algorithm>

#include "view/look.h"
#include "view/paint_player.h"
#include "view/player_view.h"

namespace ruedo {

Mirror::Mirror(PlayerView& player, QWidget* parent) : QWidget(parent), player_(player) {
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
void Mirror::set_spec(const PlayerSpec& spec) {
    spec_ = spec;
    update();
}
MountShape Mirror::shape() const { return shape_of(mount_, size_.width(), size_.height()); }

ControlContext Mirror::context() const {
    auto context = player_.session().context();
    context.handset = shape().handset;
    // It is looked at, not touched: nothing hides.
    context.awake = true;
    return context;
}
const PlayerSpec& Mirror::spec() const { return spec_ ? *spec_ : player_.session().player(); }
Layout Mirror::laid_out() const { return lay_out(spec(), shape(), context(), player_.session().source()); }

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
    PlayerStill still{.picture = player_.surface().still(), .poster = {}};
    auto strip = player_.strip_items();
    still.strip = strip;
    paint_player(g, {mount.width, mount.height}, spec(), laid_out(), context(), player_.session().source(), still);
}

}  // namespace ruedo
