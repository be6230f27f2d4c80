// SPDX-License-Identifier: Apache-2.0
// How a room comes to the screen: what its players show is laid on their screens, the hand and the view from above over
// it.
#include "view/room_view.h"

#include <QBackingStore>
#include <QPaintEngine>
#include <QPainter>
#include <algorithm>
#include <cmath>

#include "view/look.h"
#include "view/screen_view.h"

namespace ruedo {
using scene::Axes;
using scene::Vec;

namespace {
RectF rect_of(const QRectF& r) { return {r.x(), r.y(), r.width(), r.height()}; }
}  // namespace

/// What the projection is to lay on everything: pictures as they were made ready, and sheets of what else is shown.
void RoomView::lay() {
    auto n = layouts_.size();
    laid_.assign(n, {});
    sheet_revisions_.resize(n);
    // Those of the time before are held until there are others: what lies at another place is another one.
    std::vector<QImage> pictures(n), sheets(n);
    for (std::size_t i = 0; i < n; ++i) {
        auto& view = screen_.player(i);
        auto& spec = document_.player(i).picture;
        laid_[i].surround = spec.surround;

        auto composed = view.surface().compose();
        if (composed.shown) shown_.push_back(std::move(composed.shown));
        if (pictures[i] = composed.picture; !pictures[i].isNull()) {
            auto t = texture_of(pictures[i]);
            t.blocky = spec.blocky;
            laid_[i].layers.push_back(
                {t, rect_of(composed.place), {rect_of(composed.place & QRectF(ruedo::rect_of(layouts_[i].area)))}});
        }
        auto& sheet = view.sheet();
        if (sheet.refresh()) ++sheet_revisions_[i];
        sheets[i] = sheet.image();
        scene::Laid::Layer over{texture_of(sheets[i], sheet_revisions_[i]), rect_of(QRectF(sheets[i].rect())), {}};
        for (auto& part : sheet.parts()) over.parts.push_back(rect_of(QRectF(part)));
        laid_[i].layers.push_back(std::move(over));
    }
    pictures_ = std::move(pictures), sheets_ = std::move(sheets);
}

/// Draws what has changed, and has it brought to the screen.
void RoomView::refresh() {
    if (!isVisible()) return;
    lay();
    auto d = devicePixelRatioF();
    auto pixels = [&](int logical) { return static_cast<int>(std::lround(logical * d)); };
    auto part = projection_.draw(scene_, scene::Eye::of(viewer_, pixels(width()), pixels(height())), laid_);
    drawn_faces_ += projection_.work().faces;
    // The hand and the view from above lie over it, and go with whatever moves.
    if (!part.empty())
        update(QRectF(part.x / d, part.y / d, part.width / d, part.height / d).toAlignedRect());
    else
        reach_screen();
}
/// Notifies those who wait for a frame to reach the screen.
void RoomView::reach_screen() {
    for (auto& shown : std::exchange(shown_, {})) shown();
}

void RoomView::paintEvent(QPaintEvent* e) {
    auto& image = projection_.image();
    auto d = devicePixelRatioF();
    if (image.width != std::lround(width() * d) || image.height != std::lround(height() * d)) refresh();
    QPainter g(this);
    g.setClipRegion(e->region());
    QImage seen(image.pixels.data(), image.width, image.height, image.stride(), QImage::Format_RGB32);
    auto r = e->rect();
    g.drawImage(QRectF(r), seen, QRectF(r.x() * d, r.y() * d, r.width() * d, r.height() * d));
    g.setRenderHint(QPainter::Antialiasing);
    if (hand_) paint_hand(g);
    if (top_view_) paint_top_view(g);
    // Into an image it is only drawn; what the window's own store holds comes to the screen.
    auto* store = window()->backingStore();
    if (store && g.paintEngine() && g.paintEngine()->paintDevice() == store->paintDevice()) reach_screen();
}
void RoomView::showEvent(QShowEvent*) { rebuild(); }

/// The ray, from one handle to the other.
void RoomView::paint_hand(QPainter& g) const {
    auto& c = look::colours();
    auto aim = hand_aim();
    auto from = seen(Vec(hand_->at));
    auto end = aim.end() ? aim.end()->at : Vec(hand_->at) - Axes::of(*hand_).face * 4;
    auto to = seen(end);
    if (from && to) {
        g.setPen(QPen(aim.landing ? c.ochre : c.soft, 2, aim.landing ? Qt::SolidLine : Qt::DashLine));
        g.drawLine(*from, *to);
    }
    if (to && aim.end())
        look::draw_glyph(g, QRectF(*to - QPointF(8, 8), QSizeF(16, 16)),
                         aim.landing ? look::Glyph::filled : look::Glyph::barred, c.ochre);
    if (from) look::draw_glyph(g, QRectF(*from - QPointF(11, 11), QSizeF(22, 22)), look::Glyph::broken, c.ochre);
}

/// From above: the walls, what stands and hangs there, the viewer with what it sees.
void RoomView::paint_top_view(QPainter& g) const {
    auto& c = look::colours();
    auto box = top_view_box();
    g.setPen(QPen(c.line, 1));
    g.setBrush(c.panel);
    g.drawRect(box);
    auto room = box.adjusted(8, 8, -8, -8);
    auto wide = scene_.high.x - scene_.low.x, deep = scene_.high.z - scene_.low.z;
    auto scale = std::min(room.width() / wide, room.height() / deep);
    QPointF origin(room.center().x() - (scene_.low.x + wide / 2) * scale,
                   room.center().y() - (scene_.low.z + deep / 2) * scale);
    auto at = [&](const Vec& p) { return QPointF(origin.x() + p.x * scale, origin.y() + p.z * scale); };
    g.save();
    g.setClipRect(box);
    g.setBrush(Qt::NoBrush);
    g.drawRect(QRectF(at(scene_.low), at(scene_.high)));
    for (auto& t : scene_.things) {
        QPolygonF line;
        if (t.kind == scene::Thing::Kind::solid) {
            auto& b = t.body;
            auto x = b.axes.right * (b.width / 2), z = b.axes.face * (b.depth / 2);
            g.setPen(QPen(c.soft, 1));
            g.setBrush(c.line);
            if (b.round)
                g.drawEllipse(at(b.foot), b.width / 2 * scale, b.width / 2 * scale);
            else
                g.drawPolygon(
                    QPolygonF{at(b.foot - x - z), at(b.foot + x - z), at(b.foot + x + z), at(b.foot - x + z)});
        } else if (t.kind != scene::Thing::Kind::backing) {
            for (int i = 0; i <= 12; ++i) line << at(t.panel.at(i / 12.0, 0.5));
            g.setPen(QPen(t.kind == scene::Thing::Kind::screen ? c.wine : c.teal, 2));
            g.drawPolyline(line);
        }
    }
    // What is seen from where the viewer stands, as wide as the view is.
    auto e = eye();
    auto half = std::atan(std::tan(e.field / 2) * e.width / std::max(1, e.height));
    auto turn = scene::radians(viewer_.turn);
    auto edge = [&](double a) { return at(e.at + Vec{-std::sin(turn + a), 0, -std::cos(turn + a)} * 3.5); };
    auto own = at(e.at);
    g.setPen(Qt::NoPen);
    auto cone = c.ochre;
    cone.setAlpha(60);
    g.setBrush(cone);
    g.drawPolygon(QPolygonF{own, edge(half), edge(0), edge(-half)});
    g.setPen(QPen(c.ochre, 1.5));
    g.drawLine(own, edge(half)), g.drawLine(own, edge(-half));
    g.setBrush(c.ink);
    g.setPen(Qt::NoPen);
    g.drawEllipse(own, 3.5, 3.5);
    if (hand_) {
        g.setPen(QPen(c.ochre, 1.5, Qt::DashLine));
        auto aim = hand_aim();
        g.drawLine(at(Vec(hand_->at)), at(aim.end() ? aim.end()->at : Vec(hand_->at) - Axes::of(*hand_).face * 4));
    }
    g.restore();
    g.setPen(c.soft);
    g.setFont(look::font(look::Size::small));
    g.drawText(box.adjusted(8, 2, -8, -4), Qt::AlignLeft | Qt::AlignBottom,
               QString("%1 × %2 m").arg(wide, 0, 'f', 1).arg(deep, 0, 'f', 1));
}
QRectF RoomView::top_view_box() const { return QRectF(width() - 172.0, height() - 142.0, 160, 130); }

}  // namespace ruedo
