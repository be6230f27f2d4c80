// SPDX-License-Identifier: Apache-2.0
#include "player/player.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <nlohmann/json.hpp>

#include "capture/camera.h"
#include "container/container.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;

namespace {
constexpr std::array<std::string_view, 3> mount_names{"window", "handset-upright", "handset-sideways"};
constexpr std::array<std::string_view, 4> queue_names{"off", "once", "repeat-one", "repeat-all"};

/// A mistake in a document, at a JSON pointer.
struct Mistake {
    std::string at, what;
};

template <class E, std::size_t N>
E one_of(const json& j, const std::string& at, const std::array<std::string_view, N>& names) {
    if (j.is_string())
        for (std::size_t i = 0; i < N; ++i)
            if (names[i] == j.get_ref<const std::string&>()) return static_cast<E>(i);
    std::string list;
    for (auto n : names) list += fmt::format("{}“{}”", list.empty() ? "" : ", ", n);
    throw Mistake{at, "must be one of " + list};
}
std::string text(const json& j, const std::string& at) {
    if (!j.is_string() || j.get_ref<const std::string&>().size() > 4096) throw Mistake{at, "must be a text"};
    return j.get<std::string>();
}
Time time(const json& j, const std::string& at) {
    if (!j.is_number_integer() || j.get<std::int64_t>() < 0)
        throw Mistake{at, "must be a whole number of nanoseconds, 0 or more"};
    return {j.get<std::int64_t>()};
}
double fraction(const json& j, const std::string& at) {
    if (!j.is_number() || j.get<double>() < 0 || j.get<double>() > 1) throw Mistake{at, "must be a number from 0 to 1"};
    return j.get<double>();
}
/// Visits the members of an object; an unknown one is a mistake, so that a typing slip is noticed.
template <class F>
void members(const json& j, const std::string& at, F&& visit) {
    if (!j.is_object()) throw Mistake{at.empty() ? "/" : at, "must be an object"};
    for (auto& [key, value] : j.items())
        if (!visit(key, value, at + "/" + key)) throw Mistake{at + "/" + key, "is not known"};
}

json start_json(const Start& s) {
    if (s.how == Start::How::delay) return {{"after_ns", s.delay.ns}};
    return s.how == Start::How::play ? "play" : "hold";
}
Start start_from(const json& j, const std::string& at) {
    Start s;
    if (j.is_object()) {
        s.how = Start::How::delay;
        members(j, at, [&](auto& k, auto& v, auto p) {
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
        members(j, at, [&](auto& k, auto& v, auto p) {
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
json controls_json(const std::vector<Control>& list) {
    json j = json::array();
    for (auto c : list) j.push_back(std::string(control_name(c)));
    return j;
}
std::vector<Control> controls_from(const json& j, const std::string& at) {
    if (!j.is_array() || j.size() > control_kinds().size()) throw Mistake{at, "must be a short list of controls"};
    std::vector<Control> list;
    for (std::size_t i = 0; i < j.size(); ++i) {
        auto* kind = j[i].is_string() ? find_control(j[i].get_ref<const std::string&>()) : nullptr;
        std::string names;
        for (auto& k : control_kinds()) names += fmt::format("{}“{}”", names.empty() ? "" : ", ", k.name);
        if (!kind) throw Mistake{fmt::format("{}/{}", at, i), "must be one of " + names};
        list.push_back(kind->control);
    }
    return list;
}
SourceSpec source_from(const json& j, const std::string& at) {
    SourceSpec s;
    members(j, at, [&](auto& k, auto& v, auto p) {
        if (k == "poster")
            s.poster = text(v, p);
        else if (k == "name")
            s.name = text(v, p);
        else if (k == "file")
            s.file = text(v, p);
        else if (k == "sound_language")
            s.sound_language = text(v, p);
        else if (k == "text_language")
            s.text_language = text(v, p);
        else if (k == "captions") {
            if (!v.is_array() || v.size() > 100) throw Mistake{p, "must be a list of files"};
            for (std::size_t i = 0; i < v.size(); ++i) s.captions.push_back(text(v[i], fmt::format("{}/{}", p, i)));
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
}  // namespace

std::string_view mount_name(Mount mount) { return mount_names.at(static_cast<std::size_t>(mount)); }
std::string_view queue_name(Queue queue) { return queue_names.at(static_cast<std::size_t>(queue)); }
bool SourceSpec::operator==(const SourceSpec& o) const {
    return name == o.name && file == o.file && start.how == o.start.how && start.delay == o.start.delay &&
           loop == o.loop && fit == o.fit && align_x == o.align_x && align_y == o.align_y && captions == o.captions &&
           poster == o.poster && sound_language == o.sound_language && text_language == o.text_language;
}
bool PlayerDocument::operator==(const PlayerDocument& o) const {
    return app_name == o.app_name && sources == o.sources && surround == o.surround && skip == o.skip &&
           hide_after == o.hide_after && volume == o.volume && open_within == o.open_within && bar == o.bar &&
           queue == o.queue && mount == o.mount && target == o.target;
}

json to_json(const PlayerDocument& d) {
    json sources = json::array();
    for (auto& s : d.sources) {
        sources.push_back({{"name", s.name},
                           {"file", s.file},
                           {"start", start_json(s.start)},
                           {"loop", loop_json(s.loop)},
                           {"fit", std::string(fit_name(s.fit))},
                           {"align", {s.align_x, s.align_y}}});
        // What is seldom there is written only where it is.
        if (!s.poster.empty()) sources.back()["poster"] = s.poster;
        if (!s.captions.empty()) sources.back()["captions"] = s.captions;
        if (!s.sound_language.empty()) sources.back()["sound_language"] = s.sound_language;
        if (!s.text_language.empty()) sources.back()["text_language"] = s.text_language;
    }
    return {{"ruedo", PlayerDocument::current_version},
            {"app", d.app_name},
            {"sources", sources},
            {"player",
             {{"surround", d.surround},
              {"skip_ns", d.skip.ns},
              {"hide_after_ns", d.hide_after.ns},
              {"volume", d.volume},
              {"open_within_ns", d.open_within.ns},
              {"queue", std::string(queue_name(d.queue))},
              {"bar",
               {{"start", controls_json(d.bar.start)},
                {"middle", controls_json(d.bar.middle)},
                {"end", controls_json(d.bar.end)}}}}},
            {"mount", std::string(mount_name(d.mount))},
            {"target", d.target}};
}

Result<PlayerDocument> document_from_json(const json& j, std::string_view subject) {
    try {
        if (!j.is_object() || !j.contains("ruedo") || !j["ruedo"].is_number_integer())
            return fail(Code::malformed, fmt::format("“{}” is not a Ruedo document: it has no format number.", subject),
                        "Choose a .ruedo file.");
        // Compared as it stands: a number that does not fit must not turn into one that does.
        auto& number = j["ruedo"];
        bool newer = number.is_number_unsigned() ? number.get<std::uint64_t>() > PlayerDocument::current_version
                                                 : number.get<std::int64_t>() > PlayerDocument::current_version;
        if (newer)
            return fail(Code::too_new,
                        fmt::format("“{}” was written by a newer Ruedo (format {}; this one reads up to {}).", subject,
                                    j["ruedo"].dump(), PlayerDocument::current_version),
                        "Update Ruedo.");
        if (number < 1)
            return fail(Code::malformed,
                        fmt::format("“{}” states format {}, which never was one.", subject, j["ruedo"].dump()),
                        "Choose a .ruedo file.");
        PlayerDocument d;
        members(j, "", [&](auto& k, auto& v, auto p) {
            if (k == "ruedo") return true;
            if (k == "app")
                d.app_name = text(v, p);
            else if (k == "target")
                d.target = text(v, p);
            else if (k == "mount")
                d.mount = one_of<Mount>(v, p, mount_names);
            else if (k == "sources") {
                if (!v.is_array() || v.size() > 10000) throw Mistake{p, "must be a list"};
                for (std::size_t i = 0; i < v.size(); ++i)
                    d.sources.push_back(source_from(v[i], fmt::format("{}/{}", p, i)));
            } else if (k == "player") {
                members(v, p, [&](auto& pk, auto& pv, auto pp) {
                    if (pk == "surround") {
                        d.surround = text(pv, pp);
                        bool colour = d.surround.size() == 7 && d.surround[0] == '#' &&
                                      std::all_of(d.surround.begin() + 1, d.surround.end(),
                                                  [](unsigned char c) { return std::isxdigit(c); });
                        if (!colour) throw Mistake{pp, "must be a colour such as “#17131A”"};
                    } else if (pk == "skip_ns")
                        d.skip = time(pv, pp);
                    else if (pk == "hide_after_ns")
                        d.hide_after = time(pv, pp);
                    else if (pk == "queue")
                        d.queue = one_of<Queue>(pv, pp, queue_names);
                    else if (pk == "volume")
                        d.volume = fraction(pv, pp);
                    else if (pk == "open_within_ns") {
                        d.open_within = time(pv, pp);
                        if (d.open_within < 1_s || d.open_within > 600_s)
                            throw Mistake{pp, "must be from one second to ten minutes"};
                    } else if (pk == "bar")
                        members(pv, pp, [&](auto& bk, auto& bv, auto bp) {
                            if (bk == "start")
                                d.bar.start = controls_from(bv, bp);
                            else if (bk == "middle")
                                d.bar.middle = controls_from(bv, bp);
                            else if (bk == "end")
                                d.bar.end = controls_from(bv, bp);
                            else
                                return false;
                            return true;
                        });
                    else
                        return false;
                    return true;
                });
            } else
                return false;
            return true;
        });
        return d;
    } catch (const Mistake& m) {
        return fail(Code::malformed, fmt::format("In “{}”, {} {}.", subject, m.at, m.what),
                    "Put it right in a text editor, or open an older copy.");
    }
}

Result<PlayerDocument> load_document(const fs::path& path) {
    TRY(auto bytes, read_file(path, 16 << 20));
    auto name = path.filename().string();
    auto j = json::parse(bytes.begin(), bytes.end(), nullptr, false);
    if (j.is_discarded())
        return fail(Code::malformed, fmt::format("“{}” is not readable as JSON.", name),
                    "Open an older copy, or put it right in a text editor.");
    return document_from_json(j, name);
}

Outcome save_document(const PlayerDocument& document, const fs::path& path) {
    auto dumped = to_json(document).dump(2, ' ', false, json::error_handler_t::replace) + "\n";
    return write_file(path, {reinterpret_cast<const std::uint8_t*>(dumped.data()), dumped.size()});
}

std::string resolve(const std::string& file, const fs::path& folder) {
    fs::path path(file);
    return is_address(file) || path.is_absolute() ? file : (folder / path).lexically_normal().string();
}

OpenOptions open_options(const PlayerDocument& document, const SourceSpec& source, const fs::path& folder) {
    OpenOptions o;
    o.start = source.start;
    o.loop = source.loop;
    o.volume = document.volume;
    o.open_within = document.open_within;
    o.sound_language = source.sound_language;
    o.text_language = source.text_language;
    for (auto& file : source.captions) o.captions.push_back(resolve(file, folder));
    return o;
}

std::string file_stem(std::string_view app_name) {
    std::string stem;
    for (unsigned char c : app_name) {
        if (std::isalnum(c) && c < 128)
            stem += static_cast<char>(std::tolower(c));
        else if (!stem.empty() && stem.back() != '-')
            stem += '-';
    }
    while (!stem.empty() && stem.back() == '-') stem.pop_back();
    // These are names of folders beside the executable.
    if (stem == "media" || stem == "lib") stem += "-app";
    return stem.empty() ? "player" : stem.substr(0, 60);
}

}  // namespace ruedo
