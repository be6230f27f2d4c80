// SPDX-License-Identifier: Apache-2.0
// Facts and findings with their numbers, and verdicts for targets.
#include <fstream>
#include <set>

#include "convert/targets.h"
#include "facts/keep.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
SourceFacts facts_of(const std::string& name, bool loudness = false, const std::string& address = {}) {
    return value(gather_facts(open(name), CodecRegistry::standard(), address,
                              {.loudness = loudness, .cancel = nullptr, .so_far = {}}));
}
std::set<std::string> codes(const SourceFacts& f) {
    std::set<std::string> all;
    for (auto& x : f.findings) {
        all.insert(x.code);
        CHECK_FALSE(x.sentence.empty());
        CHECK_FALSE(x.hint.empty());
    }
    return all;
}
Target target(const std::string& name) { return value(find_target(name)); }
Verdict verdict(const std::string& file, const std::string& name, const std::string& address = {}) {
    return judge(facts_of(file), target(name), CodecRegistry::standard(), address);
}
using Plays = Verdict::Plays;
using Words = std::vector<std::string>;
}  // namespace

TEST_CASE("Every byte of every packet is counted once, and the chart covers the whole length", "[facts]") {
    for (auto& name : playable()) {
        INFO(name);
        auto clip = open(name);
        std::uint64_t bytes = 0;
        for (auto& track : clip->info().tracks) {
            auto reader = clip->reader(track.id);
            PacketHead head;
            while (value(reader->next(head))) bytes += head.size;
        }
        auto f = facts_of(name);
        std::uint64_t sum = 0;
        for (auto& b : f.bins) sum += b.bytes;
        CHECK(sum <= bytes);
        CHECK(sum >= bytes * 97 / 100);  // packets after an edit's end are not walked into
        CHECK(f.bins.back().at <= f.duration);
        CHECK(f.bins.back().at + f.bin * 12 >= f.duration);
        CHECK_FALSE(f.first_sentence.empty());
        CHECK(f.first_sentence.ends_with("."));
        CHECK(f.second_sentence.ends_with("."));
        CHECK(f.peak_bitrate >= f.mean_bitrate * 0.99);
    }
}

TEST_CASE("Findings are there where they are true, and nowhere else", "[facts]") {
    struct Case {
        const char* code;
        std::set<std::string> in;
    };
    std::vector<std::string> all = playable();
    all.push_back("h264_10bit.mp4");
    for (auto& c :
         {Case{"rotated", {"rotate90.mp4"}}, Case{"non-square-pixels", {"par43_sps.mp4", "par43_display.mkv"}},
          Case{"odd-size", {"odd_853x481_vp9.webm"}}, Case{"sound-late", {"edit_empty_audio_1s.mp4"}},
          Case{"bit-depth", {"h264_10bit.mp4"}}, Case{"chained", {}}})
        for (auto& name : all) {
            INFO(c.code << " in " << name);
            CHECK((codes(facts_of(name)).count(c.code) > 0) == (c.in.count(name) > 0));
        }
    CHECK(codes(facts_of("vfr_h264.mp4")).count("varying-rate"));
    CHECK_FALSE(codes(facts_of("h264_high_aac.mp4")).count("varying-rate"));
    CHECK(codes(facts_of("h264_high_aac.mp4", false, "http://127.0.0.1/h264_high_aac.mp4")).count("clear-text"));
}

TEST_CASE("A finding's numbers are the file's own", "[facts]") {
    // The index moved behind the media.
    Folder folder;
    demo::ClipSpec spec;
    spec.file = "long.webm", spec.video = Codec::vp9, spec.audio = Codec::opus, spec.width = 96, spec.height = 54,
    spec.seconds = 14, spec.keyframe_every = 240, spec.bitrate = 40'000;
    spec.draw = [](demo::Canvas& c, double) { c.gradient({60, 70, 90}, {90, 80, 60}); };
    spec.sample = demo::burst;
    done(demo::make_clip(spec, folder.path, CodecRegistry::standard()));
    std::shared_ptr<Clip> clip = value(open_clip(folder / "long.webm"));
    auto f =
        value(gather_facts(clip, CodecRegistry::standard(), {}, {.loudness = false, .cancel = nullptr, .so_far = {}}));
    auto sparse =
        std::find_if(f.findings.begin(), f.findings.end(), [](auto& x) { return x.code == "sparse-keyframes"; });
    REQUIRE(sparse != f.findings.end());
    CHECK(sparse->sentence.find("8.0 s") != std::string::npos);
    CHECK(f.keyframes == std::vector<Time>{0_s, 8_s});
}

TEST_CASE("Loudness is that of the samples", "[facts]") {
    // Bursts of 50 ms a second: the gate of the standard leaves what is loud.
    auto f = facts_of("audio.flac", true);
    REQUIRE(f.loudness);
    CHECK(f.loudness->samples_of == 0);
    CHECK(f.loudness->integrated > -40);
    CHECK(f.loudness->integrated < -5);
    auto other = facts_of("audio_opus.ogg", true);
    CHECK(std::abs(other.loudness->integrated - f.loudness->integrated) < 1.0);
    auto marked = std::count_if(f.bins.begin(), f.bins.end(), [](auto& b) { return b.loudness.has_value(); });
    CHECK(marked > 40);
    std::atomic<bool> cancel = true;
    auto stopped = gather_facts(open("audio.flac"), CodecRegistry::standard(), {},
                                {.loudness = true, .cancel = &cancel, .so_far = {}});
    REQUIRE_FALSE(stopped.has_value());
    CHECK(stopped.error().code == ErrorCode::cancelled);
}

TEST_CASE("What ships as a target can be read, and each takes something that it should", "[facts]") {
    std::vector<Error> problems;
    auto all = all_targets(&problems);
    CHECK(problems.empty());
    CHECK(all.size() >= 6);
    CHECK(verdict("h264_high_aac.mp4", "handset-recent").plays == Plays::yes);
    CHECK(verdict("vp9_opus.webm", "open-web-view").plays == Plays::yes);
    CHECK(verdict("theora_vorbis.ogv", "scene-engine-open").plays == Plays::yes);
    CHECK(verdict("h264_high_aac.mp4", "scene-engine-mp4").plays == Plays::yes);
    for (auto& name : playable()) CHECK(verdict(name, "desktop").plays == Plays::yes);
}

TEST_CASE("A verdict says which part has to change, and why", "[facts]") {
    CHECK(verdict("h264_aac.ts", "handset-recent").needs == Words{"wrapper"});
    CHECK(verdict("h264_high_vorbis.mkv", "handset-recent").needs == Words{"sound", "wrapper"});
    CHECK(verdict("h264_cbp_opus_frag.mp4", "scene-engine-mp4").needs == Words{"sound"});
    CHECK(verdict("theora_vorbis.ogv", "handset-recent").needs == Words{"pictures", "sound", "wrapper"});
    CHECK(verdict("vp9_opus.webm", "scene-engine-mp4").plays == Plays::after_conversion);
    auto high = verdict("h264_high_aac.mp4", "handset-basic");
    CHECK(high.needs == Words{"pictures"});
    CHECK(high.reasons.front().find("high") != std::string::npos);
    CHECK(verdict("h264_high_aac.mp4", "handset-recent", "http://127.0.0.1/x.mp4").needs ==
          Words{"wrapper", "address"});
    CHECK(verdict("h264_high_aac.mp4", "handset-recent", "https://127.0.0.1/x.mp4").needs == Words{"wrapper"});
    auto deep = verdict("h264_10bit.mp4", "open-web-view");
    CHECK(deep.plays == Plays::no);
    auto locked = facts_of("encrypted_encv.mp4");
    CHECK(judge(locked, target("desktop"), CodecRegistry::standard()).plays == Plays::no);
    for (auto& t : all_targets())
        for (auto& name : playable()) {
            auto v = verdict(name, t.name);
            CHECK((v.plays == Plays::after_conversion) == !v.needs.empty());
            if (v.plays != Plays::yes) CHECK_FALSE(v.reasons.empty());
            CHECK_FALSE(v.sentence().empty());
        }
}

TEST_CASE("A target file that is wrong is refused by the place of its fault", "[facts]") {
    auto base = nlohmann::json::parse(R"({"format":"ruedo-target","version":1,"name":"mine","containers":["mp4"],)"
                                      R"("video":[{"codec":"h264","max_level":31}]})");
    CHECK(target_from_json(base, "mine.json").has_value());
    auto refused = [&](const char* pointer, nlohmann::json v, const char* word) {
        auto j = base;
        j[nlohmann::json::json_pointer(pointer)] = std::move(v);
        auto t = target_from_json(j, "mine.json");
        REQUIRE_FALSE(t.has_value());
        INFO(t.error().sentence);
        CHECK(t.error().sentence.find(word) != std::string::npos);
    };
    refused("/video/0/codec", "mystery", "/video/0");
    refused("/video/0/max_level", "high", "max_level");
    refused("/video/0/colour", 3, "colour");
    refused("/containers", nlohmann::json::array(), "containers");
    refused("/name", "My Target", "name");
    refused("/version", 2, "newer");
    refused("/seeks", "yes", "seeks");
}

TEST_CASE("A target file counts as it is now, however often it was read before", "[facts]") {
    Folder home;
    setenv("XDG_CONFIG_HOME", home.path.c_str(), 1);
    fs::create_directories(user_targets_folder());
    auto file = user_targets_folder() / "mine.json";
    auto title = [] { return value(find_target("mine")).title; };
    auto write = [&](const std::string& name, std::optional<std::chrono::minutes> ago) {
        std::ofstream(file) << R"({"format":"ruedo-target","version":1,"name":"mine","title":")" << name
                            << R"(","containers":["mp4"],"video":[{"codec":"h264"}]})";
        if (ago) fs::last_write_time(file, fs::file_time_type::clock::now() - *ago);
    };
    // Written again and again within what its time can tell, and as large as before.
    for (int i = 100; i < 160; ++i) {
        write(std::to_string(i), {});
        CHECK(title() == std::to_string(i));
    }
    // As it rests for long, and is changed then.
    write("one", std::chrono::minutes(60));
    for (int i = 0; i < 3; ++i) CHECK(title() == "one");
    write("two", std::chrono::minutes(50));
    for (int i = 0; i < 3; ++i) CHECK(title() == "two");
    write("three", std::chrono::minutes(50));
    CHECK(title() == "three");
    std::ofstream(file) << "{";
    std::vector<Error> problems;
    (void)all_targets(&problems);
    REQUIRE(problems.size() == 1);
    CHECK(problems[0].sentence.find("mine.json") != std::string::npos);
    fs::remove(file);
    CHECK(find_target("mine").error().code == ErrorCode::not_found);
    unsetenv("XDG_CONFIG_HOME");
}

TEST_CASE("Content is known again whatever it is called, and by any byte that is looked at", "[facts]") {
    std::mt19937 random(8);
    auto key = [](const Bytes& bytes, const std::string& name) {
        return value(content_key(*memory_source(bytes, name)));
    };
    constexpr std::size_t stretch = 64 << 10;
    for (std::size_t size : {0UL, 1UL, 500UL, stretch, stretch + 1, 3 * stretch, 5 * stretch + 7}) {
        INFO(size);
        Bytes bytes(size);
        for (auto& b : bytes) b = static_cast<std::uint8_t>(random());
        auto mine = key(bytes, "a.mp4");
        CHECK(key(bytes, "another.webm") == mine);
        auto longer = bytes;
        longer.push_back(0);
        CHECK(key(longer, "a.mp4") != mine);
        if (size == 0) continue;
        for (int i = 0; i < 30; ++i) {
            // In the first, the middle or the last stretch.
            std::size_t from[]{0, size / 2, size > stretch ? size - stretch : 0};
            auto begin = from[random() % 3], at = begin + random() % std::min(stretch, size - begin);
            bytes[at] ^= static_cast<std::uint8_t>(1U << random() % 8);
            CHECK(key(bytes, "a.mp4") != mine);
            mine = key(bytes, "a.mp4");
        }
    }
}
