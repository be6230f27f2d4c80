// SPDX-License-Identifier: Apache-2.0
// Every rule of a review: a document that trips it, what is like it and does not, and the press that fixes it.
#include "player/rules.h"

#include <fmt/format.h>

#include <set>

#include <nlohmann/json.hpp>

#include "convert/targets.h"
#include "player/screen.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// A clip with sound and without captions, that plays everywhere; its twin without sound.
ClipInfo clip(bool audio = true, int width = 1280, int height = 720) {
    ClipInfo info;
    info.container = "mp4", info.duration = 60_s, info.duration_known = true, info.bytes = 1'000'000;
    Track v;
    v.id = 1, v.kind = Kind::video, v.codec = Codec::h264, v.is_default = true, v.codec_string = "avc1.42E01E";
    v.video.width = width, v.video.height = height;
    info.tracks.push_back(v);
    Track a;
    a.id = 2, a.kind = Kind::audio, a.codec = Codec::aac, a.is_default = true, a.codec_string = "mp4a.40.2";
    a.audio = {48000, 2};
    if (audio) info.tracks.push_back(a);
    return info;
}
struct Room {
    Folder folder;
    std::map<std::string, ClipInfo> clips{{"lantern.mp4", clip()}, {"stairs.mp4", clip(false, 640, 480)}};
    PlayerDocument document;
    Room() {
        for (auto& [name, info] : clips) put(folder / name, Bytes(64));
        document.target = "desktop";
        document.sources = {{.name = "Lantern", .file = "lantern.mp4"}, {.name = "Stairs", .file = "stairs.mp4"}};
    }
    std::vector<DocumentFinding> found(const PlayerDocument& d) {
        return review(d, folder.path, [&](const std::string& source) -> Result<ClipInfo> {
            auto it = clips.find(fs::path(source).filename().string());
            if (it != clips.end()) return it->second;
            return fail(ErrorCode::not_found, "It is not there.");
        });
    }
};
void without(PlayerDocument& d, std::initializer_list<std::string_view> kinds) {
    std::erase_if(d.player().controls,
                  [&](auto& c) { return std::find(kinds.begin(), kinds.end(), c.kind->name) != kinds.end(); });
}
ControlSpec& put_on(PlayerDocument& d, const char* kind, const char* slot = "foot/end") {
    auto& p = d.player();
    return p.controls[p.put({.kind = &control_kind(kind)}, slot)];
}
/// A PNG’s beginning, which says how large it is.
Bytes png(int width, int height) {
    Bytes b{0x89, 'P', 'N', 'G', '\r', '\n', 0x1A, '\n', 0, 0, 0, 13, 'I', 'H', 'D', 'R'};
    for (int v : {width, height})
        for (int shift = 24; shift >= 0; shift -= 8) b.push_back(static_cast<std::uint8_t>(v >> shift));
    return b;
}
/// Captions.
const Bytes words{'W', 'E', 'B', 'V', 'T', 'T', '\n'};
/// What trips a rule, and what is like it and does not.
struct Case {
    std::string_view code;
    std::function<void(Room&)> trips, passes;
};
const std::vector<Case>& cases() {
    static const std::vector<Case> all{
        {"nothing-to-play", [](Room& r) { r.document.player().sources.emplace(); },
         [](Room& r) { r.document.player().sources = {{"Lantern"}}; }},
        {"never-played", [](Room& r) { r.document.player().sources = {{"Lantern"}}; },
         [](Room& r) { r.document.player().sources = {{"Stairs", "Lantern"}}; }},
        {"no-way-to-start", [](Room& r) { without(r.document, {"toggle", "start"}), put_on(r.document, "pause"); },
         [](Room& r) {
             without(r.document, {"toggle", "start"}), put_on(r.document, "pause");
             r.document.sources[0].start.how = Start::How::play;
         }},
        {"silent-failure", [](Room& r) { without(r.document, {"failure"}); },
         [](Room& r) { without(r.document, {"failure"}), put_on(r.document, "failure", "top"); }},
        {"no-way-on", [](Room& r) { without(r.document, {"retry"}); },
         [](Room& r) { without(r.document, {"retry"}), put_on(r.document, "leave"); }},
        {"all-at-once", [](Room& r) { add_player(r.document), r.document.sources[0].start.how = Start::How::play; },
         [](Room& r) {
             add_player(r.document), r.document.sources[0].start.how = Start::How::play;
             r.document.player(1).muted = true;
         }},
        {"never-seen", [](Room& r) { r.document.player().controls[1].settings.when = "playing and held"; },
         [](Room& r) { r.document.player().controls[1].settings.when = "playing or held"; }},
        {"never-usable", [](Room& r) { r.document.player().controls[1].settings.usable = "not always"; },
         [](Room& r) { r.document.player().controls[1].settings.usable = "playing"; }},
        {"accent-hard-to-see", [](Room& r) { r.document.player().theme.accent = "#D8CDB8"; },
         [](Room& r) {
             r.document.player().theme.accent = "#D8CDB8", r.document.player().theme.background = "#203040";
         }},
        {"says-nothing", [](Room& r) { put_on(r.document, "words"); },
         [](Room& r) { put_on(r.document, "words").settings.words = "{time}"; }},
        {"no-way-to-pause", [](Room& r) { without(r.document, {"toggle"}); },
         [](Room& r) { without(r.document, {"toggle"}), put_on(r.document, "pause"); }},
        {"no-way-out-of-full-screen",
         [](Room& r) {
             for (auto& c : r.document.player().controls)
                 if (c.kind->name == "full-screen") c.settings.when = "not in full screen";
         },
         [](Room& r) {
             for (auto& c : r.document.player().controls)
                 if (c.kind->name == "full-screen") c.settings.when = "not in full screen";
             put_on(r.document, "full-screen").settings.when = "in full screen";
         }},
        {"no-way-to-leave", [](Room& r) { r.document.mount = Mount::handset_upright; },
         [](Room& r) { r.document.mount = Mount::handset_upright, put_on(r.document, "leave"); }},
        {"no-way-back",
         [](Room& r) {
             without(r.document, {"toggle", "position", "start", "back"});
             put_on(r.document, "pause");
             r.document.sources.resize(1);
         },
         [](Room& r) {
             without(r.document, {"toggle", "position", "start", "back"});
             put_on(r.document, "pause"), r.document.player().at_end = AtEnd::again;
         }},
        {"silent-waiting",
         [](Room& r) { without(r.document, {"waiting"}), r.document.sources[1].file = "https://127.0.0.1/a.mp4"; },
         [](Room& r) { without(r.document, {"waiting"}); }},
        {"waits-for-ever", [](Room& r) { r.document.sources[1].file = "https://127.0.0.1/a.mp4"; },
         [](Room& r) {
             r.document.sources[1].file = "https://127.0.0.1/a.mp4", r.document.player().give_up_after = 20_s;
         }},
        {"silent-delay",
         [](Room& r) { without(r.document, {"countdown"}), r.document.sources[0].start = {Start::How::delay, 5_s}; },
         [](Room& r) { r.document.sources[0].start = {Start::How::delay, 5_s}; }},
        {"in-one-place", [](Room& r) { put_on(r.document, "toggle", "foot/start"); },
         [](Room& r) { put_on(r.document, "toggle", "foot/end"); }},
        {"too-small",
         [](Room& r) { r.document.mount = Mount::tablet, r.document.player().controls[0].settings.size = 30; },
         [](Room& r) { r.document.player().controls[0].settings.size = 30; }},
        {"not-by-keyboard", [](Room& r) { r.document.player().controls[1].settings.when = "no touch for 5 s"; },
         [](Room& r) { r.document.player().controls[1].settings.when = "no touch for 5 s or held"; }},
        {"no-name", [](Room& r) { r.document.player().controls[1].settings.words = " "; },
         [](Room& r) { r.document.player().controls[1].settings.words = "Onward"; }},
        {"key-of-two", [](Room& r) { put_on(r.document, "back").settings.by = 30_s; },
         [](Room& r) { put_on(r.document, "back"); }},
        {"nothing-behind", [](Room& r) { r.document.sources = {r.document.sources[1]}; },
         [](Room& r) {
             r.document.sources = {r.document.sources[1]};
             without(r.document, {"volume", "mute", "level"});
         }},
        {"rail-on-live",
         [](Room& r) {
             for (auto& [name, info] : r.clips) info.live = true, info.duration_known = false;
         },
         [](Room& r) {
             for (auto& [name, info] : r.clips) info.live = true, info.duration_known = false, info.container = "hls";
         }},
        {"captions-unreachable",
         [](Room& r) {
             put(r.folder / "a.vtt", words), r.document.sources[0].captions = {"a.vtt"};
             without(r.document, {"captions", "tracks"});
         },
         [](Room& r) { put(r.folder / "a.vtt", words), r.document.sources[0].captions = {"a.vtt"}; }},
        {"silent-for-good", [](Room& r) { r.document.player().muted = true, without(r.document, {"mute", "volume"}); },
         [](Room& r) { r.document.player().muted = true; }},
        {"poster-flash",
         [](Room& r) { r.document.sources[0].start.how = Start::How::play, r.document.sources[0].poster_at = 1_s; },
         [](Room& r) { r.document.sources[0].poster_at = 1_s; }},
        {"poster-shape",
         [](Room& r) { put(r.folder / "p.png", png(400, 300)), r.document.sources[0].poster = "p.png"; },
         [](Room& r) { put(r.folder / "p.png", png(640, 360)), r.document.sources[0].poster = "p.png"; }},
        {"unread-poster", [](Room& r) { put(r.folder / "p.png", Bytes(300)), r.document.sources[0].poster = "p.png"; },
         [](Room& r) { put(r.folder / "p.png", png(640, 360)), r.document.sources[0].poster = "p.png"; }},
        {"short-loop", [](Room& r) { r.document.sources[0].loop = {Loop::Kind::range, 1_s, 1500_ms}; },
         [](Room& r) { r.document.sources[0].loop = {Loop::Kind::range, 1_s, 2_s}; }},
        {"no-captions-file", [](Room& r) { r.document.sources[0].captions = {"b.vtt"}; },
         [](Room& r) { put(r.folder / "b.vtt", words), r.document.sources[0].captions = {"b.vtt"}; }},
        {"unread-captions",
         [](Room& r) { put(r.folder / "b.srt", Bytes(9)), r.document.sources[0].captions = {"b.srt"}; },
         [](Room& r) { put(r.folder / "b.srt", words), r.document.sources[0].captions = {"b.srt"}; }},
        {"target-refuses", [](Room& r) { r.document.target = "open-web-view"; },
         [](Room& r) {
             r.document.target = "open-web-view";
             for (auto& s : r.document.sources) s.prepare_for("open-web-view").file = "made.webm";
         }},
        {"over-budget", [](Room& r) { r.document.target = "handset-basic", r.clips["lantern.mp4"].bytes = 90'000'000; },
         [](Room& r) { r.document.target = "desktop", r.clips["lantern.mp4"].bytes = 90'000'000; }},
        {"loud-start",
         [](Room& r) { r.document.target = "open-web-view", r.document.sources[0].start.how = Start::How::play; },
         [](Room& r) {
             r.document.target = "open-web-view", r.document.sources[0].start.how = Start::How::play;
             r.document.player().muted = true;
         }},
        {"render-shape",
         [](Room& r) {
             r.document.sources.resize(1);
             r.document.player().picture.render_width = 1280, r.document.player().picture.render_height = 20;
         },
         [](Room& r) {
             r.document.sources.resize(1);
             r.document.player().picture.render_width = 640, r.document.player().picture.render_height = 360;
         }},
        {"plays-unseen", [](Room& r) { r.document.player().host.actions[host_row("background")] = HostAction::go_on; },
         [](Room& r) { r.document.player().host.actions[host_row("covered")] = HostAction::go_on; }},
        {"never-released", [](Room& r) { r.document.sources[0].file = "camera://simulated"; },
         [](Room& r) {
             r.document.sources[0].file = "camera://simulated";
             r.document.player().host.actions[host_row("background")] = HostAction::let_go;
         }},
        {"unknown-member", [](Room& r) { r.document.player().extra = R"({"volum": 0.5})"; },
         // What a newer format knows is not unknown.
         [](Room& r) { r.document.player().extra = R"({"volum": 0.5})", r.document.version = 99; }},
        {"idle-setting", [](Room& r) { put_on(r.document, "next").extra = R"({"by_ns": 5000000000})"; },
         [](Room& r) { put_on(r.document, "back").settings.by = 5_s; }},
        {"tiny-time", [](Room& r) { r.document.player().give_up_after = Time{8}; },
         [](Room& r) { r.document.player().give_up_after = 8_s; }},
        {"same-name", [](Room& r) { r.document.sources[1].name = "Lantern"; },
         [](Room& r) { r.document.sources[1].name = "lantern"; }},
        {"unknown-target", [](Room& r) { r.document.target = "dekstop"; },
         [](Room& r) { r.document.target = "handset-recent"; }},
        {"unknown-language", [](Room& r) { r.document.sources[0].audio_language = "in German"; },
         [](Room& r) { r.document.sources[0].audio_language = "de"; }},
        {"poster-beyond", [](Room& r) { r.document.sources[0].poster_at = 60_s; },
         [](Room& r) { r.document.sources[0].poster_at = 59_s; }},
        {"absolute-path", [](Room& r) { r.document.sources[0].file = (r.folder / "lantern.mp4").string(); },
         [](Room& r) {
             fs::create_directory(r.folder / "below");
             r.document.sources[0].file = "below/../lantern.mp4";
         }}};
    return all;
}
}  // namespace

TEST_CASE(
    "Every rule of a review is tripped by one document and not by one that is like it, and what mends it mends it",
    "[findings]") {
    Room usual;
    for (auto& f : usual.found(usual.document)) {
        INFO(f.code << ": " << f.sentence);
        CHECK(f.code == "");
    }
    std::set<std::string_view> tried;
    for (auto& c : cases()) {
        INFO(c.code);
        tried.insert(c.code);
        auto codes_of = [](auto& all) {
            std::set<std::string> codes;
            for (auto& f : all) codes.insert(f.code);
            return codes;
        };
        Room trips, passes;
        c.trips(trips), c.passes(passes);
        auto found = trips.found(trips.document);
        CHECK(codes_of(found).contains(std::string(c.code)));
        CHECK(!codes_of(found = passes.found(passes.document)).contains(std::string(c.code)));
        for (auto& f : found = trips.found(trips.document)) {
            if (f.code != c.code) continue;
            INFO(f.sentence);
            CHECK((f.sentence.ends_with(".") && !f.why.empty()));
            CHECK(to_json(trips.document).contains(nlohmann::json::json_pointer(f.where)));
            // Two are fixed in Prepare.
            if (!f.fix) {
                CHECK((f.code == "target-refuses" || f.code == "over-budget"));
                continue;
            }
            auto fixed = trips.document;
            f.fix->apply(fixed);
            for (auto& left : trips.found(fixed)) CHECK((left.code != f.code || left.sentence != f.sentence));
            CHECK(value(document_from_json(to_json(fixed), "x")) == fixed);
        }
    }
    for (auto& rule : review_rules()) CHECK(tried.contains(rule.code));
    CHECK(review_rules().size() >= 35);
}

TEST_CASE("A document of fifty controls is reviewed in a moment, and no document is too strange to be", "[findings]") {
    std::mt19937 random(23);
    Room r;
    auto kinds = control_kinds();
    for (int round = 0; round < 60; ++round) {
        PlayerDocument d = r.document;
        for (int i = 0; i < 50; ++i) {
            ControlSpec c{.kind = &kinds[random() % kinds.size()]};
            if (random() % 4 == 0) c.settings.when = "playing and no touch for 3 s";
            d.player().put(c, random() % 2 ? "foot/end" : std::string(Slot::places[random() % 9]));
        }
        d.mount = static_cast<Mount>(random() % 6);
        for (auto& f : r.found(d)) {
            INFO(f.code << " " << f.where << " " << f.sentence);
            CHECK(to_json(d).contains(nlohmann::json::json_pointer(f.where)));
            if (!f.fix) continue;
            auto fixed = d;
            f.fix->apply(fixed);
            CHECK(value(document_from_json(to_json(fixed), "x")).players.size() == d.players.size());
        }
    }
}

TEST_CASE("What can't be read on the clip's own pictures is found, and what can is not", "[findings]") {
    Room r;
    r.document.sources.resize(1);
    auto grey = [](std::uint8_t v) {
        return [v](const std::string&) {
            RgbImage image{160, 90, {}};
            image.pixels.resize(160 * 90 * 4);
            std::fill(image.pixels.begin(), image.pixels.end(), v);
            return std::vector<RgbImage>{image};
        };
    };
    auto names = [&](const PlayerDocument& d, std::uint8_t v) {
        std::set<std::string> all;
        for (auto& f : review_contrast(d, r.folder.path, grey(v))) {
            all.insert(f.sentence.substr(0, f.sentence.find("”")));
            CHECK(f.code == "hard-to-read");
            auto fixed = d;
            f.fix->apply(fixed);
            for (auto& left : review_contrast(fixed, r.folder.path, grey(v))) CHECK(left.where != f.where);
        }
        return all.size();
    };
    // As it comes it can be read on anything.
    for (int v = 0; v < 256; v += 15) CHECK(names(r.document, static_cast<std::uint8_t>(v)) == 0);
    // Dark letters on a bar that covers nothing: on light pictures, not on dark ones.
    auto bare = r.document;
    bare.player().bars[0].cover = 0;
    CHECK(names(bare, 240) == 0);
    CHECK(names(bare, 20) >= 3);
    auto pale = r.document;
    put_on(pale, "time", "top-left").settings.ink = "#EDE3CF";
    CHECK(names(pale, 20) == 1);
    // By real pictures.
    auto real = r.document;
    real.sources[0].file = tiny("pace.mp4").string();
    CHECK(sample_frames(real.sources[0].file).size() == 3);
    CHECK(review_contrast(real, "/").empty());
    CHECK(sample_frames("https://127.0.0.1/x.mp4").empty());
}

TEST_CASE("Usual colours are read on a light bar and on a dark one, and one's own are measured as they are drawn",
          "[findings]") {
    Room r;
    auto pictures = [](const std::string&) {
        RgbImage image{16, 9, Pixels(16 * 9 * 4)};
        std::fill(image.pixels.begin(), image.pixels.end(), std::uint8_t{90});
        return std::vector<RgbImage>{image};
    };
    auto unread = [&](const char* ground, const char* rail) {
        auto d = r.document;
        d.player().bars.front().theme.background = ground, d.player().bars.front().cover = 1;
        for (auto& c : d.player().controls)
            if (c.kind->name == "position") c.settings.ink = rail;
        std::set<std::string> where;
        for (auto& f : review_contrast(d, r.folder.path, pictures)) where.insert(f.sentence);
        return where;
    };
    for (auto ground : {"#EDE3CF", "#FFFFFF", "#17131A", "#000000", "#204060", "#8A2436"}) {
        INFO(ground);
        CHECK(unread(ground, "").empty());
        // Letters of the bar's own colour.
        CHECK(unread(ground, ground).size() == 1);
    }
    // The colours of a theme are measured on what they are drawn on, and one press makes all of it readable.
    auto d = r.document;
    auto& p = d.player();
    p.bars.front().cover = 1;
    p.theme.text = "#203040", p.theme.background = "#E6ECE4";
    CHECK(review_contrast(d, r.folder.path, pictures).empty());
    // Where it is only the bar that covers too little, the theme stays.
    p.bars.front().cover = 0.1;
    auto found = review_contrast(d, r.folder.path, pictures);
    REQUIRE_FALSE(found.empty());
    auto covered = d;
    found.front().fix->apply(covered);
    CHECK(review_contrast(covered, r.folder.path, pictures).empty());
    CHECK(covered.player().theme == p.theme);
    p.bars.front().cover = 1, p.bars.front().theme.background = "#2A3A48";
    found = review_contrast(d, r.folder.path, pictures);
    REQUIRE(found.size() > 1);
    for (auto& f : found) CHECK(f.code == "hard-to-read");
    REQUIRE(found.front().fix);
    found.front().fix->apply(d);
    CHECK(review_contrast(d, r.folder.path, pictures).empty());
}
