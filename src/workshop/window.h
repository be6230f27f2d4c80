// SPDX-License-Identifier: GPL-3.0-or-later
// The workshop's one window: the steps of work across the top, a composition for each.
#pragma once
#include <QLabel>
#include <QLineEdit>
#include <QMainWindow>
#include <QPushButton>
#include <QStackedWidget>

#include "view/screen_view.h"
#include "convert/jobs.h"
#include "workshop/known_clips.h"
#include "workshop/project.h"
#include "workshop/sentences.h"

namespace ruedo {

class Adding;
class LiveTranscodeSwitch;
class FactsPanel;
class MountView;
class PackPage;
class MomentPanel;
class PathChart;
class PathPanel;
class PreparePage;
class Ring;

class Shelf;
class StartPanel;

class WorkshopWindow : public QMainWindow {
  public:
    explicit WorkshopWindow(PlaybackHost& host);
    ~WorkshopWindow() override;
    Project& project() { return project_; }
    ScreenView& screen() { return *screen_; }
    /// The player that is selected, its ring and its path.
    PlayerView& player() { return screen_->player(project_.player()); }
    Ring& ring() { return *watch().ring; }
    PathChart& path() { return *watch().path; }
    PathPanel& panel() { return *watch().panel; }
    MomentPanel& moment() { return *moment_; }
    Sentences& sentences() { return *sentences_; }
    MountView& mount() { return *mount_; }
    PackPage& pack_page() { return *pack_; }
    PreparePage& prepare_page() { return *prepare_; }
    FactsPanel& facts() { return *facts_; }
    Shelf& shelf() { return *shelf_; }
    enum Step { gather, arrange, prepare, pack_step };
    void show_step(int step);
    /// Opens a project and says in place when that fails.
    bool open_project(const std::filesystem::path& path);
    /// Adds files, what folders hold, and addresses to the shelf, beside the window; says what could not be taken.
    void add_sources(const QStringList& paths);
    /// Whether the selected player's source is converted for the target as it goes.
    bool plays_through() const;
    void play_through(bool through);
    /// What Prepare makes of the chosen source, with one finding fixed where there is a code.
    void prepare_source(const std::string& finding = {});
    /// Asked before the window goes while conversions are under way; true to go all the same.
    std::function<bool(std::size_t unfinished)> ask_to_leave;

  protected:
    void dragEnterEvent(QDragEnterEvent*) override;
    void dropEvent(QDropEvent*) override;
    void closeEvent(QCloseEvent*) override;

  private:
    QWidget* make_top();
    QWidget* make_gather();
    QWidget* make_arrange();
    void make_menu(QPushButton* button);
    QMenu* make_add_menu();
    /// `widget`, or what can be done while there is no source, in one place.
    QWidget* or_start(QWidget* widget);
    void paste();
    void choose_folder();
    /// What of a player's life is shown.
    struct Watch {
        Ring* ring = nullptr;
        PathPanel* panel = nullptr;
        PathChart* path = nullptr;
        void forget() const;
    };
    Watch& watch() { return watch_of(player()); }
    Watch& watch_of(PlayerView& player);
    void call(machine::Input call);
    void show_moment(PlayerView& player, std::optional<Time> wall);
    void show_selected();
    void load(std::optional<std::size_t> source);
    std::optional<Sentences::Remark> remark();
    std::string playing_source() const;
    void job_over(const Job& job);
    void follow_selected();
    void follow();
    void say(const QString& html);
    void save();
    void save_as();
    void choose_sources();
    void take_sources(const QStringList& files, const QHash<QString, QStringList>& captions);
    void show_progress();
    void show_keys();
    Project project_;
    std::shared_ptr<KnownClips> clips_ = std::make_shared<KnownClips>();
    PlaybackHost& host_;
    std::unique_ptr<LiveTranscodeSwitch> through_;
    ScreenView* screen_;
    MountView* mount_;
    Sentences* sentences_ = nullptr;
    QStackedWidget *rings_, *paths_, *trays_;
    MomentPanel* moment_;
    std::map<PlayerView*, Watch> watches_;
    Shelf* shelf_;
    FactsPanel* facts_;
    PreparePage* prepare_;
    PackPage* pack_;
    QStackedWidget* pages_;
    bool empty_ = true;  ///< The project had no sources when it was looked at last.
    QList<QPushButton*> steps_;
    QLabel *title_, *notice_, *progress_;
    QPushButton *target_, *stop_adding_;
    QLineEdit* entry_;
    Adding* adding_;
    int looking_ = 0;
    std::string shown_target_;
    QTimer follow_, notice_timer_;
};

}  // namespace ruedo
