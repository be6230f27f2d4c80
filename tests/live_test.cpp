// SPDX-License-Identifier: Apache-2.0
// What is live: its edge, the way back to it, and what a stall took; and looking round a stream by its keyframes.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "playback/properties.h"
#include "streams.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;
using namespace ruedo::stream;

namespace {
/// Segments of a second, with their keyframes in lists of their own.
fs::path ladder_folder() { return made_ladder().path; }
bool has(const std::vector<Event>& events, std::string_view name) {
    return std::any_of(events.begin(), events.end(), [&](auto& e) { return e.name == name; });
}
}  // namespace

TEST_CASE("Looking round a stream takes keyframes from their own list, and no whole segment", "[live][stream]") {
    for (std::string list : {"master.m3u8", "master-ts.m3u8"}) {
        INFO(list);
        std::mutex mutex;
        std::vector<Served> served;
        auto host = value(StaticServer::start({.folder = ladder_folder(), .told = [&](const Served& s) {
                                                   std::lock_guard lock(mutex);
                                                   served.push_back(s);
                                               }}));
        auto clip = std::shared_ptr<Clip>(value(open_clip(host->address() + list, StreamOptions{.on_demand = true})));
        auto& track = *clip->info().main(Kind::video);
        REQUIRE(clip->keyframes(track.id));
        auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
        CHECK(demo::read_strip(render(value(reader->at(Time{})), 96, 54)) == 0);
        auto segments = static_cast<std::ptrdiff_t>(clip->stream()->segments_fetched);
        auto whole_segments = [&] {
            std::lock_guard lock(mutex);
            return std::count_if(served.begin(), served.end(), [](auto& one) {
                return one.status == 200 && (one.path.ends_with(".m4s") || one.path.ends_with(".ts"));
            });
        };
        // The host tells of what it has sent a moment after that is here.
        while (whole_segments() < segments) std::this_thread::sleep_for(std::chrono::milliseconds(1));
        std::mt19937 random(5);
        for (int i = 0; i < 12; ++i) {
            auto t = Time{static_cast<std::int64_t>(random() % 5'900) * 1'000'000};
            auto p = value(reader->keyframe_near(t));
            INFO(format_time(t));
            // The first segment is here, and what is here is not fetched again; elsewhere it is the one before.
            if (t >= 1_s) CHECK((p.pts <= t && t - p.pts < 1'100_ms));
            auto number = demo::read_strip(render(p, 96, 54));
            REQUIRE(number);
            CHECK(*number == static_cast<int>((p.pts.ns * 30 + 500'000'000) / 1'000'000'000));
        }
        // Each was fetched once, alone: a part of its segment.
        CHECK(static_cast<std::ptrdiff_t>(clip->stream()->segments_fetched) <= segments + 5);
        CHECK(whole_segments() == segments);
        // Going on from there is exact, after the segment has been fetched.
        auto looked = value(reader->keyframe_near(4500_ms));
        auto next = value(reader->next());
        REQUIRE(next);
        CHECK(demo::read_strip(render(*next, 96, 54)) == *demo::read_strip(render(looked, 96, 54)) + 1);
    }
}

TEST_CASE("Dragging over a stream shows keyframes, and lets go on the exact picture", "[live][stream]") {
    Stage stage(0, true);
    stage.controller.open((ladder_folder() / "master.m3u8").string());
    REQUIRE(stage.run_until([](auto& s) { return s.state.phase == Phase::ready; }));
    for (auto t : {1500_ms, 3300_ms, 4700_ms}) {
        stage.controller.seek(t, SeekMode::keyframe);
        REQUIRE(stage.run_until([&](auto& s) { return !s.state.seeking && s.shown <= t && s.shown + 1_s > t; }));
    }
    stage.controller.seek(4700_ms);
    REQUIRE(stage.run_until([](auto& s) { return !s.state.seeking && s.shown.ns == 4'700'000'000; }));
}

namespace {
/// A clip as if it came just now: its edge goes on with the strand’s time.
class AsIfLive final : public Clip {
  public:
    AsIfLive(std::unique_ptr<Clip> inner, std::shared_ptr<VirtualStrand> strand, std::shared_ptr<Time> edge_at_start)
        : inner_(std::move(inner)), strand_(std::move(strand)), begun_(std::move(edge_at_start)) {
        info_ = inner_->info();
        info_.live = true, info_.duration_known = false, info_.duration = {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override { return inner_->reader(id); }
    std::optional<TimeRange> seekable() const override { return TimeRange{Time{}, *edge()->now}; }
    std::optional<Edge> edge() const override { return Edge{*begun_ + strand_->now(), 4_s}; }

  private:
    std::unique_ptr<Clip> inner_;
    std::shared_ptr<VirtualStrand> strand_;
    std::shared_ptr<Time> begun_;
};
}  // namespace

TEST_CASE("What a stall took of a live one is made up for by five per cent, and no picture is lost over it",
          "[live][stream]") {
    auto begun = std::make_shared<Time>(6_s);
    std::shared_ptr<VirtualStrand> strand;
    Stage stage(0, true, [&](const std::string& source) -> Result<std::unique_ptr<Clip>> {
        RUEDO_TRY(auto inner, open_clip(source));
        return std::make_unique<AsIfLive>(std::move(inner), strand, begun);
    });
    strand = stage.strand;
    stage.controller.open(tiny("live.mp4", 90).string(), playing);
    REQUIRE(stage.run_until([](auto& s) { return s.position > 2_s; }));
    auto before = stage.now();
    REQUIRE(before.edge);
    CHECK((before.pace == 1 && !has(stage.controller.events(), "catching-up")));
    auto behind = *before.edge - before.position;
    CHECK(find_property("behind_ns")->value(before).get<std::int64_t>() == behind.ns);
    // That the edge is known better by now is no stall, nor is one of three quarters of a second worth it; two are.
    *begun += 3_s;
    stage.run(2_s);
    CHECK((stage.now().pace == 1 && !has(stage.controller.events(), "catching-up")));
    *begun -= 3_s;
    stage.strand->stand_still(750_ms);
    stage.run(2_s);
    CHECK(stage.now().pace == 1);
    stage.strand->stand_still(1250_ms);
    REQUIRE(stage.run_until([](auto& s) { return s.pace > 1; }, 1_s));
    CHECK((stage.now().pace == 1.05 && stage.now().rate == 1));
    stage.run(300_ms);  // sound has found its place again
    auto from = stage.now().position;
    stage.run(10_s);
    CHECK(std::abs((stage.now().position - from - 10500_ms).ns) < (30_ms).ns);
    REQUIRE(stage.run_until([](auto& s) { return s.pace == 1; }));
    stage.run(1_s);
    auto after = stage.now();
    CHECK(std::abs((*after.edge - after.position - behind).ns) < (100_ms).ns);
    CHECK(has(stage.controller.events(), "back-at-edge"));
    auto& shown = stage.sink->shown;
    for (std::size_t k = 1; k < shown.size(); ++k) CHECK(shown[k].number == shown[k - 1].number + 1);

    // Whoever goes back wants to be there, and whoever paused to go on from there.
    for (bool pause : {false, true}) {
        if (pause) {
            stage.controller.pause();
            stage.run(5_s);
            stage.controller.play();
        } else {
            stage.controller.seek(20_s);
        }
        stage.run(3_s);
        CHECK((stage.now().state.phase == Phase::playing && stage.now().pace == 1));
    }
    // Nothing nearer to the edge than it is to keep away.
    stage.controller.seek(Time::max());
    stage.run(100_ms);
    auto now = stage.now();
    CHECK(std::abs((*now.edge - now.position - 4_s).ns) < (150_ms).ns);
    CHECK(now.seekable->to < now.position + 150_ms);
}

TEST_CASE("The edge of a live stream grows evenly, and its window slides while nobody reads", "[live][stream]") {
    auto host = value(StaticServer::start({.folder = ladder_folder(), .live = true}));
    auto clip = value(open_clip(host->address() + "master.m3u8", StreamOptions{}));
    REQUIRE(clip->info().live);
    REQUIRE(clip->edge()->now);
    CHECK(clip->edge()->keep == 3_s);
    // Somebody has read once.
    PacketHead head;
    REQUIRE(value(clip->reader(1)->next(head)));
    auto window = *clip->seekable();
    auto edge = *clip->edge()->now;
    auto begun = monotonic_now();
    while (monotonic_now() - begun < 4_s) {
        auto now = *clip->edge()->now;
        CHECK(now >= edge - 20_ms);
        edge = now;
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
    auto later = *clip->seekable();
    CHECK((later.from > window.from && later.to >= window.to + 2_s));
    CHECK((edge >= later.to - 50_ms && edge <= later.to + 3_s));
}
