// SPDX-License-Identifier: Apache-2.0
#include "support.h"

using namespace ruedo;
using namespace ruedo::machine;

TEST_CASE("Every state that can be reached is a sound one, and stays so under every input", "[state-machine]") {
    auto states = reachable_states();
    CHECK(states.size() > 15);
    for (auto s : states) {
        CHECK(s.audio());
        for (std::size_t i = 0; i < input_count; ++i) {
            auto r = step(s, static_cast<Input>(i));
            INFO(name(s.phase) << " + " << name(static_cast<Input>(i)));
            CHECK(r.state.audio());
            bool refused = std::count(r.effects.begin(), r.effects.end(), Effect::refuse) > 0;
            if (refused) {
                CHECK(r.state == s);
                CHECK(r.effects.size() == 1);
                CHECK_FALSE(refusal(s, static_cast<Input>(i)).empty());
            }
            // Media time runs exactly while the phase says so.
            bool runs = std::count(r.effects.begin(), r.effects.end(), Effect::run) > 0;
            CHECK(runs == (r.state.phase == Phase::playing && s.phase != Phase::playing));
            if (s.phase == Phase::playing && r.state.phase != Phase::playing && r.state.phase != Phase::closed &&
                r.state.phase != Phase::opening)
                CHECK(std::count(r.effects.begin(), r.effects.end(), Effect::halt) == 1);
            // A seek begun is a seek under way.
            bool begins = std::count(r.effects.begin(), r.effects.end(), Effect::begin_seek) > 0;
            if (begins) CHECK(r.state.seeking);
        }
    }
}

TEST_CASE("The calls lead where their names say, from everywhere", "[state-machine]") {
    for (auto s : reachable_states()) {
        if (s.phase == Phase::closed) {
            for (std::size_t i = 0; i < input_count; ++i) CHECK(step(s, static_cast<Input>(i)).state == s);
            continue;
        }
        CHECK(step(s, Input::release).state.phase == Phase::closed);
        CHECK(step(s, Input::open).state.phase == Phase::opening);
        if (allowed(s, Input::play)) CHECK(step(s, Input::play).state.intent == Intent::play);
        if (allowed(s, Input::pause)) CHECK(step(s, Input::pause).state.intent == Intent::hold);
        if (allowed(s, Input::stop)) CHECK(step(s, Input::stop).state.intent == Intent::hold);
        if (allowed(s, Input::step)) CHECK(step(s, Input::step).state.intent == Intent::hold);
        if (allowed(s, Input::seek))
            CHECK(step(s, Input::seek).state.intent == (s.phase == Phase::ended ? Intent::hold : s.intent));
    }
}

TEST_CASE("Random inputs never lead out of the reachable states", "[state-machine]") {
    auto states = reachable_states();
    for (unsigned seed : {1U, 2U, 3U}) {
        std::mt19937 random(seed);
        State s;
        for (int i = 0; i < 100'000; ++i) {
            auto in = static_cast<Input>(random() % input_count);
            if (in == Input::release && random() % 50) continue;
            s = step(s, in).state;
            REQUIRE(std::find(states.begin(), states.end(), s) != states.end());
            if (s.phase == Phase::closed) s = {};
        }
    }
}

TEST_CASE("The table in the documentation is the one that the code makes", "[state-machine]") {
    std::ifstream file(std::string(RUEDO_DOCS) + "/controller-states.md");
    std::string text((std::istreambuf_iterator<char>(file)), {});
    CHECK(text == table());
}
