// SPDX-License-Identifier: Apache-2.0
#include "player/rules.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "capture/camera.h"
#include "convert/targets.h"
#include "player/screen.h"

namespace ruedo {
namespace {
namespace fs = std::filesystem;
using Fix = DocumentFinding::Fix;
using R = const Reviewing&;
using Kinds = std::initializer_list<std::string_view>;

/// One player of the document that is looked at.
struct Player {
    R r;
    std::size_t number;
    const PlayerSpec& spec;
    std::vector<std::size_t> queue;

    std::string at(std::string_view of) const { return fmt::format("/players/{}/{}", number, of); }
    std::string of(std::string_view rest) const {
        return r.document.players.size() == 1 ? fmt::format("Nothing on the player {}.", rest)
                                              : fmt::format("Nothing on “{}” {}.", spec.name, rest);
    }
    std::string named(const ControlSpec& c) const {
        return r.document.players.size() == 1 ? fmt::format("“{}”", c.name)
                                              : fmt::format("“{}” on “{}”", c.name, spec.name);
    }
    static bool among(const ControlSpec& c, Kinds kinds) {
        return std::find(kinds.begin(), kinds.end(), c.kind->name) != kinds.end();
    }
    /// Whether one of these can be used in some moment of which `when` is true.
    bool usable(Kinds kinds, std::string_view when = {}) const {
        return std::any_of(spec.controls.begin(), spec.controls.end(), [&](auto& c) {
            if (!among(c, kinds)) return false;
            auto all = Condition::parse(c.settings.when);
            auto use = Condition::parse(c.settings.usable);
            auto then = Condition::parse(when);
            return all && use && then && all->goes_with(*use) && all->goes_with(*then) && use->goes_with(*then);
        });
    }
    bool has(Kinds kinds) const {
        return std::any_of(spec.controls.begin(), spec.controls.end(), [&](auto& c) { return among(c, kinds); });
    }
    Fix put(std::string_view what, const char* kind) const {
        return {fmt::format("Put {} on it", what), [kind, player = number](PlayerDocument& d) {
                    auto& p = d.player(player);
                    p.put({.kind = &control_kind(kind)}, p.bars.empty() ? "bottom" : p.bars.front().name + "/end");
                }};
    }
    template <class Change>
    Fix change(std::string words, Change how) const {
        return {std::move(words), [player = number, how](PlayerDocument& d) { how(d.player(player)); }};
    }
    bool handset() const { return shape_of(r.document.mount).handset; }
    const std::optional<ClipInfo>& clip(std::size_t source) const { return r.clips[source]; }
};
template <class F>
void each_player(R r, F&& f) {
    for (std::size_t i = 0; i < r.document.players.size(); ++i)
        if (auto queue = queue_of(r.document, i); !queue.empty())
            f(Player{r, i, r.document.player(i), std::move(queue)});
}
template <class F>
void each_control(R r, F&& f) {
    each_player(r, [&](const Player& p) {
        for (std::size_t i = 0; i < p.spec.controls.size(); ++i) f(p, i, p.spec.controls[i]);
    });
}
template <class F>
void each_source(R r, F&& f) {
    for (std::size_t i = 0; i < r.document.sources.size(); ++i) f(i, r.document.sources[i]);
}
/// Width and height of a PNG (its IHDR) or a JPEG (its frame header); nothing of anything else.
std::optional<std::pair<int, int>> shape_of_picture(const fs::path& file) {
    auto bytes = read_file(file, 64 << 20);
    if (!bytes || bytes->size() < 24) return {};
    auto& b = *bytes;
    auto two = [&](std::size_t at) { return b[at] << 8 | b[at + 1]; };
    std::pair<int, int> size{};
    if (b[0] == 0x89 && b[1] == 'P') {
        size = {two(16) << 16 | two(18), two(20) << 16 | two(22)};
    } else if (b[0] == 0xFF && b[1] == 0xD8) {
        for (std::size_t at = 2; at + 9 < b.size() && b[at] == 0xFF; at += 2 + static_cast<std::size_t>(two(at + 2))) {
            bool frame =
                b[at + 1] >= 0xC0 && b[at + 1] <= 0xCF && b[at + 1] != 0xC4 && b[at + 1] != 0xC8 && b[at + 1] != 0xCC;
            if (frame) return std::pair{two(at + 7), two(at + 5)};
        }
    }
    return size.first > 0 && size.second > 0 ? std::optional(size) : std::nullopt;
}
std::string source_at(std::size_t i, std::string_view member) { return fmt::format("/sources/{}/{}", i, member); }
std::string control_at(const Player& p, std::size_t i, std::string_view member = {}) {
    return p.at(fmt::format("controls/{}{}{}", i, member.empty() ? "" : "/", member));
}
bool comes_over_a_network(const SourceSpec& s) { return is_address(s.file) && !is_camera(s.file); }
template <class Change>
Fix mend_source(std::string words, std::size_t source, Change how) {
    return {std::move(words), [source, how](PlayerDocument& d) { how(d.sources.at(source)); }};
}
/// A control’s own settings.
template <class Change>
Fix mend_control(const Player& p, std::size_t i, std::string words, Change how) {
    return p.change(std::move(words), [i, how](PlayerSpec& spec) { how(spec.controls.at(i)); });
}
Fix take_away(const Player& p, std::size_t i) {
    return p.change("Take it away", [i](PlayerSpec& spec) {
        spec.controls.erase(spec.controls.begin() + static_cast<std::ptrdiff_t>(i));
    });
}

// ---- ways on and out

void no_way_to_pause(R r) {
    each_player(r, [&](const Player& p) {
        // What nobody is meant to touch is let be: a loop in a hall, for instance.
        bool touched = std::any_of(p.spec.controls.begin(), p.spec.controls.end(), [](auto& c) {
            return c.kind->takes_input() && !Player::among(c, {"start", "retry", "mute", "volume"});
        });
        if (!touched) return;
        bool all_live =
            std::all_of(p.queue.begin(), p.queue.end(), [&](auto i) { return is_camera(r.document.sources[i].file); });
        if (!all_live && !p.usable({"toggle", "pause", "stop"}, "playing"))
            r.note(p.of("holds it while it plays"), p.at("controls"), p.put("“play or pause”", "toggle"));
    });
}
void no_way_out_of_full_screen(R r) {
    each_player(r, [&](const Player& p) {
        if (p.usable({"full-screen"}, "not in full screen") && !p.usable({"full-screen", "leave"}, "in full screen"))
            r.note(p.of("leads out of full screen, though something leads into it"), p.at("controls"),
                   p.put("“full screen”", "full-screen"));
    });
}
void no_way_to_leave(R r) {
    each_player(r, [&](const Player& p) {
        if (p.handset() && !p.usable({"leave"}) && p.spec.at_end != AtEnd::leave)
            r.note(p.of("leaves it"), p.at("controls"), p.put("“leave”", "leave"));
    });
}
void no_way_back(R r) {
    each_player(r, [&](const Player& p) {
        bool stays = p.spec.at_end == AtEnd::hold || (p.spec.at_end == AtEnd::next && p.queue.size() < 2);
        bool loops = std::all_of(p.queue.begin(), p.queue.end(), [&](auto i) {
            return r.document.sources[i].loop.kind != Loop::Kind::none || is_camera(r.document.sources[i].file);
        });
        if (stays && !loops &&
            !p.usable({"toggle", "play", "start", "position", "back", "stop", "strip", "previous", "next"},
                      "at the end"))
            r.note(p.of("leads back from the end"), p.at("controls"), p.put("“play or pause”", "toggle"));
    });
}
void silent_waiting(R r) {
    each_player(r, [&](const Player& p) {
        bool far = std::any_of(p.queue.begin(), p.queue.end(),
                               [&](auto i) { return comes_over_a_network(r.document.sources[i]); });
        if (far && !p.usable({"waiting"}, "waiting"))
            r.note(p.of("says that it waits for the network"), p.at("controls"), p.put("the waiting sign", "waiting"));
    });
}
void waits_for_ever(R r) {
    each_player(r, [&](const Player& p) {
        bool far = std::any_of(p.queue.begin(), p.queue.end(),
                               [&](auto i) { return comes_over_a_network(r.document.sources[i]); });
        if (far && p.spec.give_up_after == Time{} && p.usable({"waiting"}, "waiting"))
            r.note("When nothing comes any more, the waiting sign turns for ever.", p.at("give_up_after_ns"),
                   p.change("Give up after 30 seconds", [](PlayerSpec& s) { s.give_up_after = 30_s; }));
    });
}
void silent_delay(R r) {
    each_player(r, [&](const Player& p) {
        for (auto i : p.queue)
            if (auto& s = r.document.sources[i];
                s.start.how == Start::How::delay && s.start.delay > 1_s && !p.usable({"countdown"}, "counting down"))
                return r.note(fmt::format("“{}” starts by itself after {:g} s, and nothing counts down to it.", s.name,
                                          s.start.delay.seconds()),
                              source_at(i, "start"), p.put("the countdown", "countdown"));
    });
}

// ---- controls

/// No layout lays one over another; what can meet is two that do the same.
void in_one_place(R r) {
    each_player(r, [&](const Player& p) {
        auto& all = p.spec.controls;
        for (std::size_t a = 0; a < all.size(); ++a)
            for (std::size_t b = a + 1; b < all.size(); ++b) {
                auto &x = all[a], &y = all[b];
                if (x.kind != y.kind || x.slot != y.slot || !x.kind->takes_input()) continue;
                if (x.settings.by != y.settings.by || x.settings.frames != y.settings.frames ||
                    x.settings.speeds != y.settings.speeds)
                    continue;
                auto one = Condition::parse(x.settings.when), other = Condition::parse(y.settings.when);
                if (!one || !other || !one->goes_with(*other)) continue;
                r.note(fmt::format("{} and {} do the same in one place.", p.named(x), p.named(y)),
                       control_at(p, b, "slot"), take_away(p, b));
                return;
            }
    });
}
void press_small(R r) {
    auto touch = shape_of(r.document.mount).touch;
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        int least = touch ? 44 : 24;
        if (c.kind->takes_input() && c.settings.size > 0 && c.settings.size < least)
            r.note(fmt::format("{} is {} pixels high; {} needs {}.", p.named(c), c.settings.size,
                               touch ? "a finger" : "a pointer", least),
                   control_at(p, i, "size"),
                   mend_control(p, i, fmt::format("Make it {} pixels high", least),
                                [least](ControlSpec& s) { s.settings.size = least; }));
    });
}
void not_by_keyboard(R r) {
    // Whatever has the focus counts as touched, so what shows only while nobody touches is gone by then.
    static const auto touched = *Condition::parse("not no touch for 0.1 s");
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        auto when = Condition::parse(c.settings.when);
        if (c.kind->takes_input() && when && when->possible() && !when->goes_with(touched))
            r.note(fmt::format("{} can’t be reached by keyboard: it goes as soon as a key is pressed.", p.named(c)),
                   control_at(p, i, "when"), mend_control(p, i, "Let it appear as its kind does", [](ControlSpec& s) {
                       s.settings.when.clear();
                   }));
    });
}
void no_name(R r) {
    auto moment = usual_moment();
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        auto label = label_of(c, moment);
        bool blank = label.find_first_not_of(" \t\n") == std::string::npos;
        if (c.kind->takes_input() && blank)
            r.note(fmt::format("{} has no name that a screen reader could say.", p.named(c)), control_at(p, i, "words"),
                   mend_control(p, i, "Call it what it is", [](ControlSpec& s) { s.settings.words.clear(); }));
    });
}
void key_of_two(R r) {
    each_player(r, [&](const Player& p) {
        for (bool onward : {false, true}) {
            std::optional<std::pair<std::size_t, Time>> first;
            for (std::size_t i = 0; i < p.spec.controls.size(); ++i) {
                auto& c = p.spec.controls[i];
                auto press = c.kind->press(usual_moment(), c.settings);
                if (press.what != Press::What::skip || (press.by > Time{}) != onward) continue;
                if (!first) {
                    first = {i, press.by};
                } else if (press.by != first->second) {
                    r.note(fmt::format("{} and {} both want the key {}; the first has it.",
                                       p.named(p.spec.controls[first->first]), p.named(c),
                                       onward ? "Alt+Right" : "Alt+Left"),
                           control_at(p, i),
                           mend_control(p, i, "Let both skip as far",
                                        [by = p.spec.controls[first->first].settings.by](ControlSpec& s) {
                                            s.settings.by = by;
                                        }));
                    break;
                }
            }
        }
    });
}
/// What of a player’s sources is known says that none of them has it.
bool none_has(const Player& p, bool (*has)(const SourceSpec&, const ClipInfo&)) {
    return std::all_of(p.queue.begin(), p.queue.end(), [&](auto i) {
        auto& clip = p.clip(i);
        return clip && !has(p.r.document.sources[i], *clip);
    });
}
bool has_kind(const ClipInfo& c, Kind kind) {
    return std::any_of(c.tracks.begin(), c.tracks.end(), [&](auto& t) { return t.kind == kind; });
}
void nothing_behind(R r) {
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        if (Player::among(c, {"volume", "mute", "level"}) &&
            none_has(p, [](const SourceSpec&, const ClipInfo& clip) { return has_kind(clip, Kind::audio); }))
            r.note(fmt::format("{} has nothing behind it: no source has sound.", p.named(c)), control_at(p, i),
                   take_away(p, i));
    });
}
void rail_on_live(R r) {
    each_control(r, [&](const Player& p, std::size_t i, const ControlSpec& c) {
        if (!Player::among(c, {"position"})) return;
        bool all = std::all_of(p.queue.begin(), p.queue.end(), [&](auto s) {
            auto& clip = p.clip(s);
            return is_camera(r.document.sources[s].file) ||
                   (clip && clip->live && clip->container != "hls" && clip->container != "dash");
        });
        if (all)
            r.note(fmt::format("{} has no place to go to: all that plays is live.", p.named(c)), control_at(p, i),
                   take_away(p, i));
    });
}
void captions_unreachable(R r) {
    each_player(r, [&](const Player& p) {
        if (p.usable({"captions", "tracks"})) return;
        for (auto i : p.queue) {
            auto& s = r.document.sources[i];
            auto& clip = p.clip(i);
            if ((s.captions.empty() && !(clip && has_kind(*clip, Kind::text))) || !s.text_language.empty()) continue;
            return r.note(fmt::format("“{}” has captions, and nothing on the player shows them.", s.name),
                          p.at("controls"), p.put("“captions”", "captions"));
        }
    });
}
void silent_for_good(R r) {
    each_player(r, [&](const Player& p) {
        if ((p.spec.muted || p.spec.volume == 0) && !p.usable({"mute", "volume"}) &&
            !none_has(p, [](const SourceSpec&, const ClipInfo& c) { return has_kind(c, Kind::audio); }))
            r.note("It begins without sound, and nothing on the player brings it back.", p.at("controls"),
                   p.put("“mute”", "mute"));
    });
}

// ---- sources

void poster_flash(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (s.start.how == Start::How::play && (!s.poster.empty() || s.poster_at))
            r.note(
                fmt::format("“{}” starts by itself, so its poster flashes by.", s.name), source_at(i, "poster"),
                mend_source("Leave the poster out", i, [](SourceSpec& x) { x.poster.clear(), x.poster_at.reset(); }));
    });
}
void poster_shape(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (s.poster.empty() || !r.clips[i]) return;
        auto file = resolve(s.poster, r.folder);
        auto* video = r.clips[i]->main(Kind::video);
        auto poster = is_address(file) ? std::nullopt : shape_of_picture(file);
        if (!video || !poster || video->video.display_height() <= 0) return;
        auto ours = static_cast<double>(poster->first) / poster->second,
             theirs = static_cast<double>(video->video.display_width()) / video->video.display_height();
        if (std::max(ours / theirs, theirs / ours) < 1.03) return;
        r.note(fmt::format("The poster of “{}” is {} x {}; the clip is {} x {}.", s.name, poster->first, poster->second,
                           video->video.display_width(), video->video.display_height()),
               source_at(i, "poster"), mend_source("Take a frame of the clip", i, [](SourceSpec& x) {
                   x.poster.clear(), x.poster_at = Time{};
               }));
    });
}
void short_loop(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (s.loop.kind == Loop::Kind::range && s.loop.to - s.loop.from < 1_s)
            r.note(fmt::format("“{}” repeats a stretch of {:g} s.", s.name, (s.loop.to - s.loop.from).seconds()),
                   source_at(i, "loop"),
                   mend_source("Repeat all of it", i, [](SourceSpec& x) { x.loop = {Loop::Kind::all, {}, {}}; }));
    });
}
void no_captions_file(R r) {
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        for (std::size_t k = 0; k < s.captions.size(); ++k) {
            auto file = resolve(s.captions[k], r.folder);
            std::error_code ec;
            if (is_address(file) || fs::exists(file, ec)) continue;
            r.note(fmt::format("There are no captions “{}”.", s.captions[k]),
                   source_at(i, fmt::format("captions/{}", k)), mend_source("Leave them out", i, [k](SourceSpec& x) {
                       x.captions.erase(x.captions.begin() + static_cast<std::ptrdiff_t>(k));
                   }));
        }
    });
}
std::optional<Target> target_of(R r) {
    auto found = find_target(r.document.target);
    return found ? std::optional(*found) : std::nullopt;
}
/// What is played for the target: what was made for it stands in a source’s place.
bool prepared(R r, const SourceSpec& s) {
    auto* p = s.prepared_for(r.document.target);
    return p && !p->file.empty();
}
void target_refuses(R r) {
    auto target = target_of(r);
    if (!target) return;
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (!r.clips[i] || prepared(r, s)) return;
        auto& clip = *r.clips[i];
        std::string why;
        auto& all = target->containers;
        if (std::find(all.begin(), all.end(), clip.container) == all.end())
            why = fmt::format("it does not take {}", container_title(clip.container));
        for (auto kind : {Kind::video, Kind::audio}) {
            auto* track = clip.main(kind);
            if (!track || !why.empty()) continue;
            auto* rule = rule_of(kind == Kind::video ? target->video : target->audio, track->codec);
            if (!rule)
                why = fmt::format("it does not take {}", codec_title(track->codec));
            else
                why = misfit(*track, 0, *rule);
        }
        if (!why.empty())
            r.note(fmt::format("{} can’t play “{}” as it is: {}.", target->title, s.name, why), source_at(i, "file"));
    });
}
void over_budget(R r) {
    auto target = target_of(r);
    if (!target || target->bundle_bytes == 0) return;
    each_source(r, [&](std::size_t i, const SourceSpec& s) {
        if (!r.clips[i] || prepared(r, s) || is_address(s.file) || r.clips[i]->bytes <= target->bundle_bytes) return;
        r.note(
            fmt::format("“{}” has {:.1f} MB; {} takes {:.1f} MB.", s.name, static_cast<double>(r.clips[i]->bytes) / 1e6,
                        target->title, static_cast<double>(target->bundle_bytes) / 1e6),
            source_at(i, "file"));
    });
}
void loud_start(R r) {
    auto target = target_of(r);
    if (!target || target->starts_loud) return;
    for (std::size_t p = 0; p < r.document.players.size(); ++p) {
        if (!starts_loud(r.document, p)) continue;
        r.note(fmt::format("“{}” starts by itself with its sound on, which {} forbids.", r.document.player(p).name,
                           target->title),
               fmt::format("/players/{}/muted", p),
               Fix{"Begin with its sound off", [p](PlayerDocument& d) { d.player(p).muted = true; }});
    }
}

// ---- drawing, and the app round it

void render_shape(R r) {
    each_player(r, [&](const Player& p) {
        auto& picture = p.spec.picture;
        if (picture.render_width <= 0) return;
        for (auto i : p.queue) {
            auto* video = p.clip(i) ? p.clip(i)->main(Kind::video) : nullptr;
            if (!video || video->video.display_height() <= 0) continue;
            double w = picture.render_width, h = picture.render_height, cw = video->video.display_width(),
                   ch = video->video.display_height();
            auto shape = std::max(w / h / (cw / ch), cw / ch / (w / h));
            auto times = std::max({w / cw, cw / w, h / ch, ch / h});
            if (shape < 1.03 && times < 10) continue;
            return r.note(
                fmt::format("The picture is drawn at {} x {}, {} “{}” ({} x {}).", picture.render_width,
                            picture.render_height, shape >= 1.03 ? "another shape than that of" : "ten times off",
                            r.document.sources[i].name, cw, ch),
                p.at("picture/render"), p.change("Draw it as large as it is seen", [](PlayerSpec& s) {
                    s.picture.render_width = s.picture.render_height = 0;
                }));
        }
    });
}
void plays_unseen(R r) {
    static const auto row = host_row("background");
    each_player(r, [&](const Player& p) {
        if (p.spec.host.of(row) == Deed::go_on)
            r.note(fmt::format("“{}” plays on when its app is put away.", p.spec.name), p.at("host/background"),
                   p.change("Let it pause", [](PlayerSpec& s) { s.host.deeds[row].reset(); }));
    });
}
void never_released(R r) {
    static const auto row = host_row("background");
    each_player(r, [&](const Player& p) {
        bool camera =
            std::any_of(p.queue.begin(), p.queue.end(), [&](auto i) { return is_camera(r.document.sources[i].file); });
        if (camera && p.spec.host.of(row) != Deed::let_go)
            r.note(fmt::format("“{}” holds its camera while its app is put away.", p.spec.name),
                   fmt::format("/players/{}", p.number),
                   p.change("Let everything go then", [](PlayerSpec& s) { s.host.deeds[row] = Deed::let_go; }));
    });
}

constexpr std::array rules{
    ReviewRule{"no-way-to-pause", "Nothing on the player holds it while it plays.",
               "A key may, but nobody can see a key.", no_way_to_pause},
    ReviewRule{"no-way-out-of-full-screen", "A control leads into full screen, and none out of it.",
               "Where there is no keyboard one would be caught in it.", no_way_out_of_full_screen},
    ReviewRule{"no-way-to-leave", "On a handset nothing leaves the player.", "There is no window that one could close.",
               no_way_to_leave},
    ReviewRule{"no-way-back", "It stays at its end, and nothing leads back.", "All that is left is to close it.",
               no_way_back},
    ReviewRule{"silent-waiting", "A source comes over a network, and nothing says when it waits.",
               "A picture that stands looks like one that is broken.", silent_waiting},
    ReviewRule{"waits-for-ever", "A waiting sign, and no time after which it gives up.",
               "A sign that something comes is wrong once nothing can come.", waits_for_ever},
    ReviewRule{"silent-delay", "A source starts by itself after a while, and nothing counts down.",
               "It would begin unforeseen.", silent_delay},
    ReviewRule{"in-one-place", "Two controls that do the same stand in one place.",
               "Whoever sees two looks for a difference.", in_one_place},
    ReviewRule{"too-small", "A control is lower than a finger (44) or a pointer (24 pixels) needs.",
               "It would be missed.", press_small},
    ReviewRule{"not-by-keyboard", "A control shows only while nobody touches anything.",
               "Whoever can’t point has no way to it.", not_by_keyboard},
    ReviewRule{"no-name", "A control whose words are blank.", "Whoever does not see it can’t know what it does.",
               no_name},
    ReviewRule{"key-of-two", "Two controls that skip the same way, not equally far.", "A key can do but one thing.",
               key_of_two},
    ReviewRule{"nothing-behind", "A control of the sound where no source has any.", "It would never be seen.",
               nothing_behind},
    ReviewRule{"rail-on-live", "A position where all that plays is live, without a window that is kept.",
               "There is no place to drag it to.", rail_on_live},
    ReviewRule{"captions-unreachable", "Captions, and no way to show them.", "Whoever needs them can’t have them.",
               captions_unreachable},
    ReviewRule{"silent-for-good", "It begins muted, and nothing brings the sound back.", "Nobody would ever hear it.",
               silent_for_good},
    ReviewRule{"poster-flash", "A poster of a source that starts by itself.",
               "A poster stands for what waits to be started.", poster_flash},
    ReviewRule{"poster-shape", "A poster of another shape than its clip.", "The picture would jump when it starts.",
               poster_shape},
    ReviewRule{"short-loop", "A stretch of less than a second is repeated.",
               "It would flicker, and its sound would buzz.", short_loop},
    ReviewRule{"no-captions-file", "A file of captions that is not there.", "They would be missing without a word.",
               no_captions_file},
    ReviewRule{"target-refuses", "A source that the target does not take as it is.",
               "It would fail on the device; Prepare makes one that plays.", target_refuses},
    ReviewRule{"over-budget", "A file larger than the target’s budget for one.", "The upload would be refused.",
               over_budget},
    ReviewRule{"loud-start", "It starts by itself with its sound on where the target forbids that.",
               "There it would stay silent, or not start.", loud_start},
    ReviewRule{"render-shape", "The picture is drawn at a size of another shape than the clip, or ten times off.",
               "A slip in typing stretches it, or makes it coarse.", render_shape},
    ReviewRule{"plays-unseen", "It plays on in the background.",
               "Sound from what nobody sees is taken for a fault, and it costs power.", plays_unseen},
    ReviewRule{"never-released", "A camera is held while the app is put away.",
               "No other app could use it, and its light stays on.", never_released},
};
}  // namespace

std::span<const ReviewRule> review_rules() { return rules; }

std::string findings_page() {
    std::string page =
        "# Findings\n\nMade from `src/core/player/rules.cpp`. What a review of a player turns up besides what files "
        "and "
        "addresses say of themselves,\nand what a room adds ([room.md](room.md)). Most are mended by one press.\n\n"
        "| code | what is found | why it matters |\n|---|---|---|\n";
    for (auto& r : rules) page += fmt::format("| `{}` | {} | {} |\n", r.code, r.meaning, r.why);
    return page +
           "| `hard-to-read` | Words or marks whose contrast with the clip’s own pictures is below 4.5 to 1. | Nobody "
           "reads them there. |\n";
}

}  // namespace ruedo
