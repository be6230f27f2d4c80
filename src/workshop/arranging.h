// SPDX-License-Identifier: GPL-3.0-or-later
// The player put together by hand: a layer over the live player on which controls are selected, dragged, moved by keys,
// taken away, copied; and the tray from which they come.
#pragma once
#include <QAbstractButton>
#include <QWidget>
#include <optional>

#include "player/drop.h"

namespace ruedo {

class PlayerView;
class Project;

class ArrangeLayer : public QWidget {
  public:
    ArrangeLayer(PlayerView& player, Project& project, QWidget* parent);
    /// A control on its way, from the tray or from where it stood: shows where it would come to stand.
    void drag_over(QPoint at);
    /// Lets go of it there; false where there is no place for it.
    bool drop(QPoint at, const ControlSpec& control);
    void drag_left();
    /// The same by keyboard: to the end of the first bar, else to the lower edge of the picture.
    void add(const ControlSpec& control);
    void remove_selected();
    void copy_selected() const;
    void paste();
    /// Shown controls in reading order, by their own names.
    QStringList order() const;

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    bool event(QEvent*) override;

  private:
    std::optional<std::size_t> control_at(QPoint at) const;
    std::optional<std::size_t> selected() const;
    std::vector<DropZone> zones() const;
    const DropZone* zone_under(const std::vector<DropZone>& zones, QPoint at) const;
    void move_to(const DropZone& zone, std::size_t control);
    PlayerView& player_;
    Project& project_;
    std::optional<std::size_t> held_;  ///< The control under the button that was pressed.
    QPoint pressed_;
    bool dragging_ = false;
    std::optional<DropZone> over_;
};

/// One of each kind, to be dragged onto the player or added by a press.
class Tray : public QWidget {
  public:
    Tray(ArrangeLayer& layer, std::function<void()> arrange, QWidget* parent = nullptr);

  private:
    class Item;
};

}  // namespace ruedo
