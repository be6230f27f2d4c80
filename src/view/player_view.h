// SPDX-License-Identifier: Apache-2.0
// The player as one widget: picture, surround, controls on a bar, waiting sign, error in words. The workshop and
// every packed app use this one.
#pragma once
#include <QTimer>
#include <QWidget>

#include "playback/queue.h"
#include "view/captions.h"
#include "view/controls.h"
#include "view/desk.h"
#include "view/picture_surface.h"

namespace ruedo {

/// What all players of a process share: the mixer and its strand.
struct PlaybackHost {
    explicit PlaybackHost(bool sound_device = true);
    std::shared_ptr<Strand> strand;
    Mixer mixer;
};

class PlayerView : public QWidget {
  public:
    explicit PlayerView(PlaybackHost& host, QWidget* parent = nullptr);
    ~PlayerView() override;
    /// Lays the bar out and opens source `index` of `document`, whose files are looked for from `folder`.
    void load(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder);
    /// The same source, with what changed in the document taken over where that needs no restart.
    void apply(const PlayerDocument& document, std::size_t index);
    /// After a release: a fresh controller in the same place.
    void renew();
    Time born() const { return born_; }  ///< When the controller was made: its trace counts from there.
    /// The one that plays; with a queue another one takes its place now and then.
    Controller& controller() { return *controller_; }
    std::size_t index() const { return index_; }
    Snapshot snapshot() const { return controller_->snapshot(); }
    PictureSurface& surface() { return *surface_; }
    bool controls_shown() const;
    /// Keys belong to the player that has the focus; those of the window's chief player to the whole window, but where
    /// another player in it has the focus.
    void take_keys_everywhere();
    /// In an app of its own Space plays and pauses too, and the keys of the view are the window's.
    void set_standalone();
    void toggle_full_screen();
    bool in_full_screen() const { return full_screen_; }
    std::function<void()> on_full_screen_left;
    std::function<void(const Event&)> on_event;        ///< On the window's thread.
    std::function<void(std::size_t index)> on_turned;  ///< Another source plays, by the queue or a control.
    /// Posters for the strip and for what comes next.
    void set_poster(std::size_t index, const QImage& poster);
    int posters_made() const { return posters_made_; }  ///< Since the view was made.
    CaptionsLayer& captions() { return *captions_; }

  protected:
    void resizeEvent(QResizeEvent*) override;
    bool eventFilter(QObject* watched, QEvent* event) override;

  private:
    class Bar;
    class Poster;
    class WaitingSign;
    class StartMark;
    void build_bar();
    void turned(std::size_t index);
    void fill_queue();
    void forget_posters(const PlayerDocument& before, const std::filesystem::path& folder);
    void follow();
    void wake();
    void add_action(const QKeySequence& keys, std::function<void()> run);
    PlaybackHost& host_;
    PlayerDocument document_;
    std::size_t index_ = 0;
    std::filesystem::path folder_;
    PictureSurface* surface_;
    std::unique_ptr<PlayQueue> queue_;
    std::shared_ptr<Controller> controller_;
    CaptionsLayer* captions_;
    Poster* poster_;
    std::map<std::size_t, QImage> posters_;
    Bar* bar_ = nullptr;
    WaitingSign* waiting_;
    StartMark* start_mark_;
    QWidget* trouble_;
    QTimer follow_, hide_;
    bool full_screen_ = false, standalone_ = false, everywhere_ = false;
    std::atomic<bool> event_posted_ = false;
    std::uint64_t events_seen_ = 0;
    QWidget* home_ = nullptr;
    QRect home_geometry_, laid_out_for_;
    Time born_{};
    int posters_made_ = 0;
    Desk desk_;
};

}  // namespace ruedo
