// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include "convert/targets.h"
#include "playback/properties.h"
#include "player/drop.h"
#include "io/json_text.h"
#include "player/rules.h"
#include "scene/findings.h"

#include "players.h"

using namespace ruedo;
using namespace ruedo::test;
using nlohmann::json;

namespace {
void random_player(const PlayerDocument& d, PlayerSpec& p, std::mt19937& random) {
    p.name = random() % 2 ? "" : "Second";
    p.name = d.free_player_name(p.name.empty() ? "Player" : p.name);
    if (random() % 2) {
        p.sources.emplace();
        for (auto& s : d.sources)
            if (random() % 2) p.sources->insert(p.sources->begin(), s.name);
    }
    p.hide_after = 1_ms * static_cast<std::int64_t>(1000 + random() % 9000);
    p.open_within = 1_s * static_cast<std::int64_t>(1 + random() % 600);
    p.give_up_after = 1_s * static_cast<std::int64_t>(random() % 9);
    p.at_end = static_cast<AtEnd>(random() % 6);
    for (std::size_t row = 0; row < host_row_count; ++row)
        if (auto actions = host_rows()[row].actions; random() % 3 == 0)
            p.host.actions[row] = actions[random() % actions.size()];
    for (auto r : {Remember::volume, Remember::place, Remember::captions})
        if (random() % 3 == 0) p.remembered.push_back(r);
    p.volume = static_cast<double>(random() % 101) / 100, p.muted = random() % 2, p.speed = random() % 2 ? 1 : 1.5;
    p.picture.surround = random() % 2 ? "#17131A" : "#8a2436";
    p.picture.corner = static_cast<int>(random() % 2) * 12;
    if (random() % 2) p.picture.render_width = 10, p.picture.render_height = 16, p.picture.blocky = random() % 2;
    random_controls(p, random);
    if (random() % 2) {
        auto& h = p.hang;
        if (random() % 2) h.at = Point{0.25, 1.5, -static_cast<double>(random() % 9)};
        h.facing = static_cast<HangSpec::Facing>(random() % 3), h.turn = static_cast<double>(random() % 181),
        h.tilt = -7.5;
        h.width = 0.5 + static_cast<double>(random() % 4), h.bend = static_cast<double>(random() % 3);
        h.surface_width = 640, h.surface_height = 16 + static_cast<int>(random() % 900);
        h.margin = 0.125, h.backing = "#8a2436", h.cover = 0.5;
    }
    for (auto& b : p.bars)
        if (random() % 3 == 0)
            b.floats =
                FloatSpec{static_cast<FloatSpec::Side>(random() % 5), 0.5, static_cast<double>(random() % 90), 0.25};
}
PlayerDocument random_document(std::mt19937& random) {
    PlayerDocument d;
    d.app_name = "App " + std::to_string(random() % 1000) + " “ü”";
    for (unsigned i = random() % 4; i > 0; --i) {
        SourceSpec s;
        s.name = "Clip " + std::to_string(i), s.file = "media/" + std::to_string(i) + ".webm";
        s.start = {static_cast<Start::How>(random() % 3), {}};
        if (s.start.how == Start::How::delay) s.start.delay = 1_ms * static_cast<std::int64_t>(random() % 5000);
        s.loop.kind = static_cast<Loop::Kind>(random() % 3);
        if (s.loop.kind == Loop::Kind::range)
            s.loop.from = 1_s, s.loop.to = 1_s + 1_ms * static_cast<std::int64_t>(1 + random() % 5000);
        s.fit = static_cast<Fit>(random() % 4);
        s.align_x = static_cast<double>(random() % 3) / 2, s.align_y = static_cast<double>(random() % 3) / 2;
        static constexpr std::array languages{"", "en", "de", "pt-BR", "zh-Hant"};
        s.audio_language = languages[random() % languages.size()],
        s.text_language = languages[random() % languages.size()];
        if (random() % 4 == 0)
            s.poster_at = 1_ms * static_cast<std::int64_t>(random() % 9000);
        else if (random() % 4 == 0)
            s.no_poster = true;
        else if (random() % 2)
            s.poster = "posters/“" + std::to_string(random() % 100) + "”.png";
        for (auto n = random() % 3; n > 0; --n)
            s.captions.push_back("media/" + std::to_string(i) + "." + std::to_string(n) + ".vtt");
        for (auto target : {"handset-basic", "kiosk “ü”"}) {
            if (random() % 3) continue;
            auto& p = s.prepare_for(target);
            if (random() % 2) p.file = "media/" + std::to_string(i) + " for " + target + ".mp4";
            if (random() % 2) p.recipe = Recipe{}, p.recipe->video.quality = static_cast<int>(random() % 50);
        }
        d.sources.push_back(s);
    }
    d.target = random() % 2 ? "handset-recent" : "desktop";
    if (random() % 2) {
        d.screen.arrangement = static_cast<ScreenSpec::Arrangement>(random() % 3);
        d.screen.gap = static_cast<int>(random() % 2) * 20, d.screen.one_sounds = random() % 2;
        d.screen.ground = random() % 2 ? "#000000" : "#17131A";
    }
    d.players.resize(random() % 2 ? 1 : 1 + random() % PlayerDocument::most_players, usual_player());
    for (auto& player : d.players) random_player(d, player, random);
    if (random() % 2) {
        auto& r = d.room;
        r.viewer.at.z = 1.5, r.viewer.turn = static_cast<double>(random() % 90), r.viewer.tilt = -10,
        r.viewer.field = 75;
        if (random() % 2) r.hand = PoseSpec{{0.5, 1, -0.5}, 30, static_cast<double>(random() % 60)};
        for (auto n = random() % 4; n > 0; --n) {
            auto s = SolidSpec::usual(static_cast<SolidSpec::Kind>(random() % 3));
            s.name = r.free_solid_name("Thing"), s.at.x = static_cast<double>(random() % 5), s.turn = 45,
            s.depth = 0.75;
            r.solids.push_back(s);
        }
        r.walls = "#ffffff", r.floor = "#000000", r.audio_by_place = random() % 2;
    }
    d.mount = static_cast<Mount>(random() % mount_names().size());
    if (random() % 2) d.mount_width = 320, d.mount_height = 568;
    return d;
}
}  // namespace

TEST_CASE("What a bar's theme sets counts on it, then what its player's sets, and a themed document comes back whole",
          "[document]") {
    std::mt19937 random(5);
    for (int i = 0; i < 200; ++i) {
        PlayerDocument d;
        auto& p = d.player();
        p.theme = random_theme(random);
        p.bars.front().theme = random_theme(random);
        auto& bar = p.bars.front();
        auto on_bar = p.theme_on(&bar), elsewhere = p.theme_on(nullptr);
        for (auto& row : theme_members()) {
            INFO(row.name);
            CHECK(row.get(elsewhere) == row.get(p.theme));
            CHECK(row.get(on_bar) == row.get(row.is_set(bar.theme) ? bar.theme : p.theme));
        }
        auto layout = lay_out(p, shape_of(Mount::window), usual_moment());
        for (std::size_t c = 0; c < p.controls.size(); ++c)
            if (layout.controls[c].shown)
                CHECK(layout.controls[c].theme == (layout.controls[c].on_bar ? on_bar : p.theme));
        CHECK(value(document_from_json(to_json(d), "x")) == d);
    }
    // What is out of range is refused by its place; the older spelling of a bar's background reads as its theme's.
    auto j = to_json(PlayerDocument{});
    auto& bar = j["players"][0]["bars"][0];
    bar["ground"] = "#102030";
    CHECK(value(document_from_json(j, "x")).player().bars[0].theme.background == "#102030");
    for (auto& [member, wrong] : std::map<std::string, nlohmann::json>{
             {"accent", "sea"}, {"corner_px", 101}, {"mark_size", 49}, {"font", ""}, {"text", 3}}) {
        bar["theme"] = {{member, wrong}};
        auto read = document_from_json(j, "x");
        REQUIRE_FALSE(read);
        CHECK(read.error().sentence.find("/players/0/bars/0/theme/" + member + " must be") != std::string::npos);
    }
}

TEST_CASE("A document is read as it was written", "[document]") {
    std::mt19937 random(16);
    Folder folder;
    for (int i = 0; i < 200; ++i) {
        auto d = random_document(random);
        done(save_document(d, folder / "a.ruedo"));
        CHECK(value(load_document(folder / "a.ruedo")) == d);
    }
}

TEST_CASE("The random documents set every field there is, so that what they show holds for each", "[document]") {
    // Whatever a document can hold differs from a plain one's in some of them.
    std::mt19937 random(16);
    json plain = to_json(PlayerDocument{});
    PlayerDocument two;
    two.players.push_back(usual_player());
    json plain_screen = to_json(two)["screen"];
    SourceSpec plain_source;
    plain_source.file = "x";
    PlayerDocument one;
    one.sources = {plain_source};
    std::map<std::string, bool> differs;
    std::function<void(const json&, const json&, std::string)> walk = [&](const json& a, const json& b,
                                                                          std::string at) {
        for (auto& [key, value] : a.items()) {
            if (at.empty() && (key == "sources" || key == "ruedo" || key == "players")) continue;
            if (value.is_object() && b.contains(key))
                walk(value, b[key], at + "/" + key);
            else
                differs[at + "/" + key] = differs[at + "/" + key] || !b.contains(key) || b[key] != value;
        }
    };
    auto schema = json::parse(std::ifstream(std::string(RUEDO_DOCS) + "/project.schema.json"));
    for (int i = 0; i < 60; ++i) {
        auto j = to_json(random_document(random));
        walk(j, plain, "");
        walk(j["players"][0], plain["players"][0], "/player");
        if (j.contains("screen")) walk(j["screen"], plain_screen, "/screen");
        for (auto& s : j["sources"]) walk(s, to_json(one)["sources"][0], "/source");
    }
    for (auto& [path, different] : differs) {
        INFO(path);
        CHECK(different);
    }
    for (auto& [key, unused] : schema["properties"]["players"]["items"]["properties"].items()) {
        INFO(key);
        // Times as text are another way of writing those of nanoseconds.
        CHECK((key == "picture" || differs.contains("/player/" + key) || differs.contains("/player/" + key + "_ns")));
    }
    for (auto& [key, unused] : schema["properties"]["screen"]["properties"].items()) {
        INFO(key);
        CHECK(differs.contains("/screen/" + key));
    }
    for (auto& [key, unused] : schema["properties"]["sources"]["items"]["properties"].items()) {
        INFO(key);
        CHECK(differs.contains("/source/" + key));
    }
}

TEST_CASE("Format numbers that never were are refused, however large or small they are", "[document]") {
    auto good = to_json(PlayerDocument{});
    for (auto& [number, code] : std::vector<std::pair<json, ErrorCode>>{{-1, ErrorCode::malformed},
                                                                        {0, ErrorCode::malformed},
                                                                        {4294967297ULL, ErrorCode::too_new},
                                                                        {UINT64_MAX, ErrorCode::too_new},
                                                                        {INT64_MIN, ErrorCode::malformed},
                                                                        {3, ErrorCode::too_new}}) {
        auto j = good;
        j["ruedo"] = number;
        j["players"] = "of another shape";
        INFO(number.dump());
        auto d = document_from_json(j, "a.ruedo");
        REQUIRE_FALSE(d.has_value());
        CHECK(d.error().code == code);
    }
    CHECK(document_from_json(good, "a.ruedo").has_value());
}

TEST_CASE("A mistake in a document is named by its place", "[document]") {
    auto good = to_json([] {
        std::mt19937 r(1);
        PlayerDocument d = random_document(r);
        SourceSpec s;
        s.file = "a.mp4";
        d.sources = {s};
        for (auto& p : d.players) p.sources.reset();
        return d;
    }());
    auto at = [&](const char* pointer, json bad) {
        auto j = good;
        j[json::json_pointer(pointer)] = std::move(bad);
        auto d = document_from_json(j, "a.ruedo");
        REQUIRE_FALSE(d.has_value());
        CHECK(d.error().sentence.find(pointer) != std::string::npos);
        return d.error().code;
    };
    CHECK(at("/sources/0/fit", "squeeze") == ErrorCode::malformed);
    CHECK(at("/sources/0/start", 7) == ErrorCode::malformed);
    CHECK(at("/sources/0/poster", true) == ErrorCode::malformed);
    CHECK(at("/sources/0/poster", -1) == ErrorCode::malformed);
    CHECK(at("/sources/0/loop", {{"from_ns", 5}, {"to_ns", 5}}) == ErrorCode::malformed);
    CHECK(at("/sources/0/align", {0.5, 2}) == ErrorCode::malformed);
    CHECK(at("/players/0/volume", 1.5) == ErrorCode::malformed);
    CHECK(at("/players/0/hide_after_ns", -1) == ErrorCode::malformed);
    CHECK(at("/players/0/picture/surround", "pink") == ErrorCode::malformed);
    CHECK(at("/players/0/picture/render", {{"width", 9}}) == ErrorCode::malformed);
    CHECK(at("/players", json::array()) == ErrorCode::malformed);
    auto control = [&](json c) { return at("/players/0/controls", json::array({std::move(c)})); };
    CHECK(control({{"kind", "lever"}, {"slot", "centre"}}) == ErrorCode::malformed);
    CHECK(control({{"kind", "toggle"}, {"slot", "beneath"}}) == ErrorCode::malformed);
    CHECK(control({{"kind", "toggle"}, {"slot", "no such bar/end"}}) == ErrorCode::malformed);
    CHECK(control({{"kind", "toggle"}}) == ErrorCode::malformed);
    CHECK(control({{"kind", "toggle"}, {"slot", "centre"}, {"when", "has colour"}}) == ErrorCode::malformed);
    CHECK(control({{"kind", "words"}, {"slot", "centre"}, {"template", "{colour}"}}) == ErrorCode::malformed);
    CHECK(control({{"kind", "back"}, {"slot", "centre"}, {"by_ns", 0}}) == ErrorCode::malformed);
    CHECK(at("/players/0/controls", json(121, {{"kind", "toggle"}, {"slot", "centre"}})) == ErrorCode::malformed);
    CHECK(at("/players", json(1000, json::object())) == ErrorCode::malformed);
    CHECK(at("/players", json(13, {{"name", ""}})) == ErrorCode::malformed);
    CHECK(at("/players/0/sources", {"Clip 99"}) == ErrorCode::malformed);
    CHECK(at("/players/0/sources", "a.mp4") == ErrorCode::malformed);
    CHECK(at("/screen", {{"arrangement", "pile"}}) == ErrorCode::malformed);
    CHECK(at("/screen", {{"gap_px", 201}}) == ErrorCode::malformed);
    auto twice = good;
    twice["players"] = json(2, {{"name", "Left"}});
    CHECK(document_from_json(twice, "a").error().sentence.find("/players/1/name") != std::string::npos);
    // Without names they are given some.
    twice["players"] = json(2, json::object());
    CHECK(value(document_from_json(twice, "a")).player(1).name == "Player 2");
    CHECK(at("/mount", json::array()) == ErrorCode::malformed);
    CHECK(at("/mount_size", {360, "wide"}) == ErrorCode::malformed);
    CHECK(at("/mount_size", {360, 99}) == ErrorCode::malformed);
    auto newer = good;
    newer["ruedo"] = 99, newer["mount"] = "hologram";
    CHECK(document_from_json(newer, "a").error().code == ErrorCode::too_new);
    CHECK(document_from_json(json::array(), "a").error().code == ErrorCode::malformed);
}

TEST_CASE("A document that is cut or scrambled is refused in one sentence", "[document]") {
    std::mt19937 random(17);
    Folder folder;
    auto text = to_json(random_document(random)).dump(2);
    for (int i = 0; i < 300; ++i) {
        auto bad = text;
        if (i % 2)
            bad.resize(random() % bad.size());
        else
            for (int k = 0; k < 3; ++k) bad[random() % bad.size()] = static_cast<char>(random());
        put(folder / "x.ruedo", {reinterpret_cast<const std::uint8_t*>(bad.data()), bad.size()});
        auto d = load_document(folder / "x.ruedo");
        if (!d) CHECK_FALSE(d.error().sentence.empty());
    }
}

TEST_CASE("Saving over a project leaves the old one when it can't be done", "[document]") {
    Folder folder;
    std::mt19937 random(18);
    auto first = random_document(random);
    done(save_document(first, folder / "p.ruedo"));
    CHECK_FALSE(save_document(first, folder.path / "no-folder" / "p.ruedo").has_value());
    CHECK(value(load_document(folder / "p.ruedo")) == first);
    CHECK(std::distance(fs::directory_iterator(folder.path), {}) == 1);
}

TEST_CASE("Names for files and programs are plain and never empty", "[document]") {
    CHECK(file_stem("Harbour Lights") == "harbour-lights");
    CHECK(file_stem("../../etc/x y") == "etc-x-y");
    CHECK(file_stem("ÄÖ") == "player");
    CHECK(file_stem("") == "player");
    for (auto name : {"Media", "LIB", "media ", "lib"}) CHECK((file_stem(name) != "media" && file_stem(name) != "lib"));
}

TEST_CASE("The review finds what stands in a player's way", "[document]") {
    Folder folder;
    fs::copy_file(fixture("vp9_opus.webm"), folder / "lantern.webm");
    fs::copy_file(fixture("encrypted_encv.mp4"), folder / "locked.mp4");
    PlayerDocument d;
    SourceSpec good, missing, locked, stretched;
    good.file = "lantern.webm", missing.file = "lantren.webm", locked.file = "locked.mp4",
    stretched.file = "lantern.webm";
    stretched.fit = Fit::fill;
    stretched.loop = {Loop::Kind::range, 1_s, 99_s};
    d.sources = {good};
    CHECK(review(d, folder.path).empty());
    d.sources = {good, missing, locked, stretched};
    auto found = review(d, folder.path);
    auto says = [&](std::size_t source, const std::string& word) {
        return std::any_of(found.begin(), found.end(), [&](auto& f) {
            return f.where.starts_with("/sources/" + std::to_string(source)) &&
                   (f.sentence + f.why).find(word) != std::string::npos;
        });
    };
    CHECK(says(1, "lantern.webm"));
    CHECK(says(2, "encrypted"));
    CHECK(says(3, "stretched"));
    CHECK(says(3, "loop"));
    for (auto& f : found) {
        if (f.code != "no-file" && f.code != "stretched" && f.code != "loop-too-long") continue;
        REQUIRE(f.fix);
        auto fixed = d;
        f.fix->apply(fixed);
        CHECK(review(fixed, folder.path).size() == found.size() - 1);
    }
    d.sources = {good};
    auto codes = [&](std::initializer_list<const char*> taken_away, auto change) {
        auto without = d;
        auto& controls = without.player().controls;
        for (auto* kind : taken_away) std::erase_if(controls, [&](auto& c) { return c.kind->name == kind; });
        change(without.player());
        std::set<std::string> all;
        for (auto& f : review(without, folder.path)) {
            all.insert(f.code);
            // Each names a place that is there, and what fixes it fixes it.
            CHECK(to_json(without).contains(json::json_pointer(f.where)));
            REQUIRE(f.fix);
            auto fixed = without;
            f.fix->apply(fixed);
            for (auto& left : review(fixed, folder.path)) {
                INFO(f.sentence << " " << f.fix->words << ": " << left.sentence);
                CHECK((left.code != f.code || left.where != f.where));
            }
        }
        return all;
    };
    auto nothing = [](auto&) {};
    CHECK(codes({}, nothing).empty());
    // The large mark sets it going, and nothing holds it then.
    CHECK(codes({"toggle"}, nothing) == std::set<std::string>{"no-way-to-pause"});
    CHECK(codes({"toggle", "start"}, nothing) == std::set<std::string>{"no-way-to-start", "no-way-to-pause"});
    CHECK(codes({"failure"}, nothing) == std::set<std::string>{"silent-failure"});
    CHECK(codes({"retry"}, nothing) == std::set<std::string>{"no-way-on"});
    CHECK(codes({"failure", "retry"}, nothing) == std::set<std::string>{"silent-failure"});
    auto with = [](const char* when, const char* usable) {
        return [=](PlayerSpec& p) { p.controls[0].settings.when = when, p.controls[0].settings.usable = usable; };
    };
    // What is never there is no way to pause, either.
    CHECK(codes({}, with("playing and held", "")) == std::set<std::string>{"never-seen", "no-way-to-pause"});
    CHECK(codes({}, with("", "not always")) == std::set<std::string>{"never-usable", "no-way-to-pause"});
    CHECK(codes({}, with("at the end", "playing")) == std::set<std::string>{"never-usable", "no-way-to-pause"});
    CHECK(codes({"start"}, with("captions shown and not has captions", "")) ==
          std::set<std::string>{"never-seen", "no-way-to-start", "no-way-to-pause"});
}

TEST_CASE("What a newer version wrote is kept through a round trip, and a newer format is read and not written",
          "[document]") {
    auto j = to_json(PlayerDocument{});
    j["weather"] = {{"link", "tunnel"}};
    j["sources"] = json::array({{{"file", "a.webm"}, {"grain", 3}}});
    auto& player = j["players"][0];
    player["dance"] = "slow", player["picture"]["frame"] = "oak", player["bars"][0]["tilt"] = 4;
    player["controls"][0]["scent"] = json::array({1, 2});
    auto d = value(document_from_json(j, "a"));
    auto back = to_json(d);
    for (auto* at : {"/weather/link", "/sources/0/grain", "/players/0/dance", "/players/0/picture/frame",
                     "/players/0/bars/0/tilt", "/players/0/controls/0/scent/1"}) {
        INFO(at);
        CHECK(back[json::json_pointer(at)] == j[json::json_pointer(at)]);
    }
    Folder folder;
    done(save_document(d, folder / "a.ruedo"));
    CHECK(value(load_document(folder / "a.ruedo")) == d);
    j["ruedo"] = 7;
    auto newer = value(document_from_json(j, "a"));
    CHECK(newer.newer());
    CHECK(to_json(newer)["ruedo"] == 7);
    CHECK(save_document(newer, folder / "a.ruedo").error().code == ErrorCode::too_new);
    CHECK(value(load_document(folder / "a.ruedo")) == d);  // what was there stays
}

TEST_CASE("Documents of the first format become players with the same bar", "[document]") {
    json first{{"ruedo", 1},
               {"app", "Harbour Lights"},
               {"sources", json::array({{{"file", "a.webm"}}})},
               {"player",
                {{"surround", "#8A2436"},
                 {"skip_ns", 7'000'000'000},
                 {"hide_after_ns", 2'000'000'000},
                 {"volume", 0.5},
                 {"queue", "repeat-all"},
                 {"bar", {{"start", {"toggle", "back"}}, {"middle", {"position", "strip"}}, {"end", {"volume"}}}}}}};
    auto d = value(document_from_json(first, "a"));
    auto& p = d.player();
    CHECK(p.picture.surround == "#8A2436");
    CHECK(p.hide_after == 2_s);
    CHECK(p.volume == 0.5);
    CHECK(p.at_end == AtEnd::round);
    auto kinds = [&](const char* slot) {
        std::vector<std::string> list;
        for (auto i : p.in_slot(slot)) list.emplace_back(p.controls[i].kind->name);
        return list;
    };
    using List = std::vector<std::string>;
    CHECK(kinds("foot/start") == List{"toggle", "back"});
    CHECK(kinds("foot/middle") == List{"position", "strip"});
    CHECK(kinds("foot/end") == List{"mute", "volume"});
    CHECK(kinds("centre") == List{"start", "countdown", "waiting", "failure", "retry"});
    CHECK(p.control("back")->settings.by == 7_s);
    CHECK(to_json(d)["ruedo"] == PlayerDocument::current_version);
    // Without a bar of its own it has the usual one; what was wrong then is wrong now.
    first["player"].erase("bar");
    auto usual = value(document_from_json(first, "a"));
    CHECK(usual.player().in_slot("foot/end").size() == usual_player().in_slot("foot/end").size());
    first["player"]["queue"] = "for-ever";
    CHECK(document_from_json(first, "a").error().sentence.find("/player/queue") != std::string::npos);
}

TEST_CASE("What goes deeper than anybody would write is refused wherever it stands, and nothing breaks", "[document]") {
    Folder folder;
    auto nested = [](std::size_t levels) { return std::string(levels, '[') + std::string(levels, ']'); };
    for (std::string around : {R"({"ruedo":2,"x":@})", R"({"ruedo":2,"app":@})", R"({"ruedo":2,"players":@})",
                               R"({"ruedo":2,"players":[{"controls":[{"kind":"toggle","slot":"centre","y":@}]}]})",
                               R"({"ruedo":2,"sources":[{"file":"a","loop":@}]})", "@"}) {
        auto text = around;
        text.replace(text.find('@'), 1, nested(200'000));
        INFO(around);
        put(folder / "a.ruedo", {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
        CHECK(load_document(folder / "a.ruedo").error().code == ErrorCode::malformed);
    }
    CHECK_FALSE(control_from_text(nested(10'000)).has_value());
    // What a newer version may well have written is kept.
    auto text = R"({"ruedo":2,"x":)" + nested(20) + "}";
    CHECK(document_from_json(json::parse(text), "a").has_value());
}

TEST_CASE("A mistake in a file is named by its line", "[document]") {
    Folder folder;
    std::mt19937 random(31);
    for (int i = 0; i < 60; ++i) {
        auto d = random_document(random);
        SourceSpec s;
        s.file = "a.mp4";
        d.sources = {s};
        auto j = to_json(d);
        // Somewhere a value is of a kind that fits nowhere; it stands alone on its line.
        std::vector<std::string> places{"/app",
                                        "/mount",
                                        "/sources/0/fit",
                                        "/sources/0/file",
                                        "/players/0/volume",
                                        "/players/0/muted",
                                        "/players/0/picture/corner_px",
                                        "/players/0/at_end"};
        for (std::size_t c = 0; c < d.player().controls.size(); ++c)
            places.push_back("/players/0/controls/" + std::to_string(c) + "/slot");
        auto at = places[random() % places.size()];
        j[json::json_pointer(at)] = -77777;
        auto text = j.dump(static_cast<int>(random() % 4), ' ');
        if (text.find('\n') == std::string::npos) text = "\n\n" + text;
        put(folder / "a.ruedo", {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
        auto line = 1 + std::count(text.begin(), text.begin() + static_cast<long>(text.find("-77777")), '\n');
        auto read = load_document(folder / "a.ruedo");
        INFO(at << " in " << text);
        REQUIRE_FALSE(read.has_value());
        CHECK(read.error().sentence.find("line " + std::to_string(line) + " of") != std::string::npos);
        CHECK(read.error().sentence.find(at) != std::string::npos);
    }
    std::string cut = "{\n \"ruedo\": 2,\n \"app\": \"Ha";
    put(folder / "a.ruedo", {reinterpret_cast<const std::uint8_t*>(cut.data()), cut.size()});
    CHECK(load_document(folder / "a.ruedo").error().sentence.find("line 3") != std::string::npos);
}

TEST_CASE("Controls and settings are rows of tables, and the pages and the schema are made of them", "[document]") {
    auto page = [](const char* name) {
        std::ifstream file(fs::path(RUEDO_DOCS) / name);
        return std::string((std::istreambuf_iterator<char>(file)), {});
    };
    CHECK(page("controls.md") == controls_page());
    CHECK(page("room.md") == scene::room_page());
    CHECK(page("conditions.md") == conditions_page());
    CHECK(page("host.md") == host_page());
    CHECK(page("findings.md") == findings_page());
    CHECK(page("project.schema.json") == project_schema().dump(2) + "\n");
    std::set<std::string_view> names;
    for (auto& k : control_kinds()) {
        INFO(k.name);
        CHECK(names.insert(k.name).second);
        CHECK(find_control(k.name) == &k);
        CHECK_FALSE(k.title.empty());
        CHECK_FALSE(k.meaning.empty());
        CHECK((k.rank >= 1 && k.rank <= 9));
        for (auto own : k.settings) CHECK(find_setting(own));
        // Each can stand in a document, alone, in any slot.
        PlayerDocument d;
        d.player().controls.clear();
        for (auto place : Slot::places) d.player().put({.kind = &k}, place);
        d.player().put({.kind = &k}, "foot/end");
        CHECK(value(document_from_json(to_json(d), "x")) == d);
        CHECK(value(control_from_text(control_text(d.player().controls[3]))) == d.player().controls[3]);
        for (int bits = 0; bits < 512; ++bits) {
            ControlContext c;
            auto& s = c.snapshot;
            s.state.intent = bits & 1 ? Intent::play : Intent::hold;
            s.live = bits & 2;
            if (!s.live || bits & 4) s.seekable = TimeRange{{}, bits & 8 ? 10_s : Time::max()};
            s.has_audio = bits & 16, s.has_video = bits & 256;
            s.muted = bits & 32;
            c.count = bits & 64 ? 3 : 1;
            c.has_next = bits & 128;
            bool words = k.form == ControlKind::Form::label || k.form == ControlKind::Form::notice ||
                         k.form == ControlKind::Form::captions;
            if (!words) CHECK_FALSE(k.label(c, {}).empty());
            if (k.pressable()) CHECK(k.mark(c, {}).shape != Mark::Shape::none);
            CHECK((k.value != nullptr) == k.slides());
            CHECK((k.slide != nullptr) == k.slides());
            CHECK((k.press(c, {}).what != Press::What::none) == k.pressable());
            if (k.name == "toggle") CHECK(k.mark(c, {}).shape == (bits & 1 ? Mark::Shape::pause : Mark::Shape::play));
            if (k.name == "position" || k.name == "back") CHECK(k.absent(c).empty() == s.seekable.has_value());
            if (k.name == "strip") CHECK(k.absent(c).empty() == (c.count > 1));
            if (k.name == "next") CHECK(k.idle(c).empty() == c.has_next);
            if (k.name == "mute") CHECK(k.press(c, {}).onward != s.muted);
        }
    }
    // Where play and pause take turns, one of the two is to be seen at any moment.
    for (auto intent : {Intent::play, Intent::hold}) {
        ControlContext c;
        c.snapshot.state.intent = intent;
        CHECK(control_kind("play").absent(c).empty() != control_kind("pause").absent(c).empty());
    }
    CHECK_FALSE(find_control("gong"));
    CHECK_FALSE(find_setting("gong"));
    // Every value that a setting has been given is given back, and what it cannot be is refused in words.
    std::mt19937 random(41);
    for (auto& s : setting_kinds()) {
        INFO(s.name);
        for (int i = 0; i < 40; ++i) {
            ControlSettings settings;
            auto wanted = random_setting(s, random);
            CHECK_FALSE(s.set(settings, wanted));
            CHECK(s.get(settings) == wanted);
        }
        for (auto& bad : {json(nullptr), json::object(), json(-5'000'000'000'000'000), json(1e300), json({0.1, 9}),
                          json(std::string(5000, 'x'))}) {
            ControlSettings settings;
            auto wrong = s.set(settings, bad);
            REQUIRE(wrong);
            CHECK_FALSE(wrong->empty());
            CHECK(settings == ControlSettings{});
        }
    }
}

TEST_CASE("Words of one's own say properties, and what is none is named", "[document]") {
    ControlContext c;
    c.title = "Fog signal", c.index = 1, c.count = 3;
    c.snapshot.position = 62_s, c.snapshot.duration = 90_s, c.snapshot.duration_known = true;
    CHECK(fill_words("{time} of {length}, {left} left: {title} ({number}/{count})", c) ==
          "1:02 of 1:30, 0:28 left: Fog signal (2/3)");
    CHECK(fill_words("{muted} {volume} {presented}", c) == "no 1 0");
    CHECK_FALSE(wrong_words("{state} {speed}× plain"));
    CHECK(wrong_words("{colour}")->find("colour") != std::string::npos);
    CHECK(wrong_words("{time"));
    CHECK(wrong_words("time}"));
    for (auto& p : properties()) {
        INFO(p.name);
        CHECK_FALSE(wrong_words("{" + std::string(p.name) + "}"));
        CHECK(fill_words("{" + std::string(p.name) + "}", c).find('{') == std::string::npos);
    }
}

TEST_CASE("Conditions are read, put straight, and hold as their phrases and joints say", "[document]") {
    std::mt19937 random(42);
    auto phrases = condition_phrases();
    // A random one beside what it should be worth.
    struct Made {
        std::string text;
        std::function<bool(const ControlContext&)> value;
    };
    std::function<Made(int)> make = [&](int depth) -> Made {
        auto what = depth == 0 ? 0 : random() % 4;
        if (what == 0) {
            auto& p = phrases[random() % phrases.size()];
            auto t = 1_s * static_cast<std::int64_t>(random() % 20);
            auto text = std::string(p.words) + (p.timed ? " " + std::to_string(t.ns / 1'000'000'000) + " s" : "");
            return {text, [&p, t](auto& c) { return p.holds(c, t); }};
        }
        auto a = make(depth - 1);
        if (what == 1) return {"not (" + a.text + ")", [a](auto& c) { return !a.value(c); }};
        auto b = make(depth - 1);
        if (what == 2)
            return {"(" + a.text + ") and  (" + b.text + ")", [a, b](auto& c) { return a.value(c) && b.value(c); }};
        return {"( " + a.text + ") or (" + b.text + " )", [a, b](auto& c) { return a.value(c) || b.value(c); }};
    };
    for (int i = 0; i < 300; ++i) {
        auto made = make(3);
        INFO(made.text);
        auto read = Condition::parse(made.text);
        REQUIRE(read.has_value());
        auto again = Condition::parse(read->text());
        REQUIRE(again.has_value());
        CHECK(again->text() == read->text());
        bool ever = false;
        for (int k = 0; k < 30; ++k) {
            ControlContext c;
            auto& s = c.snapshot;
            s.state.phase = static_cast<Phase>(random() % 9);
            s.state.intent = static_cast<Intent>(random() % 2);
            // Only what can be: motion goes with phase and intent.
            bool moves = s.state.phase == Phase::playing && s.state.intent == Intent::play;
            s.motion = moves && random() % 2 ? Motion::moving : Motion::still;
            if (s.state.phase == Phase::waiting) s.state.intent = Intent::play, s.motion = Motion::starved;
            c.started = s.motion == Motion::moving || s.state.phase == Phase::ended || random() % 2;
            s.live = random() % 2, s.muted = random() % 2, c.full_screen = random() % 2, c.handset = random() % 2;
            c.untouched = 1_s * static_cast<std::int64_t>(random() % 20);
            s.position = 1_s * static_cast<std::int64_t>(random() % 20);
            bool holds = read->holds(c);
            CHECK(holds == made.value(c));
            CHECK(again->holds(c) == holds);
            ever = ever || holds;
        }
        // What was seen to hold is not called impossible.
        if (ever) CHECK(read->possible());
    }
    for (auto [text, word] : {std::pair{"has colour", "has colour"},
                              {"live and", "ends"},
                              {"(live", "bracket"},
                              {"no touch for", "time"},
                              {"live muted", "joins"},
                              {"live )", "joins"}}) {
        auto read = Condition::parse(text);
        INFO(text);
        REQUIRE_FALSE(read.has_value());
        CHECK(read.error().find(word) != std::string::npos);
    }
    CHECK_FALSE(Condition::parse(std::string(300, '(')).has_value());
    CHECK(Condition::parse("")->holds({}));
    for (auto text :
         {"playing and held", "failed and at the end", "not always", "no touch for 5 s and not no touch for 3s",
          "left under 2 s and not left under 5 s", "captions shown and not has captions"})
        CHECK_FALSE(Condition::parse(text)->possible());
    for (auto text : {"playing or held", "no touch for 3 s and not no touch for 5 s", "live and muted", ""})
        CHECK(Condition::parse(text)->possible());
    CHECK_FALSE(Condition::parse("at the end")->goes_with(*Condition::parse("playing")));
    CHECK(Condition::parse("at the end")->goes_with(*Condition::parse("muted")));
}

TEST_CASE("The target schema in the documentation knows every codec and container that opens", "[document]") {
    auto schema = nlohmann::json::parse(std::ifstream(fs::path(RUEDO_DOCS) / "target.schema.json"));
    auto codecs = schema["$defs"]["rule"]["properties"]["codec"]["enum"].get<std::vector<std::string>>();
    for (int i = 0; i < static_cast<int>(Codec::unknown); ++i) {
        auto codec = static_cast<Codec>(i);
        auto name = std::string(codec_name(codec));
        CHECK(codec_from_name(name) == codec);
        bool played = CodecRegistry::standard().decodes(codec) && codec != Codec::raw;
        CHECK((std::find(codecs.begin(), codecs.end(), name) != codecs.end()) == played);
    }
    CHECK(codec_from_name("gong") == Codec::unknown);
    auto containers = schema["properties"]["containers"]["items"]["enum"].get<std::vector<std::string>>();
    for (auto& name : containers) CHECK(container_title(name) != name);
    for (auto& target : all_targets())
        if (target.name == "desktop") CHECK(target.containers.size() == containers.size());
}

TEST_CASE("The line of anything in a document is the one it stands on", "[document]") {
    auto line_in = [](ByteView text, const std::string& pointer) { return place_in_json(text, pointer).line; };
    std::mt19937 random(12);
    int next = 1'000'000;
    std::function<json(int)> made = [&](int depth) -> json {
        static const std::string names[]{"a", "b c", "~", "x/y", "~1", "港", "\"", "0"};
        auto kind = random() % (depth > 3 ? 3 : 6);
        if (kind < 2) return ++next;
        if (kind == 2) return "v" + std::to_string(++next);
        auto out = kind == 3 ? json::array() : json::object();
        for (std::size_t i = 0, n = random() % 5; i < n; ++i) {
            if (kind == 3)
                out.push_back(made(depth + 1));
            else
                out[names[random() % std::size(names)]] = made(depth + 1);
        }
        return out;
    };
    for (int round = 0; round < 150; ++round) {
        auto document = made(0);
        auto text = "\n\n" + document.dump(static_cast<int>(random() % 4) - 1);
        ByteView bytes(reinterpret_cast<const std::uint8_t*>(text.data()), text.size());
        CHECK(line_in(bytes, "") == 3);
        if (!document.is_structured()) continue;
        auto lines_before = [&](std::size_t at) {
            return static_cast<std::size_t>(
                std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n'));
        };
        auto flat = document.flatten();
        for (auto& [pointer, leaf] : flat.items()) {
            if (leaf.is_null()) continue;  // an empty list or object
            INFO(pointer << " in " << text);
            // No other value reads like it.
            CHECK(line_in(bytes, pointer) == 1 + lines_before(text.find(leaf.dump())));
            CHECK(line_in(bytes, pointer + "/0") == 0);
        }
        CHECK(line_in(bytes, "/no such") == 0);
    }
    CHECK(!place_in_json({}, ""));
}

TEST_CASE("Names of what can be chosen are each one's own, and come back as what they name", "[document]") {
    auto distinct = [](std::span<const std::string_view> names) {
        std::set<std::string_view> all(names.begin(), names.end());
        CHECK(all.size() == names.size());
        CHECK_FALSE(all.contains(""));
        return names.size();
    };
    CHECK(distinct(mount_names()) == static_cast<std::size_t>(Mount::room) + 1);
    CHECK(distinct(at_end_names()) == static_cast<std::size_t>(AtEnd::leave) + 1);
    CHECK(distinct(remember_names()) == static_cast<std::size_t>(Remember::captions) + 1);
    for (std::size_t i = 0; i < mount_names().size(); ++i) {
        auto mount = static_cast<Mount>(i);
        CHECK(mount_name(mount) == mount_names()[i]);
        CHECK(mount_from_name(mount_names()[i]) == mount);
    }
    for (std::size_t i = 0; i < at_end_names().size(); ++i)
        CHECK(at_end_name(static_cast<AtEnd>(i)) == at_end_names()[i]);
    for (auto fit : {Fit::contain, Fit::cover, Fit::fill, Fit::none}) CHECK(fit_from_name(fit_name(fit)) == fit);
    CHECK_FALSE(fit_from_name("anyhow"));
    CHECK_FALSE(mount_from_name("ceiling"));
    CHECK_FALSE(mount_from_name(""));
}

TEST_CASE("Places for controls are read as they are called, and colours are six digits or none", "[document]") {
    std::set<std::string> told;
    for (std::size_t i = 0; i < Slot::places.size(); ++i) {
        auto slot = parse_slot(Slot::places[i]);
        REQUIRE(slot);
        CHECK((slot->bar.empty() && slot->place == i));
        told.insert(spoken(*slot));
    }
    std::vector<std::string> bars{"foot", "a/b", "Fuß", "top-left", " "};
    for (auto& bar : bars)
        for (std::size_t g = 0; g < Slot::groups.size(); ++g) {
            auto slot = parse_slot(bar + "/" + std::string(Slot::groups[g]));
            REQUIRE(slot);
            CHECK((slot->bar == bar && slot->group == static_cast<Slot::Group>(g)));
            told.insert(spoken(*slot));
        }
    // Each is called something of its own.
    CHECK(told.size() == Slot::places.size() + bars.size() * Slot::groups.size());
    for (auto none : {"", "/", "/start", "foot/", "foot/left", "Top", "top left", "foot", "foot/start "}) {
        INFO(none);
        CHECK_FALSE(parse_slot(none));
    }

    std::mt19937 random(71);
    for (int i = 0; i < 2000; ++i) {
        auto colour = fmt::format("#{:06X}", random() % 0x1000000);
        CHECK(is_colour(colour));
        auto wrong = colour;
        wrong[random() % wrong.size()] = "gG#x -"[random() % 6];
        CHECK((wrong == colour || !is_colour(wrong)));
        CHECK_FALSE(is_colour(colour.substr(0, random() % 7)));
        CHECK_FALSE(is_colour(colour + "0"));
    }
}

TEST_CASE("A rail stands for the clip, or for what is kept of one that is live", "[document]") {
    Snapshot s;
    s.duration = 90_s, s.seekable = TimeRange{10_s, 40_s};
    CHECK((rail_range(s).from.ns == 0 && rail_range(s).to == 90_s));
    s.live = true;
    CHECK((rail_range(s).from == 10_s && rail_range(s).to == 40_s));
    s.seekable = TimeRange{{}, Time::max()};
    CHECK(rail_range(s).to == 90_s);
    s.seekable.reset();
    CHECK(rail_range(s).to == 90_s);
}
