// SPDX-License-Identifier: GPL-3.0-or-later
// The same player seen elsewhere: on another mount, or put together in another way. It shows the pictures that the
// player shows and decodes nothing.
#pragma once
#include <QTimer>
#include <QWidget>
#include <optional>

#include "player/layout.h"

namespace ruedo {

class PlayerView;

class Mirror : public QWidget {
  public:
    explicit Mirror(PlayerView& player, QWidget* parent = nullptr);
    void set_mount(Mount mount);
    /// Says under it which mount it is, and how large.
    void set_named(bool named) { named_ = named; }
    /// Another size than the mount's own.
    void set_size(QSize size) { size_ = size; }
    /// Another player than the one that plays, on its pictures.
    void set_spec(const PlayerSpec& spec);
    /// What the mount would be in pixels; the mirror is a scaled picture of it.
    MountShape shape() const;
    /// What stands where on it now.
    Layout laid_out() const;

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    ControlContext context() const;
    const PlayerSpec& spec() const;
    PlayerView& player_;
    Mount mount_ = Mount::window;
    std::optional<PlayerSpec> spec_;
    QSize size_;
    bool named_ = false;
    QTimer follow_;
};

}  // namespace ruedo
