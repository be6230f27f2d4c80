// SPDX-License-Identifier: Apache-2.0
// Decoding beside whoever uses the pictures, for work that wants all of them as fast as they come.
#pragma once
#include "base/ahead.h"
#include "codec/stretches.h"

namespace ruedo {

/// So many pictures lie ready between two stages of a job: in gaps (see `Ahead`) up to sixteen instead of four, but not
/// more than 30 MB, as those are of use only where some lie ready meanwhile.
std::size_t pictures_between(const VideoFormat& format, bool in_gaps);

/// How pictures are decoded ahead of whoever takes them: giving way to those that keep the processors busy (see
/// `Ahead`); a few, as they are taken; or as fast as can be, at two places at once where the clip allows (see
/// `Stretches`), with up to 64 MB of them ready.
enum class Eagerness { in_gaps, steady, at_two_places };

/// Reads pictures beside whoever takes them, which is one thread.
class PicturesAhead {
  public:
    explicit PicturesAhead(std::unique_ptr<PictureReader> reader, Eagerness eagerness = Eagerness::at_two_places)
        : reader_(std::move(reader)), eagerness_(eagerness) {}
    PicturesAhead(const PicturesAhead&) = delete;
    PicturesAhead& operator=(const PicturesAhead&) = delete;
    /// As `PictureReader::next`; after an error or the end it gives the end.
    Result<std::optional<Picture>> next();
    /// As `PictureReader::at`, on the caller's thread; `next` goes on after it.
    Result<Picture> at(Time t, const std::atomic<bool>* cancel = nullptr);
    /// Why the file gave less than it held when it was opened, if it did; once `next` has given nothing.
    const std::optional<Error>& cut() const { return stretches_ ? stretches_->cut() : reader_->cut(); }

  private:
    void begin();
    std::unique_ptr<PictureReader> reader_;
    Eagerness eagerness_;
    std::unique_ptr<Ahead<Picture>> run_;  ///< From the first `next` on, one or the other.
    std::unique_ptr<Stretches> stretches_;
};

}  // namespace ruedo
