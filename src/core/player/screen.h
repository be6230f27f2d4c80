// SPDX-License-Identifier: Apache-2.0
// Several players on one screen: which sources each plays, where each stands, who of them sounds. The window, packed
// apps and the command line go by it; each player is handed its part of the document as if it were alone.
#pragma once
#include "player/layout.h"

namespace ruedo {

/// Places in `document.sources` of what a player plays, in the order of its queue.
std::vector<std::size_t> queue_of(const PlayerDocument& document, std::size_t player);
/// Whether a player starts by itself, with its sound on.
bool starts_loud(const PlayerDocument& document, std::size_t player);
/// The document as if there were this player only, with the sources of its queue. Where one is to sound at a time, of
/// those that start by themselves all but the first begin with their sound off.
PlayerDocument part_of(const PlayerDocument& document, std::size_t player);
/// Where each of `count` players stands, in pixels of the mount. They never meet, and none stands outside.
std::vector<Box> place_players(const ScreenSpec& screen, std::size_t count, const MountShape& mount);
/// The insets of a player in `box` of a mount: the part of the mount's insets that reaches into its box.
MountShape shape_in(const MountShape& mount, const Box& box);

/// One player more, with the usual controls and a name of its own; its place. Not beyond `most_players`.
std::optional<std::size_t> add_player(PlayerDocument& document);
/// Takes a source off the shelf, and out of every queue.
void remove_source(PlayerDocument& document, std::size_t source);

/// "One sounds at a time": a player that starts to sound mutes the others. Of several that began since it was asked
/// last it is the last one; of those that began at the same time the first.
class ExclusiveAudio {
  public:
    /// Those that are to be muted now. To be asked whenever something may have changed.
    std::vector<std::size_t> follow(std::span<const Snapshot> players);

  private:
    std::vector<bool> sounded_;
    std::size_t holder_ = SIZE_MAX;
};

}  // namespace ruedo
