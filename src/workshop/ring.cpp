// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/ring.h"

#include <QDoubleSpinBox>
#include <QMenu>
#include <QPainter>
#include <QPainterPath>
#include <QToolTip>
#include <QWidgetAction>
#include <cmath>
#include <set>

#include "view/look.h"

namespace ruedo {
using machine::Input;

namespace {
constexpr std::array<Phase, machine::phase_count> order{Phase::empty,   Phase::opening, Phase::ready,
                                                        Phase::playing, Phase::waiting, Phase::paused,
                                                        Phase::ended,   Phase::failed,  Phase::closed};
look::Glyph glyph_of(Phase p) {
    switch (p) {
        case Phase::playing:
            return look::Glyph::filled;
        case Phase::opening:
        case Phase::waiting:
            return look::Glyph::broken;
        case Phase::failed:
            return look::Glyph::barred;
        default:
            return look::Glyph::dotted;
    }
}
QColor colour_of(Phase p) {
    auto& c = look::colours();
    switch (p) {
        case Phase::playing:
            return c.teal;
        case Phase::ready:
        case Phase::paused:
        case Phase::ended:
            return c.moss;
        case Phase::failed:
            return c.rust;
        case Phase::opening:
        case Phase::waiting:
            return c.ochre;
        default:
            return c.soft;
    }
}
/// Every way from one phase to another.
struct Change {
    Phase from;
    Input by;
    Phase to;
    auto operator<=>(const Change&) const = default;
};
const std::set<Change>& all_changes() {
    static const auto all = [] {
        std::set<Change> list;
        for (auto state : machine::reachable_states())
            for (std::size_t i = 0; i < machine::input_count; ++i) {
                auto by = static_cast<Input>(i);
                if (auto to = machine::step(state, by).state.phase; to != state.phase)
                    list.insert({state.phase, by, to});
            }
        return list;
    }();
    return all;
}
}  // namespace

Ring::Ring(QWidget* parent) : QWidget(parent) {
    setAccessibleName("Ring: state of the controller");
    for (std::size_t i = 0; i < machine::call_count; ++i) {
        auto call = static_cast<Input>(i);
        auto* b = new QPushButton(text(machine::name(call)), this);
        b->setFlat(true);
        b->setAccessibleName(QString("Call %1").arg(text(machine::name(call))));
        connect(b, &QPushButton::clicked, this, [this, call] {
            if (call == Input::seek) return choose_seek();
            if (call == Input::step) return choose_step();
            if (on_call) on_call(call);
        });
        calls_[i] = b;
    }
    // What is drawn can be pressed where it is drawn.
    auto over = [this](const QString& name, const QString& tip) {
        auto* b = new QPushButton(this);
        b->setFlat(true);
        b->setStyleSheet("QPushButton{background:transparent;border:none;padding:0;}");
        b->setCursor(Qt::PointingHandCursor);
        b->setAccessibleName(name);
        b->setToolTip(tip);
        return b;
    };
    for (auto p : order) {
        auto* b = over(QString("State %1").arg(text(machine::name(p))), ways(p));
        connect(b, &QPushButton::clicked, this, [this, p] {
            told_ = told_ == p ? std::nullopt : std::optional(p);
            if (told_) QToolTip::showText(mapToGlobal(place(p, radius()).toPoint()), ways(p), this, {}, 20000);
            update();
        });
        states_[static_cast<std::size_t>(p)] = b;
    }
    // Places of the hoop lie where no state has its name.
    auto add = [&](std::optional<std::size_t> row, double degrees) {
        auto words = row ? text(host_rows()[*row].hoop) : QString("in front");
        auto* b =
            over("The app is " + words, row ? QString("The app is %1: %2").arg(words, text(host_rows()[*row].meaning))
                                            : QString("The app is in front and nothing interrupts it"));
        connect(b, &QPushButton::clicked, this, [this, n = hoop_.size()] { press_hoop(hoop_[n]); });
        hoop_.push_back({row, degrees, b});
    };
    add(std::nullopt, -70);
    constexpr std::array degrees{-25.0, 8.0, 52.0, 128.0, 172.0};
    for (std::size_t row = 0, n = 0; row < host_row_count; ++row)
        if (!host_rows()[row].hoop.empty()) add(row, degrees.at(n++));
    audio_ = new QPushButton("audio …", this);
    audio_->setObjectName("small");
    audio_->setAccessibleName("Interruptions of the app’s audio");
    auto* menu = new QMenu(audio_);
    connect(menu, &QMenu::aboutToShow, menu, [this, menu] {
        menu->clear();
        for (std::size_t row = 0; row < host_row_count; ++row) {
            auto& r = host_rows()[row];
            if (!r.hoop.empty()) continue;
            auto* a = menu->addAction(text(r.meaning), this, [this, row] {
                if (on_host) on_host(life_.holds[row] ? host_rows()[row].ends : host_rows()[row].begins);
            });
            a->setCheckable(!r.ends.empty());
            a->setChecked(life_.holds[row]);
        }
    });
    audio_->setMenu(menu);
}

QPushButton* Ring::state_button(Phase phase) const { return states_.at(static_cast<std::size_t>(phase)); }

QString Ring::ways(Phase phase) {
    std::map<std::string_view, std::set<std::string_view>> in, out;
    for (auto& [from, input, to] : all_changes()) {
        if (to == phase) in[machine::name(input)].insert(machine::name(from));
        if (from == phase) out[machine::name(input)].insert(machine::name(to));
    }
    auto told = [](auto& ways, const char* joined) {
        QStringList all;
        for (auto& [input, phases] : ways) {
            QStringList names;
            for (auto name : phases) names << text(name);
            all << QString("%1 %2 %3").arg(text(std::string(input)).replace('_', ' '), joined, names.join(", "));
        }
        return all.isEmpty() ? QString("nothing") : all.join("; ");
    };
    return QString("Enters %1 on: %2.\nLeaves it on: %3.")
        .arg(text(machine::name(phase)), told(in, "from"), told(out, "to"));
}

/// A place, and how exactly.
void Ring::choose_seek() {
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    auto* spin = new QDoubleSpinBox;
    spin->setRange(0, snapshot_.duration_known ? std::max(0.1, snapshot_.duration.seconds()) : 86400);
    spin->setDecimals(2);
    spin->setSuffix(" s");
    spin->setValue(snapshot_.duration_known ? snapshot_.duration.seconds() / 2 : snapshot_.position.seconds() + 10);
    spin->setAccessibleName("Seek to");
    auto* holder = new QWidgetAction(menu);
    holder->setDefaultWidget(spin);
    menu->addAction(holder);
    menu->addAction("Seek there", this, [this, spin] {
        if (on_seek) on_seek(Time{static_cast<std::int64_t>(std::llround(spin->value() * 1e9))});
    });
    menu->popup(calls_[static_cast<std::size_t>(Input::seek)]->mapToGlobal(QPoint(0, 28)));
    spin->setFocus();
}
void Ring::choose_step() {
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    for (int by : {1, -1, 10, -10})
        menu->addAction(QString("%1 %2 %3")
                            .arg(std::abs(by))
                            .arg(std::abs(by) == 1 ? "picture" : "pictures", by > 0 ? "forward" : "back"),
                        this, [this, by] {
                            if (on_step) on_step(by);
                        });
    auto* spin = new QSpinBox;
    spin->setRange(-9999, 9999);
    spin->setValue(25);
    spin->setSuffix(" pictures");
    spin->setAccessibleName("Step");
    auto* holder = new QWidgetAction(menu);
    holder->setDefaultWidget(spin);
    menu->addAction(holder);
    menu->addAction("Step", this, [this, spin] {
        if (on_step) on_step(spin->value());
    });
    menu->popup(calls_[static_cast<std::size_t>(Input::step)]->mapToGlobal(QPoint(0, 28)));
}

QPointF Ring::hoop_point(double degrees) const {
    auto angle = degrees / 180 * M_PI;
    return centre() + QPointF(std::cos(angle) * (radius() + 53), std::sin(angle) * (radius() + 44));
}

QString Ring::hoop_name(const HoopPlace& place) {
    return place.row ? text(host_rows()[*place.row].hoop) : QString("in front");
}
/// Beside the mark, outside the hoop first, where nothing else lies.
std::optional<QRectF> Ring::room_for(const QString& name, QPointF mark, const QFontMetrics& metrics) const {
    auto wide = metrics.horizontalAdvance(name) + 4.0;
    bool left = mark.x() < centre().x();
    QRectF outside(left ? mark.x() - 15 - wide : mark.x() + 15, mark.y() - 8, wide, 16),
        above(mark.x() - wide / 2, mark.y() - 31, wide, 16), below(mark.x() - wide / 2, mark.y() + 15, wide, 16);
    auto is_free = [&](const QRectF& box) {
        auto taken = [&](const QRectF& other) { return other.adjusted(-2, -2, 2, 2).intersects(box); };
        if (!QRectF(rect()).contains(box) || taken({0, 0, 150, 22}) || taken(audio_->geometry())) return false;
        if (std::any_of(calls_.begin(), calls_.end(), [&](auto* b) { return taken(b->geometry()); })) return false;
        if (std::any_of(hoop_.begin(), hoop_.end(), [&](auto& p) { return taken(p.button->geometry()); })) return false;
        // What is inside the hoop belongs to the states and their names.
        auto o = centre();
        auto inside = [&](QPointF at) { return std::hypot(at.x() - o.x(), (at.y() - o.y()) * 1.05) < radius() + 46; };
        return !inside(box.topLeft()) && !inside(box.topRight()) && !inside(box.bottomLeft()) &&
               !inside(box.bottomRight());
    };
    for (auto& box : {outside, below, above})
        if (is_free(box)) return box;
    return std::nullopt;
}

/// Being in front ends all that holds; another place begins what it stands for, or ends it.
void Ring::press_hoop(const HoopPlace& place) {
    if (!on_host) return;
    if (place.row)
        return on_host(life_.holds[*place.row] ? host_rows()[*place.row].ends : host_rows()[*place.row].begins);
    auto was = life_;
    for (auto& p : hoop_)
        if (p.row && was.holds[*p.row]) on_host(host_rows()[*p.row].ends);
}

QPushButton* Ring::hoop_button(std::string_view place) const {
    for (auto& p : hoop_)
        if (place == (p.row ? host_rows()[*p.row].hoop : "in front")) return p.button;
    return nullptr;
}

void Ring::follow_host(const HostLife& life) {
    if (life == life_) return;
    life_ = life;
    bool quiet = false;
    for (std::size_t i = 0; i < host_row_count; ++i) quiet = quiet || (life.holds[i] && host_rows()[i].hoop.empty());
    audio_->setText(quiet ? "audio interrupted …" : "audio …");
    audio_->adjustSize();
    update();
}

QPointF Ring::centre() const { return {width() / 2.0, height() / 2.0}; }
double Ring::radius() const { return std::min(width() / 2.0 - 138, height() / 2.0 - 57); }
QPointF Ring::place(Phase phase, double r) const {
    auto i = std::find(order.begin(), order.end(), phase) - order.begin();
    double angle = -M_PI / 2 + 2 * M_PI * static_cast<double>(i) / static_cast<double>(order.size());
    return centre() + QPointF(std::cos(angle) * r, std::sin(angle) * r);
}

void Ring::resizeEvent(QResizeEvent*) {
    // Calls stand in two columns at the rim, four at the left and three at the right.
    for (std::size_t i = 0; i < calls_.size(); ++i) {
        bool left = i < 4;
        auto n = left ? 4.0 : 3.0, k = static_cast<double>(left ? i : i - 4);
        auto y = height() / 2.0 + (k - (n - 1) / 2) * 40 - 14;
        double bend = 10 * std::cos((k - (n - 1) / 2) / n * M_PI);
        calls_[i]->setGeometry(static_cast<int>(left ? 18 - bend : width() - 76 + bend), static_cast<int>(y), 62, 28);
    }
    for (auto& p : hoop_)
        p.button->setGeometry(QRectF(hoop_point(p.degrees) - QPointF(12, 12), QSizeF(24, 24)).toRect());
    for (auto p : order)
        state_button(p)->setGeometry(QRectF(place(p, radius()) - QPointF(12, 12), QSizeF(24, 24)).toRect());
    audio_->adjustSize();
    audio_->move(8, height() - audio_->height() - 6);
}

int Ring::taken(Phase from, Phase to) const {
    auto it = chords_.find({from, to});
    return it == chords_.end() ? 0 : it->second;
}

void Ring::note(const Event& e) {
    if (e.name != "state") return;
    if (auto p = phase_of(e.detail)) {
        if (*p != last_) ++chords_[{last_, *p}];
        last_ = *p;
    }
    update();
}
std::optional<Phase> Ring::phase_of(std::string_view name) {
    auto it = std::find_if(order.begin(), order.end(), [&](auto p) { return machine::name(p) == name; });
    return it == order.end() ? std::nullopt : std::optional(*it);
}
void Ring::forget() {
    chords_.clear();
    last_ = Phase::empty;
    update();
}

void Ring::show_then(std::optional<Then> then) {
    then_ = std::move(then);
    if (then_) show(then_->snapshot, then_->now);
}
void Ring::follow(const Snapshot& s, Time now) {
    if (!then_) show(s, now);
}

void Ring::show(const Snapshot& s, Time now) {
    snapshot_ = s;
    now_ = now;
    auto& c = look::colours();
    for (std::size_t i = 0; i < calls_.size(); ++i) {
        auto call = static_cast<Input>(i);
        bool legal = machine::allowed(s.state, call);
        auto why = then_ && legal ? std::string_view("this is how it was then.") : machine::refusal(s.state, call);
        bool pending =
            (call == Input::seek && s.state.seeking) || (call == Input::open && s.state.phase == Phase::opening);
        auto style =
            QString(
                "QPushButton{background:%1;color:%2;border:1px solid %3;border-radius:13px;font-size:12px;padding:0;} "
                "QPushButton:focus{border:2px solid %4;padding:0;}")
                .arg((pending ? c.ochre
                      : legal ? c.panel
                              : c.ground)
                         .name(),
                     (pending ? c.ground
                      : legal ? c.ink
                              : c.soft)
                         .name(),
                     (legal ? c.soft : c.line).name(), c.ochre.name());
        if (calls_[i]->styleSheet() != style) calls_[i]->setStyleSheet(style);
        calls_[i]->setEnabled(legal && !then_);
        calls_[i]->setToolTip(legal && !then_ ? QString("Call %1 now").arg(text(machine::name(call)))
                                              : QString("Not now: %1").arg(text(why)));
    }
    setAccessibleDescription(
        QString("%1, asked to %2").arg(text(machine::name(s.state.phase)), text(machine::name(s.state.intent))));
    update();
}

void Ring::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto o = centre();
    auto r = radius();
    // The hoop of the app round it; the names of states lie over it.
    g.setPen(QPen(c.line, 1.5));
    g.setBrush(Qt::NoBrush);
    g.drawEllipse(o, r + 53, r + 44);
    auto& life = then_ ? then_->life : life_;
    for (auto& p : hoop_) {
        bool holds = p.row ? life.holds[*p.row] : life.place() == "in front";
        auto at = hoop_point(p.degrees);
        auto size = holds ? 18.0 : 11.0;
        g.setPen(Qt::NoPen);
        g.setBrush(c.ground);
        g.drawEllipse(at, 11, 11);
        look::draw_glyph(g, QRectF(at - QPointF(size / 2, size / 2), QSizeF(size, size)),
                         holds ? (p.row ? look::Glyph::barred : look::Glyph::filled) : look::Glyph::dotted,
                         holds ? (p.row ? c.ochre : c.moss) : c.soft);
        if (p.button->hasFocus()) {
            g.setPen(QPen(c.ochre, 2));
            g.setBrush(Qt::NoBrush);
            g.drawEllipse(at, 12, 12);
        }
    }
    // Their names where there is room beside them; of the others, when the pointer or the keyboard is there.
    g.setFont(look::font(look::Size::small));
    for (auto& p : hoop_) {
        auto name = hoop_name(p);
        auto place = room_for(name, hoop_point(p.degrees), g.fontMetrics());
        bool asked = p.button->hasFocus() || p.button->underMouse();
        if (!place && asked) {
            auto wide = g.fontMetrics().horizontalAdvance(name) + 8;
            auto at = hoop_point(p.degrees);
            place = QRectF(std::clamp(at.x() - wide / 2.0, 2.0, width() - wide - 2.0), at.y() - 32, wide, 18);
            g.fillRect(*place, c.panel);
        }
        if (!place) continue;
        g.setPen(asked ? c.ink : c.soft);
        g.drawText(*place, Qt::AlignCenter, name);
    }
    g.setPen(c.soft);
    g.drawText(QRectF(8, 4, width() - 16.0, 18), Qt::AlignLeft | Qt::AlignVCenter,
               QString(then_ ? "Then it was %1" : "The app is %1").arg(text(life.place())));
    g.setPen(QPen(c.line, 10));
    g.setBrush(c.panel);
    g.drawEllipse(o, r, r);
    // Chords: each change of state that happened, thicker the more often.
    auto chords = chords_;
    if (then_) {
        chords.clear();
        for (auto& change : then_->changes) ++chords[change];
    }
    for (auto& [pair, count] : chords) {
        auto a = place(pair.first, r - 8), b = place(pair.second, r - 8);
        QPainterPath p(a);
        p.quadTo(o + (a + b - 2 * o) * 0.12, b);
        auto line = c.soft;
        line.setAlphaF(0.55F);
        g.setPen(QPen(line, std::min(6.0, 0.8 + std::log2(1.0 + count))));
        g.setBrush(Qt::NoBrush);
        g.drawPath(p);
    }
    // The ways into and out of the state that was pressed.
    if (told_)
        for (auto& [from, input, to] : all_changes()) {
            bool in = to == *told_;
            if (!in && from != *told_) continue;
            g.setPen(QPen(in ? c.teal : c.ochre, 1.6, in ? Qt::SolidLine : Qt::DashLine));
            g.drawLine(place(from, r - 8), place(to, r - 8));
        }
    // States round it.
    g.setFont(look::font(look::Size::small));
    for (auto p : order) {
        bool now = p == snapshot_.state.phase;
        auto at = place(p, r);
        auto size = now ? 20.0 : 12.0;
        look::draw_glyph(g, QRectF(at - QPointF(size / 2, size / 2), QSizeF(size, size)),
                         now ? glyph_of(p) : look::Glyph::dotted, now ? colour_of(p) : c.soft);
        auto label = text(machine::name(p));
        auto out = place(p, r + 17);
        auto w = g.fontMetrics().horizontalAdvance(label) + 2.0;
        double dx = (out.x() - o.x()) / (r + 17);
        QRectF box(out.x() - w / 2 + dx * w / 2, out.y() - 8, w, 16);
        g.setFont(look::font(look::Size::small, now));
        g.fillRect(box.adjusted(-3, 2, 3, -2), c.ground);
        g.setPen(now ? c.ink : c.soft);
        g.drawText(box.adjusted(-8, 0, 8, 0), Qt::AlignCenter, label);
    }
    // Two hands: what happens, and what was asked for.
    auto hand = [&](Phase to, double length, double thick, const QColor& colour) {
        auto tip = place(to, r * length);
        g.setPen(QPen(colour, thick, Qt::SolidLine, Qt::RoundCap));
        g.drawLine(o, tip);
    };
    auto phase = snapshot_.state.phase;
    auto asked = snapshot_.state.intent == Intent::play               ? Phase::playing
                 : phase == Phase::playing || phase == Phase::waiting ? Phase::paused
                                                                      : phase;
    hand(asked, 0.72, 3, c.ochre);
    hand(phase, 0.5, 7, colour_of(phase));
    g.setPen(Qt::NoPen);
    g.setBrush(c.ink);
    g.drawEllipse(o, 6, 6);
    // Where they part, something is waited for.
    g.setFont(look::tabular(look::Size::small));
    g.setPen(c.ink);
    auto since = (now_ - snapshot_.since).seconds();
    auto for_what = phase == Phase::opening   ? "the source"
                    : snapshot_.state.seeking ? "the frame there"
                    : snapshot_.buffered_to - snapshot_.position < 1_s && snapshot_.duration_known &&
                            snapshot_.buffered_to < snapshot_.duration
                        ? "the network"
                    : phase == Phase::waiting ? "more data"
                                              : "the first data";
    QString word = asked != phase            ? QString("waiting for %1 since %2 s").arg(for_what).arg(since, 0, 'f', 1)
                   : snapshot_.state.seeking ? QString("seeking")
                                             : QString();
    if (!word.isEmpty()) {
        auto w = g.fontMetrics().horizontalAdvance(word) + 12;
        QRectF box(o.x() - w / 2.0, o.y() + r * 0.12, w, 18);
        g.setBrush(c.ground);
        g.setPen(c.line);
        g.drawRoundedRect(box, 4, 4);
        g.setPen(c.ink);
        g.drawText(box, Qt::AlignCenter, word);
    }
}

}  // namespace ruedo
