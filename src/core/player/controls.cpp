// SPDX-License-Identifier: Apache-2.0
#include "player/controls.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

namespace ruedo {
namespace {

using namespace std::string_view_literals;
using C = const ControlContext&;
using S = const ControlSettings&;
using Form = ControlKind::Form;
using Shape = Mark::Shape;
using What = Press::What;
using Words = std::string_view;

bool wants_to_play(C c) { return c.snapshot.state.intent == Intent::play; }
bool failed(C c) { return c.snapshot.state.phase == Phase::failed; }
/// It plays no further, whether it says so itself or nothing has come for too long.
bool stuck(C c) { return failed(c) || c.given_up; }
bool nothing_open(C c) {
    auto phase = c.snapshot.state.phase;
    return phase == Phase::empty || phase == Phase::closed || phase == Phase::opening || phase == Phase::failed;
}
Mark no_mark(C, S) { return {}; }
Press no_press(C, S) { return {}; }
Words never(C) { return {}; }
Words nowhere_to_go(C c) { return c.snapshot.live && !c.snapshot.seekable ? "Live sources can’t seek." : ""; }
Words no_video(C c) { return c.snapshot.has_video ? "" : "There is no video."; }
Words no_audio(C c) { return c.snapshot.has_audio ? "" : "There is no sound."; }
Words no_end(C c) { return c.snapshot.duration_known ? "" : "Its length is not known."; }
Words alone(C c) { return c.count > 1 ? "" : "There is only one source."; }
/// Why a call would be refused; empty when it would not.
template <machine::Input call>
Words refused(C c) {
    return machine::allowed(c.snapshot.state, call) ? Words() : machine::refusal(c.snapshot.state, call);
}
constexpr auto no_play = refused<machine::Input::play>;
Words closed(C c) { return nothing_open(c) ? "Nothing is open." : ""; }
auto track_options_of(C c, Kind kind) {
    auto& all = *c.snapshot.track_options;
    return std::count_if(all.begin(), all.end(), [kind](auto& x) { return x.kind == kind; });
}
Words no_captions(C c) { return track_options_of(c, Kind::text) ? "" : "There are no captions."; }
Words one_audio(C c) { return track_options_of(c, Kind::audio) > 1 ? "" : "There is only one sound."; }
Words no_track_option(C c) {
    return track_options_of(c, Kind::text) || track_options_of(c, Kind::audio) > 1
               ? ""
               : "There are no captions, and only one sound.";
}
std::string plural(std::int64_t n, std::string_view one) { return fmt::format("{} {}{}", n, one, n == 1 ? "" : "s"); }
std::string seconds(Time t) { return fmt::format("{:g}", t.seconds()); }
std::string times(double speed) { return fmt::format("{:g}×", speed); }
bool looping(C c) { return c.snapshot.loop.kind != Loop::Kind::none; }
/// The step after the one that plays; round again after the last.
double next_speed(C c, S s) {
    auto faster = std::find_if(s.speeds.begin(), s.speeds.end(), [&](double v) { return v > c.snapshot.rate + 1e-6; });
    return faster != s.speeds.end() ? *faster : s.speeds.empty() ? 1.0 : s.speeds.front();
}
/// With the one text there is, a press shows and hides it; with several it goes through them.
std::uint64_t next_text(C c) {
    bool found = c.snapshot.text_track == 0;
    for (auto& track_option : *c.snapshot.track_options) {
        if (track_option.kind != Kind::text) continue;
        if (found) return track_option.id;
        found = track_option.id == c.snapshot.text_track;
    }
    return 0;
}
std::string state_words(C c) {
    auto& s = c.snapshot;
    if (s.motion == Motion::starved) return "waiting";
    return s.state.seeking ? "seeking" : std::string(machine::name(s.state.phase));
}

constexpr std::array by_time{"by_ns"sv};
constexpr std::array by_frames{"frames"sv};
constexpr std::array by_speeds{"speeds"sv};
constexpr std::array rail_settings{"figures"sv, "ticks"sv, "stills"sv};
constexpr std::array label_settings{"template"sv};
constexpr std::array common{"size"sv, "ink"sv, "ground"sv, "radius"sv, "rank"sv, "when"sv};

ControlKind button(std::string_view name, std::string_view title, std::string_view meaning, int rank,
                   decltype(ControlKind::label) label, decltype(ControlKind::mark) mark,
                   decltype(ControlKind::press) press, decltype(ControlKind::absent) absent = never,
                   decltype(ControlKind::idle) idle = never, std::span<const std::string_view> settings = {}) {
    return {.name = name,
            .title = title,
            .meaning = meaning,
            .form = Form::button,
            .rank = rank,
            .width = 1,
            .label = label,
            .mark = mark,
            .press = press,
            .absent = absent,
            .idle = idle,
            .settings = settings};
}
ControlKind shown(std::string_view name, std::string_view title, std::string_view meaning, Form form, int rank,
                  int width, decltype(ControlKind::label) label, decltype(ControlKind::absent) absent = never,
                  decltype(ControlKind::idle) idle = never, std::span<const std::string_view> settings = {}) {
    return {.name = name,
            .title = title,
            .meaning = meaning,
            .form = form,
            .rank = rank,
            .width = width,
            .label = label,
            .mark = no_mark,
            .press = no_press,
            .absent = absent,
            .idle = idle,
            .settings = settings};
}
ControlKind tall(double units, ControlKind k) { return k.tall = units, k; }
ControlKind marked(ControlKind k, decltype(ControlKind::mark) mark) { return k.mark = mark, k; }
ControlKind sliding(ControlKind k, decltype(ControlKind::value) value, decltype(ControlKind::slide) slide) {
    return k.value = value, k.slide = slide, k;
}
/// Where the position stands of what its rail stands for.
double position_value(C c) {
    auto [from, to] = rail_range(c.snapshot);
    auto& s = c.snapshot;
    auto part = to > from ? static_cast<double>((s.position - from).ns) / static_cast<double>((to - from).ns) : 0;
    return std::clamp(part, 0.0, 1.0);
}
// The speed's dial is even in octaves, in steps of five hundredths, so that one and one and a half can be met.
double speed_value(C c) { return std::clamp(std::log2(c.snapshot.rate * 4) / 4, 0.0, 1.0); }
double speed_at(double value) { return std::clamp(std::round(std::exp2(value * 4) / 4 * 20) / 20, 0.25, 4.0); }
ControlKind chief(ControlKind k) { return k.chief = true, k; }
ControlKind steadfast(ControlKind k) { return k.steadfast = true, k; }

std::vector<ControlKind> make_rows() {
    return {
        chief(button(
            "toggle", "play or pause", "one press plays, the next pauses; its mark shows the action a press will take",
            1, [](C c, S) { return std::string(wants_to_play(c) ? "Pause" : "Play"); },
            [](C c, S) { return Mark{wants_to_play(c) ? Shape::pause : Shape::play}; },
            [](C, S) { return Press{What::toggle}; }, never, no_play)),
        chief(button(
            "play", "play", "plays; visible while paused, so that it can share a place with “pause”", 1,
            [](C, S) { return std::string("Play"); }, [](C, S) { return Mark{Shape::play}; },
            [](C, S) { return Press{What::play}; },
            [](C c) -> Words { return wants_to_play(c) ? "It is playing." : ""; }, no_play)),
        chief(button(
            "pause", "pause", "pauses; visible while it plays", 1, [](C, S) { return std::string("Pause"); },
            [](C, S) { return Mark{Shape::pause}; }, [](C, S) { return Press{What::pause}; },
            [](C c) -> Words { return wants_to_play(c) ? "" : "It is paused."; })),
        tall(2, steadfast(chief(button(
                    "start", "the large mark", "starts it; visible on the first frame until it has been started", 1,
                    [](C, S) { return std::string("Play from the start"); }, [](C, S) { return Mark{Shape::play}; },
                    [](C, S) { return Press{What::play}; },
                    [](C c) -> Words {
                        auto& s = c.snapshot;
                        bool ready =
                            s.state.phase == Phase::ready && !s.state.seeking && s.position.ns == 0 && !c.countdown;
                        return !ready ? "It is not at its first frame." : no_video(c);
                    })))),
        button(
            "stop", "stop", "returns to the start and pauses", 6, [](C, S) { return std::string("Stop"); },
            [](C, S) { return Mark{Shape::stop}; }, [](C, S) { return Press{What::stop}; }, never, closed),
        button(
            "back", "skip back", "skips back by that time", 5,
            [](C, S s) { return fmt::format("Back {} seconds", seconds(s.by)); },
            [](C, S s) { return Mark{.shape = Shape::turn_back, .figure = seconds(s.by)}; },
            [](C, S s) { return Press{What::skip, -s.by}; }, nowhere_to_go, closed, by_time),
        button(
            "forward", "skip forward", "skips forward by that time", 5,
            [](C, S s) { return fmt::format("Forward {} seconds", seconds(s.by)); },
            [](C, S s) { return Mark{.shape = Shape::turn_forward, .figure = seconds(s.by)}; },
            [](C, S s) { return Press{What::skip, s.by}; }, nowhere_to_go, closed, by_time),
        button(
            "step-back", "step back", "steps back by frames, and pauses", 7,
            [](C, S s) { return fmt::format("Back {}", plural(s.frames, "frame")); },
            [](C, S) { return Mark{Shape::frame_back}; },
            [](C, S s) { return Press{.what = What::step, .frames = -s.frames}; },
            [](C c) { return c.snapshot.live ? "Live sources can’t seek." : no_video(c); }, closed, by_frames),
        button(
            "step-forward", "step forward", "steps forward by frames, and pauses", 7,
            [](C, S s) { return fmt::format("Forward {}", plural(s.frames, "frame")); },
            [](C, S) { return Mark{Shape::frame_forward}; },
            [](C, S s) { return Press{.what = What::step, .frames = s.frames}; },
            [](C c) { return c.snapshot.live ? "Live sources can’t seek." : no_video(c); }, closed, by_frames),
        button(
            "previous", "the previous source", "plays the previous source", 4,
            [](C, S) { return std::string("Previous source"); }, [](C, S) { return Mark{Shape::to_start}; },
            [](C, S) { return Press{.what = What::turn, .onward = false}; }, alone,
            [](C c) -> Words { return c.has_previous ? "" : "This is the first source."; }),
        button(
            "next", "the next source", "plays the next source", 4, [](C, S) { return std::string("Next source"); },
            [](C, S) { return Mark{Shape::to_end}; }, [](C, S) { return Press{.what = What::turn, .onward = true}; },
            alone, [](C c) -> Words { return c.has_next ? "" : "This is the last source."; }),
        button(
            "mute", "mute", "mutes without changing the volume; its mark shows the volume", 5,
            [](C c, S) { return std::string(c.snapshot.muted ? "Sound on" : "Sound off"); },
            [](C c, S) {
                return Mark{.shape = Shape::speaker,
                            .on = c.snapshot.muted || c.snapshot.volume == 0,
                            .level = c.snapshot.volume};
            },
            [](C c, S) { return Press{.what = What::mute, .onward = !c.snapshot.muted}; }, no_audio),
        button(
            "loop", "loop", "turns looping on or off", 7,
            [](C c, S) { return std::string(looping(c) ? "Play once" : "Start over at the end"); },
            [](C c, S) { return Mark{.shape = Shape::loop, .on = looping(c)}; },
            [](C c, S) { return Press{.what = What::loop, .onward = !looping(c)}; },
            [](C c) -> Words { return c.snapshot.live ? "Live sources have no end." : ""; }),
        button(
            "speed", "speed", "cycles through speeds; its figure is the current one", 7,
            [](C c, S s) { return fmt::format("Speed {}, next {}", times(c.snapshot.rate), times(next_speed(c, s))); },
            [](C c, S) { return Mark{.shape = Shape::figure, .figure = times(c.snapshot.rate)}; },
            [](C c, S s) { return Press{.what = What::speed, .amount = next_speed(c, s)}; },
            [](C c) -> Words { return c.snapshot.live ? "Live sources play at normal speed." : ""; }, never, by_speeds),
        button(
            "captions", "captions", "turns captions on, to the next track, or off", 4,
            [](C c, S) {
                auto next = next_text(c);
                if (!next) return std::string("Captions off");
                for (auto& track_option : *c.snapshot.track_options)
                    if (track_option.id == next && track_option.kind == Kind::text)
                        return "Captions: " + track_option.title;
                return std::string("Captions on");
            },
            [](C c, S) { return Mark{.shape = Shape::captions, .on = c.snapshot.text_track != 0}; },
            [](C c, S) { return Press{.what = What::choose_text, .track = next_text(c)}; }, no_captions),
        button(
            "sounds", "sound track", "opens a menu of audio tracks", 6, [](C, S) { return std::string("Sound track"); },
            [](C, S) { return Mark{Shape::audio_tracks}; }, [](C, S) { return Press{What::choose_audio}; }, one_audio),
        button(
            "tracks", "sound and captions", "opens a menu of audio and caption tracks", 5,
            [](C, S) { return std::string("Sound and captions"); },
            [](C c, S) { return Mark{.shape = Shape::captions, .on = c.snapshot.text_track != 0}; },
            [](C, S) { return Press{What::choose_tracks}; }, no_track_option),
        button(
            "full-screen", "full screen", "turns full screen on or off", 3,
            [](C c, S) { return std::string(c.full_screen ? "Leave full screen" : "Full screen"); },
            [](C c, S) { return Mark{.shape = Shape::corners, .on = c.full_screen}; },
            [](C, S) { return Press{What::full_screen}; }),
        steadfast(button(
            "leave", "leave", "releases everything and closes the player", 2, [](C, S) { return std::string("Leave"); },
            [](C, S) { return Mark{Shape::leave}; }, [](C, S) { return Press{What::leave}; })),
        steadfast(button(
            "retry", "try again", "opens the source again after a failure", 1,
            [](C, S) { return std::string("Try again"); }, [](C, S) { return Mark{Shape::again}; },
            [](C, S) { return Press{What::retry}; },
            [](C c) -> Words { return stuck(c) ? "" : "Nothing has failed."; })),
        button(
            "to-live", "to live", "goes to the live edge", 3, [](C, S) { return std::string("To live"); },
            [](C, S) { return Mark{Shape::live}; }, [](C, S) { return Press{What::to_live}; },
            [](C c) -> Words { return c.snapshot.live ? "" : "It is not live."; },
            [](C c) -> Words {
                auto& s = c.snapshot;
                if (!s.seekable || s.seekable->to == Time::max()) return "It has no seekable window.";
                return s.seekable->to - s.position < 3_s ? "It is at the live edge." : "";
            }),

        sliding(shown(
                    "position", "the position",
                    "a rail for the position, which can be dragged, with the buffered range, a loop range, keyframes, "
                    "and while dragging the frame at that position",
                    Form::rail, 1, 3, [](C, S) { return std::string("Position"); }, nowhere_to_go,
                    [](C c) -> Words {
                        auto& s = c.snapshot;
                        bool ends = s.duration_known || (s.seekable && s.seekable->to != Time::max());
                        if (!ends) return "Its length is not known.";
                        return s.has_video || s.has_audio ? "" : "Nothing is open.";
                    },
                    rail_settings),
                position_value,
                [](C c, double part) {
                    auto [from, to] = rail_range(c.snapshot);
                    return Press{.what = What::seek, .by = from + scaled(to - from, part)};
                }),
        sliding(
            marked(shown(
                       "volume", "the volume", "a dial from nothing to full", Form::dial, 6, 1,
                       [](C, S) { return std::string("Volume"); }, no_audio),
                   [](C c, S) {
                       return Mark{.shape = Shape::figure,
                                   .on = c.snapshot.muted,
                                   .figure = fmt::format("{:.0f}", c.snapshot.volume * 100)};
                   }),
            [](C c) { return c.snapshot.volume; },
            [](C, double part) { return Press{.what = What::volume, .amount = part}; }),
        sliding(marked(shown(
                           "speed-dial", "the speed", "a dial from a quarter to four times, pitch kept", Form::dial, 8,
                           1, [](C, S) { return std::string("Speed"); },
                           [](C c) -> Words { return c.snapshot.live ? "Live sources play at normal speed." : ""; }),
                       [](C c, S) { return Mark{.shape = Shape::figure, .figure = times(c.snapshot.rate)}; }),
                speed_value, [](C, double part) { return Press{.what = What::speed, .amount = speed_at(part)}; }),

        shown(
            "time", "the time", "where it is", Form::label, 6, 0,
            [](C c, S) { return format_clock(c.snapshot.position); }, never, closed),
        shown(
            "left", "the time left", "from the position to the end", Form::label, 8, 0,
            [](C c, S) { return format_clock(std::max(Time{}, c.snapshot.duration - c.snapshot.position)) + " left"; },
            no_end, closed),
        shown(
            "length", "the length", "how long the clip is", Form::label, 8, 0,
            [](C c, S) { return format_clock(c.snapshot.duration); }, no_end, closed),
        shown(
            "frame", "the frame number", "the number of the current frame, from 0, of local clips", Form::label, 8, 0,
            [](C c, S) {
                return c.snapshot.pictures ? fmt::format("{}", c.snapshot.pictures->number_at(c.snapshot.shown))
                                           : std::string("–");
            },
            no_video, [](C c) -> Words { return c.snapshot.pictures ? "" : "Frames are not counted."; }),
        shown("title", "the title", "what the source is called", Form::label, 7, 0,
              [](C c, S) { return c.title.empty() ? c.snapshot.source : c.title; }),
        shown("state", "the state", "the controller’s state, in a word", Form::label, 8, 0,
              [](C c, S) { return state_words(c); }),
        shown(
            "words", "a template", "text with properties in braces: “{time} of {length}”", Form::label, 7, 0,
            [](C c, S s) { return fill_words(s.words, c); }, never, never, label_settings),

        steadfast(marked(shown(
                             "waiting", "the waiting sign", "spins while data can still arrive", Form::sign, 1, 1,
                             [](C, S) { return std::string("Waiting"); },
                             [](C c) -> Words {
                                 // A moment's wait is no news.
                                 return c.waited > 300_ms && !stuck(c) ? "" : "It is not waiting.";
                             }),
                         [](C, S) { return Mark{Shape::waiting}; })),
        steadfast(shown(
            "failure", "the failure sign", "what failed and what can be done, in words", Form::notice, 1, 6,
            [](C c, S) {
                if (c.snapshot.error) return c.snapshot.error->sentence + " " + c.snapshot.error->hint;
                return fmt::format("No data for {:.0f} seconds. It resumes when some arrives.", c.waited.seconds());
            },
            [](C c) -> Words { return stuck(c) ? "" : "Nothing has failed."; })),
        steadfast(shown(
            "countdown", "the countdown", "the seconds until it starts by itself", Form::sign, 1, 1,
            [](C c, S) { return fmt::format("{}", c.countdown ? (c.countdown->ns + 999'999'999) / 1'000'000'000 : 0); },
            [](C c) -> Words { return c.countdown ? "" : "It does not start by itself now."; })),
        steadfast(marked(shown(
                             "live", "the live sign", "says that it is live", Form::label, 4, 0,
                             [](C c, S) {
                                 // The hold-back is no delay to speak of; what lies beyond the place to be live at is.
                                 auto& s = c.snapshot;
                                 if (!s.seekable || s.seekable->to == Time::max()) return std::string("live");
                                 auto late = s.seekable->to - s.position;
                                 return late < 3_s ? std::string("live")
                                                   : fmt::format("live, {:.0f} s ago", late.seconds());
                             },
                             [](C c) -> Words { return c.snapshot.live ? "" : "It is not live."; }),
                         [](C, S) { return Mark{Shape::live}; })),

        shown(
            "level", "the level", "the current level, from 48 dB below full scale", Form::meter, 8, 2,
            [](C c, S) {
                auto dB = level_dB(c.snapshot);
                return dB > -48 ? fmt::format("{:.0f} dB", dB) : std::string("silence");
            },
            no_audio),
        shown(
            "strip", "a strip of posters", "a poster for each source; a press plays it", Form::strip, 4, 3,
            [](C, S) { return std::string("Sources"); }, alone),
        shown(
            "caption-line", "a line of captions", "the current captions, in a place of their own", Form::captions, 5, 4,
            [](C c, S) {
                std::string all;
                for (auto* cue : c.snapshot.showing()) all += (all.empty() ? "" : "\n") + cue->text();
                return all;
            },
            no_captions),
    };
}

}  // namespace

std::span<const ControlKind> control_kinds() {
    static const auto rows = make_rows();
    return rows;
}
const ControlKind* find_control(std::string_view name) {
    auto rows = control_kinds();
    auto it = std::find_if(rows.begin(), rows.end(), [&](auto& k) { return k.name == name; });
    return it == rows.end() ? nullptr : &*it;
}
const ControlKind& control_kind(std::string_view name) {
    auto* kind = find_control(name);
    if (!kind) throw std::logic_error(fmt::format("there is no control “{}”", name));
    return *kind;
}
bool ControlKind::has(std::string_view setting) const {
    if (setting == "usable") return takes_input();
    if (setting == "show" || setting == "words") return pressable();
    return std::find(common.begin(), common.end(), setting) != common.end() ||
           std::find(settings.begin(), settings.end(), setting) != settings.end();
}

std::string label_of(const ControlSpec& control, const ControlContext& context) {
    auto& s = control.settings;
    if (control.kind->pressable() && !s.words.empty()) return s.words;
    return control.kind->label(context, s);
}

bool counts_frames(const ControlSpec& c) {
    return c.kind->name == "frame" || (c.kind->has("ticks") && c.settings.ticks) ||
           (c.kind->has("template") && c.settings.words.find("{frame") != std::string::npos);
}

double level_dB(const Snapshot& s) { return s.level > 0.0001 ? 20 * std::log10(s.level) : -80; }

TimeRange rail_range(const Snapshot& s) {
    if (s.live && s.seekable && s.seekable->to != Time::max()) return *s.seekable;
    return {{}, s.duration};
}
std::optional<Slot> parse_slot(std::string_view text) {
    if (auto cut = text.rfind('/'); cut != std::string_view::npos) {
        auto group = std::find(Slot::groups.begin(), Slot::groups.end(), text.substr(cut + 1));
        if (cut == 0 || group == Slot::groups.end()) return std::nullopt;
        return Slot{.bar = std::string(text.substr(0, cut)),
                    .group = static_cast<Slot::Group>(group - Slot::groups.begin())};
    }
    auto place = std::find(Slot::places.begin(), Slot::places.end(), text);
    if (place == Slot::places.end()) return std::nullopt;
    return Slot{.place = static_cast<std::size_t>(place - Slot::places.begin())};
}
std::string spoken(const Slot& slot) {
    if (!slot.bar.empty())
        return fmt::format("the {} group of the bar “{}”", Slot::groups.at(static_cast<std::size_t>(slot.group)),
                           slot.bar);
    static constexpr std::array<std::string_view, 9> said{
        "the top left corner", "the top edge",           "the top right corner", "the left edge",          "the middle",
        "the right edge",      "the bottom left corner", "the bottom edge",      "the bottom right corner"};
    return fmt::format("{} of the picture", said.at(slot.place));
}

std::string controls_page() {
    static constexpr std::array<std::string_view, 9> forms{"button", "rail",  "dial",     "label", "sign",
                                                           "notice", "strip", "captions", "meter"};
    std::string page =
        "# Controls\n\nMade from `src/core/player/controls.cpp`. What a player can hold, under the names that "
        "documents use.\nA control stands in a slot: a group of a bar (`foot/start`, `foot/middle`, `foot/end`) or a "
        "place on the picture (";
    for (auto place : Slot::places) page += fmt::format("{}`{}`", place == Slot::places[0] ? "" : ", ", place);
    page += ").\n\n| kind | is | does | rank | settings of its own |\n|---|---|---|---|---|\n";
    for (auto& k : control_kinds()) {
        std::string own;
        for (auto s : k.settings) own += fmt::format("{}`{}`", own.empty() ? "" : ", ", s);
        page += fmt::format("| `{}` | {} | {} | {} | {} |\n", k.name, forms.at(static_cast<std::size_t>(k.form)),
                            k.meaning, k.rank, own);
    }
    page +=
        "\nWithout enough room, the control with the highest rank moves into the ⋯ menu first.\n\n## "
        "Settings\n\nThe first five belong to some kinds only, as above; `show` and `words` to buttons, `usable` to "
        "what takes presses.\n\n| setting | default | meaning |\n|---|---|---|\n";
    for (auto& s : setting_kinds()) page += fmt::format("| `{}` | `{}` | {} |\n", s.name, s.get({}).dump(), s.meaning);
    page +=
        "\n## Templates\n\nIn the template of `words` stand, in braces, `title`, `number` and `count` (of "
        "the sources), any [property](properties.md), or in short";
    return page + short_words() + ".\n";
}

}  // namespace ruedo
