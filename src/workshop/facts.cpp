// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/facts.h"

#include <QApplication>
#include <QPainter>
#include <QVBoxLayout>

#include "convert/mends.h"
#include "convert/targets.h"
#include "view/look.h"

namespace ruedo {
namespace {

QString paragraphs(const SourceFacts& f, const Verdict* verdict, const QString& target_title, bool listening) {
    auto& c = look::colours();
    auto escape = [](const std::string& s) { return text(s).toHtmlEscaped(); };
    auto mark = [&](bool good) {
        return QString("<span style='color:%1'>%2</span> ").arg((good ? c.moss : c.rust).name(), good ? "◉" : "⊖");
    };
    QString html = QString("<p>%1 %2</p>").arg(escape(f.first_sentence), escape(f.second_sentence));
    auto head = [](const QString& s) {
        return QString("<p style='font-weight:600; margin:10px 0 2px 0'>%1</p>").arg(s);
    };
    auto press = [&](std::string_view code, std::string_view words) {
        return QString(" <a href='mend:%1' style='color:%2'>%3</a>").arg(text(code), c.wine.name(), text(words));
    };
    auto line = [](const QString& s) { return QString("<p style='margin:4px 0'>%1</p>").arg(s); };
    if (verdict) {
        html += head(QString("For %1").arg(target_title.toHtmlEscaped()));
        bool converts =
            verdict->plays == Verdict::Plays::after_conversion && verdict->needs != std::vector<std::string>{"address"};
        html += line(mark(verdict->plays == Verdict::Plays::yes) + escape(verdict->sentence()) +
                     (converts ? press("", "See how it converts") : QString()));
        for (std::size_t i = 1; i < verdict->reasons.size(); ++i) html += line(escape(verdict->reasons[i]));
    }
    html += head("Findings");
    for (auto& x : f.findings) {
        auto* fix = recipe_fix_for(x.code);
        html += line(QString("%1%2 <span style='color:%4'>%3</span>%5")
                         .arg(mark(false), escape(x.sentence), escape(x.hint), c.soft.name(),
                              fix ? press(x.code, fix->words) : QString()));
    }
    if (f.findings.empty()) html += line("No findings.");
    html += head("Tracks");
    for (std::size_t i = 0; i < f.info.tracks.size(); ++i) {
        auto& t = f.info.tracks[i];
        auto& s = f.tracks[i];
        QString words = QString("<b>%1 %2</b>: %3")
                            .arg(text(kind_name(t.kind)))
                            .arg(t.id)
                            .arg(t.codec == Codec::unknown ? escape(t.codec_tag) : text(codec_title(t.codec)));
        if (!t.codec_string.empty()) words += QString(" (%1)").arg(text(t.codec_string));
        if (t.kind == Kind::video) words += QString(", %1 × %2").arg(t.video.width).arg(t.video.height);
        if (t.kind == Kind::video && !f.stream)
            words += QString(", %1 frames, %2 keyframes").arg(s.frame_count).arg(s.keyframe_times.size());
        if (t.kind == Kind::audio)
            words += QString(", %1 Hz, %2 channel%3")
                         .arg(t.audio.rate)
                         .arg(t.audio.channels)
                         .arg(t.audio.channels == 1 ? "" : "s");
        if (!t.language.empty()) words += QString(", language %1").arg(text(t.language));
        html += line(words + ".");
    }
    if (f.loudness) {
        auto& l = *f.loudness;
        html += line(QString("Loudness %1 LUFS over all, range %2 LU, highest sample %3 dB%4.")
                         .arg(l.integrated, 0, 'f', 1)
                         .arg(l.range, 0, 'f', 1)
                         .arg(l.peak, 0, 'f', 1)
                         .arg(l.samples_of ? QString(", heard in %1 stretches of 3 s").arg(l.samples_of) : QString()));
    } else if (listening) {
        html += line("Measuring the loudness …");
    }
    return html;
}
}  // namespace

/// Coded and shown shape, one over the other, to one scale.
class FactsPanel::Shape : public QWidget {
  public:
    explicit Shape(QWidget* parent) : QWidget(parent) {
        setFixedHeight(170), setAccessibleName("Shape of the picture");
    }
    std::optional<VideoFormat> format;
    QImage picture;

  protected:
    void paintEvent(QPaintEvent*) override {
        if (!format) return;
        auto& c = look::colours();
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        auto& f = *format;
        double scale = std::min((width() - 130.0) / std::max(f.width, f.display_width()),
                                (height() - 12.0) / std::max(f.height, f.display_height()));
        QPointF o(6, 6);
        QRectF shown(o, QSizeF(f.display_width() * scale, f.display_height() * scale));
        QRectF coded(o, QSizeF(f.width * scale, f.height * scale));
        g.setPen(QPen(c.wine, 2));
        g.setBrush(c.panel);
        if (!picture.isNull()) {
            g.setRenderHint(QPainter::SmoothPixmapTransform);
            g.drawImage(shown, picture);
            g.setBrush(Qt::NoBrush);
        }
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
        g.drawText(QRectF(x + 18, 8, 110, 32), Qt::AlignLeft | Qt::AlignTop,
                   QString("shown\n%1 × %2").arg(f.display_width()).arg(f.display_height()));
        if (differs) {
            g.setPen(QPen(c.teal, 2, Qt::DashLine));
            g.drawLine(QPointF(x, 56), QPointF(x + 14, 56));
            g.setPen(c.ink);
            g.drawText(QRectF(x + 18, 48, 110, 32), Qt::AlignLeft | Qt::AlignTop,
                       QString("coded\n%1 × %2").arg(f.width).arg(f.height));
        }
    }
};

FactsPanel::FactsPanel(Project& project, QWidget* parent)
    : QWidget(parent),
      project_(project),
      shape_(new Shape(this)),
      strip_(new StripChart(this)),
      ladder_(new LadderChart(this)),
      text_(new QTextBrowser(this)) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(16, 14, 16, 14);
    title_ = new look::Label(this);
    title_->setWordWrap(true);
    title_->setFont(look::font(look::Size::large, true));
    box->addWidget(title_);
    box->addWidget(shape_);
    box->addWidget(strip_);
    box->addWidget(ladder_);
    ladder_->hide();
    box->addWidget(text_, 1);
    text_->setFrameShape(QFrame::NoFrame);
    text_->setAccessibleName("Facts about the selected source");
    text_->setOpenLinks(false);
    connect(text_, &QTextBrowser::anchorClicked, this, [this](const QUrl& url) {
        if (on_fix) on_fix(url.path().toStdString());
    });
    connect(&project_, &Project::changed, this, [this] { rebuild(); });
    connect(&project_, &Project::current_changed, this, [this] { rebuild(); });
    rebuild();
}
void FactsPanel::describe(std::shared_ptr<const SourceFacts> facts, bool listening) {
    facts_ = std::move(facts);
    listening_ = listening;
    auto* video = facts_->info.main(Kind::video);
    shape_->format = video ? std::optional(video->video) : std::nullopt;
    shape_->setVisible(video != nullptr);
    shape_->update();
    strip_->show_facts(facts_);
    strip_->setVisible(!facts_->stream);
    ladder_->setVisible(facts_->stream.has_value());
    ladder_->show_stream(facts_->stream);
    std::optional<Verdict> verdict;
    auto target = find_target(project_.document().target);
    if (target) verdict = judge(*facts_, *target, CodecRegistry::standard(), source_);
    text_->setHtml(
        QString("<html><body style='color:%1; line-height:125%'>%2</body></html>")
            .arg(look::colours().ink.name(), paragraphs(*facts_, verdict ? &*verdict : nullptr,
                                                        target ? text(target->title) : QString(), listening)));
}

std::vector<std::string> FactsPanel::fixable() const {
    std::vector<std::string> list;
    if (facts_)
        for (auto& f : facts_->findings)
            if (recipe_fix_for(f.code)) list.push_back(f.code);
    return list;
}

void FactsPanel::say(const QString& html) {
    facts_.reset();
    shape_->format.reset();
    shape_->hide();
    strip_->show_facts(nullptr);
    strip_->show();
    ladder_->hide();
    text_->setHtml(QString("<html><body style='color:%1; line-height:125%'>%2</body></html>")
                       .arg(look::colours().ink.name(), html));
}

void FactsPanel::rebuild() {
    auto& sources = project_.document().sources;
    if (project_.current() >= sources.size()) {
        tasks_.forget_all();
        source_.clear();
        title_->setText("The shelf is empty");
        return say("<p>Drop clips, folders or addresses anywhere in this window, paste them, or add them above.</p>");
    }
    auto& spec = sources[project_.current()];
    title_->setText(text(spec.name));
    auto source = resolve(spec, project_.folder());
    if (source == source_) {
        if (facts_) describe(facts_, listening_);  // another target, perhaps
        return;
    }
    source_ = source;
    shape_->picture = {};
    say("<p>Analysing …</p>");
    auto work = [this, source](const BackgroundTasks::Question& question) -> Result<SourceFacts> {
        RUEDO_TRY(auto clip, open_clip(source));
        FactsOptions options;
        options.whole = false;
        options.cancel = &static_cast<const std::atomic<bool>&>(question);
        options.so_far = [&](const SourceFacts& f) {
            bool audio = f.info.main(Kind::audio) != nullptr;
            question.post([this, f = std::make_shared<const SourceFacts>(f), audio] { describe(f, audio); });
        };
        return gather_facts(std::shared_ptr<Clip>(std::move(clip)), CodecRegistry::standard(), source, options);
    };
    tasks_.ask("facts", source, std::move(work), [this](Result<SourceFacts> facts) {
        if (facts) return describe(std::make_shared<const SourceFacts>(std::move(*facts)), false);
        auto& e = facts.error();
        say(QString("<p><span style='color:%3'>⊖</span> %1</p><p style='color:%4'>%2</p>")
                .arg(text(e.sentence).toHtmlEscaped(), text(e.hint).toHtmlEscaped(), look::colours().rust.name(),
                     look::colours().soft.name()));
    });
}

void FactsPanel::take_poster(const std::string& source, const QImage& poster) {
    if (source != source_) return;
    shape_->picture = poster;
    shape_->update();
}

}  // namespace ruedo
