// SPDX-License-Identifier: Apache-2.0
// The controller's face: every call goes to the strand.
#include <chrono>
#include <future>

#include <algorithm>

#include "playback/engine.h"

namespace ruedo {
namespace {
/// What `ask` says on the strand, behind every task posted before.
template <class F>
auto on_strand(Strand& strand, F ask) -> decltype(ask()) {
    if (strand.is_virtual() || strand.is_current()) return ask();
    auto promise = std::make_shared<std::promise<decltype(ask())>>();
    auto answer = promise->get_future();
    strand.post([promise, ask] { promise->set_value(ask()); });
    return answer.get();
}
}  // namespace

Controller::Controller(Env env) : engine_(std::make_shared<Engine>(std::move(env))) { engine_->publish(); }

Controller::~Controller() {
    engine_->trace().listen({});
    if (engine_->strand().is_virtual() || engine_->strand().is_current()) {
        engine_->call(machine::Input::release);
        return;
    }
    release();
    // The last task on the strand destroys the engine; the strand itself must not end on its own thread.
    auto strand = engine_->shared_strand();
    auto closed = std::make_shared<std::promise<void>>();
    auto done = closed->get_future();
    strand->post([engine = std::move(engine_), closed]() mutable {
        engine.reset();
        closed->set_value();
    });
    done.wait();
}

#define RUEDO_POST(what) engine_->strand().post([=, e = engine_]() mutable { e->on_call([&] { e->what; }); })

void Controller::open(std::string source, OpenOptions options) {
    engine_->strand().post(
        [e = engine_, source = std::move(source), options] { e->on_call([&] { e->open(source, options); }); });
}
void Controller::play() { RUEDO_POST(call(machine::Input::play)); }
void Controller::pause() { RUEDO_POST(call(machine::Input::pause)); }
void Controller::stop() { RUEDO_POST(call(machine::Input::stop)); }
void Controller::seek(Time t, SeekMode mode) { RUEDO_POST(seek(t, mode)); }
void Controller::skip(Time by) { RUEDO_POST(skip(by)); }
void Controller::choose_audio(std::uint64_t id) { RUEDO_POST(choose_audio(id)); }
void Controller::list_frames() { RUEDO_POST(list_frames()); }
void Controller::choose_text(std::uint64_t id) { RUEDO_POST(choose_text(id)); }
void Controller::choose_languages(std::string audio, std::string text) { RUEDO_POST(choose_languages(audio, text)); }
void Controller::step(int pictures) { RUEDO_POST(step(pictures)); }
void Controller::set_volume(double volume) { RUEDO_POST(set_volume(volume, e->muted())); }
void Controller::set_muted(bool muted) { RUEDO_POST(set_muted(muted)); }
void Controller::set_place(double left, double right) { RUEDO_POST(set_place(left, right)); }
void Controller::set_ducked(double part) { RUEDO_POST(set_ducked(part)); }
void Controller::shown_at(int width, int height) { RUEDO_POST(shown_at(width, height)); }
void Controller::tell(std::string name, std::string detail) { RUEDO_POST(tell(name, detail)); }
void Controller::set_rate(double rate) { RUEDO_POST(set_rate(rate)); }
void Controller::set_loop(Loop loop) { RUEDO_POST(set_loop(loop)); }
void Controller::refresh() { RUEDO_POST(refresh()); }
void Controller::play_after(Controller& first) {
    engine_->strand().post([e = engine_, f = first.engine_] {
        auto mixer_input = e->arm();
        f->strand().post([f, mixer_input] { f->hand_over_to(mixer_input); });
    });
}
void Controller::start_now() {
    engine_->strand().post([e = engine_] { e->disarm(); });
}
void Controller::release() {
    engine_->cancel_work();
    RUEDO_POST(call(machine::Input::release));
}
void Controller::toggle() {
    engine_->strand().post([e = engine_] {
        e->call(e->snapshot().state.intent == Intent::play ? machine::Input::pause : machine::Input::play);
    });
}
void Controller::painted(Time pts, Time due, Time when) { RUEDO_POST(painted(pts, due, when)); }
#undef RUEDO_POST

Snapshot Controller::snapshot() const { return engine_->snapshot(); }
std::vector<Event> Controller::events(std::uint64_t after) const { return engine_->trace().after(after); }
PlaybackReport Controller::report() const {
    return on_strand(engine_->strand(), [this] { return engine_->report(); });
}
Snapshot Controller::snapshot_after_calls() const {
    return on_strand(engine_->strand(), [this] { return engine_->snapshot(); });
}
void Controller::on_event(std::function<void(const Event&)> listener) { engine_->trace().listen(std::move(listener)); }
bool Controller::wait(const std::function<bool(const Snapshot&)>& done, Time deadline) const {
    return engine_->wait(done, deadline);
}

}  // namespace ruedo
