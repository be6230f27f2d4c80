// SPDX-License-Identifier: Apache-2.0
// Which picture is shown when, and what is known of it afterwards.
#include "playback/engine.h"

#include <fmt/format.h>

#include <algorithm>

namespace ruedo {
namespace {
constexpr std::size_t figures_kept = 200'000;
}

void Controller::Engine::schedule_frame() {
    if (frame_timer_) env_.strand->cancel(std::exchange(frame_timer_, 0));
    if (items_.empty() || !clock_.running()) return;
    // What is due but not yet made into display pixels is shown when it is.
    if (!items_.front().prepared && items_.front().at <= media_now()) return;
    auto due = std::max(clock_.when(items_.front().at), now());
    frame_timer_ = env_.strand->at(due, guarded([this] {
                                       frame_timer_ = 0;
                                       present_due();
                                   }));
}

/// Shows what is due. A late picture gives way to a later one that is due too; none comes before its time.
void Controller::Engine::present_due() {
    if (items_.empty()) return;
    bool first = shown_at_.ns == INT64_MIN;
    if (first || !clock_.running()) {
        // The first one after opening or seeking is shown as soon as it is there, whatever the clock does.
        if (first && items_.front().prepared) {
            auto item = std::move(items_.front());
            items_.pop_front();
            show(std::move(item), now());
            pump();
        }
        if (clock_.running()) schedule_frame();
        return;
    }
    auto t = now();
    bool ticks = ticked_.ns != INT64_MIN && ticked_.ns != INT64_MAX;
    if (ticks && t - ticked_ >= stood_still) tick();  // nothing is late that nobody could have shown
    auto media = clock_.at(t);
    auto refresh = env_.sink->refresh();
    while (!items_.empty() && items_.front().at <= media) {
        auto& front = items_.front();
        bool later_due = items_.size() > 1 && items_[1].at <= media;
        auto due = clock_.when(front.at);
        // Closer together than the display shows: some are left out on purpose.
        auto apart = items_.size() > 1 ? scaled(items_[1].at - front.at, 1 / rate_) : refresh;
        bool too_fast = refresh.ns > 0 && apart < refresh * 3 / 4;
        // What another one would be painted over at once is not worth making; one that is being made is waited for.
        bool overtaken = refresh.ns > 0 && later_due && !front.preparing && (items_[1].prepared || !front.prepared);
        if (too_fast && t - last_shown_wall_ < refresh * 3 / 4) {
            ++counters_.skipped;
        } else if (media - front.at > scaled(too_late, rate_) || overtaken) {
            ++(too_fast ? counters_.skipped : counters_.dropped);
        } else if (!front.prepared) {
            break;
        } else {
            auto item = std::move(front);
            items_.pop_front();
            show(std::move(item), due);
            continue;
        }
        items_.pop_front();
    }
    pump();
    schedule_frame();
}

void Controller::Engine::count_repeats(Time due) {
    auto refresh = env_.sink->refresh();
    if (refresh.ns > 0 && clock_.running() && last_due_.ns > 0) {
        auto refreshes = (due - last_due_ + refresh / 2).ns / refresh.ns;
        if (refreshes > 1 && refreshes < 1000) counters_.repeated += static_cast<std::uint64_t>(refreshes - 1);
    }
    last_due_ = clock_.running() ? due : Time{};
}

void Controller::Engine::count_shown(const Frame& picture) {
    ++counters_.presented;
    if (picture.variant == 0) return;
    if (counters_.by_rung.size() < picture.variant) counters_.by_rung.resize(picture.variant);
    ++counters_.by_rung[picture.variant - 1];
}

void Controller::Engine::show(Item item, Time due) {
    auto t = now();
    bool first = shown_at_.ns == INT64_MIN;
    shown_at_ = item.at;
    shown_ = item.picture;
    current_ = item.picture.pts;
    last_shown_wall_ = t;
    count_repeats(due);
    env_.sink->show(item.image, item.picture, due);
    if (!first_frame_) {
        first_frame_ = t;
        note("first-picture", {}, t - opened_at_, item.picture.pts);
    }
    if (env_.sink->reports_paint()) {
        if (unpainted_ && clock_.running() && !first) ++counters_.dropped;  // overtaken before it came to the screen
        unpainted_ = item.picture.pts;
        return;
    }
    count_shown(item.picture);
    if (!clock_.running()) publish();  // nothing else will, while it is held
    if (!clock_.running() || first) return;
    if (pacing_.size() < figures_kept) pacing_.push_back(std::abs((t - due).ns));
    measure_offset(item.at, t);
}

/// Sight against sound, both as they really come: the sound being heard when the picture is seen.
void Controller::Engine::measure_offset(Time picture, Time when) {
    if (!audio_master_ || !mixer_input_ || offsets_.size() >= figures_kept) return;
    auto heard = mixer_input_->heard(when);
    if (!heard) return;
    av_offset_ = *heard - picture;
    offsets_.push_back(av_offset_->ns);
}

void Controller::Engine::painted(Time pts, Time due, Time when) {
    if (!unpainted_ || *unpainted_ != pts) return;
    unpainted_.reset();
    count_shown(shown_ && shown_->pts == pts ? *shown_ : Frame{});
    if (!clock_.running()) publish();  // nothing else will, while it is held
    if (!clock_.running() || due.ns == 0) return;
    if (pacing_.size() < figures_kept) pacing_.push_back(std::abs((when - due).ns));
    if (shown_ && shown_->pts == pts) measure_offset(shown_at_, when);
}

void Controller::Engine::refresh() {
    if (!shown_ || !prepare_worker_) return;
    for (auto& item : items_) item.prepared = false;
    if (clock_.running()) return pump_prepare();
    auto job = [picture = *shown_, sink = env_.sink] { return sink->prepare(picture); };
    beside(*prepare_worker_, env_.costs.conversion, generation_, std::move(job),
           [this, pts = shown_->pts](std::shared_ptr<const RgbImage> image) {
               if (shown_ && shown_->pts == pts && !clock_.running()) env_.sink->show(std::move(image), *shown_, {});
           });
}

/// Looks again and again how far a clip on the network is here.
void Controller::Engine::measure_buffer() {
    if (!fetched_ || !buffer_worker_) return;
    struct Found {
        TimeRange range;
        std::vector<Cue> cues;
    };
    auto* text = text_track_ && text_track_ < first_outside ? clip_->info().find(text_track_) : nullptr;
    auto job = [clip = clip_, playing = playing_, at = fold(media_now()),
                text = text ? std::optional(*text) : std::nullopt, cancel = buffer_cancel_] {
        ReadScope scope(cancel.get());
        Found found;
        found.range = clip->buffered(playing, at).value_or(TimeRange{});
        if (text) found.cues = cues_here(*clip, *text, at);
        return found;
    };
    beside(*buffer_worker_, {}, buffer_generation_, std::move(job), [this, generation = text_generation_](Found found) {
        buffered_ = found.range;
        look_at_news();
        if (auto stream = clip_->stream()) stream_ = std::make_shared<const StreamReport>(std::move(*stream));
        if (cues_ && generation == text_generation_ && !found.cues.empty()) {
            auto all = std::make_shared<Cues>(*cues_);
            for (auto& c : found.cues)
                if (std::none_of(all->list.begin(), all->list.end(),
                                 [&](auto& k) { return k.start == c.start && k.runs == c.runs; }))
                    all->list.push_back(c);
            std::stable_sort(all->list.begin(), all->list.end(), [](auto& a, auto& b) { return a.start < b.start; });
            cues_ = std::move(all);
        }
        publish();
        check_fed();
        buffer_timer_ = env_.strand->at(now() + 250_ms, guarded([this] {
                                            buffer_timer_ = 0;
                                            measure_buffer();
                                        }));
    });
}

}  // namespace ruedo
