// SPDX-License-Identifier: Apache-2.0
// How far a clip on the network could be played without waiting, found by walking its packets as far as all their
// bytes are here. Nothing is fetched for it.
#pragma once
#include <memory>

#include "io/http.h"
#include "text/cues.h"

namespace ruedo {

/// Not thread-safe; belongs to one lane.
class BufferedWalk {
  public:
    BufferedWalk(std::shared_ptr<HttpSource> source, std::shared_ptr<Clip> clip, const std::vector<Track>& tracks);
    /// The stretch of time around `position` all of whose packets are here; empty when the one at it is not.
    std::pair<Time, Time> around(Time position);
    /// Those captions of `track` that are here from shortly before `position` on.
    std::vector<Cue> captions(const Track& track, Time position);

  private:
    struct Lead {
        Track track;
        std::unique_ptr<TrackReader> reader;
        Time from{}, to{};
        bool ended = false;
    };
    bool here(const PacketHead& head, const std::vector<HttpSource::Range>& ranges) const;
    std::shared_ptr<HttpSource> source_;
    std::shared_ptr<Clip> clip_;
    std::vector<Lead> leads_;
};

}  // namespace ruedo
