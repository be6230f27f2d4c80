// SPDX-License-Identifier: Apache-2.0
#include "media/picture_order.h"

#include <algorithm>

#include "media/codec_headers.h"
#include "media/mpeg_video.h"

namespace ruedo {

PictureOrder::PictureOrder(const Track& track) : codec_(track.codec) {
    auto config = codec_ == Codec::h264 ? parse_avcc(track.config) : std::nullopt;
    if (!config || !config->sps) return;
    frame_num_bits_ = config->sps->frame_num_bits;
    order_bits_ = config->sps->order_bits;
    frames_only_ = config->sps->progressive;
}

bool PictureOrder::reorders(const Track& track) {
    if (track.codec == Codec::mpeg1 || track.codec == Codec::mpeg2 || track.codec == Codec::mpeg4) return true;
    auto config = track.codec == Codec::h264 ? parse_avcc(track.config) : std::nullopt;
    return config && config->sps && config->sps->order_type == 0;
}

void PictureOrder::reset() { high_ = low_ = references_ = between_ = 0, begun_ = false; }

PictureOrder::Mark PictureOrder::mark(ByteView packet) {
    if (codec_ == Codec::h264) return mark_h264(packet);
    // Between the last two pictures on which others depend, in the order they come.
    constexpr std::int64_t room = 1 << 20;
    bool between = false;
    if (codec_ == Codec::mpeg4) {
        auto pictures = split_mpeg4(packet, 1);
        between = !pictures.empty() && pictures[0].type == 'B';
    } else {
        auto picture = parse_mpeg_picture(packet, true);
        between = picture && picture->type == 'B';
    }
    if (between) return {(references_ - 1) * room + std::min(between_++, room - 2), false, true, false};
    between_ = 0;
    return {references_++ * room + room - 1, false, false, true};
}

PictureOrder::Mark PictureOrder::mark_h264(ByteView packet) {
    for (auto unit : split_annex_b(packet)) {
        auto type = unit[0] & 0x1F;
        if (type != 1 && type != 5) continue;
        auto raw = without_emulation(unit.first(std::min<std::size_t>(unit.size(), 64)));
        BitReader r(ByteView(raw).subspan(1));
        r.ue(), r.ue(), r.ue();  // first_mb_in_slice, slice_type, pic_parameter_set_id
        r.bits(frame_num_bits_);
        if (!frames_only_ && r.bit()) r.bit();
        if (type == 5) r.ue();
        std::int64_t low = r.bits(order_bits_), range = std::int64_t{1} << order_bits_;
        if (r.overrun()) break;
        std::int64_t high = 0;
        if (type != 5 && begun_) {
            // Clause 8.2.1.1: the nearest to the reference picture before.
            high = low < low_ && low_ - low >= range / 2  ? high_ + range
                   : low > low_ && low - low_ > range / 2 ? high_ - range
                                                          : high_;
        }
        if (unit[0] & 0x60) high_ = high, low_ = low;
        begun_ = true;
        return {high + low, type == 5};
    }
    return {high_ + low_ + 1, false};
}

namespace {
// So many pictures may be held back at most (ITU-T H.264 annex A.3.1); what is further apart is in order.
constexpr std::size_t farthest = 16;
}  // namespace

void DisplayOrder::add(const PictureOrder::Mark& mark, std::int64_t place) {
    if (mark.starts_run) ++run_;
    known_.push_back({run_, mark, place});
}

std::size_t DisplayOrder::rank(std::size_t i) const {
    auto& one = known_[taken_ + i];
    std::size_t before = 0;
    for (std::size_t k = 0; k < known_.size(); ++k)
        if (auto& other = known_[k]; other.run < one.run || (other.run == one.run && other.mark.key < one.mark.key))
            ++before;
    return before;
}

std::optional<std::int64_t> DisplayOrder::place(std::size_t i, bool ended) const {
    auto at = taken_ + i;
    if (at >= known_.size()) return std::nullopt;
    auto settles = [&](const One& later) { return later.mark.settles || later.run > known_[at].run; };
    bool settled = ended || known_[at].mark.settled || at + farthest < known_.size() ||
                   std::any_of(known_.begin() + static_cast<std::ptrdiff_t>(at) + 1, known_.end(), settles);
    if (!settled) return std::nullopt;
    return known_[rank(i)].place;
}

std::int64_t DisplayOrder::after(std::size_t i) const {
    auto next = rank(i) + 1;
    return next < known_.size() ? known_[next].place : known_[next - 1].place + 1;
}

void DisplayOrder::take() {
    ++taken_;
    // A picture far behind stands before everything still to come, so it no longer counts.
    while (taken_ > 2 * farthest) known_.pop_front(), --taken_;
}

void DisplayOrder::reset() {
    known_.clear();
    taken_ = 0;
}

}  // namespace ruedo
