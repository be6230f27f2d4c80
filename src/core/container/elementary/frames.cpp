// SPDX-License-Identifier: Apache-2.0
#include "container/elementary/frames.h"

namespace ruedo::elementary {

Result<std::optional<AudioFrameHeader>> FrameIndex::find(SourceReader& reader, std::uint64_t& at) const {
    auto alike = [&](const AudioFrameHeader& f) { return f.rate == first_.rate && f.samples == first_.samples; };
    // What is no frame is passed over, up to a bound; a frame after such a gap must be followed by another one.
    constexpr std::uint64_t reach = 1 << 20;
    for (auto from = at; at < from + reach;) {
        if (at == from) {
            // Nearly always a frame begins right here; over a network no more is waited for.
            RUEDO_TRY(auto here, reader.view(at, 16));
            if (auto frame = here.size() < 10 ? std::nullopt : parse_(here); frame && alike(*frame)) return frame;
        }
        RUEDO_TRY(auto window, reader.view(at, 8192));
        if (window.size() < 10) return std::nullopt;
        for (std::size_t i = 0; i + 10 <= window.size(); ++i, ++at) {
            if (window[i] != 0xFF && window[i] != 0x0B) continue;
            auto frame = parse_(window.subspan(i));
            if (!frame || !alike(*frame)) continue;
            if (i + frame->size + 10 > window.size()) {
                RUEDO_TRY(auto after, reader.view(at + frame->size, 16));
                auto next = parse_(after);
                if (after.size() < 10 || (next && alike(*next))) return frame;
                // The view moved; look at this place's rest again.
                ++at;
                break;
            }
            auto next = parse_(window.subspan(i + frame->size));
            if (next && alike(*next)) return frame;
        }
        if (window.size() < 8192) return std::nullopt;
    }
    return std::nullopt;
}

Result<bool> FrameIndex::step() {
    if (ended_) return false;
    auto at = frontier_;
    RUEDO_TRY(auto frame, find(reader_, at));
    auto size = source_->size();
    if (!frame || (size && at + frame->size > *size)) {
        ended_ = true;
        return false;
    }
    if (count_ % every == 0 && count_ / every == marks_.size()) marks_.push_back(at);
    ++count_;
    frontier_ = at + frame->size;
    return true;
}

Result<FrameIndex::Place> FrameIndex::place_of(std::uint64_t number) {
    std::lock_guard lock(mutex_);
    while (count_ <= number && marks_.size() <= number / every) {
        RUEDO_TRY(bool more, step());
        if (!more) break;
    }
    auto mark = std::min<std::uint64_t>(number / every, marks_.size() - 1);
    return Place{mark * every, marks_[mark]};
}

Result<bool> FrameIndex::walk(std::uint64_t bytes) {
    std::lock_guard lock(mutex_);
    while (passed() < bytes) {
        RUEDO_TRY(bool more, step());
        if (!more) return true;
    }
    return false;
}

namespace {
class IndexedFrameReader final : public TrackReader {
  public:
    IndexedFrameReader(std::shared_ptr<FrameIndex> index, Time delay, bool without_header)
        : index_(std::move(index)), delay_(delay), bare_(without_header), reader_(index_->source()) {
        if (auto place = index_->place_of(0)) offset_ = place->offset;
    }
    Result<bool> next(PacketHead& head) override {
        RUEDO_TRY(auto frame, index_->find(reader_, offset_));
        if (!frame) return false;
        at_ = offset_ + (bare_ ? frame->header : 0);
        size_ = frame->size - (bare_ ? frame->header : 0);
        if (auto all = index_->source()->size(); all && at_ + size_ > *all) return false;
        head = {};
        head.pts = index_->time_of(number_) - delay_;
        head.duration = index_->time_of(number_ + 1) - index_->time_of(number_);
        head.keyframe = true;
        head.size = size_;
        head.offset = at_;
        offset_ += frame->size;
        ++number_;
        return true;
    }
    Status read(Bytes& out) override { return reader_.read(at_, size_, out); }
    Status seek(Time t) override {
        auto rate = static_cast<std::uint64_t>(index_->first().rate);
        auto target = static_cast<std::uint64_t>(
            std::max<std::int64_t>(0, time_to_ticks_floor(t + delay_, rate) / index_->first().samples));
        while (index_->time_of(target + 1) <= t + delay_) ++target;
        RUEDO_TRY(auto place, index_->place_of(target));
        number_ = place.number, offset_ = place.offset;
        while (number_ < target) {
            RUEDO_TRY(auto frame, index_->find(reader_, offset_));
            if (!frame) break;
            offset_ += frame->size;
            ++number_;
        }
        return {};
    }

  private:
    std::shared_ptr<FrameIndex> index_;
    Time delay_;
    bool bare_;
    SourceReader reader_;
    std::uint64_t number_ = 0, offset_ = 0, at_ = 0, size_ = 0;
};
}  // namespace

std::unique_ptr<TrackReader> frame_reader(std::shared_ptr<FrameIndex> index, Time delay, bool without_header) {
    return std::make_unique<IndexedFrameReader>(std::move(index), delay, without_header);
}

}  // namespace ruedo::elementary
