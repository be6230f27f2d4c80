// SPDX-License-Identifier: Apache-2.0
// Several players on one screen: rules that hold for any number of them.
#include "player/screen.h"
#include "player/templates.h"
#include "players.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
PlayerDocument shelf_of(std::initializer_list<const char*> names, std::size_t players = 1) {
    PlayerDocument d;
    for (auto name : names) {
        SourceSpec s;
        s.name = name, s.file = fixture("vp9_opus.webm").string();
        d.sources.push_back(s);
    }
    while (d.players.size() < players) (void)add_player(d);
    return d;
}
}  // namespace

TEST_CASE("Players share any screen without meeting, to its edges, in their order", "[document]") {
    std::mt19937 random(71);
    for (int i = 0; i < 3000; ++i) {
        ScreenSpec screen;
        screen.arrangement = static_cast<ScreenSpec::Arrangement>(random() % 3);
        screen.gap = static_cast<int>(random() % 201);
        auto count = 1 + random() % PlayerDocument::most_players;
        auto mount = shape_of(static_cast<Mount>(random() % 5), 200 + static_cast<int>(random() % 3641),
                              120 + static_cast<int>(random() % 2041));
        INFO(i << ": " << count << " on " << mount.width << " x " << mount.height << ", "
               << arrangement_names()[static_cast<std::size_t>(screen.arrangement)]);
        auto boxes = place_players(screen, count, mount);
        REQUIRE(boxes.size() == count);
        Box whole{0, 0, mount.width, mount.height};
        int right = 0, bottom = 0;
        for (std::size_t a = 0; a < count; ++a) {
            CHECK(whole.holds(boxes[a]));
            CHECK_FALSE(boxes[a].empty());
            for (std::size_t b = 0; b < a; ++b) CHECK_FALSE(boxes[a].meets(boxes[b]));
            right = std::max(right, boxes[a].right()), bottom = std::max(bottom, boxes[a].bottom());
            // What is kept clear of the mount is kept clear in each, and nothing else.
            auto shape = shape_in(mount, boxes[a]);
            CHECK((shape.width == boxes[a].width && shape.height == boxes[a].height && shape.touch == mount.touch));
            CHECK(shape.top == std::clamp(mount.top - boxes[a].y, 0, boxes[a].height));
            CHECK((shape.left == 0 || boxes[a].x < mount.left));
            CHECK((shape.right == 0 || boxes[a].right() > mount.width - mount.right));
        }
        CHECK((right == mount.width && bottom == mount.height));
        if (screen.arrangement == ScreenSpec::Arrangement::stage && count > 1)
            for (std::size_t b = 1; b < count; ++b)
                CHECK(boxes[0].width * boxes[0].height > boxes[b].width * boxes[b].height);
        else
            for (std::size_t b = 1; b < count; ++b)
                CHECK((std::abs(boxes[0].width - boxes[b].width) <= 1 &&
                       std::abs(boxes[0].height - boxes[b].height) <= 1));
    }
}

TEST_CASE("In the narrowest of places nothing of a player stands over another one", "[document]") {
    std::mt19937 random(72);
    for (int i = 0; i < 600; ++i) {
        ScreenSpec screen;
        screen.arrangement = static_cast<ScreenSpec::Arrangement>(random() % 3);
        auto count = 2 + random() % 11;
        auto mount = shape_of(static_cast<Mount>(random() % 5), 200 + static_cast<int>(random() % 400),
                              120 + static_cast<int>(random() % 400));
        for (auto& box : place_players(screen, count, mount)) {
            auto player = usual_player();
            random_controls(player, random);
            auto shape = shape_in(mount, box);
            ControlContext context;
            context.snapshot.state.phase = Phase::ready, context.snapshot.has_audio = true;
            auto l = lay_out(player, shape, context);
            Box own{0, 0, box.width, box.height};
            for (auto& c : l.controls)
                if (c.shown) CHECK(own.holds(c.box));
            for (auto& m : l.more) CHECK(own.holds(m.box));
            CHECK(own.holds(l.picture));
        }
    }
}

TEST_CASE("A player's part of a document is that player with the sources of its queue, in its order", "[document]") {
    auto d = shelf_of({"Stairs", "Lantern", "Reel"}, 3);
    d.player(1).sources = {{"Reel", "Stairs"}};
    d.player(2).sources.emplace();
    CHECK(queue_of(d, 0) == std::vector<std::size_t>{0, 1, 2});
    CHECK(queue_of(d, 1) == std::vector<std::size_t>{2, 0});
    CHECK(queue_of(d, 2).empty());
    auto part = part_of(d, 1);
    REQUIRE(part.players.size() == 1);
    CHECK(part.player().name == "Player 2");
    CHECK(part.player().controls == d.player(1).controls);
    REQUIRE(part.sources.size() == 2);
    CHECK(part.sources[0] == d.sources[2]);
    CHECK(part.sources[1] == d.sources[0]);
    // A document of one player that plays everything is its own part.
    auto alone = shelf_of({"Stairs"});
    CHECK(part_of(alone, 0) == alone);

    // One sounding at a time, those that start by themselves do not begin with all of them heard.
    auto loud = shelf_of({"Stairs", "Lantern"}, 3);
    for (auto& s : loud.sources) s.start.how = Start::How::play;
    CHECK_FALSE(part_of(loud, 2).player().muted);
    loud.screen.one_sounds = true;
    loud.player(0).muted = true;
    CHECK((part_of(loud, 0).player().muted && !part_of(loud, 1).player().muted && part_of(loud, 2).player().muted));

    // What is taken off the shelf is in no queue any more.
    remove_source(d, 0);
    CHECK(queue_of(d, 1) == std::vector<std::size_t>{1});
    CHECK(value(document_from_json(to_json(d), "d")) == d);
    // Of two with one name the other stays in the queue.
    d.sources.push_back(d.sources[1]);
    remove_source(d, 1);
    CHECK(queue_of(d, 1) == std::vector<std::size_t>{1});

    while (add_player(d)) {
    }
    CHECK(d.players.size() == PlayerDocument::most_players);
    std::set<std::string> names;
    for (auto& p : d.players) names.insert(p.name);
    CHECK(names.size() == d.players.size());
}

TEST_CASE("One sounds at a time: whoever begins to, and whatever happens never two for long", "[document]") {
    ExclusiveAudio rule;
    std::array<Snapshot, 3> now{};
    for (auto& s : now) s.has_audio = true;
    auto play = [&](std::size_t i, bool on) { now[i].state.intent = on ? Intent::play : Intent::hold; };
    using List = std::vector<std::size_t>;
    CHECK(rule.follow(now).empty());
    play(1, true);
    CHECK(rule.follow(now).empty());
    play(0, true);
    CHECK(rule.follow(now) == List{1});
    CHECK(rule.follow(now) == List{1});  // until it is so
    now[1].muted = true;
    CHECK(rule.follow(now).empty());
    // Sound on again: it takes the turn.
    now[1].muted = false;
    CHECK(rule.follow(now) == List{0});
    now[0].muted = true;
    // Without sound in it a clip takes nobody's turn.
    now[2].has_audio = false, play(2, true);
    CHECK(rule.follow(now).empty());
    // Several since it was asked last: the last one.
    ExclusiveAudio late;
    for (auto& s : now) s.has_audio = true, s.muted = false, s.state.intent = Intent::play;
    now[0].since = 2_s, now[1].since = 3_s, now[2].since = 1_s;
    CHECK(late.follow(now) == List{0, 2});
    for (auto& s : now) s.since = {};
    // Several at once: the first one.
    ExclusiveAudio fresh;
    for (auto& s : now) s.has_audio = true, s.muted = false, s.state.intent = Intent::play;
    CHECK(fresh.follow(now) == List{1, 2});

    std::mt19937 random(73);
    for (int i = 0; i < 3000; ++i) {
        auto& s = now.at(random() % 3);
        if (random() % 2)
            s.muted = random() % 2;
        else
            s.state.intent = static_cast<Intent>(random() % 2);
        for (auto p : rule.follow(now)) now.at(p).muted = true;
        auto sounding = std::count_if(
            now.begin(), now.end(), [](auto& p) { return p.state.intent == Intent::play && p.has_audio && !p.muted; });
        CHECK(sounding <= 1);
        CHECK(rule.follow(now).empty());
    }
}

TEST_CASE("The review names the player it speaks of, and what several do to each other", "[document]") {
    auto d = shelf_of({"Lantern", "Stairs"}, 2);
    CHECK(review(d, "/").empty());
    auto found = [&](const PlayerDocument& of) {
        std::map<std::string, std::string> all;
        for (auto& f : review(of, "/")) {
            INFO(f.sentence);
            CHECK(to_json(of).contains(nlohmann::json::json_pointer(f.where)));
            REQUIRE(f.fix);
            auto fixed = of;
            f.fix->apply(fixed);
            auto left = review(fixed, "/");
            CHECK(std::none_of(left.begin(), left.end(), [&](auto& l) { return l.code == f.code; }));
            all[f.code] = f.sentence;
        }
        return all;
    };
    auto silent = d;
    std::erase_if(silent.player(1).controls, [](auto& c) { return c.kind->name == "failure"; });
    CHECK(found(silent)["silent-failure"].find("“Player 2”") != std::string::npos);
    auto never = d;
    never.player(1).controls[0].settings.when = "playing and held";
    CHECK(found(never)["never-seen"].find("“Player 2”") != std::string::npos);
    auto empty = d;
    empty.player(1).sources.emplace();
    CHECK(found(empty).contains("nothing-to-play"));
    auto unplayed = d;
    unplayed.player(0).sources = unplayed.player(1).sources = {{"Stairs"}};
    CHECK(found(unplayed)["never-played"].find("Lantern") != std::string::npos);
    auto loud = d;
    for (auto& s : loud.sources) s.start.how = Start::How::play;
    CHECK(found(loud).contains("all-at-once"));
    loud.player(0).muted = true;
    CHECK(found(loud).empty());
}

TEST_CASE("A template is taken over by the player that is meant, or makes as many as it is for", "[document]") {
    auto d = shelf_of({"Lantern", "Stairs", "Reel"}, 3);
    for (auto& t : templates()) {
        INFO(t.name);
        auto made = with_template(d, t, 1);
        CHECK(value(document_from_json(to_json(made), "d")) == made);
        if (t.players == 1) {
            CHECK(made.players.size() == 3);
            CHECK((made.player(0) == d.player(0) && made.player(2) == d.player(2)));
            CHECK_FALSE(made.player(1) == d.player(1));
            continue;
        }
        REQUIRE(made.players.size() == t.players);
        std::set<std::size_t> played;
        for (std::size_t p = 0; p < t.players; ++p) {
            REQUIRE(queue_of(made, p).size() == 1);
            played.insert(queue_of(made, p)[0]);
        }
        CHECK(played.size() == t.players);
        CHECK(made.screen.one_sounds);
    }
}
