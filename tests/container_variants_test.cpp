// SPDX-License-Identifier: Apache-2.0
// One clip in every shape that the book allows: boxes moved and rewritten by hand, blocks laced every way.
#include <cmath>

#include "media/codec_headers.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// A box tree in memory, to be changed and written again.
struct Node {
    std::string type;
    Bytes body;
    std::vector<Node> children;
};
const std::vector<std::string> parents{"moov", "trak", "mdia", "minf", "stbl", "edts"};

std::vector<Node> parse(ByteView data) {
    std::vector<Node> list;
    ByteReader r(data);
    while (r.left() >= 8) {
        std::uint64_t size = r.u32(), head = 8;
        auto t = r.take(4);
        if (size == 1) size = r.u64(), head = 16;
        Node n{{t.begin(), t.end()}, {}, {}};
        auto body = r.take(size - head);
        if (std::count(parents.begin(), parents.end(), n.type))
            n.children = parse(body);
        else
            n.body.assign(body.begin(), body.end());
        list.push_back(std::move(n));
    }
    return list;
}
Bytes write(const std::vector<Node>& list) {
    ByteWriter w;
    for (auto& n : list) {
        auto body = n.children.empty() ? n.body : write(n.children);
        w.u32(body.size() + 8).text(n.type).raw(body);
    }
    return w.bytes;
}
template <class F>
void each(std::vector<Node>& list, F&& change) {
    for (auto& n : list) change(n), each(n.children, change);
}
std::uint32_t get32(const Bytes& b, std::size_t at) { return be32(b.data() + at); }

/// Where the first mdat's bytes begin, and the file as boxes.
std::uint64_t mdat_at(const std::vector<Node>& list) {
    std::uint64_t at = 0;
    for (auto& n : list) {
        if (n.type == "mdat") return at + 8;
        at += 8 + (n.children.empty() ? n.body.size() : write(n.children).size());
    }
    return 0;
}
/// Adds `by` to every chunk offset.
void shift_chunks(std::vector<Node>& list, std::int64_t by) {
    each(list, [&](Node& n) {
        if (n.type != "stco" && n.type != "co64") return;
        unsigned wide = n.type == "stco" ? 4 : 8;
        ByteReader r(n.body);
        ByteWriter w;
        w.u32(r.u32());
        auto count = r.u32();
        w.u32(count);
        for (std::uint32_t i = 0; i < count; ++i)
            w.be(static_cast<std::uint64_t>(static_cast<std::int64_t>(r.be(wide)) + by), wide);
        n.body = w.bytes;
    });
}
/// Rewrites with `change` and puts the chunk offsets right again.
Bytes rewritten(const std::string& name, const std::function<void(std::vector<Node>&)>& change) {
    auto list = parse(bytes_of(fixture(name)));
    auto before = static_cast<std::int64_t>(mdat_at(list));
    change(list);
    auto after = static_cast<std::int64_t>(mdat_at(list));
    shift_chunks(list, after - before);
    return write(list);
}

std::vector<std::pair<PacketHead, Bytes>> packets(Clip& clip, std::uint64_t track) {
    std::vector<std::pair<PacketHead, Bytes>> list;
    auto reader = clip.reader(track);
    PacketHead head;
    while (value(reader->next(head))) {
        Bytes data;
        done(reader->read(data));
        list.emplace_back(head, std::move(data));
    }
    return list;
}
void check_same(Bytes bytes, const std::string& name) {
    auto other = value(open_clip(memory_source(std::move(bytes), name)));
    auto original = open(name);
    CHECK(other->info().duration == original->info().duration);
    REQUIRE(other->info().tracks.size() == original->info().tracks.size());
    for (auto& t : original->info().tracks) {
        auto a = packets(*original, t.id), b = packets(*other, t.id);
        REQUIRE(a.size() == b.size());
        for (std::size_t i = 0; i < a.size(); ++i) {
            REQUIRE(a[i].first.pts == b[i].first.pts);
            REQUIRE(a[i].first.keyframe == b[i].first.keyframe);
            REQUIRE(a[i].second == b[i].second);
        }
        // Seeking is the same too.
        auto ra = original->reader(t.id), rb = other->reader(t.id);
        for (int k = 0; k < 30; ++k) {
            PacketHead ha, hb;
            done(ra->seek(200_ms * k));
            done(rb->seek(200_ms * k));
            CHECK(value(ra->next(ha)) == value(rb->next(hb)));
            CHECK(ha.pts == hb.pts);
        }
    }
}
}  // namespace

TEST_CASE("The index may stand at the end", "[container]") {
    check_same(rewritten("h264_high_aac.mp4",
                         [](auto& list) {
                             std::stable_partition(list.begin(), list.end(), [](auto& n) { return n.type != "moov"; });
                         }),
               "h264_high_aac.mp4");
}

TEST_CASE("The index may stand in front, with anything between", "[container]") {
    check_same(rewritten("h264_high_aac.mp4",
                         [](auto& list) {
                             std::stable_partition(list.begin(), list.end(),
                                                   [](auto& n) { return n.type == "ftyp" || n.type == "moov"; });
                             for (int i = 0; i < 5; ++i)
                                 list.insert(list.begin() + 1,
                                             Node{"free", Bytes(static_cast<std::size_t>(i) * 1000), {}});
                             list.insert(list.begin() + 3, Node{"uuid", Bytes(100, 7), {}});
                         }),
               "h264_high_aac.mp4");
}

TEST_CASE("Chunk offsets may have 64 bits", "[container]") {
    check_same(rewritten("h264_high_aac.mp4",
                         [](auto& list) {
                             each(list, [](Node& n) {
                                 if (n.type != "stco") return;
                                 n.type = "co64";
                                 ByteWriter w;
                                 w.u32(0).u32(get32(n.body, 4));
                                 for (std::size_t at = 8; at < n.body.size(); at += 4) w.u64(get32(n.body, at));
                                 n.body = w.bytes;
                             });
                         }),
               "h264_high_aac.mp4");
}

TEST_CASE("Sample sizes may be compact", "[container]") {
    check_same(rewritten("h264_high_aac.mp4",
                         [](auto& list) {
                             each(list, [](Node& n) {
                                 if (n.type != "stsz" || get32(n.body, 4) != 0) return;
                                 n.type = "stz2";
                                 ByteWriter w;
                                 auto count = get32(n.body, 8);
                                 w.u32(0).u32(16).u32(count);
                                 for (std::uint32_t i = 0; i < count; ++i) w.u16(get32(n.body, 12 + 4U * i));
                                 n.body = w.bytes;
                             });
                         }),
               "h264_high_aac.mp4");
}

TEST_CASE("A track without sync table is keyframes only, and a stated rotation is told, whichever way", "[container]") {
    for (auto [turn, a, b, c, d] :
         {std::tuple{0, 1, 0, 0, 1}, {90, 0, 1, -1, 0}, {180, -1, 0, 0, -1}, {270, 0, -1, 1, 0}}) {
        auto bytes = rewritten("h264_high_aac.mp4", [&, a = a, b = b, c = c, d = d](auto& list) {
            each(list, [&](Node& n) {
                if (n.type == "stss") n.type = "free";
                if (n.type != "tkhd") return;
                auto put = [&](std::size_t at, int v) {
                    auto fixed = static_cast<std::uint32_t>(v * 65536);
                    for (std::size_t i = 0; i < 4; ++i)
                        n.body[at + i] = static_cast<std::uint8_t>(fixed >> (24 - 8 * i));
                };
                put(40, a), put(44, b), put(52, c), put(56, d);
            });
        });
        auto clip = value(open_clip(memory_source(bytes, "turned.mp4")));
        auto& track = *clip->info().main(Kind::video);
        CHECK(track.video.rotation == turn);
        CHECK(track.video.display_width() == (turn % 180 ? 360 : 640));
        CHECK(value(scan_track(*clip, track)).keyframe_times.size() == 180);
    }
}

TEST_CASE("Chapters are no captions and no pictures, though they look like them", "[container][captions]") {
    for (bool named : {false, true}) {
        Bytes file;
        auto writer = mp4_muxer(std::make_unique<MemorySink>(file));
        MuxerTrack pictures, titles;
        pictures.codec = Codec::av1, pictures.config = {0x81, 0x04, 0x0C, 0x00};
        pictures.video.width = 64, pictures.video.height = 48;
        titles.codec = Codec::webvtt;
        auto film = value(writer->add(pictures)), chapters = value(writer->add(titles));
        Bytes data(100, 1);
        std::string_view words = "\nThe lock";
        for (int i = 0; i < 50; ++i) done(writer->write(film, {40_ms * i, 40_ms * i, 40_ms, true, data}));
        done(writer->write(chapters,
                           {0_s, 0_s, 1_s, true, {reinterpret_cast<const std::uint8_t*>(words.data()), words.size()}}));
        done(writer->finish());
        auto list = parse(file);
        auto before = static_cast<std::int64_t>(mdat_at(list));
        bool first = true;
        each(list, [&](Node& n) {
            if (!named || n.type != "trak" || !std::exchange(first, false)) return;
            ByteWriter w;
            w.u32(16).text("chap").u32(9).u32(2);
            n.children.push_back(Node{"tref", w.bytes, {}});
        });
        shift_chunks(list, static_cast<std::int64_t>(mdat_at(list)) - before);
        auto clip = opened(write(list), "chapters.mp4");
        CHECK(clip->info().tracks.size() == 2);
        CHECK((clip->info().main(Kind::text) == nullptr) == named);
        CHECK(clip->info().main(Kind::video));
        CHECK(packets(*clip, 1).size() == 50);
        CHECK(clip->info().duration == 2_s);
    }
}

TEST_CASE("An edit list of several cuts plays without them and says so", "[container][isobmff]") {
    auto bytes = rewritten("h264_high_aac.mp4", [](auto& list) {
        each(list, [](Node& n) {
            if (n.type != "elst") return;
            ByteWriter w;
            w.u32(0).u32(2).u32(1000).u32(1024).u32(0x10000).u32(1000).u32(50'000).u32(0x10000);
            n.body = w.bytes;
        });
    });
    auto clip = value(open_clip(memory_source(bytes, "cuts.mp4")));
    CHECK(std::any_of(clip->info().findings.begin(), clip->info().findings.end(),
                      [](auto& f) { return f.code == "edit-list"; }));
    CHECK(value(scan_track(*clip, *clip->info().main(Kind::video))).frame_count == 180);
}

namespace {
/// Matroska by hand: elements of known size.
Bytes element(std::uint64_t id, const Bytes& body) {
    ByteWriter w;
    unsigned n = 1;
    while (n < 8 && id >> (8 * n)) ++n;
    w.be(id, n).be(body.size() | 0x10000000, 4).raw(body);
    return w.bytes;
}
Bytes number(std::uint64_t v) {
    ByteWriter w;
    w.be(v, 4);
    return w.bytes;
}
Bytes joined(std::initializer_list<Bytes> parts) {
    Bytes all;
    for (auto& p : parts) all.insert(all.end(), p.begin(), p.end());
    return all;
}
Bytes text(std::string_view s) { return {s.begin(), s.end()}; }

/// One sound track whose frames are `sizes` long, put into one block with this lacing, `extra` after the header.
Bytes laced(unsigned lacing, const std::vector<std::size_t>& sizes, const Bytes& lace_sizes) {
    ByteWriter head;
    head.text("OpusHead").u8(1).u8(2).le(0, 2).le(48000, 4).le(0, 2).u8(0);
    auto track =
        element(0xAE, joined({element(0xD7, number(1)), element(0x83, number(2)), element(0x86, text("A_OPUS")),
                              element(0x63A2, head.bytes), element(0x23E383, number(20'000'000))}));
    ByteWriter block;
    block.u8(0x81).u16(0).u8(0x80 | lacing << 1);
    if (lacing) block.u8(sizes.size() - 1).raw(lace_sizes);
    for (std::size_t i = 0; i < sizes.size(); ++i) {
        block.u8(0xFC);  // an Opus packet of one 20 ms frame
        for (std::size_t k = 1; k < sizes[i]; ++k) block.u8(i + 1);
    }
    auto cluster = element(0x1F43B675, joined({element(0xE7, number(0)), element(0xA3, block.bytes)}));
    auto segment = element(0x18538067, joined({element(0x1549A966, element(0x2AD7B1, number(1'000'000))),
                                               element(0x1654AE6B, track), cluster}));
    return joined({element(0x1A45DFA3, element(0x4282, text("matroska"))), segment});
}
}  // namespace

TEST_CASE("Blocks are taken apart whatever their lacing", "[container]") {
    struct Case {
        unsigned lacing;
        std::vector<std::size_t> sizes;
        Bytes fields;
    };
    ByteWriter xiph, ebml;
    xiph.u8(255).u8(45).u8(7);                                // 300, 7, the rest
    ebml.be(0x4000 | 300, 2).be(0x4000 | (0x1FFF - 293), 2);  // 300, then 293 less, the rest
    for (auto& c : {Case{0, {40}, {}}, Case{1, {300, 7, 90}, xiph.bytes}, Case{2, {64, 64, 64, 64}, {}},
                    Case{3, {300, 7, 90}, ebml.bytes}}) {
        INFO("lacing " << c.lacing);
        auto clip = value(open_clip(memory_source(laced(c.lacing, c.sizes, c.fields), "laced.mkv")));
        auto got = packets(*clip, 1);
        REQUIRE(got.size() == c.sizes.size());
        for (std::size_t i = 0; i < got.size(); ++i) {
            REQUIRE(got[i].second.size() == c.sizes[i]);
            CHECK(got[i].second.back() == i + 1);
            CHECK(got[i].first.pts == 20_ms * static_cast<std::int64_t>(i));
        }
    }
}

TEST_CASE("Laces that lie are passed over, not read past", "[container]") {
    std::mt19937 random(40);
    for (int i = 0; i < 500; ++i) {
        Bytes fields(random() % 6);
        for (auto& b : fields) b = static_cast<std::uint8_t>(random());
        auto clip =
            open_clip(memory_source(laced(1 + static_cast<unsigned>(random() % 3), {10, 20, 30}, fields), "lies.mkv"));
        if (!clip) continue;
        for (auto& p : packets(**clip, 1)) CHECK(p.second.size() < 200);
    }
}

TEST_CASE("Codec headers are read as their standards lay them down", "[container]") {
    auto asc = parse_aac_config(Bytes{0x12, 0x10});
    REQUIRE(asc);
    CHECK(asc->rate == 44100);
    CHECK(asc->channels == 2);
    CHECK(asc->object_type == 2);
    CHECK_FALSE(parse_aac_config(Bytes{0x12}).has_value());
    auto sbr = parse_aac_config(Bytes{0x13, 0x10, 0x56, 0xE5, 0x9D, 0x48, 0x80});
    REQUIRE(sbr);
    CHECK(sbr->sbr);
    CHECK(opus_packet_samples(Bytes{0xFC}) == 960);
    CHECK(opus_packet_samples(Bytes{0x00}) == 480);
    CHECK(opus_packet_samples(Bytes{0xFF, 0x02}) == 1920);
    CHECK(opus_packet_samples(Bytes{0x1B, 0x3F}) == 0);  // more than 120 ms is malformed
    CHECK(opus_packet_samples({}) == 0);
    CHECK(vp9_level(640, 360, 30) == 21);
    CHECK(vp9_level(1920, 1080, 30) == 40);
    CHECK(vp9_level(3840, 2160, 60) == 51);
    std::mt19937 random(41);
    for (int i = 0; i < 5000; ++i) {
        Bytes junk(random() % 64);
        for (auto& b : junk) b = static_cast<std::uint8_t>(random());
        if (!junk.empty()) junk[0] = 0x67;
        if (auto sps = parse_h264_sps(junk)) CHECK((sps->width > 0 && sps->height > 0 && sps->width <= 32768));
        (void)parse_avcc(junk), (void)parse_aac_config(junk), (void)parse_opus_head(junk),
            (void)parse_vp9_keyframe(junk);
    }
}

TEST_CASE("H.264 whose header stands only in its pictures plays, with lengths or as a byte stream", "[container]") {
    auto recorded = open("recorded_h264_opus.webm");
    auto bytes = bytes_of(fixture("recorded_h264_opus.webm"));
    auto& track = *recorded->info().main(Kind::video);
    // The recorder writes start codes; the same with lengths in their place is the same clip.
    auto walker = recorded->reader(track.id);
    PacketHead head;
    auto with_lengths = bytes;
    while (value(walker->next(head))) {
        auto from = static_cast<std::size_t>(*head.offset), end = from + static_cast<std::size_t>(head.size);
        std::vector<std::size_t> codes;
        for (auto k = from; k + 4 <= end; ++k)
            if (be32(bytes.data() + k) == 1) codes.push_back(k);
        REQUIRE((!codes.empty() && codes[0] == from));
        codes.push_back(end);
        for (std::size_t k = 0; k + 1 < codes.size(); ++k)
            for (std::size_t b = 0; b < 4; ++b)
                with_lengths[codes[k] + b] = static_cast<std::uint8_t>((codes[k + 1] - codes[k] - 4) >> (24 - 8 * b));
    }
    for (auto* file : {&bytes, &with_lengths}) {
        std::shared_ptr<Clip> clip = value(open_clip(memory_source(*file, "recorded.webm")));
        auto& video = *clip->info().main(Kind::video);
        CHECK(video.codec_string.starts_with("avc1."));
        CHECK_FALSE(video.problem);
        CHECK(has_finding(*clip, "header-in-pictures"));
        auto reader = value(FrameReader::open(clip, video, CodecRegistry::standard()));
        int count = 0;
        while (value(reader->next())) ++count;
        CHECK(count == 151);
        CHECK(reader->damaged() == 0);
    }
    // Where it is nowhere the track says so, and the sound plays.
    auto other = open("h264_high_vorbis.mkv");
    auto blind = bytes_of(fixture("h264_high_vorbis.mkv"));
    auto& config = other->info().main(Kind::video)->config;
    auto at = std::search(blind.begin(), blind.end(), config.begin(), config.end());
    REQUIRE(at != blind.end());
    // CodecPrivate (0x63A2) becomes a void element of the same length.
    auto id = at;
    while (!(id[0] == 0x63 && id[1] == 0xA2)) --id;
    id[0] = 0xEC, id[1] = 0x40, id[2] &= 0x3F;
    auto clip = value(open_clip(memory_source(blind, "blind.mkv")));
    REQUIRE(clip->info().tracks.size() == 2);
    CHECK(clip->info().tracks[0].problem);
    CHECK_FALSE(clip->info().tracks[1].problem);
}

TEST_CASE("A stream that changes its size is shown at its track's", "[container]") {
    Folder folder;
    auto writer = value(webm_muxer(folder / "sizes.webm"));
    std::vector<std::pair<int, int>> sizes{{320, 180}, {160, 90}, {640, 360}, {320, 180}};
    std::vector<Encoded> packets;
    for (std::size_t k = 0; k < sizes.size(); ++k) {
        VideoEncodeOptions options;
        options.width = sizes[k].first, options.height = sizes[k].second;
        auto encoder = value(CodecRegistry::standard().video_encoder(Codec::vp9, options));
        for (int i = 0; i < 5; ++i) {
            RgbImage image{options.width, options.height,
                           Pixels(static_cast<std::size_t>(options.width * options.height * 4), 200)};
            auto number = static_cast<int>(k) * 5 + i;
            demo::draw_strip(image, number, false);
            auto picture = to_frame(image, {});
            picture.pts = ticks_to_time(number, 1, 30);
            done(encoder->encode(picture, packets));
        }
        done(encoder->drain(packets));
    }
    MuxerTrack t;
    t.codec = Codec::vp9, t.video.width = 320, t.video.height = 180;
    auto track = value(writer->add(t));
    for (auto& p : packets) done(writer->write(track, {p.pts, p.pts, ticks_to_time(1, 1, 30), p.keyframe, p.data}));
    done(writer->finish());
    auto clip = std::shared_ptr<Clip>(value(open_clip((folder / "sizes.webm").string())));
    auto& video = *clip->info().main(Kind::video);
    auto reader = value(FrameReader::open(clip, video, CodecRegistry::standard()));
    for (int number = 0; number < 20; ++number) {
        auto picture = value(reader->next());
        REQUIRE(picture);
        CHECK(picture->width == 320);
        CHECK(picture->height == 180);
        CHECK(demo::read_strip(render(*picture)) == number);
    }
}

namespace {
/// A QuickTime movie of plain sound as its cameras and editors write it: one sample is one instant of all channels.
Bytes quicktime(const char* type, unsigned bits, bool is_float, bool big_endian, int version,
                const std::vector<double>& samples, bool says_endian) {
    unsigned size = bits / 8;
    ByteWriter data;
    for (auto v : samples) {
        auto whole = is_float ? (bits == 32 ? std::bit_cast<std::uint32_t>(static_cast<float>(v))
                                            : std::bit_cast<std::uint64_t>(v))
                              : static_cast<std::uint64_t>(std::llround(v * (std::pow(2.0, bits - 1) - 1)));
        if (!is_float && bits == 8) whole = static_cast<std::uint64_t>(std::lround(v * 127) + 128);
        if (big_endian)
            for (unsigned k = size; k-- > 0;) data.u8(whole >> (8 * k));
        else
            data.le(whole, size);
    }
    auto frames = static_cast<std::uint32_t>(samples.size() / 2);
    auto box = [](const char* name, const Bytes& body) {
        ByteWriter w;
        w.u32(static_cast<std::uint32_t>(body.size() + 8)).text(name).raw(body);
        return w.bytes;
    };
    ByteWriter entry;
    entry.u32(0).u16(0).u16(1).u16(static_cast<unsigned>(version)).u16(0).u32(0);
    if (version == 2) {
        entry.u16(3).u16(16).u16(0xFFFE).u16(0).u32(0x10000).u32(72);
        auto rate = std::bit_cast<std::uint64_t>(48000.0);
        entry.u32(rate >> 32).u32(rate & 0xFFFFFFFF).u32(2).u32(0x7F000000).u32(bits);
        entry.u32((is_float ? 1U : 4U) | (big_endian ? 2U : 0U) | 8U).u32(size * 2).u32(1);
    } else {
        entry.u16(2).u16(bits > 16 ? 16 : bits).u16(0).u16(0).u32(48000U << 16);
        if (version == 1) entry.u32(1).u32(size).u32(size * 2).u32(2);
        ByteWriter enda;
        enda.u16(big_endian ? 0 : 1);
        if (says_endian) entry.raw(box("wave", box("enda", enda.bytes)));
    }
    ByteWriter stsd, stts, stsz, stsc, stco, hdlr, tkhd, mdhd, mvhd;
    stsd.u32(0).u32(1).raw(box(type, entry.bytes));
    stts.u32(0).u32(1).u32(frames).u32(1);
    stsz.u32(0).u32(1).u32(frames);  // counts instants and calls each of them one byte
    stsc.u32(0).u32(2).u32(1).u32(3000).u32(1).u32(2).u32(frames - 3000).u32(1);
    stco.u32(0).u32(2).u32(8).u32(8 + 3000 * size * 2);
    hdlr.u32(0).text("mhlr").text("soun").u32(0).u32(0).u32(0).u8(0);
    tkhd.u32(1).u32(0).u32(0).u32(1).u32(0).u32(frames);
    for (int i = 0; i < 15; ++i) tkhd.u32(0);
    mdhd.u32(0).u32(0).u32(0).u32(48000).u32(frames).u16(0).u16(0);
    mvhd.u32(0).u32(0).u32(0).u32(48000).u32(frames);
    for (int i = 0; i < 20; ++i) mvhd.u32(0);
    Bytes stbl;
    for (auto& [name, body] :
         {std::pair{"stsd", &stsd}, {"stts", &stts}, {"stsz", &stsz}, {"stsc", &stsc}, {"stco", &stco}}) {
        auto b = box(name, body->bytes);
        stbl.insert(stbl.end(), b.begin(), b.end());
    }
    ByteWriter mdia, trak, moov, all;
    mdia.raw(box("mdhd", mdhd.bytes)).raw(box("hdlr", hdlr.bytes)).raw(box("minf", box("stbl", stbl)));
    trak.raw(box("tkhd", tkhd.bytes)).raw(box("mdia", mdia.bytes));
    moov.raw(box("mvhd", mvhd.bytes)).raw(box("trak", trak.bytes));
    all.raw(box("mdat", data.bytes)).raw(box("moov", moov.bytes));
    return all.bytes;
}
}  // namespace

TEST_CASE("Plain sound in QuickTime is heard as it was stored, whichever way it is named", "[container]") {
    std::vector<double> samples(2 * 9600);
    for (std::size_t i = 0; i < samples.size(); ++i)
        samples[i] = 0.8 * std::sin(static_cast<double>(i / 2) * 0.1 + (i % 2 ? 1.0 : 0.0));
    struct Row {
        const char* type;
        unsigned bits;
        bool is_float, big_endian;
        int version;
        bool says;
        double error;
    };
    for (auto& row : {Row{"sowt", 16, false, false, 0, false, 1e-4},
                      {"twos", 16, false, true, 0, false, 1e-4},
                      {"raw ", 8, false, true, 0, false, 0.012},
                      {"in24", 24, false, true, 1, false, 1e-6},
                      {"in24", 24, false, false, 1, true, 1e-6},
                      {"in32", 32, false, true, 1, true, 1e-6},
                      {"fl32", 32, true, true, 1, false, 1e-6},
                      {"fl32", 32, true, false, 1, true, 1e-6},
                      {"fl64", 64, true, true, 1, true, 1e-6},
                      {"lpcm", 16, false, false, 2, false, 1e-4},
                      {"lpcm", 24, false, true, 2, false, 1e-6},
                      {"lpcm", 32, true, false, 2, false, 1e-6}}) {
        INFO(row.type << " " << row.bits << " version " << row.version << (row.big_endian ? " big" : " little"));
        auto bytes = quicktime(row.type, row.bits, row.is_float, row.big_endian, row.version, samples, row.says);
        std::shared_ptr<Clip> clip = value(open_clip(memory_source(bytes, "sound.mov")));
        auto& track = *clip->info().main(Kind::audio);
        CHECK_FALSE(track.problem);
        CHECK(track.codec == Codec::pcm);
        CHECK(track.audio.rate == 48000);
        CHECK(track.audio.channels == 2);
        CHECK(clip->info().duration == 200_ms);
        for (auto from : {Time{}, 70_ms, 199_ms}) {
            auto reader = value(AudioReader::open(clip, track, CodecRegistry::standard()));
            done(reader->seek(from));
            std::vector<float> heard;
            while (auto block = value(reader->next()))
                heard.insert(heard.end(), block->samples.begin(), block->samples.end());
            auto skip = 2 * static_cast<std::size_t>(time_to_ticks(from, 48000));
            REQUIRE(heard.size() == samples.size() - skip);
            double worst = 0;
            for (std::size_t i = 0; i < heard.size(); ++i)
                worst = std::max(worst, std::abs(static_cast<double>(heard[i]) - samples[i + skip]));
            CHECK(worst < row.error);
        }
    }
}
