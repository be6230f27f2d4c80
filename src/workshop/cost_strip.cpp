// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/cost_strip.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <QToolTip>
#include <algorithm>
#include <cmath>

#include "view/look.h"

namespace ruedo {
namespace {
constexpr int names = 118;  ///< Room for what the two rows are.
}

CostStrip::CostStrip(QWidget* parent) : QWidget(parent) {
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("Similarity and size over time");
    setFixedHeight(120);
}

void CostStrip::show_sample_encode(std::shared_ptr<const SampleEncode> sample_encode) {
    sample_encode_ = std::move(sample_encode);
    setAccessibleDescription(sample_encode_ ? text(sample_encode_->sentence()) : QString());
    update();
}
void CostStrip::show_kept(std::vector<std::shared_ptr<const SampleEncode>> kept) {
    kept_ = std::move(kept);
    update();
}
void CostStrip::set_place(Time at) {
    at_ = at;
    update();
}

QRectF CostStrip::upper() const { return {double(names), 8, width() - names - 16.0, 52}; }
QRectF CostStrip::lower() const { return {double(names), 68, width() - names - 16.0, 34}; }
double CostStrip::x_of(Time t) const {
    auto r = upper();
    auto length = (sample_encode_->to - sample_encode_->from).seconds();
    return r.left() + r.width() * std::clamp((t - sample_encode_->from).seconds() / std::max(1e-9, length), 0.0, 1.0);
}
Time CostStrip::time_at(double x) const {
    auto r = upper();
    auto part = std::clamp((x - r.left()) / std::max(1.0, r.width()), 0.0, 1.0);
    return sample_encode_->from + scaled(sample_encode_->to - sample_encode_->from, part);
}
const Comparison::Place* CostStrip::place_at(Time t) const {
    auto& all = sample_encode_->likeness.places;
    auto it = std::upper_bound(all.begin(), all.end(), t, [](Time v, auto& p) { return v < p.at; });
    return all.empty() ? nullptr : &*(it == all.begin() ? it : std::prev(it));
}

double CostStrip::least_alike() const {
    double least = 1;
    for (auto& p : sample_encode_->likeness.places) least = std::min(least, p.ssim_y);
    return least;
}
QString CostStrip::alike_in_words() const {
    if (!sample_encode_) return {};
    if (!sample_encode_->likeness.places.empty()) return QString("from %1").arg(least_alike(), 0, 'f', 3);
    auto& action = sample_encode_->made.video.action;
    return action == "copied" ? "the same" : action == "none" ? "left out" : QString();
}

QString CostStrip::words_at(double x) const {
    if (!sample_encode_) return {};
    auto t = time_at(x);
    auto words = text(format_clock(t));
    if (auto* p = place_at(t)) {
        words += QString(": similarity %1").arg(p->ssim_y, 0, 'f', 4);
        words += p->mean_squared_error > 0 ? QString(", %1 dB").arg(psnr(p->mean_squared_error), 0, 'f', 1)
                                           : QString(", the same");
    }
    auto tenth = static_cast<std::size_t>((t - sample_encode_->from).ns / 100'000'000);
    auto rate = [](double bytes) { return QString("%1 kB a second").arg(bytes / 100, 0, 'f', 0); };
    if (tenth < sample_encode_->before.size() && tenth < sample_encode_->after.size())
        words += QString("; %1, now %2").arg(rate(sample_encode_->before[tenth]), rate(sample_encode_->after[tenth]));
    return words;
}

void CostStrip::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto up = upper(), low = lower();
    g.fillRect(up, c.panel), g.fillRect(low, c.panel);
    g.setFont(look::font(look::Size::small));
    g.setPen(c.soft);
    g.drawText(QRectF(16, up.top() - 2, names - 22, 18), Qt::AlignLeft | Qt::AlignVCenter, "Similarity");
    g.drawText(QRectF(16, low.top(), names - 22, 18), Qt::AlignLeft | Qt::AlignVCenter, "Bytes");
    if (!sample_encode_) return;
    // From the least alike up to the same, with some air below.
    auto least = least_alike();
    auto floor = std::max(0.0, 1 - (1 - least) * 1.25 - 0.002);
    g.setFont(look::tabular(look::Size::small));
    g.drawText(QRectF(16, up.bottom() - 20, names - 22, 20), Qt::AlignLeft | Qt::AlignVCenter, alike_in_words());
    auto y_of = [&](double v) { return up.bottom() - up.height() * (v - floor) / std::max(1e-9, 1 - floor); };
    auto draw = [&](const Comparison& likeness, const QPen& pen) {
        QPainterPath path;
        for (auto& p : likeness.places) {
            QPointF at(x_of(p.at), std::min(y_of(p.ssim_y), up.bottom()));
            path.elementCount() ? path.lineTo(at) : path.moveTo(at);
        }
        g.setPen(pen);
        g.drawPath(path);
    };
    g.setBrush(Qt::NoBrush);
    for (auto& k : kept_)
        if (k != sample_encode_ && k->from == sample_encode_->from && k->to == sample_encode_->to)
            draw(k->likeness, QPen(c.soft, 1, Qt::DotLine));
    draw(sample_encode_->likeness, QPen(c.teal, 1.6));
    // The same in decibels, from 20 up to 60, thinner.
    QPainterPath decibels;
    for (auto& p : sample_encode_->likeness.places) {
        auto db = p.mean_squared_error > 0 ? std::clamp(psnr(p.mean_squared_error), 20.0, 60.0) : 60.0;
        QPointF at(x_of(p.at), up.bottom() - up.height() * (db - 20) / 40);
        decibels.elementCount() ? decibels.lineTo(at) : decibels.moveTo(at);
    }
    g.setPen(QPen(c.ochre, 1));
    g.setBrush(Qt::NoBrush);
    g.drawPath(decibels);
    if (auto worst = sample_encode_->likeness.worst(1); !worst.empty() && !sample_encode_->likeness.identical) {
        g.setBrush(c.rust), g.setPen(Qt::NoPen);
        g.drawEllipse(QPointF(x_of(worst[0].at), y_of(worst[0].ssim_y)), 4, 4);
    }
    if (!sample_encode_->likeness.places.empty()) {
        g.fillRect(QRectF(16, up.top() + 24, 9, 2), c.ochre);
        g.setPen(c.soft);
        g.drawText(QRectF(30, up.top() + 16, names - 36, 18), Qt::AlignLeft | Qt::AlignVCenter, "20 to 60 dB");
    }
    // Which is which.
    auto swatch = [&](double y, const QColor& colour, const char* words) {
        g.fillRect(QRectF(16, y + 4, 9, 9), colour);
        g.setPen(c.soft);
        g.drawText(QRectF(30, y, names - 36, 18), Qt::AlignLeft | Qt::AlignVCenter, words);
    };
    swatch(low.top() + 16, c.line, "before"), swatch(low.top() + 32, c.teal, "after");
    // Bytes in each tenth of a second, or as many of them as it takes to be seen: what there was behind what there will
    // be.
    auto together = std::max<std::size_t>(
        1, static_cast<std::size_t>(std::ceil(static_cast<double>(sample_encode_->before.size()) * 3 / low.width())));
    auto gather = [&](const std::vector<double>& list) {
        std::vector<double> sums((std::min(list.size(), sample_encode_->before.size()) + together - 1) / together);
        for (std::size_t i = 0; i < std::min(list.size(), sample_encode_->before.size()); ++i)
            sums[i / together] += list[i];
        return sums;
    };
    auto before = gather(sample_encode_->before), after = gather(sample_encode_->after);
    double most = 1;
    for (auto* list : {&before, &after})
        for (auto v : *list) most = std::max(most, v);
    auto bars = [&](const std::vector<double>& list, const QColor& colour, double part) {
        auto wide = low.width() / static_cast<double>(std::max<std::size_t>(1, before.size()));
        for (std::size_t i = 0; i < list.size(); ++i) {
            auto high = low.height() * list[i] / most;
            g.fillRect(QRectF(low.left() + wide * (static_cast<double>(i) + (1 - part) / 2), low.bottom() - high,
                              std::max(1.0, wide * part - 1), high),
                       colour);
        }
    };
    bars(before, c.line, 1);
    bars(after, c.teal, 0.55);
    // Where one can enter it: before above, after below.
    for (auto [keys, colour, top] : {std::tuple(&sample_encode_->keys_before, c.soft, up.bottom() + 1),
                                     std::tuple(&sample_encode_->keys_after, c.teal, up.bottom() + 5)}) {
        g.setPen(QPen(colour, 2));
        for (auto k : *keys) g.drawLine(QPointF(x_of(k), top), QPointF(x_of(k), top + 3));
    }
    g.setPen(QPen(c.wine, 2));
    g.drawLine(QPointF(x_of(at_), up.top()), QPointF(x_of(at_), low.bottom()));
    g.setPen(c.soft);
    g.drawText(QRectF(low.left(), low.bottom(), 120, 16), Qt::AlignLeft, text(format_clock(sample_encode_->from)));
    g.drawText(QRectF(low.right() - 120, low.bottom(), 120, 16), Qt::AlignRight,
               text(format_clock(sample_encode_->to)));
}

void CostStrip::mousePressEvent(QMouseEvent* e) {
    if (sample_encode_ && on_place) on_place(time_at(e->position().x()));
}
void CostStrip::mouseMoveEvent(QMouseEvent* e) {
    if (!sample_encode_) return;
    if (e->buttons() & Qt::LeftButton) return mousePressEvent(e);
    QToolTip::showText(e->globalPosition().toPoint(), words_at(e->position().x()), this);
}
/// A picture back or on.
void CostStrip::keyPressEvent(QKeyEvent* e) {
    int by = e->key() == Qt::Key_Left ? -1 : e->key() == Qt::Key_Right ? 1 : 0;
    auto* now = sample_encode_ && by && !e->modifiers() ? place_at(at_) : nullptr;
    if (!now) return QWidget::keyPressEvent(e);
    auto& all = sample_encode_->likeness.places;
    auto i = std::clamp<std::ptrdiff_t>(now - all.data() + by, 0, static_cast<std::ptrdiff_t>(all.size()) - 1);
    if (on_place) on_place(all[static_cast<std::size_t>(i)].at);
}

}  // namespace ruedo
