// SPDX-License-Identifier: Apache-2.0
#include "convert/targets.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cstdlib>
#include <map>
#include <mutex>
#include <nlohmann/json.hpp>

#include "io/http.h"
#include "io/json_text.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;
namespace {

/// Reads one object, naming the place of whatever is wrong with it.
class Reading {
  public:
    Reading(const json& j, std::string_view subject, std::string at)
        : json_(j), subject_(subject), at_(std::move(at)) {}
    template <class T>
    void take(const char* key, T& to) {
        seen_.push_back(key);
        if (!json_.contains(key) || error_) return;
        try {
            to = json_[key].get<T>();
        } catch (const json::exception&) {
            wrong(key, "is of another kind than it should be");
        }
    }
    void number(const char* key, int& to, int most) {
        take(key, to);
        if (!error_ && (to < 0 || to > most)) wrong(key, fmt::format("should lie between 0 and {}", most));
    }
    void wrong(const std::string& key, const std::string& what) {
        if (!error_)
            error_ = Error{ErrorCode::malformed, fmt::format("“{}”: {}/{} {}.", subject_, at_, key, what),
                           "See docs/targets.md for what a target file holds."};
    }
    void done() {
        for (auto& [key, value] : json_.items())
            if (std::find(seen_.begin(), seen_.end(), key) == seen_.end()) wrong(key, "is not known");
    }
    std::optional<Error> error() const { return error_; }

  private:
    const json& json_;
    std::string subject_, at_;
    std::vector<std::string> seen_;
    std::optional<Error> error_;
};

Result<std::vector<CodecRule>> rules(const json& list, std::string_view subject, const std::string& at) {
    std::vector<CodecRule> out;
    if (!list.is_array())
        return fail(ErrorCode::malformed, fmt::format("“{}”: {} is not a list.", subject, at),
                    "See docs/targets.md for what a target file holds.");
    for (std::size_t i = 0; i < list.size(); ++i) {
        auto place = fmt::format("{}/{}", at, i);
        if (!list[i].is_object())
            return fail(ErrorCode::malformed, fmt::format("“{}”: {} is not an object.", subject, place),
                        "See docs/targets.md for what a target file holds.");
        Reading r(list[i], subject, place);
        CodecRule rule;
        std::string codec;
        int level = 0;
        r.take("codec", codec);
        r.take("profiles", rule.profiles);
        r.number("max_level", level, 99);
        r.number("max_width", rule.max_width, 32768);
        r.number("max_height", rule.max_height, 32768);
        r.number("max_rate", rule.max_rate, 768000);
        r.number("max_channels", rule.max_channels, 64);
        r.take("bit_depths", rule.bit_depths);
        r.take("limited_range", rule.limited_range);
        rule.codec = codec_from_name(codec);
        rule.max_level = static_cast<unsigned>(level);
        if (rule.codec == Codec::unknown) r.wrong("codec", fmt::format("names no codec known here (“{}”)", codec));
        r.done();
        if (auto e = r.error()) return std::unexpected(*e);
        out.push_back(std::move(rule));
    }
    return out;
}

fs::path shipped_folder() {
    auto beside = executable_path().parent_path();
    std::error_code ec;
    for (auto& place : {beside.parent_path() / "share" / "ruedo" / "targets", beside / "targets"})
        if (fs::is_directory(place, ec)) return place;
    return {};
}

/// Profile and level of a coded track as its RFC 6381 string tells them.
struct Grade {
    std::string profile;
    unsigned level = 0;
    int depth = 8;
};
Grade grade_of(const Track& t) {
    Grade g;
    auto& s = t.codec_string;
    auto hex = [&](std::size_t at, std::size_t n) {
        unsigned v = 0;
        if (s.size() >= at + n) std::from_chars(s.data() + at, s.data() + at + n, v, 16);
        return v;
    };
    if (t.codec == Codec::h264 && s.starts_with("avc1.")) {
        auto profile = hex(5, 2);
        g.profile = profile == 66 ? "baseline" : profile == 77 || profile == 88 ? "main" : "high";
        g.level = hex(9, 2);
    } else if (t.codec == Codec::hevc && s.starts_with("hvc1.")) {
        g.profile = hex(5, 1) == 1 ? "main" : "main-10";
        unsigned level = 0;
        if (auto at = s.find_first_of("LH", 5); at != std::string::npos)
            std::from_chars(s.data() + at + 1, s.data() + s.size(), level);
        g.level = level / 3;
    } else if (t.codec == Codec::vp9 && s.starts_with("vp09.")) {
        g.profile = std::to_string(hex(5, 2));
        std::from_chars(s.data() + 8, s.data() + 10, g.level);
    } else if (t.codec == Codec::av1 && s.starts_with("av01.")) {
        g.profile = "main";
        unsigned index = 0;
        std::from_chars(s.data() + 7, s.data() + 9, index);
        g.level = (2 + index / 4) * 10 + index % 4;
    } else if (t.codec == Codec::aac) {
        g.profile = s == "mp4a.40.2" ? "lc" : "he";
    }
    return g;
}

}  // namespace

std::string misfit(const Track& t, double rate, const CodecRule& r) {
    auto g = grade_of(t);
    auto title = std::string(codec_title(t.codec));
    if (!r.profiles.empty() && !g.profile.empty() &&
        std::find(r.profiles.begin(), r.profiles.end(), g.profile) == r.profiles.end())
        return fmt::format("{} is of profile {}, and only {} is taken", title, g.profile,
                           fmt::join(r.profiles, " or "));
    if (r.max_level && g.level > r.max_level)
        return fmt::format("{} is of level {}.{}, and {}.{} is the highest taken", title, g.level / 10, g.level % 10,
                           r.max_level / 10, r.max_level % 10);
    if (t.kind == Kind::video) {
        auto w = t.video.width, h = t.video.height;
        bool upright = (r.max_width == 0 || w <= r.max_width) && (r.max_height == 0 || h <= r.max_height);
        bool turned = (r.max_width == 0 || h <= r.max_width) && (r.max_height == 0 || w <= r.max_height);
        if (!upright && !turned)
            return fmt::format("the picture is {} × {}, and {} × {} is the largest taken", w, h, r.max_width,
                               r.max_height);

        if (r.max_rate && rate > r.max_rate + 0.01)
            return fmt::format("{:.2f} pictures come in a second, and {} are the most taken", rate, r.max_rate);
        if (!r.bit_depths.empty() && t.problem && t.problem->code == ErrorCode::depth_unsupported)
            return "its samples have more bits than are taken";
        if (r.limited_range && t.video.colour.resolved(h).range == Colour::Range::full)
            return "its colours are in full range, which is shown wrongly there";
    } else {
        if (r.max_rate && t.audio.rate > r.max_rate)
            return fmt::format("sound is sampled at {} Hz, and {} Hz is the highest taken", t.audio.rate, r.max_rate);
        if (r.max_channels && t.audio.channels > r.max_channels)
            return fmt::format("sound has {} channels, and {} are the most taken", t.audio.channels, r.max_channels);
    }
    return {};
}
const CodecRule* rule_of(const std::vector<CodecRule>& rules, Codec codec) {
    auto it = std::find_if(rules.begin(), rules.end(), [&](auto& r) { return r.codec == codec; });
    return it == rules.end() ? nullptr : &*it;
}

Result<Target> target_from_json(const json& j, std::string_view subject) {
    auto wrong = [&](const std::string& what) {
        return fail(ErrorCode::malformed, fmt::format("“{}” {}.", subject, what),
                    "See docs/targets.md for what a target file holds.");
    };
    if (!j.is_object() || j.value("format", json()) != "ruedo-target") return wrong("is not a target file");
    if (!j.contains("version") || !j["version"].is_number_integer()) return wrong("does not state its version");
    if (j["version"].get<std::int64_t>() > 1)
        return fail(ErrorCode::too_new, fmt::format("“{}” is of a newer format than this program reads.", subject),
                    "Use a newer Ruedo.");
    Reading r(j, subject, "");
    Target t;
    std::string ignored;
    int version = 0;
    json video = json::array(), audio = json::array(), network = json::object();
    r.take("format", ignored), r.take("version", version), r.take("$schema", ignored);
    r.take("name", t.name), r.take("title", t.title), r.take("about", t.about), r.take("containers", t.containers);
    r.take("video", video), r.take("audio", audio), r.take("seeks", t.seeks),
        r.take("wants_index_first", t.wants_index_first);
    r.take("clear_text", t.clear_text), r.take("starts_loud", t.starts_loud), r.take("bundle_bytes", t.bundle_bytes);
    r.done();
    bool plain = !t.name.empty() && std::all_of(t.name.begin(), t.name.end(), [](unsigned char c) {
        return std::islower(c) || std::isdigit(c) || c == '-';
    });
    if (!plain) r.wrong("name", "should be made of small letters, digits and hyphens");
    if (t.containers.empty()) r.wrong("containers", "names none");
    if (auto e = r.error()) return std::unexpected(*e);
    RUEDO_TRY(t.video, rules(video, subject, "/video"));
    RUEDO_TRY(t.audio, rules(audio, subject, "/audio"));
    if (t.title.empty()) t.title = t.name;
    return t;
}

fs::path user_targets_folder() {
    if (auto* config = std::getenv("XDG_CONFIG_HOME"); config && *config) return fs::path(config) / "ruedo" / "targets";
    auto* home = std::getenv("HOME");
    return fs::path(home ? home : ".") / ".config" / "ruedo" / "targets";
}

/// Every edit asks for targets, so a file that is as it was is not read again; one that was written just now might be
/// written again within what its time can tell.
static Result<Target> target_in(const fs::path& file) {
    struct CachedTargets {
        fs::file_time_type at;
        std::uintmax_t bytes = 0;
        Target target;
    };
    static std::mutex mutex;
    static auto& all = *new std::map<fs::path, CachedTargets>;  // workers may ask until the end
    std::error_code ec;
    auto at = fs::last_write_time(file, ec);
    auto bytes = fs::file_size(file, ec);
    {
        std::lock_guard lock(mutex);
        if (auto it = all.find(file); it != all.end() && it->second.at == at && it->second.bytes == bytes)
            return it->second.target;
    }
    RUEDO_TRY(auto read, read_json(file, 1 << 20));
    RUEDO_TRY(auto target, target_from_json(read, file.filename().string()));
    if (!ec && fs::file_time_type::clock::now() - at > std::chrono::seconds(2)) {
        std::lock_guard lock(mutex);
        all.insert_or_assign(file, CachedTargets{at, bytes, target});
    }
    return target;
}

std::vector<Target> all_targets(std::vector<Error>* problems) {
    std::map<std::string, Target> by_name;
    for (auto& folder : {shipped_folder(), user_targets_folder()}) {
        std::error_code ec;
        for (fs::directory_iterator it(folder, ec), end; !ec && it != end; it.increment(ec)) {
            if (it->path().extension() != ".json") continue;
            if (auto read = target_in(it->path()))
                by_name[read->name] = *read;  // the user's own come later and count before
            else if (problems)
                problems->push_back(read.error());
        }
    }
    std::vector<Target> list;
    for (auto& [name, t] : by_name) list.push_back(std::move(t));
    return list;
}

Result<Target> find_target(const std::string& name) {
    std::string names;
    for (auto& t : all_targets()) {
        if (t.name == name) return t;
        names += (names.empty() ? "" : ", ") + t.name;
    }
    return fail(ErrorCode::not_found, fmt::format("There is no target “{}”.", name),
                names.empty() ? "No targets are installed." : fmt::format("There are: {}.", names));
}

std::string Verdict::sentence() const {
    if (plays == Plays::yes) return reasons.empty() ? "Plays as it is." : "Plays. " + reasons.front();
    if (plays == Plays::no) return reasons.empty() ? "Can’t be played." : "Can’t be played: " + reasons.front();
    if (needs == std::vector<std::string>{"address"})
        return "Plays once it comes from another address: " + reasons.front();
    bool container_format_only = needs == std::vector<std::string>{"wrapper"},
         audio_only = std::none_of(needs.begin(), needs.end(), [](auto& n) { return n == "pictures" || n == "size"; });
    return fmt::format("Plays after conversion ({}): {}",
                       container_format_only ? "only the wrapper changes"
                       : audio_only          ? "only the sound changes"
                                             : "pictures change",
                       reasons.front());
}

Verdict judge(const SourceFacts& facts, const Target& target, CodecRegistry& codecs, const std::string& address) {
    Verdict v;
    bool hopeless = false;
    auto need = [&](const char* what, std::string why) {
        if (std::find(v.needs.begin(), v.needs.end(), what) == v.needs.end()) v.needs.push_back(what);
        why[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(why[0])));
        v.reasons.push_back(why + ".");
    };
    // Unknown tracks are left out of the output; the others decide.
    bool remains = std::any_of(facts.info.tracks.begin(), facts.info.tracks.end(), [&](auto& t) {
        return (t.kind == Kind::video || t.kind == Kind::audio) && !t.problem && codecs.decodes(t.codec);
    });
    // One track of each kind is what a player plays; others do not count.
    for (auto kind : {Kind::video, Kind::audio}) {
        const Track* track = nullptr;
        for (auto& t : facts.info.tracks)
            if (t.kind == kind && (!track || (t.is_default && !track->is_default))) track = &t;
        if (!track) continue;
        auto& f = facts.tracks[static_cast<std::size_t>(track - facts.info.tracks.data())];
        auto& rules = kind == Kind::video ? target.video : target.audio;
        auto* part = kind == Kind::video ? "pictures" : "sound";
        std::string why = rules.empty()
                              ? fmt::format("{} takes no {} at all", target.title, part)
                              : fmt::format("{} is not among what it takes",
                                            track->codec == Codec::unknown ? fmt::format("“{}”", track->codec_tag)
                                                                           : std::string(codec_title(track->codec)));
        for (auto& r : rules) {
            if (r.codec != track->codec) continue;
            why = misfit(*track, f.most_a_second(), r);
            if (why.empty()) break;
        }
        bool locked = track->problem &&
                      (track->problem->code == ErrorCode::encrypted || track->problem->code == ErrorCode::malformed);
        if (locked) why = track->problem->sentence.substr(0, track->problem->sentence.size() - 1);
        if (why.empty()) continue;
        need(part, why);
        if (locked || track->problem || !codecs.decodes(track->codec)) {
            // Video in a known codec without a decoder is still the subject of the clip.
            bool unknown = !locked && (!track->problem || track->problem->code == ErrorCode::codec_missing);
            hopeless = hopeless || !unknown || !remains;
            if (unknown && remains) {
                v.reasons.push_back(fmt::format("What is made has no {}.", part));
                continue;
            }
            if (!locked)
                v.reasons.push_back(
                    fmt::format("It can’t be converted either: {}",
                                track->problem ? track->problem->sentence
                                               : std::string(codec_title(track->codec)) + " is not decoded here."));
        }
    }
    auto container = facts.info.container;
    bool known = std::find(target.containers.begin(), target.containers.end(), container) != target.containers.end();
    if (!known)
        need("wrapper", fmt::format("{} is not a wrapper it takes; it takes {}", container_title(container), [&] {
                 std::string list;
                 for (auto& c : target.containers) list += (list.empty() ? "" : ", ") + container_title(c);
                 return list;
             }()));
    bool late =
        std::any_of(facts.findings.begin(), facts.findings.end(), [](auto& f) { return f.code == "index-at-end"; });
    if (known && target.wants_index_first && late && is_address(address))
        need("wrapper", "the index lies at the end of the file; over a network it is wanted in front");
    if (target.bundle_bytes && facts.info.bytes > target.bundle_bytes)
        need("size",
             fmt::format("it takes {:.1f} MB, and a bundled clip may take {:.1f} MB",
                         static_cast<double>(facts.info.bytes) / 1e6, static_cast<double>(target.bundle_bytes) / 1e6));
    if (!target.clear_text && address.starts_with("http://"))
        need("address", "addresses without encryption are refused; it has to be served over https");
    if (facts.tracks.empty()) hopeless = true, v.reasons.push_back("There is no track in it.");
    v.plays = hopeless ? Verdict::Plays::no : v.needs.empty() ? Verdict::Plays::yes : Verdict::Plays::after_conversion;
    if (hopeless) v.needs.clear();
    if (v.plays != Verdict::Plays::no && !target.seeks)
        v.reasons.push_back("It can’t seek there: controls for the position do nothing.");
    return v;
}

json to_json(const Verdict& v) {
    return {{"plays", v.plays == Verdict::Plays::yes}, {"needs", v.needs}, {"reasons", v.reasons}};
}

}  // namespace ruedo
