// SPDX-License-Identifier: Apache-2.0
#include "media/mpeg_video.h"

#include <algorithm>
#include <bit>

namespace ruedo {

std::optional<std::size_t> next_start_code(ByteView s, std::size_t from) {
    for (auto i = from; i + 4 <= s.size();) {
        if (s[i + 2] > 1)
            i += 3;
        else if (s[i] == 0 && s[i + 1] == 0 && s[i + 2] == 1)
            return i;
        else
            ++i;
    }
    return std::nullopt;
}

namespace {
/// Of the first start code with this byte, what follows it up to the end.
std::optional<std::size_t> find_code(ByteView s, std::size_t from, std::uint8_t code) {
    for (auto at = next_start_code(s, from); at; at = next_start_code(s, *at + 4))
        if (s[*at + 3] == code) return at;
    return std::nullopt;
}

constexpr std::uint8_t sequence_code = 0xB3, extension_code = 0xB5, group_code = 0xB8, picture_code = 0x00;

Rational frame_rate(unsigned code) {
    static constexpr std::array<std::pair<int, int>, 9> rates{
        {{0, 0}, {24000, 1001}, {24, 1}, {25, 1}, {30000, 1001}, {30, 1}, {50, 1}, {60000, 1001}, {60, 1}}};
    return code < rates.size() ? Rational{rates[code].first, rates[code].second} : Rational{};
}
/// ISO/IEC 11172-2 clause 2.4.3.2: the height of a pixel over its width, in ten-thousandths.
Rational first_aspect(unsigned code) {
    static constexpr std::array<int, 15> heights{0,    10000, 6735,  7031,  7615,  8055,  8437, 8935,
                                                 9157, 9815,  10255, 10695, 10950, 11575, 12015};
    if (code < 2 || code >= heights.size()) return {};
    return Rational{10000, heights[code]}.reduced();
}
}  // namespace

std::optional<MpegSequence> parse_mpeg_sequence(ByteView stream) {
    auto at = find_code(stream, 0, sequence_code);
    if (!at) return std::nullopt;
    BitReader r(stream.subspan(*at + 4));
    MpegSequence s;
    s.width = static_cast<int>(r.bits(12));
    s.height = static_cast<int>(r.bits(12));
    auto aspect = r.bits(4);
    s.rate = frame_rate(r.bits(4));
    if (r.overrun() || s.width == 0 || s.height == 0 || !s.rate.stated()) return std::nullopt;
    int shown_width = 0, shown_height = 0;
    for (auto next = next_start_code(stream, *at + 4); next; next = next_start_code(stream, *next + 4)) {
        auto code = stream[*next + 3];
        if (code == group_code || code == picture_code) break;
        if (code != extension_code) continue;
        BitReader e(stream.subspan(*next + 4));
        auto kind = e.bits(4);
        if (kind == 1 && !s.second) {
            s.second = true;
            s.profile_level = e.bits(8);
            s.progressive = e.bit();
            s.chroma_format = e.bits(2);
            s.width += static_cast<int>(e.bits(2) << 12);
            s.height += static_cast<int>(e.bits(2) << 12);
            e.bits(12 + 1 + 8 + 1);
            auto n = e.bits(2) + 1, d = e.bits(5) + 1;
            s.rate = Rational{s.rate.num * n, s.rate.den * d}.reduced();
        } else if (kind == 2) {
            e.bits(3);
            if (e.bit()) {
                s.colour.primaries = static_cast<std::uint8_t>(e.bits(8));
                s.colour.transfer = static_cast<std::uint8_t>(e.bits(8));
                s.colour.matrix = Colour::matrix_from_code(e.bits(8));
            }
            shown_width = static_cast<int>(e.bits(14));
            e.bit();
            shown_height = static_cast<int>(e.bits(14));
            if (e.overrun()) shown_width = shown_height = 0;
        }
    }
    s.colour.range = Colour::Range::limited;
    if (!s.second) {
        s.pixel_aspect = first_aspect(aspect);
    } else if (aspect >= 2 && aspect <= 4) {
        // The shape of the shown rectangle, which is the picture unless an extension says otherwise.
        static constexpr std::array<std::pair<int, int>, 3> shapes{{{4, 3}, {16, 9}, {221, 100}}};
        auto [w, h] = shapes[aspect - 2];
        auto across = shown_width > 0 && shown_height > 0 ? shown_width : s.width;
        auto down = shown_width > 0 && shown_height > 0 ? shown_height : s.height;
        s.pixel_aspect = Rational{std::int64_t{w} * down, std::int64_t{h} * across}.reduced();
    }
    if (s.pixel_aspect.num == s.pixel_aspect.den) s.pixel_aspect = {};
    return s;
}

Bytes mpeg_sequence_bytes(ByteView stream) {
    auto at = find_code(stream, 0, sequence_code);
    if (!at) return {};
    auto end = stream.size();
    for (auto next = next_start_code(stream, *at + 4); next; next = next_start_code(stream, *next + 4))
        if (auto code = stream[*next + 3]; code == group_code || code == picture_code) {
            end = *next;
            break;
        }
    return {stream.begin() + static_cast<std::ptrdiff_t>(*at), stream.begin() + static_cast<std::ptrdiff_t>(end)};
}

std::optional<MpegPicture> parse_mpeg_picture(ByteView stream, bool progressive) {
    auto at = find_code(stream, 0, picture_code);
    if (!at || *at + 6 > stream.size()) return std::nullopt;
    BitReader r(stream.subspan(*at + 4));
    r.bits(10);
    MpegPicture p;
    p.type = "?IPBD???"[r.bits(3)];
    for (auto next = next_start_code(stream, *at + 4); next; next = next_start_code(stream, *next + 4)) {
        auto code = stream[*next + 3];
        if (code != extension_code && code != 0xB2) break;
        BitReader e(stream.subspan(*next + 4));
        if (code != extension_code || e.bits(4) != 8) continue;
        e.bits(16 + 2);
        p.frame = e.bits(2) == 3;
        bool top_first = e.bit();
        e.bits(1 + 1 + 1 + 1 + 1);
        bool repeated = e.bit();
        e.bit();
        p.in_fields = !e.bit() && !e.overrun();
        if (p.frame && repeated) p.fields = !progressive ? 3 : top_first ? 6 : 4;
    }
    return p;
}

std::optional<Mpeg4Config> parse_mpeg4_config(ByteView stream) {
    Mpeg4Config c;
    for (auto at = next_start_code(stream, 0); at; at = next_start_code(stream, *at + 4)) {
        auto code = stream[*at + 3];
        BitReader r(stream.subspan(*at + 4));
        if (code == 0xB6) break;
        if (code == 0xB0) {
            c.profile_level = r.bits(8);
        } else if (code == 0xB5) {
            if (r.bit()) r.bits(4 + 3);
            if (r.bits(4) == 1 && r.bit()) {
                r.bits(3);
                c.colour.range = r.bit() ? Colour::Range::full : Colour::Range::limited;
                if (r.bit()) {
                    c.colour.primaries = static_cast<std::uint8_t>(r.bits(8));
                    c.colour.transfer = static_cast<std::uint8_t>(r.bits(8));
                    c.colour.matrix = Colour::matrix_from_code(r.bits(8));
                }
            }
        } else if (code >= 0x20 && code <= 0x2F) {
            r.bits(1 + 8);
            unsigned version = 1;
            if (r.bit()) version = r.bits(4), r.bits(3);
            auto aspect = r.bits(4);
            static constexpr std::array<std::pair<int, int>, 6> shapes{
                {{0, 0}, {0, 0}, {12, 11}, {10, 11}, {16, 11}, {40, 33}}};
            if (aspect == 15) {
                auto w = r.bits(8), h = r.bits(8);
                if (w && h && w != h) c.pixel_aspect = Rational{w, h}.reduced();
            } else if (aspect < shapes.size() && shapes[aspect].first) {
                c.pixel_aspect = {shapes[aspect].first, shapes[aspect].second};
            }
            if (r.bit()) {
                r.bits(2 + 1);
                if (r.bit())
                    for (int i = 0; i < 79; ++i) r.bit();
            }
            auto shape = r.bits(2);
            if (shape == 3 && version != 1) r.bits(4);
            c.rectangular = shape == 0;
            r.bit();
            auto resolution = r.bits(16);
            r.bit();
            c.time_bits = static_cast<unsigned>(
                std::max(1, static_cast<int>(std::bit_width(resolution > 0 ? resolution - 1 : 0U))));
            if (r.bit()) r.bits(c.time_bits);
            if (c.rectangular) {
                r.bit();
                c.width = static_cast<int>(r.bits(13));
                r.bit();
                c.height = static_cast<int>(r.bits(13));
            }
            if (r.overrun()) return std::nullopt;
            if (c.rectangular) r.bit();
            c.in_fields = r.bit() && !r.overrun();
            return c;
        }
    }
    return std::nullopt;
}

Bytes mpeg4_config_bytes(ByteView stream) {
    auto end = find_code(stream, 0, 0xB6);
    if (!end || !parse_mpeg4_config(stream.first(*end))) return {};
    // A group of pictures header belongs to the pictures.
    if (auto group = find_code(stream.first(*end), 0, 0xB3)) end = group;
    return {stream.begin(), stream.begin() + static_cast<std::ptrdiff_t>(*end)};
}

std::vector<Mpeg4Picture> split_mpeg4(ByteView packet, unsigned time_bits) {
    std::vector<Mpeg4Picture> out;
    std::size_t begin = 0;
    bool open = false;
    for (auto at = next_start_code(packet, 0); at; at = next_start_code(packet, *at + 4)) {
        if (open) {
            out.back().size = *at - out.back().begin;
            begin = *at;
            open = false;
        }
        if (packet[*at + 3] != 0xB6) continue;
        BitReader r(packet.subspan(*at + 4));
        Mpeg4Picture p;
        p.begin = begin;
        p.type = "IPBS"[r.bits(2)];
        while (r.bit() && !r.overrun()) {
        }
        r.bit();
        r.bits(time_bits);
        r.bit();
        p.coded = r.bit() && !r.overrun();
        out.push_back(p);
        open = true;
    }
    if (open) out.back().size = packet.size() - out.back().begin;
    return out;
}

}  // namespace ruedo
