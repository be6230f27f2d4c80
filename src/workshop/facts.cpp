// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/facts.h"

#include <QApplication>
#include <QPainter>
#include <QPointer>
#include <QThreadPool>
#include <QVBoxLayout>

#include "container/container.h"
#include "view/look.h"

namespace ruedo {
namespace {

struct Facts {
    std::optional<VideoFormat> video;
    QString html;
};

QString rate_text(Rational r) {
    if (!r.stated()) return "at a rate that varies";
    if (r.den == 1) return QString("at %1 pictures a second").arg(r.num);
    return QString("at %1/%2 pictures a second").arg(r.num).arg(r.den);
}

Facts look_into(const std::string& path) {
    Facts facts;
    auto& c = look::colours();
    auto clip = open_clip(path);
    if (!clip) {
        facts.html = QString("<p>%1</p><p style='color:%3'>%2</p>").arg(text(clip.error().sentence).toHtmlEscaped(), text(clip.error().hint).toHtmlEscaped(), c.soft.name());
        return facts;
    }
    auto& info = (*clip)->info();
    QString tracks, summary = QString("A clip of %1 in %2, %3 MB.").arg(info.duration_known ? text(format_time(info.duration)) : "unknown length", text(info.container)).arg(static_cast<double>(info.bytes) / 1e6, 0, 'f', 2);
    for (auto& t : info.tracks) {
        auto scanned = scan_track(**clip, t);
        QString line = QString("<b>%1 %2</b>: %3").arg(text(kind_name(t.kind))).arg(t.id).arg(text(codec_title(t.codec)));
        if (!t.codec_string.empty()) line += QString(" (%1)").arg(text(t.codec_string));
        if (t.kind == Kind::video) {
            facts.video = facts.video ? facts.video : std::optional(t.video);
            line += QString(", %1 × %2").arg(t.video.width).arg(t.video.height);
            if (scanned) line += QString(", %1 frames %2, %3 keyframes").arg(scanned->frame_count).arg(rate_text(scanned->frame_rate)).arg(scanned->keyframe_times.size());
        } else if (t.kind == Kind::audio) {
            line += QString(", %1 Hz, %2 channel%3").arg(t.audio.rate).arg(t.audio.channels).arg(t.audio.channels == 1 ? "" : "s");
        }
        if (!t.language.empty()) line += QString(", language %1").arg(text(t.language));
        if (t.problem) line += QString("<br><span style='color:%2'>⊖</span> %1").arg(text(t.problem->sentence).toHtmlEscaped(), c.rust.name());
        tracks += QString("<p style='margin:4px 0'>%1.</p>").arg(line);
    }
    if (facts.video) {
        auto& v = *facts.video;
        summary += QString(" Shown at %1 × %2").arg(v.display_width()).arg(v.display_height());
        if (v.pixel_aspect.stated() && v.pixel_aspect.num != v.pixel_aspect.den) summary += QString(", from pixels of %1 to %2").arg(v.pixel_aspect.num).arg(v.pixel_aspect.den);
        if (v.rotation) summary += QString(", turned by %1° clockwise").arg(v.rotation);
        summary += ".";
    }
    QString findings;
    for (auto& f : info.findings)
        findings += QString("<p style='margin:4px 0'><span style='color:%3'>⊖</span> %1 <span style='color:%4'>%2</span></p>").arg(text(f.sentence).toHtmlEscaped(), text(f.hint).toHtmlEscaped(), c.rust.name(), c.soft.name());
    if (findings.isEmpty()) findings = "<p style='margin:4px 0'>Nothing about this file stands in the way.</p>";
    facts.html = QString("<p>%1</p><p style='font-weight:600; margin:10px 0 2px 0'>Tracks</p>%2<p style='font-weight:600; margin:10px 0 2px 0'>Findings</p>%3").arg(summary, tracks, findings);
    return facts;
}
}  // namespace

/// Coded and shown shape, one over the other, to one scale.
class FactsPanel::Shape : public QWidget {
  public:
    explicit Shape(QWidget* parent) : QWidget(parent) { setFixedHeight(170), setAccessibleName("Shape of the picture"); }
    std::optional<VideoFormat> format;

  protected:
    void paintEvent(QPaintEvent*) override {
        if (!format) return;
        auto& c = look::colours();
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        auto& f = *format;
        double scale = std::min((width() - 130.0) / std::max(f.width, f.display_width()), (height() - 12.0) / std::max(f.height, f.display_height()));
        QPointF o(6, 6);
        QRectF shown(o, QSizeF(f.display_width() * scale, f.display_height() * scale));
        QRectF coded(o, QSizeF(f.width * scale, f.height * scale));
        g.setPen(QPen(c.wine, 2));
        g.setBrush(c.panel);
        g.drawRect(shown);
        bool differs = f.width != f.display_width() || f.height != f.display_height();
        if (differs) {
            g.setBrush(Qt::NoBrush);
            g.setPen(QPen(c.teal, 2, Qt::DashLine));
            g.drawRect(coded);
        }
        g.setFont(look::tabular(look::Size::small));
        auto x = std::max(shown.right(), differs ? coded.right() : 0.0) + 10;
        g.setPen(c.wine);
        g.drawLine(QPointF(x, 16), QPointF(x + 14, 16));
        g.setPen(c.ink);
        g.drawText(QRectF(x + 18, 8, 110, 32), Qt::AlignLeft | Qt::AlignTop, QString("shown\n%1 × %2").arg(f.display_width()).arg(f.display_height()));
        if (differs) {
            g.setPen(QPen(c.teal, 2, Qt::DashLine));
            g.drawLine(QPointF(x, 56), QPointF(x + 14, 56));
            g.setPen(c.ink);
            g.drawText(QRectF(x + 18, 48, 110, 32), Qt::AlignLeft | Qt::AlignTop, QString("coded\n%1 × %2").arg(f.width).arg(f.height));
        }
    }
};

FactsPanel::FactsPanel(Project& project, QWidget* parent) : QWidget(parent), project_(project), shape_(new Shape(this)), text_(new QTextBrowser(this)) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(16, 14, 16, 14);
    box->addWidget(shape_);
    box->addWidget(text_, 1);
    text_->setFrameShape(QFrame::NoFrame);
    text_->setAccessibleName("Facts of the chosen source");
    connect(&project_, &Project::changed, this, [this] { rebuild(); });
    connect(&project_, &Project::current_changed, this, [this] { rebuild(); });
    rebuild();
}

void FactsPanel::rebuild() {
    auto& sources = project_.document().sources;
    auto number = ++number_;
    if (project_.current() >= sources.size()) {
        shape_->format.reset();
        text_->setHtml("<p>Nothing is on the shelf yet. Drop clips anywhere in this window, or add them with the button above.</p>");
        return shape_->update();
    }
    auto source = sources[project_.current()];
    QThreadPool::globalInstance()->start([this_ = QPointer(this), path = resolve(source, project_.folder()), name = source.name, number] {
        auto facts = look_into(path);
        QMetaObject::invokeMethod(qApp, [this_, facts, name, number] {
            if (!this_ || number != this_->number_) return;
            this_->shape_->format = facts.video;
            this_->shape_->setVisible(facts.video.has_value());
            this_->shape_->update();
            this_->text_->setHtml(QString("<html><body style='color:%1; line-height:125%'><p style='font-size:20px; font-weight:600; margin:0'>%2</p>%3</body></html>").arg(look::colours().ink.name(), text(name).toHtmlEscaped(), facts.html));
        }, Qt::QueuedConnection);
    });
}

}  // namespace ruedo
