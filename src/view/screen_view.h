// SPDX-License-Identifier: Apache-2.0
// A document's players on one screen, each a PlayerView of its own. The workshop and every packed app use this one.
#pragma once
#include "player/screen.h"
#include "view/player_view.h"
#include "view/room_view.h"

namespace ruedo {

class ScreenView : public QWidget {
  public:
    explicit ScreenView(PlaybackHost& host, QWidget* parent = nullptr);
    ~ScreenView() override;
    /// Takes a document over, whose files are looked for from `folder`. Players that stay (by name, else by place) go
    /// on with what they play. Player `active` turns to source `source` of the document, if that is in its queue.
    void take(const PlayerDocument& document, const std::filesystem::path& folder, std::size_t active = 0,
              std::optional<std::size_t> source = {});
    /// The next `take` opens everything anew.
    void reopen();
    const PlayerDocument& document() const { return document_; }

    std::size_t count() const { return seats_.size(); }  ///< At least one.
    PlayerView& player(std::size_t i) const { return *seats_.at(i).view; }
    /// The one that was pressed or had the focus last; the keys of the window are its own.
    std::size_t active() const { return active_; }
    void set_active(std::size_t i);
    /// Which source of the document a player plays; past the last one where it plays none.
    std::size_t source_of(std::size_t i) const;

    /// What they are seen in, all of them; sizes as in PlayerView.
    void set_mount(Mount mount, QSize pixels = {});
    Mount mount() const { return mount_; }
    double scale() const;
    MountShape mount_shape() const;
    /// The room, while that is the mount.
    RoomView* room() const { return room_; }
    void set_arranging(bool arranging);
    /// Something happened to the app round its players (see player/host_life.h).
    void host(std::string_view word);
    /// In an app of its own.
    void set_standalone();

    std::function<void(std::size_t player, const Event&)> on_event;         ///< On the window's thread.
    std::function<void(std::size_t player, std::size_t source)> on_turned;  ///< Of the document's sources.
    std::function<void(PlayerView&)> on_renewed, on_removed;                ///< A fresh controller; a player gone.
    std::function<void(std::size_t player)> on_active;                      ///< By a press, or the focus.
    std::function<void()> on_laid_out, on_full_screen_left;
    std::function<void()> on_leave;  ///< The last player has left.

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

  private:
    struct Seat {
        PlayerView* view = nullptr;
        std::vector<std::size_t> queue;
        bool left = false;
    };
    PlayerView* make_view();
    void remove(PlayerView* view);
    std::size_t place_in(const PlayerView* view) const;
    void place();
    void place_in_room();
    void leave_room();
    void share_keys();
    void keep_one_sounding();
    PlaybackHost& host_;
    PlayerDocument document_;
    std::vector<Seat> seats_;
    std::size_t active_ = 0;
    Mount mount_ = Mount::window;
    QSize pixels_;
    RoomView* room_ = nullptr;
    bool arranging_ = false, standalone_ = false;
    ExclusiveAudio one_sounds_;
    QTimer follow_;
};

}  // namespace ruedo
