// SPDX-License-Identifier: Apache-2.0
// What is made for a target is taken there, what it proposes can be carried out, and what it does not take is named.
#include <nlohmann/json.hpp>

#include "conversions.h"
#include "convert/forecast.h"
#include "facts/facts.h"
#include "media/codec_headers.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
Verdict judged(const std::string& file, const Target& target) {
    std::shared_ptr<Clip> clip = value(open_clip(file));
    auto facts = value(gather_facts(clip, CodecRegistry::standard(), file, {.loudness = false}));
    return judge(facts, target, CodecRegistry::standard(), file);
}
/// The first second, quickly.
Result<Converted> begun(const std::string& in, const fs::path& out, const Target& target, Recipe recipe = {}) {
    recipe.video.effort = 0;
    if (!recipe.to) recipe.to = 1_s;
    return convert(in, {.out = out, .recipe = recipe, .target = target, .replace = Replace::anything},
                   CodecRegistry::standard());
}
Target target_of(nlohmann::json video, nlohmann::json audio, std::uint64_t bundle = 0) {
    return value(target_from_json({{"format", "ruedo-target"},
                                   {"version", 1},
                                   {"name", "t"},
                                   {"title", "Box"},
                                   {"containers", {"mp4"}},
                                   {"video", std::move(video)},
                                   {"audio", std::move(audio)},
                                   {"bundle_bytes", bundle}},
                                  "t.json"));
}
/// A second of 60 pictures a second, larger than small screens are.
const fs::path& fast_clip() {
    static const Folder folder;
    static const fs::path path = [] {
        demo::ClipSpec spec;
        spec.file = "fast.mp4", spec.video = Codec::h264, spec.audio = Codec::aac;
        spec.width = 854, spec.height = 480, spec.rate = {60, 1}, spec.seconds = 2, spec.numbered = true;
        spec.draw = [](demo::Canvas&, double) {};
        spec.sample = demo::burst;
        done(demo::make_clip(spec, folder.path, CodecRegistry::standard()));
        return folder / "fast.mp4";
    }();
    return path;
}
}  // namespace

TEST_CASE("What is made for a target plays there, whatever it is made of", "[targets][recipe]") {
    Folder folder;
    std::vector<std::string> sources;
    for (auto name : {"h264_high_aac.mp4", "vp9_opus.webm", "theora_vorbis.ogv", "rotate90.mp4", "par43_sps.mp4",
                      "mjpeg_pcm.avi", "audio_opus.ogg", "odd_853x481_vp9.webm"})
        sources.push_back(fixture(name).string());
    sources.push_back(fast_clip().string());
    for (auto& target : all_targets())
        for (auto& source : sources) {
            INFO(fs::path(source).filename().string() << " for " << target.name);
            auto before = judged(source, target);
            REQUIRE(before.plays != Verdict::Plays::no);
            std::shared_ptr<Clip> clip = value(open_clip(source));
            auto proposal = value(propose(clip, target, CodecRegistry::standard(), source));
            CHECK(proposal.needed == (before.plays == Verdict::Plays::after_conversion));
            CHECK_FALSE(proposal.why.empty());
            for (auto& s : proposal.why) CHECK(s.ends_with('.'));
            if (!proposal.needed &&
                container_format_named(proposal.recipe.container_format)->container == clip->info().container) {
                CHECK(proposal.recipe.video.action != Recipe::Do::encode);
                CHECK(proposal.recipe.audio.action != Recipe::Do::encode);
            }
            auto* container_format = container_format_named(proposal.recipe.container_format);
            REQUIRE(container_format);
            auto out = folder / ("out." + std::string(container_format->extensions.front()));
            // The same whether it is left to the target, or said as it proposes it.
            auto left_to_it = value(begun(source, out, target));
            CHECK(judged(out.string(), target).plays == Verdict::Plays::yes);
            auto again = value(recipe_from_json(to_json(proposal.recipe), "proposal"));
            CHECK(again == proposal.recipe);
            auto clip_again = std::shared_ptr<Clip>(value(open_clip(source)));
            auto plan = value(plan_for(clip_again->info(), again, *container_format, CodecRegistry::standard(), &target,
                                       from_packets(clip_again, source)));
            CHECK(plan.encode_video == (proposal.recipe.video.action == Recipe::Do::encode));
            if (plan.encode_video) {
                CHECK(plan.video_codec == left_to_it.video.codec);
                CHECK(plan.format.width == left_to_it.video.width);
                CHECK(plan.format.height == left_to_it.video.height);
            }
        }
}

TEST_CASE("Profile, level, size, rate and channels stay within any rules", "[targets][recipe]") {
    Folder folder;
    std::mt19937 random(12);
    auto one_of = [&](auto... v) { return std::array{v...}[random() % sizeof...(v)]; };
    Recipe beginning;
    beginning.to = 1_s;
    for (int i = 0; i < 24; ++i) {
        nlohmann::json rule{{"codec", "h264"}};
        if (random() % 2) rule["profiles"] = {one_of("baseline", "main", "high")};
        if (random() % 4) rule["max_level"] = one_of(10, 11, 12, 13, 21, 30, 31);
        if (random() % 2) rule["max_width"] = 64 + 2 * (random() % 300), rule["max_height"] = 64 + 2 * (random() % 200);
        if (random() % 2) rule["max_rate"] = 5 + random() % 40;
        nlohmann::json audio{{"codec", "aac"}};
        if (random() % 2) audio["max_rate"] = one_of(8000, 22050, 44100);
        if (random() % 2) audio["max_channels"] = 1;
        auto target = target_of({rule}, {audio});
        auto source = random() % 2 ? fast_clip().string() : fixture("h264_high_vorbis.mkv").string();
        INFO(rule.dump() << audio.dump() << source);
        value(begun(source, folder / "o.mp4", target, beginning));
        auto after = judged((folder / "o.mp4").string(), target);
        INFO(after.sentence());
        CHECK(after.plays == Verdict::Plays::yes);
    }
    CHECK((h264_level(1920, 1088, 30) == 40 && h264_level(720, 480, 30) == 30 && h264_level(176, 144, 30) == 11));
    CHECK((h264_level(176, 144, 15) == 10 && h264_level(3840, 2160, 60) == 52 && vp9_level(3840, 2160, 60) == 51));
}

TEST_CASE("What is too large for a bundle is made to fit into it", "[targets][recipe]") {
    Folder folder;
    auto source = fixture("h264_high_aac.mp4").string();
    for (std::uint64_t bundle : {45'000U, 60'000U}) {
        auto target = target_of({{{"codec", "h264"}}}, {{{"codec", "aac"}}}, bundle);
        Recipe r;
        r.to = 3_s, r.audio.bitrate = 32'000;
        auto made_of_it = value(begun(source, folder / "b.mp4", target, r));
        INFO(bundle);
        CHECK(made_of_it.bytes <= bundle);
        CHECK(fs::file_size(folder / "b.mp4") == made_of_it.bytes);
        CHECK(judged((folder / "b.mp4").string(), target).plays == Verdict::Plays::yes);
    }
    // Good enough, it fits; better than that it would not, and is made again.
    auto target = target_of({{{"codec", "h264"}}}, {{{"codec", "aac"}}}, 60'000);
    Recipe fine;
    fine.to = 3_s, fine.video.quality = 1, fine.audio.bitrate = 32'000;
    auto again = value(begun(source, folder / "f.mp4", target, fine));
    CHECK(says(again, "made-to-fit"));
    CHECK(again.bytes <= 60'000);
    auto hopeless = begun(source, folder / "h.mp4", target_of({{{"codec", "h264"}}}, {{{"codec", "aac"}}}, 9'000), {});
    CHECK(hopeless.error().code == ErrorCode::limit);
    holds_only(folder, {"b.mp4", "f.mp4"});
}

TEST_CASE("A recipe that a target does not take says where", "[targets][recipe]") {
    auto target = target_of({{{"codec", "h264"}, {"max_width", 320}, {"max_height", 240}, {"max_rate", 25}}},
                            {{{"codec", "aac"}, {"max_rate", 44100}, {"max_channels", 1}}}, 1'000'000);
    Folder folder;
    for (auto [at, recipe] : {std::pair{"/video/codec", R"({"video":{"codec":"av1"}})"},
                              {"/video/width", R"({"video":{"codec":"h264","width":640}})"},
                              {"/video/width", R"({"video":{"codec":"h264","width":320,"height":300}})"},
                              {"/video/rate", R"({"video":{"codec":"h264","rate":"30000/1001"}})"},
                              {"/audio/codec", R"({"audio":{"codec":"mp3"}})"},
                              {"/audio/channels", R"({"audio":{"codec":"aac","channels":2}})"},
                              {"/audio/sample_rate", R"({"audio":{"codec":"aac","sample_rate":48000}})"},
                              {"/video/width", R"({"video":{"width":640}})"},
                              {"/video/height", R"({"video":{"height":330}})"},
                              {"/video/rate", R"({"video":{"rate":"60"}})"},
                              {"/audio/channels", R"({"audio":{"channels":2,"bitrate":64000}})"},
                              {"/wrapper", R"({"wrapper":"webm"})"},
                              {"/fit_bytes", R"({"fit_bytes":2000000})"}}) {
        INFO(recipe);
        auto r = value(recipe_from_json(nlohmann::json::parse(recipe), "r.json"));
        auto result = begun(fixture("h264_high_aac.mp4").string(), folder / "x.mp4", target, r);
        REQUIRE_FALSE(result.has_value());
        CHECK(result.error().code == ErrorCode::refused);
        CHECK(result.error().sentence.find(at) != std::string::npos);
        CHECK(result.error().sentence.find("Box") != std::string::npos);
    }
    holds_only(folder, {});
}

TEST_CASE("The time that is left is foretold from what the source spent where", "[targets][recipe]") {
    std::mt19937 random(5);
    std::uniform_real_distribution<double> noise(0.85, 1.15);
    // A clip whose second half is harder, as hard as this, on machines to which bytes matter more or less.
    for (double harder : {1.0, 2.0, 4.0})
        for (double power : {0.2, 0.35, 0.5})
            for (double second_pass : {0.0, 0.7}) {
                constexpr int parts = 240;
                std::vector<Forecast::Part> known;
                std::vector<double> costs;
                auto add = [&](double share) {
                    for (int i = 0; i < parts; ++i) {
                        auto density = (i < parts / 2 ? 1 : harder) * noise(random);
                        known.push_back({share / parts, density});
                        costs.push_back(60 * share / parts * std::pow(density, power) * noise(random));
                    }
                };
                if (second_pass > 0) add(1 - second_pass);
                add(second_pass > 0 ? second_pass : 1);
                auto whole = std::accumulate(costs.begin(), costs.end(), 0.0);
                Forecast forecast(known);
                CHECK_FALSE(forecast.left());
                double now = 100, done_so_far = 0, worst = 0;
                forecast.reached(0, Time{static_cast<std::int64_t>(now * 1e9)});
                for (std::size_t i = 0; i < costs.size(); ++i) {
                    now += costs[i], done_so_far += known[i].share;
                    forecast.reached(done_so_far, Time{static_cast<std::int64_t>(now * 1e9)});
                    auto gone = now - 100;
                    if (gone < whole / 4 || gone > whole - 1) continue;
                    auto left = forecast.left();
                    REQUIRE(left);
                    worst = std::max(worst, std::abs(left->seconds() - (whole - gone)) / whole);
                }
                INFO(harder << " times as hard, to the power of " << power << ", passes " << (second_pass > 0 ? 2 : 1));
                CHECK(worst < 0.2);
                CHECK(forecast.left().value_or(1_s) < 1_s);
            }
    // Without anything known, all is alike; a machine that becomes slower is believed.
    Forecast plain;
    double now = 0;
    for (int i = 0; i <= 200; ++i) {
        plain.reached(i / 400.0, Time{static_cast<std::int64_t>(now * 1e9)});
        now += i < 100 ? 0.1 : 0.3;
    }
    auto left = plain.left();
    REQUIRE(left);
    CHECK((*left > 48_s && *left < 64_s));
    // Never backwards, never without an end.
    plain.reached(0.1, 50_s);
    plain.reached(1, 60_s);
    CHECK(plain.left().value_or(Time::max()) < 1_s);
}
