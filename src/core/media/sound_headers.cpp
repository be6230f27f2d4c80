// SPDX-License-Identifier: Apache-2.0
#include "media/codec_headers.h"

namespace ruedo {

std::optional<AudioFrameHeader> parse_mp3_frame(ByteView at) {
    if (at.size() < 4 || at[0] != 0xFF || (at[1] & 0xE0) != 0xE0) return std::nullopt;
    unsigned version = at[1] >> 3 & 3, layer = at[1] >> 1 & 3, bitrate = at[2] >> 4, rate = at[2] >> 2 & 3,
             padding = at[2] >> 1 & 1;
    if (version == 1 || (layer != 1 && layer != 2) || bitrate == 0 || bitrate == 15 || rate == 3 || (at[3] & 3) == 2)
        return std::nullopt;
    static constexpr std::array<unsigned, 15> first{0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320};
    static constexpr std::array<unsigned, 15> two{0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384};
    static constexpr std::array<unsigned, 15> second{0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160};
    static constexpr std::array<int, 3> rates{44100, 48000, 32000};
    bool full = version == 3;
    AudioFrameHeader f;
    f.codec = layer == 1 ? Codec::mp3 : Codec::mp2;
    f.rate = rates[rate] / (full ? 1 : version == 2 ? 2 : 4);
    f.bitrate = (!full ? second : layer == 2 ? two : first)[bitrate] * 1000;
    f.samples = full || layer == 2 ? 1152 : 576;
    f.channels = at[3] >> 6 == 3 ? 1 : 2;
    f.header = 4;
    f.size = static_cast<std::size_t>(f.samples) / 8 * f.bitrate / static_cast<unsigned>(f.rate) + padding;
    return f;
}

std::optional<AudioFrameHeader> parse_adts_frame(ByteView at) {
    if (at.size() < 7 || at[0] != 0xFF || (at[1] & 0xF6) != 0xF0) return std::nullopt;
    unsigned object = (at[2] >> 6 & 3U) + 1, rate = at[2] >> 2 & 15, channels = (at[2] & 1U) << 2 | at[3] >> 6;
    static constexpr std::array<int, 13> rates{96000, 88200, 64000, 48000, 44100, 32000, 24000,
                                               22050, 16000, 12000, 11025, 8000,  7350};
    if (rate >= rates.size()) return std::nullopt;
    AudioFrameHeader f;
    f.codec = Codec::aac;
    f.header = at[1] & 1 ? 7 : 9;
    f.size = (at[3] & 3U) << 11 | static_cast<unsigned>(at[4]) << 3 | at[5] >> 5;
    if (f.size <= f.header) return std::nullopt;
    f.rate = rates[rate];
    f.channels = channels == 7 ? 8 : static_cast<int>(channels);
    f.samples = 1024 * ((at[6] & 3) + 1);
    f.config = {static_cast<std::uint8_t>(object << 3 | rate >> 1),
                static_cast<std::uint8_t>((rate & 1) << 7 | channels << 3)};
    return f;
}

Bytes adts_header(ByteView asc, std::size_t payload) {
    if (asc.size() < 2) return {};
    unsigned object = asc[0] >> 3, rate = (asc[0] & 7U) << 1 | asc[1] >> 7, channels = asc[1] >> 3 & 15U;
    // What doubles its rate (5, 29) is known by the stream itself.
    if (object == 5 || object == 29) object = 2;
    auto size = payload + 7;
    if (object < 1 || object > 4 || rate > 12 || channels == 0 || channels > 7 || size > 0x1FFF) return {};
    ByteWriter w;
    w.u8(0xFF).u8(0xF1).u8((object - 1) << 6 | rate << 2 | channels >> 2).u8((channels & 3) << 6 | size >> 11);
    w.u8(size >> 3).u8((size & 7) << 5 | 0x1F).u8(0xFC);
    return w.bytes;
}

int ac3_channels(unsigned mode, bool low) {
    // One surround channel is mixed into the fronts; low frequencies are heard with a full surround.
    static constexpr std::array<int, 8> channels{2, 1, 2, 3, 2, 2, 4, 5};
    return channels[mode & 7] + (low && mode == 7 ? 1 : 0);
}

std::optional<AudioFrameHeader> parse_ac3_frame(ByteView at) {
    if (at.size() < 7 || at[0] != 0x0B || at[1] != 0x77) return std::nullopt;
    BitReader r(at.subspan(4));
    auto rate = r.bits(2), size = r.bits(6), version = r.bits(5);
    r.bits(3);
    auto mode = r.bits(3);
    if (rate == 3 || size > 37 || version > 10) return std::nullopt;
    static constexpr std::array<unsigned, 19> bitrates{32,  40,  48,  56,  64,  80,  96,  112, 128, 160,
                                                       192, 224, 256, 320, 384, 448, 512, 576, 640};
    static constexpr std::array<int, 3> rates{48000, 44100, 32000};
    if ((mode & 1) && mode != 1) r.bits(2);
    if (mode & 4) r.bits(2);
    if (mode == 2) r.bits(2);
    AudioFrameHeader f;
    f.codec = Codec::ac3;
    f.header = 7;
    // Versions 9 and 10 are the same at a half and a quarter of the rate.
    unsigned slower = version > 8 ? version - 8 : 0;
    f.rate = rates[rate] >> slower;
    f.bitrate = bitrates[size / 2] * 1000 >> slower;
    f.samples = 1536;
    f.channels = ac3_channels(mode, r.bit());
    f.size = rate == 0   ? bitrates[size / 2] * 4
             : rate == 2 ? bitrates[size / 2] * 6
                         : (bitrates[size / 2] * 320 / 147 + (size & 1)) * 2;
    return f;
}

ParseFrame frame_parser(Codec codec) {
    return codec == Codec::aac                          ? &parse_adts_frame
           : codec == Codec::mp3 || codec == Codec::mp2 ? &parse_mp3_frame
           : codec == Codec::ac3                        ? &parse_ac3_frame
                                                        : nullptr;
}

std::optional<PcmFormat> parse_pcm_format(ByteView config) {
    ByteReader r(config);
    auto tag = r.le(2);
    PcmFormat f;
    f.channels = static_cast<int>(r.le(2));
    f.rate = static_cast<int>(r.le(4));
    r.skip(4);
    auto block = static_cast<unsigned>(r.le(2));
    f.bits = static_cast<unsigned>(r.le(2));
    if (r.overrun()) return std::nullopt;
    if (tag == 0xFFFE) {  // WAVEFORMATEXTENSIBLE: the sub-format's first two bytes are the tag
        r.skip(2 + 2 + 4);
        tag = r.le(2);
        if (r.overrun()) return std::nullopt;
    }
    // Big-endian samples have no tag of their own; these two stand for them here.
    f.big_endian = tag == 0xFF01 || tag == 0xFF03;
    f.is_float = tag == 3 || tag == 0xFF03;
    if ((tag != 1 && !f.is_float && !f.big_endian) || f.channels < 1 || f.channels > 64 || f.rate <= 0 ||
        f.rate > 768000)
        return std::nullopt;
    f.container_bytes = block / static_cast<unsigned>(f.channels);
    if (f.container_bytes * static_cast<unsigned>(f.channels) != block) return std::nullopt;
    bool known = f.is_float ? f.container_bytes == 4 || f.container_bytes == 8
                            : f.container_bytes >= 1 && f.container_bytes <= 4;
    return known ? std::optional(f) : std::nullopt;
}

Bytes make_pcm_config(const PcmFormat& f) {
    auto block = f.container_bytes * static_cast<unsigned>(f.channels);
    ByteWriter w;
    w.le((f.big_endian ? 0xFF00 : 0) + (f.is_float ? 3 : 1), 2)
        .le(static_cast<unsigned>(f.channels), 2)
        .le(static_cast<unsigned>(f.rate), 4)
        .le(static_cast<std::uint64_t>(f.rate) * block, 4)
        .le(block, 2)
        .le(f.bits, 2);
    return w.bytes;
}

}  // namespace ruedo
