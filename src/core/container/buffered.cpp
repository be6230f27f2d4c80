// SPDX-License-Identifier: Apache-2.0
#include "container/buffered.h"

#include <algorithm>

namespace ruedo {

BufferedWalk::BufferedWalk(std::shared_ptr<ByteSource> source, Clip& clip, const std::vector<Track>& tracks)
    : source_(std::move(source)), clip_(clip) {
    if (clip.info().duration_known) end_ = clip.info().duration;
    for (auto& track : tracks) leads_.push_back({track, {}, {}, {}, {}, {}, false});
}

namespace {
bool here(const PacketHead& head, const std::vector<ByteSource::Range>& ranges) {
    if (!head.offset) return true;
    return std::any_of(ranges.begin(), ranges.end(),
                       [&](auto& r) { return r.from <= *head.offset && *head.offset + head.size <= r.to; });
}
}  // namespace

bool BufferedWalk::follows(const std::vector<Track>& tracks) const {
    return std::ranges::equal(leads_, tracks, {}, [](auto& lead) { return lead.track.id; }, &Track::id);
}

TimeRange BufferedWalk::around(Time position) {
    ReadScope scope(nullptr, true);
    auto ranges = source_->buffered().value_or(std::vector<ByteSource::Range>{});
    Time from{}, to = Time::max(), all = end_;
    for (auto& lead : leads_) {
        // It goes on where it was: many a clip can't be sought in without bytes from far ahead, least of all where
        // playing has come to the end of what is here. What was here may have been dropped from the window since.
        bool known = lead.last && here(*lead.last, ranges) && position >= lead.from;
        if (!known || position > lead.to) {
            auto there = clip_.reader(lead.track.id);
            bool found = there->seek(position).has_value();
            // Where the place is not found, all from the beginning on may be here.
            if (!found) there = clip_.reader(lead.track.id);
            if (found || !known) lead = {lead.track, std::move(there), position, position, {}, {}, false};
        }
        lead.from = position;
        for (int i = 0; i < 20'000 && !lead.ended; ++i) {
            if (!lead.waits) {
                PacketHead head;
                auto more = lead.reader->next(head);
                if (!more) break;
                if (!*more) {
                    lead.ended = true;
                    break;
                }
                lead.waits = head;
            }
            if (!here(*lead.waits, ranges)) break;
            lead.to = std::max(lead.to, std::min(lead.waits->pts + lead.waits->duration, lead.track.end));
            lead.last = std::exchange(lead.waits, std::nullopt);
        }
        from = std::max(from, lead.from);
        all = std::max(all, lead.to);
        if (!lead.ended) to = std::min(to, lead.to);
    }
    return {from, std::max(from, std::min(to, all))};
}

// What a clip says of itself where its container adds nothing.
Clip::Clip() = default;
Clip::~Clip() = default;

std::optional<TimeRange> Clip::seekable() const {
    if (info_.live) return std::nullopt;
    return TimeRange{{}, info_.duration_known ? info_.duration : Time::max()};
}
std::optional<TimeRange> Clip::buffered(const std::vector<Track>& tracks, Time position) {
    if (!bytes_ || !bytes_->buffered()) return std::nullopt;
    std::lock_guard lock(walk_mutex_);
    if (!walk_ || !walk_->follows(tracks)) walk_ = std::make_unique<BufferedWalk>(bytes_, *this, tracks);
    return walk_->around(position);
}
std::optional<Clip::Fetched> Clip::fetched() const {
    if (!bytes_ || !bytes_->buffered()) return std::nullopt;
    return Fetched{bytes_->received(), bytes_->size()};
}
bool Clip::altered() const { return bytes_ && bytes_->altered(); }

}  // namespace ruedo
