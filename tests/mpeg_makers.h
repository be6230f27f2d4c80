// SPDX-License-Identifier: Apache-2.0
// Makers of clips in older formats, as far as tests need them: numbered pictures in MPEG-1 and MPEG-2 video of flat
// blocks, MPEG-4 Visual, AC-3 of given sound, and the files that hold them.
#pragma once
#include <xvid.h>

#include <cmath>
#include <map>
#include <numbers>

#include "media/codec_headers.h"
#include "support.h"

namespace ruedo::test {

/// A coded picture in decoding order; `shown`: its number, which is also its place in the order of showing.
struct Coded {
    Bytes data;
    int shown = 0;
    bool key = false;
};

constexpr int number_width = 64, number_height = 48;
/// Bit `k` of a picture's number makes macroblock `k` bright or dark.
inline int luma_of_block(int number, int block) { return block < 12 && number >> block & 1 ? 200 : 50; }
inline int number_of(const Frame& p) {
    int number = 0;
    for (int block = 0; block < 12; ++block) {
        auto x = block % 4 * 16 + 8, y = block / 4 * 16 + 8;
        if (p.plane[0][y * p.stride[0] + x] > 125) number |= 1 << block;
    }
    return number;
}
inline Frame numbered_frame(int number) {
    std::array<std::uint8_t*, 3> planes{};
    auto p = make_frame(number_width, number_height, planes);
    for (int y = 0; y < number_height; ++y)
        for (int x = 0; x < number_width; ++x)
            planes[0][y * p.stride[0] + x] = static_cast<std::uint8_t>(luma_of_block(number, y / 16 * 4 + x / 16));
    for (std::size_t i : {1U, 2U}) std::fill_n(planes[i], p.stride[i] * number_height / 2, std::uint8_t{128});
    return p;
}

class BitWriter {
  public:
    BitWriter& bits(std::uint64_t v, unsigned n) {
        while (n-- > 0) {
            if (used_ % 8 == 0) bytes.push_back(0);
            bytes.back() = static_cast<std::uint8_t>(bytes.back() | (v >> n & 1) << (7 - used_ % 8));
            ++used_;
        }
        return *this;
    }
    BitWriter& align() {
        while (used_ % 8) bits(0, 1);
        return *this;
    }
    BitWriter& code(unsigned value) { return align().bits(0x100 | value, 32); }
    Bytes bytes;

  private:
    std::uint64_t used_ = 0;
};

struct MpegOptions {
    bool second = true;      ///< MPEG-2.
    unsigned rate_code = 3;  ///< 25 a second.
    unsigned aspect = 1;
    int between = 2;          ///< B pictures between two others.
    int group = 12;           ///< Pictures.
    bool closed = true;       ///< Whether a group's first B pictures look forward only.
    bool header_each = true;  ///< A sequence header before each group.
    int in_fields_from = -1;  ///< MPEG-2: the first picture that says it is of two moments; none does.
};

/// Pictures of flat blocks, every one coded on its own whatever its type says (ISO/IEC 13818-2 and 11172-2).
inline std::vector<Coded> mpeg_video(int count, const MpegOptions& o = {}) {
    // In decoding order: the number, the type, and where its group begins.
    struct Planned {
        int number;
        char type;
        int from;
    };
    std::vector<Planned> order;
    for (int from = 0; from < count; from += o.group) {
        auto end = std::min(count, from + o.group);
        int last = from - 1;
        char type = 'I';
        for (int at = o.closed || from == 0 ? from : std::min(end - 1, from + o.between); last < end - 1;) {
            order.push_back({at, std::exchange(type, 'P'), from});
            for (int b = last + 1; b < at; ++b) order.push_back({b, 'B', from});
            last = at;
            at = std::min(end - 1, at + o.between + 1);
        }
    }
    static constexpr std::array<std::pair<unsigned, unsigned>, 9> luma_sizes{
        {{4, 3}, {0, 2}, {1, 2}, {5, 3}, {6, 3}, {14, 4}, {30, 5}, {62, 6}, {126, 7}}};
    static constexpr std::array<std::pair<unsigned, unsigned>, 9> chroma_sizes{
        {{0, 2}, {1, 2}, {2, 2}, {6, 3}, {14, 4}, {30, 5}, {62, 6}, {126, 7}, {254, 8}}};
    std::vector<Coded> out;
    for (auto [number, type, from] : order) {
        BitWriter w;
        if (type == 'I') {
            if (o.header_each || out.empty()) {
                w.code(0xB3).bits(number_width, 12).bits(number_height, 12).bits(o.aspect, 4).bits(o.rate_code, 4);
                w.bits(0x3FFFF, 18).bits(1, 1).bits(112, 10).bits(0, 3);
                if (o.second) {
                    w.code(0xB5)
                        .bits(1, 4)
                        .bits(0x48, 8)
                        .bits(o.in_fields_from < 0, 1)
                        .bits(1, 2)
                        .bits(0, 4)
                        .bits(0, 12)
                        .bits(1, 1);
                    w.bits(0, 8).bits(0, 1).bits(0, 7);
                }
            }
            w.code(0xB8).bits(1 << 12, 25).bits(o.closed || out.empty(), 1).bits(0, 1);
        }
        w.code(0).bits(static_cast<unsigned>(number - from) & 1023, 10);
        w.bits(type == 'I' ? 1 : type == 'P' ? 2 : 3, 3).bits(0xFFFF, 16);
        unsigned reach = o.second ? 7 : 1;
        if (type != 'I') w.bits(0, 1).bits(reach, 3);
        if (type == 'B') w.bits(0, 1).bits(reach, 3);
        w.bits(0, 1);
        if (o.second) {
            bool whole = o.in_fields_from < 0 || number < o.in_fields_from;
            w.code(0xB5).bits(8, 4).bits(type == 'I' ? 0xFFFF : type == 'P' ? 0x11FF : 0x1111, 16);
            w.bits(0, 2).bits(3, 2).bits(0, 1).bits(1, 1).bits(0, 5).bits(whole, 1).bits(whole, 1).bits(0, 1);
        }
        for (int row = 0; row < number_height / 16; ++row) {
            w.code(static_cast<unsigned>(row) + 1).bits(1, 5).bits(0, 1);
            std::array<int, 3> before{128, 128, 128};
            auto dc = [&](std::size_t plane, int value, auto& sizes) {
                auto d = value - std::exchange(before[plane], value);
                unsigned size = 0;
                while (std::abs(d) >> size) ++size;
                w.bits(sizes[size].first, sizes[size].second);
                if (size) w.bits(static_cast<unsigned>(d < 0 ? d + (1 << size) - 1 : d), size);
                w.bits(2, 2);  // end of block
            };
            for (int column = 0; column < number_width / 16; ++column) {
                w.bits(1, 1);
                type == 'I' ? w.bits(1, 1) : w.bits(3, 5);
                for (int i = 0; i < 4; ++i) dc(0, luma_of_block(number, row * 4 + column), luma_sizes);
                dc(1, 128, chroma_sizes), dc(2, 128, chroma_sizes);
            }
        }
        w.align();
        out.push_back({w.bytes, number, type == 'I'});
    }
    return out;
}

/// MPEG-4 Visual; `packed`: two pictures in one packet, an empty one later, as old AVI files have it.
inline std::vector<Coded> mpeg4_video(int count, int between, bool packed, int group = 24, bool in_fields = false) {
    static const bool ready = [] {
        xvid_gbl_init_t init{};
        init.version = XVID_VERSION;
        return xvid_global(nullptr, XVID_GBL_INIT, &init, nullptr) == 0;
    }();
    if (!ready) FAIL("no encoder");
    xvid_enc_create_t create{};
    create.version = XVID_VERSION;
    create.width = number_width, create.height = number_height;
    create.fincr = 1, create.fbase = 25;
    create.max_key_interval = group;
    create.max_bframes = between;
    create.bquant_ratio = 150, create.bquant_offset = 100;
    create.global = packed ? XVID_GLOBAL_PACKED : 0;
    REQUIRE(xvid_encore(nullptr, XVID_ENC_CREATE, &create, nullptr) == 0);
    std::vector<Coded> out;
    Bytes buffer(1 << 18);
    for (int i = 0, idle = 0; idle < 2;) {
        xvid_enc_frame_t frame{};
        frame.version = XVID_VERSION;
        frame.bitstream = buffer.data();
        frame.length = -1;
        frame.quant = 3;
        frame.type = XVID_TYPE_AUTO;
        frame.vop_flags = XVID_VOP_HALFPEL;
        frame.vol_flags = in_fields ? XVID_VOL_INTERLACING : 0;
        frame.motion = 0;
        auto picture = numbered_frame(i);
        if (i < count) {
            frame.input.csp = XVID_CSP_PLANAR;
            for (std::size_t k = 0; k < 3; ++k) {
                frame.input.plane[k] = const_cast<std::uint8_t*>(picture.plane[k]);
                frame.input.stride[k] = picture.stride[k];
            }
            ++i;
        } else {
            frame.input.csp = XVID_CSP_NULL;
        }
        auto n = xvid_encore(create.handle, XVID_ENC_ENCODE, &frame, nullptr);
        if (n == XVID_ERR_END) break;
        REQUIRE(n >= 0);
        if (n > 0)
            out.push_back({Bytes(buffer.begin(), buffer.begin() + n), -1, (frame.out_flags & XVID_KEYFRAME) != 0});
        else if (i >= count)
            ++idle;
    }
    xvid_encore(create.handle, XVID_ENC_DESTROY, nullptr, nullptr);
    return out;
}

/// An AVI file with one track of pictures, 25 a second, and, where given, one of sound.
inline Bytes make_avi(const char* tag, const std::vector<Coded>& pictures, unsigned audio_tag = 0,
                      const std::vector<Bytes>& audio = {}) {
    auto list = [](const char* type, const Bytes& body) {
        ByteWriter w;
        w.text("LIST").le(body.size() + 4, 4).text(type).raw(body);
        return w.bytes;
    };
    ByteWriter header;
    header.text("avih").le(56, 4).le(40000, 4);
    for (int i = 0; i < 13; ++i) header.le(0, 4);
    ByteWriter video;
    video.text("strh").le(56, 4).text("vids").text(tag).le(0, 4).le(0, 4).le(0, 4).le(1, 4).le(25, 4).le(0, 4);
    video.le(pictures.size(), 4).le(0, 4).le(0, 4).le(0, 4).le(0, 8);
    video.text("strf").le(40, 4).le(40, 4).le(number_width, 4).le(number_height, 4).le(1, 2).le(24, 2).text(tag);
    for (int i = 0; i < 5; ++i) video.le(0, 4);
    auto streams = list("strl", video.bytes);
    if (audio_tag) {
        ByteWriter a;
        a.text("strh").le(56, 4).text("auds").le(0, 4).le(0, 4).le(0, 4).le(0, 4).le(1536, 4).le(48000, 4).le(0, 4);
        a.le(audio.size(), 4).le(0, 4).le(0, 4).le(0, 4).le(0, 8);
        a.text("strf").le(18, 4).le(audio_tag, 2).le(1, 2).le(48000, 4).le(32000, 4).le(1, 2).le(0, 2).le(0, 2);
        auto more = list("strl", a.bytes);
        streams.insert(streams.end(), more.begin(), more.end());
    }
    header.raw(streams);
    ByteWriter body, index;
    auto chunk = [&](const char* id, ByteView data, bool key) {
        index.text(id).le(key ? 0x10 : 0, 4).le(body.size() + 4, 4).le(data.size(), 4);
        body.text(id).le(data.size(), 4).raw(data);
        if (data.size() & 1) body.u8(0);
    };
    for (std::size_t i = 0; i < std::max(pictures.size(), audio.size()); ++i) {
        if (i < pictures.size()) chunk("00dc", pictures[i].data, pictures[i].key);
        if (i < audio.size()) chunk("01wb", audio[i], true);
    }
    ByteWriter all;
    all.raw(list("hdrl", header.bytes)).raw(list("movi", body.bytes));
    all.text("idx1").le(index.size(), 4).raw(index.bytes);
    ByteWriter file;
    file.text("RIFF").le(all.size() + 4, 4).text("AVI ").raw(all.bytes);
    return file.bytes;
}

/// AC-3 (ETSI TS 102 366) of one channel at 48 kHz, 256 kbit/s: every exponent nought, every mantissa of 16 bits, which
/// the allocation of bits gives where the floor is at its lowest.
inline std::vector<Bytes> make_ac3(const std::vector<float>& audio) {
    constexpr std::size_t bins = 73;
    // Clause 7.9.5: a window whose squares sum to one, of a Kaiser window with alpha 5.
    static const auto window = [] {
        std::array<double, 256> w{};
        double sum = 0;
        auto kaiser = [](double x) { return std::cyl_bessel_i(0.0, 5 * std::numbers::pi * std::sqrt(1 - x * x)); };
        for (std::size_t i = 0; i < 256; ++i) w[i] = sum += kaiser(2.0 * static_cast<double>(i) / 256 - 1);
        for (auto& v : w) v = std::sqrt(v / (sum + kaiser(1)));
        return w;
    }();
    std::vector<Bytes> frames;
    for (std::size_t frame = 0; frame * 1536 < audio.size(); ++frame) {
        BitWriter w;
        w.bits(0x0B77, 16).bits(0, 16).bits(0, 2).bits(24, 6);
        w.bits(8, 5).bits(0, 3).bits(1, 3).bits(0, 1).bits(31, 5).bits(0, 3).bits(0, 2).bits(0, 2).bits(0, 1);
        for (std::size_t block = 0; block < 6; ++block) {
            w.bits(0, 1).bits(0, 1).bits(0, 1);
            block == 0 ? w.bits(1, 1).bits(0, 1) : w.bits(0, 1);
            w.bits(block == 0 ? 1 : 0, 2);
            if (block == 0) {
                w.bits(0, 6).bits(0, 4);
                for (std::size_t i = 0; i < (bins - 1) / 3; ++i) w.bits(62, 7);
                w.bits(0, 2);
            }
            block == 0 ? w.bits(1, 1).bits(2, 2).bits(1, 2).bits(1, 2).bits(2, 2).bits(7, 3) : w.bits(0, 1);
            block == 0 ? w.bits(1, 1).bits(63, 6).bits(15, 4).bits(4, 3) : w.bits(0, 1);
            w.bits(0, 1).bits(0, 1);
            auto first = static_cast<std::int64_t>(frame * 1536 + block * 256) - 256;
            auto at = [&](std::int64_t i) {
                return i >= 0 && i < std::ssize(audio) ? static_cast<double>(audio[static_cast<std::size_t>(i)]) : 0.0;
            };
            for (std::size_t k = 0; k < bins; ++k) {
                double x = 0;
                for (std::int64_t n = 0; n < 512; ++n)
                    x += at(first + n) * window[static_cast<std::size_t>(n < 256 ? n : 511 - n)] *
                         std::cos(std::numbers::pi / 1024 * static_cast<double>(2 * n + 1) *
                                      (2.0 * static_cast<double>(k) + 1) +
                                  std::numbers::pi / 4 * (2.0 * static_cast<double>(k) + 1));
                auto m = std::lround(-2.0 / 512 * x * 32768);
                w.bits(static_cast<std::uint64_t>(std::clamp(m, -32768L, 32767L)) & 0xFFFF, 16);
            }
        }
        w.align();
        w.bytes.resize(1024);
        frames.push_back(std::move(w.bytes));
    }
    return frames;
}

/// A program stream of pictures, 25 a second, and AC-3, in packets that keep to neither's beginnings. `first`: packs as
/// ISO/IEC 11172-1 has them. `begin`: the clock where it starts, in ticks.
inline Bytes make_program_stream(const std::vector<Coded>& pictures, const std::vector<Bytes>& audio, bool first,
                                 std::int64_t begin = 0, std::int64_t frame_ticks = 3600, bool stamped = true) {
    ByteWriter w;
    auto stamp = [&](ByteWriter& out, unsigned lead, std::int64_t t) {
        auto v = static_cast<std::uint64_t>(t) & 0x1FFFFFFFFULL;
        out.u8(lead << 4 | (v >> 30 & 7) << 1 | 1).u16((v >> 15 & 0x7FFF) << 1 | 1).u16((v & 0x7FFF) << 1 | 1);
    };
    auto pack = [&] {
        w.u32(0x1BA);
        first ? w.u8(0x21).u32(0x00010001).u24(0x800001) : w.u8(0x44).raw(Bytes{0, 4, 0, 4, 1, 0, 3, 0x67, 0xF8});
    };
    auto packet = [&](unsigned id, ByteView prefix, ByteView data, std::optional<std::int64_t> pts,
                      std::optional<std::int64_t> dts) {
        ByteWriter head;
        if (first) {
            if (pts && dts) stamp(head, 3, *pts), stamp(head, 1, *dts);
            if (pts && !dts) stamp(head, 2, *pts);
            if (!pts) head.u8(0x0F);
        } else {
            head.u8(0x81).u8(pts ? dts ? 0xC0 : 0x80 : 0).u8(pts ? dts ? 10 : 5 : 0);
            if (pts) stamp(head, dts ? 3 : 2, *pts);
            if (dts) stamp(head, 1, *dts);
        }
        w.u32(0x100 | id).u16(head.size() + prefix.size() + data.size()).raw(head.bytes).raw(prefix).raw(data);
    };
    // One run of bytes, and where each picture begins in it.
    Bytes run;
    std::vector<std::size_t> begins;
    for (auto& p : pictures) {
        begins.push_back(run.size());
        run.insert(run.end(), p.data.begin(), p.data.end());
    }
    begin += 3600;
    constexpr std::size_t piece = 700;
    std::size_t unit = 0, heard = 0;
    for (std::size_t at = 0; at < run.size(); at += piece) {
        pack();
        auto n = std::min(piece, run.size() - at);
        std::optional<std::int64_t> pts, dts;
        if (stamped && unit < begins.size() && begins[unit] < at + n) {
            auto shown = begin + frame_ticks + pictures[unit].shown * frame_ticks;
            auto decoded = begin + static_cast<std::int64_t>(unit) * frame_ticks;
            pts = shown;
            if (decoded != shown) dts = decoded;
        }
        while (unit < begins.size() && begins[unit] < at + n) ++unit;
        packet(0xE0, {}, ByteView(run).subspan(at, n), pts, dts);
        for (; heard < audio.size() && heard * 2880 < unit * static_cast<std::size_t>(frame_ticks); ++heard)
            packet(0xBD, Bytes{0x80, 1, 0, 1}, audio[heard],
                   begin + frame_ticks + static_cast<std::int64_t>(heard) * 2880, std::nullopt);
    }
    w.u32(0x1B9);
    return w.bytes;
}

/// A transport stream with one track, of packets that are given; enough of ISO/IEC 13818-1 for reading it back.
class TsMaker {
  public:
    TsMaker(std::uint8_t type) {
        ByteWriter pat;
        pat.u8(0).u8(0).u16(0xB00D).u16(1).u8(0xC1).u8(0).u8(0).u16(1).u16(0xE100).u32(0);
        packet(0, true, pat.bytes, 0xFF);
        ByteWriter pmt;
        pmt.u8(0)
            .u8(2)
            .u16(0xB000 | 24)
            .u16(1)
            .u8(0xC1)
            .u8(0)
            .u8(0)
            .u16(0xE101)
            .u16(0xF000)
            .u8(type)
            .u16(0xE101)
            .u16(0xF006)
            .u8(0x0A)
            .u8(4)
            .text("deu")
            .u8(0)
            .u32(0);
        packet(0x100, true, pmt.bytes, 0xFF);
    }
    /// A packet of pictures without a stamp.
    void go_on(ByteView data) {
        ByteWriter w;
        w.u24(1).u8(0xE0).u16(0).u8(0x80).u8(0).u8(0).raw(data);
        send(w.bytes);
    }
    void add(ByteView data, std::int64_t pts, std::int64_t dts, bool video) {
        auto stamp = [](ByteWriter& w, unsigned lead, std::int64_t t) {
            auto v = static_cast<std::uint64_t>(t) & 0x1FFFFFFFFULL;
            w.u8(lead << 4 | (v >> 30 & 7) << 1 | 1).u16((v >> 15 & 0x7FFF) << 1 | 1).u16((v & 0x7FFF) << 1 | 1);
        };
        ByteWriter w;
        w.u24(1).u8(video ? 0xE0 : 0xC0).u16(video ? 0 : data.size() + 13).u8(0x80).u8(0xC0).u8(10);
        stamp(w, 3, pts), stamp(w, 1, dts);
        w.raw(data);
        send(w.bytes);
    }
    Bytes bytes;

  private:
    void send(ByteView rest) {
        for (bool first = true; !rest.empty(); first = false) {
            auto n = std::min<std::size_t>(184, rest.size());
            packet(0x101, first, rest.first(n), -1);
            rest = rest.subspan(n);
        }
    }
    void packet(unsigned pid, bool start, ByteView payload, int fill) {
        ByteWriter w;
        w.u8(0x47).u16((start ? 0x4000 : 0) | pid);
        auto space = 184 - payload.size();
        auto count = counter_[pid]++ & 15;
        if (fill < 0 && space > 0) {
            w.u8(0x30 | count).u8(space - 1);
            if (space > 1) w.u8(0);
            for (std::size_t i = 2; i < space; ++i) w.u8(0xFF);
            w.raw(payload);
        } else {
            w.u8(0x10 | count).raw(payload);
            for (std::size_t i = 0; i < space; ++i) w.u8(0xFF);
        }
        bytes.insert(bytes.end(), w.bytes.begin(), w.bytes.end());
    }
    std::map<unsigned, unsigned> counter_;
};
inline std::int64_t stamp_of(Time t) { return time_to_ticks(t, 90000); }

/// Matroska with one track of pictures: `config` is its codec's own header; a time for each, in milliseconds.
inline Bytes make_matroska(const std::string& codec, const Bytes& config, const std::vector<Coded>& pictures) {
    auto element = [](std::uint32_t id, ByteView body) {
        ByteWriter w;
        w.be(id, id > 0xFFFFFF ? 4 : id > 0xFFFF ? 3 : id > 0xFF ? 2 : 1).be(1ULL << 56 | body.size(), 8).raw(body);
        return w.bytes;
    };
    auto number = [&](std::uint32_t id, std::uint64_t v) {
        ByteWriter w;
        w.be(v, 4);
        return element(id, w.bytes);
    };
    auto words = [&](std::uint32_t id, std::string_view v) {
        ByteWriter w;
        w.text(v);
        return element(id, w.bytes);
    };
    ByteWriter video, track, segment, file;
    video.raw(number(0xB0, number_width)).raw(number(0xBA, number_height));
    track.raw(number(0xD7, 1)).raw(number(0x73C5, 1)).raw(number(0x83, 1)).raw(words(0x86, codec));
    if (!config.empty()) track.raw(element(0x63A2, config));
    track.raw(number(0x23E383, 40'000'000)).raw(element(0xE0, video.bytes));
    segment.raw(element(0x1549A966, number(0x2AD7B1, 1'000'000)));
    segment.raw(element(0x1654AE6B, element(0xAE, track.bytes)));
    for (auto& p : pictures) {
        ByteWriter block;
        block.u8(0x81).u16(0).u8(p.key ? 0x80 : 0).raw(p.data);
        ByteWriter cluster;
        cluster.raw(number(0xE7, static_cast<std::uint64_t>(p.shown) * 40)).raw(element(0xA3, block.bytes));
        segment.raw(element(0x1F43B675, cluster.bytes));
    }
    file.raw(element(0x1A45DFA3, words(0x4282, "matroska"))).raw(element(0x18538067, segment.bytes));
    return file.bytes;
}

}  // namespace ruedo::test
