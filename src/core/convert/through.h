// SPDX-License-Identifier: Apache-2.0
// A clip that is converted while it is played: an ordinary clip, whose packets are made as they are asked for.
#pragma once
#include "convert/plan.h"

namespace ruedo {

/// How converting goes on; may be looked at from any thread.
struct LiveTranscodeCounts {
    std::atomic<std::int64_t> first_frame_ns =
        0;  ///< From opening to the first picture (of sound alone, packet) made; 0 before.
    std::atomic<std::uint64_t> restarts = 0;           ///< Places it was sent to after the first.
    std::atomic<std::uint64_t> kept_bytes = 0;         ///< Of what was made, and is kept.
    std::atomic<std::int64_t> from_ns = 0, to_ns = 0;  ///< The stretch that is being made.
};

struct LiveTranscodeOptions {
    Target target;
    std::uint64_t keep = 64 << 20;  ///< Bytes of what was made, per track, that are kept to be used again.
    std::shared_ptr<LiveTranscodeCounts> counts{};
};
/// What `target` takes of `clip` as it is comes from there; the rest is made, from the picture on that is seen where
/// one goes to. Errors: those of planning. Reading may take as long as making what is read.
Result<std::unique_ptr<Clip>> open_live_transcode(std::shared_ptr<Clip> clip, const LiveTranscodeOptions& options,
                                                  CodecRegistry& codecs);

}  // namespace ruedo
