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
    /// With `in_gaps` whoever uses the pictures keeps the processors busy but for gaps, as an encoder's threads do:
    /// decoding gives way and goes on in those, up to sixteen pictures ahead instead of four (fewer of large ones).
    explicit PicturesAhead(std::unique_ptr<PictureReader> reader, bool in_gaps = false);
    ~PicturesAhead();  ///< Waits for the picture that is being decoded.
    PicturesAhead(const PicturesAhead&) = delete;
    PicturesAhead& operator=(const PicturesAhead&) = delete;
    /// As `PictureReader::next`; after an error or the end it gives the end.
    Result<std::optional<Picture>> next();
    /// As `PictureReader::at`, on the caller's thread; `next` goes on after it.
    Result<Picture> at(Time t, const std::atomic<bool>* cancel = nullptr);
    /// Why the file gave less than it held when it was opened, if it did; once `next` has given nothing.
    const std::optional<Error>& cut() const { return cut_; }

  private:
    /// What decodes ahead, from the first `next` on.
    struct Run {
        explicit Run(std::size_t ahead) : ready(ahead) {}
        Bounded<Result<Picture>> ready;
        std::atomic<bool> stop = false;
        std::thread thread;
    };
    void halt();
    std::unique_ptr<PictureReader> reader_;
    bool in_gaps_;
    std::unique_ptr<Run> run_;
    std::optional<Error> cut_;
};

}  // namespace ruedo
