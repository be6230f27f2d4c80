// SPDX-License-Identifier: Apache-2.0
// There is no index: places are found by bisection over time stamps, which wrap at 33 bits and may start over where
// streams were joined.
#include <algorithm>
#include <cmath>
#include <deque>

#include "container/mpegts/pes_clip.h"
#include "container/mpegts/units.h"

namespace ruedo::mpegts {

/// The last unit of `stream` whose decoding time is at or before `ticks`, by bisection.
Result<std::uint64_t> find_place(const Shared& shared, const Stream& stream, std::int64_t ticks) {
    auto packets = shared.packets(stream);
    Pes pes;
    auto early = [&](std::uint64_t from, std::uint64_t before) -> Result<std::optional<bool>> {
        packets->seek(from);
        for (;;) {
            RUEDO_TRY(bool more, packets->next_head(pes));
            if (!more || pes.offset >= before) return std::nullopt;
            if (pes.pts) return shared.ticks(stream, pes.dts.value_or(*pes.pts), pes.offset) <= ticks;
        }
    };
    std::uint64_t low = shared.layout ? shared.layout->first : 0, high = shared.source->size().value_or(low);
    // The start is where it is; and where bytes come only in order, so does what is looked for.
    if (ticks <= 0 || shared.source->forward_only()) high = low;
    while (high - low > 64 * 188) {
        auto middle = low + (high - low) / 2;
        RUEDO_TRY(auto is_early, early(middle, high));
        if (is_early && *is_early)
            low = pes.offset;
        else
            high = middle;
    }
    auto best = low;
    packets->seek(low);
    for (;;) {
        RUEDO_TRY(bool more, packets->next_head(pes));
        if (!more) break;
        if (!pes.pts) continue;
        if (shared.ticks(stream, pes.dts.value_or(*pes.pts), pes.offset) > ticks) break;
        best = pes.offset;
    }
    return best;
}

Result<bool> ByUnits::next(PacketHead& head) {
    for (;;) {
        RUEDO_TRY(bool more, advance(head));
        if (!more) return false;
        if (begun_ || head.keyframe) break;
    }
    begun_ = true;
    return true;
}
Status ByUnits::seek(Time t) {
    std::uint64_t place = UINT64_MAX;
    if (!stream_.counted) {
        RUEDO_TRY(place, find_place(*shared_, stream_, time_to_ticks_floor(t + 1_ns, 90000)));
    }
    // Back from there in growing steps to the last keyframe shown at or before it. Times are counted on from stamps, so
    // the second walk begins where the first one did.
    for (std::uint64_t back = 1 << 18;; back *= 2) {
        auto from = place > back && !stream_.counted ? place - back : 0;
        std::optional<std::size_t> key;
        PacketHead head;
        go_to(from);
        for (std::size_t i = 0;; ++i) {
            RUEDO_TRY(bool more, advance(head));
            if (!more || offset_ > place || head.dts > t) break;
            if (head.keyframe && head.pts <= t) key = i;
        }
        if (!key && from > 0) continue;
        go_to(from);
        for (std::size_t i = 0; i < key.value_or(0); ++i) RUEDO_TRY_DO(advance(head));
        return {};
    }
}

namespace {

/// Pictures that each fill a PES packet.
class VideoReader final : public PesReader {
  public:
    VideoReader(std::shared_ptr<const Shared> shared, const Stream& stream)
        : shared_(std::move(shared)), stream_(stream), packets_(shared_->packets(stream)) {}
    Result<bool> next(PacketHead& head) override {
        if (!ahead_) RUEDO_TRY_DO(fetch(ahead_));
        if (!ahead_) return false;
        std::optional<Pes> after;
        RUEDO_TRY_DO(fetch(after));
        unit_ = std::move(*ahead_), ahead_ = std::move(after);
        head = {};
        auto ticks = shared_->ticks(stream_, *unit_.pts, unit_.offset);
        head.pts = Shared::time(ticks);
        head.dts = Shared::time(shared_->ticks(stream_, unit_.dts.value_or(*unit_.pts), unit_.offset));
        if (ahead_) {
            auto step = shared_->ticks(stream_, ahead_->dts.value_or(*ahead_->pts), ahead_->offset) -
                        shared_->ticks(stream_, unit_.dts.value_or(*unit_.pts), unit_.offset);
            if (step > 0 && step < 10 * 90000) last_step_ = step;
        }
        head.duration = Shared::time(ticks + last_step_) - head.pts;
        head.keyframe = is_keyframe(stream_.track.codec, unit_.data);
        head.size = unit_.data.size();
        return true;
    }
    Status read(Bytes& out) override {
        if (stream_.track.codec == Codec::mpeg4)
            out = unit_.data;
        else
            from_annex_b(unit_.data, out);
        return {};
    }
    Status seek(Time t) override {
        auto wanted = time_to_ticks_floor(t + 1_ns, 90000);
        RUEDO_TRY(auto place, find_place(*shared_, stream_, wanted));
        // Back from there in growing steps to the last keyframe shown at or before it.
        for (std::uint64_t back = 1 << 18;; back *= 2) {
            auto from = place > back ? place - back : 0;
            packets_->seek(from);
            std::optional<std::uint64_t> key;
            for (;;) {
                Pes pes;
                RUEDO_TRY(bool more, packets_->next_head(pes));
                if (!more || pes.offset > place) break;
                if (!pes.pts || !is_keyframe(stream_.track.codec, pes.data, true)) continue;
                if (shared_->ticks(stream_, *pes.pts, pes.offset) <= wanted) key = pes.offset;
            }
            if (!key && from > 0) continue;
            packets_->seek(key.value_or(0));
            break;
        }
        ahead_.reset();
        do {
            RUEDO_TRY_DO(fetch(ahead_));
        } while (ahead_ && !is_keyframe(stream_.track.codec, ahead_->data));
        return {};
    }

    void go_to(std::uint64_t offset) override {
        packets_->seek(offset);
        ahead_.reset();
    }

  private:
    Status fetch(std::optional<Pes>& pes) {
        pes.reset();
        for (Pes found;;) {
            RUEDO_TRY(bool more, packets_->next(found));
            if (!more) return {};
            if (!found.pts || found.data.empty()) continue;
            pes = std::move(found);
            return {};
        }
    }
    std::shared_ptr<const Shared> shared_;
    const Stream& stream_;
    std::unique_ptr<PesSource> packets_;
    Pes unit_;
    std::optional<Pes> ahead_;
    std::int64_t last_step_ = 0;
};

class AudioFrames final : public PesReader {
  public:
    AudioFrames(std::shared_ptr<const Shared> shared, const Stream& stream)
        : shared_(std::move(shared)),
          stream_(stream),
          packets_(shared_->packets(stream)),
          parse_(frame_parser(stream.track.codec)) {}
    Result<bool> next(PacketHead& head) override {
        for (;;) {
            while (at_ + 7 <= held_.size()) {
                auto here = ByteView(held_).subspan(at_);
                auto frame = parse_(here);
                if (!frame) {
                    ++at_;
                    continue;
                }
                if (at_ + frame->size > held_.size()) break;
                // A stamp belongs to the first frame that begins in its packet.
                if (stamp_ && at_ >= stamp_at_) {
                    auto rate = static_cast<std::uint64_t>(frame->rate);
                    auto stated = ticks_to_time(*stamp_, 1, 90000);
                    auto counted = ticks_to_time(samples_, 1, rate);
                    // Stamps are rounded to ticks; frames are laid end to end unless they are clearly apart.
                    if (!anchored_ || std::abs((stated - origin_ - counted).ns) > (20_ms).ns)
                        origin_ = stated, samples_ = 0;
                    anchored_ = true;
                    stamp_.reset();
                }
                // Only AAC has a decoder that wants its frames without their heads.
                auto head_size = frame->codec == Codec::aac ? frame->header : 0;
                begin_ = at_ + head_size;
                size_ = frame->size - head_size;
                at_ += frame->size;
                if (!anchored_) continue;
                auto rate = static_cast<std::uint64_t>(frame->rate);
                head = {};
                head.pts = origin_ + ticks_to_time(samples_, 1, rate);
                samples_ += frame->samples;
                head.duration = origin_ + ticks_to_time(samples_, 1, rate) - head.pts;
                head.keyframe = true;
                head.size = size_;
                return true;
            }
            Pes pes;
            RUEDO_TRY(bool more, packets_->next(pes));
            if (!more) return false;
            held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(std::min(at_, held_.size())));
            at_ = 0;
            if (held_.size() > (1 << 20)) held_.clear();
            if (pes.pts) stamp_ = shared_->ticks(stream_, *pes.pts, pes.offset), stamp_at_ = held_.size();
            held_.insert(held_.end(), pes.data.begin(), pes.data.end());
        }
    }
    Status read(Bytes& out) override {
        out.assign(held_.begin() + static_cast<std::ptrdiff_t>(begin_),
                   held_.begin() + static_cast<std::ptrdiff_t>(begin_ + size_));
        return {};
    }
    Status seek(Time t) override {
        // A little early: frames are passed over up to the one that holds `t`.
        RUEDO_TRY(auto place, find_place(*shared_, stream_, time_to_ticks_floor(t, 90000) - 9000));
        go_to(place);
        PacketHead head;
        std::size_t skip = 0;
        for (;;) {
            RUEDO_TRY(bool more, next(head));
            if (!more || head.pts + head.duration > t) break;
            ++skip;
        }
        go_to(place);
        for (; skip > 0; --skip) RUEDO_TRY_DO(next(head));
        return {};
    }

    void go_to(std::uint64_t offset) override {
        packets_->seek(offset);
        held_.clear();
        at_ = 0, anchored_ = false, stamp_.reset();
    }

  private:
    std::shared_ptr<const Shared> shared_;
    const Stream& stream_;
    std::unique_ptr<PesSource> packets_;
    ParseFrame parse_;
    Bytes held_;
    std::size_t at_ = 0, stamp_at_ = 0, begin_ = 0, size_ = 0;
    std::optional<std::int64_t> stamp_;
    Time origin_{};
    std::int64_t samples_ = 0;
    bool anchored_ = false;
};

/// MPEG-1 and MPEG-2 video, whose pictures keep neither to PES packets nor have a stamp each. Times that are a whole
/// number of fields from the first picture's, but for the rounding of stamps, are taken to be exactly that.
class UnitReader final : public ByUnits {
  public:
    UnitReader(std::shared_ptr<const Shared> shared, const Stream& stream)
        : ByUnits(std::move(shared), stream),
          units_(shared_->packets(stream), stream.track.codec, stream.sequence->progressive) {}
    Status read(Bytes& out) override {
        out = current_.unit.data;
        return {};
    }

  private:
    struct Timed {
        AccessUnit unit;
        Time dts{};
        std::optional<Time> pts;
    };
    static bool is_key(const Timed& t) { return t.unit.picture.type == 'I'; }
    static bool is_between(const Timed& t) { return t.unit.picture.type == 'B'; }
    Time fields(std::int64_t n) const {
        auto& rate = stream_.sequence->rate;
        return ticks_to_time(n, static_cast<std::uint64_t>(rate.den), static_cast<std::uint64_t>(rate.num * 2));
    }
    Time on_grid(Time t) const {
        if (!stream_.first) return t;
        auto first = Shared::time(*stream_.first);
        auto& rate = stream_.sequence->rate;
        auto seconds = static_cast<double>((t - first).ns) / 1e9;
        auto n = std::llround(seconds * 2 * static_cast<double>(rate.num) / static_cast<double>(rate.den));
        auto exact = first + fields(n);
        return std::abs((t - exact).ns) <= 23'000 ? exact : t;  // two ticks of a stamp
    }
    Time stamp(std::int64_t stated, const AccessUnit& unit) const {
        return on_grid(Shared::time(shared_->ticks(stream_, stated, unit.offset)));
    }
    void walk_from(std::uint64_t offset) override {
        units_.seek(stream_.counted ? 0 : offset);
        ahead_.clear();
        clock_.reset();
        ended_ = false;
    }
    /// One more unit with its decoding time; those before the first stamp have none and are left out.
    Status fetch() {
        Timed t;
        RUEDO_TRY(bool more, units_.next(t.unit));
        if (!more) {
            ended_ = true;
            return {};
        }
        if (t.unit.pts) {
            t.pts = stamp(*t.unit.pts, t.unit);
            t.dts = t.unit.dts ? stamp(*t.unit.dts, t.unit) : *t.pts;
            if (!is_between(t)) delayed_ = t.dts != *t.pts;
        } else if (clock_) {
            t.dts = *clock_;
        } else if (stream_.counted && t.unit.picture.type == 'I') {
            t.dts = *stream_.counted;
        } else {
            return {};
        }
        clock_ = on_grid(t.dts + fields(t.unit.picture.fields));
        ahead_.push_back(std::move(t));
        return {};
    }
    /// Looks ahead until the first one's presentation time is known; false at the end.
    Result<bool> peek() {
        while (ahead_.empty() && !ended_) RUEDO_TRY_DO(fetch());
        if (ahead_.empty()) return false;
        auto& first = ahead_[0];
        if (first.pts) return true;
        if (is_between(first) || !delayed_) {
            first.pts = first.dts;
            return true;
        }
        // It is shown when the next one on which others depend is decoded.
        for (std::size_t i = 1;; ++i) {
            while (i >= ahead_.size() && !ended_ && i < 64) RUEDO_TRY_DO(fetch());
            if (i < ahead_.size() && is_between(ahead_[i])) continue;
            ahead_[0].pts = i < ahead_.size() ? ahead_[i].dts : clock_.value_or(ahead_[0].dts);
            return true;
        }
    }
    Result<bool> advance(PacketHead& head) override {
        RUEDO_TRY(bool more, peek());
        if (!more) return false;
        current_ = std::move(ahead_[0]);
        offset_ = current_.unit.offset;
        ahead_.pop_front();
        head = {};
        head.pts = *current_.pts;
        head.dts = std::min(current_.dts, head.pts);
        head.duration = on_grid(head.pts + fields(current_.unit.picture.fields)) - head.pts;
        head.keyframe = is_key(current_);
        head.size = current_.unit.data.size();
        return true;
    }

    UnitSplitter units_;
    std::deque<Timed> ahead_;
    Timed current_;
    std::optional<Time> clock_;  ///< When the next one is decoded, unless it says otherwise.
    bool delayed_ = true, ended_ = false;
};

}  // namespace

std::unique_ptr<PesReader> make_reader(std::shared_ptr<const Shared> shared, const Stream& s) {
    if (s.sequence) return std::make_unique<UnitReader>(std::move(shared), s);
    if (s.by_units) return access_unit_reader(std::move(shared), s);
    if (s.track.kind == Kind::video) return std::make_unique<VideoReader>(std::move(shared), s);
    return std::make_unique<AudioFrames>(std::move(shared), s);
}

}  // namespace ruedo::mpegts
