// SPDX-License-Identifier: Apache-2.0
// Writers, read back: every packet, every time, every fact that was stated, and none that was not.
#include <set>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Sample {
    std::size_t track;
    MuxerPacket packet;
    Bytes data;
};
struct Made {
    std::vector<MuxerTrack> tracks;
    std::vector<Sample> samples;
    Time end{};
};

/// Tracks and packets of any shape that a writer may be given.
Made random_clip(std::mt19937& random, bool webm) {
    Made made;
    auto pick = [&](auto... values) { return std::array{values...}[random() % sizeof...(values)]; };
    bool video = random() % 4 != 0, audio = !video || random() % 3 != 0;
    if (video) {
        MuxerTrack t;
        t.codec = webm ? pick(Codec::vp8, Codec::av1) : Codec::av1;
        if (t.codec == Codec::av1) t.config = {0x81, 0x04, 0x0C, 0x00};
        t.video.width = 2 * static_cast<int>(8 + random() % 400),
        t.video.height = 2 * static_cast<int>(8 + random() % 300);
        if (random() % 2)
            t.video.pixel_aspect =
                Rational{static_cast<std::int64_t>(1 + random() % 4), static_cast<std::int64_t>(1 + random() % 4)}
                    .reduced();
        t.video.rotation = 90 * static_cast<int>(random() % 4);
        if (random() % 3) {
            t.video.colour = {
                pick(Colour::Matrix::unspecified, Colour::Matrix::bt601, Colour::Matrix::bt709, Colour::Matrix::bt2020),
                pick(Colour::Range::limited, Colour::Range::full),
                pick(std::uint8_t{1}, std::uint8_t{2}, std::uint8_t{5}, std::uint8_t{9}),
                pick(std::uint8_t{1}, std::uint8_t{2}, std::uint8_t{13}, std::uint8_t{16})};
        }
        t.language = pick("", "de", "pt-BR");
        t.timescale = pick(90000U, 30000U, 1000U);
        made.tracks.push_back(t);
    }
    if (audio) {
        MuxerTrack t;
        t.codec = Codec::opus;
        t.delay_samples = 312;
        ByteWriter head;
        head.text("OpusHead").u8(1).u8(2).le(t.delay_samples, 2).le(48000, 4).le(0, 2).u8(0);
        t.config = head.bytes;
        t.audio = {48000, 2};
        t.language = pick("", "en", "fr", "zh-Hant", "gsw");
        made.tracks.push_back(t);
    }
    auto length = 1_s * static_cast<std::int64_t>(1 + random() % 8);
    for (std::size_t k = 0; k < made.tracks.size(); ++k) {
        bool pictures = made.tracks[k].audio.rate == 0;
        Time at = pictures ? Time{} : -ticks_to_time(312, 1, 48000);
        for (int i = 0; at < length; ++i) {
            Sample s;
            s.track = k;
            s.packet.duration = pictures ? 1_ms * static_cast<std::int64_t>(20 + random() % 40) : 20_ms;
            s.packet.pts = s.packet.dts = at;
            s.packet.keyframe = !pictures || i == 0 || random() % 12 == 0;
            s.data.resize(1 + random() % (random() % 20 ? 300 : 20'000));
            for (auto& b : s.data) b = static_cast<std::uint8_t>(random());
            if (!pictures) s.data[0] = 0xFC;  // 20 ms of both channels, as the duration says
            at += s.packet.duration;
            made.samples.push_back(std::move(s));
        }
    }
    std::stable_sort(made.samples.begin(), made.samples.end(),
                     [](auto& a, auto& b) { return a.packet.dts < b.packet.dts; });
    return made;
}

void write_and_read(const Made& made, const fs::path& path, Time tolerance) {
    auto write = [&](Muxer& writer) {
        for (auto& t : made.tracks) value(writer.add(t));
        for (auto& s : made.samples) {
            auto p = s.packet;
            p.data = s.data;
            done(writer.write(s.track, p));
        }
    };
    bool webm = path.extension() == ".webm";
    auto writer = value(webm ? webm_muxer(path, true) : mp4_muxer(path, true));
    write(*writer);
    done(writer->finish());
    auto clip = value(open_clip(path));
    // Into memory comes the same, and only when it is whole.
    Bytes kept;
    auto sink = std::make_unique<MemorySink>(kept);
    auto second = webm ? webm_muxer(std::move(sink)) : mp4_muxer(std::move(sink));
    write(*second);
    CHECK(kept.empty());
    done(second->finish());
    CHECK(kept == bytes_of(path));
    // Room kept for the index in front changes nothing of what is read, whether it was too little, enough or too much.
    for (std::size_t expected : {std::size_t{1}, made.samples.size(), 50 * made.samples.size()}) {
        Bytes roomy;
        auto memory = std::make_unique<MemorySink>(roomy);
        auto third = webm ? webm_muxer(std::move(memory)) : mp4_muxer(std::move(memory));
        third->expect(expected);
        write(*third);
        done(third->finish());
        auto again = opened(roomy, "roomy"), plain = opened(kept, "plain");
        REQUIRE(again->info().tracks.size() == plain->info().tracks.size());
        CHECK(again->info().duration == plain->info().duration);
        for (auto& t : plain->info().tracks) {
            auto a = again->reader(t.id), b = plain->reader(t.id);
            PacketHead ha, hb;
            Bytes da, db;
            while (value(b->next(hb))) {
                REQUIRE(value(a->next(ha)));
                done(a->read(da)), done(b->read(db));
                REQUIRE((ha.pts == hb.pts && ha.keyframe == hb.keyframe && da == db));
            }
            CHECK_FALSE(value(a->next(ha)));
        }
        if (!webm) CHECK(std::string(roomy.begin() + 4, roomy.begin() + 8) == "ftyp");
    }
    REQUIRE(clip->info().tracks.size() == made.tracks.size());
    CHECK(clip->info().duration_known);
    for (std::size_t k = 0; k < made.tracks.size(); ++k) {
        auto& wrote = made.tracks[k];
        auto& read = clip->info().tracks[k];
        CHECK(read.codec == wrote.codec);
        CHECK(read.language == wrote.language);
        if (wrote.audio.rate == 0) {
            CHECK(read.video.width == wrote.video.width);
            CHECK(read.video.height == wrote.video.height);
            CHECK(read.video.rotation == wrote.video.rotation);
            CHECK(std::abs(read.video.display_width() - wrote.video.display_width()) <= 1);
            CHECK(std::abs(read.video.display_height() - wrote.video.display_height()) <= 1);
            // What is not said is what the codec always means.
            CHECK(read.video.colour == wrote.video.colour.or_else(Colour::always(wrote.codec).value_or(Colour{})));
        } else {
            CHECK(read.audio.rate == wrote.audio.rate);
            CHECK(read.audio.channels == wrote.audio.channels);
        }
        auto reader = clip->reader(read.id);
        PacketHead head;
        Bytes data;
        std::vector<Time> keys;
        for (auto& s : made.samples) {
            if (s.track != k) continue;
            REQUIRE(value(reader->next(head)));
            done(reader->read(data));
            REQUIRE(data == s.data);
            REQUIRE(std::abs((head.pts - s.packet.pts).ns) <= tolerance.ns);
            REQUIRE(head.keyframe == s.packet.keyframe);
            if (head.keyframe) keys.push_back(head.pts);
        }
        CHECK_FALSE(value(reader->next(head)));
        // Every keyframe is found again by its time, sound without pictures included.
        for (std::size_t i = 0; i < keys.size(); i += 1 + keys.size() / 9) {
            done(reader->seek(std::max(Time{}, keys[i])));
            REQUIRE(value(reader->next(head)));
            CHECK(head.keyframe);
            CHECK(head.pts <= std::max(Time{}, keys[i]) + tolerance);
        }
    }
}
}  // namespace

TEST_CASE("What the WebM writer is given comes back packet for packet, fact for fact", "[muxer][matroska]") {
    std::mt19937 random(81);
    Folder folder;
    for (int i = 0; i < 60; ++i) {
        INFO("clip " << i);
        write_and_read(random_clip(random, true), folder / "x.webm", 500_ms / 1000 + 1_ns);
    }
}

TEST_CASE("What the MP4 writer is given comes back packet for packet, fact for fact", "[muxer][isobmff]") {
    std::mt19937 random(82);
    Folder folder;
    for (int i = 0; i < 60; ++i) {
        INFO("clip " << i);
        write_and_read(random_clip(random, false), folder / "x.mp4", 1_ms);
    }
}

TEST_CASE("A clip of sound alone has cues, and none of them is empty", "[muxer][captions]") {
    std::mt19937 random(83);
    Folder folder;
    Made made;
    while (made.tracks.size() != 1 || made.tracks[0].audio.rate == 0 || made.samples.back().packet.pts < 6_s)
        made = random_clip(random, true);
    write_and_read(made, folder / "sound.webm", 1_ms);
    auto bytes = bytes_of(folder / "sound.webm");
    // Cues (0x1C53BB6B) hold at least one CuePoint (0xBB).
    static constexpr std::array<std::uint8_t, 4> cues{0x1C, 0x53, 0xBB, 0x6B};
    auto at = std::find_end(bytes.begin(), bytes.end(), cues.begin(), cues.end());
    REQUIRE(bytes.end() - at > 8);
    CHECK(at[4] != 0x80);
    CHECK(at[5] == 0xBB);
}

TEST_CASE("Codes of languages go both ways", "[muxer]") {
    for (auto tag : {"en", "de", "fr", "es", "zh", "cs", "nl", "el", "is", "mk", "ms",
                     "fa", "ro", "sk", "cy", "sq", "hy", "eu", "ka", "sv", "ja"}) {
        INFO(tag);
        auto three = iso639_from_bcp47(tag);
        CHECK(three.size() == 3);
        CHECK(three != "und");
        CHECK(bcp47_from_iso639(three) == tag);
    }
    // All that have two letters, and both codes of those that have two of three.
    int known = 0;
    std::set<std::string> seen, titles;
    for (char a = 'a'; a <= 'z'; ++a)
        for (char b = 'a'; b <= 'z'; ++b) {
            std::string tag{a, b};
            auto three = iso639_from_bcp47(tag);
            if (three == "und") continue;
            INFO(tag);
            ++known;
            CHECK(three.size() == 3);
            CHECK(seen.insert(three).second);
            CHECK(bcp47_from_iso639(three) == tag);
            CHECK(iso639_from_bcp47(tag + "-Latn") == three);
            CHECK((is_language_tag(tag) && is_language_tag(three) && is_language_tag(tag + "-Latn-419")));
            CHECK_FALSE((is_language_tag(tag + "-") || is_language_tag(tag + "_Latn") || is_language_tag(tag + "xyz")));
            // Each is called something of its own, by whichever code.
            auto title = language_title(tag);
            CHECK((std::isupper(static_cast<unsigned char>(title[0])) && titles.insert(title).second));
            CHECK(language_title(three) == title);
            CHECK(language_title(tag + "-Latn") == title + " (" + tag + "-Latn)");
        }
    CHECK(known == 184);
    for (auto [bibliographic, tag] :
         {std::pair{"alb", "sq"}, {"arm", "hy"}, {"baq", "eu"}, {"bur", "my"}, {"chi", "zh"},
          {"cze", "cs"},          {"dut", "nl"}, {"fre", "fr"}, {"geo", "ka"}, {"ger", "de"},
          {"gre", "el"},          {"ice", "is"}, {"mac", "mk"}, {"mao", "mi"}, {"may", "ms"},
          {"per", "fa"},          {"rum", "ro"}, {"slo", "sk"}, {"tib", "bo"}, {"wel", "cy"}}) {
        CHECK(bcp47_from_iso639(bibliographic) == tag);
        CHECK(iso639_from_bcp47(tag) != bibliographic);
    }
    CHECK(iso639_from_bcp47("pt-BR") == "por");
    CHECK(iso639_from_bcp47("gsw") == "gsw");
    CHECK(iso639_from_bcp47("") == "und");
    CHECK(iso639_from_bcp47("xx") == "und");
    CHECK(language_title("pt-BR") == "Portuguese (pt-BR)");
    for (auto unknown : {"gsw", "xx", "", "-", "de_CH"}) CHECK(language_title(unknown) == unknown);
}

TEST_CASE("Finishing tells how far it is, and leaves nothing when it is stopped while the index is put in front",
          "[muxer]") {
    Folder folder;
    auto path = folder / "long.mp4";
    auto write = [&](const Progress& told) {
        auto writer = value(mp4_muxer(path));
        MuxerTrack track;
        track.codec = Codec::h264, track.video.width = 64, track.video.height = 48;
        auto index = value(writer->add(track));
        Bytes data(1 << 20);
        for (int i = 0; i < 12; ++i) {
            MuxerPacket p;
            p.pts = p.dts = 40_ms * i, p.duration = 40_ms;
            p.data = data;
            done(writer->write(index, p));
        }
        return writer->finish(told);
    };
    for (int stop_at : {0, 1, 7}) {
        int asked = 0;
        auto finished = write([&](double) { return asked++ < stop_at; });
        REQUIRE_FALSE(finished);
        CHECK(finished.error().code == ErrorCode::cancelled);
        CHECK(fs::is_empty(folder.path));
    }
    double before = -1;
    done(write([&](double part) {
        CHECK(part > before);
        CHECK(part < 1);
        before = part;
        return true;
    }));
    CHECK(before > 0.8);
    CHECK(fs::exists(path));
}

TEST_CASE("A Matroska file states where the last picture that is seen ends, and nothing of it that was not looked for",
          "[muxer][matroska]") {
    for (auto codec : {Codec::vp8, Codec::mpeg2}) {
        Bytes file;
        auto writer = matroska_muxer(std::make_unique<MemorySink>(file));
        MuxerTrack pictures, audio;
        pictures.codec = codec, pictures.video.width = 64, pictures.video.height = 48;
        audio.codec = Codec::mp3, audio.audio = {48000, 2};
        auto track = value(writer->add(pictures)), heard = value(writer->add(audio));
        Bytes data(100, 1);
        // The last one in decoding order is seen before others.
        std::array shown{0, 3, 1, 2};
        for (int i = 0; i < 4; ++i)
            done(writer->write(track, {40_ms * shown[i], 40_ms * i - 40_ms, 40_ms, i == 0, data}));
        done(writer->write(heard, {0_s, 0_s, 24_ms, true, data}));
        done(writer->finish());
        auto after = [&](std::initializer_list<std::uint8_t> mark) {
            auto at = std::search(file.begin(), file.end(), mark.begin(), mark.end());
            return at == file.end() ? at : at + static_cast<std::ptrdiff_t>(mark.size());
        };
        auto length = after({0x44, 0x89, 0x88});
        REQUIRE(length != file.end());
        CHECK(std::bit_cast<double>(ByteReader(ByteView(length, length + 8)).u64()) == 160);
        CHECK((after({0x9A, 0x81, 0x02}) != file.end()) == (codec == Codec::vp8));
        // A rate that is no number is none.
        auto rate = after({0xB5, 0x88});
        REQUIRE(rate != file.end());
        for (auto odd : {std::nan(""), -std::nan(""), HUGE_VAL, -HUGE_VAL}) {
            ByteWriter w;
            w.u64(std::bit_cast<std::uint64_t>(odd));
            std::copy(w.bytes.begin(), w.bytes.end(), rate);
            CHECK(opened(file, "x.mkv")->info().tracks.at(1).audio.rate == 0);
        }
    }
}

TEST_CASE("Layer III in MP4 is named after the standard that has its rate", "[muxer][isobmff]") {
    for (int rate : {16000, 22050, 24000, 32000, 44100, 48000}) {
        Bytes file;
        auto writer = mp4_muxer(std::make_unique<MemorySink>(file));
        MuxerTrack audio;
        audio.codec = Codec::mp3, audio.audio = {rate, 1};
        auto track = value(writer->add(audio));
        done(writer->write(track, {0_s, 0_s, 24_ms, true, Bytes(100, 1)}));
        done(writer->finish());
        // A DecoderConfigDescriptor, its length in four bytes, the object's type, a stream of sound.
        auto named = [&](std::uint8_t object) {
            std::array<std::uint8_t, 7> mark{4, 0x80, 0x80, 0x80, 13, object, 0x15};
            return std::search(file.begin(), file.end(), mark.begin(), mark.end()) != file.end();
        };
        CHECK(named(0x69) == (rate < 32000));
        CHECK(named(0x6B) == (rate >= 32000));
        CHECK(opened(file, "x.mp4")->info().tracks.at(0).codec == Codec::mp3);
    }
}

TEST_CASE("A file name tells its container however its letters are written", "[muxer]") {
    for (auto& w : container_formats())
        for (auto extension : w.extensions) {
            std::string name(extension);
            auto* meant = container_format_of_extension(name);
            REQUIRE(meant);
            for (auto& c : name) c = static_cast<char>(std::toupper(c));
            CHECK(container_format_of_extension(name) == meant);
            CHECK_FALSE(container_format_of_extension(name + "x"));
        }
    CHECK_FALSE(container_format_of_extension(""));
}
