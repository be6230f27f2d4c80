// SPDX-License-Identifier: GPL-3.0-or-later
// Screens in a room are taken by their edges, and then go along the wall they hang on, or by a chalk mark on the floor
// below them, and then go along that.
#pragma once
#include <QPointF>
#include <QString>
#include <optional>

#include "player/player.h"

class QPainter;

namespace ruedo {

class Project;
class ScreenView;

class RoomHandles {
  public:
    RoomHandles(ScreenView& screen, Project& project) : screen_(screen), project_(project) {}
    struct Handle {
        std::size_t player;
        bool floor;
    };
    std::optional<Handle> at(QPointF place) const;
    /// Takes hold of what is there; false where nothing is.
    bool take(QPointF place);
    bool held() const { return held_.has_value(); }
    /// To where the hand is, in round distances (5 cm), or freely.
    void drag(QPointF place, bool freely);
    /// The document takes it over, as one step.
    void let_go();
    void paint(QPainter& g) const;
    /// "2.00 m ahead, 0.30 m to the right, 1.60 m up", from the start.
    QString told() const;

  private:
    std::optional<Point> place_under(QPointF place, const Handle& handle) const;
    ScreenView& screen_;
    Project& project_;
    std::optional<Handle> held_;
    Point from_, hung_;  ///< Where it was taken, and where it hung then.
    std::optional<PlayerDocument> moved_;
};

}  // namespace ruedo
