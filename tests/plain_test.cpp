// SPDX-License-Identifier: GPL-3.0-or-later
#include <nlohmann/json.hpp>

#include "plain.h"
#include "support.h"

using namespace ruedo;
using nlohmann::json;

TEST_CASE("A document reads as a person would write it: aligned, with units, lists as what they hold",
          "[command-line]") {
    json d{{"container", "webm"},    {"duration_ns", 6'000'000'000},
           {"bytes", 1'234'567},     {"ok", true},
           {"error", nullptr},       {"keys_ns", {0, 2'000'000'000}},
           {"bandwidth", 2'500'000}, {"tracks", {{{"id", 1}, {"codec", "vp9"}}, {{"id", 22}, {"codec", "opus"}}}}};
    CHECK(plain_text(d) ==
          "bandwidth  2.50 Mbit/s\n"
          "bytes      1.23 MB\n"
          "container  webm\n"
          "duration   0:00:06.000\n"
          "error      –\n"
          "keys       0:00:00.000, 0:00:02.000\n"
          "ok         yes\n"
          "tracks\n"
          "  codec  id\n"
          "  vp9    1\n"
          "  opus   22\n");
}

TEST_CASE("Whatever a document holds, plain text has no control character and no line without words",
          "[command-line]") {
    std::mt19937 random(9);
    std::function<json(int)> made = [&](int depth) -> json {
        switch (random() % (depth > 3 ? 4 : 6)) {
            case 0:
                return static_cast<std::int64_t>(random());
            case 1:
                return "a\x1B[2J\nb\xC2\x9B";
            case 2:
                return nullptr;
            case 3:
                return 0.1 * static_cast<double>(random() % 100);
            case 4: {
                auto list = json::array();
                for (auto n = random() % 20; n > 0; --n) list.push_back(made(depth + 1));
                return list;
            }
            default: {
                auto o = json::object();
                for (auto n = random() % 5; n > 0; --n)
                    o[std::vector{"bytes", "at_ns", "x\ty", "took_ms", "name"}[random() % 5]] = made(depth + 1);
                return o;
            }
        }
    };
    for (int i = 0; i < 500; ++i) {
        auto text = plain_text(json{{"all", made(0)}});
        REQUIRE(text.ends_with('\n'));
        for (char c : text) REQUIRE((static_cast<unsigned char>(c) >= 32 || c == '\n'));
        REQUIRE(text.find("\n\n") == std::string::npos);
    }
}
