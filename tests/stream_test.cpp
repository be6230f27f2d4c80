// SPDX-License-Identifier: Apache-2.0
// Streams: playlists as their standard lays them down, segments put together without a seam, and what goes wrong.
#include "streams.h"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <chrono>
#include <thread>

#include "facts/facts.h"
#include "stream/address.h"
#include "stream/host.h"
#include "text/cues.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;
using namespace ruedo::stream;

namespace {
Result<Playlist> parse(const std::string& text, const std::string& base = "http://127.0.0.1/dir/list.m3u8",
                       const std::map<std::string, std::string>& names = {}) {
    return parse_playlist({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, base, names);
}
}  // namespace

TEST_CASE("A list of segments is read as its standard lays it down", "[stream]") {
    auto p =
        value(parse("#EXTM3U\r\n"
                    "#EXT-X-VERSION:7\n"
                    "#EXT-X-DEFINE:NAME=\"where\",VALUE=\"far\"\n"
                    "#EXT-X-TARGETDURATION:5\n"
                    "#EXT-X-MEDIA-SEQUENCE:41\n"
                    "#EXT-X-DISCONTINUITY-SEQUENCE:3\n"
                    "#EXT-X-START:TIME-OFFSET=-7.5\n"
                    "#EXT-X-MAP:URI=\"init.mp4\",BYTERANGE=\"600@20\"\n"
                    "# a remark\n"
                    "#EXT-X-KEY:METHOD=AES-128,URI=\"../key?a=1\",IV=0x000102030405060708090a0B0c0d0e0F\n"
                    "#EXT-X-PROGRAM-DATE-TIME:2024-02-29T12:00:00.500+01:30\n"
                    "#EXTINF:4.004004,a title, with a comma\n"
                    "#EXT-X-BYTERANGE:1000@100\n"
                    "all.m4s\n"
                    "#EXTINF:5.2,\n"
                    "#EXT-X-BYTERANGE:500\n"
                    "all.m4s\n"
                    "#EXT-X-DISCONTINUITY\n"
                    "#EXT-X-KEY:METHOD=NONE\n"
                    "#EXT-X-GAP\n"
                    "#EXTINF:4,\n"
                    "http://{$where}.invalid/c.m4s\n"
                    "#EXT-X-ENDLIST"));
    REQUIRE(!p.master);
    auto& l = p.list;
    CHECK((l.ended && l.target == 5_s && l.begin == -7500_ms && l.too_long == 0));
    REQUIRE(l.segments.size() == 3);
    auto &a = l.segments[0], &b = l.segments[1], &c = l.segments[2];
    CHECK((a.number == 41 && b.number == 42 && c.number == 43));
    CHECK((a.start.ns == 0 && a.duration.ns == 4'004'004'000 && b.start == a.end() && c.start == b.end()));
    CHECK((a.discontinuity == 3 && b.discontinuity == 3 && c.discontinuity == 4));
    CHECK(a.address == "http://127.0.0.1/dir/all.m4s");
    CHECK(c.address == "http://far.invalid/c.m4s");
    CHECK((a.range->from == 100 && a.range->to == 1100 && b.range->from == 1100 && b.range->to == 1600));
    CHECK((!a.gap && !b.gap && c.gap));
    CHECK((a.map && a.map->address == "http://127.0.0.1/dir/init.mp4" && a.map->range->from == 20 && c.map));
    REQUIRE((a.key && b.key && !c.key));
    CHECK((a.key->address == "http://127.0.0.1/key?a=1" && (*a.key->iv)[10] == 10 && (*a.key->iv)[15] == 15));
    // 29 February 2024, half past ten and half a second by Greenwich.
    CHECK(a.date == Time{1'709'202'600'500'000'000});
}

TEST_CASE("Dates are read in any zone and to any part of a second, and what is none is none", "[stream]") {
    std::mt19937 random(19);
    for (int i = 0; i < 3000; ++i) {
        auto seconds = static_cast<std::int64_t>(random()) + static_cast<std::int64_t>(random() % 2) * 2'900'000'000;
        auto ms = static_cast<std::int64_t>(random() % 1000);
        auto minutes = static_cast<int>(random() % (2 * 14 * 60)) - 14 * 60;
        auto there = std::chrono::sys_seconds(std::chrono::seconds(seconds + minutes * 60));
        auto day = std::chrono::floor<std::chrono::days>(there);
        std::chrono::year_month_day date(day);
        std::chrono::hh_mm_ss clock(there - day);
        auto text =
            fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}", int(date.year()), unsigned(date.month()),
                        unsigned(date.day()), clock.hours().count(), clock.minutes().count(), clock.seconds().count());
        if (int(date.year()) < 1970) continue;
        auto part = random() % 2 ? fmt::format(".{:03}", ms) : std::string();
        auto zone = fmt::format("{}{:02}{}{:02}", minutes < 0 ? '-' : '+', std::abs(minutes) / 60,
                                random() % 2 ? ":" : "", std::abs(minutes) % 60);
        INFO(text << part << zone);
        auto wanted = Time{seconds * 1'000'000'000 + (part.empty() ? 0 : ms * 1'000'000)};
        CHECK(parse_date(text + part + zone) == wanted);
        auto greenwich = wanted + 1_s * (minutes * 60);
        CHECK(parse_date(text + part + "Z") == greenwich);
        CHECK(parse_date(text + part) == greenwich);
        // Cut, or with a letter in it, it is another date or none, and nothing worse.
        auto bad = text + part + zone;
        bad[random() % bad.size()] = "x9 -+:Z"[random() % 7];
        if (auto t = parse_date(bad)) CHECK((*t > -50_s * 3600 && *t < 1_s * 7'258'300'000));
        CHECK_FALSE(parse_date(text.substr(0, random() % 19)));
    }
    for (auto none :
         {"", "soon", "9999-12-31T23:59:59Z", "0001-01-01T00:00:00Z", "2026-02-31T00:00:00Z", "2026-13-01T00:00:00Z",
          "2026-01-01T00:61:00Z", "2026-01-01T00:00:1000000000Z", "2026-01-01T00:00:00+99:00"}) {
        INFO(none);
        CHECK_FALSE(parse_date(none));
    }
    // Nor does a playlist fail for one.
    auto far =
        value(parse("#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXT-X-PROGRAM-DATE-TIME:9999-12-31T23:59:59Z\n"
                    "#EXTINF:4,\na.ts\n#EXT-X-ENDLIST\n"));
    REQUIRE(far.list.segments.size() == 1);
    CHECK_FALSE(far.list.segments[0].date);
}

TEST_CASE("Renditions are read with their groups, and rates rounded to three decimals are meant exactly", "[stream]") {
    auto p = value(parse(
        "#EXTM3U\n"
        "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"s\",NAME=\"English\",LANGUAGE=\"en\",DEFAULT=YES,URI=\"en/l.m3u8\"\n"
        "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"s\",NAME=\"Deutsch\",LANGUAGE=\"de\",CHANNELS=\"6/JOC\",URI=\"de/l.m3u8\"\n"
        "#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=\"t\",NAME=\"English\",LANGUAGE=\"en\",URI=\"text.m3u8\"\n"
        "#EXT-X-STREAM-INF:BANDWIDTH=900000,AVERAGE-BANDWIDTH=700000,CODECS=\"avc1.64001e,mp4a.40.2\","
        "RESOLUTION=640x360,FRAME-RATE=29.970,SCORE=3.5,AUDIO=\"s\",SUBTITLES=\"t\"\n"
        "mid.m3u8\n"
        "#EXT-X-STREAM-INF:BANDWIDTH=64000,CODECS=\"mp4a.40.2\"\n"
        "sound.m3u8\n"
        "#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH=90000,URI=\"keys.m3u8\",RESOLUTION=640x360\n"));
    REQUIRE(p.master);
    auto& m = *p.master;
    REQUIRE((m.variants.size() == 2 && m.alternatives.size() == 3 && m.iframes_only.size() == 1));
    auto& v = m.variants[0];
    CHECK((v.bandwidth == 900000 && v.average_bandwidth == 700000 && v.width == 640 && v.height == 360));
    CHECK((v.codecs == "avc1.64001e,mp4a.40.2" && v.audio == "s" && v.text == "t"));
    CHECK(v.frame_rate == Rational{30000, 1001});
    CHECK((v.score == 3.5 && m.variants[1].score == 0));
    CHECK((m.alternatives[0].is_default && m.alternatives[1].channels == 6 && m.alternatives[2].kind == Kind::text));
    auto plan = value(plan_hls("http://127.0.0.1/dir/list.m3u8", std::move(p)));
    // Sound alone is no rung of the pictures.
    REQUIRE(plan.track_groups.size() == 5);
    CHECK((plan.keyframes == 1 && plan.track_groups[1].as_asked && plan.track_groups[1].rungs[0].bandwidth == 90000));
    CHECK((plan.track_groups[0].rungs.size() == 1 && plan.track_groups[0].rungs[0].id == "640x360-700k"));
    CHECK((plan.audio_tracks.size() == 2 && plan.texts.size() == 1 && plan.audio_tracks[1].language == "de"));
    CHECK(std::any_of(plan.findings.begin(), plan.findings.end(), [](auto& f) { return f.code == "one-rung"; }));
}

TEST_CASE("A playlist that can't be followed is refused by its line", "[stream]") {
    struct Row {
        const char* text;
        const char* says;
    };
    for (auto& row : {Row{"<html>", "line 1"}, Row{"#EXTM3U\n#EXTINF:abc,\na.ts\n", "line 2"},
                      Row{"#EXTM3U\na.ts\n", "line 2"}, Row{"#EXTM3U\n#EXTINF:-4,\na.ts\n", "line 2"},
                      Row{"#EXTM3U\n#EXTINF:4,\n#EXT-X-BYTERANGE:0@0\na.ts\n", "line 4"},
                      Row{"#EXTM3U\n#EXTINF:4,\n#EXT-X-BYTERANGE:10\na.ts\n", "line 4"},
                      Row{"#EXTM3U\n#EXTINF:4,\n{$none}/a.ts\n", "line 3"},
                      Row{"#EXTM3U\n#EXT-X-KEY:METHOD=AES-128,URI=\"k\",IV=0x12\n", "line 2"},
                      Row{"#EXTM3U\n#EXT-X-DEFINE:IMPORT=\"no\"\n", "line 2"},
                      Row{"#EXTM3U\n#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"a\",NAME=\"b\"\n", "no rendition"}}) {
        INFO(row.text);
        auto p = parse(row.text);
        REQUIRE(!p);
        CHECK(p.error().code == ErrorCode::malformed);
        CHECK(p.error().sentence.find(row.says) != std::string::npos);
    }
    std::string many = "#EXTM3U\n";
    for (int i = 0; i < 100'001; ++i) many += "#EXTINF:1,\na\n";
    auto p = parse(many);
    REQUIRE(!p);
    CHECK(p.error().code == ErrorCode::limit);
}

TEST_CASE("What a playlist names is looked for where the playlist lies, and nowhere it should not be", "[stream]") {
    struct Row {
        const char *base, *reference, *found;
    };
    for (auto& row : {Row{"http://h.invalid/a/b/l.m3u8?x=1", "seg.ts", "http://h.invalid/a/b/seg.ts"},
                      Row{"http://h.invalid/a/b/l.m3u8", "../c/seg.ts?k=2", "http://h.invalid/a/c/seg.ts?k=2"},
                      Row{"http://h.invalid/a/l.m3u8", "/root.ts", "http://h.invalid/root.ts"},
                      Row{"https://h.invalid/a/l.m3u8", "//other.invalid/x.ts", "https://other.invalid/x.ts"},
                      Row{"/media/a/l.m3u8", "b/seg%201.ts?token=1", "/media/a/b/seg 1.ts"},
                      Row{"/media/a/l.m3u8", "../b/seg.ts", "/media/b/seg.ts"},
                      Row{"/media/a/l.m3u8", "http://h.invalid/seg.ts", "http://h.invalid/seg.ts"}}) {
        INFO(row.base << " " << row.reference);
        CHECK(value(resolve(std::string(row.base), std::string(row.reference))) == row.found);
    }
    for (auto& row : {Row{"http://h.invalid/l.m3u8", "file:///etc/passwd", ""},
                      Row{"https://h.invalid/l.m3u8", "http://h.invalid/a", ""},
                      Row{"/media/l.m3u8", "/etc/passwd", ""}, Row{"/media/l.m3u8", "gopher://h/", ""}}) {
        INFO(row.base << " " << row.reference);
        auto r = resolve(std::string(row.base), std::string(row.reference));
        REQUIRE(!r);
        CHECK(r.error().code == ErrorCode::refused);
    }
}

TEST_CASE("Ladders by another writer play picture for picture, in every rung", "[stream]") {
    for (std::string name :
         {"ts/master.m3u8", "ts/180p/index.m3u8", "ts/360p/index.m3u8", "fmp4/master.m3u8", "fmp4/360p/index.m3u8"}) {
        INFO(name);
        auto path = fixture("streams/" + name).string();
        std::shared_ptr<Clip> clip = value(open_clip(path));
        CHECK(clip->info().container == "hls");
        CHECK(clip->info().duration == 6_s);
        std::vector<std::string> rungs{""};
        auto report = *clip->stream();
        for (auto& r : report.rungs) rungs.push_back(r.id);
        for (auto& rung : rungs) {
            INFO(rung);
            StreamOptions only{.on_demand = true};
            only.rung = rung;
            clip = opened_stream(path, only);
            auto seen = all_frames(clip);
            CHECK(seen.numbers == counting(180));
            bool exact = true;
            for (std::size_t k = 0; k < seen.times.size(); ++k)
                exact = exact && seen.times[k] == ticks_to_time(static_cast<std::int64_t>(k), 1, 30);
            CHECK(exact);
            CHECK(seen.rungs.size() == 1);
        }
        if (name == "fmp4/360p/index.m3u8") continue;
        // A burst of 50 ms at each whole second but the first.
        auto audio = audio_of(clip);
        for (int s = 1; s < 6; ++s) {
            auto loud = [&](double from, double to) {
                double sum = 0;
                for (auto i = static_cast<std::size_t>(from * 48000) * 2; i < static_cast<std::size_t>(to * 48000) * 2;
                     ++i)
                    sum += std::abs(static_cast<double>(audio[i]));
                return sum / ((to - from) * 96000);
            };
            CHECK(loud(s + 0.005, s + 0.045) > 0.05);
            CHECK(loud(s - 0.2, s - 0.01) < 0.01);
        }
    }
}

TEST_CASE("A seek in a stream lands on the exact picture, and fetches what it needs and no more", "[stream][seek]") {
    auto host = value(StaticServer::start({.folder = fixture("streams")}));
    StreamOptions options{.on_demand = true};
    options.rung = "360x0";
    auto clip = opened_stream(host->address() + "ts/360p/index.m3u8", {.on_demand = true});
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    std::mt19937 random(7);
    for (int i = 0; i < 40; ++i) {
        auto t = Time{static_cast<std::int64_t>(random() % 6'000'000) * 1000};
        auto p = value(reader->at(t));
        CHECK(demo::read_strip(render(p)) == static_cast<int>(t.ns * 3 / 100'000'000));
    }
    // Three segments there are, and each was fetched once.
    CHECK(clip->stream()->segments_fetched == 3);
    auto one = opened_stream(host->address() + "fmp4/master.m3u8", {.best = true, .on_demand = true});
    auto before = one->stream()->segments_fetched;
    auto other = value(FrameReader::open(one, *one->info().main(Kind::video), CodecRegistry::standard()));
    CHECK(demo::read_strip(render(value(other->at(4500_ms)))) == 135);
    CHECK(one->stream()->segments_fetched == before + 1);
}

TEST_CASE("A stream plays in virtual time like any other clip, and the same on every run", "[stream]") {
    std::vector<NotingSink::PresentedFrame> first;
    for (int run = 0; run < 2; ++run) {
        Stage stage(0, true);
        stage.controller.open(fixture("streams/fmp4/master.m3u8").string(), playing);
        REQUIRE(stage.run_until(ended));
        REQUIRE(stage.sink->shown.size() == 180);
        for (std::size_t k = 0; k < 180; ++k) CHECK(stage.sink->shown[k].number == static_cast<int>(k));
        auto report = stage.controller.report();
        REQUIRE(report.stream);
        CHECK((report.stream->kind == "hls" && report.stream->rungs.size() == 3 && report.stream->switches == 0));
        CHECK(report.snapshot.counters.by_rung == std::vector<std::uint64_t>{0, 0, 180});
        CHECK(std::any_of(report.events.begin(), report.events.end(), [](auto& e) { return e.name == "rung"; }));
        if (run == 0) first = stage.sink->shown;
        for (std::size_t k = 0; k < 180; ++k) CHECK(first[k].due == stage.sink->shown[k].due);
    }
}

TEST_CASE("What is here is told without a gap, wherever it plays", "[stream]") {
    for (std::string name : {"fmp4/master.m3u8", "ts/master.m3u8"}) {
        INFO(name);
        auto clip = opened_stream(fixture("streams/" + name).string(), {.best = true, .on_demand = true});
        (void)all_frames(clip);
        (void)audio_of(clip);
        auto& tracks = clip->info().tracks;
        for (Time t{}; t < 6_s; t += 7_ms) {
            auto here = clip->buffered(tracks, t);
            REQUIRE(here);
            INFO(t.ns);
            CHECK((here->from.ns == 0 && here->to >= 6_s));
        }
    }
}

TEST_CASE("Segments that are encrypted with a key of 128 bits play like the plain ones", "[stream]") {
    Copy copy("ts");
    Bytes key(16);
    for (std::size_t i = 0; i < 16; ++i) key[i] = static_cast<std::uint8_t>(17 * i + 3);
    put(copy / "180p/key", key);
    for (std::uint8_t i = 0; i < 3; ++i) {
        auto path = copy / fmt::format("180p/seg{}.ts", i);
        std::array<std::uint8_t, 16> iv{};
        iv[15] = i;  // as the media sequence number has it
        put(path, encrypt(bytes_of(path), key, iv));
    }
    auto list = text_of(copy / "180p/index.m3u8");
    auto with = [&](const std::string& tag) {
        auto text = list;
        text.insert(text.find("#EXTINF"), tag + "\n");
        put_text(copy / "180p/index.m3u8", text);
        return open_clip(copy / "180p/index.m3u8");
    };
    std::shared_ptr<Clip> clip = value(with("#EXT-X-KEY:METHOD=AES-128,URI=\"key\""));
    CHECK(clip->stream()->encrypted == "aes-128");
    CHECK(all_frames(clip).numbers == counting(180));
    // The key in force may be another one, too short, nowhere, or of a kind that is not known.
    put(copy / "180p/other", Bytes(16, 9));
    put(copy / "180p/short", Bytes(5, 9));
    for (auto& [tag, code] : std::vector<std::pair<std::string, ErrorCode>>{
             {"#EXT-X-KEY:METHOD=AES-128,URI=\"other\"", ErrorCode::encrypted},
             {"#EXT-X-KEY:METHOD=AES-128,URI=\"short\"", ErrorCode::encrypted},
             {"#EXT-X-KEY:METHOD=AES-128,URI=\"none\"", ErrorCode::not_found},
             {"#EXT-X-KEY:METHOD=SAMPLE-AES,URI=\"key\"", ErrorCode::encrypted}}) {
        INFO(tag);
        auto opened = with(tag);
        REQUIRE(!opened);
        CHECK(opened.error().code == code);
        CHECK(!opened.error().sentence.empty());
    }
}

TEST_CASE("A segment that is missing is stepped over, with a word, and what is whole plays on", "[stream][seek]") {
    for (std::string how : {"gone", "empty", "cut", "text", "other"}) {
        INFO(how);
        Copy copy("ts");
        auto hit = copy / "180p/seg1.ts";
        auto bytes = bytes_of(hit);
        if (how == "gone") fs::remove(hit);
        if (how == "empty") put(hit, {});
        if (how == "cut") put(hit, ByteView(bytes).first(2000));
        if (how == "text") put_text(hit, "<html>not here</html>");
        if (how == "other") put(hit, bytes_of(fixture("streams/fmp4/audio/init.mp4")));
        Stage stage(0, true);
        stage.controller.open(copy / "180p/index.m3u8", playing);
        REQUIRE(stage.run_until(ended));
        auto events = stage.controller.events();
        CHECK(std::any_of(events.begin(), events.end(),
                          [&](auto& e) { return e.name == (how == "cut" ? "short" : "hole"); }));
        std::set<int> numbers;
        for (auto& s : stage.sink->shown) numbers.insert(s.number);
        for (int k : {0, 30, 59, 120, 150, 179}) CHECK(numbers.contains(k));
        CHECK(!numbers.contains(90));
    }
}

TEST_CASE("Playlists that name themselves, nothing, or what is none of theirs end in a sentence", "[stream]") {
    Folder folder;
    auto master = [&](const std::string& name, const std::string& of) {
        put_text(folder / name, "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1000\n" + of + "\n");
        return open_clip((folder / name).string());
    };
    put_text(folder / "empty.m3u8", "#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXT-X-ENDLIST\n");
    put_text(folder / "page.m3u8", "<html></html>");
    for (auto& [of, code] : std::vector<std::pair<std::string, ErrorCode>>{{"self.m3u8", ErrorCode::malformed},
                                                                           {"empty.m3u8", ErrorCode::empty},
                                                                           {"page.m3u8", ErrorCode::not_media},
                                                                           {"none.m3u8", ErrorCode::not_found}}) {
        INFO(of);
        auto opened = master("self.m3u8", of);
        REQUIRE(!opened);
        CHECK(opened.error().code == code);
    }
    put_text(folder / "b.m3u8", "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1000\nself.m3u8\n");
    auto circle = master("self.m3u8", "b.m3u8");
    REQUIRE(!circle);
    CHECK(circle.error().code == ErrorCode::malformed);
    // One bad rendition among good ones is left out.
    Copy copy("ts");
    fs::remove(copy / "180p/index.m3u8");
    std::shared_ptr<Clip> clip = value(open_clip(copy / "master.m3u8"));
    CHECK(all_frames(clip).numbers == counting(180));
}

namespace {
/// A manifest over the fixture's fragments, which lie beside it.
std::string manifest(const std::string& addressing, const std::string& more = {}, const std::string& second = {}) {
    std::string text =
        "<?xml version=\"1.0\"?>\n<!-- made for a test -->\n<MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" "
        "type=\"static\" mediaPresentationDuration=\"PT6S\">\n<Period>\n";
    text += "<AdaptationSet contentType=\"video\" mimeType=\"video/mp4\">" + addressing;
    for (auto [id, bits, w, h] :
         {std::tuple{"540p", 453744, 960, 540}, {"180p", 162976, 320, 180}, {"360p", 231712, 640, 360}})
        text += fmt::format(
            "<Representation id=\"{}\" bandwidth=\"{}\" width=\"{}\" height=\"{}\" codecs=\"avc1.64000d\" "
            "frameRate=\"30\">{}</Representation>",
            id, bits, w, h, more);
    text += "</AdaptationSet><AdaptationSet mimeType=\"audio/mp4\" lang=\"en\">" + addressing +
            "<Representation id=\"audio\" bandwidth=\"96000\" codecs=\"mp4a.40.2\"/></AdaptationSet>\n</Period>" +
            second + "</MPD>\n";
    return text;
}
constexpr auto by_number =
    "<SegmentTemplate media=\"$RepresentationID$/seg$Number$.m4s\" initialization=\"$RepresentationID$/init.mp4\" "
    "startNumber=\"0\" duration=\"2\"/>";
}  // namespace

TEST_CASE("Manifests name the same segments in many ways, and each plays picture for picture", "[stream]") {
    Copy copy("fmp4");
    struct Row {
        const char* name;
        std::string text;
    };
    std::string timeline =
        "<SegmentTemplate timescale=\"1000\" media=\"$RepresentationID$/seg$Number%01d$.m4s\" "
        "initialization=\"$RepresentationID$/init.mp4\" startNumber=\"0\"><SegmentTimeline><S t=\"0\" d=\"2000\" "
        "r=\"1\"/><S d=\"2000\"/></SegmentTimeline></SegmentTemplate>";
    std::string entries = "r=\"1\"/><S d=\"2000\"/>";
    auto open_ended = timeline;
    open_ended.replace(open_ended.find(entries), entries.size(), "r=\"-1\"/>");
    for (auto& row : {Row{"number", manifest(by_number)}, Row{"timeline", manifest(timeline)},
                      Row{"repeat", manifest(open_ended)}}) {
        INFO(row.name);
        put_text(copy.folder.path / "all.mpd", row.text);
        auto clip = opened_stream(copy / "all.mpd", {.best = true, .on_demand = true});
        CHECK((clip->info().container == "dash" && clip->info().duration == 6_s));
        auto report = *clip->stream();
        REQUIRE(report.rungs.size() == 3);
        CHECK((report.rungs[0].id == "180p" && report.rungs[2].width == 960 &&
               report.rungs[1].frame_rate == Rational{30, 1}));
        CHECK(all_frames(clip).numbers == counting(180));
        CHECK(clip->info().main(Kind::audio)->language == "en");
        CHECK(audio_of(clip).size() / 2 > 48000 * 59 / 10);
    }
    for (auto d : {"18446744073709551615", "9223372036854775807", "86400001"}) {
        auto endless = timeline;
        endless.replace(endless.find("d=\"2000\""), 8, fmt::format("d=\"{}\"", d));
        put_text(copy.folder.path / "endless.mpd", manifest(endless));
        auto clip = open_clip(copy / "endless.mpd");
        REQUIRE_FALSE(clip.has_value());
        CHECK(clip.error().sentence.find("lasts longer than a day") != std::string::npos);
    }
    // One after the other in a list.
    std::string list = "<SegmentList duration=\"2\"><Initialization sourceURL=\"360p/init.mp4\"/>";
    for (int i = 0; i < 3; ++i) list += fmt::format("<SegmentURL media=\"360p/seg{}.m4s\"/>", i);
    list += "</SegmentList>";
    put_text(
        copy.folder.path / "list.mpd",
        "<MPD type=\"static\"><Period duration=\"PT6S\"><AdaptationSet mimeType=\"video/mp4\"><Representation id=\"a\" "
        "bandwidth=\"1\">" +
            list + "</Representation></AdaptationSet></Period></MPD>");
    CHECK(all_frames(opened_stream(copy / "list.mpd", {.on_demand = true})).numbers == counting(180));
    // Two periods, each the whole over again: the second follows the first.
    auto text = manifest(by_number);
    auto period = text.substr(text.find("<Period>"), text.find("</MPD>") - text.find("<Period>"));
    auto first = period;
    first.replace(0, 8, "<Period duration=\"PT6S\">");
    put_text(copy.folder.path / "two.mpd",
             "<MPD type=\"static\" mediaPresentationDuration=\"PT0H0M12.0S\">" + first + period + "</MPD>");
    auto twice = all_frames(opened_stream(copy / "two.mpd", {.best = true, .on_demand = true}));
    REQUIRE(twice.numbers.size() == 360);
    CHECK((twice.numbers[180] == 0 && twice.numbers[359] == 179));
    CHECK(twice.times[180] == 6_s);
}

TEST_CASE("One file with an index of its segments is fetched by its parts", "[stream]") {
    Copy copy("fmp4");
    auto all = bytes_of(copy / "360p/init.mp4");
    auto head = all.size();
    std::vector<Bytes> parts;
    for (int i = 0; i < 3; ++i) parts.push_back(bytes_of(copy / fmt::format("360p/seg{}.m4s", i)));
    ByteWriter sidx;
    sidx.u32(12 + 20 + 12 * 3).text("sidx").u32(0).u32(1).u32(1000).u32(0).u32(0).u16(0).u16(3);
    for (auto& p : parts) sidx.u32(p.size()).u32(2000).u32(0x90000000);
    all.insert(all.end(), sidx.bytes.begin(), sidx.bytes.end());
    auto body = all.size();
    for (auto& p : parts) all.insert(all.end(), p.begin(), p.end());
    put(copy / "whole.mp4", all);
    put_text(
        copy.folder.path / "base.mpd",
        fmt::format(
            "<MPD type=\"static\" mediaPresentationDuration=\"PT6S\"><Period><AdaptationSet mimeType=\"video/mp4\">"
            "<Representation id=\"a\" bandwidth=\"1\"><BaseURL>whole.mp4</BaseURL><SegmentBase indexRange=\"{}-{}\">"
            "<Initialization range=\"0-{}\"/></SegmentBase></Representation></AdaptationSet></Period></MPD>",
            head, body - 1, head - 1));
    auto host = value(StaticServer::start({.folder = copy.folder.path}));
    auto clip = opened_stream(host->address() + "base.mpd", {.on_demand = true});
    CHECK(all_frames(clip).numbers == counting(180));
    CHECK(clip->stream()->segments_fetched == 3);
}

TEST_CASE("Manifests that are wrong, or mean harm, end in a sentence", "[stream]") {
    Copy copy("fmp4");
    auto swapped = [](std::string text, const std::string& what, const std::string& with) {
        text.replace(text.find(what), what.size(), with);
        return text;
    };
    auto fine = manifest(by_number);
    std::string laughs =
        "<!DOCTYPE lolz [<!ENTITY a \"ha\"><!ENTITY b \"&a;&a;&a;&a;&a;&a;&a;&a;\"><!ENTITY c SYSTEM "
        "\"file:///etc/passwd\">]>";
    struct Row {
        std::string text;
        ErrorCode code;
    };
    for (auto& row :
         {Row{fine.substr(0, fine.size() / 2), ErrorCode::malformed},
          Row{swapped(fine, "static", "dynamic"), ErrorCode::malformed},
          Row{swapped(fine, "$Number$", "$Nonsense$"), ErrorCode::malformed},
          Row{swapped(fine, "duration=\"2\"", "duration=\"0\""), ErrorCode::malformed},
          Row{swapped(fine, "$RepresentationID$/init", "&c;/init"), ErrorCode::not_found},
          Row{swapped(swapped(fine, "<MPD", laughs + "<MPD"), "<Period>", "<Period><BaseURL>&b;/</BaseURL>"),
              ErrorCode::not_found},
          Row{"<MPD type=\"static\"></MPD>", ErrorCode::malformed},
          Row{swapped(fine, "mimeType=\"video/mp4\">", "mimeType=\"video/mp4\"><ContentProtection/>"),
              ErrorCode::encrypted},
          Row{swapped(fine, "PT6S", "PT999999999S"), ErrorCode::limit}}) {
        INFO(row.text.substr(0, 1200));
        put_text(copy.folder.path / "bad.mpd", row.text);
        auto opened = open_clip(copy / "bad.mpd");
        REQUIRE(!opened);
        CHECK(opened.error().code == row.code);
        CHECK(opened.error().sentence.size() > 10);
    }
    // Deep nesting is passed over.
    std::string deep;
    for (int i = 0; i < 20'000; ++i) deep += "<a>";
    put_text(copy.folder.path / "deep.mpd", swapped(fine, "<Period>", deep + "<Period>"));
    CHECK(!open_clip(copy / "deep.mpd"));
}

TEST_CASE("Facts of a stream come from its lists and its beginning, and say what is wrong with its ladder",
          "[stream]") {
    auto facts_of = [](const std::string& path, bool whole) {
        FactsOptions o;
        o.loudness = false, o.whole = whole;
        return value(gather_facts(std::shared_ptr<Clip>(value(open_clip(path))), CodecRegistry::standard(), path, o));
    };
    auto has = [](const SourceFacts& f, std::string_view code) {
        return std::any_of(f.findings.begin(), f.findings.end(), [&](auto& x) { return x.code == code; });
    };
    auto path = fixture("streams/fmp4/master.m3u8").string();
    auto quick = facts_of(path, false), all = facts_of(path, true);
    REQUIRE((quick.stream && quick.stream->rungs.size() == 3));
    for (auto& r : quick.stream->rungs) CHECK(r.starts == std::vector<Time>{0_s, 2_s, 4_s, 6_s});
    CHECK(quick.duration == 6_s);
    CHECK(quick.first_sentence.find("3 rungs") != std::string::npos);
    CHECK(quick.tracks[0].frame_rate == Rational{30, 1});
    CHECK(all.tracks[0].frame_count == 180);
    for (auto code : {"rungs-apart", "over-bandwidth", "one-rung", "rung-gap", "no-codecs", "sparse-keyframes"}) {
        INFO(code);
        CHECK(!has(quick, code));
        CHECK(!has(all, code));
    }
    // Each of them, brought about.
    Copy copy("ts");
    auto list = text_of(copy / "180p/index.m3u8"), master = text_of(copy / "master.m3u8");
    auto changed = [](std::string text, const std::string& what, const std::string& with) {
        for (std::size_t at = 0; (at = text.find(what, at)) != std::string::npos; at += with.size())
            text.replace(at, what.size(), with);
        return text;
    };
    put_text(copy / "180p/index.m3u8", changed(list, "2.00000", "1.80000"));
    CHECK(has(facts_of(copy / "master.m3u8", false), "rungs-apart"));
    put_text(copy / "180p/index.m3u8", list);
    put_text(copy / "master.m3u8",
             changed(changed(master, "BANDWIDTH=295536", "BANDWIDTH=100000"), "BANDWIDTH=229360", "BANDWIDTH=40000"));
    auto wrong = facts_of(copy / "master.m3u8", true);
    CHECK((has(wrong, "over-bandwidth") && has(wrong, "rung-gap")));
    put_text(copy / "master.m3u8", changed(changed(master, ",CODECS=\"avc1.64000d,mp4a.40.2\"", ""),
                                           ",CODECS=\"avc1.64001e,mp4a.40.2\"", ""));
    CHECK(has(facts_of(copy / "master.m3u8", false), "no-codecs"));
    CHECK(has(facts_of(copy / "180p/index.m3u8", false), "one-rung") == false);  // a bare list promises no others
    put_text(copy / "180p/index.m3u8", changed(list, "TARGETDURATION:2", "TARGETDURATION:1"));
    CHECK(has(facts_of(copy / "180p/index.m3u8", false), "too-long"));
}

TEST_CASE("In a stream of two hours a seek fetches one segment, and opening no more than that", "[stream][seek]") {
    Copy copy("ts");
    std::string list = "#EXTM3U\n#EXT-X-TARGETDURATION:2\n";
    for (int i = 0; i < 3600; ++i) list += fmt::format("#EXT-X-DISCONTINUITY\n#EXTINF:2,\nseg{}.ts?n={}\n", i % 3, i);
    put_text(copy / "180p/long.m3u8", list + "#EXT-X-ENDLIST\n");
    auto host = value(StaticServer::start({.folder = copy.folder.path}));
    auto clip = opened_stream(host->address() + "180p/long.m3u8", {.on_demand = true});
    CHECK(clip->info().duration == 7200_s);
    CHECK(clip->stream()->segments_fetched == 1);
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    std::mt19937 random(11);
    for (int i = 0; i < 30; ++i) {
        // Up to half a second before its end, where what is in the next one may have a say in what is shown.
        auto segment = static_cast<std::int64_t>(random() % 3600), frame = static_cast<std::int64_t>(random() % 43);
        INFO(segment << " " << frame);
        auto before = clip->stream()->segments_fetched;
        auto p = value(reader->at(2_s * segment + ticks_to_time(frame, 1, 30) + 3_ms));
        CHECK(demo::read_strip(render(p)) == static_cast<int>(segment % 3 * 60 + frame));
        CHECK(clip->stream()->segments_fetched <= before + 1);
    }
}

TEST_CASE("Fifty players of one stream on one machine get all of it", "[stream]") {
    auto host = value(StaticServer::start({.folder = fixture("streams")}));
    std::atomic<int> whole = 0;
    std::vector<std::thread> players;
    for (int i = 0; i < 50; ++i)
        players.emplace_back([&, name = i % 2 ? "fmp4/master.m3u8" : "ts/master.m3u8"] {
            auto clip = open_clip(host->address() + name, StreamOptions{});
            if (!clip) return;
            std::uint64_t frames = 0, audio_tracks = 0;
            for (auto& t : (*clip)->info().tracks) {
                auto facts = scan_track(**clip, t);
                if (facts) (t.kind == Kind::video ? frames : audio_tracks) += facts->frame_count;
            }
            auto report = *(*clip)->stream();
            whole += frames == 180 && audio_tracks > 250 && report.wasted_bytes < 1'000'000;
        });
    for (auto& t : players) t.join();
    CHECK(whole == 50);
}

TEST_CASE("A live manifest lists what is there by the server's clock, whatever ours says", "[stream]") {
    Copy copy("fmp4");
    auto live = [&](Time begun_before, const std::string& more) {
        auto now = std::chrono::system_clock::now() - std::chrono::nanoseconds(begun_before.ns);
        auto text = manifest(by_number);
        std::string was = "type=\"static\" mediaPresentationDuration=\"PT6S\"";
        text.replace(text.find(was), was.size(),
                     fmt::format("type=\"dynamic\" availabilityStartTime=\"{:%FT%T}Z\" {}",
                                 std::chrono::floor<std::chrono::milliseconds>(now), more));
        put_text(copy.folder.path / "live.mpd", text);
        return text;
    };
    auto host = value(StaticServer::start({.folder = copy.folder.path}));
    live(7_s, "minimumUpdatePeriod=\"PT1S\"");
    auto clip = opened_stream(host->address() + "live.mpd", {.best = true, .on_demand = true});
    CHECK((clip->info().live && !clip->info().duration_known));
    REQUIRE(clip->seekable());
    CHECK((clip->seekable()->from.ns == 0 && clip->seekable()->to >= 6_s));
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    CHECK(demo::read_strip(render(value(reader->at(3_s)))) == 90);
    // Only the newest, where it says how far back one can go.
    live(7_s, "timeShiftBufferDepth=\"PT3S\"");
    auto shallow = opened_stream(host->address() + "live.mpd", {.best = true, .on_demand = true});
    CHECK(shallow->seekable()->to - shallow->seekable()->from < 5_s);
    // What has not begun says so.
    live(-3600_s, "");
    auto early = open_clip(host->address() + "live.mpd");
    REQUIRE(!early);
    CHECK(early.error().code == ErrorCode::empty);
}

TEST_CASE("Captions of a stream come with its segments, in their places, and each once", "[stream][captions]") {
    Copy copy("fmp4");
    fs::create_directories(copy.folder.path / "text");
    std::string list = "#EXTM3U\n#EXT-X-TARGETDURATION:2\n";
    for (int i = 0; i < 3; ++i) {
        // The second goes on from the first segment into the next, and stands in both.
        std::string text = "WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:0,LOCAL:00:00.000\n";
        if (i < 1) text += "\n00:00.500 --> 00:01.500\nThe lamp is lit\n";
        if (i < 2) text += "\n00:01.800 --> 00:02.600 line:10%\nIt <i>turns</i>\n";
        if (i == 2) text += "\n00:05.000 --> 00:06.000\nIt is day\n";
        put_text(copy.folder.path / fmt::format("text/{}.vtt", i), text);
        list += fmt::format("#EXTINF:2,\n{}.vtt\n", i);
    }
    put_text(copy.folder.path / "text/list.m3u8", list + "#EXT-X-ENDLIST\n");
    auto master = text_of(copy / "master.m3u8");
    for (std::size_t at = 0; (at = master.find(",AUDIO=\"aud\"", at)) != std::string::npos; at += 30)
        master.insert(at, ",SUBTITLES=\"sub\"");
    master.insert(
        master.find("#EXT-X-STREAM-INF"),
        "#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=\"sub\",NAME=\"English\",LANGUAGE=\"en\",URI=\"text/list.m3u8\"\n");
    put_text(copy.folder.path / "master.m3u8", master);
    auto check = [](const Cues& cues) {
        REQUIRE(cues.list.size() == 3);
        CHECK(
            (cues.list[0].text() == "The lamp is lit" && cues.list[0].start == 500_ms && cues.list[0].end == 1500_ms));
        CHECK((cues.list[1].text() == "It turns" && cues.list[1].start == 1800_ms && cues.list[1].line_percent));
        CHECK((cues.list[2].start == 5_s && cues.list[2].end == 6_s));
    };
    auto clip = opened_stream(copy / "master.m3u8", {.best = true, .on_demand = true});
    auto* track = clip->info().main(Kind::text);
    REQUIRE(track);
    CHECK(track->language == "en");
    check(value(read_cues(*clip, *track)));
    // While it plays, in virtual time and over a network.
    Stage stage;
    OpenOptions with = playing;
    with.text_language = "en";
    stage.controller.open(copy / "master.m3u8", with);
    REQUIRE(stage.run_until([](auto& s) { return s.position > 2200_ms; }));
    auto now = stage.now();
    REQUIRE(now.cues);
    auto showing = now.showing();
    REQUIRE(showing.size() == 1);
    CHECK(showing[0]->text() == "It turns");
    REQUIRE(stage.run_until(ended));
    auto host = value(StaticServer::start({.folder = copy.folder.path}));
    auto playing_clip = opened_stream(host->address() + "master.m3u8");
    (void)value(playing_clip->reader(1)->next(*std::make_unique<PacketHead>()));
    std::vector<Cue> here;
    for (int i = 0; i < 400 && here.size() < 3; ++i) {
        here = cues_here(*playing_clip, *playing_clip->info().main(Kind::text), 1_s);
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
    }
    CHECK(here.size() == 3);
}

TEST_CASE("A server that goes away for a moment costs waiting, and no picture", "[stream]") {
    auto host = value(StaticServer::start({.folder = fixture("streams")}));
    auto port = host->port();
    NetworkTrace slow;
    slow.steps = {{{}, 1e6}}, slow.length = 10_s, slow.settle();
    host.reset();
    host = value(StaticServer::start({.folder = fixture("streams"), .port = port, .network_trace = slow}));
    auto clip = opened_stream(host->address() + "fmp4/180p/index.m3u8");
    auto reader = clip->reader(1);
    PacketHead head;
    std::size_t count = 0;
    REQUIRE(value(reader->next(head)));
    ++count;
    host.reset();
    std::thread back([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(1200));
        host = value(StaticServer::start({.folder = fixture("streams"), .port = port}));
    });
    while (value(reader->next(head))) ++count;
    back.join();
    CHECK(count == 180);
    for (auto& n : clip->news()) CHECK(n.name != "hole");
}

TEST_CASE("What looks at a stream teaches nothing about its link to what plays it", "[stream]") {
    auto host = value(StaticServer::start({.folder = fixture("streams")}));
    auto address = host->address() + "fmp4/master.m3u8";
    (void)opened_stream(address, {.best = true, .on_demand = true});
    auto why = opened_stream(address)->stream()->decisions.at(0).why;
    CHECK(why.find("nothing is known of the link yet") != std::string::npos);
    // What was played does.
    why = opened_stream(address)->stream()->decisions.at(0).why;
    CHECK(why.find("expected") != std::string::npos);
}
