// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/job_cards.h"

#include <QDesktopServices>
#include <QFileInfo>
#include <QMouseEvent>
#include <QPainter>
#include <QPushButton>
#include <QUrl>
#include <algorithm>

#include "view/look.h"

namespace ruedo {
QString bytes_said(std::uint64_t bytes) {
    auto v = static_cast<double>(bytes);
    return v >= 999'500 ? QString("%1 MB").arg(v / 1e6, 0, 'f', 1)
           : v >= 1e4   ? QString("%1 kB").arg(v / 1e3, 0, 'f', 0)
           : v >= 1e3   ? QString("%1 kB").arg(v / 1e3, 0, 'f', 1)
                        : QString("%1 B").arg(bytes);
}
namespace {
QString told(const Job& j) {
    switch (j.state) {
        case Job::State::waiting:
            return "Waiting.";
        case Job::State::running: {
            QStringList parts{QString("%1 %").arg(j.done * 100, 0, 'f', 0)};
            if (j.speed > 0) parts << QString("%1 times real time").arg(j.speed, 0, 'f', j.speed < 10 ? 1 : 0);
            if (j.left) parts << QString("%1 left").arg(text(format_clock(*j.left)).section('.', 0, 0));
            if (j.expected_bytes)
                parts << QString("%1 of about %2").arg(bytes_said(j.bytes), bytes_said(j.expected_bytes));
            return parts.join(", ");
        }
        case Job::State::paused:
            return QString("Paused at %1 %.").arg(j.done * 100, 0, 'f', 0);
        case Job::State::done: {
            if (!j.took.ns) return text(j.sentence);
            auto clock = [](Time t) { return text(format_clock(t + 500_ms)).section('.', 0, 0); };
            auto said = QString("%1 in %2.").arg(bytes_said(j.bytes), clock(j.took));
            if (j.estimated_bytes)
                said += QString(" Estimate: %1 in %2.").arg(bytes_said(j.estimated_bytes), clock(j.estimated));
            return said;
        }
        default:
            return text(j.sentence);
    }
}
}  // namespace

class JobCards::Card : public QFrame {
  public:
    Card(JobCards& owner, const Job& job) : owner_(owner), id_(job.id) {
        setFixedWidth(330);
        setFocusPolicy(Qt::StrongFocus);
        auto* box = new QVBoxLayout(this);
        box->setContentsMargins(12, 8, 12, 8);
        box->setSpacing(4);
        name_ = new look::Label;
        name_->setFont(look::font(look::Size::body, true));
        says_ = new look::Label;
        says_->setFont(look::tabular(look::Size::small));
        says_->setWordWrap(true);
        says_->setAlignment(Qt::AlignTop);
        auto* buttons = new QHBoxLayout;
        buttons->setSpacing(6);
        auto add = [&](const char* label) {
            auto* b = new QPushButton(label);
            b->setFont(look::font(look::Size::small));
            b->setObjectName("small");
            buttons->addWidget(b);
            return b;
        };
        rest_ = add("Pause"), stop_ = add("Stop"), compare_ = add("Compare"), shelve_ = add("Add to the shelf"),
        show_ = add("Show file"), again_ = add("Try again"), forget_ = add("Remove");
        buttons->addStretch(1);
        box->addWidget(name_), box->addSpacing(6), box->addWidget(says_, 1), box->addLayout(buttons);
        connect(rest_, &QPushButton::clicked, this, [this] {
            (void)(job_.state == Job::State::paused ? owner_.queue_.go_on(id_) : owner_.queue_.pause(id_));
            owner_.look();
        });
        connect(stop_, &QPushButton::clicked, this, [this] { (void)owner_.queue_.stop(id_), owner_.look(); });
        connect(shelve_, &QPushButton::clicked, this, [this] {
            // Of a ladder its first list is the source.
            if (owner_.on_shelve) owner_.on_shelve(job_.ladder ? job_.out / "master.m3u8" : job_.out);
        });
        connect(compare_, &QPushButton::clicked, this, [this] {
            if (owner_.on_compare) owner_.on_compare(job_);
        });
        connect(again_, &QPushButton::clicked, this, [this] { (void)owner_.queue_.again(id_), owner_.look(); });
        connect(show_, &QPushButton::clicked, this, [this] {
            QDesktopServices::openUrl(QUrl::fromLocalFile(QFileInfo(text(job_.out.string())).absolutePath()));
        });
        connect(forget_, &QPushButton::clicked, this, [this] { owner_.queue_.forget(id_), owner_.look(); });
        take(job);
    }
    void take(const Job& job) {
        job_ = job;
        auto name = text(job.out.filename().string());
        name_->setText(name_->fontMetrics().elidedText(name, Qt::ElideMiddle, 270));
        name_->setToolTip(text(job.out.string()));
        says_->setText(told(job));
        bool over = job.over(), done = job.state == Job::State::done;
        rest_->setVisible(job.state == Job::State::running || job.state == Job::State::paused);
        rest_->setText(job.state == Job::State::paused ? "Go on" : "Pause");
        stop_->setVisible(!over);
        compare_->setVisible(done && !job.ladder && owner_.on_compare);
        shelve_->setVisible(done && owner_.on_shelve);
        show_->setVisible(done);
        again_->setVisible(over && !done);
        forget_->setVisible(over && !done);
        setCursor(over ? Qt::ArrowCursor : Qt::OpenHandCursor);
        setToolTip(over ? QString() : QString("Drag to reorder the queue, or move it with Ctrl and the arrow keys."));
        setAccessibleName(name + ": " + says_->text());
        update();
    }
    const Job& job() const { return job_; }

  protected:
    // Carried along by the hand; where it is let go it stands in the queue.
    void mousePressEvent(QMouseEvent* e) override {
        if (job_.over() || e->button() != Qt::LeftButton) return QFrame::mousePressEvent(e);
        held_ = e->pos(), home_ = pos();
        owner_.dragged_ = true;
        raise();
        setCursor(Qt::ClosedHandCursor);
    }
    void mouseMoveEvent(QMouseEvent* e) override {
        if (held_) QWidget::move(mapToParent(e->pos()).x() - held_->x(), home_.y());
    }
    void mouseReleaseEvent(QMouseEvent*) override {
        if (!held_) return;
        held_.reset();
        owner_.dragged_ = false;
        setCursor(Qt::OpenHandCursor);
        auto before = owner_.before_at(geometry().center().x(), id_);
        bool moved = std::abs(pos().x() - home_.x()) > 12;
        QWidget::move(home_);
        if (moved) owner_.move(id_, before);
    }
    void keyPressEvent(QKeyEvent* e) override {
        int by = e->key() == Qt::Key_Left ? -1 : e->key() == Qt::Key_Right ? 1 : 0;
        if (!by || e->modifiers() != Qt::ControlModifier || job_.over()) return QFrame::keyPressEvent(e);
        owner_.move(id_, owner_.before_at(geometry().center().x() + by * (width() + width() / 4), id_));
    }
    void paintEvent(QPaintEvent*) override {
        auto& c = look::colours();
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(hasFocus() ? QPen(c.ochre, 2) : QPen(c.line, 1));
        g.setBrush(c.panel);
        g.drawRoundedRect(QRectF(rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6);
        // How far it is, as a thread under its name.
        bool failed = job_.state == Job::State::failed;
        auto y = name_->geometry().bottom() + 5.0, wide = width() - 24.0;
        g.setPen(QPen(c.line, 3));
        g.drawLine(QPointF(12, y), QPointF(12 + wide, y));
        g.setPen(QPen(failed ? c.rust : job_.over() ? c.moss : c.teal, 3));
        auto done = failed || job_.state == Job::State::done ? 1.0 : job_.done;
        if (done > 0) g.drawLine(QPointF(12, y), QPointF(12 + wide * done, y));
    }

  private:
    JobCards& owner_;
    std::uint64_t id_;
    Job job_;
    QLabel *name_, *says_;
    QPushButton *rest_, *stop_, *compare_, *shelve_, *show_, *again_, *forget_;
    std::optional<QPoint> held_;
    QPoint home_;
};

JobCards::JobCards(std::filesystem::path folder, QWidget* parent) : QScrollArea(parent), queue_(std::move(folder)) {
    setFrameShape(QFrame::NoFrame);
    setWidgetResizable(true);
    setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    setFixedHeight(142);
    setAccessibleName("Conversions");
    row_ = new QWidget;
    box_ = new QHBoxLayout(row_);
    box_->setContentsMargins(16, 8, 16, 8);
    box_->setSpacing(10);
    empty_ = new look::Label("Conversions appear here.");
    empty_->setStyleSheet(QString("color:%1;").arg(look::colours().soft.name()));
    box_->addWidget(empty_);
    box_->addStretch(1);
    setWidget(row_);
    connect(&timer_, &QTimer::timeout, this, [this] { look(); });
    timer_.start(400);
    look();
}

JobCards::~JobCards() {
    *stop_ = true;
    if (runner_.valid()) runner_.wait();
}

void JobCards::look() {
    tasks_.ask(
        "jobs", std::to_string(++looked_), [folder = queue_.folder()](auto&) { return JobQueue(folder).list(); },
        [this](const std::vector<Job>& jobs) { show(jobs); });
}

void JobCards::show(const std::vector<Job>& jobs) {
    if (dragged_) return;
    std::map<std::uint64_t, Card*> still;
    bool waits = false;
    // What is still to be done in its order, and behind it what is over, the newest first.
    std::vector<const Job*> order;
    for (auto& j : jobs)
        if (!j.over()) order.push_back(&j);
    for (auto j = jobs.rbegin(); j != jobs.rend(); ++j)
        if (j->over()) order.push_back(&*j);
    order_.clear();
    std::vector<Job> over;
    for (int place = 0; auto* j : order) {
        waits = waits || j->state == Job::State::waiting;
        auto it = cards_.find(j->id);
        bool fresh = it == cards_.end();
        auto* card = fresh ? new Card(*this, *j) : it->second;
        if (!fresh) {
            if (j->over() && !card->job().over() && j->state != Job::State::stopped) over.push_back(*j);
            card->take(*j);
            cards_.erase(it);
        } else if (seen_ && j->over() && j->state != Job::State::stopped) {
            over.push_back(*j);  // it was quicker than the look
        }
        if (box_->indexOf(card) != place) box_->removeWidget(card), box_->insertWidget(place, card);
        still[j->id] = card;
        order_.push_back(j->id);
        ++place;
    }
    for (auto& [id, card] : cards_) card->deleteLater();
    cards_ = std::move(still);
    seen_ = true;
    empty_->setVisible(cards_.empty());
    if (waits) run();
    for (auto& j : over)
        if (on_over) on_over(j);
}

std::vector<Job> JobCards::shown() const {
    std::vector<Job> list;
    for (auto id : order_) list.push_back(cards_.at(id)->job());
    return list;
}
std::size_t JobCards::unfinished() const {
    return static_cast<std::size_t>(std::count_if(cards_.begin(), cards_.end(), [](auto& c) {
        auto state = c.second->job().state;
        return state == Job::State::waiting || state == Job::State::running;
    }));
}
/// The first that is still to be done and stands to the right of there.
std::optional<std::uint64_t> JobCards::before_at(int x, std::uint64_t moved) const {
    for (auto id : order_) {
        auto* card = cards_.at(id);
        if (id != moved && !card->job().over() && card->geometry().center().x() > x) return id;
    }
    return std::nullopt;
}
void JobCards::move(std::uint64_t id, std::optional<std::uint64_t> before) {
    (void)queue_.move(id, before);
    look();
}

/// Beside the window, two at a time; where another process looks after the queue already it does nothing.
void JobCards::run() {
    if (runner_.valid() && runner_.wait_for(std::chrono::seconds(0)) != std::future_status::ready) return;
    runner_ = std::async(std::launch::async, [folder = queue_.folder(), stop = stop_] {
        JobQueue queue(folder);
        (void)queue.run(CodecRegistry::standard(), [stop](const Job&) { return !*stop; }, 2);
    });
}

}  // namespace ruedo
