// SPDX-License-Identifier: Apache-2.0
// Where a writer of fragments or of a transport stream leaves its segments: each a file of its own.
#pragma once
#include <filesystem>
#include <functional>

#include "io/io.h"

namespace ruedo {

/// One segment as it was written.
struct WrittenSegment {
    std::string file;
    std::uint64_t bytes = 0;
    std::uint64_t key_bytes = 0;  ///< Up to the end of its first picture, which needs no more to be shown.
    Time start{}, duration{};     ///< Of what leads in it; the last one's length is settled at the end.
};

/// A sink for one rendition. Fragments (ISO/IEC 14496-12 clause 8.8) begin a segment each, and everything before the
/// first one is the initialization segment; of a transport stream the muxer says where a segment begins. Not
/// thread-safe.
class SegmentSink final : public ByteSink {
  public:
    /// Files are "1.m4s", "2.m4s" and so on in `folder`, which must exist; `form` is what their names end with.
    /// `seal`, if any, changes the bytes of a segment on their way out: number, bytes.
    SegmentSink(std::filesystem::path folder, std::string form, std::function<Bytes(std::uint64_t, Bytes)> seal = {});
    Status write(ByteView bytes) override;
    Status write_at(std::uint64_t offset, ByteView bytes) override;
    std::uint64_t position() const override { return position_; }
    Status insert_gap(std::uint64_t, std::uint64_t, const Progress& = {}) override;
    Status commit() override;
    /// A segment begins here, at a time.
    Status cut(Time start);
    /// The first picture of the segment has been written.
    void key_ends();
    const std::vector<WrittenSegment>& made() const { return made_; }
    std::vector<WrittenSegment>& made() { return made_; }

  private:
    Status flush();
    std::filesystem::path folder_;
    std::string form_;
    std::function<Bytes(std::uint64_t, Bytes)> seal_;
    Bytes head_, held_;
    std::vector<WrittenSegment> made_;
    std::uint64_t position_ = 0;
    bool fragments_, begun_ = false, dropping_ = false;
    std::uint64_t number_ = 0;
};

}  // namespace ruedo
