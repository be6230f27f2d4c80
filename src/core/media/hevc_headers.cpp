// SPDX-License-Identifier: Apache-2.0
#include <algorithm>

#include "media/codec_headers.h"

namespace ruedo {

std::vector<ByteView> split_annex_b(ByteView s) {
    std::vector<ByteView> units;
    std::size_t begin = s.size();
    auto close = [&](std::size_t end) {
        while (end > begin && s[end - 1] == 0) --end;
        if (begin < end) units.push_back(s.subspan(begin, end - begin));
    };
    for (std::size_t i = 0; i + 2 < s.size();) {
        if (s[i + 2] > 1)
            i += 3;
        else if (s[i] == 0 && s[i + 1] == 0 && s[i + 2] == 1) {
            close(i);
            begin = i + 3;
            i += 3;
        } else
            ++i;
    }
    close(s.size());
    return units;
}

void from_annex_b(ByteView stream, Bytes& out) {
    ByteWriter w;
    w.bytes.swap(out);
    w.bytes.clear();
    for (auto unit : split_annex_b(stream)) w.u32(unit.size()).raw(unit);
    out.swap(w.bytes);
}

Bytes make_avcc(ByteView annex_b) {
    std::vector<ByteView> sps, pps;
    for (auto unit : split_annex_b(annex_b)) {
        auto type = unit[0] & 0x1F;
        if (type == 7 && unit.size() >= 4 && sps.empty()) sps.push_back(unit);
        if (type == 8 && pps.size() < 32) pps.push_back(unit);
    }
    if (sps.empty() || pps.empty()) return {};
    ByteWriter w;
    w.u8(1).u8(sps[0][1]).u8(sps[0][2]).u8(sps[0][3]).u8(0xFF).u8(0xE1).u16(sps[0].size()).raw(sps[0]).u8(pps.size());
    for (auto p : pps) w.u16(p.size()).raw(p);
    // From High on, chroma and depth stand behind (clause 5.3.3.1.2); of the SPS extension there is none.
    auto read = parse_h264_sps(sps[0]);
    if (read && (read->profile == 100 || read->profile == 110 || read->profile == 122 || read->profile == 144))
        w.u8(0xFC | read->chroma_format).u8(0xF8 | (read->bit_depth - 8)).u8(0xF8 | (read->bit_depth - 8)).u8(0);
    return w.bytes;
}

std::optional<HevcSps> parse_hevc_sps(ByteView nal) {
    if (nal.size() < 8 || (nal[0] >> 1 & 0x3F) != 33) return std::nullopt;
    auto raw = without_emulation(nal.subspan(2));
    BitReader r(raw);
    HevcSps s;
    r.bits(4);
    auto sub_layers = r.bits(3);
    r.bit();
    r.bits(2);
    s.tier = r.bit();
    s.profile = r.bits(5);
    s.compatibility = r.bits(32);
    for (auto& c : s.constraints) c = static_cast<std::uint8_t>(r.bits(8));
    s.level = r.bits(8);
    std::array<bool, 8> has_profile{}, has_level{};
    for (unsigned i = 0; i < sub_layers; ++i) has_profile[i] = r.bit(), has_level[i] = r.bit();
    if (sub_layers > 0)
        for (unsigned i = sub_layers; i < 8; ++i) r.bits(2);
    for (unsigned i = 0; i < sub_layers; ++i) {
        if (has_profile[i]) r.bits(32), r.bits(32), r.bits(24);
        if (has_level[i]) r.bits(8);
    }
    r.ue();
    s.chroma_format = r.ue();
    if (s.chroma_format == 3) r.bit();
    std::uint64_t wide = r.ue(), high = r.ue(), left = 0, right = 0, top = 0, bottom = 0;
    if (r.bit()) left = r.ue(), right = r.ue(), top = r.ue(), bottom = r.ue();
    unsigned unit_x = s.chroma_format == 1 || s.chroma_format == 2 ? 2 : 1, unit_y = s.chroma_format == 1 ? 2 : 1;
    if (wide > 32768 || high > 32768 || (left + right) * unit_x >= wide || (top + bottom) * unit_y >= high)
        return std::nullopt;
    s.width = static_cast<int>(wide - (left + right) * unit_x);
    s.height = static_cast<int>(high - (top + bottom) * unit_y);
    s.bit_depth = r.ue() + 8;
    s.bit_depth = std::max(s.bit_depth, r.ue() + 8);
    auto log2_poc = r.ue() + 4;
    if (r.overrun() || log2_poc > 16) return std::nullopt;
    bool all_layers = r.bit();
    for (unsigned i = all_layers ? 0 : sub_layers; i <= sub_layers; ++i)
        r.ue(), s.reorder = std::min(r.ue(), 16U), r.ue();
    for (int i = 0; i < 6; ++i) r.ue();
    if (r.bit() && r.bit()) {  // scaling lists
        for (unsigned size = 0; size < 4; ++size)
            for (unsigned m = 0; m < 6; m += size == 3 ? 3 : 1) {
                if (!r.bit()) {
                    r.ue();
                    continue;
                }
                auto n = std::min(64U, 1U << (4 + (size << 1)));
                if (size > 1) r.se();
                for (unsigned i = 0; i < n; ++i) r.se();
            }
    }
    r.bit(), r.bit();
    if (r.bit()) {  // PCM
        r.bits(8), r.ue(), r.ue(), r.bit();
    }
    auto sets = r.ue();
    if (sets > 64) return std::nullopt;
    std::vector<unsigned> deltas(sets);
    for (unsigned i = 0; i < sets && !r.overrun(); ++i) {
        if (i > 0 && r.bit()) {  // predicted from the one before
            r.bit(), r.ue();
            unsigned count = 0;
            for (unsigned k = 0; k <= deltas[i - 1]; ++k) {
                bool used = r.bit();
                if (used || r.bit()) ++count;
            }
            deltas[i] = count;
        } else {
            auto before = r.ue(), after = r.ue();
            if (before > 16 || after > 16) return std::nullopt;
            deltas[i] = before + after;
            for (unsigned k = 0; k < before + after; ++k) r.ue(), r.bit();
        }
    }
    if (r.bit()) {  // long-term pictures
        auto n = r.ue();
        for (unsigned i = 0; i < n && i < 33; ++i) r.bits(log2_poc), r.bit();
    }
    r.bit(), r.bit();
    if (r.overrun()) return std::nullopt;
    if (r.bit()) read_vui(r, s.pixel_aspect, s.colour);
    return s;
}

std::optional<HevcConfig> parse_hvcc(ByteView hvcc) {
    ByteReader r(hvcc);
    if (r.u8() != 1) return std::nullopt;
    r.skip(20);
    HevcConfig c;
    c.length_size = (r.u8() & 3U) + 1;
    auto arrays = r.u8();
    for (unsigned a = 0; a < arrays && !r.overrun(); ++a) {
        auto type = r.u8() & 0x3F;
        auto count = r.u16();
        for (unsigned i = 0; i < count && !r.overrun(); ++i) {
            auto nal = r.take(r.u16());
            if (nal.empty()) continue;
            if (type == 33 && !c.sps) c.sps = parse_hevc_sps(nal);
            ByteWriter w;
            w.u32(1).raw(nal);
            c.parameter_sets.insert(c.parameter_sets.end(), w.bytes.begin(), w.bytes.end());
        }
    }
    if (r.overrun() || c.length_size == 3) return std::nullopt;
    return c;
}

Bytes make_hvcc(ByteView annex_b) {
    std::array<std::vector<ByteView>, 3> sets;  // VPS, SPS, PPS
    std::optional<HevcSps> sps;
    for (auto unit : split_annex_b(annex_b)) {
        unsigned type = unit[0] >> 1 & 0x3F;
        if (type < 32 || type > 34 || sets[type - 32].size() >= 8) continue;
        sets[type - 32].push_back(unit);
        if (type == 33 && !sps) sps = parse_hevc_sps(unit);
    }
    if (!sps || sets[0].empty() || sets[2].empty()) return {};
    ByteWriter w;
    w.u8(1).u8(sps->tier << 5 | sps->profile).u32(sps->compatibility);
    w.raw(sps->constraints);
    w.u8(sps->level)
        .u16(0xF000)
        .u8(0xFC)
        .u8(0xFC | sps->chroma_format)
        .u8(0xF8 | (sps->bit_depth - 8))
        .u8(0xF8 | (sps->bit_depth - 8))
        .u16(0)
        .u8(0x0F)
        .u8(3);
    for (unsigned i = 0; i < 3; ++i) {
        w.u8(0x80 | (32 + i)).u16(sets[i].size());
        for (auto s : sets[i]) w.u16(s.size()).raw(s);
    }
    return w.bytes;
}

}  // namespace ruedo
