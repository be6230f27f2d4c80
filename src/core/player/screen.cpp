// SPDX-License-Identifier: Apache-2.0
#include "player/screen.h"

#include <algorithm>

namespace ruedo {
namespace {

/// `count` boxes one beside the other (or below it), sharing `room` to the pixel.
void share(const Box& room, std::size_t count, int apart, bool across, std::vector<Box>& out) {
    auto n = static_cast<int>(count);
    int length = across ? room.width : room.height;
    // On a small mount what lies between gives way first.
    apart = std::min(apart, length / (8 * n));
    int shared = length - apart * (n - 1);
    for (int i = 0; i < n; ++i) {
        int from = shared * i / n + apart * i, long_ = shared * (i + 1) / n - shared * i / n;
        out.push_back(across ? Box{room.x + from, room.y, long_, room.height}
                             : Box{room.x, room.y + from, room.width, long_});
    }
}

}  // namespace

std::vector<std::size_t> queue_of(const PlayerDocument& d, std::size_t player) {
    std::vector<std::size_t> queue;
    auto& names = d.player(player).sources;
    for (std::size_t i = 0; !names && i < d.sources.size(); ++i) queue.push_back(i);
    if (!names) return queue;
    for (auto& name : *names) {
        auto it = std::find_if(d.sources.begin(), d.sources.end(), [&](auto& s) { return s.name == name; });
        if (it != d.sources.end()) queue.push_back(static_cast<std::size_t>(it - d.sources.begin()));
    }
    return queue;
}

bool starts_loud(const PlayerDocument& d, std::size_t player) {
    auto queue = queue_of(d, player);
    return !queue.empty() && d.sources[queue.front()].start.how != Start::How::hold && !d.player(player).muted;
}

PlayerDocument part_of(const PlayerDocument& d, std::size_t player) {
    PlayerDocument part;
    part.app_name = d.app_name, part.target = d.target, part.version = d.version;
    part.mount = d.mount, part.mount_width = d.mount_width, part.mount_height = d.mount_height;
    part.players = {d.player(player)};
    part.players.front().sources.reset();
    for (auto i : queue_of(d, player)) part.sources.push_back(d.sources[i]);
    // Of those that start by themselves with their sound on the first one is heard.
    for (std::size_t before = 0; d.screen.one_sounds && before < player && starts_loud(d, player); ++before)
        if (starts_loud(d, before)) part.player().muted = true;
    return part;
}

std::vector<Box> place_players(const ScreenSpec& screen, std::size_t count, const MountShape& mount) {
    std::vector<Box> boxes;
    Box whole{0, 0, mount.width, mount.height};
    if (count == 0) return boxes;
    bool wide = mount.width >= mount.height;
    if (screen.arrangement != ScreenSpec::Arrangement::stage || count == 1) {
        share(whole, count, screen.gap, screen.arrangement == ScreenSpec::Arrangement::row, boxes);
        return boxes;
    }
    // The strip lies along the shorter side, so that the large one keeps its shape.
    int length = wide ? mount.width : mount.height;
    int gap = std::min(screen.gap, length / 16), strip = length * 24 / 100;
    Box large = whole, rest = whole;
    (wide ? large.width : large.height) = length - strip - gap;
    (wide ? rest.x : rest.y) = length - strip;
    (wide ? rest.width : rest.height) = strip;
    boxes.push_back(large);
    share(rest, count - 1, screen.gap, !wide, boxes);
    return boxes;
}

MountShape shape_in(const MountShape& mount, const Box& box) {
    auto shape = mount;
    shape.width = box.width, shape.height = box.height;
    shape.left = std::clamp(mount.left - box.x, 0, box.width);
    shape.top = std::clamp(mount.top - box.y, 0, box.height);
    shape.right = std::clamp(box.right() - (mount.width - mount.right), 0, box.width);
    shape.bottom = std::clamp(box.bottom() - (mount.height - mount.bottom), 0, box.height);
    return shape;
}

std::optional<std::size_t> add_player(PlayerDocument& d) {
    if (d.players.size() >= PlayerDocument::most_players) return std::nullopt;
    auto player = usual_player();
    player.name = d.free_player_name(player.name);
    d.players.push_back(std::move(player));
    return d.players.size() - 1;
}

void remove_source(PlayerDocument& d, std::size_t source) {
    auto name = d.sources.at(source).name;
    d.sources.erase(d.sources.begin() + static_cast<std::ptrdiff_t>(source));
    // Another one of this name takes its place in the queues.
    if (std::any_of(d.sources.begin(), d.sources.end(), [&](auto& s) { return s.name == name; })) return;
    for (auto& p : d.players)
        if (p.sources) std::erase(*p.sources, name);
}

std::vector<std::size_t> ExclusiveAudio::follow(std::span<const Snapshot> players) {
    if (sounded_.size() != players.size()) sounded_.assign(players.size(), false), holder_ = SIZE_MAX;
    std::vector<bool> audio_tracks;
    for (auto& s : players) audio_tracks.push_back(s.state.intent == Intent::play && s.has_audio && !s.muted);
    std::optional<Time> newest;
    for (std::size_t i = 0; i < audio_tracks.size(); ++i)
        if (audio_tracks[i] && !sounded_[i] && (!newest || players[i].since > *newest))
            holder_ = i, newest = players[i].since;
    sounded_ = audio_tracks;
    std::vector<std::size_t> silent;
    for (std::size_t i = 0; i < audio_tracks.size(); ++i)
        if (audio_tracks[i] && i != holder_) silent.push_back(i);
    return silent;
}

}  // namespace ruedo
