// SPDX-License-Identifier: Apache-2.0
// Walking the pages of an Ogg file (RFC 3533) and what granule positions mean for each codec in it.
#pragma once
#include <ogg/ogg.h>

#include "io/io.h"
#include "media/codec_headers.h"
#include "media/media.h"

namespace ruedo::ogg {

/// Finds whole pages with a right checksum, from any offset on. Not thread-safe.
class PageWalker {
  public:
    explicit PageWalker(std::shared_ptr<ByteSource> source) : source_(std::move(source)) { ogg_sync_init(&sync_); }
    ~PageWalker() { ogg_sync_clear(&sync_); }
    PageWalker(const PageWalker&) = delete;
    PageWalker& operator=(const PageWalker&) = delete;
    void seek(std::uint64_t offset);
    /// The next page at or after the current place; false at the end. `start` is its offset. The page is valid
    /// until the next call.
    Result<bool> next(ogg_page& page, std::uint64_t& start);
    std::uint64_t position() const { return position_; }

  private:
    std::shared_ptr<ByteSource> source_;
    ogg_sync_state sync_{};
    std::uint64_t position_ = 0;  ///< Of the first byte not yet passed.
    std::uint64_t read_at_ = 0;
};

/// One logical stream: its headers and the arithmetic of its granule positions. Units are samples, or pictures.
struct Logical {
    int serial = 0;
    Track track;
    std::vector<Bytes> headers;
    ClipTags tags;
    std::uint64_t headers_wanted = 1;
    std::uint64_t num = 1, den = 1;  ///< Seconds per unit.
    std::int64_t first = 0;          ///< Unit of the first presented sample.
    std::int64_t last = 0;           ///< Unit after the last one.
    bool has_data = false;
    // Theora
    unsigned shift = 0;
    bool counts_from_one = false;
    std::optional<VorbisModes> modes;
    // Opus
    std::int64_t pre_skip = 0;

    bool is_video() const { return track.codec == Codec::theora; }
    bool complete() const { return headers.size() >= headers_wanted; }
    /// The first packet of a stream decides what it is; false when it is nothing known here.
    bool begin(ByteView packet);
    /// Further header packets; once complete, `track` is described.
    void add_header(ByteView packet);
    /// The unit after the last packet that ends on a page with this position.
    std::int64_t end_of(ogg_int64_t granule) const;
    /// The picture number of the keyframe that a Theora position names.
    std::int64_t key_of(ogg_int64_t granule) const;
    Time time_of(std::int64_t unit) const { return ticks_to_time(unit, num, den); }
    /// The unit that begins nearest to `t`.
    std::int64_t nearest(Time t) const;
};

/// Lengths of packets; Vorbis ones depend on the packet before.
struct PacketLength {
    std::int64_t previous_block = 0;
    std::int64_t of(const Logical& logical, ByteView packet);
};

}  // namespace ruedo::ogg
