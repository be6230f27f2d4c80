// SPDX-License-Identifier: Apache-2.0
// The player as one widget: picture, surround and controls, where the layout has them. The workshop and every packed
// app use this one.
#pragma once
#include <QPointer>
#include <QTimer>
#include <QWidget>

#include "player/session.h"
#include "view/captions.h"
#include "view/controls.h"
#include "view/desk.h"
#include "view/video_surface.h"
#include "view/player_sheet.h"

namespace ruedo {

/// What all players of a process share: the mixer and its strand.
struct PlaybackHost {
    explicit PlaybackHost(bool audio_device = true);
    std::shared_ptr<Strand> strand;
    Mixer mixer;
    /// How its players open their sources; as usual without.
    std::function<Result<std::unique_ptr<Clip>>(const std::string&)> open_clip{};
    StreamOptions stream{};  ///< How they open streams.
};

class PlayerView : public QWidget {
  public:
    explicit PlayerView(PlaybackHost& host, QWidget* parent = nullptr);
    ~PlayerView() override;
    /// Lays the player out and opens source `index` of `document`, whose files are looked for from `folder`.
    void load(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder);
    /// The same source, with what changed in the document taken over where that needs no restart.
    void apply(const PlayerDocument& document, std::size_t index);
    /// Either of the two: source `index` is opened where another one plays, or its file or start has changed. Beyond
    /// the sources there are, nothing is played.
    void take(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder);
    /// The next `take` opens in any case.
    void reopen() { loaded_ = false; }
    bool loaded() const { return loaded_; }
    /// After a release: a fresh controller in the same place.
    void renew();
    Time born() const { return session_->born(); }  ///< When the controller was made: its trace counts from there.
    /// The one that plays; with a queue another one takes its place now and then.
    Controller& controller() { return session_->controller(); }
    PlayerSession& session() { return *session_; }
    std::size_t index() const { return session_->index(); }
    Snapshot snapshot() const { return session_->snapshot(); }
    VideoSurface& surface() { return *surface_; }
    /// What it is seen in. A mount that is larger than the room for it is seen at a scale: everything is laid out for
    /// its own pixels, and drawn smaller. Without them it has the widget's size.
    void set_mount(Mount mount, QSize pixels = {});
    /// Kept clear of controls, in the mount's pixels, where that is not what the mount has: one of several in it.
    void set_clear(std::optional<QMargins> clear);
    double scale() const;
    MountShape mount_shape() const;
    /// From the mount's pixels to the widget's.
    QRect seen(const Box& box) const;
    /// Where everything stands now.
    const Layout& layout_now() const { return layout_; }
    /// The widget of a control, by its own name; nothing when there is none.
    QWidget* control_widget(std::string_view name) const;
    bool controls_shown() const;
    /// While the player is put together nothing hides.
    void set_arranging(bool arranging);
    /// Keys belong to the player that has the focus; those of the window's chief player to the whole window, but where
    /// another player in it has the focus.
    void take_keys_everywhere(bool taken = true);
    /// In an app of its own Space plays and pauses too. Where it is the only player (`alone`), full screen is the
    /// window's.
    void set_standalone(bool alone = true);
    void toggle_full_screen();
    bool in_full_screen() const { return session_->in_full_screen(); }
    std::function<void()> on_full_screen_left;
    std::function<void()> on_renewed;                  ///< Its controller is a fresh one.
    std::function<void()> on_leave;                    ///< By a control, or at the end.
    std::function<void()> on_laid_out;                 ///< Something stands elsewhere now.
    std::function<void(const Event&)> on_event;        ///< On the window's thread.
    std::function<void(std::size_t index)> on_turned;  ///< Another source plays, by the queue or a control.
    /// Something happened to the app round it (see player/host_life.h).
    void host(std::string_view word);
    /// Posters for the strip and for the next source.
    void set_poster(std::size_t index, const QImage& poster);
    std::vector<StripItem> strip_items() const;
    QImage poster_now() const;                          ///< What stands in front of the picture, if anything.
    int posters_made() const { return posters_made_; }  ///< Since the view was made.
    CaptionsLayer& captions() { return *captions_; }
    /// In a room the view is composed elsewhere: from the surface's frames and this sheet.
    PlayerSheet& sheet() { return sheet_; }
    /// Where a place of it is on the display then; by its own place without.
    std::function<QPoint(QPoint)> on_display;

  protected:
    void resizeEvent(QResizeEvent*) override;
    void childEvent(QChildEvent*) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

  private:
    class Plate;
    class Poster;
    void make_controls();
    void follow();
    void place(const ControlContext& context);
    void set_shown(QWidget& control, bool shown);
    void turned(std::size_t index);
    void find_posters();
    void fill_strips();
    void ask_still(std::optional<Time> at, std::function<void(const QImage&)> told);
    void forget_posters(const PlayerDocument& before, const std::filesystem::path& folder);
    void take_look();
    void wake();
    void add_action(const QKeySequence& keys, std::function<void()> run);
    bool someone_there() const;
    bool hangs() const { return mount_ == Mount::room && !in_full_screen(); }
    PlaybackHost& host_;
    VideoSurface* surface_;
    PlayerSheet sheet_;
    std::unique_ptr<PlayerSession> session_;
    CaptionsLayer* captions_;
    Poster* poster_;
    std::map<std::size_t, QImage> posters_;
    std::vector<ControlWidget> controls_;  ///< As the document has them.
    std::vector<Plate*> plates_;
    std::vector<MoreButton*> more_;
    QPointer<QWidget> had_focus_;  ///< A control that is hidden, until it is back.
    Layout layout_;
    QSize told_size_;  ///< At which the picture is seen, as this controller knows.
    const Controller* told_to_ = nullptr;
    Mount mount_ = Mount::window;
    QSize pixels_;  ///< Of the mount; the widget's own where it is empty.
    QTimer follow_, hide_;
    std::optional<QMargins> clear_;
    bool standalone_ = false, alone_ = false, everywhere_ = false, watches_focus_ = false, arranging_ = false;
    bool loaded_ = false;
    std::atomic<bool> event_posted_ = false;
    std::uint64_t events_seen_ = 0;
    QWidget* home_ = nullptr;
    QRect home_geometry_;
    int posters_made_ = 0;
    BackgroundTasks tasks_;
};

}  // namespace ruedo
