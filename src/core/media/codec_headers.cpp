// SPDX-License-Identifier: Apache-2.0
#include "media/codec_headers.h"
#include "media/mpeg_video.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <span>

namespace ruedo {

Bytes without_emulation(ByteView nal) {
    Bytes out;
    out.reserve(nal.size());
    for (std::size_t i = 0; i < nal.size(); ++i) {
        if (i >= 2 && i + 1 < nal.size() && nal[i] == 3 && nal[i - 1] == 0 && nal[i - 2] == 0) continue;
        out.push_back(nal[i]);
    }
    return out;
}

namespace {
void skip_scaling_list(BitReader& r, int size) {
    int last = 8, next = 8;
    for (int i = 0; i < size && !r.overrun(); ++i) {
        if (next != 0) next = (last + r.se() + 256) % 256;
        if (next != 0) last = next;
    }
}

constexpr std::array<std::pair<int, int>, 17> aspect_table{{{0, 0},
                                                            {1, 1},
                                                            {12, 11},
                                                            {10, 11},
                                                            {16, 11},
                                                            {40, 33},
                                                            {24, 11},
                                                            {20, 11},
                                                            {32, 11},
                                                            {80, 33},
                                                            {18, 11},
                                                            {15, 11},
                                                            {64, 33},
                                                            {160, 99},
                                                            {4, 3},
                                                            {3, 2},
                                                            {2, 1}}};

}  // namespace

void read_vui(BitReader& r, Rational& pixel_aspect, Colour& colour) {
    if (r.bit()) {  // aspect_ratio_info_present_flag
        auto idc = r.bits(8);
        if (idc == 255) {
            auto w = r.bits(16), h = r.bits(16);
            pixel_aspect = {w, h};
        } else if (idc < aspect_table.size()) {
            pixel_aspect = {aspect_table[idc].first, aspect_table[idc].second};
        }
    }
    if (r.bit()) r.bit();  // overscan
    if (r.bit()) {         // video_signal_type_present_flag
        r.bits(3);
        colour.range = r.bit() ? Colour::Range::full : Colour::Range::limited;
        if (r.bit()) {
            colour.primaries = static_cast<std::uint8_t>(r.bits(8));
            colour.transfer = static_cast<std::uint8_t>(r.bits(8));
            colour.matrix = Colour::matrix_from_code(r.bits(8));
        }
    }
}

std::optional<H264Sps> parse_h264_sps(ByteView nal) {
    if (nal.size() < 4 || (nal[0] & 0x1F) != 7) return std::nullopt;
    auto raw = without_emulation(nal);
    BitReader r(ByteView(raw).subspan(1));
    H264Sps s;
    s.profile = r.bits(8);
    s.constraints = r.bits(8);
    s.level = r.bits(8);
    r.ue();
    static constexpr std::array<unsigned, 13> high{100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135};
    if (std::find(high.begin(), high.end(), s.profile) != high.end()) {
        s.chroma_format = r.ue();
        if (s.chroma_format == 3) r.bit();
        s.bit_depth = std::max(r.ue(), 0U) + 8;
        s.bit_depth = std::max(s.bit_depth, r.ue() + 8);
        r.bit();
        if (r.bit())
            for (int i = 0; i < (s.chroma_format != 3 ? 8 : 12); ++i)
                if (r.bit()) skip_scaling_list(r, i < 6 ? 16 : 64);
    }
    s.frame_num_bits = std::min(r.ue(), 12U) + 4;
    s.order_type = r.ue();
    if (s.order_type == 0) {
        s.order_bits = std::min(r.ue(), 12U) + 4;
    } else if (s.order_type == 1) {
        r.bit(), r.se(), r.se();
        auto n = r.ue();
        for (unsigned i = 0; i < n && i < 256; ++i) r.se();
    }
    r.ue();
    r.bit();
    auto mbs_wide = r.ue() + 1ULL, map_units = r.ue() + 1ULL;
    s.progressive = r.bit();
    if (!s.progressive) r.bit();
    r.bit();
    std::uint64_t left = 0, right = 0, top = 0, bottom = 0;
    if (r.bit()) left = r.ue(), right = r.ue(), top = r.ue(), bottom = r.ue();
    if (mbs_wide > 2048 || map_units > 2048) return std::nullopt;
    unsigned unit_x = s.chroma_format == 1 || s.chroma_format == 2 ? 2 : 1;
    unsigned unit_y = (s.chroma_format == 1 ? 2 : 1) * (s.progressive ? 1 : 2);
    auto wide = mbs_wide * 16, high_px = map_units * 16 * (s.progressive ? 1 : 2);
    if ((left + right) * unit_x >= wide || (top + bottom) * unit_y >= high_px) return std::nullopt;
    s.width = static_cast<int>(wide - (left + right) * unit_x);
    s.height = static_cast<int>(high_px - (top + bottom) * unit_y);
    if (r.overrun()) return std::nullopt;
    if (r.bit()) read_vui(r, s.pixel_aspect, s.colour);
    return s;
}

std::optional<AvcConfig> parse_avcc(ByteView avcc) {
    ByteReader r(avcc);
    if (r.u8() != 1) return std::nullopt;
    r.skip(3);
    AvcConfig config;
    config.length_size = (r.u8() & 3) + 1;
    auto sets = [&](unsigned count) {
        for (unsigned i = 0; i < count; ++i) {
            auto nal = r.take(r.u16());
            if (nal.empty()) continue;
            if (!config.sps) config.sps = parse_h264_sps(nal);
            static constexpr std::array<std::uint8_t, 4> start{0, 0, 0, 1};
            config.parameter_sets.insert(config.parameter_sets.end(), start.begin(), start.end());
            config.parameter_sets.insert(config.parameter_sets.end(), nal.begin(), nal.end());
        }
    };
    sets(r.u8() & 0x1F);
    sets(r.u8());
    if (r.overrun() || config.length_size == 3) return std::nullopt;
    return config;
}

bool to_annex_b(ByteView sample, unsigned length_size, Bytes& out) {
    ByteReader r(sample);
    while (r.left() > 0) {
        auto size = r.be(length_size);
        auto nal = r.take(size);
        if (r.overrun()) return false;
        if (nal.empty()) continue;
        static constexpr std::array<std::uint8_t, 4> start{0, 0, 0, 1};
        out.insert(out.end(), start.begin(), start.end());
        out.insert(out.end(), nal.begin(), nal.end());
    }
    return true;
}

std::optional<AacConfig> parse_aac_config(ByteView asc) {
    static constexpr std::array<int, 13> rates{96000, 88200, 64000, 48000, 44100, 32000, 24000,
                                               22050, 16000, 12000, 11025, 8000,  7350};
    BitReader r(asc);
    auto object = [&] {
        auto t = r.bits(5);
        return t == 31 ? 32 + r.bits(6) : t;
    };
    auto rate = [&] {
        auto i = r.bits(4);
        return i == 15 ? static_cast<int>(r.bits(24)) : i < rates.size() ? rates[i] : 0;
    };
    AacConfig c;
    c.object_type = object();
    c.rate = rate();
    auto channels = r.bits(4);
    c.channels = channels == 7 ? 8 : static_cast<int>(channels);
    if (c.object_type == 5 || c.object_type == 29) {
        c.sbr = true;
        c.ps = c.object_type == 29;
        c.rate = rate();
        c.object_type = object();
        if (c.ps && c.channels == 1) c.channels = 2;
    } else if (r.left() > 16) {
        // Backward-compatible signalling follows GASpecificConfig (three flags here).
        r.bits(3);
        if (r.bits(11) == 0x2B7 && object() == 5 && r.bit()) {
            c.sbr = true;
            c.rate = rate();
            if (r.left() > 11 && r.bits(11) == 0x548 && r.bit()) {
                c.ps = true;
                if (c.channels == 1) c.channels = 2;
            }
        }
    }
    if (r.overrun() || c.rate <= 0 || c.rate > 192000) return std::nullopt;
    return c;
}

Bytes asc_from_esds(ByteView esds, unsigned& object_type_indication) {
    ByteReader r(esds);
    auto descriptor = [&](unsigned& tag) {
        tag = r.u8();
        std::uint32_t size = 0;
        for (int i = 0; i < 4; ++i) {
            auto b = r.u8();
            size = size << 7 | (b & 0x7F);
            if (!(b & 0x80)) break;
        }
        return size;
    };
    for (int i = 0; i < 16 && r.left() > 0; ++i) {
        unsigned tag = 0;
        auto size = descriptor(tag);
        if (tag == 3) {
            r.skip(2);
            auto flags = r.u8();
            if (flags & 0x80) r.skip(2);
            if (flags & 0x40) r.skip(r.u8());
            if (flags & 0x20) r.skip(2);
        } else if (tag == 4) {
            object_type_indication = r.u8();
            r.skip(12);
        } else if (tag == 5) {
            auto asc = r.take(size);
            return {asc.begin(), asc.end()};
        } else {
            r.skip(size);
        }
    }
    return {};
}

std::optional<OpusHead> parse_opus_head(ByteView head) {
    ByteReader r(head);
    auto magic = r.take(8);
    if (magic.size() != 8 || std::memcmp(magic.data(), "OpusHead", 8) != 0 || head.size() < 19) return std::nullopt;
    r.skip(1);
    OpusHead o;
    o.channels = r.u8();
    o.pre_skip = static_cast<unsigned>(r.le(2));
    return o.channels >= 1 && o.channels <= 8 ? std::optional(o) : std::nullopt;
}

unsigned opus_packet_samples(ByteView packet) {
    if (packet.empty()) return 0;
    auto toc = packet[0];
    unsigned config = toc >> 3;
    unsigned frame = config < 12   ? std::array<unsigned, 4>{480, 960, 1920, 2880}[config & 3]
                     : config < 16 ? std::array<unsigned, 2>{480, 960}[config & 1]
                                   : std::array<unsigned, 4>{120, 240, 480, 960}[config & 3];
    unsigned count = (toc & 3) == 0 ? 1 : (toc & 3) < 3 ? 2 : packet.size() > 1 ? packet[1] & 0x3F : 0;
    return frame * count > 5760 ? 0 : frame * count;
}

namespace {
/// VP9 bitstream specification clauses 6.2.8, 6.2.9 and 6.2.11.
void skip_vp9_filter_quantizer_segments(BitReader& r) {
    auto coded = [&](unsigned n) { return r.bit() ? r.bits(n) : 0; };
    r.bits(9);  // loop_filter_level, loop_filter_sharpness
    if (r.bit() && r.bit())
        for (int i = 0; i < 4 + 2; ++i) coded(7);
    r.bits(8);  // base_q_idx
    for (int i = 0; i < 3; ++i) coded(5);
    if (!r.bit()) return;
    if (r.bit()) {
        for (int i = 0; i < 7; ++i) coded(8);
        if (r.bit())
            for (int i = 0; i < 3; ++i) coded(8);
    }
    if (!r.bit()) return;
    r.bit();
    // The values of a segment's features, with their signs.
    for (int i = 0; i < 8; ++i)
        for (unsigned n : {9, 7, 2, 0}) coded(n);
}
}  // namespace

std::optional<Vp9Header> parse_vp9_keyframe(ByteView frame) {
    BitReader r(frame);
    if (r.bits(2) != 2) return std::nullopt;
    Vp9Header h;
    h.profile = r.bit();
    h.profile |= r.bit() << 1;
    if (h.profile == 3) r.bit();
    if (r.bit()) return std::nullopt;       // show_existing_frame
    if (r.bit() != 0) return std::nullopt;  // not a keyframe
    r.bit();                                // show_frame
    bool error_resilient = r.bit();
    if (r.bits(24) != 0x498342) return std::nullopt;
    if (h.profile >= 2) h.bit_depth = r.bit() ? 12 : 10;
    auto space = r.bits(3);
    static constexpr std::array<Colour::Matrix, 8> matrices{
        Colour::Matrix::unspecified, Colour::Matrix::bt601,  Colour::Matrix::bt709,       Colour::Matrix::bt601,
        Colour::Matrix::unspecified, Colour::Matrix::bt2020, Colour::Matrix::unspecified, Colour::Matrix::identity};
    h.colour.matrix = matrices[space];
    if (space != 7) {
        h.colour.range = r.bit() ? Colour::Range::full : Colour::Range::limited;
        if (h.profile == 1 || h.profile == 3) {
            auto across = r.bit(), down = r.bit();
            h.subsampled = across && down;
            r.bit();
        }
    } else {
        h.colour.range = Colour::Range::full;
        h.subsampled = false;
        if (h.profile == 1 || h.profile == 3) r.bit();
    }
    h.width = static_cast<int>(r.bits(16)) + 1, h.height = static_cast<int>(r.bits(16)) + 1;
    if (r.bit()) r.bits(32);          // render_size
    if (!error_resilient) r.bits(2);  // refresh_frame_context, frame_parallel_decoding_mode
    r.bits(2);                        // frame_context_idx
    skip_vp9_filter_quantizer_segments(r);
    // Clause 6.2.13: as many columns as their least and largest width allow, doubled for each bit.
    int blocks = (h.width + 63) / 64, least = 0, most = 1;
    while ((64 << least) < blocks) ++least;
    while ((blocks >> most) >= 4) ++most;
    while (least < most - 1 && r.bit()) ++least;
    h.tile_columns = 1U << least;
    if (r.bit()) r.bit();  // tile_rows_log2
    h.compressed_size = r.bits(16);
    // Without a compressed header there is no frame (clause 6.2).
    return r.overrun() || h.compressed_size == 0 ? std::nullopt : std::optional(h);
}

namespace {
bool h264_disposable(const Track& track, ByteView packet) {
    auto config = parse_avcc(track.config);
    if (!config || config->length_size == 0) return false;
    bool any = false;
    for (ByteReader r(packet); r.left() > config->length_size;) {
        auto unit = r.take(r.be(config->length_size));
        if (unit.empty()) return false;
        auto type = unit[0] & 31U;
        if (type == 5 || type == 7 || type == 8) return false;
        if (type >= 1 && type <= 4) {
            if (unit[0] & 0x60) return false;
            any = true;
        }
    }
    return any;
}
bool vp9_disposable(ByteView packet) {
    // The last byte of a superframe (annex B) repeats its mark; hidden frames may be in it, so it is left alone.
    if (packet.empty() || (packet.back() & 0xE0) == 0xC0) return false;
    BitReader r(packet);
    if (r.bits(2) != 2) return false;
    unsigned profile = r.bit();
    profile |= r.bit() << 1;
    if (profile == 3) r.bit();
    if (r.bit()) return false;       // show_existing_frame
    if (r.bit() == 0) return false;  // a keyframe
    bool shown = r.bit(), resilient = r.bit();
    bool intra = shown ? false : r.bit();
    if (!resilient) r.bits(2);  // reset_frame_context
    if (intra) return false;
    return r.bits(8) == 0 && !r.overrun() && shown;
}
}  // namespace

bool is_keyframe(Codec codec, ByteView packet, bool parameters_count) {
    if (codec == Codec::vp8) return !packet.empty() && !(packet[0] & 1);
    if (codec == Codec::vp9) return parse_vp9_keyframe(packet).has_value();
    if (codec == Codec::mpeg1 || codec == Codec::mpeg2) {
        if (parameters_count && parse_mpeg_sequence(packet)) return true;
        auto picture = parse_mpeg_picture(packet, true);
        return picture && picture->type == 'I';
    }
    if (codec == Codec::mpeg4) {
        if (parameters_count && parse_mpeg4_config(packet)) return true;
        auto pictures = split_mpeg4(packet, 1);
        return !pictures.empty() && pictures[0].type == 'I';
    }
    if (codec != Codec::h264 && codec != Codec::hevc) return false;
    for (auto unit : split_annex_b(packet)) {
        if (codec == Codec::h264) {
            auto type = unit[0] & 0x1F;
            if (type == 5 || (parameters_count && type == 7)) return true;
            if (type == 1) return false;
        } else {
            auto type = unit[0] >> 1 & 0x3F;
            if ((type >= 16 && type <= 21) || (parameters_count && type == 33)) return true;
            if (type < 16) return false;
        }
    }
    return false;
}

bool disposable(const Track& track, ByteView packet) {
    if (track.codec == Codec::h264) return h264_disposable(track, packet);
    if (track.codec == Codec::mpeg1 || track.codec == Codec::mpeg2) {
        auto picture = parse_mpeg_picture(packet, true);
        return picture && picture->type == 'B';
    }
    if (track.codec == Codec::mpeg4) {
        auto pictures = split_mpeg4(packet, 1);
        return pictures.size() == 1 && pictures[0].type == 'B';
    }
    return track.codec == Codec::vp9 && vp9_disposable(packet);
}

Codec codec_of_fourcc(std::string tag) {
    std::transform(tag.begin(), tag.end(), tag.begin(),
                   [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    static const std::map<std::string, Codec, std::less<>> names{
        {"MJPG", Codec::mjpeg}, {"MPNG", Codec::png},   {"PNG ", Codec::png},   {"H264", Codec::h264},
        {"AVC1", Codec::h264},  {"X264", Codec::h264},  {"VP80", Codec::vp8},   {"VP90", Codec::vp9},
        {"AV01", Codec::av1},   {"HEVC", Codec::hevc},  {"XVID", Codec::mpeg4}, {"DIVX", Codec::mpeg4},
        {"DX50", Codec::mpeg4}, {"FMP4", Codec::mpeg4}, {"MP4V", Codec::mpeg4}, {"MPG1", Codec::mpeg1},
        {"MPG2", Codec::mpeg2}, {"MPEG", Codec::mpeg1}};
    auto it = names.find(tag);
    return it == names.end() ? Codec::unknown : it->second;
}

namespace {
struct LevelRow {
    unsigned level;
    std::uint64_t per_second, size;  ///< At most so many samples or blocks.
};
unsigned lowest_level(std::span<const LevelRow> rows, std::uint64_t size, double rate) {
    for (auto& r : rows)
        if (size <= r.size && static_cast<double>(size) * rate <= static_cast<double>(r.per_second)) return r.level;
    return 62;
}
}  // namespace

unsigned vp9_level(int width, int height, double rate) {
    static constexpr std::array<LevelRow, 13> levels{{{10, 829440, 36864},
                                                      {11, 2764800, 73728},
                                                      {20, 4608000, 122880},
                                                      {21, 9216000, 245760},
                                                      {30, 20736000, 552960},
                                                      {31, 36864000, 983040},
                                                      {40, 83558400, 2228224},
                                                      {41, 160432128, 2228224},
                                                      {50, 311951360, 8912896},
                                                      {51, 588251136, 8912896},
                                                      {52, 1176502272, 8912896},
                                                      {60, 1176502272, 35651584},
                                                      {61, 2353004544, 35651584}}};
    return lowest_level(levels, static_cast<std::uint64_t>(width) * static_cast<std::uint64_t>(height), rate);
}
unsigned h264_level(int width, int height, double rate) {
    static constexpr std::array<LevelRow, 17> levels{{{10, 1485, 99},
                                                      {11, 3000, 396},
                                                      {12, 6000, 396},
                                                      {13, 11880, 396},
                                                      {21, 19800, 792},
                                                      {22, 20250, 1620},
                                                      {30, 40500, 1620},
                                                      {31, 108000, 3600},
                                                      {32, 216000, 5120},
                                                      {40, 245760, 8192},
                                                      {42, 522240, 8704},
                                                      {50, 589824, 22080},
                                                      {51, 983040, 36864},
                                                      {52, 2073600, 36864},
                                                      {60, 4177920, 139264},
                                                      {61, 8355840, 139264},
                                                      {62, 16711680, 139264}}};
    return lowest_level(
        levels, static_cast<std::uint64_t>((width + 15) / 16) * static_cast<std::uint64_t>((height + 15) / 16), rate);
}

}  // namespace ruedo
