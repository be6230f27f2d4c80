// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QPushButton>
#include <QWidget>

#include "view/screen_view.h"

namespace ruedo {

class ArrangeLayer;
class Mirror;
class Project;

/// What the players are seen in. Those in it are the real ones; *Use* and *Arrange* only decide what a press on it
/// means.
class MountView : public QWidget {
  public:
    MountView(ScreenView* screen, Project& project, QWidget* parent = nullptr);
    /// `size` in the mount's own pixels; empty: as it has it, and for a window the room there is.
    void set_mount(Mount mount, QSize size = {});
    void set_arranging(bool arranging);
    bool arranging() const { return arrange_->isChecked(); }
    /// The other mounts beside this one, showing the same pictures.
    void set_side_by_side(bool on);
    const std::vector<Mirror*>& mirrors() const { return mirrors_; }
    /// Players to begin from, each seen on the clip that plays.
    void choose_template();
    ArrangeLayer& layer() { return *layer_; }
    /// What stands over a room: what the pointer's ray meets, else how much of its surface is seen.
    QString room_words() const;
    QSize minimumSizeHint() const override { return {480, 320}; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;

  private:
    void place();
    QRect grip() const;
    QRect words_row() const;
    ScreenView* view_;
    Project& project_;
    ArrangeLayer* layer_;
    QPushButton *use_, *arrange_, *side_, *begin_, *turn_;
    QPushButton *before_me_, *to_start_, *start_here_, *record_;  ///< In a room.
    std::vector<Mirror*> mirrors_;  ///< Of the mounts there are, but for the one that plays.
    Mount mount_ = Mount::window;
    QSize size_;
    bool resizing_ = false;
    QRect frame_, screen_;
};

}  // namespace ruedo
