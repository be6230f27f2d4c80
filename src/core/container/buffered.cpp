// SPDX-License-Identifier: Apache-2.0
#include "container/buffered.h"

#include <algorithm>

namespace ruedo {

BufferedWalk::BufferedWalk(std::shared_ptr<ByteSource> source, Clip& clip, const std::vector<Track>& tracks)
    : source_(std::move(source)) {
    ReadScope scope(nullptr, true);
    if (clip.info().duration_known) end_ = clip.info().duration;
    for (auto& track : tracks) leads_.push_back({track, clip.reader(track.id), {}, {}, false});
}

namespace {
bool here(const PacketHead& head, const std::vector<ByteSource::Range>& ranges) {
    if (!head.offset) return true;
    return std::any_of(ranges.begin(), ranges.end(),
                       [&](auto& r) { return r.from <= *head.offset && *head.offset + head.size <= r.to; });
}
}  // namespace

TimeRange BufferedWalk::around(Time position) {
    ReadScope scope(nullptr, true);
    auto ranges = source_->buffered().value_or(std::vector<ByteSource::Range>{});
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
    if (to == Time::max()) to = end_.ns >= 0 ? end_ : from;
    return {from, std::max(from, to)};
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
    if (!walk_) walk_ = std::make_unique<BufferedWalk>(bytes_, *this, tracks);
    return walk_->around(position);
}
std::optional<Clip::Fetched> Clip::fetched() const {
    if (!bytes_ || !bytes_->buffered()) return std::nullopt;
    return Fetched{bytes_->received(), bytes_->size()};
}
bool Clip::altered() const { return bytes_ && bytes_->altered(); }

}  // namespace ruedo
