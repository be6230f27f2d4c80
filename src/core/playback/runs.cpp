// SPDX-License-Identifier: Apache-2.0
#include "playback/runs.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

namespace ruedo {
namespace {
using nlohmann::json;
constexpr std::size_t most_lines = 1'000'000;

constexpr std::array anchor_rows{
    Anchor{"play", "the first call of play",
           [](const Event& e) { return e.name == "call" && e.detail.starts_with("play"); }},
    Anchor{"opened", "the source being open", [](const Event& e) { return e.name == "opened"; }},
    Anchor{"first-picture", "the first picture", [](const Event& e) { return e.name == "first-picture"; }},
    Anchor{"seek", "the first seek", [](const Event& e) { return e.name == "seek"; }},
    Anchor{"starved", "the first stall", [](const Event& e) { return e.name == "starved"; }},
    Anchor{"begin", "the beginning", [](const Event&) { return true; }}};

/// What makes up a life, as opposed to how it went along.
bool counts(const Event& e) {
    constexpr std::array<std::string_view, 14> names{"call",  "state",   "seek", "error", "starved", "opened", "ended",
                                                     "press", "refused", "host", "hole",  "rung",    "looped", "rate"};
    return std::find(names.begin(), names.end(), e.name) != names.end();
}
/// Without incidental figures, such as the throughput of a link.
std::string said(const Event& e) {
    if (e.name == "rung") return "rung " + e.detail.substr(0, e.detail.find(" from "));
    if (e.name == "seek") return fmt::format("lands at {}", format_time(e.target.value_or(e.media)));
    if (e.name == "state") return "is " + e.detail;
    if (e.name == "starved") return "has nothing left to play";
    return e.detail.empty() ? e.name : fmt::format("{}: {}", e.name, e.detail);
}
bool alike(const Event& a, const Event& b, Time apart) {
    if (a.name != b.name) return false;
    if (a.name == "seek") return std::abs((a.target.value_or(a.media) - b.target.value_or(b.media)).ns) <= apart.ns;
    return said(a) == said(b);
}
std::vector<const Event*> life_of(const Run& run, Time from) {
    std::vector<const Event*> all;
    for (auto& e : run.events)
        if (e.wall >= from && counts(e)) all.push_back(&e);
    return all;
}
std::optional<Time> media_at(const Run& run, Time wall) {
    auto after = std::partition_point(run.path.begin(), run.path.end(), [&](auto& p) { return p.wall <= wall; });
    if (after == run.path.begin() || after == run.path.end()) return std::nullopt;
    auto &a = *std::prev(after), &b = *after;
    // For as long as nobody looked it may have been anywhere, nor is it known when it jumped from here to there.
    if (b.wall - a.wall > 1_s || std::abs((b.media - a.media).ns) > 4 * (b.wall - a.wall).ns + 1) return std::nullopt;
    return a.media +
           scaled(b.media - a.media, static_cast<double>((wall - a.wall).ns) /
                                         static_cast<double>(std::max<std::int64_t>(1, (b.wall - a.wall).ns)));
}
}  // namespace

std::span<const Anchor> anchors() { return anchor_rows; }

std::optional<Time> find_anchor(const Run& run, const Anchor& anchor) {
    auto it = std::find_if(run.events.begin(), run.events.end(), anchor.is);
    return it == run.events.end() ? std::nullopt : std::optional(it->wall);
}

std::string to_lines(const Run& run) {
    std::string lines;
    for (auto& e : run.events) lines += to_json(e).dump(-1, ' ', false, json::error_handler_t::replace) + "\n";
    for (auto& p : run.path) lines += fmt::format("{{\"wall_ns\":{},\"at_ns\":{}}}\n", p.wall.ns, p.media.ns);
    return lines;
}

Result<Run> run_from_lines(ByteView bytes, std::string name) {
    Run run;
    run.name = std::move(name);
    std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    std::size_t number = 0;
    while (!text.empty()) {
        auto line = text.substr(0, text.find('\n'));
        text.remove_prefix(std::min(text.size(), line.size() + 1));
        if (++number > most_lines)
            return fail(ErrorCode::limit, fmt::format("“{}” has more than a million lines.", run.name),
                        "Keep a shorter run.");
        if (line.find_first_not_of(" \t\r") == line.npos) continue;
        auto j = json::parse(line, nullptr, false);
        auto time = [&](const char* member) -> std::optional<Time> {
            auto it = j.find(member);
            bool whole = it != j.end() && it->is_number_integer() && std::abs(it->template get<double>()) < 9e18;
            return whole ? std::optional(Time{it->template get<std::int64_t>()}) : std::nullopt;
        };
        auto wrong = [&](const char* what) {
            return fail(ErrorCode::malformed, fmt::format("Line {} of “{}” {}.", number, run.name, what),
                        "Choose a run that was written here.");
        };
        if (!j.is_object()) return wrong("is no object of JSON");
        auto wall = time("wall_ns");
        if (!wall) return wrong("does not say when it was");
        if (auto at = time("at_ns")) {
            if (!run.path.empty() && *wall < run.path.back().wall) return wrong("lies before the one before it");
            run.path.push_back({*wall, *at});
            continue;
        }
        Event e;
        if (!j.contains("event") || !j["event"].is_string()) return wrong("is neither an event nor a place");
        e.name = j["event"].get<std::string>(), e.wall = *wall, e.media = time("media_ns").value_or(Time{});
        if (auto d = j.find("detail"); d != j.end() && d->is_string()) e.detail = d->get<std::string>();
        e.took = time("took_ns"), e.target = time("target_ns"), e.av_offset = time("av_offset_ns");
        e.made = time("made_ns"), e.audio = time("sound_ns").value_or(Time{});
        e.n = static_cast<std::uint64_t>(std::max<std::int64_t>(0, time("n").value_or(Time{}).ns));
        e.pictures = static_cast<std::size_t>(std::max<std::int64_t>(0, time("pictures").value_or(Time{}).ns));
        if (!run.events.empty() && e.wall < run.events.back().wall) return wrong("lies before the one before it");
        run.events.push_back(std::move(e));
    }
    if (run.events.empty() && run.path.empty())
        return fail(ErrorCode::empty, fmt::format("“{}” holds no run.", run.name),
                    "Choose a run that was written here.");
    return run;
}

std::optional<Difference> first_difference(const Run& kept, const Run& run, const Anchor& anchor, Time apart) {
    auto from_kept = find_anchor(kept, anchor), from_run = find_anchor(run, anchor);
    if (!from_kept || !from_run) {
        if (!from_kept && !from_run) return std::nullopt;
        return Difference{
            {}, fmt::format("{} has no place for {}.", from_kept ? "This run" : "The kept run", anchor.title)};
    }
    auto a = life_of(kept, *from_kept), b = life_of(run, *from_run);
    auto end = [](const Run& r) {
        return std::max(r.events.empty() ? Time{} : r.events.back().wall, r.path.empty() ? Time{} : r.path.back().wall);
    };
    // What one has not come to yet is no difference.
    auto both = std::min(end(kept) - *from_kept, end(run) - *from_run);
    std::optional<Difference> first;
    auto take = [&](Time after, std::string sentence) {
        if (!first || after < first->after) first = Difference{after, std::move(sentence)};
    };
    for (std::size_t i = 0; i < std::max(a.size(), b.size()) && !first; ++i) {
        auto when = [&](const Event* e, Time from) { return e->wall - from; };
        auto *x = i < a.size() ? a[i] : nullptr, *y = i < b.size() ? b[i] : nullptr;
        if (x && y && alike(*x, *y, apart)) {
            auto later = when(y, *from_run) - when(x, *from_kept);
            if (std::abs(later.ns) > apart.ns)
                take(std::min(when(x, *from_kept), when(y, *from_run)),
                     fmt::format("Both have “{}”, this run {:.2f} s {}.", said(*x), std::abs(later.seconds()),
                                 later > Time{} ? "later" : "sooner"));
            continue;
        }
        auto t = std::min(x ? when(x, *from_kept) : Time::max(), y ? when(y, *from_run) : Time::max());
        if (t > both) break;
        if (x && y)
            take(t, fmt::format("The kept run has “{}”; this one “{}”.", said(*x), said(*y)));
        else
            take(t, fmt::format("Only {} has “{}”.", x ? "the kept run" : "this one", said(x ? *x : *y)));
    }
    auto limit = first ? std::min(both, first->after) : both;
    for (Time t{}; t <= limit; t += 100_ms) {
        auto x = media_at(kept, *from_kept + t), y = media_at(run, *from_run + t);
        if (!x || !y || std::abs((*x - *y).ns) <= 2 * apart.ns) continue;
        take(t, fmt::format("The kept run is at {}; this one at {}.", format_time(*x), format_time(*y)));
        break;
    }
    return first;
}

}  // namespace ruedo
