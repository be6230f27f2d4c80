// SPDX-License-Identifier: Apache-2.0
#include "codec/ahead.h"

#include <algorithm>

namespace ruedo {

std::size_t frames_between(const VideoFormat& v, bool in_gaps) {
    auto bytes =
        std::max<std::size_t>(1, static_cast<std::size_t>(v.width) * static_cast<std::size_t>(v.height) * 3 / 2);
    return in_gaps ? std::clamp<std::size_t>(30'000'000 / bytes, 4, 16) : 4;
}

Result<std::optional<Frame>> FramesAhead::next() {
    if (!run_)
        run_ = std::make_unique<Ahead<Frame>>(frames_between(reader_->track().video, in_gaps_), in_gaps_,
                                              [this](auto& stop) { return reader_->next(&stop); });
    return run_->next();
}

Result<Frame> FramesAhead::at(Time t, const std::atomic<bool>* cancel) {
    run_.reset();
    return reader_->at(t, cancel);
}

}  // namespace ruedo
