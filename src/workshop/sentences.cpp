// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/sentences.h"

#include <QApplication>
#include <QClipboard>
#include <QDialog>
#include <QDoubleSpinBox>
#include <QFileDialog>
#include <QLabel>
#include <QMenu>
#include <QPointer>
#include <QPushButton>
#include <QVBoxLayout>
#include <QWidgetAction>
#include <nlohmann/json.hpp>

#include "view/look.h"

namespace ruedo {
namespace {

/// A word for one group of the bar: which sets of controls it can hold, the usual one first. Controls that none of them
/// speaks of stay where they are.
struct BarWord {
    QString key;
    std::vector<Control> ruedo::Bar::* group;
    struct Set {
        QString value;
        std::vector<Control> controls;
    };
    std::vector<Set> choices;

    bool speaks_of(Control control) const {
        return std::any_of(choices.begin(), choices.end(), [&](auto& set) {
            return std::find(set.controls.begin(), set.controls.end(), control) != set.controls.end();
        });
    }
    std::vector<Control> of(const ruedo::Bar& bar) const {
        std::vector<Control> now;
        std::copy_if((bar.*group).begin(), (bar.*group).end(), std::back_inserter(now),
                     [&](auto c) { return speaks_of(c); });
        return now;
    }
    bool put(ruedo::Bar& bar, const QString& value) const {
        auto set = std::find_if(choices.begin(), choices.end(), [&](auto& c) { return c.value == value; });
        if (set == choices.end()) return false;
        auto& all = bar.*group;
        auto at = std::find_if(all.begin(), all.end(), [&](auto c) { return speaks_of(c); }) - all.begin();
        std::erase_if(all, [&](auto c) { return speaks_of(c); });
        all.insert(all.begin() + std::min(at, std::ssize(all)), set->controls.begin(), set->controls.end());
        return true;
    }
};
const std::vector<BarWord>& bar_words() {
    using enum Control;
    static const std::vector<BarWord> rows{
        {"bar-start",
         &ruedo::Bar::start,
         {{"all", {toggle, back, forward}}, {"turns", {previous, toggle, next}}, {"toggle", {toggle}}}},
        {"bar-middle", &ruedo::Bar::middle, {{"position", {position}}, {"strip", {position, strip}}}},
        {"bar-end",
         &ruedo::Bar::end,
         {{"both", {volume, full_screen}}, {"volume", {volume}}, {"full-screen", {full_screen}}, {"none", {}}}}};
    return rows;
}
const BarWord* find_bar_word(const QString& key) {
    auto& rows = bar_words();
    auto it = std::find_if(rows.begin(), rows.end(), [&](auto& r) { return r.key == key; });
    return it == rows.end() ? nullptr : &*it;
}

}  // namespace

Sentences::Sentences(Project& project, std::shared_ptr<KnownClips> clips, QWidget* parent)
    : QWidget(parent), project_(project), clips_(std::move(clips)) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(8);
    text_ = new QTextBrowser(this);
    text_->setOpenLinks(false);
    text_->setFrameShape(QFrame::NoFrame);
    text_->setAccessibleName("The player in sentences");
    text_->setContextMenuPolicy(Qt::CustomContextMenu);
    findings_ = new QTextBrowser(this);
    findings_->setFrameShape(QFrame::NoFrame);
    findings_->setAccessibleName("Findings");
    findings_->setFocusPolicy(Qt::TabFocus);
    box->addWidget(text_);
    box->addWidget(findings_, 1);
    connect(text_, &QTextBrowser::anchorClicked, this, [this](const QUrl& url) { choose(url.toString()); });
    connect(text_, &QWidget::customContextMenuRequested, this, [this](QPoint at) {
        auto key = text_->anchorAt(at);
        if (key.isEmpty()) return;
        QMenu menu;
        for (auto& w : words())
            if (w.key == key)
                menu.addAction(QString("Copy its place in the document: %1").arg(w.path),
                               [path = w.path] { QApplication::clipboard()->setText(path); });
        menu.exec(text_->mapToGlobal(at));
    });
    review_.setSingleShot(true);
    connect(&review_, &QTimer::timeout, this, [this] { review_later(); });
    connect(&project_, &Project::changed, this, [this] { rebuild(); });
    connect(&project_, &Project::current_changed, this, [this] { rebuild(); });
    rebuild();
}

std::vector<Sentences::Word> Sentences::words() const {
    auto& d = project_.document();
    std::vector<Word> list;
    auto seconds = [](Time t) {
        return t.seconds() == 1 ? QString("1 second") : QString("%1 seconds").arg(t.seconds());
    };
    auto word = [&](QString key, QString path, QString shown, QString fallback, bool changed,
                    std::vector<Choice> choices) {
        Word w;
        w.key = key, w.path = path, w.shown = shown, w.fallback = fallback, w.changed = changed,
        w.choices = std::move(choices);
        list.push_back(std::move(w));
    };
    auto number = [&](QString key, QString path, QString shown, QString fallback, bool changed, double now, double low,
                      double high, QString unit, QString title) {
        word(key, path, shown, fallback, changed, {});
        list.back().range = {low, high};
        list.back().number = now;
        list.back().unit = unit;
        list.back().title = title;
    };
    if (project_.current() < d.sources.size()) {
        auto& s = d.sources[project_.current()];
        auto at = QString("/sources/%1/").arg(project_.current());
        QString start = s.start.how == Start::How::hold   ? "on its first frame, held"
                        : s.start.how == Start::How::play ? "playing, as soon as it can"
                                                          : QString("playing, after %1").arg(seconds(s.start.delay));
        word("start", at + "start", start, "on its first frame, held", s.start.how != Start::How::hold,
             {{"hold", "on its first frame, held"},
              {"play", "playing, as soon as it can"},
              {"delay", "playing, after a delay …"}});
        QString loop = s.loop.kind == Loop::Kind::none  ? "holds its last frame"
                       : s.loop.kind == Loop::Kind::all ? "starts over"
                                                        : QString("goes from %1 back to %2")
                                                              .arg(QString::fromStdString(format_time(s.loop.to)),
                                                                   QString::fromStdString(format_time(s.loop.from)));
        word("loop", at + "loop", loop, "holds its last frame", s.loop.kind != Loop::Kind::none,
             {{"none", "holds its last frame"}, {"all", "starts over"}});
        static const QStringList fits{"shown whole", "made to cover its place", "stretched to fill its place",
                                      "left at its own size"};
        std::vector<Choice> fit_choices;
        for (int i = 0; i < 4; ++i)
            fit_choices.push_back({QString::fromUtf8(fit_name(static_cast<Fit>(i))),
                                   QString("%1 (%2)").arg(fits[i], QString::fromUtf8(fit_name(static_cast<Fit>(i))))});
        word("fit", at + "fit", fits[static_cast<int>(s.fit)], "shown whole", s.fit != Fit::contain,
             std::move(fit_choices));
        auto place = [](double v, const char* low, const char* mid, const char* high) {
            return QString(v < 0.25 ? low : v > 0.75 ? high : mid);
        };
        auto aligned =
            s.align_x == 0.5 && s.align_y == 0.5
                ? QString("in the middle")
                : QString("to the %1")
                      .arg((place(s.align_y, "top", "", "bottom") + " " + place(s.align_x, "left", "", "right"))
                               .simplified());
        std::vector<Choice> aligns;
        for (double y : {0.0, 0.5, 1.0})
            for (double x : {0.0, 0.5, 1.0})
                aligns.push_back(
                    {QString("%1 %2").arg(x).arg(y),
                     x == 0.5 && y == 0.5
                         ? QString("in the middle")
                         : "to the " +
                               (place(y, "top", "", "bottom") + " " + place(x, "left", "", "right")).simplified()});
        std::vector<Choice> languages;
        for (auto tag : {"en", "de", "fr", "es", "it", "nl", "pt", "sv"})
            languages.push_back({tag, text(language_title(tag))});
        auto named = [&](const std::string& tag) { return text(language_title(tag)); };
        auto captions = languages, sounds = languages;
        captions.insert(captions.begin(), {"", "without captions"});
        sounds.insert(sounds.begin(), {"", "its default sound"});
        word("captions", at + "text_language",
             s.text_language.empty() ? QString("without captions") : "captions in " + named(s.text_language),
             "without captions", !s.text_language.empty(), std::move(captions));
        word("sound", at + "sound_language",
             s.sound_language.empty() ? QString("its default sound") : "sound in " + named(s.sound_language),
             "its default sound", !s.sound_language.empty(), std::move(sounds));
        word("poster", at + "poster",
             s.poster.empty() ? QString("its first frame") : text(std::filesystem::path(s.poster).filename().string()),
             "its first frame", !s.poster.empty(), {{"", "its first frame"}, {"file", "a picture …"}});
        word("align", at + "align", aligned, "in the middle", s.align_x != 0.5 || s.align_y != 0.5, std::move(aligns));
    }
    static const QStringList mounts{"a window", "a handset, upright", "a handset, sideways"};
    word("mount", "/mount", mounts[static_cast<int>(d.mount)], mounts[0], d.mount != Mount::window,
         {{"window", mounts[0]}, {"handset-upright", mounts[1]}, {"handset-sideways", mounts[2]}});
    static const std::vector<Choice> surrounds{{"#17131A", "night (#17131A)"},
                                               {"#000000", "black (#000000)"},
                                               {"#8A2436", "wine (#8A2436)"},
                                               {"#F7F1E5", "sand (#F7F1E5)"}};
    auto colour = QString::fromStdString(d.surround);
    auto named = colour;
    for (auto& c : surrounds)
        if (c.value.compare(colour, Qt::CaseInsensitive) == 0) named = c.label.section(' ', 0, 0);
    word("surround", "/player/surround", named, "night", d.surround != "#17131A", surrounds);
    number("volume", "/player/volume", QString("%1 %").arg(qRound(d.volume * 100)), "100 %", d.volume != 1,
           d.volume * 100, 0, 100, " %", "The volume it begins with");
    number("skip", "/player/skip_ns", seconds(d.skip), "10 seconds", d.skip != 10_s, d.skip.seconds(), 1, 120, " s",
           "What back and forward skip");
    number("hide", "/player/hide_after_ns", seconds(d.hide_after), "3 seconds", d.hide_after != 3_s,
           d.hide_after.seconds(), 1, 30, " s", "How long the controls stay");
    static const QStringList queues{"stays at its end", "goes on to the next source", "begins the same source again",
                                    "goes on to the next, and round again"};
    std::vector<Choice> queue_choices;
    for (int i = 0; i < 4; ++i) queue_choices.push_back({text(queue_name(static_cast<Queue>(i))), queues[i]});
    word("queue", "/player/queue", queues[static_cast<int>(d.queue)], queues[0], d.queue != Queue::off,
         std::move(queue_choices));
    for (auto& row : bar_words()) {
        std::vector<Choice> choices;
        for (auto& c : row.choices) choices.push_back({c.value, text(spoken(c.controls))});
        auto fallback = choices[0].label;
        auto now = row.of(d.bar);
        word(row.key, QString("/player/bar/%1").arg(row.key.section('-', 1)), text(spoken(now)), fallback,
             now != row.choices[0].controls, std::move(choices));
    }
    return list;
}

QStringList Sentences::keys() const {
    QStringList list;
    for (auto& w : words()) list << w.key;
    return list;
}

QStringList Sentences::values(const QString& key) const {
    QStringList list;
    for (auto& w : words()) {
        if (w.key != key) continue;
        for (auto& c : w.choices) list << (c.value == "delay" ? QString("2.5") : c.value);
        if (w.range) list << QString::number(w.range->first) << QString::number(w.range->second);
    }
    return list;
}

bool Sentences::set_value(const QString& key, const QString& value) {
    auto d = project_.document();
    auto* s = project_.current() < d.sources.size() ? &d.sources[project_.current()] : nullptr;
    bool number_fine = false;
    double n = value.toDouble(&number_fine);
    auto ns = [&] { return Time{static_cast<std::int64_t>(n * 1e9)}; };
    QString what;
    if (key == "start" && s) {
        what = "Start";
        if (value == "hold")
            s->start = {};
        else if (value == "play")
            s->start = {Start::How::play, {}};
        else if (number_fine && n >= 0)
            s->start = {Start::How::delay, ns()};
        else
            return false;
    } else if (key == "loop" && s) {
        what = "Loop";
        s->loop = {value == "all" ? Loop::Kind::all : Loop::Kind::none, {}, {}};
    } else if (key == "fit" && s) {
        auto fit = fit_from_name(value.toStdString());
        if (!fit) return false;
        what = "Fit", s->fit = *fit;
    } else if (key == "align" && s) {
        what = "Alignment";
        s->align_x = value.section(' ', 0, 0).toDouble(), s->align_y = value.section(' ', 1, 1).toDouble();
    } else if ((key == "captions" || key == "sound") && s) {
        what = key == "captions" ? "Captions" : "Language of the sound";
        (key == "captions" ? s->text_language : s->sound_language) = value.toStdString();
    } else if (key == "poster" && s) {
        what = "Poster", s->poster = value.isEmpty() ? std::string() : project_.file_for(value.toStdString());
    } else if (key == "queue") {
        for (int i = 0; i < 4; ++i)
            if (value == text(queue_name(static_cast<Queue>(i)))) what = "Queue", d.queue = static_cast<Queue>(i);
        if (what.isEmpty()) return false;
    } else if (key == "mount") {
        what = "Mount";
        d.mount = value == "window"            ? Mount::window
                  : value == "handset-upright" ? Mount::handset_upright
                                               : Mount::handset_sideways;
    } else if (key == "surround" && QColor::isValidColor(value)) {
        what = "Surround", d.surround = value.toStdString();
    } else if (key == "volume" && number_fine) {
        what = "Volume", d.volume = std::clamp(n / 100, 0.0, 1.0);
    } else if (key == "skip" && number_fine && n >= 1) {
        what = "Skip", d.skip = ns();
    } else if (key == "hide" && number_fine && n >= 1) {
        what = "Hiding", d.hide_after = ns();
    } else if (auto* row = find_bar_word(key); row && row->put(d.bar, value)) {
        what = "Controls";
    } else {
        return false;
    }
    project_.change(d, what);
    return true;
}

QString Sentences::html() const {
    auto& c = look::colours();
    auto list = words();
    auto w = [&](const char* key) {
        for (auto& word : list)
            if (word.key == key)
                return QString("<a href=\"%1\" title=\"%2\" style=\"color:%3; text-decoration:underline;\">%4</a>%5")
                    .arg(word.key,
                         word.changed ? QString("By default: %1").arg(word.fallback.toHtmlEscaped())
                                      : QString("This is the default"),
                         c.wine.name(), word.shown.toHtmlEscaped(),
                         word.changed ? QString("<span style=\"color:%1\">&nbsp;•</span>").arg(c.ochre.name())
                                      : QString());
        return QString();
    };
    QString body = QString("<html><body style=\"color:%1; line-height:135%;\">").arg(c.ink.name());
    auto& d = project_.document();
    if (project_.current() < d.sources.size()) {
        body += QString("<p style=\"font-size:20px; font-weight:600; margin:0 0 4px 0;\">%1</p>")
                    .arg(QString::fromStdString(d.sources[project_.current()].name).toHtmlEscaped());
        body +=
            QString("<p style=\"margin:0 0 6px 0\">This source starts %1, with %3 and %4, and at the end it %2.</p>")
                .arg(w("start"), w("loop"), w("sound"), w("captions"));
        body += QString(
                    "<p style=\"margin:0 0 6px 0\">Before it is started it shows %4. Its picture is %1, %2, and what "
                    "it leaves free is %3.</p>")
                    .arg(w("fit"), w("align"), w("surround"), w("poster"));
    } else {
        body += "<p>There is no source yet. Drop a clip anywhere in this window.</p>";
    }
    body += QString("<p style=\"font-size:20px; font-weight:600; margin:8px 0 4px 0;\">%1</p>")
                .arg(QString::fromStdString(d.app_name).toHtmlEscaped());
    body += QString(
                "<p style=\"margin:0 0 6px 0\">The player is seen in %1. Its volume begins at %2. When a source ends, "
                "it %3.</p>")
                .arg(w("mount"), w("volume"), w("queue"));
    body += QString(
                "<p style=\"margin:0 0 6px 0\">The bar holds %1 at its start, %4 in the middle, and %2 at its end. "
                "Back and forward skip %3.</p>")
                .arg(w("bar-start"), w("bar-end"), w("skip"), w("bar-middle"));
    body += QString("<p style=\"margin:0 0 6px 0\">While it plays, the controls hide %1 after the pointer rests.</p>")
                .arg(w("hide"));
    return body + "</body></html>";
}

QString Sentences::plain_text() const { return text_->toPlainText(); }

void Sentences::rebuild() {
    text_->setHtml(html());
    share_room();
    review_.start(200);
}

/// The sentences take as much as they need, up to three quarters; the findings have the rest.
void Sentences::share_room() {
    auto wanted = static_cast<int>(text_->document()->size().height()) + 6;
    text_->setFixedHeight(std::clamp(wanted, 60, std::max(60, height() * 3 / 4)));
}
void Sentences::resizeEvent(QResizeEvent* e) {
    QWidget::resizeEvent(e);
    share_room();
}

void Sentences::choose(const QString& key) {
    for (auto& w : words()) {
        if (w.key != key) continue;
        auto at = text_->mapToGlobal(text_->cursorRect().bottomLeft() + QPoint(0, 6));
        if (text_->underMouse()) at = QCursor::pos() + QPoint(4, 10);
        auto* menu = new QMenu(this);
        menu->setAttribute(Qt::WA_DeleteOnClose);
        auto add_number = [&](double now, double low, double high, const QString& unit, const QString& title) {
            auto* holder = new QWidgetAction(menu);
            auto* panel = new QWidget;
            auto* box = new QVBoxLayout(panel);
            box->addWidget(new QLabel(title));
            auto* spin = new QDoubleSpinBox;
            spin->setRange(low, high);
            spin->setDecimals(unit == " %" ? 0 : 1);
            spin->setSuffix(unit);
            spin->setValue(now);
            spin->setAccessibleName(title);
            spin->setKeyboardTracking(false);
            box->addWidget(spin);
            holder->setDefaultWidget(panel);
            menu->addAction(holder);
            connect(spin, &QDoubleSpinBox::valueChanged, this,
                    [this, key](double v) { set_value(key, QString::number(v)); });
            QTimer::singleShot(0, spin, [spin] { spin->setFocus(), spin->selectAll(); });
        };
        if (w.range) add_number(w.number, w.range->first, w.range->second, w.unit, w.title);
        for (auto& choice : w.choices) {
            if (choice.value == "delay") {
                auto now = project_.document().sources[project_.current()].start.delay.seconds();
                menu->addSeparator();
                add_number(now > 0 ? now : 0, 0, 60, " s", "Playing, after");
                continue;
            }
            auto* action = menu->addAction(choice.label, this, [this, key, value = choice.value] {
                if (key != "poster" || value.isEmpty()) {
                    set_value(key, value);
                    return;
                }
                auto file =
                    QFileDialog::getOpenFileName(this, "A poster", QString::fromStdString(project_.folder().string()),
                                                 "Pictures (*.png *.jpg *.jpeg);;All files (*)");
                if (!file.isEmpty()) set_value(key, file);
            });
            action->setCheckable(true);
            action->setChecked(choice.label == w.shown || choice.label.startsWith(w.shown + " ("));
            if (action->isChecked()) menu->setActiveAction(action);
        }
        menu->popup(at);
        return;
    }
}

void Sentences::review_later() {
    auto about = to_json(project_.document()).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace) +
                 project_.folder().string();
    auto work = [document = project_.document(), folder = project_.folder(),
                 ask = clips_->asker()](const std::atomic<bool>&) { return review(document, folder, ask); };
    desk_.ask("review", std::move(about), std::move(work), [this](std::vector<DocumentFinding> found) {
        auto& c = look::colours();
        QString body =
            QString("<html><body style=\"color:%1;\"><p style=\"font-weight:600; margin:0 0 4px 0;\">Findings</p>")
                .arg(c.ink.name());
        if (found.empty()) body += "<p style=\"margin:0;\">Nothing stands in the way of this player.</p>";
        for (auto& f : found)
            body += QString(
                        "<p style=\"margin:4px 0;\"><span style=\"color:%1;\">⊖</span> %2 <span "
                        "style=\"color:%3;\">%4</span></p>")
                        .arg(c.rust.name(), QString::fromStdString(f.sentence).toHtmlEscaped(), c.soft.name(),
                             QString::fromStdString(f.why).toHtmlEscaped());
        findings_->setHtml(body + "</body></html>");
    });
}

}  // namespace ruedo
