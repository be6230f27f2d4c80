// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/runs_chart.h"

#include <QKeyEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <algorithm>
#include <cmath>

#include "view/look.h"
#include "workshop/job_cards.h"

namespace ruedo {

RunsChart::RunsChart(QWidget* parent) : QWidget(parent) {
    setMouseTracking(true);
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName("Kept results: similarity against size");
    setFixedHeight(118);
    setCursor(Qt::PointingHandCursor);
}
void RunsChart::show_runs(std::vector<Run> runs, std::size_t now) {
    runs_ = std::move(runs), now_ = now;
    QStringList all;
    for (auto& r : runs_) all << words_of(r);
    setAccessibleDescription(all.join("; "));
    update();
}

QRectF RunsChart::plot() const { return {62, 8, width() - 78.0, height() - 34.0}; }
QPointF RunsChart::point_of(std::size_t run) const {
    double least = 1, most = 1;
    for (auto& r : runs_)
        least = std::min(least, r.sample_encode->likeness.ssim_y),
        most = std::max(most, double(r.sample_encode->whole_bytes));
    auto floor = 1 - std::max(0.002, (1 - least) * 1.15);
    auto& t = *runs_.at(run).sample_encode;
    auto p = plot();
    return {p.left() + p.width() * double(t.whole_bytes) / (most * 1.06),
            p.bottom() - p.height() * (t.likeness.ssim_y - floor) / (1 - floor)};
}
QString RunsChart::words_of(const Run& r) const {
    return QString("%1: %2, similarity %3")
        .arg(r.words, bytes_said(r.sample_encode->whole_bytes))
        .arg(r.sample_encode->likeness.ssim_y, 0, 'f', 4);
}
std::optional<std::size_t> RunsChart::run_at(QPointF at) const {
    std::optional<std::size_t> best;
    double near = 14;
    for (std::size_t i = 0; i < runs_.size(); ++i) {
        auto d = point_of(i) - at;
        if (auto far = std::hypot(d.x(), d.y()); far < near) near = far, best = i;
    }
    return best;
}

void RunsChart::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto p = plot();
    g.fillRect(p, c.panel);
    if (runs_.empty()) return;
    g.setFont(look::tabular(look::Size::small));
    g.setPen(c.soft);
    double least = 1;
    std::uint64_t most = 1;
    for (auto& r : runs_)
        least = std::min(least, r.sample_encode->likeness.ssim_y), most = std::max(most, r.sample_encode->whole_bytes);
    g.drawText(QRectF(0, p.top() - 4, 58, 16), Qt::AlignRight | Qt::AlignVCenter, "the same");
    g.drawText(QRectF(0, p.bottom() - 16, 58, 16), Qt::AlignRight | Qt::AlignVCenter,
               QString::number(1 - std::max(0.002, (1 - least) * 1.15), 'f', 3));
    g.drawText(QRectF(p.left(), p.bottom() + 4, 90, 16), Qt::AlignLeft | Qt::AlignVCenter, "0");
    g.drawText(QRectF(p.right() - 120, p.bottom() + 4, 120, 16), Qt::AlignRight | Qt::AlignVCenter,
               bytes_said(static_cast<std::uint64_t>(static_cast<double>(most) * 1.06)));
    // The line of those that none beats.
    std::vector<std::pair<double, double>> figures;
    for (auto& r : runs_) figures.emplace_back(double(r.sample_encode->whole_bytes), r.sample_encode->likeness.ssim_y);
    auto hull = upper_hull(figures);
    g.setPen(QPen(c.teal, 1.4));
    for (std::size_t i = 1; i < hull.size(); ++i) g.drawLine(point_of(hull[i - 1]), point_of(hull[i]));
    for (std::size_t i = 0; i < runs_.size(); ++i) {
        bool on_it = std::find(hull.begin(), hull.end(), i) != hull.end();
        g.setPen(QPen(i == now_ ? c.wine : c.teal, 2));
        g.setBrush(i == now_ ? c.wine : on_it ? c.teal : c.panel);
        g.drawEllipse(point_of(i), i == now_ ? 5.5 : 4.5, i == now_ ? 5.5 : 4.5);
    }
    if (hasFocus()) {
        g.setBrush(Qt::NoBrush);
        g.setPen(QPen(c.ochre, 2));
        g.drawRect(p.adjusted(1, 1, -1, -1));
    }
}

void RunsChart::mousePressEvent(QMouseEvent* e) {
    if (auto run = run_at(e->position()); run && on_run) on_run(*run);
}
void RunsChart::mouseMoveEvent(QMouseEvent* e) {
    auto run = run_at(e->position());
    run ? QToolTip::showText(e->globalPosition().toPoint(), words_of(runs_[*run]), this) : QToolTip::hideText();
}
/// To the next larger one, or the next smaller.
void RunsChart::keyPressEvent(QKeyEvent* e) {
    int by = e->key() == Qt::Key_Left ? -1 : e->key() == Qt::Key_Right ? 1 : 0;
    if (!by || e->modifiers() || now_ >= runs_.size()) return QWidget::keyPressEvent(e);
    auto size = [&](std::size_t i) { return std::pair(runs_[i].sample_encode->whole_bytes, i); };
    std::optional<std::size_t> next;
    for (std::size_t i = 0; i < runs_.size(); ++i) {
        bool beyond = by > 0 ? size(i) > size(now_) : size(i) < size(now_);
        bool nearer = !next || (by > 0 ? size(i) < size(*next) : size(i) > size(*next));
        if (beyond && nearer) next = i;
    }
    if (next && on_run) on_run(*next);
}

}  // namespace ruedo
