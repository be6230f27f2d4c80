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
}  // namespace

void paint_control(QPainter& g, const ControlKind& kind, const ControlContext& c, QRectF box, bool focus,
                   bool pressed) {
    g.setRenderHint(QPainter::Antialiasing);
    auto side = std::min(box.width(), box.height());
    QRectF square(box.center().x() - side / 2, box.center().y() - side / 2, side, side);
    auto inset = [&](double part) { return square.adjusted(side * part, side * part, -side * part, -side * part); };
    auto ink = pressed ? plate_wine : kind.idle(c).empty() ? plate_ink : plate_line;
    if (kind.chief) {
        g.setPen(Qt::NoPen);
        g.setBrush(pressed ? plate_ink : plate_wine);
        g.drawEllipse(square.adjusted(3, 3, -3, -3));
        ink = plate_paper;
    }
    auto place = inset(kind.chief ? 0.33 : 0.27);
    auto mark = kind.mark(c);
    using Shape = Mark::Shape;
    switch (mark.shape) {
        case Shape::none:
            break;
        case Shape::play:
            look::draw_play(g, place.translated(side * 0.02, 0), ink);
            break;
        case Shape::pause:
            look::draw_pause(g, place, ink);
            break;
        case Shape::turn_back:
        case Shape::turn_forward:
            look::draw_turn(g, inset(0.18), mark.shape == Shape::turn_forward, QString::number(mark.figure), ink);
            break;
        case Shape::speaker:
            look::draw_speaker(g, place, mark.level, mark.on, ink);
            break;
        case Shape::corners:
            look::draw_corners(g, place, mark.on, ink);
            break;
        case Shape::captions:
            look::draw_captions(g, place, mark.on, ink);
            break;
        case Shape::to_start:
        case Shape::to_end:
            look::draw_to_edge(g, place, mark.shape == Shape::to_end, ink);
            break;
    }
    if (focus) draw_focus(g, square, kind.chief ? side / 2 : 8);
}

ControlButton::ControlButton(Control control, ControlCalls calls, QWidget* parent)
    : QAbstractButton(parent), kind_(kind_of(control)), calls_(std::move(calls)) {
    setFocusPolicy(Qt::StrongFocus);
    setCursor(Qt::PointingHandCursor);
    connect(this, &QAbstractButton::clicked, this, [this] { press(); });
    show_context({});
}

void ControlButton::press() {
    auto asked = kind_.press(context_);
    switch (asked.what) {
        case Press::What::none:
            break;
        case Press::What::toggle:
            return calls_.toggle();
        case Press::What::skip:
            return calls_.skip(asked.by);
        case Press::What::mute:
            return calls_.mute(asked.onward);
        case Press::What::full_screen:
            return calls_.full_screen();
        case Press::What::turn:
            return calls_.turn(asked.onward);
        case Press::What::choose_tracks: {
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
                            [calls = calls_, id = c.id] { calls.sound_track(id); });
                menu.addSeparator();
                bool any =
                    std::any_of(s.choices->begin(), s.choices->end(), [](auto& c) { return c.kind == Kind::text; });
                if (any) add("No captions", s.text_track == 0, [calls = calls_] { calls.text_track(0); });
                for (auto& c : *s.choices)
                    if (c.kind == Kind::text)
                        add("Captions: " + ruedo::text(c.title), c.id == s.text_track,
                            [calls = calls_, id = c.id] { calls.text_track(id); });
            }
            menu.exec(mapToGlobal(QPoint(0, -menu.sizeHint().height())));
        }
    }
}
QSize ControlButton::sizeHint() const { return {44, 44}; }
void ControlButton::show_context(const ControlContext& context) {
    context_ = context;
    auto label = ruedo::text(kind_.label(context_));
    auto mark = kind_.mark(context_);
    bool works = kind_.idle(context_).empty();
    if (label == label_ && mark == mark_ && works == isEnabled()) return;
    label_ = label, mark_ = mark;
    setEnabled(works);
    setAccessibleName(label);
    setToolTip(label);
    update();
}
void ControlButton::paintEvent(QPaintEvent*) {
    QPainter g(this);
    paint_control(g, kind_, context_, rect(), hasFocus(), isDown());
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

TimeRange PositionSlider::range() const {
    auto& s = context_.snapshot;
    if (s.live && s.seekable && s.seekable->to != Time::max()) return *s.seekable;
    return {{}, s.duration};
}

Time PositionSlider::at(double x) const {
    auto r = rail();
    auto [from, to] = range();
    return from + scaled(to - from, std::clamp((x - r.left()) / std::max(1.0, r.width()), 0.0, 1.0));
}

void PositionSlider::show_context(const ControlContext& context) {
    context_ = context;
    auto& s = context_.snapshot;
    auto milliseconds = [](Time t) { return static_cast<int>(std::min<std::int64_t>(t.ns / 1'000'000, INT32_MAX)); };
    setRange(milliseconds(range().from), milliseconds(range().to));
    setValue(milliseconds(dragged_ ? *dragged_ : s.position));
    setEnabled(kind_of(Control::position).idle(context_).empty());
    setAccessibleDescription(
        QString("%1 of %2")
            .arg(QString::fromStdString(format_clock(s.position)), QString::fromStdString(format_clock(range().to))));
    update();
}

void PositionSlider::paintEvent(QPaintEvent*) {
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto& s = context_.snapshot;
    auto r = rail();
    auto [from, to] = range();
    auto x_of = [&, from = from, to = to](Time t) {
        auto part = to > from ? static_cast<double>((t - from).ns) / static_cast<double>((to - from).ns) : 0;
        return r.left() + r.width() * std::clamp(part, 0.0, 1.0);
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
    auto small = std::max(1_s, std::min(5_s, (range().to - range().from) / 20));
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
            calls_.seek(range().from, SeekMode::exact);
            break;
        case Qt::Key_End:
            calls_.seek(range().to, SeekMode::exact);
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
