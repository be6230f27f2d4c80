// SPDX-License-Identifier: Apache-2.0
// Which segment is fetched next, and which are kept. In which rung is in rungs.cpp; fetching and opening one segment in
// pieces.cpp.
#include "stream/supply.h"

#include <fmt/format.h>

#include "base/strand.h"
#include "io/transfer.h"

namespace ruedo::stream {
namespace {
constexpr Time longest_silence = 30_s;
/// So long a link may be down before what it did not bring is given up.
constexpr Time longest_down = 10_s;
/// In virtual time, for what may never come.
constexpr Time longest_wait = 3600_s;

/// What the links to hosts gave when they were last used, so that the next stream from there begins well.
struct Known {
    std::mutex mutex;
    std::map<std::string, double> rates;
};
Known& known() {
    static Known k;
    return k;
}
}  // namespace

SegmentFetcher::SegmentFetcher(std::vector<TrackGroupPlan> plans, std::string link, StreamOptions options)
    : options_(std::move(options)), link_(std::move(link)) {
    opened_ = options_.link ? options_.link->now() : monotonic_now();
    if (options_.link) {
        free_at_ = opened_;
    } else if (options_.on_demand) {
        // Read in order, without a clock, a link has no speed: whatever is asked for is there.
        throughput_.expect(1e9);
    } else {
        std::lock_guard guard(known().mutex);
        if (auto it = known().rates.find(link_); it != known().rates.end()) throughput_.expect(it->second);
    }
    for (auto& plan : plans) {
        TrackGroup f;
        f.renditions.resize(plan.rungs.size());
        f.policy = adapt::make_policy(options_.policy.empty() ? adapt::default_policy : options_.policy);
        f.plan = std::move(plan);
        track_groups_.push_back(std::move(f));
    }
    report_.rungs = track_groups_[0].plan.rungs;
}

SegmentFetcher::~SegmentFetcher() {
    stop_ = true;
    changed_.notify_all();
    if (thread_.joinable()) thread_.join();
    if (auto now = throughput_.now(); now.known() && !link_.empty() && !options_.on_demand) {
        std::lock_guard guard(known().mutex);
        known().rates[link_] = now.mean;
    }
}

// ---- what is here

std::shared_ptr<LoadedSegment> SegmentFetcher::find(const TrackGroup& track_group, Time t) const {
    auto it = track_group.loaded.upper_bound(t + about);
    if (it == track_group.loaded.begin()) return nullptr;
    auto& loaded = std::prev(it)->second;
    return t + about < loaded->end() || loaded->segment.start >= t - about ? loaded : nullptr;
}
const SegmentList* SegmentFetcher::some_list(const TrackGroup& track_group) const {
    if (track_group.last && track_group.renditions[*track_group.last].list)
        return &*track_group.renditions[*track_group.last].list;
    for (auto& r : track_group.renditions)
        if (r.list) return &*r.list;
    return nullptr;
}
bool SegmentFetcher::past_end(const TrackGroup& track_group, Time t) const {
    auto* list = some_list(track_group);
    return list && list->ended && t + about >= list->end();
}
Time SegmentFetcher::reach(const TrackGroup& track_group, Time t, Time by) const {
    for (auto loaded = find(track_group, t); loaded && loaded->comes <= by; loaded = find(track_group, t))
        t = std::max(loaded->end(), t + 1_ms);
    return t;
}

bool SegmentFetcher::due(const Rendition& r) const {
    if (!r.list) return true;
    return !r.list->ended && monotonic_now() - r.loaded >= std::max(500_ms, r.list->target / 2);
}

std::optional<SegmentFetcher::Goal> SegmentFetcher::goal() const {
    auto possible = [&](const TrackGroup& track_group, Time t) {
        if (track_group.error || find(track_group, t) || past_end(track_group, t)) return false;
        auto* list = some_list(track_group);
        bool listed = !list || t + about < list->end();
        return listed || due(track_group.renditions[track_group.last.value_or(0)]);
    };
    for (auto& w : waits_)
        if (possible(track_groups_[w.track_group], w.at)) return Goal{w.track_group, w.at};
    if (kept_ >= most_kept * 3 / 4) return std::nullopt;
    std::optional<Goal> least;
    for (std::size_t i = 0; i < track_groups_.size(); ++i) {
        auto& track_group = track_groups_[i];
        if (!track_group.wanted || track_group.plan.as_asked) continue;
        auto to = reach(track_group, playing_at_);
        if (to - playing_at_ >= most_ahead || !possible(track_group, to)) continue;
        if (!least || to < least->at) least = Goal{i, to};
    }
    return least;
}

/// The rendition whose list is to be read again though nothing of it is wanted: what can be gone to in a live one
/// slides while it is paused, too.
std::optional<std::size_t> SegmentFetcher::stale() const {
    auto& track_group = track_groups_[0];
    auto i = track_group.last.value_or(0);
    auto& r = track_group.renditions[i];
    if (!r.list || r.list->ended || monotonic_now() - r.loaded < std::max(1_s, r.list->target)) return std::nullopt;
    return i;
}

Result<std::shared_ptr<LoadedSegment>> SegmentFetcher::loaded(std::size_t index, Time t) {
    std::unique_lock lock(mutex_);
    auto& track_group = track_groups_[index];
    auto begun = monotonic_now();
    bool asks = !ReadScope::only_buffered();
    // Captions are looked up without waiting: asking for them is what gets them fetched.
    bool text = track_group.plan.kind == Kind::text;
    if (asks || text) track_group.wanted = true;
    if (asks && !track_group.plan.as_asked) playing_at_ = t;
    auto leave = [&] { std::erase_if(waits_, [&](auto& w) { return w.track_group == index && w.at == t; }); };
    for (;;) {
        if (auto* list = some_list(track_group); list && !list->segments.empty() && t < list->segments.front().start) {
            leave();
            t = list->segments.front().start;
            if (asks && !track_group.plan.as_asked) playing_at_ = t;
        }
        if (auto p = find(track_group, t)) {
            leave();
            if (options_.link) {
                auto missing = p->comes - (options_.link->now() + charged());
                if (missing > Time{} && !asks) return fail(ErrorCode::timeout, "This segment is not here yet.");
                if (missing > Time{}) charge(std::min(missing, longest_wait), ReadScope::flag());
            }
            p->played = p->played || asks;
            return p;
        }
        if (past_end(track_group, t)) return leave(), nullptr;
        if (track_group.error) return leave(), std::unexpected(*track_group.error);
        if (ReadScope::given_up())
            return leave(),
                   std::unexpected(ReadScope::stopped(fmt::format("a segment of {} at {} was still being fetched",
                                                                  track_group.plan.name, format_time(t))));
        bool fetches = asks || (text && options_.on_demand && t < playing_at_ + most_ahead);
        if (!fetches) {
            auto later = track_group.loaded.lower_bound(t);
            if (text && later != track_group.loaded.end() && later->first <= playing_at_) return leave(), later->second;
            return leave(), fail(ErrorCode::timeout, "This segment is not here yet.");
        }
        // A live one whose list does not grow any more has come to its end without a word.
        auto* list = some_list(track_group);
        if (list && !list->ended && t + about >= list->end() &&
            monotonic_now() - begun > std::max(longest_silence, list->target * 3))
            return leave(), fail(ErrorCode::timeout,
                                 fmt::format("{} has named no new segment for {:.0f} s.", track_group.plan.name,
                                             (monotonic_now() - begun).seconds()),
                                 "The sender may have stopped; try again later.");
        if (options_.link) {
            if (std::none_of(waits_.begin(), waits_.end(),
                             [&](auto& w) { return w.track_group == index && w.at == t; }))
                waits_.push_back({index, t});
            lock.unlock();
            fetch_by_now();
            lock.lock();
            continue;
        }
        if (options_.on_demand) {
            lock.unlock();
            {
                std::lock_guard one(fetching_);
                if (auto done = fetch_next({index, t}); !done) {
                    if (done.error().code == ErrorCode::cancelled || done.error().code == ErrorCode::timeout)
                        return std::unexpected(done.error());
                    std::lock_guard again(mutex_);
                    track_group.error = done.error();
                }
            }
            lock.lock();
            continue;
        }
        if (std::none_of(waits_.begin(), waits_.end(), [&](auto& w) { return w.track_group == index && w.at == t; }))
            waits_.push_back({index, t});
        if (!thread_.joinable()) thread_ = std::thread([this] { run(); });
        changed_.notify_all();
        changed_.wait_for(lock, std::chrono::milliseconds(20));
    }
}

Result<std::shared_ptr<LoadedSegment>> SegmentFetcher::after(std::size_t track_group, const LoadedSegment& loaded) {
    return this->loaded(track_group, loaded.end());
}

/// In virtual time: fetches what would have been asked for by now, each when the link was free for it, and what
/// somebody waits for in any case.
void SegmentFetcher::fetch_by_now() {
    std::lock_guard one(fetching_);
    auto now = options_.link->now() + charged();
    for (;;) {
        std::optional<Goal> g;
        {
            std::lock_guard lock(mutex_);
            g = goal();
            bool waited = g && std::any_of(waits_.begin(), waits_.end(),
                                           [&](auto& w) { return w.track_group == g->track_group && w.at == g->at; });
            if (!g || (free_at_ > now && !waited)) {
                idle_ = !g;
                return;
            }
            asked_ = idle_ || waited ? std::max(free_at_, now) : free_at_;
            idle_ = false;
        }
        auto done = fetch_next(*g);
        std::lock_guard lock(mutex_);
        if (done) continue;
        if (done.error().code != ErrorCode::cancelled) track_groups_[g->track_group].error = done.error();
        return;
    }
}

void SegmentFetcher::run() {
    while (!stop_) {
        std::optional<Goal> g;
        std::optional<std::size_t> old;
        {
            std::unique_lock lock(mutex_);
            g = goal();
            if (!g) old = stale();
            if (!g && !old) {
                changed_.wait_for(lock, std::chrono::milliseconds(100));
                continue;
            }
        }
        std::lock_guard one(fetching_);
        if (old) {
            if (load(0, *old)) continue;
            std::lock_guard lock(mutex_);
            track_groups_[0].renditions[*old].loaded = monotonic_now();  // it is asked for again when it is due
            continue;
        }
        auto done = fetch_next(*g);
        std::lock_guard lock(mutex_);
        if (!done && done.error().code != ErrorCode::cancelled) track_groups_[g->track_group].error = done.error();
        changed_.notify_all();
    }
}

void SegmentFetcher::playing_at(Time t) {
    {
        std::lock_guard lock(mutex_);
        playing_at_ = t;
        changed_.notify_all();
    }
    if (options_.link) fetch_by_now();
}
TimeRange SegmentFetcher::here(const std::set<std::size_t>& track_groups, Time t) const {
    std::lock_guard lock(mutex_);
    TimeRange all{Time{}, Time::max()};
    for (auto i : track_groups) {
        auto& track_group = track_groups_[i];
        auto at = track_group.loaded.upper_bound(t + about);
        if (at == track_group.loaded.begin() || std::prev(at)->second->end() + about < t) return {t, t};
        auto from = (--at)->first;
        for (; at != track_group.loaded.begin() && std::prev(at)->second->end() + about >= from; --at)
            from = std::prev(at)->first;
        auto to = reach(track_group, t, options_.link ? options_.link->now() : Time::max());
        // Sound may end before the pictures do, and the other way round.
        if (past_end(track_group, to)) to = Time::max();
        all.from = std::max(all.from, from), all.to = std::min(all.to, to);
    }
    if (all.to == Time::max())
        if (auto* list = some_list(track_groups_[0])) all.to = list->end();
    return {all.from, std::max(all.from, all.to)};
}
std::uint64_t SegmentFetcher::received() const {
    std::lock_guard lock(mutex_);
    return report_.bytes_fetched;
}
void SegmentFetcher::shown_at(int width, int height) {
    std::lock_guard lock(mutex_);
    shown_width_ = width, shown_height_ = height;
}
TimeRange SegmentFetcher::window() const {
    std::lock_guard lock(mutex_);
    auto* list = some_list(track_groups_[0]);
    if (!list || list->segments.empty()) return {};
    return {list->segments.front().start, list->end()};
}
std::optional<Time> SegmentFetcher::edge() const {
    std::lock_guard lock(mutex_);
    auto* list = some_list(track_groups_[0]);
    if (!edge_ || !list || list->ended) return std::nullopt;
    // Where nothing is named any more it does not go on for ever.
    return std::min(*edge_ + monotonic_now(), list->end() + list->target * 3);
}
std::optional<Time> SegmentFetcher::clock(std::uint64_t discontinuity) const {
    std::lock_guard lock(mutex_);
    auto it = clocks_.find(discontinuity);
    return it == clocks_.end() ? std::nullopt : std::optional(it->second);
}

StreamReport SegmentFetcher::report() const {
    std::lock_guard lock(mutex_);
    auto r = report_;
    for (std::size_t i = 0; i < r.rungs.size(); ++i) {
        auto& list = track_groups_[0].renditions[i].list;
        if (!list) continue;
        r.rungs[i].segments = list->segments.size();
        if (!surveyed_) continue;
        for (auto& s : list->segments) r.rungs[i].starts.push_back(s.start);
        r.rungs[i].starts.push_back(list->end());
    }
    r.mean_bitrate = fetched_seconds_ > 0 ? fetched_bits_ / fetched_seconds_ : 0;
    r.throughput = throughput_.now().mean;
    if (auto* list = some_list(track_groups_[0])) {
        r.live = !list->ended;
        r.target_duration = list->target;
    }
    return r;
}
std::vector<ClipNews> SegmentFetcher::news() {
    std::lock_guard lock(mutex_);
    return std::exchange(news_, {});
}
void SegmentFetcher::tell(std::string name, std::string detail) {
    if (news_.size() < 1000) news_.push_back({std::move(name), std::move(detail)});
}

void SegmentFetcher::lose(TrackGroup& track_group, std::size_t rendition, const Error& error) {
    track_group.renditions[rendition].error = error;
    tell("rung-lost", error.sentence);
}

// ---- segments that are kept

void SegmentFetcher::keep(TrackGroup& track_group, std::shared_ptr<LoadedSegment> loaded) {
    auto start = loaded->segment.start;
    if (auto it = track_group.loaded.find(start); it != track_group.loaded.end()) kept_ -= it->second->bytes;
    kept_ += loaded->bytes;

    track_group.loaded[start] = std::move(loaded);
    make_room();
}
void SegmentFetcher::make_room() {
    // What has been played goes first, then what lies furthest ahead.
    while (kept_ > most_kept) {
        TrackGroup* of = nullptr;
        Time place{};
        Time worst{INT64_MIN};
        for (auto& track_group : track_groups_)
            for (auto& [start, loaded] : track_group.loaded) {
                if (loaded->bytes == 0 || (start <= playing_at_ && playing_at_ < loaded->end())) continue;
                auto distance = loaded->end() <= playing_at_ ? Time::max() / 2 - start : start - playing_at_;
                if (distance > worst) worst = distance, of = &track_group, place = start;
            }
        if (!of) return;
        auto it = of->loaded.find(place);
        kept_ -= it->second->bytes;
        if (!it->second->played) report_.wasted_bytes += it->second->bytes;
        of->loaded.erase(it);
    }
}

// ---- fetching

/// Waits, unless somebody comes to want something else.
bool SegmentFetcher::pause(Goal g, Time length) {
    std::unique_lock lock(mutex_);
    for (auto until = monotonic_now() + length; !stop_ && !ReadScope::given_up() && monotonic_now() < until;) {
        auto here = [&](const Wait& w) { return w.track_group == g.track_group && w.at == g.at; };
        if (!waits_.empty() && std::none_of(waits_.begin(), waits_.end(), here)) return false;
        changed_.wait_for(lock, std::chrono::milliseconds(20));
    }
    return true;
}

Status SegmentFetcher::fetch_next(Goal g) {
    std::size_t rendition = 0;
    bool first = false;
    {
        std::lock_guard lock(mutex_);
        auto& track_group = track_groups_[g.track_group];
        first = track_group.loaded.empty();
        rendition = track_group.last.value_or(0);
    }
    // A list first, so that the choice knows what it is about.
    for (bool any = false; !any;) {
        {
            std::lock_guard lock(mutex_);
            any = some_list(track_groups_[g.track_group]) != nullptr;
        }
        if (any) break;
        auto loaded = load(g.track_group, rendition);
        if (loaded) break;
        if (loaded.error().code == ErrorCode::cancelled) return loaded;
        std::lock_guard lock(mutex_);
        auto& track_group = track_groups_[g.track_group];
        lose(track_group, rendition, loaded.error());
        auto next = std::find_if(track_group.renditions.begin(), track_group.renditions.end(),
                                 [](auto& r) { return !r.error; });
        if (next == track_group.renditions.end()) return loaded;
        rendition = static_cast<std::size_t>(next - track_group.renditions.begin());
    }
    {
        std::lock_guard lock(mutex_);
        auto& track_group = track_groups_[g.track_group];
        auto* list = some_list(track_group);
        if (past_end(track_group, g.at)) return {};
        if (g.at + about < list->end()) rendition = choose(track_group, g.at);
    }
    std::set<std::size_t> tried;
    Error last;
    auto begun = monotonic_now();
    for (int attempt = 0; !stop_; ++attempt) {
        auto segment = segment_for(g, rendition);
        std::optional<std::size_t> instead;
        Result<std::shared_ptr<LoadedSegment>> got = nullptr;
        if (segment && segment->duration.ns == 0) return {};  // nothing new yet
        if (segment && segment->gap)
            last = {ErrorCode::not_found,
                    fmt::format("The list says that “{}” is missing.", transfer::last_part(segment->address)),
                    {}};
        else if (segment)
            got = fetch_segment(g.track_group, rendition, *segment, instead);
        else
            got = std::unexpected(segment.error());
        if (got && *got) {
            std::lock_guard lock(mutex_);
            auto& track_group = track_groups_[g.track_group];
            if (g.track_group == 0 && track_group.last && *track_group.last != rendition) ++report_.switches;
            track_group.last = rendition, track_group.holes = 0;
            keep(track_group, *got);
            changed_.notify_all();
            return {};
        }
        if (instead) {
            std::lock_guard lock(mutex_);
            auto& track_group = track_groups_[g.track_group];
            auto why = fmt::format("the segment in {} would come too late: {}",
                                   track_group.plan.rungs[rendition].title(), track_group.plan.rungs[*instead].title());
            report_.decisions.push_back({since_opened(), segment->number, track_group.plan.rungs[*instead].id, why,
                                         throughput_.now().mean, std::max(Time{}, g.at - playing_at_)});
            tell("given-up", why);
            rendition = *instead, attempt = -1;
            continue;
        }
        if (!got) last = got.error();
        if (last.code == ErrorCode::cancelled) return std::unexpected(last);
        if (last.code == ErrorCode::timeout && ReadScope::given_up()) return std::unexpected(last);
        if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(last.sentence));
        bool hopeless = (segment && segment->gap) || last.code == ErrorCode::encrypted || last.code == ErrorCode::limit;
        bool listed = false;
        {
            std::lock_guard lock(mutex_);
            auto& r = track_groups_[g.track_group].renditions[rendition];
            listed = r.list.has_value();
            if (!segment && listed) r.loaded = monotonic_now();
        }
        // A live list that can't be had just now is looked for again when it is due.
        if (!segment && listed) return {};
        // A link that is down is waited for; what is not there is asked for once more, and then in another rung.
        bool down = !first && (last.code == ErrorCode::network || last.code == ErrorCode::timeout);
        if (down && monotonic_now() - begun < longest_down) {
            if (!pause(g, std::min(2_s, 250_ms * (1 << std::min(attempt, 3)))))
                return fail(ErrorCode::cancelled, "Something else is wanted first.");
            continue;
        }
        if (attempt == 0 && !hopeless) {
            if (!pause(g, 250_ms)) return fail(ErrorCode::cancelled, "Something else is wanted first.");
            continue;
        }
        tried.insert(rendition);
        std::lock_guard lock(mutex_);
        auto& track_group = track_groups_[g.track_group];
        if (!segment) lose(track_group, rendition, last);
        std::optional<std::size_t> other;
        for (auto i = track_group.renditions.size(); i-- > 0;)
            if (!tried.contains(i) && !track_group.renditions[i].error && (!other || *other > rendition)) other = i;
        if (other) {
            rendition = *other, attempt = 0;
            continue;
        }
        if (!segment) return std::unexpected(last);
        track_group.holes += down ? 4 : 1;
        if (first || track_group.holes >= 8) return std::unexpected(last);
        tell("hole", fmt::format("at {}, {:.1f} s long: {}", format_time(segment->start), segment->duration.seconds(),
                                 last.sentence));
        auto hole = std::make_shared<LoadedSegment>();
        hole->segment = *segment, hole->rendition = rendition;
        keep(track_group, std::move(hole));
        changed_.notify_all();
        return {};
    }
    return {};
}

}  // namespace ruedo::stream
