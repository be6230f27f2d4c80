// SPDX-License-Identifier: Apache-2.0
// The hand in a room: a ray of its own, two handles to drag it by, and a fingertip.
#include "view/room_view.h"

#include <QMouseEvent>
#include <algorithm>
#include <cmath>

namespace ruedo {
using scene::Axes;
using scene::Vec;

namespace {
constexpr double grip_reach = 14;  // pixels
}  // namespace

void RoomView::set_hand(const std::optional<PoseSpec>& hand) {
    hand_ = hand;
    note_pose();
    update();
}
scene::Aim RoomView::hand_aim() const {
    if (!hand_) return {};
    return scene_.aim({Vec(hand_->at), -Axes::of(*hand_).face});
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

}  // namespace ruedo
