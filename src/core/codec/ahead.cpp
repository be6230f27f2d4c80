// SPDX-License-Identifier: Apache-2.0
#include "codec/ahead.h"

#include <fmt/format.h>

namespace ruedo {

PicturesAhead::PicturesAhead(std::unique_ptr<PictureReader> reader, std::size_t ahead)
    : reader_(std::move(reader)), ahead_(ahead) {}
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
        run_ = std::make_unique<Run>(ahead_);
        run_->thread = std::thread([this, &run = *run_] {
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
