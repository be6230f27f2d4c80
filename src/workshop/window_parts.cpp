// SPDX-License-Identifier: GPL-3.0-or-later
// How the window is put together: its top, its pages, its menus.
#include "workshop/window.h"

#include <QAction>
#include <QApplication>
#include <QClipboard>
#include <QDir>
#include <QFileDialog>
#include <QHBoxLayout>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QMessageBox>
#include <QMimeData>
#include <QProcess>
#include <QPushButton>
#include <QScreen>
#include <QShortcut>
#include <QUrl>

#include "view/look.h"
#include "capture/camera.h"
#include "workshop/adding.h"
#include "workshop/arranging.h"
#include "workshop/facts.h"
#include "workshop/mount.h"
#include "workshop/pack_page.h"
#include "workshop/moment.h"
#include "workshop/path_panel.h"
#include "workshop/playthrough.h"
#include "workshop/prepare_page.h"
#include "workshop/ring.h"
#include "workshop/sentences.h"
#include "workshop/shelf.h"
#include "workshop/start_panel.h"

namespace ruedo {

namespace {

QString style_sheet() {
    auto& c = look::colours();
    return QString(
               "QPushButton{background:%2;color:%4;border:1px solid %3;padding:5px 14px;min-height:20px;}"
               "QPushButton:hover{border-color:%5;} QPushButton:focus{border:2px solid %8;padding:4px 13px;}"
               "QPushButton:disabled{color:%5;border-color:%3;}"
               "QPushButton#primary{background:%6;color:%7;border-color:%6;font-weight:600;padding:8px 26px;}"
               "QPushButton#small{padding:3px 8px;} QPushButton#small:focus{padding:2px 7px;}"
               "QPushButton#step{background:transparent;border:none;border-bottom:3px solid transparent;padding:10px "
               "14px 7px 14px;font-size:14px;color:%5;}"
               "QPushButton#step:checked{color:%4;border-bottom-color:%6;}"
               "QPushButton#step:focus{border:none;border-bottom:3px solid %8;padding:10px 14px 7px 14px;}"
               "QLineEdit{background:%1;color:%4;border:1px solid %3;padding:5px;} QLineEdit:focus{border-color:%8;}"
               "QTextBrowser,QScrollArea{background:transparent;}"
               "QPushButton:checked{border-color:%6;color:%6;} QFrame#templates{background:%1;border:1px solid %3;}"
               "QMenu{background:%2;color:%4;border:1px solid %3;} QMenu::item:selected{background:%6;color:%7;}"
               "QToolTip{background:%2;color:%4;border:1px solid %3;}"
               "QProgressBar{background:%2;border:1px solid %3;height:8px;} QProgressBar::chunk{background:%6;}")
        .arg(c.ground.name(), c.panel.name(), c.line.name(), c.ink.name(), c.soft.name(), c.wine.name(),
             c.on_wine.name(), c.ochre.name());
}

QFrame* line(bool upright) {
    auto* l = new QFrame;
    l->setStyleSheet(QString("background:%1;").arg(look::colours().line.name()));
    if (upright)
        l->setFixedWidth(1);
    else
        l->setFixedHeight(1);
    return l;
}
}  // namespace

WorkshopWindow::WorkshopWindow(PlaybackHost& host)
    : host_(host), through_(std::make_unique<LiveTranscodeSwitch>(host)) {
    setWindowTitle("Ruedo");
    setStyleSheet(style_sheet());
    setAcceptDrops(true);
    // No larger than there is room for; what a window's frame takes is not known before it is there.
    auto room = QGuiApplication::primaryScreen() ? QGuiApplication::primaryScreen()->availableSize() : QSize(1280, 800);
    resize(QSize(1280, 800).boundedTo(room));
    screen_ = new ScreenView(host_);
    auto* whole = new QWidget;
    auto* box = new QVBoxLayout(whole);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(0);
    pages_ = new QStackedWidget;
    box->addWidget(make_top());
    box->addWidget(line(false));
    notice_ = new QLabel;
    notice_->setTextFormat(Qt::RichText);
    notice_->setContentsMargins(20, 8, 20, 8);
    notice_->setWordWrap(true);
    connect(notice_, &QLabel::linkActivated, this, [this](const QString& link) {
        notice_->hide();
        add_sources({QUrl::fromPercentEncoding(link.toUtf8())});
    });
    notice_->setStyleSheet(QString("background:%1; border-left:6px solid %2;")
                               .arg(look::colours().panel.name(), look::colours().rust.name()));
    notice_->hide();
    box->addWidget(notice_);
    box->addWidget(pages_, 1);
    pages_->addWidget(make_gather());
    pages_->addWidget(make_arrange());
    prepare_ = new PreparePage(project_, host_);
    prepare_->on_plays = [this] {
        // One of them is heard.
        for (std::size_t i = 0; i < screen_->count(); ++i)
            if (auto& c = screen_->player(i).controller(); c.snapshot().state.intent == Intent::play) c.pause();
    };
    prepare_->on_shelve = [this](const QString& file) { take_sources({file}, {}); };
    prepare_->on_over = [this](const Job& job) { job_over(job); };
    pages_->addWidget(prepare_);
    facts_->on_fix = [this](const std::string& finding) { prepare_source(finding); };
    sentences_->remark = [this] { return remark(); };
    sentences_->prepare = [this] { show_step(prepare), prepare_->show_shelf(true); };
    ask_to_leave = [this](std::size_t unfinished) {
        QMessageBox ask(
            QMessageBox::NoIcon, "Ruedo",
            unfinished == 1
                ? QString("One conversion is unfinished. It restarts the next time Ruedo opens.")
                : QString("%1 conversions are unfinished. They continue the next time Ruedo opens.").arg(unfinished),
            QMessageBox::NoButton, this);
        auto* leave = ask.addButton("Leave anyway", QMessageBox::DestructiveRole);
        ask.addButton("Stay", QMessageBox::RejectRole);
        ask.exec();
        return ask.clickedButton() == leave;
    };
    pack_ = new PackPage(project_, clips_);
    pack_->on_fix = [this](std::size_t source, const std::string& finding) {
        project_.set_current(source);
        prepare_source(finding);
    };
    pages_->addWidget(pack_);
    setCentralWidget(whole);

    connect(&project_, &Project::opened, this, [this] {
        screen_->reopen();
        // What is empty begins with its sources, and what is not with its player.
        bool empty = project_.document().sources.empty();
        if (empty || empty_) show_step(empty ? gather : arrange);
        empty_ = empty;
    });
    connect(&project_, &Project::changed_on_disk, this, [this](bool taken_over) {
        say(taken_over
                ? "The project was changed on disk by someone else, and that was taken over. Undo brings back what "
                  "was here."
                : "The project was changed on disk by someone else. Yours stays as it is; when you save it, theirs "
                  "is kept beside it.");
    });
    connect(&project_, &Project::theirs_kept, this, [this](const QString& file) {
        say(QString("What someone else had saved is kept as “%1”.").arg(file.toHtmlEscaped()));
    });
    connect(&project_, &Project::copy_misplaced, this, [this](const QString& why, const QString& instead) {
        say((why + (instead.isEmpty() ? " What is not saved is kept nowhere: save it elsewhere."
                                      : QString(" What is not saved is kept as “%1”.").arg(instead)))
                .toHtmlEscaped());
    });
    connect(&project_, &Project::changed, this, [this] { load({}); });
    connect(&project_, &Project::current_changed, this, [this] { load(project_.current()); });
    connect(&project_, &Project::selected_changed, this, [this] {
        if (screen_->active() == project_.player()) return;
        screen_->set_active(project_.player());
        show_selected();
        follow_selected();
    });
    screen_->on_active = [this](std::size_t player) { project_.select_player(player), show_selected(); };
    screen_->on_event = [this](std::size_t player, const Event& e) {
        auto& watch = watch_of(screen_->player(player));
        watch.ring->note(e), watch.path->note(e);
        // For the keyframes on the path.
        if (e.name == "opened") screen_->player(player).controller().list_frames();
    };
    screen_->on_renewed = [this](PlayerView& player) { watch_of(player).forget(); };
    screen_->on_turned = [this](std::size_t player, std::size_t) {
        // The player went on by itself: the workshop follows it, and opens nothing anew.
        watch_of(screen_->player(player)).forget();
        if (player == project_.player()) follow_selected();
    };
    screen_->on_removed = [this](PlayerView& player) {
        auto& watch = watch_of(player);
        watch.ring->deleteLater(), watch.panel->deleteLater();
        watches_.erase(&player);
    };
    connect(&follow_, &QTimer::timeout, this, [this] { follow(); });
    follow_.start(50);
    notice_timer_.setSingleShot(true);
    connect(&notice_timer_, &QTimer::timeout, notice_, &QWidget::hide);
    for (int i = 0; i < 4; ++i) {
        // The steps keep their numbers in the order of work; those in between are not there yet.
        int number = i == pack_step ? 6 : i + 1;
        connect(new QShortcut(QKeySequence(QString("Ctrl+%1").arg(number)), this), &QShortcut::activated, this,
                [this, i] { show_step(i); });
    }
    connect(new QShortcut(QKeySequence(Qt::Key_F1), this), &QShortcut::activated, this, [this] { show_keys(); });
    connect(new QShortcut(QKeySequence::Paste, this), &QShortcut::activated, this, [this] { paste(); });
    load({});
    show_step(gather);
}

QWidget* WorkshopWindow::or_start(QWidget* widget) {
    auto* both = new QStackedWidget;
    auto* start = new StartPanel(make_add_menu());
    both->addWidget(start), both->addWidget(widget);
    connect(start, &StartPanel::files, this, [this] { choose_sources(); });
    connect(start, &StartPanel::folder, this, [this] { choose_folder(); });
    connect(start, &StartPanel::pasted, this, [this] { paste(); });
    connect(start, &StartPanel::project, this, [this](const QString& path) { open_project(path.toStdString()); });
    auto choose = [this, both] { both->setCurrentIndex(project_.document().sources.empty() ? 0 : 1); };
    connect(&project_, &Project::changed, both, choose);
    choose();
    return both;
}

WorkshopWindow::~WorkshopWindow() {
    // What is being typed is taken over while there is something to take it.
    if (auto* typed = focusWidget()) typed->clearFocus();
    screen_->on_event = {}, screen_->on_turned = {}, screen_->on_active = {}, screen_->on_removed = {};
    follow_.stop();
}

QWidget* WorkshopWindow::make_top() {
    auto* top = new QWidget;
    auto* row = new QHBoxLayout(top);
    row->setContentsMargins(12, 0, 12, 0);
    row->setSpacing(2);
    for (int i = 0; i < 4; ++i) {
        auto* b = new QPushButton(QStringList{"Gather", "Arrange", "Prepare", "Pack"}[i]);
        b->setObjectName("step");
        b->setCheckable(true);
        b->setAutoExclusive(true);
        b->setCursor(Qt::PointingHandCursor);
        connect(b, &QPushButton::clicked, this, [this, i] { show_step(i); });
        steps_ << b;
        row->addWidget(b);
    }
    row->addStretch(1);
    title_ = new look::Label;
    title_->setStyleSheet(QString("color:%1;").arg(look::colours().soft.name()));
    row->addWidget(title_);
    row->addSpacing(14);
    target_ = new QPushButton;
    target_->setAccessibleName("Target that sources are checked against");
    auto* targets = new QMenu(this);
    connect(targets, &QMenu::aboutToShow, this, [this, targets] {
        targets->clear();
        std::vector<Error> problems;
        for (auto& t : all_targets(&problems)) {
            auto* a = targets->addAction(look::literal(text(t.title)), this, [this, name = t.name] {
                auto d = project_.document();
                d.target = name;
                project_.change(d, "Target");
            });
            a->setCheckable(true);
            a->setChecked(t.name == project_.document().target);
            a->setToolTip(text(t.about));
        }
        if (!problems.empty())
            say(text(problems.front().sentence).toHtmlEscaped() + " " + text(problems.front().hint).toHtmlEscaped());
    });
    targets->setToolTipsVisible(true);
    target_->setMenu(targets);
    row->addWidget(target_);
    auto* menu = new QPushButton("Project");
    row->addSpacing(10);
    row->addWidget(menu);
    make_menu(menu);
    return top;
}

void WorkshopWindow::make_menu(QPushButton* button) {
    auto* menu = new QMenu(this);
    auto add = [&](const QString& label, const QKeySequence& keys, auto run) {
        auto* a = menu->addAction(label);
        a->setShortcut(keys);
        connect(a, &QAction::triggered, this, run);
        addAction(a);
        return a;
    };
    add("New", QKeySequence::New, [this] { project_.start_new(); });
    add("Another window", QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_N), [this] {
        QStringList with;
        if (!project_.path().empty()) with << QString::fromStdString(project_.path().string());
        if (!QProcess::startDetached(QString::fromStdString(executable_path().string()), with))
            say("Another window could not be opened.");
    });
    add("Open …", QKeySequence::Open, [this] {
        auto name =
            QFileDialog::getOpenFileName(this, "Open a project", QString::fromStdString(project_.folder().string()),
                                         "Ruedo projects (*.ruedo);;All files (*)");
        if (!name.isEmpty()) open_project(name.toStdString());
    });
    auto* recent = menu->addMenu("Recent");
    connect(recent, &QMenu::aboutToShow, this, [this, recent] {
        recent->clear();
        for (auto& name : Project::recent())
            recent->addAction(look::literal(name), this, [this, name] { open_project(name.toStdString()); });
        if (recent->isEmpty()) recent->addAction("None yet")->setEnabled(false);
    });
    menu->addSeparator();
    add("Save", QKeySequence::Save, [this] { save(); });
    add("Save as …", QKeySequence(Qt::CTRL | Qt::SHIFT | Qt::Key_S), [this] { save_as(); });
    menu->addSeparator();
    add("Add sources …", QKeySequence(Qt::CTRL | Qt::Key_I), [this] { choose_sources(); });
    menu->addSeparator();
    auto* undo = add("Undo", QKeySequence::Undo, [this] { project_.undo(); });
    auto* redo = add("Redo", QKeySequence::Redo, [this] { project_.redo(); });
    menu->addSeparator();
    menu->addAction("Keys", this, [this] { show_keys(); });
    auto name_them = [this, undo, redo] {
        undo->setEnabled(project_.can_undo());
        redo->setEnabled(project_.can_redo());
        undo->setText(project_.can_undo() ? look::literal("Undo: " + project_.undo_text()) : QString("Undo"));
        redo->setText(project_.can_redo() ? look::literal("Redo: " + project_.redo_text()) : QString("Redo"));
    };
    connect(&project_, &Project::changed, this, name_them);
    name_them();
    button->setMenu(menu);
}

/// Files, folders, and the cameras that are connected just now.
QMenu* WorkshopWindow::make_add_menu() {
    auto* menu = new QMenu(this);
    auto fill = [this, menu] {
        auto cameras = list_cameras();
        QStringList now;
        for (auto& c : cameras) now << text(c.id);
        if (menu->property("cameras") == QVariant(now) && !menu->isEmpty()) return;
        menu->setProperty("cameras", now);
        menu->clear();
        for (auto* old : menu->findChildren<QMenu*>(Qt::FindDirectChildrenOnly)) old->deleteLater();
        menu->addAction("Files …", this, [this] { choose_sources(); });
        menu->addAction("A folder …", this, [this] { choose_folder(); });
        menu->addSeparator();
        if (cameras.empty()) menu->addAction("No camera is connected")->setEnabled(false);
        for (auto& c : cameras) {
            auto* modes = menu->addMenu(look::literal(text(c.name)));
            for (auto& m : c.modes)
                modes->addAction(QString("%1 × %2, %3 a second%4")
                                     .arg(m.width)
                                     .arg(m.height)
                                     .arg(static_cast<double>(m.rate.num) / static_cast<double>(m.rate.den), 0, 'g', 4)
                                     .arg(m.codec == Codec::mjpeg ? ", MJPEG" : ""),
                                 this,
                                 [this, c, m] { take_sources({text("camera://" + c.id + "?mode=" + m.name())}, {}); });
        }
    };
    // While it is open it follows what is plugged in and pulled out.
    auto* again = new QTimer(menu);
    connect(again, &QTimer::timeout, menu, fill);
    connect(menu, &QMenu::aboutToShow, menu,
            [again, menu, fill] { menu->setProperty("cameras", {}), fill(), again->start(1000); });
    connect(menu, &QMenu::aboutToHide, again, &QTimer::stop);
    return menu;
}

QWidget* WorkshopWindow::make_gather() {
    auto* page = new QWidget;
    auto* row = new QHBoxLayout(page);
    row->setContentsMargins(0, 0, 0, 0);
    row->setSpacing(0);
    auto* left = new QVBoxLayout;
    auto* head = new QHBoxLayout;
    head->setContentsMargins(14, 12, 14, 0);
    head->setSpacing(8);
    auto* add = new QPushButton("Add …");
    add->setMenu(make_add_menu());
    auto* remove = new QPushButton("Remove");
    connect(remove, &QPushButton::clicked, this, [this] {
        auto d = project_.document();
        if (project_.current() >= d.sources.size()) return;
        auto at = project_.current();
        remove_source(d, at);
        project_.change(d, "Removing a source");
        project_.set_current(std::min(at, d.sources.empty() ? 0 : d.sources.size() - 1));
    });
    auto enable = [this, remove] { remove->setEnabled(!project_.document().sources.empty()); };
    connect(&project_, &Project::changed, this, enable);
    enable();
    entry_ = new QLineEdit;
    entry_->setPlaceholderText("or a path or address, then Return");
    entry_->setAccessibleName("Path or address of a source to add");
    entry_->setMinimumWidth(170);
    connect(entry_, &QLineEdit::returnPressed, this, [this] {
        auto typed = entry_->text().trimmed();
        if (typed.isEmpty()) return;
        if (typed.startsWith("~/")) typed = QDir::homePath() + typed.mid(1);
        bool plain = !is_address(typed.toStdString()) && QFileInfo(typed).isRelative();
        add_sources({plain ? QString::fromStdString((project_.folder() / typed.toStdString()).string()) : typed});
        entry_->clear();
    });
    progress_ = new look::Label;
    progress_->setStyleSheet(QString("color:%1;").arg(look::colours().soft.name()));
    stop_adding_ = new QPushButton("Stop");
    stop_adding_->hide();
    adding_ = new Adding(this);
    connect(stop_adding_, &QPushButton::clicked, adding_, [this] { adding_->stop(); });
    connect(adding_, &Adding::progressed, this,
            [this](int looked) { adding_->setProperty("looked", looked), show_progress(); });
    connect(adding_, &Adding::done, this, [this] { show_progress(); });
    connect(adding_, &Adding::found, this,
            [this](const QStringList& files, const QHash<QString, QStringList>& captions) {
                take_sources(files, captions);
            });
    connect(adding_, &Adding::refused, this, [this](const QList<Adding::Refusal>& refusals) {
        QStringList lines;
        for (auto& r : refusals.mid(0, 3)) {
            auto line = (r.sentence + " " + r.hint).toHtmlEscaped();
            if (!r.instead.isEmpty())
                line += QString(" <a href='%1'>Add “%2” instead</a>")
                            .arg(QString(QUrl::toPercentEncoding(r.instead)),
                                 QFileInfo(r.instead).fileName().toHtmlEscaped());
            lines << line;
        }
        if (refusals.size() > 3) lines << QString("And %1 more like these.").arg(refusals.size() - 3);
        say(lines.join("<br>"));
    });
    head->addWidget(add), head->addWidget(entry_, 1), head->addWidget(remove);
    auto* beside = new QHBoxLayout;
    beside->setContentsMargins(16, 4, 14, 0);
    beside->addWidget(progress_), beside->addWidget(stop_adding_), beside->addStretch(1);
    shelf_ = new Shelf(project_);
    connect(shelf_, &Shelf::progressed, this, [this](int waiting) { looking_ = waiting, show_progress(); });
    connect(shelf_, &Shelf::looked_into, this, [this](const std::string& place) {
        if (place == playing_source()) sentences_->describe_findings();
        facts_->take_poster(place, shelf_->poster_of(place));
    });
    connect(shelf_, &Shelf::activated, this, [this] { load(project_.current()); });
    left->addLayout(head);
    left->addLayout(beside);
    left->addWidget(or_start(shelf_), 1);
    facts_ = new FactsPanel(project_);
    connect(&project_, &Project::current_changed, facts_, [this] {
        auto& d = project_.document();
        if (project_.current() >= d.sources.size()) return;
        auto place = resolve(d.sources[project_.current()], project_.folder());
        facts_->take_poster(place, shelf_->poster_of(place));
    });
    row->addLayout(left, 13);
    row->addWidget(line(true));
    row->addWidget(facts_, 9);
    return page;
}

QWidget* WorkshopWindow::make_arrange() {
    auto* page = new QWidget;
    auto* box = new QVBoxLayout(page);
    box->setContentsMargins(0, 0, 0, 0);
    box->setSpacing(0);
    auto* upper = new QHBoxLayout;
    upper->setSpacing(0);
    mount_ = new MountView(screen_, project_);
    sentences_ = new Sentences(project_, clips_);
    auto* holder = new QWidget;
    auto* inner = new QVBoxLayout(holder);
    inner->setContentsMargins(20, 10, 16, 8);
    inner->addWidget(sentences_);
    upper->addWidget(or_start(mount_), 12);
    upper->addWidget(line(true));
    upper->addWidget(holder, 9);
    auto* lower = new QHBoxLayout;
    lower->setSpacing(0);
    rings_ = new QStackedWidget;
    paths_ = new QStackedWidget;
    rings_->setMinimumWidth(380), rings_->setMaximumWidth(420);
    lower->addWidget(rings_, 42);
    lower->addWidget(line(true));
    auto* tray = new Tray(mount_->layer(), [this] { mount_->set_arranging(true); });
    moment_ = new MomentPanel;
    moment_->on_back = [this] { watch().path->point(std::nullopt); };
    trays_ = new QStackedWidget;
    trays_->setMinimumWidth(210), trays_->setMaximumWidth(290);
    trays_->addWidget(tray), trays_->addWidget(moment_);
    lower->addWidget(trays_, 29);
    show_selected();
    lower->addWidget(line(true));
    lower->addWidget(paths_, 56);
    box->addLayout(upper, 100);
    box->addWidget(line(false));
    box->addLayout(lower, 52);
    return page;
}

}  // namespace ruedo
