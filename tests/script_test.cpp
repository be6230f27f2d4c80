// SPDX-License-Identifier: Apache-2.0
#include "headless.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("a script of calls is read, put in order, and refused in words when it can't be followed") {
    std::string why;
    auto calls = parse_script("3s seek 10s; 1s pause;2s play; 4s rate 2; 5s volume 0.3; 6s mute; 7s stop; 8s step 1;", why);
    REQUIRE(calls);
    CHECK(calls->size() == 8);
    CHECK(std::is_sorted(calls->begin(), calls->end(), [](auto& a, auto& b) { return a.at < b.at; }));
    CHECK((*calls)[2].time == 10_s);
    CHECK(parse_script("", why)->empty());
    for (auto bad : {"pause", "1 pause", "1s jump", "1s seek", "1s seek 5", "1s rate 9", "1s rate x", "1s volume 2", "1s step 0", "1s step 1.5", "1s pause 3", "-1s pause"}) {
        why.clear();
        INFO(bad);
        CHECK_FALSE(parse_script(bad, why));
        CHECK_FALSE(why.empty());
    }
}

TEST_CASE("playing without a window reports what happened, the same each time in virtual time") {
    HeadlessOptions o;
    o.source = fixture("vp9_opus.webm");
    o.virtual_time = true;
    std::string why;
    o.script = *parse_script("1s pause; 2s play; 3s seek 5s", why);
    auto first = play_headless(o), second = play_headless(o);
    CHECK(first.exit == 0);
    CHECK(first.report == second.report);
    CHECK(first.report["state"] == "ended");
    CHECK(first.report["dropped"] == 0);
    CHECK(first.report["pacing_ms"].is_null());
    for (auto key : {"state", "intent", "position_ns", "duration_ns", "presented", "dropped", "skipped", "repeated", "av_offset_ms", "pacing_ms", "first_picture_ms", "events", "error"})
        CHECK(first.report.contains(key));
    o.script.clear();
    o.length = 2_s;
    CHECK(play_headless(o).report["state"] == "playing");
    o.source = fixture("encrypted_encv.mp4");
    auto failed = play_headless(o);
    CHECK(failed.exit == 1);
    CHECK(failed.report["error"]["code"] == "encrypted");
}

TEST_CASE("what is heard is written with sample 0 at presentation time 0") {
    Folder folder;
    HeadlessOptions o;
    o.source = fixture("edit_empty_audio_1s.mp4");
    o.virtual_time = true;
    o.sound = folder / "heard.wav";
    REQUIRE(play_headless(o).exit == 0);
    auto wav = bytes_of(o.sound);
    ByteReader r(wav);
    r.skip(44);
    std::vector<double> found;
    for (std::size_t i = 0, quiet = 48'000; r.left() >= 4; ++i) {
        auto v = std::abs(static_cast<std::int16_t>(r.le(2)));
        r.skip(2);
        if (v > 1500) {
            if (quiet > 9600) found.push_back(static_cast<double>(i) / 48000);
            quiet = 0;
        } else ++quiet;
    }
    REQUIRE(found.size() == 5);
    for (std::size_t i = 0; i < 5; ++i) CHECK(std::abs(found[i] - static_cast<double>(i + 1)) < 0.002);
}

TEST_CASE("in real time a clip is played through at its own pace") {
    HeadlessOptions o;
    o.source = fixture("colour_bt601_limited_h264.mp4");
    o.device = false;
    auto begin = monotonic_now();
    auto result = play_headless(o);
    auto took = monotonic_now() - begin;
    CHECK(result.report["state"] == "ended");
    CHECK(took > 1900_ms);
    CHECK(result.report["presented"].get<int>() + result.report["dropped"].get<int>() + result.report["skipped"].get<int>() == 60);
}
