// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/pairing.h"

#include <QCoreApplication>
#include <algorithm>
#include <cmath>

#include "container/container.h"
#include "facts/facts.h"

namespace ruedo {
namespace {
QImage image_of(const Frame& picture) {
    auto drawn = std::make_shared<RgbImage>(render(picture));
    auto* held = new std::shared_ptr<RgbImage>(drawn);
    return QImage(
        drawn->pixels.data(), drawn->width, drawn->height, drawn->stride(), QImage::Format_RGB32,
        [](void* p) { delete static_cast<std::shared_ptr<RgbImage>*>(p); }, held);
}
/// How far each colour is apart, eight times.
QImage difference_of(const QImage& before, const QImage& after) {
    auto other = after.size() == before.size()
                     ? after
                     : after.scaled(before.size(), Qt::IgnoreAspectRatio, Qt::SmoothTransformation);
    QImage out(before.size(), QImage::Format_RGB32);
    for (int y = 0; y < out.height(); ++y) {
        auto *a = before.constScanLine(y), *b = other.constScanLine(y);
        auto* to = out.scanLine(y);
        for (int x = 0; x < out.width() * 4; ++x)
            to[x] = static_cast<std::uint8_t>(std::min(255, std::abs(int{a[x]} - int{b[x]}) * 8));
    }
    return out;
}
/// The sound that plays of a clip; none where there is none that can be decoded.
std::unique_ptr<AudioReader> audio_of(const std::string& source) {
    auto opened = open_clip(source);
    if (!opened) return nullptr;
    std::shared_ptr<Clip> clip(std::move(*opened));
    auto tracks = select_tracks(clip->info(), CodecRegistry::standard());
    if (!tracks || !tracks->audio) return nullptr;
    auto reader = AudioReader::open(clip, *tracks->audio, CodecRegistry::standard());
    return reader ? std::move(*reader) : nullptr;
}
}  // namespace

/// The thread beside the window. What is wished for is left to it under the mutex; the newest counts.
class Pairing::Work {
  public:
    explicit Work(Pairing& owner)
        : owner_(owner), mixer_input_(owner.host_.mixer.add_input()), thread_([this] { go(); }) {}
    ~Work() {
        wish([](Wish& w) { w.over = true; });
        give_up_ = true;
        thread_.join();
    }
    struct Wish {
        std::optional<Subject> subject;
        std::uint64_t opened = 0;  ///< Counts subjects.
        std::optional<Time> show;
        std::vector<int> steps;  ///< One after the other: an end they meet takes what is left of one.
        bool playing = false, difference = false, over = false, again = false;
        AudibleSide heard = AudibleSide::neither;
    };
    template <class F>
    void wish(F f) {
        std::lock_guard lock(mutex_);
        f(wish_);
        ++wishes_;
        changed_.notify_all();
    }
    /// What is being decoded is no longer wanted.
    void give_up() { give_up_ = true; }

  private:
    void go() {
        for (;;) {
            Wish now;
            {
                std::unique_lock lock(mutex_);
                changed_.wait(lock, [&] {
                    return wish_.over || wish_.opened != opened_ ||
                           (subject_ && (wish_.show || !wish_.steps.empty())) || (subject_ && wish_.playing) ||
                           wish_.again;
                });
                now = wish_;
                wish_.show.reset(), wish_.steps.clear(), wish_.again = false;
                seen_ = wishes_;
                give_up_ = false;
            }
            if (now.over) return;
            ReadScope scope(&give_up_);
            if (now.opened != opened_) {
                silence();
                opened_ = now.opened;
                if (!open(now.subject)) {
                    // Given up for another moment of the same: it is opened for that.
                    std::lock_guard lock(mutex_);
                    opened_ = 0;
                    if (!wish_.show) wish_.show = now.show;
                    continue;
                }
                if (!now.show && !now.playing) continue;
            }
            if (!subject_) continue;
            difference_ = now.difference;
            if (now.show)
                silence(), told(at(*now.show));
            else if (!now.steps.empty())
                silence(), told(step(now.steps));
            else if (now.again && !cache_.empty())
                post(cache_[current_]);
            if (now.playing) play(now.heard);
        }
    }
    bool wished() {
        std::lock_guard lock(mutex_);
        return seen_ != wishes_;
    }
    /// A wish ends it; true when the time has come.
    bool wait_for(Time much) {
        std::unique_lock lock(mutex_);
        return !changed_.wait_for(lock, std::chrono::nanoseconds(std::max<std::int64_t>(0, much.ns)),
                                  [&] { return seen_ != wishes_; });
    }

    /// False where it was given up.
    bool open(std::optional<Subject> subject) {
        pairs_.reset(), cache_.clear(), audio_ = {}, measured_ = false;
        subject_ = std::move(subject);
        if (!subject_ || !subject_->pictures) return true;
        auto pairs = Pairs::open(subject_->before, subject_->after, CodecRegistry::standard(),
                                 subject_->from - subject_->after_from);
        if (!pairs && pairs.error().code == ErrorCode::cancelled) return false;
        if (pairs)
            pairs_ = std::move(*pairs);
        else
            trouble(pairs.error());
        return true;
    }
    Status at(Time t) {
        place_ = std::clamp(t, subject_->from, std::max(subject_->from, subject_->to - 1_ns));
        if (!pairs_) return {};
        RUEDO_TRY(auto pair, pairs_->at(place_, &give_up_));
        cache_.clear();
        keep(std::move(pair));
        return {};
    }
    /// Pairs that follow each other, the newest last; the reader goes on behind it.
    void keep(Pair pair, bool may_fail = false) {
        place_ = pair.at;
        cache_.push_back(std::move(pair));
        if (cache_.size() > most_kept) cache_.pop_front();
        current_ = cache_.size() - 1;
        post(cache_.back(), may_fail);
    }
    Status step(const std::vector<int>& steps) {
        if (cache_.empty()) RUEDO_TRY_DO(at(place_));
        if (cache_.empty()) return {};
        for (auto by : steps) RUEDO_TRY_DO(by > 0 ? step_on(by) : step_back(-by));
        place_ = cache_[current_].at;
        post(cache_[current_]);
        return {};
    }
    Status step_on(int by) {
        for (; by > 0; --by) {
            if (current_ + 1 < cache_.size()) {
                ++current_;
                continue;
            }
            RUEDO_TRY(auto next, pairs_->next());
            if (!next || next->at >= subject_->to) return {};
            cache_.push_back(std::move(*next));
            if (cache_.size() > most_kept) cache_.pop_front();
            current_ = cache_.size() - 1;
        }
        return {};
    }
    Status step_back(int by) {
        for (; by > 0; --by) {
            if (current_ == 0 && cache_.front().at <= subject_->from) return {};
            if (current_ == 0) RUEDO_TRY_DO(fill_up_to(cache_.front().at));
            if (current_ > 0) --current_;
        }
        return {};
    }
    /// What is shown up to there, so that one can step back from it.
    Status fill_up_to(Time end) {
        for (auto back = 400_ms;; back = back * 4) {
            auto begin = std::max(subject_->from, end - back);
            RUEDO_TRY(auto pair, pairs_->at(begin, &give_up_));
            std::deque<Pair> found;
            while (pair.at <= end) {
                found.push_back(pair);
                if (found.size() > most_kept) found.pop_front();
                if (pair.at == end) break;
                RUEDO_TRY(auto next, pairs_->next());
                if (!next) break;
                pair = std::move(*next);
            }
            if (found.size() < 2 && begin > subject_->from) continue;
            cache_ = std::move(found);
            current_ = cache_.size() - 1;
            return {};
        }
    }

    // --- playing ---
    void silence() { mixer_input_->clear(); }
    AudioReader* audio(AudibleSide heard) {
        if (heard == AudibleSide::neither) return nullptr;
        auto& s = audio_[heard == AudibleSide::after];
        if (!s.looked) {
            s.reader = audio_of(heard == AudibleSide::after ? subject_->after : subject_->before);
            s.looked = s.reader || !give_up_;
        }
        return s.reader.get();
    }
    Time offset(AudibleSide heard) const {
        return heard == AudibleSide::after ? subject_->from - subject_->after_from : Time{};
    }
    /// Once for each subject.
    void measure() {
        if (measured_) return;
        std::array<std::optional<double>, 2> loud;
        for (auto which : {AudibleSide::before, AudibleSide::after})
            if (auto* reader = audio(which); reader && reader->seek(subject_->from - offset(which)))
                loud[which == AudibleSide::after] =
                    loudness_of(*reader, std::min(subject_->to, subject_->from + 30_s) - offset(which), &give_up_);
        double least = std::min(loud[0].value_or(0), loud[1].value_or(0));
        if (give_up_) return;  // another time
        measured_ = true;
        for (std::size_t i = 0; i < 2; ++i) down_[i] = loud[0] && loud[1] ? std::clamp(*loud[i] - least, 0.0, 40.0) : 0;
        owner_.post([this, opened = opened_, before = down_[0], after = down_[1]] {
            if (opened != owner_.opened_) return;
            owner_.down_before_ = before, owner_.down_after_ = after;
        });
    }
    void play(AudibleSide heard) {
        if (heard != AudibleSide::neither) measure();
        while (!wished()) {
            auto from = place_ + 1_ms >= subject_->to ? subject_->from : place_;
            if (auto done = once(from, heard); !done) return told(done);
        }
        silence();
    }
    /// From there to the end of the stretch, or to another wish.
    Status once(Time from, AudibleSide heard) {
        auto* reader = audio(heard);
        Time anchor = from, since = monotonic_now();
        bool sounding = reader && reader->seek(from - offset(heard)).has_value(), all_pushed = !sounding;
        auto feed = [&] {
            while (!all_pushed && mixer_input_->buffered() < 400_ms) {
                auto block = reader->next();
                auto pts = block && *block ? (*block)->pts + offset(heard) : subject_->to;
                if (pts >= subject_->to) {
                    all_pushed = true;
                    mixer_input_->finish();
                    return;
                }
                mixer_input_->push(pts, 1, (*block)->samples);
            }
        };
        if (sounding) {
            mixer_input_->clear();
            mixer_input_->set_gain(static_cast<float>(std::pow(10, -down_[heard == AudibleSide::after] / 20)));
            feed();
            mixer_input_->start();
        }
        // The sound leads where there is one; where it ends, or does not begin, time itself goes on.
        auto clock = [&] {
            auto now = monotonic_now();
            if (sounding) {
                owner_.host_.mixer.watch();
                auto heard_now = mixer_input_->heard(now);
                // Behind its last sample it stands still.
                if (heard_now && *heard_now > anchor)
                    anchor = *heard_now, since = now;
                else if (!heard_now && anchor == from && now - since < 500_ms)
                    return anchor;
            }
            return anchor + (now - since);
        };
        std::optional<Pair> coming;
        if (pairs_ && (cache_.empty() || cache_.back().at != from)) {
            RUEDO_TRY_DO(at(from));
        }
        bool ended = !pairs_;
        for (Time shown_at{}; !wished();) {
            feed();
            auto now = clock();
            if (!coming && !ended) {
                RUEDO_TRY(coming, pairs_->next());
                if (!coming || coming->at >= subject_->to) ended = true, coming.reset();
            }
            if (!coming) {
                if (!pairs_) place_ = std::min(now, subject_->to), post_place();
                if (now >= subject_->to) {
                    place_ = subject_->to;
                    return {};
                }
                wait_for(std::min(20_ms, subject_->to - now));
                continue;
            }
            if (now < coming->at) {
                wait_for(std::min(20_ms, coming->at - now));
                continue;
            }
            // One that is late is left out, unless nothing was seen for a while.
            if (now - coming->at > 60_ms && monotonic_now() - shown_at < 250_ms) {
                ++owner_.late_;
                cache_.clear(), cache_.push_back(std::move(*coming)), current_ = 0;
                place_ = cache_.back().at;
            } else {
                shown_at = monotonic_now();
                keep(std::move(*coming), true);
            }
            coming.reset();
        }
        // Held: what was read already comes next, and what stands there is what was reached.
        if (coming) {
            cache_.push_back(std::move(*coming));
            if (cache_.size() > most_kept) cache_.pop_front(), current_ = current_ > 0 ? current_ - 1 : 0;
        }
        if (!cache_.empty()) post(cache_[current_]);
        return {};
    }

    // --- to the window ---
    void post(const Pair& pair, bool may_fail = false) {
        if (may_fail && posted_ > 2) return;  // the window has enough to do
        FramePair s;
        s.at = pair.at;
        s.before = image_of(pair.before), s.after = image_of(pair.after);
        if (difference_) s.difference = difference_of(s.before, s.after);
        ++posted_;
        owner_.post([this, opened = opened_, s = std::move(s)] {
            --posted_;
            if (opened != owner_.opened_) return;
            ++owner_.shown_;
            owner_.place_ = s.at;
            if (owner_.on_shown) owner_.on_shown(s);
        });
    }
    void post_place() {
        if (posted_ > 0) return;
        ++posted_;
        owner_.post([this, opened = opened_, at = place_] {
            --posted_;
            if (opened != owner_.opened_) return;
            owner_.place_ = at;
            if (owner_.on_place) owner_.on_place(at);
        });
    }
    void told(const Status& outcome) {
        if (!outcome && outcome.error().code != ErrorCode::cancelled) trouble(outcome.error());
    }
    void trouble(const Error& error) {
        {
            std::lock_guard lock(mutex_);
            wish_.playing = false;
        }
        owner_.post([this, opened = opened_, error] {
            if (opened != owner_.opened_) return;
            if (std::exchange(owner_.playing_, false) && owner_.on_playing) owner_.on_playing(false);
            if (owner_.on_trouble) owner_.on_trouble(error);
        });
    }

    static constexpr std::size_t most_kept = 24;
    Pairing& owner_;
    std::shared_ptr<MixerInput> mixer_input_;
    std::mutex mutex_;
    std::condition_variable changed_;
    Wish wish_;
    std::uint64_t wishes_ = 0, seen_ = 0;
    std::atomic<bool> give_up_ = false;
    std::atomic<int> posted_ = 0;
    // Of the thread alone.
    std::uint64_t opened_ = 0;
    std::optional<Subject> subject_;
    std::unique_ptr<Pairs> pairs_;
    std::deque<Pair> cache_;
    std::size_t current_ = 0;
    Time place_{};
    bool difference_ = false, measured_ = false;
    struct Audio {
        bool looked = false;
        std::unique_ptr<AudioReader> reader;
    };
    std::array<Audio, 2> audio_;
    std::array<double, 2> down_{};
    std::thread thread_;
};

Pairing::Pairing(PlaybackHost& host, QObject* parent)
    : QObject(parent), host_(host), work_(std::make_unique<Work>(*this)) {}
Pairing::~Pairing() = default;

/// On the window's thread, unless it is gone by then.
template <class F>
void Pairing::post(F f) {
    QMetaObject::invokeMethod(this, std::move(f), Qt::QueuedConnection);
}

void Pairing::open(std::optional<Subject> subject) {
    hold();
    work_->give_up();
    place_ = subject ? subject->from : Time{};
    down_before_ = down_after_ = 0;
    ++opened_;
    work_->wish([&](auto& w) { w.subject = std::move(subject), w.opened = opened_, w.show.reset(), w.steps.clear(); });
}
void Pairing::show(Time at) {
    hold();
    work_->give_up();
    work_->wish([&](auto& w) { w.show = at, w.steps.clear(); });
}
void Pairing::step(int pictures) {
    hold();
    work_->wish([&](auto& w) { w.steps.push_back(pictures); });
}
void Pairing::play() {
    if (playing_) return;
    playing_ = true;
    work_->wish([](auto& w) { w.playing = true; });
    if (on_playing) on_playing(true);
}
void Pairing::hold() {
    if (!playing_) return;
    playing_ = false;
    work_->wish([](auto& w) { w.playing = false; });
    if (on_playing) on_playing(false);
}
void Pairing::hear(AudibleSide heard) {
    heard_ = heard;
    work_->wish([&](auto& w) { w.heard = heard; });
}
void Pairing::show_difference(bool shown) {
    work_->wish([&](auto& w) { w.difference = shown, w.again = true; });
}

}  // namespace ruedo
