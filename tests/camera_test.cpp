// SPDX-License-Identifier: Apache-2.0
// Cameras, through the simulated one of the harbour.
#include <thread>

#include "capture/camera.h"
#include "support.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Harbour {
    HarbourCamera& camera = HarbourCamera::instance();
    Harbour() { camera.plug(true), camera.set_busy(false), camera.set_count(1); }
    ~Harbour() { camera.plug(true), camera.set_busy(false), camera.set_count(1); }
};
struct Live {
    std::shared_ptr<Strand> strand = make_real_strand();
    Mixer mixer{*strand, {}};
    std::shared_ptr<NotingSink> sink = std::make_shared<NotingSink>(1_ms, true);
    Controller controller{{strand, &mixer, &CodecRegistry::standard(), sink}};
    bool until(const std::function<bool(const Snapshot&)>& wanted, Time limit = 30_s) {
        return controller.wait(wanted, limit);
    }
};
void rest(int ms) { std::this_thread::sleep_for(std::chrono::milliseconds(ms)); }
}  // namespace

TEST_CASE("A list of cameras follows what is plugged in, and none at all is a fact", "[camera]") {
    Harbour h;
    auto count = [] {
        auto all = list_cameras();
        return std::count_if(all.begin(), all.end(), [](auto& c) { return c.id.starts_with("harbour"); });
    };
    CHECK(count() == 1);
    h.camera.set_count(3);
    CHECK(count() == 3);
    h.camera.plug(false);
    CHECK(count() == 0);
    auto none = open_camera_clip("camera://harbour");
    REQUIRE_FALSE(none.has_value());
    CHECK(none.error().code == ErrorCode::not_found);
    for (auto wrong : {"camera://", "camera://harbour?size=8x8", "camera://harbour?size=wide"})
        CHECK(open_camera_clip(wrong).error().code == ErrorCode::usage);
}

TEST_CASE("A camera runs at its rate, is held and runs on with what there is then", "[camera]") {
    Harbour h;
    BareTimer timer;
    Live live;
    live.controller.open("camera://harbour");
    REQUIRE(live.until([](auto& s) { return s.state.phase == Phase::ready; }));
    CHECK(h.camera.open_devices() == 1);
    auto s = live.controller.snapshot();
    CHECK(s.live);
    CHECK_FALSE(s.duration_known);
    CHECK(s.display_width == 640);
    live.controller.play();
    REQUIRE(live.until([](auto& x) { return x.counters.presented >= 45; }));
    live.controller.pause();
    REQUIRE(live.until([](auto& x) { return x.state.phase == Phase::paused; }));
    rest(50);
    auto held = live.controller.snapshot();
    rest(500);
    CHECK(live.controller.snapshot().counters.presented == held.counters.presented);
    CHECK(h.camera.open_devices() == 1);  // held is not closed
    live.controller.play();
    REQUIRE(live.until([&](auto& x) { return x.counters.presented >= held.counters.presented + 20; }));
    live.controller.seek(1_s);
    live.controller.step(1);
    (void)live.controller.snapshot_after_calls();
    int refused = 0;
    for (auto& e : live.controller.events()) refused += e.name == "refused";
    CHECK(refused == 2);
    live.controller.release();
    REQUIRE(live.until([](auto& x) { return x.state.phase == Phase::closed; }));
    for (int i = 0; i < 40 && h.camera.open_devices(); ++i) rest(10);
    CHECK(h.camera.open_devices() == 0);
    // Numbers rise, one at a time while running, with one jump at the pause.
    auto& shown = live.sink->shown;
    int jumps = 0, missing = 0;
    for (std::size_t i = 1; i < shown.size(); ++i) {
        CHECK(shown[i].number >= shown[i - 1].number);
        auto step = shown[i].number - shown[i - 1].number;
        jumps += step > 8;
        missing += step > 1 && step <= 8 ? step - 1 : 0;
    }
    // Of what the camera gave while nothing here ran, the newest counts.
    CHECK(jumps <= 1 + timer.stops());
    // A machine that is merely slow leaves some out, too; most are there.
    CHECK(missing < static_cast<double>(shown.size() * slowed) / 2 + timer.stood().seconds() * 30);
}

TEST_CASE("Unplugged while running, busy, and back again", "[camera]") {
    Harbour h;
    Live live;
    live.controller.open("camera://harbour", {.start = {Start::How::play, {}}});
    REQUIRE(live.until([](auto& s) { return s.counters.presented > 5; }));
    h.camera.plug(false);
    REQUIRE(live.until([](auto& s) { return s.state.phase == Phase::failed; }));
    CHECK(live.controller.snapshot().error->sentence.find("unplugged") != std::string::npos);
    h.camera.plug(true);
    h.camera.set_busy(true);
    live.controller.open("camera://harbour");
    REQUIRE(live.until([](auto& s) { return s.state.phase == Phase::failed && s.error->code == ErrorCode::refused; }));
    h.camera.set_busy(false);
    live.controller.open("camera://harbour", {.start = {Start::How::play, {}}});
    CHECK(live.until([](auto& s) { return s.state.phase == Phase::playing && s.counters.presented > 5; }));
}

TEST_CASE("Modes, a fixed size, and switching cameras while running", "[camera]") {
    Harbour h;
    h.camera.set_count(2);
    Live live;
    live.controller.open("camera://harbour?mode=320x240@15", {.start = {Start::How::play, {}}});
    REQUIRE(live.until([](auto& s) { return s.counters.presented > 3; }));
    CHECK(live.controller.snapshot().display_width == 320);
    auto time = took([&] {
        live.controller.open("camera://harbour-2?mode=1280x720@25&size=640x360", {.start = {Start::How::play, {}}});
        REQUIRE(live.until([](auto& s) { return s.display_width == 640 && s.counters.presented > 3; }));
    });
    CHECK(time < 1_s * slowed);
    CHECK(live.sink->shown.back().number >= 0);  // the number survives scaling
    auto wrong = open_camera_clip("camera://harbour?mode=99x99@1");
    REQUIRE_FALSE(wrong.has_value());
    CHECK(wrong.error().hint.find("640x360@30") != std::string::npos);
}
