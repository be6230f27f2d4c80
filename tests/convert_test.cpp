// SPDX-License-Identifier: Apache-2.0
// Clips made of clips: every picture where it was, every sound where it was, in the shape that was asked for.
#include <fmt/format.h>
#include <fstream>

#include "conversions.h"
#include "convert/compare.h"
#include "convert/ladder.h"
#include "convert/stills.h"
#include "facts/facts.h"
#include "picture/quality.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("What may stay as it is is copied bit for bit, and what may not says why", "[convert]") {
    Folder folder;
    auto packets = [](const fs::path& path, Kind kind) {
        auto clip = value(open_clip(path.string()));
        auto reader = clip->reader(clip->info().main(kind)->id);
        std::vector<std::pair<std::int64_t, Bytes>> all;
        PacketHead head;
        Bytes data;
        while (value(reader->next(head))) done(reader->read(data)), all.emplace_back(head.pts.ns / 1'000'000, data);
        return all;
    };
    for (auto [name, out] : {std::pair{"h264_high_aac.mp4", "a.mp4"},
                             {"vp9_opus.webm", "b.webm"},
                             {"rotate90.mp4", "c.mp4"},
                             {"h264_cbp_opus_frag.mp4", "d.mp4"},
                             {"av1_opus.mp4", "e.webm"},
                             {"hevc.mp4", "f.MP4"}}) {
        INFO(name);
        auto result = made(fixture(name).string(), folder / out);
        CHECK(result.video.action == "copied");
        auto from = packets(fixture(name), Kind::video), to = packets(folder / out, Kind::video);
        REQUIRE(from.size() == to.size());
        for (std::size_t i = 0; i < from.size(); ++i) {
            CHECK(from[i].second == to[i].second);
            CHECK(std::abs(from[i].first - to[i].first) <= 1);
        }
        if (result.audio.action != "none") {
            CHECK(result.audio.action == "copied");
            auto a = packets(fixture(name), Kind::audio), b = packets(folder / out, Kind::audio);
            REQUIRE(a.size() == b.size());
            for (std::size_t i = 0; i < a.size(); ++i) CHECK(a[i].second == b[i].second);
            CHECK(onsets_in(folder / out) == onsets_in(fixture(name)));
        }
        auto same = value(compare(fixture(name).string(), (folder / out).string(), CodecRegistry::standard()));
        CHECK(same.identical);
        CHECK(std::isinf(same.psnr_y));
    }
    Recipe copying;
    copying.video.action = Recipe::Do::copy;
    CHECK(refused(fixture("h264_high_aac.mp4").string(), folder / "x.webm", copying).sentence.find("H.264") !=
          std::string::npos);
    copying.video.width = 320;
    CHECK(refused(fixture("h264_high_aac.mp4").string(), folder / "x.mp4", copying).code == ErrorCode::refused);
    auto mixed = made(fixture("h264_high_vorbis.mkv").string(), folder / "m.mp4");
    CHECK(mixed.audio.action == "encoded");
    CHECK(says(mixed, "sound-encoded"));
}

TEST_CASE("A stretch is cut to the frame and to the sample, and begins at nothing", "[convert]") {
    Folder folder;
    auto all = frames_in(fixture("h264_high_aac.mp4"));
    for (auto [from, to] : {std::pair{1_s, 3_s}, {1010_ms, 2500_ms}, {2_s + 1_ms, 2_s + 34_ms}, {5_s, 60_s}}) {
        INFO(from.seconds() << " to " << to.seconds());
        Recipe r;
        r.from = from, r.to = to, r.video.effort = 0;
        auto path = folder / "cut.mp4";
        auto result = value(convert(fixture("h264_high_aac.mp4").string(),
                                    {.out = path, .recipe = r, .target = {}, .replace = Replace::anything},
                                    CodecRegistry::standard()));
        auto cut = frames_in(path);
        // The picture that is seen at the beginning, and all that begin before the end.
        std::vector<NumberedFrame> wanted;
        for (std::size_t i = 0; i < all.size(); ++i)
            if (all[i].pts < to && (i + 1 == all.size() || all[i + 1].pts > from)) wanted.push_back(all[i]);
        REQUIRE(cut.size() == wanted.size());
        for (std::size_t i = 0; i < cut.size(); ++i) {
            CHECK(cut[i].number == wanted[i].number);
            CHECK(std::abs((cut[i].pts - std::max(Time{}, wanted[i].pts - from)).ns) < 20'000);
        }
        auto length = std::min(to, 6_s) - from;
        CHECK(std::abs((result.duration - length).ns) < (5_ms).ns);
        auto samples = audio_of(std::shared_ptr<Clip>(value(open_clip(path.string())))).size() / 2;
        CHECK(std::abs(static_cast<double>(samples) - length.seconds() * 48000) < 240);
        std::vector<std::size_t> heard;
        for (auto at : onsets_in(fixture("h264_high_aac.mp4"))) {
            auto moved = static_cast<double>(at) - from.seconds() * 48000;
            if (moved > 200 && moved < length.seconds() * 48000 - 2400)
                heard.push_back(static_cast<std::size_t>(moved));
        }
        auto again = onsets_in(path);
        for (auto at : heard)
            CHECK(std::any_of(again.begin(), again.end(), [&](auto b) {
                return std::abs(static_cast<double>(b) - static_cast<double>(at)) <= 96;
            }));
    }
}

TEST_CASE("Size, shape and rate are those that were asked for", "[convert]") {
    Folder folder;
    struct Case {
        const char* name;
        int width, height;
        Recipe::Shape shape;
        int display_width, display_height, rotation;
    };
    using Shape = Recipe::Shape;
    for (auto c : {Case{"rotate90.mp4", 180, 0, Shape::keep, 180, 320, 90},
                   {"rotate90.mp4", 0, 0, Shape::bake, 360, 640, 0},
                   {"rotate90.mp4", 200, 200, Shape::pad, 200, 200, 0},
                   {"rotate90.mp4", 200, 200, Shape::crop, 200, 200, 0},
                   {"par43_sps.mp4", 0, 0, Shape::bake, -1, -1, 0},
                   {"par43_sps.mp4", 0, 180, Shape::keep, -1, 180, 0},
                   {"vp9_opus.webm", 100, 100, Shape::keep, 100, 56, 0},
                   {"odd_853x481_vp9.webm", 0, 0, Shape::keep, 852, 480, 0}}) {
        INFO(c.name << " " << c.width << "x" << c.height);
        Recipe r;
        r.to = 300_ms;
        r.video.action = Recipe::Do::encode, r.video.codec = Codec::h264;
        r.video.width = c.width, r.video.height = c.height, r.video.shape = c.shape, r.video.effort = 0;
        auto path = folder / "s.mp4";
        (void)value(convert(fixture(c.name).string(),
                            {.out = path, .recipe = r, .target = {}, .replace = Replace::anything},
                            CodecRegistry::standard()));
        auto from = open(c.name)->info().main(Kind::video)->video;
        auto clip = value(open_clip(path.string()));
        auto& to = clip->info().main(Kind::video)->video;
        int width =
            c.display_width > 0 ? c.display_width : to.display_height() * from.display_width() / from.display_height();
        CHECK(std::abs(to.display_width() - width) <= 2);
        if (c.display_height > 0) CHECK(std::abs(to.display_height() - c.display_height) <= 2);
        CHECK(to.rotation == c.rotation);
        if (c.shape == Shape::bake) CHECK(to.width == to.display_width());
        // Seen is the same: the strip stands where it can be read, but for what is cut.
        auto before = frames_in(fixture(c.name), 300_ms), after = frames_in(path);
        if (c.shape == Shape::keep || c.shape == Shape::bake) CHECK(after.front().number == before.front().number);
    }
    for (auto [rate, count] : {std::pair{Rational{15, 1}, 15}, {Rational{60, 1}, 60}, {Rational{24000, 1001}, 24}}) {
        Recipe r;
        r.to = 1_s, r.video.rate = rate, r.video.effort = 0;
        auto path = folder / "r.mp4";
        (void)value(convert(fixture("vfr_h264.mp4").string(),
                            {.out = path, .recipe = r, .target = {}, .replace = Replace::anything},
                            CodecRegistry::standard()));
        auto facts = value(
            scan_track(*value(open_clip(path.string())), *value(open_clip(path.string()))->info().main(Kind::video)));
        CHECK(facts.frame_count == static_cast<std::uint64_t>(count));
        CHECK(facts.frame_rate == rate);
        // At every moment the picture that was seen before.
        std::shared_ptr<Clip> clip = open("vfr_h264.mp4");
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        for (auto& p : frames_in(path))
            CHECK(demo::read_strip(render(value(reader->at(p.pts + 20000_ns)))) == p.number);
    }
}

TEST_CASE("A size in bytes is landed under, closely, and loudness comes to where it was asked to be", "[convert]") {
    Folder folder;
    for (std::uint64_t bytes : {75'000U, 160'000U}) {
        Recipe r;
        r.fit_bytes = bytes, r.to = 3_s;
        auto result = value(convert(fixture("h264_high_aac.mp4").string(),
                                    {.out = folder / "f.mp4", .recipe = r, .target = {}, .replace = Replace::anything},
                                    CodecRegistry::standard()));
        INFO(bytes << ": " << result.bytes);
        CHECK(result.bytes <= bytes);
        CHECK(result.bytes >= bytes * 97 / 100);
        CHECK(result.video.passes == 2);
    }
    Recipe small;
    small.fit_bytes = 5000;
    CHECK(refused(fixture("h264_high_aac.mp4").string(), folder / "g.mp4", small).code == ErrorCode::limit);
    holds_only(folder, {"f.mp4"});
    Recipe loud;
    loud.audio.loudness = -30, loud.to = 3_s;
    (void)made(fixture("h264_high_aac.mp4").string(), folder / "l.mp4", loud);
    auto level = [](const fs::path& p) {
        double sum = 0;
        auto s = audio_of(std::shared_ptr<Clip>(value(open_clip(p.string()))));
        for (auto v : s) sum += static_cast<double>(v) * v;
        return 10 * std::log10(sum / static_cast<double>(s.size()));
    };
    loud.audio.loudness = -24;
    (void)made(fixture("h264_high_aac.mp4").string(), folder / "m.mp4", loud);
    CHECK(std::abs(level(folder / "m.mp4") - level(folder / "l.mp4") - 6) < 0.3);
}

TEST_CASE("Nothing that is there is lost, and what can't be is refused in words", "[convert]") {
    Folder folder;
    fs::copy_file(fixture("h264_high_aac.mp4"), folder / "in.mp4");
    auto before = bytes_of(folder / "in.mp4");
    auto in = (folder / "in.mp4").string();
    CHECK(refused(in, folder / "in.mp4").code == ErrorCode::refused);
    CHECK(convert(in, {.out = folder / "in.mp4", .recipe = {}, .target = {}, .replace = Replace::anything},
                  CodecRegistry::standard())
              .error()
              .code == ErrorCode::refused);
    fs::create_symlink(folder / "in.mp4", folder / "link.mp4");
    CHECK(convert(in, {.out = folder / "link.mp4", .recipe = {}, .target = {}, .replace = Replace::anything},
                  CodecRegistry::standard())
              .error()
              .code == ErrorCode::refused);
    put(folder / "there.mp4", Bytes{1, 2, 3});
    CHECK(refused(in, folder / "there.mp4").code == ErrorCode::exists);
    CHECK(bytes_of(folder / "there.mp4").size() == 3);
    CHECK(refused(in, folder / "x.doc").code == ErrorCode::usage);
    CHECK(refused(in, folder / "none" / "x.mp4").code == ErrorCode::not_found);
    CHECK(refused((folder / "missing.mp4").string(), folder / "x.mp4").code == ErrorCode::not_found);
    Recipe late;
    late.from = 60_s;
    CHECK(refused(in, folder / "x.mp4", late).code == ErrorCode::refused);
    Recipe empty;
    empty.video.action = empty.audio.action = Recipe::Do::none;
    CHECK(refused(in, folder / "x.mp4", empty).code == ErrorCode::empty);
    Recipe odd;
    odd.video.action = Recipe::Do::encode, odd.video.codec = Codec::hevc;
    CHECK(refused(in, folder / "x.mp4", odd).code == ErrorCode::codec_missing);
    // Stopped at any moment nothing is left behind.
    for (int stop_at : {0, 1, 3}) {
        Recipe anew;
        anew.video.action = Recipe::Do::encode, anew.video.codec = Codec::vp9;
        int told = 0;
        auto result = convert(in,
                              {.out = folder / "x.webm",
                               .recipe = anew,
                               .target = {},
                               .told =
                                   [&](auto& p) {
                                       CHECK((p.done >= 0 && p.done <= 1));
                                       return told++ < stop_at;
                                   }},
                              CodecRegistry::standard());
        REQUIRE_FALSE(result.has_value());
        CHECK(result.error().code == ErrorCode::cancelled);
    }
    fs::remove(folder / "link.mp4");
    holds_only(folder, {"in.mp4", "there.mp4"});
    CHECK(bytes_of(folder / "in.mp4") == before);
    // One that breaks off gives what there is, and says so.
    auto cut = bytes_of(fixture("vp9_opus.webm"));
    cut.resize(cut.size() / 2);
    put(folder / "cut.webm", cut);
    auto shorter = made((folder / "cut.webm").string(), folder / "short.mp4");
    CHECK(shorter.duration < 4_s);
    CHECK(shorter.video.frames > 30);
    CHECK(says(shorter, "truncated"));
    CHECK(frames_in(folder / "short.mp4").size() == shorter.video.frames);
}

TEST_CASE("What was stopped once stays stopped, however short it is and wherever it was then", "[convert]") {
    Folder folder;
    auto handset = value(find_target("handset-basic"));
    int asked = 0;
    for (auto name : {"vp9_small.webm", "vp9_opus.webm", "par43_sps.mp4", "theora_vorbis.ogv", "audio_opus.ogg"}) {
        INFO(name);
        Recipe r;
        r.video.action = Recipe::Do::encode, r.video.codec = Codec::h264, r.to = 200_ms;
        bool first = true;
        ConversionOptions o{.out = folder / "x.mp4", .recipe = r, .target = handset};
        o.told = [&](auto&) { return ++asked, !std::exchange(first, false); };
        auto result = convert(fixture(name).string(), o, CodecRegistry::standard());
        REQUIRE_FALSE(result);
        CHECK(result.error().code == ErrorCode::cancelled);
        holds_only(folder, {});
    }
    CHECK(asked == 5);
}

TEST_CASE("What may be see-through becomes opaque, with a word", "[convert]") {
    Folder folder;
    Recipe r;
    r.video.action = Recipe::Do::encode, r.to = 200_ms;
    CHECK(says(made(fixture("recorded_vp9_opus.webm").string(), folder / "o.webm", r), "opaque"));
    CHECK_FALSE(says(made(fixture("vp9_opus.webm").string(), folder / "p.webm", r), "opaque"));
    // What was made says so no more.
    CHECK_FALSE(says(made((folder / "o.webm").string(), folder / "q.webm", r), "opaque"));
}

TEST_CASE("Stills are the pictures that are shown, in the size, form and number that was asked for", "[convert]") {
    Folder folder;
    auto& codecs = CodecRegistry::standard();
    auto source = fixture("h264_high_aac.mp4").string();
    StillOptions o;
    o.out = folder / "s";
    o.at = {3_s, 1010_ms, 1_s, 60_s};
    auto made = value(stills(source, o, codecs));
    REQUIRE(made.size() == 4);
    CHECK((made[0].at == 3_s && made[1].at == 1_s && made[2].at == 1_s && made[3].at > 5900_ms));
    CHECK((made[0].width == 640 && made[0].height == 360));
    CHECK(stills(source, o, codecs).error().code == ErrorCode::exists);
    // A JPEG is the same picture, which can be read again.
    o.format = StillOptions::Format::jpeg, o.replace = Replace::anything;
    made = value(stills(source, o, codecs));
    for (auto& s : made) {
        Track track;
        track.codec = Codec::mjpeg, track.kind = Kind::video;
        auto decoder = value(codecs.video_decoder(track));
        std::vector<Frame> out;
        done(decoder->decode(bytes_of(s.path), {}, true, out));
        REQUIRE(out.size() == 1);
        auto clip = open("h264_high_aac.mp4");
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), codecs));
        CHECK(demo::read_strip(render(out[0])) == demo::read_strip(render(value(reader->at(s.at)))));
    }
    o.at.clear(), o.every = 2500_ms;
    CHECK(value(stills(source, o, codecs)).size() == 3);
    o.every.reset(), o.count = 4, o.width = 100, o.height = 100;
    made = value(stills(source, o, codecs));
    REQUIRE(made.size() == 4);
    CHECK((made[3].width == 100 && made[3].height == 56));
    for (std::size_t i = 0; i < 4; ++i)
        CHECK(std::abs((made[i].at - (750_ms + 1500_ms * static_cast<std::int64_t>(i))).ns) < 34'000'000);
    o.count = 0, o.columns = 100, o.rows = 100;
    CHECK(stills(source, o, codecs).error().code == ErrorCode::limit);
    o.columns = o.rows = 0, o.go_on = [] { return false; };
    CHECK(stills(source, o, codecs).error().code == ErrorCode::cancelled);
    CHECK(stills(fixture("audio.flac").string(), o, codecs).error().code == ErrorCode::not_media);
    // One goes into a file by itself; several don't.
    o.go_on = {}, o.at = {1_s}, o.single = true, o.out = folder / "one.jpg";
    made = value(stills(source, o, codecs));
    CHECK((made.size() == 1 && made[0].path == o.out && fs::is_regular_file(o.out)));
    o.at.push_back(2_s);
    CHECK(stills(source, o, codecs).error().code == ErrorCode::refused);
}

TEST_CASE("Sound alone, pictures alone, and an end among pictures that need later ones", "[convert]") {
    Folder folder;
    Recipe aac;
    aac.audio.action = Recipe::Do::encode, aac.audio.codec = Codec::aac;
    auto flac = made(fixture("audio.flac").string(), folder / "a.m4a", aac);
    CHECK((flac.video.action == "none" && flac.audio.action == "encoded"));
    auto before = onsets_in(fixture("audio.flac")), after = onsets_in(folder / "a.m4a");
    REQUIRE(before.size() == after.size());
    for (std::size_t i = 0; i < before.size(); ++i)
        CHECK(std::abs(static_cast<double>(before[i]) - static_cast<double>(after[i])) <= 96);
    auto opus = made(fixture("audio_opus.ogg").string(), folder / "o.webm");
    CHECK(opus.audio.action == "copied");
    CHECK(onsets_in(folder / "o.webm") == onsets_in(fixture("audio_opus.ogg")));
    Recipe silent;
    silent.audio.action = Recipe::Do::none;
    auto mute = made(fixture("h264_high_aac.mp4").string(), folder / "p.mp4", silent);
    CHECK((mute.video.action == "copied" && mute.audio.action == "none"));
    CHECK(frames_in(folder / "p.mp4").size() == 180);
    // Copied up to a moment, every picture before it is there, whether others need later ones or not.
    for (auto name : {"h264_high_aac.mp4", "vp9_opus.webm", "h264_high_vorbis.mkv", "vfr_h264.mp4"}) {
        INFO(name);
        Recipe short_one = silent;
        short_one.to = 1234_ms;
        auto path = folder / (std::string(name) + (std::string(name).ends_with("webm") ? ".webm" : ".mp4"));
        (void)made(fixture(name).string(), path, short_one);
        auto wanted = frames_in(fixture(name), 1234_ms), kept = frames_in(path);
        REQUIRE(kept.size() == wanted.size());
        for (std::size_t i = 0; i < kept.size(); ++i) CHECK(kept[i].number == wanted[i].number);
    }
}

TEST_CASE("Likeness is that of the plain formula, and less for what differs more", "[convert]") {
    auto plain = [](const std::vector<std::uint8_t>& a, const std::vector<std::uint8_t>& b, int width, int height) {
        int n = std::min(11, width), m = std::min(11, height);
        auto weight = [](int i, int of) { return std::exp(-std::pow(i - (of - 1) / 2.0, 2) / 4.5); };
        double norm = 0, total = 0, c1 = 6.5025, c2 = 58.5225;
        for (int y = 0; y < m; ++y)
            for (int x = 0; x < n; ++x) norm += weight(x, n) * weight(y, m);
        for (int top = 0; top + m <= height; ++top)
            for (int left = 0; left + n <= width; ++left) {
                double ma = 0, mb = 0, aa = 0, bb = 0, ab = 0;
                for (int y = 0; y < m; ++y)
                    for (int x = 0; x < n; ++x) {
                        auto at = static_cast<std::size_t>((top + y) * width + left + x);
                        double w = weight(x, n) * weight(y, m) / norm, u = a[at], v = b[at];
                        ma += w * u, mb += w * v, aa += w * u * u, bb += w * v * v, ab += w * u * v;
                    }
                double va = aa - ma * ma, vb = bb - mb * mb, vab = ab - ma * mb;
                total += (2 * ma * mb + c1) * (2 * vab + c2) / ((ma * ma + mb * mb + c1) * (va + vb + c2));
            }
        return total / ((width - n + 1) * (height - m + 1));
    };
    std::mt19937 random(81);
    Similarity similarity;
    for (int i = 0; i < 60; ++i) {
        int width = 1 + static_cast<int>(random() % 70), height = 1 + static_cast<int>(random() % 40);
        std::vector<std::uint8_t> a(static_cast<std::size_t>(width * height)), b(a.size());
        int kind = i % 4;
        for (std::size_t k = 0; k < a.size(); ++k) {
            a[k] = static_cast<std::uint8_t>(kind == 0 ? 255 : kind == 1 ? random() : 100 + k % 50);
            b[k] = static_cast<std::uint8_t>(kind == 0   ? 254 - i % 3
                                             : kind == 3 ? a[k]
                                                         : std::min<unsigned long>(255, a[k] + random() % 20));
        }
        Plane pa{a.data(), width, height, width}, pb{b.data(), width, height, width};
        INFO(i << ": " << width << " x " << height);
        CHECK(std::abs(similarity.of(pa, pb) - plain(a, b, width, height)) < 1e-6);
        std::uint64_t error = 0;
        for (std::size_t k = 0; k < a.size(); ++k) error += static_cast<std::uint64_t>((a[k] - b[k]) * (a[k] - b[k]));
        CHECK(squared_error(pa, pb) == error);
    }
    CHECK(psnr(1) == Approx(48.1308));
    Folder folder;
    double before = 1.1;
    for (int quality : {18, 30, 44}) {
        Recipe r;
        r.to = 1_s, r.video.action = Recipe::Do::encode, r.video.codec = Codec::h264, r.video.quality = quality;
        auto path = folder / (std::to_string(quality) + ".mp4");
        (void)made(fixture("h264_high_aac.mp4").string(), path, r);
        auto c = value(compare(path.string(), fixture("h264_high_aac.mp4").string(), CodecRegistry::standard()));
        CHECK(c.frames == 30);
        CHECK(c.ssim_y < before);
        before = c.ssim_y;
        auto worst = c.worst();
        REQUIRE(worst.size() == 5);
        for (auto& p : c.places) CHECK(p.ssim_y >= worst[0].ssim_y);
    }
}

TEST_CASE("Pictures become larger, smaller, cut and turned without drifting in light or place", "[convert]") {
    for (auto range : {Colour::Range::limited, Colour::Range::full})
        for (int turn : {0, 90, 180, 270}) {
            std::array<std::uint8_t*, 3> planes{};
            auto p = make_frame(97, 61, planes);
            p.colour.range = range;
            for (int y = 0; y < 61; ++y)
                for (int x = 0; x < p.stride[0]; ++x)
                    planes[0][y * p.stride[0] + x] = static_cast<std::uint8_t>(40 + 2 * x * 97 / 97);
            for (std::size_t i : {1U, 2U})
                std::memset(planes[i], static_cast<int>(100 + 20 * i), static_cast<std::size_t>(p.stride[i] * 31));
            Reshape r;
            r.width = 97, r.height = 61, r.to_width = 194, r.to_height = 122, r.turn = turn;
            r.canvas_width = turn % 180 ? 122 : 194, r.canvas_height = turn % 180 ? 194 : 122;
            r.colour = p.colour.resolved(61);
            CHECK_FALSE(r.leaves(p));
            Reshaper shaper;
            auto q = value(shaper.make(p, r));
            REQUIRE((q.width == r.canvas_width && q.height == r.canvas_height));
            // The ramp goes on rising the same way, at half the pace.
            auto at = [&](int along) {
                int x = turn == 0     ? along
                        : turn == 180 ? 193 - along
                                      : 60,
                    y = turn == 90    ? along
                        : turn == 270 ? 193 - along
                                      : 60;
                return static_cast<int>(q.plane[0][y * q.stride[0] + x]);
            };
            for (int i = 8; i < 186; i += 7) CHECK(std::abs(at(i) - (40 + i - 0.5)) <= 2);
            CHECK(q.plane[1][20 * q.stride[1] + 20] == 120);
            CHECK(q.plane[2][20 * q.stride[2] + 20] == 140);
        }
    std::array<std::uint8_t*, 3> planes{};
    auto p = make_frame(64, 48, planes);
    Reshape same;
    same.width = same.to_width = same.canvas_width = 64, same.height = same.to_height = same.canvas_height = 48;
    same.colour = p.colour.resolved(48);
    CHECK(same.leaves(p));
    Reshaper shaper;
    CHECK(value(shaper.make(p, same)).plane[0] == p.plane[0]);
}

TEST_CASE("Turned all the way round a picture is itself again, and a part of a part is a part", "[convert]") {
    std::mt19937 random(64);
    Reshaper shaper;
    auto same = [](const Frame& a, const Frame& b) {
        REQUIRE((a.width == b.width && a.height == b.height));
        std::size_t differ = 0;
        for (std::size_t i = 0; i < 3; ++i) {
            int w = i ? (a.width + 1) / 2 : a.width, h = i ? (a.height + 1) / 2 : a.height;
            for (int y = 0; y < h; ++y)
                differ += std::memcmp(a.plane[i] + y * a.stride[i], b.plane[i] + y * b.stride[i],
                                      static_cast<std::size_t>(w)) != 0;
        }
        return differ == 0;
    };
    auto whole = [](const Frame& p) {
        Reshape r;
        r.width = r.to_width = r.canvas_width = p.width, r.height = r.to_height = r.canvas_height = p.height;
        r.colour = p.colour.resolved(p.height);
        return r;
    };
    for (int round = 0; round < 40; ++round) {
        int width = 2 * (8 + static_cast<int>(random() % 60)), height = 2 * (8 + static_cast<int>(random() % 60));
        std::array<std::uint8_t*, 3> planes{};
        auto p = make_frame(width, height, planes);
        p.pts = 40_ms * round;
        for (std::size_t i = 0; i < 3; ++i)
            for (int at = 0; at < p.stride[i] * (i ? height / 2 : height); ++at)
                planes[i][at] = static_cast<std::uint8_t>(16 + random() % 220);
        auto turned = [&](const Frame& of, int turn) {
            auto r = whole(of);
            r.turn = turn;
            if (turn % 180) std::swap(r.canvas_width, r.canvas_height);
            auto q = value(shaper.make(of, r));
            CHECK(q.pts == p.pts);
            CHECK((q.width == r.canvas_width && q.height == r.canvas_height));
            return q;
        };
        auto quarter = turned(p, 90), half = turned(quarter, 90);
        CHECK(same(half, turned(p, 180)));
        CHECK(same(turned(half, 90), turned(p, 270)));
        CHECK(same(turned(turned(p, 270), 90), p));
        // What stood at the lower left stands at the upper left.
        CHECK(quarter.plane[0][0] == p.plane[0][(height - 1) * p.stride[0]]);

        auto part = [&](const Frame& of, int x, int y, int w, int h) {
            auto r = whole(of);
            r.x = x, r.y = y, r.width = w, r.height = h;
            r.to_width = r.canvas_width = w, r.to_height = r.canvas_height = h;
            return value(shaper.make(of, r));
        };
        int x = 2 * static_cast<int>(random() % 4), y = 2 * static_cast<int>(random() % 4);
        auto once = part(p, x, y, width - 8, height - 8);
        CHECK(same(part(once, 2, 2, width - 12, height - 12), part(p, x + 2, y + 2, width - 12, height - 12)));
        CHECK(once.plane[0][0] == p.plane[0][y * p.stride[0] + x]);
        // Laid on a ground, it is found there again, and all else is black.
        auto r = whole(p);
        r.canvas_width = width + 20, r.canvas_height = height + 12, r.left = 8, r.top = 4;
        auto laid = value(shaper.make(p, r));
        CHECK(same(part(laid, 8, 4, width, height), p));
        CHECK((laid.plane[0][0] == 16 && laid.plane[1][0] == 128 && laid.plane[2][0] == 128));
        CHECK(laid.plane[0][(height + 11) * laid.stride[0] + width + 19] == 16);
    }
}

TEST_CASE("A recipe is read as it was written, and what is wrong in one is named by its place", "[convert]") {
    std::mt19937 random(82);
    auto schema = recipe_schema();
    CHECK(nlohmann::json::parse(std::ifstream(std::string(RUEDO_DOCS) + "/recipe.schema.json")) == schema);
    std::ifstream file(std::string(RUEDO_DOCS) + "/recipe.md");
    CHECK(std::string(std::istreambuf_iterator<char>(file), {}) == recipe_page());
    for (int i = 0; i < 200; ++i) {
        Recipe r;
        auto maybe = [&] { return random() % 2 == 0; };
        r.video.action = static_cast<Recipe::Do>(random() % 4), r.audio.action = static_cast<Recipe::Do>(random() % 4);
        if (r.video.action == Recipe::Do::encode) r.video.codec = maybe() ? Codec::h264 : Codec::vp9;
        if (r.audio.action == Recipe::Do::encode) r.audio.codec = maybe() ? Codec::aac : Codec::opus;
        if (maybe()) r.video.quality = static_cast<int>(random() % 64);
        if (maybe()) r.video.bitrate = 1000 + static_cast<std::uint32_t>(random() % 9'000'000);
        if (maybe()) r.video.passes = 2;
        if (maybe()) r.video.width = 320, r.video.height = maybe() ? 180 : 0;
        r.video.shape = static_cast<Recipe::Shape>(random() % 4);
        if (maybe()) r.video.rate = maybe() ? Rational{30000, 1001} : Rational{25, 1};
        if (maybe()) r.video.most_rate = Rational{60, 1};
        if (maybe()) r.audio.channels = 1 + static_cast<int>(random() % 8);
        if (maybe()) r.audio.rate = 44100;
        if (maybe()) r.captions = Recipe::Captions::none;
        r.all_tracks = maybe(), r.video.effort = static_cast<int>(random() % 3);
        r.video.keyframes = 1_ms * static_cast<std::int64_t>(1 + random() % 9000);
        if (maybe()) r.audio.bitrate = 64'000;
        if (maybe()) r.audio.loudness = -16.5;
        if (maybe()) r.container_format = container_formats()[random() % container_formats().size()].name;
        if (maybe()) r.from = 2_s, r.to = 9_s;
        if (maybe()) r.fit_bytes = 8'000'000;
        CHECK(value(recipe_from_json(to_json(r), "r")) == r);
        // The schema knows every member, and the page of the documentation speaks of it.
        auto j = to_json(r);
        for (auto& [key, v] : j.items()) CHECK(schema["properties"].contains(key));
        for (auto part : {"video", "audio"})
            for (auto& [key, v] : j[part].items()) CHECK(schema["properties"][part]["properties"].contains(key));
    }
    auto wrong = [](const char* recipe, const char* place) {
        auto r = recipe_from_json(nlohmann::json::parse(recipe), "r.json");
        REQUIRE_FALSE(r.has_value());
        INFO(r.error().sentence);
        CHECK(r.error().sentence.find(place) != std::string::npos);
    };
    wrong("[]", "must be an object");
    wrong(R"({"colour": 1})", "/colour");
    wrong(R"({"video": {"codec": "h999"}})", "/video/codec");
    wrong(R"({"video": {"quality": 101}})", "/video/quality");
    wrong(R"({"video": {"rate": "0/1"}})", "/video/rate");
    wrong(R"({"video": {"shape": "round"}})", "/video/shape");
    wrong(R"({"audio": {"loudness": 3}})", "/audio/loudness");
    wrong(R"({"audio": {"channels": 9}})", "/audio/channels");
    wrong(R"({"video": {"effort": 3}})", "/video/effort");
    wrong(R"({"captions": "burnt"})", "/captions");
    wrong(R"({"wrapper": "tar"})", "/wrapper");
    wrong(R"({"from_ns": 5, "to_ns": 5})", "/to_ns");
    for (auto [text, rate] : {std::pair{"30", Rational{30, 1}},
                              {"30000/1001", Rational{30000, 1001}},
                              {"29.97", Rational{2997, 100}},
                              {"12.5", Rational{25, 2}},
                              {"60/2", Rational{30, 1}}})
        CHECK(parse_rational(text) == rate);
    for (auto text : {"", "0", "-1", "1/0", "x", "1/", "1.2.3", "9999999999", "1.1234567"})
        CHECK_FALSE(parse_rational(text));
}

namespace {
/// Eight fields of colour, four across.
RgbImage coloured(int height) {
    constexpr std::array<std::array<int, 3>, 8> fields{{{230, 20, 30},
                                                        {20, 200, 40},
                                                        {30, 40, 220},
                                                        {220, 210, 20},
                                                        {20, 190, 200},
                                                        {210, 30, 200},
                                                        {240, 240, 240},
                                                        {90, 90, 90}}};
    auto rows = static_cast<std::size_t>(height);
    RgbImage image{128, height, Pixels(128 * rows * 4, 255)};
    for (std::size_t i = 0; i < 128 * rows; ++i) {
        auto& field = fields.at(i % 128 / 32 + (i / 128 / (rows / 2)) * 4);
        for (std::size_t c = 0; c < 3; ++c) image.pixels[4 * i + c] = static_cast<std::uint8_t>(field.at(2 - c));
    }
    return image;
}
/// How far any channel of what a clip shows is off, at most, in the middles of the fields.
int farthest_off(const fs::path& path, const RgbImage& image) {
    std::shared_ptr<Clip> clip = value(open_clip(path.string()));
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    auto shown = render(value(reader->at(100_ms)));
    REQUIRE((shown.width == image.width && shown.height == image.height));
    int most = 0;
    for (int f = 0; f < 8; ++f) {
        auto at = static_cast<std::size_t>((2 * (f / 4) + 1) * image.height / 4 * 128 + f % 4 * 32 + 16) * 4;
        for (std::size_t c = 0; c < 4; ++c)
            most = std::max(most, std::abs(shown.pixels[at + c] - image.pixels[at + c]));
    }
    return most;
}
/// Three pictures of it, ten a second, in such numbers; the container says `told` of them.
fs::path coloured_clip(const fs::path& path, const RgbImage& image, Codec codec, const Colour& colour,
                       const Colour& told) {
    VideoEncodeOptions o{.width = image.width, .height = image.height, .rate = {10, 1}, .colour = colour};
    o.control = VideoEncodeOptions::Control::quality, o.quality = codec == Codec::mjpeg ? 95 : 4, o.effort = 0;
    auto encoder = value(CodecRegistry::standard().video_encoder(codec, o));
    std::vector<Encoded> packets;
    for (int i = 0; i < 3; ++i) {
        auto p = to_frame(image, colour);
        p.pts = 100_ms * i;
        done(encoder->encode(p, packets));
    }
    done(encoder->drain(packets));
    Bytes file;
    auto writer = matroska_muxer(std::make_unique<MemorySink>(file));
    MuxerTrack v;
    v.codec = codec, v.config = encoder->config(), v.video = {image.width, image.height}, v.video.colour = told;
    auto number = value(writer->add(v));
    for (auto& e : packets) done(writer->write(number, {e.pts, e.dts, 100_ms, e.keyframe, e.data}));
    done(writer->finish());
    put(path, file);
    return path;
}
}  // namespace

TEST_CASE("Colours stay what they are, whatever an encoder's numbers mean", "[convert]") {
    Folder folder;
    auto image = coloured(96);
    auto& codecs = CodecRegistry::standard();
    for (auto matrix : {Colour::Matrix::bt601, Colour::Matrix::bt709, Colour::Matrix::bt2020})
        for (auto range : {Colour::Range::limited, Colour::Range::full}) {
            Colour colour{matrix, range, 2, 2};
            auto source =
                coloured_clip(folder / fmt::format("{}-{}.mkv", colour.matrix_code(), range == Colour::Range::full),
                              image, Codec::h264, colour, colour);
            CHECK(farthest_off(source, image) <= 4);
            for (auto& container_format : container_formats())
                for (auto codec : container_format.video) {
                    if (!codecs.encodes(codec)) continue;
                    INFO(source.filename() << " into " << container_format.name << " with " << codec_name(codec));
                    Recipe recipe;
                    recipe.container_format = container_format.name, recipe.video.action = Recipe::Do::encode,
                    recipe.video.codec = codec;
                    auto out = folder / "made";
                    auto result = value(
                        convert(source.string(),
                                {.out = out, .recipe = recipe, .target = {}, .replace = Replace::anything}, codecs));
                    CHECK(farthest_off(out, image) <= 8);
                    CHECK(says(result, "colours-converted") == (colour.made_for(codec) != colour));
                }
        }
}

TEST_CASE("Pictures that are said to be red, green and blue, and can't be, are taken for what they would be unsaid",
          "[convert]") {
    Folder folder;
    auto image = coloured(96);
    Colour colour{Colour::Matrix::bt601, Colour::Range::limited, 2, 2};
    auto unsaid = coloured_clip(folder / "unsaid.mkv", image, Codec::h264, colour, {});
    auto said = coloured_clip(folder / "said.mkv", image, Codec::h264, colour,
                              {Colour::Matrix::identity, Colour::Range::limited, 1, 13});
    CHECK(farthest_off(said, image) == farthest_off(unsaid, image));
    CHECK(value(compare(unsaid.string(), said.string(), CodecRegistry::standard(), {})).identical);
    for (int width : {0, 64}) {
        Recipe recipe;
        recipe.video.action = Recipe::Do::encode, recipe.video.width = width;
        auto out = folder / fmt::format("{}.mp4", width);
        made(said.string(), out, recipe);
        if (width == 0) CHECK(farthest_off(out, image) <= 8);
        std::shared_ptr<Clip> clip = value(open_clip(out.string()));
        CHECK(clip->info().main(Kind::video)->video.colour.matrix == Colour::Matrix::bt601);
    }
}

TEST_CASE("Colours of which only the stream itself speaks stay what they are, at every height", "[convert]") {
    Folder folder;
    for (int height : {96, 720}) {
        auto image = coloured(height);
        for (auto codec : {Codec::h264, Codec::vp8, Codec::vp9, Codec::av1, Codec::theora, Codec::mjpeg})
            for (auto matrix : {Colour::Matrix::bt601, Colour::Matrix::bt709}) {
                auto colour = Colour{matrix, Colour::Range::limited, 2, 2}.made_for(codec);
                if (colour.matrix != matrix) continue;
                auto source =
                    coloured_clip(folder / fmt::format("{}-{}-{}.mkv", codec_name(codec), height, colour.matrix_code()),
                                  image, codec, colour, {});
                INFO(source.filename());
                CHECK(farthest_off(source, image) <= 8);
                auto facts = value(gather_facts(value(open_clip(source.string())), CodecRegistry::standard()));
                for (auto& f : facts.findings) CHECK(f.code != "no-colour-tags");
                auto again = codec == Codec::h264 ? Codec::vp9 : Codec::h264;
                Recipe recipe;
                recipe.video.action = Recipe::Do::encode, recipe.video.codec = again, recipe.video.effort = 0;
                auto out = source;
                out += ".mkv";
                made(source.string(), out, recipe);
                CHECK(farthest_off(out, image) <= 8);
                if (codec != Codec::vp8 && codec != Codec::av1) continue;
                LadderOptions o;
                o.out = folder / (source.stem().string() + "-ladder"), o.measure = false;
                o.recipe.rungs = {{128, height, 2'000'000}};
                auto ladder = value(make_ladder(source.string(), o, CodecRegistry::standard()));
                CHECK(farthest_off(ladder.master, image) <= 8);
            }
    }
}

TEST_CASE("What is copied goes out in its order, though parts overlap or times go back", "[convert]") {
    Folder folder;
    auto joined = many(bytes_of(fixture("h264_aac.ts")), 3);
    put(folder / "joined.ts", joined);
    Recipe copying;
    copying.video.action = copying.audio.action = Recipe::Do::copy;
    auto seen = frames_in(folder / "joined.ts");
    REQUIRE(seen.size() == 540);
    for (auto name : {"a.mp4", "a.mkv"}) {
        INFO(name);
        auto done_so = made((folder / "joined.ts").string(), folder / name, copying);
        CHECK(done_so.video.frames == 540);
        auto again = frames_in(folder / name);
        REQUIRE(again.size() == seen.size());
        for (std::size_t i = 0; i < seen.size(); ++i) CHECK(again[i].number == seen[i].number);
        CHECK(onsets_in(folder / name).size() == onsets_in(folder / "joined.ts").size());
    }
    std::mt19937 random(102);
    int copied = 0;
    for (int i = 0; i < 30; ++i) {
        auto bytes = joined;
        for (int k = 0; k < 60; ++k) bytes[random() % bytes.size()] = static_cast<std::uint8_t>(random());
        put(folder / "damaged.ts", bytes);
        auto out = folder / ("d" + std::to_string(i) + (i % 2 ? ".mp4" : ".mkv"));
        auto result = convert((folder / "damaged.ts").string(), {.out = out, .recipe = copying, .target = {}},
                              CodecRegistry::standard());
        if (!result) CHECK(result.error().code != ErrorCode::internal);
        copied += result.has_value();
    }
    CHECK(copied > 20);
}

TEST_CASE("How long a clip was made is how long it is, also where only what begins late is kept", "[convert]") {
    Folder folder;
    Recipe audio, pictures;
    audio.video.action = pictures.audio.action = Recipe::Do::none;
    for (auto name : {"edit_empty_audio_1s.mp4", "recorded_vp9_opus.webm", "h264_aac.ts", "edit_skip_500ms.mp4"})
        for (auto& [what, recipe] : {std::pair{"s", audio}, {"p", pictures}, {"b", Recipe{}}})
            for (auto container_format : {".mkv", ".mp4"}) {
                INFO(name << " " << what << container_format);
                auto out = folder / (std::string(what) + name + container_format);
                auto told = made(fixture(name).string(), out, recipe).duration;
                auto is = value(open_clip(out.string()))->info().duration;
                CHECK(std::abs((told - is).ns) < (40_ms).ns);
            }
}

TEST_CASE("No second of what is made has more pictures than the most that is asked for, however they come",
          "[convert]") {
    Folder folder;
    auto busiest = [](Clip& clip) { return value(scan_track(clip, *clip.info().main(Kind::video))); };
    auto before = busiest(*test::open("vfr_h264.mp4"));
    REQUIRE_FALSE(before.frame_rate.stated());
    // Its mean is well under what its busiest second has.
    REQUIRE(static_cast<double>(before.busiest_second) > before.frames_per_second() + 3);
    for (auto most : {static_cast<std::int64_t>(before.busiest_second) - 1, std::int64_t{10}, std::int64_t{200}}) {
        INFO(most << " of " << before.busiest_second);
        Recipe recipe;
        recipe.video.most_rate = Rational{most, 1};
        auto out = folder / (std::to_string(most) + ".mp4");
        (void)made(fixture("vfr_h264.mp4").string(), out, recipe);
        auto after = busiest(*value(open_clip(out.string())));
        CHECK(after.most_a_second() <= static_cast<double>(most) + 0.01);
        CHECK(after.frame_rate.stated() == (most < static_cast<std::int64_t>(before.busiest_second)));
    }
}

TEST_CASE("Colours are converted to the matrix and range that are asked for, look the same, and are said in the tags",
          "[convert]") {
    using Matrix = Colour::Matrix;
    using Range = Colour::Range;
    Folder folder;
    int converted = 0;
    auto first_frame = [](const std::shared_ptr<Clip>& clip) {
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        return reader->at(Time{});
    };
    for (auto name : {"colour_bt709_full_h264.mp4", "colour_bt601_limited_h264.mp4"}) {
        std::shared_ptr<Clip> clip = test::open(name);
        auto& track = *clip->info().main(Kind::video);
        auto given = track.video.colour.resolved(track.video.height);
        auto before = render(value(first_frame(clip)), 160, 90);
        for (auto matrix : {Matrix::unspecified, Matrix::bt601, Matrix::bt709, Matrix::bt2020})
            for (auto range : {Range::unspecified, Range::limited, Range::full}) {
                Recipe recipe;
                recipe.video.matrix = matrix, recipe.video.range = range, recipe.video.quality = 4;
                recipe.to = 200_ms, recipe.audio.action = Recipe::Do::none;
                INFO(name << " " << static_cast<int>(matrix) << " " << static_cast<int>(range));
                CHECK(value(recipe_from_json(to_json(recipe), "x")) == recipe);
                auto out = folder / "out.mp4";
                fs::remove(out);
                auto result = made(fixture(name).string(), out, recipe);
                std::shared_ptr<Clip> again = value(open_clip(out.string()));
                auto& is = again->info().main(Kind::video)->video.colour;
                CHECK(is.matrix == (matrix == Matrix::unspecified ? given.matrix : matrix));
                CHECK(is.range == (range == Range::unspecified ? given.range : range));
                bool changes = is.matrix != given.matrix || is.range != given.range;
                CHECK(says(result, "colours-converted") == changes);
                converted += changes;
                auto after = render(value(first_frame(again)), 160, 90);
                double off = 0;
                for (std::size_t k = 0; k < before.pixels.size(); ++k)
                    off += std::abs(before.pixels[k] - after.pixels[k]);
                CHECK(off / static_cast<double>(before.pixels.size()) < 2.5);
            }
    }
    CHECK(converted == 16);
    // A target that shows full range wrongly gets it converted, and refuses to be given it.
    auto target = value(find_target("handset-basic"));
    auto full = fixture("colour_bt709_full_h264.mp4").string();
    auto for_it =
        value(convert(full, {.out = folder / "t.mp4", .recipe = {}, .target = target}, CodecRegistry::standard()));
    CHECK(value(open_clip((folder / "t.mp4").string()))->info().main(Kind::video)->video.colour.range ==
          Range::limited);
    Recipe wrong;
    wrong.video.range = Range::full;
    auto no = convert(full, {.out = folder / "n.mp4", .recipe = wrong, .target = target}, CodecRegistry::standard());
    REQUIRE_FALSE(no);
    CHECK(no.error().sentence.find("full range") != std::string::npos);
}

TEST_CASE("An AV1 conversion stops within half a second, whatever the effort, and the next one is right", "[convert]") {
    Folder folder;
    auto clip = fixture("h264_high_aac.mp4");
    for (int effort : {0, 2}) {
        Recipe recipe;
        recipe.video.codec = Codec::av1, recipe.video.effort = effort;
        recipe.audio.action = Recipe::Do::none;
        BareTimer timer;
        Time stopped{};
        int asked = 0;
        auto result = convert(clip.string(),
                              {.out = folder / "never.webm",
                               .recipe = recipe,
                               .target = {},
                               .told =
                                   [&](auto&) {
                                       if (++asked < 3) return true;
                                       stopped = monotonic_now();
                                       return false;
                                   }},
                              CodecRegistry::standard());
        auto took = monotonic_now() - stopped;
        INFO(effort << ": " << took.ms() << " ms");
        REQUIRE_FALSE(result);
        CHECK(result.error().code == ErrorCode::cancelled);
        CHECK(took < 500_ms + timer.stood() * 4);
        CHECK(fs::is_empty(folder.path));
    }
    // What was left behind goes on beside it and disturbs nothing.
    Recipe recipe;
    recipe.video.codec = Codec::av1, recipe.to = 500_ms;
    auto after = made(clip.string(), folder / "after.webm", recipe);
    CHECK(after.video.frames == 15);
}
