// SPDX-License-Identifier: Apache-2.0
#include "player/drop.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo {
namespace {
constexpr int strip_high = 26;

/// The controls of a bar that are shown, from left to right.
std::vector<std::size_t> shown_on(const PlayerSpec& player, const Layout& layout, const std::string& bar) {
    std::vector<std::size_t> list;
    for (std::size_t i = 0; i < player.controls.size(); ++i)
        if (layout.controls[i].shown && player.controls[i].slot.starts_with(bar + "/")) list.push_back(i);
    std::stable_sort(list.begin(), list.end(),
                     [&](auto a, auto b) { return layout.controls[a].box.x < layout.controls[b].box.x; });
    return list;
}

void zones_of_bar(std::vector<DropZone>& zones, const PlayerSpec& player, const Layout& layout,
                  const Layout::Bar& laid) {
    auto& bar = player.bars[laid.bar];
    auto all = shown_on(player, layout, bar.name);
    // What has a row of its own above the others is left out of the count along the bar.
    int row = laid.box.bottom();
    for (auto i : all) row = std::min(row, layout.controls[i].box.bottom());
    // Three stretches, one for each group: as far as its controls reach, and half of what lies between.
    struct Stretch {
        std::vector<std::size_t> list;
        int from, to;
    };
    std::array<Stretch, 3> groups{};
    for (std::size_t g = 0; g < 3; ++g) {
        auto slot = fmt::format("{}/{}", bar.name, Slot::groups.at(g));
        for (auto i : all)
            if (player.controls[i].slot == slot) groups.at(g).list.push_back(i);
        auto& list = groups.at(g).list;
        int middle = laid.box.x + laid.box.width / 2;
        int lone = g == 0 ? laid.box.x : g == 1 ? middle : laid.box.right();
        groups.at(g).from = list.empty() ? lone : layout.controls[list.front()].box.x;
        groups.at(g).to = list.empty() ? lone : layout.controls[list.back()].box.right();
    }
    // An empty middle lies between the others, wherever they end.
    if (groups[1].list.empty()) groups[1].from = groups[1].to = (groups[0].to + groups[2].from) / 2;
    // Where one ends and the next begins; a group that holds nothing has room for a hand all the same.
    int hand = std::min(36, laid.box.width / 6);
    int first = (groups[0].to + groups[1].from) / 2, second = (groups[1].to + groups[2].from) / 2;
    if (groups[0].list.empty()) first = std::max(first, laid.box.x + hand);
    if (groups[2].list.empty()) second = std::min(second, laid.box.right() - hand);
    if (groups[1].list.empty()) {
        int from = groups[0].list.empty() ? laid.box.x + hand : groups[0].to;
        int to = groups[2].list.empty() ? laid.box.right() - hand : groups[2].from;
        bool free = to - from > hand;
        first = free ? from + (groups[0].list.empty() ? 0 : (to - from) / 4) : (from + to - hand) / 2;
        second = free ? to - (groups[2].list.empty() ? 0 : (to - from) / 4) : first + hand;
    }
    std::array ends{first, second, laid.box.right()};
    int x = laid.box.x;
    for (std::size_t g = 0; g < 3; ++g) {
        auto& group = groups.at(g);
        int end = std::clamp(ends.at(g), x, laid.box.right());
        auto slot = fmt::format("{}/{}", bar.name, Slot::groups.at(g));
        auto there = player.in_slot(slot);
        auto add = [&](int to, std::size_t before, int mark, const std::string& words) {
            to = std::clamp(to, x, end);
            if (to > x)
                zones.push_back(
                    {.box = {x, laid.box.y, to - x, laid.box.height},
                     .mark = {std::clamp(mark - 2, laid.box.x, laid.box.right() - 4), laid.box.y, 4, laid.box.height},
                     .slot = slot,
                     .at = before,
                     .bar = {},
                     .words = words});
            x = to;
        };
        auto said = spoken(*parse_slot(slot));
        for (std::size_t k = 0; k < group.list.size(); ++k) {
            auto& box = layout.controls[group.list[k]].box;
            auto place = static_cast<std::size_t>(std::find(there.begin(), there.end(), group.list[k]) - there.begin());
            add(box.x + box.width / 2, place, box.x,
                fmt::format("{}, before “{}”", said, player.controls[group.list[k]].name));
        }
        add(end, SIZE_MAX, group.to, said + (group.list.empty() ? "" : ", last"));
        x = end;
    }
}
}  // namespace

std::vector<DropZone> drop_zones(const PlayerSpec& player, const MountShape& mount, const Layout& layout) {
    std::vector<DropZone> zones;
    for (auto& bar : layout.bars) zones_of_bar(zones, player, layout, bar);
    int top = 0, bottom = mount.height;
    // Bars that are not there yet, as strips at both edges.
    auto offer = [&](BarSpec::Edge edge) {
        bool there = std::any_of(layout.bars.begin(), layout.bars.end(),
                                 [&](auto& b) { return player.bars[b.bar].edge == edge; });
        if (there || player.bars.size() >= 6 || mount.height < 8 * strip_high) return;
        bool low = edge == BarSpec::Edge::bottom;
        std::string name = low ? "foot" : "head";
        for (int n = 2; player.bar(name); ++n) name = fmt::format("{} {}", low ? "foot" : "head", n);
        for (auto where : {BarSpec::Where::clear, BarSpec::Where::beside, BarSpec::Where::on}) {
            Box box{0, low ? bottom - strip_high : top, mount.width, strip_high};
            (low ? bottom : top) += low ? -strip_high : strip_high;
            static constexpr std::array<std::string_view, 3> said{"on the picture", "right beside the picture",
                                                                  "clear of the picture"};
            BarSpec bar;
            bar.name = name, bar.edge = edge, bar.where = where;
            for (std::size_t g = 0; g < 3; ++g) {
                Box part{box.x + static_cast<int>(g) * box.width / 3, box.y, 0, box.height};
                part.width = static_cast<int>(g + 1) * box.width / 3 + box.x - part.x;
                zones.push_back({.box = part,
                                 .mark = part,
                                 .slot = fmt::format("{}/{}", name, Slot::groups.at(g)),
                                 .at = SIZE_MAX,
                                 .bar = bar,
                                 .words = fmt::format("the {} of a new bar {}", Slot::groups.at(g),
                                                      said.at(static_cast<std::size_t>(where)))});
            }
        }
    };
    offer(BarSpec::Edge::bottom);
    offer(BarSpec::Edge::top);
    // The nine places share what is left of the picture between the bars on it.
    Box region = layout.picture;
    int low = std::min(region.bottom(), bottom), high = std::max(region.y, top);
    for (auto& b : layout.bars) {
        if (!b.box.meets(region)) continue;
        if (player.bars[b.bar].edge == BarSpec::Edge::bottom)
            low = std::min(low, b.box.y);
        else
            high = std::max(high, b.box.bottom());
    }
    region.y = high, region.height = low - high;
    if (region.width < 9 || region.height < 9) return zones;
    for (std::size_t place = 0; place < 9; ++place) {
        int column = static_cast<int>(place % 3), line = static_cast<int>(place / 3);
        Box box{region.x + column * region.width / 3, region.y + line * region.height / 3, 0, 0};
        box.width = region.x + (column + 1) * region.width / 3 - box.x;
        box.height = region.y + (line + 1) * region.height / 3 - box.y;
        auto side = std::min({mount.unit(), box.width, box.height});
        Box mark{box.x + column * (box.width - side) / 2, box.y + line * (box.height - side) / 2, side, side};
        auto slot = std::string(Slot::places.at(place));
        zones.push_back({box, mark, slot, SIZE_MAX, {}, spoken(*parse_slot(slot))});
    }
    return zones;
}

const DropZone* zone_at(std::span<const DropZone> zones, int x, int y) {
    auto it = std::find_if(zones.begin(), zones.end(), [&](auto& z) { return z.box.holds({x, y, 1, 1}); });
    return it == zones.end() ? nullptr : &*it;
}

std::string drop(PlayerSpec& player, const DropZone& zone, ControlSpec control) {
    if (zone.bar && !player.bar(zone.bar->name)) player.bars.push_back(*zone.bar);
    return player.controls[player.put(std::move(control), zone.slot, zone.at)].name;
}
std::string drop(PlayerSpec& player, const DropZone& zone, std::size_t control) {
    auto name = player.controls[control].name;
    auto at = zone.at;
    auto there = player.in_slot(zone.slot);
    auto own = std::find(there.begin(), there.end(), control);
    // Places are counted without the one that moves.
    if (own != there.end() && at != SIZE_MAX && static_cast<std::size_t>(own - there.begin()) < at) --at;
    if (zone.bar && !player.bar(zone.bar->name)) player.bars.push_back(*zone.bar);
    player.move(control, zone.slot, at);
    return name;
}

bool nudge(PlayerSpec& player, std::size_t control, Toward toward) {
    auto slot = parse_slot(player.controls[control].slot);
    if (!slot) return false;
    auto there = player.in_slot(player.controls[control].slot);
    auto place = static_cast<std::size_t>(std::find(there.begin(), there.end(), control) - there.begin());
    bool back = toward == Toward::left || toward == Toward::up;
    bool along = slot->bar.empty() && slot->place / 3 == 1 ? toward == Toward::up || toward == Toward::down
                                                           : toward == Toward::left || toward == Toward::right;
    if (along && (back ? place > 0 : place + 1 < there.size())) {
        player.move(control, player.controls[control].slot, back ? place - 1 : place + 1);
        return true;
    }
    // Everything there is from the top to the foot: upper bars, three lines of places, lower bars.
    std::vector<std::vector<std::string>> lines;
    auto bars = [&](BarSpec::Edge edge) {
        for (auto& b : player.bars)
            if (b.edge == edge) lines.push_back({b.name + "/start", b.name + "/middle", b.name + "/end"});
    };
    bars(BarSpec::Edge::top);
    for (std::size_t l = 0; l < 3; ++l)
        lines.push_back({std::string(Slot::places.at(3 * l)), std::string(Slot::places.at(3 * l + 1)),
                         std::string(Slot::places.at(3 * l + 2))});
    bars(BarSpec::Edge::bottom);
    for (std::size_t l = 0; l < lines.size(); ++l)
        for (std::size_t k = 0; k < 3; ++k) {
            if (lines[l][k] != player.controls[control].slot) continue;
            bool across = toward == Toward::left || toward == Toward::right;
            auto next_l = static_cast<std::ptrdiff_t>(l) + (across ? 0 : back ? -1 : 1);
            auto next_k = static_cast<std::ptrdiff_t>(k) + (across ? (back ? -1 : 1) : 0);
            if (next_k < 0 || next_k > 2 || next_l < 0 || next_l >= std::ssize(lines)) return false;
            player.move(control, lines[static_cast<std::size_t>(next_l)][static_cast<std::size_t>(next_k)],
                        back ? SIZE_MAX : 0);
            return true;
        }
    return false;
}

}  // namespace ruedo
