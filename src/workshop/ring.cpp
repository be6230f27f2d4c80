// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/ring.h"

#include <QMenu>
#include <QPainter>
#include <QPainterPath>
#include <cmath>

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
}  // namespace

Ring::Ring(QWidget* parent) : QWidget(parent) {
    setAccessibleName("Ring: the controller's life");
    for (std::size_t i = 0; i < machine::call_count; ++i) {
        auto call = static_cast<Input>(i);
        auto* b = new QPushButton(text(machine::name(call)), this);
        b->setFlat(true);
        b->setAccessibleName(QString("Call %1").arg(text(machine::name(call))));
        connect(b, &QPushButton::clicked, this, [this, call] {
            if (on_call) on_call(call);
        });
        calls_[i] = b;
    }
    // Places of the hoop lie where no state has its name.
    auto add = [this](std::optional<std::size_t> row, double degrees) {
        auto* b = new QPushButton(this);
        b->setFlat(true);
        b->setStyleSheet("QPushButton{background:transparent;border:none;padding:0;}");
        b->setCursor(Qt::PointingHandCursor);
        auto words = row ? text(host_rows()[*row].hoop) : QString("in front");
        b->setAccessibleName("The app is " + words);
        b->setToolTip(row ? QString("The app is %1: %2").arg(words, text(host_rows()[*row].meaning))
                          : QString("The app is in front, and everything is as it should be"));
        connect(b, &QPushButton::clicked, this, [this, n = hoop_.size()] { press_hoop(hoop_[n]); });
        hoop_.push_back({row, degrees, b});
    };
    add(std::nullopt, -70);
    constexpr std::array degrees{-25.0, 8.0, 52.0, 128.0, 172.0};
    for (std::size_t row = 0, n = 0; row < host_row_count; ++row)
        if (!host_rows()[row].hoop.empty()) add(row, degrees.at(n++));
    sound_ = new QPushButton("its sound …", this);
    sound_->setObjectName("small");
    sound_->setAccessibleName("What happens to the sound of the app");
    auto* menu = new QMenu(sound_);
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
    sound_->setMenu(menu);
}

QPointF Ring::hoop_point(double degrees) const {
    auto angle = degrees / 180 * M_PI;
    return centre() + QPointF(std::cos(angle) * (radius() + 53), std::sin(angle) * (radius() + 44));
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
    sound_->setText(quiet ? "its sound is taken …" : "its sound …");
    sound_->adjustSize();
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
        calls_[i]->setGeometry(static_cast<int>(left ? 18 - bend : width() - 80 + bend), static_cast<int>(y), 62, 28);
    }
    for (auto& p : hoop_)
        p.button->setGeometry(QRectF(hoop_point(p.degrees) - QPointF(12, 12), QSizeF(24, 24)).toRect());
    sound_->adjustSize();
    sound_->move(8, height() - sound_->height() - 6);
}

int Ring::taken(Phase from, Phase to) const {
    auto it = chords_.find({from, to});
    return it == chords_.end() ? 0 : it->second;
}

void Ring::note(const Event& e) {
    if (e.name != "state") return;
    for (auto p : order)
        if (machine::name(p) == e.detail) {
            if (p != last_) ++chords_[{last_, p}];
            last_ = p;
        }
    update();
}
void Ring::forget() {
    chords_.clear();
    last_ = Phase::empty;
    update();
}

void Ring::follow(const Snapshot& s, Time now) {
    snapshot_ = s;
    now_ = now;
    auto& c = look::colours();
    for (std::size_t i = 0; i < calls_.size(); ++i) {
        auto call = static_cast<Input>(i);
        bool legal = machine::allowed(s.state, call);
        auto why = machine::refusal(s.state, call);
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
        calls_[i]->setEnabled(legal);
        calls_[i]->setToolTip(legal ? QString("Call %1 now").arg(text(machine::name(call)))
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
    for (auto& p : hoop_) {
        bool holds = p.row ? life_.holds[*p.row] : life_.place() == "in front";
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
    g.setFont(look::font(look::Size::small));
    g.setPen(c.soft);
    g.drawText(QRectF(8, 4, width() - 16.0, 18), Qt::AlignLeft | Qt::AlignVCenter,
               QString("The app is %1").arg(text(life_.place())));
    g.setPen(QPen(c.line, 10));
    g.setBrush(c.panel);
    g.drawEllipse(o, r, r);
    // Chords: each change of state that happened, thicker the more often.
    for (auto& [pair, count] : chords_) {
        auto a = place(pair.first, r - 8), b = place(pair.second, r - 8);
        QPainterPath p(a);
        p.quadTo(o + (a + b - 2 * o) * 0.12, b);
        auto line = c.soft;
        line.setAlphaF(0.55F);
        g.setPen(QPen(line, std::min(6.0, 0.8 + std::log2(1.0 + count))));
        g.setBrush(Qt::NoBrush);
        g.drawPath(p);
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
    QString word = asked != phase ? QString("waiting %1 s").arg((now_ - snapshot_.since).seconds(), 0, 'f', 1)
                   : snapshot_.state.seeking ? QString("seeking")
                                             : QString();
    if (!word.isEmpty()) {
        auto w = g.fontMetrics().horizontalAdvance(word) + 12;
        QRectF box(o.x() - w / 2.0, o.y() + r * 0.42, w, 18);
        g.setBrush(c.ground);
        g.setPen(c.line);
        g.drawRoundedRect(box, 4, 4);
        g.setPen(c.ink);
        g.drawText(box, Qt::AlignCenter, word);
    }
}

}  // namespace ruedo
