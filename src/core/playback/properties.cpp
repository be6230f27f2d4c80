// SPDX-License-Identifier: Apache-2.0
#include "playback/properties.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo {
namespace {
using Type = Property::Type;
using nlohmann::json;
using Now = const Snapshot&;

json when(bool known, Time t) { return known ? json(t.ns) : json(nullptr); }

constexpr std::array motion_names{"still", "moving", "starved"};
constexpr std::array loop_names{"none", "all", "range"};

const std::array property_rows{
    Property{"state", Type::word, "", "empty, opening, ready, playing, paused, waiting, ended, failed or closed",
             [](Now s) { return json(machine::name(s.state.phase)); }},
    Property{"intent", Type::word, "", "the user’s intent: play or hold",
             [](Now s) { return json(machine::name(s.state.intent)); }},
    Property{"motion", Type::word, "", "moving, still or starved",
             [](Now s) { return json(motion_names.at(static_cast<std::size_t>(s.motion))); }},
    Property{"seeking", Type::yes_or_no, "", "a seek is under way", [](Now s) { return json(s.state.seeking); }},
    Property{"position_ns", Type::time, "ns", "where it is, in presentation time",
             [](Now s) { return json(s.position.ns); }},
    Property{"duration_ns", Type::time, "ns", "how long the clip is; null while that is not known",
             [](Now s) { return when(s.duration_known, s.duration); }},
    Property{"left_ns", Type::time, "ns", "from the position to the end; null while the length is not known",
             [](Now s) { return when(s.duration_known, std::max(Time{}, s.duration - s.position)); }},
    Property{"live", Type::yes_or_no, "", "it is live and has no end", [](Now s) { return json(s.live); }},
    Property{"behind_ns", Type::time, "ns", "how far behind the live edge; null unless live",
             [](Now s) { return s.edge ? json(std::max(Time{}, *s.edge - s.position).ns) : json(nullptr); }},
    Property{"seekable_from_ns", Type::time, "ns", "start of the seekable range; null where seeking is impossible",
             [](Now s) { return s.seekable ? json(s.seekable->from.ns) : json(nullptr); }},
    Property{
        "seekable_to_ns", Type::time, "ns", "end of the seekable range; null where seeking is impossible, or unknown",
        [](Now s) { return when(s.seekable && s.seekable->to != Time::max(), s.seekable.value_or(TimeRange{}).to); }},
    Property{"buffered_from_ns", Type::time, "ns", "start of the buffered range around the position",
             [](Now s) { return json(s.buffered_from.ns); }},
    Property{"buffered_to_ns", Type::time, "ns", "end of the buffered range around the position",
             [](Now s) { return json(s.buffered_to.ns); }},
    Property{"decoded_to_ns", Type::time, "ns", "end of decoded video", [](Now s) { return json(s.decoded_to.ns); }},
    Property{"sounded_to_ns", Type::time, "ns", "end of decoded audio", [](Now s) { return json(s.sounded_to.ns); }},
    Property{"made_to_ns", Type::time, "ns", "end of the converted range, with live transcoding; null otherwise",
             [](Now s) { return s.converted_to ? json(s.converted_to->ns) : json(nullptr); }},
    Property{"shown_ns", Type::time, "ns", "the time of the current frame", [](Now s) { return json(s.shown.ns); }},
    Property{"frame", Type::whole, "", "number of the current frame, from 0; null while frames are not counted",
             [](Now s) { return s.pictures ? json(s.pictures->number_at(s.shown)) : json(nullptr); }},
    Property{"frame_count", Type::whole, "pictures", "number of frames in the clip; null while they are not counted",
             [](Now s) { return s.pictures ? json(s.pictures->all.size()) : json(nullptr); }},
    Property{"source", Type::text, "", "the name of the open source", [](Now s) { return json(s.source); }},
    Property{"has_pictures", Type::yes_or_no, "", "it has video that plays", [](Now s) { return json(s.has_video); }},
    Property{"has_sound", Type::yes_or_no, "", "it has audio that plays", [](Now s) { return json(s.has_audio); }},
    Property{"partial", Type::yes_or_no, "", "either video or audio can’t be played and is left out",
             [](Now s) { return json(s.partial); }},
    Property{"width", Type::whole, "pixels", "of the picture as shown", [](Now s) { return json(s.display_width); }},
    Property{"height", Type::whole, "pixels", "of the picture as shown", [](Now s) { return json(s.display_height); }},
    Property{"volume", Type::number, "0 to 1", "of the volume control", [](Now s) { return json(s.volume); }},
    Property{"muted", Type::yes_or_no, "", "muted, whatever the volume", [](Now s) { return json(s.muted); }},
    Property{"level", Type::number, "0 to 1", "the current peak of the audio", [](Now s) { return json(s.level); }},
    Property{"rate", Type::number, "times", "speed, 0.25 to 4", [](Now s) { return json(s.rate); }},
    Property{"pace", Type::number, "times",
             "the actual rate: the rate, or up to 5 % more while a live source catches up after a stall",
             [](Now s) { return json(s.pace); }},
    Property{"loop", Type::word, "", "none, all or range",
             [](Now s) { return json(loop_names.at(static_cast<std::size_t>(s.loop.kind))); }},
    Property{"loop_from_ns", Type::time, "ns", "where a range begins; null without one",
             [](Now s) { return when(s.loop.kind == Loop::Kind::range, s.loop.from); }},
    Property{"loop_to_ns", Type::time, "ns", "where a range ends; null without one",
             [](Now s) { return when(s.loop.kind == Loop::Kind::range, s.loop.to); }},
    Property{"sound_track", Type::whole, "", "the container’s number of the audio track; 0 for none",
             [](Now s) { return json(s.audio_track); }},
    Property{"text_track", Type::whole, "", "the number of the caption track; 0 for none",
             [](Now s) { return json(s.text_track); }},
    Property{"captions", Type::text, "", "text of the current captions",
             [](Now s) {
                 std::string all;
                 for (auto* cue : s.showing()) all += (all.empty() ? "" : "\n") + cue->text();
                 return json(all);
             }},
    Property{"presented", Type::whole, "pictures", "shown since it was opened, each counted once per showing",
             [](Now s) { return json(s.counters.presented); }},
    Property{"dropped", Type::whole, "pictures", "due but not shown, because they were late",
             [](Now s) { return json(s.counters.dropped); }},
    Property{"skipped", Type::whole, "pictures", "skipped, because the display is slower",
             [](Now s) { return json(s.counters.skipped); }},
    Property{"repeated", Type::whole, "refreshes", "refreshes that repeated the previous frame",
             [](Now s) { return json(s.counters.repeated); }},
    Property{"damaged", Type::whole, "packets", "that could not be decoded",
             [](Now s) { return json(s.counters.damaged); }},
    Property{"pictures_ahead", Type::whole, "pictures", "decoded and waiting",
             [](Now s) { return json(s.frames_ahead); }},
    Property{"sound_ahead_ns", Type::time, "ns", "of audio buffered", [](Now s) { return json(s.audio_ahead.ns); }},
    Property{"av_offset_ns", Type::time, "ns", "lateness of the last frame against audio; null without both",
             [](Now s) { return s.av_offset ? json(s.av_offset->ns) : json(nullptr); }},
    Property{"error_code", Type::word, "", "why it failed, as on the command line; null when it did not",
             [](Now s) { return s.error ? json(error_code_name(s.error->code)) : json(nullptr); }},
    Property{"error_sentence", Type::text, "", "the same as a sentence; null when it did not",
             [](Now s) { return s.error ? json(s.error->sentence) : json(nullptr); }},
};
}  // namespace

std::vector<const Cue*> Snapshot::showing() const {
    std::vector<const Cue*> list;
    if (!cues) return list;
    // Cues are sorted by start; one that is still to be seen may have begun long before.
    auto end =
        std::upper_bound(cues->list.begin(), cues->list.end(), position, [](Time t, auto& c) { return t < c.start; });
    for (auto it = cues->list.begin(); it != end; ++it)
        if (it->end > position) list.push_back(&*it);
    return list;
}

std::span<const Property> properties() { return property_rows; }

const Property* find_property(std::string_view name) {
    auto it = std::find_if(property_rows.begin(), property_rows.end(), [&](auto& p) { return p.name == name; });
    return it == property_rows.end() ? nullptr : &*it;
}

std::string_view type_name(Type type) {
    static constexpr std::array<std::string_view, 6> names{"word",         "yes or no", "number",
                                                           "whole number", "time",      "text"};
    return names.at(static_cast<std::size_t>(type));
}

std::string properties_page() {
    std::string page =
        "# Properties\n\nMade from `src/core/playback/properties.cpp`. The state of a player, under the names that "
        "reports use.\nAll of them are from one snapshot: `Controller::snapshot()`.\n\n| name | type | unit | meaning "
        "|\n|---|---|---|---|\n";
    for (auto& p : property_rows)
        page += fmt::format("| `{}` | {} | {} | {} |\n", p.name, type_name(p.type), p.unit, p.meaning);
    return page;
}

}  // namespace ruedo
