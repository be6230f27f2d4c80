// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/window.h"

#include <QApplication>
#include <QClipboard>
#include <QDir>
#include <QDragEnterEvent>
#include <QFileDialog>
#include <QLabel>
#include <QMessageBox>
#include <QMimeData>
#include <QPushButton>
#include <QUrl>

#include "view/look.h"
#include "capture/camera.h"
#include "workshop/adding.h"
#include "workshop/arranging.h"
#include "workshop/facts.h"
#include "workshop/mount.h"
#include "workshop/notice.h"
#include "workshop/pack_page.h"
#include "workshop/moment.h"
#include "workshop/path_panel.h"
#include "workshop/playthrough.h"
#include "workshop/prepare_page.h"
#include "workshop/ring.h"
#include "workshop/sentences.h"
#include "workshop/shelf.h"

namespace ruedo {
namespace fs = std::filesystem;
using machine::Input;

void WorkshopWindow::show_step(int step) {
    pages_->setCurrentIndex(step);
    steps_[step]->setChecked(true);
}

void WorkshopWindow::Watch::forget() const { ring->forget(), path->forget(); }

WorkshopWindow::Watch& WorkshopWindow::watch_of(PlayerView& player) {
    auto& watch = watches_[&player];
    if (watch.ring) return watch;
    watch = {new Ring, new PathPanel, nullptr};
    watch.path = &watch.panel->chart();
    watch.path->on_point = [this, p = &player](auto wall) { show_moment(*p, wall); };
    watch.ring->on_call = [this](Input input) { call(input); };
    watch.ring->on_seek = [p = &player](Time to) { p->controller().seek(to); };
    watch.ring->on_step = [p = &player](int by) { p->controller().step(by); };
    // The app is round all of its players.
    watch.ring->on_host = [this](std::string_view word) {
        screen_->host(word);
        follow();
    };
    rings_->addWidget(watch.ring), paths_->addWidget(watch.panel);
    return watch;
}
/// The ring and the path follow the selected player.
void WorkshopWindow::show_selected() {
    rings_->setCurrentWidget(watch().ring), paths_->setCurrentWidget(watch().panel);
    show_moment(player(), watch().path->pointed());
}

/// The world as it was: ring, calls, properties and pictures, until what is now is asked for again.
void WorkshopWindow::show_moment(PlayerView& of, std::optional<Time> wall) {
    auto it = watches_.find(&of);
    if (it == watches_.end() || !it->second.ring) return;
    auto& watch = it->second;
    auto& history = watch.path->history();
    auto* then = wall ? history.at(*wall) : nullptr;
    std::optional<Ring::Then> shown;
    if (then) {
        shown = Ring::Then{then->snapshot, then->life, of.born() + *wall, *wall, {}};
        auto last = Phase::empty;
        for (std::size_t i = 0, by = history.events_by(*wall); i < by; ++i)
            if (auto& e = history.events()[i]; e.name == "state")
                if (auto phase = Ring::phase_of(e.detail); phase && *phase != last)
                    shown->changes.emplace_back(last, *phase), last = *phase;
    }
    watch.ring->show_then(std::move(shown));
    if (&of != &player()) return;
    if (then) moment_->show_moment(history, *wall);
    trays_->setCurrentIndex(then ? 1 : 0);
}

/// A press on the ring's rim.
void WorkshopWindow::call(Input call) {
    auto& c = player().controller();
    switch (call) {
        case Input::open:
            player().reopen();
            return load(project_.current());
        case Input::play:
            return c.play();
        case Input::pause:
            return c.pause();
        case Input::stop:
            return c.stop();
        case Input::release:
            return c.release();
        default:
            return;
    }
}

/// Shows the document as it is; `source` is what the selected player is to turn to, if it plays that.
void WorkshopWindow::load(std::optional<std::size_t> source) {
    auto& d = project_.document();
    title_->setText(
        QString("%1%2").arg(QString::fromStdString(project_.path().empty() ? std::string("not saved yet")
                                                                           : project_.path().filename().string()),
                            project_.modified() ? ", changed" : ""));
    setWindowTitle(QString("%1 — Ruedo").arg(QString::fromStdString(d.app_name)));
    mount_->set_mount(d.mount, {d.mount_width, d.mount_height});
    if (shown_target_ != d.target) {
        shown_target_ = d.target;
        auto found = find_target(d.target);
        target_->setText(look::literal("for: " + (found ? text(found->title) : text(d.target) + " (not installed)")));
    }
    auto active = screen_->active();
    bool together = !screen_->player(active).loaded() || screen_->source_of(active) == project_.current();
    screen_->take(for_target(d, project_.folder()), project_.folder(), project_.player(), source);
    show_selected();
    if (together && !source) follow_selected();
    sentences_->describe_findings();
}
/// The source that is looked at is the one the selected player plays.
void WorkshopWindow::follow_selected() {
    if (auto plays = screen_->source_of(project_.player()); plays < project_.document().sources.size())
        project_.set_current(plays);
}

std::string WorkshopWindow::playing_source() const {
    auto& d = project_.document();
    auto plays = screen_->source_of(project_.player());
    return plays < d.sources.size() ? resolve(d.sources[plays], project_.folder()) : std::string();
}
bool WorkshopWindow::plays_through() const { return through_->on(playing_source(), project_.document().target); }
void WorkshopWindow::play_through(bool through) {
    auto target = find_target(project_.document().target);
    auto source = playing_source();
    if (source.empty() || !target) return;
    through_->set(source, through ? std::optional(*target) : std::nullopt);
    player().reopen();
    load(screen_->source_of(project_.player()));
    sentences_->describe_findings();
}
void WorkshopWindow::prepare_source(const std::string& finding) {
    show_step(prepare);
    prepare_->show_shelf(false);
    if (!finding.empty()) prepare_->fix(finding);
}

/// Whether the target takes what the selected player plays, and what can be done where it does not.
std::optional<Sentences::Remark> WorkshopWindow::remark() {
    auto& d = project_.document();
    auto plays = screen_->source_of(project_.player());
    auto target = find_target(d.target);
    if (plays >= d.sources.size() || !target) return std::nullopt;
    auto title = text(target->title);
    auto prepares = [this, plays] { project_.set_current(plays), prepare_source(); };
    if (for_target(d, project_.folder()).sources[plays].file != d.sources[plays].file)
        return Sentences::Remark{
            true, QString("This plays the conversion for %1.").arg(title), {{"See it in Prepare", prepares}}};
    auto verdict = shelf_->verdict_of(plays);
    if (!verdict || verdict->plays == Verdict::Plays::yes) return std::nullopt;
    if (plays_through())
        return Sentences::Remark{true,
                                 QString("It is converted for %1 while it plays.").arg(title),
                                 {{"Play the original", [this] { play_through(false); }}, {"Prepare it", prepares}}};
    auto sentence = QString("%1 does not take this source. %2")
                        .arg(title, verdict->reasons.empty() ? QString() : text(verdict->reasons.front()));
    if (verdict->plays == Verdict::Plays::no || verdict->needs == std::vector<std::string>{"address"})
        return Sentences::Remark{false, sentence, {}};
    return Sentences::Remark{
        false, sentence, {{"Play it converted", [this] { play_through(true); }}, {"Prepare it", prepares}}};
}

/// Notifies users who look elsewhere.
void WorkshopWindow::job_over(const Job& job) {
    if (isActiveWindow() && pages_->currentWidget() == prepare_) return;
    auto name = text(job.out.filename().string());
    auto heading = QString(job.state == Job::State::done ? "“%1” is ready" : "“%1” failed").arg(name);
    if (!isActiveWindow()) notify_desktop(heading, text(job.sentence));
    if (job.state == Job::State::failed) say((heading + ". " + text(job.sentence)).toHtmlEscaped());
}

void WorkshopWindow::follow() {
    for (std::size_t i = 0; i < screen_->count(); ++i) {
        auto& player = screen_->player(i);
        auto s = player.snapshot();
        auto& watch = watch_of(player);
        watch.ring->follow(s, monotonic_now());
        watch.ring->follow_host(player.session().life());
        auto wall = monotonic_now() - player.born();
        watch.path->sample(s, player.session().life(), wall);
        // Not oftener than one can tell apart: drawing it anew is not free.
        if (auto& history = watch.path->history(); pages_->currentIndex() == arrange && history.wants_picture(wall))
            history.add(small_frame(player), wall);
    }
}

/// `html`: with whatever is somebody else’s escaped.
void WorkshopWindow::say(const QString& html) {
    notice_->setText(html);
    notice_->show();
    notice_timer_.start(12000);
}

bool WorkshopWindow::open_project(const fs::path& path) {
    auto opened = project_.open(path);
    if (!opened)
        say((text(opened.error().sentence) + " " + text(opened.error().hint)).toHtmlEscaped());
    else if (project_.document().newer())
        say(QString("This project is of a newer format (%1). It can be looked at and played; saving it here would lose "
                    "what this Ruedo does not know.")
                .arg(project_.document().version));
    return opened.has_value();
}

void WorkshopWindow::paste() {
    auto* mime = QApplication::clipboard()->mimeData();
    QStringList list;
    for (auto& url : mime->urls()) list << (url.isLocalFile() ? url.toLocalFile() : url.toString());
    // Each line of a text is one source.
    if (list.isEmpty() && mime->hasText())
        for (auto& line : mime->text().split('\n', Qt::SkipEmptyParts)) list << line.trimmed();
    if (list.isEmpty())
        say("The clipboard holds no file, no path and no address.");
    else
        add_sources(list);
}
void WorkshopWindow::choose_folder() {
    auto folder = QFileDialog::getExistingDirectory(this, "Add a folder’s files",
                                                    QString::fromStdString(project_.folder().string()));
    if (!folder.isEmpty()) add_sources({folder});
}

void WorkshopWindow::add_sources(const QStringList& sources) {
    if (sources.size() == 1 && sources[0].endsWith(".ruedo")) {
        open_project(sources[0].toStdString());
        return;
    }
    adding_->add(sources);
    adding_->setProperty("looked", 0);
    show_progress();
}

namespace {
/// After the file, or after its folder where the file is called as every stream's list is.
QString called(const QFileInfo& file) {
    static const QStringList any{"index", "list", "main", "manifest", "master", "playlist", "stream"};
    bool list = file.suffix() == "m3u8" || file.suffix() == "mpd";
    auto name = file.completeBaseName();
    return list && any.contains(name) ? file.absoluteDir().dirName() : name;
}
}  // namespace

void WorkshopWindow::take_sources(const QStringList& files, const QHash<QString, QStringList>& captions) {
    auto d = project_.document();
    auto before = d.sources.size();
    for (auto& file : files) {
        SourceSpec s;
        bool address = is_address(file.toStdString());
        s.file = address ? file.toStdString() : project_.file_for(file.toStdString());
        s.name = called(QFileInfo(address ? QUrl(file).path() : file)).toStdString();
        for (auto& beside : captions.value(file)) s.captions.push_back(project_.file_for(beside.toStdString()));
        if (is_camera(s.file)) s.name = "Camera " + QUrl(file).host().toStdString();
        if (s.name.empty()) s.name = address ? QUrl(file).host().toStdString() : s.file;
        // Players name what they play, so each has a name of its own.
        auto taken = [&](const std::string& wanted) {
            return std::any_of(d.sources.begin(), d.sources.end(), [&](auto& other) { return other.name == wanted; });
        };
        for (auto [n, plain] = std::pair(2, s.name); taken(s.name); ++n) s.name = plain + " " + std::to_string(n);
        d.sources.push_back(std::move(s));
    }
    project_.change(d, files.size() == 1 ? QString("Adding a source") : QString("Adding %1 sources").arg(files.size()));
    // A player that is playing while it is put together goes on.
    bool playing = pages_->currentIndex() == arrange && player().snapshot().state.intent == Intent::play;
    if (!playing || before == 0) project_.set_current(before);
}

/// What is going on beside the window, with a way to stop it.
void WorkshopWindow::show_progress() {
    QString words;
    if (adding_->busy())
        words = QString("Looking through files, %1 so far").arg(adding_->property("looked").toInt());
    else if (looking_ > 1)
        words = QString("Analysing, %1 to go").arg(looking_);
    progress_->setText(words);
    stop_adding_->setVisible(adding_->busy());
}

void WorkshopWindow::choose_sources() {
    auto files = QFileDialog::getOpenFileNames(this, "Add sources", QString::fromStdString(project_.folder().string()),
                                               dialog_filter());
    if (!files.isEmpty()) add_sources(files);
}

void WorkshopWindow::save() {
    if (project_.path().empty()) return save_as();
    if (auto saved = project_.save(); !saved)
        say((text(saved.error().sentence) + " " + text(saved.error().hint)).toHtmlEscaped());
}
void WorkshopWindow::save_as() {
    auto name = QFileDialog::getSaveFileName(
        this, "Save the project",
        QString::fromStdString((project_.folder() / (file_stem(project_.document().app_name) + ".ruedo")).string()),
        "Ruedo projects (*.ruedo)");
    if (name.isEmpty()) return;
    if (!name.endsWith(".ruedo")) name += ".ruedo";
    if (auto saved = project_.save_as(name.toStdString()); !saved)
        say((text(saved.error().sentence) + " " + text(saved.error().hint)).toHtmlEscaped());
}

void WorkshopWindow::show_keys() {
    std::vector<std::pair<QString, QString>> keys;
    for (auto& k : player_keys()) keys.emplace_back(text(k.keys), text(k.meaning));
    for (auto [key, meaning] : {std::pair{"Esc", "leave full screen"},
                                {"Ctrl+1, 2, 3, 6", "Gather, Arrange, Prepare, Pack"},
                                {"Ctrl+I", "add sources"},
                                {"Ctrl+C on the path", "copy the visible stretch"},
                                {"Ctrl+Left, Right on it", "to the event before, after"},
                                {"Tab, arrows, Delete", "arranging: select, move, remove"},
                                {"Ctrl+C, X, V", "arranging: copy, cut, paste a control"},
                                {"Ctrl+Z, Ctrl+Shift+Z", "undo, redo"},
                                {"Ctrl+S, Ctrl+O, Ctrl+N", "save, open, new"}})
        keys.emplace_back(key, meaning);
    if (screen_->room())
        for (auto& k : RoomView::keys()) keys.emplace_back(text(k.keys), "in the room: " + text(k.meaning));
    QString table = "<table cellpadding='4'>";
    for (std::size_t i = 0; i < keys.size(); ++i)
        table += QString(i % 2 ? "<td>%1</td><td>%2</td></tr>" : "<tr><td>%1</td><td>%2</td>")
                     .arg(keys[i].first, keys[i].second);
    auto* panel = new QLabel(table + "</table>", this, Qt::Popup);
    panel->setAttribute(Qt::WA_DeleteOnClose);
    panel->setStyleSheet(QString("background:%1; border:1px solid %2; padding:10px;")
                             .arg(look::colours().panel.name(), look::colours().line.name()));
    panel->resize(panel->sizeHint());  // adjusting would keep it to two thirds of the screen
    panel->move(mapToGlobal(rect().center()) - panel->rect().center());
    panel->show();
}

void WorkshopWindow::dragEnterEvent(QDragEnterEvent* e) {
    if (e->mimeData()->hasUrls() || e->mimeData()->hasText()) e->acceptProposedAction();
}
void WorkshopWindow::dropEvent(QDropEvent* e) {
    QStringList list;
    for (auto& url : e->mimeData()->urls()) list << (url.isLocalFile() ? url.toLocalFile() : url.toString());
    if (list.isEmpty() && e->mimeData()->hasText()) list << e->mimeData()->text().trimmed();
    add_sources(list);
    e->acceptProposedAction();
}
void WorkshopWindow::closeEvent(QCloseEvent* e) {
    if (project_.modified() && isVisible() && !QApplication::platformName().contains("offscreen")) {
        QMessageBox ask(QMessageBox::NoIcon, "Ruedo", "This project has changes that are not saved.",
                        QMessageBox::NoButton, this);
        auto* keep = ask.addButton("Save", QMessageBox::AcceptRole);
        auto* drop = ask.addButton("Leave without saving", QMessageBox::DestructiveRole);
        ask.addButton("Stay", QMessageBox::RejectRole);
        ask.exec();
        if (ask.clickedButton() == keep)
            save();
        else if (ask.clickedButton() != drop)
            return e->ignore();
        if (ask.clickedButton() == keep && project_.modified()) return e->ignore();
    }
    if (auto unfinished = prepare_->cards().unfinished();
        unfinished && isVisible() && ask_to_leave && !ask_to_leave(unfinished))
        return e->ignore();
    project_.forget_recovery();
    e->accept();
}

}  // namespace ruedo
