// SPDX-License-Identifier: Apache-2.0
// Runs that are kept: written, read again, and where two of them part.
#include "playback/runs.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// What a script leads to, with the path looked at twenty times a second.
Run run_of(std::vector<std::pair<Time, std::function<void(Controller&)>>> calls, Time length = 6_s) {
    Stage stage;
    stage.controller.open(tiny("pace.mp4").string());
    Run run{"run", {}, {}};
    auto begun = stage.strand->now();
    auto next = calls.begin();
    while (stage.strand->now() - begun < length) {
        if (next != calls.end() && stage.strand->now() - begun >= next->first) (next++)->second(stage.controller);
        stage.run(50_ms);
        run.path.push_back({stage.strand->now() - begun, stage.now().position});
    }
    run.events = stage.controller.events();
    return run;
}
const Anchor& anchor(std::string_view name) {
    auto all = anchors();
    return *std::find_if(all.begin(), all.end(), [&](auto& a) { return a.name == name; });
}
auto play = [](Controller& c) { c.play(); };
auto hold = [](Controller& c) { c.pause(); };
auto seek(Time t) {
    return [t](Controller& c) { c.seek(t); };
}
}  // namespace

TEST_CASE("A run is read as it was written, event for event and place for place", "[trace]") {
    auto run = run_of({{1_s, play}, {2_s, seek(500_ms)}, {3_s, hold}});
    auto lines = to_lines(run);
    auto bytes = [](const std::string& s) {
        return ByteView(reinterpret_cast<const std::uint8_t*>(s.data()), s.size());
    };
    auto again = value(run_from_lines(bytes(lines), "again"));
    CHECK(to_lines(again) == lines);
    CHECK((again.path == run.path && again.events.size() == run.events.size()));
    CHECK(!first_difference(run, again, anchor("play")));
    // What is no run says in which line.
    for (auto& [text, word] : std::vector<std::pair<std::string, std::string>>{
             {"", "no run"},
             {"{}\n", "Line 1"},
             {lines + "gong\n", "no object"},
             {"{\"wall_ns\":5}\n", "neither an event"},
             {"{\"wall_ns\":5,\"at_ns\":1}\n{\"wall_ns\":4,\"at_ns\":1}\n", "Line 2"},
             {"{\"wall_ns\":1e300,\"event\":\"call\"}\n", "when it was"}}) {
        auto wrong = run_from_lines(bytes(text), "x");
        REQUIRE(!wrong);
        CHECK(wrong.error().sentence.find(word) != std::string::npos);
    }
    std::mt19937 random(9);
    for (int i = 0; i < 300; ++i) {
        auto hurt = lines;
        for (int k = 0; k < 4; ++k) hurt[random() % hurt.size()] = static_cast<char>(random());
        if (auto read = run_from_lines(bytes(hurt), "x")) (void)first_difference(run, *read, anchor("begin"));
    }
}

TEST_CASE("The first difference of two runs is named, and only that", "[trace]") {
    auto kept = run_of({{1_s, play}, {2_s, seek(500_ms)}, {3_s, hold}});
    struct Row {
        const char* what;
        Run run;
        Time after;
        const char* says;
    };
    for (auto& row :
         std::vector<Row>{{"another place", run_of({{1_s, play}, {2_s, seek(4_s)}, {3_s, hold}}), 1_s, "0:04"},
                          {"something else", run_of({{1_s, play}, {2_s, hold}}), 1_s, "pause"},
                          {"later", run_of({{1_s, play}, {2500_ms, seek(500_ms)}, {3_s, hold}}), 1_s, "later"},
                          {"nothing more", run_of({{1_s, play}, {2_s, seek(500_ms)}}), 2_s, "pause"}}) {
        INFO(row.what);
        auto found = first_difference(kept, row.run, anchor("play"));
        REQUIRE(found);
        INFO(found->sentence);
        CHECK(std::abs((found->after - row.after).ns) < (600_ms).ns);
        CHECK(found->sentence.find(row.says) != std::string::npos);
        // The other way round it lies at the same place.
        auto back = first_difference(row.run, kept, anchor("play"));
        REQUIRE(back);
        CHECK(std::abs((back->after - found->after).ns) < (300_ms).ns);
    }
    // The same life begun later is the same, by the call it begins with; by the beginning it is not.
    auto late = run_of({{1800_ms, play}, {2800_ms, seek(500_ms)}, {3800_ms, hold}});
    CHECK(!first_difference(kept, late, anchor("play")));
    CHECK(first_difference(kept, late, anchor("begin")));
    // Nor is what was not looked at for a while, as when the machine stood still.
    auto held_up = kept;
    std::erase_if(held_up.path, [](auto& p) { return p.wall > 3100_ms && p.wall < 4600_ms; });
    std::erase_if(held_up.path, [](auto& p) { return p.wall > 1050_ms && p.wall < 2150_ms; });
    CHECK(!first_difference(kept, held_up, anchor("play")));
    CHECK(!first_difference(held_up, kept, anchor("play")));
    // What played elsewhere before it was opened anew, and was seen there last, has nothing to do with it.
    auto anew = late;
    std::erase_if(anew.path, [](auto& p) { return p.wall > 1400_ms && p.wall < 1840_ms; });
    for (auto& p : anew.path)
        if (p.wall < 1500_ms) p.media = 2400_ms + p.wall;
    CHECK(!first_difference(kept, anew, anchor("play")));
    CHECK(!first_difference(anew, kept, anchor("play")));
    // What one has not come to yet is no difference; what it can’t be aligned at is said.
    auto shorter = run_of({{1_s, play}}, 1900_ms);
    CHECK(!first_difference(kept, shorter, anchor("play")));
    CHECK(first_difference(kept, shorter, anchor("seek"))->sentence.find("no place for the first seek") !=
          std::string::npos);
}
