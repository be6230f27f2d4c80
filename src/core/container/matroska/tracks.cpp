// SPDX-License-Identifier: Apache-2.0
#include "container/matroska/tracks.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "media/codec_headers.h"

namespace ruedo::matroska {
namespace {

void read_video(ByteView data, Track& track) {
    std::uint64_t dw = 0, dh = 0, unit = 0;
    auto& f = track.video;
    auto pixels = [](ByteView v) { return static_cast<int>(std::min<std::uint64_t>(as_uint(v), 32768)); };
    walk(data, [&](std::uint32_t e, ByteView v) {
        if (e == id::pixel_width) f.width = pixels(v);
        if (e == id::pixel_height) f.height = pixels(v);
        if (e == id::display_width) dw = as_uint(v);
        if (e == id::display_height) dh = as_uint(v);
        if (e == id::display_unit) unit = as_uint(v);
        if (e == id::alpha_mode) f.alpha = as_uint(v) == 1;
        if (e == id::crop_left) f.crop.left = pixels(v);
        if (e == id::crop_right) f.crop.right = pixels(v);
        if (e == id::crop_top) f.crop.top = pixels(v);
        if (e == id::crop_bottom) f.crop.bottom = pixels(v);
        if (e == id::colour)
            walk(v, [&](std::uint32_t c, ByteView n) {
                auto value = static_cast<unsigned>(as_uint(n));
                if (c == id::matrix) f.colour.matrix = Colour::matrix_from_code(value);
                if (c == id::range)
                    f.colour.range = value == 1   ? Colour::Range::limited
                                     : value == 2 ? Colour::Range::full
                                                  : Colour::Range::unspecified;
                if (c == id::transfer) f.colour.transfer = static_cast<std::uint8_t>(value);
                if (c == id::primaries) f.colour.primaries = static_cast<std::uint8_t>(value);
            });
        if (e == id::projection)
            walk(v, [&](std::uint32_t p, ByteView n) {
                // Positive roll turns the picture counter-clockwise to be shown.
                if (p == id::pose_roll)
                    f.rotation = ((static_cast<int>(std::lround(-as_float(n) / 90.0)) % 4) + 4) % 4 * 90;
            });
    });
    // Display size in pixels (unit 0) or as a shape (unit 3); both give the pixel's shape (clause 5.1.4.1.28.14).
    f.set_coded_size(f.width, f.height);
    if (dw && dh && (unit == 0 || unit == 3) && f.width > 0 && f.height > 0 && dw < (1 << 24) && dh < (1 << 24)) {
        auto aspect =
            Rational{static_cast<std::int64_t>(dw) * f.height, static_cast<std::int64_t>(dh) * f.width}.reduced();
        if (aspect.num != aspect.den) f.pixel_aspect = aspect;
    }
}

void name_codec(Track& track, TrackExtra& extra, ByteView config) {
    auto& tag = track.codec_tag;
    static const std::map<std::string, Codec, std::less<>> names{{"V_VP8", Codec::vp8},
                                                                 {"V_VP9", Codec::vp9},
                                                                 {"V_AV1", Codec::av1},
                                                                 {"V_MPEG4/ISO/AVC", Codec::h264},
                                                                 {"V_MPEGH/ISO/HEVC", Codec::hevc},
                                                                 {"V_THEORA", Codec::theora},
                                                                 {"V_MJPEG", Codec::mjpeg},
                                                                 {"V_MPEG1", Codec::mpeg1},
                                                                 {"V_MPEG2", Codec::mpeg2},
                                                                 {"A_MPEG/L2", Codec::mp2},
                                                                 {"A_AC3", Codec::ac3},
                                                                 {"A_AC3/BSID9", Codec::ac3},
                                                                 {"A_AC3/BSID10", Codec::ac3},
                                                                 {"A_OPUS", Codec::opus},
                                                                 {"A_VORBIS", Codec::vorbis},
                                                                 {"A_MPEG/L3", Codec::mp3},
                                                                 {"A_FLAC", Codec::flac},
                                                                 {"A_PCM/INT/LIT", Codec::pcm},
                                                                 {"A_PCM/INT/BIG", Codec::pcm},
                                                                 {"A_PCM/FLOAT/IEEE", Codec::pcm},
                                                                 {"S_TEXT/WEBVTT", Codec::webvtt},
                                                                 {"D_WEBVTT/SUBTITLES", Codec::webvtt},
                                                                 {"S_TEXT/UTF8", Codec::subrip}};
    if (auto it = names.find(tag); it != names.end())
        track.codec = it->second;
    else if (tag.starts_with("A_AAC"))
        track.codec = Codec::aac;
    else if (tag.starts_with("V_MPEG4/ISO/"))
        track.codec = Codec::mpeg4;
    else if (tag == "V_MS/VFW/FOURCC" && config.size() >= 40) {
        // A BITMAPINFOHEADER, and after it what the codec itself wants.
        tag.assign(config.begin() + 16, config.begin() + 20);
        track.codec = codec_of_fourcc(tag);
        config = config.subspan(40);
    }
    track.config.assign(config.begin(), config.end());
    extra.is_opus = track.codec == Codec::opus;
    extra.is_flac = track.codec == Codec::flac;
    extra.is_webvtt = tag == "S_TEXT/WEBVTT";
    extra.is_audio = track.kind == Kind::audio;
    extra.is_video = track.kind == Kind::video;
    // An old writer's Opus track may lack CodecDelay; the header's pre-skip says the same.
    if (auto head = parse_opus_head(config); head && extra.is_opus && extra.codec_delay.ns == 0)
        extra.codec_delay = ticks_to_time(head->pre_skip, 1, 48000);
}

}  // namespace

TrackEntry read_track(ByteView data, const std::string& file) {
    TrackEntry entry;
    auto& track = entry.track;
    auto& extra = entry.extra;
    Bytes config;
    std::string language = "eng", bcp;
    bool is_default = true, enabled = true, encrypted = false, packed = false;
    unsigned bits = 0;
    Time seek_preroll{};
    walk(data, [&](std::uint32_t e, ByteView v) {
        switch (e) {
            case id::track_number:
                track.id = extra.number = as_uint(v);
                break;
            case id::track_type: {
                auto type = as_uint(v);
                track.kind = type == 1 ? Kind::video : type == 2 ? Kind::audio : type == 17 ? Kind::text : Kind::other;
                break;
            }
            case id::flag_default:
                is_default = as_uint(v) != 0;
                break;
            case id::flag_enabled:
                enabled = as_uint(v) != 0;
                break;
            case id::default_duration:
                extra.default_duration = {
                    static_cast<std::int64_t>(std::min<std::uint64_t>(as_uint(v), 10'000'000'000ULL))};
                break;
            case id::language:
                language = as_text(v);
                break;
            case id::language_bcp47:
                bcp = as_text(v);
                break;
            case id::codec_id:
                track.codec_tag = as_text(v).substr(0, 64);
                break;
            case id::codec_private:
                config.assign(v.begin(), v.end());
                break;
            case id::codec_delay:
                extra.codec_delay = {static_cast<std::int64_t>(std::min<std::uint64_t>(as_uint(v), 10'000'000'000ULL))};
                break;
            case id::seek_pre_roll:
                seek_preroll = {static_cast<std::int64_t>(std::min<std::uint64_t>(as_uint(v), 10'000'000'000ULL))};
                break;
            case id::video:
                read_video(v, track);
                break;
            case id::audio:
                walk(v, [&](std::uint32_t a, ByteView n) {
                    if (a == id::sampling_frequency)
                        track.audio.rate = static_cast<int>(std::clamp(as_float(n), 0.0, 768000.0));
                    if (a == id::channels)
                        track.audio.channels = static_cast<int>(std::min<std::uint64_t>(as_uint(n), 255));
                    if (a == id::bit_depth) bits = static_cast<unsigned>(std::min<std::uint64_t>(as_uint(n), 64));
                });
                if (track.audio.channels == 0) track.audio.channels = 1;
                break;
            case id::content_encodings:
                walk(v, [&](std::uint32_t c, ByteView encoding) {
                    if (c != id::content_encoding) return;
                    walk(encoding, [&](std::uint32_t k, ByteView inner) {
                        if (k == id::encryption) encrypted = true;
                        if (k != id::compression) return;
                        std::uint64_t algo = 0;
                        walk(inner, [&](std::uint32_t s, ByteView n) {
                            if (s == id::compression_algo) algo = as_uint(n);
                            if (s == id::compression_settings) extra.stripped.assign(n.begin(), n.end());
                        });
                        if (algo != 3) packed = true;
                    });
                });
                break;
            default:
                break;
        }
    });
    track.language = !bcp.empty() ? bcp : bcp47_from_iso639(language);
    track.is_default = is_default && enabled;
    name_codec(track, extra, config);
    if (track.codec == Codec::pcm) {
        // What is not stated is what nearly all recorders mean: floats are 32 bits, whole numbers 16.
        bool is_float = track.codec_tag == "A_PCM/FLOAT/IEEE";
        if (bits == 0) bits = is_float ? 32 : 16;
        track.config = make_pcm_config({.is_float = is_float,
                                        .big_endian = track.codec_tag == "A_PCM/INT/BIG",
                                        .bits = bits,
                                        .container_bytes = (bits + 7) / 8,
                                        .rate = track.audio.rate,
                                        .channels = track.audio.channels});
        if (auto pcm = parse_pcm_format(track.config))
            extra.pcm_frame = pcm->container_bytes * static_cast<unsigned>(pcm->channels),
            extra.pcm_rate = static_cast<std::uint64_t>(std::max(pcm->rate, 0));
    }
    if (track.kind == Kind::video || track.kind == Kind::audio) {
        describe_from_config(track);
        track.preroll = std::max(track.preroll, seek_preroll);
        if (encrypted)
            track.problem = Error{ErrorCode::encrypted, fmt::format("Track {} of “{}” is encrypted.", track.id, file),
                                  "Ask for a copy without encryption; Ruedo holds no keys."};
        else if (packed)
            track.problem =
                Error{ErrorCode::codec_missing,
                      fmt::format("Track {} of “{}” is packed in a way that is not known here.", track.id, file),
                      "Export the clip again without track compression."};
        else if (track.codec == Codec::unknown)
            track.problem = Error{ErrorCode::codec_missing,
                                  fmt::format("Track {} of “{}” is in a codec that is not known here (“{}”).", track.id,
                                              file, track.codec_tag),
                                  export_again};
    }
    return entry;
}

}  // namespace ruedo::matroska
