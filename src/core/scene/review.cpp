// SPDX-License-Identifier: Apache-2.0
// What a review turns up of how players hang in a room: one row each.
#include <fmt/format.h>

#include <algorithm>

#include "player/screen.h"
#include "scene/findings.h"
#include "scene/scene.h"

namespace ruedo::scene {
namespace {
using Fix = DocumentFinding::Fix;
namespace fs = std::filesystem;

constexpr double least_press = 1.5, least_letters = 0.35, nearest = 0.5, off_sight = 30;  // degrees, metres
constexpr double largest_screen = 50, smallest_screen = 0.05, farthest_screen = 100;

struct Reviewing {
    const PlayerDocument& document;
    const fs::path& folder;
    const InfoOf& ask;
    Eye eye;
    ControlContext moment = usual_moment();
    std::vector<Layout> layouts{};
    Scene scene{};
    std::vector<DocumentFinding>& found;
    const FindingRow* row = nullptr;

    std::string at(std::size_t player, std::string_view of = "") const {
        return fmt::format("/players/{}/room{}", player, of);
    }
    std::string named(std::size_t player, std::string_view what = "The screen") const {
        return document.players.size() == 1 ? std::string(what)
                                            : fmt::format("{} of “{}”", what, document.player(player).name);
    }
    void note(std::string sentence, std::string why, std::string where, std::optional<Fix> fix = {}) const {
        found.push_back(
            {std::string(row->code), std::move(sentence), std::move(why), std::move(where), std::move(fix)});
    }
    const Thing& screen(std::size_t player) const { return scene.things[*scene.screen_of(player)]; }
    /// Changes how a player hangs.
    template <class Change>
    Fix hang(std::string words, std::size_t player, Change change) const {
        return {std::move(words), [player, change](PlayerDocument& d) { change(d.player(player).hang); }};
    }
    Fix in_front(std::size_t player, double metres) const {
        auto pose = before_viewer(document.room.viewer, metres);
        return hang(fmt::format("Hang it {:g} m in front of the start", metres), player, [pose](HangSpec& h) {
            h.at = pose.at, h.turn = pose.turn, h.tilt = 0, h.facing = HangSpec::Facing::fixed;
        });
    }
    /// The least width (in steps of a twentieth) at which `enough` says so; nothing where it would not do: what is
    /// larger reaches farther, too.
    template <class Enough>
    std::optional<Fix> widen(std::size_t player, Enough enough) const {
        auto d = document;
        auto& width = d.player(player).hang.width;
        for (width *= 1.05; width < largest_screen; width *= 1.05) {
            auto rounded = std::ceil(width * 10) / 10;
            width = rounded;
            if (!enough(build(d, layouts, eye))) continue;
            return hang(fmt::format("Make the screen {:g} m wide", rounded), player,
                        [rounded](HangSpec& h) { h.width = rounded; });
        }
        return {};
    }
    bool slips(std::size_t player) const {
        auto w = document.player(player).hang.width;
        return w > largest_screen || w < smallest_screen || length(screen(player).panel.middle) > farthest_screen;
    }
};

template <class Each>
void each_player(Reviewing& r, Each each) {
    for (std::size_t p = 0; p < r.layouts.size(); ++p) each(p);
}
/// Controls that are to be seen in the usual moment, with how they look.
template <class Each>
void each_control(Reviewing& r, Each each) {
    each_player(r, [&](std::size_t p) {
        // Of a screen that is a slip as a whole nothing else is said.
        if (r.slips(p)) return;
        auto& controls = r.document.player(p).controls;
        for (std::size_t i = 0; i < controls.size(); ++i)
            if (auto& c = r.layouts[p].controls[i]; c.shown)
                if (auto look = look_at(r.scene, r.eye, p, c.box)) each(p, i, controls[i], c, *look);
    });
}
std::string pointer_to(std::size_t player, std::size_t control) {
    return fmt::format("/players/{}/controls/{}", player, control);
}

void unit_slip(Reviewing& r) {
    each_player(r, [&](std::size_t p) {
        auto& h = r.document.player(p).hang;
        if (h.width > largest_screen || h.width < smallest_screen)
            r.note(fmt::format("{} is {:g} m wide.", r.named(p), h.width),
                   h.width > largest_screen ? "Lengths in the room are metres; this looks like pixels or millimetres."
                                            : "Lengths in the room are metres.",
                   r.at(p, "/width_m"), r.hang("Make it 1.6 m wide", p, [](HangSpec& own) { own.width = 1.6; }));
        else if (auto far = length(r.screen(p).panel.middle - r.eye.at); far > farthest_screen)
            r.note(fmt::format("{} hangs {:.0f} m from the start.", r.named(p), far), "Lengths in the room are metres.",
                   r.at(p, "/at_m"), r.in_front(p, 2));
    });
}
void out_of_view(Reviewing& r) {
    each_player(r, [&](std::size_t p) {
        if (r.slips(p)) return;
        auto& panel = r.screen(p).panel;
        constexpr int steps = 12;
        for (int i = 0; i <= steps; ++i)
            for (int j = 0; j <= steps; ++j) {
                auto s = r.eye.project(panel.at(i / double{steps}, j / double{steps}));
                if (s && s->x >= 0 && s->x < r.eye.width && s->y >= 0 && s->y < r.eye.height) return;
            }
        r.note(fmt::format("{} is outside the view at the start.", r.named(p)),
               "A viewer who starts there sees nothing of it.", r.at(p, "/at_m"), r.in_front(p, 2));
    });
}
void from_behind(Reviewing& r) {
    each_player(r, [&](std::size_t p) {
        auto& panel = r.screen(p).panel;
        if (dot(r.eye.at - panel.middle, panel.axes.face) > 0) return;
        r.note(fmt::format("{} is seen from behind at the start.", r.named(p)),
               "Its back shows nothing and takes no presses.", r.at(p, "/turn_deg"),
               r.hang("Turn it to the viewer", p, [](HangSpec& h) { h.facing = HangSpec::Facing::viewer; }));
    });
}
void too_near(Reviewing& r) {
    each_player(r, [&](std::size_t p) {
        if (r.slips(p)) return;
        auto d = length(r.screen(p).panel.middle - r.eye.at);
        if (d >= nearest) return;
        r.note(fmt::format("{} is {:.0f} cm from the eye.", r.named(p), d * 100),
               "Closer than half a metre is tiring to look at, and leaves no room for a hand.", r.at(p, "/at_m"),
               r.in_front(p, 1));
    });
}
void off_the_line(Reviewing& r) {
    each_player(r, [&](std::size_t p) {
        auto to = unit(r.screen(p).panel.middle - r.eye.at);
        auto off = degrees(std::acos(std::clamp(dot(to, r.eye.look()), -1.0, 1.0)));
        if (off <= off_sight || r.slips(p)) return;
        r.note(fmt::format("{} hangs {:.0f} degrees off the line of sight.", r.named(p), off),
               "More than 30 degrees turns the head instead of the eyes.", r.at(p, "/at_m"),
               r.in_front(p, std::max(1.0, std::round(length(r.screen(p).panel.middle - r.eye.at) * 10) / 10)));
    });
}
void hidden_control(Reviewing& r) {
    each_control(r, [&](std::size_t p, std::size_t i, const ControlSpec& c, const Layout::Control&, const Look& look) {
        if (!look.hidden_by) return;
        r.note(fmt::format("“{}” stands behind {}.", c.name, r.scene.things[*look.hidden_by].name),
               "From the start it is hidden, and no ray reaches it.", pointer_to(p, i));
    });
}
void small_press(Reviewing& r) {
    // What fixes one of them fixes all.
    auto large_enough = [&r](std::size_t p) {
        return [&r, p](const Scene& scene) {
            auto& controls = r.document.player(p).controls;
            for (std::size_t i = 0; i < controls.size(); ++i) {
                auto& c = r.layouts[p].controls[i];
                if (!c.shown || !controls[i].kind->takes_input()) continue;
                auto look = look_at(scene, r.eye, p, c.box);
                if (look && degrees(std::min(look->wide, look->high)) < least_press) return false;
            }
            return true;
        };
    };
    each_control(r, [&](std::size_t p, std::size_t i, const ControlSpec& c, const Layout::Control&, const Look& look) {
        auto side = degrees(std::min(look.wide, look.high));
        if (!c.kind->takes_input() || side >= least_press || side <= 0) return;
        r.note(fmt::format("“{}” is seen under {:.1f} degrees from the start.", c.name, side),
               fmt::format("A ray from a hand needs 1.5; {:.0f} mm at {:.1f} m are less.",
                           std::min(look.metres_wide, look.metres_high) * 1000, look.distance),
               pointer_to(p, i), r.widen(p, large_enough(p)));
    });
}
void small_letters(Reviewing& r) {
    each_control(r, [&](std::size_t p, std::size_t i, const ControlSpec& c, const Layout::Control& at,
                        const Look& look) {
        using Form = ControlKind::Form;
        bool figures = c.kind->form == Form::rail && c.settings.figures;
        bool words = figures || c.kind->form == Form::label || c.kind->form == Form::notice ||
                     (c.kind->form == Form::button && c.settings.show != ControlSettings::Show::mark);
        if (!words) return;
        auto pixels = figures ? 12 : words_pixels(c, at.box.height);
        auto high = degrees(look.high) * pixels / at.box.height;
        if (high >= least_letters || high <= 0) return;
        auto& hang = r.document.player(p).hang;
        auto need = static_cast<int>(std::ceil(std::min(96.0, pixels * least_letters / high)));
        auto size = 3 * need;
        r.note(
            fmt::format("The letters of “{}” are {:.2f} degrees high from the start.", c.name, high),
            fmt::format("They need 0.35. {} of {} pixels across {:g} m are {:.0f} mm, at {:.1f} m.", pixels,
                        hang.surface_width, hang.width, pixels * hang.width / hang.surface_width * 1000, look.distance),
            pointer_to(p, i),
            figures ? r.widen(p,
                              [&](const Scene& scene) {
                                  auto larger = look_at(scene, r.eye, p, at.box);
                                  return larger && degrees(larger->high) * pixels / at.box.height >= least_letters;
                              })
                    : std::optional<Fix>(
                          Fix{fmt::format("Make them {} pixels high", need),
                              [p, i, size](PlayerDocument& d) { d.player(p).controls.at(i).settings.size = size; }}));
    });
}
/// How much of a surface a picture of this display size fills.
double filled(const SourceSpec& source, double width, double height, const HangSpec& h) {
    auto r =
        fit_rect(source.fit == Fit::none ? Fit::contain : source.fit, width, height, h.surface_width, h.surface_height);
    auto shape = std::min(r.width / r.height, width / height) / std::max(r.width / r.height, width / height);
    auto whole = static_cast<double>(h.surface_width) * h.surface_height;
    // What is cut off counts as what is left free, and so does what is stretched.
    return std::min(std::min(1.0, r.width * r.height / whole), whole / (r.width * r.height)) * shape;
}
void surface_slip(Reviewing& r) {
    each_player(r, [&](std::size_t p) {
        auto& h = r.document.player(p).hang;
        auto surface = fmt::format("{} × {}", h.surface_width, h.surface_height);
        struct Filled {
            std::size_t source;
            int width, height;
            double share;
        };
        std::vector<Filled> clips;
        for (auto i : queue_of(r.document, p)) {
            auto& source = r.document.sources[i];
            auto path = resolve(source, r.folder);
            std::error_code ec;
            if (is_address(path) || !fs::exists(path, ec)) continue;
            auto info = r.ask(path);
            auto* video = info ? info->main(Kind::video) : nullptr;
            if (!video || video->video.display_width() <= 0 || video->video.display_height() <= 0) continue;
            auto w = video->video.display_width(), high = video->video.display_height();
            clips.push_back({i, w, high, filled(source, w, high, h)});
        }
        auto by_share = [](auto& a, auto& b) { return a.share < b.share; };
        auto worst = std::min_element(clips.begin(), clips.end(), by_share);
        auto best = std::max_element(clips.begin(), clips.end(), by_share);
        // Most often a slip; or a surface made for one clip that another has come onto.
        bool slip = worst != clips.end() && worst->share < 0.25;
        if (slip || (worst != clips.end() && worst->share < 0.6 && best->share > 0.9)) {
            auto tall = std::clamp(
                static_cast<int>(std::lround(static_cast<double>(h.surface_width) * worst->height / worst->width)),
                room_limits::least_surface, room_limits::most_surface);
            auto& name = r.document.sources[worst->source].name;
            r.note(fmt::format("The surface is {} pixels and “{}” is {} × {}: it fills {:.0f} % of it.", surface, name,
                               worst->width, worst->height, worst->share * 100),
                   slip ? "A surface of quite another shape than its clip is probably a mistake."
                        : fmt::format("It has the shape of “{}”; the rest stays free.",
                                      r.document.sources[best->source].name),
                   r.at(p, "/surface"),
                   slip ? std::optional(r.hang(fmt::format("Make it {} × {}", h.surface_width, tall), p,
                                               [tall](HangSpec& own) { own.surface_height = tall; }))
                        : std::nullopt);
            return;
        }
        auto seen = visible_size(r.scene, r.eye, p);
        if (!seen || r.slips(p)) return;
        auto larger = seen->width / h.surface_width;
        auto sized = [&](double factor) {
            auto even = [&](int v) {
                return std::clamp(static_cast<int>(std::lround(v * factor / 2)) * 2, room_limits::least_surface,
                                  room_limits::most_surface);
            };
            int wide = even(h.surface_width), high = even(h.surface_height);
            return r.hang(fmt::format("Make it {} × {}", wide, high), p,
                          [wide, high](HangSpec& own) { own.surface_width = wide, own.surface_height = high; });
        };
        if (larger > 1.5) {
            r.note(fmt::format("The surface is {} pixels and is seen {:.0f} wide at the start.", surface, seen->width),
                   "It is smaller than its size on screen, so it looks soft.", r.at(p, "/surface"), sized(larger));
            return;
        }
        // As near as anybody comes.
        auto d = std::max(nearest, length(r.screen(p).panel.middle - r.eye.at));
        auto ever = larger * d / nearest;
        if (ever < 0.5 && h.surface_width > 640)
            r.note(fmt::format("The surface is {} pixels; even from half a metre {:.0f} of them across are seen.",
                               surface, ever * h.surface_width),
                   "It is larger than its size on screen, which costs time and memory for nothing.",
                   r.at(p, "/surface"), sized(std::max(ever, 640.0 / h.surface_width)));
    });
}
/// Whether lines across one go through the other.
bool pierces(const Panel& one, const Panel& other) {
    constexpr int steps = 25, lines = 8;
    auto through = [&](const Vec& a, const Vec& b) {
        auto way = b - a;
        auto l = length(way);
        auto hit = other.hit({a, unit(way)});
        return hit && hit->t <= l;
    };
    for (int l = 0; l <= lines; ++l) {
        auto part = l / double{lines};
        if (through(one.at(part, 0), one.at(part, 1))) return true;
        for (int i = 0; i < steps; ++i)
            if (through(one.at(i / double{steps}, part), one.at((i + 1) / double{steps}, part))) return true;
    }
    return false;
}
void crossing(Reviewing& r) {
    for (std::size_t a = 0; a < r.layouts.size(); ++a)
        for (std::size_t b = a + 1; b < r.layouts.size(); ++b) {
            auto &first = r.screen(a).panel, &second = r.screen(b).panel;
            if (!pierces(first, second) && !pierces(second, first)) continue;
            r.note(fmt::format("The screens of “{}” and “{}” go through each other.", r.document.player(a).name,
                               r.document.player(b).name),
                   "Each hides a part of the other, with its controls.", r.at(b, "/at_m"),
                   r.hang("Hang the second beside the first", b,
                          [at = first.middle + first.axes.right * ((first.width + second.width) / 2 + 0.25),
                           like = r.document.player(a).hang](HangSpec& h) {
                              h.at = at.point(), h.turn = like.turn, h.tilt = like.tilt, h.facing = like.facing;
                          }));
        }
}
void inside_solid(Reviewing& r) {
    for (auto& t : r.scene.things)
        if (t.kind == Thing::Kind::solid && t.body.holds(r.eye.at))
            r.note(fmt::format("The viewer starts inside {}.", t.name), "Only its inside would be visible.",
                   fmt::format("/room/solids/{}/at_m", t.player),
                   Fix{"Take it away", [i = t.player](PlayerDocument& d) {
                           d.room.solids.erase(d.room.solids.begin() + static_cast<std::ptrdiff_t>(i));
                       }});
}

struct Check {
    FindingRow row;
    void (*run)(Reviewing&);
};
constexpr std::array checks{
    Check{{"unit-slip", "A screen wider than 50 m or narrower than 5 cm, or farther than 100 m."}, unit_slip},
    Check{{"viewer-inside", "The viewer starts inside something solid."}, inside_solid},
    Check{{"out-of-view", "A screen outside the view at the start."}, out_of_view},
    Check{{"seen-from-behind", "A screen whose back is turned to the start."}, from_behind},
    Check{{"too-near", "A screen closer than 0.5 m."}, too_near},
    Check{{"off-sight", "A screen more than 30 degrees off the line of sight."}, off_the_line},
    Check{{"screens-cross", "Two screens that go through each other."}, crossing},
    Check{{"control-hidden", "A control behind a screen, a bar or something solid."}, hidden_control},
    Check{{"press-small", "A control that takes presses and is seen under less than 1.5 degrees."}, small_press},
    Check{{"letters-small", "Words whose letters are less than 0.35 degrees high."}, small_letters},
    Check{{"surface-slip",
           "A surface of quite another shape than the clip (less than a quarter of it filled), smaller "
           "than it is seen (by half), or larger than it is seen even from half a metre (twice)."},
          surface_slip},
};
}  // namespace

std::vector<FindingRow> finding_rows() {
    std::vector<FindingRow> rows;
    for (auto& c : checks) rows.push_back(c.row);
    return rows;
}

std::vector<DocumentFinding> review_all(const PlayerDocument& document, const fs::path& folder, const InfoOf& ask) {
    auto found = ruedo::review(document, folder, ask);
    if (document.mount != Mount::room) return found;
    auto view = shape_of(Mount::room, document.mount_width, document.mount_height);
    for (auto& f : review(document, folder, view.width, view.height, ask)) found.push_back(std::move(f));
    return found;
}

std::vector<DocumentFinding> review(const PlayerDocument& document, const fs::path& folder, int width, int height,
                                    const InfoOf& ask) {
    std::vector<DocumentFinding> found;
    Reviewing r{.document = document,
                .folder = folder,
                .ask = ask,
                .eye = Eye::of(document.room.viewer, width, height),
                .found = found};
    for (auto& p : document.players) r.layouts.push_back(lay_out(p, surface_of(p), r.moment));
    r.scene = build(document, r.layouts, r.eye);
    for (auto& c : checks) r.row = &c.row, c.run(r);
    return found;
}

}  // namespace ruedo::scene
