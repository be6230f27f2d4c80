// SPDX-License-Identifier: Apache-2.0
#include "view/room_view.h"

#include <QApplication>
#include <QHelpEvent>
#include <QMouseEvent>
#include <QToolTip>
#include <algorithm>
#include <array>
#include <cmath>

#include "view/look.h"
#include "view/screen_view.h"

namespace ruedo {
using scene::Axes;
using scene::Vec;

namespace {
constexpr double step = 0.25, rise = 0.1, turn_step = 5;  // metres, degrees
constexpr double steepest = 85, most_away = 100;          // degrees, metres

double round_turn(double degrees) { return std::remainder(degrees, 360.0); }
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
        view.on_display = [this, i](QPoint at) {
            auto place = seen(i, at);
            return mapToGlobal(place ? place->toPoint() : rect().center());
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
    // One step longer than it does: what was told is taken back.
    if (!std::exchange(by_place_, document_.room.audio_by_place) && !by_place_) return;
    for (std::size_t i = 0; i < layouts_.size(); ++i) {
        scene::StereoGain heard;
        if (auto s = scene_.screen_of(i); s && by_place_) heard = scene::heard(scene_.things[*s].panel.middle, eye());
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
    auto before = Axes::of(v);
    v.turn = round_turn(v.turn + left), v.tilt = std::clamp(v.tilt + up, -steepest, steepest);
    auto after = Axes::of(v);
    // The same place stays where it is seen.
    auto to = Vec(v.at) - round;
    auto at =
        round + after.right * dot(to, before.right) + after.up * dot(to, before.up) + after.face * dot(to, before.face);
    v.at = {at.x, std::max(0.1, at.y), at.z};
    set_viewer(v);
}

std::span<const RoomView::Key> RoomView::keys() {
    static constexpr std::array rows{
        Key{Qt::Key_Up, false, "Up", "walk ahead", [](RoomView& r) { r.walk(step, 0); }},
        Key{Qt::Key_Down, false, "Down", "walk back", [](RoomView& r) { r.walk(-step, 0); }},
        Key{Qt::Key_Left, false, "Left", "turn left", [](RoomView& r) { r.turn(turn_step, 0); }},
        Key{Qt::Key_Right, false, "Right", "turn right", [](RoomView& r) { r.turn(-turn_step, 0); }},
        Key{Qt::Key_Left, true, "Shift+Left", "step to the left", [](RoomView& r) { r.walk(0, -step); }},
        Key{Qt::Key_Right, true, "Shift+Right", "step to the right", [](RoomView& r) { r.walk(0, step); }},
        Key{Qt::Key_PageUp, false, "Page up", "rise", [](RoomView& r) { r.walk(0, 0, rise); }},
        Key{Qt::Key_PageDown, false, "Page down", "sink", [](RoomView& r) { r.walk(0, 0, -rise); }},
        Key{Qt::Key_PageUp, true, "Shift+Page up", "look up", [](RoomView& r) { r.turn(0, turn_step); }},
        Key{Qt::Key_PageDown, true, "Shift+Page down", "look down", [](RoomView& r) { r.turn(0, -turn_step); }},
        Key{Qt::Key_Home, false, "Home", "back to the start", [](RoomView& r) { r.reset(); }},
    };
    return rows;
}
bool RoomView::key(int key, Qt::KeyboardModifiers modifiers) {
    bool shift = modifiers == Qt::ShiftModifier;
    if (modifiers != Qt::NoModifier && !shift) return false;
    auto row = std::find_if(keys().begin(), keys().end(), [&](auto& k) { return k.key == key && k.shift == shift; });
    if (row == keys().end()) return false;
    row->act(*this);
    return true;
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
void RoomView::send(QEvent::Type type, const Under& to, const QMouseEvent& as) {
    QMouseEvent e(type, to.at, as.globalPosition(), as.button(), as.buttons(), as.modifiers());
    QApplication::sendEvent(to.widget, &e);
}

void RoomView::tell(const scene::Aim& aim) {
    auto told = text(scene_.told(aim));
    if (told == told_) return;
    told_ = told;
    if (on_told) on_told();
}
/// A press that reaches nothing, or not what lies behind, is traced by the player it was meant for.
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
        // What is held follows the ray over whatever shows the same player.
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

}  // namespace ruedo
