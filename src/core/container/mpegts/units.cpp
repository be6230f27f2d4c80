// SPDX-License-Identifier: Apache-2.0
#include "container/mpegts/units.h"

#include <algorithm>

namespace ruedo::mpegts {
namespace {
constexpr std::size_t most_held = 32 << 20;
constexpr std::size_t code_reach = 6;  ///< From a start code to the last bit that tells what it begins.

bool mpeg_video(Codec codec) { return codec == Codec::mpeg1 || codec == Codec::mpeg2; }

/// What a start code begins: something within a picture, what stands before one, one itself, or the end of it all.
enum class Begins { part, header, picture, end };
Begins begins(Codec codec, ByteView at) {
    auto code = at[3];
    auto among = [](unsigned v, unsigned from, unsigned to) { return v >= from && v <= to; };
    if (codec == Codec::h264) {
        auto type = code & 0x1FU;
        if (among(type, 6, 9) || among(type, 14, 18)) return Begins::header;
        // The first bit says that its first macroblock is the picture's first.
        return among(type, 1, 5) && type != 3 && type != 4 && at[4] & 0x80 ? Begins::picture : Begins::part;
    }
    if (codec == Codec::hevc) {
        auto type = code >> 1 & 0x3FU;
        if (among(type, 32, 35) || type == 39 || among(type, 41, 44) || among(type, 48, 55)) return Begins::header;
        return type < 32 && at[5] & 0x80 ? Begins::picture : Begins::part;
    }
    if (codec == Codec::mpeg4) {
        if (code == 0xB0 || code == 0xB3 || code == 0xB5 || code < 0x30) return Begins::header;
        return code == 0xB6 ? Begins::picture : code == 0xB1 ? Begins::end : Begins::part;
    }
    if (code == 0xB3 || code == 0xB8) return Begins::header;
    return code == 0x00 ? Begins::picture : code == 0xB7 ? Begins::end : Begins::part;
}
}  // namespace

int frames_in(Codec codec, ByteView data) {
    int n = 0;
    for (auto at = next_start_code(data, 0); at && *at + code_reach <= data.size(); at = next_start_code(data, *at + 4))
        n += begins(codec, data.subspan(*at)) == Begins::picture;
    return n;
}

void UnitSplitter::seek(std::uint64_t offset) {
    packets_->seek(offset);
    held_.clear();
    marks_.clear();
    ended_ = false;
}

Status UnitSplitter::fill() {
    Pes pes;
    RUEDO_TRY(bool more, packets_->next(pes));
    if (!more || held_.size() > most_held) {
        ended_ = true;
        return {};
    }
    marks_.push_back({held_.size(), pes.offset, pes.pts, pes.dts});
    held_.insert(held_.end(), pes.data.begin(), pes.data.end());
    return {};
}

/// Takes a unit out, and what stands before it away.
void UnitSplitter::cut(std::size_t from, std::size_t to, AccessUnit& unit) {
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

Result<bool> UnitSplitter::next(AccessUnit& unit) {
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
                RUEDO_TRY_DO(fill());
                continue;
            }
            from = *at + 4;
            if (*at + code_reach > held_.size()) continue;  // the last few bytes of all
            auto what = begins(codec_, ByteView(held_).subspan(*at));
            bool fresh = what == Begins::header || what == Begins::picture;
            if (!begin && fresh) begin = *at;
            if (!begin) continue;
            if (what == Begins::end) {
                end = *at + 4;
            } else if (picture && !second_due && fresh) {
                end = *at;
            } else if (what == Begins::picture) {
                auto head =
                    mpeg_video(codec_) ? parse_mpeg_picture(ByteView(held_).subspan(*at), progressive_) : std::nullopt;
                second_due = !picture && head && !head->frame;
                picture = true;
            } else if (mpeg_video(codec_) && held_[*at + 3] == 0xB3) {
                sequence = true;
            }
        }
        if (!begin) return false;
        if (!end && !picture) return false;
        cut(*begin, end.value_or(held_.size()), unit);
        if (mpeg_video(codec_)) {
            auto head = parse_mpeg_picture(unit.data, progressive_);
            if (!head) continue;
            unit.picture = *head;
        }
        unit.sequence = sequence;
        return true;
    }
}

}  // namespace ruedo::mpegts
