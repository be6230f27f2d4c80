// SPDX-License-Identifier: Apache-2.0
#include "view/captions.h"
#include <QPainter>
#include <QTextDocument>
#include <QTextOption>
#include <algorithm>

#include "text/caption_places.h"
#include "view/look.h"
#include "view/spoken.h"

namespace ruedo {

namespace {
std::vector<Cue> cues_now(const Snapshot& s) {
    std::vector<Cue> now;
    if (s.state.phase == Phase::failed || s.state.phase == Phase::opening) return now;
    for (auto* cue : s.showing()) now.push_back(*cue);
    return now;
}

void paint(QPainter& g, const std::vector<Cue>& shown, const QRectF& picture, double foot) {
    g.setRenderHint(QPainter::Antialiasing);
    auto font = look::font(look::Size::body);
    font.setPixelSize(std::max(12, static_cast<int>(picture.height() * CaptionPlaces::letters)));
    double line_height = QFontMetricsF(font).lineSpacing() * 1.1;
    CaptionPlaces places(picture.left(), picture.top(), picture.width(), picture.height(), foot);
    for (auto cue = shown.rbegin(); cue != shown.rend(); ++cue) {
        QString html;
        for (auto& r : cue->runs) {
            auto words = text(r.text).toHtmlEscaped().replace('\n', "<br>");
            if (r.italic) words = "<i>" + words + "</i>";
            if (r.bold) words = "<b>" + words + "</b>";
            if (r.underline) words = "<u>" + words + "</u>";
            html += words;
        }
        bool start = cue->align == Cue::Align::start, end = cue->align == Cue::Align::end;
        double wide = places.width_for(*cue);
        QTextDocument d;
        d.setDefaultFont(font);
        d.setDocumentMargin(4);
        QTextOption option(start ? Qt::AlignLeft : end ? Qt::AlignRight : Qt::AlignHCenter);
        option.setWrapMode(QTextOption::WrapAtWordBoundaryOrAnywhere);
        d.setDefaultTextOption(option);
        d.setHtml("<span style='color:#F7F1E5'>" + html + "</span>");
        d.setTextWidth(wide);
        double tall = d.size().height(), used = std::min(wide, d.idealWidth());
        auto box = places.place(*cue, used, tall, line_height);
        g.setPen(Qt::NoPen);
        g.setBrush(QColor(0x17, 0x13, 0x1A, 205));
        g.drawRect(QRectF(box.left, box.top, used, tall));
        g.translate(box.block, box.top);
        d.drawContents(&g);
        g.translate(-box.block, -box.top);
    }
}
}  // namespace

CaptionsLayer::CaptionsLayer(QWidget* parent) : QWidget(parent) {
    setAttribute(Qt::WA_TransparentForMouseEvents);
    setAccessibleName("Captions");
    speak_as(*this, QAccessible::StaticText);
    hide();
}

void CaptionsLayer::follow(const Snapshot& snapshot, const QRectF& picture, double foot) {
    auto now = cues_now(snapshot);
    auto same = now.size() == shown_.size() && picture == picture_ && foot == foot_;
    for (std::size_t i = 0; same && i < now.size(); ++i)
        same = now[i].start == shown_[i].start && now[i].runs == shown_[i].runs;
    if (same) return;
    shown_ = std::move(now), picture_ = picture, foot_ = foot;
    setAccessibleDescription(lines().join(' '));
    setVisible(!shown_.empty());
    update();
    if (on_changed) on_changed();
}

QStringList CaptionsLayer::lines() const {
    QStringList all;
    for (auto& c : shown_) all << text(c.text());
    return all;
}

void CaptionsLayer::paintEvent(QPaintEvent*) {
    QPainter g(this);
    g.scale(scale_, scale_);
    paint(g, shown_, {picture_.topLeft() / scale_, picture_.size() / scale_}, foot_ / scale_);
}
void paint_cues(QPainter& g, const Snapshot& snapshot, const QRectF& picture, double foot) {
    paint(g, cues_now(snapshot), picture, foot);
}

}  // namespace ruedo
