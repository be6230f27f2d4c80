// SPDX-License-Identifier: Apache-2.0
#include "view/controls.h"

#include <QMenu>
#include <QMouseEvent>
#include <QPointer>
#include <QWidgetAction>
#include <algorithm>
#include <cmath>

#include "view/look.h"
#include "view/spoken.h"

namespace ruedo {
namespace {
using Form = ControlKind::Form;

/// The choices of sound and captions; what plays is marked.
void add_track_options(QMenu& menu, const Snapshot& s, const ControlCalls& calls, bool audio_tracks, bool captions) {
    auto add = [&](const QString& words, bool on, std::function<void()> run) {
        auto* a = menu.addAction(look::literal(words), &menu, std::move(run));
        a->setCheckable(true);
        a->setChecked(on);
    };
    for (auto& c : *s.track_options)
        if (audio_tracks && c.kind == Kind::audio)
            add("Sound: " + text(c.title), c.id == s.audio_track, [calls, id = c.id] { calls.audio_track(id); });
    bool any =
        std::any_of(s.track_options->begin(), s.track_options->end(), [](auto& c) { return c.kind == Kind::text; });
    if (!captions || !any) return;
    menu.addSeparator();
    add("No captions", s.text_track == 0, [calls] { calls.text_track(0); });
    for (auto& c : *s.track_options)
        if (c.kind == Kind::text)
            add("Captions: " + text(c.title), c.id == s.text_track, [calls, id = c.id] { calls.text_track(id); });
}

/// What `Base` (a widget) needs to repaint when the focus comes and goes.
template <class Base>
class Focusing : public Base, public ShowsControl {
  public:
    Focusing(const ControlSpec& spec, QWidget* parent) : Base(parent), ShowsControl(spec) {
        this->setFocusPolicy(Qt::StrongFocus);
    }
    void update() {
        Base::update();
        notify_changed();
    }

  protected:
    void focusInEvent(QFocusEvent* e) override { Base::focusInEvent(e), this->update(); }
    void focusOutEvent(QFocusEvent* e) override { Base::focusOutEvent(e), this->update(); }
    void paintEvent(QPaintEvent*) override {
        drawn_.focus = this->hasFocus();
        if constexpr (std::is_base_of_v<QAbstractButton, Base>) drawn_.pressed = this->isDown();
        paint_in(*this);
    }
};

class PressControl : public Focusing<QAbstractButton> {
  public:
    PressControl(const ControlSpec& spec, ControlCalls calls, QWidget* parent)
        : Focusing(spec, parent), calls_(std::move(calls)) {
        setCursor(Qt::PointingHandCursor);
        setAccessibleName(ruedo::text(label_of(spec, {})));
        connect(this, &QAbstractButton::clicked, this, [this] { press(); });
    }
    void show_context(const ControlContext& context) override {
        context_ = context;
        auto label = label_of(spec_, context_);
        auto mark = spec_.kind->mark(context_, spec_.settings);
        bool works = unusable(spec_, context_).empty();
        if (label == label_ && mark == mark_ && works == isEnabled()) return;
        label_ = label, mark_ = mark;
        setEnabled(works);
        setAccessibleName(ruedo::text(label));
        setToolTip(ruedo::text(label));
        update();
    }

  private:
    void press() {
        auto asked = spec_.kind->press(context_, spec_.settings);
        bool tracks = asked.what == Press::What::choose_tracks;
        if (!tracks && asked.what != Press::What::choose_audio) return calls_.press(asked);
        // Of its own, as the document may lose this control while it is open.
        auto* menu = new QMenu(this);
        menu->setAttribute(Qt::WA_DeleteOnClose);
        add_track_options(*menu, context_.snapshot, calls_, true, tracks);
        menu->popup(on_display(*this, QPoint()) - QPoint(0, menu->sizeHint().height()));
    }
    ControlCalls calls_;
    Mark mark_;
};

/// The picture of the place under the hand, with its time, above the rail.
class StillAbove : public QWidget {
  public:
    explicit StillAbove(QWidget* player) : QWidget(player) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAccessibleName("Frame under the pointer");
        hide();
    }
    void show_at(QPoint foot, Time time) {
        foot_ = foot, time_ = time;
        if (!image_.isNull()) place();
    }
    void show_image(const QImage& image) {
        image_ = image;
        image.isNull() ? hide() : place();
    }
    void forget() {
        image_ = {};
        hide();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.fillRect(rect(), QColor(0x17, 0x13, 0x1A));
        g.drawImage(2, 2, image_);
        g.setFont(look::tabular(look::Size::small));
        g.setPen(QColor(0xF1, 0xE8, 0xDA));
        g.drawText(QRect(0, height() - 18, width(), 18), Qt::AlignCenter, text(format_clock(time_)));
    }

  private:
    void place() {
        resize(image_.width() + 4, image_.height() + 20);
        auto room = parentWidget()->rect();
        move(std::clamp(foot_.x() - width() / 2, 0, std::max(0, room.width() - width())),
             std::max(0, foot_.y() - height()));
        show();
        raise();
        update();
    }
    QImage image_;
    QPoint foot_;
    Time time_{};
};

/// Its value follows the snapshot unless it is being dragged.
class RailControl : public Focusing<QAbstractSlider> {
  public:
    RailControl(const ControlSpec& spec, ControlCalls calls, QWidget* parent)
        : Focusing(spec, parent), calls_(std::move(calls)) {
        setAccessibleName(text(label_of(spec, {})));
        setMouseTracking(true);
        setTracking(false);
        // By hand it is dragged; who sets it otherwise is a screen reader.
        setSingleStep(5000), setPageStep(10'000);
        connect(this, &QAbstractSlider::valueChanged, this,
                [this](int to) { calls_.seek(Time{to * std::int64_t{1'000'000}}, SeekMode::exact); });
    }
    void show_context(const ControlContext& context) override {
        context_ = context;
        auto& s = context_.snapshot;
        auto milliseconds = [](Time t) {
            return static_cast<int>(std::min<std::int64_t>(t.ns / 1'000'000, INT32_MAX));
        };
        auto [from, to] = rail_range(s);
        QSignalBlocker block(this);
        setRange(milliseconds(from), milliseconds(to));
        // While it moves, whole seconds are told: a screen reader can't keep up with more.
        auto now = milliseconds(dragged_ ? *dragged_ : s.position);
        setValue(s.motion == Motion::moving && !dragged_ ? now / 1000 * 1000 : now);
        setEnabled(unusable(spec_, context_).empty());
        setAccessibleDescription(QString("%1 of %2").arg(text(format_clock(s.position)), text(format_clock(to))));
        update();
    }
    void set_stills(AskStill ask) override { ask_still_ = std::move(ask); }
    ~RailControl() override { delete still_.data(); }

  protected:
    void mousePressEvent(QMouseEvent* e) override {
        if (e->button() != Qt::LeftButton) return;
        drag_to(e->position().x(), SeekMode::keyframe);
    }
    void mouseMoveEvent(QMouseEvent* e) override {
        if (!dragged_) return e->ignore();
        if (at(e->position().x()) != *dragged_) drag_to(e->position().x(), SeekMode::keyframe);
    }
    void mouseReleaseEvent(QMouseEvent* e) override {
        if (!dragged_) return;
        drag_to(e->position().x(), SeekMode::exact);
        dragged_.reset(), drawn_.dragged.reset();
        if (still_) still_->forget();
        if (ask_still_) ask_still_({}, {});
        update();
    }
    void keyPressEvent(QKeyEvent* e) override {
        if (e->modifiers() != Qt::NoModifier) return QWidget::keyPressEvent(e);
        auto [from, to] = rail_range(context_.snapshot);
        auto small = std::max(1_s, std::min(5_s, (to - from) / 20));
        auto skip = [&](Time by) { calls_.press({.what = Press::What::skip, .by = by}); };
        switch (e->key()) {
            case Qt::Key_Left:
            case Qt::Key_Down:
                return skip(-small);
            case Qt::Key_Right:
            case Qt::Key_Up:
                return skip(small);
            case Qt::Key_PageDown:
                return skip(-10_s);
            case Qt::Key_PageUp:
                return skip(10_s);
            case Qt::Key_Home:
                return calls_.seek(from, SeekMode::exact);
            case Qt::Key_End:
                return calls_.seek(to, SeekMode::exact);
            default:
                QWidget::keyPressEvent(e);
        }
    }
    void wheelEvent(QWheelEvent* e) override { e->ignore(); }

  private:
    double part(double x) const {
        auto r = rail_in(box_of(*this), spec_);
        return std::clamp((x / scale_ - r.left()) / std::max(1.0, r.width()), 0.0, 1.0);
    }
    Time at(double x) const {
        auto [from, to] = rail_range(context_.snapshot);
        return from + scaled(to - from, part(x));
    }
    void drag_to(double x, SeekMode mode) {
        dragged_ = at(x), drawn_.dragged = part(x);
        calls_.seek(*dragged_, mode);
        if (mode == SeekMode::keyframe) follow_still();
        update();
    }
    void follow_still() {
        if (!ask_still_ || !spec_.settings.stills || !context_.snapshot.has_video) return;
        if (!still_) still_ = new StillAbove(parentWidget());
        auto r = rail_in(box_of(*this), spec_);
        auto x = (r.left() + r.width() * *drawn_.dragged) * scale_;
        still_->show_at(mapToParent(QPoint(static_cast<int>(x), -4)), *dragged_);
        ask_still_(*dragged_, [rail = QPointer(this)](const QImage& image) {
            if (rail && rail->dragged_) rail->still_->show_image(image);
        });
    }
    ControlCalls calls_;
    AskStill ask_still_;
    QPointer<StillAbove> still_;
    std::optional<Time> dragged_;
};

/// An arc of the ring's family that fills, its figure inside.
class DialControl : public Focusing<QAbstractSlider> {
  public:
    DialControl(const ControlSpec& spec, ControlCalls calls, QWidget* parent)
        : Focusing(spec, parent), calls_(std::move(calls)) {
        setAccessibleName(text(label_of(spec, {})));
        setRange(0, 100);
        setSingleStep(5);
        connect(this, &QAbstractSlider::valueChanged, this, [this](int to) { set(to / 100.0); });
    }
    void show_context(const ControlContext& context) override {
        context_ = context;
        setEnabled(unusable(spec_, context_).empty());
        QSignalBlocker block(this);
        auto now = static_cast<int>(std::lround(spec_.kind->value(context_) * 100));
        auto mark = spec_.kind->mark(context_, spec_.settings);
        if (mark == mark_ && now == value()) return;
        mark_ = mark;
        setValue(now);
        setToolTip(QString("%1 %2").arg(accessibleName(), ruedo::text(mark.figure)));
        update();
    }

  protected:
    void mousePressEvent(QMouseEvent* e) override { set(dial_at(box_of(*this), place_of(e->position()))); }
    void mouseMoveEvent(QMouseEvent* e) override {
        if (e->buttons() & Qt::LeftButton) set(dial_at(box_of(*this), place_of(e->position())));
    }
    void wheelEvent(QWheelEvent* e) override { by(e->angleDelta().y() > 0 ? 5 : -5), e->accept(); }
    void keyPressEvent(QKeyEvent* e) override {
        if (e->modifiers() != Qt::NoModifier) return QWidget::keyPressEvent(e);
        switch (e->key()) {
            case Qt::Key_Left:
            case Qt::Key_Down:
                return by(-5);
            case Qt::Key_Right:
            case Qt::Key_Up:
                return by(5);
            case Qt::Key_Home:
                return set(0);
            case Qt::Key_End:
                return set(1);
            default:
                QWidget::keyPressEvent(e);
        }
    }

  private:
    void set(double v) { calls_.press(spec_.kind->slide(context_, v)); }
    void by(int step) { set(std::clamp((value() + step) / 100.0, 0.0, 1.0)); }
    Mark mark_;
    ControlCalls calls_;
};

/// Says something and takes no input.
class SaysControl : public QWidget, public ShowsControl {
  public:
    SaysControl(const ControlSpec& spec, QWidget* parent) : QWidget(parent), ShowsControl(spec) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAccessibleDescription(text(spec.kind->title));
        // What is shown when something is wrong is read out as soon as it shows.
        auto form = spec.kind->form;
        speak_as(*this,
                 form == Form::notice || form == Form::sign ? QAccessible::AlertMessage : QAccessible::StaticText);
        connect(&turn_, &QTimer::timeout, this, [this] {
            drawn_.turned = (drawn_.turned + 30) % 360;
            update();
        });
    }
    void update() {
        QWidget::update();
        notify_changed();
    }
    void show_context(const ControlContext& context) override {
        context_ = context;
        auto label = label_of(spec_, context_);
        if (label == label_) return;
        label_ = label;
        setAccessibleName(ruedo::text(label));
        update();
    }

  protected:
    void paintEvent(QPaintEvent*) override { paint_in(*this); }
    // Turns only while something can still come.
    void showEvent(QShowEvent*) override {
        if (spec_.kind->mark(context_, spec_.settings).shape == Mark::Shape::waiting) turn_.start(90);
    }
    void hideEvent(QHideEvent*) override { turn_.stop(); }

  private:
    QTimer turn_;
};

/// Equally wide posters, one for each source; pressing one loads it.
class StripControl : public Focusing<QWidget> {
  public:
    StripControl(const ControlSpec& spec, ControlCalls calls, QWidget* parent)
        : Focusing(spec, parent), calls_(std::move(calls)) {
        setAccessibleName("Sources");
        speak_as(*this, QAccessible::List);
        setCursor(Qt::PointingHandCursor);
    }
    void set_strip(std::vector<StripItem> items) override {
        items_ = std::move(items);
        drawn_.strip = items_;
        update();
    }
    void show_context(const ControlContext& context) override {
        bool same = context.index == context_.index;
        context_ = context;
        setAccessibleDescription(text(context.title));
        if (!same) update();
    }

  protected:
    void mouseReleaseEvent(QMouseEvent* e) override {
        auto box = box_of(*this);
        auto first = strip_first(box, items_.size(), context_.index);
        for (auto i = first; i < items_.size(); ++i)
            if (strip_box(box, i, first).contains(place_of(e->position()))) return calls_.go(i);
    }
    void keyPressEvent(QKeyEvent* e) override {
        auto index = context_.index;
        if (e->key() == Qt::Key_Right && index + 1 < items_.size())
            calls_.go(index + 1);
        else if (e->key() == Qt::Key_Left && index > 0)
            calls_.go(index - 1);
        else
            QWidget::keyPressEvent(e);
    }

  private:
    ControlCalls calls_;
    std::vector<StripItem> items_;
};

template <class W, class... A>
ControlWidget made(A&&... a) {
    auto* widget = new W(std::forward<A>(a)...);
    widget->hide();
    return {widget, widget};
}
}  // namespace

ControlWidget make_control(const ControlSpec& spec, const ControlCalls& calls, QWidget* parent) {
    switch (spec.kind->form) {
        case Form::button:
            return made<PressControl>(spec, calls, parent);
        case Form::rail:
            return made<RailControl>(spec, calls, parent);
        case Form::dial:
            return made<DialControl>(spec, calls, parent);
        case Form::strip:
            return made<StripControl>(spec, calls, parent);
        case Form::label:
        case Form::sign:
        case Form::notice:
        case Form::captions:
        case Form::meter:
            break;
    }
    return made<SaysControl>(spec, parent);
}

MoreButton::MoreButton(QWidget* parent) : QAbstractButton(parent) {
    setAccessibleName("More");
    setToolTip("More");
    setFocusPolicy(Qt::StrongFocus);
    setCursor(Qt::PointingHandCursor);
    hide();
    connect(this, &QAbstractButton::clicked, this, [this] { open(); });
}
void MoreButton::show_folded(std::vector<ControlSpec> folded, const ControlContext& context,
                             const ControlCalls& calls) {
    folded_ = std::move(folded), context_ = context, calls_ = calls;
}
QStringList MoreButton::folded() const {
    QStringList list;
    for (auto& c : folded_) list << ruedo::text(label_of(c, context_));
    return list;
}
void MoreButton::paintEvent(QPaintEvent*) {
    QPainter g(this);
    drawn_.focus = hasFocus(), drawn_.pressed = isDown();
    g.scale(scale_, scale_);
    paint_more(g, {QPointF(), QSizeF(size()) / scale_}, drawn_);
}
void MoreButton::focusInEvent(QFocusEvent* e) { QAbstractButton::focusInEvent(e), update(); }
void MoreButton::focusOutEvent(QFocusEvent* e) { QAbstractButton::focusOutEvent(e), update(); }

void MoreButton::open() {
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    for (auto& c : folded_) {
        auto label = look::literal(ruedo::text(label_of(c, context_)));
        switch (c.kind->form) {
            case Form::button: {
                auto asked = c.kind->press(context_, c.settings);
                if (asked.what == Press::What::choose_tracks || asked.what == Press::What::choose_audio) {
                    add_track_options(*menu->addMenu(label), context_.snapshot, calls_, true,
                                      asked.what == Press::What::choose_tracks);
                    break;
                }
                auto* action = menu->addAction(label, menu, [calls = calls_, asked] { calls.press(asked); });
                action->setEnabled(unusable(c, context_).empty());
                break;
            }
            case Form::rail:
            case Form::dial: {
                // The control itself, at a size of use.
                auto* holder = new QWidgetAction(menu);
                auto [widget, shows] = make_control(c, calls_, nullptr);
                shows->show_context(context_);
                widget->setFixedSize(c.kind->form == Form::rail ? QSize(240, 48) : QSize(48, 48));
                holder->setDefaultWidget(widget);
                menu->addAction(holder);
                break;
            }
            case Form::label:
            case Form::captions:
                menu->addAction(label)->setEnabled(false);
                break;
            case Form::sign:
            case Form::notice:
            case Form::strip:
            case Form::meter:
                break;
        }
    }
    auto at = on_display_ ? on_display_(*this, QPoint()) : mapToGlobal(QPoint());
    menu->popup(at - QPoint(0, menu->sizeHint().height()));
}

}  // namespace ruedo
