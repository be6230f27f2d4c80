// SPDX-License-Identifier: Apache-2.0
// Walking program streams of ISO/IEC 13818-1 (clause 2.5.3) and 11172-1 (clause 2.4.3).
#include "container/mpegts/packets.h"
#include "media/mpeg_video.h"

namespace ruedo::mpegts {
namespace {

constexpr std::uint8_t end_code = 0xB9, pack_code = 0xBA, private_1 = 0xBD;

/// Takes the header off a packet of either standard; `body` follows the packet's length field.
bool unpack(ByteView body, Pes& pes) {
    ByteReader r(body);
    auto first = r.u8();
    if ((first & 0xC0) == 0x80) {
        auto flags = r.u8();
        ByteReader h(r.take(r.u8()));
        if (flags & 0x80) pes.pts = read_stamp(h);
        if ((flags & 0xC0) == 0xC0) pes.dts = read_stamp(h);
        if (h.overrun()) pes.pts.reset(), pes.dts.reset();
    } else {
        for (int i = 0; i < 16 && first == 0xFF; ++i) first = r.u8();
        if ((first & 0xC0) == 0x40) r.skip(1), first = r.u8();
        ByteReader h(body.subspan(r.position() - 1));
        if ((first & 0xF0) == 0x20 || (first & 0xF0) == 0x30) {
            pes.pts = read_stamp(h);
            if ((first & 0xF0) == 0x30) pes.dts = read_stamp(h);
            r.skip((first & 0xF0) == 0x30 ? 9 : 4);
        } else if (first != 0x0F) {
            return false;
        }
    }
    if (r.overrun()) return false;
    auto rest = r.rest();
    pes.data.assign(rest.begin(), rest.end());
    return true;
}

}  // namespace

void PackWalker::seek(std::uint64_t offset) {
    at_ = offset;
    in_step_ = offset == 0;
}

Result<bool> PackWalker::next(Pes& pes) {
    for (std::uint64_t lost = 0;;) {
        RUEDO_TRY(auto head, reader_.view(at_, 16));
        if (head.size() < 6) return false;
        bool code = head[0] == 0 && head[1] == 0 && head[2] == 1 && head[3] >= end_code;
        if (!code || (!in_step_ && head[3] != pack_code)) {
            // Out of step: the next pack, which nothing in a packet's payload is likely to look like.
            RUEDO_TRY(auto wide, reader_.view(at_, 1 << 14));
            auto from = next_start_code(wide, code ? 4 : 1);
            auto by = from ? *from : wide.size() > 4 ? wide.size() - 3 : wide.size();
            lost += by, at_ += by;
            in_step_ = false;
            if (lost > (16 << 20) || by == 0) return false;
            continue;
        }
        in_step_ = true;
        if (head[3] == end_code) {
            at_ += 4;
            continue;
        }
        if (head[3] == pack_code) {
            if (head.size() < 14) return false;
            at_ += (head[4] & 0xC0) == 0x40 ? 14U + (head[13] & 7U) : 12U;
            continue;
        }
        auto id = head[3];
        std::size_t length = static_cast<std::size_t>(head[4]) << 8 | head[5];
        auto offset = at_;
        bool carries = id == private_1 || (id >= 0xC0 && id <= 0xEF);
        if (!carries || (stream_ && id != (stream_ > 0xFF ? stream_ >> 8 : stream_))) {
            at_ += 6 + length;
            continue;
        }
        RUEDO_TRY(auto packet, reader_.view(offset + 6, std::min<std::size_t>(length, (1 << 16) - 1)));
        at_ += 6 + length;
        pes = {};
        pes.offset = offset;
        if (packet.size() < length || !unpack(packet, pes) || pes.data.empty()) continue;
        found_ = id;
        if (id == private_1) {
            // Its first byte identifies the stream inside; audio has three more before its frames.
            found_ = private_1 << 8 | pes.data[0];
            bool audio = pes.data[0] >= 0x80 && pes.data[0] <= 0x8F;
            if (stream_ && found_ != stream_) continue;
            pes.data.erase(pes.data.begin(),
                           pes.data.begin() + std::min<std::ptrdiff_t>(audio ? 4 : 1, std::ssize(pes.data)));
        }
        return true;
    }
}

}  // namespace ruedo::mpegts
