// SPDX-License-Identifier: Apache-2.0
#include <cmath>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("the device clock never goes back, follows drift, and smooths what jumps") {
    for (double ppm : {-300.0, 0.0, 300.0}) {
        DeviceClock clock;
        clock.restart({});
        std::mt19937 random(13);
        double last = 0, worst = 0;
        for (int i = 1; i < 60'000; ++i) {  // ten minutes in steps of 10 ms
            Time now = 10_ms * i;
            double truth = now.seconds() * 48000 * (1 + ppm * 1e-6);
            // Devices report in blocks, some of them late.
            auto said = static_cast<std::int64_t>(truth / 480) * 480 - static_cast<std::int64_t>(random() % 200);
            clock.observe(std::max<std::int64_t>(0, said), said + 4800, now);
            double f = clock.frames_at(now);
            REQUIRE(f >= last);
            last = f;
            if (i > 1000) worst = std::max(worst, std::abs(f - truth));
            REQUIRE_FALSE(clock.stuck(now));
        }
        INFO(ppm << " ppm");
        CHECK(worst < 48000 * 0.02);
    }
}

TEST_CASE("a device that stands still or runs ahead of its supply is noticed within 200 ms or so") {
    DeviceClock clock;
    clock.restart({});
    for (int i = 1; i <= 100; ++i) clock.observe(480 * i, 480 * i + 960, 10_ms * i);
    CHECK_FALSE(clock.stuck(1_s));
    int noticed = 0;
    for (int i = 101; i < 200 && !noticed; ++i) {
        clock.observe(48000, 60000, 10_ms * i);
        if (clock.stuck(10_ms * i)) noticed = i;
    }
    CHECK(noticed > 115);
    CHECK(noticed < 125);
    clock.restart({});
    for (int i = 1; i <= 50; ++i) clock.observe(480 * i, 480 * i - 100, 10_ms * i);
    CHECK(clock.stuck(500_ms));
}

namespace {
/// A device that can be told to die.
class Mortal final : public SoundDevice {
  public:
    explicit Mortal(Strand& strand, std::shared_ptr<bool> dead) : inner_(make_silent_device(strand)), dead_(std::move(dead)) {}
    Outcome start(Pull pull) override { return inner_->start(std::move(pull)); }
    void stop() override { inner_->stop(); }
    std::int64_t played(Time now) override { return last_ = *dead_ ? last_ : inner_->played(now); }
    std::string describe() const override { return "a mortal device"; }

  private:
    std::unique_ptr<SoundDevice> inner_;
    std::shared_ptr<bool> dead_;
    std::int64_t last_ = 0;
};
}  // namespace

TEST_CASE("when the device dies the stand-in takes over, and playing goes on to the end") {
    auto strand = make_virtual_strand();
    std::shared_ptr<VirtualStrand> shared = std::move(strand);
    auto dead = std::make_shared<bool>(false);
    int made = 0;
    Mixer mixer(*shared, [&]() -> std::unique_ptr<SoundDevice> {
        if (++made > 1) return nullptr;
        return std::make_unique<Mortal>(*shared, dead);
    });
    Controller controller({shared, &mixer, &CodecRegistry::standard(), make_null_sink({})});
    controller.open(fixture("vp9_opus.webm"), {.start = {Start::How::play, {}}, .loop = {}});
    shared->run_until(2_s);
    CHECK(mixer.device_name() == "a mortal device");
    auto before = controller.snapshot().position;
    *dead = true;
    shared->run_until(3_s);
    CHECK(mixer.device_name() == "a silent stand-in");
    auto after = controller.snapshot().position;
    CHECK(after > before);
    shared->run_until(60_s, [&] { return controller.snapshot().state.phase == Phase::ended; });
    auto s = controller.snapshot();
    CHECK(s.state.phase == Phase::ended);
    CHECK(s.counters.presented == 180);
    int told = 0;
    for (auto& e : controller.events()) told += e.name == "sound";
    CHECK(told >= 2);
    // The stop of the clock at the hand-over is all that was lost.
    CHECK(shared->now() < 7_s);
}

TEST_CASE("gain changes by ramps, never by steps") {
    auto strand = make_virtual_strand();
    Mixer mixer(*strand, {});
    auto voice = mixer.add_voice();
    std::vector<float> heard;
    mixer.on_mix([&](std::span<const float> s, std::int64_t) { heard.insert(heard.end(), s.begin(), s.end()); });
    voice->push({}, 1, std::vector<float>(96'000 * 2, 0.8F));
    voice->start();
    strand->run_until(300_ms);
    voice->set_gain(0.1F);
    strand->run_until(600_ms);
    voice->clear();
    strand->run_until(900_ms);
    float step = 0;
    for (std::size_t i = 2; i < heard.size(); i += 2) step = std::max(step, std::abs(heard[i] - heard[i - 2]));
    CHECK(step < 0.01F);
    CHECK(heard.back() == 0);
}

TEST_CASE("a voice tells which media time is being heard, across speeds") {
    auto strand = make_virtual_strand();
    Mixer mixer(*strand, {});
    auto voice = mixer.add_voice();
    CHECK_FALSE(voice->heard(strand->now()).has_value());
    voice->push(5_s, 1, std::vector<float>(48'000 * 2));
    voice->push(6_s, 2, std::vector<float>(48'000 * 2));
    voice->start();
    auto at = [&](Time t) {
        while (strand->now() < t) strand->run_until(strand->now() + 10_ms), mixer.watch();
        return voice->heard(strand->now()).value();
    };
    CHECK(std::abs((at(500_ms) - 5500_ms).ns) < (15_ms).ns);
    CHECK(std::abs((at(1500_ms) - 7_s).ns) < (25_ms).ns);
    voice->finish();
    CHECK_FALSE(voice->starved());
}
