// SPDX-License-Identifier: Apache-2.0
// The controls there are: one row for each kind, and one for each setting that a kind can have, of which documents, the
// layout, the view, the sentences and docs/controls.md are made. What a control shows follows from the controller's
// snapshot alone, never from a memory of its own.
#pragma once
#include <nlohmann/json_fwd.hpp>
#include <span>
#include <variant>

#include "playback/playback.h"

namespace ruedo {

/// What controls go by: the moment's snapshot, and what the player around it knows.
struct ControlContext {
    Snapshot snapshot;
    std::string title;  ///< What the document calls the source.
    bool full_screen = false;
    bool handset = false;              ///< The mount is held in a hand.
    std::size_t index = 0, count = 1;  ///< Which of how many sources.
    bool has_previous = false, has_next = false;
    Time untouched{};               ///< Since the pointer, a finger or a key was last there.
    bool awake = true;              ///< Controls that hide when idle are visible.
    std::optional<Time> countdown;  ///< Until it starts by itself.
    Time waited{};                  ///< How long it has starved by now; 0 where it does not.
    bool given_up = false;          ///< It has starved for longer than the player waits.
    bool started = false;           ///< It has played since it was opened.
};

/// What a press control draws.
struct Mark {
    enum class Shape {
        none,
        play,
        pause,
        stop,
        turn_back,
        turn_forward,
        frame_back,
        frame_forward,
        to_start,
        to_end,
        speaker,
        loop,
        figure,
        captions,
        audio_tracks,
        corners,
        leave,
        again,
        live,
        waiting,
        more
    };
    Shape shape = Shape::none;
    bool on = false;       ///< Speaker and volume: silent; corners: inward; captions, loop and live: at it.
    double level = 1;      ///< Speaker: 0 to 1.
    std::string figure{};  ///< Turns: what they turn by; figure: all there is; dials: where they stand.
    bool operator==(const Mark&) const = default;
};

/// What a press asks for.
struct Press {
    enum class What {
        none,
        toggle,
        play,
        pause,
        stop,
        skip,
        seek,
        step,
        mute,
        volume,
        full_screen,
        turn,
        loop,
        speed,
        choose_tracks,
        choose_text,
        choose_audio,
        leave,
        retry,
        to_live,
        louder
    };
    What what = What::none;
    Time by{};           ///< Of a skip; where a seek goes.
    int frames = 0;      ///< Of a step.
    double amount = 1;   ///< A speed; a volume, or how much louder.
    bool onward = true;  ///< Of a turn; muted or not; looping or not.
    std::uint64_t track = 0;
};

/// How a press is carried out; the player around the controls fills it in.
struct ControlCalls {
    std::function<void(const Press&)> press;
    std::function<void(Time to, SeekMode mode)> seek;
    std::function<void(std::uint64_t id)> audio_track, text_track;
    std::function<void(std::size_t index)> go;
};

/// What can be set of a control; which of it means something is said by its kind.
struct ControlSettings {
    enum class Show { mark, words, both };
    Time by = 10_s;
    int frames = 1;
    std::vector<double> speeds{0.5, 1, 1.5, 2};
    std::string words;
    Show show = Show::mark;
    int size = 0, radius = -1, rank = 0;
    std::string ink, ground;
    std::string when, usable;
    bool figures = true, ticks = false, stills = true;
    bool operator==(const ControlSettings&) const = default;
};

/// One setting: its name in documents, what it may be, and where it is kept.
struct SettingKind {
    enum class Type { time, integer, speeds, words, template_words, colour, choice, condition, yes_or_no };
    using Place =
        std::variant<Time ControlSettings::*, int ControlSettings::*, std::vector<double> ControlSettings::*,
                     std::string ControlSettings::*, bool ControlSettings::*, ControlSettings::Show ControlSettings::*>;
    std::string_view name;
    Type type;
    std::string_view meaning;
    std::string_view sentence;  ///< How it is said of a control; its value stands in the braces.
    std::string_view usual;  ///< How its default is said; for what is or is not, how both are, with a stroke between.
    /// What it is called in the one sentence of all that is at its default ("Label, colour and corners: default");
    /// empty for what always has its own.
    std::string_view subject;
    Place place;
    std::int64_t low = 0, high = 0;  ///< Of times (ns) and whole numbers.

    nlohmann::json get(const ControlSettings& settings) const;
    /// Says what is wrong with a value that it does not take, in words that go on after its place in the document.
    std::optional<std::string> set(ControlSettings& settings, const nlohmann::json& value) const;
};
std::span<const SettingKind> setting_kinds();
const SettingKind* find_setting(std::string_view name);

struct ControlKind {
    enum class Form { button, rail, dial, label, sign, notice, strip, captions, meter };
    using Words = std::string_view;
    std::string_view name;     ///< In documents.
    std::string_view title;    ///< In sentences: "the position".
    std::string_view meaning;  ///< For the documentation: what it does or shows.
    Form form;
    int rank;       ///< What folds away first where there is no room has the highest, 1 to 9.
    int width = 0;  ///< The least that it is of use at, in units of a press area; 0 for as much as its words want.
    std::string (*label)(const ControlContext&, const ControlSettings&);
    Mark (*mark)(const ControlContext&, const ControlSettings&);
    Press (*press)(const ControlContext&, const ControlSettings&);
    /// Why it is not to be seen now; empty when it is.
    Words (*absent)(const ControlContext&);
    /// Why it does nothing now; empty when it does.
    Words (*idle)(const ControlContext&);
    std::span<const std::string_view> settings = {};  ///< Besides those that all have.
    double tall = 1;                                  ///< How high it is, in units of a press area.
    /// Of sliders: its position, 0 to 1, and the call that dragging to a position makes.
    double (*value)(const ControlContext&) = nullptr;
    Press (*slide)(const ControlContext&, double) = nullptr;
    bool chief = false;      ///< Drawn as the one that matters most.
    bool steadfast = false;  ///< Stays when what nobody touches is hidden.

    bool pressable() const { return form == Form::button; }
    bool slides() const { return form == Form::rail || form == Form::dial; }
    bool takes_input() const { return pressable() || slides() || form == Form::strip; }
    bool stretches() const { return form == Form::rail || form == Form::strip; }
    bool has(std::string_view setting) const;
};
std::span<const ControlKind> control_kinds();
/// Nothing when there is none of that name.
const ControlKind* find_control(std::string_view name);
/// For names that are known to be there.
const ControlKind& control_kind(std::string_view name);

/// A control of a player: a kind, its own name, its slot, its settings.
struct ControlSpec {
    const ControlKind* kind = &control_kind("toggle");
    std::string name{};  ///< Its own, within the player.
    std::string slot{};  ///< See `Slot`.
    ControlSettings settings{};
    std::string extra{};  ///< Members of newer versions, kept as they are: JSON, or nothing.
    int rank() const { return settings.rank > 0 ? settings.rank : kind->rank; }
    bool operator==(const ControlSpec&) const = default;
};
std::string label_of(const ControlSpec& control, const ControlContext& context);
/// Whether it shows something that needs the pictures counted (`Controller::list_frames`).
bool counts_frames(const ControlSpec& control);
/// The level in decibels of full scale; -80 for silence.
double level_dB(const Snapshot& snapshot);
/// The range of a rail: the clip, or the seekable window of a live one.
TimeRange rail_range(const Snapshot& snapshot);

/// Where a control stands: in a group of a bar ("foot/end"), or at a place on the picture ("top-left", "centre").
struct Slot {
    enum class Group { start, middle, end };
    static constexpr std::array<std::string_view, 3> groups{"start", "middle", "end"};
    static constexpr std::array<std::string_view, 9> places{
        "top-left", "top", "top-right", "left", "centre", "right", "bottom-left", "bottom", "bottom-right"};
    std::string bar{};      ///< Its name; empty for a place.
    Group group{};          ///< Of a bar.
    std::size_t place = 4;  ///< Which of the nine.
    bool operator==(const Slot&) const = default;
};
std::optional<Slot> parse_slot(std::string_view text);
/// "the end group of the foot", "the top left corner".
std::string spoken(const Slot& slot);

/// "{time} of {length}" with what stands in braces said of this moment; any property can stand there
/// (docs/properties.md).
std::string fill_words(std::string_view words, const ControlContext& context);
/// What is wrong with such words; nothing when all is well.
std::optional<std::string> wrong_words(std::string_view words);

/// The short names that such words have for properties, for the documentation.
std::string short_words();
/// “#17131A”.
bool is_colour(std::string_view text);

/// The page of the documentation.
std::string controls_page();

}  // namespace ruedo
