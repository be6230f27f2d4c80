// SPDX-License-Identifier: GPL-3.0-or-later
// The same screen seen elsewhere: on another mount, or put together in another way. It shows the pictures that the
// players show and decodes nothing.
#pragma once
#include <QTimer>
#include <QWidget>
#include <optional>

#include "player/layout.h"

namespace ruedo {

class ScreenView;

class Mirror : public QWidget {
  public:
    explicit Mirror(ScreenView& screen, QWidget* parent = nullptr);
    void set_mount(Mount mount);
    /// Says under it which mount it is, and how large.
    void set_named(bool named) { named_ = named; }
    /// Another size than the mount's own.
    void set_size(QSize size) { size_ = size; }
    /// Other players than those that play, on their pictures.
    void set_document(const PlayerDocument& document);
    /// What the mount would be in pixels; the mirror is a scaled picture of it.
    MountShape shape() const;
    /// What stands where on it now, of one of its players.
    Layout laid_out(std::size_t player = 0) const;

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    const PlayerDocument& document() const;
    Box box(std::size_t player) const;
    ControlContext context(std::size_t player) const;
    /// The one whose pictures a player shows; what is not there yet borrows those of the last.
    std::size_t lender(std::size_t player) const;
    ScreenView& screen_;
    Mount mount_ = Mount::window;
    std::optional<PlayerDocument> document_;
    QSize size_;
    bool named_ = false;
    QTimer follow_;
};

}  // namespace ruedo
