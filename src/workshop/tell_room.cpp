// SPDX-License-Identifier: GPL-3.0-or-later
// The room in sentences: how the selected player hangs in it, where its bars float, what else stands there.
#include <fmt/format.h>

#include "scene/scene.h"
#include "workshop/telling.h"

namespace ruedo::builder {
namespace {
constexpr double wide = 50, high = 20;  // metres that a word offers; a document may say more

QString metres(double v) { return QString("%1 m").arg(v, 0, 'g', 5); }
QString sideways(double v) {
    return v == 0 ? QString("in the middle") : metres(std::abs(v)) + (v < 0 ? " to the left" : " to the right");
}
QString inwards(double v) {
    return v == 0 ? QString("level with its middle") : metres(std::abs(v)) + (v < 0 ? " to the back" : " to the front");
}
QString turned(double v) {
    return v == 0 ? QString("not turned")
                  : QString("turned %1° to the %2").arg(std::abs(v)).arg(v < 0 ? "right" : "left");
}
QString leaning(double v) {
    return v == 0 ? QString("upright") : QString("leaning %1 by %2°").arg(v < 0 ? "forward" : "back").arg(std::abs(v));
}
QString looking(double v) {
    return v == 0 ? QString("level") : QString("%1° %2").arg(std::abs(v)).arg(v < 0 ? "down" : "up");
}

/// A number of the document, by the way to it.
using Way = std::function<double&(PlayerDocument&)>;
void number(PageBuilder& t, const QString& key, const QString& path, const QString& what, QString (*said)(double),
            double now, double usual, Word::Range range, Way way) {
    range.now = now;
    t.number(key, path, what, said(now), said(usual), now != usual, std::move(range),
             [way = std::move(way)](PlayerDocument& d, double n) { way(d) = n; });
}
/// Of what has no default of its own: nothing is said to have changed.
void plain(PageBuilder& t) { t.out.words.back().changed = false; }

std::vector<Word::Option> options(std::span<const std::string_view> names, std::initializer_list<const char*> said) {
    std::vector<Word::Option> list;
    auto word = said.begin();
    for (auto name : names) list.push_back({text(name), *word++});
    return list;
}

/// Where the screen hangs, and how.
QStringList describe_hanging(PageBuilder& t) {
    auto& h = t.spec().hang;
    auto at = t.at() + "room/";
    auto own = [i = t.player](PlayerDocument& d) -> HangSpec& { return d.player(i).hang; };
    auto hung = scene::hung_at(t.document, t.player);
    t.chosen("hang", at + "at_m", "Place in the room",
             {{"row", "in a row, 2 m in front of the start"}, {"own", "at a position of its own"}},
             h.at ? "own" : "row", [own, hung](PlayerDocument& d, std::size_t i) {
                 if (i == 0)
                     own(d).at.reset();
                 else if (!own(d).at)
                     own(d).at = hung.point();
             });
    QStringList told{"It hangs {hang}."};
    if (h.at) {
        auto place = [own](double Point::* axis) -> Way {
            return [own, axis](PlayerDocument& d) -> double& { return (*own(d).at).*axis; };
        };
        number(t, "hang-x", at + "at_m/0", "Place across", sideways, h.at->x, 0,
               {-wide, wide, 0, " m", "To the right (negative: to the left)", 2}, place(&Point::x));
        plain(t);
        number(t, "hang-y", at + "at_m/1", "Height", metres, h.at->y, 1.6, {-high, high, 0, " m", "Above the floor", 2},
               place(&Point::y));
        plain(t);
        number(t, "hang-z", at + "at_m/2", "Place inwards", inwards, h.at->z, 0,
               {-wide, wide, 0, " m", "To the front (negative: to the back)", 2}, place(&Point::z));
        plain(t);
        told << "Its centre is {hang-x}, {hang-z}, and {hang-y} above the floor.";
    }
    t.chosen("facing", at + "facing", "Facing",
             options(facing_names(), {"a fixed direction", "the viewer, wherever that is", "along the view"}),
             text(facing_names()[static_cast<std::size_t>(h.facing)]),
             [own](PlayerDocument& d, std::size_t i) { own(d).facing = static_cast<HangSpec::Facing>(i); });
    number(t, "hang-turn", at + "turn_deg", "Turn", turned, h.turn, 0, {-180, 180, 0, "°", "To the left", 0},
           [own](PlayerDocument& d) -> double& { return own(d).turn; });
    number(t, "hang-tilt", at + "tilt_deg", "Lean", leaning, h.tilt, 0, {-90, 90, 0, "°", "Back", 0},
           [own](PlayerDocument& d) -> double& { return own(d).tilt; });
    number(t, "hang-width", at + "width_m", "Width of the screen", metres, h.width, HangSpec{}.width,
           {0.05, 50, 0, " m", "Wide", 2}, [own](PlayerDocument& d) -> double& { return own(d).width; });
    number(
        t, "bend", at + "bend_m", "Bend", [](double v) { return v == 0 ? QString("flat") : "bent round " + metres(v); },
        h.bend, 0, {0, 50, 0, " m", "Bent by this radius; 0 for flat", 2},
        [own](PlayerDocument& d) -> double& { return own(d).bend; });
    told << QString(h.facing == HangSpec::Facing::fixed ? "It faces {facing}: {hang-turn}, {hang-tilt}."
                                                        : "It faces {facing}.")
         << "It is {hang-width} wide and {bend}.";

    auto sized = [](int w, int v) { return QString("%1 × %2 pixels").arg(w).arg(v); };
    HangSpec usual;
    auto& surface = t.word("surface", at + "surface", "Surface", sized(h.surface_width, h.surface_height),
                           sized(usual.surface_width, usual.surface_height),
                           h.surface_width != usual.surface_width || h.surface_height != usual.surface_height,
                           [own](PlayerDocument& d, const QString& v) -> Taken {
                               auto parts = v.split('x');
                               int w = parts.value(0).toInt(), down = parts.value(1).toInt();
                               using namespace room_limits;
                               if (parts.size() != 2 || w < least_surface || down < least_surface || w > most_surface ||
                                   down > most_surface)
                                   return QString("A size such as 1280x720 is wanted, %1 to %2 pixels each way.")
                                       .arg(least_surface)
                                       .arg(most_surface);
                               own(d).surface_width = w, own(d).surface_height = down;
                               return {};
                           });
    for (auto [w, v] : {std::pair{640, 360}, {1280, 720}, {1920, 1080}, {720, 1280}})
        surface.options.push_back({QString("%1x%2").arg(w).arg(v), sized(w, v)});
    surface.typed = "A size in pixels, such as 1600x900";
    surface.now = QString("%1x%2").arg(h.surface_width).arg(h.surface_height);
    t.number("margin", at + "margin_m", "Backing",
             h.margin == 0 ? QString("nothing") : QString("a panel %1 cm larger on every side").arg(h.margin * 100),
             "nothing", h.margin != 0, {0, 500, h.margin * 100, " cm", "A panel larger by", 1},
             [own](PlayerDocument& d, double n) { own(d).margin = n / 100; });
    told << "The player is drawn into {surface}.";
    if (h.margin > 0) {
        t.coloured("backing", at + "backing", "Colour of the backing", h.backing, HangSpec{}.backing,
                   [own](PlayerDocument& d) -> std::string& { return own(d).backing; });
        t.number("cover", at + "cover", "Cover of the backing", QString("%1 %").arg(qRound(h.cover * 100)), "100 %",
                 h.cover != 1, {0, 100, h.cover * 100, " %", "Opacity of the backing", 0},
                 [own](PlayerDocument& d, double n) { own(d).cover = n / 100; });
        told << "Behind it is {margin} in {backing}, {cover} opaque.";
    } else {
        told << "Behind it is {margin}.";
    }
    return told;
}

/// Bars that do not lie on the picture.
void describe_floating(PageBuilder& t, QStringList& told) {
    auto& p = t.spec();
    for (std::size_t b = 0; b < p.bars.size(); ++b) {
        auto& bar = p.bars[b];
        if (bar.where == BarSpec::Where::on) continue;
        auto now = float_of(bar), usual = now;
        {
            auto without = bar;
            without.floats.reset();
            usual = float_of(without);
        }
        auto own = [i = t.player, b](PlayerDocument& d) -> FloatSpec& {
            auto& of = d.player(i).bars[b];
            if (!of.floats) of.floats = float_of(of);
            return *of.floats;
        };
        auto at = t.at() + QString("bars/%1/room/").arg(b);
        auto key = [&](const char* of) { return QString("float %1 %2").arg(of, text(bar.name)); };
        t.chosen(key("side"), at + "side", "Side of a bar",
                 options(side_names(), {"below it", "above it", "to its left", "to its right", "in front of it"}),
                 text(side_names()[static_cast<std::size_t>(now.side)]),
                 [own](PlayerDocument& d, std::size_t i) { own(d).side = static_cast<FloatSpec::Side>(i); });
        plain(t);
        auto centimetres = [&](const char* of, const char* path, const char* what, double value, double as_usual,
                               double FloatSpec::* member) {
            t.number(key(of), at + path, what, QString("%1 cm").arg(value * 100), QString("%1 cm").arg(as_usual * 100),
                     value != as_usual, {0, 500, value * 100, " cm", what, 1},
                     [own, member](PlayerDocument& d, double n) { own(d).*member = n / 100; });
            plain(t);
        };
        centimetres("gap", "gap_m", "From its edge", now.gap, usual.gap, &FloatSpec::gap);
        centimetres("out", "out_m", "In front of the screen", now.out, usual.out, &FloatSpec::out);
        number(t, key("tilt"), at + "tilt_deg", "Lean of a bar", leaning, now.tilt, usual.tilt,
               {-90, 90, 0, "°", "Back; at the sides to the middle", 0},
               [own](PlayerDocument& d) -> double& { return own(d).tilt; });
        plain(t);
        told << QString("Its bar “%1” floats {%2}, {%3} from the edge and {%4} in front of the screen, {%5}.")
                    .arg(text(bar.name), key("side"), key("gap"), key("out"), key("tilt"));
    }
}

void describe_viewer(PageBuilder& t, QStringList& told) {
    auto& v = t.document.room.viewer;
    ViewerSpec usual;
    auto own = [](PlayerDocument& d) -> ViewerSpec& { return d.room.viewer; };
    number(t, "start-x", "/room/viewer/at_m/0", "Start across", sideways, v.at.x, usual.at.x,
           {-wide, wide, 0, " m", "To the right (negative: to the left)", 2},
           [own](PlayerDocument& d) -> double& { return own(d).at.x; });
    plain(t);
    number(t, "start-z", "/room/viewer/at_m/2", "Start inwards", inwards, v.at.z, usual.at.z,
           {-wide, wide, 0, " m", "To the front (negative: to the back)", 2},
           [own](PlayerDocument& d) -> double& { return own(d).at.z; });
    plain(t);
    number(t, "start-y", "/room/viewer/at_m/1", "Height of the eyes", metres, v.at.y, usual.at.y,
           {0.1, high, 0, " m", "Eyes above the floor", 2},
           [own](PlayerDocument& d) -> double& { return own(d).at.y; });
    plain(t);
    number(t, "start-turn", "/room/viewer/turn_deg", "Look", turned, v.turn, 0, {-180, 180, 0, "°", "To the left", 0},
           [own](PlayerDocument& d) -> double& { return own(d).turn; });
    number(t, "start-tilt", "/room/viewer/tilt_deg", "Look up", looking, v.tilt, 0, {-90, 90, 0, "°", "Up", 0},
           [own](PlayerDocument& d) -> double& { return own(d).tilt; });
    number(
        t, "field", "/room/viewer/field_deg", "Field of view", [](double d) { return QString("%1°").arg(d); }, v.field,
        usual.field, {room_limits::least_field, room_limits::most_field, 0, "°", "From top to bottom", 0},
        [own](PlayerDocument& d) -> double& { return own(d).field; });
    told << "The viewer starts at {start-x}, {start-z}, with eyes {start-y} above the floor, {start-turn}, looking "
            "{start-tilt}, and sees {field} from top to bottom.";
}

void describe_solids(PageBuilder& t, QStringList& told) {
    auto& solids = t.document.room.solids;
    auto& w =
        t.word("solids", "/room/solids", "Solids in the room",
               solids.empty() ? QString("nothing else") : plural(static_cast<qint64>(solids.size()), "solid thing"),
               "nothing else", !solids.empty(), [](PlayerDocument& d, const QString& v) -> Taken {
                   auto& all = d.room.solids;
                   if (v.startsWith("-")) {
                       auto i = v.mid(1).toULong();
                       if (i >= all.size()) return "There is no such solid.";
                       all.erase(all.begin() + static_cast<std::ptrdiff_t>(i));
                       return {};
                   }
                   for (std::size_t k = 0; k < solid_names().size(); ++k)
                       if (v == text(solid_names()[k])) {
                           if (all.size() >= RoomSpec::most_solids) return "There is no room for more.";
                           auto s = SolidSpec::usual(static_cast<SolidSpec::Kind>(k));
                           s.name = d.room.free_solid_name(solid_names()[k]);
                           all.push_back(std::move(s));
                           return {};
                       }
                   return "Choose what appears or disappears.";
               });
    static constexpr std::array comes{"a wall as well", "a pillar as well", "a bench as well"};
    for (std::size_t k = 0; k < solid_names().size(); ++k) w.options.push_back({text(solid_names()[k]), comes.at(k)});
    for (std::size_t i = 0; i < solids.size(); ++i)
        w.options.push_back({QString("-%1").arg(i), QString("without “%1”").arg(text(solids[i].name))});
    told << "The room also holds {solids}.";
    for (std::size_t i = 0; i < solids.size(); ++i) {
        auto& s = solids[i];
        auto usual = SolidSpec::usual(s.kind);
        auto own = [i](PlayerDocument& d) -> SolidSpec& { return d.room.solids[i]; };
        auto at = QString("/room/solids/%1/").arg(i);
        auto key = [&](const char* of) { return QString("solid %1 %2").arg(of).arg(i); };
        number(t, key("x"), at + "at_m/0", "Place across", sideways, s.at.x, usual.at.x,
               {-wide, wide, 0, " m", "To the right (negative: to the left)", 2},
               [own](PlayerDocument& d) -> double& { return own(d).at.x; });
        plain(t);
        number(t, key("z"), at + "at_m/2", "Place inwards", inwards, s.at.z, usual.at.z,
               {-wide, wide, 0, " m", "To the front (negative: to the back)", 2},
               [own](PlayerDocument& d) -> double& { return own(d).at.z; });
        plain(t);
        number(t, key("turn"), at + "turn_deg", "Turn", turned, s.turn, 0, {-180, 180, 0, "°", "To the left", 0},
               [own](PlayerDocument& d) -> double& { return own(d).turn; });
        number(t, key("width"), at + "width_m", "Width", metres, s.width, usual.width, {0.05, wide, 0, " m", "Wide", 2},
               [own](PlayerDocument& d) -> double& { return own(d).width; });
        number(t, key("height"), at + "height_m", "Height", metres, s.height, usual.height,
               {0.05, high, 0, " m", "High", 2}, [own](PlayerDocument& d) -> double& { return own(d).height; });
        number(t, key("depth"), at + "depth_m", "Depth", metres, s.depth, usual.depth, {0.05, wide, 0, " m", "Deep", 2},
               [own](PlayerDocument& d) -> double& { return own(d).depth; });
        t.coloured(key("colour"), at + "colour", "Colour", s.colour, usual.colour,
                   [own](PlayerDocument& d) -> std::string& { return own(d).colour; });
        bool round = s.kind == SolidSpec::Kind::pillar;
        told << QString("“%1” is {%2}, {%3}, {%4}, {%5} high, {%6} wide%7, in {%8}.")
                    .arg(text(s.name), key("x"), key("z"), key("turn"), key("height"), key("width"),
                         round ? QString() : QString(" and {%1} deep").arg(key("depth")), key("colour"));
    }
}

void describe_pointer(PageBuilder& t, QStringList& told) {
    t.chosen("hand", "/room/hand", "Hand", {{"none", "the pointer only"}, {"hand", "the pointer and a hand"}},
             t.document.room.hand ? "hand" : "none", [](PlayerDocument& d, std::size_t i) {
                 d.room.hand = i ? std::optional(PoseSpec{}) : std::nullopt;
                 if (!i) return;
                 // Before the viewer's right side, a little below, pointing ahead.
                 auto& v = d.room.viewer;
                 auto axes = scene::Axes::turned(scene::radians(v.turn), 0);
                 auto to = scene::Vec(v.at) - axes.face * 0.6 + axes.right * 0.25 + scene::Vec{0, -0.3, 0};
                 d.room.hand = PoseSpec{to.point(), v.turn, 5};
             });
    t.chosen("sound-place", "/room/sound_by_place", "Sound by place",
             {{"no", "equally loud everywhere"}, {"yes", "softer with distance, from its direction"}},
             t.document.room.audio_by_place ? "yes" : "no",
             [](PlayerDocument& d, std::size_t i) { d.room.audio_by_place = i == 1; });
    RoomSpec usual;
    t.coloured("walls", "/room/walls", "Colour of the walls", t.document.room.walls, usual.walls,
               [](PlayerDocument& d) -> std::string& { return d.room.walls; });
    t.coloured("floor", "/room/floor", "Colour of the floor", t.document.room.floor, usual.floor,
               [](PlayerDocument& d) -> std::string& { return d.room.floor; });
    told << "Pointing is by {hand}. A player sounds {sound-place}. The walls are {walls}, the floor is {floor}.";
}
}  // namespace

void describe_room(PageBuilder& t) {
    auto told = describe_hanging(t);
    describe_floating(t, told);
    t.out.paragraphs.push_back(
        {"hang", t.document.players.size() > 1 ? text(t.spec().name) + " in the room" : QString("In the room"), told});
    QStringList room;
    describe_viewer(t, room);
    describe_solids(t, room);
    describe_pointer(t, room);
    t.out.paragraphs.push_back({"room", "The room", room});
}

}  // namespace ruedo::builder
