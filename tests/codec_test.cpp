// SPDX-License-Identifier: Apache-2.0
// Every decoder against the numbers that the pictures carry; every encoder against its decoder.
#include <poll.h>
#include <pthread.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <thread>

#include "codec/ahead.h"
#include "demo/clips.h"
#include "demo/drawing.h"
#include "media/codec_headers.h"
#include "media/frame_memory.h"
#include "mpeg_makers.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("Every decoded picture carries the number its time says", "[codec]") {
    for (auto& name : playable()) {
        DYNAMIC_SECTION(name) {
            auto clip = open(name);
            auto* track = clip->info().main(Kind::video);
            const nlohmann::json* wanted = nullptr;
            bool audio_only = !facts(name)["tracks"].empty();
            for (auto& t : facts(name)["tracks"])
                if (t["type"] == "video") wanted = &t, audio_only = false;
            if (audio_only) continue;
            REQUIRE(track);
            auto reader = value(FrameReader::open(clip, *track, CodecRegistry::standard()));
            if (!wanted) {  // its maker only says that it plays
                CHECK(demo::read_strip(render(value(reader->at(1_s)))) == 30);
                continue;
            }
            auto times = (*wanted)["pts_ns"].get<std::vector<std::int64_t>>();
            auto numbers = (*wanted)["index"].get<std::vector<int>>();
            std::size_t i = 0;
            int wrong = 0;
            while (auto p = value(reader->next())) {
                REQUIRE(i < times.size());
                CHECK(p->pts.ns == times[i]);
                // The recording's first picture was taken before anything was drawn.
                auto number = demo::read_strip(render(*p));
                if (number != numbers[i] && !(name.starts_with("recorded") && i < 2)) ++wrong;
                ++i;
            }
            CHECK(wrong == 0);
            CHECK(i == times.size());
            CHECK(reader->damaged() == 0);
        }
    }
}

TEST_CASE("An exact seek gives the very picture, and goes on from there", "[codec][seek]") {
    std::mt19937 random(9);
    for (auto name :
         {"h264_high_aac.mp4", "h264_high_vorbis.mkv", "vp9_opus.webm", "vp8_vorbis.webm", "av1_opus.mp4",
          "vfr_h264.mp4", "edit_skip_500ms.mp4", "frag_no_sidx.mp4", "rotate90.mp4", "live_unknown_sizes.webm",
          "theora_vorbis.ogv", "h264_aac.ts", "pts_wrap.ts", "mjpeg_pcm.avi", "hevc.mp4"}) {
        auto clip = open(name);
        const nlohmann::json* wanted = nullptr;
        for (auto& t : facts(name)["tracks"])
            if (t["type"] == "video") wanted = &t;
        auto times = (*wanted)["pts_ns"].get<std::vector<std::int64_t>>();
        auto numbers = (*wanted)["index"].get<std::vector<int>>();
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        for (int i = 0; i < 8; ++i) {
            auto t = static_cast<std::int64_t>(random()) % 6'200'000'000;
            auto place = std::upper_bound(times.begin(), times.end(), t) - times.begin();
            auto k = static_cast<std::size_t>(std::max<std::ptrdiff_t>(0, place - 1));
            INFO(name << " at " << t);
            auto p = value(reader->at({t}));
            CHECK(p.pts.ns == times[k]);
            CHECK(demo::read_strip(render(p)) == numbers[k]);
            if (k + 1 < times.size()) {
                auto after = value(reader->next());
                REQUIRE(after);
                CHECK(after->pts.ns == times[k + 1]);
                CHECK(demo::read_strip(render(*after)) == numbers[k + 1]);
            }
        }
    }
}

TEST_CASE("Decoded counts from the keyframe, without look-ahead", "[codec]") {
    auto clip = open("vp9_opus.webm");
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    value(reader->at(2_s));
    CHECK(reader->decoded() == 1);
    value(reader->at(3_s));
    CHECK(reader->decoded() == 31);  // none of these is between others
    value(reader->at(Time{}));
    CHECK(reader->decoded() == 1);
}

TEST_CASE("One decoder that jumps about gives the pixels of one that never does, and decodes what it needs",
          "[codec]") {
    std::mt19937 random(31);
    for (std::string name : {"h264_high_aac.mp4", "h264_high_vorbis.mkv", "negative_ctts.mp4", "h264_aac.ts",
                             "vp9_opus.webm", "odd_853x481_vp9.webm"}) {
        INFO(name);
        auto clip = open(name);
        auto& track = *clip->info().main(Kind::video);
        auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
        std::vector<std::pair<Time, Pixels>> all;
        while (auto p = value(reader->next())) all.emplace_back(p->pts, render(*p).pixels);
        // In the order in which they are decoded, since a keyframe.
        std::map<Time, std::uint64_t> place;
        auto heads = clip->reader(track.id);
        std::uint64_t since = 0;
        for (PacketHead head; value(heads->next(head));) place[head.pts] = since = head.keyframe ? 1 : since + 1;
        bool spared = false;
        for (int i = 0; i < 15; ++i) {
            auto& [t, pixels] = all[random() % all.size()];
            auto p = value(reader->at(t));
            CHECK((p.pts == t && render(p).pixels == pixels));
            CHECK((reader->decoded() >= 1 && reader->decoded() <= place[t]));
            spared = spared || reader->decoded() < place[t];
        }
        // Pictures between others are left out, where the stream has them.
        CHECK(spared == (track.codec == Codec::h264));
        CHECK(reader->left_out() == 0);
    }
}

TEST_CASE("Decoders begin, jump and end on many threads at once, and none knows of another", "[codec]") {
    std::string names[]{"h264_high_aac.mp4", "h264_aac.ts", "vp9_opus.webm"};
    std::vector<std::vector<std::pair<Time, Pixels>>> all;
    for (auto& name : names) {
        auto clip = open(name);
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        auto& pictures = all.emplace_back();
        while (auto p = value(reader->next())) pictures.emplace_back(p->pts, render(*p).pixels);
    }
    std::atomic<int> wrong = 0;
    std::vector<std::thread> pool;
    for (unsigned who = 0; who < 4; ++who)
        pool.emplace_back([&, who] {
            std::mt19937 random(who);
            for (int i = 0; i < 12; ++i) {
                auto which = random() % all.size();
                auto clip = open_clip(fixture(names[which]));
                if (!clip) return void(++wrong);
                std::shared_ptr<Clip> held = std::move(*clip);
                auto reader = FrameReader::open(held, *held->info().main(Kind::video), CodecRegistry::standard());
                // The first of them jumps from one that has decoded nothing.
                for (int jump = 0; reader && jump < 3; ++jump) {
                    auto& [t, pixels] = all[which][random() % all[which].size()];
                    auto p = (*reader)->at(t);
                    wrong += !p || p->pts != t || render(*p).pixels != pixels;
                }
                wrong += !reader;
            }
        });
    for (auto& t : pool) t.join();
    CHECK(wrong == 0);
}

TEST_CASE("A picture that is kept stays what it was while its decoder goes on, jumps, and is gone", "[codec]") {
    for (auto name : {"h264_high_aac.mp4", "vp9_opus.webm", "vp8_vorbis.webm", "av1_opus.mp4", "theora_vorbis.ogv"}) {
        INFO(name);
        auto clip = open(name);
        auto& track = *clip->info().main(Kind::video);
        auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
        std::vector<std::pair<Frame, Pixels>> kept;
        for (int i = 0; i < 40; ++i) {
            auto p = value(reader->next());
            REQUIRE(p);
            if (i % 8 == 0) kept.emplace_back(*p, render(*p).pixels);
        }
        auto far = value(reader->at(5_s));
        kept.emplace_back(far, render(far).pixels);
        reader.reset();
        // Another decoder takes up the memory that was let go.
        auto other = value(FrameReader::open(clip, track, CodecRegistry::standard()));
        for (int i = 0; i < 12; ++i) REQUIRE(value(other->next()));
        for (auto& [picture, pixels] : kept) CHECK(render(picture).pixels == pixels);
    }
}

TEST_CASE("Memory of pictures lies on its boundary, the last given back is taken first, and is nobody else's",
          "[codec]") {
    constexpr std::size_t size = 123'457;
    auto one = frame_memory(size), two = frame_memory(size);
    CHECK((reinterpret_cast<std::uintptr_t>(one.get()) % 64 == 0 && one != two));
    auto *first = one.get(), *second = two.get();
    one.reset(), two.reset();
    two = frame_memory(size), one = frame_memory(size);
    CHECK((two.get() == second && one.get() == first));
    CHECK(frame_memory(size + 1).get() != first);
    std::vector<std::thread> threads;
    std::atomic<int> wrong = 0;
    for (int t = 0; t < 4; ++t)
        threads.emplace_back([&, t] {
            for (int i = 0; i < 300; ++i) {
                auto mine = frame_memory(size);
                std::memset(mine.get(), t + 1, size);
                std::this_thread::yield();
                wrong += mine.get()[0] != t + 1 || mine.get()[size - 1] != t + 1;
            }
        });
    for (auto& t : threads) t.join();
    CHECK(wrong == 0);
}

namespace {
/// A picture of thirty a second that carries its number.
Frame numbered(int width, int height, int n) {
    demo::Canvas canvas(width, height);
    canvas.gradient({200, 40, 30}, {30, 60, 200});
    demo::draw_strip(canvas.image(), n, n % 10 == 0);
    auto p = to_frame(canvas.image(), {});
    p.pts = ticks_to_time(n, 1, 30);
    return p;
}
struct Stream {
    Track track;
    std::vector<Packet> packets;
};
Stream beginning_of(const std::string& name) {
    auto clip = open(name);
    Stream c{*clip->info().main(Kind::video), {}};
    auto reader = clip->reader(c.track.id);
    for (Packet p; c.packets.size() < 40 && value(reader->next(p.head)); c.packets.push_back(p))
        done(reader->read(p.data));
    return c;
}
/// VP9 in two columns of tiles, a keyframe every twelve pictures.
Stream columns(int width, int height, int pictures) {
    VideoEncodeOptions o;
    o.width = width, o.height = height, o.bitrate = 500'000, o.keyframe_every = 12, o.effort = 0;
    auto encoder = value(CodecRegistry::standard().video_encoder(Codec::vp9, o));
    std::vector<Encoded> packets;
    for (int n = 0; n < pictures; ++n) done(encoder->encode(numbered(width, height, n), packets));
    Stream c;
    c.track.kind = Kind::video, c.track.codec = Codec::vp9;
    c.track.video.width = width, c.track.video.height = height;
    for (auto& e : packets) {
        auto& p = c.packets.emplace_back();
        p.head.pts = e.pts, p.head.keyframe = e.keyframe, p.data = e.data;
    }
    return c;
}
}  // namespace

TEST_CASE("After a jump nothing of what was damaged before it is left, nor of what was whole", "[codec]") {
    std::vector<Stream> all{beginning_of("h264_high_aac.mp4"), beginning_of("vp9_opus.webm"),
                            beginning_of("vp9_opus.webm"), beginning_of("vp8_vorbis.webm"), columns(960, 540, 40)};
    all[2].track.video.width = 1920;  // decoded by rows beside each other, as large pictures in one column are
    for (auto& [track, packets] : all) {
        INFO(codec_name(track.codec) << " " << track.video.width);
        auto group = [&](VideoDecoder& decoder) {
            std::vector<Frame> out;
            for (std::size_t i = 0; i < 12; ++i)
                done(decoder.decode(packets[i].data, packets[i].head.pts, packets[i].head.keyframe, out));
            done(decoder.drain(out));
            std::vector<Pixels> pixels;
            for (auto& p : out) pixels.push_back(render(p).pixels);
            return pixels;
        };
        auto fresh = value(CodecRegistry::standard().video_decoder(track));
        auto wanted = group(*fresh);
        CHECK(wanted.size() == 12);
        std::mt19937 random(17);
        auto used = value(CodecRegistry::standard().video_decoder(track));
        for (int round = 0; round < 8; ++round) {
            std::vector<Frame> out;
            for (std::size_t i = 0; i < 20; ++i) {
                auto data = packets[i].data;
                // Whole the first time; then with more and more of its bytes changed.
                for (int n = 0; n < round * 3; ++n)
                    data[5 + random() % (data.size() - 5)] = static_cast<std::uint8_t>(random());
                (void)used->decode(data, packets[i].head.pts, packets[i].head.keyframe, out);
            }
            used->reset();
            std::vector<Frame> none;
            done(used->drain(none));
            CHECK(none.empty());
            used->reset();
            CHECK(group(*used) == wanted);
            used->reset();
        }
        if (track.codec == Codec::h264) continue;
        // What does not begin with a keyframe is nothing that the pictures of before could be taken for.
        auto& late = packets[5];
        std::vector<Frame> alone, after;
        auto bare = value(CodecRegistry::standard().video_decoder(track));
        bool begins = bare->decode(late.data, late.head.pts, false, alone).has_value();
        CHECK(used->decode(late.data, late.head.pts, false, after).has_value() == begins);
        CHECK(alone.size() == after.size());
    }
}

TEST_CASE("Keyframes of VP9 say how large they are and in how many columns, and one that is cut says nothing",
          "[codec]") {
    for (auto [w, h] : {std::pair{64, 48}, std::pair{322, 182}, std::pair{448, 64}, std::pair{450, 64},
                        std::pair{960, 540}, std::pair{1918, 66}}) {
        INFO(w << " x " << h);
        auto packets = columns(w, h, 13).packets;
        REQUIRE(packets.size() == 13);
        for (std::size_t i = 0; i < packets.size(); ++i) {
            auto& data = packets[i].data;
            auto header = parse_vp9_keyframe(data);
            REQUIRE(header.has_value() == packets[i].head.keyframe);
            if (!header) continue;
            CHECK((header->width == w && header->height == h));
            // A column is 256 wide at least.
            CHECK(header->tile_columns == (w > 448 ? 2 : 1));
            CHECK((header->compressed_size > 0 && header->compressed_size < data.size()));
            std::size_t whole = 1;
            while (!parse_vp9_keyframe(ByteView(data).first(whole))) REQUIRE(++whole < 60);
            for (std::size_t n = whole; n < whole + 9; ++n) CHECK(parse_vp9_keyframe(ByteView(data).first(n)));
        }
    }
    for (auto name : {"vp9_opus.webm", "odd_853x481_vp9.webm"}) {
        auto [track, packets] = beginning_of(name);
        for (auto& p : packets) {
            auto header = parse_vp9_keyframe(p.data);
            CHECK(header.has_value() == p.head.keyframe);
            if (header) CHECK((header->width == track.video.width && header->height == track.video.height));
        }
    }
}

TEST_CASE("Sequence headers of AV1 are read whatever stands before what is wanted, and one that is cut says nothing",
          "[codec]") {
    std::mt19937 random(41);
    auto any = [&](unsigned most) { return std::uniform_int_distribution<unsigned>(0, most)(random); };
    for (int round = 0; round < 400; ++round) {
        BitWriter w;
        /// A flag, as it fell.
        auto flag = [&] {
            auto set = any(1);
            w.bits(set, 1);
            return set == 1;
        };
        auto code = [&](unsigned v) {  // uvlc()
            unsigned zeros = 0;
            while (v + 1 >= 2U << zeros) ++zeros;
            w.bits(0, zeros).bits(v + 1, zeros + 1);
        };
        Av1Sequence s;
        s.profile = any(2), s.level = any(31), s.tier = 0;
        w.bits(s.profile, 3).bits(0, 1);
        bool reduced = flag();
        if (reduced) {
            w.bits(s.level, 5);
        } else {
            unsigned delay = 0;
            if (flag()) {
                w.bits(random(), 32).bits(random(), 32);
                if (flag()) code(any(1'000'000));
                if (flag()) delay = any(31) + 1, w.bits(delay - 1, 5).bits(random(), 32).bits(any(1023), 10);
            }
            bool display = flag();
            auto points = any(31);
            w.bits(points, 5);
            for (unsigned i = 0; i <= points; ++i) {
                auto level = i ? any(31) : s.level;
                w.bits(any(4095), 12).bits(level, 5);
                if (bool high = level > 7 && flag(); i == 0) s.tier = high;
                if (delay && flag()) w.bits(random(), delay).bits(random(), delay).bits(any(1), 1);
                if (display && flag()) w.bits(any(15), 4);
            }
        }
        auto across = any(15), down = any(15);
        s.width = static_cast<int>(any((1U << (across + 1)) - 1)) + 1;
        s.height = static_cast<int>(any((1U << (down + 1)) - 1)) + 1;
        w.bits(across, 4).bits(down, 4);
        w.bits(static_cast<unsigned>(s.width) - 1, across + 1).bits(static_cast<unsigned>(s.height) - 1, down + 1);
        if (!reduced && flag()) w.bits(any(127), 7);
        w.bits(any(7), 3);
        if (!reduced) {
            w.bits(any(15), 4);
            bool order = flag();
            if (order) w.bits(any(3), 2);
            bool chosen = flag(), screen = chosen || flag();
            if (screen && !flag()) w.bits(any(1), 1);
            if (order) w.bits(any(7), 3);
        }
        w.bits(any(7), 3);
        if (flag() && s.profile == 2) w.bits(any(1), 1);
        if (s.profile != 1) w.bits(any(1), 1);
        if (flag()) {
            s.colour.primaries = static_cast<std::uint8_t>(any(12)),
            s.colour.transfer = static_cast<std::uint8_t>(any(18));
            auto matrix = any(14);
            s.colour.matrix = Colour::matrix_from_code(matrix);
            w.bits(s.colour.primaries, 8).bits(s.colour.transfer, 8).bits(matrix, 8);
        }
        bool srgb = s.colour.primaries == 1 && s.colour.transfer == 13 && s.colour.matrix == Colour::Matrix::identity;
        s.colour.range = srgb || flag() ? Colour::Range::full : Colour::Range::limited;
        auto bytes = w.bytes;
        // A unit that says its size, behind a delimiter and one that is not known.
        Bytes units{0x12, 0, 0x7A, 0x80, 1};
        units.resize(units.size() + 128);
        units.push_back(0x0A), units.push_back(static_cast<std::uint8_t>(bytes.size() % 128 | 0x80));
        units.push_back(static_cast<std::uint8_t>(bytes.size() / 128));
        units.insert(units.end(), bytes.begin(), bytes.end());
        auto split = split_av1(units);
        REQUIRE(split.size() == 3);
        CHECK((split[0].type == Av1Unit::temporal_delimiter && split[1].payload.size() == 128));
        REQUIRE(split[2].type == Av1Unit::sequence_header);
        auto read = parse_av1_sequence(split[2].payload);
        REQUIRE(read);
        CHECK((read->profile == s.profile && read->level == s.level && read->tier == s.tier));
        CHECK((read->width == s.width && read->height == s.height));
        CHECK(read->colour == s.colour);
        for (std::size_t n = 0; n < bytes.size(); ++n) CHECK_FALSE(parse_av1_sequence(ByteView(bytes).first(n)));
    }
    auto track = *open("av1_opus.mp4")->info().main(Kind::video);
    for (auto& unit : split_av1(ByteView(track.config).subspan(4))) {
        auto read = parse_av1_sequence(unit.payload);
        REQUIRE(read);
        CHECK((read->width == track.video.width && read->height == track.video.height));
    }
}

TEST_CASE("A seek that is no longer wanted is given up", "[codec][seek]") {
    auto clip = open("h264_high_aac.mp4");
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    std::atomic<bool> cancel = true;
    auto p = reader->at(1900_ms, &cancel);
    REQUIRE_FALSE(p.has_value());
    CHECK(p.error().code == ErrorCode::cancelled);
    cancel = false;
    CHECK(value(reader->at(1900_ms, &cancel)).pts == 1900_ms);
}

TEST_CASE("Pictures survive encoding, at every size that is taken", "[codec]") {
    for (auto codec : {Codec::h264, Codec::vp9, Codec::vp8})
        for (auto [w, h] : {std::pair{64, 48}, std::pair{322, 182}, std::pair{640, 360}}) {
            INFO(codec_name(codec) << " " << w << " x " << h);
            VideoEncodeOptions o;
            o.width = w, o.height = h, o.bitrate = 800'000, o.keyframe_every = 8, o.b_frames = w > 100 ? 3 : 0;
            auto encoder = value(CodecRegistry::standard().video_encoder(codec, o));
            std::vector<Encoded> packets;
            for (int n = 0; n < 20; ++n) done(encoder->encode(numbered(w, h, n), packets));
            done(encoder->drain(packets));
            REQUIRE(packets.size() == 20);
            Track track;
            track.kind = Kind::video, track.codec = codec, track.config = encoder->config(), track.video.width = w;
            auto decoder = value(CodecRegistry::standard().video_decoder(track));
            std::vector<Frame> pictures;
            Time before{INT64_MIN};
            for (auto& e : packets) {
                CHECK(e.keyframe == (time_to_ticks(e.pts, 30) % 8 == 0));
                CHECK(e.dts <= e.pts);
                CHECK(e.dts > std::exchange(before, e.dts));
                done(decoder->decode(e.data, e.pts, e.keyframe, pictures));
            }
            done(decoder->drain(pictures));
            REQUIRE(pictures.size() == 20);
            for (int n = 0; n < 20; ++n) {
                auto& p = pictures[static_cast<std::size_t>(n)];
                CHECK(p.width == w);
                CHECK(p.height == h);
                CHECK(p.pts == ticks_to_time(n, 1, 30));
                CHECK(demo::read_strip(render(p)) == n);
            }
        }
}

TEST_CASE("What an encoder is told of colours its stream says by itself, and nothing that it was not told", "[codec]") {
    auto& codecs = CodecRegistry::standard();
    for (auto codec : {Codec::h264, Codec::vp8, Codec::vp9, Codec::av1, Codec::theora, Codec::mjpeg})
        for (auto matrix : {Colour::Matrix::bt601, Colour::Matrix::bt709, Colour::Matrix::bt2020})
            for (auto range : {Colour::Range::limited, Colour::Range::full})
                for (auto [primaries, transfer] : {std::pair{2, 2}, std::pair{9, 14}}) {
                    Colour colour{matrix, range, static_cast<std::uint8_t>(primaries),
                                  static_cast<std::uint8_t>(transfer)};
                    colour = colour.made_for(codec);
                    INFO(codec_name(codec) << ", " << colour.matrix_code() << " of " << primaries);
                    VideoEncodeOptions o{.width = 64, .height = 64, .rate = {30, 1}, .colour = colour};
                    o.effort = 0;
                    auto encoder = value(codecs.video_encoder(codec, o));
                    std::vector<Encoded> packets;
                    done(encoder->encode(numbered(64, 64, 0), packets));
                    done(encoder->drain(packets));
                    REQUIRE(packets.size() == 1);
                    Track track;
                    track.kind = Kind::video, track.codec = codec, track.config = encoder->config();
                    if (codec == Codec::vp9) track.codec_tag = "vp09";
                    track.video.width = track.video.height = 64;
                    describe_from_config(track);
                    auto decoder = value(codecs.video_decoder(track));
                    std::vector<Frame> pictures;
                    done(decoder->decode(packets[0].data, {}, true, pictures));
                    done(decoder->drain(pictures));
                    REQUIRE(pictures.size() == 1);
                    auto said = track.video.colour.or_else(pictures[0].colour);
                    CHECK(said.matrix == colour.matrix);
                    CHECK(said.range == colour.range);
                    // The picture's own word is not another.
                    CHECK(pictures[0].colour.or_else(said) == said);
                    if (Colour::always(codec)) continue;
                    CHECK(said.primaries == primaries);
                    CHECK(said.transfer == transfer);
                }
}

TEST_CASE("An encoder says how late it is: an impulse comes out where it went in", "[codec]") {
    for (auto codec : {Codec::aac, Codec::opus, Codec::mp3, Codec::vorbis, Codec::flac, Codec::pcm}) {
        INFO(codec_name(codec));
        auto encoder = value(CodecRegistry::standard().audio_encoder(codec, {}));
        constexpr std::size_t impulse = 20'000;
        auto n = encoder->frame_samples();
        Track track;
        track.kind = Kind::audio, track.codec = codec, track.config = encoder->config(), track.audio = {48000, 2};
        auto decoder = value(CodecRegistry::standard().audio_decoder(track));
        std::vector<float> heard;
        for (std::size_t at = 0; at < 48'000; at += n) {
            std::vector<float> block(n * 2);
            for (std::size_t i = 0; i < n; ++i)
                if (at + i >= impulse && at + i < impulse + 24) block[2 * i] = block[2 * i + 1] = 0.9F;
            std::vector<EncodedSamples> packets;
            done(encoder->encode(block, packets));
            for (auto& p : packets) {
                AudioBlock out;
                done(decoder->decode(p.data, out));
                CHECK(out.channels == 2);
                // A decoder that gives nothing for its first packet still means the time of that packet.
                if (out.samples.empty()) out.samples.resize(p.samples * 2);
                CHECK(out.frames() == p.samples);
                for (std::size_t i = 0; i < out.frames(); ++i) heard.push_back(out.samples[2 * i]);
            }
        }
        auto peak =
            std::max_element(heard.begin(), heard.end(), [](float a, float b) { return std::abs(a) < std::abs(b); }) -
            heard.begin();
        auto offset =
            peak - static_cast<std::ptrdiff_t>(impulse) - static_cast<std::ptrdiff_t>(encoder->delay_samples());
        CHECK(std::abs(offset - 12) < 60);
    }
}

TEST_CASE("Whoever makes an encoder is scheduled afterwards as before", "[codec]") {
    auto scheduled = [] {
        int policy = -1;
        sched_param param{};
        ::pthread_getschedparam(::pthread_self(), &policy, &param);
        return std::pair{policy, param.sched_priority};
    };
    auto before = scheduled();
    for (auto codec : {Codec::h264, Codec::vp9, Codec::vp8, Codec::av1, Codec::theora, Codec::mjpeg}) {
        INFO(codec_name(codec));
        VideoEncodeOptions o;
        o.width = 320, o.height = 180, o.bitrate = 200'000, o.keyframe_every = 8;
        auto encoder = value(CodecRegistry::standard().video_encoder(codec, o));
        CHECK(scheduled() == before);
        std::vector<Encoded> packets;
        done(encoder->encode(numbered(320, 180, 0), packets));
        done(encoder->drain(packets));
        encoder.reset();
        CHECK(scheduled() == before);
    }
}

TEST_CASE("Loading modules and encoding leave the environment as it is, which other threads may be reading",
          "[codec]") {
    std::vector<std::string> before;
    for (auto** line = environ; *line; ++line) before.emplace_back(*line);
    auto** place = environ;
    CodecRegistry again(CodecRegistry::standard().folder());
    auto encoder = again.video_encoder(Codec::av1, {.width = 64, .height = 64});
    REQUIRE(encoder);
    REQUIRE(environ == place);
    for (std::size_t i = 0; i < before.size(); ++i) CHECK(environ[i] == before[i]);
    CHECK(environ[before.size()] == nullptr);
}

TEST_CASE("An encoder that is given no picture gives none back, and ends, asked to or not", "[codec]") {
    for (auto codec : {Codec::h264, Codec::vp9, Codec::vp8, Codec::av1, Codec::theora, Codec::mjpeg})
        for (bool drained : {false, true}) {
            INFO(codec_name(codec) << (drained ? ", drained" : ""));
            VideoEncodeOptions o;
            o.width = 320, o.height = 180, o.bitrate = 200'000, o.keyframe_every = 8;
            auto encoder = value(CodecRegistry::standard().video_encoder(codec, o));
            std::vector<Encoded> packets;
            if (drained) done(encoder->drain(packets));
            CHECK(packets.empty());
        }
}

TEST_CASE("Settings an encoder can't follow are refused in words", "[codec]") {
    CHECK(CodecRegistry::standard().video_encoder(Codec::h264, {.width = 15, .height = 15}).error().code ==
          ErrorCode::limit);
    CHECK(CodecRegistry::standard().audio_encoder(Codec::opus, {.rate = 44100}).error().code == ErrorCode::limit);
    CHECK(CodecRegistry::standard().video_encoder(Codec::hevc, {.width = 64, .height = 64}).error().code ==
          ErrorCode::codec_missing);
}

namespace {
struct SampleEncode {
    std::uint64_t bytes = 0;
    double error = 0;  ///< Mean squared, of luma.
    std::vector<Encoded> packets;
    Bytes config;
};
/// Two seconds of something that moves, encoded as `o` says and decoded again.
SampleEncode sample_encode(Codec codec, VideoEncodeOptions o) {
    o.width = 320, o.height = 180;
    SampleEncode made;
    auto encoder = value(CodecRegistry::standard().video_encoder(codec, o));
    std::vector<Frame> originals;
    for (int n = 0; n < 60; ++n) {
        demo::Canvas canvas(o.width, o.height);
        canvas.gradient({200, 90, 30}, {30, 60, 200});
        for (int i = 0; i < 40; ++i)
            canvas.circle({(i * 53 + n * (i % 7 - 3)) % 320 * 1.0, (i * 31 + n * (i % 5 - 2)) % 180 * 1.0}, 6.0 + i % 9,
                          {6.0 * i, 255.0 - 5 * i, i * 11 % 255 * 1.0});
        auto p = to_frame(canvas.image(), {});
        p.pts = ticks_to_time(n, 1, 30);
        originals.push_back(p);
        done(encoder->encode(p, made.packets));
    }
    done(encoder->drain(made.packets));
    made.config = encoder->config();
    if (o.pass == 1) return made;
    Track track;
    track.kind = Kind::video, track.codec = codec, track.config = made.config, track.video.width = o.width;
    auto decoder = value(CodecRegistry::standard().video_decoder(track));
    std::vector<Frame> pictures;
    for (auto& e : made.packets) {
        made.bytes += e.data.size();
        done(decoder->decode(e.data, e.pts, e.keyframe, pictures));
    }
    done(decoder->drain(pictures));
    REQUIRE(pictures.size() == originals.size());
    for (std::size_t k = 0; k < pictures.size(); ++k)
        for (std::ptrdiff_t y = 0; y < o.height; ++y)
            for (std::ptrdiff_t x = 0; x < o.width; ++x) {
                double d = pictures[k].plane[0][y * pictures[k].stride[0] + x] -
                           originals[k].plane[0][y * originals[k].stride[0] + x];
                made.error += d * d / (60.0 * o.width * o.height);
            }
    return made;
}
}  // namespace

TEST_CASE("One pass lands within 5 % of its bitrate over ten seconds, however the content changes", "[codec][encode]") {
    for (auto codec : {Codec::h264, Codec::vp9})
        for (unsigned bitrate : {250'000U, 700'000U}) {
            std::mt19937 random(19);
            VideoEncodeOptions o{.width = 320, .height = 180, .bitrate = bitrate, .b_frames = 2};
            auto encoder = value(CodecRegistry::standard().video_encoder(codec, o));
            std::vector<Encoded> packets;
            for (int n = 0; n < 300; ++n) {
                demo::Canvas canvas(o.width, o.height);
                canvas.gradient({200, 90, 30}, {30, 60, 200});
                // Three seconds of few and slow things, three of many and quick ones, and so on.
                int things = n / 90 % 2 ? 60 : 25, pace = n / 90 % 2 ? 3 : 1;
                for (int i = 0; i < things; ++i)
                    canvas.circle({(i * 53 + n * pace * (i % 7 - 3) + 3200) % 320 * 1.0,
                                   (i * 31 + n * pace * (i % 5 - 2) + 1800) % 180 * 1.0},
                                  6.0 + i % 9, {4.0 * i, 255.0 - 4 * i, static_cast<double>(random() % 40)});
                auto p = to_frame(canvas.image(), {});
                p.pts = ticks_to_time(n, 1, 30);
                done(encoder->encode(p, packets));
            }
            done(encoder->drain(packets));
            double bits = 0;
            for (auto& e : packets) bits += 8.0 * static_cast<double>(e.data.size());
            INFO(codec_name(codec) << " at " << bitrate << ": " << bits / 10);
            CHECK(std::abs(bits / 10 / bitrate - 1) < 0.05);
        }
}

TEST_CASE("Rate control does what it is asked: more bits or a better scale, two passes nearer the mark", "[codec]") {
    Folder folder;
    using Control = VideoEncodeOptions::Control;
    for (auto codec : {Codec::h264, Codec::vp9, Codec::vp8}) {
        INFO(codec_name(codec));
        auto best = codec == Codec::h264 ? 18 : 10, worst = codec == Codec::h264 ? 40 : 55;
        auto fine = sample_encode(codec, {.control = Control::quality, .quality = best, .effort = 1}),
             coarse = sample_encode(codec, {.control = Control::quality, .quality = worst, .effort = 1});
        CHECK(fine.bytes > 2 * coarse.bytes);
        CHECK(fine.error < coarse.error / 2);
        auto generous = sample_encode(codec, {.bitrate = 1'500'000, .effort = 1}),
             tight = sample_encode(codec, {.bitrate = 300'000, .effort = 1});
        CHECK(generous.bytes > 2 * tight.bytes);
        CHECK(generous.error < tight.error);
        VideoEncodeOptions o{.bitrate = 600'000, .b_frames = 2, .effort = 1, .pass = 1, .stats = folder / "stats"};
        (void)sample_encode(codec, o);
        o.pass = 2;
        auto second = sample_encode(codec, o);
        auto wanted = 600'000.0 / 8 * 2;
        INFO("two passes: " << second.bytes << " of " << wanted);
        CHECK(std::abs(static_cast<double>(second.bytes) - wanted) < 0.12 * wanted);
        // Between the passes there is nothing: that is said.
        o.stats = folder / "nothing";
        CHECK_FALSE(CodecRegistry::standard().video_encoder(codec, o).has_value());
    }
}

namespace {
/// While it lives this process is stopped again and again, wherever it is then. The other one ends when the pipe does,
/// and never between a stop and its end.
class Stopping {
  public:
    Stopping() {
        if (::pipe(pipe_) != 0 || (child_ = ::fork()) < 0) std::abort();
        ::close(pipe_[child_ == 0]);
        if (child_ != 0) return;
        for (auto parent = ::getppid();;) {
            pollfd over{pipe_[0], POLLIN, 0};
            if (::poll(&over, 1, 3) != 0) ::_exit(0);
            ::kill(parent, SIGSTOP);
            ::usleep(20'000);
            ::kill(parent, SIGCONT);
        }
    }
    ~Stopping() {
        ::close(pipe_[1]);
        ::waitpid(child_, nullptr, 0);
    }
    Stopping(const Stopping&) = delete;
    Stopping& operator=(const Stopping&) = delete;

  private:
    int pipe_[2]{};
    pid_t child_ = 0;
};
}  // namespace

TEST_CASE("What is encoded does not depend on how fast pictures come, nor on how long they take", "[codec]") {
    for (auto [codec, level] : {std::pair{Codec::h264, 0U},
                                {Codec::h264, 30U},
                                {Codec::vp9, 0U},
                                {Codec::vp8, 0U},
                                {Codec::av1, 0U},
                                {Codec::theora, 0U}}) {
        INFO(codec_name(codec));
        std::vector<std::vector<Bytes>> runs;
        enum class How { at_once, with_pauses, with_stops };
        for (auto how : {How::at_once, How::with_pauses, How::with_stops}) {
            std::optional<Stopping> stopping;
            if (how == How::with_stops) stopping.emplace();
            VideoEncodeOptions o{.width = 96, .height = 64, .bitrate = 120'000, .keyframe_every = 30, .b_frames = 2};
            o.level = level;
            // At a bitrate that of AV1 goes by what its threads have done so far.
            if (codec == Codec::av1) o.control = VideoEncodeOptions::Control::quality, o.quality = 40;
            auto encoder = value(CodecRegistry::standard().video_encoder(codec, o));
            std::vector<Encoded> out;
            for (int k = 0; k < 60; ++k) {
                demo::Canvas canvas(o.width, o.height);
                canvas.gradient({200, 90, 30}, {30, 60, 200});
                for (int i = 0; i < 9; ++i)
                    canvas.circle({(i * 31 + k * (i % 5 - 2)) % 96 * 1.0, (i * 17 + k) % 64 * 1.0}, 5.0 + i,
                                  {25.0 * i, 90, 40});
                auto picture = to_frame(canvas.image(), {});
                picture.pts = ticks_to_time(k, 1, 30), picture.duration = 33_ms;
                if (how == How::with_pauses) std::this_thread::sleep_for(std::chrono::milliseconds(k % 17 ? 3 : 40));
                done(encoder->encode(picture, out));
            }
            done(encoder->drain(out));
            auto& run = runs.emplace_back();
            for (auto& e : out) run.push_back(std::move(e.data));
        }
        CHECK(runs[0].size() == 60);
        CHECK((runs[1] == runs[0]));
        CHECK((runs[2] == runs[0]));
    }
}

TEST_CASE("Pictures smaller than a macroblock are encoded at their own size", "[codec]") {
    VideoEncodeOptions o;
    o.width = 10, o.height = 6;
    auto encoder = value(CodecRegistry::standard().video_encoder(Codec::h264, o));
    std::vector<Encoded> packets;
    RgbImage image{10, 6, Pixels(10 * 6 * 4, 180)};
    for (int n = 0; n < 5; ++n) {
        auto p = to_frame(image, {});
        p.pts = ticks_to_time(n, 1, 30);
        done(encoder->encode(p, packets));
    }
    done(encoder->drain(packets));
    Track track;
    track.kind = Kind::video, track.codec = Codec::h264, track.config = encoder->config();
    describe_from_config(track);
    CHECK(track.video.width == 10);
    CHECK(track.video.height == 6);
    auto decoder = value(CodecRegistry::standard().video_decoder(track));
    std::vector<Frame> pictures;
    for (auto& e : packets) done(decoder->decode(e.data, e.pts, e.keyframe, pictures));
    done(decoder->drain(pictures));
    REQUIRE(pictures.size() == 5);
    CHECK(pictures[0].width == 10);
    CHECK(std::abs(render(pictures[4]).pixels[0] - 180) <= 3);
}

TEST_CASE("A sound encoder that is drained gives back all that was put in", "[codec]") {
    for (auto [codec, rate, most] : {std::tuple{Codec::opus, 48000, 8},
                                     {Codec::aac, 44100, 2},
                                     {Codec::mp3, 32000, 2},
                                     {Codec::vorbis, 44100, 8},
                                     {Codec::flac, 96000, 8},
                                     {Codec::pcm, 11025, 8}}) {
        INFO(codec_name(codec));
        for (int channels : {1, 2, 6, 8}) {
            if (channels > most) continue;
            auto encoder = value(CodecRegistry::standard().audio_encoder(codec, {rate, channels, 128'000}));
            CHECK(encoder->channels() == channels);
            Track track;
            track.kind = Kind::audio, track.codec = codec, track.config = encoder->config();
            track.audio = {rate, channels};
            auto decoder = value(CodecRegistry::standard().audio_decoder(track));
            auto frame = encoder->frame_samples();
            std::vector<EncodedSamples> packets;
            constexpr std::size_t frames = 20;
            for (std::size_t i = 0; i < frames; ++i) {
                // Silent up to the very last samples that go in.
                std::vector<float> block(frame * static_cast<std::size_t>(channels));
                if (i + 1 == frames)
                    for (std::size_t k = block.size() - 64; k < block.size(); ++k) block[k] = k % 8 < 4 ? 0.5f : -0.5f;
                done(encoder->encode(block, packets));
            }
            done(encoder->drain(packets));
            std::vector<float> heard;
            for (auto& p : packets) {
                AudioBlock out;
                done(decoder->decode(p.data, out));
                // A decoder may need a packet before it gives what the first one holds, which is silent here.
                if (out.samples.empty()) out.samples.resize(p.samples * static_cast<std::size_t>(channels));
                heard.insert(heard.end(), out.samples.begin(), out.samples.end());
            }
            auto wanted = (frames * frame + encoder->delay_samples()) * static_cast<std::size_t>(channels);
            REQUIRE(heard.size() >= wanted);
            // The click at the end is there, where the delay says.
            float loudest = 0;
            for (std::size_t i = wanted - 512; i < wanted; ++i) loudest = std::max(loudest, std::abs(heard[i]));
            CHECK(loudest > 0.1f);
        }
    }
}

TEST_CASE("Pictures decoded ahead are the same ones, and nobody waits for those that are not wanted", "[codec]") {
    for (auto name : {"h264_high_aac.mp4", "vp9_opus.webm", "theora_vorbis.ogv"}) {
        INFO(name);
        auto reader = [&] {
            auto clip = open(name);
            return value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        };
        auto plain = reader();
        FramesAhead ahead(reader());
        for (int n = 0;; ++n) {
            auto one = value(plain->next()), other = value(ahead.next());
            REQUIRE(one.has_value() == other.has_value());
            if (!one) break;
            CHECK(one->pts == other->pts);
            if (n % 30 == 0) CHECK(render(*one).pixels == render(*other).pixels);
        }
        CHECK_FALSE(value(ahead.next()));
        // Given up with pictures waiting, at once or after a few.
        for (int taken : {0, 2}) {
            FramesAhead given_up(reader());
            for (int n = 0; n < taken; ++n) CHECK(value(given_up.next()));
        }
    }
    // What goes wrong on the way arrives where the pictures would have.
    auto bytes = bytes_of(fixture("h264_aac.ts"));
    auto clip = opened(bytes, "x.ts");
    auto track = *clip->info().main(Kind::video);
    track.codec = Codec::vp9;  // every packet is damaged then
    FramesAhead wrong(value(FrameReader::open(clip, track, CodecRegistry::standard())));
    auto first = wrong.next();
    CHECK((!first || !*first));
    CHECK_FALSE(value(wrong.next()));
}

TEST_CASE("Values go from one thread to another in their order, a few at a time", "[codec]") {
    for (int room : {1, 2, 3, 8}) {
        Bounded<int> queue(static_cast<std::size_t>(room));
        std::atomic<int> most = 0, put = 0, taken = 0;
        std::thread from([&] {
            for (int i = 0; i < 501 && queue.put(i); ++i) most = std::max<int>(most, ++put - taken);
            queue.close();
        });
        for (int wanted = 0; auto got = queue.take(); ++wanted) {
            CHECK(*got == wanted);
            ++taken;
        }
        from.join();
        CHECK(taken == 501);
        CHECK(most <= room + 2);  // one in each hand besides
        CHECK_FALSE(queue.put(1));
        CHECK_FALSE(queue.take());
    }
    // Whoever waits for room goes on when nothing is wanted any more.
    Bounded<int> full(1);
    CHECK(full.put(1));
    bool went_in = true;
    std::thread waiting([&] { went_in = full.put(2); });
    full.close();
    waiting.join();
    CHECK_FALSE(went_in);
}

TEST_CASE("Plain samples are the numbers that are stored, in whatever way", "[codec]") {
    std::mt19937 random(7);
    for (bool is_float : {false, true})
        for (bool big : {false, true})
            for (unsigned size : {1U, 2U, 3U, 4U, 8U}) {
                if (is_float ? size < 4 : size > 4) continue;
                INFO(size << (is_float ? " float" : " whole") << (big ? " big" : " little"));
                Track track;
                track.kind = Kind::audio;
                track.codec = Codec::pcm;
                track.config = make_pcm_config({.is_float = is_float,
                                                .big_endian = big,
                                                .bits = size * 8,
                                                .container_bytes = size,
                                                .rate = 48000,
                                                .channels = 2});
                auto decoder = value(CodecRegistry::standard().audio_decoder(track));
                Bytes stored;
                std::vector<float> wanted;
                for (int i = 0; i < 2000; ++i) {
                    std::uint64_t bits = (static_cast<std::uint64_t>(random()) << 32) | random();
                    // The ends of what can be stored are among them, and what is no number or no loudness is silence.
                    if (i < 4) bits = i < 2 ? 0 - static_cast<std::uint64_t>(i) : std::uint64_t(1) << (8 * size - 1);
                    if (i == 3) --bits;
                    if (is_float && i > 10) {
                        auto v = static_cast<double>(random() % 4000) / 1000.0 - 2;
                        bits = size == 4 ? std::bit_cast<std::uint32_t>(static_cast<float>(v))
                                         : std::bit_cast<std::uint64_t>(v);
                    }
                    if (size < 8) bits &= (std::uint64_t(1) << (8 * size)) - 1;
                    for (unsigned k = 0; k < size; ++k)
                        stored.push_back(static_cast<std::uint8_t>(bits >> (8 * (big ? size - 1 - k : k))));
                    double v;
                    if (is_float)
                        v = size == 4 ? static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(bits)))
                                      : std::bit_cast<double>(bits);
                    else if (size == 1)
                        v = (static_cast<double>(bits) - 128) / 128;
                    else
                        v = (static_cast<double>(bits) - (bits >> (8 * size - 1) ? std::exp2(8 * size) : 0)) /
                            std::exp2(8 * size - 1);
                    wanted.push_back(v > -64 && v < 64 ? static_cast<float>(v) : 0);
                }
                AudioBlock block;
                REQUIRE(decoder->decode(stored, block));
                CHECK(block.samples == wanted);
                // A part of a sample for both channels is none.
                REQUIRE(decoder->decode(ByteView(stored).first(size * 5), block));
                CHECK(block.samples.size() == 4);
            }
}
