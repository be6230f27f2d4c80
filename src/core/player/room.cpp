// SPDX-License-Identifier: Apache-2.0
// The room in documents.
#include "player/room.h"

#include <fmt/format.h>

#include <array>

#include "player/reading.h"

namespace ruedo {
namespace {
constexpr std::array<std::string_view, 3> all_facings{"fixed", "viewer", "view"};
constexpr std::array<std::string_view, 5> all_sides{"below", "above", "left", "right", "front"};
constexpr std::array<std::string_view, 3> all_solids{"wall", "pillar", "bench"};
}  // namespace

std::span<const std::string_view> facing_names() { return all_facings; }
std::span<const std::string_view> side_names() { return all_sides; }
std::span<const std::string_view> solid_names() { return all_solids; }

SolidSpec SolidSpec::usual(Kind kind) {
    SolidSpec s;
    s.kind = kind;
    if (kind == Kind::pillar) s.width = s.depth = 0.4, s.height = 3;
    if (kind == Kind::bench) s.width = 1.6, s.height = 0.45, s.depth = 0.5, s.colour = "#8C7450";
    return s;
}

std::string RoomSpec::free_solid_name(std::string_view wanted) const {
    std::string name(wanted);
    auto taken = [&] { return std::any_of(solids.begin(), solids.end(), [&](auto& s) { return s.name == name; }); };
    for (int i = 2; taken(); ++i) name = fmt::format("{} {}", wanted, i);
    return name;
}

namespace reading {
namespace {
using namespace room_limits;

Point point(const json& j, const std::string& at) {
    if (!j.is_array() || j.size() != 3) throw Mistake{at, "must be three numbers of metres: across, up and towards"};
    auto one = [&](std::size_t i) { return number(j[i], fmt::format("{}/{}", at, i), -place, place); };
    return {one(0), one(1), one(2)};
}
json point_json(const Point& p) { return {p.x, p.y, p.z}; }
double length(const json& j, const std::string& at) { return number(j, at, least_length, most_length); }
double angle(const json& j, const std::string& at) { return number(j, at, -180, 180); }
double lean(const json& j, const std::string& at) { return number(j, at, -90, 90); }

/// The members that every pose has.
template <class Key>
bool pose_member(PoseSpec& pose, const Key& k, const json& v, const std::string& p) {
    if (k == "at_m")
        pose.at = point(v, p);
    else if (k == "turn_deg")
        pose.turn = angle(v, p);
    else if (k == "tilt_deg")
        pose.tilt = lean(v, p);
    else
        return false;
    return true;
}
json pose_json(const PoseSpec& p) { return {{"at_m", point_json(p.at)}, {"turn_deg", p.turn}, {"tilt_deg", p.tilt}}; }

json solid_json(const SolidSpec& s) {
    return with({{"name", s.name},
                 {"kind", all_solids.at(static_cast<std::size_t>(s.kind))},
                 {"at_m", point_json(s.at)},
                 {"turn_deg", s.turn},
                 {"width_m", s.width},
                 {"height_m", s.height},
                 {"depth_m", s.depth},
                 {"colour", s.colour}},
                s.extra);
}
SolidSpec solid_from(const json& j, const std::string& at) {
    auto kind = j.is_object() && j.contains("kind") ? one_of<SolidSpec::Kind>(j["kind"], at + "/kind", all_solids)
                                                    : SolidSpec::Kind::wall;
    auto s = SolidSpec::usual(kind);
    members(j, at, &s.extra, [&](auto& k, auto& v, auto p) {
        if (k == "kind") return true;
        if (k == "name")
            s.name = text(v, p);
        else if (k == "at_m")
            s.at = point(v, p);
        else if (k == "turn_deg")
            s.turn = angle(v, p);
        else if (k == "width_m")
            s.width = length(v, p);
        else if (k == "height_m")
            s.height = length(v, p);
        else if (k == "depth_m")
            s.depth = length(v, p);
        else if (k == "colour")
            s.colour = colour(v, p);
        else
            return false;
        return true;
    });
    return s;
}
}  // namespace

json room_json(const RoomSpec& room) {
    auto viewer = pose_json(room.viewer);
    viewer["field_deg"] = room.viewer.field;
    json j{{"viewer", std::move(viewer)},
           {"solids", json::array()},
           {"walls", room.walls},
           {"floor", room.floor},
           {"sound_by_place", room.audio_by_place}};
    for (auto& s : room.solids) j["solids"].push_back(solid_json(s));
    if (room.hand) j["hand"] = pose_json(*room.hand);
    return with(std::move(j), room.extra);
}
RoomSpec room_from(const json& j, const std::string& at) {
    RoomSpec room;
    members(j, at, &room.extra, [&](auto& k, auto& v, auto p) {
        if (k == "viewer")
            members(v, p, nullptr, [&](auto& vk, auto& vv, auto vp) {
                if (pose_member(room.viewer, vk, vv, vp)) return true;
                if (vk != "field_deg") return false;
                room.viewer.field = number(vv, vp, least_field, most_field);
                return true;
            });
        else if (k == "hand") {
            room.hand.emplace();
            members(v, p, nullptr, [&](auto& hk, auto& hv, auto hp) { return pose_member(*room.hand, hk, hv, hp); });
        } else if (k == "solids") {
            auto& all = list(v, p, RoomSpec::most_solids);
            for (std::size_t i = 0; i < all.size(); ++i) {
                auto s = solid_from(all[i], fmt::format("{}/{}", p, i));
                auto called = s.name;
                if (called.empty()) called = all_solids.at(static_cast<std::size_t>(s.kind));
                s.name = room.free_solid_name(called);
                if (!all[i].contains("name") || s.name == called)
                    room.solids.push_back(std::move(s));
                else
                    throw Mistake{fmt::format("{}/{}/name", p, i), "is the name of a solid before it"};
            }
        } else if (k == "walls")
            room.walls = colour(v, p);
        else if (k == "floor")
            room.floor = colour(v, p);
        else if (k == "sound_by_place")
            room.audio_by_place = yes_or_no(v, p);
        else
            return false;
        return true;
    });
    return room;
}

json hang_json(const HangSpec& h) {
    json j{{"facing", all_facings.at(static_cast<std::size_t>(h.facing))},
           {"turn_deg", h.turn},
           {"tilt_deg", h.tilt},
           {"width_m", h.width},
           {"bend_m", h.bend},
           {"surface", {h.surface_width, h.surface_height}},
           {"margin_m", h.margin},
           {"backing", h.backing},
           {"cover", h.cover}};
    if (h.at) j["at_m"] = point_json(*h.at);
    return with(std::move(j), h.extra);
}
HangSpec hang_from(const json& j, const std::string& at) {
    HangSpec h;
    members(j, at, &h.extra, [&](auto& k, auto& v, auto p) {
        if (k == "at_m")
            h.at = point(v, p);
        else if (k == "facing")
            h.facing = one_of<HangSpec::Facing>(v, p, all_facings);
        else if (k == "turn_deg")
            h.turn = angle(v, p);
        else if (k == "tilt_deg")
            h.tilt = lean(v, p);
        else if (k == "width_m")
            h.width = length(v, p);
        else if (k == "bend_m")
            h.bend = number(v, p, 0, most_length);
        else if (k == "surface") {
            if (!v.is_array() || v.size() != 2) throw Mistake{p, "must be a width and a height in pixels"};
            h.surface_width = integer(v[0], p + "/0", least_surface, most_surface);
            h.surface_height = integer(v[1], p + "/1", least_surface, most_surface);
        } else if (k == "margin_m")
            h.margin = number(v, p, 0, most_length);
        else if (k == "backing")
            h.backing = colour(v, p);
        else if (k == "cover")
            h.cover = fraction(v, p);
        else
            return false;
        return true;
    });
    return h;
}

json float_json(const FloatSpec& f) {
    return {{"side", all_sides.at(static_cast<std::size_t>(f.side))},
            {"gap_m", f.gap},
            {"tilt_deg", f.tilt},
            {"out_m", f.out}};
}
FloatSpec float_from(const json& j, const std::string& at) {
    FloatSpec f;
    members(j, at, nullptr, [&](auto& k, auto& v, auto p) {
        if (k == "side")
            f.side = one_of<FloatSpec::Side>(v, p, all_sides);
        else if (k == "gap_m")
            f.gap = number(v, p, 0, place);
        else if (k == "tilt_deg")
            f.tilt = lean(v, p);
        else if (k == "out_m")
            f.out = number(v, p, 0, place);
        else
            return false;
        return true;
    });
    return f;
}

}  // namespace reading
}  // namespace ruedo
