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
    std::function<void(std::uint64_t id)> sound_track, text_track;
    std::function<void(bool forward)> turn;  ///< To the next source, or the one before.
    std::function<void(std::size_t index)> go;
};

/// A control's button can be drawn anywhere by the same function that draws its widget.
void paint_control(QPainter& painter, const ControlKind& kind, const ControlContext& context, QRectF box,
                   bool focus = false, bool pressed = false);

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
    void press();
    const ControlKind& kind_;
    ControlCalls calls_;
    ControlContext context_;
    QString label_;
    Mark mark_;
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
    /// What the rail stands for: the clip, or what is kept of one that is live.
    TimeRange range() const;
    Time at(double x) const;
    QRectF rail() const;
    ControlCalls calls_;
    ControlContext context_;
    std::optional<Time> dragged_;
};

/// Equally wide posters, one for each source; pressing one loads it.
class PosterStrip : public QWidget {
  public:
    struct Item {
        QString name;
        QImage poster;
    };
    PosterStrip(ControlCalls calls, QWidget* parent);
    void set_items(std::vector<Item> items);
    void set_poster(std::size_t index, const QImage& poster);
    void show_context(const ControlContext& context);
    QSize sizeHint() const override { return {240, 60}; }
    QSize minimumSizeHint() const override { return {96, 60}; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    QRectF box(std::size_t i) const;
    std::size_t first_shown() const;
    ControlCalls calls_;
    std::vector<Item> items_;
    std::size_t index_ = 0;
};

class VolumeControl : public QWidget {
  public:
    VolumeControl(ControlCalls calls, QWidget* parent);
    void show_context(const ControlContext& context);
    /// The dial alone, where there is no room for the button beside it.
    void set_compact(bool compact) { mute_->setVisible(!compact); }

  private:
    class Dial;
    QAbstractButton* mute_;
    Dial* dial_;
};

}  // namespace ruedo
