// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/job_cards.h"

#include <QDesktopServices>
#include <QFileInfo>
#include <QPainter>
#include <QPushButton>
#include <QUrl>
#include <algorithm>

#include "view/look.h"

namespace ruedo {
QString bytes_said(std::uint64_t bytes) {
    auto v = static_cast<double>(bytes);
    return v >= 1e6 ? QString("%1 MB").arg(v / 1e6, 0, 'f', 1) : QString("%1 kB").arg(v / 1e3, 0, 'f', 0);
}
namespace {
QString told(const Job& j) {
    switch (j.state) {
        case Job::State::waiting:
            return "It waits for its turn.";
        case Job::State::running: {
            QStringList parts{QString("%1 %").arg(j.done * 100, 0, 'f', 0)};
            if (j.speed > 0) parts << QString("%1 times real time").arg(j.speed, 0, 'f', j.speed < 10 ? 1 : 0);
            if (j.left) parts << QString("%1 left").arg(text(format_clock(*j.left)).section('.', 0, 0));
            if (j.expected_bytes)
                parts << QString("%1 of about %2").arg(bytes_said(j.bytes), bytes_said(j.expected_bytes));
            return parts.join(", ");
        }
        case Job::State::paused:
            return QString("It rests at %1 %.").arg(j.done * 100, 0, 'f', 0);
        default:
            return text(j.sentence);
    }
}
}  // namespace

class JobCards::Card : public QFrame {
  public:
    Card(JobCards& owner, const Job& job) : owner_(owner), id_(job.id) {
        setFixedWidth(300);
        auto* box = new QVBoxLayout(this);
        box->setContentsMargins(12, 8, 12, 8);
        box->setSpacing(4);
        name_ = new QLabel;
        name_->setFont(look::font(look::Size::body, true));
        says_ = new QLabel;
        says_->setFont(look::tabular(look::Size::small));
        says_->setWordWrap(true);
        says_->setAlignment(Qt::AlignTop);
        auto* buttons = new QHBoxLayout;
        buttons->setSpacing(6);
        auto add = [&](const char* label) {
            auto* b = new QPushButton(label);
            b->setFont(look::font(look::Size::small));
            buttons->addWidget(b);
            return b;
        };
        rest_ = add("Pause"), stop_ = add("Stop"), shelve_ = add("Put it on the shelf"), show_ = add("Show the file"),
        forget_ = add("Forget");
        buttons->addStretch(1);
        box->addWidget(name_), box->addSpacing(6), box->addWidget(says_, 1), box->addLayout(buttons);
        connect(rest_, &QPushButton::clicked, this, [this] {
            (void)(job_.state == Job::State::paused ? owner_.queue_.go_on(id_) : owner_.queue_.pause(id_));
            owner_.look();
        });
        connect(stop_, &QPushButton::clicked, this, [this] { (void)owner_.queue_.stop(id_), owner_.look(); });
        connect(shelve_, &QPushButton::clicked, this, [this] {
            if (owner_.on_shelve) owner_.on_shelve(job_.out);
        });
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
        shelve_->setVisible(done && owner_.on_shelve);
        show_->setVisible(done);
        forget_->setVisible(over && !done);
        setAccessibleName(name + ": " + says_->text());
        update();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        auto& c = look::colours();
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(QPen(c.line, 1));
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
    QPushButton *rest_, *stop_, *shelve_, *show_, *forget_;
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
    empty_ = new QLabel("What is made stands here while it is made.");
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
    desk_.ask(
        "jobs", std::to_string(++looked_), [folder = queue_.folder()](auto&) { return JobQueue(folder).list(); },
        [this](const std::vector<Job>& jobs) { show(jobs); });
}

void JobCards::show(const std::vector<Job>& jobs) {
    std::map<std::uint64_t, Card*> still;
    bool waits = false;
    // The newest come first.
    int place = 0;
    for (auto j = jobs.rbegin(); j != jobs.rend(); ++j) {
        if (j->state == Job::State::stopped) continue;
        waits = waits || j->state == Job::State::waiting;
        auto it = cards_.find(j->id);
        auto* card = it != cards_.end() ? it->second : new Card(*this, *j);
        if (it != cards_.end())
            card->take(*j), cards_.erase(it);
        else
            box_->insertWidget(place, card);
        still[j->id] = card;
        ++place;
    }
    for (auto& [id, card] : cards_) card->deleteLater();
    cards_ = std::move(still);
    empty_->setVisible(cards_.empty());
    if (waits) run();
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
