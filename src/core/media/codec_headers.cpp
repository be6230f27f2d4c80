// SPDX-License-Identifier: Apache-2.0
#include "media/codec_headers.h"

#include <fmt/format.h>

#include <algorithm>

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
    r.ue();
    auto order = r.ue();
    if (order == 0) {
        r.ue();
    } else if (order == 1) {
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

std::optional<Vp9Header> parse_vp9_keyframe(ByteView frame) {
    BitReader r(frame);
    if (r.bits(2) != 2) return std::nullopt;
    Vp9Header h;
    h.profile = r.bit();
    h.profile |= r.bit() << 1;
    if (h.profile == 3) r.bit();
    if (r.bit()) return std::nullopt;       // show_existing_frame
    if (r.bit() != 0) return std::nullopt;  // not a keyframe
    r.bits(2);
    if (r.bits(24) != 0x498342) return std::nullopt;
    if (h.profile >= 2) h.bit_depth = r.bit() ? 12 : 10;
    auto space = r.bits(3);
    static constexpr std::array<Colour::Matrix, 8> matrices{
        Colour::Matrix::unspecified, Colour::Matrix::bt601,  Colour::Matrix::bt709,       Colour::Matrix::bt601,
        Colour::Matrix::unspecified, Colour::Matrix::bt2020, Colour::Matrix::unspecified, Colour::Matrix::identity};
    h.colour.matrix = matrices[space];
    if (space != 7) {
        h.colour.range = r.bit() ? Colour::Range::full : Colour::Range::limited;
        if (h.profile == 1 || h.profile == 3) h.subsampled = r.bit() && r.bit();
    } else {
        h.colour.range = Colour::Range::full;
        h.subsampled = false;
    }
    return r.overrun() ? std::nullopt : std::optional(h);
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
    return track.codec == Codec::vp9 && vp9_disposable(packet);
}

unsigned vp9_level(int width, int height, double rate) {
    struct Level {
        unsigned level;
        std::uint64_t samples_per_second, size;
    };
    static constexpr std::array<Level, 13> levels{{{10, 829440, 36864},
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
    auto size = static_cast<std::uint64_t>(width) * static_cast<std::uint64_t>(height);
    for (auto& l : levels)
        if (size <= l.size && static_cast<double>(size) * rate <= static_cast<double>(l.samples_per_second))
            return l.level;
    return 62;
}

namespace {
void refuse(Track& t, Code code, std::string what) {
    t.problem =
        Error{code, fmt::format("Track {} is {}, which is not supported.", t.id, what),
              "Export it again as 8-bit 4:2:0 progressive video; it can’t be decoded here, so not converted either."};
}

void describe_h264(Track& t) {
    auto config = parse_avcc(t.config);
    if (!config || !config->sps) {
        t.problem = Error{Code::malformed, fmt::format("Track {} is H.264 without a readable parameter set.", t.id),
                          "Export the clip again."};
        return;
    }
    auto& sps = *config->sps;
    t.codec_string = fmt::format("avc1.{:02x}{:02x}{:02x}", sps.profile, sps.constraints, sps.level);
    t.video.width = sps.width;
    t.video.height = sps.height;
    if (!t.video.pixel_aspect.stated()) t.video.pixel_aspect = sps.pixel_aspect;
    t.video.colour = t.video.colour.or_else(sps.colour);
    if (sps.bit_depth > 8)
        refuse(t, Code::depth_unsupported, fmt::format("{}-bit H.264", sps.bit_depth));
    else if (sps.chroma_format != 1)
        refuse(t, Code::chroma_unsupported,
               fmt::format("H.264 with {} chroma", sps.chroma_format == 0   ? "no"
                                                   : sps.chroma_format == 2 ? "4:2:2"
                                                                            : "4:4:4"));
    else if (!sps.progressive)
        refuse(t, Code::interlaced_unsupported, "interlaced H.264");
}

void describe_av1(Track& t) {
    // av1C (AV1 codec ISO media file format binding clause 2.3.3).
    if (t.config.size() < 4) return;
    auto b1 = t.config[1], b2 = t.config[2];
    unsigned profile = b1 >> 5, level = b1 & 31, tier = b2 >> 7, depth = b2 & 0x40 ? (b2 & 0x20 ? 12 : 10) : 8;
    t.codec_string = fmt::format("av01.{}.{:02}{}.{:02}", profile, level, tier ? 'H' : 'M', depth);
    if (depth > 8)
        refuse(t, Code::depth_unsupported, fmt::format("{}-bit AV1", depth));
    else if (!(b2 & 0x08) || !(b2 & 0x04))
        refuse(t, Code::chroma_unsupported, "AV1 with other than 4:2:0 chroma");
}

void describe_vp9(Track& t) {
    // VPCodecConfigurationRecord, as in `vpcC` and (as an id/length list) in Matroska's CodecPrivate.
    unsigned profile = 0, level = 0, depth = 8, chroma = 1;
    ByteReader r(t.config);
    if (t.config.size() >= 8 && t.codec_tag == "vp09") {
        profile = r.u8(), level = r.u8();
        auto packed = r.u8();
        depth = packed >> 4, chroma = packed >> 1 & 7;
        t.video.colour = t.video.colour.or_else(
            {Colour::Matrix::unspecified, packed & 1 ? Colour::Range::full : Colour::Range::limited, 2, 2});
        auto primaries = r.u8(), transfer = r.u8(), matrix = r.u8();
        t.video.colour =
            t.video.colour.or_else({Colour::matrix_from_code(matrix), Colour::Range::unspecified, primaries, transfer});
    } else {
        while (r.left() >= 3) {
            auto id = r.u8(), size = r.u8();
            auto value = r.be(size);
            if (id == 1) profile = static_cast<unsigned>(value);
            if (id == 2) level = static_cast<unsigned>(value);
            if (id == 3) depth = static_cast<unsigned>(value);
            if (id == 4) chroma = static_cast<unsigned>(value);
        }
    }
    if (level) t.codec_string = fmt::format("vp09.{:02}.{:02}.{:02}", profile, level, depth);
    if (depth > 8)
        refuse(t, Code::depth_unsupported, fmt::format("{}-bit VP9", depth));
    else if (chroma > 1)
        refuse(t, Code::chroma_unsupported, "VP9 with other than 4:2:0 chroma");
}
void describe_hevc(Track& t) {
    auto config = parse_hvcc(t.config);
    if (!config || !config->sps) {
        t.problem = Error{Code::malformed, fmt::format("Track {} is HEVC without a readable parameter set.", t.id),
                          "Export the clip again."};
        return;
    }
    auto& sps = *config->sps;
    // ISO/IEC 14496-15 annex E.3: compatibility flags in reverse bit order, then constraints up to the last non-zero.
    std::uint32_t flags = 0;
    for (unsigned i = 0; i < 32; ++i) flags |= (sps.compatibility >> i & 1) << (31 - i);
    t.codec_string = fmt::format("hvc1.{}.{:x}.{}{}", sps.profile, flags, sps.tier ? 'H' : 'L', sps.level);
    auto last = std::find_if(sps.constraints.rbegin(), sps.constraints.rend(), [](auto b) { return b != 0; });
    for (auto it = sps.constraints.begin(); it != last.base(); ++it) t.codec_string += fmt::format(".{:X}", *it);
    t.video.width = sps.width, t.video.height = sps.height;
    if (!t.video.pixel_aspect.stated()) t.video.pixel_aspect = sps.pixel_aspect;
    t.video.colour = t.video.colour.or_else(sps.colour);
    if (sps.bit_depth > 8)
        refuse(t, Code::depth_unsupported, fmt::format("{}-bit HEVC", sps.bit_depth));
    else if (sps.chroma_format != 1)
        refuse(t, Code::chroma_unsupported, "HEVC with other than 4:2:0 chroma");
}

void describe_theora(Track& t) {
    auto headers = split_laced(t.config);
    auto head = headers.empty() ? std::nullopt : parse_theora_head(headers[0]);
    if (!head) {
        t.problem = Error{Code::malformed, fmt::format("Track {} is Theora whose headers can’t be followed.", t.id),
                          "Export the clip again."};
        return;
    }
    t.codec_string = "theora";
    t.video.width = head->width, t.video.height = head->height;
    if (!t.video.pixel_aspect.stated() && head->pixel_aspect.stated() &&
        head->pixel_aspect.num != head->pixel_aspect.den)
        t.video.pixel_aspect = head->pixel_aspect;
    // Both colour spaces of the specification are BT.601 with limited range.
    t.video.colour = t.video.colour.or_else({Colour::Matrix::bt601, Colour::Range::limited, 2, 2});
    if (head->pixel_format != 0)
        refuse(t, Code::chroma_unsupported,
               fmt::format("Theora with {} chroma", head->pixel_format == 2 ? "4:2:2" : "4:4:4"));
}

void describe_vorbis(Track& t) {
    t.codec_string = "vorbis";
    auto headers = split_laced(t.config);
    if (headers.empty() || headers[0].size() < 30) return;
    ByteReader r(headers[0]);
    r.skip(11);
    t.audio.channels = r.u8();
    t.audio.rate = static_cast<int>(std::min<std::uint64_t>(r.le(4), 768000));
}
}  // namespace

void describe_from_config(Track& t) {
    switch (t.codec) {
        case Codec::h264:
            describe_h264(t);
            break;
        case Codec::av1:
            describe_av1(t);
            break;
        case Codec::vp9:
            describe_vp9(t);
            break;
        case Codec::vp8:
            t.codec_string = "vp8";
            break;
        case Codec::hevc:
            describe_hevc(t);
            break;
        case Codec::theora:
            describe_theora(t);
            break;
        case Codec::mjpeg:
            t.codec_string = "mjpeg";
            break;
        case Codec::vorbis:
            describe_vorbis(t);
            break;
        case Codec::flac:
            t.codec_string = "flac";
            if (auto flac = parse_flac_info(t.config)) t.audio = {flac->rate, flac->channels};
            break;
        case Codec::mp3:
            t.codec_string = "mp4a.6b";
            // The bit reservoir reaches back 511 bytes, and a frame overlaps the one before it.
            if (t.audio.rate > 0) t.preroll = ticks_to_time(9 * 1152, 1, static_cast<std::uint64_t>(t.audio.rate));
            break;
        case Codec::pcm:
            if (auto pcm = parse_pcm_format(t.config)) t.audio = {pcm->rate, pcm->channels};
            break;
        case Codec::opus:
            t.codec_string = "opus";
            t.preroll = 80_ms;
            if (auto head = parse_opus_head(t.config)) t.audio = {48000, head->channels};
            break;
        case Codec::aac:
            if (auto aac = parse_aac_config(t.config)) {
                t.codec_string = fmt::format("mp4a.40.{}", aac->ps ? 29 : aac->sbr ? 5 : aac->object_type);
                t.audio.rate = aac->rate;
                if (aac->channels > 0) t.audio.channels = aac->channels;
                t.preroll = ticks_to_time(2048, 1, static_cast<std::uint64_t>(aac->rate));
                if (aac->object_type != 2)
                    t.problem = Error{Code::codec_missing,
                                      fmt::format("Track {} is AAC of object type {}, which is not supported.", t.id,
                                                  aac->object_type),
                                      "Convert the sound to AAC-LC or Opus."};
            } else {
                t.problem =
                    Error{Code::malformed, fmt::format("Track {} is AAC without a readable configuration.", t.id),
                          "Export the clip again."};
            }
            break;
        default:
            break;
    }
}

}  // namespace ruedo
