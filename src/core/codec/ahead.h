// SPDX-License-Identifier: Apache-2.0
// Decoding beside whoever uses the pictures, for work that wants all of them as fast as they come.
#pragma once
#include <thread>

#include "base/bounded.h"
#include "codec/codec.h"

namespace ruedo {

/// Reads pictures on a thread of its own, a few ahead. One thread takes them.
class PicturesAhead {
  public:
    explicit PicturesAhead(std::unique_ptr<PictureReader> reader, std::size_t ahead = 4);
    ~PicturesAhead();  ///< Waits for the picture that is being decoded.
    PicturesAhead(const PicturesAhead&) = delete;
    PicturesAhead& operator=(const PicturesAhead&) = delete;
    /// As `PictureReader::next`; after an error or the end it gives the end.
    Result<std::optional<Picture>> next();
    /// Why the file gave less than it held when it was opened, if it did; once `next` has given nothing.
    const std::optional<Error>& cut() const { return cut_; }

  private:
    std::unique_ptr<PictureReader> reader_;
    Bounded<Result<Picture>> ready_;
    std::optional<Error> cut_;
    std::atomic<bool> stop_ = false;
    std::thread thread_;
};

}  // namespace ruedo
