// SPDX-License-Identifier: Apache-2.0
#include "convert/recipe.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "playback/playback.h"

namespace ruedo {
namespace {
using nlohmann::json;
using Do = Recipe::Do;
using Shape = Recipe::Shape;
constexpr std::int64_t longest_recipe = 1'000'000'000'000'000'000;
constexpr std::array<std::string_view, 4> shape_names{"keep", "crop", "pad", "bake"};

const std::array wrapper_rows{
    Wrapper{"mp4",
            "MP4",
            {"mp4", "m4v", "m4a"},
            {Codec::h264, Codec::vp9, Codec::hevc, Codec::av1, Codec::mpeg4},
            {Codec::aac, Codec::opus, Codec::ac3}},
    Wrapper{"webm", "WebM", {"webm"}, {Codec::vp9, Codec::vp8, Codec::av1}, {Codec::opus, Codec::vorbis}},
};

/// Codec as documents say it, or what else is to be done.
std::string_view said(Do action, const std::optional<Codec>& codec) {
    if (action == Do::copy) return "copy";
    if (action == Do::none) return "none";
    return codec ? codec_name(*codec) : "";
}
int even(double v) { return std::max(2, static_cast<int>(std::lround(v / 2)) * 2); }
}  // namespace

bool Wrapper::takes(Codec codec) const {
    return std::find(video.begin(), video.end(), codec) != video.end() ||
           std::find(audio.begin(), audio.end(), codec) != audio.end();
}
std::span<const Wrapper> wrappers() { return wrapper_rows; }
const Wrapper* wrapper_of_extension(std::string_view extension) {
    for (auto& w : wrapper_rows)
        if (std::find(w.extensions.begin(), w.extensions.end(), extension) != w.extensions.end()) return &w;
    return nullptr;
}

json to_json(const Recipe& r) {
    json video{{"keyframe_ns", r.video.keyframes.ns},
               {"shape", shape_names.at(static_cast<std::size_t>(r.video.shape))}};
    if (auto s = said(r.video.action, r.video.codec); !s.empty()) video["codec"] = s;
    if (r.video.quality) video["quality"] = *r.video.quality;
    if (r.video.bitrate) video["bitrate"] = *r.video.bitrate;
    if (r.video.passes != 1) video["passes"] = r.video.passes;
    if (r.video.width) video["width"] = r.video.width;
    if (r.video.height) video["height"] = r.video.height;
    if (r.video.rate) video["rate"] = fmt::format("{}/{}", r.video.rate->num, r.video.rate->den);
    json audio = json::object();
    if (auto s = said(r.audio.action, r.audio.codec); !s.empty()) audio["codec"] = s;
    if (r.audio.bitrate) audio["bitrate"] = *r.audio.bitrate;
    if (r.audio.loudness) audio["loudness"] = *r.audio.loudness;
    json j{{"video", std::move(video)}, {"audio", std::move(audio)}};
    if (!r.wrapper.empty()) j["wrapper"] = r.wrapper;
    if (r.from.ns) j["from_ns"] = r.from.ns;
    if (r.to) j["to_ns"] = r.to->ns;
    if (r.fit_bytes) j["fit_bytes"] = *r.fit_bytes;
    return j;
}

json recipe_schema() {
    auto whole = [](std::int64_t low, std::int64_t high) {
        return json{{"type", "integer"}, {"minimum", low}, {"maximum", high}};
    };
    json names = json::array(), pictures{"copy", "none"}, sounds{"copy", "none"};
    for (auto& w : wrapper_rows) {
        names.push_back(w.name);
        for (auto c : w.video)
            if (auto name = json(codec_name(c)); std::find(pictures.begin(), pictures.end(), name) == pictures.end())
                pictures.push_back(name);
        for (auto c : w.audio) sounds.push_back(codec_name(c));
    }
    json video{{"codec", {{"enum", pictures}}},
               {"quality", whole(0, 63)},
               {"bitrate", whole(1000, 1'000'000'000)},
               {"passes", whole(1, 2)},
               {"width", whole(2, 8192)},
               {"height", whole(2, 8192)},
               {"shape", {{"enum", shape_names}}},
               {"rate", {{"type", "string"}, {"pattern", "^[0-9]+([./][0-9]+)?$"}}},
               {"keyframe_ns", whole(1, 600'000'000'000)}};
    json audio{{"codec", {{"enum", sounds}}},
               {"bitrate", whole(6000, 1'000'000)},
               {"loudness", {{"type", "number"}, {"minimum", -70}, {"maximum", 0}}}};
    auto object = [](json properties) {
        return json{{"type", "object"}, {"properties", std::move(properties)}, {"additionalProperties", false}};
    };
    auto schema = object({{"wrapper", {{"enum", names}}},
                          {"from_ns", whole(0, longest_recipe)},
                          {"to_ns", whole(1, longest_recipe)},
                          {"fit_bytes", whole(1000, INT64_MAX)},
                          {"video", object(std::move(video))},
                          {"audio", object(std::move(audio))}});
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema";
    schema["title"] = "Ruedo recipe";
    return schema;
}

Result<Recipe> recipe_from_json(const json& j, std::string_view subject) {
    struct Wrong {
        std::string at, what;
    };
    Recipe r;
    auto whole = [](const json& v, const std::string& at, std::int64_t low, std::int64_t high) {
        bool fits = v.is_number_integer() && (!v.is_number_unsigned() || v.get<std::uint64_t>() <= INT64_MAX);
        if (!fits || v.get<std::int64_t>() < low || v.get<std::int64_t>() > high)
            throw Wrong{at, fmt::format("must be a whole number from {} to {}", low, high)};
        return v.get<std::int64_t>();
    };
    auto words = [](const json& v, const std::string& at) -> const std::string& {
        if (!v.is_string()) throw Wrong{at, "must be a text"};
        return v.get_ref<const std::string&>();
    };
    auto codec = [&](const json& v, const std::string& at, Do& action, std::optional<Codec>& into) {
        auto& name = words(v, at);
        if (name == "copy") return void(action = Do::copy);
        if (name == "none") return void(action = Do::none);
        auto found = codec_from_name(name);
        if (found == Codec::unknown) throw Wrong{at, fmt::format("names “{}”, which is no codec", name)};
        action = Do::encode, into = found;
    };
    auto members = [](const json& of, const std::string& at, auto take) {
        if (!of.is_object()) throw Wrong{at.empty() ? "/" : at, "must be an object"};
        for (auto& [key, value] : of.items())
            if (!take(key, value, at + "/" + key)) throw Wrong{at + "/" + key, "is not known"};
    };
    try {
        members(j, "", [&](auto& key, auto& v, auto at) {
            if (key == "wrapper")
                r.wrapper = words(v, at);
            else if (key == "from_ns")
                r.from = Time{whole(v, at, 0, longest_recipe)};
            else if (key == "to_ns")
                r.to = Time{whole(v, at, 1, longest_recipe)};
            else if (key == "fit_bytes")
                r.fit_bytes = static_cast<std::uint64_t>(whole(v, at, 1000, INT64_MAX));
            else if (key == "video")
                members(v, at, [&](auto& k, auto& value, auto where) {
                    auto& o = r.video;
                    if (k == "codec")
                        codec(value, where, o.action, o.codec);
                    else if (k == "quality")
                        o.quality = static_cast<int>(whole(value, where, 0, 63));
                    else if (k == "bitrate")
                        o.bitrate = static_cast<std::uint32_t>(whole(value, where, 1000, 1'000'000'000));
                    else if (k == "passes")
                        o.passes = static_cast<int>(whole(value, where, 1, 2));
                    else if (k == "width")
                        o.width = static_cast<int>(whole(value, where, 2, 8192));
                    else if (k == "height")
                        o.height = static_cast<int>(whole(value, where, 2, 8192));
                    else if (k == "keyframe_ns")
                        o.keyframes = Time{whole(value, where, 1, 600'000'000'000)};
                    else if (k == "shape") {
                        auto it = std::find(shape_names.begin(), shape_names.end(), words(value, where));
                        if (it == shape_names.end()) throw Wrong{where, "must be keep, crop, pad or bake"};
                        o.shape = static_cast<Shape>(it - shape_names.begin());
                    } else if (k == "rate") {
                        auto rate = parse_rational(words(value, where));
                        if (!rate || rate->num < 1 || rate->num > 1000 * rate->den)
                            throw Wrong{where, "must be a rate such as “30” or “30000/1001”, at most 1000"};
                        o.rate = *rate;
                    } else
                        return false;
                    return true;
                });
            else if (key == "audio")
                members(v, at, [&](auto& k, auto& value, auto where) {
                    auto& o = r.audio;
                    if (k == "codec")
                        codec(value, where, o.action, o.codec);
                    else if (k == "bitrate")
                        o.bitrate = static_cast<std::uint32_t>(whole(value, where, 6000, 1'000'000));
                    else if (k == "loudness") {
                        if (!value.is_number() || value.template get<double>() < -70 ||
                            value.template get<double>() > 0)
                            throw Wrong{where, "must be a number of LUFS from -70 to 0"};
                        o.loudness = value.template get<double>();
                    } else
                        return false;
                    return true;
                });
            else
                return false;
            return true;
        });
        if (r.to && *r.to <= r.from) throw Wrong{"/to_ns", "must lie after from_ns"};
    } catch (const Wrong& w) {
        return fail(Code::malformed, fmt::format("In “{}”, {} {}.", subject, w.at, w.what),
                    "Put it right in a text editor.");
    }
    return r;
}

namespace {
/// What of a picture is taken, and how large it becomes.
void plan_shape(Plan& p, const Recipe::Video& wanted, int most_width, int most_height) {
    auto& from = p.video->video;
    auto& r = p.reshape;
    r.width = from.width, r.height = from.height;
    r.to_width = from.width, r.to_height = from.height;
    p.format = from;
    bool sized = wanted.width || wanted.height || most_width || most_height;
    bool baked = wanted.shape == Shape::bake;
    if (!sized && !baked) {
        r.canvas_width = r.to_width, r.canvas_height = r.to_height;
        return;
    }
    double shown_width = from.display_width(), shown_height = from.display_height();
    double width = wanted.width, height = wanted.height;
    bool exactly = width > 0 && height > 0 && (wanted.shape == Shape::crop || wanted.shape == Shape::pad);
    if (width > 0 && height <= 0) height = width * shown_height / shown_width;
    if (height > 0 && width <= 0) width = height * shown_width / shown_height;
    if (width <= 0) width = shown_width, height = shown_height;
    // What a target takes at most.
    if (most_width > 0 && most_height > 0) {
        double less = std::min({1.0, most_width / width, most_height / height});
        width *= less, height *= less;
    }
    bool aside = from.rotation % 180 != 0;
    if (!exactly) {
        auto scale = std::min(width / shown_width, height / shown_height);
        if (wanted.shape != Shape::bake && !wanted.width && !wanted.height) scale = std::min(scale, 1.0);
        width = shown_width * scale, height = shown_height * scale;
        if (wanted.shape == Shape::keep) {
            // Turning and the pixels' shape stay what they are; only their number changes.
            r.to_width = even(from.width * scale), r.to_height = even(from.height * scale);
            r.canvas_width = r.to_width, r.canvas_height = r.to_height;
            p.format.width = r.to_width, p.format.height = r.to_height;
            return;
        }
    }
    int whole_width = even(width), whole_height = even(height);
    p.format.pixel_aspect = {}, p.format.rotation = 0;
    p.format.width = r.canvas_width = whole_width, p.format.height = r.canvas_height = whole_height;
    r.turn = from.rotation;
    int part_width = whole_width, part_height = whole_height;  // upright
    if (exactly && wanted.shape == Shape::pad) {
        auto scale = std::min(whole_width / shown_width, whole_height / shown_height);
        part_width = std::min(whole_width, even(shown_width * scale));
        part_height = std::min(whole_height, even(shown_height * scale));
        r.left = (whole_width - part_width) / 4 * 2, r.top = (whole_height - part_height) / 4 * 2;
    } else if (exactly) {
        auto scale = std::max(whole_width / shown_width, whole_height / shown_height);
        // So much of it is seen, in its own pixels before turning.
        double across = std::min(1.0, whole_width / scale / shown_width),
               down = std::min(1.0, whole_height / scale / shown_height);
        if (aside) std::swap(across, down);
        r.width = from.width * across, r.height = from.height * down;
        r.x = (from.width - r.width) / 2, r.y = (from.height - r.height) / 2;
    }
    r.to_width = aside ? part_height : part_width, r.to_height = aside ? part_width : part_height;
}

const CodecRule* rule_of(const std::vector<CodecRule>& rules, Codec codec) {
    auto it = std::find_if(rules.begin(), rules.end(), [&](auto& r) { return r.codec == codec; });
    return it == rules.end() ? nullptr : &*it;
}
}  // namespace

Result<Plan> plan_for(const ClipInfo& info, const Recipe& recipe, const Wrapper& wrapper, CodecRegistry& codecs,
                      const Target* target, const std::function<bool(const Track&, Time)>& cuts_clean) {
    Plan p;
    p.wrapper = &wrapper;
    if (target &&
        std::find(target->containers.begin(), target->containers.end(), wrapper.name) == target->containers.end())
        return fail(Code::refused, fmt::format("{} does not take {}.", target->title, wrapper.title),
                    fmt::format("Name the file .{}, or choose another target.",
                                target->containers.empty() ? "mp4" : target->containers.front()));
    auto note = [&](std::string code, std::string sentence) {
        p.why.push_back({std::move(code), std::move(sentence), {}});
    };
    TRY(auto tracks, select_tracks(info, codecs));
    p.video = recipe.video.action == Do::none ? nullptr : tracks.video;
    p.audio = recipe.audio.action == Do::none ? nullptr : tracks.audio;
    if (!p.video && !p.audio)
        return fail(Code::empty, fmt::format("Nothing of “{}” would be left.", info.name),
                    "Keep its pictures or its sound.");
    auto end = recipe.to.value_or(info.duration_known ? info.duration : Time::max());
    if (info.duration_known && recipe.from >= info.duration)
        return fail(Code::refused, fmt::format("“{}” is over at {}.", info.name, format_time(info.duration)),
                    "Begin earlier.");
    p.length = info.duration_known ? std::min(end, info.duration) - recipe.from
               : recipe.to         ? *recipe.to - recipe.from
                                   : Time{};
    // The first codec of the wrapper that the target takes and that can be written here.
    auto choose = [&](const std::vector<Codec>& of, const std::vector<CodecRule>* rules,
                      const std::optional<Codec>& wanted) -> Result<Codec> {
        if (wanted) {
            if (!wrapper.takes(*wanted))
                return fail(Code::refused, fmt::format("{} can’t be put into {}.", codec_title(*wanted), wrapper.title),
                            "Choose another codec, or another name for what is made.");
            if (!codecs.encodes(*wanted))
                return fail(Code::codec_missing, fmt::format("{} can’t be encoded here.", codec_title(*wanted)),
                            "Choose another codec.");
            return *wanted;
        }
        for (auto c : of)
            if (codecs.encodes(c) && (!rules || rule_of(*rules, c))) return c;
        return fail(Code::refused,
                    fmt::format("Nothing that can be encoded here goes into {} and is taken there.", wrapper.title),
                    "Choose another target, or another name for what is made.");
    };
    if (p.video) {
        auto& v = recipe.video;
        auto* rule = target ? rule_of(target->video, p.video->codec) : nullptr;
        int most_width = rule ? rule->max_width : 0, most_height = rule ? rule->max_height : 0;
        plan_shape(p, v, 0, 0);
        std::string reason;
        bool reshaped = p.reshape.to_width != p.video->video.width || p.reshape.to_height != p.video->video.height ||
                        p.reshape.turn || p.reshape.canvas_width != p.reshape.to_width ||
                        p.reshape.width != p.video->video.width || p.reshape.height != p.video->video.height;
        if (v.action == Do::encode)
            reason = "it was asked for";
        else if (!wrapper.takes(p.video->codec))
            reason = fmt::format("{} does not go into {}", codec_title(p.video->codec), wrapper.title);
        else if (target && !rule)
            reason = fmt::format("{} does not take {}", target->title, codec_title(p.video->codec));
        else if (rule &&
                 ((most_width && std::max(p.format.width, p.format.height) > std::max(most_width, most_height)) ||
                  (most_height && std::min(p.format.width, p.format.height) > std::min(most_width, most_height))))
            reason = fmt::format("{} takes at most {} x {}", target->title, most_width, most_height);
        else if (reshaped)
            reason = "its size or shape changes";
        else if (v.quality || v.bitrate || recipe.fit_bytes || v.rate)
            reason = "its rate changes";
        else if (recipe.from.ns > 0)
            reason = "it begins inside the clip";
        else if (recipe.to && !(cuts_clean && cuts_clean(*p.video, *recipe.to)))
            reason = "it ends among pictures that need later ones";
        else if (p.video->config.empty() && p.video->codec != Codec::vp8 && p.video->codec != Codec::vp9)
            reason = "its settings stand in the stream";
        else if (p.video->codec == Codec::vp9 && wrapper.name == "mp4" && p.video->config.empty())
            reason = "its settings stand in the stream";
        p.encode_video = !reason.empty();
        if (p.encode_video && v.action == Do::copy)
            return fail(Code::refused, fmt::format("The pictures can’t be copied: {}.", reason),
                        "Let them be encoded, or leave the rest as it is.");
        if (p.encode_video) {
            TRY(p.video_codec, choose(wrapper.video, target ? &target->video : nullptr, v.codec));
            if (auto* own = target ? rule_of(target->video, p.video_codec) : nullptr; own && own->max_width) {
                // Either way round.
                bool upright = p.video->video.display_height() > p.video->video.display_width();
                int w = own->max_width, h = own->max_height ? own->max_height : own->max_width;
                if (upright == (w > h)) std::swap(w, h);
                plan_shape(p, v, w, h);
            }
            // Encoders count in pairs.
            if (p.video_codec == Codec::h264 && (p.format.width % 2 || p.format.height % 2) &&
                p.reshape.canvas_width == p.format.width) {
                p.reshape.width -= p.format.width % 2, p.reshape.height -= p.format.height % 2;
                p.reshape.to_width -= p.format.width % 2, p.reshape.to_height -= p.format.height % 2;
                p.format.width -= p.format.width % 2, p.format.height -= p.format.height % 2;
                p.reshape.canvas_width = p.format.width, p.reshape.canvas_height = p.format.height;
                note("odd-size", "The last column or row of its odd size is cut off.");
            }
            note("pictures-encoded", fmt::format("The pictures are encoded anew: {}.", reason));
        } else {
            p.video_codec = p.video->codec;
        }
    }
    if (p.audio) {
        auto& a = recipe.audio;
        auto* rule = target ? rule_of(target->audio, p.audio->codec) : nullptr;
        std::string reason;
        if (a.action == Do::encode)
            reason = "it was asked for";
        else if (!wrapper.takes(p.audio->codec))
            reason = fmt::format("{} does not go into {}", codec_title(p.audio->codec), wrapper.title);
        else if (target && !rule)
            reason = fmt::format("{} does not take {}", target->title, codec_title(p.audio->codec));
        else if (rule && rule->max_channels && p.audio->audio.channels > rule->max_channels)
            reason = fmt::format("{} takes at most {} channels", target->title, rule->max_channels);
        else if (a.bitrate || a.loudness)
            reason = "its rate or loudness changes";
        else if (recipe.from.ns > 0 || recipe.to)
            reason = "it is cut";
        else if (p.audio->config.empty())
            reason = "its settings stand in the stream";
        p.encode_audio = !reason.empty();
        if (p.encode_audio && a.action == Do::copy)
            return fail(Code::refused, fmt::format("The sound can’t be copied: {}.", reason),
                        "Let it be encoded, or leave the rest as it is.");
        if (p.encode_audio) {
            TRY(p.audio_codec, choose(wrapper.audio, target ? &target->audio : nullptr, a.codec));
            note("sound-encoded", fmt::format("The sound is encoded anew: {}.", reason));
        } else {
            p.audio_codec = p.audio->codec;
        }
    }
    return p;
}

}  // namespace ruedo
