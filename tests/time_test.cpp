// SPDX-License-Identifier: Apache-2.0
#include "support.h"

using namespace ruedo;

TEST_CASE("ticks become nanoseconds once, rounded to nearest") {
    CHECK(ticks_to_time(1, 1, 3).ns == 333'333'333);
    CHECK(ticks_to_time(2, 1, 3).ns == 666'666'667);
    CHECK(ticks_to_time(-1, 1, 3).ns == -333'333'333);
    CHECK(ticks_to_time(1001, 1, 30000).ns == 33'366'667);
    CHECK(ticks_to_time(1, 1, 0).ns == 0);
    CHECK(ticks_to_time(INT64_MAX, 1000, 1).ns == INT64_MAX);
    CHECK(ticks_to_time(INT64_MIN, 1000, 1).ns == INT64_MIN);
}

TEST_CASE("a tick's time leads back to the tick, on every usual scale") {
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

TEST_CASE("times are read with their unit and no other way") {
    CHECK(parse_time("250ms") == 250_ms);
    CHECK(parse_time("1.5s") == 1500_ms);
    CHECK(parse_time("40us") == Time{40'000});
    CHECK(parse_time("7ns") == 7_ns);
    CHECK(parse_time("0s") == Time{});
    CHECK(parse_time("1:02:03.250") == 1_s * 3723 + 250_ms);
    CHECK(parse_time("0:00:59.999") == 59_s + 999_ms);
    CHECK(parse_time("0.0000000005s") == Time{1});
    for (auto bad : {"", "5", "-1s", "+1s", "1.s", ".5s", "1e3s", "1 s", "s", "ms", "1:2:3", "1:60:00.0", "0:00:60.000",
                     "12:30", "1:02:3.5", "99999999999999999999s", "0x10s", "1s "})
        CHECK_FALSE(parse_time(bad).has_value());
}

TEST_CASE("what is written can be read again") {
    std::mt19937_64 random(2);
    for (int i = 0; i < 1000; ++i) {
        Time t{static_cast<std::int64_t>(random() % 400'000'000) * 1'000'000};
        CHECK(parse_time(format_time(t)) == t);
    }
    CHECK(format_clock(59_s) == "0:59");
    CHECK(format_clock(1_s * 3661) == "1:01:01");
}
