// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/shelf.h"

#include <QPainter>
#include <QResizeEvent>
#include <QTextLayout>
#include <QTimer>

#include "convert/targets.h"
#include "view/look.h"

namespace ruedo {
namespace {

/// What a card says about a source for a target.
CardFacts card_facts(const Thumbnail& g, const Target* target, const std::string& source, const std::string& made) {
    CardFacts card;
    card.poster = g.poster;
    card.audio_only = g.facts && !g.error && !g.from_service && !g.facts->info.main(Kind::video);
    if (g.facts)
        card.length = g.facts->duration.ns > 0 ? text(format_clock(g.facts->duration)) : QString("unknown length");
    if (g.error) {
        card.sentence = text(g.error->sentence);
        card.trouble = true;
    } else if (target && !g.from_service) {
        auto verdict = judge(*g.facts, *target, CodecRegistry::standard(), source);
        // The verdict counts first; where it is good, what was found does.
        card.trouble = verdict.plays != Verdict::Plays::yes;
        card.sentence = text(verdict.sentence());
        if (!card.trouble && verdict.reasons.empty() && !g.facts->findings.empty())
            card.sentence = "Plays. " + text(g.facts->findings.front().sentence);
        if (!made.empty()) {
            card.trouble = false;
            card.sentence = QString("Plays there as “%1”, converted from it.")
                                .arg(text(std::filesystem::path(made).filename().string()));
        }
    } else {
        card.sentence = text(g.facts->second_sentence);
    }
    return card;
}
}  // namespace

Card::Card(QString name, QWidget* parent) : QAbstractButton(parent), name_(std::move(name)) {
    setFocusPolicy(Qt::StrongFocus);
    setAccessibleName(name_);
    setCursor(Qt::PointingHandCursor);
}
void Card::set_facts(const CardFacts& facts) {
    facts_ = facts;
    setAccessibleDescription(facts.sentence);
    setToolTip(facts.sentence);
    update();
}
void Card::set_chosen(bool chosen) {
    chosen_ = chosen;
    update();
}
void Card::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    g.fillRect(rect(), c.panel);
    g.setPen(QPen(chosen_ ? c.wine : c.line, chosen_ ? 3 : 1));
    g.drawRect(QRectF(rect()).adjusted(1, 1, -1, -1));
    if (hasFocus()) {
        g.setPen(QPen(c.ochre, 2));
        g.drawRect(QRectF(rect()).adjusted(4, 4, -4, -4));
    }
    QRectF place(12, 12, PosterCache::poster_width, PosterCache::poster_height);
    if (facts_ && !facts_->poster.isNull()) {
        QSizeF size(facts_->poster.width() / 2.0, facts_->poster.height() / 2.0);
        g.drawImage(QRectF(place.center() - QPointF(size.width() / 2, size.height() / 2), size), facts_->poster);
    } else if (facts_ && facts_->audio_only) {
        look::draw_speaker(g, QRectF(place.center() - QPointF(22, 22), QSizeF(44, 44)), 1, false, c.soft);
    } else {
        look::draw_glyph(g, QRectF(place.center() - QPointF(16, 16), QSizeF(32, 32)),
                         !facts_           ? look::Glyph::dotted
                         : facts_->trouble ? look::Glyph::barred
                                           : look::Glyph::filled,
                         !facts_           ? c.soft
                         : facts_->trouble ? c.rust
                                           : c.teal);
    }
    g.setFont(look::font(look::Size::body, true));
    g.setPen(c.ink);
    QRectF line(12, 146, width() - 24, 20);
    auto length = facts_ ? facts_->length : QString();
    g.setFont(look::tabular(look::Size::small));
    auto taken = g.fontMetrics().horizontalAdvance(length);
    g.setPen(c.soft);
    g.drawText(line, Qt::AlignRight | Qt::AlignVCenter, length);
    g.setFont(look::font(look::Size::body, true));
    g.setPen(c.ink);
    g.drawText(line, Qt::AlignLeft | Qt::AlignVCenter,
               g.fontMetrics().elidedText(name_, Qt::ElideRight, static_cast<int>(line.width()) - taken - 8));
    g.setFont(look::font(look::Size::small));
    g.setPen(c.soft);
    QRectF text(12, 168, width() - 24, 50);
    if (facts_ && facts_->trouble) {
        look::draw_glyph(g, QRectF(12, 171, 11, 11), look::Glyph::barred, c.rust);
        text.adjust(17, 0, 0, 0);
    }
    // Complete lines only; the facts have the rest.
    QTextLayout layout(facts_ ? facts_->sentence : QString("Analysing"), g.font());
    layout.beginLayout();
    auto height = g.fontMetrics().lineSpacing();
    for (double y = text.top(); y + height <= text.bottom() + 1; y += height) {
        auto row = layout.createLine();
        if (!row.isValid()) break;
        row.setLineWidth(text.width());
        bool last = y + 2 * height > text.bottom() + 1;
        auto words = layout.text().mid(row.textStart(), last ? -1 : row.textLength());
        g.drawText(
            QPointF(text.left(), y + g.fontMetrics().ascent()),
            last ? g.fontMetrics().elidedText(words, Qt::ElideRight, static_cast<int>(text.width())) : words.trimmed());
    }
    layout.endLayout();
}

Shelf::Shelf(Project& project, QWidget* parent)
    : QScrollArea(parent), project_(project), posters_(new PosterCache(this)), flow_(new QWidget) {
    setWidget(flow_);
    setWidgetResizable(true);
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    connect(&project_, &Project::changed, this, [this] { rebuild(); });
    connect(&project_, &Project::current_changed, this, [this] { mark(); });
    connect(posters_, &PosterCache::found, this, [this](const std::string& source) {
        for (std::size_t i = 0; i < cards_.size(); ++i)
            if (places_[i] == source) fill(i);
        emit looked_into(source);
        emit progressed(posters_->waiting());
    });
    rebuild();
}

void Shelf::fill(std::size_t i) {
    if (auto* thumbnail = posters_->at(places_[i]))
        cards_[i]->set_facts(
            card_facts(*thumbnail, target_ ? &*target_ : nullptr, places_[i], i < made_.size() ? made_[i] : ""));
}
QImage Shelf::poster_of(const std::string& place) const {
    auto* thumbnail = posters_->at(place);
    return thumbnail ? thumbnail->poster : QImage();
}
std::optional<Verdict> Shelf::verdict_of(std::size_t i) const {
    auto* thumbnail = i < places_.size() ? posters_->at(places_[i]) : nullptr;
    if (!thumbnail || !thumbnail->facts || thumbnail->error || thumbnail->from_service || !target_) return std::nullopt;
    return judge(*thumbnail->facts, *target_, CodecRegistry::standard(), places_[i]);
}

void Shelf::rebuild() {
    auto& sources = project_.document().sources;
    bool other_target = !target_ || target_->name != project_.document().target;
    if (other_target) {
        auto found = find_target(project_.document().target);
        target_ = found ? std::optional(*found) : std::nullopt;
    }
    std::vector<std::string> made(sources.size());
    auto played = for_target(project_.document(), project_.folder());
    for (std::size_t i = 0; i < made.size(); ++i)
        if (played.sources[i].file != sources[i].file) made[i] = played.sources[i].file;
    bool other_made = std::exchange(made_, made) != made;
    bool same = shown_.size() == sources.size();
    for (std::size_t i = 0; same && i < sources.size(); ++i)
        same = shown_[i].name == sources[i].name && shown_[i].file == sources[i].file;
    if (same) {
        if (other_target || other_made)
            for (std::size_t i = 0; i < cards_.size(); ++i) fill(i);
        return mark();
    }
    // Cards of sources that stay are kept.
    std::size_t keep = 0;
    while (keep < shown_.size() && keep < sources.size() && keep < cards_.size() &&
           shown_[keep].name == sources[keep].name && shown_[keep].file == sources[keep].file)
        ++keep;
    for (auto i = keep; i < cards_.size(); ++i) cards_[i]->deleteLater();
    cards_.resize(keep);
    shown_ = sources;
    places_.resize(keep);
    for (auto i = keep; i < shown_.size(); ++i) places_.push_back(resolve(shown_[i], project_.folder()));
    make_cards();
}

/// Some cards at a time, so that hundreds of them do not hold the window up.
void Shelf::make_cards() {
    constexpr std::size_t at_once = 24;
    auto until = std::min(shown_.size(), cards_.size() + at_once);
    for (auto i = cards_.size(); i < until; ++i) {
        auto* card = new Card(text(shown_[i].name), flow_);
        card->resize(card->sizeHint());
        connect(card, &QAbstractButton::clicked, this, [this, i] {
            project_.set_current(i);
            emit activated();
        });
        cards_.push_back(card);
        fill(i);
    }
    lay_out();
    for (auto* card : cards_)
        if (card->isHidden()) card->show();
    mark();
    emit progressed(posters_->waiting());
    if (cards_.size() < shown_.size() && !making_) {
        making_ = true;
        QTimer::singleShot(1, this, [this] { making_ = false, make_cards(); });
    }
}
void Shelf::mark() {
    for (std::size_t i = 0; i < cards_.size(); ++i) cards_[i]->set_chosen(i == project_.current());
}
void Shelf::lay_out() {
    constexpr int gap = 14;
    QSize size(220, 226);
    int columns = std::max(1, (viewport()->width() - gap) / (size.width() + gap));
    for (std::size_t i = 0; i < cards_.size(); ++i) {
        int n = static_cast<int>(i);
        cards_[i]->move(gap + n % columns * (size.width() + gap), gap + n / columns * (size.height() + gap));
    }
    int rows = (static_cast<int>(cards_.size()) + columns - 1) / columns;
    flow_->setMinimumHeight(gap + rows * (size.height() + gap));
}
void Shelf::resizeEvent(QResizeEvent* e) {
    QScrollArea::resizeEvent(e);
    lay_out();
}

}  // namespace ruedo
