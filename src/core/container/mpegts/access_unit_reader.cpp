// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <deque>

#include "container/mpegts/pes_clip.h"
#include "container/mpegts/units.h"
#include "media/picture_order.h"

namespace ruedo::mpegts {
namespace {

/// Pictures that keep to no PES packets, of H.264, HEVC and MPEG-4 Visual. A stamp is of the first that begins in its
/// packet; the others are decoded at the pace of those that have one, and shown where their order says.
class AccessUnitReader final : public ByUnits {
  public:
    AccessUnitReader(std::shared_ptr<const Shared> shared, const Stream& stream)
        : ByUnits(std::move(shared), stream),
          units_(shared_->packets(stream), stream.track.codec),
          order_(stream.track),
          reorders_(PictureOrder::reorders(stream.track)),
          pace_(stream.pace) {}
    std::int64_t pace() const { return pace_; }
    Status read(Bytes& out) override {
        if (stream_.track.codec == Codec::mpeg4)
            out = current_.data;
        else
            from_annex_b(current_.data, out);
        return {};
    }

  private:
    struct Timed {
        std::int64_t number = 0;
        std::uint64_t offset = 0;
        std::int64_t dts = 0;             ///< Ticks since the clip's first sample.
        std::optional<std::int64_t> pts;  ///< Where it is stated.
        Bytes data;
    };
    void walk_from(std::uint64_t offset) override {
        units_.seek(offset);
        order_.reset(), places_.reset();
        ahead_.clear();
        clock_.reset();
        count_ = 0;
        ended_ = false;
    }
    /// One more with its decoding time; those before the first stamp have none and are left out.
    Status fetch() {
        AccessUnit unit;
        RUEDO_TRY(bool more, units_.next(unit));
        if (!more) {
            ended_ = true;
            return {};
        }
        Timed t{count_++, unit.offset, 0, {}, std::move(unit.data)};
        if (unit.pts) {
            t.pts = shared_->ticks(stream_, *unit.pts, unit.offset);
            t.dts = shared_->ticks(stream_, unit.dts.value_or(*unit.pts), unit.offset);
            if (clock_) {
                auto pictures = t.number - clock_->first, gap = t.dts - clock_->second;
                if (gap > 0 && gap < pictures * 10 * 90000) pace_ = (gap + pictures / 2) / pictures;
            }
            clock_ = {t.number, t.dts};
        } else if (clock_ && pace_ > 0) {
            t.dts = clock_->second + (t.number - clock_->first) * pace_;
        } else {
            return {};
        }
        if (reorders_) places_.add(order_.mark(t.data), t.number);
        ahead_.push_back(std::move(t));
        return {};
    }
    Result<bool> advance(PacketHead& head) override {
        while (ahead_.size() < 2 && !ended_) RUEDO_TRY_DO(fetch());
        std::optional<std::int64_t> place;
        while (reorders_ && !(place = places_.place(0, ended_)) && !ended_) RUEDO_TRY_DO(fetch());
        if (ahead_.empty()) return false;
        current_ = std::move(ahead_.front());
        ahead_.pop_front();
        offset_ = current_.offset;
        if (reorders_) places_.take();
        auto in_order = current_.dts + (place.value_or(current_.number) - current_.number) * pace_;
        if (current_.pts) delay_ = *current_.pts - in_order;
        auto pts = current_.pts.value_or(in_order + delay_);
        auto lasts = ahead_.empty() ? pace_ : ahead_.front().dts - current_.dts;
        head = {};
        head.pts = Shared::time(pts);
        head.dts = Shared::time(std::min(current_.dts, pts));
        head.duration = Shared::time(pts + (lasts > 0 && lasts < 10 * 90000 ? lasts : pace_)) - head.pts;
        head.keyframe = is_keyframe(stream_.track.codec, current_.data);
        head.size = current_.data.size();
        return true;
    }

    UnitSplitter units_;
    PictureOrder order_;
    DisplayOrder places_;
    bool reorders_;
    std::deque<Timed> ahead_;
    Timed current_;
    std::optional<std::pair<std::int64_t, std::int64_t>> clock_;  ///< The last that was stamped: its number, its time.
    std::int64_t pace_, delay_ = 0, count_ = 0;
    bool ended_ = false;
};

}  // namespace

std::unique_ptr<PesReader> access_unit_reader(std::shared_ptr<const Shared> shared, const Stream& stream) {
    return std::make_unique<AccessUnitReader>(std::move(shared), stream);
}
Result<std::int64_t> pace_of(std::shared_ptr<const Shared> shared, const Stream& stream) {
    AccessUnitReader pictures(std::move(shared), stream);
    PacketHead head;
    for (int i = 0; i < 32; ++i) {
        RUEDO_TRY(bool more, pictures.next(head));
        if (!more) break;
    }
    return pictures.pace();
}

}  // namespace ruedo::mpegts
