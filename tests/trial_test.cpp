// SPDX-License-Identifier: Apache-2.0
// A stretch tried before the whole is made.
#include "conversions.h"
#include "convert/trial.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("a part is held against the stretch it was made of") {
    Folder folder;
    auto source = fixture("h264_high_aac.mp4").string();
    std::mt19937 random(8);
    for (int i = 0; i < 4; ++i) {
        Recipe r;
        r.from = Time{static_cast<std::int64_t>(random() % 4'000'000'000U)};
        r.to = r.from + 700_ms + Time{static_cast<std::int64_t>(random() % 900'000'000U)};
        r.video.action = Recipe::Do::encode, r.video.codec = Codec::h264, r.video.quality = i % 2 ? 40 : 0;
        auto part = folder / "p.mp4";
        (void)value(
            convert(source, {.out = part, .recipe = r, .target = {}, .replace = true}, CodecRegistry::standard()));
        auto c =
            value(compare(source, part.string(), CodecRegistry::standard(), {.at = {}, .from = r.from, .to = *r.to}));
        INFO(r.from.ns << " to " << r.to->ns);
        // Every picture of the stretch, and the one that is seen where it begins.
        auto seen = pictures_in(fixture("h264_high_aac.mp4"));
        auto wanted = std::count_if(seen.begin(), seen.end(), [&](auto& s) { return s.pts > r.from && s.pts < *r.to; });
        CHECK(c.frames == static_cast<std::uint64_t>(wanted) + 1);
        CHECK(c.places.front().at == r.from);
        CHECK((c.ssim_y > (i % 2 ? 0.6 : 0.995) && c.ssim_y <= 1));
        if (i % 2) CHECK(c.worst(1).at(0).ssim_y < 0.999);
    }
}

TEST_CASE("the hardest stretch is where the bytes are") {
    Folder folder;
    // Grey for five seconds, with noise in the middle.
    std::vector<Time> times;
    for (int i = 0; i < 50; ++i) times.push_back(100_ms * i);
    auto path = folder / "hard.webm";
    auto encoder = value(CodecRegistry::standard().video_encoder(
        Codec::vp8, {.width = 160, .height = 90, .rate = {10, 1}, .control = VideoEncodeOptions::Control::quality}));
    auto writer = value(write_webm(path));
    WriteTrack v;
    v.codec = Codec::vp8, v.config = encoder->config(), v.video = {160, 90};
    auto number = value(writer->add(v));
    std::mt19937 random(3);
    std::vector<Encoded> packets;
    for (std::size_t i = 0; i < times.size(); ++i) {
        std::array<std::uint8_t*, 3> planes{};
        auto p = make_picture(160, 90, planes);
        for (std::size_t k = 0; k < 3; ++k) std::fill_n(planes[k], p.stride[k] * (k ? 45 : 90), 128);
        if (i >= 22 && i < 32)
            for (int n = 0; n < p.stride[0] * 90; ++n) planes[0][n] = static_cast<std::uint8_t>(random());
        p.pts = times[i];
        done(encoder->encode(p, packets));
    }
    done(encoder->drain(packets));
    for (auto& e : packets) done(writer->write(number, {e.pts, e.dts, 100_ms, e.keyframe, e.data}));
    done(writer->finish());
    auto clip = value(open_clip(path.string()));
    auto at = value(hardest_stretch(*clip, 1_s));
    CHECK((at >= 2_s && at <= 2400_ms));
    CHECK(value(hardest_stretch(*clip, 4_s)) == Time{});
    auto sound = open("audio.flac");
    CHECK(value(hardest_stretch(*sound, 1_s)) == Time{});
}

TEST_CASE("whatever a size becomes, there are words for it") {
    Trial t;
    t.source_bytes = 1'000'000;
    for (std::uint64_t whole = 0; whole < 4'000'000; whole += whole < 2000 ? 1 : 997) {
        t.whole_bytes = whole;
        auto said = t.sentence();
        INFO(whole << ": " << said);
        CHECK((said.size() > 10 && said.size() < 60 && said.ends_with('.')));
        CHECK((std::isupper(static_cast<unsigned char>(said[0])) || std::isdigit(static_cast<unsigned char>(said[0]))));
        CHECK(said.find("size") != std::string::npos);
    }
    t.whole_bytes = 700'000;
    CHECK(t.sentence() == "Two thirds of the size.");
    t.whole_bytes = 30'000;
    CHECK(t.sentence() == "3 % of the size.");
}

TEST_CASE("a trial says what the whole will be, and the whole is about that") {
    Folder folder;
    TrialOptions o;
    o.file = folder / "t.mp4", o.length = 2_s;
    o.recipe.video.action = Recipe::Do::encode, o.recipe.video.codec = Codec::h264, o.recipe.video.effort = 0;
    auto source = fixture("vp9_opus.webm").string();
    auto clip = value(open_clip(source));
    o.from = value(hardest_stretch(*clip, o.length));
    auto trial = value(try_out(source, o, CodecRegistry::standard()));
    CHECK((trial.from == o.from && trial.to == o.from + 2_s));
    CHECK(std::abs((trial.made.duration - 2_s).ns) < 60'000'000);
    CHECK((trial.before.size() == 20 && trial.after.size() >= 19));
    CHECK((trial.likeness.frames >= 59 && trial.likeness.frames <= 61));
    CHECK(trial.sentence().find("least alike at 0:0") != std::string::npos);
    for (auto* keys : {&trial.keys_before, &trial.keys_after}) {
        CHECK((std::is_sorted(keys->begin(), keys->end()) && !keys->empty()));
        CHECK((keys->front() >= trial.from && keys->back() < trial.to));
    }
    CHECK(trial.keys_after.front() == trial.from);
    auto whole = made(source, folder / "w.mp4", o.recipe);
    INFO(trial.whole_bytes << " was foretold, " << whole.bytes << " came");
    CHECK((trial.whole_bytes > whole.bytes / 2 && trial.whole_bytes < whole.bytes * 2));
    CHECK(trial.whole_took.ns > 0);
    // Near the end, and of a cut.
    o.from = 5500_ms, o.recipe.from = 1_s, o.recipe.to = 4_s;
    auto late = value(try_out(source, o, CodecRegistry::standard()));
    CHECK((late.from == 2_s && late.to == 4_s));
    // Copied pictures are the same.
    TrialOptions copy;
    copy.file = folder / "c.webm", copy.length = 10_s;
    auto same = value(try_out(source, copy, CodecRegistry::standard()));
    CHECK(same.sentence().find("copied") != std::string::npos);
    CHECK(same.before == same.after);
    CHECK_FALSE(fs::exists(copy.file));
    CHECK(same.likeness.frames == 0);
    // Sound alone has no pictures to be held against each other.
    TrialOptions sound;
    sound.file = folder / "s.mp3";
    CHECK(value(try_out(fixture("audio.flac").string(), sound, CodecRegistry::standard())).likeness.frames == 0);
    std::atomic<bool> cancel = true;
    o.cancel = &cancel;
    CHECK(try_out(source, o, CodecRegistry::standard()).error().code == Code::cancelled);
}

TEST_CASE("where a picture is least alike is said, where it stands out") {
    Folder folder;
    // The same grey twice, with noise in one part of one picture of the second.
    auto clip_with = [&](const char* name, int part) {
        auto encoder = value(CodecRegistry::standard().video_encoder(
            Codec::vp8,
            {.width = 180, .height = 90, .rate = {10, 1}, .control = VideoEncodeOptions::Control::quality}));
        auto writer = value(write_webm(folder / name));
        WriteTrack v;
        v.codec = Codec::vp8, v.config = encoder->config(), v.video = {180, 90};
        auto number = value(writer->add(v));
        std::mt19937 random(3);
        std::vector<Encoded> packets;
        for (int i = 0; i < 10; ++i) {
            std::array<std::uint8_t*, 3> planes{};
            auto p = make_picture(180, 90, planes);
            for (std::size_t k = 0; k < 3; ++k) std::fill_n(planes[k], p.stride[k] * (k ? 45 : 90), 128);
            for (int y = 0; i == 5 && part >= 0 && y < 26; ++y)
                for (int x = 0; x < 56; ++x)
                    planes[0][(part / 3 * 30 + 2 + y) * p.stride[0] + part % 3 * 60 + 2 + x] =
                        static_cast<std::uint8_t>(random());
            p.pts = 100_ms * i;
            done(encoder->encode(p, packets));
        }
        done(encoder->drain(packets));
        for (auto& e : packets) done(writer->write(number, {e.pts, e.dts, 100_ms, e.keyframe, e.data}));
        done(writer->finish());
        return (folder / name).string();
    };
    auto grey = clip_with("grey.webm", -1);
    std::set<std::string_view> words;
    for (int part = 0; part < 9; ++part) {
        auto name = "other" + std::to_string(part) + ".webm";
        auto other = clip_with(name.c_str(), part);
        auto c = value(compare(grey, other, CodecRegistry::standard()));
        INFO(part);
        CHECK(c.worst(1).at(0).at == 500_ms);
        CHECK(c.worst(1).at(0).part == part);
        words.insert(part_in_words(part));
        Trial t;
        t.likeness = c, t.source_bytes = t.whole_bytes = 1000;
        CHECK(t.sentence().find("least alike at 0:00.5, " + std::string(part_in_words(part))) != std::string::npos);
    }
    CHECK(words.size() == 9);
    CHECK_FALSE(value(compare(grey, grey, CodecRegistry::standard())).worst(1).at(0).part);
}
