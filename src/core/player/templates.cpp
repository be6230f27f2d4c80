// SPDX-License-Identifier: Apache-2.0
#include "player/templates.h"

namespace ruedo {
namespace {

void put(PlayerSpec& p, const char* slot, std::initializer_list<const char*> kinds) {
    for (auto* kind : kinds) p.put({.kind = &control_kind(kind)}, slot);
}
void bare(PlayerSpec& p) {
    p.bars.clear();
    p.controls.clear();
}
/// What every player needs that may be pressed or may fail.
void signs(PlayerSpec& p) { put(p, "centre", {"countdown", "waiting", "failure", "retry"}); }

constexpr std::array template_rows{
    Template{"bare picture", "video only, to add controls by hand", bare},
    Template{"small inline", "one bar below the video: play, time, mute",
             [](PlayerSpec& p) {
                 bare(p);
                 p.bars = {{.where = BarSpec::Where::beside}};
                 put(p, "foot/start", {"toggle"});
                 put(p, "foot/middle", {"position"});
                 put(p, "foot/end", {"mute"});
                 signs(p);
             }},
    Template{"full set", "all usual controls, on two bars",
             [](PlayerSpec& p) {
                 bare(p);
                 BarSpec head;
                 head.name = "head", head.edge = BarSpec::Edge::top;
                 p.bars = {{}, head};
                 put(p, "foot/start", {"previous", "toggle", "next", "back", "forward"});
                 put(p, "foot/middle", {"position"});
                 put(p, "foot/end", {"captions", "mute", "volume", "full-screen"});
                 put(p, "head/start", {"title"});
                 put(p, "head/end", {"step-back", "step-forward", "loop", "speed", "sounds"});
                 put(p, "top-right", {"live", "to-live"});
                 put(p, "centre", {"start"});
                 signs(p);
             }},
    Template{"poster and mark", "a large play mark on the first frame, and only the time while it plays",
             [](PlayerSpec& p) {
                 bare(p);
                 put(p, "centre", {"start"});
                 signs(p);
                 put(p, "bottom-left", {"toggle"});
                 put(p, "bottom-right", {"left", "full-screen"});
                 p.at_end = AtEnd::poster;
             }},
    Template{"kiosk loop", "starts by itself, muted, and loops; only mute can be pressed",
             [](PlayerSpec& p) {
                 bare(p);
                 put(p, "bottom-right", {"mute"});
                 signs(p);
                 p.controls.front().settings.when = "has sound";
                 p.at_end = AtEnd::round;
                 p.muted = true;
             },
             [](SourceSpec& s) { s.start = {Start::How::play, {}}; }},
    Template{"posters over one player", "a strip of posters above the video; a press plays its source",
             [](PlayerSpec& p) {
                 bare(p);
                 BarSpec head;
                 head.name = "head", head.edge = BarSpec::Edge::top, head.where = BarSpec::Where::beside;
                 p.bars = {{}, head};
                 put(p, "head/middle", {"strip"});
                 put(p, "foot/start", {"toggle"});
                 put(p, "foot/middle", {"position"});
                 put(p, "foot/end", {"mute", "full-screen"});
                 put(p, "centre", {"start"});
                 signs(p);
                 p.at_end = AtEnd::next;
             }},
    Template{"two-up", "two clips side by side, each with its own controls; only one sounds at a time",
             [](PlayerSpec& p) {
                 bare(p);
                 p.bars = {{}};
                 put(p, "foot/start", {"toggle"});
                 put(p, "foot/middle", {"position"});
                 put(p, "foot/end", {"mute"});
                 put(p, "centre", {"start"});
                 signs(p);
             },
             nullptr, 2},
};
}  // namespace

std::span<const Template> templates() { return template_rows; }

PlayerDocument with_template(PlayerDocument d, const Template& chosen, std::size_t player) {
    if (chosen.players > 1) {
        // The one that was there is the first; what another one plays is the next on the shelf.
        d.players = {d.player(player)};
        d.screen = {};
        d.screen.one_sounds = true;
        while (d.players.size() < chosen.players) {
            d.players.push_back(d.player());
            d.players.back().name = d.free_player_name(d.player().name);
        }
        for (std::size_t i = 0; i < d.players.size() && !d.sources.empty(); ++i)
            d.player(i).sources = {{d.sources[i % d.sources.size()].name}};
        for (auto& p : d.players) chosen.apply(p);
        return d;
    }
    chosen.apply(d.player(player));
    if (chosen.apply_to_source)
        for (auto i : queue_of(d, player)) chosen.apply_to_source(d.sources[i]);
    return d;
}

}  // namespace ruedo
