// SPDX-License-Identifier: Apache-2.0
// The codecs' own headers, as far as they say what a track is: sizes, shapes, rates, colour, what is refused.
#pragma once
#include "media/media.h"

namespace ruedo {

/// A sequence parameter set (ITU-T H.264 clause 7.3.2.1.1), of which only what is needed.
struct H264Sps {
    unsigned profile = 0, constraints = 0, level = 0;
    unsigned chroma_format = 1, bit_depth = 8;
    bool progressive = true;
    int width = 0, height = 0;  ///< After cropping.
    Rational pixel_aspect{};
    Colour colour;
};
/// `nal` with its header byte, emulation prevention still in it.
std::optional<H264Sps> parse_h264_sps(ByteView nal);
/// An AVCDecoderConfigurationRecord (ISO/IEC 14496-15 clause 5.3.3.1): the length of a NAL size field and the
/// parameter sets in Annex B form.
struct AvcConfig {
    unsigned length_size = 4;
    Bytes parameter_sets;
    std::optional<H264Sps> sps;
};
std::optional<AvcConfig> parse_avcc(ByteView avcc);
/// Replaces length fields by start codes; nothing when a length lies.
bool to_annex_b(ByteView sample, unsigned length_size, Bytes& out);

/// AudioSpecificConfig (ISO/IEC 14496-3 clause 1.6.2.1).
struct AacConfig {
    unsigned object_type = 2;
    int rate = 0, channels = 0;
    bool sbr = false, ps = false;  ///< Stated explicitly.
};
std::optional<AacConfig> parse_aac_config(ByteView asc);
/// The ASC inside an `esds` descriptor chain (ISO/IEC 14496-1 clause 7.2.6); also gives the object type indication.
Bytes asc_from_esds(ByteView esds, unsigned& object_type_indication);

/// OpusHead (RFC 7845 clause 5.1).
struct OpusHead {
    int channels = 0;
    unsigned pre_skip = 0;  ///< 48 kHz samples.
};
std::optional<OpusHead> parse_opus_head(ByteView head);
/// Length of an Opus packet (RFC 6716 clause 3.1) in 48 kHz samples; 0 when it is malformed.
unsigned opus_packet_samples(ByteView packet);

/// A VP9 uncompressed header's start (VP9 bitstream specification clause 6.2); keyframes only.
struct Vp9Header {
    unsigned profile = 0, bit_depth = 8;
    bool subsampled = true;  ///< 4:2:0
    Colour colour;
};
std::optional<Vp9Header> parse_vp9_keyframe(ByteView frame);
/// The lowest level (ten times its number) that allows this size and rate.
unsigned vp9_level(int width, int height, double rate);

/// Fills in format, codec string, colour and problem of `track` from its `config`.
void describe_from_config(Track& track);

}  // namespace ruedo
