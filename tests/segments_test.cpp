// SPDX-License-Identifier: Apache-2.0
// Segments of many kinds: sound without a container, fragments of another family, and what does not belong.
#include <fmt/format.h>

#include <thread>

#include "stream/description.h"
#include "streams.h"

using namespace ruedo;
using namespace ruedo::test;
using namespace ruedo::stream;

namespace {
/// A tag that says when the sound after it begins (RFC 8216 clause 3.4), in ticks of 90 kHz.
Bytes stamp(std::uint64_t ticks) {
    std::string owner = "org.example.streaming.transportStreamTimestamp";
    auto size = owner.size() + 9;
    Bytes tag{'I', 'D', '3', 4, 0, 0, 0, 0, 0, static_cast<std::uint8_t>(size + 10)};
    for (char c : std::string_view("PRIV")) tag.push_back(static_cast<std::uint8_t>(c));
    for (auto b : {std::size_t{0}, std::size_t{0}, std::size_t{0}, size, std::size_t{0}, std::size_t{0}})
        tag.push_back(static_cast<std::uint8_t>(b));
    tag.insert(tag.end(), owner.begin(), owner.end());
    tag.push_back(0);
    for (int shift = 56; shift >= 0; shift -= 8) tag.push_back(static_cast<std::uint8_t>(ticks >> shift));
    return tag;
}
/// ISO/IEC 13818-7 clause 6.2: a frame of AAC LC with its header, without a checksum.
Bytes adts(ByteView frame, int rate, int channels) {
    constexpr std::array rates{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000};
    auto index = static_cast<unsigned>(std::find(rates.begin(), rates.end(), rate) - rates.begin());
    auto n = static_cast<unsigned>(frame.size() + 7), c = static_cast<unsigned>(channels);
    Bytes out;
    for (auto b :
         {0xffU, 0xf1U, 0x40U | index << 2 | c >> 2, (c & 3) << 6 | n >> 11, n >> 3, (n & 7) << 5 | 0x1fU, 0xfcU})
        out.push_back(static_cast<std::uint8_t>(b));
    out.insert(out.end(), frame.begin(), frame.end());
    return out;
}
std::vector<Packet> packets_of(Clip& clip, Kind kind) {
    auto reader = clip.reader(clip.info().main(kind)->id);
    std::vector<Packet> all;
    Packet p;
    while (value(reader->next(p.head))) done(reader->read(p.data)), all.push_back(p);
    return all;
}
}  // namespace

TEST_CASE("Sound in segments without a container is one sound, without a seam", "[stream]") {
    for (std::string kind : {"aac", "mp3"}) {
        INFO(kind);
        auto clip = ruedo::test::open(kind == "aac" ? "h264_high_aac.mp4" : "audio_vbr_no_info.mp3");
        auto format = clip->info().main(Kind::audio)->audio;
        auto packets = packets_of(*clip, Kind::audio);
        REQUIRE(packets.size() > 40);
        Folder folder;
        Bytes whole, segment;
        std::string list = "#EXTM3U\n#EXT-X-TARGETDURATION:1\n";
        std::size_t in_segment = 0, from = 0, n = 0;
        auto per_frame = ticks_to_time(kind == "aac" ? 1024 : 1152, 1, format.rate);
        for (std::size_t i = 0; i < packets.size(); ++i) {
            auto frame = kind == "aac" ? adts(packets[i].data, format.rate, format.channels) : packets[i].data;
            // Beginning near where a clock of 33 bits starts over.
            if (in_segment == 0)
                segment = stamp(
                    ((1ULL << 33) - 90'000 +
                     static_cast<std::uint64_t>(time_to_ticks(per_frame * static_cast<std::int64_t>(from), 90000))) %
                    (1ULL << 33));
            segment.insert(segment.end(), frame.begin(), frame.end());
            whole.insert(whole.end(), frame.begin(), frame.end());
            if (++in_segment < 19 && i + 1 < packets.size()) continue;
            put(folder / fmt::format("{}.{}", n, kind), segment);
            list += fmt::format("#EXTINF:{:.6f},\n{}.{}\n",
                                (per_frame * static_cast<std::int64_t>(in_segment)).seconds(), n++, kind);
            from += std::exchange(in_segment, 0);
        }
        put_text(folder / "list.m3u8", list + "#EXT-X-ENDLIST\n");
        auto stream = opened_stream((folder / "list.m3u8").string(), {.on_demand = true});
        REQUIRE(stream->info().main(Kind::audio));
        CHECK(!stream->info().main(Kind::video));
        CHECK(packets_of(*stream, Kind::audio).size() == packets.size());
        auto heard = audio_of(stream), should = audio_of(opened(whole, "whole." + kind));
        // Whole but for a frame at either end.
        REQUIRE(heard.size() + 4 * 1152 * 2 > should.size());
        REQUIRE(should.size() + 4 * 1152 * 2 > heard.size());
        // Somewhere in the first two frames they fall together, and from there on they are the same.
        double best = 1e9;
        for (std::size_t shift = 0; shift < 2 * 2400 && best > 1e-4; shift += 2)
            for (bool other : {false, true}) {
                double most = 0;
                for (std::size_t k = 9600; k + 9600 < std::min(heard.size(), should.size()) && most < best; ++k)
                    most = std::max(most, std::abs(static_cast<double>(heard[k + (other ? shift : 0)]) -
                                                   should[k + (other ? 0 : shift)]));
                best = std::min(best, most);
            }
        CHECK(best < 1e-3);
        auto late = audio_of(stream, 1_s);
        CHECK(std::abs(static_cast<std::int64_t>(heard.size() - late.size()) - 2 * 48000) <= 4);
    }
}

TEST_CASE("Sound goes on over the ends of fragments as if there were none", "[stream]") {
    Bytes whole;
    for (std::string part : {"init.mp4", "seg0.m4s", "seg1.m4s", "seg2.m4s"}) {
        auto bytes = bytes_of(fixture("streams/fmp4/audio/" + part));
        whole.insert(whole.end(), bytes.begin(), bytes.end());
    }
    auto should = audio_of(opened(whole, "whole.mp4"));
    auto heard = audio_of(opened_stream(fixture("streams/fmp4/audio/index.m3u8").string(), {.on_demand = true}));
    REQUIRE(std::abs(static_cast<std::int64_t>(heard.size() - should.size())) <= 2 * 2048);
    for (std::size_t k = 0; k < std::min(heard.size(), should.size()); ++k)
        if (std::abs(heard[k] - should[k]) > 1e-4F) {
            INFO(k);
            CHECK(heard[k] == should[k]);
            break;
        }
}

TEST_CASE("The ticks of a clock that starts over are those nearest to where they are looked for", "[stream]") {
    constexpr auto turn = std::int64_t{1} << 33;
    std::mt19937_64 random(33);
    for (int i = 0; i < 20'000; ++i) {
        auto meant = static_cast<std::int64_t>(random() >> 20) - (std::int64_t{1} << 43);
        auto near = meant + static_cast<std::int64_t>(random() % (turn - 2)) - turn / 2 + 1;
        auto stamp = ((meant % turn) + turn) % turn;
        CHECK(ticks_near(stamp, near) == meant);
        CHECK(ticks_near(meant, near) == meant);
    }
}

TEST_CASE("Clusters of Matroska are segments as well", "[stream]") {
    auto bytes = bytes_of(tiny("tiny.webm"));
    Folder folder;
    std::vector<std::size_t> begins;
    for (std::size_t i = 0; i + 4 <= bytes.size(); ++i)
        if (bytes[i] == 0x1f && bytes[i + 1] == 0x43 && bytes[i + 2] == 0xb6 && bytes[i + 3] == 0x75)
            begins.push_back(i);
    REQUIRE(begins.size() >= 3);
    put(folder / "init.webm", ByteView(bytes).first(begins[0]));
    auto clip = value(open_clip(tiny("tiny.webm")));
    std::vector<Time> starts;
    for (std::size_t i = 0; i < begins.size(); ++i) {
        auto end = i + 1 < begins.size() ? begins[i + 1] : bytes.size();
        put(folder / fmt::format("{}.webm", i), ByteView(bytes).subspan(begins[i], end - begins[i]));
        Bytes both(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(begins[0]));
        both.insert(both.end(), bytes.begin() + static_cast<std::ptrdiff_t>(begins[i]),
                    bytes.begin() + static_cast<std::ptrdiff_t>(end));
        auto one = value(open_segment(memory_source(both, "one.webm"), Timeline{}));
        REQUIRE(one->info().main(Kind::video));
        auto first = Time::max();
        for (auto& p : packets_of(*one, Kind::video)) first = std::min(first, p.head.pts);
        starts.push_back(first + one->info().zero.value_or(Time{}));
    }
    std::string entries;
    for (std::size_t i = 0; i < starts.size(); ++i)
        entries += fmt::format("<S t=\"{}\" d=\"{}\"/>", starts[i].ns / 1'000'000,
                               ((i + 1 < starts.size() ? starts[i + 1] : 6_s) - starts[i]).ns / 1'000'000);
    put_text(
        folder / "all.mpd",
        "<MPD type=\"static\" mediaPresentationDuration=\"PT6S\"><Period><AdaptationSet mimeType=\"video/webm\">"
        "<SegmentTemplate timescale=\"1000\" initialization=\"init.webm\" media=\"$Number$.webm\" startNumber=\"0\">"
        "<SegmentTimeline>" +
            entries +
            "</SegmentTimeline></SegmentTemplate><Representation id=\"a\" bandwidth=\"90000\" "
            "codecs=\"vp09.00.10.08\"/>"
            "</AdaptationSet></Period></MPD>");
    auto stream = opened_stream((folder / "all.mpd").string(), {.on_demand = true});
    auto reader = value(FrameReader::open(stream, *stream->info().main(Kind::video), CodecRegistry::standard()));
    std::vector<int> numbers;
    while (auto p = value(reader->next())) numbers.push_back(demo::read_strip(render(*p, 96, 54)).value_or(-1));
    CHECK(numbers == counting(180));
    CHECK(demo::read_strip(render(value(reader->at(3500_ms)), 96, 54)) == 105);
}

TEST_CASE("A segment of another codec is stepped over, and rungs of several codecs are not mixed", "[stream][seek]") {
    Copy copy("fmp4");
    auto other = bytes_of(fixture("recorded_vp9_opus.mp4"));
    std::string_view moof = "moof";
    auto front =
        static_cast<std::size_t>(std::search(other.begin(), other.end(), moof.begin(), moof.end()) - other.begin()) - 4;
    put(copy / "180p/front.mp4", ByteView(other).first(front));
    put(copy / "180p/other.m4s", ByteView(other).subspan(front));
    put_text(copy.folder.path / "180p/mixed.m3u8",
             "#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MAP:URI=\"init.mp4\"\n#EXTINF:2,\nseg0.m4s\n"
             "#EXT-X-DISCONTINUITY\n#EXT-X-MAP:URI=\"front.mp4\"\n#EXTINF:2,\nother.m4s\n"
             "#EXT-X-DISCONTINUITY\n#EXT-X-MAP:URI=\"init.mp4\"\n#EXTINF:2,\nseg2.m4s\n#EXT-X-ENDLIST\n");
    Stage stage(0, true);
    stage.controller.open(copy / "180p/mixed.m3u8", playing);
    REQUIRE(stage.run_until([](auto& s) { return ended(s) || s.state.phase == Phase::failed; }));
    CHECK(!stage.now().error);
    std::string said;
    for (auto& e : stage.controller.events())
        if (e.name == "hole") said += e.detail;
    INFO(said);
    CHECK(said.find("VP9 where the rest of its stream is H.264") != std::string::npos);
    std::set<int> numbers;
    for (auto& s : stage.sink->shown) numbers.insert(s.number);
    CHECK((numbers.contains(0) && numbers.contains(59) && numbers.contains(120) && numbers.contains(179)));

    std::string master = "#EXTM3U\n";
    for (auto [codec, rate] : {std::pair{"av01.0.04M.08", 300},
                               {"avc1.64001e", 400},
                               {"hvc1.1.6.L90", 500},
                               {"avc1.64001f", 800},
                               {"hev1.1.6.L93", 900},
                               {"avc1.640020", 1600}})
        master += fmt::format("#EXT-X-STREAM-INF:BANDWIDTH={}000,CODECS=\"{}\",RESOLUTION=640x360\n{}.m3u8\n", rate,
                              codec, rate);
    auto plan = value(plan_hls(
        "x.m3u8",
        value(parse_playlist({reinterpret_cast<const std::uint8_t*>(master.data()), master.size()}, "x.m3u8"))));
    REQUIRE(plan.track_groups[0].rungs.size() == 3);
    for (auto& rung : plan.track_groups[0].rungs) CHECK(rung.codecs.starts_with("avc1"));
}

TEST_CASE("A live list whose numbers go back goes on after what was there", "[stream]") {
    Copy copy("ts");
    auto list = [&](int first, bool ends) {
        std::string text = fmt::format("#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:{}\n", first);
        for (int i = 0; i < 3; ++i) text += fmt::format("#EXTINF:2,\nseg{}.ts\n", i);
        put_text(copy.folder.path / "180p/live.m3u8", text + (ends ? "#EXT-X-ENDLIST\n" : ""));
    };
    list(40, false);
    auto clip = opened_stream(copy / "180p/live.m3u8", {.start = Time{}, .on_demand = true});
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    std::vector<int> numbers;
    std::vector<Time> times;
    auto take = [&](std::size_t upto) {
        while (numbers.size() < upto) {
            auto p = value(reader->next());
            if (!p) break;
            numbers.push_back(demo::read_strip(render(*p)).value_or(-1)), times.push_back(p->pts);
        }
    };
    take(150);
    list(3, true);
    take(1000);
    REQUIRE(numbers.size() == 360);
    for (std::size_t k = 0; k < numbers.size(); ++k) CHECK(numbers[k] == static_cast<int>(k % 180));
    for (std::size_t k = 1; k < times.size(); ++k)
        CHECK(std::abs((times[k] - times[k - 1]).ns - 33'333'333) < 3'000'000);
    auto news = clip->news();
    CHECK(std::any_of(news.begin(), news.end(), [](auto& n) { return n.name == "list-jumped"; }));
}

TEST_CASE("A key that anyone can read on its way is said to keep nobody out", "[stream]") {
    Copy copy("ts");
    put(copy / "180p/key", Bytes(16, 7));
    for (std::uint8_t i = 0; i < 3; ++i) {
        auto path = copy / fmt::format("180p/seg{}.ts", i);
        std::array<std::uint8_t, 16> iv{};
        iv[15] = i;
        put(path, encrypt(bytes_of(path), Bytes(16, 7), iv));
    }
    auto text = text_of(copy / "180p/index.m3u8");
    text.insert(text.find("#EXTINF"), "#EXT-X-KEY:METHOD=AES-128,URI=\"key\"\n");
    put_text(copy.folder.path / "180p/index.m3u8", text);
    auto host = value(StaticServer::start({.folder = copy.folder.path}));
    CHECK(has_finding(*opened_stream(host->address() + "180p/index.m3u8", {.on_demand = true}), "clear-key"));
    CHECK(!has_finding(*opened_stream(copy / "180p/index.m3u8", {.on_demand = true}), "clear-key"));
}

TEST_CASE("Lengths, ranges and names in a manifest are read as they were written, or not at all", "[stream]") {
    namespace dash = stream::dash;
    std::mt19937 random(21);
    for (int round = 0; round < 500; ++round) {
        auto days = random() % 3, hours = random() % 30, minutes = random() % 70, ms = random() % 100'000;
        std::string text = "P";
        if (days) text += std::to_string(days) + "D";
        text += "T";
        if (hours || round % 3 == 0) text += std::to_string(hours) + "H";
        if (minutes || round % 5 == 0) text += std::to_string(minutes) + "M";
        text += fmt::format("{}.{:03}S", ms / 1000, ms % 1000);
        INFO(text);
        auto wanted = 1_s * static_cast<std::int64_t>(days * 86400 + hours * 3600 + minutes * 60) +
                      1_ms * static_cast<std::int64_t>(ms);
        auto read = dash::duration(text);
        REQUIRE(read);
        CHECK(std::abs((*read - wanted).ns) <= 1);
        // Cut after a digit its unit is missing.
        auto cut = text.substr(0, 1 + random() % (text.size() - 1));
        if (std::isdigit(static_cast<unsigned char>(cut.back())) || cut.back() == '.') CHECK_FALSE(dash::duration(cut));
    }
    for (auto* no : {"", "1H", "PT5", "P1Y", "P2M", "PT1X", "-PT1S", "PT-1S", "PT1e12S", "PTS", "PTnanS"}) {
        INFO(no);
        CHECK_FALSE(dash::duration(no));
    }
    CHECK(dash::duration("PT0.04S") == 40_ms);

    for (int round = 0; round < 200; ++round) {
        std::uint64_t a = random() % 1000, b = random() % 1000;
        auto r = dash::range(fmt::format("{}-{}", a, b));
        REQUIRE(r.has_value() == (a <= b));
        if (r) CHECK((r->from == a && r->to == b + 1));
    }
    for (auto* no : {"", "-", "5", "5-", "-5", "a-b", "1-2-3", "1 -2", "0-18446744073709551615"})
        CHECK_FALSE(dash::range(no));

    for (int round = 0; round < 300; ++round) {
        std::uint64_t n = random() % 2'000'000, time = random(), bandwidth = random() % 5'000'000;
        auto width = random() % 12 + 1;
        std::string form, wanted;
        for (std::size_t i = 0, parts = random() % 6; i < parts; ++i) switch (random() % 7) {
                case 0:
                    form += "$Number$", wanted += std::to_string(n);
                    break;
                case 1:
                    form += fmt::format("$Number%0{}d$", width), wanted += fmt::format("{:0{}}", n, width);
                    break;
                case 2:
                    form += "$Time$", wanted += std::to_string(time);
                    break;
                case 3:
                    form += fmt::format("$Bandwidth%0{}d$", width), wanted += fmt::format("{:0{}}", bandwidth, width);
                    break;
                case 4:
                    form += "$RepresentationID$", wanted += "low";
                    break;
                case 5:
                    form += "$$", wanted += "$";
                    break;
                default:
                    form += "seg-/%", wanted += "seg-/%";
            }
        INFO(form);
        CHECK(dash::fill(form, "low", bandwidth, n, time) == wanted);
        CHECK_FALSE(dash::fill(form + "$", "low", bandwidth, n, time));
    }
    for (auto* no : {"$Nummer$", "$Number%5x$", "$Number%d$", "$Number%099d$", "a$Number", "$Sub$.m4s"})
        CHECK_FALSE(dash::fill(no, "low", 1, 2, 3));
}
