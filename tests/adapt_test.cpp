// SPDX-License-Identifier: Apache-2.0
// Adaptation on simulated links, and the service with its weather on real sockets.
#include <fmt/format.h>

#include <cmath>
#include <set>
#include <thread>

#include "io/client.h"
#include "stream/host.h"
#include "stream/simulate.h"
#include "stream/stream.h"
#include "support.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;
using namespace ruedo::stream;

TEST_CASE("What goes through a link and when it is through are each other's inverse", "[adapt]") {
    for (auto& w : synthetic_traces(12, 5)) {
        std::mt19937 random(3);
        for (int i = 0; i < 200; ++i) {
            auto from = Time{static_cast<std::int64_t>(random() % 900) * 1'000'000'000 +
                             static_cast<std::int64_t>(random() % 1'000'000)};
            auto bits = 1e3 * std::pow(10, static_cast<double>(random() % 5000) / 1000);
            auto to = w.done(from, bits);
            REQUIRE(to >= from);
            CHECK(w.bits(from, to) == Approx(bits).epsilon(1e-6).margin(0.1));
        }
        // It starts over.
        CHECK(w.at(3_s) == w.at(w.length + 3_s));
        CHECK(w.mean() > 0);
    }
    auto text = std::string("seconds, Mbit/s\n0, 8\n10, 2\n# nothing\n20,4\n");
    auto w = value(network_trace_from_csv({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "a.csv"));
    CHECK((w.length == 30_s && w.at(5_s) == 8e6 && w.at(15_s) == 2e6 && w.at(29_s) == 4e6 && w.at(31_s) == 8e6));
    CHECK(w.done(9_s, 10e6) == 10_s + 1_s);
    for (std::string bad : {"", "0, 8\n0, 4\n", "0, 8\n5, x\n", "0, -1\n", "0, 0\n5, 0\n", "a, b\nc, d\n"}) {
        INFO(bad);
        auto r = network_trace_from_csv({reinterpret_cast<const std::uint8_t*>(bad.data()), bad.size()}, "bad.csv");
        REQUIRE(!r);
        CHECK(r.error().sentence.find("bad.csv") != std::string::npos);
    }
}

TEST_CASE("What comes through in two stretches is what comes through in both, and named weather is found by its name",
          "[adapt]") {
    auto all = synthetic_traces(8, 9);
    for (auto& w : network_traces()) {
        all.push_back(w);
        CHECK(value(find_network_trace(w.name)).steps.size() == w.steps.size());
        CHECK_FALSE(w.about.empty());
    }
    std::mt19937 random(11);
    for (auto& w : all) {
        INFO(w.name);
        REQUIRE((!w.steps.empty() && w.steps[0].from.ns == 0));
        auto moment = [&] { return Time{static_cast<std::int64_t>(random()) * 1000}; };
        for (int i = 0; i < 100; ++i) {
            std::array t{moment(), moment(), moment()};
            std::sort(t.begin(), t.end());
            CHECK(w.bits(t[0], t[1]) + w.bits(t[1], t[2]) == Approx(w.bits(t[0], t[2])).epsilon(1e-9).margin(1));
            CHECK(w.bits(t[0], t[0] + w.length) == Approx(w.mean() * w.length.seconds()).epsilon(1e-6).margin(1));
        }
    }
    auto none = find_network_trace("no such weather");
    REQUIRE(!none);
    for (auto& w : network_traces()) CHECK(none.error().hint.find(w.name) != std::string::npos);
    CHECK_FALSE(find_network_trace("/nowhere/weather.csv"));
}

TEST_CASE("A run is worth more the more bits it shows, and less for every change and every second it stands",
          "[adapt]") {
    std::mt19937 random(13);
    for (int i = 0; i < 500; ++i) {
        std::vector<double> rates{1e5 + static_cast<double>(random() % 900'000)};
        while (rates.size() < 2 + random() % 6)
            rates.push_back(rates.back() * (1.1 + static_cast<double>(random() % 300) / 100));
        for (std::size_t r = 0; r < rates.size(); ++r) {
            CHECK(adapt::worth(rates, r) >= 1 + (r ? 1e-9 : 0));
            if (r) CHECK(adapt::worth(rates, r) > adapt::worth(rates, r - 1));
        }
        CHECK(adapt::stall_cost(rates) == adapt::worth(rates, rates.size() - 1));
        adapt::Quality steady, changing, standing;
        auto top = rates.size() - 1;
        for (std::size_t k = 0; k < 10; ++k) {
            steady.show(rates, top, k ? std::optional(top) : std::nullopt);
            standing.show(rates, top, k ? std::optional(top) : std::nullopt);
            changing.show(rates, k % 2 ? 0 : top, k ? std::optional(k % 2 ? top : 0) : std::nullopt);
        }
        CHECK(steady.value == Approx(10 * adapt::worth(rates, top)));
        CHECK(changing.value < steady.value);
        standing.stall(rates, 2500_ms);
        CHECK(steady.value - standing.value == Approx(2.5 * adapt::stall_cost(rates)));
        // On a link that is as wide as the lowest rung and a little more it plays through, on half of it it can't.
        adapt::Ladder ladder{rates, 4_s, 40, {}};
        stream::NetworkTrace wide;
        wide.steps.push_back({{}, rates[0] * 1.05}), wide.length = 60_s;
        wide.settle();
        CHECK(adapt::sustained(ladder, wide));
        wide.steps[0].bits_a_second = rates[0] / 2;
        wide.settle();
        CHECK_FALSE(adapt::sustained(ladder, wide));
    }
}

TEST_CASE("An estimate lies among what was seen, and an outage does not stay in it", "[adapt]") {
    std::mt19937 random(1);
    for (int run = 0; run < 200; ++run) {
        adapt::Throughput t;
        CHECK(!t.now().known());
        double least = 1e300, most = 0;
        for (int i = 0; i < 6; ++i) {
            auto bytes = 10'000 + random() % 2'000'000;
            auto took = Time{static_cast<std::int64_t>(10'000'000 + random() % 4'000'000'000)};
            auto rate = static_cast<double>(bytes) * 8 / took.seconds();
            least = std::min(least, rate), most = std::max(most, rate);
            t.add(bytes, took);
            auto e = t.now();
            CHECK((e.mean >= least * 0.999 && e.mean <= most * 1.001 && e.low <= e.mean && e.low > 0));
        }
    }
    adapt::Throughput steady;
    for (int i = 0; i < 5; ++i) steady.add(500'000, 1_s);
    steady.add(50'000, 20_s);
    for (int i = 0; i < 2; ++i) steady.add(500'000, 1_s);
    CHECK(steady.now().mean > 3e6);
}

TEST_CASE("Every rule keeps to the ladder, to the mount, and asks for no less on a better link", "[adapt]") {
    auto ladder = adapt::usual_ladder();
    std::mt19937 random(2);
    for (auto name : adapt::policy_names()) {
        INFO(name);
        for (int i = 0; i < 300; ++i) {
            adapt::Situation s;
            s.bitrates = ladder.bitrates, s.segment = 4_s, s.most_ahead = 30_s;
            s.ahead = Time{static_cast<std::int64_t>(random() % 30'000) * 1'000'000};
            s.last = random() % 5;
            s.highest = random() % 7;
            s.left = 1 + random() % 50;
            std::size_t before = 0;
            for (double rate : {1e5, 3e5, 6e5, 1.2e6, 2.5e6, 5e6, 2e7}) {
                s.throughput = {rate, rate * 0.8};
                auto policy = adapt::make_policy(name);
                auto choice = policy->choose(s);
                CHECK(choice.rung <= s.top());
                CHECK(!choice.why.empty());
                if (name != "buffer") CHECK(choice.rung >= before);
                before = choice.rung;
            }
        }
    }
    CHECK(!adapt::make_policy("other"));
    // Given up is only what comes too late, and only for what comes sooner.
    adapt::Situation s;
    s.bitrates = ladder.bitrates, s.segment = 4_s, s.ahead = 5_s;
    CHECK(!adapt::give_up_for(s, 4, 10e6, 8e6, 1_s));
    CHECK(adapt::give_up_for(s, 4, 17e6, 0.5e6, 1_s).value_or(4) < 2);
    CHECK(!adapt::give_up_for(s, 0, 17e6, 0.5e6, 1_s));
}

TEST_CASE("How good rungs look decides between them where it is stated, and the same scale stretched decides the same",
          "[adapt]") {
    auto ladder = adapt::usual_ladder();
    std::mt19937 random(11);
    std::vector<double> by_bitrate, hardly_better{1, 60, 92, 99, 100}, stretched;
    for (std::size_t r = 0; r < ladder.bitrates.size(); ++r) by_bitrate.push_back(adapt::worth(ladder.bitrates, r));
    for (auto s : hardly_better) stretched.push_back(s * 7.5 + 3);
    int lower = 0, other = 0;
    for (int i = 0; i < 300; ++i) {
        adapt::Situation s;
        s.bitrates = ladder.bitrates, s.segment = 4_s, s.most_ahead = 30_s;
        s.ahead = Time{static_cast<std::int64_t>(random() % 30'000) * 1'000'000};
        s.last = random() % 5;
        auto rate = 3e5 * std::pow(20.0, static_cast<double>(random() % 1000) / 1000);
        s.throughput = {rate, rate * 0.8};
        for (auto name : {"lookahead", "buffer"}) {
            auto rung = [&](const std::vector<double>& scores) {
                s.scores = scores;
                return adapt::make_policy(name)->choose(s).rung;
            };
            auto plain = rung({});
            // The logarithm of bitrates is what is used where nothing is stated.
            CHECK(rung(by_bitrate) == plain);
            CHECK(rung(hardly_better) == rung(stretched));
            // Where the high ones are hardly better, what they would cost is kept for later.
            if (name == std::string("lookahead")) {
                lower += rung(hardly_better)<plain, other += rung(hardly_better)> plain;
            }
            // Half a list says nothing.
            CHECK(rung({1, 2}) == plain);
        }
    }
    CHECK((lower > 30 && lower > other));
}

TEST_CASE("The default rule comes near to who knew the weather beforehand, and nobody beats that", "[adapt]") {
    auto ladder = adapt::usual_ladder();
    double sum = 0;
    auto links = synthetic_traces(12, 3);
    for (auto& w : links) {
        INFO(w.name);
        auto best = adapt::optimum(ladder, w, 30_s, 1_s);
        for (auto name : adapt::policy_names()) {
            auto run = adapt::simulate(ladder, w, name);
            CHECK(run.qoe <= best + 1e-9);
            CHECK((run.mean_bitrate >= ladder.bitrates.front() * 0.999 &&
                   run.mean_bitrate <= ladder.bitrates.back() * 1.001));
            if (name == adapt::default_policy) sum += adapt::share(run.qoe, best);
        }
    }
    CHECK(sum / static_cast<double>(links.size()) > 0.88);
    // On a link that never changes nothing stalls, and what fits is shown.
    NetworkTrace even;
    even.steps = {{{}, 4e6}}, even.length = 10_s, even.settle();
    auto run = adapt::simulate(ladder, even, adapt::default_policy);
    CHECK((run.stalls == 0 && run.mean_bitrate > 2e6 && run.started < 2_s));
}

TEST_CASE("A folder is served as its standard has it, and nothing outside it", "[adapt]") {
    Folder folder;
    put(folder / "a.ts", Bytes(1000, 7));
    put(folder / ".secret", Bytes(10, 7));
    fs::create_directories(folder / "in");
    put(folder.path / "in/l.m3u8", Bytes(20, '#'));
    fs::create_symlink("/etc/hostname", folder / "out");
    std::vector<Served> told;
    std::mutex mutex;
    auto host = value(StaticServer::start({.folder = folder.path, .told = [&](const Served& s) {
                                               std::lock_guard lock(mutex);
                                               told.push_back(s);
                                           }}));
    auto at = host->address();
    HttpClient client;
    auto all = value(client.get(at + "a.ts"));
    CHECK((all.status == 200 && all.body.size() == 1000 && all.headers["content-type"] == "video/mp2t"));
    CHECK((all.headers["accept-ranges"] == "bytes" && all.headers["access-control-allow-origin"] == "*"));
    CHECK(value(client.get(at + "in/l.m3u8")).headers["content-type"] == "audio/mpegurl");
    auto part = value(client.get(at + "a.ts", ByteSource::Range{990, 2000}));
    CHECK((part.status == 206 && part.body.size() == 10 && part.headers["content-range"] == "bytes 990-999/1000"));
    CHECK(value(client.get(at + "a.ts", ByteSource::Range{1000, 1001})).status == 416);
    for (auto& header :
         {"If-None-Match: " + all.headers["etag"], "If-Modified-Since: " + all.headers["last-modified"]}) {
        HttpOptions o;
        o.headers = {header};
        HttpClient again(o);
        CHECK(value(again.get(at + "a.ts")).status == 304);
    }
    HttpOptions stale;
    stale.headers = {"If-Range: \"other\""};
    HttpClient older(stale);
    CHECK(value(older.get(at + "a.ts", ByteSource::Range{10, 20})).body.size() == 10);  // cut out of the whole
    for (auto path : {"none.ts", ".secret", "out", "../a.ts", "%2e%2e/a.ts", "in/../a.ts/../../x", "in", ""}) {
        INFO(path);
        auto r = value(client.get(at + path));
        CHECK((r.status == 404 || (r.status == 200 && r.body.size() == 1000)));
        CHECK((std::string_view(path).find("secret") == std::string_view::npos || r.status == 404));
        CHECK((std::string_view(path) != "out" || r.status == 404));
    }
    host.reset();
    CHECK((told.size() > 10 && told[0].path == "/a.ts" && told[0].bytes == 1000 && told[0].status == 200));
    CHECK(!StaticServer::start({.folder = folder / "none"}));
}

TEST_CASE("What is served in some weather takes as long as that link takes", "[adapt]") {
    Folder folder;
    put(folder / "a.ts", Bytes(250'000, 7));
    NetworkTrace w;
    w.steps = {{{}, 4e6}}, w.length = 10_s, w.delay = 30_ms, w.settle();
    auto host = value(StaticServer::start({.folder = folder.path, .network_trace = w}));
    HttpClient client;
    BareTimer timer;
    auto got = value(client.get(host->address() + "a.ts"));
    // Two million bits, and there and back again.
    CHECK(got.took >= 540_ms);
    CHECK(got.first_byte >= 59_ms);
    CHECK(got.took <= 700_ms + timer.stood() * 4);
}

TEST_CASE("A finished list as a live one slides on, without a gap and without an end", "[adapt]") {
    std::string finished = "#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MAP:URI=\"init.mp4\"\n";
    for (int i = 0; i < 10; ++i) finished += fmt::format("#EXTINF:2.0,\nseg{}.m4s\n", i);
    finished += "#EXT-X-ENDLIST\n";
    std::uint64_t last_first = 0;
    for (int s = 0; s < 100; ++s) {
        auto text = live_list(finished, 1_s * s);
        auto list =
            value(parse_playlist({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "/x/l.m3u8")).list;
        REQUIRE(list.segments.size() == 6);
        CHECK(!list.ended);
        auto first = list.segments.front().number;
        CHECK((first >= last_first && first <= last_first + 1));
        CHECK(first == static_cast<std::uint64_t>(s / 2));
        last_first = first;
        for (auto& seg : list.segments) {
            CHECK(seg.address == fmt::format("/x/seg{}.m4s", seg.number % 10));
            CHECK(seg.discontinuity == seg.number / 10);
            CHECK(seg.map);
        }
    }
}

TEST_CASE("Whatever a finished list holds, the live one names the same bytes, keys and headers, lap after lap",
          "[adapt]") {
    std::mt19937 random(4);
    auto parsed = [](const std::string& text) {
        return value(parse_playlist({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, "/x/l.m3u8"))
            .list;
    };
    auto bytes_of = [](const Segment& s) {
        return s.range ? std::pair{s.range->from, s.range->to} : std::pair{std::uint64_t{0}, std::uint64_t{0}};
    };
    for (int round = 0; round < 60; ++round) {
        auto n = 1 + random() % 9;
        std::string finished = fmt::format(
            "#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:{}\n#EXT-X-DEFINE:NAME=\"n\",VALUE=\"s\"\n",
            random() % 50);
        bool parts = random() % 2, maps = random() % 2;
        for (std::size_t i = 0; i < n; ++i) {
            if (random() % 4 == 0) finished += "#EXT-X-DISCONTINUITY\n";
            // Once there is a header there is one everywhere, if another.
            if (maps && (i == 0 || random() % 3 == 0))
                finished += fmt::format("#EXT-X-MAP:URI=\"{}.mp4\"\n", random() % 3);
            if (random() % 3 == 0)
                finished += std::array{
                    "#EXT-X-KEY:METHOD=NONE\n", "#EXT-X-KEY:METHOD=AES-128,URI=\"k\"\n",
                    "#EXT-X-KEY:METHOD=AES-128,URI=\"k\",IV=0x00112233445566778899aabbccddeeff\n"}[random() % 3];
            finished += "#EXTINF:2,\n";
            if (parts) finished += fmt::format("#EXT-X-BYTERANGE:{}{}\n", 10 + i, i == 0 ? "@5" : "");
            finished += parts ? std::string("all{$n}.mp4\n") : fmt::format("{{$n}}{}.m4s\n", i);
        }
        auto whole = parsed(finished + "#EXT-X-ENDLIST\n").segments;
        std::map<std::uint64_t, std::uint64_t> recordings;
        for (int s = 0; s < 80; s += 1 + static_cast<int>(random() % 5)) {
            for (auto& seg : parsed(live_list(finished, 1_s * s, 4)).segments) {
                INFO(finished << s);
                auto& was = whole[seg.number % n];
                CHECK((seg.address == was.address && seg.duration == was.duration));
                CHECK((bytes_of(seg) == bytes_of(was)));
                CHECK((seg.map ? seg.map->address : "") == (was.map ? was.map->address : ""));
                CHECK(bool(seg.map && seg.map->key) == bool(was.map && was.map->key));
                REQUIRE(bool(seg.key) == bool(was.key));
                if (seg.key) CHECK(seg.key->iv == was.key->iv.value_or(vector_of(was.number)));
                // One recording is one, whichever list names it.
                CHECK(recordings.try_emplace(seg.number, seg.discontinuity).first->second == seg.discontinuity);
            }
        }
        for (auto at = recordings.begin(); std::next(at) != recordings.end(); ++at) {
            auto next = std::next(at);
            if (next->first != at->first + 1) continue;
            auto i = next->first % n;
            bool breaks = i == 0 || whole[i].discontinuity != whole[i - 1].discontinuity;
            CHECK(next->second - at->second == breaks);
        }
    }
}

TEST_CASE("A live stream plays from near its edge, and goes on past where its list ended at first", "[adapt]") {
    auto host = value(StaticServer::start({.folder = fixture("streams"), .live = true}));
    auto clip = std::shared_ptr<Clip>(value(open_clip(host->address() + "ts/180p/index.m3u8", {})));
    CHECK((clip->info().live && !clip->info().duration_known));
    REQUIRE(clip->seekable());
    REQUIRE(clip->begins());
    auto first_window = *clip->seekable();
    CHECK((*clip->begins() >= first_window.from && *clip->begins() < first_window.to));
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    auto p = value(reader->at(*clip->begins()));
    Time last = p.pts;
    while (last < first_window.to + 1_s) {
        auto next = value(reader->next());
        REQUIRE(next);
        CHECK((next->pts > last && next->pts - last < 200_ms));
        last = next->pts;
    }
}

TEST_CASE("Rungs change on a link that changes, and no picture is lost or comes twice", "[adapt]") {
    NetworkTrace w;
    w.steps = {{{}, 6e6}, {400_ms, 0.25e6}, {1500_ms, 6e6}}, w.length = 2500_ms, w.delay = 5_ms, w.settle();
    auto host = value(StaticServer::start({.folder = fixture("streams"), .network_trace = w}));
    std::set<std::uint32_t> rungs;
    // When the link gets narrow a slow machine may be at another segment each time.
    for (int run = 0; run < 4 || (rungs.size() < 2 && run < 12); ++run) {
        StreamOptions options;
        options.policy = "throughput";
        auto clip = std::shared_ptr<Clip>(value(open_clip(host->address() + "fmp4/master.m3u8", options)));
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        int k = 0;
        while (auto p = value(reader->next())) {
            CHECK(demo::read_strip(render(*p)) == k++);
            rungs.insert(p->variant);
        }
        CHECK(k == 180);
        auto report = *clip->stream();
        for (auto& d : report.decisions) CHECK(!d.why.empty());
    }
    CHECK(rungs.size() > 1);
}
