// SPDX-License-Identifier: Apache-2.0
#include "player/session.h"

#include <algorithm>
#include <tuple>

namespace ruedo {
namespace {
using What = Press::What;
constexpr std::array keys{
    PlayerKey{"Ctrl+Space", {.what = What::toggle}, "play or pause"},
    PlayerKey{"Alt+Left", {.what = What::skip, .by = -10_s}, "skip back"},
    PlayerKey{"Alt+Right", {.what = What::skip, .by = 10_s}, "skip forward"},
    PlayerKey{"Alt+Shift+Left", {.what = What::step, .frames = -1}, "one frame back"},
    PlayerKey{"Alt+Shift+Right", {.what = What::step, .frames = 1}, "one frame forward"},
    PlayerKey{"Alt+Up", {.what = What::louder, .amount = 0.05}, "louder"},
    PlayerKey{"Alt+Down", {.what = What::louder, .amount = -0.05}, "softer"},
    PlayerKey{"F11", {.what = What::full_screen}, "full screen"},
};
}  // namespace

std::span<const PlayerKey> player_keys() { return keys; }

PlayerSession::PlayerSession(Host host) : host_(std::move(host)) {
    calls_.press = [this](const Press& p) { press(p); };
    calls_.seek = [this](Time to, SeekMode mode) { controller_->seek(to, mode); };

    calls_.audio_track = [this](std::uint64_t id) { controller_->choose_audio(id); };
    calls_.text_track = [this](std::uint64_t id) { controller_->choose_text(id); };
    calls_.go = [this](std::size_t index) {
        if (index == index_) return;
        bool play = snapshot().state.intent == Intent::play;
        queue_->go(index);
        if (play) controller_->play();
        turned(index);
    };
    renew();
}

PlayerSession::~PlayerSession() {
    controller_.reset();
    queue_.reset();
}

void PlayerSession::renew() {
    controller_.reset();
    queue_.reset();
    queue_ = std::make_unique<PlayQueue>(host_.strand, host_.make, host_.sink);
    controller_ = queue_->current();
    born_ = host_.strand->now();
    started_ = ended_ = false;
    if (host_.event) queue_->on_event(host_.event);
    if (host_.changed) queue_->on_change(host_.changed);
}

void PlayerSession::turned(std::size_t index) {
    if (index >= document_.sources.size()) return;
    if (auto current = queue_->current(); current != controller_) {
        controller_ = std::move(current);
        born_ = queue_->made_at();
        controller_->set_ducked(life_.heard(player().host));
        ask_for_what_is_shown();
        controller_->refresh();
    }
    index_ = index;
    started_ = ended_ = false;
}

/// What its controls want to know of every clip.
void PlayerSession::ask_for_what_is_shown() {
    auto& controls = player().controls;
    if (std::any_of(controls.begin(), controls.end(), counts_frames)) controller_->list_frames();
}

void PlayerSession::fill_queue(bool held) {
    std::vector<PlayQueue::Entry> entries;
    for (auto& s : document_.sources) entries.push_back({resolve(s, folder_), open_options(document_, s, folder_)});
    if (held && index_ < entries.size()) entries[index_].options.start = {};
    static constexpr std::array modes{Repeat::off, Repeat::once, Repeat::one, Repeat::all, Repeat::off, Repeat::off};
    queue_->set(std::move(entries), modes.at(static_cast<std::size_t>(player().at_end)), index_);
}

void PlayerSession::load(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder) {
    // Trying again passes the document that is held already.
    if (&document != &document_) document_ = document;
    if (&folder != &folder_) folder_ = folder;
    index_ = index;
    started_ = ended_ = false;
    returns_.reset();
    if (index >= document_.sources.size()) return;
    fill_queue();
    ask_for_what_is_shown();
    queue_->go(index);
    touch();
}

void PlayerSession::apply(const PlayerDocument& document, std::size_t index) {
    if (index >= document.sources.size()) return;
    auto before = std::move(document_);
    auto was_at = std::exchange(index_, index);
    document_ = document;
    auto& was = before.player();
    auto& now = player();
    auto asked = [](const PlayerSpec& p) { return std::tuple(p.at_end, p.volume, p.muted, p.speed, p.open_within); };
    if (before.sources != document_.sources || was_at != index || asked(was) != asked(now)) fill_queue();
    // Only what the document changed is taken over: what was chosen on the player itself stays.
    auto options = open_options(document_, document_.sources[index], folder_);
    if (was_at < before.sources.size()) {
        auto old = open_options(before, before.sources[was_at], folder_);
        if (!(old.loop == options.loop)) controller_->set_loop(options.loop);
        if (old.audio_language != options.audio_language || old.text_language != options.text_language)
            controller_->choose_languages(options.audio_language, options.text_language);
    }
    if (was.volume != now.volume) controller_->set_volume(now.volume);
    if (was.muted != now.muted) controller_->set_muted(now.muted);
    if (was.speed != now.speed) controller_->set_rate(now.speed);
    ask_for_what_is_shown();
}

void PlayerSession::touch() { touched_ = host_.strand->now(); }

ControlContext PlayerSession::context() const {
    ControlContext c;
    c.snapshot = controller_->snapshot();
    auto& s = c.snapshot;
    auto now = host_.strand->now();
    if (auto* spec = source()) {
        c.title = spec->name;
        bool counting = spec->start.how == Start::How::delay && !started_ && s.state.phase == Phase::ready &&
                        s.state.intent == Intent::hold && s.position.ns == 0;
        if (counting && now < s.since + spec->start.delay) c.countdown = s.since + spec->start.delay - now;
    }
    c.full_screen = full_screen_, c.handset = handset_;
    c.index = index_, c.count = std::max<std::size_t>(1, document_.sources.size());
    c.has_previous = queue_->has_previous(), c.has_next = queue_->has_next();
    c.untouched = now - touched_;
    c.started = started_;
    if (s.motion == Motion::starved) c.waited = std::max(Time{}, now - s.since);
    c.given_up = player().give_up_after > Time{} && c.waited >= player().give_up_after;
    bool at_rest = s.state.intent == Intent::hold || s.state.phase == Phase::failed;
    c.awake = s.state.phase != Phase::empty && (at_rest || kept_awake_ || c.untouched < player().hide_after);
    return c;
}

void PlayerSession::follow() {
    auto s = controller_->snapshot();
    bool open = s.state.phase == Phase::ready || s.state.phase == Phase::playing || s.state.phase == Phase::paused;
    if (returns_ && open && !s.state.seeking) {
        auto back = *std::exchange(returns_, std::nullopt);
        if (back.at > Time{}) controller_->seek(back.at);
        if (back.play) controller_->play();
    }
    if (s.motion == Motion::moving) started_ = true;
    bool ended = s.state.phase == Phase::ended;
    if (ended && !ended_) {
        if (player().at_end == AtEnd::poster) {
            controller_->stop();
            started_ = false;
        } else if (player().at_end == AtEnd::leave && host_.leave) {
            host_.leave();
        }
    }
    ended_ = ended;
}

bool PlayerSession::key(std::string_view wanted) {
    auto row = std::find_if(keys.begin(), keys.end(), [&](auto& k) { return k.keys == wanted; });
    if (row == keys.end()) return false;
    auto p = row->press;
    auto same = std::find_if(player().controls.begin(), player().controls.end(), [&](auto& c) {
        auto own = c.kind->press({}, c.settings);
        return p.what == What::skip && own.what == p.what && (own.by < Time{}) == (p.by < Time{});
    });
    if (same != player().controls.end()) p.by = same->kind->press({}, same->settings).by;
    press(p);
    return true;
}

bool PlayerSession::host(std::string_view word) {
    if (!is_host_word(word)) return false;
    auto s = snapshot();
    auto now = happen(life_, word, player().host, s.state.intent == Intent::play);
    controller_->tell("host", now.told.empty() ? std::string(word) : now.told);
    if (now.pause) controller_->pause();
    if (now.let_go) {
        left_at_ = s.live ? Time{} : s.position;
        controller_->release();
    }
    if (now.come_back)
        come_back(now.play);
    else if (now.play)
        controller_->play();
    controller_->set_ducked(life_.heard(player().host));
    return true;
}

/// Opens anew what was let go.
void PlayerSession::come_back(bool play) {
    auto started = started_;
    if (host_.renew)
        host_.renew();
    else
        renew();
    if (index_ >= document_.sources.size()) return;
    fill_queue(!life_.anew);
    ask_for_what_is_shown();
    queue_->go(index_);
    fill_queue();
    if (life_.anew) return;
    started_ = started;
    returns_ = Return{left_at_, play};
}

void PlayerSession::press(const Press& p) {
    // A press shows that the user is there, by key or screen reader too: the pressed control stays visible.
    touch();
    auto& c = *controller_;
    if (p.what == What::toggle || p.what == What::play || p.what == What::pause || p.what == What::stop)
        user_acts(life_);
    switch (p.what) {
        case What::none:
            break;
        case What::toggle:
            return c.toggle();
        case What::play:
            return c.play();
        case What::pause:
            return c.pause();
        case What::stop:
            return c.stop();
        case What::skip:
            return c.skip(p.by);
        case What::seek:
            return c.seek(p.by);
        case What::step:
            return c.step(p.frames);
        case What::mute:
            return c.set_muted(p.onward);
        case What::volume:
            // Setting the volume unmutes.
            if (snapshot().muted) c.set_muted(false);
            return c.set_volume(p.amount);
        case What::louder:
            return c.set_volume(std::clamp(snapshot().volume + p.amount, 0.0, 1.0));
        case What::loop:
            return c.set_loop({p.onward ? Loop::Kind::all : Loop::Kind::none, {}, {}});
        case What::speed:
            return c.set_rate(p.amount);
        case What::turn:
            p.onward ? queue_->next() : queue_->previous();
            return;
        case What::choose_text:
            return c.choose_text(p.track);
        case What::to_live:
            if (auto window = snapshot().seekable; window && window->to != Time::max()) c.seek(window->to);
            return;
        case What::retry:
            return load(document_, index_, folder_);
        case What::full_screen:
            if (host_.full_screen) host_.full_screen();
            return;
        case What::leave:
            if (host_.leave) host_.leave();
            return;
        case What::choose_tracks:
        case What::choose_audio:
            // Without such a control the user can't choose.
            return;
    }
}

}  // namespace ruedo
