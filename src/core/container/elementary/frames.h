// SPDX-License-Identifier: Apache-2.0
// Sound frames that follow each other without a container: MP3 and ADTS.
#pragma once
#include <mutex>

#include "io/io.h"
#include "media/codec_headers.h"
#include "media/media.h"

namespace ruedo::elementary {

/// Where every 64th frame of a stream of self-delimiting frames is, found by walking their headers as far as
/// anybody has asked. Thread-safe.
class FrameIndex {
  public:
    using Parse = std::optional<AudioFrameHeader> (*)(ByteView);
    FrameIndex(std::shared_ptr<ByteSource> source, Parse parse, std::uint64_t begin, AudioFrameHeader first)
        : source_(std::move(source)), parse_(parse), first_(std::move(first)), reader_(source_), frontier_(begin) {
        marks_.push_back(begin);
    }
    struct Place {
        std::uint64_t number = 0, offset = 0;
    };
    /// A place at or before frame `number`; the last one known when the stream ends earlier.
    Result<Place> place_of(std::uint64_t number);
    /// Walks on until `bytes` have been passed or the stream ends; true at the end.
    Result<bool> walk(std::uint64_t bytes);
    std::uint64_t frames() const { return count_; }
    std::uint64_t passed() const { return frontier_ - marks_[0]; }
    const AudioFrameHeader& first() const { return first_; }
    const std::shared_ptr<ByteSource>& source() const { return source_; }
    /// The frame at or after `at`, `at` moved to it; nothing at the end. Bytes between frames are passed over.
    Result<std::optional<AudioFrameHeader>> find(SourceReader& reader, std::uint64_t& at) const;
    Time time_of(std::uint64_t number) const {
        return ticks_to_time(static_cast<std::int64_t>(number) * first_.samples, 1,
                             static_cast<std::uint64_t>(first_.rate));
    }

  private:
    static constexpr std::uint64_t every = 64;
    Result<bool> step();
    std::shared_ptr<ByteSource> source_;
    Parse parse_;
    AudioFrameHeader first_;
    std::mutex mutex_;
    SourceReader reader_;
    std::vector<std::uint64_t> marks_;
    std::uint64_t frontier_, count_ = 0;
    bool ended_ = false;
};

/// Frames of the index as packets. `delay` is cut from the front: the first frame's time is `-delay`.
std::unique_ptr<TrackReader> frame_reader(std::shared_ptr<FrameIndex> index, Time delay, bool without_header);

}  // namespace ruedo::elementary
