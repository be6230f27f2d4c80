// SPDX-License-Identifier: Apache-2.0
// The document as JSON: reading, with what is wrong said by line and member; writing; and the format before this one.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <set>
#include <nlohmann/json.hpp>

#include "player/drop.h"
#include "io/json_text.h"
#include "player/reading.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;

namespace reading {
namespace {
constexpr std::array<std::string_view, 6> all_mounts{"window", "handset-upright", "handset-sideways", "tablet", "wall",
                                                     "room"};
constexpr std::array<std::string_view, 6> all_ends{"hold", "next", "again", "round", "poster", "leave"};
constexpr std::array<std::string_view, 3> all_remembered{"volume", "place", "captions"};
constexpr std::array<std::string_view, 3> all_arrangements{"row", "column", "stage"};
constexpr std::array<std::string_view, 2> edge_names{"bottom", "top"};
constexpr std::array<std::string_view, 3> where_names{"on", "beside", "clear"};
constexpr std::size_t most_sources = 10000, most_bars = 6, most_controls = 120;

json theme_json(const ThemeSpec& t) {
    json j = json::object();
    for (auto& row : theme_members())
        if (row.is_set(t)) j[std::string(row.name)] = row.get(t);
    return with(std::move(j), t.extra);
}
ThemeSpec theme_from(const json& j, const std::string& at) {
    ThemeSpec t;
    auto rows = theme_members();
    members(j, at, &t.extra, [&](auto& k, auto& v, auto p) {
        auto row = std::find_if(rows.begin(), rows.end(), [&](auto& r) { return r.name == k; });
        if (row == rows.end()) return false;
        if (auto wrong = row->set(t, v)) throw Mistake{p, *wrong};
        return true;
    });
    return t;
}

json bar_json(const BarSpec& b) {
    json j{{"name", b.name},
           {"edge", edge_names.at(static_cast<std::size_t>(b.edge))},
           {"where", where_names.at(static_cast<std::size_t>(b.where))},
           {"cover", b.cover}};
    if (!(b.theme == ThemeSpec{})) j["theme"] = theme_json(b.theme);
    if (b.floats) j["room"] = float_json(*b.floats);
    return with(std::move(j), b.extra);
}
BarSpec bar_from(const json& j, const std::string& at) {
    BarSpec b;
    std::string background;
    members(j, at, &b.extra, [&](auto& k, auto& v, auto p) {
        if (k == "name")
            b.name = text(v, p);
        else if (k == "edge")
            b.edge = one_of<BarSpec::Edge>(v, p, edge_names);
        else if (k == "where")
            b.where = one_of<BarSpec::Where>(v, p, where_names);
        else if (k == "theme")
            b.theme = theme_from(v, p);
        else if (k == "ground")  // the older spelling, which stood there always
            background = colour(v, p);
        else if (k == "cover")
            b.cover = fraction(v, p);
        else if (k == "room")
            b.floats = float_from(v, p);
        else
            return false;
        return true;
    });
    if (b.theme.background.empty() && background != "#EDE3CF") b.theme.background = background;
    if (b.name.empty() || b.name.find('/') != std::string::npos)
        throw Mistake{at, "has no name, or one with a stroke in it"};
    return b;
}

json video_json(const VideoSpec& p) {
    json j{{"surround", p.surround}, {"corner_px", p.corner}};
    if (p.render_width > 0)
        j["render"] = {
            {"width", p.render_width}, {"height", p.render_height}, {"scaling", p.blocky ? "blocky" : "smooth"}};
    return with(std::move(j), p.extra);
}
VideoSpec video_from(const json& j, const std::string& at) {
    VideoSpec picture;
    members(j, at, &picture.extra, [&](auto& k, auto& v, auto p) {
        if (k == "surround")
            picture.surround = colour(v, p);
        else if (k == "corner_px")
            picture.corner = integer(v, p, 0, 1000);
        else if (k == "render") {
            members(v, p, nullptr, [&](auto& rk, auto& rv, auto rp) {
                if (rk == "width")
                    picture.render_width = integer(rv, rp, 10, 8192);
                else if (rk == "height")
                    picture.render_height = integer(rv, rp, 10, 8192);
                else if (rk == "scaling")
                    picture.blocky = one_of<int>(rv, rp, std::array<std::string_view, 2>{"smooth", "blocky"}) == 1;
                else
                    return false;
                return true;
            });
            if (picture.render_width == 0 || picture.render_height == 0)
                throw Mistake{p, "must have a width and a height"};
        } else
            return false;
        return true;
    });
    return picture;
}

/// Whether a time of a control was written as text, which goes with what it is now.
bool is_written(const ControlSpec& c, const SettingKind& s) {
    if (s.type != SettingKind::Type::time || c.extra.empty()) return false;
    return json::parse(c.extra, nullptr, false).contains(s.name.substr(0, s.name.size() - 3));
}
json control_json(const ControlSpec& c) {
    json j{{"kind", c.kind->name}, {"name", c.name}, {"slot", c.slot}};
    for (auto& s : setting_kinds())
        if (c.kind->has(s.name))
            if (auto value = s.get(c.settings); value != s.get({}) || is_written(c, s)) j[std::string(s.name)] = value;
    return with(std::move(j), c.extra);
}
ControlSpec control_from(const json& j, const std::string& at) {
    ControlSpec c;
    if (!j.is_object() || !j.contains("kind")) throw Mistake{at, "must be an object that says its kind"};
    auto* kind = j["kind"].is_string() ? find_control(j["kind"].get_ref<const std::string&>()) : nullptr;
    if (!kind) {
        std::string names;
        for (auto& k : control_kinds()) names += fmt::format("{}“{}”", names.empty() ? "" : ", ", k.name);
        throw Mistake{at + "/kind", "must be one of " + names};
    }
    c.kind = kind;
    members(j, at, &c.extra, [&](auto& k, auto& v, auto p) {
        if (k == "kind") return true;
        if (k == "name")
            c.name = text(v, p);
        else if (k == "slot") {
            c.slot = text(v, p);
            if (!parse_slot(c.slot)) throw Mistake{p, "must be a group of a bar, such as “foot/end”, or a place"};
        } else if (auto* setting = find_setting(k); setting && kind->has(k)) {
            if (auto wrong = setting->set(c.settings, v)) throw Mistake{p, *wrong};
            if (setting->type == SettingKind::Type::condition)
                if (auto read = Condition::parse(text(v, p)); !read) throw Mistake{p, read.error()};
        } else
            return false;
        return true;
    });
    return c;
}

json screen_json(const ScreenSpec& s) {
    return with({{"arrangement", all_arrangements.at(static_cast<std::size_t>(s.arrangement))},
                 {"gap_px", s.gap},
                 {"ground", s.ground},
                 {"one_sounds", s.one_sounds}},
                s.extra);
}
ScreenSpec screen_from(const json& j, const std::string& at) {
    ScreenSpec s;
    members(j, at, &s.extra, [&](auto& k, auto& v, auto p) {
        if (k == "arrangement")
            s.arrangement = one_of<ScreenSpec::Arrangement>(v, p, all_arrangements);
        else if (k == "gap_px")
            s.gap = integer(v, p, 0, 200);
        else if (k == "ground")
            s.ground = colour(v, p);
        else if (k == "one_sounds")
            s.one_sounds = yes_or_no(v, p);
        else
            return false;
        return true;
    });
    return s;
}

json player_json(const PlayerSpec& player) {
    json bars = json::array(), controls = json::array();
    for (auto& b : player.bars) bars.push_back(bar_json(b));
    for (auto& c : player.controls) controls.push_back(control_json(c));
    json j{{"name", player.name},
           {"at_end", std::string(at_end_name(player.at_end))},
           {"picture", video_json(player.picture)},
           {"volume", player.volume},
           {"muted", player.muted},
           {"speed", player.speed},
           {"hide_after_ns", player.hide_after.ns},
           {"give_up_after_ns", player.give_up_after.ns},
           {"open_within_ns", player.open_within.ns},
           {"bars", std::move(bars)},
           {"controls", std::move(controls)}};
    if (player.sources) j["sources"] = *player.sources;
    if (!(player.theme == ThemeSpec{})) j["theme"] = theme_json(player.theme);
    if (!(player.hang == HangSpec{})) j["room"] = hang_json(player.hang);
    if (!(player.host == HostSpec{})) j["host"] = host_json(player.host);
    for (auto r : player.remembered) j["remembers"].push_back(all_remembered.at(static_cast<std::size_t>(r)));
    return with(std::move(j), player.extra);
}
PlayerSpec player_from(const json& j, const std::string& at) {
    PlayerSpec player;
    player.name.clear();  // where it has none it is given a free one
    members(j, at, &player.extra, [&](auto& k, auto& v, auto p) {
        if (k == "name")
            player.name = text(v, p);
        else if (k == "sources") {
            auto& names = list(v, p, most_sources);
            player.sources.emplace();
            for (std::size_t i = 0; i < names.size(); ++i)
                player.sources->push_back(text(names[i], fmt::format("{}/{}", p, i)));
        } else if (k == "at_end")
            player.at_end = one_of<AtEnd>(v, p, all_ends);
        else if (k == "picture")
            player.picture = video_from(v, p);
        else if (k == "theme")
            player.theme = theme_from(v, p);
        else if (k == "volume")
            player.volume = fraction(v, p);
        else if (k == "muted")
            player.muted = yes_or_no(v, p);
        else if (k == "speed")
            player.speed = number(v, p, 0.25, 4);
        else if (k == "hide_after_ns")
            player.hide_after = time(v, p);
        else if (k == "give_up_after_ns")
            player.give_up_after = time(v, p);
        else if (k == "open_within_ns")
            player.open_within = time_within(v, p, 1_s, 600_s);
        else if (k == "room")
            player.hang = hang_from(v, p);
        else if (k == "host")
            player.host = host_from(v, p);
        else if (k == "remembers") {
            auto& names = list(v, p, all_remembered.size());
            std::set<Remember> all;
            for (std::size_t i = 0; i < names.size(); ++i)
                all.insert(one_of<Remember>(names[i], fmt::format("{}/{}", p, i), all_remembered));
            player.remembered.assign(all.begin(), all.end());
        } else if (k == "bars") {
            auto& bars = list(v, p, most_bars);
            for (std::size_t i = 0; i < bars.size(); ++i) {
                auto b = bar_from(bars[i], fmt::format("{}/{}", p, i));
                if (player.bar(b.name))
                    throw Mistake{fmt::format("{}/{}/name", p, i), "is the name of a bar before it"};
                player.bars.push_back(std::move(b));
            }
        } else if (k == "controls") {
            auto& controls = list(v, p, most_controls);
            for (std::size_t i = 0; i < controls.size(); ++i) {
                auto c = control_from(controls[i], fmt::format("{}/{}", p, i));
                if (!c.name.empty() && player.control(c.name))
                    throw Mistake{fmt::format("{}/{}/name", p, i), "is the name of a control before it"};
                if (c.name.empty()) c.name = player.free_name(c.kind->name);
                player.controls.push_back(std::move(c));
            }
        } else
            return false;
        return true;
    });
    for (std::size_t i = 0; i < player.controls.size(); ++i) {
        auto slot = parse_slot(player.controls[i].slot);
        auto place = fmt::format("{}/controls/{}/slot", at, i);
        if (!slot) throw Mistake{fmt::format("{}/controls/{}", at, i), "stands in no slot"};
        if (!slot->bar.empty() && !player.bar(slot->bar))
            throw Mistake{place, fmt::format("names the bar “{}”, which is not there", slot->bar)};
    }
    return player;
}

/// Players have names of their own, and play what is there.
void check_players(PlayerDocument& d) {
    std::set<std::string_view> sources;
    for (auto& s : d.sources) sources.insert(s.name);
    for (std::size_t i = 0; i < d.players.size(); ++i) {
        auto& p = d.players[i];
        auto at = fmt::format("/players/{}/", i);
        if (p.name.empty()) p.name = d.free_player_name("Player");
        for (std::size_t before = 0; before < i; ++before)
            if (d.players[before].name == p.name) throw Mistake{at + "name", "is the name of a player before it"};
        for (std::size_t s = 0; p.sources && s < p.sources->size(); ++s)
            if (!sources.contains((*p.sources)[s]))
                throw Mistake{fmt::format("{}sources/{}", at, s),
                              fmt::format("names the source “{}”, which is not there", (*p.sources)[s])};
    }
}

/// Reads `j`, or throws a mistake.
PlayerDocument read(const json& j, std::int64_t version) {
    PlayerDocument d;
    d.version = static_cast<int>(version);
    members(j, "", &d.extra, [&](auto& k, auto& v, auto p) {
        if (k == "ruedo") return true;
        if (k == "app")
            d.app_name = text(v, p);
        else if (k == "target")
            d.target = text(v, p);
        else if (k == "mount")
            d.mount = one_of<Mount>(v, p, all_mounts);
        else if (k == "mount_size") {
            if (!v.is_array() || v.size() != 2) throw Mistake{p, "must be a width and a height"};
            d.mount_width = integer(v[0], p + "/0", 100, 8192), d.mount_height = integer(v[1], p + "/1", 100, 8192);
        } else if (k == "sources") {
            auto& sources = list(v, p, most_sources);
            for (std::size_t i = 0; i < sources.size(); ++i)
                d.sources.push_back(source_from(sources[i], fmt::format("{}/{}", p, i)));
        } else if (k == "player" && version == 1) {
            d.players = {player_from_first(v, p)};
        } else if (k == "players" && version > 1) {
            auto& players = list(v, p, PlayerDocument::most_players);
            if (players.empty()) throw Mistake{p, "must have a player"};
            d.players.clear();
            for (std::size_t i = 0; i < players.size(); ++i)
                d.players.push_back(player_from(players[i], fmt::format("{}/{}", p, i)));
        } else if (k == "screen") {
            d.screen = screen_from(v, p);
        } else if (k == "room") {
            d.room = room_from(v, p);
        } else
            return false;
        return true;
    });
    check_players(d);
    // From here on it is of this format.
    if (version == 1) d.version = PlayerDocument::current_version;
    return d;
}

std::expected<PlayerDocument, DocumentFault> read(const json& j, std::string_view subject, ByteView text) {
    auto fault = [&](ErrorCode code, std::string sentence, std::string hint, std::string where = "") {
        auto place = text.empty() ? TextPlace{} : place_in_json(text, where);
        return std::unexpected(DocumentFault{{code, std::move(sentence), std::move(hint)}, std::move(where), place});
    };
    if (!j.is_object() || !j.contains("ruedo") || !j["ruedo"].is_number_integer())
        return fault(ErrorCode::malformed,
                     fmt::format("“{}” is not a Ruedo document: it has no format number.", subject),
                     "Choose a .ruedo file.");
    // Compared as it stands: a number that does not fit must not turn into one that does.
    auto& number = j["ruedo"];
    auto version = number.is_number_unsigned() && number.get<std::uint64_t>() > INT32_MAX
                       ? INT32_MAX
                       : std::min<std::int64_t>(number.get<std::int64_t>(), INT32_MAX);
    if (version < 1)
        return fault(ErrorCode::malformed,
                     fmt::format("“{}” states format {}, which never was one.", subject, number.dump()),
                     "Choose a .ruedo file.", "/ruedo");
    try {
        return read(j, version);
    } catch (const Mistake& m) {
        if (version > PlayerDocument::current_version)
            return fault(ErrorCode::too_new,
                         fmt::format("“{}” was written by a newer Ruedo (format {}; this one reads up to {}).", subject,
                                     number.dump(), PlayerDocument::current_version),
                         "Update Ruedo.", "/ruedo");
        auto line = text.empty() ? 0 : place_in_json(text, m.at).line;
        return fault(ErrorCode::malformed,
                     line ? fmt::format("In line {} of “{}”, {} {}.", line, subject, m.at, m.what)
                          : fmt::format("In “{}”, {} {}.", subject, m.at, m.what),
                     "Put it right in a text editor, or open an older copy.", m.at);
    }
}
}  // namespace
}  // namespace reading

std::string control_text(const ControlSpec& control) {
    return reading::control_json(control).dump(2, ' ', false, json::error_handler_t::replace);
}
Result<ControlSpec> control_from_text(std::string_view said) {
    auto j = said.size() > 65536 ? json() : json::parse(said, nullptr, false);
    try {
        return reading::control_from(j, "");
    } catch (const reading::Mistake& m) {
        return fail(ErrorCode::malformed, fmt::format("This is no control: {} {}.", m.at, m.what),
                    "Copy one from a player first.");
    }
}

std::span<const std::string_view> mount_names() { return reading::all_mounts; }
std::span<const std::string_view> at_end_names() { return reading::all_ends; }
std::span<const std::string_view> remember_names() { return reading::all_remembered; }
bool PlayerSpec::remembers(Remember r) const {
    return std::find(remembered.begin(), remembered.end(), r) != remembered.end();
}
std::span<const std::string_view> arrangement_names() { return reading::all_arrangements; }
std::string_view mount_name(Mount mount) { return reading::all_mounts.at(static_cast<std::size_t>(mount)); }
std::optional<Mount> mount_from_name(std::string_view name) {
    auto it = std::find(reading::all_mounts.begin(), reading::all_mounts.end(), name);
    return it == reading::all_mounts.end() ? std::nullopt
                                           : std::optional(static_cast<Mount>(it - reading::all_mounts.begin()));
}
std::string_view at_end_name(AtEnd at_end) { return reading::all_ends.at(static_cast<std::size_t>(at_end)); }

json to_json(const PlayerDocument& d) {
    json sources = json::array(), players = json::array();
    for (auto& s : d.sources) sources.push_back(reading::source_json(s));
    for (auto& p : d.players) players.push_back(reading::player_json(p));
    json j{{"ruedo", d.version},
           {"app", d.app_name},
           {"sources", std::move(sources)},
           {"players", std::move(players)},
           {"mount", std::string(mount_name(d.mount))},
           {"target", d.target}};
    if (d.mount_width > 0) j["mount_size"] = {d.mount_width, d.mount_height};
    if (!(d.room == RoomSpec{})) j["room"] = reading::room_json(d.room);
    if (d.players.size() > 1 || !(d.screen == ScreenSpec{})) j["screen"] = reading::screen_json(d.screen);
    return reading::with(std::move(j), d.extra);
}

Result<PlayerDocument> document_from_json(const json& j, std::string_view subject) {
    auto document = reading::read(j, subject, {});
    if (!document) return std::unexpected(document.error().error);
    return std::move(*document);
}

std::expected<PlayerDocument, DocumentFault> document_from_text(ByteView text, std::string_view subject) {
    auto j = parse_json(text);
    if (!j) return std::unexpected(DocumentFault{j.error().error(subject), "", j.error().place});
    return reading::read(*j, subject, text);
}

Result<PlayerDocument> load_document(const fs::path& path) {
    RUEDO_TRY(auto bytes, read_file(path, most_document_bytes));
    auto document = document_from_text(bytes, path.filename().string());
    if (!document) return std::unexpected(document.error().error);
    return std::move(*document);
}

Status save_document(const PlayerDocument& document, const fs::path& path) {
    if (document.newer())
        return fail(ErrorCode::too_new,
                    fmt::format("“{}” is of a newer format ({}); saving it here would lose what this Ruedo does not "
                                "know.",
                                path.filename().string(), document.version),
                    "Update Ruedo.");
    auto dumped = to_json(document).dump(2, ' ', false, json::error_handler_t::replace) + "\n";
    return write_file(path, {reinterpret_cast<const std::uint8_t*>(dumped.data()), dumped.size()});
}

}  // namespace ruedo
