// SPDX-License-Identifier: Apache-2.0
#include "view/controls.h"

#include <QHBoxLayout>
#include <QMenu>
#include <QMouseEvent>
#include <algorithm>
#include <cmath>

#include "view/look.h"

namespace ruedo {
namespace {
// Controls stand on a sand-coloured plate in both schemes, since they lie on the picture.
const QColor plate_ink{0x2A211C}, plate_soft{0x5C4F43}, plate_wine{0x8A2436}, plate_paper{0xF7F1E5},
    plate_line{0xD0C2A6}, plate_teal{0x1E6E72}, plate_ochre{0xC4841D};

void draw_focus(QPainter& g, QRectF r, double radius) {
    g.setBrush(Qt::NoBrush);
    g.setPen(QPen(plate_ochre, 2));
    g.drawRoundedRect(r.adjusted(1, 1, -1, -1), radius, radius);
}

QString label_of(Control control, const ControlContext& c) {
    auto seconds = c.skip.ns / 1'000'000'000;
    switch (control) {
        case Control::toggle:
            return c.snapshot.state.intent == Intent::play ? "Pause" : "Play";
        case Control::back:
            return QString("Back %1 seconds").arg(seconds);
        case Control::forward:
            return QString("Forward %1 seconds").arg(seconds);
        case Control::full_screen:
            return c.full_screen ? "Leave full screen" : "Full screen";
        case Control::volume:
            return c.snapshot.muted ? "Sound on" : "Sound off";
        case Control::position:
            return "Position";
        case Control::tracks:
            return "Sound and captions";
        case Control::previous:
            return "The source before";
        case Control::next:
            return "The next source";
        case Control::strip:
            return "Sources";
    }
    return {};
}
}  // namespace

void paint_control(QPainter& g, Control control, const ControlContext& c, QRectF box, bool focus, bool pressed) {
    g.setRenderHint(QPainter::Antialiasing);
    auto side = std::min(box.width(), box.height());
    QRectF square(box.center().x() - side / 2, box.center().y() - side / 2, side, side);
    auto mark = square.adjusted(side * 0.27, side * 0.27, -side * 0.27, -side * 0.27);
    switch (control) {
        case Control::toggle: {
            g.setPen(Qt::NoPen);
            g.setBrush(pressed ? plate_ink : plate_wine);
            g.drawEllipse(square.adjusted(3, 3, -3, -3));
            mark = square.adjusted(side * 0.33, side * 0.33, -side * 0.33, -side * 0.33);
            // The mark shows what a press will do: it follows what was asked for.
            if (c.snapshot.state.intent == Intent::play)
                look::draw_pause(g, mark, plate_paper);
            else
                look::draw_play(g, mark.translated(side * 0.02, 0), plate_paper);
            break;
        }
        case Control::back:
        case Control::forward:
            look::draw_turn(g, square.adjusted(side * 0.18, side * 0.18, -side * 0.18, -side * 0.18),
                            control == Control::forward, QString::number(c.skip.ns / 1'000'000'000),
                            pressed ? plate_wine : plate_ink);
            break;
        case Control::volume:
            look::draw_speaker(g, mark, c.snapshot.volume, c.snapshot.muted || c.snapshot.volume == 0,
                               pressed ? plate_wine : plate_ink);
            break;
        case Control::full_screen:
            look::draw_corners(g, mark, c.full_screen, pressed ? plate_wine : plate_ink);
            break;
        case Control::tracks:
            look::draw_captions(g, mark, c.snapshot.text_track != 0, pressed ? plate_wine : plate_ink);
            break;
        case Control::previous:
        case Control::next:
            look::draw_to_edge(g, mark, control == Control::next,
                               pressed                                                    ? plate_wine
                               : (control == Control::next ? c.has_next : c.has_previous) ? plate_ink
                                                                                          : plate_line);
            break;
        case Control::position:
        case Control::strip:
            break;
    }
    if (focus) draw_focus(g, square, control == Control::toggle ? side / 2 : 8);
}

ControlButton::ControlButton(Control control, ControlCalls calls, QWidget* parent)
    : QAbstractButton(parent), control_(control) {
    setFocusPolicy(Qt::StrongFocus);
    setCursor(Qt::PointingHandCursor);
    connect(this, &QAbstractButton::clicked, this, [this, calls = std::move(calls)] {
        switch (control_) {
            case Control::toggle:
                calls.toggle();
                break;
            case Control::back:
                calls.skip(-context_.skip);
                break;
            case Control::forward:
                calls.skip(context_.skip);
                break;
            case Control::volume:
                calls.mute(!context_.snapshot.muted);
                break;
            case Control::full_screen:
                calls.full_screen();
                break;
            case Control::previous:
                calls.turn(false);
                break;
            case Control::next:
                calls.turn(true);
                break;
            case Control::tracks: {
                // The choices stand beside the control; what plays is marked.
                QMenu menu(this);
                auto& s = context_.snapshot;
                auto add = [&](const QString& words, bool on, std::function<void()> run) {
                    auto* a = menu.addAction(words, this, std::move(run));
                    a->setCheckable(true);
                    a->setChecked(on);
                };
                if (s.choices) {
                    for (auto& c : *s.choices)
                        if (c.kind == Kind::audio)
                            add("Sound: " + ruedo::text(c.title), c.id == s.sound_track,
                                [calls, id = c.id] { calls.sound_track(id); });
                    menu.addSeparator();
                    bool any =
                        std::any_of(s.choices->begin(), s.choices->end(), [](auto& c) { return c.kind == Kind::text; });
                    if (any) add("No captions", s.text_track == 0, [calls] { calls.text_track(0); });
                    for (auto& c : *s.choices)
                        if (c.kind == Kind::text)
                            add("Captions: " + ruedo::text(c.title), c.id == s.text_track,
                                [calls, id = c.id] { calls.text_track(id); });
                }
                menu.exec(mapToGlobal(QPoint(0, -menu.sizeHint().height())));
                break;
            }
            case Control::position:
            case Control::strip:
                break;
        }
    });
    show_context({});
}
QSize ControlButton::sizeHint() const { return {44, 44}; }
void ControlButton::show_context(const ControlContext& context) {
    bool same = context.snapshot.state.intent == context_.snapshot.state.intent &&
                context.snapshot.muted == context_.snapshot.muted &&
                context.snapshot.volume == context_.snapshot.volume && context.full_screen == context_.full_screen &&
                context.skip == context_.skip && context.snapshot.text_track == context_.snapshot.text_track &&
                context.has_next == context_.has_next && context.has_previous == context_.has_previous;
    context_ = context;
    if (same && !accessibleName().isEmpty()) return;
    if (control_ == Control::next) setEnabled(context_.has_next);
    if (control_ == Control::previous) setEnabled(context_.has_previous);
    auto label = label_of(control_, context_);
    setAccessibleName(label);
    setToolTip(label);
    update();
}
void ControlButton::paintEvent(QPaintEvent*) {
    QPainter g(this);
    paint_control(g, control_, context_, rect(), hasFocus(), isDown());
}
void ControlButton::focusInEvent(QFocusEvent* e) { QAbstractButton::focusInEvent(e), update(); }
void ControlButton::focusOutEvent(QFocusEvent* e) { QAbstractButton::focusOutEvent(e), update(); }

PosterStrip::PosterStrip(ControlCalls calls, QWidget* parent) : QWidget(parent), calls_(std::move(calls)) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("Sources");
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    setCursor(Qt::PointingHandCursor);
}
void PosterStrip::set_items(std::vector<Item> items) { items_ = std::move(items), update(); }
void PosterStrip::set_poster(std::size_t index, const QImage& poster) {
    if (index < items_.size()) items_[index].poster = poster, update();
}
void PosterStrip::show_context(const ControlContext& context) {
    if (index_ == context.index) return;
    index_ = context.index;
    setAccessibleDescription(index_ < items_.size() ? items_[index_].name : QString());
    update();
}
namespace {
constexpr double strip_wide = 64, strip_gap = 6;
}
std::size_t PosterStrip::first_shown() const {
    auto fit = static_cast<std::size_t>(std::max(1.0, (width() + strip_gap) / (strip_wide + strip_gap)));
    if (items_.size() <= fit) return 0;
    return std::min(items_.size() - fit, index_ > fit / 2 ? index_ - fit / 2 : 0);
}
QRectF PosterStrip::box(std::size_t i) const {
    return {static_cast<double>(i - first_shown()) * (strip_wide + strip_gap), 4, strip_wide, height() - 8.0};
}
void PosterStrip::paintEvent(QPaintEvent*) {
    QPainter g(this);
    g.setRenderHints(QPainter::Antialiasing | QPainter::SmoothPixmapTransform);
    g.setFont(look::font(look::Size::small));
    for (auto i = first_shown(); i < items_.size(); ++i) {
        auto b = box(i);
        if (b.right() > width() + 1) break;
        g.fillRect(b, look::surround);
        auto& item = items_[i];
        if (!item.poster.isNull()) {
            auto size = QSizeF(item.poster.size()).scaled(b.size(), Qt::KeepAspectRatio);
            g.drawImage(QRectF(b.center() - QPointF(size.width() / 2, size.height() / 2), size), item.poster);
        } else {
            g.setPen(plate_paper);
            g.drawText(b.adjusted(4, 2, -4, -2), Qt::AlignCenter | Qt::TextWordWrap, item.name);
        }
        g.setBrush(Qt::NoBrush);
        g.setPen(QPen(i == index_ ? plate_wine : plate_line, i == index_ ? 3 : 1));
        g.drawRect(b.adjusted(1, 1, -1, -1));
    }
    if (hasFocus()) draw_focus(g, rect(), 4);
}
void PosterStrip::mouseReleaseEvent(QMouseEvent* e) {
    for (auto i = first_shown(); i < items_.size(); ++i)
        if (box(i).contains(e->position())) return calls_.go(i);
}
void PosterStrip::keyPressEvent(QKeyEvent* e) {
    if (e->key() == Qt::Key_Right && index_ + 1 < items_.size())
        calls_.go(index_ + 1);
    else if (e->key() == Qt::Key_Left && index_ > 0)
        calls_.go(index_ - 1);
    else
        QWidget::keyPressEvent(e);
}

PositionSlider::PositionSlider(ControlCalls calls, QWidget* parent)
    : QAbstractSlider(parent), calls_(std::move(calls)) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("Position");
    setMouseTracking(true);
    setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
    setTracking(false);
}

QRectF PositionSlider::rail() const { return {8, height() / 2.0 - 8, width() - 16.0, 6}; }

Time PositionSlider::at(double x) const {
    auto r = rail();
    return scaled(context_.snapshot.duration, std::clamp((x - r.left()) / std::max(1.0, r.width()), 0.0, 1.0));
}

void PositionSlider::show_context(const ControlContext& context) {
    context_ = context;
    auto& s = context_.snapshot;
    setMaximum(static_cast<int>(std::min<std::int64_t>(s.duration.ns / 1'000'000, INT32_MAX)));
    setValue(static_cast<int>(std::min<std::int64_t>((dragged_ ? *dragged_ : s.position).ns / 1'000'000, INT32_MAX)));
    setEnabled(s.duration_known && (s.has_video || s.has_audio));
    setAccessibleDescription(
        QString("%1 of %2")
            .arg(QString::fromStdString(format_clock(s.position)), QString::fromStdString(format_clock(s.duration))));
    update();
}

void PositionSlider::paintEvent(QPaintEvent*) {
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto& s = context_.snapshot;
    auto r = rail();
    auto x_of = [&](Time t) {
        return s.duration.ns > 0
                   ? r.left() + r.width() *
                                    std::clamp(static_cast<double>(t.ns) / static_cast<double>(s.duration.ns), 0.0, 1.0)
                   : r.left();
    };
    auto position = dragged_ ? *dragged_ : s.position;
    g.setPen(Qt::NoPen);
    g.setBrush(plate_line);
    g.drawRect(r);
    // Buffered, as a thin line at the foot; where it is, from the start.
    g.setBrush(plate_teal);
    g.drawRect(QRectF(x_of(s.buffered_from), r.bottom() - 2, x_of(s.buffered_to) - x_of(s.buffered_from), 2));
    g.setBrush(plate_wine);
    g.drawRect(QRectF(r.left(), r.top(), x_of(position) - r.left(), r.height() - 2));
    // A post, not a knob: it stands on the rail like a ring's fence.
    auto x = x_of(position);
    g.setBrush(isEnabled() ? plate_wine : plate_soft);
    g.drawRect(QRectF(x - 3, r.top() - 8, 6, r.height() + 12));
    g.setFont(look::tabular(look::Size::small));
    g.setPen(plate_ink);
    auto text = QRectF(r.left(), r.bottom() + 4, r.width(), 16);
    g.drawText(text, Qt::AlignLeft | Qt::AlignVCenter, QString::fromStdString(format_clock(position)));
    if (s.duration_known) {
        g.setPen(plate_soft);
        g.drawText(text, Qt::AlignRight | Qt::AlignVCenter,
                   QString("%1 left").arg(QString::fromStdString(format_clock(s.duration - position))));
    }
    if (hasFocus()) draw_focus(g, rect(), 6);
}

void PositionSlider::mousePressEvent(QMouseEvent* e) {
    if (e->button() != Qt::LeftButton) return;
    dragged_ = at(e->position().x());
    calls_.seek(*dragged_, SeekMode::keyframe);
    update();
}
void PositionSlider::mouseMoveEvent(QMouseEvent* e) {
    if (!dragged_) return e->ignore();
    auto to = at(e->position().x());
    if (to != *dragged_) calls_.seek(to, SeekMode::keyframe);
    dragged_ = to;
    update();
}
void PositionSlider::mouseReleaseEvent(QMouseEvent* e) {
    if (!dragged_) return;
    calls_.seek(at(e->position().x()), SeekMode::exact);
    dragged_.reset();
    update();
}
void PositionSlider::keyPressEvent(QKeyEvent* e) {
    auto small = std::max(1_s, std::min(5_s, context_.snapshot.duration / 20));
    if (e->modifiers() != Qt::NoModifier) return QWidget::keyPressEvent(e);
    switch (e->key()) {
        case Qt::Key_Left:
        case Qt::Key_Down:
            calls_.skip(-small);
            break;
        case Qt::Key_Right:
        case Qt::Key_Up:
            calls_.skip(small);
            break;
        case Qt::Key_PageDown:
            calls_.skip(-context_.skip);
            break;
        case Qt::Key_PageUp:
            calls_.skip(context_.skip);
            break;
        case Qt::Key_Home:
            calls_.seek({}, SeekMode::exact);
            break;
        case Qt::Key_End:
            calls_.seek(context_.snapshot.duration, SeekMode::exact);
            break;
        default:
            QWidget::keyPressEvent(e);
    }
}
void PositionSlider::wheelEvent(QWheelEvent* e) { e->ignore(); }

/// The volume's own dial: an arc of the ring's family that fills as it gets louder, its figure inside.
class VolumeControl::Dial : public QAbstractSlider {
  public:
    Dial(ControlCalls calls, QWidget* parent) : QAbstractSlider(parent), calls_(std::move(calls)) {
        setFocusPolicy(Qt::StrongFocus);
        setAccessibleName("Volume");
        setRange(0, 100);
        setFixedSize(44, 44);
    }
    void show_volume(double volume, bool muted) {
        muted_ = muted;
        QSignalBlocker block(this);
        setValue(static_cast<int>(volume * 100 + 0.5));
        setToolTip(QString("Volume %1 %").arg(value()));
        update();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        auto r = QRectF(rect()).adjusted(7, 7, -7, -7);
        auto arc = [&](double part, const QColor& colour) {
            g.setPen(QPen(colour, 5, Qt::SolidLine, Qt::FlatCap));
            g.drawArc(r, static_cast<int>(from * 16), static_cast<int>(-sweep * part * 16));
        };
        arc(1, plate_line);
        arc(value() / 100.0, muted_ ? plate_soft : plate_wine);
        g.setFont(look::tabular(look::Size::small));
        g.setPen(muted_ ? plate_soft : plate_ink);
        g.drawText(rect(), Qt::AlignCenter, QString::number(value()));
        if (hasFocus()) draw_focus(g, rect(), 6);
    }
    void mousePressEvent(QMouseEvent* e) override { set_from(e->position()); }
    void mouseMoveEvent(QMouseEvent* e) override {
        if (e->buttons() & Qt::LeftButton) set_from(e->position());
    }
    void wheelEvent(QWheelEvent* e) override { by(e->angleDelta().y() > 0 ? 5 : -5), e->accept(); }
    void keyPressEvent(QKeyEvent* e) override {
        if (e->modifiers() != Qt::NoModifier) return QWidget::keyPressEvent(e);
        switch (e->key()) {
            case Qt::Key_Left:
            case Qt::Key_Down:
                by(-5);
                break;
            case Qt::Key_Right:
            case Qt::Key_Up:
                by(5);
                break;
            case Qt::Key_Home:
                by(-100);
                break;
            case Qt::Key_End:
                by(100);
                break;
            default:
                QWidget::keyPressEvent(e);
        }
    }

  private:
    static constexpr double from = 225, sweep = 270;  ///< Degrees, counter-clockwise from the right; open at the foot.
    void by(int step) { calls_.volume(std::clamp((value() + step) / 100.0, 0.0, 1.0)); }
    void set_from(QPointF at) {
        auto d = at - QRectF(rect()).center();
        double angle = std::atan2(-d.y(), d.x()) * 180 / M_PI;
        double turned = std::fmod(from - angle + 720, 360);
        // In the opening at the foot the nearer end counts.
        if (turned > sweep) turned = turned < sweep + (360 - sweep) / 2 ? sweep : 0;
        calls_.volume(turned / sweep);
    }
    ControlCalls calls_;
    bool muted_ = false;
};

VolumeControl::VolumeControl(ControlCalls calls, QWidget* parent)
    : QWidget(parent), mute_(new ControlButton(Control::volume, calls, this)), dial_(new Dial(calls, this)) {
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(0);
    row->addWidget(mute_);
    row->addWidget(dial_);
}
void VolumeControl::show_context(const ControlContext& c) {
    static_cast<ControlButton*>(mute_)->show_context(c);
    dial_->show_volume(c.snapshot.volume, c.snapshot.muted);
}

}  // namespace ruedo
