// SPDX-License-Identifier: Apache-2.0
#include "convert/recipe.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

namespace ruedo {
namespace {
using nlohmann::json;
using Do = Recipe::Do;
constexpr std::int64_t longest_recipe = 1'000'000'000'000'000'000;
constexpr std::array<std::string_view, 4> shape_names{"keep", "crop", "pad", "bake"};
// As the enumerations of `Colour` begin.
constexpr std::array<std::string_view, 4> matrix_names{"keep", "bt601", "bt709", "bt2020"};
constexpr std::array<std::string_view, 3> range_names{"keep", "limited", "full"};
constexpr std::array<std::string_view, 3> caption_names{"keep", "none", "burn"};
constexpr std::array<std::string_view, 2> track_names{"main", "all"};
constexpr std::array<std::string_view, 3> effort_names{"quick", "middling", "thorough"};

/// One member of a recipe: its JSON pointer, what it may be, how it is read and written, and what it says.
struct Member {
    std::string_view group, name;  ///< The group is empty for what stands at the top.
    json schema;
    std::string must;  ///< Continues a sentence: "must be an integer from …".
    bool (*take)(const json& value, Recipe& recipe);
    json (*give)(const Recipe& recipe);  ///< Null where it is left out.
    std::string_view values, without;
};

json whole(std::int64_t low, std::int64_t high) { return {{"type", "integer"}, {"minimum", low}, {"maximum", high}}; }
std::string must_be_whole(std::int64_t low, std::int64_t high) {
    return fmt::format("must be an integer from {} to {}", low, high);
}
template <std::size_t n>
json one_of(const std::array<std::string_view, n>& names) {
    return {{"enum", names}};
}
template <std::size_t n>
std::optional<std::size_t> place_in(const std::array<std::string_view, n>& names, const json& v) {
    auto it = v.is_string() ? std::find(names.begin(), names.end(), v.get_ref<const std::string&>()) : names.end();
    return it == names.end() ? std::nullopt : std::optional(static_cast<std::size_t>(it - names.begin()));
}
/// Nothing for the first, which is usual.
template <std::size_t n>
json named(const std::array<std::string_view, n>& names, std::size_t at) {
    return at == 0 ? json() : json(names.at(at));
}
/// Codecs that some container takes, and what else may be done.
json codec_names(bool video) {
    json names = json::array();
    auto add = [&](std::string_view name) {
        if (std::find(names.begin(), names.end(), json(name)) == names.end()) names.push_back(name);
    };
    for (auto& w : container_formats())
        for (auto c : video ? w.video : w.audio) add(codec_name(c));
    add("encode"), add("copy"), add("none");
    return {{"enum", names}};
}
bool take_codec(const json& v, Do& action, std::optional<Codec>& into) {
    if (!v.is_string()) return false;
    auto& name = v.get_ref<const std::string&>();
    action = name == "copy" ? Do::copy : name == "none" ? Do::none : Do::encode;
    if (action != Do::encode || name == "encode") return true;
    into = codec_from_name(name);
    return *into != Codec::unknown;
}
json given_codec(Do action, const std::optional<Codec>& codec) {
    if (action == Do::copy) return "copy";
    if (action == Do::none) return "none";
    return codec ? json(codec_name(*codec)) : action == Do::encode ? json("encode") : json();
}
bool take_rate(const json& v, std::optional<Rational>& into) {
    if (!v.is_string()) return false;
    into = parse_rational(v.get_ref<const std::string&>());
    return into && into->num >= 1 && into->num <= 1000 * into->den;
}
json given_rate(const std::optional<Rational>& r) { return r ? json(fmt::format("{}/{}", r->num, r->den)) : json(); }
json given_number(std::int64_t v, std::int64_t usual) { return v == usual ? json() : json(v); }
const char* const a_rate = "must be a rate such as “30” or “30000/1001”, at most 1000";

/// A whole number between bounds: most members are that.
#define WHOLE(group, name, low, high, member, type, given, values, without)          \
    Member {                                                                         \
        group, name, whole(low, high), must_be_whole(low, high),                     \
            [](const json& v, Recipe& r) { return r.member = v.get<type>(), true; }, \
            [](const Recipe& r) -> json { return given; }, values, without           \
    }

/// One of some names, in the order of an enumeration; the first is what is usual.
#define NAMED(group, name, names, must, member, values, without)                                              \
    Member {                                                                                                  \
        group, name, one_of(names), must,                                                                     \
            [](const json& v, Recipe& r) {                                                                    \
                auto n = place_in(names, v);                                                                  \
                if (n) r.member = static_cast<decltype(r.member)>(*n);                                        \
                return n.has_value();                                                                         \
            },                                                                                                \
            [](const Recipe& r) { return named(names, static_cast<std::size_t>(r.member)); }, values, without \
    }

const std::vector<Member>& members() {
    static const json rate{{"type", "string"}, {"pattern", "^[0-9]+([./][0-9]+)?$"}};
    static const std::vector<Member> all{
        {"", "wrapper",
         [] {
             json names = json::array();
             for (auto& w : container_formats()) names.push_back(w.name);
             return json{{"enum", names}};
         }(),
         "must be the name of a container that is written here",
         [](const json& v, Recipe& r) {
             if (!v.is_string() || !container_format_named(v.get_ref<const std::string&>())) return false;
             r.container_format = v.get<std::string>();
             return true;
         },
         [](const Recipe& r) { return r.container_format.empty() ? json() : json(r.container_format); },
         "a container; MP4 and Matroska with their index in front", "by the output’s extension"},
        {"", "from_ns", whole(0, longest_recipe), must_be_whole(0, longest_recipe),
         [](const json& v, Recipe& r) { return r.from = Time{v.get<std::int64_t>()}, true; },
         [](const Recipe& r) { return given_number(r.from.ns, 0); },
         "the stretch that is kept begins here, exact to the frame and the sample (sound copied from Matroska whose "
         "packets state no length: to its millisecond)",
         "the beginning"},
        {"", "to_ns", whole(1, longest_recipe), must_be_whole(1, longest_recipe),
         [](const json& v, Recipe& r) { return r.to = Time{v.get<std::int64_t>()}, true; },
         [](const Recipe& r) { return r.to ? json(r.to->ns) : json(); }, "and ends here", "the end"},
        {"", "fit_bytes", whole(1000, INT64_MAX), must_be_whole(1000, INT64_MAX),
         [](const json& v, Recipe& r) { return r.fit_bytes = v.get<std::uint64_t>(), true; },
         [](const Recipe& r) { return r.fit_bytes ? json(*r.fit_bytes) : json(); },
         "the whole file is at most so large, and at least 97 % of that where the pictures can use it", "–"},
        NAMED("", "captions", caption_names, "must be keep, none or burn", captions,
              "`keep` them, where the container has a form for them, or `none`; or `burn` those that are shown first "
              "(or of a file beside the clip) into the pictures, as the player shows them",
              "`keep`"),
        {"", "tracks", one_of(track_names), "must be main or all",
         [](const json& v, Recipe& r) {
             auto n = place_in(track_names, v);
             r.all_tracks = n == 1U;
             return n.has_value();
         },
         [](const Recipe& r) { return r.all_tracks ? json("all") : json(); },
         "of sound the `main` track, which is the one that plays, or `all`", "`main`"},
        {"video", "codec", codec_names(true), "must be a codec that is known here, encode, copy or none",
         [](const json& v, Recipe& r) { return take_codec(v, r.video.action, r.video.codec); },
         [](const Recipe& r) { return given_codec(r.video.action, r.video.codec); },
         "a codec, `encode` for the usual one, `copy` or `none`",
         "copied where that may be, else the first that the container and the target take"},
        WHOLE("video", "quality", 0, 100, video.quality, int, r.video.quality ? json(*r.video.quality) : json(),
              "constant, on the encoder’s own scale: H.264 0 to 51, VP8, VP9 and AV1 0 to 63, less is better; Theora 0 "
              "to "
              "63, Motion JPEG 1 to 100, more is better",
              "21, 20, 32, 35; 48, 85"),
        WHOLE("video", "bitrate", 1000, 1'000'000'000, video.bitrate, std::uint32_t,
              r.video.bitrate ? json(*r.video.bitrate) : json(), "bits per second", "constant quality"),
        WHOLE("video", "passes", 1, 2, video.passes, int, given_number(r.video.passes, 1),
              "1, or 2 where the encoder can (H.264, VP8, VP9, Theora) and a bitrate is aimed at", "1"),
        WHOLE("video", "width", 2, 8192, video.width, int, given_number(r.video.width, 0),
              "as shown; one of width and height follows from the other", "as it is"),
        WHOLE("video", "height", 2, 8192, video.height, int, given_number(r.video.height, 0), "as shown", "as it is"),
        NAMED("video", "shape", shape_names, "must be keep, crop, pad or bake", video.shape,
              "`keep`: all of it, in its own shape, at most so large, and upright where the container can’t say that "
              "it is turned; `crop`: fills the size and cuts; `pad`: fills it up with black; `bake`: upright, with "
              "square pixels",
              "`keep`"),
        NAMED("video", "matrix", matrix_names, "must be keep, bt601, bt709 or bt2020", video.matrix,
              "how colours are written in numbers: converted to the matrix of ITU-R `bt601`, `bt709` or `bt2020`, or "
              "`keep`",
              "`keep`"),
        NAMED("video", "range", range_names, "must be keep, limited or full", video.range,
              "`limited` numbers (black at 16, white at 235), `full` ones (0 to 255), or `keep`",
              "`keep`, limited where a target takes no others"),
        {"video", "rate", rate, a_rate, [](const json& v, Recipe& r) { return take_rate(v, r.video.rate); },
         [](const Recipe& r) { return given_rate(r.video.rate); },
         "made constant: at every moment the picture that was seen then", "as it is; a varying one stays so"},
        {"video", "most_rate", rate, a_rate, [](const json& v, Recipe& r) { return take_rate(v, r.video.most_rate); },
         [](const Recipe& r) { return given_rate(r.video.most_rate); },
         "made constant at this rate, where there are more pictures than that", "as many as there are"},
        {"video", "keyframe_ns", whole(1, 600'000'000'000), must_be_whole(1, 600'000'000'000),
         [](const json& v, Recipe& r) { return r.video.keyframes = Time{v.get<std::int64_t>()}, true; },
         [](const Recipe& r) { return given_number(r.video.keyframes.ns, Time(2_s).ns); }, "at most so far apart",
         "2 s"},
        {"video", "effort", one_of(effort_names), "must be quick, middling or thorough",
         [](const json& v, Recipe& r) {
             auto n = place_in(effort_names, v);
             if (n) r.video.effort = static_cast<int>(*n);
             return n.has_value();
         },
         [](const Recipe& r) {
             return r.video.effort == 1 ? json() : json(effort_names[static_cast<std::size_t>(r.video.effort)]);
         },
         "how long the encoder looks for better: `quick`, `middling` or `thorough`", "`middling`"},
        {"audio", "codec", codec_names(false), "must be a codec that is known here, encode, copy or none",
         [](const json& v, Recipe& r) { return take_codec(v, r.audio.action, r.audio.codec); },
         [](const Recipe& r) { return given_codec(r.audio.action, r.audio.codec); },
         "a codec, `encode` for the usual one, `copy` or `none`",
         "copied where that may be, else the first that the container and the target take"},
        WHOLE("audio", "bitrate", 6000, 1'000'000, audio.bitrate, std::uint32_t,
              r.audio.bitrate ? json(*r.audio.bitrate) : json(), "bits per second", "64,000 a channel"),
        WHOLE("audio", "channels", 1, 8, audio.channels, int, given_number(r.audio.channels, 0),
              "mixed as ITU-R BS.775 has it", "as many as there are and the codec takes"),
        WHOLE("audio", "sample_rate", 8000, 192'000, audio.rate, int, given_number(r.audio.rate, 0), "samples a second",
              "as it is, or the codec’s next higher one"),
        {"audio",
         "loudness",
         {{"type", "number"}, {"minimum", -70}, {"maximum", 0}},
         "must be a number of LUFS from -70 to 0",
         [](const json& v, Recipe& r) {
             if (!v.is_number() || v.get<double>() < -70 || v.get<double>() > 0) return false;
             r.audio.loudness = v.get<double>();
             return true;
         },
         [](const Recipe& r) { return r.audio.loudness ? json(*r.audio.loudness) : json(); },
         "LUFS (EBU R 128), measured first; true peaks stay under -1 dB",
         "as it is"}};
    return all;
}
#undef WHOLE

bool fits(const json& schema, const json& v) {
    if (schema.value("type", "") != "integer") return true;
    bool number = v.is_number_integer() && (!v.is_number_unsigned() || v.get<std::uint64_t>() <= INT64_MAX);
    return number && v.get<std::int64_t>() >= schema["minimum"].get<std::int64_t>() &&
           v.get<std::int64_t>() <= schema["maximum"].get<std::int64_t>();
}
}  // namespace

json to_json(const Recipe& r) {
    json j{{"video", json::object()}, {"audio", json::object()}};
    for (auto& m : members())
        if (auto v = m.give(r); !v.is_null()) (m.group.empty() ? j : j[std::string(m.group)])[std::string(m.name)] = v;
    return j;
}

json recipe_schema() {
    auto object = [] {
        return json{{"type", "object"}, {"properties", json::object()}, {"additionalProperties", false}};
    };
    auto schema = object();
    for (auto& m : members()) {
        auto* in = &schema["properties"];
        if (!m.group.empty()) {
            auto& group = (*in)[std::string(m.group)];
            if (group.is_null()) group = object();
            in = &group["properties"];
        }
        (*in)[std::string(m.name)] = m.schema;
    }
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema";
    schema["title"] = "Ruedo recipe";
    return schema;
}

std::string recipe_page() {
    std::string page = R"(# Recipes

What is to become of a clip, as JSON; [the schema](recipe.schema.json) is exact and, like this page, made from the
code. The options of `ruedo convert` say the same, and come on top of a recipe that is given with `--recipe`. What
is left out is chosen: what may stay as it is is copied bit for bit, and the rest is encoded into the first codec
that the container (and the target) takes. What is not known in a recipe is refused, since it is carried out as a
whole.

```json
{
  "wrapper": "mp4",
  "video": {"codec": "h264", "quality": 21, "width": 1280, "shape": "keep", "rate": "30/1", "keyframe_ns": 2000000000},
  "audio": {"codec": "aac", "bitrate": 128000, "channels": 2, "loudness": -23},
  "from_ns": 2000000000, "to_ns": 9500000000
}
```

| member | values | without it |
|---|---|---|
)";
    for (auto& m : members()) {
        std::string values(m.values);
        if (m.schema.contains("enum") && m.schema["enum"].size() > 4) {
            std::string names;
            for (auto& n : m.schema["enum"])
                names += fmt::format("{}`{}`", names.empty() ? "" : ", ", n.get<std::string>());
            values += ": " + names;
        }
        page += fmt::format("| `{}{}{}` | {} | {} |\n", m.group, m.group.empty() ? "" : "/", m.name, values, m.without);
    }
    page += R"(
## Containers

| name | extensions | pictures | sound | captions |
|---|---|---|---|---|
)";
    for (auto& w : container_formats()) {
        auto list = [](auto& of, auto say) {
            std::string all;
            for (auto& x : of) all += fmt::format("{}{}", all.empty() ? "" : ", ", say(x));
            return all.empty() ? std::string("–") : all;
        };
        auto title = [](Codec c) { return codec_title(c); };
        page += fmt::format("| `{}` | {} | {} | {} | {} |\n", w.name,
                            list(w.extensions, [](auto e) { return fmt::format("`.{}`", e); }), list(w.video, title),
                            list(w.audio, title), list(w.text, title));
    }
    return page + R"(
A source that breaks off gives a shorter clip with the finding `truncated`. The file appears whole under its name,
or not at all, and never in the place of what is read. Sound keeps its channels and its rate as far as its codec
goes; where fewer channels are left they are mixed as ITU-R BS.775 has it, and kept under full scale. Captions
become WebVTT or SubRip, as the container has it. Bare AAC can’t say that its encoder begins early, and a transport
stream can’t either. The numbers of VP8 and Theora always mean colours of BT.601 in limited range, those of Motion JPEG
the same in full range: what means others is converted, and the finding `colours-converted` says so.
)";
}

Result<Recipe> recipe_from_json(const json& j, std::string_view subject) {
    Recipe r;
    auto wrong = [&](const std::string& at, std::string_view what) {
        return fail(ErrorCode::malformed, fmt::format("In “{}”, {} {}.", subject, at, what),
                    "Put it right in a text editor.");
    };
    auto read = [&](const json& of, const std::string& group) -> Status {
        auto at = group.empty() ? std::string("/") : "/" + group;
        if (!of.is_object()) return wrong(at, "must be an object");
        for (auto& [key, value] : of.items()) {
            auto place = group.empty() ? "/" + key : at + "/" + key;
            auto& all = members();
            auto m = std::find_if(all.begin(), all.end(), [&](auto& x) { return x.group == group && x.name == key; });
            if (m == all.end()) {
                bool is_group =
                    group.empty() && std::any_of(all.begin(), all.end(), [&](auto& x) { return x.group == key; });
                if (is_group) continue;
                return wrong(place, "is not known");
            }
            if (!fits(m->schema, value) || !m->take(value, r)) return wrong(place, m->must);
        }
        return {};
    };
    RUEDO_TRY_DO(read(j, ""));
    for (auto group : {"video", "audio"})
        if (j.contains(group)) RUEDO_TRY_DO(read(j[group], group));
    if (r.to && *r.to <= r.from) return wrong("/to_ns", "must lie after from_ns");
    return r;
}

}  // namespace ruedo
