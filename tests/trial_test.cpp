// SPDX-License-Identifier: Apache-2.0
// A stretch tried before the whole is made.
#include "conversions.h"
#include "convert/trial.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("A part is held against the stretch it was made of", "[sample-encode]") {
    Folder folder;
    auto source = fixture("h264_high_aac.mp4").string();
    std::mt19937 random(8);
    for (int i = 0; i < 4; ++i) {
        Recipe r;
        r.from = Time{static_cast<std::int64_t>(random() % 4'000'000'000U)};
        r.to = r.from + 700_ms + Time{static_cast<std::int64_t>(random() % 900'000'000U)};
        r.video.action = Recipe::Do::encode, r.video.codec = Codec::h264, r.video.quality = i % 2 ? 40 : 0;
        auto part = folder / "p.mp4";
        (void)value(convert(source, {.out = part, .recipe = r, .target = {}, .replace = Replace::anything},
                            CodecRegistry::standard()));
        auto c =
            value(compare(source, part.string(), CodecRegistry::standard(), {.at = {}, .from = r.from, .to = *r.to}));
        INFO(r.from.ns << " to " << r.to->ns);
        // Every picture of the stretch, and the one that is seen where it begins.
        auto seen = frames_in(fixture("h264_high_aac.mp4"));
        auto wanted = std::count_if(seen.begin(), seen.end(), [&](auto& s) { return s.pts > r.from && s.pts < *r.to; });
        CHECK(c.frames == static_cast<std::uint64_t>(wanted) + 1);
        CHECK(c.places.front().at == r.from);
        CHECK((c.ssim_y > (i % 2 ? 0.6 : 0.995) && c.ssim_y <= 1));
        if (i % 2) CHECK(c.worst(1).at(0).ssim_y < 0.999);
    }
}

TEST_CASE("The hardest stretch is where the bytes are", "[sample-encode]") {
    Folder folder;
    // Grey for five seconds, with noise in the middle.
    std::mt19937 random(3);
    auto path = drawn_clip(folder / "hard.webm", 160, 90, 50, [&](int i, std::uint8_t* rows, int stride) {
        for (int n = 0; i >= 22 && i < 32 && n < stride * 90; ++n) rows[n] = static_cast<std::uint8_t>(random());
    });
    auto clip = value(open_clip(path.string()));
    auto at = value(hardest_stretch(*clip, 1_s));
    CHECK((at >= 2_s && at <= 2400_ms));
    CHECK(value(hardest_stretch(*clip, 4_s)) == Time{});
    auto audio = open("audio.flac");
    CHECK(value(hardest_stretch(*audio, 1_s)) == Time{});
}

TEST_CASE("The hardest moment of a stretch lies in it, and how far a trial is only rises", "[sample-encode]") {
    auto clip = test::open("h264_high_aac.mp4");
    for (auto from : {0_s, 1_s, 2500_ms}) {
        auto at = value(hardest_stretch(*clip, 200_ms, {from, from + 2_s}));
        CHECK((at >= from && at + 200_ms <= from + 2_s));
    }
    CHECK(value(hardest_stretch(*clip, 200_ms, {1_s, 1250_ms})) == 1_s);  // hardly longer
    Folder folder;
    SampleEncodeOptions o;
    o.recipe.video.codec = Codec::vp9, o.recipe.video.effort = 0;
    o.file = folder / "t.webm", o.length = 1_s;
    std::vector<double> told;
    o.told = [&](double part) { told.push_back(part); };
    auto sample_encode = value(encode_sample(fixture("h264_high_aac.mp4").string(), o, CodecRegistry::standard()));
    CHECK(sample_encode.likeness.frames == 30);
    REQUIRE_FALSE(told.empty());
    CHECK(std::is_sorted(told.begin(), told.end()));
    CHECK((told.front() >= 0 && told.back() > 0.8 && told.back() <= 1));
}

TEST_CASE("Whatever a size becomes, there are words for it", "[sample-encode]") {
    SampleEncode t;
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

TEST_CASE("A trial says what the whole will be, and the whole is about that", "[sample-encode]") {
    Folder folder;
    SampleEncodeOptions o;
    o.file = folder / "t.mp4", o.length = 2_s;
    o.recipe.video.action = Recipe::Do::encode, o.recipe.video.codec = Codec::h264, o.recipe.video.effort = 0;
    auto source = fixture("vp9_opus.webm").string();
    auto clip = value(open_clip(source));
    o.from = value(hardest_stretch(*clip, o.length));
    auto sample_encode = value(encode_sample(source, o, CodecRegistry::standard()));
    CHECK((sample_encode.from == o.from && sample_encode.to == o.from + 2_s));
    CHECK(std::abs((sample_encode.made.duration - 2_s).ns) < 60'000'000);
    CHECK((sample_encode.before.size() == 20 && sample_encode.after.size() >= 19));
    CHECK((sample_encode.likeness.frames >= 59 && sample_encode.likeness.frames <= 61));
    CHECK(sample_encode.sentence().find("least alike at 0:0") != std::string::npos);
    for (auto* keys : {&sample_encode.keys_before, &sample_encode.keys_after}) {
        CHECK((std::is_sorted(keys->begin(), keys->end()) && !keys->empty()));
        CHECK((keys->front() >= sample_encode.from && keys->back() < sample_encode.to));
    }
    CHECK(sample_encode.keys_after.front() == sample_encode.from);
    auto whole = made(source, folder / "w.mp4", o.recipe);
    INFO(sample_encode.whole_bytes << " was foretold, " << whole.bytes << " came");
    CHECK((sample_encode.whole_bytes > whole.bytes / 2 && sample_encode.whole_bytes < whole.bytes * 2));
    CHECK(sample_encode.whole_took.ns > 0);
    // Near the end, and of a cut.
    o.from = 5500_ms, o.recipe.from = 1_s, o.recipe.to = 4_s;
    auto late = value(encode_sample(source, o, CodecRegistry::standard()));
    CHECK((late.from == 2_s && late.to == 4_s));
    // Copied pictures are the same.
    SampleEncodeOptions copy;
    copy.file = folder / "c.webm", copy.length = 10_s;
    auto same = value(encode_sample(source, copy, CodecRegistry::standard()));
    CHECK(same.sentence().find("copied") != std::string::npos);
    CHECK(same.before == same.after);
    CHECK_FALSE(fs::exists(copy.file));
    CHECK(same.likeness.frames == 0);
    // Sound alone has no pictures to be held against each other.
    SampleEncodeOptions audio;
    audio.file = folder / "s.mp3";
    CHECK(value(encode_sample(fixture("audio.flac").string(), audio, CodecRegistry::standard())).likeness.frames == 0);
    std::atomic<bool> cancel = true;
    o.cancel = &cancel;
    CHECK(encode_sample(source, o, CodecRegistry::standard()).error().code == ErrorCode::cancelled);
}

TEST_CASE("Where a picture is least alike is said, where it stands out", "[sample-encode]") {
    Folder folder;
    // The same grey twice, with noise in one part of one picture of the second.
    std::mt19937 random(3);
    auto clip_with = [&](const char* name, int part) {
        auto draw = [&](int i, std::uint8_t* rows, int stride) {
            for (int y = 0; i == 5 && part >= 0 && y < 26; ++y)
                for (int x = 0; x < 56; ++x)
                    rows[(part / 3 * 30 + 2 + y) * stride + part % 3 * 60 + 2 + x] =
                        static_cast<std::uint8_t>(random());
        };
        return drawn_clip(folder / name, 180, 90, 10, draw).string();
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
        SampleEncode t;
        t.likeness = c, t.source_bytes = t.whole_bytes = 1000;
        CHECK(t.sentence().find("least alike at 0:00.5, " + std::string(part_in_words(part))) != std::string::npos);
    }
    CHECK(words.size() == 9);
    CHECK_FALSE(value(compare(grey, grey, CodecRegistry::standard())).worst(1).at(0).part);
    // What comes without end can't be held against anything.
    for (auto& [a, b] : {std::pair{std::string("camera://harbour"), grey}, {grey, "camera://harbour"}})
        CHECK(compare(a, b, CodecRegistry::standard(), {}).error().code == ErrorCode::refused);
}
