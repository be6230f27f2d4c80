// SPDX-License-Identifier: Apache-2.0
#include "container/mpegts/packets.h"

namespace ruedo::mpegts {

std::optional<Layout> find_layout(ByteView head) {
    for (std::uint64_t size : {188U, 192U, 204U})
        for (std::uint64_t first = 0; first < size; ++first) {
            unsigned seen = 0, wanted = 0;
            for (auto at = first; at < head.size() && wanted < 8; at += size, ++wanted) seen += head[at] == 0x47;
            if (wanted >= 3 && seen == wanted) return Layout{first, size};
        }
    return std::nullopt;
}

void PacketWalker::seek(std::uint64_t offset) {
    at_ = offset <= layout_.first
              ? layout_.first
              : layout_.first + (offset - layout_.first + layout_.size - 1) / layout_.size * layout_.size;
}

Result<bool> PacketWalker::next(Packet& packet) {
    for (std::uint64_t lost = 0;;) {
        RUEDO_TRY(auto view, reader_.view(at_, 188));
        if (view.size() < 188) return false;
        if (view[0] != 0x47) {
            // Out of step: look for three sync bytes at their distance.
            if (++lost > (4 << 20)) return false;
            RUEDO_TRY(auto wide, reader_.view(at_, static_cast<std::size_t>(layout_.size) * 3));
            std::uint64_t skip = 1;
            while (skip < layout_.size &&
                   !(skip + 2 * layout_.size < wide.size() && wide[skip] == 0x47 && wide[skip + layout_.size] == 0x47))
                ++skip;
            lost += skip;
            at_ += skip;
            continue;
        }
        packet = {};
        packet.offset = at_;
        at_ += layout_.size;
        packet.unit_start = view[1] & 0x40;
        packet.pid = (view[1] & 0x1FU) << 8 | view[2];
        packet.scrambled = view[3] & 0xC0;
        if (view[1] & 0x80) continue;  // known to be damaged
        std::size_t from = 4;
        if (view[3] & 0x20) {
            std::size_t length = view[4];
            if (length > 183) continue;
            if (length > 0) packet.discontinuity = view[5] & 0x80, packet.random_access = view[5] & 0x40;
            from += 1 + length;
        }
        if (view[3] & 0x10 && from < 188) packet.payload = view.subspan(from, 188 - from);
        return true;
    }
}

std::int64_t read_stamp(ByteReader& r) {
    auto a = r.u8(), b = r.u8(), c = r.u8(), d = r.u8(), e = r.u8();
    return static_cast<std::int64_t>(a >> 1 & 7) << 30 | static_cast<std::int64_t>(b) << 22 |
           static_cast<std::int64_t>(c >> 1) << 15 | d << 7 | e >> 1;
}

bool begin_pes(Pes& pes, const Packet& packet) {
    ByteReader r(packet.payload);
    if (r.u24() != 1) return false;
    auto id = r.u8();
    std::size_t stated = r.u16();
    pes = {};
    pes.offset = packet.offset;
    pes.random_access = packet.random_access;
    if (id == 0xBC || id == 0xBE || id == 0xBF || id == 0xF0 || id == 0xF1 || id == 0xFF) return false;
    r.skip(1);
    auto flags = r.u8();
    auto length = r.u8();
    auto header = r.take(length);
    if (r.overrun()) return false;
    ByteReader h(header);
    if (flags & 0x80) pes.pts = read_stamp(h);
    if ((flags & 0xC0) == 0xC0) pes.dts = read_stamp(h);
    if (h.overrun()) pes.pts.reset(), pes.dts.reset();
    if (stated > 3U + length) pes.stated = stated - 3U - length;
    auto rest = r.rest();
    pes.data.assign(rest.begin(), rest.end());
    return true;
}

namespace {
constexpr std::size_t largest_unit = 32 << 20;
}

void PesWalker::seek(std::uint64_t offset) {
    packets_.seek(offset);
    begun_.reset();
}

Result<bool> PesWalker::next(Pes& pes) {
    Packet packet;
    for (;;) {
        RUEDO_TRY(bool more, packets_.next(packet));
        if (!more) break;
        if (packet.pid != pid_ || packet.payload.empty() || packet.scrambled) continue;
        if (!packet.unit_start) {
            if (begun_ && begun_->data.size() < largest_unit)
                begun_->data.insert(begun_->data.end(), packet.payload.begin(), packet.payload.end());
            continue;
        }
        Pes fresh;
        if (!begin_pes(fresh, packet)) continue;
        auto done = std::exchange(begun_, std::move(fresh));
        if (!done) continue;
        pes = std::move(*done);
        return true;
    }
    if (!begun_) return false;
    pes = std::move(*begun_);
    begun_.reset();
    return true;
}

Result<bool> PesWalker::next_head(Pes& pes) {
    Packet packet;
    for (;;) {
        RUEDO_TRY(bool more, packets_.next(packet));
        if (!more) return false;
        if (packet.pid != pid_ || !packet.unit_start || packet.scrambled || !begin_pes(pes, packet)) continue;
        pes.complete = false;
        return true;
    }
}

}  // namespace ruedo::mpegts
