// SPDX-License-Identifier: Apache-2.0
// The document's JSON Schema, made from the tables of kinds and settings (docs/project.schema.json).
#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "player/player.h"

namespace ruedo {
namespace {
using nlohmann::json;

json object(json properties, json required = json::array()) {
    json j{{"type", "object"}, {"properties", std::move(properties)}};
    if (!required.empty()) j["required"] = std::move(required);
    return j;
}
json list_of(json items, int most) { return {{"type", "array"}, {"items", std::move(items)}, {"maxItems", most}}; }
json integer(std::int64_t low, std::int64_t high = INT64_MAX) {
    json j{{"type", "integer"}, {"minimum", low}};
    if (high != INT64_MAX) j["maximum"] = high;
    return j;
}
json number(double low, double high) { return {{"type", "number"}, {"minimum", low}, {"maximum", high}}; }
json one_of(json values) { return {{"enum", std::move(values)}}; }
const json any_text{{"type", "string"}, {"maxLength", 4096}};
const json colour{{"type", "string"}, {"pattern", "^#[0-9A-Fa-f]{6}$"}};

namespace in_room = room_limits;
json place_schema() {
    return {
        {"type", "array"},
        {"items", number(-in_room::place, in_room::place)},
        {"minItems", 3},
        {"maxItems", 3},
        {"description", "Metres: to the right, up from the floor, towards a viewer at the origin who looks ahead."}};
}
json length_schema() { return number(in_room::least_length, in_room::most_length); }
json pose_schema(json more = json::object()) {
    more.update({{"at_m", place_schema()}, {"turn_deg", number(-180, 180)}, {"tilt_deg", number(-90, 90)}});
    return object(std::move(more));
}
json hang_schema() {
    return object({{"at_m", place_schema()},
                   {"facing", one_of(json(facing_names()))},
                   {"turn_deg", number(-180, 180)},
                   {"tilt_deg", number(-90, 90)},
                   {"width_m", length_schema()},
                   {"bend_m", number(0, in_room::most_length)},
                   {"surface",
                    {{"type", "array"},
                     {"items", integer(in_room::least_surface, in_room::most_surface)},
                     {"minItems", 2},
                     {"maxItems", 2}}},
                   {"margin_m", number(0, in_room::most_length)},
                   {"backing", colour},
                   {"cover", number(0, 1)}});
}
json room_schema() {
    auto solid = object({{"name", any_text},
                         {"kind", one_of(json(solid_names()))},
                         {"at_m", place_schema()},
                         {"turn_deg", number(-180, 180)},
                         {"width_m", length_schema()},
                         {"height_m", length_schema()},
                         {"depth_m", length_schema()},
                         {"colour", colour}});
    return object({{"viewer", pose_schema({{"field_deg", number(in_room::least_field, in_room::most_field)}})},
                   {"hand", pose_schema()},
                   {"solids", list_of(solid, RoomSpec::most_solids)},
                   {"walls", colour},
                   {"floor", colour},
                   {"sound_by_place", {{"type", "boolean"}}}});
}

json host_schema() {
    json members = json::object();
    for (auto& r : host_rows()) {
        json actions = json::array();
        for (auto d : r.actions) actions.push_back(action_name(d));
        members[std::string(r.name)] = one_of(std::move(actions));
        members[std::string(r.name)]["description"] = r.meaning;
        members[std::string(r.name)]["default"] = action_name(r.usual());
    }
    return object(std::move(members));
}

/// Beside each member of nanoseconds (“by_ns”) one that takes the same as text (“by”).
void add_written_times(json& j) {
    if (j.is_array())
        for (auto& inner : j) add_written_times(inner);
    if (!j.is_object()) return;
    for (auto& [name, inner] : j.items())
        if (inner.is_structured()) add_written_times(inner);
    if (j.contains("properties")) {
        json added = json::object();
        for (auto& [name, inner] : j["properties"].items()) {
            if (!name.ends_with("_ns")) continue;
            json text{{"type", "string"},
                      {"pattern", "^([0-9]+(\\.[0-9]+)?(ns|us|ms|s|m|h)|([0-9]+:)?[0-9]{1,2}:[0-9]{2}(\\.[0-9]+)?)$"},
                      {"description", fmt::format("The same as “{}”, as text: “10s”, “0:30”.", name)}};
            added[name.substr(0, name.size() - 3)] = inner.is_boolean() ? inner : text;
        }
        j["properties"].update(added);
    }
    // One of the two has to be there.
    json either = json::array();
    for (auto& name : j.contains("required") ? j["required"] : json::array())
        if (name.is_string() && name.get_ref<const std::string&>().ends_with("_ns")) either.push_back(name);
    for (auto& name : either) {
        auto& required = j["required"];
        required.erase(std::find(required.begin(), required.end(), name));
        auto ns = name.get<std::string>();
        j["allOf"].push_back({{"anyOf", {{{"required", {ns}}}, {{"required", {ns.substr(0, ns.size() - 3)}}}}}});
    }
    if (j.contains("required") && j["required"].empty()) j.erase("required");
}

json schema_of(const SettingKind& s) {
    using Type = SettingKind::Type;
    json j = any_text;
    if (s.type == Type::time || s.type == Type::integer) j = integer(s.low, s.high);
    if (s.type == Type::speeds) j = list_of(number(0.25, 4), 12);
    if (s.type == Type::yes_or_no) j = {{"type", "boolean"}};
    if (s.type == Type::choice) j = one_of({"mark", "words", "both"});
    if (s.type == Type::colour) j["pattern"] = "^(#[0-9A-Fa-f]{6})?$";
    j["description"] = s.meaning;
    j["default"] = s.get({});
    return j;
}
json theme_schema() {
    json members = json::object();
    for (auto& row : theme_members()) {
        auto& j = members[std::string(row.name)] = row.type == ThemeMember::Type::colour ? colour : any_text;
        if (row.type == ThemeMember::Type::integer) j = integer(row.low, row.high);
        if (row.type == ThemeMember::Type::family) j["minLength"] = 1, j["maxLength"] = 200;
        j["description"] = row.meaning;
    }
    return object(std::move(members));
}
}  // namespace

json project_schema() {
    json kinds = json::array(), places = json::array(), control = json::object(), limits = json::array();
    for (auto& k : control_kinds()) kinds.push_back(k.name);
    for (auto place : Slot::places) places.push_back(place);
    control["kind"] = one_of(kinds);
    control["name"] = any_text;
    control["slot"] = {{"anyOf", {one_of(places), {{"type", "string"}, {"pattern", "^[^/]+/(start|middle|end)$"}}}}};
    for (auto& s : setting_kinds()) control[std::string(s.name)] = schema_of(s);
    // A setting that a kind does not have means nothing there.
    for (auto& k : control_kinds()) {
        json none = json::object();
        for (auto& s : setting_kinds())
            if (!k.has(s.name)) none[std::string(s.name)] = false;
        if (!none.empty())
            limits.push_back({{"if", object({{"kind", {{"const", k.name}}}})}, {"then", {{"properties", none}}}});
    }
    auto control_schema = object(control, {"kind", "slot"});
    control_schema["allOf"] = std::move(limits);

    auto source = object(
        {{"name", any_text},
         {"file",
          {{"type", "string"}, {"minLength", 1}, {"description", "Relative to the document's folder, or absolute."}}},
         {"start", {{"oneOf", {one_of({"hold", "play"}), object({{"after_ns", integer(0)}}, {"after_ns"})}}}},
         {"loop",
          {{"oneOf",
            {one_of({"none", "all"}),
             object({{"from_ns", integer(0)}, {"to_ns", integer(1)}}, {"from_ns", "to_ns"})}}}},
         {"fit", one_of({"contain", "cover", "fill", "none"})},
         {"align",
          {{"type", "array"},
           {"items", number(0, 1)},
           {"minItems", 2},
           {"maxItems", 2},
           {"description", "Across and down: 0 is left or top, 1 right or bottom."}}},
         {"poster", {{"oneOf", {any_text, object({{"at_ns", integer(0)}}, {"at_ns"}), {{"const", false}}}}}},
         {"captions", list_of(any_text, 100)},
         {"sound_language", any_text},
         {"text_language", any_text},
         {"prepared", list_of(object({{"target", any_text},
                                      {"file", any_text},
                                      {"recipe", {{"type", "object"}, {"description", "See recipe.schema.json."}}}},
                                     {"target"}),
                              100)}},
        {"file"});
    auto bar = object({{"name", {{"type", "string"}, {"pattern", "^[^/]+$"}}},
                       {"edge", one_of({"bottom", "top"})},
                       {"where", one_of({"on", "beside", "clear"})},
                       {"theme", theme_schema()},
                       {"ground",
                        {{"type", "string"},
                         {"pattern", colour["pattern"]},
                         {"deprecated", true},
                         {"description", "The older spelling of “background” in its theme."}}},
                       {"cover", number(0, 1)},
                       {"room", object({{"side", one_of(json(side_names()))},
                                        {"gap_m", number(0, in_room::place)},
                                        {"tilt_deg", number(-90, 90)},
                                        {"out_m", number(0, in_room::place)}})}},
                      {"name"});
    auto picture = object({{"surround", colour},
                           {"corner_px", integer(0, 1000)},
                           {"render", object({{"width", integer(10, 8192)},
                                              {"height", integer(10, 8192)},
                                              {"scaling", one_of({"smooth", "blocky"})}},
                                             {"width", "height"})}});
    json at_ends = at_end_names(), mounts = mount_names();
    auto screen = object({{"arrangement", one_of(json(arrangement_names()))},
                          {"gap_px", integer(0, 200)},
                          {"ground", colour},
                          {"one_sounds", {{"type", "boolean"}}}});
    auto player = object({{"name", any_text},
                          {"sources", list_of(any_text, 10000)},
                          {"at_end", one_of(at_ends)},
                          {"picture", picture},
                          {"theme", theme_schema()},
                          {"volume", number(0, 1)},
                          {"muted", {{"type", "boolean"}}},
                          {"speed", number(0.25, 4)},
                          {"hide_after_ns", integer(0)},
                          {"give_up_after_ns", integer(0)},
                          {"open_within_ns", integer(1'000'000'000, 600'000'000'000)},
                          {"room", hang_schema()},
                          {"host", host_schema()},
                          {"remembers", list_of(one_of(json(remember_names())), 3)},
                          {"bars", list_of(bar, 6)},
                          {"controls", list_of({{"$ref", "#/$defs/control"}}, 120)}});
    auto schema =
        object({{"ruedo", {{"const", PlayerDocument::current_version}, {"description", "Number of the format."}}},
                {"app", {{"type", "string"}, {"description", "Name of the app."}}},
                {"target", {{"type", "string"}, {"description", "Name of the target that sources are judged for."}}},
                {"mount", one_of(mounts)},
                {"mount_size", {{"type", "array"}, {"items", integer(100, 8192)}, {"minItems", 2}, {"maxItems", 2}}},
                {"sources", list_of(source, 10000)},
                {"screen", screen},
                {"room", room_schema()},
                {"players",
                 {{"type", "array"}, {"items", player}, {"minItems", 1}, {"maxItems", PlayerDocument::most_players}}}},
               {"ruedo"});
    add_written_times(schema), add_written_times(control_schema);
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema";
    schema["title"] = "Ruedo project and player document";
    schema["$defs"] = {{"control", control_schema}};
    return schema;
}

}  // namespace ruedo
