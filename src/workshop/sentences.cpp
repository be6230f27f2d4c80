// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/sentences.h"

#include <QApplication>
#include <QClipboard>
#include <QDoubleSpinBox>
#include <QFileDialog>
#include <QLabel>
#include <QMenu>
#include <QPushButton>
#include <QRegularExpression>
#include <QWidgetAction>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "view/look.h"
#include "workshop/document_text.h"

namespace ruedo {
namespace {
constexpr int readable = 380;  ///< Pixels wide, for sentences as for lines of text.
}  // namespace

Sentences::Sentences(Project& project, std::shared_ptr<KnownClips> clips, QWidget* parent)
    : QWidget(parent), project_(project), clips_(std::move(clips)) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(6);
    search_ = new QLineEdit(this);
    search_->setPlaceholderText("Search the sentences …");
    search_->setAccessibleName("Search in the sentences");
    search_->setClearButtonEnabled(true);
    text_ = new QTextBrowser(this);
    text_->setOpenLinks(false);
    text_->setFrameShape(QFrame::NoFrame);
    text_->setAccessibleName("The player in sentences");
    text_->setContextMenuPolicy(Qt::CustomContextMenu);
    findings_ = new QTextBrowser(this);
    findings_->setFrameShape(QFrame::NoFrame);
    findings_->setAccessibleName("Findings");
    findings_->setFocusPolicy(Qt::TabFocus);
    text_button_ = new QPushButton("as text");
    text_button_->setObjectName("small");
    text_button_->setCheckable(true);
    text_button_->setToolTip("Edit the document as text beside the sentences");
    connect(text_button_, &QPushButton::toggled, this, [this](bool on) { show_text(on); });
    auto* head = new QHBoxLayout;
    head->addWidget(search_, 1), head->addWidget(text_button_);
    box->addLayout(head);
    pair_ = new QBoxLayout(QBoxLayout::TopToBottom);
    pair_->addWidget(text_, 1000);
    box->addLayout(pair_, 1000);
    box->addWidget(findings_, 1);
    text_->setMinimumHeight(60), findings_->setMinimumHeight(60);
    findings_->setOpenLinks(false);
    connect(findings_, &QTextBrowser::anchorClicked, this, [this](const QUrl& url) {
        auto finding = static_cast<std::size_t>(url.path().toULong());
        if (url.scheme() == "press" && remarked_ && finding < remarked_->presses.size())
            return std::function(remarked_->presses[finding].second)();
        if (url.scheme() == "prepare") return prepare();
        url.scheme() == "mend" ? fix(finding) : url.scheme() == "at" ? show_place(finding) : point(finding);
    });
    connect(search_, &QLineEdit::textChanged, this, [this] { rebuild(); });
    connect(text_, &QTextBrowser::anchorClicked, this,
            [this](const QUrl& url) { press(QUrl::fromPercentEncoding(url.toEncoded())); });
    connect(text_, &QWidget::customContextMenuRequested, this, [this](QPoint at) {
        auto link = QUrl::fromPercentEncoding(text_->anchorAt(at).toUtf8());
        auto told = this->told();
        auto* word = told.find(link.section(':', 1));
        if (!word) return;
        QMenu menu;
        menu.addAction(QString("Copy its JSON pointer: %1").arg(word->path),
                       [path = word->path] { QApplication::clipboard()->setText(path); });
        menu.exec(text_->mapToGlobal(at));
    });
    // A word that the pointer or the keyboard is on has its member marked.
    connect(text_, &QTextBrowser::highlighted, this, [this](const QUrl& url) {
        if (!as_text_ || !as_text_->isVisible()) return;
        auto link = QUrl::fromPercentEncoding(url.toEncoded());
        auto all = told();
        if (auto* word = all.find(link.section(':', 1))) as_text_->mark(word->path);
    });
    contrast_.setSingleShot(true);
    connect(&contrast_, &QTimer::timeout, this, [this] { look_at_contrast(); });
    for (auto signal : {&Project::changed, &Project::current_changed, &Project::selected_changed})
        connect(&project_, signal, this, [this] { rebuild(); });
    rebuild();
}

SentencePage Sentences::told() const {
    return describe(project_.document(), {project_.current(), project_.player(), project_.selected()},
                    [this](const std::string& file) { return project_.file_for(file); });
}

QStringList Sentences::keys() const {
    QStringList list;
    for (auto& w : told().words) list << w.key;
    return list;
}

QStringList Sentences::values(const QString& key) const {
    QStringList list;
    auto told = this->told();
    if (auto* w = told.find(key)) {
        for (auto& c : w->options) list << c.value;
        if (w->range) list << QString::number(w->range->low) << QString::number(w->range->high);
    }
    return list;
}

bool Sentences::set_value(const QString& key, const QString& value, QString* problem) {
    auto told = this->told();
    auto* word = told.find(key);
    if (!word) return false;
    auto d = project_.document();
    auto player = project_.player();
    auto who = project_.spec().name;
    auto* selected = project_.spec().control(project_.selected());
    auto at = selected ? selected - project_.spec().controls.data() : 0;
    if (auto wrong = word->set(d, value)) {
        if (problem) *problem = *wrong;
        return false;
    }
    // A control that was renamed with its kind stays selected, and so does a player that was moved.
    auto moved = std::find_if(d.players.begin(), d.players.end(), [&](auto& p) { return p.name == who; });
    if (moved != d.players.end()) player = static_cast<std::size_t>(moved - d.players.begin());
    player = std::min(player, d.players.size() - 1);
    bool same_place = selected && d.player(player).controls.size() == project_.spec().controls.size();
    auto name = same_place ? d.player(player).controls[static_cast<std::size_t>(at)].name : std::string();
    bool renamed = same_place && key == "kind";

    project_.change(d,
                    selected && word->path.startsWith(QString("/players/%1/controls/").arg(project_.player()))
                        ? QString("%1 of %2").arg(word->what, text(selected->name))
                        : word->what,
                    player);
    if (renamed) project_.select(name);
    return true;
}

/// What a document says where a member is missing is its default.
bool Sentences::reset(const QString& key) {
    auto told = this->told();
    auto* word = told.find(key);
    if (!word || !word->changed) return false;
    auto j = to_json(project_.document());
    nlohmann::json::json_pointer at(word->path.toStdString());
    if (!j.contains(at)) return false;
    j.at(at.parent_pointer()).erase(at.back());
    auto without = document_from_json(j, "");
    if (!without) return false;
    project_.change(*without, word->what + " to its default");
    return true;
}

QString Sentences::wrong(const QString& key) const {
    auto told = this->told();
    auto* word = told.find(key);
    return word ? wrong(*word) : QString();
}
QString Sentences::wrong(const Word& word) const {
    for (auto& f : found_)
        if (f.code.starts_with("never-") && text(f.where) == word.path) return text(f.sentence);
    return {};
}

void Sentences::press(const QString& link) {
    auto what = link.section(':', 0, 0), rest = link.section(':', 1);
    if (what == "select") {
        project_.select(rest.toStdString());
    } else if (what == "player") {
        project_.select_player(rest.toULong());
    } else if (what == "unfold") {
        unfolded_.insert(rest);
        rebuild();
    } else if (what == "leave") {
        project_.select({});
    } else {
        choose(rest);
    }
}

QString Sentences::html() const {
    auto& c = look::colours();
    auto told = this->told();
    auto link = [&](const QString& to, const QString& title, const QColor& colour, const QString& words) {
        return QString("<a href=\"%1\" title=\"%2\" style=\"color:%3; text-decoration:underline;\">%4</a>")
            .arg(QString::fromLatin1(QUrl::toPercentEncoding(to, ":")), title.toHtmlEscaped(), colour.name(),
                 words.toHtmlEscaped());
    };
    auto word = [&](const QString& key) -> std::optional<QString> {
        auto* w = told.find(key);
        if (!w) return std::nullopt;
        auto never = wrong(*w);
        auto title = !never.isEmpty() ? never
                     : !w->changed    ? QString("This is the default")
                                      : QString("By default: %1").arg(w->fallback);
        auto html = link("word:" + key, title, never.isEmpty() ? c.wine : c.rust, w->shown);
        if (!never.isEmpty()) html += QString("<span style=\"color:%1\">&nbsp;⊖</span>").arg(c.rust.name());
        if (w->changed) html += QString("<span style=\"color:%1\">&nbsp;•</span>").arg(c.ochre.name());
        return html;
    };
    auto& player = project_.spec();
    auto& players = project_.document().players;
    // Words in braces, controls in brackets and players between < and > become what can be pressed.
    auto sentence = [&](const QString& plain) {
        static const QRegularExpression opening("[{\\[<]");
        QString html;
        for (qsizetype at = 0; at < plain.size();) {
            auto open = plain.indexOf(opening, at);
            html += plain.mid(at, open < 0 ? -1 : open - at).toHtmlEscaped();
            if (open < 0) break;
            auto kind = plain[open];
            auto close = plain.indexOf(kind == '{' ? '}' : kind == '[' ? ']' : '>', open);
            auto name = plain.mid(open + 1, close - open - 1);
            std::optional<QString> made;
            if (close > 0 && kind == '{') made = word(name);
            if (close > 0 && kind == '[' && player.control(name.toStdString()))
                made = link("select:" + name, "Select", c.teal, name);
            for (std::size_t i = 0; close > 0 && kind == '<' && i < players.size(); ++i)
                if (text(players[i].name) == name)
                    made = i == project_.player() ? "<b>" + name.toHtmlEscaped() + "</b>"
                                                  : link(QString("player:%1").arg(i), "Select", c.teal, name);
            html += made ? *made : QString(plain[open]).toHtmlEscaped();
            at = made ? close + 1 : open + 1;
        }
        return html;
    };
    auto sought = search_->text().trimmed();
    QString body = QString("<html><body style=\"color:%1; line-height:130%;\">").arg(c.ink.name());
    bool control_told = player.control(project_.selected()) != nullptr;
    for (auto& p : told.paragraphs) {
        // What is seldom changed takes no room before it is asked for.
        bool as_usual = p.id == "host" && std::none_of(told.words.begin(), told.words.end(), [](auto& w) {
                            return w.changed && (w.key.startsWith("host ") || w.key == "remembers");
                        });
        bool folded =
            (as_usual || (control_told && p.id != "control")) && !unfolded_.contains(p.id) && sought.isEmpty();
        QStringList said;
        for (auto& s : p.told) {
            auto html = sentence(s);
            if (sought.isEmpty()) {
                said << html;
                continue;
            }
            QTextDocument plain;
            plain.setHtml(html);
            if (plain.toPlainText().contains(sought, Qt::CaseInsensitive)) said << html;
        }
        if (said.isEmpty()) continue;
        auto heading = p.heading.toHtmlEscaped();
        if (p.id == "control")
            heading += QString(" <span style=\"font-size:13px; font-weight:400;\">%1</span>")
                           .arg(link("leave:", "Back to the whole player", c.teal, "done"));
        if (folded) heading = link("unfold:" + p.id, "Tell it", c.ink, p.heading);
        body += QString("<p style=\"font-size:%1px; font-weight:600; margin:0 0 3px 0;\">%2</p>")
                    .arg(folded ? "14" : "18", heading);
        if (!folded) body += QString("<p style=\"margin:0 0 8px 0\">%1</p>").arg(said.join(' '));
    }
    return body + "</body></html>";
}

QString Sentences::plain_text() const { return text_->toPlainText(); }
void Sentences::search(const QString& words) { search_->setText(words); }

void Sentences::show_told() {
    if (auto now = html(); now != told_) told_ = now, text_->setHtml(now);
}

void Sentences::rebuild() {
    if (project_.selected().empty()) std::erase_if(unfolded_, [](auto& id) { return id != "host"; });
    show_told();
    if (as_text_) {
        auto& controls = project_.spec().controls;
        auto* control = project_.spec().control(project_.selected());
        if (control)
            as_text_->mark(QString("/players/%1/controls/%2").arg(project_.player()).arg(control - controls.data()));
    }
    share_room();
    review_now();
    contrast_.start(200);  // once hands are still
}

void Sentences::show_text(bool shown) {
    if (shown && !as_text_) {
        as_text_ = new DocumentText(project_);
        pair_->addWidget(as_text_, 1000);
        as_text_->setMinimumHeight(60);
    }
    if (!as_text_) return;
    text_button_->setChecked(shown);
    as_text_->setVisible(shown);
    share_room();
}

/// The sentences take as much as they need, as far as there is room; the findings have the
/// rest, and up to two fifths. The text stands beside them where both can be read, else below, in place of the
/// findings.
void Sentences::share_room() {
    bool text_shown = as_text_ && as_text_->isVisibleTo(this);
    bool beside = text_shown && width() >= 2 * readable;
    auto direction = beside ? QBoxLayout::LeftToRight : QBoxLayout::TopToBottom;
    if (pair_->direction() != direction) pair_->setDirection(direction);
    findings_->setVisible(!text_shown || beside);
    auto wanted = static_cast<int>(text_->document()->size().height()) + 6;

    auto found =
        std::clamp(static_cast<int>(findings_->document()->size().height()) + 6, 70, std::max(70, height() * 2 / 5));
    auto most = std::max(60, text_shown && !beside ? height() * 45 / 100 : height() - search_->height() - 12 - found);
    text_->setMaximumHeight(beside ? QWIDGETSIZE_MAX : std::clamp(wanted, 60, most));
}
void Sentences::resizeEvent(QResizeEvent* e) {
    QWidget::resizeEvent(e);
    share_room();
}

void Sentences::choose(const QString& key) {
    auto told = this->told();
    auto* w = told.find(key);
    if (!w) return;
    auto at = text_->mapToGlobal(text_->cursorRect().bottomLeft() + QPoint(0, 6));
    if (text_->underMouse()) at = QCursor::pos() + QPoint(4, 10);
    auto* menu = new QMenu(this);
    menu->setAttribute(Qt::WA_DeleteOnClose);
    if (w->changed && !w->fallback.isEmpty()) {
        menu->addAction(look::literal("By default: " + w->fallback), this, [this, key] { reset(key); });
        menu->addSeparator();
    }
    for (auto& option : w->options) {
        auto* action = menu->addAction(look::literal(option.label), this, [this, key, value = option.value] {
            if (value != "file") {
                set_value(key, value);
                return;
            }
            auto file = QFileDialog::getOpenFileName(this, "A poster", text(project_.folder().string()),
                                                     "Pictures (*.png *.jpg *.jpeg);;All files (*)");
            if (!file.isEmpty()) set_value(key, file);
        });
        action->setCheckable(true);
        action->setChecked(option.value == w->now);
        if (action->isChecked()) menu->setActiveAction(action);
    }
    auto add_panel = [&](const QString& title, QWidget* field) {
        if (!menu->isEmpty()) menu->addSeparator();
        auto* holder = new QWidgetAction(menu);
        auto* panel = new QWidget;
        auto* box = new QVBoxLayout(panel);
        auto* heading = new look::Label(title);
        heading->setWordWrap(true);
        box->addWidget(heading);
        field->setAccessibleName(title);
        box->addWidget(field);
        auto* wrong = new look::Label;
        wrong->setObjectName("problem");
        wrong->setWordWrap(true);
        wrong->hide();
        box->addWidget(wrong);
        panel->setMinimumWidth(280);
        holder->setDefaultWidget(panel);
        menu->addAction(holder);
        if (w->options.empty()) QTimer::singleShot(0, field, [field] { field->setFocus(); });
        return wrong;
    };
    if (w->range) {
        auto* spin = new QDoubleSpinBox;
        spin->setRange(w->range->low, w->range->high);
        spin->setDecimals(w->range->decimals);
        spin->setSuffix(w->range->unit);
        spin->setValue(w->range->now);
        spin->setKeyboardTracking(false);
        add_panel(w->range->title, spin);
        connect(spin, &QDoubleSpinBox::valueChanged, this,
                [this, key](double v) { set_value(key, QString::number(v)); });
    }
    if (!w->typed.isEmpty()) {
        auto* field = new QLineEdit(w->now);
        auto* wrong = add_panel(w->typed, field);
        connect(field, &QLineEdit::returnPressed, menu, [this, key, field, wrong, menu] {
            QString problem;
            if (set_value(key, field->text(), &problem)) return menu->close(), void();
            wrong->setText(problem);
            wrong->show();
            menu->adjustSize();
        });
    }
    menu->popup(at);
}

}  // namespace ruedo
