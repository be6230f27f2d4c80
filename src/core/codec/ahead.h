// SPDX-License-Identifier: Apache-2.0
// Decoding on a thread of its own ahead of the consumer, for work that wants every frame as fast as possible.
#pragma once
#include "base/ahead.h"
#include "codec/codec.h"

namespace ruedo {

/// So many pictures lie ready between two stages of a job: in gaps (see `Ahead`) up to sixteen instead of four, but not
/// more than 30 MB, as those are of use only where some lie ready meanwhile.
std::size_t frames_between(const VideoFormat& format, bool in_gaps);

/// Reads pictures on a thread of its own, a few ahead. One thread takes them.
class FramesAhead {
  public:
    /// For `in_gaps` see `Ahead`.
    explicit FramesAhead(std::unique_ptr<FrameReader> reader, bool in_gaps = false)
        : reader_(std::move(reader)), in_gaps_(in_gaps) {}
    FramesAhead(const FramesAhead&) = delete;
    FramesAhead& operator=(const FramesAhead&) = delete;
    /// As `FrameReader::next`; after an error or the end it gives the end.
    Result<std::optional<Frame>> next();
    /// As `FrameReader::at`, on the caller's thread; `next` goes on after it.
    Result<Frame> at(Time t, const std::atomic<bool>* cancel = nullptr);
    /// Why the file gave less than it held when it was opened, if it did; once `next` has given nothing.
    const std::optional<Error>& cut() const { return reader_->cut(); }
    /// Where the track ends, once `next` has given nothing.
    std::optional<Time> end() const { return reader_->end(); }

  private:
    std::unique_ptr<FrameReader> reader_;
    bool in_gaps_;
    std::unique_ptr<Ahead<Frame>> run_;  ///< From the first `next` on.
};

}  // namespace ruedo
