// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/room_handles.h"

#include <QPainter>
#include <algorithm>
#include <cmath>

#include "view/look.h"
#include "view/screen_view.h"
#include "workshop/project.h"

namespace ruedo {
using scene::Vec;
namespace {
constexpr double reach = 9;        // pixels from an edge
constexpr double mark_reach = 16;  // and from a mark's middle
constexpr double round_to = 0.05;  // metres
constexpr double mark_size = 0.14;

double distance(QPointF a, QPointF b, QPointF p) {
    auto way = b - a;
    auto l = QPointF::dotProduct(way, way);
    auto t = l > 0 ? std::clamp(QPointF::dotProduct(p - a, way) / l, 0.0, 1.0) : 0;
    auto off = p - (a + way * t);
    return std::hypot(off.x(), off.y());
}
}  // namespace

std::optional<RoomHandles::Handle> RoomHandles::at(QPointF place) const {
    auto* room = screen_.room();
    if (!room) return {};
    for (std::size_t p = 0; p < screen_.count(); ++p) {
        auto screen = room->scene().screen_of(p);
        if (!screen) continue;
        auto middle = room->scene().things[*screen].panel.middle;
        auto mark = room->seen(Vec{middle.x, 0, middle.z});
        if (mark && std::hypot(mark->x() - place.x(), mark->y() - place.y()) <= mark_reach) return Handle{p, true};
        auto line = room->outline(p, room->scene().things[*screen].sheet);
        for (qsizetype i = 0; i < line.size(); ++i)
            if (distance(line[i], line[(i + 1) % line.size()], place) <= reach) return Handle{p, false};
    }
    return {};
}

/// On the floor, or on the upright plane in which it hangs.
std::optional<Point> RoomHandles::place_under(QPointF place, const Handle& handle) const {
    auto* room = screen_.room();
    auto screen = room->scene().screen_of(handle.player);
    if (!screen) return {};
    auto ray = room->eye().ray(place.x(), place.y());
    auto& panel = room->scene().things[*screen].panel;
    auto face = panel.axes.face;
    Vec normal = handle.floor ? Vec{0, 1, 0} : scene::unit({face.x, 0, face.z});
    Vec on = handle.floor ? Vec{} : Vec(from_);
    auto along = dot(ray.to, normal);
    auto t = dot(on - ray.from, normal) / along;
    if (!(t > 0) || t > 60) return {};
    return ray.at(t).point();
}

bool RoomHandles::take(QPointF place) {
    held_ = at(place);
    if (!held_) return false;
    auto* room = screen_.room();
    project_.select_player(held_->player, {});
    hung_ = scene::hung_at(project_.document(), held_->player).point();
    from_ = hung_;
    auto taken = place_under(place, *held_);
    if (!taken) return held_.reset(), false;
    from_ = *taken;
    moved_ = room->document();
    return true;
}

void RoomHandles::drag(QPointF place, bool freely) {
    auto to = place_under(place, *held_);
    if (!to) return;
    auto round = [&](double v) { return freely ? std::round(v * 1000) / 1000 : std::round(v / round_to) * round_to; };
    // What does not move stays exactly where it is.
    auto moved = [&](double hung, double by) { return std::abs(by) < 1e-9 ? hung : round(hung + by); };
    Point now{moved(hung_.x, to->x - from_.x), moved(hung_.y, held_->floor ? 0 : to->y - from_.y),
              moved(hung_.z, to->z - from_.z)};
    moved_->player(held_->player).hang.at = now;
    screen_.room()->take(*moved_);
}

void RoomHandles::let_go() {
    auto handle = *std::exchange(held_, std::nullopt);
    auto moved = *std::exchange(moved_, std::nullopt);
    auto& at = moved.player(handle.player).hang.at;
    auto d = project_.document();
    if (!at || at == d.player(handle.player).hang.at) return;
    d.player(handle.player).hang.at = at;
    project_.change(d, QString("Hanging “%1” elsewhere").arg(text(d.player(handle.player).name)));
}

QString RoomHandles::told() const {
    if (!held_) return {};
    auto& d = *moved_;
    auto start = Vec(d.room.viewer.at);
    auto axes = scene::Axes::turned(scene::radians(d.room.viewer.turn), 0);
    auto to = scene::hung_at(d, held_->player) - start;
    auto ahead = -dot(to, axes.face), right = dot(to, axes.right);
    return QString("%1 m %2, %3 m %4, %5 m above the floor")
        .arg(std::abs(ahead), 0, 'f', 2)
        .arg(ahead < 0 ? "behind the start" : "ahead of the start")
        .arg(std::abs(right), 0, 'f', 2)
        .arg(right < 0 ? "to the left" : "to the right")
        .arg(to.y + start.y, 0, 'f', 2);
}

void RoomHandles::paint(QPainter& g) const {
    auto* room = screen_.room();
    if (!room) return;
    const QColor chalk(0xF7, 0xF1, 0xE5);
    for (std::size_t p = 0; p < screen_.count(); ++p) {
        auto screen = room->scene().screen_of(p);
        if (!screen) continue;
        auto& panel = room->scene().things[*screen].panel;
        Vec foot{panel.middle.x, 0, panel.middle.z};
        auto line = [&](const Vec& a, const Vec& b, qreal wide, Qt::PenStyle style = Qt::SolidLine) {
            auto from = room->seen(a), to = room->seen(b);
            if (!from || !to) return;
            for (auto [colour, more] : {std::pair(QColor(0x17, 0x13, 0x1A, 150), 2.0), {chalk, 0.0}}) {
                g.setPen(QPen(colour, wide + more, style, Qt::RoundCap));
                g.drawLine(*from, *to);
            }
        };
        auto side = panel.axes.right * mark_size;
        Vec ahead = Vec{-side.z, 0, side.x};
        line(foot - side - ahead, foot + side + ahead, 2.5);
        line(foot - side + ahead, foot + side - ahead, 2.5);
        line(foot, panel.at(0.5, 1), 1, Qt::DotLine);
    }
    if (auto words = told(); !words.isEmpty()) {
        g.setFont(look::font(look::Size::small, true));
        auto wide = g.fontMetrics().horizontalAdvance(words) + 20;
        QRectF box(12, room->height() - 36.0, wide, 24);
        g.setPen(Qt::NoPen);
        g.setBrush(look::colours().wine);
        g.drawRect(box);
        g.setPen(look::colours().on_wine);
        g.drawText(box, Qt::AlignCenter, words);
    }
}

}  // namespace ruedo
