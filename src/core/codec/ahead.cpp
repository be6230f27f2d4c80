// SPDX-License-Identifier: Apache-2.0
#include "codec/ahead.h"

#include <fmt/format.h>

namespace ruedo {

PicturesAhead::PicturesAhead(std::unique_ptr<PictureReader> reader, std::size_t ahead)
    : reader_(std::move(reader)), ready_(ahead), thread_([this] {
          try {
              for (;;) {
                  auto picture = reader_->next(&stop_);
                  if (!picture) ready_.put(std::unexpected(picture.error()));
                  if (!picture || !*picture || !ready_.put(std::move(**picture))) break;
              }
          } catch (const std::exception& e) {
              ready_.put(fail(Code::internal, fmt::format("Decoding broke off: {}.", e.what())));
          }
          cut_ = reader_->cut();
          ready_.close();
      }) {}

PicturesAhead::~PicturesAhead() {
    stop_ = true;
    ready_.close();
    thread_.join();
}

Result<std::optional<Picture>> PicturesAhead::next() {
    auto picture = ready_.take();
    if (!picture) return std::nullopt;
    if (!*picture) return std::unexpected(picture->error());
    return std::move(**picture);
}

}  // namespace ruedo
