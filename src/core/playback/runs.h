// SPDX-License-Identifier: Apache-2.0
// Runs of a controller that are kept: written and read as JSON Lines, laid beside each other, and where they first
// differ.
#pragma once
#include <span>

#include "playback/playback.h"

namespace ruedo {

struct Run {
    std::string name;
    std::vector<Event> events;  ///< In order.
    struct Point {
        Time wall{}, media{};
        bool operator==(const Point&) const = default;
    };
    std::vector<Point> path;  ///< Where it was, by rising wall time.
};

/// One line for each event as reports have it, and one {"wall_ns", "at_ns"} for each point of the path.
std::string to_lines(const Run& run);
/// `malformed` names the line. Members that are not known are passed over; at most a million lines (`limit`).
Result<Run> run_from_lines(ByteView text, std::string name);

/// Something that happens in most runs, by which two of them can be laid beside each other.
struct Anchor {
    std::string_view name, title;  ///< "play", "the first call of play".
    bool (*is)(const Event&);
};
std::span<const Anchor> anchors();
/// The wall time of the first event that is one; nothing where none is.
std::optional<Time> find_anchor(const Run& run, const Anchor& anchor);

struct Difference {
    Time after{};          ///< After the event both were aligned at; below 0 before it.
    std::string sentence;  ///< "The kept run seeks to 10 s; this one pauses."
};
/// Where `run` first does something else than `kept`, or does it more than `apart` sooner or later, or is somewhere
/// else. Nothing where they agree as far as both go.
std::optional<Difference> first_difference(const Run& kept, const Run& run, const Anchor& anchor, Time apart = 250_ms);

}  // namespace ruedo
