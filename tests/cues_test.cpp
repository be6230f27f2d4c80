// SPDX-License-Identifier: Apache-2.0
// Captions from every place they come from, and choosing tracks while playing.
#include <fmt/format.h>

#include <cmath>

#include "support.h"
#include "text/cues.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
Cues parse(std::string_view s) {
    return value(parse_captions({reinterpret_cast<const std::uint8_t*>(s.data()), s.size()}, "x.vtt"));
}
}  // namespace

TEST_CASE("WebVTT: times, settings, tags, and what is passed over", "[captions]") {
    auto c = parse(
        "\xEF\xBB\xBFWEBVTT - lights\r\nLanguage: en\r\n\r\nNOTE nothing --> here\r\n\r\nSTYLE\n::cue "
        "{}\n\nfirst\n00:01.000 --> 00:02.500 line:0 position:10%,line-left align:start size:40%\nHello "
        "<b>there</b>\nand <i.loud>again</i> &amp; &lt;more&gt;\n\n"
        "01:00:00.000 --> 01:00:01.000 line:25% align:end\nlate\n\n00:05.000 --> 00:04.000\nbackwards\n\n00:03.000 --> "
        "00:04.000\n\n00:02.000 --> 00:06.000\nearly and long");
    REQUIRE(c.list.size() == 3);
    CHECK(c.language == "en");
    CHECK(c.skipped == 1);
    CHECK(c.list[0].start == 1_s);
    CHECK(c.list[0].end == 2500_ms);
    CHECK(c.list[0].line == 0.0);
    CHECK_FALSE(c.list[0].line_percent);
    CHECK(c.list[0].position == 10.0);
    CHECK(c.list[0].size == 40);
    CHECK(c.list[0].align == Cue::Align::start);
    CHECK(c.list[0].text() == "Hello there\nand again & <more>");
    CHECK(c.list[0].runs ==
          std::vector<TextRun>{
              {"Hello "}, {"there", false, true, false}, {"\nand "}, {"again", true, false, false}, {" & <more>"}});
    CHECK(c.list[1].text() == "early and long");
    CHECK(c.list[2].start == 3600_s);
    CHECK(c.list[2].line == 25.0);
    CHECK(c.list[2].line_percent);
    CHECK(c.list[2].align == Cue::Align::end);
}

TEST_CASE("Times of captions are read as they stand, and what is no time costs that caption and no other",
          "[captions]") {
    std::mt19937 random(73);
    auto text = [&](std::int64_t ms) {
        auto minutes = ms / 60'000, rest = ms % 60'000;
        auto tail = fmt::format("{:02}{}{:03}", rest / 1000, random() % 2 ? "." : ",", rest % 1000);
        return minutes < 100'000 && random() % 2 ? fmt::format("{:02}:{}", minutes, tail)
                                                 : fmt::format("{:02}:{:02}:{}", minutes / 60, minutes % 60, tail);
    };
    std::string file = "WEBVTT\n\n";
    std::vector<Time> wanted;
    for (std::int64_t ms = 0; wanted.size() < 400;) {
        ms += 1 + static_cast<std::int64_t>(random() % (wanted.size() < 200 ? 2000 : 900'000'000));
        wanted.push_back(1_ms * ms);
        file += fmt::format("{} --> {}\nat {}\n\n", text(ms), text(ms + 1), ms);
    }
    auto all = parse(file);
    REQUIRE(all.list.size() == wanted.size());
    CHECK(all.skipped == 0);
    for (std::size_t i = 0; i < wanted.size(); ++i) {
        auto& c = all.list[i];
        CHECK((c.start == wanted[i] && c.end == wanted[i] + 1_ms));
        CHECK(c.text() == fmt::format("at {}", wanted[i].ns / 1'000'000));
    }
    for (auto bad : {"-5:00.000", "9223372036854775807:00:00.000", "18446744073709551616:00.000", "1:02:03:04.500",
                     "00:60.000", "00:61:00.000", "00:00", "00:00.5", "00:00.-12", "0x:00.000", "100001:00:00.000",
                     ":00.000", "00:00.0000", "00:00:00:00", "..", "00,00.000"}) {
        INFO(bad);
        auto cues =
            parse(fmt::format("WEBVTT\n\n00:01.000 --> 00:02.000\none\n\n{} --> 99999:00:09.000\nbad\n\n"
                              "00:03.000 --> 00:04.000\nthree\n",
                              bad));
        REQUIRE(cues.list.size() == 2);
        CHECK((cues.list[0].text() == "one" && cues.list[1].text() == "three"));
    }
}

TEST_CASE("SubRip, in UTF-8, UTF-16 and Latin-1", "[captions]") {
    std::string plain =
        "1\n00:00:01,000 --> 00:00:02,000\nGr\xC3\xB6\xC3\x9F"
        "e {\\an8}oben\n\n2\n00:00:03,500 --> 00:00:04,000\n<i>zwei</i>\nZeilen\n";
    auto c = parse(plain);
    REQUIRE(c.list.size() == 2);
    CHECK(c.list[0].text() == "Größe oben");
    CHECK(c.list[1].text() == "zwei\nZeilen");
    std::string wide = "\xFF\xFE";
    for (char ch : std::string("1\n00:00:01,000 --> 00:00:02,000\nwide\n")) wide += ch, wide += '\0';
    CHECK(parse(wide).list.at(0).text() == "wide");
    CHECK(parse("1\r00:00:01,000 --> 00:00:02,000\rGr\xF6\xDF"
                "e\r")
              .list.at(0)
              .text() == "Größe");
    std::string nothing = "just a letter";
    CHECK(parse_captions({reinterpret_cast<const std::uint8_t*>(nothing.data()), nothing.size()}, "x").error().code ==
          ErrorCode::not_media);
}

TEST_CASE("SubRip as old folders hold it", "[captions]") {
    // Dashes and quotation marks of windows-1252, a line of spaces where an empty one belongs, none at all, few digits.
    auto c = parse(
        "1\n00:00:01,5 --> 00:00:02,25\n\x93Low tide\x94 \x97 \x80 5\xE9\n  \t\n2\n00:00:03,000 --> 00:00:04,000\nI "
        "<3 boats, 2 < 3 > 1\n3\n00:00:05,000 --> 00:00:06,000\n<i>in</i> 1997\n1998\n00:00:07,000 --> "
        "00:00:08,000\n\n5\n00:00:09,5000 --> 00:00:10,000\nno time\n");
    REQUIRE(c.list.size() == 3);
    CHECK(c.skipped == 1);
    CHECK((c.list[0].start == 1500_ms && c.list[0].end == 2250_ms));
    CHECK(c.list[0].text() == "\u201CLow tide\u201D \u2014 \u20AC 5\u00E9");
    CHECK(c.list[1].text() == "I <3 boats, 2 < 3 > 1");
    CHECK(c.list[2].text() == "in 1997");
    CHECK(c.list[2].runs.front().italic);
    // WebVTT keeps to its book: three digits, and a line of spaces is one of text.
    auto book = parse(
        "WEBVTT\n\n00:01.5 --> 00:02.000\nx\n\n00:03.000 --> 00:04.000\na\n \nb\n00:05.000 --> "
        "00:06.000\nc\n");
    REQUIRE(book.list.size() == 2);
    CHECK(book.skipped == 1);
    CHECK(book.list[0].text() == "a\n \nb");
    CHECK(book.list[1].text() == "c");
    // Half of a letter of two halves is none.
    std::string halves = "\xFF\xFE";
    for (char16_t u : std::u16string(u"1\n00:00:01,000 --> 00:00:02,000\na") + char16_t{0xDC00} + u"b\n")
        halves += static_cast<char>(u & 0xFF), halves += static_cast<char>(u >> 8);
    CHECK(parse(halves).list.at(0).text() == "a\uFFFDb");
}

TEST_CASE("Captions inside Matroska are those their maker put in", "[captions]") {
    auto clip = open("text_webvtt.mkv");
    auto& track = clip->info().tracks.at(2);
    REQUIRE(shows_captions(track));
    auto cues = value(read_cues(*clip, track));
    auto& wanted = facts("text_webvtt.mkv")["tracks"][2]["cues"];
    REQUIRE(cues.list.size() == wanted.size());
    for (std::size_t i = 0; i < wanted.size(); ++i) {
        CHECK(std::abs(cues.list[i].start.seconds() - wanted[i]["start_s"].get<double>()) < 1e-6);
        CHECK(std::abs(cues.list[i].end.seconds() - wanted[i]["end_s"].get<double>()) < 1e-6);
    }
    CHECK(cues.list[1].text() == "Größe: 3 µm");
    CHECK(cues.list[1].runs.at(1).italic);
}

TEST_CASE("Captions in MP4 samples, both kinds", "[captions]") {
    Track t;
    t.kind = Kind::text;
    std::vector<Cue> out;
    PacketHead head{
        .pts = 1_s, .duration = 2_s, .trim_end = {}, .keyframe = true, .size = 0, .offset = {}, .config = {}};
    ByteWriter w;
    auto box = [](std::string_view type, ByteView body) {
        ByteWriter b;
        b.u32(body.size() + 8).text(type).raw(body);
        return b.bytes;
    };
    auto bytes = [](std::string_view s) { return Bytes(s.begin(), s.end()); };
    auto inner = box("sttg", bytes("line:0 align:end"));
    auto payload = box("payl", bytes("One <b>cue</b>"));
    inner.insert(inner.end(), payload.begin(), payload.end());
    auto sample = box("vttc", inner);
    auto second = box("vttc", box("payl", bytes("another")));
    sample.insert(sample.end(), second.begin(), second.end());
    t.codec = Codec::webvtt, t.codec_tag = "wvtt";
    cues_of_packet(t, head, sample, out);
    REQUIRE(out.size() == 2);
    CHECK(out[0].text() == "One cue");
    CHECK(out[0].line == 0.0);
    CHECK(out[0].align == Cue::Align::end);
    CHECK(out[1].text() == "another");
    CHECK_FALSE(out[1].line);
    cues_of_packet(t, head, box("vtte", {}), out);
    CHECK(out.size() == 2);
    t.codec = Codec::tx3g, t.codec_tag = "tx3g";
    ByteWriter timed;
    timed.u16(5).text("plain").u32(12).text("styl").u32(0);
    cues_of_packet(t, head, timed.bytes, out);
    REQUIRE(out.size() == 3);
    CHECK(out[2].text() == "plain");
    cues_of_packet(t, head, Bytes{0, 9, 'x'}, out);
    CHECK(out.size() == 3);
}

TEST_CASE("Captions beside a clip are found by its name", "[captions]") {
    Folder folder;
    for (auto name : {"lantern.webm", "lantern.vtt", "lantern.de.srt", "lantern.old.notes.vtt", "lanterns.vtt",
                      "other.vtt", "lantern.FR.SRT"})
        put(folder / name, Bytes{'x'});
    std::vector<std::string> names;
    for (auto& f : captions_beside((folder / "lantern.webm").string()))
        names.push_back(fs::path(f).filename().string());
    CHECK(names ==
          std::vector<std::string>{"lantern.FR.SRT", "lantern.de.srt", "lantern.old.notes.vtt", "lantern.vtt"});
    CHECK(language_of_name("lantern.de.srt") == "de");
    for (auto [name, language] : {std::pair{"lantern.EN.srt", "en"},
                                  {"lantern.ger.vtt", "de"},
                                  {"a.pt-BR.vtt", "pt-BR"},
                                  {"Sr-Latn.sr-Latn.vtt", "sr-Latn"},
                                  {"lantern.notes.vtt", ""},
                                  {"lantern.v2.srt", ""},
                                  {"lantern.xx.srt", ""},
                                  {"lantern.de-.srt", ""},
                                  {"lantern.srt", ""},
                                  {"de", ""}})
        CHECK(language_of_name(name) == language);
}

TEST_CASE("A file of captions made at random is read back caption for caption, however its lines end", "[captions]") {
    std::mt19937 random(33);
    auto one_of = [&](auto... v) {
        const std::string all[]{v...};
        return all[random() % std::size(all)];
    };
    for (int round = 0; round < 200; ++round) {
        bool webvtt = round % 2;
        auto stamp = [&](Time t, bool hours) {
            auto ms = t.ns / 1'000'000;
            auto text = hours || !webvtt || ms >= 3'600'000 ? fmt::format("{:02}:", ms / 3'600'000) : "";
            return text +
                   fmt::format("{:02}:{:02}{}{:03}", ms / 60'000 % 60, ms / 1000 % 60, webvtt ? '.' : ',', ms % 1000);
        };
        std::vector<Cue> wanted;
        std::string file = webvtt ? "WEBVTT\n" : "";
        Time at{};
        for (std::size_t i = 0, n = random() % 12 + 1; i < n; ++i) {
            Cue c;
            at += 1_ms * static_cast<std::int64_t>(random() % 900'000);
            c.start = at, c.end = at + 1_ms * static_cast<std::int64_t>(1 + random() % 9000);
            for (std::size_t r = 0, runs = random() % 3 + 1; r < runs; ++r) {
                TextRun run{one_of("Lamps", "a < b & c", "two\nlines", "港の灯", "x > y ")};
                // Beside one that looks the same it would be one with it.
                run.italic = r % 2, run.bold = r % 2 && random() % 2, run.underline = r % 2 && random() % 2;
                if (!webvtt) std::erase_if(run.text, [](char ch) { return ch == '<' || ch == '>' || ch == '&'; });
                c.runs.push_back(run);
            }
            if (webvtt && random() % 2) {
                if (random() % 2) c.line = static_cast<double>(random() % 100), c.line_percent = random() % 2;
                if (random() % 2) c.position = static_cast<double>(random() % 101);
                if (random() % 2) c.size = static_cast<double>(random() % 100);
                c.align = static_cast<Cue::Align>(random() % 3);
            }
            file += "\n";
            if (webvtt && random() % 3 == 0) file += "NOTE passed over\nwith --> an arrow\n\n";
            if (!webvtt || random() % 2) file += std::to_string(i + 1) + "\n";
            auto settings = cue_settings(c);
            file += stamp(c.start, random() % 2) + " --> " + stamp(c.end, random() % 2) +
                    (settings.empty() ? "" : " " + settings) + "\n" + cue_text(c, webvtt) + "\n";
            wanted.push_back(std::move(c));
        }
        if (auto end = one_of("\n", "\r\n", "\r"); end != "\n")
            for (std::size_t i = 0; (i = file.find('\n', i)) != file.npos; i += end.size()) file.replace(i, 1, end);
        if (random() % 2) file = "\xEF\xBB\xBF" + file;
        INFO(file);
        auto read = parse(file);
        CHECK(read.skipped == 0);
        REQUIRE(read.list.size() == wanted.size());
        for (std::size_t i = 0; i < wanted.size(); ++i) {
            auto &a = read.list[i], &b = wanted[i];
            CHECK((a.start == b.start && a.end == b.end));
            CHECK((a.line == b.line && a.line_percent == b.line_percent && a.position == b.position));
            CHECK((a.size == b.size && a.align == b.align));
            CHECK(a.runs == b.runs);
        }
    }
}

TEST_CASE("Captions change bytes at random and nothing breaks", "[captions]") {
    std::string good =
        "WEBVTT\n\n00:01.000 --> 00:02.500 line:0\nHello <b>there</b>\n\n1\n00:00:03,500 --> 00:00:04,000\n<i>zwei</i> "
        "&amp;\n";
    std::mt19937 random(4);
    for (int i = 0; i < 20'000; ++i) {
        auto s = good;
        for (int k = 0; k < 1 + i % 5; ++k) s[random() % s.size()] = static_cast<char>(random());
        if (i % 3 == 0) s.resize(random() % s.size());
        auto c = parse_captions({reinterpret_cast<const std::uint8_t*>(s.data()), s.size()}, "x");
        if (c)
            for (auto& cue : c->list) REQUIRE(cue.end > cue.start);
    }
}

TEST_CASE("What is shown is what its times say, whatever the order of ends", "[captions]") {
    Stage stage;
    Folder folder;
    std::string text = "WEBVTT\n\n00:00.500 --> 00:05.000\nlong\n\n00:01.000 --> 00:02.000\nshort\n";
    put(folder / "c.en.vtt", {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
    stage.controller.open(
        fixture("vp9_opus.webm").string(),
        {.start = {Start::How::play, {}}, .text_language = "en", .captions = {(folder / "c.en.vtt").string()}});
    auto at = [&](Time t) {
        stage.controller.seek(t);
        stage.controller.pause();
        stage.run(200_ms);
        stage.settle();
        std::string all;
        for (auto* c : stage.now().showing()) all += c->text() + ";";
        return all;
    };
    stage.run(100_ms);
    CHECK(at(200_ms).empty());
    CHECK(at(700_ms) == "long;");
    CHECK(at(1500_ms) == "long;short;");
    CHECK(at(2500_ms) == "long;");
    CHECK(at(5500_ms).empty());
    stage.controller.choose_text(0);
    CHECK(at(700_ms).empty());
    CHECK(stage.now().track_options->size() == 2);
}

TEST_CASE("Another sound track takes over at the sample where the one before leaves off", "[captions]") {
    Stage stage;
    std::vector<float> heard;
    stage.mixer.on_mix([&](std::span<const float> s, std::int64_t) { heard.insert(heard.end(), s.begin(), s.end()); });
    stage.controller.open(fixture("two_audio_languages.mkv").string(), {.start = {Start::How::play, {}}});
    stage.run(1500_ms);
    REQUIRE(stage.now().track_options->size() == 2);
    CHECK(stage.now().track_options->at(1).title == "German");
    auto before = stage.now().audio_track;
    stage.controller.choose_audio(stage.now().track_options->at(1).id);
    stage.run(5_s);
    CHECK(stage.now().audio_track != before);
    // Bursts of 1 kHz before, of 2 kHz after, all at whole seconds of media time.
    auto frequency = [&](std::size_t from) {
        int crossings = 0;
        for (std::size_t i = from; i < from + 1920; ++i) crossings += (heard[2 * i] < 0) != (heard[2 * i + 2] < 0);
        return crossings / 2.0 / 0.04;
    };
    std::vector<std::size_t> onsets;
    std::size_t quiet = 48'000;
    for (std::size_t i = 0; i + 2000 < heard.size() / 2; ++i) {
        if (std::abs(heard[2 * i]) > 0.05F) {
            if (quiet > 9600) onsets.push_back(i);
            quiet = 0;
        } else {
            ++quiet;
        }
    }
    REQUIRE(onsets.size() >= 5);
    CHECK(std::abs(frequency(onsets[1]) - 1000) < 60);
    CHECK(std::abs(frequency(onsets[2]) - 2000) < 120);
    CHECK(onsets[2] - onsets[1] == Approx(48'000).margin(480));
    auto events = stage.controller.events();
    CHECK(std::none_of(events.begin(), events.end(), [](auto& e) { return e.name == "starved"; }));
    CHECK(onsets[3] - onsets[2] == Approx(48'000).margin(480));
    // A language that is asked for from the start.
    Stage german;
    german.controller.open(fixture("two_audio_languages.mkv").string(), {.audio_language = "de"});
    german.run(500_ms);
    CHECK(german.now().audio_track == stage.now().audio_track);
}

TEST_CASE("Switching sound costs nothing that plays: at every speed, in a loop, again and again", "[captions]") {
    std::mt19937 random(91);
    for (double rate : {1.0, 2.0, 0.5})
        for (bool loop : {false, true}) {
            Stage stage;
            OpenOptions options = playing;
            options.rate = rate;
            if (loop) options.loop = {Loop::Kind::range, 1_s, 4_s};
            stage.controller.open(fixture("two_audio_languages.mkv").string(), options);
            REQUIRE(stage.run_until([](auto& s) { return s.state.phase == Phase::playing && s.position > 1200_ms; }));
            auto wall = stage.strand->now();
            auto from = stage.now().position;
            for (int i = 0; i < 6; ++i) {
                auto& list = *stage.now().track_options;
                stage.controller.choose_audio(list[random() % 2].id);
                stage.run(Time{static_cast<std::int64_t>(random() % 300'000'000)});
            }
            INFO("rate " << rate << (loop ? " in a loop" : ""));
            auto went = stage.now().position - from;
            auto expected = scaled(stage.strand->now() - wall, rate);
            if (loop && went < expected - 1_s) went += 3_s;
            CHECK(std::abs((went - expected).ms()) < 60);
            auto events = stage.controller.events();
            CHECK(std::none_of(events.begin(), events.end(), [](auto& e) { return e.name == "starved"; }));
            CHECK(stage.now().state.phase == Phase::playing);
            CHECK(stage.now().counters.dropped == 0);
        }
}

TEST_CASE("A cue that says nothing, or lasts for no time, is none", "[captions]") {
    Track track;
    track.kind = Kind::text, track.codec = Codec::subrip;
    for (auto [words, length, is_one] : {std::tuple{"Hello", 1_s, true},
                                         {"Hello", Time{}, false},
                                         {"", 1_s, false},
                                         {"\n\n", 1_s, false},
                                         {"<i></i>", 1_s, false},
                                         {"<i>x</i>", 1_ns, true}}) {
        INFO(words << ", " << length.ns);
        PacketHead head;
        head.pts = 3_s, head.duration = length;
        std::vector<Cue> cues;
        std::string_view text = words;
        cues_of_packet(track, head, {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, cues);
        CHECK(cues.size() == (is_one ? 1U : 0U));
    }
}
