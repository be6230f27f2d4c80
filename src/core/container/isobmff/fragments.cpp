// SPDX-License-Identifier: Apache-2.0
#include "container/isobmff/fragments.h"

#include <algorithm>

namespace ruedo::isobmff {

void FragmentIndex::know(std::uint64_t moof, Time time) {
    std::lock_guard lock(mutex_);
    auto& known = known_[moof];
    if (known.time) return;
    known.time = time;
    by_time_.try_emplace(time, moof);
}

Result<std::optional<std::uint64_t>> FragmentIndex::find(std::uint64_t from) {
    SourceReader reader(source_, 4096);
    auto size = reader.size_or_max();
    for (auto at = from;;) {
        RUEDO_TRY(auto box, read_box(reader, at, size));
        if (!box) return std::nullopt;
        if (box->type == fourcc("moof")) {
            std::lock_guard lock(mutex_);
            known_.try_emplace(box->start);
            return box->start;
        }
        if (box->stated_end > size) cut_short_ = true;
        at = box->end;
    }
}

Result<std::optional<std::uint64_t>> FragmentIndex::first() {
    {
        std::lock_guard lock(mutex_);
        if (first_) return first_;
    }
    RUEDO_TRY(auto found, find(begin_));
    std::lock_guard lock(mutex_);
    return first_ = found;
}

bool FragmentIndex::follows(std::uint64_t moof, std::uint64_t next) const {
    std::lock_guard lock(mutex_);
    auto it = known_.find(moof);
    return it != known_.end() && it->second.next == next;
}

Result<std::optional<std::uint64_t>> FragmentIndex::after(std::uint64_t moof) {
    {
        std::lock_guard lock(mutex_);
        if (auto it = known_.find(moof); it != known_.end() && it->second.next) return it->second.next;
    }
    SourceReader reader(source_, 4096);
    RUEDO_TRY(auto box, read_box(reader, moof, reader.size_or_max()));
    if (!box) return std::nullopt;
    RUEDO_TRY(auto next, find(box->end));
    std::lock_guard lock(mutex_);
    if (next) known_[moof].next = next;
    return next;
}

std::optional<std::uint64_t> FragmentIndex::at_or_before(Time time) const {
    std::lock_guard lock(mutex_);
    auto it = by_time_.upper_bound(time);
    return it == by_time_.begin() ? std::nullopt : std::optional(std::prev(it)->second);
}

std::optional<std::uint64_t> FragmentIndex::before(std::uint64_t moof) const {
    std::lock_guard lock(mutex_);
    auto it = known_.lower_bound(moof);
    return it == known_.begin() ? std::nullopt : std::optional(std::prev(it)->first);
}

std::optional<Time> FragmentIndex::time_of(std::uint64_t moof) const {
    std::lock_guard lock(mutex_);
    auto it = known_.find(moof);
    return it == known_.end() ? std::nullopt : it->second.time;
}

/// A moof before `end` whose boxes lead exactly there: what looks like one inside a picture does not.
Result<std::optional<std::uint64_t>> FragmentIndex::search_back(std::uint64_t end) {
    constexpr std::uint64_t reach = 32 << 20;
    constexpr std::size_t step = 1 << 16;
    SourceReader boxes(source_, 4096);
    auto size = boxes.size_or_max();
    auto leads_to_end = [&](std::uint64_t at) -> Result<bool> {
        // Whole, and beginning as each does, with its number (8.8.5).
        RUEDO_TRY(auto moof, read_box(boxes, at, size));
        if (!moof || moof->stated_end > end) return false;
        RUEDO_TRY(auto inner, read_box(boxes, moof->body, moof->end));
        if (!inner || inner->type != fourcc("mfhd") || inner->size() != 8) return false;
        for (int i = 0; i < 64; ++i) {
            RUEDO_TRY(auto box, read_box(boxes, at, size));
            if (!box || (i > 0 && box->type == fourcc("moof") && box->start >= end)) return false;
            at = box->end;
            if (at >= end) {
                if (box->stated_end > size) cut_short_ = true;
                return at == end;
            }
        }
        return false;
    };
    Bytes block;
    for (auto high = end; high > begin_ && end - high < reach;) {
        auto low = high - std::min<std::uint64_t>(step, high - begin_);
        // The tag may lie across two blocks.
        block.resize(static_cast<std::size_t>(std::min(high + 3, end) - low));
        RUEDO_TRY(auto got, source_->read_at(low, block));
        block.resize(got);
        for (auto i = block.size(); i-- > 0;) {
            if (i + 4 > block.size() || be32(block.data() + i) != fourcc("moof") || low + i < begin_ + 4) continue;
            auto at = low + i - 4;
            if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(source_->name()));
            RUEDO_TRY(bool real, leads_to_end(at));
            if (!real) continue;
            std::lock_guard lock(mutex_);
            known_.try_emplace(at);
            return at;
        }
        high = low;
        if (low == begin_) break;
    }
    return std::nullopt;
}

Result<std::optional<std::uint64_t>> FragmentIndex::last() {
    auto size = source_->size();
    std::optional<std::uint64_t> from;
    {
        std::lock_guard lock(mutex_);
        if (!known_.empty()) from = known_.rbegin()->first;
    }
    if (size && !source_->forward_only()) {
        RUEDO_TRY(auto found, search_back(*size));
        if (found) return found;
    }
    if (!from) {
        RUEDO_TRY(from, first());
    }
    while (from) {
        RUEDO_TRY(auto next, after(*from));
        if (!next) break;
        from = next;
    }
    return from;
}

Result<std::optional<std::uint64_t>> FragmentIndex::last_before(std::uint64_t moof) {
    if (!source_->forward_only()) {
        RUEDO_TRY(auto found, search_back(moof));
        if (found) return found;
    }
    auto from = before(moof);
    if (!from) {
        RUEDO_TRY(from, first());
    }
    while (from && *from < moof) {
        RUEDO_TRY(auto next, after(*from));
        if (!next || *next >= moof) return from;
        from = next;
    }
    return std::nullopt;
}

namespace {

/// One `moof` at a time is read and its runs laid out.
class FragmentReader final : public TrackReader {
  public:
    FragmentReader(std::shared_ptr<ByteSource> source, TrackPlan plan, std::shared_ptr<FragmentIndex> index)
        : plan_(std::move(plan)), reader_(std::move(source)), index_(std::move(index)) {}

    Result<bool> next(PacketHead& head) override {
        while (at_ >= samples_.size()) {
            if (over_) return false;
            RUEDO_TRY(auto place, following());
            if (!place) return false;
            RUEDO_TRY(bool more, load(*place));
            if (!more) return false;
            // Where times start over another recording begins, which is not part of this one.
            over_ = reached_ && !samples_.empty() && samples_[0].dts < *reached_ - plan_.timescale;
            if (over_) samples_.clear();
        }
        auto& s = samples_[at_];
        reached_ = s.dts;
        if (s.offset > plan_.file_end || s.size > plan_.file_end - s.offset) return false;
        offset_ = s.offset, size_ = s.size;
        head = {};
        head.pts = plan_.present(s.cts);
        head.dts = plan_.present(s.dts);
        head.duration = plan_.present(s.cts + s.duration) - head.pts;
        head.size = s.size;
        head.offset = s.offset;
        head.keyframe = plan_.intra || s.sync;
        ++at_;
        return true;
    }
    Status read(Bytes& out) override { return read_sample(reader_, offset_, size_, out); }

    Status seek(Time t) override {
        reached_.reset(), over_ = false;
        if (timeless_) return seek_from_known(t);
        auto media = ticks_to_time(plan_.tick_at(t), 1, plan_.timescale);
        RUEDO_TRY(auto from, index_->first());
        if (!from) return {};
        auto opening = *from;
        if (auto nearer = index_->at_or_before(media); nearer) from = nearer;
        std::optional<std::pair<std::uint64_t, std::size_t>> best;
        // Forward from there, as far as a keyframe that is early enough can still come.
        for (auto f = from; f;) {
            RUEDO_TRY(bool more, load(*f));
            if (timeless_ && !known_time_) return seek_from_known(t);
            if (!more || note_keys(t, best)) break;
            RUEDO_TRY(f, index_->after(*f));
            if (f && best)
                if (auto begins = index_->time_of(*f); begins && *begins > media) break;
        }
        // Backward, when that fragment begins without one.
        for (auto until = *from; !best && until > opening;) {
            auto earlier = index_->before(until).value_or(opening);
            for (std::optional f = earlier; f && *f < until;) {
                RUEDO_TRY(bool more, load(*f));
                if (!more) break;
                (void)note_keys(t, best);
                RUEDO_TRY(f, index_->after(*f));
            }
            until = earlier;
        }
        return stand_at(best.value_or(std::pair<std::uint64_t, std::size_t>{opening, 0}));
    }

    /// The end of what this track has in the fragment at `place`; nothing when that holds none of it.
    Result<std::optional<Time>> end_in(std::uint64_t place) {
        RUEDO_TRY(bool there, load(place));
        if (!there || samples_.empty() || (timeless_ && !known_time_)) return std::nullopt;
        std::optional<Time> end;
        for (auto& s : samples_)
            if (s.offset <= plan_.file_end && s.size <= plan_.file_end - s.offset)
                end = std::max(end.value_or(Time{INT64_MIN}), plan_.present(s.cts + s.duration));
        return end;
    }

  private:
    struct Sample {
        std::int64_t dts, cts, duration;
        std::uint64_t offset;
        std::uint32_t size;
        bool sync;
    };

    /// The fragment after the one that is loaded, or the first.
    Result<std::optional<std::uint64_t>> following() { return loaded_ ? index_->after(*loaded_) : index_->first(); }

    /// The last keyframe of the loaded fragment that is shown at or before t into `best`; true when none can follow.
    bool note_keys(Time t, std::optional<std::pair<std::uint64_t, std::size_t>>& best) const {
        std::int64_t early = 0;
        for (std::size_t i = 0; i < samples_.size(); ++i) {
            auto& s = samples_[i];
            early = std::min(early, s.cts - s.dts);
            if (!plan_.intra && !s.sync) continue;
            if (plan_.present(s.cts) > t) return true;
            best = {*loaded_, i};
        }
        return !samples_.empty() && plan_.present(next_dts_ + early) > t;
    }
    Status stand_at(std::pair<std::uint64_t, std::size_t> place) {
        if (loaded_ == place.first && !samples_.empty()) {
            at_ = place.second;
            return {};
        }
        RUEDO_TRY(bool there, load(place.first));
        at_ = there ? place.second : 0;
        return {};
    }
    /// Fragments that do not say when they begin (no tfdt) are only told by those before them: from the nearest one
    /// that this reader has come by before.
    Status seek_from_known(Time t) {
        RUEDO_TRY(auto opening, index_->first());
        if (!opening) return {};
        begins_.try_emplace(*opening, 0);
        auto from = std::prev(begins_.end());
        while (from != begins_.begin() && plan_.present(from->second) > t) --from;
        std::optional<std::pair<std::uint64_t, std::size_t>> best;
        for (;; --from) {
            loaded_.reset();
            for (std::optional f = from->first; f;) {
                RUEDO_TRY(bool more, load(*f, f == from->first ? std::optional(from->second) : std::nullopt));
                if (!more || note_keys(t, best)) break;
                RUEDO_TRY(f, following());
            }
            if (best || from == begins_.begin()) break;
        }
        if (!best) best.emplace(*opening, 0);
        RUEDO_TRY(bool there, load(best->first, begins_.at(best->first)));
        at_ = there ? best->second : 0;
        return {};
    }

    Result<bool> load(std::uint64_t place, std::optional<std::int64_t> begins = {}) {
        bool follows = loaded_ && index_->follows(*loaded_, place);
        samples_.clear();
        at_ = 0;
        RUEDO_TRY(auto moof, read_box(reader_, place, reader_.size_or_max()));
        if (!moof || moof->size() > (16ULL << 20)) return false;
        Bytes body;
        if (auto got = reader_.read(moof->body, moof->size(), body); !got) {
            if (got.error().code == ErrorCode::truncated) return false;
            return std::unexpected(got.error());
        }
        RUEDO_TRY(auto opening, index_->first());
        known_time_ = begins || follows || place == opening;
        auto implicit = begins ? *begins : follows ? next_dts_ : 0;
        loaded_ = place;
        walk(ByteView(body), [&](std::uint32_t type, ByteView traf) {
            if (type == fourcc("traf")) add_track(traf, place, implicit);
        });
        if (known_time_ && timeless_) begins_[place] = implicit;
        if (!samples_.empty() && (known_time_ || !timeless_)) {
            auto earliest =
                std::min_element(samples_.begin(), samples_.end(), [](auto& a, auto& b) { return a.cts < b.cts; })->cts;
            index_->know(place, ticks_to_time(earliest, 1, plan_.timescale));
        }
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
        bool ours = false, timed = false;
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
                timed = true;
                dts =
                    static_cast<std::int64_t>(std::min<std::uint64_t>(version == 1 ? r.u64() : r.u32(), INT64_MAX / 4));
            } else if (type == fourcc("trun") && ours) {
                if (!timed) timeless_ = true;
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
    std::size_t at_ = 0;
    std::optional<std::uint64_t> loaded_;
    bool timeless_ = false;    ///< A fragment without a tfdt was met ...
    bool known_time_ = false;  ///< ... and whether the loaded one's time is known all the same.
    std::int64_t next_dts_ = 0;
    std::optional<std::int64_t> reached_;  ///< The last sample read in order, and whether nothing follows it.
    bool over_ = false;
    std::map<std::uint64_t, std::int64_t> begins_;  ///< Of fragments met, in ticks, where only those before tell.
    std::uint64_t offset_ = 0, size_ = 0;
};

}  // namespace

std::unique_ptr<TrackReader> make_fragment_reader(std::shared_ptr<ByteSource> source, TrackPlan plan,
                                                  std::shared_ptr<FragmentIndex> index) {
    return std::make_unique<FragmentReader>(std::move(source), std::move(plan), std::move(index));
}

Result<std::optional<Time>> fragments_end(const TrackPlan& plan, std::shared_ptr<FragmentIndex> index) {
    FragmentReader reader(index->source(), plan, index);
    RUEDO_TRY(auto place, index->last());
    // Tracks may have fragments of their own, so the last ones are asked in turn.
    for (int i = 0; place && i < 32; ++i) {
        RUEDO_TRY(auto end, reader.end_in(*place));
        if (end) return end;
        RUEDO_TRY(place, index->last_before(*place));
    }
    // No times in the fragments, or none of the last ones is this track's: forwards through all.
    FragmentReader forwards(index->source(), plan, index);
    PacketHead head;
    std::optional<Time> end;
    for (;;) {
        RUEDO_TRY(bool more, forwards.next(head));
        if (!more) return end;
        end = std::max(end.value_or(Time{INT64_MIN}), head.pts + head.duration);
    }
}

}  // namespace ruedo::isobmff
