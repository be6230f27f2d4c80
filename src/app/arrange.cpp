// SPDX-License-Identifier: GPL-3.0-or-later
#include "arrange.h"

#include <fmt/format.h>

#include <algorithm>

#include "container/container.h"

namespace ruedo {
namespace {

/// Keeps the picture that is shown, and makes nothing of it before somebody asks.
class KeepingSink final : public PictureSink {
  public:
    std::shared_ptr<const Image> prepare(const Picture&) override { return std::make_shared<const Image>(); }
    void show(std::shared_ptr<const Image>, const Picture& picture, Time) override { shown = picture; }
    void clear() override { shown.reset(); }
    Time refresh() const override { return {}; }
    std::optional<Picture> shown;
};

std::string moment(Time t) { return fmt::format("{:g} s", t.seconds()); }

class Stage {
  public:
    explicit Stage(const ArrangeOptions& o)
        : options_(o),
          strand_(make_virtual_strand()),
          mixer_(*strand_, {}),
          sink_(std::make_shared<KeepingSink>()),
          session_({.strand = strand_,
                    .make =
                        [this](std::shared_ptr<PictureSink> sink) {
                            return std::make_unique<Controller>(
                                Controller::Env{strand_, &mixer_, &CodecRegistry::standard(), std::move(sink)});
                        },
                    .sink = sink_,
                    .changed = [this](std::size_t index) { turned_ = index; },
                    .full_screen = [this] { session_.set_full_screen(!session_.in_full_screen()); },
                    .leave = [this] { session_.controller().release(); }}) {
        session_.set_handset(o.mount.handset);
        session_.load(o.document, o.source, o.folder);
    }

    Result<Arranged> run() {
        auto begin = strand_->now();
        auto last = options_.script.empty() ? Time{} : options_.script.back().at;
        auto end = options_.at.value_or(std::max(1_s, last + 500_ms));
        for (auto& call : options_.script) {
            if (call.at > end) break;
            go_to(begin + call.at);
            if (interrupted()) break;
            TRY_DO(carry_out(call));
        }
        go_to(begin + end);
        if (interrupted()) return fail(Code::cancelled, "Arranging was interrupted.", "Run it again.");
        auto context = session_.context();
        auto layout = lay_out(session_.player(), options_.mount, context, session_.source());
        return Arranged{session_.document(), session_.index(), options_.mount, std::move(context),
                        std::move(layout),   sink_->shown,     options_.folder};
    }

  private:
    void go_to(Time until) {
        while (strand_->now() < until && !interrupted()) {
            // Where nothing moves, nothing comes of waiting but what was waited for.
            auto s = session_.snapshot();
            bool still = s.motion == Motion::still && !s.state.seeking && s.state.phase != Phase::opening;
            strand_->run_until(still && !session_.context().countdown ? until
                                                                      : std::min(until, strand_->now() + 20_ms));
            settle();
        }
    }
    /// What a call or the time has led to.
    void settle() {
        strand_->run_until(strand_->now());
        if (turned_) session_.turned(*std::exchange(turned_, std::nullopt));
        session_.follow();
    }
    Outcome press(std::size_t control, Time at) {
        auto& spec = session_.player().controls[control];
        auto context = session_.context();
        if (!spec.kind->pressable())
            return fail(Code::refused, fmt::format("“{}” is nothing to press.", spec.name),
                        spec.kind->slides() ? "Drag it to a number from 0 to 1." : "Choose another control.");
        auto why = unseen(session_.player(), spec, context);
        if (why.empty()) why = unusable(spec, context);
        if (!why.empty())
            return fail(Code::refused, fmt::format("“{}” cannot be pressed at {}: {}", spec.name, moment(at), why),
                        "Press it when it can be used.");
        session_.press(spec.kind->press(context, spec.settings));
        return {};
    }
    Outcome carry_out(const ScriptedCall& call) {
        if (call.verb == "press" || call.verb == "drag") {
            session_.touch();
            auto& controls = session_.player().controls;
            auto it = std::find_if(controls.begin(), controls.end(), [&](auto& c) { return c.name == call.name; });
            if (it == controls.end()) {
                std::string names;
                for (auto& c : controls) names += fmt::format("{}“{}”", names.empty() ? "" : ", ", c.name);
                return fail(Code::not_found, fmt::format("The player has no control “{}”.", call.name),
                            names.empty() ? "It has none at all." : "It has " + names + ".");
            }
            if (call.verb == "press")
                TRY_DO(press(static_cast<std::size_t>(it - controls.begin()), call.at));
            else
                TRY_DO(drag(*it, call));
        } else if (call.verb == "key") {
            if (call.name == "F11" || call.name == "Esc") {
                session_.touch();
                bool full = session_.in_full_screen();
                if (call.name == "F11" || full) session_.set_full_screen(!full);
            } else if (!session_.key(call.name)) {
                std::string names;
                for (auto& k : player_keys()) names += fmt::format("{}{}", names.empty() ? "" : ", ", k.keys);
                return fail(Code::usage, fmt::format("The key “{}” does nothing in a player.", call.name),
                            fmt::format("Those that do are {}.", names));
            }
        } else if (call.verb == "touch") {
            session_.touch();
            auto context = session_.context();
            auto layout = lay_out(session_.player(), options_.mount, context, session_.source());
            for (std::size_t i = 0; i < layout.controls.size(); ++i) {
                auto& c = layout.controls[i];
                bool hit = c.shown && c.box.holds({call.x, call.y, 1, 1});
                if (hit && session_.player().controls[i].kind->pressable()) TRY_DO(press(i, call.at));
            }
        } else {
            perform(session_.controller(), call);
        }
        settle();
        return {};
    }
    Outcome drag(const ControlSpec& spec, const ScriptedCall& call) {
        auto context = session_.context();
        auto why = unseen(session_.player(), spec, context);
        if (why.empty()) why = unusable(spec, context);
        if (why.empty() && !spec.kind->slides()) why = "It does not slide.";
        if (!why.empty())
            return fail(Code::refused, fmt::format("“{}” cannot be dragged at {}: {}", spec.name, moment(call.at), why),
                        "Drag what slides, when it can be used.");
        session_.press(spec.kind->slide(context, call.number));
        return {};
    }

    const ArrangeOptions& options_;
    std::shared_ptr<VirtualStrand> strand_;
    Mixer mixer_;
    std::shared_ptr<KeepingSink> sink_;
    std::optional<std::size_t> turned_;
    PlayerSession session_;
};

nlohmann::json box_json(const Box& b) { return {b.x, b.y, b.width, b.height}; }
}  // namespace

Result<Arranged> arrange(const ArrangeOptions& options) { return Stage(options).run(); }

nlohmann::json to_json(const Arranged& a, std::string_view mount_name) {
    using nlohmann::json;
    auto& player = a.document.player();
    json controls = json::array(), findings = json::array();
    for (std::size_t i = 0; i < player.controls.size(); ++i) {
        auto& spec = player.controls[i];
        auto& at = a.layout.controls[i];
        json j{{"name", spec.name},
               {"kind", spec.kind->name},
               {"player", player.name},
               {"box", box_json(at.box)},
               {"shown", at.shown},
               {"enabled", at.enabled},
               {"folded", at.folded},
               {"label", label_of(spec, a.context)},
               {"value", spec.kind->slides() ? json(spec.kind->value(a.context)) : json(nullptr)}};
        if (!at.why.empty()) j["why"] = at.why;
        controls.push_back(std::move(j));
    }
    for (auto& f : review(a.document, a.folder))
        findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"why", f.why}, {"where", f.where}});
    json document{{"mount", mount_name},
                  {"size", {a.mount.width, a.mount.height}},
                  {"state", machine::name(a.context.snapshot.state.phase)},
                  {"intent", machine::name(a.context.snapshot.state.intent)},
                  {"controls", std::move(controls)},
                  {"pictures", {{{"player", player.name}, {"box", box_json(a.layout.picture)}}}},
                  {"findings", std::move(findings)}};
    // What stands for what has folded away.
    for (auto& m : a.layout.more) {
        json names = json::array();
        for (auto i : m.controls) names.push_back(player.controls[i].name);
        document["more"].push_back({{"box", box_json(m.box)}, {"controls", std::move(names)}});
    }
    return document;
}

}  // namespace ruedo
