// SPDX-License-Identifier: Apache-2.0
// Ten thousand random calls, in virtual time against the pure machine and in real time with threads.
#include <thread>

#include "support.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;
using machine::Input;

namespace {
std::size_t threads_now() {
    std::size_t n = 0;
    for ([[maybe_unused]] auto& e : fs::directory_iterator("/proc/self/task")) ++n;
    return n;
}

/// Mostly small clips, so that ten thousand calls take seconds; some real ones, some that fail.
fs::path any_source(std::mt19937& random) {
    switch (random() % 10) {
        case 0:
            return fixture("codec_xxxx.mp4");
        case 1:
            return fixture("no-such-file.mp4");
        case 2:
            return fixture("colour_bt709_full_h264.mp4");
        case 3:
        case 4:
        case 5:
            return tiny("small.mp4");
        default:
            return tiny("small.webm");
    }
}

Input random_call(Controller& c, std::mt19937& random) {
    switch (random() % 14) {
        case 0:
            c.open(any_source(random), {.start = {random() % 2 ? Start::How::play : Start::How::hold, {}}, .loop = {}});
            return Input::open;
        case 1:
        case 2:
            c.play();
            return Input::play;
        case 3:
        case 4:
            c.pause();
            return Input::pause;
        case 5:
            c.stop();
            return Input::stop;
        case 6:
        case 7:
            c.seek(Time{static_cast<std::int64_t>(random()) % 7'000'000'000},
                   random() % 3 ? SeekMode::exact : SeekMode::keyframe);
            return Input::seek;
        case 8:
            c.step(static_cast<int>(random() % 5) - 2);
            return Input::step;
        case 9:
            c.set_rate(0.25 + static_cast<double>(random() % 16) / 4);
            return Input::released;
        case 10:
            c.set_volume(static_cast<double>(random() % 100) / 100);
            return Input::released;
        case 11:
            c.set_muted(random() % 2);
            return Input::released;
        case 12:
            c.set_loop({static_cast<Loop::Kind>(random() % 3), 1_s, 2_s});
            return Input::released;
        default:
            c.skip(1_s * (static_cast<int>(random() % 21) - 10));
            return Input::seek;
    }
}
}  // namespace

TEST_CASE("Ten thousand random calls lead where the pure machine says", "[controller]") {
    for (unsigned seed : {11U, 12U, 13U}) {
        std::mt19937 random(seed);
        Stage stage;
        int compared = 0;
        for (int i = 0; i < 3'400; ++i) {
            auto before = stage.now().state;
            auto call = random_call(stage.controller, random);
            stage.run({});
            auto after = stage.now().state;
            REQUIRE(after.audio());
            // What the call leads to at once, and what reports that take no time may add.
            if (call == Input::play || call == Input::pause || call == Input::stop) {
                auto expected = machine::step(before, call).state;
                auto landed = machine::step(expected, Input::landed).state,
                     fed = machine::step(expected, Input::fed).state;
                INFO("seed " << seed << " call " << i << " " << machine::name(call) << " in "
                             << machine::name(before.phase) << " gave " << machine::name(after.phase));
                CHECK((after == expected || after == landed || after == fed));
                ++compared;
            }
            if (random() % 3 == 0) stage.run(Time{static_cast<std::int64_t>(random() % 60'000'000)});
        }
        CHECK(compared > 3'400 / 5);
        // Whatever happened, from here it does as it is told.
        stage.controller.set_loop({});
        stage.controller.set_rate(1);
        stage.controller.open(fixture("vp9_opus.webm"));
        REQUIRE(stage.settle());
        stage.controller.stop();
        REQUIRE(stage.settle());
        CHECK(stage.now().state.phase == Phase::ready);
        auto shown = stage.sink->shown.size();
        stage.controller.play();
        REQUIRE(stage.run_until([](auto& s) { return s.state.phase == Phase::ended; }));
        CHECK(stage.sink->shown.size() - shown >= 179);
        stage.controller.release();
        stage.run(10_ms);
        CHECK(stage.now().state.phase == Phase::closed);
    }
}

TEST_CASE("Ten thousand random calls in real time leave nothing running", "[controller]") {
    std::thread([] {}).join();  // a sanitizer has a thread of its own from the first one on
    auto baseline = threads_now();
    for (unsigned seed : {21U, 22U, 23U}) {
        auto mixer_strand = make_real_strand();
        Mixer mixer(*mixer_strand, {});
        std::mt19937 random(seed);
        {
            Controller controller(
                {make_real_strand(), &mixer, &CodecRegistry::standard(), std::make_shared<NotingSink>(16_ms)});
            std::atomic<bool> reading = true;
            std::thread reader([&] {
                while (reading) {
                    auto s = controller.snapshot();
                    if (!s.state.audio()) std::abort();
                    std::this_thread::sleep_for(std::chrono::microseconds(200));
                }
            });
            for (int i = 0; i < 10'000; ++i) {
                random_call(controller, random);
                if (random() % 64 == 0) std::this_thread::sleep_for(std::chrono::milliseconds(random() % 12));
            }
            controller.snapshot_after_calls();
            controller.open(fixture("vp9_opus.webm"));
            CHECK(controller.wait([](auto& s) { return s.state.phase == Phase::ready && !s.state.seeking; }, 20_s));
            reading = false;
            reader.join();
        }
    }
    for (int i = 0; i < 50 && threads_now() > baseline; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
    CHECK(threads_now() <= baseline);
}

TEST_CASE("Releasing in any state returns within 200 ms", "[controller]") {
    auto mixer_strand = make_real_strand();
    Mixer mixer(*mixer_strand, {});
    std::mt19937 random(31);
    Time worst{};
    for (int i = 0; i < 40; ++i) {
        auto controller = std::make_unique<Controller>(
            Controller::Env{make_real_strand(), &mixer, &CodecRegistry::standard(), make_null_sink(16_ms)});
        controller->open(i % 2 ? any_source(random) : fixture("h264_high_aac.mp4"),
                         {.start = {Start::How::play, {}}, .loop = {}});
        for (auto calls = random() % 4; calls > 0; --calls) {
            std::this_thread::sleep_for(std::chrono::milliseconds(random() % 40));
            random_call(*controller, random);
        }
        worst = std::max(worst, took([&] { controller.reset(); }));
    }
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
    CHECK(worst < 2_s);
#else
    CHECK(worst < 200_ms);
#endif
}

TEST_CASE("Whatever was called, what is shown then is what its place says, and it goes on at its speed",
          "[controller]") {
    auto times_of = [](const fs::path& path) {
        std::shared_ptr<Clip> clip = value(open_clip(path.string()));
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        std::vector<Time> times;
        for (std::optional<Frame> next = value(reader->at({})); next; next = value(reader->next()))
            times.push_back(next->pts);
        return times;
    };
    for (auto path :
         {tiny("short.mp4", 2), tiny("short.webm", 2), fixture("two_audio_languages.mkv"), fixture("h264_aac.ts"),
          fixture("edit_skip_500ms.mp4"), fixture("theora_vorbis.ogv"), fixture("vfr_h264.mp4")}) {
        auto times = times_of(path);
        auto at_or_before = [&](Time t) {
            auto it = std::upper_bound(times.begin(), times.end(), t);
            return static_cast<std::ptrdiff_t>(it - times.begin()) - (it == times.begin() ? 0 : 1);
        };
        std::mt19937 random(29);
        Stage stage;
        stage.controller.open(path.string());
        REQUIRE(stage.settle());
        auto length = stage.now().duration;
        std::string done;
        for (int i = path.parent_path() == fixture("x").parent_path() ? 30 : 120; i > 0; --i) {
            done.clear();
            for (auto calls = 1 + random() % 3; calls > 0; --calls) {
                auto& c = stage.controller;
                auto t =
                    Time{static_cast<std::int64_t>(random() % static_cast<std::uint64_t>(length.ns + 200'000'000))};
                switch (random() % 10) {
                    case 0:
                    case 1:
                        c.play(), done += "play ";
                        break;
                    case 2:
                        c.pause(), done += "pause ";
                        break;
                    case 3:
                        c.stop(), done += "stop ";
                        break;
                    case 4:
                        c.seek(t), done += "seek " + format_time(t) + " ";
                        break;
                    case 5:
                        c.seek(t, SeekMode::keyframe), done += "key " + format_time(t) + " ";
                        break;
                    case 6:
                        c.step(static_cast<int>(random() % 5) - 2), done += "step ";
                        break;
                    case 7:
                        c.set_rate(std::array{0.25, 0.5, 1.0, 1.5, 2.0, 4.0}[random() % 6]), done += "rate ";
                        break;
                    case 8:
                        c.set_loop({static_cast<Loop::Kind>(random() % 3), length / 4, length / 2}), done += "loop ";
                        break;
                    default:
                        if (auto track_options = stage.now().track_options; !track_options->empty())
                            c.choose_audio((*track_options)[random() % track_options->size()].id), done += "sound ";
                }
                if (random() % 2) stage.run(Time{static_cast<std::int64_t>(random() % 300'000'000)});
            }
            REQUIRE(stage.settle());
            stage.run(400_ms);
            auto before = stage.now();
            stage.run(100_ms);
            auto s = stage.now();
            INFO(path.filename() << " " << i << ": " << done << "→ " << machine::name(s.state.phase) << " at "
                                 << format_time(s.position) << " shows " << format_time(s.shown) << ", rate " << s.rate
                                 << ", loop " << static_cast<int>(s.loop.kind) << ", before "
                                 << format_time(before.position));
            CHECK(s.duration - length < 100_ms);
            CHECK(s.position <= s.duration);
            auto off = at_or_before(s.position) - at_or_before(s.shown);
            if (s.state.phase == Phase::playing) {
                CHECK(s.motion == Motion::moving);
                auto came = s.position - before.position;
                if (s.loop.kind == Loop::Kind::none || came.ns > 0) {
                    CHECK(came >= scaled(85_ms, s.rate));
                    CHECK(came <= scaled(115_ms, s.rate));
                    CHECK(std::abs(off) <= 1);
                }
            } else {
                CHECK(off == 0);
            }
        }
    }
}
