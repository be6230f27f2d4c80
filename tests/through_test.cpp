// SPDX-License-Identifier: Apache-2.0
// Playing what a target can't take, made for it while it plays; and sources of every awkward kind.
#include "conversions.h"
#include "convert/through.h"
#include "media/codec_headers.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
using Opened = std::function<Result<std::unique_ptr<Clip>>(const std::string&)>;
Opened through(const char* target, std::shared_ptr<LiveTranscodeCounts> counts = {}, std::uint64_t keep = 64 << 20) {
    return [=](const std::string& name) -> Result<std::unique_ptr<Clip>> {
        RUEDO_TRY(auto clip, open_clip(name));
        return open_live_transcode(std::move(clip),
                                   {.target = value(find_target(target)), .keep = keep, .counts = counts},
                                   CodecRegistry::standard());
    };
}
}  // namespace

TEST_CASE("What a target can't take plays through it with every picture and every burst where it was",
          "[live-transcode]") {
    for (auto name : {"vp9_opus.webm", "theora_vorbis.ogv", "h264_high_vorbis.mkv"}) {
        INFO(name);
        auto counts = std::make_shared<LiveTranscodeCounts>();
        Stage stage(0, true, through("handset-basic", counts));
        stage.controller.open(fixture(name).string(), playing);
        REQUIRE(stage.run_until(ended));
        auto before = frames_in(fixture(name));
        REQUIRE(stage.sink->shown.size() == before.size());
        for (std::size_t i = 0; i < before.size(); ++i) {
            CHECK(stage.sink->shown[i].number == before[i].number);
            CHECK(stage.sink->shown[i].pts == before[i].pts);
        }
        CHECK(stage.now().counters.dropped == 0);
        // It ends where it ended, and not with the last packet of an encoder.
        CHECK(stage.now().position <= value(open_clip(fixture(name)))->info().duration + 10_ms);
        CHECK(counts->restarts == 0);
        std::shared_ptr<Clip> clip = value(through("handset-basic")(fixture(name).string()));
        CHECK((clip->info().main(Kind::video)->codec == Codec::h264 &&
               clip->info().main(Kind::audio)->codec == Codec::aac));
        auto heard = onsets_in(fixture(name));
        auto audio = audio_of(clip);
        for (auto at : heard) {
            float near = 0, ahead = 0;
            for (std::size_t i = at; i < std::min(at + 480, audio.size() / 2); ++i)
                near = std::max(near, std::abs(audio[2 * i]));
            for (std::size_t i = at > 2400 ? at - 2400 : 0; i + 200 < at; ++i)
                ahead = std::max(ahead, std::abs(audio[2 * i]));
            CHECK(near > 0.1F);
            CHECK(ahead < 0.1F);
        }
    }
}

TEST_CASE("Going elsewhere begins there anew, and what was made is used again as long as it is kept",
          "[live-transcode]") {
    auto counts = std::make_shared<LiveTranscodeCounts>();
    std::shared_ptr<Clip> clip = value(through("handset-basic", counts)(fixture("vp9_opus.webm").string()));
    auto& track = *clip->info().main(Kind::video);
    auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
    auto before = frames_in(fixture("vp9_opus.webm"));
    std::mt19937 random(4);
    auto seen = [&](Time t) {
        auto p = value(reader->at(t));
        auto it = std::upper_bound(before.begin(), before.end(), t, [](Time v, auto& s) { return v < s.pts; });
        auto& wanted = it == before.begin() ? *it : *std::prev(it);
        CHECK(demo::read_strip(render(p)) == wanted.number);
        CHECK(p.pts == wanted.pts);
        // And on from there.
        if (auto next = value(reader->next()); next && &wanted + 1 < &*before.end())
            CHECK(demo::read_strip(render(*next)) == (&wanted + 1)->number);
    };
    seen(4_s);
    auto once = counts->restarts.load();
    CHECK(once == 1);
    seen(4_s + 300_ms);
    seen(4_s);
    CHECK(counts->restarts == once);
    for (int i = 0; i < 15; ++i) seen(Time{static_cast<std::int64_t>(random() % 5'900'000'000U)});
    auto many = counts->restarts.load();
    CHECK(many < 12);
    for (std::size_t i = 0; i < before.size(); i += 4) seen(before[i].pts);
    CHECK(counts->restarts <= many + 1);
    CHECK(counts->kept_bytes > 10'000);
    // With next to nothing kept all stays right, only more is made again.
    auto few = std::make_shared<LiveTranscodeCounts>();
    clip = value(through("handset-basic", few, 1000)(fixture("vp9_opus.webm").string()));
    reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
    for (auto t : {5_s, 1_s, 3_s, 0_s, 5_s, 2_s}) seen(t);
    // What a target takes comes as it is.
    auto none = std::make_shared<LiveTranscodeCounts>();
    auto same = value(through("desktop", none)(fixture("vp9_opus.webm").string()));
    CHECK(same->info().main(Kind::video)->codec == Codec::vp9);
    CHECK(none->kept_bytes == 0);
}

TEST_CASE("The trace tells both ends: what is played, and how far the converter in front of it has come",
          "[live-transcode]") {
    Stage stage(0, true, through("handset-basic"));
    stage.controller.open(fixture("vp9_opus.webm").string(), playing);
    REQUIRE(stage.run_until([](auto& s) { return s.position > 1_s; }));
    auto now = stage.now();
    REQUIRE(now.converted_to);
    CHECK(*now.converted_to >= now.decoded_to);
    stage.controller.seek(4_s);
    REQUIRE(stage.run_until(ended));
    int began = 0;
    for (auto& e : stage.controller.events()) {
        if (e.name == "converting") ++began;
        if (e.name == "converting" && began == 2) CHECK(e.detail.find("4.0") != std::string::npos);
        if (e.name == "first-picture" || e.name == "ended") {
            REQUIRE(e.made);
            INFO(e.name << " at " << e.media.ns << ", made to " << e.made->ns);
            CHECK(*e.made + 20_ms >= e.media);  // sound may go on behind the last picture
        }
        CHECK(to_json(e).contains("made_ns") == e.made.has_value());
    }
    CHECK(began == 2);
    // Where nothing is made there is no such end.
    Stage plain(0, true, through("desktop"));
    plain.controller.open(fixture("vp9_opus.webm").string(), playing);
    REQUIRE(plain.run_until(ended));
    CHECK_FALSE(plain.now().converted_to);
    for (auto& e : plain.controller.events()) CHECK((e.name != "converting" && !e.made));
}

TEST_CASE("A reader that lags far behind another gets all there is, though it is not kept", "[live-transcode]") {
    Folder folder;
    std::vector<Time> times;
    for (int i = 0; i < 1400; ++i) times.push_back(10_ms * i);
    auto path = odd_clip(folder, "many.webm", 64, 36, times, 10_ms);
    auto counts = std::make_shared<LiveTranscodeCounts>();
    auto clip = value(through("scene-engine-mp4", counts, 1000)(path.string()));
    auto id = clip->info().main(Kind::video)->id;
    auto ahead = clip->reader(id), behind = clip->reader(id);
    PacketHead head;
    std::vector<Time> first, second;
    REQUIRE(value(behind->next(head)));
    second.push_back(head.pts);
    while (value(ahead->next(head))) first.push_back(head.pts);
    while (value(behind->next(head))) second.push_back(head.pts);
    CHECK(first.size() > 800);  // it takes sixty a second
    REQUIRE(first.size() == second.size());
    for (std::size_t i = 0; i < first.size(); ++i) CHECK(std::abs((first[i] - second[i]).ns) <= 1);
    CHECK(counts->restarts >= 1);
}

TEST_CASE("Sources as nobody wants them become clips that hold what they held, or are refused in words",
          "[live-transcode]") {
    Folder folder;
    std::vector<Time> second, fast, gaps, late;
    for (int i = 0; i < 30; ++i) second.push_back(ticks_to_time(i, 1, 30));
    for (int i = 0; i < 200; ++i) fast.push_back(1_ms * i);
    for (int i = 0; i < 10; ++i) gaps.push_back(1_ms * (i * i * i * 9));
    for (int i = 0; i < 10; ++i) late.push_back(36000_s + 100_ms * i);
    struct Case {
        const char* name;
        int width, height;
        const std::vector<Time>& times;
        std::optional<Time> audio;
    };
    const std::vector<Time> one{Time{}};
    for (auto& c :
         {Case{"dot.webm", 1, 1, one, {}}, Case{"flat.webm", 8191, 3, one, {}}, Case{"one.webm", 64, 48, one, {}},
          Case{"fast.webm", 64, 48, fast, {}}, Case{"gaps.webm", 64, 48, gaps, {}}, Case{"late.webm", 64, 48, late, {}},
          Case{"late_sound.webm", 64, 48, second, 700_ms}, Case{"long_sound.webm", 64, 48, one, 0_s}}) {
        auto source = odd_clip(folder, c.name, c.width, c.height, c.times, 40_ms, c.audio);
        auto times_in = [](const fs::path& path) {
            auto clip = value(open_clip(path.string()));
            auto reader = clip->reader(clip->info().main(Kind::video)->id);
            std::vector<Time> all;
            PacketHead head;
            while (value(reader->next(head))) all.push_back(head.pts);
            std::sort(all.begin(), all.end());
            return all;
        };
        auto before = times_in(source);
        for (auto [out, codec] : {std::pair{"o.mp4", Codec::h264},
                                  {"o.webm", Codec::vp8},
                                  {"o.mkv", Codec::theora},
                                  {"o.ogv", Codec::theora},
                                  {"o2.mkv", Codec::mjpeg},
                                  {"o.ts", Codec::h264},
                                  {"a.mp4", Codec::av1}}) {
            INFO(c.name << " into " << out);
            Recipe r;
            r.video.action = Recipe::Do::encode, r.video.codec = codec, r.video.effort = 0;
            auto result =
                convert(source.string(), {.out = folder / out, .recipe = r, .target = {}, .replace = Replace::anything},
                        CodecRegistry::standard());
            if (!result) {
                // Only for a reason that is the picture's size.
                CHECK((result.error().code == ErrorCode::refused || result.error().code == ErrorCode::limit));
                CHECK((codec == Codec::av1 || c.width > 2000 || c.width < 2));
                CHECK_FALSE(result.error().sentence.empty());
                continue;
            }
            if (codec == Codec::av1) CHECK(c.width >= 64);
            CHECK(result->video.frames == before.size());
            if (std::string(out) == "o.ogv" || std::string(out) == "o.ts") continue;
            auto after = times_in(folder / out);
            REQUIRE(after.size() == before.size());
            for (std::size_t i = 0; i < after.size(); ++i) CHECK(std::abs((after[i] - before[i]).ns) <= 1'000'000);
            auto clip = value(open_clip((folder / out).string()));
            if (c.audio) {
                auto length = std::max(before.back() + 40_ms, *c.audio + 1_s);
                CHECK(std::abs((clip->info().duration - length).ns) < (30_ms).ns);
            }
        }
    }
    // Eight channels, and sound that changes its mind about its rate.
    Recipe r;
    r.audio.action = Recipe::Do::encode;
    r.audio.channels = 8;
    CHECK(refused(fixture("h264_high_aac.mp4").string(), folder / "e.mp4", r).code == ErrorCode::refused);
    CHECK(made(fixture("h264_high_aac.mp4").string(), folder / "e.webm", r).audio.channels == 8);
}

TEST_CASE("What is made as it goes is described as what lies in a file is", "[live-transcode]") {
    auto target = value(find_target("open-web-view"));
    auto rules = target.video;
    for (auto [codec, begins] : {std::pair{Codec::vp8, "vp8"}, {Codec::vp9, "vp09.00."}}) {
        INFO(codec_name(codec));
        target.video = rules;
        std::erase_if(target.video, [codec = codec](auto& r) { return r.codec != codec; });
        REQUIRE(target.video.size() == 1);
        auto clip = value(open_live_transcode(value(open_clip(fixture("theora_vorbis.ogv"))), {.target = target},
                                              CodecRegistry::standard()));
        auto& made = *clip->info().main(Kind::video);
        CHECK(made.codec == codec);
        CHECK(made.codec_string.starts_with(begins));
        CHECK_FALSE(made.problem);
        // In Matroska's form it is the same.
        if (codec != Codec::vp9) continue;
        Track listed;
        listed.kind = Kind::video, listed.codec = codec;
        listed.config = {1, 1, made.config[0], 2, 1, made.config[1], 3, 1, 8, 4, 1, 1};
        describe_from_config(listed);
        CHECK(listed.codec_string == made.codec_string);
    }
    // Of containers into which nothing goes that is taken, none is.
    target.containers = {"ogg"};
    auto none =
        open_live_transcode(value(open_clip(fixture("vp9_opus.webm"))), {.target = target}, CodecRegistry::standard());
    REQUIRE_FALSE(none);
    CHECK((none.error().code == ErrorCode::refused && none.error().sentence.find(target.title) != std::string::npos));
}
