// SPDX-License-Identifier: Apache-2.0
#include "arrange.h"
#include "headless.h"

#include <cmath>
#include <set>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("A script of calls is read, put in order, and refused in words when it can't be followed", "[script]") {
    std::string why;
    auto calls =
        parse_script("3s seek 10s; 1s pause;2s play; 4s rate 2; 5s volume 0.3; 6s mute; 7s stop; 8s step 1;", why);
    REQUIRE(calls);
    CHECK(calls->size() == 8);
    CHECK(std::is_sorted(calls->begin(), calls->end(), [](auto& a, auto& b) { return a.at < b.at; }));
    CHECK((*calls)[2].time == 10_s);
    CHECK(parse_script("", why)->empty());
    for (auto bad : {"pause", "1 pause", "1s jump", "1s seek", "1s seek 5", "1s rate 9", "1s rate x", "1s volume 2",
                     "1s step 0", "1s step 1.5", "1s pause 3", "-1s pause"}) {
        why.clear();
        INFO(bad);
        CHECK_FALSE(parse_script(bad, why));
        CHECK_FALSE(why.empty());
    }
}

TEST_CASE("Playing without a window reports what happened, the same each time in virtual time", "[script]") {
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
    for (auto key : {"state", "intent", "position_ns", "duration_ns", "presented", "dropped", "skipped", "repeated",
                     "av_offset_ms", "pacing_ms", "first_picture_ms", "events", "error"})
        CHECK(first.report.contains(key));
    o.script.clear();
    o.length = 2_s;
    CHECK(play_headless(o).report["state"] == "playing");
    o.source = fixture("encrypted_encv.mp4");
    auto failed = play_headless(o);
    CHECK(failed.exit == 1);
    CHECK(failed.report["error"]["code"] == "encrypted");
}

TEST_CASE("What is heard is written with sample 0 at presentation time 0", "[script]") {
    Folder folder;
    HeadlessOptions o;
    o.source = fixture("edit_empty_audio_1s.mp4");
    o.virtual_time = true;
    o.audio = folder / "heard.wav";
    REQUIRE(play_headless(o).exit == 0);
    auto wav = bytes_of(o.audio);
    ByteReader r(wav);
    r.skip(44);
    std::vector<double> found;
    for (std::size_t i = 0, quiet = 48'000; r.left() >= 4; ++i) {
        auto v = std::abs(static_cast<std::int16_t>(r.le(2)));
        r.skip(2);
        if (v > 1500) {
            if (quiet > 9600) found.push_back(static_cast<double>(i) / 48000);
            quiet = 0;
        } else
            ++quiet;
    }
    REQUIRE(found.size() == 5);
    for (std::size_t i = 0; i < 5; ++i) CHECK(std::abs(found[i] - static_cast<double>(i + 1)) < 0.002);
}

TEST_CASE("The file of what is heard begins at presentation time 0, and is what was mixed, wherever playing begins",
          "[script]") {
    Folder folder;
    auto samples = [&](const fs::path& path) {
        auto b = bytes_of(path);
        REQUIRE(b.size() > 44);
        ByteReader head(ByteView(b).subspan(40));
        CHECK(head.le(4) == b.size() - 44);
        std::vector<int> left;
        for (std::size_t i = 44; i + 4 <= b.size(); i += 4)
            left.push_back(static_cast<std::int16_t>(b[i] | b[i + 1] << 8));
        return left;
    };
    auto play = [&](const char* name, Time from, const fs::path& to) {
        HeadlessOptions o;
        o.source = fixture(name);
        o.virtual_time = true;
        o.audio = to;
        o.open.loop = {from.ns ? Loop::Kind::range : Loop::Kind::none, from, 5_s};
        if (from.ns) o.length = 2500_ms;
        auto result = play_headless(o);
        CHECK(result.exit == 0);
        return samples(to);
    };
    for (auto name : {"vp9_opus.webm", "h264_high_aac.mp4", "edit_empty_audio_1s.mp4"}) {
        INFO(name);
        auto whole = play(name, {}, folder / (std::string(name) + ".wav"));
        auto later = play(name, 2_s, folder / (std::string(name) + "-later.wav"));
        REQUIRE(whole.size() > 4 * 48'000);
        REQUIRE(later.size() > 4 * 48'000);
        // What sounds from two seconds on stands at two seconds in both; before that the second is silent.
        for (std::size_t i = 0; i < 90'000; ++i) REQUIRE(later[i] == 0);
        double difference = 0, power = 0;
        for (std::size_t i = 2 * 48'000 + 2400; i < 4 * 48'000; ++i)
            difference += std::abs(later[i] - whole[i]), power += std::abs(whole[i]);
        CHECK(difference < 0.02 * power + 48'000);
    }
    // Nothing is left of one that is given up.
    HeadlessOptions o;
    o.source = fixture("no-such-clip.webm");
    o.virtual_time = true;
    o.audio = folder / "never.wav";
    CHECK(play_headless(o).exit == 1);
    CHECK_FALSE(fs::exists(folder / "never.wav"));
    for (auto& e : fs::directory_iterator(folder.path)) CHECK_FALSE(e.path().string().ends_with(".part"));
}

TEST_CASE("Hands press, drag, touch and use keys, by names of one word or several", "[script]") {
    std::string why;
    auto calls = parse_script(
        "1s press volume 2; 2s drag the position 0.25; 3s key Ctrl+Space; 4s touch 12 34; 5s play", why, true);
    REQUIRE(calls);
    CHECK((*calls)[0].name == "volume 2");
    CHECK((*calls)[1].name == "the position");
    CHECK((*calls)[1].number == 0.25);
    CHECK((*calls)[2].name == "Ctrl+Space");
    CHECK(((*calls)[3].x == 12 && (*calls)[3].y == 34));
    for (auto bad : {"1s press", "1s drag position", "1s drag position 2", "1s drag 0.5", "1s key", "1s touch 5",
                     "1s touch a b", "1s throw it"}) {
        INFO(bad);
        CHECK_FALSE(parse_script(bad, why, true));
        CHECK(why.find(bad) != std::string::npos);
    }
    CHECK_FALSE(parse_script("1s press volume", why));  // only where there is something to press
}

TEST_CASE("What is arranged is the same on every run, and follows what hands did", "[script]") {
    ArrangeOptions o;
    SourceSpec s;
    s.name = "Lantern", s.file = fixture("two_audio_languages.mkv").string();
    o.document.sources = {s, s};
    o.document.player().put({.kind = &control_kind("next")}, "foot/end");
    o.document.player().hide_after = 1_s;
    o.mount = shape_of(Mount::window);
    std::string why;
    o.script = *parse_script(
        "1s press toggle; 2s touch 1 1; 2s drag volume 0.25; 2900ms touch 1 1; 3s press mute; 3500ms key Alt+Left; "
        "3900ms touch 1 1; 4s press next",
        why, true);
    auto told = [&](Time at) {
        o.at = at;
        auto first = to_json(value(arrange(o)), "window");
        CHECK(first == to_json(value(arrange(o)), "window"));
        return first;
    };
    auto control = [](const nlohmann::json& j, const char* name) {
        for (auto& c : j["controls"])
            if (c["name"] == name) return c;
        return nlohmann::json();
    };
    auto held = told(900_ms);
    CHECK(held["state"] == "ready");
    CHECK(control(held, "start")["shown"] == true);
    CHECK(control(held, "toggle")["label"] == "Play");
    auto playing = told(2100_ms);
    CHECK(playing["state"] == "playing");
    CHECK(control(playing, "start")["shown"] == false);
    CHECK(control(playing, "start")["why"].get<std::string>().find("first frame") != std::string::npos);
    CHECK(control(playing, "toggle")["label"] == "Pause");
    CHECK(control(playing, "volume")["value"] == 0.25);
    CHECK(control(told(3100_ms), "mute")["label"] == "Sound on");
    CHECK(control(told(4100_ms), "next")["enabled"] == false);
    // Nobody touches it any more: what hides is gone, and says why.
    auto alone = told(5500_ms);
    CHECK(control(alone, "toggle")["shown"] == false);
    CHECK(control(alone, "toggle")["why"].get<std::string>().find("no input") != std::string::npos);
    auto arranged = value(arrange(o));
    auto& picture = arranged.players.at(0).picture;
    REQUIRE(picture);
    CHECK(picture->width > 0);
    o.script = *parse_script("1s press next 2", why, true);
    CHECK(arrange(o).error().code == ErrorCode::not_found);
    o.script = *parse_script("1s drag toggle 0.5", why, true);
    CHECK(arrange(o).error().code == ErrorCode::refused);
}

TEST_CASE("Several players are arranged side by side, and each press goes to the one that is meant", "[script]") {
    ArrangeOptions o;
    for (auto name : {"vp9_opus.webm", "h264_high_aac.mp4"}) {
        SourceSpec s;
        s.name = s.file = fixture(name).string();
        o.document.sources.push_back(s);
    }
    auto& d = o.document;
    add_player(d);
    d.player(0).name = "Left", d.player(0).sources = {{d.sources[0].name}};
    d.player(1).name = "Right", d.player(1).sources = {{d.sources[1].name}};
    d.screen.one_sounds = true;
    o.mount = shape_of(Mount::window, 1000, 400);
    std::string why;
    auto told = [&](const char* script, Time at) {
        o.script = *parse_script(script, why, true), o.at = at;
        auto first = to_json(value(arrange(o)), "window");
        CHECK(first == to_json(value(arrange(o)), "window"));
        return first;
    };
    auto states = [](const nlohmann::json& j) {
        return j["players"][0]["state"].get<std::string>() + " " + j["players"][1]["state"].get<std::string>();
    };
    auto held = told("", 900_ms);
    CHECK(states(held) == "ready ready");
    CHECK(held["pictures"].size() == 2);
    // Everything of the second one stands in its half.
    for (auto& c : held["controls"]) {
        auto x = c["box"][0].get<int>();
        if (c["shown"] == true) CHECK((x >= 504) == (c["player"] == "Right"));
    }
    CHECK(states(told("1s press Right/toggle", 1500_ms)) == "ready playing");
    // Keys and calls go on to the one that was pressed; whoever begins to sound silences the other.
    auto both = told("1s press Left/toggle; 1500ms press Right/toggle; 2s key Alt+Up; 2s volume 0.5", 2500_ms);
    CHECK(states(both) == "playing playing");
    CHECK((both["players"][0]["muted"] == true && both["players"][1]["muted"] == false));
    for (auto& c : both["controls"])
        if (c["name"] == "volume") CHECK(c["value"].get<double>() == (c["player"] == "Right" ? 0.5 : 1));
    auto box = held["controls"][0]["box"];
    auto x = std::to_string(box[0].get<int>() + 504 + 5), y = std::to_string(box[1].get<int>() + 5);
    CHECK(states(told(("1s touch " + x + " " + y + "; 2s key Ctrl+Space").c_str(), 1500_ms)) == "ready playing");
    CHECK(states(told(("1s touch " + x + " " + y + "; 2s key Ctrl+Space").c_str(), 2500_ms)) == "ready paused");
    o.script = *parse_script("1s press toggle", why, true);
    auto unclear = arrange(o);
    REQUIRE_FALSE(unclear);
    CHECK(unclear.error().code == ErrorCode::usage);
    CHECK(unclear.error().hint.find("Left/toggle") != std::string::npos);
    // A source is begun with by the player in whose queue it is.
    d.player(1).sources = {{d.sources[0].name, d.sources[1].name}};
    d.player(0).sources = {{d.sources[0].name}};
    o.source = 1, o.script.clear();
    CHECK(value(arrange(o)).players[1].source == 1);
}

TEST_CASE("In real time a clip is played through at its own pace", "[script]") {
    HeadlessOptions o;
    o.source = fixture("colour_bt601_limited_h264.mp4");
    o.device = false;
    auto begin = monotonic_now();
    auto result = play_headless(o);
    auto took = monotonic_now() - begin;
    CHECK(result.report["state"] == "ended");
    CHECK(took > 1900_ms);
    CHECK(result.report["presented"].get<int>() + result.report["dropped"].get<int>() +
              result.report["skipped"].get<int>() ==
          60);
}

TEST_CASE("Arranging tells what each player does, and one run after the other tells the same of a moment", "[script]") {
    ArrangeOptions o;
    o.document.sources.push_back({});
    o.document.sources[0].name = "Clip", o.document.sources[0].file = fixture("vp9_opus.webm").string();
    o.mount = shape_of(Mount::window);
    std::string why;
    o.script = *parse_script("1s press toggle; 2s rate 2; 2s volume 0.5", why, true);
    o.at = 3_s;
    auto first = to_json(value(arrange(o)), "window"), second = to_json(value(arrange(o)), "window");
    CHECK(first == second);
    auto& player = first["players"][0];
    CHECK(player["source"] == "Clip");
    CHECK(player["rate"] == 2);
    CHECK(player["volume"] == 0.5);
    // A second at normal speed, then one at double.
    CHECK(std::abs(player["position_ns"].get<double>() - 3e9) < 1e8);
    CHECK(player["level_db"].get<double>() > -60);
    CHECK(player["captions"].is_null());
    std::set<std::string> events;
    for (auto& e : player["events"]) events.insert(e["event"].get<std::string>());
    for (auto name : {"opened", "state", "call"}) CHECK(events.contains(name));
    for (auto& c : first["controls"])
        CHECK(c.contains("on") == find_control(c["kind"].get<std::string>())->pressable());
}
