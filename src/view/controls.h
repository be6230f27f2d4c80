// SPDX-License-Identifier: Apache-2.0
// The controls of a player. Each is a real, focusable widget that draws what the controller's snapshot says.
#pragma once
#include <QAbstractButton>
#include <QAbstractSlider>

#include "player/player.h"

namespace ruedo {

/// What controls do when they are used; the view carries it out.
struct ControlCalls {
    std::function<void()> toggle;
    std::function<void(Time by)> skip;
    std::function<void(Time to, SeekMode mode)> seek;
    std::function<void(double volume)> volume;
    std::function<void(bool muted)> mute;
    std::function<void()> full_screen;
};

/// What controls show, besides the snapshot.
struct ControlContext {
    Snapshot snapshot;
    Time skip = 10_s;
    bool full_screen = false;
};

/// A control can be drawn anywhere by the same function that draws its widget.
void paint_control(QPainter& painter, Control control, const ControlContext& context, QRectF box, bool focus = false, bool pressed = false);

class ControlButton : public QAbstractButton {
  public:
    ControlButton(Control control, ControlCalls calls, QWidget* parent);
    void show_context(const ControlContext& context);
    QSize sizeHint() const override;

  protected:
    void paintEvent(QPaintEvent*) override;
    void focusInEvent(QFocusEvent*) override;
    void focusOutEvent(QFocusEvent*) override;

  private:
    Control control_;
    ControlContext context_;
};

/// A slider whose value follows the snapshot unless it is being dragged.
class PositionSlider : public QAbstractSlider {
  public:
    PositionSlider(ControlCalls calls, QWidget* parent);
    void show_context(const ControlContext& context);
    QSize sizeHint() const override { return {240, 44}; }
    QSize minimumSizeHint() const override { return {120, 44}; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void wheelEvent(QWheelEvent*) override;

  private:
    Time at(double x) const;
    QRectF rail() const;
    ControlCalls calls_;
    ControlContext context_;
    std::optional<Time> dragged_;
};

class VolumeControl : public QWidget {
  public:
    VolumeControl(ControlCalls calls, QWidget* parent);
    void show_context(const ControlContext& context);

  private:
    class Rail;
    QAbstractButton* mute_;
    Rail* rail_;
};

}  // namespace ruedo
