// SPDX-License-Identifier: Apache-2.0
// In which rung a segment is fetched.
#include <fmt/format.h>

#include "stream/supply.h"

namespace ruedo::stream {

adapt::Situation Supply::situation(const Feed& feed, Time at, const Segment* segment) const {
    adapt::Situation s;
    static thread_local std::vector<double> rates, scores;
    rates.clear(), scores.clear();
    for (auto& r : feed.plan.rungs) {
        rates.push_back(std::max(1.0, r.bits_a_second()));
        if (r.score > 0) scores.push_back(r.score);
    }
    s.bitrates = rates;
    // It counts where it is stated of all of them.
    if (scores.size() == rates.size()) s.scores = scores;
    s.segment = segment ? segment->duration : 4_s;
    s.ahead = std::max(Time{}, reach(feed, playing_at_) - playing_at_);
    if (at > playing_at_ + s.ahead + about || at + about < playing_at_) s.ahead = {};
    s.most_ahead = most_ahead;
    s.throughput = throughput_.now();
    s.last = feed.last;
    if (auto* list = some_list(feed); list && list->ended && segment) {
        auto last = list->segments.back().number;
        s.left = static_cast<std::size_t>(last >= segment->number ? last - segment->number + 1 : 1);
    }
    if (shown_width_ > 0)
        for (std::size_t i = 0; i < feed.plan.rungs.size() && s.highest == SIZE_MAX; ++i)
            if (feed.plan.rungs[i].width >= shown_width_ && feed.plan.rungs[i].height >= shown_height_) s.highest = i;
    return s;
}

std::size_t Supply::choose(Feed& feed, Time at) {
    auto& rungs = feed.plan.rungs;
    auto usable = [&](std::size_t i) { return !feed.renditions[i].error; };
    auto* list = some_list(feed);
    auto* segment = list ? list->at(at + about) : nullptr;
    auto s = situation(feed, at, segment);
    adapt::Choice choice{0, {}};
    if (!options_.rung.empty()) {
        auto it = std::find_if(rungs.begin(), rungs.end(), [&](auto& r) { return r.id == options_.rung; });
        if (it != rungs.end()) choice = {static_cast<std::size_t>(it - rungs.begin()), "as it was asked for"};
    } else if (options_.best) {
        choice = {rungs.size() - 1, "as good as it comes"};
    } else if (rungs.size() > 1 && &feed == &feeds_[0]) {
        choice = feed.policy->choose(s);
    }
    // Sound costs little: the best that takes no more than a tenth of the link.
    if (&feed != &feeds_[0])
        for (choice.rung = rungs.size() - 1; choice.rung > 0 && !options_.best; --choice.rung)
            if (rungs[choice.rung].bits_a_second() * 10 <= s.throughput.mean) break;
    while (choice.rung > 0 && !usable(choice.rung)) --choice.rung;
    while (choice.rung + 1 < rungs.size() && !usable(choice.rung)) ++choice.rung;
    if (&feed != &feeds_[0] || feed.plan.kind != Kind::video) return choice.rung;
    if (choice.why.empty()) choice.why = "the only rung";
    bool other = !feed.last || *feed.last != choice.rung;
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
