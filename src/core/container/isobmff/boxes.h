// SPDX-License-Identifier: Apache-2.0
// Boxes of the ISO base media file format (ISO/IEC 14496-12 clause 4.2) and the tables in them, read in place.
#pragma once
#include "io/io.h"
#include "media/media.h"

namespace ruedo::isobmff {

struct Box {
    std::uint32_t type = 0;
    std::uint64_t start = 0, body = 0, end = 0;  ///< Offsets in the file; `end` is cut to the parent's end.
    std::uint64_t stated_end = 0;                ///< As the size field says, before cutting.
    std::uint64_t size() const { return end - body; }
};

/// The box at `at`, inside a parent that ends at `limit`; nothing when no whole header is left or its size lies.
Result<std::optional<Box>> read_box(SourceReader& reader, std::uint64_t at, std::uint64_t limit);

/// The bytes of a sample; a size that none can have is `limit`.
Status read_sample(SourceReader& reader, std::uint64_t offset, std::uint64_t size, Bytes& out);

/// A table of fixed-size entries of big-endian numbers, paged in as it is used: opening a long clip does not
/// read its tables through.
class Table {
  public:
    Table() = default;
    Table(std::shared_ptr<ByteSource> source, std::uint64_t offset, std::uint64_t count, unsigned entry)
        : source_(std::move(source)), offset_(offset), count_(count), entry_(entry) {}
    std::uint64_t count() const { return count_; }
    /// A 32-bit number at byte `at` of entry `i`; 0 past the end or where the file ends.
    std::uint32_t u32(std::uint64_t i, unsigned at = 0) { return be32(page(i, at)); }
    std::uint64_t u64(std::uint64_t i, unsigned at = 0) {
        auto p = page(i, at);
        return static_cast<std::uint64_t>(be32(p)) << 32 | be32(p + 4);
    }
    /// The first index whose number is greater than `value`; entries must be ascending.
    std::uint64_t upper_bound(std::uint32_t value);
    /// Why a page could not be read since the last call (a network's fault); what was read then were zeros.
    std::optional<Error> take_error() { return std::exchange(error_, std::nullopt); }

  private:
    const std::uint8_t* page(std::uint64_t i, unsigned at);
    std::shared_ptr<ByteSource> source_;
    std::uint64_t offset_ = 0, count_ = 0;
    unsigned entry_ = 4;
    Bytes page_;
    std::uint64_t page_start_ = UINT64_MAX;
    std::size_t page_filled_ = 0;
    std::optional<Error> error_;
};

/// The sample tables of one track (clauses 8.6.1, 8.7). Copied by each reader, which then pages on its own.
struct SampleTables {
    Table stts, ctts, stsz, stsc, chunks, stss;
    bool signed_ctts = false, compact_sizes = false, long_offsets = false, has_stss = false;
    unsigned compact_bits = 0;
    std::uint32_t constant_size = 0;
    std::uint64_t samples = 0;
    /// Why one of them could not be read since the last call; of all of them that is forgotten with it.
    Status check() {
        Status outcome;
        for (auto* t : {&stts, &ctts, &stsz, &stsc, &chunks, &stss})
            if (auto e = t->take_error(); e && outcome) outcome = std::unexpected(std::move(*e));
        return outcome;
    }
};

struct TrackDefaults {
    std::uint32_t duration = 0, size = 0, flags = 0;
};

/// What a track's reader needs besides the public facts.
struct TrackPlan {
    std::uint64_t id = 0;
    std::uint32_t timescale = 1;
    std::int64_t shift_ticks = 0;  ///< Subtracted from composition times, in ticks ...
    Time offset{};                 ///< ... before this is added: presentation = (cts - shift) as ns + offset.
    SampleTables tables;
    TrackDefaults defaults;
    std::uint64_t file_end = 0;  ///< Samples that end past this can't be read.
    bool intra = false;          ///< Every sample is a sync sample (sound).
    unsigned pcm_frame = 0;      ///< Plain sound: bytes of one sample of all channels; many of them make a packet.
    Time present(std::int64_t cts) const { return ticks_to_time(cts - shift_ticks, 1, timescale) + offset; }
    /// The last tick whose presentation is <= t.
    std::int64_t tick_at(Time t) const;
};

std::unique_ptr<TrackReader> make_table_reader(std::shared_ptr<ByteSource> source, TrackPlan plan);
/// Whether the file reaches to the end of the last sample that the tables state (true when they state none).
Result<bool> has_last_sample(std::shared_ptr<ByteSource> source, const TrackPlan& plan);

}  // namespace ruedo::isobmff
