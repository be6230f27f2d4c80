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
    /// While it is dragged: asks for the frame at a position, and is called back when there is one; without a time it
    /// no longer wants any.
    using AskStill = std::function<void(std::optional<Time>, std::function<void(const QImage&)>)>;
    virtual void set_stills(AskStill) {}
    /// True where it looks otherwise than before.
    bool set_ground(bool on_picture, bool dark, const ThemeSpec& theme) {
        return drawn_.set_ground(on_picture, dark, theme);
    }
    /// How large the mount's pixels are seen.
    void set_scale(double scale) { scale_ = scale; }
    /// Called when it needs repainting: where its widget is not what the user sees.
    void set_changed(std::function<void()> changed) { changed_ = std::move(changed); }
    /// Where a place of its widget is on the display; as the widget itself has it without.
    using OnDisplay = std::function<QPoint(const QWidget&, QPoint)>;
    void set_on_display(OnDisplay where) { on_display_ = std::move(where); }
    /// The same control with other settings.
    void set_spec(const ControlSpec& spec) { spec_ = spec, label_.clear(); }
    const ControlSpec& spec() const { return spec_; }

  protected:
    void notify_changed() const {
        if (changed_) changed_();
    }
    QPoint on_display(const QWidget& widget, QPoint at) const {
        return on_display_ ? on_display_(widget, at) : widget.mapToGlobal(at);
    }
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

  private:
    std::function<void()> changed_;
    OnDisplay on_display_;
};
struct ControlWidget {
    QWidget* widget = nullptr;
    ShowsControl* shows = nullptr;
};
/// A widget for a control, hidden until it is placed.
ControlWidget make_control(const ControlSpec& spec, const ControlCalls& calls, QWidget* parent);

/// Stands for what has folded away; a press shows it.
class MoreButton : public QAbstractButton {
  public:
    explicit MoreButton(QWidget* parent);
    void show_folded(std::vector<ControlSpec> folded, const ControlContext& context, const ControlCalls& calls);
    /// True where it looks otherwise than before.
    bool set_ground(bool on_picture, bool dark, const ThemeSpec& theme) {
        return drawn_.set_ground(on_picture, dark, theme);
    }
    void set_scale(double scale) { scale_ = scale; }
    /// What the menu of a press would hold, for tests and assistive technology.
    QStringList folded() const;
    void set_on_display(ShowsControl::OnDisplay where) { on_display_ = std::move(where); }

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
    ShowsControl::OnDisplay on_display_;
};

}  // namespace ruedo
