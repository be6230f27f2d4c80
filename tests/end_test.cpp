// SPDX-License-Identifier: Apache-2.0
// Where clips end, by whoever is asked; sound that goes beyond the end; files that change while they play.
#include <sys/time.h>
#include <utime.h>

#include <fstream>

#include "facts/facts.h"
#include "headless.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
HeadlessResult play(const fs::path& source, std::optional<Time> length = {}) {
    HeadlessOptions o;
    o.source = source;
    o.virtual_time = true;
    o.length = length;
    return play_headless(o);
}
/// Replaces the first `tag` box's body from `skip` on.
void patch(Bytes& file, std::string_view tag, std::size_t skip, std::initializer_list<std::uint8_t> bytes) {
    auto at = std::search(file.begin(), file.end(), tag.begin(), tag.end());
    REQUIRE(at != file.end());
    std::copy(bytes.begin(), bytes.end(), at + 4 + static_cast<std::ptrdiff_t>(skip));
}
}  // namespace

TEST_CASE("Duration, the end of the last track and the position at the end are one value", "[duration]") {
    for (auto& name : playable()) {
        INFO(name);
        auto clip = open(name);
        auto facts = value(
            gather_facts(clip, CodecRegistry::standard(), {}, {.loudness = false, .cancel = nullptr, .so_far = {}}));
        Time last{};
        auto tracks = value(select_tracks(clip->info(), CodecRegistry::standard()));
        for (std::size_t i = 0; i < facts.tracks.size(); ++i)
            if (&clip->info().tracks[i] == tracks.video || &clip->info().tracks[i] == tracks.audio)
                last = std::max(last, facts.tracks[i].end);
        auto report = play(fixture(name));
        REQUIRE(report.report["state"] == "ended");
        CHECK(report.report["position_ns"] == last.ns);
        CHECK(report.report["duration_ns"] == last.ns);
        CHECK(report.report["position_ns"] == facts.duration.ns);
    }
}

TEST_CASE("A track's end is that of its last packet, however they come", "[duration]") {
    std::mt19937 random(61);
    for (int i = 0; i < 300; ++i) {
        std::vector<PacketHead> heads;
        auto n = 2 + random() % 40;
        bool stated = random() % 2;
        for (unsigned k = 0; k < n; ++k) {
            PacketHead h;
            h.pts = 40_ms * static_cast<std::int64_t>(k);
            h.duration = stated ? 40_ms : Time{};
            heads.push_back(h);
        }
        // Decoding order is not presentation order.
        for (std::size_t k = 0; k + 1 < heads.size(); k += 2)
            if (random() % 2) std::swap(heads[k], heads[k + 1]);
        TrackEnd end;
        for (auto& h : heads) end.see(h);
        Track track;
        CHECK(end.of(track) == 40_ms * static_cast<std::int64_t>(n));
        track.end = 40_ms * static_cast<std::int64_t>(n / 2);
        CHECK(end.of(track) == track.end);
    }
    CHECK_FALSE(TrackEnd().of(Track{}));
}

TEST_CASE("Sound that goes on far beyond its track's end is passed over without end and without haste", "[duration]") {
    Folder folder;
    // An edit list that cuts half a minute of sound to its first second.
    auto clip = bytes_of(fixture("h264_high_aac.mp4"));
    auto opened = value(open_clip(memory_source(clip, "cut.mp4")));
    auto track = *opened->info().main(Kind::audio);
    track.end = 1_s;
    track.preroll = {};
    auto audio = value(AudioReader::open(std::shared_ptr<Clip>(std::move(opened)), track, CodecRegistry::standard()));
    std::size_t frames = 0;
    while (auto block = value(audio->next())) frames += block->frames();
    CHECK(frames == 48'000);
}

TEST_CASE("Recordings put in a row behind a header that speaks of the first alone play to the last one's end",
          "[duration]") {
    Folder folder;
    auto one = bytes_of(fixture("audio_info.mp3"));
    auto heard = static_cast<std::int64_t>(audio_of(open("audio_info.mp3")).size() / 2);
    for (int parts : {2, 5, 80}) {
        auto path = folder / ("station" + std::to_string(parts) + ".mp3");
        put(path, many(one, parts));
        auto clip = value(open_clip(path));
        CHECK(has_finding(*clip, "no-index"));
        // The header's own frame plays as silence, and what each part would have cut off its ends is heard.
        CHECK(clip->info().duration > 3_s * parts);
        CHECK(clip->info().duration < 3_s * parts + 200_ms * parts);
        auto report = play(path);
        CHECK(report.report["state"] == "ended");
        CHECK(report.report["error"].is_null());
        CHECK(report.report["position_ns"] == clip->info().duration.ns);
        auto last = 3_s * parts - 1_s;
        CHECK(audio_of(std::move(clip), last).size() / 2 > 48'000);
    }
    // A tag behind the only recording is no second one, however large.
    auto tagged = one;
    std::mt19937 random(65);
    for (int i = 0; i < 300'000; ++i) tagged.push_back(static_cast<std::uint8_t>(random()));
    auto clip = opened(tagged, "tagged.mp3");
    CHECK(clip->info().duration == 3_s);
    CHECK(static_cast<std::int64_t>(audio_of(std::move(clip)).size() / 2) == heard);
}

TEST_CASE("What goes on past the length that its header states moves on, and is as long as it was found to be",
          "[duration]") {
    Folder folder;
    // The number of frames is a tenth of what follows.
    auto bytes = bytes_of(fixture("audio_info.mp3"));
    auto at = std::search(bytes.begin(), bytes.end(), "Xing", "Xing" + 4);
    REQUIRE(at != bytes.end());
    at[8] = at[9] = at[10] = 0, at[11] = 12;
    // Delay and padding are not stated either: nothing is cut off.
    auto name = std::search(at, bytes.end(), "LAME", "LAME" + 4);
    if (name != bytes.end()) std::fill(name, name + 24, std::uint8_t{0});
    put(folder / "short.mp3", bytes);
    Stage stage;
    stage.controller.open((folder / "short.mp3").string(), playing);
    REQUIRE(stage.run_until([](auto& s) { return s.duration_known; }));
    CHECK(stage.now().duration < 400_ms);
    Time before{};
    for (int i = 0; i < 25; ++i) {
        stage.run(100_ms);
        auto s = stage.now();
        CHECK(s.position > before);
        CHECK(s.position <= s.duration);
        before = s.position;
    }
    CHECK(stage.run_until(ended));
    CHECK(stage.now().duration > 2900_ms);
    CHECK(stage.now().position == stage.now().duration);
}

TEST_CASE("What can't be played is refused when it is opened, so that looking and playing agree", "[duration]") {
    auto whole = bytes_of(fixture("h264_high_aac.mp4"));
    std::mt19937 random(62);
    Folder folder;
    int refused = 0, played = 0;
    auto agree = [&](const Bytes& bytes, const std::string& what) {
        put(folder / "x.mp4", bytes);
        INFO(what);
        auto looked = open_playable((folder / "x.mp4").string(), CodecRegistry::standard());
        auto report = play(folder / "x.mp4");
        bool fails_at_once = report.report["state"] == "failed" && report.report["presented"] == 0;
        CHECK(looked.has_value() == !fails_at_once);
        ++(looked ? played : refused);
        if (!looked) CHECK(report.report["error"]["sentence"] == looked.error().sentence);
        // No sentence speaks of times that no clip has.
        if (!looked) CHECK(looked.error().sentence.find("2562047") == std::string::npos);
        auto size = fs::file_size(folder / "x.mp4");
        CHECK(size == bytes.size());
    };
    auto beyond = whole;
    patch(beyond, "stco", 8, {0x7F, 0xFF, 0xFF, 0x00});
    agree(beyond, "a chunk beyond the end");
    auto inner = whole;
    auto avcc = std::search(inner.begin(), inner.end(), "avcC", "avcC" + 4);
    avcc[-1] = 7, avcc[-2] = avcc[-3] = avcc[-4] = 0;
    agree(inner, "an inner box of seven bytes");
    for (int i = 0; i < 25; ++i) {
        auto bytes = whole;
        for (int k = 0; k < 3; ++k)
            bytes[random() % std::min<std::size_t>(bytes.size(), 5000)] = static_cast<std::uint8_t>(random());
        agree(bytes, "change " + std::to_string(i));
    }
    CHECK(refused >= 2);
    CHECK(played > 3);
}

TEST_CASE("Sound that can't be played is missed when looking as it is when playing", "[duration]") {
    std::mt19937 random(64);
    Folder folder;
    int missed = 0, heard = 0;
    for (auto name : {"h264_high_vorbis.mkv", "vp8_vorbis.webm", "h264_high_aac.mp4"})
        for (int i = 0; i < 12; ++i) {
            auto bytes = bytes_of(fixture(name));
            auto path = folder / name;
            for (int k = 0; k < 8; ++k) bytes[200 + random() % 4000] = static_cast<std::uint8_t>(random());
            put(path, bytes);
            INFO(name << " " << i);
            auto report = play(path, 200_ms).report;
            auto clip = open_clip(path.string());
            if (report["state"] != "playing" || !clip) continue;
            auto facts = value(gather_facts(std::move(*clip), CodecRegistry::standard(), {}, {.loudness = false}));
            auto said = [&](const std::string& sentence) {
                return std::any_of(facts.findings.begin(), facts.findings.end(),
                                   [&](auto& f) { return f.sentence == sentence; });
            };
            bool silent = false;
            for (auto& e : report["events"]) {
                if (e["event"] != "sound-missing") continue;
                silent = true;
                CHECK(said(e["detail"].get<std::string>()));
            }
            if (!silent)
                for (auto& f : facts.findings) CHECK(f.code != "sound-missing");
            ++(silent ? missed : heard);
        }
    CHECK(missed > 3);
    CHECK(heard > 3);
}

TEST_CASE("A file that is cut or written over while it plays is said to have been", "[duration]") {
    Folder folder;
    for (auto name : {"h264_high_aac.mp4", "vp9_opus.webm", "h264_aac.ts", "mjpeg_pcm.avi"}) {
        INFO(name);
        auto path = folder / name;
        fs::copy_file(fixture(name), path);
        Stage stage;
        stage.controller.open(path, {.start = {Start::How::play, {}}});
        stage.run(500_ms);
        fs::resize_file(path, fs::file_size(path) / 3);
        REQUIRE(
            stage.run_until([](auto& s) { return s.state.phase == Phase::ended || s.state.phase == Phase::failed; }));
        auto s = stage.now();
        CHECK(s.state.phase == Phase::failed);
        REQUIRE(s.error);
        CHECK(s.error->code == ErrorCode::truncated);
        CHECK(s.counters.presented + static_cast<std::uint64_t>(s.position.ns) > 0);  // what was there has been played
        auto events = stage.controller.events();
        CHECK(std::any_of(events.begin(), events.end(), [](auto& e) {
            return e.name == "finding" && e.detail.find("changed") != std::string::npos;
        }));
        fs::remove(path);
    }
    // As long as before: then it did not become shorter.
    auto over = folder / "over.ogv";
    auto bytes = bytes_of(fixture("theora_vorbis.ogv"));
    put(over, bytes);
    Stage other;
    other.controller.open(over, {.start = {Start::How::play, {}}});
    other.run(500_ms);
    std::mt19937 random(24);
    for (auto i = bytes.size() / 4; i < bytes.size(); ++i) bytes[i] = static_cast<std::uint8_t>(random());
    std::fstream(over, std::ios::in | std::ios::out | std::ios::binary)
        .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
    REQUIRE(other.run_until([](auto& s) { return s.state.phase == Phase::ended || s.state.phase == Phase::failed; }));
    REQUIRE(other.now().error);
    CHECK(other.now().error->sentence.find("was changed while it played") != std::string::npos);
    auto path = folder / "again.webm";
    fs::copy_file(fixture("vp9_opus.webm"), path);
    Stage stage;
    stage.controller.open(path, {.start = {Start::How::play, {}}});
    stage.run(500_ms);
    utimbuf later{1, 1};
    REQUIRE(::utime(path.c_str(), &later) == 0);
    stage.run(2_s);
    auto events = stage.controller.events();
    CHECK(std::count_if(events.begin(), events.end(), [](auto& e) {
              return e.name == "finding" && e.detail.find("changed") != std::string::npos;
          }) == 1);
    CHECK(stage.now().state.phase == Phase::playing);
}

TEST_CASE("No time that can be written is longer than what a clock can add", "[duration]") {
    for (auto text : {"4611686018427387904ns", "4611686018s", "1281023:53:38.000"}) {
        auto t = parse_time(text);
        INFO(text);
        if (t) CHECK(*t <= longest_asked);
    }
    for (auto text : {"9223372036854775807ns", "9223372036s", "5000000000s", "1999999:00:00.000"}) {
        INFO(text);
        CHECK_FALSE(parse_time(text));
    }
    // Sums with the longest of them stay in order.
    CHECK(longest_asked + longest_asked > longest_asked);
    CHECK(Time::max() + 1_s == Time::max());
    CHECK(Time{INT64_MIN} - 1_s == Time{INT64_MIN});
    CHECK(Time{INT64_MIN / 2} * 4 == Time{INT64_MIN});
    CHECK(scaled(Time::max(), 4) == Time::max());
    // At the end of all time there is still the last picture.
    for (auto name : {"vp9_opus.webm", "h264_high_aac.mp4", "h264_aac.ts", "theora_vorbis.ogv", "mjpeg_pcm.avi"}) {
        auto clip = open(name);
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        auto last = value(reader->at(longest_asked)).pts;
        INFO(name);
        CHECK(last > 2_s);
        CHECK(value(reader->at(Time::max())).pts == last);
    }
}

TEST_CASE("A loop that is switched on, off or elsewhere at any moment neither moves the end nor leaves the clip",
          "[duration]") {
    std::mt19937 random(26);
    for (auto* name : {"vp9_opus.webm", "h264_high_aac.mp4", "audio.flac", "rotate90.mp4"})
        for (int i = 0; i < 3; ++i) {
            Stage stage;
            auto options = playing;
            options.loop.kind = Loop::Kind::all;
            stage.controller.open(fixture(name), options);
            REQUIRE(stage.settle());
            auto length = stage.now().duration;
            Loop loop = options.loop;
            auto within = [&](Time time) {
                for (auto end = stage.strand->now() + time; stage.strand->now() < end; stage.run(10_ms)) {
                    auto s = stage.now();
                    // How long it is to the sample shows at its end.
                    REQUIRE(s.duration - length < 40_ms);
                    REQUIRE(s.position <= s.duration);
                    REQUIRE(std::max(s.decoded_to, s.sounded_to) - length < 40_ms);
                    REQUIRE(s.state.phase != Phase::failed);
                }
            };
            auto some = [&](Time most) {
                return Time{static_cast<std::int64_t>(random() % (most.ns / 1'000'000)) * 1'000'000};
            };
            for (int changes = 0; changes < 4; ++changes) {
                // Often so near to a seam that what is read ahead lies beyond it.
                auto left = length - stage.now().position;
                within(random() % 2 ? some(length) : std::max(Time{}, left - some(600_ms)));
                INFO(name << " " << i << " " << changes << " at " << format_time(stage.now().position));
                loop = {static_cast<Loop::Kind>((static_cast<int>(loop.kind) + 1 + random() % 2) % 3), length / 4,
                        length / 2};
                stage.controller.set_loop(loop);
                within(300_ms);
                if (loop.kind == Loop::Kind::range && stage.now().state.phase == Phase::playing)
                    CHECK(stage.now().position < length / 2);
                if (stage.now().state.phase == Phase::ended) stage.controller.play(), stage.settle();
            }
            stage.controller.set_loop({});
            stage.run({});
            auto left = length - stage.now().position;
            auto begun = stage.strand->now();
            if (stage.now().state.phase != Phase::ended) {
                INFO(name << " " << i << ", from " << format_time(length - left));
                REQUIRE(stage.run_until(ended));
                CHECK(stage.strand->now() - begun < left + 400_ms);
                CHECK(stage.strand->now() - begun > left - 100_ms);
            }
            CHECK(stage.now().position == stage.now().duration);
        }
}
