// SPDX-License-Identifier: Apache-2.0
#include <random>

#include "playback/clock.h"
#include "support.h"

using namespace ruedo;

TEST_CASE("Ticks become nanoseconds once, rounded to nearest", "[time]") {
    CHECK(ticks_to_time(1, 1, 3).ns == 333'333'333);
    CHECK(ticks_to_time(2, 1, 3).ns == 666'666'667);
    CHECK(ticks_to_time(-1, 1, 3).ns == -333'333'333);
    CHECK(ticks_to_time(1001, 1, 30000).ns == 33'366'667);
    CHECK(ticks_to_time(1, 1, 0).ns == 0);
    CHECK(ticks_to_time(INT64_MAX, 1000, 1).ns == INT64_MAX);
    CHECK(ticks_to_time(INT64_MIN, 1000, 1).ns == INT64_MIN);
}

TEST_CASE("A tick's time leads back to the tick, on every usual scale", "[time]") {
    std::mt19937_64 random(1);
    for (std::uint64_t rate :
         {1000ULL, 12800ULL, 15360ULL, 24000ULL, 30000ULL, 44100ULL, 48000ULL, 90000ULL, 10'000'000ULL}) {
        for (int i = 0; i < 2000; ++i) {
            auto tick = static_cast<std::int64_t>(random() % (rate * 20'000));
            auto t = ticks_to_time(tick, 1, rate);
            CHECK(time_to_ticks(t, rate) == tick);
            // The floor is the tick or, where rounding went down, the one before; never later.
            auto floor = time_to_ticks_floor(t, rate);
            CHECK((floor == tick || floor == tick - 1));
            CHECK(time_to_ticks_floor(t + 1_ns, rate) == tick);
        }
    }
}

TEST_CASE("Times are read with their unit and no other way", "[time]") {
    CHECK(parse_time("250ms") == 250_ms);
    CHECK(parse_time("1.5s") == 1500_ms);
    CHECK(parse_time("40us") == Time{40'000});
    CHECK(parse_time("7ns") == 7_ns);
    CHECK(parse_time("0s") == Time{});
    CHECK(parse_time("10m") == 600_s);
    CHECK(parse_time("2h") == 7200_s);
    CHECK(parse_time("1.5h") == 5400_s);
    CHECK(parse_time("1:02:03.250") == 1_s * 3723 + 250_ms);
    CHECK(parse_time("0:00:59.999") == 59_s + 999_ms);
    CHECK(parse_time("0.0000000005s") == Time{1});
    for (auto bad : {"", "5", "-1s", "+1s", "1.s", ".5s", "1e3s", "1 s", "s", "ms", "1:2:3", "1:60:00.0", "0:00:60.000",
                     "12:30", "1:02:3.5", "99999999999999999999s", "0x10s", "1s "})
        CHECK_FALSE(parse_time(bad).has_value());
}

TEST_CASE("Why something is no time is said of what it is", "[time]") {
    struct {
        const char* why;
        std::vector<const char*> texts;
    } const rows[] = {{"needs a unit", {"", "5", "5.5", "1e3", "five", "1s "}},
                      {"below zero", {"-1s", "-0:00:01.000", "-5"}},
                      {"longer than 146 years",
                       {"99999999999s", "9223372036s", "18446744073709551617ns", "99999999999999999999.5ms"}},
                      {"needs a number", {"s", "ms", "1.s", ".5s", "1e3s", "0x10s", "1 s", "1.2.3s"}},
                      {"colons", {"12:30", "1:60:00.0", "0:00:60.000", "9999999:00:00.0"}}};
    for (auto& row : rows)
        for (auto text : row.texts) {
            INFO(text);
            CHECK_FALSE(parse_time(text));
            auto sentence = not_a_time(text);
            CHECK(sentence.starts_with("“" + std::string(text) + "” is not a time: "));
            CHECK(sentence.find(row.why) != std::string::npos);
        }
}

TEST_CASE("What is written can be read again", "[time]") {
    std::mt19937_64 random(2);
    for (int i = 0; i < 1000; ++i) {
        Time t{static_cast<std::int64_t>(random() % 400'000'000) * 1'000'000};
        CHECK(parse_time(format_time(t)) == t);
    }
    CHECK(format_clock(59_s) == "0:59");
    CHECK(format_clock(1_s * 3661) == "1:01:01");
}

TEST_CASE("A clock of media time never goes back while it runs, stands when it is held, and comes round to its master",
          "[time]") {
    std::mt19937 random(41);
    for (int round = 0; round < 200; ++round) {
        MediaClock clock;
        double rate = std::array{0.25, 0.5, 1.0, 1.5, 2.0, 4.0}[random() % 6];
        clock.set_rate(rate, {});
        Time now{static_cast<std::int64_t>(random())}, media{static_cast<std::int64_t>(random()) * 3};
        clock.hold(media);
        CHECK_FALSE(clock.running());
        CHECK(clock.at(now + 5_s) == media);
        clock.start(media, now);
        CHECK(clock.running());
        auto last = media;
        for (int i = 0; i < 200; ++i) {
            now += 1_ms * static_cast<std::int64_t>(random() % 30);
            auto here = clock.at(now);
            CHECK(here >= last);
            last = here;
            // What is yet to come has been reached when it says so, and not long before.
            auto coming = here + Time{1000} * static_cast<std::int64_t>(random() % 500'000);
            auto when = clock.when(coming);
            CHECK(when >= now);
            CHECK(clock.at(when) >= coming - 1_ns);
            CHECK(clock.at(when - 10_ns) <= coming + 1_ns);
            switch (random() % 4) {
                case 0:
                    clock.follow(here + 1_ms * (static_cast<std::int64_t>(random() % 400) - 200), now);
                    break;
                case 1:
                    clock.let_run(now);
                    CHECK(std::abs((clock.at(now + 1_s) - here - scaled(1_s, rate)).ns) <= 2);
                    break;
                case 2:
                    rate = std::array{0.5, 1.0, 2.0}[random() % 3];
                    clock.set_rate(rate, now);
                    break;
                default:
                    break;
            }
            CHECK(std::abs((clock.at(now) - here).ns) <= 1);
        }
        // A master that is a little ahead or behind is met within a second, from either side.
        auto off = 1_ms * (static_cast<std::int64_t>(random() % 200) - 100);
        auto master_from = now, master_at = clock.at(now) + off;
        for (int i = 0; i < 100; ++i) {
            clock.follow(master_at + scaled(now - master_from, rate), now);
            now += 10_ms;
        }
        CHECK(std::abs((clock.at(now) - master_at - scaled(now - master_from, rate)).ms()) < 3);
        auto held = clock.at(now);
        clock.hold(held);
        CHECK(clock.at(now + 3600_s) == held);
    }
}
