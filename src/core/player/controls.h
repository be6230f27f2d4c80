// SPDX-License-Identifier: Apache-2.0
// The controls there are: one row for each kind, of which documents, the view, the sentences and docs/controls.md are
// made. What a row says follows from the controller's snapshot alone, never from a memory of its own.
#pragma once
#include <span>

#include "playback/playback.h"

namespace ruedo {

/// In the order of the rows.
enum class Control { toggle, back, forward, position, volume, full_screen, tracks, previous, next, strip };

/// What a control goes by, besides the snapshot.
struct ControlContext {
    Snapshot snapshot;
    Time skip = 10_s;
    bool full_screen = false;
    std::size_t index = 0, count = 1;  ///< Which of how many sources.
    bool has_previous = false, has_next = false;
};

/// What a button draws.
struct Mark {
    enum class Shape { none, play, pause, turn_back, turn_forward, speaker, corners, captions, to_start, to_end };
    Shape shape = Shape::none;
    bool on = false;          ///< Speaker: silent; corners: inward; captions: shown.
    double level = 1;         ///< Speaker: 0 to 1.
    std::int64_t figure = 0;  ///< Turns: what they turn by.
    bool operator==(const Mark&) const = default;
};

/// What a press asks for.
struct Press {
    enum class What { none, toggle, skip, mute, full_screen, turn, choose_tracks };
    What what = What::none;
    Time by{};           ///< Of a skip.
    bool onward = true;  ///< Of a turn; muted or not.
};

struct ControlKind {
    enum class Form { button, slider, dial, strip };
    Control control;
    std::string_view name;     ///< In documents.
    std::string_view title;    ///< In sentences: "play".
    std::string_view meaning;  ///< For the documentation.
    Form form;
    std::string_view setting;  ///< The document's member that it reads, if any.
    std::string (*label)(const ControlContext&);
    Mark (*mark)(const ControlContext&);
    Press (*press)(const ControlContext&);
    /// Why it is not to be seen now; empty when it is.
    std::string_view (*absent)(const ControlContext&);
    /// Why it does nothing now; empty when it does.
    std::string_view (*idle)(const ControlContext&);
    bool chief = false;   ///< Drawn as the one that matters most.
    bool spares = false;  ///< Gives way first where there is no room; keys do the same.
};
std::span<const ControlKind> control_kinds();
const ControlKind& kind_of(Control control);
/// Nothing when there is none of that name.
const ControlKind* find_control(std::string_view name);
inline std::string_view control_name(Control control) { return kind_of(control).name; }
/// "play, back and forward"; "nothing" for none.
std::string spoken(std::span<const Control> controls);
/// The page of the documentation.
std::string controls_page();

}  // namespace ruedo
