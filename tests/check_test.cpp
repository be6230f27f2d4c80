// SPDX-License-Identifier: GPL-3.0-or-later
// Projects as texts: what is wrong with them, where, and what fixes it.
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "checking.h"
#include "io/json_text.h"
#include "player/player.h"
#include "player/rules.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;
using nlohmann::json;

namespace {
ByteView bytes_of(const std::string& s) { return {reinterpret_cast<const std::uint8_t*>(s.data()), s.size()}; }
std::string said(const std::string& text) {
    auto read = parse_json(bytes_of(text));
    if (read) return "";
    return fmt::format("{}:{} {}", read.error().place.line, read.error().place.column, read.error().what);
}
json some_project() {
    return json::parse(R"({"ruedo": 2, "app": "Harbour", "target": "desktop",
        "sources": [{"name": "A", "file": "vp9_opus.webm", "poster": {"at_ns": 1000000000}, "fit": "contain",
                     "start": "hold", "loop": {"from_ns": 1000000000, "to_ns": 3000000000}}],
        "screen": {"gap_px": 8}, "room": {"walls": "#EDE3CF", "viewer": {"turn_deg": 3}},
        "players": [{"name": "P", "volume": 0.5, "give_up_after_ns": 8000000000,
            "picture": {"surround": "#17131A", "render": {"width": 640, "height": 360}},
            "bars": [{"name": "foot", "edge": "bottom", "cover": 0.9}],
            "host": {"background": "go-on"},
            "controls": [{"kind": "toggle", "name": "toggle", "slot": "foot/start", "size": 50},
                         {"kind": "back", "name": "back", "slot": "foot/start", "by_ns": 5000000000},
                         {"kind": "start", "name": "start", "slot": "centre"},
                         {"kind": "failure", "name": "failure", "slot": "centre"},
                         {"kind": "retry", "name": "retry", "slot": "centre"}]}]})");
}
/// Findings of a review, of these codes.
std::vector<DocumentFinding> found(const PlayerDocument& d, const std::string& code) {
    std::vector<DocumentFinding> list;
    for (auto& f : review(d, fixture(""), info_of))
        if (f.code == code) list.push_back(f);
    return list;
}
}  // namespace

TEST_CASE("A fault in a JSON text is said with its line, its column and what was expected there", "[check]") {
    CHECK(said("{\"a\": 1}").empty());
    CHECK(said("\xEF\xBB\xBF{}").empty());
    CHECK(said("{\n  \"a\": 1\n  \"b\": 2\n}") == "3:3 “,” or “}” was expected");
    CHECK(said("{\"é\": tru}") == "1:10 “true” was expected");
    CHECK(said("[1, 2") == "1:6 the text ends too early: “,” or “]” was expected");
    CHECK(said("{\"a\" 1}") == "1:6 “:” was expected");
    CHECK(said("{a: 1}") == "1:2 a name in quotes was expected");
    CHECK(said("[01]") == "1:3 a number that begins with 0 was not expected");
    CHECK(said("{} {}") == "1:4 nothing more was expected");
    CHECK(said("[\"a\nb\"]") == "1:4 a closing quote was expected in this line");
    CHECK(said("[\"\xFF\"]") == "1:3 text in UTF-8 was expected");
    CHECK(said("").starts_with("1:1 the text ends too early"));
    // As deep as that nobody means it, and it takes no time.
    CHECK(said(std::string(1'000'000, '[')) == "1:201 it goes more than 200 levels deep");
}

TEST_CASE("A JSON text is read where the grammar allows it, and only there, whatever is changed in it", "[check]") {
    auto text = some_project().dump(2);
    std::mt19937 random(3);
    const std::string pool = "{}[],:\"\\ue0123.-+ \n\ttrufalsn\xC3\xFF";
    for (int i = 0; i < 20000; ++i) {
        auto changed = text.substr(0, 40 + random() % 200);
        for (auto n = random() % 3; n-- > 0;) changed[random() % changed.size()] = pool[random() % pool.size()];
        if (random() % 2) changed = json(changed).dump(-1, ' ', false, json::error_handler_t::replace);
        if (random() % 3 == 0) changed.erase(random() % changed.size(), 1);
        bool accepted = json::accept(changed);
        auto read = parse_json(bytes_of(changed));
        INFO(changed);
        REQUIRE(accepted == read.has_value());
        if (!read) CHECK(read.error().place);
    }
}

TEST_CASE("Whichever member is misspelt, that one is named with its nearest name, and one press mends it", "[check]") {
    auto project = some_project();
    auto before = value(document_from_json(project, "p"));
    REQUIRE(found(before, "unknown-member").empty());
    int tried = 0;
    std::function<void(json&, const std::string&)> each = [&](json& j, const std::string& at) {
        if (j.is_array())
            for (std::size_t i = 0; i < j.size(); ++i) each(j[i], fmt::format("{}/{}", at, i));
        if (!j.is_object()) return;
        std::vector<std::string> names;
        for (auto& [name, unused] : j.items()) names.push_back(name);
        for (auto& name : names) {
            each(j[name], at + "/" + name);
            auto wrong = name;
            wrong.erase(wrong.size() / 2, 1);
            if (name.size() < 4) continue;
            auto kept = j;
            j[wrong] = j[name], j.erase(name);
            INFO(at << "/" << wrong);
            if (auto document = document_from_json(project, "p")) {
                auto list = found(*document, "unknown-member");
                REQUIRE(list.size() == 1);
                CHECK(list[0].where == at + "/" + wrong);
                CHECK(list[0].sentence.find("“" + name + "”") != std::string::npos);
                REQUIRE(list[0].fix);
                auto fixed = *document;
                list[0].fix->apply(fixed);
                CHECK(fixed == before);
                ++tried;
            }
            j = kept;
        }
    };
    each(project, "");
    CHECK(tried > 25);
}

TEST_CASE("Times may be written as text, mean the same, and stay as they were written while they mean it", "[check]") {
    auto project = some_project();
    auto plain = value(document_from_json(project, "p"));
    auto& source = project["sources"][0];
    source["loop"] = {{"from", "1s"}, {"to", "0:03"}};
    source["poster"] = {{"at", "1000ms"}};
    auto& player = project["players"][0];
    player.erase("give_up_after_ns"), player["give_up_after"] = "8s";
    auto& back = player["controls"][1];
    back.erase("by_ns"), back["by"] = "0:05";
    auto written = value(document_from_json(project, "p"));
    CHECK(written.sources[0].loop == plain.sources[0].loop);
    CHECK(written.sources[0].poster_at == plain.sources[0].poster_at);
    CHECK(written.player().give_up_after == 8_s);
    CHECK(written.player().controls[1].settings.by == 5_s);
    CHECK(found(written, "unknown-member").empty());
    auto again = to_json(written);
    CHECK(again["sources"][0]["loop"] == source["loop"]);
    CHECK(again["players"][0]["give_up_after"] == "8s");
    CHECK_FALSE(again["players"][0].contains("give_up_after_ns"));
    CHECK(again["players"][0]["controls"][1]["by"] == "0:05");
    CHECK(value(document_from_json(again, "p")) == written);
    // Changed, it is what it is now; back at what is usual as well.
    written.player().give_up_after = 9_s, written.player().controls[1].settings.by = 10_s;
    written.sources[0].loop.to = 4_s;
    again = to_json(written);
    CHECK(again["players"][0]["give_up_after_ns"] == 9'000'000'000);
    CHECK_FALSE(again["players"][0].contains("give_up_after"));
    CHECK_FALSE(again["players"][0]["controls"][1].contains("by"));
    CHECK(again["sources"][0]["loop"]["to_ns"] == 4'000'000'000);
    CHECK(value(document_from_json(again, "p")).player().controls[1].settings.by == 10_s);
    project["players"][0]["give_up_after"] = "soon";
    auto wrong = document_from_json(project, "p");
    REQUIRE_FALSE(wrong);
    CHECK(wrong.error().sentence.find("must be a time, such as “10s”") != std::string::npos);
}

TEST_CASE("What is found of several sources alike is one finding that names them, mended by one press", "[check]") {
    PlayerDocument d;
    for (auto name : {"A", "B", "C", "D"}) {
        d.sources.push_back({});
        d.sources.back().name = name, d.sources.back().file = "vp9_opus.webm";
        d.sources.back().fit = d.sources.size() < 4 ? Fit::fill : Fit::contain;
    }
    d.target = "handset-basic";
    auto all = review(d, fixture(""), info_of);
    auto several = gather_findings(all, d);
    auto of = [](auto& list, const char* code) {
        return std::count_if(list.begin(), list.end(), [&](auto& f) { return f.code == code; });
    };
    CHECK(of(all, "stretched") == 3);
    CHECK(of(several, "stretched") == 1);
    CHECK(of(all, "target-refuses") == 4);
    REQUIRE(of(several, "target-refuses") == 1);
    for (auto& f : several) {
        if (f.code == "target-refuses") {
            CHECK(f.sentence.starts_with("4 sources need converting for "));
            CHECK(f.sentence.ends_with(": “A”, “B”, “C” and “D”."));
        }
        if (f.code != "stretched") continue;
        CHECK(f.sentence.ends_with("The same goes for “B” and “C”."));
        REQUIRE(f.fix);
        auto fixed = d;
        f.fix->apply(fixed);
        CHECK(of(several = review(fixed, fixture(""), info_of), "stretched") == 0);
        break;
    }
}

TEST_CASE("A check names file, line and column, and fails on what it was asked to fail on", "[check]") {
    Folder folder;
    fs::copy_file(fixture("vp9_opus.webm"), folder / "vp9_opus.webm");
    auto write = [&](const std::string& name, const std::string& text) {
        fs::create_directories((folder / name).parent_path());
        put(folder / name, Bytes(text.begin(), text.end()));
    };
    auto check = [&](const fs::path& place, const char* fail_on, int& exit) {
        return value(check_command({.place = place.string(), .target = {}, .fail_on = fail_on}, exit));
    };
    auto project = some_project();
    project["players"][0]["volum"] = 1;
    write("good.ruedo", project.dump(2));
    int exit = 0;
    auto report = check(folder / "good.ruedo", "error", exit);
    CHECK(exit == 0);
    CHECK(report["ok"] == true);
    auto& list = report["findings"];
    auto it = std::find_if(list.begin(), list.end(), [](auto& f) { return f["code"] == "unknown-member"; });
    REQUIRE(it != list.end());
    auto text = project.dump(2);
    auto lines = 1 + std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(text.find("\"volum\"")), '\n');
    CHECK((*it)["line"] == lines);
    CHECK((*it)["column"] == 7);
    CHECK((*it)["where"] == "/players/0/volum");
    CHECK((*it)["fix"] == "Rename it “volume”");
    (void)check(folder / "good.ruedo", "finding", exit);
    CHECK(exit == 1);
    // Several, and what is no document at all.
    write("below/twice.ruedo", "{\"ruedo\": 2,\n \"app\": \"X\", \"app\": \"Y\"}");
    write("below/broken.ruedo", "{\"ruedo\": 2,\n \"app\" \"X\"}");
    write("below/wrong.ruedo", "{\"ruedo\": 2,\n \"mount\": \"wal\"}");
    write("below/gone.ruedo", "{\"ruedo\": 2,\n \"sources\": [{\"name\": \"A\",\n \"file\": \"gone.mp4\"}]}");
    report = check(folder.path, "error", exit);
    CHECK(exit == 1);
    CHECK(report["checked"].size() >= 5);
    auto said_of = [&](const char* file, const char* code) -> json {
        for (auto& f : report["findings"])
            if (f["file"].get<std::string>().ends_with(file) && f["code"] == code) return f;
        return {};
    };
    CHECK(said_of("twice.ruedo", "doubled-member")["line"] == 2);
    CHECK(said_of("twice.ruedo", "doubled-member")["column"] == 14);
    CHECK(said_of("broken.ruedo", "malformed")["line"] == 2);
    CHECK(said_of("broken.ruedo", "malformed")["column"] == 8);
    CHECK(said_of("wrong.ruedo", "malformed")["where"] == "/mount");
    CHECK(said_of("wrong.ruedo", "malformed")["line"] == 2);
    CHECK(said_of("gone.ruedo", "no-file")["severity"] == "error");
    CHECK(said_of("gone.ruedo", "no-file")["line"] == 3);
    CHECK(check_command({.place = (folder / "none.ruedo").string(), .target = {}}, exit).error().code ==
          ErrorCode::not_found);
    CHECK(check_command({.place = folder.path.string(), .target = {}, .fail_on = "x"}, exit).error().code ==
          ErrorCode::usage);
}
