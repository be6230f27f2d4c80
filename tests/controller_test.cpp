// SPDX-License-Identifier: Apache-2.0
// The controller in virtual time: what is shown, when, and what it says of itself.
#include <set>

#include "playback/properties.h"
#include "conversions.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("Every picture of a clip is shown once, in order, when it is due", "[controller]") {
    for (auto name : {"vp9_opus.webm", "h264_high_aac.mp4", "vfr_h264.mp4", "edit_skip_500ms.mp4",
                      "edit_empty_audio_1s.mp4", "rotate90.mp4", "colour_bt709_full_h264.mp4"}) {
        INFO(name);
        Stage stage(0, true);
        stage.controller.open(fixture(name), playing);
        REQUIRE(stage.run_until(ended));
        auto& shown = stage.sink->shown;
        const nlohmann::json* wanted = nullptr;
        for (auto& t : facts(name)["tracks"])
            if (t["type"] == "video") wanted = &t;
        auto times = (*wanted)["pts_ns"].get<std::vector<std::int64_t>>();
        auto numbers = (*wanted)["index"].get<std::vector<int>>();
        REQUIRE(shown.size() == times.size());
        for (std::size_t i = 0; i < times.size(); ++i) {
            CHECK(shown[i].pts.ns == times[i]);
            CHECK(shown[i].number == numbers[i]);
            if (i > 1) CHECK(std::abs(((shown[i].due - shown[1].due) - (shown[i].pts - shown[1].pts)).ns) < (3_ms).ns);
        }
        auto report = stage.controller.report();
        CHECK(report.snapshot.counters.dropped == 0);
        if (report.av_offset_ms) CHECK(report.av_offset_ms->max < 1);
    }
}

TEST_CASE("The same play is the same trace, wall times and all, in virtual time", "[controller]") {
    auto trace = [] {
        Stage stage;
        stage.controller.open(fixture("h264_high_aac.mp4"), playing);
        stage.run(1_s);
        stage.controller.seek(4_s);
        stage.run(300_ms);
        stage.controller.set_rate(2);
        stage.controller.pause();
        stage.run(1_s);
        stage.controller.play();
        stage.run_until(ended);
        std::string text;
        for (auto& e : stage.controller.events()) text += to_json(e).dump() + "\n";
        return text;
    };
    auto first = trace();
    CHECK(first.size() > 500);
    CHECK(first == trace());
    CHECK(first == trace());
}

TEST_CASE("It starts as it is told: held, at once, or after a delay", "[controller]") {
    Stage held;
    held.controller.open(fixture("vp9_opus.webm"));
    held.run(3_s);
    CHECK(held.now().state.phase == Phase::ready);
    CHECK(held.sink->shown.size() == 1);
    CHECK(held.now().position == Time{});

    Stage late;
    late.controller.open(fixture("vp9_opus.webm"), {.start = {Start::How::delay, 2_s}, .loop = {}});
    late.run(1900_ms);
    CHECK(late.now().state.phase == Phase::ready);
    CHECK(late.sink->shown.size() == 1);
    late.run(300_ms);
    CHECK(late.now().state.phase == Phase::playing);

    Stage changed;  // who presses stop during the delay does not want it to start
    changed.controller.open(fixture("vp9_opus.webm"), {.start = {Start::How::delay, 2_s}, .loop = {}});
    changed.run(1_s);
    changed.controller.seek(3_s);
    changed.run(3_s);
    CHECK(changed.now().state.phase == Phase::paused);
}

TEST_CASE("Pausing holds the picture and the sound where they are", "[controller]") {
    Stage stage;
    stage.controller.open(fixture("vp9_opus.webm"), playing);
    stage.run(1500_ms);
    stage.controller.pause();
    stage.run(10_ms);
    auto at = stage.now().position;
    auto count = stage.sink->shown.size();
    stage.run(5_s);
    CHECK(stage.now().position == at);
    CHECK(stage.sink->shown.size() == count);
    stage.controller.play();
    stage.run(200_ms);
    CHECK(stage.now().position > at);
    CHECK(stage.now().position < at + 250_ms);
    REQUIRE(stage.run_until(ended));
    CHECK(stage.now().counters.presented == 180);
}

TEST_CASE("Stop returns to the start and pauses", "[controller]") {
    Stage stage;
    stage.controller.open(fixture("h264_high_aac.mp4"), playing);
    stage.run(2_s);
    stage.controller.stop();
    stage.run(1_s);
    CHECK(stage.now().state.phase == Phase::ready);
    CHECK(stage.now().position == Time{});
    CHECK(stage.sink->shown.back().pts == Time{});
}

TEST_CASE("A seek shows the exact picture and nothing from before it", "[controller][seek]") {
    std::mt19937 random(14);
    for (auto name : {"h264_high_aac.mp4", "vp9_opus.webm", "vfr_h264.mp4"}) {
        Stage stage;
        stage.controller.open(fixture(name), playing);
        stage.run(500_ms);
        const nlohmann::json* wanted = nullptr;
        for (auto& t : facts(name)["tracks"])
            if (t["type"] == "video") wanted = &t;
        auto times = (*wanted)["pts_ns"].get<std::vector<std::int64_t>>();
        for (int i = 0; i < 25; ++i) {
            bool held = i % 2;
            if (held)
                stage.controller.pause();
            else
                stage.controller.play();
            stage.run(100_ms);
            auto t = static_cast<std::int64_t>(random()) % 5'900'000'000;
            auto before = stage.sink->shown.size();
            stage.controller.seek({t});
            REQUIRE(stage.settle());
            stage.run(1_ms);
            REQUIRE(stage.sink->shown.size() > before);
            auto expected = *std::prev(std::upper_bound(times.begin(), times.end(), t));
            INFO(name << " to " << t);
            CHECK(stage.sink->shown[before].pts.ns == expected);
            stage.run(200_ms);
            for (auto k = before; k < stage.sink->shown.size(); ++k) CHECK(stage.sink->shown[k].pts.ns >= expected);
            if (held) CHECK(stage.now().position.ns == t);
        }
    }
}

TEST_CASE("A storm of seeks comes down to the newest", "[controller][seek]") {
    Stage stage;
    stage.controller.open(fixture("h264_high_aac.mp4"));
    stage.run(1_s);
    for (int i = 0; i < 200; ++i) {
        stage.controller.seek(10_ms * (i * 25 % 590));
        if (i % 10 == 0) stage.run(1_ms);
    }
    stage.controller.seek(4321_ms);
    REQUIRE(stage.settle());
    stage.run(10_ms);
    CHECK(stage.now().position == 4321_ms);
    CHECK(stage.sink->shown.back().pts == Time{4'300'000'000});
    CHECK(stage.sink->shown.size() < 40);  // a few were shown on the way, not two hundred
}

TEST_CASE("Dragging shows keyframes, letting go the exact picture", "[controller]") {
    Stage stage;
    stage.controller.open(fixture("vp9_opus.webm"));
    stage.run(500_ms);
    for (int i = 0; i < 40; ++i) {
        stage.controller.seek(100_ms * i + 37_ms, SeekMode::keyframe);
        stage.run(20_ms);
    }
    for (auto& s : stage.sink->shown) CHECK(s.pts.ns % 2'000'000'000 == 0);
    stage.controller.seek(3700_ms);
    stage.settle();
    stage.run(10_ms);
    CHECK(stage.sink->shown.back().pts == 3700_ms);
}

TEST_CASE("Stepping goes one picture at a time, either way, over keyframes and at odd rates", "[controller][seek]") {
    for (auto name : {"vfr_h264.mp4", "h264_high_aac.mp4", "vp9_opus.webm"}) {
        Stage stage;
        stage.controller.open(fixture(name));
        stage.run(500_ms);
        stage.controller.seek(1900_ms);
        stage.settle();
        const nlohmann::json* wanted = nullptr;
        for (auto& t : facts(name)["tracks"])
            if (t["type"] == "video") wanted = &t;
        auto times = (*wanted)["pts_ns"].get<std::vector<std::int64_t>>();
        auto k = std::upper_bound(times.begin(), times.end(), 1'900'000'000) - times.begin() - 1;
        std::mt19937 random(15);
        for (int i = 0; i < 40; ++i) {
            int by = i < 10 ? 1 : i < 20 ? -1 : static_cast<int>(random() % 7) - 3;
            if (by == 0 || k + by < 0 || k + by >= static_cast<std::ptrdiff_t>(times.size())) continue;
            stage.controller.step(by);
            REQUIRE(stage.settle());
            stage.run(random() % 2 ? 30_ms : 1_ms);
            k += by;
            INFO(name << " step " << i << " by " << by);
            CHECK(stage.sink->shown.back().pts.ns == times[static_cast<std::size_t>(k)]);
            CHECK(stage.now().position.ns == times[static_cast<std::size_t>(k)]);
            CHECK(stage.now().state.intent == Intent::hold);
        }
    }
}

TEST_CASE("A loop goes round without a gap in sight or sound", "[controller]") {
    Stage stage;
    auto options = playing;
    options.loop.kind = Loop::Kind::all;
    stage.controller.open(fixture("vp9_opus.webm"), options);
    for (int i = 0; i < 300; ++i) {
        stage.run(100_ms);
        // What is ready already belongs to the next lap, a little before a seam.
        for (auto head : {stage.now().decoded_to, stage.now().sounded_to}) CHECK(head <= 6_s);
    }
    auto s = stage.now();
    CHECK(s.state.phase == Phase::playing);
    auto& shown = stage.sink->shown;
    CHECK(shown.size() >= 890);
    for (std::size_t i = 2; i < shown.size(); ++i) {
        auto gap = shown[i].due - shown[i - 1].due;
        CHECK(gap > 30_ms);
        CHECK(gap < 38_ms);
    }
    stage.controller.set_loop({});
    REQUIRE(stage.run_until(ended));
    CHECK(stage.now().position == stage.now().duration);
}

TEST_CASE("A loop from a to b stays between them", "[controller]") {
    Stage stage;
    auto options = playing;
    options.loop = {Loop::Kind::range, 1_s, 2500_ms};
    stage.controller.open(fixture("h264_high_aac.mp4"), options);
    stage.run(12_s);
    CHECK(stage.sink->shown.size() > 300);
    for (auto& s : stage.sink->shown) {
        CHECK(s.pts >= 1_s);
        CHECK(s.pts < 2500_ms);
    }
    CHECK(stage.now().position >= 1_s);
    CHECK(stage.now().position < 2500_ms);
    // Neither a seek nor steps lead out of it, and what is said to be shown is shown.
    auto stands_within = [&] {
        REQUIRE(stage.settle());
        stage.run(100_ms);
        auto s = stage.now();
        CHECK(s.shown >= 1_s);
        CHECK(s.shown < 2500_ms);
        CHECK(s.position >= s.shown);
        CHECK(s.position - s.shown < 40_ms);
    };
    stage.controller.pause();
    stage.run(100_ms);
    stage.controller.seek(5_s);
    stands_within();
    for (int i = 0; i < 3; ++i) stage.controller.step(1), stands_within();
    stage.controller.stop();
    stands_within();
    CHECK(stage.now().shown == 1_s);
    // One that shuts out where it is begins at its own beginning; what has ended only waits for it.
    stage.controller.set_loop({Loop::Kind::range, 3_s, 4_s});
    stage.controller.seek(3500_ms), stage.settle();
    stage.controller.set_loop({Loop::Kind::range, 1_s, 2500_ms});
    stands_within();
    CHECK(stage.now().shown == 1_s);
    stage.controller.set_loop({}), stage.controller.seek(5_s), stage.controller.play();
    REQUIRE(stage.run_until(ended));
    auto end = stage.now().position;
    stage.controller.set_loop(options.loop);
    stage.run(1_s);
    CHECK(ended(stage.now()));
    CHECK(stage.now().position == end);
    stage.controller.play();
    stage.settle();
    stage.run(50_ms);
    CHECK(stage.now().position >= 1_s);
    CHECK(stage.now().position < 1200_ms);
}

TEST_CASE("Speed is kept to, from a quarter to four times", "[controller]") {
    for (double rate : {0.25, 0.5, 1.5, 2.0, 4.0}) {
        Stage stage;
        auto options = playing;
        options.rate = rate;
        stage.controller.open(fixture("vp9_opus.webm"), options);
        stage.run_until([](auto& s) { return s.position >= 500_ms; });
        auto wall = stage.strand->now();
        auto media = stage.now().position;
        stage.run(scaled(4_s, 1 / rate));
        auto ratio = (stage.now().position - media).seconds() / (stage.strand->now() - wall).seconds() / rate;
        INFO("rate " << rate);
        CHECK(ratio > 0.98);
        CHECK(ratio < 1.02);
        REQUIRE(stage.run_until(ended));
        CHECK(stage.now().counters.presented == 180);
    }
}

TEST_CASE("Sight keeps to sound for an hour, whichever way the device's clock is off", "[controller]") {
    // Sound that costs nothing to decode, and few pictures: it is the clocks that are tried.
    Folder folder;
    Recipe plain;
    plain.video.action = Recipe::Do::encode, plain.video.codec = Codec::vp8, plain.video.rate = Rational{10, 1};
    plain.audio.action = Recipe::Do::encode, plain.audio.codec = Codec::pcm;
    (void)made(tiny("small.webm").string(), folder / "small.mkv", plain);
    for (double ppm : {-300.0, 300.0}) {
        auto options = playing;
        options.loop.kind = Loop::Kind::all;
        Stage sounding(ppm);
        sounding.controller.open((folder / "small.mkv").string(), options);
        sounding.run(1_s * 3600);
        auto report = sounding.controller.report();
        REQUIRE(report.av_offset_ms);
        INFO(ppm << " ppm");
        CHECK(report.av_offset_ms->p99 < 20);
        CHECK(report.av_offset_ms->max < 25);
        // An hour of the device's time went by, not of the strand's.
        auto pictures = static_cast<double>(report.snapshot.counters.presented);
        CHECK(std::abs(pictures / 10 / (3600 * (1 + ppm * 1e-6)) - 1) < 2e-4);
    }
}

TEST_CASE("What fails is told by code, sentence and hint, and can be tried again", "[controller]") {
    Stage stage;
    stage.controller.open(fixture("no-such-clip.webm"), playing);
    stage.run(1_s);
    auto s = stage.now();
    REQUIRE(s.state.phase == Phase::failed);
    REQUIRE(s.error.has_value());
    CHECK(s.error->code == ErrorCode::not_found);
    CHECK_FALSE(s.error->hint.empty());
    stage.controller.play();
    stage.run(100_ms);
    CHECK(stage.controller.events().back().name == "refused");
    stage.controller.open(fixture("vp9_opus.webm"), playing);
    REQUIRE(stage.run_until(ended));
    CHECK_FALSE(stage.now().error.has_value());
}

TEST_CASE("Opening another source lets go of the one before", "[controller]") {
    Stage stage;
    stage.controller.open(fixture("vp9_opus.webm"), playing);
    stage.run(1_s);
    stage.controller.open(fixture("h264_high_aac.mp4"), playing);
    stage.controller.open(fixture("vfr_h264.mp4"), playing);
    REQUIRE(stage.run_until(ended));
    CHECK(stage.now().source == "vfr_h264.mp4");
    CHECK(stage.now().counters.presented == 150);
}

TEST_CASE("The trace is bounded, numbered without gaps, and its times never go back", "[controller]") {
    Stage stage;
    stage.controller.open(fixture("vp9_opus.webm"));
    stage.run(100_ms);
    for (int i = 0; i < 25'000; ++i) stage.controller.set_volume(i % 100 / 100.0);
    stage.run(1_s);
    auto events = stage.controller.events();
    CHECK(events.size() == 20'000);
    for (std::size_t i = 1; i < events.size(); ++i) {
        REQUIRE(events[i].n == events[i - 1].n + 1);
        REQUIRE(events[i].wall >= events[i - 1].wall);
    }
    CHECK(stage.controller.events(events.back().n - 5).size() == 5);
}

TEST_CASE("Two controllers in one process know nothing of each other", "[controller]") {
    auto strand = std::shared_ptr<VirtualStrand>(make_virtual_strand());
    Mixer mixer(*strand, {});
    std::vector<std::unique_ptr<Controller>> four;
    for (auto name : {"vp9_opus.webm", "h264_high_aac.mp4", "vfr_h264.mp4", "vp8_vorbis.webm"}) {
        four.push_back(std::make_unique<Controller>(
            Controller::Env{strand, &mixer, &CodecRegistry::standard(), make_null_sink({})}));
        four.back()->open(fixture(name), playing);
    }
    strand->run_until(2_s);
    four[1]->pause();
    four[2].reset();
    strand->run_until(20_s);
    CHECK(four[0]->snapshot().state.phase == Phase::ended);
    CHECK(four[0]->snapshot().counters.presented == 180);
    CHECK(four[1]->snapshot().state.phase == Phase::paused);
    CHECK(four[3]->snapshot().counters.presented == 180);
}

TEST_CASE("A fault inside fails the source with words, and the next one plays", "[controller]") {
    // A sink that throws now and then, where it makes pictures and where it shows them.
    struct Faulty final : FrameSink {
        int prepare_left = 1 << 20, show_left = 1 << 20;
        std::shared_ptr<const RgbImage> prepare(const Frame&) override {
            if (--prepare_left == 0) throw std::runtime_error("no pixels");
            return nullptr;
        }
        void show(std::shared_ptr<const RgbImage>, const Frame&, Time) override {
            if (--show_left == 0) throw std::bad_alloc();
        }
        void clear() override {}
        Time refresh() const override { return {}; }
    };
    auto strand = std::shared_ptr<VirtualStrand>(make_virtual_strand());
    Mixer mixer(*strand, {});
    auto sink = std::make_shared<Faulty>();
    Controller controller({strand, &mixer, &CodecRegistry::standard(), sink});
    std::mt19937 random(106);
    for (int i = 0; i < 20; ++i) {
        (i % 2 ? sink->prepare_left : sink->show_left) = 1 + static_cast<int>(random() % 100);
        controller.open(fixture("vp9_opus.webm"), playing);
        strand->run_until(strand->now() + 20_s, [&] { return controller.snapshot().state.phase == Phase::failed; });
        auto s = controller.snapshot();
        REQUIRE(s.state.phase == Phase::failed);
        REQUIRE(s.error);
        CHECK(s.error->code == ErrorCode::internal);
        CHECK_FALSE(s.error->hint.empty());
    }
    sink->prepare_left = sink->show_left = 1 << 20;
    controller.open(fixture("vp9_opus.webm"), playing);
    strand->run_until(strand->now() + 20_s, [&] { return ended(controller.snapshot()); });
    CHECK(controller.snapshot().state.phase == Phase::ended);
    CHECK(controller.snapshot().counters.presented == 180);
}

TEST_CASE("No sentence tells anybody to convert what can't be decoded", "[controller]") {
    for (auto& f : all_facts()) {
        auto name = f["file"].get<std::string>();
        auto clip = open_clip(fixture(name));
        if (!clip) continue;
        for (auto& t : (*clip)->info().tracks) {
            if (!t.problem) continue;
            INFO(name << ": " << t.problem->hint);
            CHECK(t.problem->hint.find("Convert") == std::string::npos);
            CHECK_FALSE(t.problem->hint.empty());
        }
    }
}

TEST_CASE("Every property has its type in every state, and tells of the same moment as the snapshot", "[controller]") {
    std::ifstream file(std::string(RUEDO_DOCS) + "/properties.md");
    CHECK(std::string((std::istreambuf_iterator<char>(file)), {}) == properties_page());
    std::set<std::string_view> names;
    for (auto& p : properties()) {
        CHECK(names.insert(p.name).second);
        CHECK(p.name.ends_with("_ns") == (p.type == Property::Type::time));
        CHECK((p.type == Property::Type::time) == (p.unit == "ns"));
        CHECK(find_property(p.name) == &p);
    }
    CHECK(find_property("colour of the curtain") == nullptr);
    auto fits = [](const Property& p, const nlohmann::json& v) {
        switch (p.type) {
            case Property::Type::word:
            case Property::Type::text:
                return v.is_string();
            case Property::Type::yes_or_no:
                return v.is_boolean();
            case Property::Type::number:
                return v.is_number();
            default:
                return v.is_number_integer();
        }
    };
    std::set<std::string> seen;
    std::map<std::string_view, std::set<std::string>> values;
    auto look = [&](const Snapshot& s) {
        seen.insert(find_property("state")->value(s));
        for (auto& p : properties()) {
            auto v = p.value(s);
            INFO(p.name << " " << v.dump());
            CHECK((fits(p, v) || (v.is_null() && p.meaning.find("null") != std::string_view::npos)));
            values[p.name].insert(v.dump());
        }
    };
    for (auto name : {"text_webvtt.mkv", "h264_10bit.mp4", "audio.flac"}) {
        Stage stage;
        look(stage.now());
        auto options = playing;
        options.text_language = "en";
        stage.controller.list_frames();
        stage.controller.open(fixture(name).string(), options);
        look(stage.now());
        for (int i = 0; i < 8; ++i) {
            stage.run(300_ms);
            look(stage.now());
        }
        stage.controller.set_loop({Loop::Kind::range, 1_s, 2_s});
        stage.controller.set_volume(0.25), stage.controller.set_muted(true), stage.controller.set_rate(2);
        stage.controller.pause();
        stage.run(300_ms);
        look(stage.now());
        stage.controller.set_loop({});
        stage.controller.seek(3_s), stage.controller.play();
        stage.run(20_s);
        look(stage.now());
        stage.controller.release();
        stage.run(1_s);
        look(stage.now());
    }
    for (auto state : {"empty", "playing", "paused", "ended", "failed", "closed"}) CHECK(seen.contains(state));
    // None of them stands still for want of a wire; these few have no occasion to change here.
    for (auto& p : properties())
        if (p.name != "live" && p.name != "behind_ns" && p.name != "partial" && p.name != "seeking" &&
            p.name != "dropped" && p.name != "skipped" && p.name != "repeated" && p.name != "damaged" &&
            p.name != "made_to_ns" && !p.name.starts_with("buffered")) {
            INFO(p.name);
            CHECK(values[p.name].size() > 1);
        }
}

namespace {
/// Comes as it happens; of what came, a window is kept or nothing.
class Passing final : public Clip {
  public:
    Passing(std::unique_ptr<Clip> inner, std::optional<TimeRange> window) : inner_(std::move(inner)), window_(window) {
        info_ = inner_->info();
        info_.live = true, info_.duration_known = false, info_.duration = {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override { return inner_->reader(id); }
    std::optional<TimeRange> seekable() const override { return window_; }

  private:
    std::unique_ptr<Clip> inner_;
    std::optional<TimeRange> window_;
};
}  // namespace

TEST_CASE("What is live can be sought in as far as it is kept", "[controller][seek]") {
    for (auto window : {std::optional<TimeRange>{}, std::optional(TimeRange{2_s, 4_s})}) {
        INFO("a window: " << window.has_value());
        std::shared_ptr<VirtualStrand> strand = make_virtual_strand();
        Mixer mixer(*strand);
        auto sink = std::make_shared<NotingSink>();
        std::string asked;
        Controller::Env env{strand, &mixer, &CodecRegistry::standard(), sink};
        env.open_clip = [&](const std::string& name) -> Result<std::unique_ptr<Clip>> {
            asked = name;
            RUEDO_TRY(auto inner, open_clip(tiny("tiny.webm").string()));
            return std::make_unique<Passing>(std::move(inner), window);
        };
        Controller controller(env);
        auto run = [&](Time t) { strand->run_until(strand->now() + t); };
        controller.open("harbour:mast", playing);
        run(1_s);
        CHECK(asked == "harbour:mast");
        auto s = controller.snapshot();
        CHECK(s.live);
        CHECK(s.seekable == window);
        CHECK(find_property("seekable_to_ns")->value(s) == (window ? nlohmann::json(4'000'000'000) : nullptr));
        REQUIRE(s.state.phase == Phase::playing);
        controller.seek(3_s);
        run(200_ms);
        auto at = controller.snapshot().position;
        CHECK((at > 3_s) == window.has_value());
        CHECK(at < 3300_ms);
        // Beyond the window's edges it goes to the edge; a place that does not exist is refused in words.
        controller.seek({});
        run(200_ms);
        at = controller.snapshot().position;
        CHECK((window ? at >= 2_s && at < 2300_ms : at > 1300_ms && at < 1500_ms));
        auto events = controller.report().events;
        auto refusals = std::count_if(events.begin(), events.end(), [](auto& e) { return e.name == "refused"; });
        CHECK(refusals == (window ? 0 : 2));
        controller.step(1);
        run(200_ms);
        CHECK((controller.snapshot().state.phase == Phase::paused) == window.has_value());
        controller.release();
        run(200_ms);
    }
}

TEST_CASE("Pictures are numbered once they are asked for, in whatever is open, and not over a network or for nobody",
          "[controller]") {
    for (auto name : {"vp9_opus.webm", "h264_high_aac.mp4", "vfr_h264.mp4", "edit_skip_500ms.mp4"}) {
        INFO(name);
        const nlohmann::json* wanted = nullptr;
        for (auto& t : facts(name)["tracks"])
            if (t["type"] == "video") wanted = &t;
        auto times = (*wanted)["pts_ns"].get<std::vector<std::int64_t>>();
        Stage stage;
        stage.controller.open(fixture(name).string());
        REQUIRE(stage.settle());
        stage.run(100_ms);
        CHECK_FALSE(stage.now().pictures);
        CHECK(find_property("frame")->value(stage.now()).is_null());
        stage.controller.list_frames();
        REQUIRE(stage.run_until([](auto& s) { return s.pictures != nullptr; }));
        CHECK(find_property("frame_count")->value(stage.now()) == times.size());
        std::mt19937 random(5);
        for (int i = 0; i < 8; ++i) {
            auto n = random() % times.size();
            stage.controller.seek(Time{times[n]});
            REQUIRE(stage.settle());
            stage.run(50_ms);
            CHECK(find_property("frame")->value(stage.now()) == n);
        }
        stage.controller.open(fixture("rotate90.mp4").string());
        CHECK(stage.run_until([&](auto& s) { return s.pictures && s.source == "rotate90.mp4"; }));
        stage.controller.release();
        stage.run(100_ms);
        CHECK_FALSE(stage.now().pictures);
    }
}
