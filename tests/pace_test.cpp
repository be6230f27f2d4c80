// SPDX-License-Identifier: Apache-2.0
// A machine too slow for its clip, and one that stands still for a while: what is seen keeps to what is heard.
#include <cmath>

#include "media/codec_headers.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
bool over(const Snapshot& s) { return s.state.phase == Phase::ended || s.state.phase == Phase::failed; }
/// A stage whose decoder takes its time, and all that is heard on it.
struct SlowStage {
    std::shared_ptr<VirtualStrand> strand = make_virtual_strand();
    Mixer mixer{*strand, {}};
    struct Sink final : FrameSink {
        explicit Sink(Strand& s, Time every) : strand(s), every_(every) {}
        std::shared_ptr<const RgbImage> prepare(const Frame&) override {
            ++prepared;
            return nullptr;
        }
        void show(std::shared_ptr<const RgbImage>, const Frame& p, Time) override {
            shown.emplace_back(strand.now(), p.pts);
        }
        void clear() override {}
        Time refresh() const override { return every_; }
        Strand& strand;
        Time every_;
        std::vector<std::pair<Time, Time>> shown;  ///< When, and of which time.
        std::size_t prepared = 0;
    };
    std::shared_ptr<Sink> sink;
    std::vector<float> heard;
    Controller controller;
    explicit SlowStage(Costs costs, Time refresh = {})
        : sink(std::make_shared<Sink>(*strand, refresh)),
          controller({strand, &mixer, &CodecRegistry::standard(), sink, costs}) {
        mixer.on_mix([this](std::span<const float> s, std::int64_t) { heard.insert(heard.end(), s.begin(), s.end()); });
    }
    bool run_until(const std::function<bool(const Snapshot&)>& wanted, Time limit = 60_s) {
        strand->run_until(strand->now() + limit, [&] { return wanted(controller.snapshot()); });
        return wanted(controller.snapshot());
    }
    std::size_t events(std::string_view name) const {
        auto all = controller.events();
        return static_cast<std::size_t>(std::count_if(all.begin(), all.end(), [&](auto& e) { return e.name == name; }));
    }
    /// What is heard from the first sound to the last.
    std::vector<float> audio() const {
        auto loud = [](float v) { return std::abs(v) > 1e-4F; };
        auto from = std::find_if(heard.begin(), heard.end(), loud);
        auto to = std::find_if(heard.rbegin(), heard.rend(), loud).base();
        return from < to ? std::vector<float>(from, to) : std::vector<float>{};
    }
};
Costs slow(double speed) {
    Costs c;
    c.picture = scaled(ticks_to_time(1, 1, 30), 1 / speed);
    return c;
}
}  // namespace

TEST_CASE("Decoding slower than real time gives way: sight keeps to sound, which is not broken", "[pacing]") {
    SlowStage quick{Costs{}};
    quick.controller.open(tiny("pace.mp4"), playing);
    REQUIRE(quick.run_until(over));
    auto whole = quick.audio();
    REQUIRE(whole.size() > 5 * 96'000);
    for (double speed : {0.3, 0.6, 0.9})
        for (auto refresh : {Time{}, ticks_to_time(1, 1, 60)}) {
            INFO("decoding at " << speed << " of real time, refresh " << refresh.ms() << " ms");
            SlowStage stage(slow(speed), refresh);
            stage.controller.open(tiny("pace.mp4"), playing);
            REQUIRE(stage.run_until(over, 30_s));
            auto report = stage.controller.report();
            CHECK(report.snapshot.state.phase == Phase::ended);
            CHECK(report.snapshot.counters.presented + report.snapshot.counters.dropped == 180);
            CHECK(report.snapshot.counters.dropped > 10);
            REQUIRE(report.av_offset_ms);
            CHECK(report.av_offset_ms->max <= 250);
            CHECK(stage.events("starved") == 0);
            CHECK(stage.audio() == whole);
            CHECK(stage.events("giving-way") > 0);
            // At least two pictures in any second while there is something to be seen.
            auto& shown = stage.sink->shown;
            for (auto from = shown.front().first; from + 1_s < shown.front().first + 5_s; from += 100_ms) {
                auto count = std::count_if(shown.begin(), shown.end(),
                                           [&](auto& s) { return s.first >= from && s.first < from + 1_s; });
                INFO("from " << from.ms() << " ms");
                CHECK(count >= 2);
            }
            // The trace says what was done, in words with figures.
            for (auto& e : report.events)
                if (e.name == "giving-way") CHECK_FALSE(e.detail.empty());
        }
}

TEST_CASE("What gives way catches up, and says so, when the machine has time again", "[pacing]") {
    SlowStage stage(slow(0.9));
    stage.controller.open(tiny("pace.mp4"), playing);
    REQUIRE(stage.run_until(over, 30_s));
    CHECK(stage.events("caught-up") > 0);
    // Fast enough from the start, it never says either.
    SlowStage fine(slow(1.5));
    fine.controller.open(tiny("pace.mp4"), playing);
    REQUIRE(fine.run_until(over, 30_s));
    CHECK(fine.events("giving-way") == 0);
    CHECK(fine.controller.snapshot().counters.dropped == 0);
    CHECK(fine.controller.snapshot().counters.presented == 180);
}

TEST_CASE("Pictures that nothing depends on are the first not to be decoded", "[pacing]") {
    // Two of three pictures of this one are of that kind; without them two thirds of the time is enough.
    auto clip = open("h264_high_aac.mp4");
    auto& track = *clip->info().main(Kind::video);
    auto reader = clip->reader(track.id);
    PacketHead head;
    Bytes data;
    std::vector<Time> spare;
    while (value(reader->next(head))) {
        done(reader->read(data));
        if (disposable(track, data)) {
            CHECK_FALSE(head.keyframe);
            spare.push_back(head.pts);
        }
    }
    REQUIRE(spare.size() > 20);
    // Left out, the others come out as they are.
    auto all = value(FrameReader::open(clip, track, CodecRegistry::standard()));
    auto some = value(FrameReader::open(clip, track, CodecRegistry::standard()));
    some->set_sparing(true);
    std::size_t compared = 0;
    while (auto p = value(all->next())) {
        if (std::find(spare.begin(), spare.end(), p->pts) != spare.end()) continue;
        auto q = value(some->next());
        REQUIRE(q);
        REQUIRE(q->pts == p->pts);
        CHECK(std::equal(p->plane[0], p->plane[0] + p->stride[0] * p->height, q->plane[0]));
        ++compared;
    }
    CHECK(compared + spare.size() == 180);
    CHECK(some->left_out() == spare.size());
}

TEST_CASE("A leap goes to the next keyframe within reach and nowhere else", "[pacing]") {
    auto clip = open("vp9_opus.webm");
    auto& track = *clip->info().main(Kind::video);
    auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
    value(reader->at({}));
    for (int i = 0; i < 5; ++i) value(reader->next());
    CHECK_FALSE(value(reader->leap(500_ms, 1500_ms)));       // no keyframe in there
    CHECK(value(reader->next())->pts == Time{200'000'000});  // and nothing changed
    auto leapt = value(reader->leap(1_s, Time::max()));
    REQUIRE(leapt);
    CHECK(leapt->pts == 2_s);
    CHECK(reader->left_out() == 53);
    CHECK(value(reader->next())->pts == 2033_ms);
    CHECK_FALSE(value(reader->leap(5_s, Time::max())));  // the last one is at four seconds
}

TEST_CASE("Late pictures are not converted, and slow conversion drops them rather than show them late", "[pacing]") {
    Costs costs;
    costs.conversion = 90_ms;  // eleven a second, of thirty
    SlowStage stage(costs, ticks_to_time(1, 1, 60));
    stage.controller.open(tiny("pace.mp4"), playing);
    REQUIRE(stage.run_until(over, 30_s));
    auto report = stage.controller.report();
    CHECK(report.snapshot.counters.presented + report.snapshot.counters.dropped == 180);
    CHECK(stage.sink->prepared <= report.snapshot.counters.presented + 10);
    CHECK(report.av_offset_ms->max <= 250);
    CHECK(report.snapshot.counters.presented >= 50);
}

TEST_CASE("After a second in which the process stood still everything is on time again within 200 ms", "[pacing]") {
    for (auto name : {"vp9_opus.webm", "h264_high_aac.mp4"})
        for (auto at : {700_ms, 2_s, 3333_ms}) {
            INFO(name << " stopped at " << at.ms() << " ms");
            SlowStage stage{Costs{}, ticks_to_time(1, 1, 60)};
            stage.controller.open(fixture(name), playing);
            stage.strand->run_until(at);
            auto position = stage.controller.snapshot().position;
            auto shown = stage.sink->shown.size();
            stage.strand->stand_still(1_s);
            // Whoever looks at once is not told of a place that never was.
            CHECK(stage.controller.snapshot().position <= position + 110_ms);
            stage.strand->run_until(at + 1200_ms);
            auto s = stage.controller.snapshot();
            CHECK(s.position > position);
            CHECK(s.position < position + 300_ms);
            REQUIRE(s.av_offset);
            CHECK(std::abs(s.av_offset->ms()) < 40);
            CHECK(stage.sink->shown.size() > shown);
            REQUIRE(stage.run_until(over, 20_s));
            CHECK(stage.events("stood-still") == 1);
            CHECK(stage.events("starved") == 0);
            CHECK(stage.controller.snapshot().counters.dropped <= 3);
            // Sound goes on where it was: nothing is missing and nothing comes twice.
            SlowStage other{Costs{}};
            other.controller.open(fixture(name), playing);
            REQUIRE(other.run_until(over));
            CHECK(stage.audio() == other.audio());
        }
}

TEST_CASE("Without sound, time that nobody saw pass has not passed", "[pacing]") {
    SlowStage stage{Costs{}, ticks_to_time(1, 1, 60)};
    stage.controller.open(fixture("vfr_h264.mp4"), playing);
    stage.strand->run_until(2_s);
    auto position = stage.controller.snapshot().position;
    stage.strand->stand_still(3_s);
    stage.strand->run_until(5100_ms);
    CHECK(stage.controller.snapshot().position < position + 250_ms);
    REQUIRE(stage.run_until(over, 20_s));
    CHECK(stage.controller.snapshot().counters.dropped == 0);
}

TEST_CASE("Laps last as long as the loop at every speed, and every picture is accounted for", "[pacing]") {
    for (double rate : {0.5, 1.0, 2.0, 4.0})
        for (auto kind : {Loop::Kind::all, Loop::Kind::range}) {
            SlowStage stage{Costs{}};
            auto options = playing;
            options.rate = rate;
            options.loop = {kind, 1_s, 4_s};
            stage.controller.open(fixture("vp9_opus.webm"), options);
            auto lap = scaled(kind == Loop::Kind::all ? 6_s : 3_s, 1 / rate);
            stage.strand->run_until(lap * 6 + lap / 2);
            std::vector<Time> laps;
            for (auto& e : stage.controller.events())
                if (e.name == "looped") laps.push_back(e.wall);
            INFO("rate " << rate << (kind == Loop::Kind::all ? ", all" : ", from a to b"));
            REQUIRE(laps.size() >= 5);
            // The trace is written every 10 ms; over many laps nothing adds up.
            auto mean = (laps.back() - laps.front()) / static_cast<std::int64_t>(laps.size() - 1);
            CHECK(std::abs((mean - lap).ms()) < 4);
            auto s = stage.controller.snapshot();
            std::size_t per_lap = kind == Loop::Kind::all ? 180 : 90;
            std::size_t in_laps = 0;
            auto from = laps.front(), to = laps.back();
            for (auto& [when, pts] : stage.sink->shown) in_laps += when >= from && when < to;
            CHECK(std::abs(static_cast<double>(in_laps) - static_cast<double>(per_lap * (laps.size() - 1))) <= 3);
            CHECK(s.counters.dropped + s.counters.skipped == 0);
        }
}
