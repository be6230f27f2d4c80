// SPDX-License-Identifier: Apache-2.0
// The sources of a document as JSON, both ways.
#include "player/reading.h"

namespace ruedo::reading {
namespace {
json start_json(const Start& s) {
    if (s.how == Start::How::delay) return {{"after_ns", s.delay.ns}};
    return s.how == Start::How::play ? "play" : "hold";
}
Start start_from(const json& j, const std::string& at) {
    Start s;
    if (j.is_object()) {
        s.how = Start::How::delay;
        members(j, at, nullptr, [&](auto& k, auto& v, auto p) {
            if (k != "after_ns") return false;
            s.delay = time(v, p);
            return true;
        });
    } else {
        s.how = one_of<Start::How>(j, at, std::array<std::string_view, 2>{"hold", "play"});
    }
    return s;
}
json loop_json(const Loop& l) {
    if (l.kind == Loop::Kind::range) return {{"from_ns", l.from.ns}, {"to_ns", l.to.ns}};
    return l.kind == Loop::Kind::all ? "all" : "none";
}
Loop loop_from(const json& j, const std::string& at) {
    Loop l;
    if (j.is_object()) {
        l.kind = Loop::Kind::range;
        members(j, at, nullptr, [&](auto& k, auto& v, auto p) {
            if (k == "from_ns")
                l.from = time(v, p);
            else if (k == "to_ns")
                l.to = time(v, p);
            else
                return false;
            return true;
        });
        if (l.to <= l.from) throw Mistake{at, "must end after it begins"};
    } else {
        l.kind = one_of<Loop::Kind>(j, at, std::array<std::string_view, 2>{"none", "all"});
    }
    return l;
}
PreparedSpec prepared_from(const json& j, const std::string& at) {
    PreparedSpec s;
    members(j, at, nullptr, [&](auto& k, auto& v, auto p) {
        if (k == "target")
            s.target = text(v, p);
        else if (k == "file")
            s.file = text(v, p);
        else if (k == "recipe") {
            auto recipe = recipe_from_json(v, "recipe");
            if (!recipe) throw Mistake{p, "is no recipe: " + recipe.error().sentence};
            s.recipe = *recipe;
        } else
            return false;
        return true;
    });
    if (s.target.empty()) throw Mistake{at, "names no target"};
    return s;
}
}  // namespace

json source_json(const SourceSpec& s) {
    json j{{"name", s.name},
           {"file", s.file},
           {"start", start_json(s.start)},
           {"loop", loop_json(s.loop)},
           {"fit", std::string(fit_name(s.fit))},
           {"align", {s.align_x, s.align_y}}};
    // What is seldom there is written only where it is.
    if (!s.poster.empty()) j["poster"] = s.poster;
    if (s.poster_at) j["poster"] = {{"at_ns", s.poster_at->ns}};
    if (s.no_poster) j["poster"] = false;
    if (!s.captions.empty()) j["captions"] = s.captions;
    if (!s.audio_language.empty()) j["sound_language"] = s.audio_language;
    if (!s.text_language.empty()) j["text_language"] = s.text_language;
    for (auto& p : s.prepared) {
        json one{{"target", p.target}};
        if (p.recipe) one["recipe"] = to_json(*p.recipe);
        if (!p.file.empty()) one["file"] = p.file;
        j["prepared"].push_back(std::move(one));
    }
    return with(std::move(j), s.extra);
}
SourceSpec source_from(const json& j, const std::string& at) {
    SourceSpec s;
    members(j, at, &s.extra, [&](auto& k, auto& v, auto p) {
        if (k == "poster" && v.is_object())
            members(v, p, nullptr, [&](auto& pk, auto& pv, auto pp) {
                if (pk != "at_ns") return false;
                s.poster_at = time(pv, pp);
                return true;
            });
        else if (k == "poster" && v.is_boolean()) {
            if (v == true) throw Mistake{p, "must be a picture, a frame, or false for none"};
            s.no_poster = true;
        } else if (k == "poster")
            s.poster = text(v, p);
        else if (k == "name")
            s.name = text(v, p);
        else if (k == "file")
            s.file = text(v, p);
        else if (k == "sound_language")
            s.audio_language = text(v, p);
        else if (k == "text_language")
            s.text_language = text(v, p);
        else if (k == "captions") {
            auto& files = list(v, p, 100);
            for (std::size_t i = 0; i < files.size(); ++i)
                s.captions.push_back(text(files[i], fmt::format("{}/{}", p, i)));
        } else if (k == "prepared") {
            auto& all = list(v, p, 100);
            for (std::size_t i = 0; i < all.size(); ++i) {
                auto one = prepared_from(all[i], fmt::format("{}/{}", p, i));
                if (s.prepared_for(one.target)) throw Mistake{fmt::format("{}/{}", p, i), "names a target again"};
                s.prepared.push_back(std::move(one));
            }
        } else if (k == "start")
            s.start = start_from(v, p);
        else if (k == "loop")
            s.loop = loop_from(v, p);
        else if (k == "fit")
            s.fit = one_of<Fit>(v, p, std::array<std::string_view, 4>{"contain", "cover", "fill", "none"});
        else if (k == "align") {
            if (!v.is_array() || v.size() != 2) throw Mistake{p, "must be two numbers"};
            s.align_x = fraction(v[0], p + "/0"), s.align_y = fraction(v[1], p + "/1");
        } else
            return false;
        return true;
    });
    if (s.file.empty()) throw Mistake{at, "has no file"};
    return s;
}

}  // namespace ruedo::reading
