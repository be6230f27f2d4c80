// SPDX-License-Identifier: Apache-2.0
// Codecs' headers: what is written is read, and whatever else is read agrees with the standard's own tables.
#include <bit>
#include <map>

#include "codec/channel_order.h"
#include "container/matroska/ebml.h"
#include "container/mpegts/packets.h"
#include "media/codec_headers.h"
#include "media/mpeg_video.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
std::mt19937& dice() {
    static std::mt19937 random(77);
    return random;
}
unsigned below(unsigned n) { return static_cast<unsigned>(dice()() % n); }
/// Bytes among which those of start codes are frequent.
Bytes rough_bytes(std::size_t size) {
    Bytes out(size);
    for (auto& b : out) b = static_cast<std::uint8_t>(below(3) ? below(4) : below(256));
    return out;
}
/// With emulation prevention (ITU-T H.264 clause 7.4.1.1), and an end that is no zero.
Bytes as_nal(std::uint8_t header, ByteView payload) {
    Bytes out{header};
    int zeros = 0;
    for (auto b : payload) {
        if (zeros == 2 && b <= 3) out.push_back(3), zeros = 0;
        out.push_back(b);
        zeros = b == 0 ? zeros + 1 : 0;
    }
    out.push_back(0x80);
    return out;
}
}  // namespace

TEST_CASE("Units of a byte stream come apart and together again, whatever is in them", "[bitstream]") {
    for (int round = 0; round < 200; ++round) {
        std::vector<Bytes> units;
        Bytes stream(below(4), 0);  // zeros may stand before the first
        for (unsigned i = 0, n = 1 + below(6); i < n; ++i) {
            units.push_back(as_nal(0x65, rough_bytes(below(40))));
            stream.insert(stream.end(), below(2) ? 2 : 3, 0);
            stream.push_back(1);
            stream.insert(stream.end(), units.back().begin(), units.back().end());
            stream.insert(stream.end(), below(3), 0);
        }
        auto apart = split_annex_b(stream);
        REQUIRE(apart.size() == units.size());
        for (std::size_t i = 0; i < units.size(); ++i) CHECK(std::ranges::equal(apart[i], units[i]));

        Bytes lengths, plain, again;
        from_annex_b(stream, lengths);
        for (auto& u : units) {
            plain.insert(plain.end(), {0, 0, 0, 1});
            plain.insert(plain.end(), u.begin(), u.end());
        }
        CHECK((to_annex_b(lengths, 4, again) && again == plain));
        // With lengths of each other size as well; and none that lies.
        for (unsigned size : {1U, 2U}) {
            ByteWriter w;
            for (auto& u : units) w.be(u.size(), size).raw(u);
            again.clear();
            CHECK((to_annex_b(w.bytes, size, again) && again == plain));
            w.bytes.pop_back();
            again.clear();
            CHECK_FALSE(to_annex_b(w.bytes, size, again));
        }
    }
}

TEST_CASE("Emulation prevention is taken out, and nothing else", "[bitstream]") {
    for (int round = 0; round < 300; ++round) {
        auto payload = rough_bytes(below(60));
        auto nal = as_nal(0x67, payload);
        Bytes wanted{0x67};
        wanted.insert(wanted.end(), payload.begin(), payload.end());
        wanted.push_back(0x80);
        CHECK(without_emulation(nal) == wanted);
    }
}

TEST_CASE("Start codes are found where they are, and nowhere else", "[bitstream]") {
    for (int round = 0; round < 200; ++round) {
        auto bytes = rough_bytes(below(80));
        for (std::size_t from = 0; from <= bytes.size(); ++from) {
            std::optional<std::size_t> wanted;
            for (auto i = from; i + 3 < bytes.size() && !wanted; ++i)
                if (bytes[i] == 0 && bytes[i + 1] == 0 && bytes[i + 2] == 1) wanted = i;
            CHECK(next_start_code(bytes, from) == wanted);
        }
    }
}

TEST_CASE("Configurations made from a stream's own parameter sets say what the ones that were there said",
          "[bitstream]") {
    for (auto name : {"h264_high_aac.mp4", "vfr_h264.mp4", "rotate90.mp4"}) {
        INFO(name);
        auto clip = test::open(name);
        auto& track = *clip->info().main(Kind::video);
        auto first = parse_avcc(track.config);
        REQUIRE((first && first->sps));
        auto made = make_avcc(first->parameter_sets);
        auto second = parse_avcc(made);
        REQUIRE((second && second->sps));
        CHECK(second->parameter_sets == first->parameter_sets);
        CHECK(second->length_size == 4);
        // Profile, constraints and level stand in front; from High on, chroma and depth behind (clause 5.3.3.1.2).
        CHECK(std::ranges::equal(ByteView(made).subspan(1, 3), ByteView(track.config).subspan(1, 3)));
        auto& sps = *second->sps;
        CHECK((sps.width == first->sps->width && sps.height == first->sps->height));
        if (sps.profile >= 100) {
            ByteView end = ByteView(made).last(4);
            CHECK((end[0] & 3U) == sps.chroma_format);
            CHECK((end[1] & 7U) + 8 == sps.bit_depth);
            CHECK(end[3] == 0);
        }
        // Cut anywhere it is refused, as long as a parameter set is missing.
        auto needed = made.size() - (sps.profile >= 100 ? 4 : 0);
        for (std::size_t n = 0; n < needed; ++n) CHECK_FALSE(parse_avcc(ByteView(made).first(n)));
    }
    auto clip = test::open("hevc.mp4");
    auto& track = *clip->info().main(Kind::video);
    auto first = parse_hvcc(track.config);
    REQUIRE((first && first->sps));
    auto second = parse_hvcc(make_hvcc(first->parameter_sets));
    REQUIRE((second && second->sps));
    CHECK(second->parameter_sets == first->parameter_sets);
    CHECK((second->sps->profile == first->sps->profile && second->sps->level == first->sps->level));
    CHECK((second->sps->width == first->sps->width && second->sps->bit_depth == first->sps->bit_depth));
    CHECK(make_avcc(first->parameter_sets).empty());
    CHECK(make_hvcc({}).empty());
}

TEST_CASE("Three headers go into one block and come out as they were, or not at all", "[bitstream]") {
    for (int round = 0; round < 200; ++round) {
        std::vector<Bytes> headers;
        for (int i = 0; i < 3; ++i) {
            auto size = below(3) ? below(40) : 253 + below(520);
            headers.push_back(rough_bytes(i == 2 ? size + 1 : size));
        }
        auto block = lace_headers(headers);
        auto apart = split_laced(block);
        REQUIRE(apart.size() == 3);
        for (std::size_t i = 0; i < 3; ++i) CHECK(std::ranges::equal(apart[i], headers[i]));
        // All of the last may be cut off but one byte: it has no size of its own.
        auto whole = block.size() - headers[2].size();
        CHECK(split_laced(ByteView(block).first(below(static_cast<unsigned>(whole) + 1))).empty());
    }
    CHECK(split_laced({}).empty());
    CHECK(split_laced(lace_headers({{1}, {2}})).empty());
}

TEST_CASE("Comments give back the title and the cover that were put into them, and forgive what they can't mean",
          "[bitstream]") {
    Bytes jpeg{0xFF, 0xD8, 0xFF, 0xE0}, png{0x89, 'P', 'N', 'G', 0x0D, 0x0A, 0x1A, 0x0A};
    for (int round = 0; round < 60; ++round) {
        ClipTags tags;
        if (below(4)) tags.title = round % 2 ? "Two = one, “said” 港" : std::string(below(1000), 'x');
        if (below(4)) {
            tags.cover = below(2) ? jpeg : png;
            auto more = rough_bytes(below(3000));
            tags.cover.insert(tags.cover.end(), more.begin(), more.end());
        }
        auto language = below(2) ? "sv" : "";
        for (auto* head : {"OpusTags", "\x03vorbis"}) {
            ByteWriter w;
            w.text(head).raw(make_comments(language, tags));
            auto comments = vorbis_comments(w.bytes);
            std::map<std::string, std::string> said(comments.begin(), comments.end());
            CHECK(said.contains("LANGUAGE") == (*language != 0));
            ClipTags read;
            take_comments(comments, read);
            CHECK(read.title == tags.title);
            CHECK(read.cover == tags.cover);
            // Cut anywhere, what stands before the cut is as it was.
            auto cut = vorbis_comments(ByteView(w.bytes).first(below(static_cast<unsigned>(w.size()))));
            for (std::size_t i = 0; i + 1 < cut.size(); ++i) CHECK(cut[i] == comments[i]);
        }
        auto block = make_picture_block(tags.cover);
        CHECK(std::ranges::equal(picture_in_block(block), tags.cover));
        if (!tags.cover.empty())
            CHECK(picture_in_block(ByteView(block).first(below(static_cast<unsigned>(block.size())))).empty());
    }
    ByteWriter odd;
    odd.text("OpusTags").le(0, 4).le(3, 4);
    for (std::string_view c : {"no sign", "title=small", "=nothing"}) odd.le(c.size(), 4).text(c);
    auto comments = vorbis_comments(odd.bytes);
    REQUIRE(comments.size() == 2);
    CHECK((comments[0] == std::pair<std::string, std::string>("TITLE", "small")));
}

TEST_CASE("A frame of AAC says in its header what its configuration says, for all that it has room for",
          "[bitstream]") {
    static constexpr std::array<int, 13> rates{96000, 88200, 64000, 48000, 44100, 32000, 24000,
                                               22050, 16000, 12000, 11025, 8000,  7350};
    for (unsigned object = 0; object < 8; ++object)
        for (unsigned rate = 0; rate < 16; ++rate)
            for (unsigned channels = 0; channels < 9; ++channels) {
                Bytes asc{static_cast<std::uint8_t>(object << 3 | rate >> 1),
                          static_cast<std::uint8_t>((rate & 1) << 7 | channels << 3)};
                auto payload = below(8185);
                auto header = adts_header(asc, payload);
                bool room = ((object >= 1 && object <= 4) || object == 5) && rate < 13 && channels > 0 && channels < 8;
                REQUIRE(header.empty() != room);
                if (!room) continue;
                header.resize(7 + payload);
                auto frame = parse_adts_frame(header);
                REQUIRE(frame);
                CHECK((frame->header == 7 && frame->size == 7 + payload && frame->samples == 1024));
                CHECK(frame->rate == rates[rate]);
                CHECK(frame->channels == (channels == 7 ? 8 : static_cast<int>(channels)));
                auto config = parse_aac_config(frame->config);
                REQUIRE(config);
                CHECK(config->object_type == (object == 5 ? 2 : object));
                CHECK(config->rate == frame->rate);
            }
    CHECK(adts_header(Bytes{0x12, 0x10}, 8185).empty());
}

TEST_CASE("Frames of MPEG audio are as long as the standard says, and what is no header is none", "[bitstream]") {
    // ISO/IEC 11172-3 clause 2.4.2.3 and 13818-3 clause 2.4.2.3: kilobits by layer (II, III), full rates and half ones.
    static constexpr unsigned kbits[2][2][15]{{{0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384},
                                               {0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}},
                                              {{0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160},
                                               {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}}};
    static constexpr unsigned rates[3]{44100, 48000, 32000};
    int frames = 0;
    for (unsigned second = 0; second < 256; ++second)
        for (unsigned third = 0; third < 256; ++third) {
            Bytes at{0xFF, static_cast<std::uint8_t>(second), static_cast<std::uint8_t>(third), 0xC0};
            auto version = second >> 3 & 3, layer = second >> 1 & 3, bits = third >> 4, rate = third >> 2 & 3;
            auto f = parse_mp3_frame(at);
            bool is = second >= 0xE0 && version != 1 && (layer == 1 || layer == 2) && bits > 0 && bits < 15 && rate < 3;
            REQUIRE(f.has_value() == is);
            if (!is) continue;
            ++frames;
            auto hertz = rates[rate] >> (version == 3 ? 0 : version == 2 ? 1 : 2);
            auto kb = kbits[version != 3][layer == 1][bits];
            auto factor = layer == 1 && version != 3 ? 72U : 144U;
            CHECK(f->rate == static_cast<int>(hertz));
            CHECK(f->bitrate == kb * 1000);
            CHECK(f->samples == factor * 8);
            CHECK(f->size == factor * kb * 1000 / hertz + (third >> 1 & 1));
            CHECK(f->channels == 1);
            CHECK(f->codec == (layer == 1 ? Codec::mp3 : Codec::mp2));
        }
    CHECK(frames > 500);
}

TEST_CASE("Frames of FLAC lie end to end, are counted, and a header with any bit changed is none", "[bitstream]") {
    auto clip = test::open("audio.flac");
    auto& track = *clip->info().main(Kind::audio);
    auto info = parse_flac_info(track.config);
    REQUIRE(info);
    auto reader = clip->reader(track.id);
    std::uint64_t samples = 0, number = 0;
    Packet p;
    while (value(reader->next(p.head))) {
        done(reader->read(p.data));
        auto frame = parse_flac_frame(p.data);
        REQUIRE(frame);
        CHECK((frame->rate == info->rate || frame->rate == 0));
        CHECK(frame->channels == info->channels);
        CHECK(frame->number == (frame->counts_samples ? samples : number));
        samples += static_cast<std::uint64_t>(frame->samples), ++number;
        // A check sum of eight bits sees every change of one.
        for (std::size_t bit = 0; bit < frame->header * 8; ++bit) {
            p.data[bit / 8] ^= static_cast<std::uint8_t>(1U << bit % 8);
            auto other = parse_flac_frame(p.data);
            CHECK((!other || other->header != frame->header));
            p.data[bit / 8] ^= static_cast<std::uint8_t>(1U << bit % 8);
        }
        // What closes a frame is the sum of all before it.
        CHECK(flac_crc16(ByteView(p.data).first(p.data.size() - 2)) ==
              (p.data[p.data.size() - 2] << 8 | p.data.back()));
    }
    CHECK(samples == info->samples);
}

TEST_CASE("Packets of Opus are as long as their first bytes say", "[bitstream][ogg]") {
    // RFC 6716 table 2, in tenths of a millisecond.
    auto tenths = [](unsigned config) {
        static constexpr unsigned silk[4]{100, 200, 400, 600}, hybrid[2]{100, 200}, celt[4]{25, 50, 100, 200};
        return config < 12 ? silk[config % 4] : config < 16 ? hybrid[config % 2] : celt[config % 4];
    };
    for (unsigned toc = 0; toc < 256; ++toc)
        for (unsigned count = 0; count < 64; ++count) {
            Bytes packet{static_cast<std::uint8_t>(toc), static_cast<std::uint8_t>(count), 0};
            unsigned frames = (toc & 3) == 0 ? 1 : (toc & 3) == 3 ? count : 2;
            auto wanted = tenths(toc >> 3) * frames * 48 / 10;
            CHECK(opus_packet_samples(packet) == (wanted > 5760 ? 0 : wanted));
        }
    CHECK(opus_packet_samples({}) == 0);
    CHECK(opus_packet_samples(Bytes{3}) == 0);
}

TEST_CASE("Formats of plain samples are written and read alike", "[bitstream]") {
    for (bool is_float : {false, true})
        for (bool big : {false, true})
            for (unsigned bytes = 0; bytes <= 9; ++bytes)
                for (int channels : {0, 1, 2, 6, 64, 65})
                    for (int rate : {0, 8000, 44100, 192000, 800000}) {
                        PcmFormat f{.is_float = is_float,
                                    .big_endian = big,
                                    .bits = bytes * 8,
                                    .container_bytes = bytes,
                                    .rate = rate,
                                    .channels = channels};
                        auto read = parse_pcm_format(make_pcm_config(f));
                        bool can = (is_float ? bytes == 4 || bytes == 8 : bytes >= 1 && bytes <= 4) && channels > 0 &&
                                   channels < 65 && rate > 0 && rate <= 768000;
                        REQUIRE(read.has_value() == can);
                        if (!can) continue;
                        CHECK((read->is_float == is_float && read->big_endian == big && read->bits == f.bits));
                        CHECK((read->container_bytes == bytes && read->rate == rate && read->channels == channels));
                    }
}

TEST_CASE("Levels never fall as pictures grow or come faster, and are those of the usual sizes", "[bitstream]") {
    for (auto level : {&h264_level, &vp9_level})
        for (int w = 64; w < 8200; w *= 2)
            for (double rate : {10.0, 24.0, 30.0, 60.0, 120.0}) {
                auto here = level(w, w * 9 / 16, rate);
                CHECK(level(w + 16, w * 9 / 16 + 16, rate) >= here);
                CHECK(level(w, w * 9 / 16, rate * 1.1) >= here);
            }
    CHECK(h264_level(176, 144, 15) == 10);
    CHECK(h264_level(1280, 720, 30) == 31);
    CHECK(h264_level(1280, 720, 60) == 32);
    CHECK(h264_level(1920, 1080, 30) == 40);
    CHECK(h264_level(1920, 1080, 60) == 42);
    CHECK(h264_level(3840, 2160, 30) == 51);
    CHECK(vp9_level(1280, 720, 30) == 31);
    CHECK(vp9_level(1920, 1080, 30) == 40);
    CHECK(vp9_level(3840, 2160, 60) == 51);
}

TEST_CASE("Channels are put into another order and none is lost", "[bitstream]") {
    for (int n = 1; n <= 8; ++n) {
        auto places = vorbis_places(n);
        std::vector<std::size_t> seen(places.begin(), places.begin() + n);
        std::ranges::sort(seen);
        for (std::size_t i = 0; i < seen.size(); ++i) CHECK(seen[i] == i);
        CHECK(places[0] == 0);
    }
}

TEST_CASE("Numbers of any length are read as they were written", "[bitstream]") {
    using namespace matroska;
    for (int round = 0; round < 400; ++round) {
        unsigned length = 1 + below(8), read = 0;
        auto most = (1ULL << (7 * length)) - 1;
        auto v = (static_cast<std::uint64_t>(dice()()) << 32 | dice()()) % most;
        ByteWriter w;
        w.be(v | 1ULL << (7 * length), length).u8(0xFF);
        CHECK(read_vint(w.bytes, read) == v);
        CHECK(read == length);
        // Too short, or longer than is allowed here: there is none.
        CHECK((read_vint(ByteView(w.bytes).first(length - 1), read) == 0 && read == 0));
        if (length > 1) CHECK((read_vint(w.bytes, read, length - 1) == 0 && read == 0));
        // All ones mean that the size is not known.
        ByteWriter unknown;
        unknown.be(most | 1ULL << (7 * length), length);
        CHECK(read_vint(unknown.bytes, read) == UINT64_MAX);

        auto bytes = 1 + below(8);
        auto plain = (static_cast<std::uint64_t>(dice()()) << 32 | dice()()) >> (64 - 8 * bytes);
        ByteWriter number;
        number.be(plain, bytes);
        CHECK(as_uint(number.bytes) == plain);
        auto shift = 64 - 8 * bytes;
        CHECK(as_int(number.bytes) == static_cast<std::int64_t>(plain << shift) >> shift);
        auto real = static_cast<double>(static_cast<std::int32_t>(plain)) / 1024;
        ByteWriter single, twice;
        single.be(std::bit_cast<std::uint32_t>(static_cast<float>(real)), 4);
        twice.be(std::bit_cast<std::uint64_t>(real), 8);
        CHECK(as_float(single.bytes) == static_cast<double>(static_cast<float>(real)));
        CHECK(as_float(twice.bytes) == real);
    }
    CHECK(as_int({}) == 0);
    CHECK(as_float(Bytes{1, 2, 3}) == 0);
    CHECK(as_text(Bytes{'a', 'b', 0, 'c'}) == "ab");
}

TEST_CASE("Elements laid end to end are visited in order, up to where their structure breaks", "[bitstream]") {
    using namespace matroska;
    for (int round = 0; round < 200; ++round) {
        std::vector<std::pair<std::uint32_t, Bytes>> all;
        std::vector<std::size_t> ends;
        ByteWriter w;
        for (unsigned i = 0, n = below(6); i < n; ++i) {
            static constexpr std::uint32_t ids[]{id::cue_time, id::codec_id, id::timestamp_scale, id::cluster};
            auto& [element, body] = all.emplace_back(ids[below(4)], rough_bytes(below(300)));
            unsigned id_length = element < 0x100 ? 1 : element < 0x10000 ? 2 : element < 0x1000000 ? 3 : 4;
            w.be(element, id_length).be(body.size() | 0x4000, 2).raw(body);
            ends.push_back(w.size());
        }
        auto cut = below(static_cast<unsigned>(w.size()) + 1);
        std::size_t seen = 0;
        walk(ByteView(w.bytes).first(cut), [&](std::uint32_t element, ByteView body) {
            REQUIRE(seen < all.size());
            CHECK(element == all[seen].first);
            CHECK(std::ranges::equal(body, all[seen].second));
            ++seen;
        });
        CHECK(seen == static_cast<std::size_t>(std::ranges::count_if(ends, [&](auto end) { return end <= cut; })));
    }
}

TEST_CASE("Time stamps of 33 bits and packets of either layout are read as they stand", "[bitstream]") {
    for (int round = 0; round < 300; ++round) {
        auto stamp = (static_cast<std::uint64_t>(dice()()) << 32 | dice()()) & 0x1FFFFFFFF;
        // ISO/IEC 13818-1 clause 2.4.3.6: three, fifteen and fifteen bits, each with a marker behind it.
        ByteWriter w;
        w.u8(0x21 | (stamp >> 29 & 0x0E)).u16((stamp >> 14 & 0xFFFE) | 1).u16((stamp << 1 & 0xFFFE) | 1);
        ByteReader r(w.bytes);
        CHECK(mpegts::read_stamp(r) == static_cast<std::int64_t>(stamp));
        CHECK(r.left() == 0);
    }
    for (std::uint64_t size : {188U, 192U, 204U})
        for (std::size_t before : {0U, 3U, 100U}) {
            Bytes head(before, 0x11);
            if (size == 192) head.insert(head.end(), 4, 0x11);
            auto first = head.size();
            for (int i = 0; i < 12; ++i) {
                head.push_back(0x47);
                head.insert(head.end(), static_cast<std::size_t>(size) - 1, 0x22);
            }
            auto layout = mpegts::find_layout(head);
            REQUIRE(layout);
            CHECK((layout->first == first && layout->size == size));
        }
    CHECK_FALSE(mpegts::find_layout(Bytes(4096, 0x47 + 1)));
}
