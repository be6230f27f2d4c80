// SPDX-License-Identifier: Apache-2.0
// In which rung a segment is fetched, and when one on its way is given up for a lower one.
#include <fmt/format.h>

#include "stream/supply.h"

namespace ruedo::stream {

adapt::Situation SegmentFetcher::situation(const TrackGroup& track_group, Time at, const Segment* segment) const {
    adapt::Situation s;
    static thread_local std::vector<double> rates, scores;
    rates.clear(), scores.clear();
    for (auto& r : track_group.plan.rungs) {
        rates.push_back(std::max(1.0, r.bits_a_second()));
        if (r.score > 0) scores.push_back(r.score);
    }
    s.bitrates = rates;
    // It counts where it is stated of all of them.
    if (scores.size() == rates.size()) s.scores = scores;
    s.segment = segment ? segment->duration : 4_s;
    s.ahead = std::max(Time{}, reach(track_group, playing_at_) - playing_at_);
    if (at > playing_at_ + s.ahead + about || at + about < playing_at_) s.ahead = {};
    s.most_ahead = most_ahead;
    s.throughput = throughput_.now();
    s.last = track_group.last;
    if (auto* list = some_list(track_group); list && list->ended && segment) {
        auto last = list->segments.back().number;
        s.left = static_cast<std::size_t>(last >= segment->number ? last - segment->number + 1 : 1);
    }
    if (shown_width_ > 0)
        for (std::size_t i = 0; i < track_group.plan.rungs.size() && s.highest == SIZE_MAX; ++i)
            if (track_group.plan.rungs[i].width >= shown_width_ && track_group.plan.rungs[i].height >= shown_height_)
                s.highest = i;
    return s;
}

Time SegmentFetcher::since_opened() const {
    return options_.link ? asked_ - opened_ : options_.on_demand ? Time{} : monotonic_now() - opened_;
}

std::optional<std::size_t> SegmentFetcher::too_late(const TrackGroup& track_group, std::size_t rendition,
                                                    const Segment& segment, double bits_left, double bits_so_far,
                                                    Time since) const {
    if (track_group.plan.rungs.size() < 2 || !options_.rung.empty() || options_.best) return std::nullopt;
    auto s = situation(track_group, segment.start, &segment);
    // In virtual time all of it is looked at in one moment, that in which it was asked for.
    if (options_.link) s.ahead = std::max(Time{}, s.ahead - since);
    return adapt::give_up_for(s, rendition, bits_left, bits_so_far, since);
}

Result<Time> SegmentFetcher::carried(const TrackGroup& track_group, std::size_t rendition, const Segment& segment,
                                     std::size_t size, std::optional<std::size_t>& instead) {
    auto bits = static_cast<double>(size) * 8;
    auto comes = options_.link->done(asked_, bits);
    // Sampled while it arrives, as over a socket.
    for (auto t = asked_ + 500_ms; t < comes; t += 250_ms) {
        auto so_far = options_.link->bits(asked_, t);
        instead = too_late(track_group, rendition, segment, bits - so_far, so_far, t - asked_);
        if (!instead) continue;
        auto bytes = static_cast<std::uint64_t>(so_far / 8);
        report_.bytes_fetched += bytes, report_.wasted_bytes += bytes;
        throughput_.add(bytes + 1, t - asked_);
        asked_ = free_at_ = t;
        return fail(ErrorCode::timeout, "It would come too late.");
    }
    free_at_ = comes;
    throughput_.add(size, comes - asked_);
    return comes;
}

std::size_t SegmentFetcher::choose(TrackGroup& track_group, Time at) {
    auto& rungs = track_group.plan.rungs;
    auto usable = [&](std::size_t i) { return !track_group.renditions[i].error; };
    auto* list = some_list(track_group);
    auto* segment = list ? list->at(at + about) : nullptr;
    auto s = situation(track_group, at, segment);
    adapt::RungChoice choice{0, {}};
    if (!options_.rung.empty()) {
        auto it = std::find_if(rungs.begin(), rungs.end(), [&](auto& r) { return r.id == options_.rung; });
        if (it != rungs.end()) choice = {static_cast<std::size_t>(it - rungs.begin()), "as it was asked for"};
    } else if (options_.best) {
        choice = {rungs.size() - 1, "the best there is"};
    } else if (rungs.size() > 1 && &track_group == &track_groups_[0]) {
        choice = track_group.policy->choose(s);
    }
    // Sound costs little: the best that takes no more than a tenth of the link.
    if (&track_group != &track_groups_[0])
        for (choice.rung = rungs.size() - 1; choice.rung > 0 && !options_.best; --choice.rung)
            if (rungs[choice.rung].bits_a_second() * 10 <= s.throughput.mean) break;
    while (choice.rung > 0 && !usable(choice.rung)) --choice.rung;
    while (choice.rung + 1 < rungs.size() && !usable(choice.rung)) ++choice.rung;
    if (&track_group != &track_groups_[0] || track_group.plan.kind != Kind::video) return choice.rung;
    if (choice.why.empty()) choice.why = "the only rung";
    bool other = !track_group.last || *track_group.last != choice.rung;
    auto number = segment ? segment->number : 0;
    // One that was interrupted for something more urgent is decided anew.
    if (!report_.decisions.empty() && report_.decisions.back().segment == number &&
        report_.decisions.back().rung == rungs[choice.rung].id)
        report_.decisions.pop_back();
    if (report_.decisions.size() < 100'000)
        report_.decisions.push_back(
            {since_opened(), number, rungs[choice.rung].id, choice.why, s.throughput.mean, s.ahead});
    if (other) tell("rung", fmt::format("{} from {} on: {}", rungs[choice.rung].title(), format_time(at), choice.why));
    return choice.rung;
}

}  // namespace ruedo::stream
