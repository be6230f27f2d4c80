// SPDX-License-Identifier: Apache-2.0
#include "playback/queue.h"

#include <algorithm>
#include <atomic>

namespace ruedo {
namespace {
constexpr Time open_ahead = 8_s, arm_ahead = 700_ms, look_every = 50_ms;
}

/// Lets pictures of one controller through, or keeps the last one for when it does.
class PlayQueue::Gate final : public FrameSink {
  public:
    Gate(std::shared_ptr<FrameSink> inner, bool open) : inner_(std::move(inner)), open_(open) {}
    std::shared_ptr<const RgbImage> prepare(const Frame& p) override { return inner_->prepare(p); }
    void show(std::shared_ptr<const RgbImage> image, const Frame& p, Time due) override {
        std::lock_guard lock(mutex_);
        if (open_)
            inner_->show(std::move(image), p, due);
        else
            kept_ = KeptPlace{std::move(image), p, due};
    }
    void clear() override {
        std::lock_guard lock(mutex_);
        kept_.reset();
        if (open_) inner_->clear();
    }
    Time refresh() const override { return inner_->refresh(); }
    bool reports_paint() const override { return open_ && inner_->reports_paint(); }
    void open() {
        std::lock_guard lock(mutex_);
        open_ = true;
        if (kept_) inner_->show(kept_->image, kept_->picture, kept_->due);
        kept_.reset();
    }
    void shut() {
        std::lock_guard lock(mutex_);
        open_ = false;
    }

  private:
    struct KeptPlace {
        std::shared_ptr<const RgbImage> image;
        Frame picture;
        Time due;
    };
    std::shared_ptr<FrameSink> inner_;
    std::mutex mutex_;
    std::atomic<bool> open_;
    std::optional<KeptPlace> kept_;
};

struct PlayQueue::State : std::enable_shared_from_this<PlayQueue::State> {
    std::shared_ptr<Strand> strand;
    Make make;
    std::shared_ptr<FrameSink> sink;
    mutable std::mutex mutex;
    std::vector<Entry> entries;
    Repeat repeat = Repeat::off;
    Player current;
    std::optional<Player> ahead;
    std::vector<Player> leaving;
    std::function<void(std::size_t)> changed;
    std::function<void(const Event&)> heard;
    bool stopped = false;
    std::mutex telling;  ///< Held during callbacks, so that the destructor can wait for them.

    Player make_player(bool open) {
        Player p;
        p.gate = std::make_shared<Gate>(sink, open);
        p.made = strand->now();
        p.controller = make(p.gate);
        p.controller->on_event([weak = weak_from_this(), gate = p.gate](const Event& e) {
            auto self = weak.lock();
            if (!self) return;
            {
                std::lock_guard told(self->telling);
                std::function<void(const Event&)> tell;
                {
                    std::lock_guard lock(self->mutex);
                    if (self->current.gate == gate && !self->stopped) tell = self->heard;
                }
                if (tell) tell(e);
            }
            if (e.name == "ended")
                self->strand->post([weak, gate] {
                    if (auto s = weak.lock()) s->ended(gate);
                });
        });
        return p;
    }

    std::optional<std::size_t> after(std::size_t i) const {
        if (repeat == Repeat::off || repeat == Repeat::one || entries.empty()) return std::nullopt;
        if (i + 1 < entries.size()) return i + 1;
        return repeat == Repeat::all ? std::optional<std::size_t>(0) : std::nullopt;
    }

    /// Periodically: opens the next source ahead, and releases the previous one.
    void look() {
        std::unique_lock lock(mutex);
        if (stopped) return;
        // Destroyed outside the lock, once closed: their resources went with the release.
        std::vector<Player> gone;
        for (auto it = leaving.begin(); it != leaving.end();)
            if (it->controller->snapshot().state.phase == Phase::closed)
                gone.push_back(std::move(*it)), it = leaving.erase(it);
            else
                ++it;
        auto s = current.controller->snapshot();
        auto follower = after(current.index);
        auto left = s.duration_known ? s.duration - s.position : Time::max();
        bool playing = s.state.phase == Phase::playing && s.state.intent == Intent::play && !s.state.seeking &&
                       s.loop.kind == Loop::Kind::none;
        if (ahead && (!follower || ahead->index != *follower || left > open_ahead + 2_s))
            retire(*std::exchange(ahead, std::nullopt));
        if (!ahead && follower && playing && left < open_ahead) {
            ahead = make_player(false);
            ahead->index = *follower;
            auto options = entries[*follower].options;
            options.start = {};
            options.volume = s.volume, options.muted = s.muted, options.rate = s.rate;
            ahead->controller->open(entries[*follower].source, options);
        }
        if (ahead && !ahead->armed && playing && scaled(left, 1 / s.rate) < arm_ahead &&
            ahead->controller->snapshot().state.phase == Phase::ready) {
            ahead->armed = true;
            ahead->controller->play_after(*current.controller);
        } else if (ahead && ahead->armed && !playing && s.state.phase != Phase::ended &&
                   s.state.phase != Phase::waiting) {
            // Paused or sought away just before the end: another one is made when it comes round again.
            retire(*std::exchange(ahead, std::nullopt));
        }
        lock.unlock();
        gone.clear();
        strand->at(strand->now() + look_every, [weak = weak_from_this()] {
            if (auto self = weak.lock()) self->look();
        });
    }

    void retire(Player p) {
        p.gate->shut();
        p.controller->release();
        leaving.push_back(std::move(p));
    }

    void ended(const std::shared_ptr<Gate>& gate) {
        std::unique_lock lock(mutex);
        if (stopped || current.gate != gate) return;
        if (ahead && ahead->controller->snapshot().state.phase != Phase::failed) {
            hand_over(lock);
        } else if (auto follower = after(current.index)) {
            // Nothing could be opened ahead (a very short source, or one that fails): in the usual way.
            if (ahead) retire(*std::exchange(ahead, std::nullopt));
            open_here(*follower, true);
            tell(lock);
        }
    }

    void hand_over(std::unique_lock<std::mutex>& lock) {
        auto old = std::exchange(current, *std::exchange(ahead, std::nullopt));
        old.gate->shut();
        old.controller->release();
        current.gate->open();
        current.controller->start_now();
        leaving.push_back(std::move(old));
        tell(lock);
    }
    void tell(std::unique_lock<std::mutex>& lock) {
        lock.unlock();
        std::lock_guard one_at_a_time(telling);
        lock.lock();
        auto told = stopped ? nullptr : changed;
        auto index = current.index;
        lock.unlock();
        if (told) told(index);
    }
    void open_here(std::size_t index, bool play) {
        current.index = index;
        auto options = entries[index].options;
        auto s = current.controller->snapshot();
        options.volume = s.volume, options.muted = s.muted, options.rate = s.rate;
        if (play) options.start = {Start::How::play, {}};
        current.controller->open(entries[index].source, options);
    }
    bool turn(bool forward) {
        std::unique_lock lock(mutex);
        if (entries.empty()) return false;
        auto at = current.index;
        if (forward ? at + 1 >= entries.size() : at == 0) {
            if (repeat != Repeat::all) return false;
            at = forward ? 0 : entries.size() - 1;
        } else {
            at = forward ? at + 1 : at - 1;
        }
        bool play = current.controller->snapshot().state.intent == Intent::play;
        if (ahead && ahead->index == at && play && ahead->controller->snapshot().state.phase == Phase::ready) {
            hand_over(lock);
        } else {
            if (ahead) retire(*std::exchange(ahead, std::nullopt));
            open_here(at, play);
            tell(lock);
        }
        return true;
    }
};

PlayQueue::PlayQueue(std::shared_ptr<Strand> strand, Make make, std::shared_ptr<FrameSink> sink)
    : state_(std::make_shared<State>()) {
    state_->strand = std::move(strand);
    state_->make = std::move(make);
    state_->sink = std::move(sink);
    state_->current = state_->make_player(true);
    state_->look();
}
PlayQueue::~PlayQueue() {
    std::vector<Player> gone;
    // All callbacks have returned after this, and no more are made.
    std::lock_guard told(state_->telling);
    std::lock_guard lock(state_->mutex);
    state_->stopped = true;
    gone = std::move(state_->leaving);
    if (state_->ahead) gone.push_back(*state_->ahead);
    gone.push_back(std::move(state_->current));
    state_->ahead.reset();
}
void PlayQueue::set(std::vector<Entry> entries, Repeat repeat, std::optional<std::size_t> index) {
    std::lock_guard lock(state_->mutex);
    state_->entries = std::move(entries);
    state_->repeat = repeat;
    if (index) state_->current.index = *index;
    if (state_->ahead) state_->retire(*std::exchange(state_->ahead, std::nullopt));
}
void PlayQueue::go(std::size_t index) {
    std::lock_guard lock(state_->mutex);
    if (index >= state_->entries.size()) return;
    if (state_->ahead) state_->retire(*std::exchange(state_->ahead, std::nullopt));
    state_->current.index = index;
    state_->current.controller->open(state_->entries[index].source, state_->entries[index].options);
}
bool PlayQueue::next() { return state_->turn(true); }
bool PlayQueue::previous() { return state_->turn(false); }
std::size_t PlayQueue::index() const {
    std::lock_guard lock(state_->mutex);
    return state_->current.index;
}
bool PlayQueue::has_next() const {
    std::lock_guard lock(state_->mutex);
    return state_->current.index + 1 < state_->entries.size() ||
           (state_->repeat == Repeat::all && state_->entries.size() > 1);
}
bool PlayQueue::has_previous() const {
    std::lock_guard lock(state_->mutex);
    return state_->current.index > 0 || (state_->repeat == Repeat::all && state_->entries.size() > 1);
}
std::shared_ptr<Controller> PlayQueue::current() const {
    std::lock_guard lock(state_->mutex);
    return state_->current.controller;
}
Time PlayQueue::made_at() const {
    std::lock_guard lock(state_->mutex);
    return state_->current.made;
}
void PlayQueue::on_change(std::function<void(std::size_t)> told) {
    std::lock_guard lock(state_->mutex);
    state_->changed = std::move(told);
}
void PlayQueue::on_event(std::function<void(const Event&)> told) {
    std::lock_guard lock(state_->mutex);
    state_->heard = std::move(told);
}

}  // namespace ruedo
