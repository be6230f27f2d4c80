// SPDX-License-Identifier: Apache-2.0
// Older formats: MPEG-1 and MPEG-2 video, program streams, MPEG-4 Visual, AC-3, layer II; and pictures that AVI keeps
// in the order of decoding.
#include "demo/server.h"
#include "facts/facts.h"
#include "media/mpeg_video.h"
#include "media/picture_order.h"
#include "mpeg_makers.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// Every picture in its order at its time, any picture when asked for, and the keyframes where they are.
void plays_exactly(const std::shared_ptr<Clip>& clip, int count, const std::vector<int>& keys, Time frame = 40_ms) {
    auto& track = *clip->info().main(Kind::video);
    auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
    for (int n = 0; n < count; ++n) {
        auto picture = value(reader->next());
        REQUIRE(picture);
        CHECK(number_of(*picture) == n);
        CHECK(picture->pts == track.start + frame * n);
        CHECK(picture->duration == frame);
    }
    CHECK_FALSE(value(reader->next()));
    CHECK(reader->damaged() == 0);
    std::mt19937 random(7);
    for (int i = 0; i < 40; ++i) {
        auto n = static_cast<int>(random() % static_cast<unsigned>(count));
        auto picture =
            value(reader->at(track.start + frame * n + Time{static_cast<std::int64_t>(random()) % frame.ns}));
        CHECK(number_of(picture) == n);
        CHECK(picture.pts == track.start + frame * n);
        if (auto next = value(reader->next()); next) CHECK(number_of(*next) == n + 1);
    }
    auto facts = value(scan_track(*clip, track));
    CHECK(facts.frame_count == static_cast<std::uint64_t>(count));
    std::vector<int> found;
    for (auto t : facts.keyframe_times) found.push_back(static_cast<int>((t - track.start).ns / frame.ns));
    CHECK(found == keys);
    CHECK(facts.end - track.start == frame * count);
    CHECK(clip->info().duration == facts.end);
}
std::vector<float> tone(std::size_t samples) {
    std::vector<float> out(samples);
    for (std::size_t i = 0; i < samples; ++i)
        out[i] = 0.4f * std::sin(static_cast<float>(i) * 2 * std::numbers::pi_v<float> * 997 / 48000);
    return out;
}
/// How far what is heard is from what was coded: AC-3 gives a block of 256 samples late, and at 48 kHz stereo.
double difference(const std::vector<float>& heard, const std::vector<float>& coded) {
    double worst = 0;
    for (std::size_t i = 512; i + 512 < coded.size() && 2 * (i + 256) < heard.size(); ++i)
        worst = std::max(worst, std::abs(static_cast<double>(heard[2 * (i + 256)] - coded[i])));
    return worst;
}
/// H.264 as a byte stream, a keyframe every thirty pictures at least.
std::vector<Coded> h264_video(int count, int between) {
    VideoEncodeOptions o;
    o.width = number_width, o.height = number_height, o.rate = {25, 1};
    o.keyframe_every = 30, o.b_frames = between, o.control = VideoEncodeOptions::Control::quality, o.quality = 12;
    o.effort = 2;
    auto encoder = value(CodecRegistry::standard().video_encoder(Codec::h264, o));
    std::vector<Encoded> encoded;
    for (int n = 0; n < count; ++n) {
        auto p = numbered_frame(n);
        p.pts = 40_ms * n;
        done(encoder->encode(p, encoded));
    }
    done(encoder->drain(encoded));
    auto config = *parse_avcc(encoder->config());
    std::vector<Coded> coded;
    for (auto& e : encoded) {
        Coded c;
        if (e.keyframe) c.data = config.parameter_sets;
        to_annex_b(e.data, config.length_size, c.data);
        c.key = e.keyframe, c.shown = static_cast<int>(e.pts.ns / (40_ms).ns);
        coded.push_back(std::move(c));
    }
    return coded;
}
/// Which are shown when: those between two others are coded after both.
void describe_visibility(std::vector<Coded>& coded) {
    auto between = [&](std::size_t i) { return split_mpeg4(coded[i].data, 5).at(0).type == 'B'; };
    int next = 0;
    for (std::size_t i = 0; i < coded.size();) {
        auto last = i + 1;
        while (last < coded.size() && between(last)) coded[last++].shown = next++;
        coded[i].shown = next++;
        i = last;
    }
}
std::vector<int> keys_of(const std::vector<Coded>& coded) {
    std::vector<int> keys;
    for (auto& c : coded)
        if (c.key) keys.push_back(c.shown);
    return keys;
}
std::vector<int> every(int step, int count, int from = 0) {
    std::vector<int> out;
    for (int n = from; n < count; n += step) out.push_back(n);
    return out;
}
}  // namespace

TEST_CASE("MPEG-1 and MPEG-2 video with AC-3 in program streams", "[mpegts]") {
    auto coded = tone(48000 * 4);
    auto audio = make_ac3(coded);
    for (bool first : {true, false})
        for (bool closed : {true, false}) {
            INFO("ISO/IEC 11172: " << first << ", closed groups: " << closed);
            MpegOptions o{.second = !first, .aspect = first ? 8U : 3U, .closed = closed};
            auto file = make_program_stream(mpeg_video(100, o), audio, first);
            auto clip = opened(file, "old.mpg");
            CHECK(clip->info().container == "mpegps");
            CHECK(clip->info().findings.empty());
            auto& video = *clip->info().main(Kind::video);
            CHECK(video.codec == (first ? Codec::mpeg1 : Codec::mpeg2));
            CHECK(video.codec_string == (first ? "mp4v.6a" : "mp4v.61"));
            CHECK(video.video.width == number_width);
            // Twelve elevenths nearly, as the table says it; and sixteen to nine of the whole picture.
            CHECK(video.video.pixel_aspect == (first ? Rational{10000, 9157} : Rational{4, 3}));
            std::vector<int> keys = every(12, 100);
            if (!closed)
                for (std::size_t i = 1; i < keys.size(); ++i) keys[i] += 2;
            plays_exactly(clip, 100, keys);
            auto& heard = *clip->info().main(Kind::audio);
            CHECK(heard.codec == Codec::ac3);
            CHECK(heard.audio.rate == 48000);
            CHECK(heard.audio.channels == 1);
            CHECK(difference(audio_of(clip), coded) < 0.002);
        }
}

TEST_CASE("A program stream whose clock wraps, one cut at both ends, and one with bytes lost", "[mpegts]") {
    auto audio = make_ac3(tone(48000 * 8));
    auto pictures = mpeg_video(200);
    auto wraps = opened(make_program_stream(pictures, audio, false, (std::int64_t{1} << 33) - 90000), "wraps.mpg");
    plays_exactly(wraps, 200, every(12, 200));
    // Begun in the middle, ended in the middle: from the first group that is whole.
    auto file = make_program_stream(pictures, audio, false);
    Bytes middle(file.begin() + std::ssize(file) / 3, file.begin() + std::ssize(file) / 4 * 3);
    auto from = std::search(middle.begin(), middle.end(), file.begin(), file.begin() + 4);
    middle.erase(middle.begin(), from);
    auto part = opened(middle, "part.mpg");
    REQUIRE(part->info().main(Kind::video));
    auto reader = value(FrameReader::open(part, *part->info().main(Kind::video), CodecRegistry::standard()));
    auto first = value(reader->next());
    REQUIRE(first);
    auto begin = number_of(*first);
    CHECK(begin % 12 == 0);
    int last = begin;
    int played = 1;
    while (auto p = value(reader->next())) {
        // Those between the last two whole ones are not there any more.
        CHECK(number_of(*p) > last);
        last = number_of(*p), ++played;
    }
    CHECK(played > 50);
    CHECK(last - begin + 1 - played <= 2);
    // A kilobyte gone: most of it is still there, in order.
    auto holed = file;
    holed.erase(holed.begin() + std::ssize(file) / 2, holed.begin() + std::ssize(file) / 2 + 1000);
    auto less = opened(holed, "holed.mpg");
    auto rest = value(FrameReader::open(less, *less->info().main(Kind::video), CodecRegistry::standard()));
    int shown = 0, before = -1;
    while (auto p = value(rest->next())) {
        CHECK(p->pts.ns / (40_ms).ns > before);
        before = static_cast<int>(p->pts.ns / (40_ms).ns);
        ++shown;
    }
    CHECK(shown > 150);
    CHECK(before >= 198);
}

TEST_CASE("Pictures without a single stamp are counted", "[mpegts]") {
    for (bool first : {true, false})
        for (int between : {0, 2}) {
            INFO("ISO/IEC 11172: " << first << ", between: " << between);
            auto file =
                make_program_stream(mpeg_video(60, {.second = !first, .between = between}), {}, first, 0, 3600, false);
            auto clip = opened(file, "counted.mpg");
            CHECK(clip->info().tracks.at(0).start == Time{});
            plays_exactly(clip, 60, every(12, 60));
        }
}

TEST_CASE("Thirty thousand a thousand and first: times are exact though stamps are rounded", "[mpegts]") {
    MpegOptions o{.rate_code = 1};  // 24000/1001, which is 3,753.75 ticks
    auto pictures = mpeg_video(120, o);
    // The maker's stamps are whole ticks; every twelfth only is kept, by packets that hold many pictures.
    auto clip = opened(make_program_stream(pictures, {}, false, 0, 3754), "film.mpg");
    auto facts = value(scan_track(*clip, *clip->info().main(Kind::video)));
    CHECK(facts.frame_count == 120);
    // A quarter of a tick each is soon more than rounding: then the stamps count.
    CHECK(facts.end < 5010_ms);
    auto exact = opened(make_program_stream(mpeg_video(48, {.rate_code = 4}), {}, false, 0, 3003), "ntsc.mpg");
    CHECK(value(scan_track(*exact, *exact->info().main(Kind::video))).frame_rate == Rational{30000, 1001});
    auto reader = exact->reader(exact->info().tracks[0].id);
    PacketHead head;
    auto start = exact->info().tracks[0].start;
    while (value(reader->next(head)))
        CHECK(head.pts == start + ticks_to_time(std::llround(static_cast<double>((head.pts - start).ns) * 30 / 1.001e9),
                                                1001, 30000));
}

TEST_CASE("MPEG video and AC-3 in transport streams", "[mpegts]") {
    for (bool closed : {true, false}) {
        TsMaker maker(0x02);
        int decoded = 0;
        for (auto& p : mpeg_video(80, {.closed = closed}))
            maker.add(p.data, 100'000 + (p.shown + 1) * 3600, 100'000 + decoded++ * 3600, true);
        auto clip = opened(maker.bytes, "two.ts");
        CHECK(clip->info().main(Kind::video)->codec == Codec::mpeg2);
        auto keys = every(12, 80);
        if (!closed)
            for (std::size_t i = 1; i < keys.size(); ++i) keys[i] += 2;
        plays_exactly(clip, 80, keys);
    }
    auto coded = tone(48000 * 2);
    TsMaker maker(0x81);
    std::int64_t at = 0;
    for (auto& f : make_ac3(coded)) maker.add(f, at, at, false), at += 2880;
    auto clip = opened(maker.bytes, "ac3.ts");
    CHECK(clip->info().main(Kind::audio)->codec == Codec::ac3);
    CHECK(difference(audio_of(clip), coded) < 0.002);
    // Pictures of MPEG-4 without ones between, one to a packet.
    TsMaker four(0x10);
    at = 0;
    for (auto& p : mpeg4_video(40, 0, false)) four.add(p.data, at, at, true), at += 3600;
    auto simple = opened(four.bytes, "four.ts");
    CHECK(simple->info().main(Kind::video)->codec == Codec::mpeg4);
    auto reader = value(FrameReader::open(simple, *simple->info().main(Kind::video), CodecRegistry::standard()));
    for (int n = 0; n < 40; ++n) CHECK(number_of(*value(reader->next())) == n);
    for (int n : {30, 7, 39}) CHECK(number_of(value(reader->at(40_ms * n))) == n);
}

TEST_CASE("MPEG-4 Visual in AVI is shown in its order, packed or not", "[mpegts][riff]") {
    for (int between : {0, 1, 2})
        for (bool packed : {false, true}) {
            INFO(between << " between, packed: " << packed);
            auto coded = mpeg4_video(70, between, packed);
            auto clip = opened(make_avi("XVID", coded), "old.avi");
            auto& track = *clip->info().main(Kind::video);
            CHECK(track.codec == Codec::mpeg4);
            CHECK(track.codec_string.starts_with("mp4v.20"));
            auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
            std::vector<int> numbers;
            while (auto p = value(reader->next())) {
                CHECK(p->pts == 40_ms * static_cast<std::int64_t>(numbers.size()));
                numbers.push_back(number_of(*p));
            }
            CHECK(value(scan_track(*clip, track)).frame_count == numbers.size());
            // Packed, the encoder ends with one picture less, or with an empty one too many.
            REQUIRE(numbers.size() >= (packed ? 69 : 70));
            numbers.resize(packed ? 69 : 70);
            CHECK(numbers == every(1, packed ? 69 : 70));
            std::mt19937 random(3);
            for (int i = 0; i < 40; ++i) {
                auto n = static_cast<int>(random() % 69);
                CHECK(number_of(value(reader->at(40_ms * n + 1_ms))) == n);
            }
        }
}

TEST_CASE("MPEG video and AC-3 in Matroska and MP4", "[mpegts][isobmff][matroska]") {
    // When each is shown follows from its own header, as in AVI.
    auto timed = [](std::vector<Coded> coded, Codec codec) {
        Track track;
        track.codec = codec;
        PictureOrder order(track);
        DisplayOrder places;
        for (std::size_t i = 0; i < coded.size(); ++i)
            places.add(order.mark(coded[i].data), static_cast<std::int64_t>(i));
        for (auto& c : coded) c.shown = static_cast<int>(*places.place(0, true)), places.take();
        return coded;
    };
    auto four = timed(mpeg4_video(60, 2, false), Codec::mpeg4);
    auto config = mpeg4_config_bytes(four[0].data);
    REQUIRE_FALSE(config.empty());
    std::vector<int> keys;
    for (auto& c : four)
        if (c.key) keys.push_back(c.shown);
    plays_exactly(opened(make_matroska("V_MPEG4/ISO/ASP", config, four), "a.mkv"), 60, keys);
    plays_exactly(opened(make_matroska("V_MPEG4/ISO/ASP", {}, four), "b.mkv"), 60, keys);
    // The mapping for what comes from AVI: a header of its own kind, and a four-character code in it.
    ByteWriter header;
    header.le(40, 4).le(number_width, 4).le(number_height, 4).le(1, 2).le(24, 2).text("DX50");
    for (int i = 0; i < 5; ++i) header.le(0, 4);
    header.raw(config);
    plays_exactly(opened(make_matroska("V_MS/VFW/FOURCC", header.bytes, four), "c.mkv"), 60, keys);
    auto two = mpeg_video(60);
    plays_exactly(opened(make_matroska("V_MPEG2", {}, two), "d.mkv"), 60, every(12, 60));
    plays_exactly(opened(make_matroska("V_MPEG1", {}, mpeg_video(60, {.second = false})), "e.mkv"), 60, every(12, 60));

    auto packets = make_ac3(tone(48000 * 2));
    Bytes made;
    auto writer = mp4_muxer(std::make_unique<MemorySink>(made));
    MuxerTrack video, audio;
    video.codec = Codec::mpeg4, video.config = config, video.video.width = number_width;
    video.video.height = number_height, video.timescale = 25;
    audio.codec = Codec::ac3, audio.config = {0x10, 0x08, 0x00}, audio.audio = {48000, 1};
    auto pictures = value(writer->add(video)), heard = value(writer->add(audio));
    std::int64_t decoded = -2;  // two at most are held back
    for (auto& c : four) {
        MuxerPacket p;
        p.pts = 40_ms * c.shown, p.dts = 40_ms * decoded++, p.duration = 40_ms, p.keyframe = c.key, p.data = c.data;
        done(writer->write(pictures, p));
    }
    for (std::size_t i = 0; i < packets.size(); ++i) {
        MuxerPacket p;
        p.pts = p.dts = 32_ms * static_cast<std::int64_t>(i), p.duration = 32_ms, p.data = packets[i];
        done(writer->write(heard, p));
    }
    done(writer->finish());
    auto clip = opened(made, "f.mp4");
    CHECK(clip->info().main(Kind::video)->codec_string ==
          "mp4v.20." + std::to_string(parse_mpeg4_config(config)->profile_level));
    CHECK(clip->info().main(Kind::audio)->audio.channels == 1);
    CHECK(difference(audio_of(clip), tone(48000 * 2)) < 0.002);
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    for (int n = 0; n < 60; ++n) CHECK(number_of(*value(reader->next())) == n);
    for (int n : {59, 3, 31, 0}) CHECK(number_of(value(reader->at(40_ms * n))) == n);
}

TEST_CASE("Pictures that are PNG each, in AVI and in QuickTime", "[mpegts][riff]") {
    Folder folder;
    std::vector<Coded> pictures;
    for (int n = 0; n < 30; ++n) {
        auto p = numbered_frame(n);
        p.colour = {Colour::Matrix::bt601, Colour::Range::full, 2, 2};
        done(write_png(folder / "p.png", render(p, number_width, number_height)));
        pictures.push_back({bytes_of(folder / "p.png"), n, true});
    }
    plays_exactly(opened(make_avi("MPNG", pictures), "p.avi"), 30, every(1, 30));
    plays_exactly(opened(make_matroska(
                             "V_MS/VFW/FOURCC",
                             [] {
                                 ByteWriter w;
                                 w.le(40, 4).le(number_width, 4).le(number_height, 4).le(1, 2).le(24, 2).text("MPNG");
                                 w.be(0, 8).be(0, 8).be(0, 4);
                                 return w.bytes;
                             }(),
                             pictures),
                         "p.mkv"),
                  30, every(1, 30));
    // QuickTime: what our writer makes of another codec, under this one's name.
    Bytes made;
    auto writer = mp4_muxer(std::make_unique<MemorySink>(made));
    MuxerTrack track;
    track.codec = Codec::av1, track.video.width = number_width, track.video.height = number_height;
    track.timescale = 25;
    auto index = value(writer->add(track));
    for (auto& c : pictures) {
        MuxerPacket p;
        p.pts = p.dts = 40_ms * c.shown, p.duration = 40_ms, p.data = c.data;
        done(writer->write(index, p));
    }
    done(writer->finish());
    const std::string other = "av01", own = "png ";
    auto at = std::search(made.begin(), made.end(), other.begin(), other.end());
    REQUIRE(at != made.end());
    std::copy(own.begin(), own.end(), at);
    auto clip = opened(made, "p.mov");
    CHECK(clip->info().main(Kind::video)->codec == Codec::png);
    plays_exactly(clip, 30, every(1, 30));
    // One that is damaged costs itself.
    auto broken = pictures;
    broken[7].data.resize(60);
    auto hurt = opened(make_avi("MPNG", broken), "hurt.avi");
    auto reader = value(FrameReader::open(hurt, *hurt->info().main(Kind::video), CodecRegistry::standard()));
    int shown = 0;
    while (auto p = value(reader->next())) ++shown;
    CHECK(shown == 29);
    CHECK(reader->damaged() == 1);
}

TEST_CASE("H.264 in AVI is shown in the order that its pictures count", "[mpegts][riff]") {
    for (int between : {0, 3}) {
        INFO(between);
        auto coded = h264_video(100, between);
        CHECK(std::is_sorted(coded.begin(), coded.end(), [](auto& x, auto& y) { return x.shown < y.shown; }) ==
              (between == 0));
        plays_exactly(opened(make_avi("H264", coded), "b.avi"), 100, keys_of(coded));
    }
}

TEST_CASE("H.264 and MPEG-4 Visual whose pictures keep to no packets play picture for picture", "[mpegts]") {
    constexpr int count = 100;
    for (bool h264 : {true, false})
        for (int between : {0, 1, 3}) {
            INFO((h264 ? "H.264, " : "MPEG-4, ") << between << " between");
            auto coded = h264 ? h264_video(count, between) : mpeg4_video(count, between, false);
            if (!h264) describe_visibility(coded);
            auto keys = keys_of(coded);
            // Packets of 700 bytes: the end of one, a few that are whole, the beginning of another.
            auto later = coded;
            for (auto& c : later) ++c.shown;  // nothing is shown before it is decoded
            auto program = opened(make_program_stream(later, {}, false), "cut.mpg");
            CHECK(program->info().main(Kind::video)->codec == (h264 ? Codec::h264 : Codec::mpeg4));
            plays_exactly(program, count, keys);
            auto pts = [&](std::size_t i) { return 100'000 + (coded[i].shown + 2) * 3600; };
            auto dts = [](std::size_t i) { return 100'000 + static_cast<std::int64_t>(i) * 3600; };
            // Three in a packet, and each in three.
            TsMaker many(h264 ? 0x1B : 0x10), parts(h264 ? 0x1B : 0x10);
            for (std::size_t i = 0; i < coded.size(); i += 3) {
                Bytes all;
                for (auto k = i; k < std::min(i + 3, coded.size()); ++k)
                    all.insert(all.end(), coded[k].data.begin(), coded[k].data.end());
                many.add(all, pts(i), dts(i), true);
            }
            for (std::size_t i = 0; i < coded.size(); ++i) {
                ByteView all(coded[i].data);
                auto third = all.size() / 3;
                parts.add(all.first(third), pts(i), dts(i), true);
                parts.go_on(all.subspan(third, third)), parts.go_on(all.subspan(2 * third));
            }
            plays_exactly(opened(many.bytes, "many.ts"), count, keys);
            plays_exactly(opened(parts.bytes, "parts.ts"), count, keys);
        }
}

TEST_CASE("AC-3 bare and in AVI, and frames tell themselves", "[mpegts][riff]") {
    auto coded = tone(48000 * 2);
    auto frames = make_ac3(coded);
    Bytes bare;
    for (auto& f : frames) bare.insert(bare.end(), f.begin(), f.end());
    auto clip = opened(bare, "x.ac3");
    CHECK(clip->info().container == "ac3");
    CHECK(clip->info().duration == ticks_to_time(std::ssize(frames) * 1536, 1, 48000));
    CHECK(difference(audio_of(clip), coded) < 0.002);
    auto avi = opened(make_avi("XVID", mpeg4_video(50, 1, false), 0x2000, frames), "x.avi");
    CHECK(avi->info().main(Kind::audio)->codec == Codec::ac3);
    CHECK(difference(audio_of(avi), coded) < 0.002);
    // Sizes by the table, at each rate.
    Bytes head{0x0B, 0x77, 0, 0, 0, 0x40, 0x2F, 0, 0};
    for (auto [code, size] : {std::pair{0x1C, 1536}, {0x5C, 1670}, {0x5D, 1672}, {0x9C, 2304}}) {
        head[4] = static_cast<std::uint8_t>(code);
        auto frame = parse_ac3_frame(head);
        REQUIRE(frame);
        CHECK(frame->size == static_cast<std::size_t>(size));
    }
    head[4] = 0xC0;
    CHECK_FALSE(parse_ac3_frame(head));
    head[4] = 0x1C, head[5] = 0x80;  // a version of other frames
    CHECK_FALSE(parse_ac3_frame(head));
}

TEST_CASE("Sound that keeps to no chunks, in an AVI that arrives in order only", "[mpegts][riff]") {
    auto file = open("audio_info.mp3");
    auto reader = file->reader(file->info().tracks.at(0).id);
    std::vector<Bytes> mp3;
    PacketHead head;
    while (value(reader->next(head))) done(reader->read(mp3.emplace_back()));
    // Chunks of a kilobyte each, wherever frames begin.
    Bytes run;
    for (auto& f : mp3) run.insert(run.end(), f.begin(), f.end());
    std::vector<Bytes> pieces;
    for (std::size_t at = 0; at < run.size(); at += 1000)
        pieces.emplace_back(run.begin() + static_cast<std::ptrdiff_t>(at),
                            run.begin() + static_cast<std::ptrdiff_t>(std::min(run.size(), at + 1000)));
    auto pictures = mpeg4_video(150, 1, false);
    auto server = demo::LoopbackServer::start();
    for (auto& [tag, audio] : {std::pair{0x55U, pieces}, {0x2000U, make_ac3(tone(48000 * 6))}}) {
        INFO(tag);
        auto bytes = make_avi("XVID", pictures, tag, audio);
        auto local = opened(bytes, "x.avi");
        for (bool no_length : {false, true}) {
            server->serve("/x.avi", {.body = bytes, .ignores_ranges = true, .states_no_length = no_length});
            auto arriving = std::shared_ptr<Clip>(value(open_clip(value(open_source(server->address("/x.avi"))))));
            CHECK(audio_of(arriving) == audio_of(local));
            CHECK(audio_of(arriving, 3_s) == audio_of(local, 3_s));
            auto shown =
                value(FrameReader::open(arriving, *arriving->info().main(Kind::video), CodecRegistry::standard()));
            for (int n = 0; n < 150; ++n) CHECK(number_of(*value(shown->next())) == n);
        }
    }
}

TEST_CASE("What an AVI holds begins when its header says, whether or not it keeps to chunks", "[mpegts][riff]") {
    auto ac3 = make_ac3(tone(48000 * 3));
    auto made = make_avi("XVID", mpeg4_video(75, 1, false), 0x2000, ac3);
    // The packets from `t` on, told as if nothing began late.
    auto packets = [](Clip& clip, const Track& track, Time t, Time lead) {
        std::vector<std::tuple<Time, Time, Bytes>> all;
        auto reader = clip.reader(track.id);
        done(reader->seek(t + lead));
        for (Packet p; value(reader->next(p.head));) {
            done(reader->read(p.data));
            all.emplace_back(p.head.pts - lead, p.head.duration, p.data);
        }
        return all;
    };
    auto server = demo::LoopbackServer::start();
    for (auto& [bytes, stream, start, lead] : {std::tuple{made, "auds", 10U, 320_ms},
                                               {made, "vids", 10U, 400_ms},
                                               {bytes_of(fixture("mjpeg_pcm.avi")), "auds", 24000U, 500_ms}}) {
        auto late = bytes;
        auto header = std::search(late.begin(), late.end(), stream, stream + 4);
        for (int i = 0; i < 4; ++i) header[28 + i] = static_cast<std::uint8_t>(start >> (8 * i));
        auto on_time = opened(bytes, "x.avi");
        server->serve("/x.avi", {.body = late, .ignores_ranges = true});
        for (auto& clip : {opened(late, "x.avi"),
                           std::shared_ptr<Clip>(value(open_clip(value(open_source(server->address("/x.avi"))))))})
            for (auto& track : on_time->info().tracks) {
                INFO(stream << " " << codec_title(track.codec));
                auto by = (track.kind == Kind::audio) == (*stream == 'a') ? lead : Time{};
                CHECK(clip->info().tracks.at(track.id).start == track.start + by);
                for (auto t : {0_s, 40_ms, 999_ms, 1500_ms, 2900_ms})
                    CHECK(packets(*clip, track, t, by) == packets(*on_time, track, t, {}));
                CHECK(packets(*clip, track, -by, by) == packets(*on_time, track, 0_s, {}));
            }
    }
}

TEST_CASE("Layer II tells itself and plays", "[mpegts]") {
    // Frames without a single band: silence. 48 kHz, 192 kbit/s, two channels.
    Bytes bare;
    for (int i = 0; i < 50; ++i) {
        bare.insert(bare.end(), {0xFF, 0xFD, 0xA4, 0x00});
        bare.resize(bare.size() + 572);
    }
    auto clip = opened(bare, "x.mp2");
    CHECK(clip->info().container == "mp2");
    auto& track = clip->info().tracks.at(0);
    CHECK(track.codec == Codec::mp2);
    CHECK(track.audio.rate == 48000);
    CHECK(clip->info().duration == 1200_ms);
    auto audio = audio_of(clip);
    CHECK(audio.size() == 2 * 50 * 1152);
    CHECK(std::all_of(audio.begin(), audio.end(), [](float v) { return v == 0; }));
}

TEST_CASE("Places in the order of showing, of any order of decoding that is allowed", "[mpegts]") {
    std::mt19937 random(11);
    int tried = 0;
    for (int round = 0; round < 400; ++round) {
        // A random order in which no picture is shown before one that was decoded more than sixteen before it.
        auto count = 20 + random() % 80;
        std::vector<std::size_t> shown;
        for (std::size_t i = 0; i < count; ++i) shown.push_back(i);
        for (std::size_t i = 0; i + 1 < count; ++i) {
            auto far = std::min<std::size_t>(count - 1, i + random() % 4);
            std::rotate(shown.begin() + static_cast<std::ptrdiff_t>(i),
                        shown.begin() + static_cast<std::ptrdiff_t>(far),
                        shown.begin() + static_cast<std::ptrdiff_t>(far) + 1);
        }
        std::size_t apart = 0;
        for (std::size_t i = 0; i < count; ++i)
            for (auto k = i + 1; k < count; ++k)
                if (shown[k] < shown[i]) apart = std::max(apart, k - i);
        if (apart > 16) continue;
        ++tried;
        DisplayOrder places;
        std::size_t fed = 0;
        for (std::size_t i = 0; i < count; ++i) {
            std::optional<std::int64_t> place;
            while (!(place = places.place(0, fed == count))) {
                places.add({static_cast<std::int64_t>(shown[fed]) * 2, false, false, false},
                           static_cast<std::int64_t>(fed) * 3);
                ++fed;
            }
            CHECK(*place == static_cast<std::int64_t>(shown[i]) * 3);
            places.take();
        }
    }
    CHECK(tried > 50);
}

TEST_CASE("That pictures are of two moments each is said where the stream says so, and nowhere else", "[mpegts]") {
    auto said = [](const Bytes& file, const char* name) {
        auto facts = value(gather_facts(opened(file, name), CodecRegistry::standard(), {},
                                        {.loudness = false, .cancel = nullptr, .so_far = {}}));
        return std::count_if(facts.findings.begin(), facts.findings.end(),
                             [](auto& f) { return f.code == "interlaced"; });
    };
    auto stream = [&](MpegOptions o) { return make_program_stream(mpeg_video(100, o), {}, !o.second); };
    CHECK(said(stream({.second = false}), "first.mpg") == 0);
    CHECK(said(stream({}), "second.mpg") == 0);
    // Film in a sequence that might have fields has none, and a title before them hides no fields.
    CHECK(said(stream({.in_fields_from = 100}), "film.mpg") == 0);
    for (int from : {0, 1, 40}) CHECK(said(stream({.in_fields_from = from}), "fields.mpg") == 1);
    for (bool in_fields : {false, true}) {
        auto pictures = mpeg4_video(30, 1, false, 24, in_fields);
        CHECK(parse_mpeg4_config(pictures[0].data).value().in_fields == in_fields);
        CHECK(said(make_avi("XVID", pictures), "old.avi") == in_fields);
    }
}

TEST_CASE("Headers of MPEG video that lie, end early or say nothing", "[mpegts]") {
    auto good = mpeg_video(3)[0].data;
    for (std::size_t cut = 0; cut < good.size(); ++cut) {
        auto part = ByteView(good).first(cut);
        (void)parse_mpeg_sequence(part), (void)parse_mpeg_picture(part, true), (void)parse_mpeg4_config(part);
        (void)split_mpeg4(part, 16), (void)mpeg_sequence_bytes(part);
    }
    CHECK_FALSE(parse_mpeg_sequence(Bytes{0, 0, 1, 0xB3, 0, 0, 0, 0, 0, 0, 0, 0}));
    CHECK_FALSE(parse_mpeg4_config(Bytes{0, 0, 1, 0x20}));
    CHECK(split_mpeg4(Bytes{0, 0, 1, 0xB6, 0x40}, 5).size() == 1);
    // A stream in which no picture can be begun says so in words.
    auto none = mpeg_video(10);
    none.erase(none.begin());
    for (auto& p : none) p.key = false;
    auto refused = open_clip(memory_source(make_program_stream(none, {}, false), "none.mpg"));
    CHECK((!refused || refused.value()->info().main(Kind::video) == nullptr));
}

TEST_CASE("A transport stream that was cut short says so, unless it is cut between two whole packets", "[mpegts]") {
    auto whole = bytes_of(fixture("h264_aac.ts"));
    auto truncated = [](const Bytes& bytes) {
        auto clip = value(open_clip(memory_source(bytes, "cut.ts")));
        auto& all = clip->info().findings;
        return std::any_of(all.begin(), all.end(), [](auto& f) { return f.code == "truncated"; });
    };
    CHECK_FALSE(truncated(whole));
    std::mt19937 random(7);
    for (int i = 0; i < 20; ++i) {
        auto cut = whole;
        cut.resize(60'000 + random() % (whole.size() - 60'000));
        if (cut.size() % 188 == 0) cut.pop_back();
        INFO(cut.size());
        CHECK(truncated(cut));
    }
    // Between two transport packets, within a PES packet of sound, which states its length.
    int found = 0;
    for (std::size_t packets = 600; packets < 700; ++packets) {
        auto cut = whole;
        cut.resize(packets * 188);
        found += truncated(cut);
    }
    CHECK((found > 0 && found < 100));
}

// Short ones of each kind, for the fuzzers to begin with: ruedo-tests "[seeds]" in the folder that has the corpus.
TEST_CASE("Seeds for the fuzzers are written", "[.][mpegts][seeds]") {
    auto audio = make_ac3(tone(8000));
    auto put_seed = [](const char* name, const Bytes& bytes) { put(fs::path("fuzz/corpus") / name, bytes); };
    put_seed("mpegps/two.mpg", make_program_stream(mpeg_video(16), audio, false));
    put_seed("mpegps/one.mpg", make_program_stream(mpeg_video(16, {.second = false, .closed = false}), audio, true));
    put_seed("riff/packed.avi", make_avi("DIVX", mpeg4_video(12, 2, true, 6), 0x2000, audio));
    put_seed("riff/between.avi", make_avi("XVID", mpeg4_video(12, 1, false, 6)));
    put_seed("matroska/mpeg4.mkv", make_matroska("V_MPEG4/ISO/ASP", {}, mpeg4_video(8, 0, false)));
    put_seed("headers/mpeg2.bin", mpeg_video(1)[0].data);
    put_seed("headers/mpeg4.bin", mpeg4_video(1, 0, false)[0].data);
    Bytes bare;
    for (auto& f : audio) bare.insert(bare.end(), f.begin(), f.end());
    put_seed("elementary/tone.ac3", bare);
}
