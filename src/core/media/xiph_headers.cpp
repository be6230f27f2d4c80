// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <bit>
#include <cctype>

#include "media/codec_headers.h"

namespace ruedo {

Bytes lace_headers(const std::vector<Bytes>& headers) {
    ByteWriter w;
    w.u8(headers.size() - 1);
    for (std::size_t i = 0; i + 1 < headers.size(); ++i) {
        auto n = headers[i].size();
        for (; n >= 255; n -= 255) w.u8(255);
        w.u8(n);
    }
    for (auto& h : headers) w.raw(h);
    return w.bytes;
}

std::vector<ByteView> split_laced(ByteView config) {
    ByteReader r(config);
    if (r.u8() != 2) return {};
    std::array<std::uint64_t, 2> sizes{};
    for (auto& size : sizes)
        for (std::uint8_t b = 255; b == 255 && !r.overrun();) size += b = r.u8();
    auto first = r.take(sizes[0]);
    auto second = r.take(sizes[1]);
    auto third = r.rest();
    if (r.overrun() || third.empty()) return {};
    return {first, second, third};
}

std::vector<std::pair<std::string, std::string>> vorbis_comments(ByteView packet) {
    ByteReader r(packet);
    if (packet.size() > 8 && packet[0] == 'O')
        r.skip(8);  // OpusTags
    else if (packet.size() > 7 && (packet[0] & 0x7F) == 4)
        r.skip(4);  // FLAC's block header
    else
        r.skip(7);
    r.skip(r.le(4));
    auto count = r.le(4);
    std::vector<std::pair<std::string, std::string>> out;
    for (std::uint64_t i = 0; i < count && i < 1024 && !r.overrun(); ++i) {
        auto text = r.take(r.le(4));
        auto split = std::find(text.begin(), text.end(), '=');
        if (split == text.end()) continue;
        std::string name(text.begin(), split);
        std::transform(name.begin(), name.end(), name.begin(),
                       [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
        out.emplace_back(std::move(name), std::string(split + 1, text.end()));
    }
    return out;
}

namespace {
constexpr std::string_view base64_digits = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
std::string base64(ByteView bytes) {
    std::string out;
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        std::uint32_t v = 0;
        auto n = std::min<std::size_t>(3, bytes.size() - i);
        for (std::size_t k = 0; k < 3; ++k) v = v << 8 | (k < n ? bytes[i + k] : 0U);
        for (std::size_t k = 0; k < 4; ++k) out += k <= n ? base64_digits[v >> (18 - 6 * k) & 63] : '=';
    }
    return out;
}
/// Up to the first that is no digit.
Bytes from_base64(std::string_view text) {
    Bytes out;
    std::uint32_t v = 0;
    int bits = 0;
    for (auto c : text) {
        auto digit = base64_digits.find(c);
        if (digit == std::string_view::npos) break;
        v = v << 6 | static_cast<std::uint32_t>(digit), bits += 6;
        if (bits >= 8) out.push_back(static_cast<std::uint8_t>(v >> (bits -= 8)));
    }
    return out;
}
}  // namespace

Bytes make_picture_block(ByteView image) {
    auto type = ClipTags::image_type(image);
    ByteWriter w;
    // The front cover; its size and depth stand in the picture itself.
    w.u32(3).u32(type.size()).text(type).u32(0).u32(0).u32(0).u32(0).u32(0).u32(image.size()).raw(image);
    return w.bytes;
}
ByteView picture_in_block(ByteView block) {
    ByteReader r(block);
    r.skip(4);
    r.skip(r.u32());
    r.skip(r.u32());
    r.skip(16);
    auto image = r.take(r.u32());
    return r.overrun() ? ByteView{} : image;
}
void take_comments(const std::vector<std::pair<std::string, std::string>>& comments, ClipTags& tags) {
    for (auto& [name, value] : comments) {
        if (name == "TITLE" && tags.title.empty()) tags.title = tidy_title(value);
        if (name == "METADATA_BLOCK_PICTURE" && value.size() < ClipTags::most_cover / 3 * 4)
            tags.take_cover(picture_in_block(from_base64(value)));
    }
}

Bytes make_comments(const std::string& language, const ClipTags& tags) {
    std::string_view writer = "ruedo";
    std::vector<std::string> all;
    if (!tags.title.empty()) all.push_back("TITLE=" + tags.title);
    if (!language.empty()) all.push_back("LANGUAGE=" + language);
    if (!tags.cover.empty()) all.push_back("METADATA_BLOCK_PICTURE=" + base64(make_picture_block(tags.cover)));
    ByteWriter w;
    w.le(writer.size(), 4).text(writer).le(all.size(), 4);
    for (auto& c : all) w.le(c.size(), 4).text(c);
    return w.bytes;
}

namespace {
/// Which modes use the long block; read from the header's end, where they are.
std::vector<bool> vorbis_long_modes(ByteView setup) {
    // Vorbis packs bits from the least significant on. The header ends with the modes and a framing bit.
    auto bit = [&](std::size_t i) { return static_cast<unsigned>(setup[i / 8] >> (i % 8)) & 1U; };
    auto bits = [&](std::size_t i, unsigned n) {
        unsigned v = 0;
        for (unsigned k = 0; k < n; ++k) v |= bit(i + k) << k;
        return v;
    };
    std::size_t at = setup.size() * 8;
    while (at > 0 && !bit(at - 1)) --at;
    if (at == 0) return {};
    --at;
    std::vector<bool> found;
    std::size_t good = 0;
    constexpr std::size_t mode_bits = 1 + 16 + 16 + 8, least = 7 * 8 + 6;
    while (found.size() < 64 && at >= least + mode_bits) {
        auto start = at - mode_bits;
        if (bits(start + 1, 16) != 0 || bits(start + 17, 16) != 0 || bits(start + 33, 8) > 63) break;
        found.push_back(bit(start) != 0);
        at = start;
        if (bits(at - 6, 6) + 1 == found.size()) good = found.size();
    }
    found.resize(good);
    std::reverse(found.begin(), found.end());
    return found;
}
}  // namespace

std::optional<VorbisModes> parse_vorbis_modes(ByteView identification, ByteView setup) {
    if (identification.size() < 30) return std::nullopt;
    auto sizes = identification[28];
    VorbisModes m{{std::int64_t{1} << (sizes & 15), std::int64_t{1} << (sizes >> 4)}, vorbis_long_modes(setup)};
    return m.is_long.empty() ? std::nullopt : std::optional(std::move(m));
}

std::int64_t vorbis_packet_samples(const VorbisModes& modes, ByteView packet, std::int64_t& previous_block) {
    if (packet.empty() || packet[0] & 1) return 0;
    auto bits = std::bit_width(modes.is_long.size() - 1);
    auto mode = static_cast<std::size_t>(packet[0] >> 1) & ((std::size_t{1} << bits) - 1);
    if (mode >= modes.is_long.size()) return 0;
    auto size = modes.block[modes.is_long[mode] ? 1 : 0];
    auto length = previous_block ? (previous_block + size) / 4 : 0;
    previous_block = size;
    return length;
}

std::optional<TheoraHead> parse_theora_head(ByteView packet) {
    ByteReader r(packet);
    auto magic = r.take(7);
    if (magic.size() != 7 || magic[0] != 0x80 || std::memcmp(magic.data() + 1, "theora", 6) != 0) return std::nullopt;
    TheoraHead h;
    h.version = r.u24();
    r.skip(4);
    h.width = static_cast<int>(r.u24());
    h.height = static_cast<int>(r.u24());
    r.skip(2);
    auto rate = r.u32();
    auto per = r.u32();
    h.rate = {rate, per};
    auto across = r.u24(), down = r.u24();
    h.pixel_aspect = {across, down};
    r.skip(4);
    auto packed = r.u16();
    h.granule_shift = packed >> 5 & 31;
    h.pixel_format = packed >> 3 & 3;
    if (r.overrun() || !h.rate.stated() || h.width <= 0 || h.height <= 0 || h.width > 32768 || h.height > 32768)
        return std::nullopt;
    return h;
}

std::optional<FlacInfo> parse_flac_info(ByteView config) {
    if (config.size() < 4 + 4 + 34 || std::memcmp(config.data(), "fLaC", 4) != 0 || (config[4] & 0x7F) != 0)
        return std::nullopt;
    ByteReader r(config.subspan(8));
    FlacInfo f;
    f.min_block = r.u16(), f.max_block = r.u16();
    f.min_frame = r.u24(), f.max_frame = r.u24();
    auto packed = r.u64();
    f.rate = static_cast<int>(packed >> 44);
    f.channels = static_cast<int>(packed >> 41 & 7) + 1;
    f.bits = static_cast<unsigned>(packed >> 36 & 31) + 1;
    f.samples = packed & 0xFFFFFFFFFULL;
    if (f.rate <= 0 || f.max_block < 16) return std::nullopt;
    return f;
}

namespace {
std::uint8_t crc8(ByteView data) {
    std::uint8_t crc = 0;
    for (auto b : data) {
        crc ^= b;
        for (int i = 0; i < 8; ++i) crc = static_cast<std::uint8_t>(crc & 0x80 ? crc << 1 ^ 0x07 : crc << 1);
    }
    return crc;
}
}  // namespace

std::uint16_t flac_crc16(ByteView frame) {
    static const auto table = [] {
        std::array<std::uint16_t, 256> t{};
        for (unsigned i = 0; i < 256; ++i) {
            auto v = static_cast<std::uint16_t>(i << 8);
            for (int k = 0; k < 8; ++k) v = static_cast<std::uint16_t>(v & 0x8000 ? v << 1 ^ 0x8005 : v << 1);
            t[i] = v;
        }
        return t;
    }();
    std::uint16_t crc = 0;
    for (auto b : frame) crc = static_cast<std::uint16_t>(crc << 8 ^ table[(crc >> 8 ^ b) & 0xFF]);
    return crc;
}

std::optional<AudioFrameHeader> parse_flac_frame(ByteView at) {
    if (at.size() < 6 || at[0] != 0xFF || (at[1] & 0xFE) != 0xF8) return std::nullopt;
    ByteReader r(at);
    r.skip(1);
    AudioFrameHeader f;
    f.counts_samples = r.u8() & 1;
    auto sizes = r.u8(), layout = r.u8();
    unsigned block = sizes >> 4, rate = sizes & 15, channels = layout >> 4;
    if (block == 0 || rate == 15 || channels > 10 || layout & 1 || (layout >> 1 & 7) == 3) return std::nullopt;
    // The number, coded like UTF-8 but up to 36 bits.
    auto lead = r.u8();
    auto more = std::countl_one(lead);
    if (more == 1 || more > 7) return std::nullopt;
    f.number = more == 0 ? lead : lead & (0x7FU >> more);
    for (int i = 1; i < more; ++i) {
        auto b = r.u8();
        if ((b & 0xC0) != 0x80) return std::nullopt;
        f.number = f.number << 6 | (b & 0x3F);
    }
    if (block == 1)
        f.samples = 192;
    else if (block <= 5)
        f.samples = 576 << (block - 2);
    else if (block == 6)
        f.samples = r.u8() + 1;
    else if (block == 7)
        f.samples = r.u16() + 1;
    else
        f.samples = 256 << (block - 8);
    static constexpr std::array<int, 12> rates{0,     88200, 176400, 192000, 8000,  16000,
                                               22050, 24000, 32000,  44100,  48000, 96000};
    if (rate < 12)
        f.rate = rates[rate];
    else if (rate == 12)
        f.rate = r.u8() * 1000;
    else
        f.rate = r.u16() * (rate == 14 ? 10 : 1);
    f.channels = channels < 8 ? static_cast<int>(channels) + 1 : 2;
    auto length = r.position();
    auto stated = r.u8();
    if (r.overrun() || crc8(at.first(length)) != stated) return std::nullopt;
    f.header = length + 1;
    return f;
}

}  // namespace ruedo
