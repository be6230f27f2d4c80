// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/shelf.h"

#include <QApplication>
#include <QPainter>
#include <QPointer>
#include <QResizeEvent>
#include <QThreadPool>

#include "container/container.h"
#include "view/look.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {

constexpr int poster_width = 196, poster_height = 128;

/// Beside the window: opens the clip, decodes one picture.
CardFacts find_facts(const std::string& path) {
    CardFacts facts;
    auto opened = open_clip(path);
    if (!opened) return {{}, {}, QString::fromStdString(opened.error().sentence), true};
    std::shared_ptr<Clip> clip = std::move(*opened);
    auto& info = clip->info();
    facts.length = info.duration_known ? QString::fromStdString(format_clock(info.duration)) : QString("no end known");
    auto tracks = select_tracks(info, CodecRegistry::standard());
    if (!tracks) return {{}, facts.length, QString::fromStdString(tracks.error().sentence), true};
    if (tracks->video) {
        auto& f = tracks->video->video;
        facts.sentence = QString("%1 × %2, %3").arg(f.display_width()).arg(f.display_height()).arg(QString::fromUtf8(codec_title(tracks->video->codec)));
        if (auto reader = PictureReader::open(clip, *tracks->video, CodecRegistry::standard()))
            if (auto picture = (*reader)->at(std::min(2_s, info.duration / 4))) {
                auto r = fit_rect(Fit::contain, f.display_width(), f.display_height(), poster_width * 2, poster_height * 2);
                auto image = render(*picture, static_cast<int>(r.width), static_cast<int>(r.height));
                facts.poster = QImage(image.pixels.data(), image.width, image.height, image.stride(), QImage::Format_RGB32).copy();
                facts.poster.setDevicePixelRatio(2);
            }
    }
    if (tracks->audio) facts.sentence += QString("%1%2").arg(facts.sentence.isEmpty() ? "" : " with ", QString::fromUtf8(codec_title(tracks->audio->codec)));
    if (!info.findings.empty()) facts.sentence = QString::fromStdString(info.findings.front().sentence), facts.trouble = true;
    return facts;
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
    QRectF place(12, 12, poster_width, poster_height);
    if (facts_ && !facts_->poster.isNull()) {
        QSizeF size(facts_->poster.width() / 2.0, facts_->poster.height() / 2.0);
        g.drawImage(QRectF(place.center() - QPointF(size.width() / 2, size.height() / 2), size), facts_->poster);
    } else {
        look::draw_glyph(g, QRectF(place.center() - QPointF(16, 16), QSizeF(32, 32)), !facts_ ? look::Glyph::dotted : facts_->trouble ? look::Glyph::barred : look::Glyph::filled, !facts_ ? c.soft : facts_->trouble ? c.rust : c.teal);
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
    g.drawText(line, Qt::AlignLeft | Qt::AlignVCenter, g.fontMetrics().elidedText(name_, Qt::ElideRight, static_cast<int>(line.width()) - taken - 8));
    g.setFont(look::font(look::Size::small));
    g.setPen(c.soft);
    QRectF text(12, 168, width() - 24, 50);
    if (facts_ && facts_->trouble) {
        look::draw_glyph(g, QRectF(12, 171, 11, 11), look::Glyph::barred, c.rust);
        text.adjust(17, 0, 0, 0);
    }
    g.drawText(text, Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap, facts_ ? facts_->sentence : QString("Looking into it"));
}

Shelf::Shelf(Project& project, QWidget* parent) : QScrollArea(parent), project_(project), flow_(new QWidget) {
    setWidget(flow_);
    setWidgetResizable(true);
    setFrameShape(QFrame::NoFrame);
    setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    connect(&project_, &Project::changed, this, [this] { rebuild(); });
    connect(&project_, &Project::current_changed, this, [this] { mark(); });
    rebuild();
}

void Shelf::rebuild() {
    auto& sources = project_.document().sources;
    bool same = shown_.size() == sources.size();
    for (std::size_t i = 0; same && i < sources.size(); ++i) same = shown_[i].name == sources[i].name && shown_[i].file == sources[i].file;
    if (same && !(shown_.empty() && cards_.empty())) return mark();
    shown_ = sources;
    for (auto* card : cards_) card->deleteLater();
    cards_.clear();
    for (std::size_t i = 0; i < sources.size(); ++i) {
        auto* card = new Card(QString::fromStdString(sources[i].name), flow_);
        card->resize(card->sizeHint());
        card->show();
        connect(card, &QAbstractButton::clicked, this, [this, i] {
            project_.set_current(i);
            emit activated();
        });
        cards_.push_back(card);
        auto path = resolve(sources[i], project_.folder());
        if (auto known = known_.find(path); known != known_.end()) {
            card->set_facts(known->second);
            continue;
        }
        QThreadPool::globalInstance()->start([path, shelf = QPointer(this), card = QPointer(card)] {
            auto facts = find_facts(path);
            QMetaObject::invokeMethod(qApp, [path, shelf, card, facts] {
                if (shelf) shelf->known_[path] = facts;
                if (card) card->set_facts(facts);
            }, Qt::QueuedConnection);
        });
    }
    lay_out();
    mark();
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
