// SPDX-License-Identifier: Apache-2.0
// What can be wrong with the document as a text: names nobody reads, and values that look like slips.
#include <nlohmann/json.hpp>
#include <set>

#include "convert/targets.h"
#include "player/reviewed.h"
#include "text/cues.h"

namespace ruedo::reviewed {
namespace {
namespace fs = std::filesystem;
using nlohmann::json;

/// Changes the document as JSON. What cannot be read then is left as it was.
Fix patch(std::string words, std::function<void(json&)> how) {
    return {std::move(words), [how](PlayerDocument& d) {
                auto j = to_json(d);
                how(j);
                if (auto changed = document_from_json(j, "document")) d = *changed;
            }};
}
Fix rename(const std::string& object, const std::string& from, const std::string& to) {
    return patch(fmt::format("Rename it “{}”", to), [=](json& j) {
        auto& o = j[json::json_pointer(object)];
        o[to] = std::exchange(o[from], json());
        o.erase(from);
    });
}
Fix remove(const std::string& object, const std::string& name) {
    return patch(fmt::format("Remove “{}”", name), [=](json& j) { j[json::json_pointer(object)].erase(name); });
}

/// Walks through the document beside its schema.
class Members {
  public:
    struct Hears {
        std::function<void(const std::string& object, const std::string& name, const std::vector<std::string>& known)>
            unknown;
        std::function<void(const std::string& object, const std::string& name, const std::string& kind)> idle;
        std::function<void(const std::string& object, const std::string& name, std::int64_t ns)> time;
    };
    Members(const PlayerDocument& d, Hears hears) : hears_(std::move(hears)) {
        // What a newer format knows is not unknown.
        if (!d.newer()) walk(to_json(d), schema(), "");
    }

  private:
    const json& meant(const json& schema, const json& value) const {
        if (schema.contains("$ref")) return this->schema()["$defs"]["control"];
        if (schema.contains("oneOf"))
            for (auto& form : schema["oneOf"])
                if (form.value("type", "") == "object" && value.is_object()) return form;
        return schema;
    }
    void walk(const json& value, const json& of, const std::string& at) {
        auto& schema = meant(of, value);
        if (value.is_array() && schema.contains("items"))
            for (std::size_t i = 0; i < value.size(); ++i) walk(value[i], schema["items"], fmt::format("{}/{}", at, i));
        if (!value.is_object() || !schema.contains("properties")) return;
        auto& known = schema["properties"];
        for (auto& [name, inner] : value.items()) {
            if (!known.contains(name)) {
                std::vector<std::string> names;
                for (auto& [k, unused] : known.items()) names.push_back(k);
                if (hears_.unknown) hears_.unknown(at, name, names);
            } else if (is_idle(schema, value, name)) {
                if (hears_.idle) hears_.idle(at, name, value.value("kind", ""));
            } else {
                if (hears_.time && name.ends_with("_ns") && inner.is_number_integer())
                    hears_.time(at, name, inner.get<std::int64_t>());
                walk(inner, known[name], at + "/" + pointer_part(name));
            }
        }
    }
    /// A setting that means nothing to controls of this kind.
    static bool is_idle(const json& schema, const json& value, const std::string& name) {
        if (!schema.contains("allOf") || !schema["properties"].contains("kind")) return false;
        auto& limits = schema["allOf"];
        return std::any_of(limits.begin(), limits.end(), [&](auto& limit) {
            return limit.contains("if") && limit["if"]["properties"]["kind"]["const"] == value.value("kind", "") &&
                   limit["then"]["properties"].contains(name);
        });
    }
    static const json& schema() {
        static const json made = project_schema();
        return made;
    }
    Hears hears_;
};

std::string in_words(const std::string& object) {
    return object.empty() ? std::string("the document") : fmt::format("{}", object);
}

void unknown_member(R r) {
    Members(r.document, {.unknown =
                             [&](auto& object, auto& name, auto& known) {
                                 std::vector<std::string_view> names(known.begin(), known.end());
                                 auto near = closest(name, names);
                                 auto where = object + "/" + pointer_part(name);
                                 auto sentence = fmt::format("“{}” in {} is not known, so it does nothing.", name,
                                                             in_words(object));
                                 if (near) sentence += fmt::format(" The nearest name is “{}”.", *near);
                                 r.note(sentence, where, near ? rename(object, name, *near) : remove(object, name));
                             },
                         .idle = {},
                         .time = {}});
}
void idle_setting(R r) {
    Members(r.document, {.unknown = {},
                         .idle =
                             [&](auto& object, auto& name, auto& kind) {
                                 r.note(fmt::format("A “{}” control has no “{}”.", kind, name),
                                        object + "/" + pointer_part(name), remove(object, name));
                             },
                         .time = {}});
}
void tiny_time(R r) {
    Members(r.document, {.unknown = {}, .idle = {}, .time = [&](auto& object, auto& name, std::int64_t ns) {
                             if (ns <= 0 || ns >= 1'000'000) return;
                             // What is too small to be meant was thought of in seconds, or in milliseconds.
                             auto meant = Time{ns * (ns < 1000 ? 1'000'000'000 : 1'000'000)};
                             r.note(fmt::format("“{}” is {} nanoseconds.", name, ns), object + "/" + pointer_part(name),
                                    patch(fmt::format("Make it {:g} s", meant.seconds()),
                                          [=](json& j) { j[json::json_pointer(object)][name] = meant.ns; }));
                         }});
}
void same_name(R r) {
    std::set<std::string> names, taken;
    for (auto& s : r.document.sources) taken.insert(s.name);
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (names.insert(s.name).second) return;
        std::string free;
        for (int n = 2; free.empty() || taken.contains(free); ++n) free = fmt::format("{} {}", s.name, n);
        r.note(fmt::format("Two sources have the name “{}”.", s.name), source_at(i, "name"),
               fix_source(fmt::format("Rename the second “{}”", free), i, [free](SourceSpec& x) { x.name = free; }));
    });
}
void unknown_target(R r) {
    if (find_target(r.document.target)) return;
    auto all = all_targets();
    std::vector<std::string_view> names;
    for (auto& t : all) names.push_back(t.name);
    auto near = closest(r.document.target, names);
    r.note(
        fmt::format("There is no target “{}”.", r.document.target), "/target",
        near ? std::optional(Fix{fmt::format("Choose “{}”", *near), [to = *near](PlayerDocument& d) { d.target = to; }})
             : std::nullopt);
}
/// "pt" of "pt-BR".
std::string_view primary(std::string_view tag) { return tag.substr(0, tag.find('-')); }
void unknown_language(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        for (auto [member, kind] :
             {std::pair{&SourceSpec::audio_language, Kind::audio}, {&SourceSpec::text_language, Kind::text}}) {
            auto& wanted = s.*member;
            if (wanted.empty()) continue;
            auto name = kind == Kind::audio ? "sound_language" : "text_language";
            auto leave = fix_source("Leave it to the clip", i, [member](SourceSpec& x) { (x.*member).clear(); });
            if (!is_language_tag(wanted)) {
                r.note(fmt::format("“{}” is not a language tag, such as “de” or “pt-BR”.", wanted), source_at(i, name),
                       leave);
                continue;
            }
            if (!r.clips[i]) continue;
            std::vector<std::string> there;
            for (auto& t : r.clips[i]->tracks)
                if (t.kind == kind && !t.language.empty()) there.push_back(t.language);
            for (auto& file : s.captions)
                if (auto tag = language_of_name(file); kind == Kind::text && !tag.empty()) there.push_back(tag);
            // Where no language is stated nothing can be said.
            if (there.empty() ||
                std::any_of(there.begin(), there.end(), [&](auto& tag) { return primary(tag) == primary(wanted); }))
                continue;
            r.note(fmt::format("“{}” has no {} in {}; there is {}.", s.name, kind == Kind::audio ? "sound" : "captions",
                               language_title(wanted), fmt::join(there, ", ")),
                   source_at(i, name), leave);
        }
    });
}
void poster_beyond(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (!s.poster_at || !r.clips[i] || !r.clips[i]->duration_known || *s.poster_at < r.clips[i]->duration) return;
        r.note(fmt::format("The poster of “{}” is its frame at {}, and the clip ends at {}.", s.name,
                           format_time(*s.poster_at), format_time(r.clips[i]->duration)),
               source_at(i, "poster"),
               fix_source("Use its first frame", i, [](SourceSpec& x) { x.poster_at.reset(); }));
    });
}
void absolute_path(R r) {
    std::error_code ec;
    auto folder = fs::absolute(r.folder.empty() ? fs::path(".") : r.folder, ec).lexically_normal();
    // All files lie somewhere below the root; nobody keeps a project there.
    if (ec || folder == folder.root_path()) return;
    if (!folder.has_filename()) folder = folder.parent_path();
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (is_address(s.file) || !fs::path(s.file).is_absolute()) return;
        auto relative = fs::path(s.file).lexically_normal().lexically_relative(folder);
        if (relative.empty() || *relative.begin() == "..") return;
        r.note(fmt::format("“{}” names its file by an absolute path.", s.name), source_at(i, "file"),
               fix_source(fmt::format("Write “{}”", relative.string()), i,
                          [to = relative.string()](SourceSpec& x) { x.file = to; }));
    });
}

constexpr std::array member_rows{
    ReviewRule{"unknown-member", "An unknown member of the document.", "It has no effect.", unknown_member},
    ReviewRule{"idle-setting", "A setting that this kind of control does not have.", "It has no effect.", idle_setting,
               Severity::error},
    ReviewRule{"tiny-time", "A time of less than a millisecond.",
               "Members that end in “_ns” count nanoseconds; this looks like seconds or milliseconds.", tiny_time},
    ReviewRule{"same-name", "Two sources with the same name.", "A queue finds only the first of them.", same_name},
    ReviewRule{"unknown-target", "An unknown target.", "Sources can’t be checked against it or converted for it.",
               unknown_target, Severity::error},
    ReviewRule{"unknown-language", "An invalid language, or one that the source does not have.",
               "The clip’s default track would be used.", unknown_language},
    ReviewRule{"poster-beyond", "A poster frame beyond the clip’s end.", "The last frame would be shown.",
               poster_beyond},
    ReviewRule{"absolute-path", "A file inside the project’s folder with an absolute path.",
               "It is not found after the folder moves, or on another machine.", absolute_path},
};
}  // namespace

std::span<const ReviewRule> rules_of_members() { return member_rows; }

}  // namespace ruedo::reviewed
