// SPDX-License-Identifier: Apache-2.0
// Walking a track through the sample tables of a moov.
#include <fmt/format.h>

#include <algorithm>

#include "container/isobmff/boxes.h"

namespace ruedo::isobmff {
namespace {

class TableReader final : public TrackReader {
  public:
    TableReader(std::shared_ptr<ByteSource> source, TrackPlan plan)
        : plan_(std::move(plan)), reader_(std::move(source)) {}

    Result<bool> next(PacketHead& head) override {
        auto at = lost_.value_or(index_);
        if (lost_) place(at);
        bool more = advance(head);
        if (auto read = plan_.tables.check(); !read) {
            lost_ = at;
            return std::unexpected(read.error());
        }
        return more;
    }
    bool advance(PacketHead& head) {
        if (index_ >= plan_.tables.samples) return false;
        auto& t = plan_.tables;
        // Time to sample (8.6.1.2): runs of equal deltas.
        while (stts_left_ == 0) {
            if (stts_at_ >= t.stts.count()) return false;
            stts_left_ = t.stts.u32(stts_at_, 0), delta_ = t.stts.u32(stts_at_, 4), ++stts_at_;
        }
        while (ctts_left_ == 0 && ctts_at_ < t.ctts.count()) {
            ctts_left_ = t.ctts.u32(ctts_at_, 0);
            auto raw = t.ctts.u32(ctts_at_, 4);
            // Version 0 is unsigned by the book, but writers put negative offsets there too.
            shift_ =
                t.signed_ctts || raw > 0x80000000U ? static_cast<std::int32_t>(raw) : static_cast<std::int64_t>(raw);
            ++ctts_at_;
        }
        auto shift = ctts_left_ > 0 ? shift_ : 0;
        if (in_chunk_ >= per_chunk_ && !next_chunk()) return false;
        std::uint64_t size = sample_size(index_), run = 1;
        if (plan_.pcm_frame) {
            run =
                std::min({per_chunk_ - in_chunk_, std::uint64_t{stts_left_}, t.samples - index_, std::uint64_t{1024}});
            size *= run;
        }
        offset_ = next_offset_;
        size_ = size;
        if (offset_ > plan_.file_end || size > plan_.file_end - offset_) return false;  // cut short here
        head = {};
        auto cts = dts_ + shift;
        head.pts = plan_.present(cts);
        head.dts = plan_.present(dts_);
        auto length = delta_ * static_cast<std::int64_t>(run);
        head.duration = plan_.present(cts + length) - head.pts;
        head.size = size;
        head.offset = offset_;
        head.keyframe = plan_.intra || !t.has_stss || is_sync(index_);
        dts_ += length;
        stts_left_ -= static_cast<decltype(stts_left_)>(run);
        if (ctts_left_ > 0) --ctts_left_;
        in_chunk_ += run;
        next_offset_ += size;
        index_ += run;
        return true;
    }

    Status read(Bytes& out) override { return read_sample(reader_, offset_, size_, out); }

    Status seek(Time t) override {
        (void)plan_.tables.check();  // what could not be read before is read again where it is needed
        lost_.reset();
        auto placed = find(t);
        if (auto read = plan_.tables.check(); !read) placed = read;
        if (!placed) lost_ = 0;
        return placed;
    }

    /// Stands before sample `index` (from 0).
    void place(std::uint64_t index);

  private:
    Status find(Time t) {
        auto& tables = plan_.tables;
        auto target = plan_.tick_at(t);
        auto sample = sample_at_dts(target);
        if (plan_.intra || !tables.has_stss) {
            place(sample);
            return {};
        }
        // Candidates by decoding time; then by presentation, which may differ by the composition offset.
        auto k = tables.stss.upper_bound(static_cast<std::uint32_t>(std::min<std::uint64_t>(sample + 1, UINT32_MAX)));
        PacketHead head;
        auto pts_of = [&](std::uint64_t entry) -> Result<Time> {
            auto number = tables.stss.u32(entry);
            place(number > 0 ? number - 1 : 0);
            RUEDO_TRY(bool more, next(head));
            return more ? head.pts : Time::max();
        };
        while (k < tables.stss.count()) {  // with negative offsets a later sync sample may be shown in time
            RUEDO_TRY(auto pts, pts_of(k));
            if (pts > t) break;
            ++k;
        }
        for (; k > 1; --k) {
            RUEDO_TRY(auto pts, pts_of(k - 1));
            if (pts <= t) break;
        }
        auto number = k > 0 ? tables.stss.u32(k - 1) : 1;
        place(number > 0 ? number - 1 : 0);
        return {};
    }

    bool is_sync(std::uint64_t index) {
        // Sync samples come in order; remember the next one.
        auto number = static_cast<std::uint32_t>(index + 1);
        auto& stss = plan_.tables.stss;
        if (sync_at_ > 0 && stss.u32(sync_at_ - 1) >= number) sync_at_ = 0;
        if (sync_at_ == 0) sync_at_ = stss.upper_bound(number - 1);
        while (sync_at_ < stss.count() && stss.u32(sync_at_) < number) ++sync_at_;
        return sync_at_ < stss.count() && stss.u32(sync_at_) == number;
    }
    std::uint32_t sample_size(std::uint64_t i) {
        auto& t = plan_.tables;
        if (t.constant_size) return t.constant_size;
        if (!t.compact_sizes) return t.stsz.u32(i);
        // stz2 (8.7.3.3): 4, 8 or 16 bits; the table's entries are single bytes.
        if (t.compact_bits == 4) {
            auto byte = t.stsz.u32(i / 2) >> 24;
            return i % 2 == 0 ? byte >> 4 : byte & 15;
        }
        return t.compact_bits == 8 ? t.stsz.u32(i) >> 24 : t.stsz.u32(i * 2) >> 16;
    }
    std::uint64_t chunk_offset(std::uint64_t chunk) {
        return plan_.tables.long_offsets ? plan_.tables.chunks.u64(chunk) : plan_.tables.chunks.u32(chunk);
    }
    std::uint64_t sample_at_dts(std::int64_t target) {
        if (target <= 0) return 0;
        auto& t = plan_.tables;
        std::int64_t dts = 0;
        std::uint64_t sample = 0;
        for (std::uint64_t i = 0; i < t.stts.count(); ++i) {
            std::int64_t count = t.stts.u32(i, 0), delta = t.stts.u32(i, 4);
            // Two 32-bit numbers: their product may not fit, but then the target certainly lies within.
            std::int64_t run = 0, end = 0;
            bool beyond = __builtin_mul_overflow(count, delta, &run) || __builtin_add_overflow(dts, run, &end);
            if (delta > 0 && (beyond || target < end))
                return sample + static_cast<std::uint64_t>((target - dts) / delta);
            dts = end;
            sample += static_cast<std::uint64_t>(count);
            if (sample >= t.samples) break;
        }
        return t.samples > 0 ? t.samples - 1 : 0;
    }
    bool next_chunk() {
        auto& t = plan_.tables;
        ++chunk_;
        if (chunk_ >= t.chunks.count()) return false;
        while (stsc_at_ + 1 < t.stsc.count() && t.stsc.u32(stsc_at_ + 1) <= chunk_ + 1) ++stsc_at_;
        per_chunk_ = t.stsc.u32(stsc_at_, 4);
        in_chunk_ = 0;
        next_offset_ = chunk_offset(chunk_);
        return per_chunk_ > 0;
    }
    std::optional<std::uint64_t> lost_ = 0;  ///< Sample that is still to be gone to, where it could not be read.
    TrackPlan plan_;
    SourceReader reader_;
    std::uint64_t index_ = 0, stts_at_ = 0, stts_left_ = 0, ctts_at_ = 0, ctts_left_ = 0, stsc_at_ = 0, chunk_ = 0;
    std::uint64_t in_chunk_ = 0, per_chunk_ = 0, next_offset_ = 0, offset_ = 0, size_ = 0, sync_at_ = 0;
    std::int64_t dts_ = 0, delta_ = 0, shift_ = 0;
};

void TableReader::place(std::uint64_t index) {
    lost_.reset();
    auto& t = plan_.tables;
    index_ = index;
    dts_ = 0, stts_at_ = 0, stts_left_ = 0;
    for (auto left = index; stts_at_ < t.stts.count();) {
        std::uint64_t count = t.stts.u32(stts_at_, 0);
        delta_ = t.stts.u32(stts_at_, 4);
        ++stts_at_;
        auto used = std::min(left, count);
        std::int64_t run = 0;
        if (__builtin_mul_overflow(static_cast<std::int64_t>(used), static_cast<std::int64_t>(delta_), &run) ||
            __builtin_add_overflow(dts_, run, &dts_))
            dts_ = INT64_MAX / 4;
        left -= used;
        if (left == 0 && used < count) {
            stts_left_ = count - used;
            break;
        }
    }
    ctts_at_ = 0, ctts_left_ = 0;
    for (auto left = index; ctts_at_ < t.ctts.count();) {
        std::uint64_t count = t.ctts.u32(ctts_at_, 0);
        if (left < count) {
            auto raw = t.ctts.u32(ctts_at_, 4);
            shift_ =
                t.signed_ctts || raw > 0x80000000U ? static_cast<std::int32_t>(raw) : static_cast<std::int64_t>(raw);
            ctts_left_ = count - left;
            ++ctts_at_;
            break;
        }
        left -= count;
        ++ctts_at_;
    }
    // Sample to chunk (8.7.4): runs of chunks with equally many samples.
    stsc_at_ = 0, chunk_ = 0, in_chunk_ = 0, per_chunk_ = 0;
    std::uint64_t left = index;
    for (; stsc_at_ < t.stsc.count(); ++stsc_at_) {
        std::uint64_t first = t.stsc.u32(stsc_at_), per = t.stsc.u32(stsc_at_, 4);
        std::uint64_t until = stsc_at_ + 1 < t.stsc.count() ? t.stsc.u32(stsc_at_ + 1) : t.chunks.count() + 1;
        if (first == 0 || per == 0 || until < first) break;
        if (left < (until - first) * per) {
            chunk_ = first - 1 + left / per;
            per_chunk_ = per;
            in_chunk_ = left % per;
            break;
        }
        left -= (until - first) * per;
    }
    if (per_chunk_ == 0) {
        index_ = t.samples;  // the tables do not reach that far
        return;
    }
    next_offset_ = chunk_offset(chunk_);
    if (t.constant_size)
        next_offset_ += in_chunk_ * t.constant_size;
    else
        for (auto i = index - in_chunk_; i < index; ++i) next_offset_ += sample_size(i);
    sync_at_ = 0;
}

}  // namespace

Result<bool> has_last_sample(std::shared_ptr<ByteSource> source, const TrackPlan& plan) {
    if (plan.tables.samples == 0) return true;
    TableReader reader(std::move(source), plan);
    reader.place(plan.tables.samples - 1);
    PacketHead head;
    return reader.next(head);
}
std::unique_ptr<TrackReader> make_table_reader(std::shared_ptr<ByteSource> source, TrackPlan plan) {
    return std::make_unique<TableReader>(std::move(source), std::move(plan));
}

}  // namespace ruedo::isobmff
