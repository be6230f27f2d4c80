// SPDX-License-Identifier: Apache-2.0
#include "view/room_view.h"

#include <QApplication>
#include <QBackingStore>
#include <QHelpEvent>
#include <QMouseEvent>
#include <QPaintEngine>
#include <QPainter>
#include <QToolTip>
#include <algorithm>
#include <cmath>

#include "view/look.h"
#include "view/screen_view.h"

namespace ruedo {
using scene::Axes;
using scene::Vec;

namespace {
constexpr double step = 0.25, turn_step = 5;      // metres, degrees
constexpr double steepest = 85, most_away = 100;  // degrees, metres
constexpr double grip_reach = 14;                 // pixels

double round_turn(double degrees) { return std::remainder(degrees, 360.0); }
RectF rect_of(const QRectF& r) { return {r.x(), r.y(), r.width(), r.height()}; }
Axes axes_of(const PoseSpec& pose) { return Axes::turned(scene::radians(pose.turn), scene::radians(pose.tilt)); }
}  // namespace

RoomView::RoomView(ScreenView& screen) : QWidget(&screen), screen_(screen) {
    setAttribute(Qt::WA_OpaquePaintEvent);
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("The room");
    setAccessibleDescription("Arrows walk and turn, Page up and down rise and sink, Home goes back to the start");
}
RoomView::~RoomView() = default;

scene::Eye RoomView::eye() const { return scene::Eye::of(viewer_, width(), height()); }

void RoomView::take(const PlayerDocument& document) {
    if (!begun_ || !(document.room.viewer == document_.room.viewer)) viewer_ = document.room.viewer, begun_ = false;
    if (!(document.room.hand == document_.room.hand)) hand_ = document.room.hand;
    document_ = document;
    for (std::size_t i = 0; i < screen_.count(); ++i) {
        auto& view = screen_.player(i);
        view.surface().compose_elsewhere([this] { refresh(); });
        view.sheet().on_changed = [this] { refresh_soon(); };
        view.on_display = [this, &view](QPoint at) {
            for (std::size_t p = 0; p < screen_.count(); ++p)
                if (&screen_.player(p) == &view)
                    if (auto place = seen(p, at)) return mapToGlobal(place->toPoint());
            return mapToGlobal(rect().center());
        };
    }
    rebuild();
}

void RoomView::forget(PlayerView& view) {
    view.surface().compose_elsewhere({});
    view.sheet().on_changed = {};
    view.on_display = {};
    view.controller().set_place(1, 1);
}

/// What hangs where; asked for whenever something may stand elsewhere.
void RoomView::rebuild() {
    layouts_.clear();
    for (std::size_t i = 0; i < std::min(screen_.count(), document_.players.size()); ++i)
        layouts_.push_back(screen_.player(i).layout_now());
    scene_ = scene::build(document_, layouts_, eye());
    hear();
    refresh_soon();
}
/// Once, however much changes until then.
void RoomView::refresh_soon() {
    if (std::exchange(refresh_asked_, true)) return;
    QMetaObject::invokeMethod(
        this,
        [this] {
            refresh_asked_ = false;
            refresh();
        },
        Qt::QueuedConnection);
}

void RoomView::reset() {
    viewer_ = document_.room.viewer, begun_ = false;
    moved();
}
void RoomView::set_viewer(const ViewerSpec& viewer) {
    viewer_ = viewer, begun_ = true;
    moved();
}
void RoomView::moved() {
    rebuild();
    if (on_moved) on_moved();
}

/// Sound by place, where the document asks for it.
void RoomView::hear() {
    for (std::size_t i = 0; i < layouts_.size(); ++i) {
        scene::Heard heard;
        if (auto s = scene_.screen_of(i); s && document_.room.sound_by_place)
            heard = scene::heard(scene_.things[*s].panel.middle, eye());
        screen_.player(i).controller().set_place(heard.left, heard.right);
    }
}

void RoomView::walk(double ahead, double right, double up) {
    auto level = Axes::turned(scene::radians(viewer_.turn), 0);
    auto v = viewer_;
    auto to = Vec(v.at) - level.face * ahead + level.right * right + Vec{0, up, 0};
    v.at = {std::clamp(to.x, -most_away, most_away), std::clamp(to.y, 0.1, most_away),
            std::clamp(to.z, -most_away, most_away)};
    set_viewer(v);
}
void RoomView::turn(double left, double up) {
    auto v = viewer_;
    v.turn = round_turn(v.turn + left), v.tilt = std::clamp(v.tilt + up, -steepest, steepest);
    set_viewer(v);
}
void RoomView::orbit(const Vec& round, double left, double up) {
    auto v = viewer_;
    auto before = axes_of(v);
    v.turn = round_turn(v.turn + left), v.tilt = std::clamp(v.tilt + up, -steepest, steepest);
    auto after = axes_of(v);
    // The same place stays where it is seen.
    auto to = Vec(v.at) - round;
    auto at =
        round + after.right * dot(to, before.right) + after.up * dot(to, before.up) + after.face * dot(to, before.face);
    v.at = {at.x, std::max(0.1, at.y), at.z};
    set_viewer(v);
}

bool RoomView::key(int key, Qt::KeyboardModifiers modifiers) {
    bool side = modifiers == Qt::ShiftModifier;
    if (modifiers != Qt::NoModifier && !side) return false;
    switch (key) {
        case Qt::Key_Up:
            return walk(step, 0), true;
        case Qt::Key_Down:
            return walk(-step, 0), true;
        case Qt::Key_Left:
            return side ? walk(0, -step) : turn(turn_step, 0), true;
        case Qt::Key_Right:
            return side ? walk(0, step) : turn(-turn_step, 0), true;
        case Qt::Key_PageUp:
            return side ? turn(0, turn_step) : walk(0, 0, 0.1), true;
        case Qt::Key_PageDown:
            return side ? turn(0, -turn_step) : walk(0, 0, -0.1), true;
        case Qt::Key_Home:
            return reset(), true;
        default:
            return false;
    }
}
void RoomView::keyPressEvent(QKeyEvent* e) {
    if (!key(e->key(), e->modifiers())) e->ignore();
}

std::optional<QPointF> RoomView::seen(const Vec& place) const {
    auto s = eye().project(place);
    return s ? std::optional(QPointF(s->x, s->y)) : std::nullopt;
}
std::optional<QPointF> RoomView::seen(std::size_t player, QPointF at) const {
    auto place = scene_.place_of(player, at.x(), at.y());
    return place ? seen(*place) : std::nullopt;
}

QPolygonF RoomView::outline(std::size_t player, const Box& part) const {
    QPolygonF line;
    constexpr int steps = 8;  // along what may be bent
    // The last pixel's middle is still on the same thing.
    double left = part.x + 0.01, right = part.right() - 0.01, top = part.y + 0.01, bottom = part.bottom() - 0.01;
    for (int i = 0; i <= 2 * steps + 1; ++i) {
        bool back = i > steps;
        auto x = left + (right - left) * (back ? 2 * steps + 1 - i : i) / steps;
        auto at = seen(scene_.place_beyond(player, x, back ? bottom : top));
        if (!at) return {};
        line << *at;
    }
    return line;
}

RoomView::Under RoomView::under(const scene::Aim& aim) const {
    if (!aim.landing || aim.landing->player >= screen_.count()) return {};
    auto& view = screen_.player(aim.landing->player);
    QPointF at(aim.landing->x, aim.landing->y);
    auto* child = view.childAt(at.toPoint());
    if (!child) return {&view, at};
    return {child, child->mapFrom(&view, at)};
}

/// The widget under the ray is under the pointer.
void RoomView::enter(const Under& now, QPointF global) {
    if (entered_ == now.widget) return;
    if (entered_) {
        entered_->setAttribute(Qt::WA_UnderMouse, false);
        QEvent leave(QEvent::Leave);
        QApplication::sendEvent(entered_, &leave);
    }
    entered_ = now.widget;
    if (entered_) {
        entered_->setAttribute(Qt::WA_UnderMouse, true);
        QEnterEvent in(now.at, now.at, global);
        QApplication::sendEvent(entered_, &in);
    }
}
bool RoomView::send(QEvent::Type type, const Under& to, const QMouseEvent& as) {
    QMouseEvent e(type, to.at, as.globalPosition(), as.button(), as.buttons(), as.modifiers());
    QApplication::sendEvent(to.widget, &e);
    return e.isAccepted();
}

void RoomView::tell(const scene::Aim& aim) {
    auto told = text(scene_.told(aim));
    if (told == told_) return;
    told_ = told;
    if (on_told) on_told();
}
/// A press that reaches nothing, or not what lies behind, is told by whoever it was meant for.
void RoomView::press(const scene::Aim& aim, const QMouseEvent& as) {
    auto to = under(aim);
    auto words = scene_.told(aim);
    if (to.widget) {
        screen_.player(aim.landing->player).controller().tell("ray", words);
    } else {
        std::optional<std::size_t> thing = aim.missed;
        if (auto* end = aim.end(); !thing && end && scene_.things[end->thing].takes_presses()) thing = end->thing;
        if (thing) screen_.player(scene_.things[*thing].player).controller().tell("ray-stopped", words);
        return;
    }
    // Focus goes where a press on the widget itself would have put it.
    for (auto* w = to.widget; w && w != &screen_; w = w->parentWidget())
        if (w->isEnabled() && w->focusPolicy() & Qt::ClickFocus) {
            w->setFocus(Qt::MouseFocusReason);
            break;
        }
    pressed_ = to.widget;
    send(as.type(), to, as);
}

void RoomView::mousePressEvent(QMouseEvent* e) {
    e->accept();
    last_ = e->position();
    if (e->button() == Qt::LeftButton && (grip_ = grip_at(last_)) != Grip::none) return;
    auto aim = aim_at(e->position());
    tell(aim);
    if (e->button() == Qt::LeftButton) {
        press(aim, *e);
        if (pressed_) return;
    }
    setFocus(Qt::MouseFocusReason);
    dragging_ = e->button();
    pivot_ = aim.end() ? aim.end()->at : eye().ray(last_.x(), last_.y()).at(2);
}
void RoomView::mouseDoubleClickEvent(QMouseEvent* e) { mousePressEvent(e); }

void RoomView::mouseMoveEvent(QMouseEvent* e) {
    e->accept();
    auto by = e->position() - last_;
    last_ = e->position();
    if (grip_ != Grip::none) {
        grip_moved_ = grip_moved_ || std::hypot(by.x(), by.y()) > 0;
        return drag_grip(e->position());
    }
    auto aim = aim_at(e->position());
    if (pressed_) {
        // What is held follows the ray over its whole panel, and past it as far as its plane is met.
        auto now = under(aim);
        auto* view = dynamic_cast<PlayerView*>(pressed_->parentWidget());
        if (now.widget && view && (now.widget == view || now.widget->parentWidget() == view))
            send(QEvent::MouseMove, {pressed_, pressed_->mapFrom(view, now.widget->mapTo(view, now.at))}, *e);
        return tell(aim);
    }
    if (dragging_ == Qt::LeftButton) {
        auto per_pixel = scene::degrees(1 / eye().focal());
        return turn(by.x() * per_pixel, by.y() * per_pixel);
    }
    if (dragging_ == Qt::RightButton) return orbit(pivot_, -by.x() * 0.4, -by.y() * 0.4);
    auto now = under(aim);
    enter(now, e->globalPosition());
    bool grip = grip_at(e->position()) != Grip::none;
    setCursor(grip ? QCursor(Qt::OpenHandCursor) : now.widget ? now.widget->cursor() : QCursor(Qt::ArrowCursor));
    if (now.widget) send(QEvent::MouseMove, now, *e);
    tell(aim);
}
void RoomView::mouseReleaseEvent(QMouseEvent* e) {
    e->accept();
    if (std::exchange(grip_, Grip::none) != Grip::none) {
        poked_ = false;
        // A press on a handle that is not dragged is one of the hand's.
        if (!std::exchange(grip_moved_, false)) return hand_press(), hand_release();
        if (on_hand_moved) on_hand_moved();
        return;
    }
    dragging_ = Qt::NoButton;
    if (!pressed_) return;
    auto now = under(aim_at(e->position()));
    auto* held = pressed_.data();
    pressed_ = nullptr;
    auto* view = held->parentWidget();
    bool on_view = now.widget && (now.widget == view || now.widget->parentWidget() == view);
    // Let go of elsewhere, it is no click.
    QPointF at = now.widget == held ? now.at
                 : on_view          ? held->mapFrom(view, now.widget->mapTo(view, now.at))
                                    : QPointF(-1, -1);
    send(QEvent::MouseButtonRelease, {held, at}, *e);
}
void RoomView::wheelEvent(QWheelEvent* e) {
    auto now = under(aim_at(e->position()));
    if (now.widget && now.widget->focusPolicy() != Qt::NoFocus) {
        QWheelEvent on(now.at, e->globalPosition(), e->pixelDelta(), e->angleDelta(), e->buttons(), e->modifiers(),
                       e->phase(), e->inverted());
        on.ignore();
        QCoreApplication::sendEvent(now.widget, &on);
        if (on.isAccepted()) return e->accept();
    }
    walk(e->angleDelta().y() / 120.0 * step, 0);
    e->accept();
}
void RoomView::leaveEvent(QEvent*) {
    enter({}, {});
    told_.clear();
    if (on_told) on_told();
}
bool RoomView::event(QEvent* e) {
    if (e->type() == QEvent::ToolTip) {
        auto* help = static_cast<QHelpEvent*>(e);
        auto now = under(aim_at(help->pos()));
        QToolTip::showText(help->globalPos(), now.widget ? now.widget->toolTip() : QString(), this);
        return true;
    }
    return QWidget::event(e);
}
void RoomView::resizeEvent(QResizeEvent*) { rebuild(); }

// The hand.

void RoomView::set_hand(const std::optional<PoseSpec>& hand) {
    hand_ = hand;
    note_pose();
    update();
}
scene::Aim RoomView::hand_aim() const {
    if (!hand_) return {};
    return scene_.aim({Vec(hand_->at), -axes_of(*hand_).face});
}
void RoomView::press_through(QEvent::Type type, const scene::Aim& aim) {
    bool down = type == QEvent::MouseButtonPress;
    QMouseEvent as(type, {}, mapToGlobal(QPointF()), Qt::LeftButton, down ? Qt::LeftButton : Qt::NoButton,
                   Qt::NoModifier);
    if (down) {
        press(aim, as);
        hand_pressed_ = std::exchange(pressed_, nullptr);
    } else if (auto* held = hand_pressed_.data()) {
        hand_pressed_ = nullptr;
        auto now = under(aim);
        send(type, {held, now.widget == held ? now.at : QPointF(-1, -1)}, as);
    }
}
void RoomView::record_hand(bool on) {
    recorder_.invalidate();
    if (!on) return;
    recorded_.clear();
    recorder_.start();
    note_pose();
}
void RoomView::note_hand(const QString& call) {
    if (recorder_.isValid()) recorded_ << QString("%1ms %2").arg(recorder_.elapsed()).arg(call);
}
void RoomView::note_pose() {
    if (!hand_) return;
    auto number = [](double v) { return QString::number(v, 'f', 4); };
    note_hand(QString("hand %1 %2 %3 %4 %5")
                  .arg(number(hand_->at.x), number(hand_->at.y), number(hand_->at.z), number(hand_->turn),
                       number(hand_->tilt)));
}
void RoomView::hand_press() {
    note_hand("pull");
    auto aim = hand_aim();
    tell(aim);
    press_through(QEvent::MouseButtonPress, aim);
}
void RoomView::hand_release() { press_through(QEvent::MouseButtonRelease, hand_aim()); }

RoomView::Grip RoomView::grip_at(QPointF at) const {
    if (!hand_) return Grip::none;
    auto near = [&](const std::optional<QPointF>& p) {
        return p && std::hypot(p->x() - at.x(), p->y() - at.y()) <= grip_reach;
    };
    auto aim = hand_aim();
    if (near(seen(Vec(hand_->at)))) return Grip::hand;
    if (auto* end = aim.end(); end && near(seen(end->at))) return Grip::tip;
    return Grip::none;
}
void RoomView::drag_grip(QPointF to) {
    auto e = eye();
    auto before = Vec(hand_->at);
    auto ray = e.ray(to.x(), to.y());
    if (grip_ == Grip::hand) {
        // In its own plane before the eye.
        auto depth = dot(before - e.at, e.look());
        auto along = dot(ray.to, e.look());
        if (depth <= 0 || along <= 0) return;
        auto now = ray.at(depth / along);
        hand_->at = now.point();
        // A finger that goes through a panel from before presses it, and lets go of it on the way back.
        auto way = now - before;
        if (auto reach = length(way); reach > 0) {
            auto aim = scene_.aim({before, unit(way)}, reach);
            if (!poked_ && aim.landing) {
                poked_ = true;
                press_through(QEvent::MouseButtonPress, aim);
            } else if (poked_ && aim.end() && !aim.end()->front) {
                poked_ = false;
                press_through(QEvent::MouseButtonRelease, scene_.aim({now, unit(before - now)}, reach));
            }
        }
    } else {
        auto aim = scene_.aim(ray);
        auto at = aim.end() ? aim.end()->at : ray.at(3);
        auto way = unit(at - before);
        hand_->turn = scene::degrees(std::atan2(-way.x, -way.z));
        hand_->tilt = scene::degrees(std::asin(std::clamp(way.y, -1.0, 1.0)));
        tell(hand_aim());
    }
    note_pose();
    update();
}

// Drawing.

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
        auto texture = [](const QImage& image, bool see_through, std::uint64_t revision) {
            return scene::Texture{
                image.constBits(), image.width(), image.height(), static_cast<int>(image.bytesPerLine()),
                see_through,       false,         revision};
        };
        auto composed = view.surface().compose();
        if (composed.shown) shown_.push_back(std::move(composed.shown));
        if (pictures[i] = composed.picture; !pictures[i].isNull()) {
            auto t = texture(pictures[i], false, 0);
            t.blocky = spec.blocky;
            laid_[i].layers.push_back(
                {t, rect_of(composed.place), {rect_of(composed.place & QRectF(ruedo::rect_of(layouts_[i].area)))}});
        }
        auto& sheet = view.sheet();
        if (sheet.refresh()) ++sheet_revisions_[i];
        sheets[i] = sheet.image();
        scene::Laid::Layer over{texture(sheets[i], true, sheet_revisions_[i]), rect_of(QRectF(sheets[i].rect())), {}};
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
/// Whoever waits for it hears that its picture came to the screen.
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
    auto end = aim.end() ? aim.end()->at : Vec(hand_->at) - axes_of(*hand_).face * 4;
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
        g.drawLine(at(Vec(hand_->at)), at(aim.end() ? aim.end()->at : Vec(hand_->at) - axes_of(*hand_).face * 4));
    }
    g.restore();
    g.setPen(c.soft);
    g.setFont(look::font(look::Size::small));
    g.drawText(box.adjusted(8, 2, -8, -4), Qt::AlignLeft | Qt::AlignBottom,
               QString("%1 × %2 m").arg(wide, 0, 'f', 1).arg(deep, 0, 'f', 1));
}
QRectF RoomView::top_view_box() const { return QRectF(width() - 172.0, height() - 142.0, 160, 130); }

}  // namespace ruedo
