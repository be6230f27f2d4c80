// SPDX-License-Identifier: Apache-2.0
// What a track is, as its codec’s own header says.
#include "media/codec_headers.h"
#include "media/mpeg_video.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo {
namespace {
void refuse(Track& t, ErrorCode code, std::string what) {
    t.problem =
        Error{code, fmt::format("Track {} is {}, which is not supported.", t.id, what),
              "Export it again as 8-bit 4:2:0 progressive video; it can’t be decoded here, so not converted either."};
}

void describe_h264(Track& t) {
    auto config = parse_avcc(t.config);
    if (!config || !config->sps) {
        t.problem =
            Error{ErrorCode::malformed, fmt::format("Track {} is H.264 without a readable parameter set.", t.id),
                  "Export the clip again."};
        return;
    }
    auto& sps = *config->sps;
    t.codec_string = fmt::format("avc1.{:02x}{:02x}{:02x}", sps.profile, sps.constraints, sps.level);
    t.video.set_coded_size(sps.width, sps.height);
    if (!t.video.pixel_aspect.stated()) t.video.pixel_aspect = sps.pixel_aspect;
    t.video.colour = t.video.colour.or_else(sps.colour);
    if (sps.bit_depth > 8)
        refuse(t, ErrorCode::depth_unsupported, fmt::format("{}-bit H.264", sps.bit_depth));
    else if (sps.chroma_format != 1)
        refuse(t, ErrorCode::chroma_unsupported,
               fmt::format("H.264 with {} chroma", sps.chroma_format == 0   ? "no"
                                                   : sps.chroma_format == 2 ? "4:2:2"
                                                                            : "4:4:4"));
    else if (!sps.progressive)
        refuse(t, ErrorCode::interlaced_unsupported, "interlaced H.264");
}

void describe_av1(Track& t) {
    // av1C (AV1 codec ISO media file format binding clause 2.3.3).
    if (t.config.size() < 4) return;
    auto b1 = t.config[1], b2 = t.config[2];
    unsigned profile = b1 >> 5, level = b1 & 31, tier = b2 >> 7, depth = b2 & 0x40 ? (b2 & 0x20 ? 12 : 10) : 8;
    t.codec_string = fmt::format("av01.{}.{:02}{}.{:02}", profile, level, tier ? 'H' : 'M', depth);
    for (auto& unit : split_av1(ByteView(t.config).subspan(4)))
        if (auto sequence = unit.type == Av1Unit::sequence_header ? parse_av1_sequence(unit.payload) : std::nullopt)
            t.video.colour = t.video.colour.or_else(sequence->colour);
    if (depth > 8)
        refuse(t, ErrorCode::depth_unsupported, fmt::format("{}-bit AV1", depth));
    else if (!(b2 & 0x08) || !(b2 & 0x04))
        refuse(t, ErrorCode::chroma_unsupported, "AV1 with other than 4:2:0 chroma");
}

void describe_vp9(Track& t) {
    // VPCodecConfigurationRecord, as in `vpcC` and (as an id/length list) in Matroska's CodecPrivate. The second byte
    // of a list is a length of 1, that of a record a level, which begin at 10.
    unsigned profile = 0, level = 0, depth = 8, chroma = 1;
    ByteReader r(t.config);
    if (t.config.size() >= 8 && t.config[1] != 1) {
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
    // Recorders leave the level at 0: then it is the one that such pictures need at an ordinary rate.
    if (!level && !t.config.empty() && t.video.width > 0) level = vp9_level(t.video.width, t.video.height, 30);
    if (level) t.codec_string = fmt::format("vp09.{:02}.{:02}.{:02}", profile, level, depth);
    if (depth > 8)
        refuse(t, ErrorCode::depth_unsupported, fmt::format("{}-bit VP9", depth));
    else if (chroma > 1)
        refuse(t, ErrorCode::chroma_unsupported, "VP9 with other than 4:2:0 chroma");
}
void describe_hevc(Track& t) {
    auto config = parse_hvcc(t.config);
    if (!config || !config->sps) {
        t.problem = Error{ErrorCode::malformed, fmt::format("Track {} is HEVC without a readable parameter set.", t.id),
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
    t.video.set_coded_size(sps.width, sps.height);
    if (!t.video.pixel_aspect.stated()) t.video.pixel_aspect = sps.pixel_aspect;
    t.video.colour = t.video.colour.or_else(sps.colour);
    if (sps.bit_depth > 8)
        refuse(t, ErrorCode::depth_unsupported, fmt::format("{}-bit HEVC", sps.bit_depth));
    else if (sps.chroma_format != 1)
        refuse(t, ErrorCode::chroma_unsupported, "HEVC with other than 4:2:0 chroma");
}

void describe_theora(Track& t) {
    auto headers = split_laced(t.config);
    auto head = headers.empty() ? std::nullopt : parse_theora_head(headers[0]);
    if (!head) {
        t.problem =
            Error{ErrorCode::malformed, fmt::format("Track {} is Theora whose headers can’t be followed.", t.id),
                  "Export the clip again."};
        return;
    }
    t.codec_string = "theora";
    t.video.set_coded_size(head->width, head->height);
    if (!t.video.pixel_aspect.stated() && head->pixel_aspect.stated() &&
        head->pixel_aspect.num != head->pixel_aspect.den)
        t.video.pixel_aspect = head->pixel_aspect;
    if (head->pixel_format != 0)
        refuse(t, ErrorCode::chroma_unsupported,
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
    // A packet is added to the one before.
    auto longest = std::int64_t{1} << (headers[0][28] >> 4);
    if (t.audio.rate > 0) t.preroll = ticks_to_time(2 * longest, 1, static_cast<std::uint64_t>(t.audio.rate));
}

void describe_mpeg(Track& t) {
    auto sequence = parse_mpeg_sequence(t.config);
    if (!sequence) {
        t.problem = Error{ErrorCode::malformed, fmt::format("Track {} is MPEG video without a sequence header.", t.id),
                          "Export the clip again."};
        return;
    }
    t.codec = sequence->second ? Codec::mpeg2 : Codec::mpeg1;
    // ISO/IEC 14496-1 table 5: an object type for each profile.
    static constexpr std::array<unsigned, 8> types{0x61, 0x64, 0x63, 0x62, 0x61, 0x60, 0x61, 0x61};
    t.codec_string = sequence->second ? fmt::format("mp4v.{:02x}", types[sequence->profile_level >> 4 & 7]) : "mp4v.6a";
    t.video.set_coded_size(sequence->width, sequence->height);
    if (!t.video.pixel_aspect.stated()) t.video.pixel_aspect = sequence->pixel_aspect;
    t.video.colour = t.video.colour.or_else(sequence->colour);
    if (sequence->chroma_format != 1)
        refuse(t, ErrorCode::chroma_unsupported,
               fmt::format("MPEG-2 video with {} chroma", sequence->chroma_format == 2 ? "4:2:2" : "4:4:4"));
}

void describe_mpeg4(Track& t) {
    auto config = parse_mpeg4_config(t.config);
    if (!config || config->width <= 0 || config->height <= 0) {
        t.problem =
            Error{ErrorCode::malformed, fmt::format("Track {} is MPEG-4 Visual without a readable header.", t.id),
                  "Export the clip again."};
        return;
    }
    t.codec_string = config->profile_level ? fmt::format("mp4v.20.{}", config->profile_level) : "mp4v.20";
    t.video.set_coded_size(config->width, config->height);
    if (!t.video.pixel_aspect.stated()) t.video.pixel_aspect = config->pixel_aspect;
    t.video.colour = t.video.colour.or_else(config->colour);
    if (!config->rectangular) refuse(t, ErrorCode::codec_missing, "MPEG-4 Visual of a shape that is no rectangle");
}
}  // namespace

void describe_from_config(Track& t) {
    if (auto colour = Colour::always(t.codec)) t.video.colour = t.video.colour.or_else(*colour);
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
        case Codec::png:
            t.codec_string = codec_name(t.codec);
            break;
        case Codec::mpeg1:
        case Codec::mpeg2:
            describe_mpeg(t);
            break;
        case Codec::mpeg4:
            describe_mpeg4(t);
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
        case Codec::mp2:
            t.codec_string = "mp4a.6b";
            if (t.audio.rate > 0) t.preroll = ticks_to_time(2 * 1152, 1, static_cast<std::uint64_t>(t.audio.rate));
            break;
        case Codec::ac3:
            t.codec_string = "ac-3";
            if (t.audio.rate > 0) t.preroll = ticks_to_time(2 * 1536, 1, static_cast<std::uint64_t>(t.audio.rate));
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
                    t.problem = Error{ErrorCode::codec_missing,
                                      fmt::format("Track {} is AAC of object type {}, which is not supported.", t.id,
                                                  aac->object_type),
                                      "Convert the sound to AAC-LC or Opus."};
            } else {
                t.problem =
                    Error{ErrorCode::malformed, fmt::format("Track {} is AAC without a readable configuration.", t.id),
                          "Export the clip again."};
            }
            break;
        default:
            break;
    }
}

}  // namespace ruedo
