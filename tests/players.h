// SPDX-License-Identifier: Apache-2.0
// Players as nobody would make them, for rules that hold for all.
#pragma once
#include <set>

#include "player/drop.h"
#include "support.h"

namespace ruedo::test {

inline nlohmann::json random_setting(const SettingKind& s, std::mt19937& random) {
    using Type = SettingKind::Type;
    auto pick = [&](std::initializer_list<const char*> list) {
        return nlohmann::json(*(list.begin() + static_cast<long>(random() % list.size())));
    };
    switch (s.type) {
        case Type::time:
        case Type::integer:
            return s.low + static_cast<std::int64_t>(random()) % std::min<std::int64_t>(s.high - s.low + 1, 90);
        case Type::speeds:
            return random() % 2 ? nlohmann::json({0.5, 1.0}) : nlohmann::json({0.25, 1.5, 4.0});
        case Type::words:
            return pick({"", "Onward", "“Ü”"});
        case Type::template_words:
            return pick({"", "{time} of {length}", "{state}, {title}"});
        case Type::colour:
            return pick({"", "#8A2436", "#ffffff"});
        case Type::choice:
            return pick({"mark", "words", "both"});
        case Type::condition:
            return pick({"", "always", "has captions", "not on handsets", "no touch for 3 s or held"});
        case Type::yes_or_no:
            return random() % 2 == 0;
    }
    return {};
}

inline ThemeSpec random_theme(std::mt19937& random) {
    ThemeSpec theme;
    for (auto& row : theme_members()) {
        nlohmann::json value = row.high;
        if (row.type == ThemeMember::Type::colour) value = random() % 2 ? "#F7F1E5" : "#203040";
        if (row.type == ThemeMember::Type::family) value = "Made Up Sans";
        if (random() % 2) (void)row.set(theme, value);
    }
    return theme;
}

/// Bars and controls of every kind in any slot, with any settings.
inline void random_controls(PlayerSpec& p, std::mt19937& random) {
    if (random() % 2) p.theme = random_theme(random);
    if (random() % 3 == 0) return;  // the usual ones
    p.bars.clear(), p.controls.clear();
    for (auto n = random() % 4; n > 0; --n) {
        BarSpec b;
        b.name = "bar " + std::to_string(n);
        b.edge = static_cast<BarSpec::Edge>(random() % 2), b.where = static_cast<BarSpec::Where>(random() % 3);
        if (random() % 2) b.theme = random_theme(random), b.cover = 0.5;
        p.bars.push_back(b);
    }
    auto kinds = control_kinds();
    for (auto n = random() % 25; n > 0; --n) {
        ControlSpec c{.kind = &kinds[random() % kinds.size()]};
        for (auto& s : setting_kinds())
            if (c.kind->has(s.name) && random() % 4 == 0) (void)s.set(c.settings, random_setting(s, random));
        bool on_bar = !p.bars.empty() && random() % 2;
        auto slot = on_bar ? p.bars[random() % p.bars.size()].name + "/" + std::string(Slot::groups[random() % 3])
                           : std::string(Slot::places[random() % 9]);
        p.put(c, slot, random() % 3);
    }
}

}  // namespace ruedo::test
