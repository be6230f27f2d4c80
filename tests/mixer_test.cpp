// SPDX-License-Identifier: Apache-2.0
#include <cmath>
#include <thread>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("The device clock never goes back, follows drift, and smooths what jumps", "[mixer]") {
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

TEST_CASE("A device that stands still or runs ahead of its supply is noticed within 200 ms or so", "[mixer]") {
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
class Mortal final : public AudioDevice {
  public:
    explicit Mortal(Strand& strand, std::shared_ptr<bool> dead)
        : inner_(make_silent_device(strand)), dead_(std::move(dead)) {}
    Status start(Pull pull) override { return inner_->start(std::move(pull)); }
    void stop() override { inner_->stop(); }
    std::int64_t played(Time now) override { return last_ = *dead_ ? last_ : inner_->played(now); }
    std::string describe() const override { return "a mortal device"; }

  private:
    std::unique_ptr<AudioDevice> inner_;
    std::shared_ptr<bool> dead_;
    std::int64_t last_ = 0;
};
}  // namespace

TEST_CASE("When the device dies the stand-in takes over, and playing goes on to the end", "[mixer]") {
    auto strand = make_virtual_strand();
    std::shared_ptr<VirtualStrand> shared = std::move(strand);
    auto dead = std::make_shared<bool>(false);
    int made = 0;
    Mixer mixer(*shared, [&]() -> std::unique_ptr<AudioDevice> {
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

TEST_CASE("Gain changes by ramps, never by steps", "[mixer][seek]") {
    auto strand = make_virtual_strand();
    Mixer mixer(*strand, {});
    auto mixer_input = mixer.add_input();
    std::vector<float> heard;
    mixer.on_mix([&](std::span<const float> s, std::int64_t) { heard.insert(heard.end(), s.begin(), s.end()); });
    mixer_input->push({}, 1, std::vector<float>(96'000 * 2, 0.8F));
    mixer_input->start();
    strand->run_until(300_ms);
    mixer_input->set_gain(0.1F);
    strand->run_until(600_ms);
    mixer_input->clear();
    strand->run_until(900_ms);
    float step = 0;
    for (std::size_t i = 2; i < heard.size(); i += 2) step = std::max(step, std::abs(heard[i] - heard[i - 2]));
    CHECK(step < 0.01F);
    CHECK(heard.back() == 0);
}

TEST_CASE("The level is the peak of what is heard, falls by 40 dB in a second, and is nothing at rest", "[mixer]") {
    for (float peak : {1.0F, 0.5F, 0.1F}) {
        auto strand = make_virtual_strand();
        Mixer mixer(*strand, {});
        auto mixer_input = mixer.add_input();
        CHECK(mixer_input->level() == 0);
        std::vector<float> loud;
        for (int i = 0; i < 48'000; ++i) {
            auto v = peak * static_cast<float>(std::sin(i * 0.1));
            loud.push_back(0), loud.push_back(v);  // on the right alone
        }
        mixer_input->push({}, 1, loud);
        mixer_input->push(1_s, 1, std::vector<float>(96'000 * 2));
        mixer_input->start();
        auto level_at = [&](Time t) {
            strand->run_until(t);
            return mixer_input->level();
        };
        CHECK(std::abs(level_at(500_ms) - peak) < peak * 0.12);
        auto from = level_at(1200_ms), to = level_at(1700_ms);
        CHECK(std::abs(20 * std::log10(from / to) - 20) < 2);
        mixer_input->clear();
        CHECK(mixer_input->level() == 0);
    }
}

TEST_CASE("A voice tells which media time is being heard, across speeds", "[mixer]") {
    auto strand = make_virtual_strand();
    Mixer mixer(*strand, {});
    auto mixer_input = mixer.add_input();
    CHECK_FALSE(mixer_input->heard(strand->now()).has_value());
    mixer_input->push(5_s, 1, std::vector<float>(48'000 * 2));
    mixer_input->push(6_s, 2, std::vector<float>(48'000 * 2));
    mixer_input->start();
    auto at = [&](Time t) {
        while (strand->now() < t) strand->run_until(strand->now() + 10_ms), mixer.watch();
        return mixer_input->heard(strand->now()).value();
    };
    CHECK(std::abs((at(500_ms) - 5500_ms).ns) < (15_ms).ns);
    CHECK(std::abs((at(1500_ms) - 7_s).ns) < (25_ms).ns);
    mixer_input->finish();
    CHECK_FALSE(mixer_input->starved());
}

TEST_CASE("However many players look after the device, its clock is corrected as by one", "[mixer]") {
    // The same device, which runs a little fast, watched by one player and by sixteen.
    auto run = [](int players) {
        auto strand = make_virtual_strand();
        Mixer mixer(*strand, [&] { return make_silent_device(*strand, 250); });
        auto mixer_input = mixer.add_input();
        mixer_input->push({}, 1, std::vector<float>(20 * 96'000));
        mixer_input->start();
        std::vector<Time> heard;
        for (int i = 0; i < 1000; ++i) {
            for (int k = 0; k < players; ++k) {
                strand->run_until(10_ms * i + 10_ms / players * k);
                mixer.watch();
            }
            if (auto h = mixer_input->heard(10_ms * i + 9_ms)) heard.push_back(*h);
        }
        return heard;
    };
    auto one = run(1), many = run(16);
    REQUIRE(one.size() > 900);
    REQUIRE(many.size() > 900);
    Time worst{};
    for (std::size_t i = 100; i < std::min(one.size(), many.size()); ++i)
        worst = std::max(worst, Time{std::abs((one[i] - many[i]).ns)});
    INFO("apart by up to " << worst.ms() << " ms");
    CHECK(worst < 12_ms);
}

TEST_CASE("A sound server that takes its time to answer, or never does, holds no player up", "[mixer]") {
    struct Hung {
        std::atomic<bool> go_on = false;
        std::atomic<int> asked = 0;
    };
    auto hung = std::make_shared<Hung>();
    auto strand = std::shared_ptr<Strand>(make_real_strand());
    {
        Mixer mixer(*strand, [hung]() -> std::unique_ptr<AudioDevice> {
            // The first try says at once that there is none; every later one hangs.
            if (hung->asked++ == 0) return nullptr;
            while (!hung->go_on) std::this_thread::sleep_for(std::chrono::milliseconds(1));
            return nullptr;
        });
        Controller controller({make_real_strand(), &mixer, &CodecRegistry::standard(), make_null_sink(16_ms)});
        OpenOptions options = playing;
        options.loop.kind = Loop::Kind::all;
        controller.open(fixture("audio_opus.ogg").string(), options);
        REQUIRE(controller.wait([&](auto&) { return hung->asked >= 2; }, 30_s));
        // The player goes on, through the stand-in, and does as it is told.
        auto before = controller.snapshot().position;
        CHECK(controller.wait([&](auto& s) { return s.position > before + 200_ms || s.position < before; }, 30_s));
        controller.pause();
        CHECK(controller.snapshot_after_calls().state.phase == Phase::paused);
        hung->go_on = true;
    }
}

TEST_CASE("What is cut from a voice is what comes later, to the sample", "[mixer]") {
    std::mt19937 random(92);
    for (int i = 0; i < 100; ++i) {
        auto strand = make_virtual_strand();
        Mixer mixer(*strand, {});
        auto mixer_input = mixer.add_input();
        double rate = std::array{0.5, 1.0, 2.0}[random() % 3];
        std::size_t frames = 0;
        Time at{};
        for (int k = 0; k < 5; ++k) {
            auto n = 1000 + random() % 9000;
            mixer_input->push(at, rate, std::vector<float>(n * 2, 0.5F));
            at += scaled(ticks_to_time(static_cast<std::int64_t>(n), 1, mix_rate), rate);
            frames += n;
        }
        auto from = Time{static_cast<std::int64_t>(random() % static_cast<unsigned long>(at.ns + 1))};
        mixer_input->cut(from);
        auto left = time_to_ticks(mixer_input->buffered(), mix_rate);
        auto wanted =
            std::min<std::int64_t>(static_cast<std::int64_t>(frames), time_to_ticks(scaled(from, 1 / rate), mix_rate));
        INFO("cut at " << from.ms() << " of " << at.ms() << " ms at rate " << rate);
        CHECK(std::abs(left - wanted) <= 6);
    }
}
