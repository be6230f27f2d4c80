// SPDX-License-Identifier: Apache-2.0
// Ladders that are made here, held against the standards they follow, and played.
#include "convert/ladder.h"

#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include <nlohmann/json.hpp>
#include <random>

#include "convert/jobs.h"
#include "convert/ladder_lists.h"
#include "streams.h"

using namespace ruedo;
using namespace ruedo::test;
using stream::Playlist;

namespace {
Playlist list_of(const fs::path& path) {
    auto bytes = bytes_of(path);
    return value(stream::parse_playlist(bytes, path.string()));
}
struct FrameSource {
    std::vector<int> numbers;
    std::vector<Time> times;
    std::set<std::uint32_t> rungs;
};
FrameSource frames_of(const fs::path& path, StreamOptions options = {.best = true, .on_demand = true}) {
    auto clip = std::shared_ptr<Clip>(value(open_clip(path.string(), options)));
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    FrameSource p;
    while (auto picture = value(reader->next())) {
        p.numbers.push_back(demo::read_strip(render(*picture, 96, 54)).value_or(-1));
        p.times.push_back(picture->pts);
        p.rungs.insert(picture->variant);
    }
    return p;
}
}  // namespace

TEST_CASE("Rungs are read as they are written, or proposed in the shape of the clip", "[ladder]") {
    auto rungs = parse_rungs("1280x720@2.5M,640x360@700k,320x180@90000");
    REQUIRE(rungs);
    CHECK(*rungs == std::vector<RungSpec>{{1280, 720, 2'500'000}, {640, 360, 700'000}, {320, 180, 90'000}});
    for (auto bad :
         {"", "1280x720", "1280@1M", "1281x720@1M", "1280x720@1G", "1280x720@0k", "x720@1M", "1280x720@1M,,"}) {
        INFO(bad);
        CHECK(!parse_rungs(bad));
    }
    for (auto [w, h, turn] :
         {std::tuple{1920, 1080, 0}, {1080, 1920, 0}, {1920, 1080, 90}, {720, 576, 0}, {64, 36, 0}, {8000, 4000, 0}}) {
        VideoFormat f;
        f.width = w, f.height = h, f.rotation = turn;
        auto all = propose_rungs(f, 30, 5);
        REQUIRE(!all.empty());
        for (std::size_t i = 0; i < all.size(); ++i) {
            CHECK((all[i].width % 2 == 0 && all[i].height % 2 == 0));
            auto shape = static_cast<double>(all[i].width) / all[i].height;
            CHECK(shape == Approx(static_cast<double>(f.display_width()) / f.display_height()).epsilon(0.03));
            if (i > 0)
                CHECK((all[i].width < all[i - 1].width && all[i].bitrate < all[i - 1].bitrate &&
                       all[i].bitrate * 2.2 > all[i - 1].bitrate));
        }
    }
}

TEST_CASE("A ladder's rungs begin their segments together, each with a keyframe, and its lists say what is so",
          "[ladder]") {
    auto& made = made_ladder();
    REQUIRE(made.rungs.size() == 3);
    CHECK(made.segments == 6);
    for (auto& [name, form] :
         std::vector<std::pair<std::string, std::string>>{{"master.m3u8", "m4s"}, {"master-ts.m3u8", "ts"}}) {
        INFO(name);
        auto master = list_of(made.path / name);
        REQUIRE(master.master);
        REQUIRE(master.master->variants.size() == 3);
        auto audio = list_of(made.path / "sound" / form / "list.m3u8").list;
        double audio_peak = 0;
        for (auto& s : audio.segments)
            audio_peak = std::max(audio_peak, static_cast<double>(fs::file_size(s.address)) * 8 / s.duration.seconds());
        std::optional<std::vector<Time>> starts;
        for (auto& v : master.master->variants) {
            INFO(v.address);
            auto list = list_of(v.address).list;
            CHECK((list.ended && list.too_long == 0 && list.segments.size() == 6));
            CHECK((v.codecs.starts_with("avc1.64") && v.codecs.ends_with(",mp4a.40.2") &&
                   v.frame_rate == Rational{30, 1}));
            double peak = 0, bytes = 0;
            std::vector<Time> times;
            for (auto& s : list.segments) {
                Bytes all = s.map ? bytes_of(s.map->address) : Bytes{};
                auto body = bytes_of(s.address);
                peak = std::max(peak, static_cast<double>(body.size()) * 8 / s.duration.seconds());
                bytes += static_cast<double>(body.size());
                all.insert(all.end(), body.begin(), body.end());
                if (form == "ts") {
                    // Tables first, and every counter goes on within a segment.
                    CHECK((all[0] == 0x47 && (all[1] & 0x1F) == 0 && all[2] == 0 && all[188] == 0x47));
                    std::map<int, int> counters;
                    for (std::size_t at = 0; at + 188 <= all.size(); at += 188) {
                        REQUIRE(all[at] == 0x47);
                        auto pid = (all[at + 1] & 0x1F) << 8 | all[at + 2];
                        auto counter = all[at + 3] & 15;
                        if (counters.contains(pid)) CHECK(counter == ((counters[pid] + 1) & 15));
                        counters[pid] = counter;
                    }
                }
                auto clip = value(open_segment(memory_source(std::move(all), "segment")));
                auto& track = *clip->info().main(Kind::video);
                CHECK((track.video.width == v.width && track.video.height == v.height));
                auto reader = clip->reader(track.id);
                PacketHead head;
                Time first = Time::max(), end{};
                for (int k = 0; value(reader->next(head)); ++k) {
                    CHECK(head.keyframe == (k == 0));
                    first = std::min(first, head.pts), end = std::max(end, head.pts + head.duration);
                }
                CHECK(std::abs((end - first - s.duration).ns) < 100'000);
                auto zero = form == "ts" ? 1_s : Time{};
                times.push_back(*clip->info().zero + first - zero);
                CHECK(std::abs((times.back() - s.start).ns) < 100'000);
            }
            if (!starts) starts = times;
            CHECK(*starts == times);
            // As stated: no segment takes more, with its sound; and not much less is stated as the mean.
            CHECK(static_cast<double>(v.bandwidth) >= peak + audio_peak - 2);
            CHECK(static_cast<double>(v.average_bandwidth) ==
                  Approx(bytes * 8 / list.end().seconds() + audio_peak).epsilon(0.12));
            // Every keyframe can be fetched alone.
            auto keys = list_of(fs::path(v.address).parent_path() / "keys.m3u8").list;
            REQUIRE((keys.iframes_only && keys.segments.size() == 6));
            for (auto& s : keys.segments) {
                Bytes all = s.map ? bytes_of(s.map->address) : Bytes{};
                auto body = bytes_of(s.address);
                REQUIRE(s.range->to <= body.size());
                all.insert(all.end(), body.begin(), body.begin() + static_cast<std::ptrdiff_t>(s.range->to));
                std::shared_ptr<Clip> clip = value(open_segment(memory_source(std::move(all), "key")));
                auto reader =
                    value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
                CHECK(value(reader->next()));
            }
        }
    }
}

TEST_CASE("Every rung of a ladder that is made here plays picture for picture, by playlists and by the manifest",
          "[ladder]") {
    auto& made = made_ladder();
    std::vector<int> all(180);
    std::iota(all.begin(), all.end(), 0);
    for (auto name : {"master.m3u8", "master-ts.m3u8", "manifest.mpd"}) {
        INFO(name);
        auto clip = value(open_clip((made.path / name).string()));
        auto report = *clip->stream();
        REQUIRE(report.rungs.size() == 3);
        for (auto& r : report.rungs) {
            INFO(r.id);
            StreamOptions o{.on_demand = true};
            o.rung = r.id;
            auto p = frames_of(made.path / name, o);
            CHECK(p.times.size() == 180);
            bool exact = true;
            for (std::size_t k = 0; k < p.times.size(); ++k)
                exact = exact && p.times[k] == ticks_to_time(static_cast<std::int64_t>(k), 1, 30);
            CHECK(exact);
            if (r.width == 96) CHECK(p.numbers == all);
        }
        auto heard = audio_of(std::shared_ptr<Clip>(std::move(clip)));
        auto was = audio_of(value(open_clip(tiny("ladder.mp4").string())));
        CHECK(std::abs(static_cast<double>(heard.size()) - static_cast<double>(was.size())) < 4800);
        // The bursts lie where they lay.
        auto onset = [](const std::vector<float>& s, std::size_t from) {
            while (from < s.size() && std::abs(s[from]) < 0.05F) ++from;
            return from / 2;
        };
        for (std::size_t second : {1, 3, 5}) {
            auto from = (second * 48000 - 12000) * 2;
            CHECK(std::abs(static_cast<double>(onset(heard, from)) - static_cast<double>(onset(was, from))) < 96);
        }
    }
}

TEST_CASE("Two hundred changes of rung lose no picture and show none twice", "[ladder]") {
    auto& made = made_ladder();
    auto host = value(stream::StaticServer::start({.folder = made.path}));
    std::uint64_t switches = 0;
    std::size_t wrong = 0;
    std::set<std::uint32_t> rungs;
    for (int run = 0; run < 60 && switches < 200; ++run) {
        auto address = host->address() + (run % 2 ? "master.m3u8" : "master-ts.m3u8");
        auto clip = std::shared_ptr<Clip>(value(open_clip(address, StreamOptions{.on_demand = true})));
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        std::size_t k = 0;
        for (;;) {
            // It is shown small and large in turns, and nothing larger than that is fetched.
            auto small = (static_cast<int>(k) / 30 + run) % 3;
            clip->shown_at(small == 0 ? 48 : small == 1 ? 64 : 96, 20);
            auto p = value(reader->next());
            if (!p) break;
            wrong += p->pts != ticks_to_time(static_cast<std::int64_t>(k++), 1, 30);
            if (p->width == 96) wrong += demo::read_strip(render(*p)) != static_cast<int>(k - 1);
            rungs.insert(p->variant);
        }
        CHECK(k == 180);
        switches += clip->stream()->switches;
    }
    CHECK(wrong == 0);
    CHECK(rungs.size() == 3);
    CHECK(switches >= 200);
}

TEST_CASE("A ladder may be encrypted, is never made over what is there, and is whole or not at all", "[ladder]") {
    Folder folder;
    LadderOptions o;
    o.out = folder / "locked";
    o.recipe.rungs = *parse_rungs("96x54@90k,64x36@50k");
    o.recipe.segment = 2_s, o.recipe.key = true, o.measure = false;
    auto made = value(make_ladder(tiny("ladder.mp4").string(), o, CodecRegistry::standard()));
    auto clip = value(open_clip(made.master.string()));
    CHECK(clip->stream()->encrypted == "aes-128");
    CHECK(frames_of(made.master).numbers.back() == 179);
    // Without the key nothing of it can be read.
    fs::remove(made.path / "key");
    CHECK(!open_clip(made.master.string()));
    auto again = make_ladder(tiny("ladder.mp4").string(), o, CodecRegistry::standard());
    REQUIRE(!again);
    CHECK(again.error().code == ErrorCode::exists);
    o.out = folder / "stopped";
    o.told = [](auto&) { return false; };
    auto stopped = make_ladder(tiny("ladder.mp4").string(), o, CodecRegistry::standard());
    REQUIRE(!stopped);
    CHECK(stopped.error().code == ErrorCode::cancelled);
    o.told = {}, o.recipe.dash = true;
    CHECK(make_ladder(tiny("ladder.mp4").string(), o, CodecRegistry::standard()).error().code == ErrorCode::refused);
    o.recipe.key = false;
    CHECK(make_ladder((folder / "none.mp4").string(), o, CodecRegistry::standard()).error().code ==
          ErrorCode::not_found);
    CHECK(make_ladder("camera://harbour", o, CodecRegistry::standard()).error().code == ErrorCode::refused);
    std::size_t left = 0;
    for (auto& entry : fs::directory_iterator(folder.path)) left += entry.path().filename() != "locked";
    CHECK(left == 0);
}

TEST_CASE("A rung of another shape than the clip's is not stretched: bars fill the rest, and it is said", "[ladder]") {
    Folder folder;
    // Shown upright, 360 x 640.
    int n = 0;
    for (auto [rung, width, height] : {std::tuple{"320x180@300k", 101, 180},
                                       {"200x200@300k", 112, 200},
                                       {"90x320@300k", 90, 160},
                                       {"180x320@300k", 180, 320},
                                       {"180x318@300k", 180, 318}}) {
        INFO(rung);
        LadderOptions o{.out = folder / std::to_string(n++), .measure = false};
        o.recipe.rungs = *parse_rungs(rung), o.recipe.segment = 2_s;
        auto made = value(make_ladder(fixture("rotate90.mp4").string(), o, CodecRegistry::standard()));
        auto& spec = o.recipe.rungs[0];
        bool whole = width == spec.width && height == spec.height;
        CHECK(made.findings.empty() == whole);
        if (!whole) CHECK(made.findings[0].code == "rung-shape");
        auto clip = std::shared_ptr<Clip>(value(open_clip(made.master.string())));
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        auto image = render(value(reader->at(1_s)));
        REQUIRE((image.width == spec.width && image.height == spec.height));
        auto lit = [&](int x, int y) {
            auto* p =
                image.pixels.data() +
                (static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) + static_cast<std::size_t>(x)) * 4;
            return std::max({p[0], p[1], p[2]}) > 24;
        };
        int columns = 0, rows = 0;
        for (int x = 0; x < image.width; ++x) {
            int any = 0;
            for (int y = 0; y < image.height; ++y) any += lit(x, y);
            columns += any > image.height / 4;
        }
        for (int y = 0; y < image.height; ++y) {
            int any = 0;
            for (int x = 0; x < image.width; ++x) any += lit(x, y);
            rows += any > width / 12;
        }
        CHECK(std::abs(columns - width) <= 4);
        CHECK(std::abs(rows - height) <= 4);
    }
}

TEST_CASE("A ladder waits in the queue of conversions, in other codecs and two passes, and outlives what died on it",
          "[ladder]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    LadderRecipe r;
    r.rungs = *parse_rungs("192x108@200k,96x54@100k");
    r.segment = 1_s, r.dash = true;
    r.video = Codec::vp9, r.audio = Codec::opus, r.passes = 2;
    auto in = tiny("ladder.mp4").string();
    auto job = value(queue.add_ladder(in, folder / "ladder", r));
    CHECK(queue.list().at(0).ladder == r);
    // What a process that died left half done goes.
    auto child = ::fork();
    if (child == 0) ::_exit(0);
    int status = 0;
    ::waitpid(child, &status, 0);
    auto left = folder / fmt::format(".ladder.{}-0.part", child);
    fs::create_directories(left);
    double before = -1;
    bool rises = true;
    done(queue.run(CodecRegistry::standard(), [&](const Job& j) {
        rises = rises && j.done >= before, before = j.done;
        return true;
    }));
    auto made = queue.list().at(0);
    INFO(made.sentence);
    REQUIRE(made.state == Job::State::done);
    CHECK((rises && made.bytes > 10'000 && !fs::exists(left)));
    for (auto& entry : fs::directory_iterator(folder / "ladder"))
        CHECK(entry.path().string().find(".pass") == std::string::npos);
    // Both lists name what is in it, and all of it plays, each rung from each segment's start.
    auto clip = value(open_clip((folder / "ladder/master.m3u8").string()));
    auto report = clip->stream();
    REQUIRE((report && report->rungs.size() == 2));
    for (auto& rung : report->rungs) {
        CHECK((rung.codecs.find("vp09") == 0 && rung.codecs.find("opus") != std::string::npos));
        CHECK(rung.segments == 6);
    }
    for (auto* list : {"ladder/master.m3u8", "ladder/manifest.mpd"}) {
        INFO(list);
        CHECK(frames_of(folder / list).numbers == counting(180));
    }
    // The same once more fails in words, and keeps what is there.
    CHECK(queue.add_ladder(in, folder / "ladder", r).error().code == ErrorCode::exists);
    (void)value(queue.add_ladder((folder / "none.mp4").string(), folder / "other", r));
    done(queue.run(CodecRegistry::standard(), [](const Job&) { return true; }));
    CHECK(queue.list().at(1).state == Job::State::failed);
    CHECK(queue.list().at(1).sentence.find("none.mp4") != std::string::npos);
}

TEST_CASE("Two passes land nearer to the bitrate of every rung, in the same segments", "[ladder]") {
    Folder folder;
    auto off = [&](int passes) {
        LadderOptions o;
        o.out = folder / std::to_string(passes);
        o.recipe.rungs = *parse_rungs("192x108@160k,96x54@60k");
        o.recipe.segment = 1_s, o.recipe.passes = passes, o.measure = false;
        auto made = value(make_ladder(tiny("ladder.mp4").string(), o, CodecRegistry::standard()));
        CHECK(made.segments == 6);
        double worst = 0;
        for (std::size_t i = 0; i < made.rungs.size(); ++i) {
            auto rate = static_cast<double>(made.rungs[i].bytes) * 8 / 6;
            worst = std::max(worst, std::abs(rate / o.recipe.rungs[i].bitrate - 1));
        }
        return worst;
    };
    auto one = off(1), two = off(2);
    INFO("off by " << one << " in one pass, by " << two << " in two");
    CHECK(two < std::max(0.15, one));
}

TEST_CASE("Recipes of ladders are kept as they are, and what can't be is refused in words", "[ladder]") {
    std::mt19937 random(17);
    auto any = [&](int n) { return static_cast<int>(random() % static_cast<unsigned>(n)); };
    int fine = 0, refused = 0;
    for (int i = 0; i < 400; ++i) {
        LadderRecipe r;
        for (int n = any(4); n > 0; --n)
            r.rungs.push_back(
                {16 + any(1000) * 2, 16 + any(1000) * 2, 10'000 + static_cast<std::uint32_t>(any(9'000'000))});
        r.propose = static_cast<std::size_t>(any(10)), r.segment = 100_ms * any(700);
        r.fragments = any(4) != 0, r.transport = any(2) != 0, r.dash = any(2) != 0, r.key = any(3) == 0;
        constexpr std::array video{Codec::h264, Codec::vp9, Codec::av1, Codec::vp8, Codec::aac};
        constexpr std::array audio{Codec::aac, Codec::opus, Codec::vp9};
        r.video = video.at(static_cast<std::size_t>(any(5))), r.audio = audio.at(static_cast<std::size_t>(any(3)));
        r.passes = any(4);
        auto checked = r.check();
        if (!checked) CHECK_FALSE(checked.error().sentence.empty());
        if (!r.fragments && !r.transport) continue;  // has no name
        auto again = ladder_recipe_from_json(to_json(r), "it");
        CHECK(again.has_value() == checked.has_value());
        if (again) CHECK(*again == r);
        ++(again ? fine : refused);
        // Whatever goes where it can't go never passes.
        bool stream_only = r.transport && (r.video == Codec::vp9 || r.video == Codec::av1 || r.audio == Codec::vp9);
        if (stream_only || (r.key && r.dash) || r.propose == 0) CHECK_FALSE(checked);
    }
    CHECK((fine > 5 && refused > 100));
    for (auto bad : {R"([])", R"({"rungs": 5})", R"({"wrap": "box"})", R"({"passes": "two"})", R"({"colour": 1})",
                     R"({"rungs": [{"width": 1280}]})", R"({"video": "aac"})", R"({"segment_ns": 1})"}) {
        INFO(bad);
        CHECK_FALSE(ladder_recipe_from_json(nlohmann::json::parse(bad), "it"));
    }
}

TEST_CASE("Lists name each of several captions on its own, whatever their languages, and tell lengths exactly",
          "[ladder][captions]") {
    std::mt19937 random(83);
    const std::array languages{"", "en", "de", "pt-BR", "en", "x\"y\nURI=\"z", "Deutsch", "mul", "", "\xFF\xFE"};
    for (int i = 0; i < 40; ++i) {
        Folder folder;
        LadderLists lists;
        lists.rate = {30, 1};
        auto& row = lists.pictures.emplace_back();
        row.name = "a", row.codecs = "avc1.64001e", row.width = 640, row.height = 360;
        Time at{};
        for (int n = 1; n < 9; ++n) {
            // Near a whole second now and then.
            auto length = random() % 2 ? 4_s - Time{static_cast<std::int64_t>(random() % 700)}
                                       : Time{static_cast<std::int64_t>(1 + random() % 4'000'000) * 1000};
            row.fragments.push_back({fmt::format("{}.m4s", n), 1000 + random() % 9000, 500, at, length});
            at += length;
        }
        lists.audio = row;
        lists.audio->name = "sound", lists.audio->codecs = "mp4a.40.2", lists.audio->channels = 2;
        lists.audio->language = languages[random() % languages.size()];
        for (auto n = random() % 6; n > 0; --n) lists.texts.push_back({languages[random() % languages.size()], {}});
        auto said_of = [&](std::string_view language) {
            return std::any_of(lists.texts.begin(), lists.texts.end(), [&](auto& t) { return t.language == language; });
        };
        for (auto* place : {"a/m4s", "sound/m4s"}) fs::create_directories(folder / place);
        done(lists.write(folder.path, true));
        auto master = list_of(folder / "master.m3u8").master;
        REQUIRE(master);
        CHECK(master->alternatives.size() == 1 + lists.texts.size());
        std::set<std::pair<std::string, std::string>> names;
        for (std::size_t k = 0; k < master->alternatives.size(); ++k) {
            auto& a = master->alternatives[k];
            auto& said = k == 0 ? lists.audio->language : lists.texts[k - 1].language;
            CHECK((!a.name.empty() && names.insert({a.group, a.name}).second));
            CHECK(a.language == (is_language_tag(said) ? said : ""));
            CHECK(fs::path(a.address).lexically_normal().string().starts_with(folder.path.string()));
        }
        auto list = list_of(folder / "a/m4s/list.m3u8").list;
        REQUIRE(list.segments.size() == row.fragments.size());
        for (std::size_t k = 0; k < row.fragments.size(); ++k)
            CHECK(std::abs((list.segments[k].duration - row.fragments[k].duration).ns) <= 500);
        if (!lists.texts.empty()) CHECK(list_of(folder / "text-1/m4s/list.m3u8").list.segments.size() == 8);
        auto manifest = bytes_of(folder / "manifest.mpd");
        std::string xml(manifest.begin(), manifest.end());
        CHECK(xml.find("URI=") == std::string::npos);
        bool told = xml.find("lang=\"mul\"") != std::string::npos;
        CHECK(told == (lists.audio->language == "mul" || said_of("mul")));
    }
}
