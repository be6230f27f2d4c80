// SPDX-License-Identifier: Apache-2.0
// Clips known by an id: what the service says, each way it can refuse, and where keys are kept.
#include <sys/stat.h>

#include "catalogue/catalogue.h"
#include "demo/catalogue.h"
#include "player/player.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Service {
    Folder folder;
    std::unique_ptr<demo::LoopbackServer> server = demo::LoopbackServer::start();
    Service() {
        fs::copy_file(fixture("vp9_opus.webm"), folder / "fog-signal.webm");
        demo::serve_catalogue(*server, folder.path);
    }
    CatalogueName name(const std::string& id) const {
        return {"127.0.0.1:" + std::to_string(server->port()), id, false};
    }
};
}  // namespace

TEST_CASE("A name of a catalogue's clip is host and id", "[catalogue]") {
    auto n = parse_catalogue_name("catalogue://127.0.0.1:8321/fog-signal");
    REQUIRE(n);
    CHECK(n->host == "127.0.0.1:8321");
    CHECK(n->id == "fog-signal");
    CHECK(n->base() == "http://127.0.0.1:8321");
    CHECK(parse_catalogue_name("catalogues://h/x")->base() == "https://h");
    for (auto wrong : {"catalogue://h", "catalogue:///x", "catalogue://h/", "catalogue://h/a/b", "catalogue://h/..%2f",
                       "catalogue://h/a b", "http://h/x"})
        CHECK_FALSE(parse_catalogue_name(wrong));
}

TEST_CASE("An id and a key give title, poster, length and an address that plays", "[catalogue]") {
    Service s;
    auto clip = value(ask_catalogue(s.name("fog-signal"), demo::catalogue_key));
    CHECK(clip.title == "Fog signal");
    CHECK(clip.duration == open("vp9_opus.webm")->info().duration);
    CHECK(clip.form == "file");
    REQUIRE(clip.poster.size() > 100);
    CHECK(clip.poster[1] == 'P');
    CHECK(value(open_clip(clip.address))->info().container == "webm");
}

TEST_CASE("Each refusal has its own sentence", "[catalogue]") {
    Service s;
    std::vector<std::string> sentences;
    auto refused = [&](const CatalogueName& name, const std::string& key, ErrorCode code) {
        auto e = ask_catalogue(name, key);
        REQUIRE_FALSE(e.has_value());
        INFO(e.error().sentence);
        CHECK(e.error().code == code);
        CHECK_FALSE(e.error().hint.empty());
        CHECK(std::count(sentences.begin(), sentences.end(), e.error().sentence) == 0);
        sentences.push_back(e.error().sentence);
    };
    refused(s.name("no-such-clip"), demo::catalogue_key, ErrorCode::not_found);
    refused(s.name("old-pier"), demo::catalogue_key, ErrorCode::not_found);
    refused(s.name("fog-signal"), "", ErrorCode::refused);
    refused(s.name("fog-signal"), "another-key", ErrorCode::refused);
    refused(s.name("fog-signal"), "two\r\nlines", ErrorCode::refused);
    refused({"127.0.0.1:1", "fog-signal", false}, demo::catalogue_key, ErrorCode::network);
    int turn = 0;
    for (auto body : {"not json", "{}", R"({"format":"ruedo-catalogue","version":1,"title":"x"})",
                      R"({"format":"ruedo-catalogue","version":1,"title":"x","duration_ns":1,)"
                      R"("play":{"form":"file","address":"ftp://x"}})"}) {
        s.server->answer("/clips/wrong" + std::to_string(turn),
                         [body](auto&) { return demo::Answered{200, "application/json", body}; });
        auto e = ask_catalogue(s.name("wrong" + std::to_string(turn++)), demo::catalogue_key);
        REQUIRE_FALSE(e.has_value());
        CHECK(e.error().code == ErrorCode::malformed);
    }
    s.server->answer("/clips/stream", [](auto&) {
        return demo::Answered{200, "application/json",
                              R"({"format":"ruedo-catalogue","version":1,"title":"x","duration_ns":1,)"
                              R"("play":{"form":"playlist","address":"/x"}})"};
    });
    refused(s.name("stream"), demo::catalogue_key, ErrorCode::codec_missing);
    s.server->answer("/clips/long",
                     [](auto&) { return demo::Answered{200, "application/json", std::string((1 << 20) + 1, ' ')}; });
    refused(s.name("long"), demo::catalogue_key, ErrorCode::limit);
    CHECK(sentences.back().find("answers with more than 1 MB") != std::string::npos);
    s.server->answer("/clips/fault", [](auto&) { return demo::Answered{500, "text/plain", ""}; });
    refused(s.name("fault"), demo::catalogue_key, ErrorCode::network);
}

TEST_CASE("Keys are kept for the user alone, and not in projects", "[catalogue]") {
    Folder folder;
    KeyFile keys(folder / "deep/keys.json");
    CHECK(keys.key_for("h").empty());
    done(keys.set("h:1", "secret-1"));
    done(keys.set("other", "secret-2"));
    CHECK(keys.key_for("h:1") == "secret-1");
    CHECK(keys.hosts() == std::vector<std::string>{"h:1", "other"});
    struct stat st{};
    REQUIRE(::stat((folder / "deep/keys.json").c_str(), &st) == 0);
    CHECK((st.st_mode & 0777) == 0600);
    done(keys.set("other", ""));
    CHECK(keys.key_for("other").empty());
    PlayerDocument d;
    d.sources.push_back({});
    d.sources[0].name = "Signal", d.sources[0].file = "catalogue://h:1/fog-signal";
    auto findings = review(d, folder.path);
    CHECK(std::any_of(findings.begin(), findings.end(),
                      [](auto& f) { return f.sentence.find("access key") != std::string::npos; }));
}

TEST_CASE("A clip of a catalogue plays by its name", "[catalogue]") {
    Service s;
    Folder home;
    setenv("XDG_CONFIG_HOME", home.path.c_str(), 1);
    done(KeyFile().set(s.name("x").host, demo::catalogue_key));
    Stage stage;
    stage.controller.open("catalogue://" + s.name("x").host + "/fog-signal", {.start = {Start::How::play, {}}});
    CHECK(stage.run_until([](auto& snap) { return snap.state.phase == Phase::ended; }));
    CHECK(stage.now().counters.presented == 180);
    stage.controller.open("catalogue://" + s.name("x").host + "/old-pier");
    REQUIRE(stage.run_until([](auto& snap) { return snap.state.phase == Phase::failed; }));
    CHECK(stage.now().error->sentence.find("withdrawn") != std::string::npos);
    unsetenv("XDG_CONFIG_HOME");
}

TEST_CASE("The catalogue hands out a stream like any other clip, and it plays from there", "[catalogue]") {
    Folder folder;
    fs::copy(fixture("streams/fmp4"), folder / "coast", fs::copy_options::recursive);
    auto server = demo::LoopbackServer::start();
    demo::serve_catalogue(*server, folder.path);
    auto name = *parse_catalogue_name("catalogue://127.0.0.1:" + std::to_string(server->port()) + "/coast");
    auto told = value(ask_catalogue(name, demo::catalogue_key));
    CHECK((told.form == "stream" && told.duration == 6_s && told.address.ends_with("/media/coast/master.m3u8")));
    CHECK(!told.poster.empty());
    auto clip = value(open_clip(told.address, StreamOptions{}));
    CHECK((clip->stream() && clip->stream()->rungs.size() == 3));
    CHECK(value(scan_track(*clip, *clip->info().main(Kind::video))).frame_count == 180);
}
