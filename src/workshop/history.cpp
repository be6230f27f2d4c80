// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/history.h"

#include <algorithm>

namespace ruedo {

void History::add(const Snapshot& s, const HostLife& life, Time wall) {
    if (!looks_.empty()) {
        auto& last = looks_.back();
        bool moves = s.motion == Motion::moving || last.snapshot.motion == Motion::moving;
        bool told = s.events != last.snapshot.events;
        // What rests is looked at once a second: levels fall and buffers grow all the same.
        if (!told && wall - last.wall < (moves ? 90_ms : 1_s)) return;
    }
    looks_.push_back({wall, s, life});
    while (looks_.front().wall < wall - kept) looks_.pop_front();
}
void History::add(const Event& e) {
    events_.push_back(e);
    if (events_.size() > most_events) events_.pop_front();
}
bool History::wants_picture(Time wall) const {
    if (looks_.empty()) return false;
    return pictures_.empty() || wall - pictures_.back().wall >= 1_s;
}
void History::add(QImage picture, Time wall) {
    // At rest one picture stands for all of it.
    if (!pictures_.empty() && pictures_.back().picture == picture) return void(pictures_.back().wall = wall);
    pictures_.push_back({wall, std::move(picture)});
    if (pictures_.size() > most_pictures) pictures_.pop_front();
}
void History::forget() { looks_.clear(), events_.clear(), pictures_.clear(); }

const History::Look* History::at(Time wall) const {
    if (looks_.empty()) return nullptr;
    auto after = std::partition_point(looks_.begin(), looks_.end(), [&](auto& l) { return l.wall <= wall; });
    return &(after == looks_.begin() ? looks_.front() : *std::prev(after));
}
std::size_t History::events_by(Time wall) const {
    auto after = std::partition_point(events_.begin(), events_.end(), [&](auto& e) { return e.wall <= wall; });
    return static_cast<std::size_t>(after - events_.begin());
}
std::vector<History::Taken> History::pictures_near(Time wall, std::size_t most) const {
    auto after = std::partition_point(pictures_.begin(), pictures_.end(), [&](auto& p) { return p.wall <= wall; });
    auto from = after - std::min<std::ptrdiff_t>(after - pictures_.begin(), static_cast<std::ptrdiff_t>(most + 1) / 2);
    auto to = from + std::min<std::ptrdiff_t>(pictures_.end() - from, static_cast<std::ptrdiff_t>(most));
    return {from, to};
}

}  // namespace ruedo
