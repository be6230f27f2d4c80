// SPDX-License-Identifier: GPL-3.0-or-later
#include "arrange.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>

#include "container/container.h"
#include "player/rules.h"
#include "scene/scene.h"

namespace ruedo {
namespace {

/// Keeps the picture that is shown, and makes nothing of it before somebody asks.
class KeepingSink final : public FrameSink {
  public:
    std::shared_ptr<const RgbImage> prepare(const Frame&) override { return std::make_shared<const RgbImage>(); }
    void show(std::shared_ptr<const RgbImage>, const Frame& picture, Time) override { shown = picture; }
    void clear() override { shown.reset(); }
    Time refresh() const override { return {}; }
    std::optional<Frame> shown;
};

std::string moment(Time t) { return fmt::format("{:g} s", t.seconds()); }

/// One player of the screen.
class Seat {
  public:
    Seat(std::shared_ptr<VirtualStrand> strand, Mixer& mixer, const StreamOptions& stream, PlayerDocument own,
         const MountShape& seen_in, Box place)
        : part(std::move(own)),
          shape(seen_in),
          box(place),
          sink(std::make_shared<KeepingSink>()),
          session({.strand = strand,
                   .make =
                       [strand, &mixer, stream](std::shared_ptr<FrameSink> shown) {
                           return std::make_unique<Controller>(Controller::Env{.strand = strand,
                                                                               .mixer = &mixer,
                                                                               .codecs = &CodecRegistry::standard(),
                                                                               .sink = std::move(shown),
                                                                               .stream = stream});
                       },
                   .sink = sink,
                   .changed = [this](std::size_t index) { turned = index; },
                   .full_screen = [this] { session.set_full_screen(!session.in_full_screen()); },
                   .leave = [this] { session.controller().release(); }}) {
        session.set_handset(shape.handset);
    }
    Seat(const Seat&) = delete;
    const std::string& name() const { return session.player().name; }
    Layout layout(const ControlContext& context) const {
        return lay_out(session.player(), shape, context, session.source());
    }
    PlayerDocument part;
    MountShape shape;
    Box box;
    std::shared_ptr<KeepingSink> sink;
    std::optional<std::size_t> turned;
    PlayerSession session;
};

class Stage {
  public:
    explicit Stage(const ArrangeOptions& o) : options_(o), strand_(make_virtual_strand()), mixer_(*strand_, {}) {
        bool begun = !o.source;
        StreamOptions stream;
        if (o.network_trace)
            stream.link = stream::link_of(*o.network_trace, [strand = strand_] { return strand->now(); });
        auto boxes = place_players(o.document.screen, o.document.players.size(), o.mount);
        for (std::size_t i = 0; i < boxes.size(); ++i) {
            // In a room each has a surface of its own.
            auto shape = hangs() ? scene::surface_of(o.document.player(i)) : shape_in(o.mount, boxes[i]);
            if (hangs()) boxes[i] = {0, 0, shape.width, shape.height};
            auto& seat = seats_.emplace_back(strand_, mixer_, stream, part_of(o.document, i), shape, boxes[i]);
            auto queue = queue_of(o.document, i);
            auto wanted = begun ? queue.end() : std::find(queue.begin(), queue.end(), *o.source);
            bool begins = wanted != queue.end();
            begun = begun || begins;
            seat.session.load(seat.part, begins ? static_cast<std::size_t>(wanted - queue.begin()) : 0, o.folder);
        }
    }

    Result<Arranged> run() {
        auto begin = strand_->now();
        auto last = options_.script.empty() ? Time{} : options_.script.back().at;
        auto end = options_.at.value_or(std::max(1_s, last + 500_ms));
        for (auto& call : options_.script) {
            if (call.at > end) break;
            go_to(begin + call.at);
            if (interrupted()) break;
            RUEDO_TRY_DO(carry_out(call));
        }
        go_to(begin + end);
        if (interrupted()) return fail(ErrorCode::cancelled, "Arranging was interrupted.", "Run it again.");
        Arranged out{options_.document, options_.mount, {}, options_.folder, {}};
        if (hangs()) out.room = Arranged::Room{eye(), scene_now(), std::move(presses_)};
        for (auto& s : seats_) {
            auto context = s.session.context();
            auto layout = s.layout(context);
            out.players.push_back({s.session.document(), s.session.index(), s.box, std::move(context),
                                   std::move(layout), s.session.controller().events(), s.sink->shown});
        }
        return out;
    }

  private:
    bool hangs() const { return options_.document.mount == Mount::room; }
    scene::Eye eye() const {
        return scene::Eye::of(options_.document.room.viewer, options_.mount.width, options_.mount.height);
    }
    scene::Scene scene_now() const {
        std::vector<Layout> layouts;
        for (auto& s : seats_) layouts.push_back(s.layout(s.session.context()));
        return scene::build(options_.document, layouts, eye());
    }
    /// A press along a ray; what is in its way stops it.
    Status press_along(const scene::Ray& ray, Time at) {
        auto scene = scene_now();
        auto aim = scene.aim(ray);
        presses_.push_back({at, scene.told(aim), aim.landing});
        if (!aim.landing) return {};
        focus_ = aim.landing->player;
        auto& seat = seats_[focus_];
        seat.session.touch();
        return press_at(seat, static_cast<int>(aim.landing->x), static_cast<int>(aim.landing->y), at);
    }
    Status press_at(Seat& seat, int x, int y, Time at) {
        auto control = control_at(seat.layout(seat.session.context()), x, y);
        bool pressable = control && seat.session.player().controls[*control].kind->pressable();
        return pressable ? press(seat, *control, at) : Status{};
    }
    void go_to(Time until) {
        while (strand_->now() < until && !interrupted()) {
            // Where nothing moves, waiting changes nothing.
            bool still = std::all_of(seats_.begin(), seats_.end(), [](auto& seat) {
                auto s = seat.session.snapshot();
                return s.motion == Motion::still && !s.state.seeking && s.state.phase != Phase::opening &&
                       !seat.session.context().countdown;
            });
            strand_->run_until(still ? until : std::min(until, strand_->now() + 20_ms));
            settle();
        }
    }
    /// What a call or the time has led to.
    void settle() {
        strand_->run_until(strand_->now());
        std::vector<Snapshot> all;
        for (auto& s : seats_) {
            if (s.turned) s.session.turned(*std::exchange(s.turned, std::nullopt));
            s.session.follow();
            all.push_back(s.session.snapshot());
        }
        if (options_.document.screen.one_sounds)
            for (auto i : one_sounds_.follow(all)) seats_[i].session.controller().set_muted(true);
    }
    Status press(Seat& seat, std::size_t control, Time at) {
        auto& spec = seat.session.player().controls[control];
        auto context = seat.session.context();
        if (!spec.kind->pressable())
            return fail(ErrorCode::refused, fmt::format("“{}” is nothing to press.", spec.name),
                        spec.kind->slides() ? "Drag it to a number from 0 to 1." : "Choose another control.");
        auto why = unseen(seat.session.player(), spec, context);
        if (why.empty()) why = unusable(spec, context);
        if (!why.empty())
            return fail(ErrorCode::refused, fmt::format("“{}” cannot be pressed at {}: {}", spec.name, moment(at), why),
                        "Press it when it can be used.");
        // What is hidden can’t be pressed; what was pressed is no longer untouched.
        seat.session.touch();
        seat.session.press(spec.kind->press(context, spec.settings));
        return {};
    }
    /// The control of that name, and whose it is, which has the focus from then on.
    Result<std::size_t> find(const std::string& name) {
        std::vector<std::pair<std::size_t, std::size_t>> found;
        std::optional<std::pair<std::size_t, std::size_t>> named;
        std::string names;
        for (std::size_t p = 0; p < seats_.size(); ++p) {
            auto& controls = seats_[p].session.player().controls;
            for (std::size_t i = 0; i < controls.size(); ++i) {
                auto whole = seats_[p].name() + "/" + controls[i].name;
                names += fmt::format("{}“{}”", names.empty() ? "" : ", ", seats_.size() > 1 ? whole : controls[i].name);
                if (controls[i].name == name) found.emplace_back(p, i);
                if (seats_.size() > 1 && whole == name) named = {p, i};
            }
        }
        if (named && found.empty()) found = {*named};
        if (found.empty())
            return fail(
                ErrorCode::not_found,
                fmt::format("{} control “{}”.", seats_.size() > 1 ? "No player has a" : "The player has no", name),
                names.empty() ? "There are none at all." : "There are " + names + ".");
        if (found.size() > 1)
            return fail(ErrorCode::usage, fmt::format("Several players have a control “{}”.", name),
                        fmt::format("Say whose is meant, such as “{}/{}”.", seats_[found[0].first].name(), name));
        focus_ = found[0].first;
        return found[0].second;
    }
    Status carry_out(const ScriptedCall& call) {
        if (call.verb == "press" || call.verb == "drag") {
            RUEDO_TRY(auto control, find(call.name));
            auto& seat = seats_[focus_];
            if (call.verb == "press")
                RUEDO_TRY_DO(press(seat, control, call.at));
            else
                RUEDO_TRY_DO(drag(seat, seat.session.player().controls[control], call));
        } else if (call.verb == "key") {
            auto& session = seats_[focus_].session;
            if (call.name == "F11" || call.name == "Esc") {
                session.touch();
                bool full = session.in_full_screen();
                if (call.name == "F11" || full) session.set_full_screen(!full);
            } else if (!session.key(call.name)) {
                std::string names;
                for (auto& k : player_keys()) names += fmt::format("{}{}", names.empty() ? "" : ", ", k.keys);
                return fail(ErrorCode::usage, fmt::format("The key “{}” does nothing in a player.", call.name),
                            fmt::format("Those that do are {}.", names));
            }
        } else if (call.verb == "host") {
            for (auto& seat : seats_) seat.session.host(call.name);
        } else if (call.verb == "hand" || call.verb == "pull") {
            if (!hangs())
                return fail(ErrorCode::usage, fmt::format("“{}” is done in a room only.", call.verb),
                            "Say --mount room.");
            if (call.verb == "hand") {
                hand_ = call.pose;
            } else if (!hand_) {
                return fail(ErrorCode::usage, "There is no hand that could pull.",
                            "Put one there first, such as “0s hand 0.2 1.3 -0.5 0 0”.");
            } else {
                RUEDO_TRY_DO(press_along({hand_->at, -scene::Axes::of(*hand_).face}, call.at));
            }
        } else if (call.verb == "touch" && hangs()) {
            RUEDO_TRY_DO(press_along(eye().ray(call.x + 0.5, call.y + 0.5), call.at));
        } else if (call.verb == "touch") {
            for (std::size_t p = 0; p < seats_.size(); ++p)
                if (seats_[p].box.holds({call.x, call.y, 1, 1})) focus_ = p;
            auto& seat = seats_[focus_];
            seat.session.touch();
            RUEDO_TRY_DO(press_at(seat, call.x - seat.box.x, call.y - seat.box.y, call.at));
        } else {
            perform(seats_[focus_].session.controller(), call);
        }
        settle();
        return {};
    }
    Status drag(Seat& seat, const ControlSpec& spec, const ScriptedCall& call) {
        auto context = seat.session.context();
        auto why = unseen(seat.session.player(), spec, context);
        if (why.empty()) why = unusable(spec, context);
        if (why.empty() && !spec.kind->slides()) why = "It does not slide.";
        if (!why.empty())
            return fail(ErrorCode::refused,
                        fmt::format("“{}” cannot be dragged at {}: {}", spec.name, moment(call.at), why),
                        "Drag what slides, when it can be used.");
        seat.session.touch();
        seat.session.press(spec.kind->slide(context, call.number));
        return {};
    }

    const ArrangeOptions& options_;
    std::shared_ptr<VirtualStrand> strand_;
    Mixer mixer_;
    std::deque<Seat> seats_;
    std::size_t focus_ = 0;
    ExclusiveAudio one_sounds_;
    std::optional<PoseSpec> hand_ = options_.document.room.hand;
    std::vector<Arranged::Room::Press> presses_;
};

nlohmann::json metres_json(const scene::Vec& v) { return {v.x, v.y, v.z}; }
/// Where a part of a player's layout is seen in the room's view, and what it is there.
void in_room(nlohmann::json& j, const Arranged& a, std::size_t player, const Box& part) {
    auto look = scene::look_at(a.room->scene, a.room->eye, player, part);
    if (!look) return;
    auto whole = [](double v) { return static_cast<int>(std::lround(v)); };
    auto& b = look->box;
    j["box"] = look->projected ? nlohmann::json{whole(b.x), whole(b.y), whole(b.width), whole(b.height)}
                               : nlohmann::json(nullptr);
    j["room"] = {{"middle_m", metres_json(look->middle)},
                 {"size_m", {look->metres_wide, look->metres_high}},
                 {"distance_m", look->distance},
                 {"degrees", {scene::degrees(look->wide), scene::degrees(look->high)}},
                 {"seen", look->seen()}};
    if (look->hidden_by) j["room"]["behind"] = a.room->scene.things[*look->hidden_by].name;
}

nlohmann::json box_json(const Box& b, const Box& within) { return {within.x + b.x, within.y + b.y, b.width, b.height}; }
}  // namespace

Result<Arranged> arrange(const ArrangeOptions& options) { return Stage(options).run(); }

nlohmann::json to_json(const Arranged& a, std::string_view mount_name) {
    using nlohmann::json;
    json controls = json::array(), findings = json::array(), pictures = json::array(), players = json::array(),
         more = json::array();
    for (std::size_t number = 0; number < a.players.size(); ++number) {
        auto& p = a.players[number];
        auto& spec = p.document.player();
        for (std::size_t i = 0; i < spec.controls.size(); ++i) {
            auto& control = spec.controls[i];
            auto& at = p.layout.controls[i];
            json j{{"name", control.name},
                   {"kind", control.kind->name},
                   {"player", spec.name},
                   {"box", box_json(at.box, p.box)},
                   {"shown", at.shown},
                   {"enabled", at.enabled},
                   {"folded", at.folded},
                   {"label", label_of(control, p.context)},
                   {"value", control.kind->slides() ? json(control.kind->value(p.context)) : json(nullptr)}};
            if (control.kind->pressable()) j["on"] = control.kind->mark(p.context, control.settings).on;
            if (!at.why.empty()) j["why"] = at.why;
            if (a.room && at.shown) in_room(j, a, number, at.box);
            if (a.room && !at.shown) j["box"] = nullptr;
            controls.push_back(std::move(j));
        }
        pictures.push_back({{"player", spec.name}, {"box", box_json(p.layout.picture, p.box)}});
        if (a.room) in_room(pictures.back(), a, number, p.layout.picture);
        auto& s = p.context.snapshot;
        json events = json::array(), captions = nullptr;
        for (auto& e : p.events) events.push_back(to_json(e));
        for (auto& c : *s.track_options)
            if (c.kind == Kind::text && s.text_track != 0 && c.id == s.text_track) captions = c.title;
        players.push_back(
            {{"name", spec.name},
             {"source", p.source < p.document.sources.size() ? json(p.document.sources[p.source].name) : json(nullptr)},
             {"position_ns", s.position.ns},
             {"rate", s.rate},
             {"volume", s.volume},
             {"captions", std::move(captions)},
             {"level_db", level_dB(s)},
             {"events", std::move(events)},
             {"box", box_json({0, 0, p.box.width, p.box.height}, p.box)},
             {"state", machine::name(p.context.snapshot.state.phase)},
             {"intent", machine::name(p.context.snapshot.state.intent)},
             {"muted", p.context.snapshot.muted}});
        if (a.room) in_room(players.back(), a, number, p.layout.whole);
        // What stands for what has folded away.
        for (auto& m : p.layout.more) {
            json names = json::array();
            for (auto i : m.controls) names.push_back(spec.controls[i].name);
            more.push_back({{"player", spec.name}, {"box", box_json(m.box, p.box)}, {"controls", std::move(names)}});
        }
    }
    auto all = scene::review_all(a.document, a.folder);
    for (auto& f : review_contrast(a.document, a.folder)) all.push_back(std::move(f));
    for (auto& f : all)
        findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"why", f.why}, {"where", f.where}});
    auto& first = a.players.front().context.snapshot.state;
    json document{{"mount", mount_name},
                  {"size", {a.mount.width, a.mount.height}},
                  {"state", machine::name(first.phase)},
                  {"intent", machine::name(first.intent)},
                  {"players", std::move(players)},
                  {"controls", std::move(controls)},
                  {"pictures", std::move(pictures)},
                  {"findings", std::move(findings)}};
    if (!more.empty()) document["more"] = std::move(more);
    if (a.room) {
        json surfaces = json::array(), presses = json::array();
        for (std::size_t i = 0; i < a.players.size(); ++i) {
            auto& hang = a.document.player(i).hang;
            auto seen = scene::visible_size(a.room->scene, a.room->eye, i);
            json s{{"player", a.document.player(i).name}, {"size", {hang.surface_width, hang.surface_height}}};
            s["seen"] = seen ? json{seen->width, seen->height} : json(nullptr);
            if (seen) s["sentence"] = scene::surface_sentence(hang.surface_width, hang.surface_height, *seen);
            surfaces.push_back(std::move(s));
        }
        for (auto& p : a.room->presses) {
            json one{{"at_ns", p.at.ns}, {"told", p.told}, {"lands", p.landing.has_value()}};
            if (p.landing) {
                one["player"] = a.document.player(p.landing->player).name;
                one["pixel"] = {std::floor(p.landing->x), std::floor(p.landing->y)};
                auto& hit = a.players[p.landing->player];
                auto control = control_at(hit.layout, static_cast<int>(p.landing->x), static_cast<int>(p.landing->y));
                one["control"] = control ? json(hit.document.player().controls[*control].name) : json(nullptr);
            }
            presses.push_back(std::move(one));
        }
        document["room"] = {{"viewer_m", metres_json(a.room->eye.at)},
                            {"surfaces", std::move(surfaces)},
                            {"presses", std::move(presses)}};
    }
    return document;
}

}  // namespace ruedo
