// SPDX-License-Identifier: Apache-2.0
// The codecs' own headers, as far as they say what a track is: sizes, shapes, rates, colour, what is refused.
#pragma once
#include "media/media.h"

namespace ruedo {

/// A NAL unit without its emulation prevention bytes (ITU-T H.264 clause 7.4.1, H.265 clause 7.4.2).
Bytes without_emulation(ByteView nal);
/// The beginning of video usability information, the same in H.264 (annex E.1.1) and HEVC (annex E.2.1).
void read_vui(BitReader& r, Rational& pixel_aspect, Colour& colour);

/// A sequence parameter set (ITU-T H.264 clause 7.3.2.1.1), of which only what is needed.
struct H264Sps {
    unsigned profile = 0, constraints = 0, level = 0;
    unsigned chroma_format = 1, bit_depth = 8;
    bool progressive = true;
    unsigned frame_num_bits = 4, order_type = 0, order_bits = 4;  ///< Of the picture order count (clause 7.4.2.1.1).
    int width = 0, height = 0;                                    ///< After cropping.
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

/// A VP9 uncompressed header (VP9 bitstream specification clause 6.2); keyframes only.
struct Vp9Header {
    unsigned profile = 0, bit_depth = 8;
    bool subsampled = true;  ///< 4:2:0
    Colour colour;
    int width = 0, height = 0;
    unsigned tile_columns = 1;     ///< Which can be decoded beside each other.
    unsigned compressed_size = 0;  ///< Bytes of the compressed header that follows.
};
std::optional<Vp9Header> parse_vp9_keyframe(ByteView frame);
/// An open bitstream unit (AV1 clause 5.3).
struct Av1Unit {
    static constexpr unsigned sequence_header = 1, temporal_delimiter = 2;
    unsigned type = 0;
    ByteView whole, payload;  ///< With its header, and without.
};
/// Those of a temporal unit, up to one that does not fit.
std::vector<Av1Unit> split_av1(ByteView data);
/// An AV1 sequence header (clause 5.5), of which only what is needed.
struct Av1Sequence {
    unsigned profile = 0, level = 0, tier = 0;
    int width = 0, height = 0;  ///< Its pictures are no larger.
    Colour colour;
};
std::optional<Av1Sequence> parse_av1_sequence(ByteView payload);
/// The lowest level (ten times its number) that allows this size and rate.
unsigned vp9_level(int width, int height, double rate);
/// The same of H.264, 1b left aside (ISO/IEC 14496-10 Table A-1).
unsigned h264_level(int width, int height, double rate);

/// Whether no other picture depends on the one in this packet, so that it need not be decoded: in H.264 every slice
/// says so (nal_ref_idc 0, clause 7.4.1), in VP9 it refreshes no frame buffer (clause 7.2), in MPEG video it is a B
/// picture. Other codecs do not tell at a glance, so there it is never true.
bool disposable(const Track& track, ByteView packet);

/// Whether decoding can begin with this packet, as far as its first bytes tell: in H.264 an IDR picture (clause 7.4.1),
/// in HEVC any random access point (clause 7.4.2.2), both in Annex B form, in VP8 (RFC 6386 clause 9.1) and VP9
/// (clause 7.2) a key frame, in MPEG video an I picture. Other codecs: false. With `parameters_count` a sequence
/// parameter set is enough.
bool is_keyframe(Codec codec, ByteView packet, bool parameters_count = false);

/// An HEVC sequence parameter set (ITU-T H.265 clause 7.3.2.2), of which only what is needed.
struct HevcSps {
    unsigned profile = 0, tier = 0, level = 0;
    std::uint32_t compatibility = 0;
    std::array<std::uint8_t, 6> constraints{};
    unsigned chroma_format = 1, bit_depth = 8;
    unsigned reorder = 0;       ///< How many pictures may precede one in decoding order and follow it in output.
    int width = 0, height = 0;  ///< After cropping.
    Rational pixel_aspect{};
    Colour colour;
};
std::optional<HevcSps> parse_hevc_sps(ByteView nal);
/// An HEVCDecoderConfigurationRecord (ISO/IEC 14496-15 clause 8.3.3.1).
struct HevcConfig {
    unsigned length_size = 4;
    Bytes parameter_sets;  ///< In Annex B form.
    std::optional<HevcSps> sps;
};
std::optional<HevcConfig> parse_hvcc(ByteView hvcc);
/// The NAL units of an Annex B byte stream (ITU-T H.264 annex B), without start codes and trailing zeros.
std::vector<ByteView> split_annex_b(ByteView stream);
/// The same units with four-byte lengths, as the configurations below announce them.
void from_annex_b(ByteView stream, Bytes& out);
/// Configuration records made from parameter sets found in a stream; empty when they lack.
Bytes make_avcc(ByteView annex_b);
Bytes make_hvcc(ByteView annex_b);

/// Headers of Vorbis and Theora as one block: a count, sizes in runs of 255, the headers (RFC 9559 clause 5.1.4.1.22).
Bytes lace_headers(const std::vector<Bytes>& headers);
/// The three headers; empty when the block can't be followed.
std::vector<ByteView> split_laced(ByteView config);
/// Name and value pairs of a comment header of Vorbis, Theora, Opus or FLAC, names in capitals.
std::vector<std::pair<std::string, std::string>> vorbis_comments(ByteView packet);
/// The same to be written (Vorbis I clause 5.2), with what the clip says of itself: neither a codec's own beginning nor
/// a framing bit.
Bytes make_comments(const std::string& language, const ClipTags& tags);
/// A picture as FLAC has it, and in base64 the comments of the others (RFC 9639 clause 8.8); and the picture in one,
/// empty where it can't be followed.
Bytes make_picture_block(ByteView image);
ByteView picture_in_block(ByteView block);
/// What comments tell of a clip: its title and its cover.
void take_comments(const std::vector<std::pair<std::string, std::string>>& comments, ClipTags& tags);
/// What the length of a Vorbis packet follows from (Vorbis I clauses 4.2.2 and 4.2.4).
struct VorbisModes {
    std::array<std::int64_t, 2> block{};  ///< Samples of a short and of a long block.
    std::vector<bool> is_long;            ///< By mode.
};
/// From the headers as `split_laced` gives them; nothing where they can't be followed.
std::optional<VorbisModes> parse_vorbis_modes(ByteView identification, ByteView setup);
/// The samples a packet adds (Vorbis I clause 4.3.8): none for the first after a start, which has a `previous_block` of
/// 0, nor for one that is no audio packet.
std::int64_t vorbis_packet_samples(const VorbisModes& modes, ByteView packet, std::int64_t& previous_block);

/// A Theora identification header (Theora specification clause 6.2).
struct TheoraHead {
    unsigned version = 0;
    int width = 0, height = 0;  ///< Of the shown part.
    Rational rate{}, pixel_aspect{};
    unsigned granule_shift = 0, pixel_format = 0;
};
std::optional<TheoraHead> parse_theora_head(ByteView packet);

/// FLAC STREAMINFO (RFC 9639 clause 8.2) inside a config that begins with “fLaC”.
struct FlacInfo {
    unsigned min_block = 0, max_block = 0, min_frame = 0, max_frame = 0;
    int rate = 0, channels = 0;
    unsigned bits = 0;
    std::uint64_t samples = 0;  ///< 0 when not stated.
};
std::optional<FlacInfo> parse_flac_info(ByteView config);

/// What the header of a self-delimiting sound frame says.
struct AudioFrameHeader {
    std::size_t header = 0, size = 0;  ///< Bytes; `size` of 0 when only the next header tells (FLAC).
    std::int64_t samples = 0;
    int rate = 0, channels = 0;
    unsigned bitrate = 0;      ///< Bits per second; 0 when it is not said.
    std::uint64_t number = 0;  ///< FLAC: of the frame, or of its first sample.
    bool counts_samples = false;
    Codec codec = Codec::unknown;
    Bytes config;  ///< ADTS: the AudioSpecificConfig that says the same.
};
/// FLAC (RFC 9639 clause 9.1), its CRC-8 checked.
std::optional<AudioFrameHeader> parse_flac_frame(ByteView at);
/// MPEG audio layers II and III (ISO/IEC 11172-3 clause 2.4.1.3, 13818-3).
std::optional<AudioFrameHeader> parse_mp3_frame(ByteView at);
/// AAC in ADTS (ISO/IEC 13818-7 clause 6.2).
std::optional<AudioFrameHeader> parse_adts_frame(ByteView at);
/// The header of an ADTS frame around `payload` bytes; empty when an AudioSpecificConfig says what it has no room for.
Bytes adts_header(ByteView asc, std::size_t payload);
/// AC-3 (ETSI TS 102 366 clause 4.4.1); not its later kin, which has other frames.
std::optional<AudioFrameHeader> parse_ac3_frame(ByteView at);
/// How many channels of it are heard, by its mode (table 4.3) and whether it has low frequencies.
int ac3_channels(unsigned mode, bool low);
std::uint16_t flac_crc16(ByteView frame);
/// Finds the frames of a codec whose stream needs no container; nothing for other codecs.
using ParseFrame = std::optional<AudioFrameHeader> (*)(ByteView at);
ParseFrame frame_parser(Codec codec);

/// PCM as a WAVEFORMATEX states it (the same in RIFF and as our config elsewhere).
struct PcmFormat {
    bool is_float = false, big_endian = false;
    unsigned bits = 0, container_bytes = 0;
    int rate = 0, channels = 0;
};
std::optional<PcmFormat> parse_pcm_format(ByteView config);
Bytes make_pcm_config(const PcmFormat& format);

/// The picture codec of a four-character code, as AVI, QuickTime and Matroska's compatibility mapping have them.
Codec codec_of_fourcc(std::string tag);

/// Fills in format, codec string, colour and problem of `track` from its `config`.
void describe_from_config(Track& track);

}  // namespace ruedo
