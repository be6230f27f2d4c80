// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/path_chart.h"

#include <QApplication>
#include <QClipboard>
#include <QToolTip>
#include <nlohmann/json.hpp>

#include "view/look.h"

namespace ruedo {
namespace {
constexpr int samples_kept = 20000;
constexpr double window_seconds = 20;
}  // namespace

PathChart::PathChart(QWidget* parent) : QCustomPlot(parent) {
    auto& c = look::colours();
    setAccessibleName("Path: media time over wall time");
    setFocusPolicy(Qt::StrongFocus);
    setBackground(c.ground);
    setMinimumSize(260, 160);
    for (auto* axis : {xAxis, yAxis, yAxis2}) {
        axis->setBasePen(c.line);
        axis->setTickPen(c.line);
        axis->setSubTickPen(Qt::NoPen);
        axis->setTickLabelColor(c.soft);
        axis->setLabelColor(c.soft);
        axis->setTickLabelFont(look::tabular(look::Size::small));
        axis->setLabelFont(look::font(look::Size::small));
        axis->grid()->setPen(QPen(c.panel, 1));
        axis->grid()->setZeroLinePen(QPen(c.line, 1));
    }
    xAxis->setLabel("wall time, s");
    yAxis->setLabel("media time, s");
    auto graph = [&](const QColor& colour, double width, Qt::PenStyle style = Qt::SolidLine) {
        auto* g = addGraph();
        g->setPen(QPen(colour, width, style));
        return g;
    };
    auto band = c.teal;
    band.setAlpha(38);
    buffered_low_ = graph(Qt::transparent, 0);
    buffered_high_ = graph(Qt::transparent, 0);
    buffered_high_->setBrush(band);
    buffered_high_->setChannelFillGraph(buffered_low_);
    decoded_ = graph(c.teal, 1);
    sounded_ = graph(c.teal, 1, Qt::DotLine);
    made_ = graph(c.moss, 1.6, Qt::DashLine);
    shown_ = graph(c.wine, 2.4);
    // What the link is expected to give, and what the rung takes of it, on a scale of their own.
    link_ = addGraph(xAxis, yAxis2);
    link_->setPen(QPen(c.ochre, 1.2, Qt::DashDotLine));
    rung_ = addGraph(xAxis, yAxis2);
    rung_->setPen(QPen(c.moss, 1.6));
    rung_->setLineStyle(QCPGraph::lsStepLeft);
    yAxis2->setLabel("link and rung, Mbit/s");
    auto marks = [&](QCPScatterStyle::ScatterShape shape, const QColor& colour) {
        auto* g = addGraph();
        g->setLineStyle(QCPGraph::lsNone);
        g->setScatterStyle(QCPScatterStyle(shape, QPen(colour, 1.5), colour, 8));
        return g;
    };
    calls_ = marks(QCPScatterStyle::ssTriangleInverted, c.ochre);
    drops_ = marks(QCPScatterStyle::ssCross, c.rust);
    troubles_ = marks(QCPScatterStyle::ssDiamond, c.rust);
    eased_ = marks(QCPScatterStyle::ssDisc, c.moss);
    // What would begin left of the chart is not shown in part.
    connect(xAxis, QOverload<const QCPRange&>::of(&QCPAxis::rangeChanged), this, [this](const QCPRange& seen) {
        for (auto* t : texts_) t->setVisible(t->position->key() >= seen.lower);
    });
    setInteraction(QCP::iRangeDrag);
    axisRect()->setRangeDrag(Qt::Horizontal | Qt::Vertical);
    axisRect()->setAutoMargins(QCP::msAll);
    forget();
}

void PathChart::forget() {
    for (int i = 0; i < graphCount(); ++i) this->graph(i)->data()->clear();
    for (auto* t : texts_) removeItem(t);
    texts_.clear();
    events_.clear();
    points_.clear();
    measure();
    last_wall_ = 0, duration_ = 1, dropped_ = 0;
    following_ = true;
    xAxis->setRange(0, window_seconds);
    yAxis->setRange(0, 10);
    replot(QCustomPlot::rpQueuedReplot);
}

void PathChart::sample(const Snapshot& s, Time wall_time) {
    double wall = wall_time.seconds();
    if (s.state.phase == Phase::empty || s.state.phase == Phase::opening) return;
    last_wall_ = wall;
    duration_ = std::max({1.0, s.duration.seconds(), s.live ? s.position.seconds() + 1 : 0.0});
    shown_->addData(wall, s.position.seconds());
    bool folded = s.loop.kind != Loop::Kind::none;  // heads run on the unrolled timeline, which is not drawn
    if (!folded) {
        decoded_->addData(wall, s.decoded_to.seconds());
        if (s.has_audio) sounded_->addData(wall, s.sounded_to.seconds());
        // What is converted as it goes: how far that has come.
        if (s.made_to) made_->addData(wall, s.made_to->seconds());
    }
    buffered_low_->addData(wall, s.buffered_from.seconds());
    buffered_high_->addData(wall, s.buffered_to.seconds());
    yAxis2->setVisible(s.stream != nullptr);
    if (s.stream) {
        link_->addData(wall, s.stream->throughput / 1e6);
        auto& decided = s.stream->decisions;
        auto& rungs = s.stream->rungs;
        auto it = std::find_if(rungs.begin(), rungs.end(),
                               [&](auto& r) { return !decided.empty() && r.id == decided.back().rung; });
        if (it != rungs.end()) rung_->addData(wall, it->bits_a_second() / 1e6);
    }
    if (s.counters.dropped > dropped_) drops_->addData(wall, s.position.seconds());
    dropped_ = s.counters.dropped;
    for (int i = 0; i < graphCount(); ++i)
        if (this->graph(i)->data()->size() > samples_kept)
            this->graph(i)->data()->removeBefore(wall - samples_kept / 20.0);
    if (following_) follow();
    if (isVisible()) replot(QCustomPlot::rpQueuedReplot);
}

void PathChart::follow() {
    double from = std::max(0.0, last_wall_ - window_seconds * 0.85);
    xAxis->setRange(from, from + window_seconds);
    // Media time has its own zoom: what is seen, and a little air.
    bool found = false;
    auto range = shown_->getValueRange(found, QCP::sdBoth, xAxis->range());
    if (!found) return;
    double low = range.lower, high = std::min(duration_, range.upper + 1);
    auto room = std::max(2.0, (high - low) * 0.18);
    yAxis->setRange(std::max(-0.4, low - room * 0.4), high + room);
    if (yAxis2->visible()) {
        double most = 1;
        for (auto* g : {link_, rung_}) {
            auto seen = g->getValueRange(found, QCP::sdBoth, xAxis->range());
            if (found) most = std::max(most, seen.upper);
        }
        yAxis2->setRange(0, most * 1.2);
    }
    auto top = yAxis->range().upper - yAxis->range().size() * 0.04;
    for (auto it = calls_->data()->begin(); it != calls_->data()->end(); ++it) it->value = top;
}

void PathChart::note(const Event& e) {
    events_.push_back(e);
    if (events_.size() > 5000) events_.erase(events_.begin(), events_.begin() + 1000);
    double wall = e.wall.seconds();
    if (e.name == "call" || e.name == "ray" || e.name == "host")
        calls_->addData(wall, yAxis->range().upper - yAxis->range().size() * 0.04);
    // Which events are marked where they happened, and as what.
    static const std::map<std::string, QCPGraph * PathChart::*, std::less<>> marked{
        {"error", &PathChart::troubles_},
        {"starved", &PathChart::troubles_},
        {"sound-missing", &PathChart::troubles_},
        {"giving-way", &PathChart::troubles_},
        {"stood-still", &PathChart::troubles_},
        {"ray-stopped", &PathChart::troubles_},
        {"hole", &PathChart::troubles_},
        {"given-up", &PathChart::troubles_},
        {"caught-up", &PathChart::eased_},
        {"back-at-edge", &PathChart::eased_},
        {"rung", &PathChart::eased_}};
    if (auto it = marked.find(e.name); it != marked.end()) (this->*(it->second))->addData(wall, e.media.seconds());
    if (e.took && (e.name == "seek" || e.name == "first-picture")) {
        auto* t = new QCPItemText(this);
        t->position->setCoords(wall, (e.target ? *e.target : e.media).seconds());
        t->setPositionAlignment(Qt::AlignLeft | Qt::AlignBottom);
        t->setText(QString("%1%2 ms").arg(e.name == "seek" ? "" : "first picture ",
                                          QString::number(e.took->ms(), 'f', e.took->ms() < 10 ? 1 : 0)));
        t->setFont(look::tabular(look::Size::small));
        t->setColor(look::colours().soft);
        t->setPadding(QMargins(4, 0, 0, 2));
        texts_.push_back(t);
        if (texts_.size() > 60) removeItem(texts_.front()), texts_.erase(texts_.begin());
    }
}

std::size_t PathChart::marked() const {
    return static_cast<std::size_t>(troubles_->data()->size() + eased_->data()->size());
}

std::size_t PathChart::made() const { return static_cast<std::size_t>(made_->data()->size()); }

QString PathChart::visible_events() const {
    QString lines;
    for (auto& e : events_)
        if (xAxis->range().contains(e.wall.seconds())) lines += QString::fromStdString(to_json(e).dump()) + "\n";
    return lines;
}

void PathChart::mousePressEvent(QMouseEvent* e) {
    pressed_ = e->pos();
    if (e->button() == Qt::LeftButton && e->modifiers() & Qt::ShiftModifier) {
        if (points_.size() >= 2) points_.clear();
        points_.emplace_back(xAxis->pixelToCoord(e->pos().x()), yAxis->pixelToCoord(e->pos().y()));
        measure();
        return;
    }
    QCustomPlot::mousePressEvent(e);
}

void PathChart::measure() {
    if (ruler_) removeItem(ruler_), removeItem(ruler_text_), ruler_ = nullptr;
    if (points_.size() == 2) {
        auto [x0, y0] = points_[0];
        auto [x1, y1] = points_[1];
        ruler_ = new QCPItemLine(this);
        ruler_->start->setCoords(x0, y0);
        ruler_->end->setCoords(x1, y1);
        ruler_->setPen(QPen(look::colours().ink, 1, Qt::DashLine));
        ruler_text_ = new QCPItemText(this);
        ruler_text_->position->setCoords((x0 + x1) / 2, (y0 + y1) / 2);
        ruler_text_->setText(QString("Δ wall %1 s, Δ media %2 s, slope %3")
                                 .arg(x1 - x0, 0, 'f', 3)
                                 .arg(y1 - y0, 0, 'f', 3)
                                 .arg(x1 != x0 ? (y1 - y0) / (x1 - x0) : 0, 0, 'f', 2));
        ruler_text_->setFont(look::tabular(look::Size::small));
        ruler_text_->setColor(look::colours().ink);
        ruler_text_->setBrush(look::colours().panel);
        ruler_text_->setPadding(QMargins(4, 2, 4, 2));
    }
    replot(QCustomPlot::rpQueuedReplot);
}

void PathChart::mouseMoveEvent(QMouseEvent* e) {
    if (e->buttons() & Qt::LeftButton) following_ = false;
    QCustomPlot::mouseMoveEvent(e);
    double wall = xAxis->pixelToCoord(e->pos().x());
    const Event* near = nullptr;
    for (auto& event : events_)
        if (!near || std::abs(event.wall.seconds() - wall) < std::abs(near->wall.seconds() - wall)) near = &event;
    auto at = shown_->data()->findBegin(wall);
    QString text;
    if (at != shown_->data()->end())
        text = QString("wall %1 s, media %2 s").arg(at->key, 0, 'f', 3).arg(at->value, 0, 'f', 3);
    if (near && std::abs(xAxis->coordToPixel(near->wall.seconds()) - e->pos().x()) < 8)
        text = QString("%1 %2 at %3 s, media %4 s, %5 pictures and %6 ms of sound waiting")
                   .arg(QString::fromStdString(near->name), QString::fromStdString(near->detail))
                   .arg(near->wall.seconds(), 0, 'f', 3)
                   .arg(near->media.seconds(), 0, 'f', 3)
                   .arg(near->pictures)
                   .arg(near->sound.ms(), 0, 'f', 0);
    if (!text.isEmpty()) QToolTip::showText(e->globalPosition().toPoint(), text, this);
}

void PathChart::wheelEvent(QWheelEvent* e) {
    following_ = false;
    double factor = std::pow(0.85, e->angleDelta().y() / 120.0);
    xAxis->scaleRange(factor, xAxis->pixelToCoord(e->position().x()));
    if (e->modifiers() & Qt::ControlModifier) yAxis->scaleRange(factor, yAxis->pixelToCoord(e->position().y()));
    replot(QCustomPlot::rpQueuedReplot);
}

void PathChart::keyPressEvent(QKeyEvent* e) {
    if (e->matches(QKeySequence::Copy)) {
        QApplication::clipboard()->setText(visible_events());
    } else if (e->key() == Qt::Key_Home || e->key() == Qt::Key_End) {
        following_ = true;
        follow();
    } else if (e->key() == Qt::Key_Left || e->key() == Qt::Key_Right) {
        following_ = false;
        xAxis->moveRange(xAxis->range().size() * (e->key() == Qt::Key_Left ? -0.1 : 0.1));
    } else if (e->key() == Qt::Key_Up || e->key() == Qt::Key_Down) {
        following_ = false;
        xAxis->scaleRange(e->key() == Qt::Key_Up ? 0.85 : 1 / 0.85);
    } else {
        return QWidget::keyPressEvent(e);
    }
    replot(QCustomPlot::rpQueuedReplot);
}

}  // namespace ruedo
