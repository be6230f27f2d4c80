// SPDX-License-Identifier: Apache-2.0
// The headers of MPEG-1 and MPEG-2 video (ISO/IEC 11172-2, 13818-2) and of MPEG-4 Visual (ISO/IEC 14496-2), as far as
// they say what a track is, where a picture begins and in which order pictures are shown.
#pragma once
#include "media/media.h"

namespace ruedo {

/// The place of the next start code (00 00 01 and its byte) at or after `from`; nothing when none follows.
std::optional<std::size_t> next_start_code(ByteView stream, std::size_t from);

/// A sequence header with its extensions (ISO/IEC 13818-2 clauses 6.2.2.1, 6.2.2.3 and 6.2.2.4).
struct MpegSequence {
    bool second = false;  ///< MPEG-2; without an extension it is MPEG-1.
    int width = 0, height = 0;
    Rational rate{}, pixel_aspect{};
    Colour colour;
    unsigned profile_level = 0, chroma_format = 1;
    bool progressive = true;
};
/// The first one in `stream`, which need not begin with it.
std::optional<MpegSequence> parse_mpeg_sequence(ByteView stream);
/// The bytes of the first sequence header with what follows it up to the group or picture: a track's config.
Bytes mpeg_sequence_bytes(ByteView stream);

/// A picture header with its coding extension (ISO/IEC 13818-2 clauses 6.2.3 and 6.2.3.1).
struct MpegPicture {
    char type = '?';         ///< I, P, B or D.
    bool frame = true;       ///< False for one field of two.
    unsigned fields = 2;     ///< How long it is shown, in halves of the sequence's frame duration.
    bool in_fields = false;  ///< Of two moments, one in every other line (clause 6.3.10, progressive_frame).
};
/// The first one in `stream`, of a sequence that is progressive or not (clause 6.3.10 on repeated fields).
std::optional<MpegPicture> parse_mpeg_picture(ByteView stream, bool progressive);

/// A video object layer (ISO/IEC 14496-2 clause 6.2.3), of which only what is needed.
struct Mpeg4Config {
    unsigned profile_level = 0;  ///< 0 when not stated.
    unsigned time_bits = 1;      ///< Of a picture's time within its second.
    int width = 0, height = 0;
    Rational pixel_aspect{};
    Colour colour;
    bool rectangular = true;
    bool in_fields = false;  ///< Its pictures may be of two moments, one in every other line (`interlaced`).
};
std::optional<Mpeg4Config> parse_mpeg4_config(ByteView stream);
/// What stands before the first picture: a track's config.
Bytes mpeg4_config_bytes(ByteView stream);

/// A video object plane (clause 6.2.5) in a packet. Old AVI files hold two in one packet and an empty one after.
struct Mpeg4Picture {
    std::size_t begin = 0, size = 0;  ///< With the headers before it.
    char type = 'I';                  ///< I, P, B or S.
    bool coded = true;                ///< False: the picture before it is shown again.
};
std::vector<Mpeg4Picture> split_mpeg4(ByteView packet, unsigned time_bits);

}  // namespace ruedo
