// SPDX-License-Identifier: Apache-2.0
// Ogg, transport streams, RIFF and bare frames in the shapes that fixtures alone do not show: chained, joined,
// padded, without an index, with the other kind of index, with every kind of sample.
#include <ogg/ogg.h>

#include <cmath>

#include "media/codec_headers.h"
#include "demo/server.h"
#include "mpeg_makers.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Walked {
    std::vector<PacketHead> heads;
    std::vector<Bytes> data;
};
Walked walk(Clip& clip, const Track& track) {
    Walked w;
    auto reader = clip.reader(track.id);
    PacketHead head;
    Bytes data;
    while (value(reader->next(head))) {
        done(reader->read(data));
        w.heads.push_back(head);
        w.data.push_back(data);
    }
    return w;
}
std::vector<int> numbers_of(std::shared_ptr<Clip> clip) {
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    std::vector<int> all;
    while (auto p = value(reader->next())) all.push_back(demo::read_strip(render(*p)).value_or(-1));
    return all;
}

/// An Ogg file whose every page was changed, with checksums that fit.
Bytes pages_changed(const Bytes& file, const std::function<void(ogg_page&)>& change) {
    ogg_sync_state sync;
    ogg_sync_init(&sync);
    std::memcpy(ogg_sync_buffer(&sync, static_cast<long>(file.size())), file.data(), file.size());
    ogg_sync_wrote(&sync, static_cast<long>(file.size()));
    Bytes out;
    ogg_page page;
    while (ogg_sync_pageout(&sync, &page) == 1) {
        change(page);
        ogg_page_checksum_set(&page);
        out.insert(out.end(), page.header, page.header + page.header_len);
        out.insert(out.end(), page.body, page.body + page.body_len);
    }
    ogg_sync_clear(&sync);
    return out;
}
/// The same Ogg file under other serial numbers.
Bytes renumbered(const Bytes& file, int by) {
    return pages_changed(file, [by](ogg_page& page) {
        auto serial = static_cast<std::uint32_t>(ogg_page_serialno(&page) + by);
        for (int i = 0; i < 4; ++i) page.header[14 + i] = static_cast<unsigned char>(serial >> (8 * i));
    });
}
Bytes joined(const Bytes& a, const Bytes& b) {
    auto all = a;
    all.insert(all.end(), b.begin(), b.end());
    return all;
}

Bytes wav(unsigned tag, unsigned bits, const std::vector<double>& samples, bool extensible, bool long_form) {
    unsigned size = bits / 8;
    ByteWriter data;
    for (auto v : samples) {
        if (tag == 3)
            size == 4 ? data.le(std::bit_cast<std::uint32_t>(static_cast<float>(v)), 4)
                      : data.le(std::bit_cast<std::uint64_t>(v), 8);
        else if (bits == 8)
            data.u8(static_cast<std::uint8_t>(std::lround(v * 127) + 128));
        else
            data.le(static_cast<std::uint64_t>(std::llround(v * (std::pow(2.0, bits - 1) - 1))), size);
    }
    ByteWriter w;
    w.text(long_form ? "RF64" : "RIFF").le(long_form ? UINT32_MAX : 100 + data.size(), 4).text("WAVE");
    if (long_form) w.text("ds64").le(28, 4).le(0, 8).le(data.size(), 8).le(samples.size(), 8).le(0, 4);
    w.text("LIST").le(3, 4).text("abc").u8(0);  // an odd chunk and its padding
    w.text("fmt ")
        .le(extensible ? 40 : 16, 4)
        .le(extensible ? 0xFFFE : tag, 2)
        .le(1, 2)
        .le(48000, 4)
        .le(48000 * size, 4)
        .le(size, 2)
        .le(bits, 2);
    if (extensible)
        w.le(22, 2).le(bits, 2).le(4, 4).le(tag, 2).raw(
            Bytes{0, 0, 0, 0, 0x10, 0, 0x80, 0, 0, 0xAA, 0, 0x38, 0x9B, 0x71});
    w.text("data").le(long_form ? UINT32_MAX : data.size(), 4).raw(data.bytes);
    return w.bytes;
}
}  // namespace

TEST_CASE("A chain of Ogg recordings plays as one, and seeks across its joints", "[container][seek][ogg]") {
    auto one = bytes_of(fixture("theora_vorbis.ogv"));
    auto two = opened(joined(one, renumbered(one, 77)), "chain.ogv");
    CHECK(two->info().duration == 12_s);
    CHECK(has_finding(*two, "chained"));
    auto numbers = numbers_of(two);
    REQUIRE(numbers.size() == 360);
    for (std::size_t i = 0; i < 360; ++i) CHECK(numbers[i] == static_cast<int>(i % 180));
    auto reader = value(FrameReader::open(two, *two->info().main(Kind::video), CodecRegistry::standard()));
    for (int ms : {7'500, 500, 11'960, 6'000, 5'990})
        CHECK(demo::read_strip(render(value(reader->at(1_ms * ms)))) == (ms * 30 / 1000) % 180);
    auto whole = audio_of(two), single = audio_of(open("theora_vorbis.ogv"));
    REQUIRE(whole.size() == 2 * single.size());
    CHECK(std::equal(single.begin(), single.end(), whole.begin()));
    CHECK(std::equal(single.begin(), single.end(), whole.begin() + static_cast<std::ptrdiff_t>(single.size())));
    auto late = audio_of(two, 9_s);
    double difference = 0;
    for (std::size_t i = 0; i < late.size(); ++i)
        difference = std::max(difference, std::abs(static_cast<double>(late[i] - whole[9 * 96000 + i])));
    CHECK(difference < 1e-5);
}

TEST_CASE("A chain whose second recording has another codec's header still sounds right", "[container]") {
    auto opus = bytes_of(fixture("audio_opus.ogg"));
    auto other = opus;
    auto clip = opened(joined(opus, renumbered(other, 1)), "two.ogg");
    CHECK(clip->info().duration == 12_s);
    CHECK(audio_of(clip).size() == 2 * 12 * 48000);
    // Sound and pictures chained with sound alone: the pictures end, the sound goes on.
    auto mixed = opened(joined(bytes_of(fixture("theora_vorbis.ogv")), opus), "mixed.ogg");
    CHECK(has_finding(*mixed, "chain-changes"));
    CHECK(numbers_of(mixed).size() == 180);
}

TEST_CASE("A chain of more recordings than are looked for says which play", "[container]") {
    auto one = bytes_of(fixture("audio_opus.ogg"));
    auto unknown = pages_changed(one, [](ogg_page& page) { page.body[0] = '?'; });
    Bytes chain;
    for (int n = 1; n <= 257; ++n) {
        chain = joined(chain, renumbered(one, n));
        if (n < 255) continue;
        for (auto& behind : {Bytes{}, unknown}) {
            auto clip = opened(joined(chain, behind), "chain.ogg");
            CHECK(clip->info().duration == 6_s * std::min(n, 256));
            CHECK(has_finding(*clip, "chain-cut") == (n > 256));
        }
    }
}

TEST_CASE("A chain that comes in order only, as from a station, plays link after link", "[container]") {
    auto one = bytes_of(fixture("theora_vorbis.ogv"));
    auto two = joined(one, renumbered(one, 77));
    auto three = joined(two, renumbered(one, 4));
    auto audio = bytes_of(fixture("audio_opus.ogg"));
    auto server = demo::LoopbackServer::start();
    auto arriving = [&](const Bytes& bytes, bool with_length) {
        server->serve("/chain", {.body = bytes, .ignores_ranges = true, .states_no_length = !with_length});
        return std::shared_ptr<Clip>(value(open_clip(value(open_source(server->address("/chain"))))));
    };
    for (bool with_length : {true, false}) {
        auto local = opened(three, "chain.ogv");
        INFO("with length: " << with_length);
        auto remote = arriving(three, with_length);
        CHECK(numbers_of(remote) == numbers_of(local));
        CHECK(audio_of(remote) == audio_of(local));
        // Forward into a link that has not been met yet, and back into one that has.
        auto& video = *remote->info().main(Kind::video);
        auto pictures = value(FrameReader::open(remote, video, CodecRegistry::standard()));
        for (int ms : with_length ? std::vector{500, 13'500, 7'500, 5'990} : std::vector<int>{})  // live: no seeking
            CHECK(demo::read_strip(render(value(pictures->at(1_ms * ms)))) == (ms * 30 / 1000) % 180);
        auto late = audio_of(remote, 13_s), same = audio_of(local, 13_s);
        REQUIRE(late.size() == same.size());
        CHECK(std::equal(late.begin(), late.end(), same.begin(),
                         [](float a, float b) { return std::abs(a - b) < 1e-5f; }));
    }
    // Many: what was played long ago is forgotten, what comes is not.
    Bytes many;
    for (int i = 0; i < 80; ++i) many = joined(many, renumbered(audio, i));
    auto station = arriving(many, false);
    auto heads = walk(*station, station->info().tracks[0]).heads;
    auto single = walk(*open("audio_opus.ogg"), open("audio_opus.ogg")->info().tracks[0]).heads;
    REQUIRE(heads.size() == 80 * single.size());
    for (std::size_t i = 0; i < heads.size(); i += 97)
        CHECK(heads[i].pts == single[i % single.size()].pts + 6_s * static_cast<std::int64_t>(i / single.size()));
}

TEST_CASE("Ogg opened in its middle begins at nought", "[container][ogg]") {
    auto bytes = bytes_of(fixture("audio_opus.ogg"));
    // Header pages, then everything from a later page on: what a recorder that joined late keeps.
    std::vector<std::size_t> pages;
    for (std::size_t i = 0; i + 4 < bytes.size(); ++i)
        if (std::memcmp(bytes.data() + i, "OggS", 4) == 0) pages.push_back(i);
    REQUIRE(pages.size() > 4);
    Bytes late(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(pages[2]));
    late.insert(late.end(), bytes.begin() + static_cast<std::ptrdiff_t>(pages[pages.size() / 2]), bytes.end());
    auto clip = opened(late, "late.ogg");
    CHECK(clip->info().tracks.at(0).start == Time{});
    INFO(clip->info().duration.ns << " of " << pages.size());
    CHECK(clip->info().duration <= 4_s);
    CHECK(clip->info().duration > 1_s);
    auto n = static_cast<std::int64_t>(audio_of(clip).size() / 2);
    CHECK(std::abs(n - time_to_ticks(clip->info().duration, 48000)) <= 1);
}

TEST_CASE("A transport stream joined from two plays end to end", "[container][mpegts]") {
    auto one = bytes_of(fixture("h264_aac.ts"));
    auto two = opened(joined(one, one), "joined.ts");
    CHECK(has_finding(*two, "joined"));
    CHECK(std::abs((two->info().duration - 12_s).ns) < (60_ms).ns);
    auto numbers = numbers_of(two);
    REQUIRE(numbers.size() == 360);
    for (std::size_t i = 0; i < 360; ++i) CHECK(numbers[i] == static_cast<int>(i % 180));
    auto reader = value(FrameReader::open(two, *two->info().main(Kind::video), CodecRegistry::standard()));
    CHECK(std::abs(demo::read_strip(render(value(reader->at(9_s)))).value_or(-1) - 90) <= 1);
    CHECK(demo::read_strip(render(value(reader->at(2_s)))) == 60);
}

TEST_CASE("Transport packets of 192 and 204 bytes, and bytes lost between them", "[container]") {
    auto plain = bytes_of(fixture("h264_aac.ts"));
    auto whole = numbers_of(open("h264_aac.ts"));
    for (auto [before, after] : {std::pair{4, 0}, std::pair{0, 16}}) {
        Bytes wide;
        for (std::size_t at = 0; at < plain.size(); at += 188) {
            wide.insert(wide.end(), static_cast<std::size_t>(before), 0x11);
            wide.insert(wide.end(), plain.begin() + static_cast<std::ptrdiff_t>(at),
                        plain.begin() + static_cast<std::ptrdiff_t>(at + 188));
            wide.insert(wide.end(), static_cast<std::size_t>(after), 0x22);
        }
        CHECK(numbers_of(opened(wide, "wide.m2ts")) == whole);
    }
    auto torn = plain;
    torn.erase(torn.begin() + 100'000, torn.begin() + 100'077);
    auto clip = opened(torn, "torn.ts");
    CHECK(numbers_of(clip).size() > 170);
    CHECK(std::abs((clip->info().duration - 6_s).ns) < (60_ms).ns);
}

TEST_CASE("HEVC and MP3 in a transport stream", "[container][mpegts]") {
    auto clip = open("hevc.mp4");
    auto& track = *clip->info().main(Kind::video);
    auto packets = walk(*clip, track);
    auto config = parse_hvcc(track.config);
    REQUIRE(config);
    TsMaker maker(0x24);
    for (std::size_t i = 0; i < packets.heads.size(); ++i) {
        Bytes annex_b;
        if (packets.heads[i].keyframe) annex_b = config->parameter_sets;
        REQUIRE(to_annex_b(packets.data[i], 4, annex_b));
        maker.add(annex_b, 900000 + stamp_of(packets.heads[i].pts), 900000 + static_cast<std::int64_t>(i) * 3000 - 9000,
                  true);
    }
    auto ts = opened(maker.bytes, "hevc.ts");
    CHECK(ts->info().main(Kind::video)->codec_string == track.codec_string);
    CHECK(ts->info().main(Kind::video)->language == "de");
    auto numbers = numbers_of(ts);
    REQUIRE(numbers.size() == 180);
    for (std::size_t i = 0; i < 180; ++i) CHECK(numbers[i] == static_cast<int>(i));
    auto reader = value(FrameReader::open(ts, *ts->info().main(Kind::video), CodecRegistry::standard()));
    for (int n : {100, 20, 179, 60, 59})
        CHECK(demo::read_strip(render(value(reader->at(ticks_to_time(n, 1, 30))))) == n);

    auto mp3 = open("audio_vbr_no_info.mp3");
    auto frames = walk(*mp3, mp3->info().tracks[0]);
    TsMaker audio(0x03);
    for (std::size_t i = 0; i + 4 <= frames.heads.size(); i += 4) {  // four frames to a packet
        Bytes part;
        for (std::size_t k = i; k < i + 4; ++k) part.insert(part.end(), frames.data[k].begin(), frames.data[k].end());
        audio.add(part, stamp_of(frames.heads[i].pts) + 90000, stamp_of(frames.heads[i].pts) + 90000, false);
    }
    auto other = opened(audio.bytes, "mp3.ts");
    auto again = walk(*other, other->info().tracks.at(0));
    REQUIRE(again.data.size() >= frames.data.size() / 4 * 4);
    for (std::size_t i = 0; i < again.data.size(); ++i) {
        CHECK(again.data[i] == frames.data[i]);
        CHECK(std::abs((again.heads[i].pts - frames.heads[i].pts).ns) < (1_ms).ns);
    }
}

TEST_CASE("AVI without an index, and with the open one, is the same clip", "[container][riff]") {
    auto bytes = bytes_of(fixture("mjpeg_pcm.avi"));
    auto reference = open("mjpeg_pcm.avi");
    auto pictures = walk(*reference, *reference->info().main(Kind::video));
    auto find = [&](const char* tag) {
        return static_cast<std::size_t>(std::search(bytes.begin(), bytes.end(), tag, tag + 4) - bytes.begin());
    };
    auto same = [&](Clip& clip) {
        auto got = walk(clip, *clip.info().main(Kind::video));
        REQUIRE(got.data.size() == pictures.data.size());
        for (std::size_t i = 0; i < got.data.size(); ++i) {
            CHECK(got.heads[i].pts == pictures.heads[i].pts);
            CHECK(got.data[i] == pictures.data[i]);
        }
    };
    auto without = bytes;
    without.resize(find("idx1"));
    auto clip = opened(without, "no-index.avi");
    CHECK(has_finding(*clip, "no-index"));
    same(*clip);

    // The pictures' index as OpenDML has it: in the stream's header a list of where the indexes are.
    auto get = [](const Bytes& b, std::size_t at) {
        return static_cast<std::size_t>(ByteReader(ByteView(b).subspan(at)).le(4));
    };
    auto grow = [&](Bytes& b, std::size_t at, std::size_t by) {
        auto v = get(b, at) + by;
        for (unsigned i = 0; i < 4; ++i) b[at + i] = static_cast<std::uint8_t>(v >> (8 * i));
    };
    auto open_index = without;
    auto strl = find("strl") - 8, hdrl = find("hdrl") - 8, movi = find("movi");
    constexpr std::size_t added = 8 + 24 + 16;
    ByteWriter part_index;
    std::size_t entries = 0;
    for (auto at = movi + 4; at + 8 <= without.size(); at += 8 + get(without, at + 4) + (get(without, at + 4) & 1)) {
        if (std::memcmp(without.data() + at, "00dc", 4) != 0) continue;
        part_index.le(at + 8 - movi, 4).le(get(without, at + 4), 4);
        ++entries;
    }
    REQUIRE(entries == 180);
    ByteWriter ix;
    ix.text("ix00")
        .le(24 + part_index.size(), 4)
        .le(2, 2)
        .u8(0)
        .u8(1)
        .le(entries, 4)
        .text("00dc")
        .le(movi + added, 8)
        .le(0, 4)
        .raw(part_index.bytes);
    ByteWriter indx;
    indx.text("indx")
        .le(24 + 16, 4)
        .le(4, 2)
        .u8(0)
        .u8(0)
        .le(1, 4)
        .text("00dc")
        .le(0, 8)
        .le(0, 4)
        .le(without.size() + added, 8)
        .le(ix.size(), 4)
        .le(entries, 4);
    auto strl_end = strl + 8 + get(without, strl + 4);
    grow(open_index, strl + 4, added), grow(open_index, hdrl + 4, added), grow(open_index, 4, added);
    REQUIRE(indx.size() == added);
    open_index.insert(open_index.begin() + static_cast<std::ptrdiff_t>(strl_end), indx.bytes.begin(), indx.bytes.end());
    open_index.insert(open_index.end(), ix.bytes.begin(), ix.bytes.end());
    auto open_dml = opened(open_index, "open.avi");
    CHECK_FALSE(has_finding(*open_dml, "no-index"));
    same(*open_dml);

    // In order only, by a server that knows no parts: taken chunk by chunk, whatever index there is.
    auto server = demo::LoopbackServer::start();
    for (auto* served : {&bytes, &without, &open_index})
        for (bool no_length : {false, true}) {
            server->serve("/x.avi", {.body = *served, .ignores_ranges = true, .states_no_length = no_length});
            auto arriving = std::shared_ptr<Clip>(value(open_clip(value(open_source(server->address("/x.avi"))))));
            same(*arriving);
            CHECK(arriving->info().duration == reference->info().duration);
            auto& audio = *arriving->info().main(Kind::audio);
            CHECK(audio_of(arriving, 2_s) == audio_of(open("mjpeg_pcm.avi"), 2_s));
            auto at = arriving->reader(audio.id);
            PacketHead head;
            for (auto t : {4_s, 1_s, 5_s}) {
                done(at->seek(t));
                REQUIRE(value(at->next(head)));
                CHECK((head.pts <= t && head.pts + head.duration > t));
            }
        }

    // Cut within its pictures: what is there plays.
    auto part = bytes;
    part.resize(part.size() / 2);
    auto cut = opened(part, "cut.avi");
    CHECK(has_finding(*cut, "truncated"));
    auto left = numbers_of(cut);
    CHECK(left.size() > 80);
    CHECK(left.size() < 95);
}

TEST_CASE("A picture in AVI may count its rows from the top, and has no more of them than a picture can",
          "[container][riff]") {
    auto file = bytes_of(fixture("mjpeg_pcm.avi"));
    static constexpr std::string_view format = "strf";
    auto at = std::search(file.begin(), file.end(), format.begin(), format.end());
    REQUIRE(file.end() - at > 48);
    auto rows = at + 8 + 8;
    auto height = opened(file, "x.avi")->info().tracks.at(0).video.height;
    for (std::int64_t stated : {std::int64_t{height}, -std::int64_t{height}, std::int64_t{INT32_MAX},
                                std::int64_t{INT32_MIN}, -std::int64_t{INT32_MAX}, std::int64_t{1}}) {
        for (int k = 0; k < 4; ++k) rows[k] = static_cast<std::uint8_t>(stated >> (8 * k));
        CHECK(opened(file, "x.avi")->info().tracks.at(0).video.height ==
              std::min(std::abs(stated), std::int64_t{32768}));
    }
}

TEST_CASE("WAV holds every kind of sample", "[container][riff]") {
    std::vector<double> samples(9600);
    for (std::size_t i = 0; i < samples.size(); ++i) samples[i] = 0.8 * std::sin(static_cast<double>(i) * 0.1);
    struct Kind_ {
        unsigned tag, bits;
        double error;
    };
    for (auto [tag, bits, error] : {Kind_{1, 8, 0.012}, Kind_{1, 16, 1e-4}, Kind_{1, 24, 1e-6}, Kind_{1, 32, 1e-6},
                                    Kind_{3, 32, 1e-6}, Kind_{3, 64, 1e-6}})
        for (bool extensible : {false, true})
            for (bool long_form : {false, true}) {
                INFO(tag << " " << bits << (extensible ? " extensible" : "") << (long_form ? " long" : ""));
                auto clip = opened(wav(tag, bits, samples, extensible, long_form), "x.wav");
                CHECK(clip->info().container == "wav");
                CHECK(clip->info().duration == 200_ms);
                auto heard = audio_of(clip);
                REQUIRE(heard.size() == samples.size() * 2);
                double worst = 0;
                for (std::size_t i = 0; i < samples.size(); ++i)
                    worst = std::max(worst, std::abs(static_cast<double>(heard[2 * i]) - samples[i]));
                CHECK(worst < error);
                auto from = audio_of(clip, 100_ms);
                CHECK(std::equal(from.begin(), from.end(), heard.begin() + 9600));
            }
    // A recorder that was stopped leaves a size of nought.
    auto stopped = wav(1, 16, samples, false, false);
    auto data =
        static_cast<std::size_t>(std::search(stopped.begin(), stopped.end(), "data", "data" + 4) - stopped.begin());
    for (std::size_t i = 4; i < 8; ++i) stopped[data + i] = 0;
    CHECK(opened(stopped, "stopped.wav")->info().duration == 200_ms);
}

TEST_CASE("AAC frames without a container", "[container]") {
    auto ts = open("h264_aac.ts");
    auto packets = walk(*ts, *ts->info().main(Kind::audio));
    ByteWriter w;
    for (auto& data : packets.data) {
        auto size = data.size() + 7;
        w.u8(0xFF)
            .u8(0xF1)
            .u8(1 << 6 | 3 << 2)
            .u8(2 << 6 | size >> 11)
            .u8(size >> 3 & 0xFF)
            .u8((size & 7) << 5 | 0x1F)
            .u8(0xFC)
            .raw(data);
    }
    auto clip = opened(w.bytes, "x.aac");
    CHECK(clip->info().container == "adts");
    auto again = walk(*clip, clip->info().tracks.at(0));
    CHECK(again.data == packets.data);
    CHECK(again.heads.at(100).pts == ticks_to_time(100 * 1024, 1, 48000));
    CHECK(clip->info().duration == ticks_to_time(static_cast<std::int64_t>(packets.data.size()) * 1024, 1, 48000));
    // A tag in front changes nothing.
    ByteWriter tagged;
    tagged.text("ID3").u8(4).u8(0).u8(0).u32(0x00000210).raw(Bytes(0x110, 0)).raw(w.bytes);
    CHECK(walk(*opened(tagged.bytes, "x.aac"), clip->info().tracks.at(0)).data == packets.data);
}

TEST_CASE("MP3 tells its length by its first frame, or by being walked", "[container]") {
    auto with = open("audio_info.mp3");
    CHECK(with->info().duration == 3_s);
    CHECK(audio_of(with).size() == 3 * 96000);
    auto bytes = bytes_of(fixture("audio_info.mp3"));
    // Take the first frame out, and the tag before it: no length is stated any more.
    auto first = static_cast<std::size_t>(std::search(bytes.begin(), bytes.end(), "Info", "Info" + 4) - bytes.begin());
    if (first >= bytes.size())
        first = static_cast<std::size_t>(std::search(bytes.begin(), bytes.end(), "Xing", "Xing" + 4) - bytes.begin());
    auto head = parse_mp3_frame(ByteView(bytes).subspan(first - 36));
    REQUIRE(head);
    // The other kind of first frame says the number of frames only.
    auto other = bytes;
    auto frame_at = first - 36;
    std::fill(other.begin() + static_cast<std::ptrdiff_t>(frame_at) + 36,
              other.begin() + static_cast<std::ptrdiff_t>(frame_at + head->size), std::uint8_t{0});
    ByteWriter vbri;
    vbri.text("VBRI").u16(1).u16(0).u16(0).u32(0).u32(100);
    std::copy(vbri.bytes.begin(), vbri.bytes.end(), other.begin() + static_cast<std::ptrdiff_t>(frame_at) + 36);
    CHECK(opened(other, "vbri.mp3")->info().duration == ticks_to_time(100 * 1152, 1, 44100));
    Bytes bare(bytes.begin() + static_cast<std::ptrdiff_t>(first - 36 + head->size), bytes.end());
    auto without = opened(bare, "bare.mp3");
    CHECK(has_finding(*without, "no-index"));
    CHECK(std::abs((without->info().duration - with->info().duration).ns) < (80_ms).ns);
}

TEST_CASE("FLAC behind a tag that has no place there plays as without it, and says so", "[container]") {
    auto bytes = bytes_of(fixture("audio.flac"));
    auto whole = audio_of(open("audio.flac"));
    for (unsigned padding : {0U, 300U, 90'000U}) {
        ByteWriter title, tagged;
        title.text("TIT2").u32(6).u16(0).u8(3).text("Wharf").raw(Bytes(padding, 0));
        auto n = title.size();
        tagged.text("ID3").u8(4).u8(0).u8(0).u8(n >> 21 & 127).u8(n >> 14 & 127).u8(n >> 7 & 127).u8(n & 127);
        tagged.raw(title.bytes).raw(bytes);
        auto clip = opened(tagged.bytes, "tagged.flac");
        CHECK(clip->info().container == "flac");
        CHECK(clip->info().duration == 6_s);
        CHECK((clip->info().tags.title == "Wharf" || !open("audio.flac")->info().tags.title.empty()));
        REQUIRE(clip->info().findings.size() == 1);
        CHECK(clip->info().findings[0].code == "tag-before-flac");
        for (int ms : {0, 1234, 5990}) {
            auto part = audio_of(clip, 1_ms * ms);
            auto at = static_cast<std::size_t>(ms) * 96;
            REQUIRE(part.size() == whole.size() - at);
            CHECK(std::equal(part.begin(), part.end(), whole.begin() + static_cast<std::ptrdiff_t>(at)));
        }
    }
}

TEST_CASE("FLAC without a stated length or a seek table seeks all the same", "[container][seek]") {
    auto bytes = bytes_of(fixture("audio.flac"));
    auto whole = audio_of(open("audio.flac"));
    for (std::size_t i = 0; i < 5; ++i) bytes[4 + 4 + 13 + i] &= i == 0 ? 0xF0 : 0x00;  // total samples
    auto clip = opened(bytes, "unknown.flac");
    CHECK(clip->info().duration == 6_s);
    for (int ms : {0, 1234, 5000, 5990, 2500}) {
        auto part = audio_of(clip, 1_ms * ms);
        auto at = static_cast<std::size_t>(ms) * 96;
        REQUIRE(part.size() == whole.size() - at);
        CHECK(std::equal(part.begin(), part.end(), whole.begin() + static_cast<std::ptrdiff_t>(at)));
    }
}
