// SPDX-License-Identifier: Apache-2.0
#include "player/controls.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo {
namespace {

using C = const ControlContext&;
using Form = ControlKind::Form;
using Shape = Mark::Shape;
using What = Press::What;

std::int64_t seconds(C c) { return c.skip.ns / 1'000'000'000; }
bool wants_to_play(C c) { return c.snapshot.state.intent == Intent::play; }
Mark no_mark(C) { return {}; }
Press no_press(C) { return {}; }
std::string_view never(C) { return {}; }
std::string_view nowhere_to_go(C c) {
    return c.snapshot.live && !c.snapshot.seekable ? "What is live has no other place to go to." : "";
}
std::string_view alone(C c) { return c.count > 1 ? "" : "There is only one source."; }
std::string_view no_choice(C c) {
    if (!c.snapshot.choices) return "The source is not open yet.";
    auto& all = *c.snapshot.choices;
    bool text = std::any_of(all.begin(), all.end(), [](auto& x) { return x.kind == Kind::text; });
    auto sounds = std::count_if(all.begin(), all.end(), [](auto& x) { return x.kind == Kind::audio; });
    return text || sounds > 1 ? "" : "There are no captions, and only one sound.";
}

const std::array rows{
    ControlKind{.control = Control::toggle,
                .name = "toggle",
                .title = "play",
                .meaning = "one press plays, the next pauses; its mark shows what a press will do",
                .form = Form::button,
                .setting = {},
                .label = [](C c) { return std::string(wants_to_play(c) ? "Pause" : "Play"); },
                .mark = [](C c) { return Mark{wants_to_play(c) ? Shape::pause : Shape::play}; },
                .press = [](C) { return Press{What::toggle}; },
                .absent = never,
                .idle = never,
                .chief = true},
    ControlKind{.control = Control::back,
                .name = "back",
                .title = "back",
                .meaning = "skips back by so many seconds",
                .form = Form::button,
                .setting = "/player/skip_ns",
                .label = [](C c) { return fmt::format("Back {} seconds", seconds(c)); },
                .mark = [](C c) { return Mark{.shape = Shape::turn_back, .figure = seconds(c)}; },
                .press = [](C c) { return Press{What::skip, -c.skip}; },
                .absent = nowhere_to_go,
                .idle = never,
                .spares = true},
    ControlKind{.control = Control::forward,
                .name = "forward",
                .title = "forward",
                .meaning = "skips forward by so many seconds",
                .form = Form::button,
                .setting = "/player/skip_ns",
                .label = [](C c) { return fmt::format("Forward {} seconds", seconds(c)); },
                .mark = [](C c) { return Mark{.shape = Shape::turn_forward, .figure = seconds(c)}; },
                .press = [](C c) { return Press{What::skip, c.skip}; },
                .absent = nowhere_to_go,
                .idle = never,
                .spares = true},
    ControlKind{
        .control = Control::position,
        .name = "position",
        .title = "the position",
        .meaning = "a rail on which the position stands and can be dragged; what is buffered, time and time left",
        .form = Form::slider,
        .setting = {},
        .label = [](C) { return std::string("Position"); },
        .mark = no_mark,
        .press = no_press,
        .absent = nowhere_to_go,
        .idle = [](C c) -> std::string_view {
            auto& s = c.snapshot;
            bool ends = s.duration_known || (s.seekable && s.seekable->to != Time::max());
            if (!ends) return "Its length is not known.";
            return s.has_video || s.has_audio ? "" : "Nothing is open.";
        }},
    ControlKind{.control = Control::volume,
                .name = "volume",
                .title = "volume",
                .meaning = "a dial from nothing to full, and a button that silences without moving it",
                .form = Form::dial,
                .setting = "/player/volume",
                .label = [](C c) { return std::string(c.snapshot.muted ? "Sound on" : "Sound off"); },
                .mark =
                    [](C c) {
                        return Mark{.shape = Shape::speaker,
                                    .on = c.snapshot.muted || c.snapshot.volume == 0,
                                    .level = c.snapshot.volume};
                    },
                .press = [](C c) { return Press{.what = What::mute, .onward = !c.snapshot.muted}; },
                .absent = [](C c) -> std::string_view { return c.snapshot.has_audio ? "" : "There is no sound."; },
                .idle = never},
    ControlKind{.control = Control::full_screen,
                .name = "full-screen",
                .title = "full screen",
                .meaning = "the same player over the whole screen, and back",
                .form = Form::button,
                .setting = {},
                .label = [](C c) { return std::string(c.full_screen ? "Leave full screen" : "Full screen"); },
                .mark = [](C c) { return Mark{.shape = Shape::corners, .on = c.full_screen}; },
                .press = [](C) { return Press{What::full_screen}; },
                .absent = never,
                .idle = never},
    ControlKind{.control = Control::tracks,
                .name = "tracks",
                .title = "sound and captions",
                .meaning = "which sound is heard and which captions are seen",
                .form = Form::button,
                .setting = {},
                .label = [](C) { return std::string("Sound and captions"); },
                .mark = [](C c) { return Mark{.shape = Shape::captions, .on = c.snapshot.text_track != 0}; },
                .press = [](C) { return Press{What::choose_tracks}; },
                .absent = no_choice,
                .idle = never},
    ControlKind{.control = Control::previous,
                .name = "previous",
                .title = "the source before",
                .meaning = "turns to the source before",
                .form = Form::button,
                .setting = "/player/queue",
                .label = [](C) { return std::string("The source before"); },
                .mark = [](C) { return Mark{Shape::to_start}; },
                .press = [](C) { return Press{.what = What::turn, .onward = false}; },
                .absent = alone,
                .idle = [](C c) -> std::string_view { return c.has_previous ? "" : "This is the first source."; }},
    ControlKind{.control = Control::next,
                .name = "next",
                .title = "the next source",
                .meaning = "turns to the next source",
                .form = Form::button,
                .setting = "/player/queue",
                .label = [](C) { return std::string("The next source"); },
                .mark = [](C) { return Mark{Shape::to_end}; },
                .press = [](C) { return Press{.what = What::turn, .onward = true}; },
                .absent = alone,
                .idle = [](C c) -> std::string_view { return c.has_next ? "" : "This is the last source."; }},
    ControlKind{.control = Control::strip,
                .name = "strip",
                .title = "a strip of posters",
                .meaning = "a poster for each source; a press turns to it",
                .form = Form::strip,
                .setting = {},
                .label = [](C) { return std::string("Sources"); },
                .mark = no_mark,
                .press = no_press,
                .absent = alone,
                .idle = never},
};

}  // namespace

std::span<const ControlKind> control_kinds() { return rows; }
const ControlKind& kind_of(Control control) { return rows.at(static_cast<std::size_t>(control)); }

const ControlKind* find_control(std::string_view name) {
    auto it = std::find_if(rows.begin(), rows.end(), [&](auto& k) { return k.name == name; });
    return it == rows.end() ? nullptr : &*it;
}

std::string spoken(std::span<const Control> controls) {
    if (controls.empty()) return "nothing";
    std::string all;
    for (std::size_t i = 0; i < controls.size(); ++i)
        all += fmt::format("{}{}", i == 0 ? "" : i + 1 < controls.size() ? ", " : " and ", kind_of(controls[i]).title);
    return all;
}

std::string controls_page() {
    static constexpr std::array<std::string_view, 4> forms{"button", "rail", "dial and button", "strip"};
    std::string page =
        "# Controls\n\nMade from `src/core/player/controls.cpp`. What a player’s bar can hold, under the names that "
        "documents use.\n\n| name | is | does | reads |\n|---|---|---|---|\n";
    for (auto& k : rows)
        page += fmt::format("| `{}` | {} | {} | {} |\n", k.name, forms.at(static_cast<std::size_t>(k.form)), k.meaning,
                            k.setting.empty() ? "" : fmt::format("`{}`", k.setting));
    return page;
}

}  // namespace ruedo
