// SPDX-License-Identifier: Apache-2.0
// The controls of a player. Each is a real widget, focusable where it takes input, that draws what the moment says.
#pragma once
#include <QAbstractButton>
#include <QAbstractSlider>
#include <QTimer>

#include "view/paint.h"

namespace ruedo {

/// What every control's widget is besides: something that shows a moment.
class ShowsControl {
  public:
    explicit ShowsControl(const ControlSpec& spec) : spec_(spec) {}
    virtual ~ShowsControl() = default;
    /// Takes the moment over; repaints where that makes a difference.
    virtual void show_context(const ControlContext& context) = 0;
    virtual void set_strip(std::vector<StripItem>) {}
    /// While it is dragged: asks for the picture of a place, and is told when there is one; without a time it no longer
    /// wants any.
    using AskStill = std::function<void(std::optional<Time>, std::function<void(const QImage&)>)>;
    virtual void set_stills(AskStill) {}
    void set_on_picture(bool on) { drawn_.on_picture = on; }
    /// How large the mount's pixels are seen.
    void set_scale(double scale) { scale_ = scale; }
    /// The same control with other settings.
    void set_spec(const ControlSpec& spec) { spec_ = spec, label_.clear(); }
    const ControlSpec& spec() const { return spec_; }

  protected:
    ControlSpec spec_;
    ControlContext context_;
    /// Its box in the mount's own pixels, and a place in it.
    QRectF box_of(const QWidget& widget) const { return {QPointF(), QSizeF(widget.size()) / scale_}; }
    QPointF place_of(QPointF at) const { return at / scale_; }
    void paint_in(QWidget& widget) {
        QPainter g(&widget);
        g.scale(scale_, scale_);
        paint_control(g, spec_, context_, box_of(widget), drawn_);
    }
    Drawn drawn_;
    std::string label_;
    double scale_ = 1;
};
struct MadeControl {
    QWidget* widget = nullptr;
    ShowsControl* shows = nullptr;
};
/// A widget for a control, hidden until it is placed.
MadeControl make_control(const ControlSpec& spec, const ControlCalls& calls, QWidget* parent);

/// Stands for what has folded away; a press shows it.
class MoreButton : public QAbstractButton {
  public:
    explicit MoreButton(QWidget* parent);
    void show_folded(std::vector<ControlSpec> folded, const ControlContext& context, const ControlCalls& calls);
    void set_on_picture(bool on) { drawn_.on_picture = on; }
    void set_scale(double scale) { scale_ = scale; }
    /// What the menu of a press would hold, for tests and assistive technology.
    QStringList folded() const;

  protected:
    void paintEvent(QPaintEvent*) override;
    void focusInEvent(QFocusEvent*) override;
    void focusOutEvent(QFocusEvent*) override;

  private:
    void open();
    std::vector<ControlSpec> folded_;
    ControlContext context_;
    ControlCalls calls_;
    Drawn drawn_;
    double scale_ = 1;
};

}  // namespace ruedo
