// SPDX-License-Identifier: Apache-2.0
// Streams over a link in virtual time: what comes late is late there too, and two runs are the same.
#include <fmt/format.h>

#include "streams.h"

using namespace ruedo;
using namespace ruedo::test;
using namespace ruedo::stream;

namespace {
NetworkTrace made_of(std::vector<NetworkTrace::Step> steps, Time length, Time delay = 20_ms) {
    NetworkTrace w;
    w.name = "made", w.steps = std::move(steps), w.length = length, w.delay = delay;
    w.settle();
    return w;
}
NetworkTrace steady(double bits_a_second) { return made_of({{Time{}, bits_a_second}}, 600_s); }

/// A ladder of six seconds that plays over a link, from when it is opened on.
struct Watcher {
    Stage stage;
    explicit Watcher(const NetworkTrace& network_trace, const fs::path& list = made_ladder().path / "master.m3u8")
        : stage(0, false, [this, network_trace](const std::string& source) {
              return open_clip(source, StreamOptions{.on_demand = true, .link = link_of(network_trace, [this] {
                                                                            return stage.strand->now();
                                                                        })});
          }) {
        stage.controller.open(list.string(), {.start = {.how = Start::How::play}});
    }
    bool plays() {
        return stage.run_until([](auto& s) { return s.state.phase == Phase::playing && s.stream; });
    }
    bool ends(Time limit = 600_s) {
        return stage.run_until([](auto& s) { return s.state.phase == Phase::ended; }, limit);
    }
    std::vector<Event> events(std::string_view name) {
        auto all = stage.controller.events();
        std::erase_if(all, [&](auto& e) { return e.name != name; });
        return all;
    }
    StreamReport report() { return *stage.now().stream; }
    /// Every picture was shown, and none twice.
    bool gapless() const {
        auto& shown = stage.sink->shown;
        if (shown.size() != 180) return false;
        for (std::size_t i = 1; i < shown.size(); ++i)
            if (auto step = shown[i].pts - shown[i - 1].pts; step < 33_ms || step > 34_ms) return false;
        return true;
    }
};
}  // namespace

TEST_CASE("A job in virtual time may turn out to take longer, and who gives it up is free for the next",
          "[network-trace]") {
    auto strand = make_virtual_strand();
    auto worker = strand->worker();
    std::vector<std::pair<char, Time>> happened;
    auto note = [&](char what) { return [&, what] { happened.emplace_back(what, strand->now()); }; };
    std::atomic<bool> given_up = false;
    worker->run(
        10_ms,
        [&] {
            charge(2_s);
            CHECK(charged() == 2_s);
        },
        note('a'));
    worker->run(10_ms, [&] { CHECK(charged() == Time{}); }, note('b'));
    strand->run_until(5_s);
    CHECK(happened == std::vector<std::pair<char, Time>>{{'a', 2010_ms}, {'b', 2010_ms}});
    happened.clear();
    worker->run({}, [&] { charge(60_s, &given_up); }, note('c'));
    strand->run_until(6_s);
    given_up = true;
    worker->run(10_ms, [] {}, note('d'));
    strand->run_until(7_s);
    CHECK(happened == std::vector<std::pair<char, Time>>{{'d', 6010_ms}});
    // Outside of any job nothing is charged.
    charge(1_s);
    CHECK(charged() == Time{});
}

TEST_CASE("Over a link in virtual time it starts when its first segments have come, and never without them",
          "[network-trace]") {
    for (double rate : {2e6, 500e3, 200e3}) {
        INFO(rate);
        Watcher w(steady(rate));
        REQUIRE(w.plays());
        auto r = w.report();
        // What had come by then can't have come faster than the link carries.
        auto began = w.stage.strand->now();
        CHECK(began >= 80_ms);
        CHECK(began.seconds() >= 1.0 * static_cast<double>(r.rungs[0].measured_peak) / rate * 0.5);
        REQUIRE(w.ends());
        CHECK(w.gapless());
        CHECK(w.events("starved").empty());
        auto report = w.report();
        CHECK(static_cast<double>(report.bytes_fetched) * 8 <= rate * w.stage.strand->now().seconds() + 1);
        CHECK(report.throughput <= rate * 1.01);
        for (std::size_t i = 1; i < report.decisions.size(); ++i)
            CHECK(report.decisions[i].wall >= report.decisions[i - 1].wall);
        // The wider the link, the higher it goes.
        CHECK((report.decisions.back().rung == report.rungs.back().id) == (rate > 400e3));
    }
}

TEST_CASE("A tunnel in virtual time starves it as long as it lasts, and two runs are the same to the last event",
          "[network-trace]") {
    // It carries a little more than the lowest rung takes, then nothing for ten seconds.
    auto network_trace = made_of({{Time{}, 260e3}, {2_s, 0}, {12_s, 1e6}}, 600_s);
    auto run = [&] {
        Watcher w(network_trace);
        REQUIRE(w.plays());
        REQUIRE(w.stage.run_until([](auto& s) { return s.state.phase == Phase::waiting; }));
        auto stood = w.stage.strand->now();
        CHECK((stood > 2_s && stood < 8_s));
        REQUIRE(w.stage.run_until([](auto& s) { return s.state.phase == Phase::playing; }));
        auto went_on = w.stage.strand->now();
        CHECK((went_on > 12_s && went_on < 14_s));
        REQUIRE(w.ends());
        CHECK(w.gapless());
        CHECK(w.stage.strand->now() - went_on < 6_s);
        std::string all;
        for (auto& e : w.stage.controller.events())
            all += fmt::format("{} {} {} {}\n", e.wall.ns, e.media.ns, e.name, e.detail);
        return all;
    };
    auto first = run();
    CHECK(first.find("rung") != std::string::npos);
    CHECK(run() == first);
}

TEST_CASE("Who waits in a tunnel may go back to what is here, at once", "[network-trace]") {
    Watcher w(made_of({{Time{}, 260e3}, {3_s, 0}, {60_s, 1e6}}, 600_s));
    REQUIRE(w.plays());
    REQUIRE(w.stage.run_until([](auto& s) { return s.state.phase == Phase::waiting; }));
    w.stage.controller.seek(200_ms);
    auto asked = w.stage.strand->now();
    REQUIRE(w.stage.run_until([](auto& s) { return s.state.phase == Phase::playing && !s.state.seeking; }, 2_s));
    CHECK(w.stage.strand->now() - asked < 500_ms);
    CHECK(w.stage.now().position < 1_s);
    w.stage.controller.release();
    CHECK(w.stage.run_until([](auto& s) { return s.state.phase == Phase::closed; }, 1_s));
}

TEST_CASE("A segment that would come too late is given up in virtual time too", "[network-trace]") {
    // Wide at first, so that it begins high; then so narrow that what is under way comes too late.
    Watcher w(made_of({{Time{}, 1.5e6}, {620_ms, 100e3}, {90_s, 900e3}}, 600_s), fixture("streams/fmp4/master.m3u8"));
    REQUIRE(w.ends());
    CHECK(w.gapless());
    auto r = w.report();
    CHECK(r.wasted_bytes > 0);
    CHECK(!w.events("given-up").empty());
    CHECK(std::any_of(r.decisions.begin(), r.decisions.end(),
                      [](auto& d) { return d.why.find("too late") != std::string::npos; }));
}
