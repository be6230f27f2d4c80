// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/ladder_chart.h"

#include <fmt/format.h>

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <cmath>

#include "view/look.h"

namespace ruedo {
namespace {
constexpr double names_width = 152, foot = 20, step_height = 18;
}

LadderChart::LadderChart(QWidget* parent) : QWidget(parent) {
    setMouseTracking(true);
    setFixedHeight(150);
    setAccessibleName("Rungs of the stream and their segments");
}

void LadderChart::show_stream(std::optional<StreamReport> stream) {
    stream_ = std::move(stream);
    if (stream_) {
        setFixedHeight(static_cast<int>(std::clamp<std::size_t>(stream_->rungs.size(), 2, 8)) * 30 + 26);
        QString said;
        for (auto& r : stream_->rungs) said += text(r.title()) + "; ";
        setAccessibleDescription(said);
    }
    update();
}

Time LadderChart::end() const {
    Time last = 1_ms;
    for (auto& r : stream_->rungs)
        if (!r.starts.empty()) last = std::max(last, r.starts.back() - r.starts.front());
    return last;
}
double LadderChart::x_of(Time t) const {
    return names_width + (width() - names_width - 8) * t.seconds() / end().seconds();
}

/// The highest at the top; between two as much room as there are bits between them, so far as there is room.
std::vector<LadderChart::Step> LadderChart::steps() const {
    std::vector<Step> all;
    if (!stream_) return all;
    auto& rungs = stream_->rungs;
    double room = height() - foot - step_height - 4;
    auto level = [](const Rung& r) { return std::log(std::max(1.0, r.bits_a_second())); };
    double low = level(rungs.front()), high = level(rungs.back());
    for (std::size_t i = 0; i < rungs.size(); ++i) {
        auto even = rungs.size() > 1 ? static_cast<double>(i) / static_cast<double>(rungs.size() - 1) : 0.5;
        auto part = high > low ? 0.5 * even + 0.5 * (level(rungs[i]) - low) / (high - low) : even;
        all.push_back({QRectF(names_width, 2 + room * (1 - part), width() - names_width - 8, step_height), &rungs[i]});
    }
    return all;
}

void LadderChart::paintEvent(QPaintEvent*) {
    if (!stream_) return;
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    g.setFont(look::tabular(look::Size::small));
    for (auto& [box, rung] : steps()) {
        g.setPen(c.ink);
        g.drawText(QRectF(0, box.top(), names_width - 8, box.height()), Qt::AlignRight | Qt::AlignVCenter,
                   text(rung->title()));
        if (rung->starts.size() < 2) {
            g.setPen(QPen(c.line, 1, Qt::DashLine));
            g.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()));
            continue;
        }
        g.setPen(Qt::NoPen);
        auto first = rung->starts.front();
        // Segments narrower than a pixel or two are one band.
        for (std::size_t i = 0; i + 1 < rung->starts.size(); ++i) {
            auto from = x_of(rung->starts[i] - first), to = x_of(rung->starts[i + 1] - first);
            g.setBrush(c.teal);
            auto gap = to - from > 3 ? 1.0 : 0.0;
            g.drawRect(QRectF(from, box.top() + 3, std::max(0.5, to - from - gap), box.height() - 6));
        }
    }
    // The longest step that leaves room for its words.
    g.setPen(c.soft);
    auto seconds = end().seconds();
    double every = 1;
    for (double step : {1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 300.0, 600.0, 1800.0, 3600.0}) {
        every = step;
        if (seconds / step <= 8) break;
    }
    for (double t = 0; t <= seconds + 1e-6; t += every) {
        auto x = x_of(Time{static_cast<std::int64_t>(t * 1e9)});
        // The last one ends where the chart does.
        auto left = std::min(x - 30, width() - 60.0);
        g.drawText(QRectF(left, height() - foot + 2, 60, foot - 2),
                   (left < x - 30 ? Qt::AlignRight : Qt::AlignHCenter) | Qt::AlignTop,
                   text(format_clock(Time{static_cast<std::int64_t>(t * 1e9)})));
    }
}

QString LadderChart::words_at(QPointF at) const {
    for (auto& [box, rung] : steps()) {
        if (at.y() < box.top() || at.y() > box.bottom() || rung->starts.size() < 2) continue;
        auto first = rung->starts.front();
        for (std::size_t i = 0; i + 1 < rung->starts.size(); ++i)
            if (at.x() >= x_of(rung->starts[i] - first) && at.x() < x_of(rung->starts[i + 1] - first))
                return text(fmt::format("{}: segment {} of {}, {:.3f} s long, from {}", rung->title(), i + 1,
                                        rung->starts.size() - 1, (rung->starts[i + 1] - rung->starts[i]).seconds(),
                                        format_time(rung->starts[i])));
        return text(rung->title());
    }
    return {};
}
void LadderChart::mouseMoveEvent(QMouseEvent* event) { setToolTip(words_at(event->position())); }

}  // namespace ruedo
