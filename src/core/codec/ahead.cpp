// SPDX-License-Identifier: Apache-2.0
#include "codec/ahead.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/priority.h"

namespace ruedo {

namespace {
/// The gaps of others are of use only where some pictures lie ready meanwhile; but not more than 30 MB.
std::size_t depth(const VideoFormat& v) {
    auto bytes =
        std::max<std::size_t>(1, static_cast<std::size_t>(v.width) * static_cast<std::size_t>(v.height) * 3 / 2);
    return std::clamp<std::size_t>(30'000'000 / bytes, 4, 16);
}
}  // namespace

PicturesAhead::PicturesAhead(std::unique_ptr<PictureReader> reader, bool in_gaps)
    : reader_(std::move(reader)), in_gaps_(in_gaps) {}
PicturesAhead::~PicturesAhead() { halt(); }

void PicturesAhead::halt() {
    if (!run_) return;
    run_->stop = true;
    run_->ready.close();
    run_->thread.join();
    run_.reset();
}

Result<std::optional<Picture>> PicturesAhead::next() {
    if (!run_) {
        run_ = std::make_unique<Run>(in_gaps_ ? depth(reader_->track().video) : 4);
        run_->thread = std::thread([this, &run = *run_] {
            if (in_gaps_) give_way();
            try {
                for (;;) {
                    auto picture = reader_->next(&run.stop);
                    if (!picture) run.ready.put(std::unexpected(picture.error()));
                    if (!picture || !*picture || !run.ready.put(std::move(**picture))) break;
                }
            } catch (const std::exception& e) {
                run.ready.put(fail(Code::internal, fmt::format("Decoding broke off: {}.", e.what())));
            }
            cut_ = reader_->cut();
            run.ready.close();
        });
    }
    auto picture = run_->ready.take();
    if (!picture) return std::nullopt;
    if (!*picture) return std::unexpected(picture->error());
    return std::move(**picture);
}

Result<Picture> PicturesAhead::at(Time t, const std::atomic<bool>* cancel) {
    halt();
    return reader_->at(t, cancel);
}

}  // namespace ruedo
