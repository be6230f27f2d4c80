// SPDX-License-Identifier: Apache-2.0
// EBML elements (RFC 8794) and the IDs of Matroska (RFC 9559) that are read and written here.
#pragma once
#include <bit>
#include <cmath>
#include <optional>

#include "io/io.h"

namespace ruedo::matroska {

namespace id {
constexpr std::uint32_t ebml = 0x1A45DFA3, doc_type = 0x4282, segment = 0x18538067, seek_head = 0x114D9B74,
                        seek = 0x4DBB, seek_id = 0x53AB, seek_position = 0x53AC, info = 0x1549A966,
                        timestamp_scale = 0x2AD7B1, duration = 0x4489, muxing_app = 0x4D80, title = 0x7BA9,
                        date = 0x4461, writing_app = 0x5741, tracks = 0x1654AE6B, track_entry = 0xAE,
                        track_number = 0xD7, track_uid = 0x73C5, track_type = 0x83, flag_enabled = 0xB9,
                        flag_default = 0x88, flag_lacing = 0x9C, default_duration = 0x23E383, language = 0x22B59C,
                        language_bcp47 = 0x22B59D, codec_id = 0x86, codec_private = 0x63A2, codec_delay = 0x56AA,
                        seek_pre_roll = 0x56BB, video = 0xE0, pixel_width = 0xB0, pixel_height = 0xBA,
                        display_width = 0x54B0, display_height = 0x54BA, display_unit = 0x54B2, flag_interlaced = 0x9A,
                        alpha_mode = 0x53C0, crop_bottom = 0x54AA, crop_top = 0x54BB, crop_left = 0x54CC,
                        crop_right = 0x54DD, colour = 0x55B0, matrix = 0x55B1, range = 0x55B9, transfer = 0x55BA,
                        primaries = 0x55BB, projection = 0x7670, projection_type = 0x7671, pose_roll = 0x7675,
                        audio = 0xE1, sampling_frequency = 0xB5, output_frequency = 0x78B5, channels = 0x9F,
                        bit_depth = 0x6264, content_encodings = 0x6D80, content_encoding = 0x6240, compression = 0x5034,
                        compression_algo = 0x4254, compression_settings = 0x4255, encryption = 0x5035,
                        cues = 0x1C53BB6B, cue_point = 0xBB, cue_time = 0xB3, cue_track_positions = 0xB7,
                        cue_track = 0xF7, cue_cluster = 0xF1, cue_relative = 0xF0, cluster = 0x1F43B675,
                        timestamp = 0xE7, simple_block = 0xA3, block_group = 0xA0, block = 0xA1, block_duration = 0x9B,
                        reference_block = 0xFB, discard_padding = 0x75A2, void_element = 0xEC, block_additions = 0x75A1,
                        block_more = 0xA6, block_add_id = 0xEE, block_additional = 0xA5, crc32 = 0xBF,
                        tags = 0x1254C367, chapters = 0x1043A770, attachments = 0x1941A469, attached_file = 0x61A7,
                        file_name = 0x466E, file_type = 0x4660, file_data = 0x465C, file_uid = 0x46AE;
}  // namespace id

/// True for the children of a Segment, at which a Cluster of unknown size ends (RFC 8794 clause 6.2).
constexpr bool is_level1(std::uint32_t v) {
    return v == id::cluster || v == id::cues || v == id::info || v == id::tracks || v == id::seek_head ||
           v == id::tags || v == id::chapters || v == id::attachments;
}

struct Element {
    std::uint32_t id = 0;
    std::uint64_t start = 0, body = 0, end = 0;  ///< `end` is UINT64_MAX for an unknown size.
    bool unknown() const { return end == UINT64_MAX; }
    std::uint64_t size() const { return end - body; }
};

/// A variable-size integer (RFC 8794 clause 4); `length` 0 when there is none. All ones give UINT64_MAX.
inline std::uint64_t read_vint(ByteView data, unsigned& length, unsigned longest = 8) {
    length = 0;
    if (data.empty() || data[0] == 0) return 0;
    unsigned n = static_cast<unsigned>(std::countl_zero(data[0])) + 1;
    if (n > longest || data.size() < n) return 0;
    std::uint64_t v = n == 8 ? 0 : data[0] & (0xFFU >> n);
    for (unsigned i = 1; i < n; ++i) v = v << 8 | data[i];
    length = n;
    return v == (1ULL << (7 * n)) - 1 ? UINT64_MAX : v;
}

/// The element at `at`; nothing where there is no valid header.
inline Result<std::optional<Element>> read_element(SourceReader& reader, std::uint64_t at) {
    RUEDO_TRY(auto head, reader.view(at, 12));
    if (head.empty() || head[0] < 0x10) return std::nullopt;
    unsigned id_length = static_cast<unsigned>(std::countl_zero(head[0])) + 1;
    if (head.size() < id_length + 1) return std::nullopt;
    Element e{.start = at};
    for (unsigned i = 0; i < id_length; ++i) e.id = e.id << 8 | head[i];
    unsigned size_length = 0;
    auto size = read_vint(head.subspan(id_length), size_length);
    if (size_length == 0) return std::nullopt;
    e.body = at + id_length + size_length;
    e.end = size == UINT64_MAX ? UINT64_MAX : size > UINT64_MAX / 2 ? UINT64_MAX / 2 : e.body + size;
    return e;
}

/// Visits the elements laid end to end in `data`: `visit(id, body)`. Stops where the structure breaks.
template <class F>
void walk(ByteView data, F&& visit) {
    while (!data.empty()) {
        if (data[0] < 0x10) return;
        unsigned id_length = static_cast<unsigned>(std::countl_zero(data[0])) + 1, size_length = 0;
        if (data.size() < id_length + 1) return;
        std::uint32_t element = 0;
        for (unsigned i = 0; i < id_length; ++i) element = element << 8 | data[i];
        auto size = read_vint(data.subspan(id_length), size_length);
        if (size_length == 0) return;
        data = data.subspan(id_length + size_length);
        if (size > data.size()) return;
        visit(element, data.first(static_cast<std::size_t>(size)));
        data = data.subspan(static_cast<std::size_t>(size));
    }
}

inline std::uint64_t as_uint(ByteView body) {
    ByteReader r(body);
    return body.size() <= 8 ? r.be(static_cast<unsigned>(body.size())) : 0;
}
inline std::int64_t as_int(ByteView body) {
    if (body.empty() || body.size() > 8) return 0;
    auto shift = 64 - 8 * body.size();
    return static_cast<std::int64_t>(as_uint(body) << shift) >> shift;
}
inline double as_float(ByteView body) {
    double v = 0;
    if (body.size() == 4) v = static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(as_uint(body))));
    if (body.size() == 8) v = std::bit_cast<double>(as_uint(body));
    return std::isfinite(v) ? v : 0;
}
inline std::string as_text(ByteView body) {
    std::string s(body.begin(), body.end());
    return s.substr(0, s.find('\0'));
}

}  // namespace ruedo::matroska
