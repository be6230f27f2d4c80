// SPDX-License-Identifier: Apache-2.0
#include "playback/buffered.h"

#include <algorithm>

namespace ruedo {

BufferedWalk::BufferedWalk(std::shared_ptr<HttpSource> source, std::shared_ptr<Clip> clip,
                           const std::vector<Track>& tracks)
    : source_(std::move(source)), clip_(std::move(clip)) {
    ReadScope scope(nullptr, true);
    for (auto& track : tracks) leads_.push_back({track, clip_->reader(track.id), {}, {}, false});
}

bool BufferedWalk::here(const PacketHead& head, const std::vector<HttpSource::Range>& ranges) const {
    if (!head.offset) return true;
    return std::any_of(ranges.begin(), ranges.end(),
                       [&](auto& r) { return r.from <= *head.offset && *head.offset + head.size <= r.to; });
}

std::pair<Time, Time> BufferedWalk::around(Time position) {
    ReadScope scope(nullptr, true);
    auto ranges = source_->buffered();
    Time from{}, to = Time::max();
    for (auto& lead : leads_) {
        // What was here may have been dropped from the window since, so the first packet is looked at again.
        auto start = position >= lead.from && position <= lead.to ? std::max(position, lead.to - 1_s) : position;
        lead.from = position;
        lead.ended = false;
        if (lead.reader->seek(start)) {
            PacketHead head;
            auto reach = start;
            for (int i = 0; i < 20'000; ++i) {
                auto more = lead.reader->next(head);
                if (!more) break;
                if (!*more) {
                    lead.ended = true;
                    break;
                }
                if (!here(head, ranges)) break;
                reach = std::max(reach, std::min(head.pts + head.duration, lead.track.end));
            }
            lead.to = reach;
        } else {
            lead.from = lead.to = position;
        }
        from = std::max(from, lead.from);
        if (!lead.ended) to = std::min(to, lead.to);
    }
    if (to == Time::max()) to = clip_->info().duration_known ? clip_->info().duration : from;
    return {from, std::max(from, to)};
}

std::vector<Cue> BufferedWalk::captions(const Track& track, Time position) {
    ReadScope scope(nullptr, true);
    std::vector<Cue> list;
    auto reader = clip_->reader(track.id);
    if (!reader->seek(std::max(Time{}, position - 10_s))) return list;
    PacketHead head;
    Bytes data;
    for (int i = 0; i < 2000 && reader->next(head).value_or(false) && head.size < (1 << 20) && reader->read(data); ++i)
        cues_of_packet(track, head, data, list);
    return list;
}

}  // namespace ruedo
