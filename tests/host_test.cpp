// SPDX-License-Identifier: Apache-2.0
// The app round a player: what the document says is done when it is put away, called away, torn down, or loses its
// sound.
#include "player/host_life.h"

#include <fmt/format.h>

#include "player/remembering.h"
#include "player/session.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// A session in virtual time, with every source it plays opened anew as often as is told.
struct Around {
    std::shared_ptr<VirtualStrand> strand = make_virtual_strand();
    Mixer mixer{*strand};
    std::shared_ptr<NotingSink> sink = std::make_shared<NotingSink>(Time{}, false);
    int made = 0;
    PlayerSession session{{.strand = strand,
                           .make =
                               [this](std::shared_ptr<FrameSink> shown) {
                                   ++made;
                                   return std::make_unique<Controller>(
                                       Controller::Env{strand, &mixer, &CodecRegistry::standard(), std::move(shown)});
                               },
                           .sink = sink}};
    PlayerDocument document;
    explicit Around(HostSpec spec = {}, Start start = {}) {
        document.sources = {{.name = "lantern", .file = tiny("live.mp4", 90).string(), .start = start}};
        document.player().host = spec;
        session.load(document, 0, "/");
        run(1_s);
    }
    void run(Time length) {
        for (auto end = strand->now() + length; strand->now() < end;) {
            strand->run_until(strand->now() + 20_ms);
            session.follow();
        }
    }
    void say(std::string_view word) {
        REQUIRE(session.host(word));
        run(200_ms);
    }
    Phase phase() const { return session.snapshot().state.phase; }
    bool plays() const { return session.snapshot().motion == Motion::moving; }
};
HostSpec with(std::string_view name, HostAction action) {
    HostSpec s;
    s.actions.at(host_row(name)) = action;
    return s;
}
}  // namespace

TEST_CASE("Whatever is chosen for whatever happens is done, and what is owed afterwards is done then", "[host]") {
    for (std::size_t row = 0; row < host_row_count; ++row) {
        auto& r = host_rows()[row];
        for (auto action : r.actions) {
            INFO(r.name << ": " << action_name(action));
            HostSpec spec;
            spec.actions[row] = action;
            Around a(spec);
            a.session.controller().play();
            a.run(3_s);
            REQUIRE(a.plays());
            a.say(r.begins);
            bool goes_on = action == HostAction::go_on || action == HostAction::soften || action == HostAction::silence;
            CHECK(a.plays() == goes_on);
            bool gone = action == HostAction::let_go || action == HostAction::begin_anew;
            CHECK((a.phase() == Phase::closed) == gone);
            auto part = a.session.life().heard(spec);
            CHECK(part == (action == HostAction::soften && !r.ends.empty() ? 0.2
                           : action == HostAction::silence                 ? 0
                                                                           : 1));
            auto at = a.session.snapshot().position;
            if (r.ends.empty()) {
                CHECK(a.session.life() == HostLife{});
                continue;
            }
            a.say(r.ends);
            a.run(1_s);
            CHECK(a.session.life().heard(spec) == 1);
            bool returns = goes_on || action == HostAction::pause_and_return || action == HostAction::let_go;
            CHECK(a.plays() == returns);
            // A place is kept to the frame, but by what begins anew.
            auto now = a.session.snapshot().position;
            if (action == HostAction::pause) CHECK(now == at);
            if (action == HostAction::pause_and_return) CHECK((now > at + 500_ms && now < at + 1500_ms));
            if (action == HostAction::let_go) CHECK((now > 3_s && now < 5_s));
            if (action == HostAction::begin_anew) CHECK((now == Time{} && a.phase() == Phase::ready));
            CHECK(a.made == (gone ? 3 : 2) - 1);
            auto events = a.session.controller().events();
            if (!gone)
                CHECK(std::count_if(events.begin(), events.end(), [](auto& e) { return e.name == "host"; }) == 2);
        }
    }
}

TEST_CASE("What was held before stays held, and who presses play or pause meanwhile takes over", "[host]") {
    Around a(with("background", HostAction::pause_and_return));
    for (auto word : {"background", "foreground", "call", "end-call", "tear-down", "bring-back"}) a.say(word);
    a.run(1_s);
    CHECK((a.phase() == Phase::ready && a.session.snapshot().position == Time{}));
    a.session.controller().play();
    a.run(1_s);
    a.say("background");
    CHECK(a.phase() == Phase::paused);
    // Pressed to play in the background, then to pause: it stays paused.
    a.session.press({.what = Press::What::play});
    a.run(500_ms);
    CHECK(a.plays());
    a.session.press({.what = Press::What::pause});
    a.run(100_ms);
    a.say("foreground");
    CHECK(a.phase() == Phase::paused);
    // What is no word is none.
    CHECK(!a.session.host("gong"));
    CHECK(is_host_word("background"));
    CHECK((host_words().find("“end-call”") != std::string::npos &&
           host_words().find("“foreground”, “foreground”") == std::string::npos));
}

TEST_CASE("Of several things at once the last one that ends lets it go on, and the quietest counts", "[host]") {
    HostSpec spec = with("background", HostAction::pause_and_return);
    Around a(spec);
    a.session.controller().play();
    a.run(1_s);
    a.say("call");
    a.say("background");
    a.say("end-call");
    CHECK(!a.plays());
    CHECK(a.session.life().place() == "in the background");
    a.say("foreground");
    CHECK(a.plays());
    CHECK(a.session.life().place() == "in front");
    // Torn down during a call, from which it comes back to its place and plays once both are over.
    a.say("call");
    a.say("tear-down");
    CHECK((a.phase() == Phase::closed && a.session.life().place() == "torn down"));
    a.say("bring-back");
    a.run(500_ms);
    CHECK(!a.plays());
    a.say("end-call");
    a.run(500_ms);
    CHECK(a.plays());

    spec.actions[host_row("sound-lent")] = HostAction::silence;
    HostLife life;
    CHECK(happen(life, "share-sound", spec, true).told == "sound-shared: plays softly until it is over");
    CHECK(life.heard(spec) == 0.2);
    (void)happen(life, "lend-sound", spec, true);
    CHECK(life.heard(spec) == 0);
    (void)happen(life, "sound-back", spec, true);
    CHECK((life == HostLife{} && life.heard(spec) == 1));
}

TEST_CASE("However the host's words come, the player is never set going unless it played, and nothing is owed at rest",
          "[host]") {
    std::mt19937 random(17);
    std::vector<std::string_view> words;
    for (auto& r : host_rows()) {
        words.push_back(r.begins);
        if (!r.ends.empty()) words.push_back(r.ends);
    }
    for (int round = 0; round < 2000; ++round) {
        HostSpec spec;
        for (std::size_t i = 0; i < host_row_count; ++i)
            if (random() % 2) spec.actions[i] = host_rows()[i].actions[random() % host_rows()[i].actions.size()];
        HostLife life;
        bool plays = random() % 2, played = plays, open = true;
        for (int k = 0; k < 40; ++k) {
            auto now = happen(life, words[random() % words.size()], spec, plays);
            CHECK(!(now.play && !played));
            CHECK(!(now.pause && !plays));
            CHECK(!(now.let_go && !open));
            CHECK(!(now.come_back && open));
            if (now.let_go) open = false;
            if (now.come_back) open = true;
            if (now.pause || now.let_go) plays = false;
            if (now.play) plays = true;
            CHECK(life.let_go == !open);
            auto part = life.heard(spec);
            CHECK((part == 1 || part == 0.2 || part == 0));
        }
        for (int turn = 0; turn < 2; ++turn)
            for (auto& r : host_rows())
                if (!r.ends.empty()) {
                    auto now = happen(life, r.ends, spec, plays);
                    if (now.come_back) open = true;
                    if (now.play) plays = true;
                }
        CHECK((life.holds == HostLife{}.holds && open && !life.owes_playing && !life.let_go));
    }
}

TEST_CASE("A document says what is done, keeps what it does not know, and names what it does not understand",
          "[host]") {
    PlayerDocument d;
    d.player().host = with("background", HostAction::let_go);
    d.player().host.actions[host_row("call")] = HostAction::silence;
    auto j = to_json(d);
    CHECK(j["players"][0]["host"] == nlohmann::json{{"background", "let-go"}, {"call", "silence"}});
    CHECK(value(document_from_json(j, "x")) == d);
    j["players"][0]["host"]["earthquake"] = "pause";
    CHECK(to_json(value(document_from_json(j, "x"))) == j);
    j["players"][0]["host"]["background"] = "soften";
    auto wrong = document_from_json(j, "x");
    REQUIRE(!wrong);
    CHECK(wrong.error().sentence.find("/players/0/host/background must be one of “pause”") != std::string::npos);
    CHECK(!to_json(PlayerDocument{})["players"][0].contains("host"));
}

TEST_CASE("What a player is told to remember comes back, and a memory that is damaged is none", "[host]") {
    Folder folder;
    auto file = folder / "state/remembered.json";
    Memory all;
    {
        Around a;
        auto& remembered = a.document.player().remembered;
        remembered = {Remember::volume, Remember::place, Remember::captions};
        CHECK(value(document_from_json(to_json(a.document), "x")) == a.document);
        a.session.load(a.document, 0, "/");
        a.run(1_s);
        a.session.controller().seek(12_s);
        a.session.controller().set_volume(0.3);
        a.run(1_s);
        all[a.document.player().name] = remember(a.session);
        CHECK((all.begin()->second.at == 12_s && all.begin()->second.volume == 0.3));
        // Close to the end it would have nothing left to show.
        a.session.controller().seek(89_s);
        a.run(1_s);
        CHECK(remember(a.session).at == Time{});
    }
    done(write_memory(all, file));
    CHECK(read_memory(file) == all);
    for (bool starts : {false, true}) {
        Around b({}, {starts ? Start::How::play : Start::How::hold, {}});
        b.document.player().remembered = {Remember::volume, Remember::place};
        recall(b.document, all);
        CHECK(b.document.player().volume == 0.3);
        b.session.load(b.document, 0, "/");
        recall(b.session, all);
        b.run(1_s);
        auto at = b.session.snapshot().position;
        CHECK((at >= 12_s && at < 14_s && b.plays() == starts));
        // One that remembers nothing begins as it is written.
        b.document = PlayerDocument{};
        recall(b.document, all);
        CHECK(b.document == PlayerDocument{});
    }
    std::mt19937 random(3);
    auto bytes = bytes_of(file);
    for (int i = 0; i < 300; ++i) {
        auto hurt = bytes;
        for (int k = 0; k < 3; ++k) hurt[random() % hurt.size()] = static_cast<std::uint8_t>(random());
        if (i % 3 == 0) hurt.resize(random() % hurt.size());
        put(file, hurt);
        for (auto& [name, r] : read_memory(file)) CHECK((!r.volume || (*r.volume >= 0 && *r.volume <= 1)));
    }
    CHECK(read_memory(folder / "none").empty());
    setenv("XDG_STATE_HOME", folder.path.c_str(), 1);
    CHECK(memory_file("Harbour Lights", "/a/x") != memory_file("Harbour Lights", "/b/x"));
    CHECK(memory_file("Harbour Lights", "/a/x").string().starts_with(folder.path.string()));
    unsetenv("XDG_STATE_HOME");
}
