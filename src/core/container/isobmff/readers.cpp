// SPDX-License-Identifier: Apache-2.0
// Walking a track: through the sample tables of a moov, or through movie fragments.
#include <fmt/format.h>

#include <algorithm>

#include "container/isobmff/boxes.h"

namespace ruedo::isobmff {
namespace {

// Larger than any sample seen; a size above it is a lie.
constexpr std::uint64_t sample_limit = 256ULL << 20;

Outcome read_sample(SourceReader& reader, std::uint64_t offset, std::uint64_t size, Bytes& out) {
    if (size > sample_limit)
        return fail(Code::limit, fmt::format("“{}” states a sample of {} bytes.", reader.source().name(), size),
                    "The file is damaged; export it again.");
    return reader.read(offset, size, out);
}

class TableReader final : public TrackReader {
  public:
    TableReader(std::shared_ptr<ByteSource> source, TrackPlan plan)
        : plan_(std::move(plan)), reader_(std::move(source)) {
        place(0);
    }

    Result<bool> next(PacketHead& head) override {
        bool more = advance(head);
        TRY_DO(plan_.tables.check());
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
        auto size = sample_size(index_);
        offset_ = next_offset_;
        size_ = size;
        if (offset_ > plan_.file_end || size > plan_.file_end - offset_) return false;  // cut short here
        head = {};
        auto cts = dts_ + shift;
        head.pts = plan_.present(cts);
        head.duration = plan_.present(cts + delta_) - head.pts;
        head.size = size;
        head.offset = offset_;
        head.keyframe = plan_.intra || !t.has_stss || is_sync(index_);
        dts_ += delta_;
        --stts_left_;
        if (ctts_left_ > 0) --ctts_left_;
        ++in_chunk_;
        next_offset_ += size;
        ++index_;
        return true;
    }

    Outcome read(Bytes& out) override { return read_sample(reader_, offset_, size_, out); }

    Outcome seek(Time t) override {
        auto placed = find(t);
        TRY_DO(plan_.tables.check());
        return placed;
    }

    /// Stands before sample `index` (from 0).
    void place(std::uint64_t index);

  private:
    Outcome find(Time t) {
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
            TRY(bool more, next(head));
            return more ? head.pts : Time::max();
        };
        while (k < tables.stss.count()) {  // with negative offsets a later sync sample may be shown in time
            TRY(auto pts, pts_of(k));
            if (pts > t) break;
            ++k;
        }
        for (; k > 1; --k) {
            TRY(auto pts, pts_of(k - 1));
            if (pts <= t) break;
        }
        auto number = k > 0 ? tables.stss.u32(k - 1) : 1;
        place(number > 0 ? number - 1 : 0);
        return {};
    }

    bool is_sync(std::uint64_t index) {
        // Sync samples come in order; keep the next one at hand.
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
    TrackPlan plan_;
    SourceReader reader_;
    std::uint64_t index_ = 0, stts_at_ = 0, stts_left_ = 0, ctts_at_ = 0, ctts_left_ = 0, stsc_at_ = 0, chunk_ = 0;
    std::uint64_t in_chunk_ = 0, per_chunk_ = 0, next_offset_ = 0, offset_ = 0, size_ = 0, sync_at_ = 0;
    std::int64_t dts_ = 0, delta_ = 0, shift_ = 0;
};

void TableReader::place(std::uint64_t index) {
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

/// Movie fragments (8.8): one `moof` at a time is read and its runs laid out.
class FragmentReader final : public TrackReader {
  public:
    FragmentReader(std::shared_ptr<ByteSource> source, TrackPlan plan, std::shared_ptr<FragmentIndex> index)
        : plan_(std::move(plan)), reader_(std::move(source)), index_(std::move(index)) {}

    Result<bool> next(PacketHead& head) override {
        while (at_ >= samples_.size()) {
            TRY(bool more, load(fragment_));
            if (!more) return false;
            ++fragment_;
        }
        auto& s = samples_[at_];
        if (s.offset > plan_.file_end || s.size > plan_.file_end - s.offset) return false;
        offset_ = s.offset, size_ = s.size;
        head = {};
        head.pts = plan_.present(s.cts);
        head.duration = plan_.present(s.cts + s.duration) - head.pts;
        head.size = s.size;
        head.offset = s.offset;
        head.keyframe = plan_.intra || s.sync;
        ++at_;
        return true;
    }
    Outcome read(Bytes& out) override { return read_sample(reader_, offset_, size_, out); }

    Outcome seek(Time t) override {
        auto target = plan_.tick_at(t);
        // Begin at the last hinted fragment at or before t, then walk forward; back up if it holds no keyframe in time.
        std::size_t from = 0;
        auto hint =
            std::upper_bound(index_->hints.begin(), index_->hints.end(), t, [](Time v, auto& h) { return v < h.time; });
        if (hint != index_->hints.begin()) {
            TRY(auto number, index_->number_of(std::prev(hint)->moof));
            if (number) from = *number;
        }
        std::optional<std::pair<std::size_t, std::size_t>> best;
        for (std::size_t f = from;; ++f) {
            TRY(bool more, load(f));
            if (!more) break;
            if (!samples_.empty() && samples_.front().dts > target + static_cast<std::int64_t>(plan_.timescale) && best)
                break;
            bool past = false;
            for (std::size_t i = 0; i < samples_.size(); ++i) {
                auto& s = samples_[i];
                if (!plan_.intra && !s.sync) continue;
                if (plan_.present(s.cts) <= t)
                    best = {f, i};
                else {
                    past = true;
                    break;
                }
            }
            if (past) {
                if (best || f == 0) break;
                if (from == 0) break;
                from = from > 8 ? from - 8 : 0;  // a fragment may begin without a keyframe
                f = from - 1;
            }
        }
        auto place = best.value_or(std::pair<std::size_t, std::size_t>{0, 0});
        TRY(bool there, load(place.first));
        fragment_ = place.first + 1;
        at_ = there ? place.second : 0;
        return {};
    }

  private:
    struct Sample {
        std::int64_t dts, cts, duration;
        std::uint64_t offset;
        std::uint32_t size;
        bool sync;
    };

    Result<bool> load(std::size_t fragment) {
        samples_.clear();
        at_ = 0;
        TRY(auto place, index_->at(fragment));
        if (!place) return false;
        TRY(auto moof, read_box(reader_, *place, reader_.size_or_max()));
        if (!moof || moof->size() > (16ULL << 20)) return false;
        Bytes body;
        if (auto got = reader_.read(moof->body, moof->size(), body); !got) return false;
        std::int64_t implicit = fragment > 0 && fragment == loaded_ + 1 ? next_dts_ : 0;
        loaded_ = fragment;
        walk(ByteView(body), [&](std::uint32_t type, ByteView traf) {
            if (type == fourcc("traf")) add_track(traf, *place, implicit);
        });
        return true;
    }

    template <class F>
    static void walk(ByteView data, F&& visit) {
        ByteReader r(data);
        while (r.left() >= 8) {
            auto size = r.u32();
            auto type = r.u32();
            if (size < 8) return;
            visit(type, r.take(size - 8));
            if (r.overrun()) return;
        }
    }

    void add_track(ByteView traf, std::uint64_t moof, std::int64_t implicit) {
        bool ours = false;
        std::uint64_t base = moof;
        TrackDefaults d = plan_.defaults;
        std::int64_t dts = implicit;
        std::uint64_t next_offset = 0;
        walk(traf, [&](std::uint32_t type, ByteView body) {
            ByteReader r(body);
            auto flags_word = r.u32();
            auto version = flags_word >> 24;
            auto flags = flags_word & 0xFFFFFF;
            if (type == fourcc("tfhd")) {
                ours = r.u32() == plan_.id;
                if (flags & 0x1) base = r.u64();
                if (flags & 0x2) r.skip(4);
                if (flags & 0x8) d.duration = r.u32();
                if (flags & 0x10) d.size = r.u32();
                if (flags & 0x20) d.flags = r.u32();
                next_offset = base;
            } else if (type == fourcc("tfdt") && ours) {
                dts =
                    static_cast<std::int64_t>(std::min<std::uint64_t>(version == 1 ? r.u64() : r.u32(), INT64_MAX / 4));
            } else if (type == fourcc("trun") && ours) {
                auto count = r.u32();
                if (flags & 0x1) next_offset = base + static_cast<std::uint64_t>(static_cast<std::int64_t>(r.i32()));
                std::uint32_t first_flags = flags & 0x4 ? r.u32() : 0;
                for (std::uint32_t i = 0; i < count && samples_.size() < 1'000'000; ++i) {
                    Sample s{};
                    s.duration = flags & 0x100 ? r.u32() : d.duration;
                    s.size = flags & 0x200 ? r.u32() : d.size;
                    auto sample_flags = flags & 0x400 ? r.u32() : (i == 0 && flags & 0x4) ? first_flags : d.flags;
                    std::int64_t shift = 0;
                    if (flags & 0x800) {
                        auto raw = r.u32();
                        shift = version > 0 || raw > 0x80000000U ? static_cast<std::int32_t>(raw)
                                                                 : static_cast<std::int64_t>(raw);
                    }
                    // Without per-sample fields a lying count would go on for ever on nothing.
                    if (r.overrun() || (!(flags & 0xF00) && count > 100'000)) break;
                    s.sync = !(sample_flags & 0x10000);
                    s.dts = dts;
                    s.cts = dts + shift;
                    s.offset = next_offset;
                    next_offset += s.size;
                    dts += s.duration;
                    samples_.push_back(s);
                }
                next_dts_ = dts;
            }
        });
    }

    TrackPlan plan_;
    SourceReader reader_;
    std::shared_ptr<FragmentIndex> index_;
    std::vector<Sample> samples_;
    std::size_t at_ = 0, fragment_ = 0, loaded_ = 0;
    std::int64_t next_dts_ = 0;
    std::uint64_t offset_ = 0, size_ = 0;
};

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
std::unique_ptr<TrackReader> make_fragment_reader(std::shared_ptr<ByteSource> source, TrackPlan plan,
                                                  std::shared_ptr<FragmentIndex> index) {
    return std::make_unique<FragmentReader>(std::move(source), std::move(plan), std::move(index));
}

}  // namespace ruedo::isobmff
