// SPDX-License-Identifier: Apache-2.0
// How far a clip that has to be fetched could be played without waiting, found by walking its packets as far as all
// their bytes are here. Nothing is fetched for it.
#pragma once
#include "io/io.h"
#include "media/media.h"

namespace ruedo {

/// Not thread-safe. The clip outlives it.
class BufferedWalk {
  public:
    BufferedWalk(std::shared_ptr<ByteSource> source, Clip& clip, const std::vector<Track>& tracks);
    /// Whether it is these that it walks.
    bool follows(const std::vector<Track>& tracks) const;
    /// The stretch of time around `position` all of whose packets are here; empty when the one at it is not.
    TimeRange around(Time position);

  private:
    struct Lead {
        Track track;
        std::unique_ptr<TrackReader> reader;
        Time from{}, to{};
        std::optional<PacketHead> last, waits;  ///< The last one that is here, and the one after it, which was not yet.
        bool ended = false;
    };
    std::shared_ptr<ByteSource> source_;
    Clip& clip_;
    Time end_{-1};  ///< Of the clip, where it is known.
    std::vector<Lead> leads_;
};

}  // namespace ruedo
