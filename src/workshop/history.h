// SPDX-License-Identifier: GPL-3.0-or-later
// What a player was like at every moment that was seen: its snapshots, its calls, and small pictures of it.
#pragma once
#include <QImage>
#include <deque>

#include "playback/playback.h"
#include "player/host_life.h"

namespace ruedo {

class History {
  public:
    static constexpr Time kept = Time{3'600'000'000'000};  ///< So far back it goes.
    static constexpr std::size_t most_events = 300'000, most_pictures = 1800;
    /// A look at the player; `wall` never goes back. One that is like the one before it is not kept.
    void add(const Snapshot& snapshot, const HostLife& life, Time wall);
    void add(const Event& event);
    /// About once a second a picture is wanted of what moves.
    bool wants_picture(Time wall) const;
    void add(QImage picture, Time wall);
    void forget();

    struct Look {
        Time wall;
        Snapshot snapshot;
        HostLife life;  ///< Of the app round the player.
    };
    /// As it was then: the last look at or before that moment, the first before all; nothing where there is none.
    const Look* at(Time wall) const;
    const std::deque<Event>& events() const { return events_; }
    /// How many of the events had happened by then.
    std::size_t events_by(Time wall) const;
    struct Taken {
        Time wall;
        QImage picture;
    };
    /// Those next to a moment: at most so many, by time.
    std::vector<Taken> pictures_near(Time wall, std::size_t most) const;
    std::size_t looks() const { return looks_.size(); }

  private:
    std::deque<Look> looks_;
    std::deque<Event> events_;
    std::deque<Taken> pictures_;
};

}  // namespace ruedo
