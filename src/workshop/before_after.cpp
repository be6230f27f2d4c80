// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/before_after.h"

#include <QAction>
#include <QHBoxLayout>
#include <QMenu>
#include <QPainter>
#include <QVBoxLayout>

#include "view/look.h"

namespace ruedo {
namespace {
/// A button that is a mark.
class MarkButton : public QPushButton {
  public:
    using Draw = std::function<void(QPainter&, QRectF, const QColor&)>;
    MarkButton(const QString& name, Draw draw) : draw_(std::move(draw)) {
        setAccessibleName(name);
        setToolTip(name);
        setFixedSize(34, 30);
    }

  protected:
    void paintEvent(QPaintEvent* e) override {
        QPushButton::paintEvent(e);
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        auto& c = look::colours();
        draw_(g, QRectF(width() / 2.0 - 8, height() / 2.0 - 8, 16, 16), isEnabled() ? c.ink : c.line);
    }

  private:
    Draw draw_;
};
using Comparing = Wipe::Comparing;
using AudibleSide = Pairing::AudibleSide;
}  // namespace

BeforeAfter::BeforeAfter(PlaybackHost& host, QWidget* parent) : QWidget(parent) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(0);
    wipe_ = new Wipe;
    pairing_ = new Pairing(host, this);
    toggle_ = new MarkButton("Play both", [this](QPainter& g, QRectF r, const QColor& c) {
        pairing_->playing() ? look::draw_pause(g, r, c) : look::draw_play(g, r, c);
    });
    back_ = new MarkButton("One frame back",
                           [](QPainter& g, QRectF r, const QColor& c) { look::draw_frame_step(g, r, false, c); });
    on_ = new MarkButton("One frame forward",
                         [](QPainter& g, QRectF r, const QColor& c) { look::draw_frame_step(g, r, true, c); });
    sentence_ = new QLabel;
    sentence_->setTextFormat(Qt::RichText);
    sentence_->setWordWrap(true);
    sentence_->setFont(look::font(look::Size::small));
    sentence_->setTextInteractionFlags(Qt::LinksAccessibleByMouse | Qt::LinksAccessibleByKeyboard);
    sentence_->setFocusPolicy(Qt::TabFocus);
    sentence_->setAccessibleName("Comparison options");
    auto* row = new QHBoxLayout;
    row->setContentsMargins(12, 6, 12, 6);
    row->setSpacing(4);
    picture_ = new QPushButton("Save this frame …");
    picture_->setAccessibleName("Use this frame as a poster or a still");
    picture_->setObjectName("small");
    row->addWidget(toggle_), row->addWidget(back_), row->addWidget(on_), row->addSpacing(10);
    row->addWidget(sentence_, 1), row->addWidget(picture_);
    connect(picture_, &QPushButton::clicked, this, [this] {
        pairing_->hold();
        QMenu menu(this);
        if (offers)
            for (auto& offer : offers())
                menu.addAction(offer.words, [take = offer.take, at = pairing_->place()] { take(at); });
        menu.exec(picture_->mapToGlobal(QPoint(0, picture_->height())));
    });
    box->addWidget(wipe_, 1), box->addLayout(row);
    connect(sentence_, &QLabel::linkActivated, this, [this](const QString& link) { pick(link); });
    connect(toggle_, &QPushButton::clicked, this, [this] { toggle(); });
    connect(back_, &QPushButton::clicked, this, [this] { pairing_->step(-1); });
    connect(on_, &QPushButton::clicked, this, [this] { pairing_->step(1); });
    // A player's usual keys, while this page is visible.
    auto key = [this](const QKeySequence& keys, auto run) {
        auto* action = new QAction(this);
        action->setShortcut(keys);
        connect(action, &QAction::triggered, this, run);
        addAction(action);
    };
    key(Qt::CTRL | Qt::Key_Space, [this] { toggle(); });
    key(Qt::ALT | Qt::SHIFT | Qt::Key_Left, [this] { pairing_->step(-1); });
    key(Qt::ALT | Qt::SHIFT | Qt::Key_Right, [this] { pairing_->step(1); });
    key(Qt::ALT | Qt::Key_Left, [this] { pairing_->show(pairing_->place() - 1_s); });
    key(Qt::ALT | Qt::Key_Right, [this] { pairing_->show(pairing_->place() + 1_s); });
    pairing_->on_shown = [this](const Pairing::FramePair& s) {
        wipe_->show_pictures(s.before, s.after, {}, s.difference);
        moved(s.at);
    };
    pairing_->on_place = [this](Time at) { moved(at); };
    pairing_->on_playing = [this](bool playing) {
        toggle_->setAccessibleName(playing ? "Pause both" : "Play both");
        toggle_->setToolTip(toggle_->accessibleName());
        toggle_->update();
        if (playing && on_plays) on_plays();
    };
    pairing_->on_trouble = [this](const Error& e) {
        wipe_->show_pictures({}, {}, text(e.sentence));
        say();
    };
    wipe_->on_zoomed = [this] { say(); };
    pairing_->hear(AudibleSide::after);
    clear();
}

void BeforeAfter::clear(const QString& word) {
    subject_.reset();
    pairing_->open({});
    waits_for_ = word;
    wipe_->show_pictures({}, {}, word);
    for (auto* b : {toggle_, back_, on_, picture_}) b->setEnabled(false);
    say();
}
void BeforeAfter::show_source(const QImage& picture) {
    if (!subject_) wipe_->show_pictures(picture, {}, waits_for_);
}
void BeforeAfter::open(const Pairing::Subject& subject, Time at) {
    if (subject_ == subject) return pairing_->show(at);
    subject_ = subject;
    wipe_->show_pictures({}, {}, subject.pictures ? QString() : QString("no video"));
    pairing_->open(subject);
    if (subject.pictures) pairing_->show(at);
    toggle_->setEnabled(true);
    for (auto* b : {back_, on_, picture_}) b->setEnabled(subject.pictures);
    say();
}
void BeforeAfter::toggle() {
    if (!subject_) return;
    pairing_->playing() ? pairing_->hold() : pairing_->play();
}
void BeforeAfter::moved(Time at) {
    if (on_place) on_place(at);
    say();
}

std::vector<std::vector<BeforeAfter::Word>> BeforeAfter::groups() const {
    auto seen = wipe_->seen();
    auto zoom = wipe_->zoom();
    auto heard = pairing_->heard();
    return {{{"line", "split by a line", seen == Comparing::line},
             {"beside", "side by side", seen == Comparing::beside},
             {"difference", "as their difference", seen == Comparing::difference}},
            {{"whole", "fit", zoom <= 0}, {"pixels", "at 100 %", zoom == 1}, {"four", "at 400 %", zoom == 4}},
            {{"hear before", "original", heard == AudibleSide::before},
             {"hear after", "converted", heard == AudibleSide::after},
             {"hear neither", "off", heard == AudibleSide::neither}}};
}
QStringList BeforeAfter::words() const {
    QStringList list;
    for (auto& group : groups())
        for (auto& w : group) list << w.key;
    return list;
}
void BeforeAfter::say() {
    auto& c = look::colours();
    QStringList parts;
    for (auto& group : groups()) {
        QStringList words;
        for (auto& w : group)
            words << (w.now ? QString("<b>%1</b>").arg(w.label)
                            : QString("<a href='%1' style='color:%2;'>%3</a>").arg(w.key, c.wine.name(), w.label));
        parts << words.join(", ");
    }
    auto html = QString("View: %1; %2. Audio: %3").arg(parts[0], parts[1], parts[2]);
    // Which of them was turned down to the other.
    for (auto [which, words] : {std::pair{AudibleSide::before, "original"}, {AudibleSide::after, "conversion"}})
        if (auto down = pairing_->turned_down(which); down >= 0.05)
            html += QString("; the %1 is %2 dB louder and was turned down").arg(words).arg(down, 0, 'f', 1);
    html += ".";
    if (html != sentence_->text()) sentence_->setText(html);
}

void BeforeAfter::pick(const QString& word) {
    auto see = [this](Comparing seen) {
        wipe_->see(seen);
        pairing_->show_difference(seen == Comparing::difference);
    };
    if (word == "line") see(Comparing::line);
    if (word == "beside") see(Comparing::beside);
    if (word == "difference") see(Comparing::difference);
    if (word == "whole") wipe_->set_zoom(0);
    if (word == "pixels") wipe_->set_zoom(1);
    if (word == "four") wipe_->set_zoom(4);
    if (word == "hear before") pairing_->hear(AudibleSide::before);
    if (word == "hear after") pairing_->hear(AudibleSide::after);
    if (word == "hear neither") pairing_->hear(AudibleSide::neither);
    say();
}

}  // namespace ruedo
