// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QWidget>

#include "view/player_view.h"

namespace ruedo {

/// What the player is seen in: a window, a handset upright or sideways. The player in it is the real one.
class MountView : public QWidget {
  public:
    MountView(PlayerView* player, QWidget* parent = nullptr);
    void set_mount(Mount mount);
    QSize minimumSizeHint() const override { return {480, 320}; }

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;

  private:
    void place();
    PlayerView* player_;
    Mount mount_ = Mount::window;
    QRect frame_, screen_;
};

}  // namespace ruedo
