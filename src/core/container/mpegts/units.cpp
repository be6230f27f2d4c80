// SPDX-License-Identifier: Apache-2.0
#include "container/mpegts/units.h"

#include <algorithm>

namespace ruedo::mpegts {
namespace {
constexpr std::size_t most_held = 32 << 20;
bool begins_unit(std::uint8_t code) { return code == 0xB3 || code == 0xB8 || code == 0x00; }
}  // namespace

void UnitSplitter::seek(std::uint64_t offset) {
    packets_->seek(offset);
    held_.clear();
    marks_.clear();
    ended_ = false;
}

Outcome UnitSplitter::fill() {
    Pes pes;
    TRY(bool more, packets_->next(pes));
    if (!more || held_.size() > most_held) {
        ended_ = true;
        return {};
    }
    marks_.push_back({held_.size(), pes.offset, pes.pts, pes.dts});
    held_.insert(held_.end(), pes.data.begin(), pes.data.end());
    return {};
}

/// Takes a unit out, and what stands before it away.
void UnitSplitter::cut(std::size_t from, std::size_t to, PictureUnit& unit) {
    unit = {};
    unit.data.assign(held_.begin() + static_cast<std::ptrdiff_t>(from),
                     held_.begin() + static_cast<std::ptrdiff_t>(to));
    // A stamp belongs to the first picture that begins in its packet.
    while (marks_.size() > 1 && marks_[1].at <= from) marks_.pop_front();
    if (!marks_.empty() && marks_[0].at <= from) {
        auto& mark = marks_[0];
        unit.offset = mark.offset;
        unit.pts = std::exchange(mark.pts, std::nullopt);
        unit.dts = std::exchange(mark.dts, std::nullopt);
    }
    held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(to));
    for (auto& m : marks_) m.at = m.at > to ? m.at - to : 0;
}

Result<bool> UnitSplitter::next(PictureUnit& unit) {
    for (;;) {
        // A unit begins with its headers, holds one frame's slices, and ends where the next one begins.
        std::optional<std::size_t> begin, end;
        bool picture = false, second_due = false, sequence = false;
        for (std::size_t from = 0; !end;) {
            auto at = next_start_code(held_, from);
            // A picture's coding extension must be there as well: fill up behind each code.
            if (!at || (*at + 64 > held_.size() && !ended_)) {
                if (ended_) break;
                from = std::max(from, at ? *at : held_.size() - std::min<std::size_t>(held_.size(), 3));
                TRY_DO(fill());
                continue;
            }
            auto code = held_[*at + 3];
            from = *at + 4;
            if (!begin && begins_unit(code)) begin = *at;
            if (!begin) continue;
            if (code == 0xB7) {
                end = *at + 4;
            } else if (picture && !second_due && begins_unit(code)) {
                end = *at;
            } else if (code == 0xB3) {
                sequence = true;
            } else if (code == 0x00) {
                auto head = parse_mpeg_picture(ByteView(held_).subspan(*at), progressive_);
                second_due = !picture && head && !head->frame;
                picture = true;
            }
        }
        if (!begin) return false;
        if (!end && !picture) return false;
        cut(*begin, end.value_or(held_.size()), unit);
        auto head = parse_mpeg_picture(unit.data, progressive_);
        if (!head) continue;
        unit.picture = *head;
        unit.sequence = sequence;
        return true;
    }
}

}  // namespace ruedo::mpegts
