// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/strip_chart.h"

#include <QMouseEvent>
#include <QPainter>
#include <QPainterPath>
#include <algorithm>

#include "view/look.h"

namespace ruedo {
namespace {
constexpr double left = 78, quietest = -50;
QString rate_words(double bits) {
    return bits >= 1e6 ? QString("%1 Mbit/s").arg(bits / 1e6, 0, 'f', 2)
                       : QString("%1 kbit/s").arg(bits / 1e3, 0, 'f', 0);
}
}  // namespace

StripChart::StripChart(QWidget* parent) : QWidget(parent) {
    setMouseTracking(true);
    setFixedHeight(176);
    setAccessibleName("Bytes, keyframes and loudness over the length of the source");
}
void StripChart::show_facts(std::shared_ptr<const SourceFacts> facts) {
    facts_ = std::move(facts);
    setVisible(facts_ && facts_->duration.ns > 0);
    update();
}
QRectF StripChart::upper() const { return {left, 8, width() - left - 6, 84}; }
QRectF StripChart::lower() const { return {left, 112, width() - left - 6, 34}; }
double StripChart::x_of(Time t) const {
    return left + upper().width() * static_cast<double>(t.ns) /
                      static_cast<double>(std::max<std::int64_t>(1, facts_->duration.ns));
}

QString StripChart::words_at(double x) const {
    if (!facts_ || facts_->bins.empty() || x < left) return {};
    Time t{static_cast<std::int64_t>((x - left) / upper().width() * static_cast<double>(facts_->duration.ns))};
    auto i = static_cast<std::size_t>(std::max<std::int64_t>(0, t.ns) / facts_->bin.ns);
    if (i >= facts_->bins.size()) return {};
    auto& b = facts_->bins[i];
    auto words = QString("%1: %2").arg(text(format_time(t)),
                                       rate_words(static_cast<double>(b.bytes) * 8 / facts_->bin.seconds()));
    if (b.loudness)
        words += *b.loudness <= -69 ? QString(", silence") : QString(", %1 LUFS").arg(*b.loudness, 0, 'f', 1);
    auto next = std::upper_bound(facts_->keyframes.begin(), facts_->keyframes.end(), t);
    if (next != facts_->keyframes.begin())
        words += QString(", keyframe %1 s before").arg((t - *std::prev(next)).seconds(), 0, 'f', 2);
    return words;
}

void StripChart::paintEvent(QPaintEvent*) {
    if (!facts_ || facts_->bins.empty()) return;
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto u = upper(), l = lower();
    g.setFont(look::tabular(look::Size::small));
    // One column a pixel: the most of the bins that fall on it, so that no peak is lost.
    auto columns = static_cast<std::size_t>(u.width());
    std::vector<double> rate(columns), loud(columns, -100);
    for (std::size_t i = 0; i < facts_->bins.size(); ++i) {
        auto& b = facts_->bins[i];
        auto from = static_cast<std::size_t>(std::clamp(x_of(b.at) - left, 0.0, u.width() - 1)),
             to = static_cast<std::size_t>(std::clamp(x_of(b.at + facts_->bin) - left, 0.0, u.width() - 1));
        for (auto k = from; k <= to; ++k) {
            rate[k] = std::max(rate[k], static_cast<double>(b.bytes) * 8 / facts_->bin.seconds());
            if (b.loudness) loud[k] = std::max(loud[k], *b.loudness);
        }
    }
    auto most = std::max(1.0, *std::max_element(rate.begin(), rate.end()));
    QPainterPath area(u.bottomLeft());
    for (std::size_t k = 0; k < columns; ++k)
        area.lineTo(left + static_cast<double>(k), u.bottom() - rate[k] / most * u.height());
    area.lineTo(u.bottomRight());
    auto fill = c.teal;
    fill.setAlpha(90);
    g.fillPath(area, fill);
    g.setPen(QPen(c.teal, 1.2));
    g.drawPath(area);
    g.setPen(QPen(c.soft, 1, Qt::DashLine));
    auto mean = u.bottom() - facts_->mean_bitrate / most * u.height();
    g.drawLine(QPointF(u.left(), mean), QPointF(u.right(), mean));
    g.setPen(c.soft);
    g.drawText(QRectF(0, u.top() - 6, left - 6, 28), Qt::AlignRight | Qt::TextWordWrap,
               rate_words(most).replace(' ', '\n'));
    if (u.bottom() - mean < u.height() * 0.6)
        g.drawText(QRectF(0, mean - 8, left - 6, 16), Qt::AlignRight | Qt::AlignVCenter, "mean");
    // Keyframes on a line of their own; where they stand too close to be told apart they make a band.
    g.setPen(QPen(c.wine, 1));
    for (auto k : facts_->keyframes) g.drawLine(QPointF(x_of(k), u.bottom() + 3), QPointF(x_of(k), u.bottom() + 11));
    g.setPen(c.soft);
    if (!facts_->keyframes.empty())
        g.drawText(QRectF(0, u.bottom() - 1, left - 6, 16), Qt::AlignRight | Qt::AlignVCenter, "keyframes");
    bool heard = std::any_of(loud.begin(), loud.end(), [](double v) { return v > -100; });
    if (heard) {
        auto y = [&](double v) {
            return l.bottom() - (std::clamp(v, quietest, 0.0) - quietest) / -quietest * l.height();
        };
        g.setPen(QPen(c.line, 1));
        g.drawLine(QPointF(l.left(), y(-23)), QPointF(l.right(), y(-23)));
        g.setPen(QPen(c.ochre, 1.5));
        for (std::size_t k = 0; k < columns; ++k)
            if (loud[k] > -100)
                g.drawLine(QPointF(left + static_cast<double>(k), l.bottom()),
                           QPointF(left + static_cast<double>(k), y(loud[k])));
        g.setPen(c.soft);
        g.drawText(QRectF(0, y(-23) - 8, left - 6, 16), Qt::AlignRight | Qt::AlignVCenter, "−23 LUFS");
    }
    g.drawText(QRectF(left, height() - 24, u.width(), 22), Qt::AlignLeft | Qt::AlignVCenter,
               pointer_ >= 0 ? words_at(pointer_) : QString("0:00"));
    if (pointer_ < 0)
        g.drawText(QRectF(left, height() - 24, u.width(), 22), Qt::AlignRight | Qt::AlignVCenter,
                   text(format_clock(facts_->duration)));
    if (pointer_ >= left && pointer_ <= u.right()) {
        g.setPen(QPen(c.ink, 1));
        g.drawLine(QPointF(pointer_, u.top()), QPointF(pointer_, l.bottom()));
    }
}
void StripChart::mouseMoveEvent(QMouseEvent* e) { pointer_ = e->position().x(), update(); }
void StripChart::leaveEvent(QEvent*) { pointer_ = -1, update(); }

}  // namespace ruedo
