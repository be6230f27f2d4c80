// SPDX-License-Identifier: Apache-2.0
#include "codec/ahead.h"

#include <algorithm>

namespace ruedo {

namespace {
std::size_t bytes_of(const VideoFormat& v) {
    return std::max<std::size_t>(1, static_cast<std::size_t>(v.width) * static_cast<std::size_t>(v.height) * 3 / 2);
}
}  // namespace

std::size_t pictures_between(const VideoFormat& v, bool in_gaps) {
    return in_gaps ? std::clamp<std::size_t>(30'000'000 / bytes_of(v), 4, 16) : 4;
}

void PicturesAhead::begin() {
    auto& video = reader_->track().video;
    bool in_gaps = eagerness_ == Eagerness::in_gaps;
    std::unique_ptr<PictureReader> second;
    if (eagerness_ == Eagerness::at_two_places)
        if (auto beside = reader_->beside()) second = std::move(*beside);
    if (second)
        stretches_ = std::make_unique<Stretches>(*reader_, std::move(second),
                                                 std::clamp<std::size_t>(64'000'000 / bytes_of(video), 4, 64));
    else
        run_ = std::make_unique<Ahead<Picture>>(pictures_between(video, in_gaps), in_gaps,
                                                [this](auto& stop) { return reader_->next(&stop); });
}

Result<std::optional<Picture>> PicturesAhead::next() {
    if (!run_ && !stretches_) begin();
    return run_ ? run_->next() : stretches_->next();
}

Result<Picture> PicturesAhead::at(Time t, const std::atomic<bool>* cancel) {
    run_.reset(), stretches_.reset();
    return reader_->at(t, cancel);
}

}  // namespace ruedo
