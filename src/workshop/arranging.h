// SPDX-License-Identifier: GPL-3.0-or-later
// Players put together by hand: a layer over the live screen on which controls are selected, dragged, moved by keys,
// taken away, copied; and the tray from which they come.
#pragma once
#include <QAbstractButton>
#include <QWidget>
#include <optional>

#include "player/drop.h"
#include "workshop/room_handles.h"

class QPainter;

namespace ruedo {

class PlayerView;
class Project;
class ScreenView;

class ArrangeLayer : public QWidget {
  public:
    ArrangeLayer(ScreenView& screen, Project& project, QWidget* parent);
    /// A control on its way, from the tray or from where it stood: shows where it would come to stand.
    void drag_over(QPoint at);
    /// Lets go of it there; false where there is no place for it.
    bool drop(QPoint at, const ControlSpec& control);
    void drag_left();
    /// The same by keyboard: to the end of the first bar, else to the lower edge of the picture.
    void add(const ControlSpec& control);
    void remove_selected();
    void remove_player();  ///< The selected one, of several.
    void copy_selected() const;
    void paste();
    /// Where one of a player's boxes lies on this layer; in a room, what it takes there.
    QRect seen(std::size_t player, const Box& box) const { return outline(player, box).boundingRect().toAlignedRect(); }
    QPolygonF outline(std::size_t player, const Box& box) const;
    /// Shown controls of the selected player in reading order, by their own names.
    QStringList order() const;

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    bool event(QEvent*) override;

  private:
    struct Over {
        std::size_t player;
        DropZone zone;
    };
    /// The player at a place of the layer (the selected one where there is none), and the pixel of its mount.
    struct Under {
        std::size_t player;
        QPoint at;
    };
    Under under(QPoint at) const;
    std::optional<std::size_t> control_at(QPoint at) const;
    std::optional<std::size_t> selected() const;
    std::vector<DropZone> zones(std::size_t player) const;
    std::optional<Over> over(QPoint at) const;
    void move_to(const Over& to, std::size_t control);
    void paint_selection(QPainter& g) const;
    void paint_zones(QPainter& g) const;
    void hand_on(QEvent& event) const;
    ScreenView& screen_;
    Project& project_;
    std::optional<std::size_t> held_;  ///< The control under the button that was pressed.
    QPoint pressed_;
    bool dragging_ = false;
    std::optional<Over> over_;
    std::size_t towards_ = 0;  ///< The player that is dragged over.
    RoomHandles handles_;
};

/// One of each kind, to be dragged onto the player or added by a press.
class Tray : public QWidget {
  public:
    Tray(ArrangeLayer& layer, std::function<void()> arrange, QWidget* parent = nullptr);

  private:
    class Item;
};

}  // namespace ruedo
