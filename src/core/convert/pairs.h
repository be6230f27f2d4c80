// SPDX-License-Identifier: Apache-2.0
// Two clips locked to each other in time: each picture of the first with the one that the second shows then.
#pragma once
#include "codec/ahead.h"

namespace ruedo {

struct Pair {
    Time at{};  ///< Presentation time in the first clip.
    Frame before, after;
};

/// Pairs pictures by presentation time, to half a tick of their containers. Decodes beside its caller. One thread uses
/// it.
class Pairs {
  public:
    /// `second` is a part of `first` that begins at `from` in it. `not-media` where one of them has no pictures,
    /// `refused` where one has no end.
    static Result<std::unique_ptr<Pairs>> open(const std::string& first, const std::string& second,
                                               CodecRegistry& codecs, Time from = {});
    /// What is shown at `t`. `cancelled` when asked to stop.
    Result<Pair> at(Time t, const std::atomic<bool>* cancel = nullptr);
    /// The next picture of the first clip and what the second shows then; nothing at the first one's end.
    Result<std::optional<Pair>> next();

  private:
    Pairs(std::unique_ptr<FrameReader> first, std::unique_ptr<FrameReader> second, Time from);
    Result<Frame> after(Time t);
    FramesAhead first_, second_;
    Time from_, slack_;
    std::optional<Frame> now_, coming_;  ///< Of the second: shown, and read already.
    bool ended_ = false;
};

}  // namespace ruedo
