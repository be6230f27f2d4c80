// SPDX-License-Identifier: Apache-2.0
// Movie fragments (ISO/IEC 14496-12 clause 8.8): where they are, and reading a track through them.
#pragma once
#include <atomic>
#include <map>
#include <mutex>

#include "container/isobmff/boxes.h"

namespace ruedo::isobmff {

/// Where fragments are, as far as an index in the file says (sidx, mfra) or readers have come. A fragment is known by
/// the place of its moof. Shared by the readers of a clip; thread-safe.
class FragmentIndex {
  public:
    /// `first`: a place at or before the first moof, from which boxes can be walked.
    FragmentIndex(std::shared_ptr<ByteSource> source, std::uint64_t first)
        : source_(std::move(source)), begin_(first) {}
    /// A fragment begins at `moof`, and its earliest sample is composed at `time` of the media.
    void know(std::uint64_t moof, Time time);
    Result<std::optional<std::uint64_t>> first();
    /// The fragment that follows the one at `moof`; nothing when there is none.
    Result<std::optional<std::uint64_t>> after(std::uint64_t moof);
    /// Whether `next` is known to follow `moof`.
    bool follows(std::uint64_t moof, std::uint64_t next) const;
    /// The last fragment known to begin at or before `time`, and the last one known before `moof`: a place to walk
    /// from.
    std::optional<std::uint64_t> at_or_before(Time time) const;
    std::optional<std::uint64_t> before(std::uint64_t moof) const;
    /// The earliest time of the fragment at `moof`, when that is known.
    std::optional<Time> time_of(std::uint64_t moof) const;
    /// The last fragment of the file: found from its end backwards (one whose boxes lead exactly to the end), or by
    /// walking all headers forwards from what is known.
    Result<std::optional<std::uint64_t>> last();
    /// The one before it, by walking back through the bytes.
    Result<std::optional<std::uint64_t>> last_before(std::uint64_t moof);
    bool cut_short() const { return cut_short_; }
    const std::shared_ptr<ByteSource>& source() const { return source_; }

  private:
    Result<std::optional<std::uint64_t>> find(std::uint64_t from);
    Result<std::optional<std::uint64_t>> search_back(std::uint64_t end);
    std::shared_ptr<ByteSource> source_;
    mutable std::mutex mutex_;
    std::uint64_t begin_;
    std::optional<std::uint64_t> first_;
    std::map<Time, std::uint64_t> by_time_;
    struct Known {
        std::optional<Time> time;
        std::optional<std::uint64_t> next;
    };
    std::map<std::uint64_t, Known> known_;
    std::atomic<bool> cut_short_ = false;
};

std::unique_ptr<TrackReader> make_fragment_reader(std::shared_ptr<ByteSource> source, TrackPlan plan,
                                                  std::shared_ptr<FragmentIndex> index);
/// Where this track's samples end, from the last fragments that hold any of it; nothing when none is found.
Result<std::optional<Time>> fragments_end(const TrackPlan& plan, std::shared_ptr<FragmentIndex> index);

}  // namespace ruedo::isobmff
