// SPDX-License-Identifier: Apache-2.0
// The format before this one: one bar in three groups, settings for all controls alike.
#include "player/reading.h"

namespace ruedo::reading {

PlayerSpec player_from_first(const json& j, const std::string& at) {
    auto player = usual_player();
    auto skip = 10_s;
    std::array<std::vector<std::string>, 3> groups{{{"toggle", "back", "forward"}, {"position"}, {}}};
    groups[2] = {"tracks", "volume", "full-screen"};
    members(j, at, &player.extra, [&](auto& k, auto& v, auto p) {
        if (k == "surround")
            player.picture.surround = colour(v, p);
        else if (k == "skip_ns")
            skip = std::clamp(time(v, p), 1_ms, 3600_s);
        else if (k == "hide_after_ns")
            player.hide_after = time(v, p);
        else if (k == "queue")
            player.at_end =
                one_of<AtEnd>(v, p, std::array<std::string_view, 4>{"off", "once", "repeat-one", "repeat-all"});
        else if (k == "volume")
            player.volume = fraction(v, p);
        else if (k == "open_within_ns")
            player.open_within = time_within(v, p, 1_s, 600_s);
        else if (k == "bar")
            members(v, p, nullptr, [&](auto& bk, auto& bv, auto bp) {
                auto group = std::find(Slot::groups.begin(), Slot::groups.end(), bk);
                if (group == Slot::groups.end()) return false;
                auto& names = groups.at(static_cast<std::size_t>(group - Slot::groups.begin()));
                names.clear();
                auto& controls = list(bv, bp, 10);
                for (std::size_t i = 0; i < controls.size(); ++i) {
                    names.push_back(text(controls[i], fmt::format("{}/{}", bp, i)));
                    if (!find_control(names.back())) throw Mistake{fmt::format("{}/{}", bp, i), "is no control"};
                }
                return true;
            });
        else
            return false;
        return true;
    });
    std::erase_if(player.controls, [](auto& c) { return c.slot.starts_with("foot/"); });
    for (std::size_t g = 0; g < groups.size(); ++g)
        for (auto& name : groups.at(g)) {
            auto slot = fmt::format("foot/{}", Slot::groups.at(g));
            // What was one control with a button and a dial is two now.
            if (name == "volume") player.put({.kind = &control_kind("mute")}, slot);
            ControlSpec c{.kind = &control_kind(name)};
            if (c.kind->has("by_ns")) c.settings.by = skip;
            player.put(std::move(c), slot);
        }
    return player;
}

}  // namespace ruedo::reading
