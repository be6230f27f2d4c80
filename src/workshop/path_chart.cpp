// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/path_chart.h"

#include <QApplication>
#include <QClipboard>
#include <QToolTip>
#include <nlohmann/json.hpp>
#include <qcustomplot.h>
#include <ranges>

#include "view/look.h"

namespace ruedo {
namespace {
constexpr int samples_kept = 80000;  // more than an hour
constexpr double window_seconds = 20;

/// What lies over all graphs.
class Over final : public QCPAbstractItem {
  public:
    Over(QCustomPlot* plot, std::function<void(QPainter&)> draw) : QCPAbstractItem(plot), draw_(std::move(draw)) {
        setClipToAxisRect(false);
        setLayer("overlay");
    }
    double selectTest(const QPointF&, bool, QVariant*) const override { return -1; }

  protected:
    void draw(QCPPainter* g) override { draw_(*g); }

  private:
    std::function<void(QPainter&)> draw_;
};

/// What the plot does with it by itself.
void pass_on(QObject* plot, QEvent* e) { plot->event(e); }
}  // namespace

PathChart::PathChart(QWidget* parent)
    : QWidget(parent), plot_(new QCustomPlot(this)), wall_(plot_->xAxis), media_(plot_->yAxis), rate_(plot_->yAxis2) {
    auto& c = look::colours();
    setAccessibleName("Path: media time against wall time");
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    plot_->setAttribute(Qt::WA_TransparentForMouseEvents);
    plot_->setBackground(c.ground);
    setMinimumSize(260, 160);
    for (auto* axis : {wall_, media_, rate_}) {
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
    wall_->setLabel("wall time, s");
    media_->setLabel("media time, s");
    auto graph = [&](const QColor& colour, double width, Qt::PenStyle style = Qt::SolidLine) {
        auto* g = plot_->addGraph();
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
    kept_ = graph(c.ink, 1.4, Qt::DashLine);
    shown_ = graph(c.wine, 2.4);
    drops_ = graph(c.rust, 4);
    // What the link is expected to give, and what the rung takes of it, on a scale of their own.
    link_ = plot_->addGraph(wall_, rate_);
    link_->setPen(QPen(c.ochre, 1.2, Qt::DashDotLine));
    rung_ = plot_->addGraph(wall_, rate_);
    rung_->setPen(QPen(c.moss, 1.6));
    rung_->setLineStyle(QCPGraph::lsStepLeft);
    rate_->setLabel("link and rung, Mbit/s");
    auto marks = [&](QCPScatterStyle::ScatterShape shape, const QColor& colour) {
        auto* g = plot_->addGraph();
        g->setLineStyle(QCPGraph::lsNone);
        g->setScatterStyle(QCPScatterStyle(shape, QPen(colour, 1.5), colour, 8));
        return g;
    };
    calls_ = marks(QCPScatterStyle::ssTriangleInverted, c.ochre);
    troubles_ = marks(QCPScatterStyle::ssDiamond, c.rust);
    eased_ = marks(QCPScatterStyle::ssDisc, c.moss);
    connect(plot_, &QCustomPlot::afterLayout, this, &PathChart::make_room);
    new Over(plot_, [this](QPainter& g) { draw_over(g); });  // the plot's
    plot_->setInteraction(QCP::iRangeDrag);
    plot_->axisRect()->setRangeDrag(Qt::Horizontal | Qt::Vertical);
    plot_->axisRect()->setAutoMargins(QCP::msAll);
    forget();
}

void PathChart::redraw() { plot_->replot(QCustomPlot::rpQueuedReplot); }
void PathChart::resizeEvent(QResizeEvent*) { plot_->setGeometry(rect()); }

void PathChart::forget() {
    for (int i = 0; i < plot_->graphCount(); ++i)
        if (auto* g = plot_->graph(i); g != kept_) g->data()->clear();
    for (auto& w : words_) plot_->removeItem(w.item);
    words_.clear(), dropping_ = {};
    history_.forget();
    points_.clear();
    pointed_.reset(), difference_.reset(), last_ = {};
    if (on_point) on_point(std::nullopt);
    measure();
    lay_beside();
    last_wall_ = 0, duration_ = 1, dropped_ = 0;
    following_ = true;
    wall_->setRange(0, window_seconds);
    media_->setRange(0, 10);
    redraw();
}

void PathChart::sample(const Snapshot& s, const HostLife& life, Time wall_time) {
    double wall = wall_time.seconds();
    history_.add(s, life, wall_time);
    last_ = s;
    if (looks_for_difference_ && wall - looked_ >= 0.5) lay_beside();
    if (s.state.phase == Phase::empty || s.state.phase == Phase::opening) return;
    last_wall_ = wall;
    duration_ = std::max({1.0, s.duration.seconds(), s.live ? s.position.seconds() + 1 : 0.0});
    shown_->addData(wall, s.position.seconds());
    decoded_->addData(wall, s.decoded_to.seconds());
    if (s.has_audio) sounded_->addData(wall, s.sounded_to.seconds());
    // What is converted as it goes: how far that has come.
    if (s.converted_to) made_->addData(wall, s.converted_to->seconds());
    buffered_low_->addData(wall, s.buffered_from.seconds());
    buffered_high_->addData(wall, s.buffered_to.seconds());
    rate_->setVisible(s.stream != nullptr);
    if (s.stream) {
        link_->addData(wall, s.stream->throughput / 1e6);
        auto& decided = s.stream->decisions;
        auto& rungs = s.stream->rungs;
        auto it = std::find_if(rungs.begin(), rungs.end(),
                               [&](auto& r) { return !decided.empty() && r.id == decided.back().rung; });
        if (it != rungs.end()) rung_->addData(wall, it->bits_a_second() / 1e6);
    }
    if (s.counters.dropped > dropped_) mark_drops(wall, s.position.seconds(), s.counters.dropped - dropped_);
    dropped_ = s.counters.dropped;
    for (int i = 0; i < plot_->graphCount(); ++i)
        if (auto points = plot_->graph(i)->data(); points->size() > samples_kept) points->removeBefore(wall - 3600);
    if (following_) follow();
    if (isVisible()) redraw();
}

/// Along the path since it was looked at before, which is where it was until now.
void PathChart::mark_drops(double wall, double media, std::uint64_t count) {
    constexpr double apart = 1;  // seconds: closer ones are merged
    auto path = shown_->data();
    auto before = path->size() > 1 ? *(path->constEnd() - 2) : QCPGraphData(wall, media);
    // Where it was moved meanwhile, no line leads from there to here.
    if (std::abs(media - before.value) > 5 * (wall - before.key) + 0.1) before = {wall, media};
    drops_->addData(before.key, before.value);
    drops_->addData(wall, media);
    drops_->addData(wall, qQNaN());
    auto there = std::any_of(words_.begin(), words_.end(), [&](auto& w) { return w.item == dropping_.words; });
    if (wall - dropping_.to > apart || !there) {
        dropping_.count = 0;
        dropping_.words = write({}, wall, media, false, look::tabular(look::Size::small));
        dropping_.words->setColor(look::colours().ink);
    }
    dropping_.to = wall, dropping_.count += count;
    dropping_.words->setText(QString("%1 dropped").arg(dropping_.count));
}

QCPItemText* PathChart::write(const QString& words, double wall, double media, bool at_top, const QFont& font) {
    constexpr std::size_t most = 120;
    auto* t = new QCPItemText(plot_);
    t->setText(words);
    t->setFont(font);
    t->setColor(look::colours().soft);
    t->setBrush(look::colours().ground);  // the path’s lines pass under it
    t->setPositionAlignment(Qt::AlignLeft | Qt::AlignTop);
    t->setPadding(QMargins(3, 0, 3, 0));
    t->position->setType(QCPItemPosition::ptAbsolute);
    words_.push_back({t, wall, media, at_top});
    if (words_.size() > most) plot_->removeItem(words_.front().item), words_.erase(words_.begin());
    return t;
}

/// Each as near to its place as others leave room for, the latest first; where there is none, it is left out.
void PathChart::make_room() {
    auto area = plot_->axisRect()->rect();
    std::vector<QRect> taken;
    for (auto& w : words_ | std::views::reverse) {
        auto x = static_cast<int>(wall_->coordToPixel(w.wall)), y = static_cast<int>(media_->coordToPixel(w.media));
        QFontMetrics metrics(w.item->font());
        QSize size(metrics.horizontalAdvance(w.item->text()) + 6, metrics.height());
        bool seen = wall_->range().contains(w.wall);
        QRect at;
        for (int turn = 0; seen && turn < 12 && at.isNull(); ++turn) {
            int row = turn / 2;
            QRect here(w.at_top ? QPoint(x - size.width() / 2, area.top() + area.height() / 18 + turn * size.height())
                       : turn % 2 == 0 ? QPoint(x + 4, y - (row + 1) * (size.height() + 2))
                                       : QPoint(x + 4, y + 2 + row * (size.height() + 2)),
                       size);
            here.moveTop(std::clamp(here.top(), area.top(), std::max(area.top(), area.bottom() - size.height())));
            here.moveLeft(std::clamp(here.left(), area.left(), std::max(area.left(), area.right() - size.width())));
            bool free = area.contains(here) &&
                        std::none_of(taken.begin(), taken.end(), [&](auto& t) { return t.intersects(here); });
            if (free) at = here;
        }
        w.item->setVisible(!at.isNull());
        if (at.isNull()) continue;
        w.item->position->setCoords(at.topLeft());
        taken.push_back(at);
    }
}

void PathChart::follow() {
    double from = std::max(0.0, last_wall_ - window_seconds * 0.85);
    wall_->setRange(from, from + window_seconds);
    // Media time has its own zoom: the visible range, and a margin.
    bool found = false;
    auto range = shown_->getValueRange(found, QCP::sdBoth, wall_->range());
    if (!found) return;
    double low = range.lower, high = std::min(duration_, range.upper + 1);
    auto room = std::max(2.0, (high - low) * 0.18);
    media_->setRange(std::max(-0.4, low - room * 0.4), high + room);
    if (rate_->visible()) {
        double most = 1;
        for (auto* g : {link_, rung_}) {
            auto seen = g->getValueRange(found, QCP::sdBoth, wall_->range());
            if (found) most = std::max(most, seen.upper);
        }
        rate_->setRange(0, most * 1.2);
    }
    auto top = media_->range().upper - media_->range().size() * 0.04;
    for (auto it = calls_->data()->begin(); it != calls_->data()->end(); ++it) it->value = top;
}

void PathChart::note(const Event& e) {
    history_.add(e);
    double wall = e.wall.seconds();
    if (e.name == "call" || e.name == "ray" || e.name == "host")
        calls_->addData(wall, media_->range().upper - media_->range().size() * 0.04);
    // Which events are marked where they happened, and as what.
    static const std::map<std::string, QCPGraph * PathChart::*, std::less<>> marked{
        {"error", &PathChart::troubles_},         {"starved", &PathChart::troubles_},
        {"sound-missing", &PathChart::troubles_}, {"giving-way", &PathChart::troubles_},
        {"stood-still", &PathChart::troubles_},   {"ray-stopped", &PathChart::troubles_},
        {"hole", &PathChart::troubles_},          {"sound", &PathChart::eased_},

        {"given-up", &PathChart::troubles_},      {"caught-up", &PathChart::eased_},
        {"back-at-edge", &PathChart::eased_},     {"rung", &PathChart::eased_}};
    if (auto it = marked.find(e.name); it != marked.end()) (this->*(it->second))->addData(wall, e.media.seconds());
    if (e.took && (e.name == "seek" || e.name == "first-picture"))
        write(QString("%1%2 ms").arg(e.name == "seek" ? "" : "first picture ",
                                     QString::number(e.took->ms(), 'f', e.took->ms() < 10 ? 1 : 0)),
              wall, (e.target ? *e.target : e.media).seconds(), false, look::tabular(look::Size::small));
    // A press says which control it was of.
    if (e.name == "press" || e.name == "host")
        write(text(e.detail.substr(0, e.detail.find(':'))), wall, 0, true, look::font(look::Size::small));
    // Where they part is found once; until then it is looked for now and then, since it takes all of both.
    looks_for_difference_ = kept_run_ && !difference_;
}

Run PathChart::run() const {
    auto& events = history_.events();
    Run run{"this run", {events.begin(), events.end()}, {}};
    auto time = [](double seconds) { return Time{static_cast<std::int64_t>(std::llround(seconds * 1e9))}; };
    for (auto it = shown_->data()->constBegin(); it != shown_->data()->constEnd(); ++it)
        run.path.push_back({time(it->key), time(it->value)});
    return run;
}

void PathChart::compare(std::optional<Run> kept, const Anchor& anchor) {
    kept_run_ = std::move(kept);
    anchor_ = &anchor;
    shift_.reset(), kept_->data()->clear();
    lay_beside();
}

/// The kept run is moved along so that what both are aligned at lies at one place.
void PathChart::lay_beside() {
    looks_for_difference_ = false, looked_ = last_wall_;
    difference_.reset();
    std::optional<double> shift;
    if (kept_run_) {
        auto now = run();
        auto theirs = find_anchor(*kept_run_, *anchor_), ours = find_anchor(now, *anchor_);
        shift = theirs && ours ? (*ours - *theirs).seconds() : 0;
        if (theirs && ours) difference_ = first_difference(*kept_run_, now, *anchor_);
        if (difference_) difference_->after += *ours;
    }
    if (shift != shift_) {
        kept_->data()->clear();
        for (auto& p : shift ? kept_run_->path : std::vector<Run::Point>{})
            kept_->addData(p.wall.seconds() + *shift, p.media.seconds());
        shift_ = shift;
    }
    if (on_difference) on_difference();
    redraw();
}

void PathChart::point(std::optional<Time> wall) {
    if (wall) wall = std::clamp(*wall, Time{}, Time{static_cast<std::int64_t>(last_wall_ * 1e9)});
    pointed_ = wall;
    if (wall) {
        following_ = false;
        auto at = wall->seconds();
        if (!wall_->range().contains(at)) wall_->moveRange(at - wall_->range().center());
    }
    if (on_point) on_point(wall);
    redraw();
}

/// To the next or the last thing that happened.
void PathChart::step_event(int by) {
    auto from = pointed_.value_or(Time{static_cast<std::int64_t>(last_wall_ * 1e9)});
    auto& events = history_.events();
    auto after = history_.events_by(from);
    if (by > 0 && after < events.size()) return point(events[after].wall);
    while (by < 0 && after > 0)
        if (auto& e = events[--after]; e.wall < from) return point(e.wall);
}

std::vector<QRectF> PathChart::words() const {
    std::vector<QRectF> boxes;
    for (auto& [t, wall, media, at_top] : words_)
        if (t->visible()) boxes.emplace_back(t->topLeft->pixelPosition(), t->bottomRight->pixelPosition());
    return boxes;
}

/// Over the chart: the moment that is pointed at, where two runs part, keyframes on the media axis, and how much lies
/// ahead of the head.
void PathChart::draw_over(QPainter& g) const {
    auto& c = look::colours();
    auto area = plot_->axisRect()->rect();
    g.setFont(look::tabular(look::Size::small));
    auto upright = [&](double wall, const QColor& colour, Qt::PenStyle style, const QString& words) {
        if (!wall_->range().contains(wall)) return;
        auto x = wall_->coordToPixel(wall);
        g.setPen(QPen(colour, 2, style));
        g.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()));
        if (words.isEmpty()) return;
        auto w = g.fontMetrics().horizontalAdvance(words) + 8;
        QRectF box(std::min<double>(x + 3, area.right() - w), area.bottom() - 19, w, 17);
        g.fillRect(box, c.panel);
        g.setPen(c.ink);
        g.drawText(box, Qt::AlignCenter, words);
    };
    if (last_.pictures) {
        g.setPen(QPen(c.ochre, 2));
        double before = 1e9;
        for (auto t : last_.pictures->keyframes) {
            auto y = media_->coordToPixel(t.seconds());
            if (y < area.top() || y > area.bottom() || std::abs(y - before) < 3) continue;
            g.drawLine(QPointF(area.left(), y), QPointF(area.left() + 6, y));
            before = y;
        }
    }
    auto ahead = last_.buffered_to - last_.position;
    if (!pointed_ && ahead > Time{} && last_.buffered_to < Time::max() / 2 && wall_->range().contains(last_wall_) &&
        last_.stream) {
        auto x = wall_->coordToPixel(last_wall_), y = media_->coordToPixel(last_.position.seconds()),
             top = std::max<double>(area.top() + 12, media_->coordToPixel(last_.buffered_to.seconds()));
        g.setPen(QPen(c.teal, 1));
        g.drawLine(QPointF(x, y), QPointF(x, top));
        g.setPen(c.ink);
        g.drawText(QRectF(x + 4, (y + top) / 2 - 8, 90, 16), Qt::AlignLeft | Qt::AlignVCenter,
                   QString("%1 s ahead").arg(ahead.seconds(), 0, 'f', 1));
    }
    if (difference_) upright(difference_->after.seconds(), c.rust, Qt::DashLine, "runs diverge");
    if (pointed_)
        upright(pointed_->seconds(), c.ink, Qt::SolidLine, QString("%1 s").arg(pointed_->seconds(), 0, 'f', 2));
}

void PathChart::look_at(Time from, Time length) {
    following_ = false;
    wall_->setRange(from.seconds(), (from + length).seconds());
    plot_->replot();
}

std::size_t PathChart::marked() const {
    return static_cast<std::size_t>(troubles_->data()->size() + eased_->data()->size());
}

std::size_t PathChart::made() const { return static_cast<std::size_t>(made_->data()->size()); }

QString PathChart::visible_events() const {
    QString lines;
    for (auto& e : history_.events())
        if (wall_->range().contains(e.wall.seconds())) lines += QString::fromStdString(to_json(e).dump()) + "\n";
    return lines;
}

void PathChart::mousePressEvent(QMouseEvent* e) {
    pressed_ = e->pos();
    if (e->button() == Qt::LeftButton && e->modifiers() & Qt::ShiftModifier) {
        if (points_.size() >= 2) points_.clear();
        points_.emplace_back(wall_->pixelToCoord(e->pos().x()), media_->pixelToCoord(e->pos().y()));
        measure();
        return;
    }
    pass_on(plot_, e);
}

void PathChart::measure() {
    if (ruler_) plot_->removeItem(ruler_), plot_->removeItem(ruler_text_), ruler_ = nullptr;
    if (points_.size() == 2) {
        auto [x0, y0] = points_[0];
        auto [x1, y1] = points_[1];
        ruler_ = new QCPItemLine(plot_);
        ruler_->start->setCoords(x0, y0);
        ruler_->end->setCoords(x1, y1);
        ruler_->setPen(QPen(look::colours().ink, 1, Qt::DashLine));
        ruler_text_ = new QCPItemText(plot_);
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
    redraw();
}

/// A press that was not dragged points at its moment.
void PathChart::mouseReleaseEvent(QMouseEvent* e) {
    pass_on(plot_, e);
    bool stayed = (e->pos() - pressed_).manhattanLength() < 4;
    if (e->button() != Qt::LeftButton || (e->modifiers() & Qt::ShiftModifier) || !stayed) return;
    if (plot_->axisRect()->rect().contains(e->pos()))
        point(Time{static_cast<std::int64_t>(wall_->pixelToCoord(e->pos().x()) * 1e9)});
}

void PathChart::mouseMoveEvent(QMouseEvent* e) {
    if (e->buttons() & Qt::LeftButton && (e->pos() - pressed_).manhattanLength() >= 4) following_ = false;
    pass_on(plot_, e);
    double wall = wall_->pixelToCoord(e->pos().x());
    const Event* near = nullptr;
    auto& events = history_.events();
    auto by = history_.events_by(Time{static_cast<std::int64_t>(wall * 1e9)});
    for (auto i = by > 0 ? by - 1 : 0; i <= by && i < events.size(); ++i)
        if (!near || std::abs(events[i].wall.seconds() - wall) < std::abs(near->wall.seconds() - wall))
            near = &events[i];
    auto at = shown_->data()->findBegin(wall);
    QString text;
    if (at != shown_->data()->end())
        text = QString("wall %1 s, media %2 s").arg(at->key, 0, 'f', 3).arg(at->value, 0, 'f', 3);
    if (near && std::abs(wall_->coordToPixel(near->wall.seconds()) - e->pos().x()) < 8)
        text = QString("%1 %2 at %3 s, media %4 s, %5 pictures and %6 ms of audio buffered")
                   .arg(QString::fromStdString(near->name), QString::fromStdString(near->detail))
                   .arg(near->wall.seconds(), 0, 'f', 3)
                   .arg(near->media.seconds(), 0, 'f', 3)
                   .arg(near->pictures)
                   .arg(near->audio.ms(), 0, 'f', 0);
    if (!text.isEmpty()) QToolTip::showText(e->globalPosition().toPoint(), text, this);
}

void PathChart::wheelEvent(QWheelEvent* e) {
    following_ = false;
    double factor = std::pow(0.85, e->angleDelta().y() / 120.0);
    wall_->scaleRange(factor, wall_->pixelToCoord(e->position().x()));
    if (e->modifiers() & Qt::ControlModifier) media_->scaleRange(factor, media_->pixelToCoord(e->position().y()));
    redraw();
}

/// While a moment is pointed at, Escape leaves that before anything else.
bool PathChart::event(QEvent* e) {
    if (e->type() == QEvent::ShortcutOverride && pointed_ && static_cast<QKeyEvent*>(e)->key() == Qt::Key_Escape)
        e->accept();
    return QWidget::event(e);
}

void PathChart::keyPressEvent(QKeyEvent* e) {
    if (e->matches(QKeySequence::Copy)) {
        QApplication::clipboard()->setText(visible_events());
    } else if (e->key() == Qt::Key_Home || e->key() == Qt::Key_End) {
        following_ = true;
        point(std::nullopt);
        follow();
    } else if (e->key() == Qt::Key_Escape && pointed_) {
        following_ = true;
        point(std::nullopt);
        follow();
    } else if (e->modifiers() & Qt::ControlModifier && (e->key() == Qt::Key_Left || e->key() == Qt::Key_Right)) {
        step_event(e->key() == Qt::Key_Left ? -1 : 1);
    } else if (e->key() == Qt::Key_Left || e->key() == Qt::Key_Right) {
        following_ = false;
        wall_->moveRange(wall_->range().size() * (e->key() == Qt::Key_Left ? -0.1 : 0.1));
    } else if (e->key() == Qt::Key_Up || e->key() == Qt::Key_Down) {
        following_ = false;
        wall_->scaleRange(e->key() == Qt::Key_Up ? 0.85 : 1 / 0.85);
    } else {
        return QWidget::keyPressEvent(e);
    }
    redraw();
}

}  // namespace ruedo
