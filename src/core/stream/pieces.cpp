// SPDX-License-Identifier: Apache-2.0
// Lists and segments of one rendition: fetched, decrypted, opened, and put on the one timeline of their stream.
#include <fmt/format.h>

#include "container/container.h"
#include "io/transfer.h"
#include "stream/supply.h"

namespace ruedo::stream {
namespace {
constexpr std::size_t most_segment = 48 << 20;

/// The first segment of `fresh` that the old list has as well: how far times have to be moved for both to agree.
std::optional<Time> agree(const SegmentList& old, const SegmentList& fresh) {
    auto& a = old.segments;
    auto& b = fresh.segments;
    if (a.empty() || b.empty()) return std::nullopt;
    auto number = std::max(a.front().number, b.front().number);
    auto find = [number](auto& list) {
        return std::find_if(list.begin(), list.end(), [&](auto& s) { return s.number == number; });
    };
    auto in_a = find(a);
    auto in_b = find(b);
    if (in_a == a.end() || in_b == b.end()) return std::nullopt;
    return in_a->start - in_b->start;
}
/// The same by their dates.
std::optional<Time> agree_by_date(const SegmentList& old, const SegmentList& fresh) {
    auto dated = [](auto& s) { return s.date.has_value(); };
    auto a = std::find_if(old.segments.begin(), old.segments.end(), dated);
    auto b = std::find_if(fresh.segments.begin(), fresh.segments.end(), dated);
    if (a == old.segments.end() || b == fresh.segments.end()) return std::nullopt;
    return a->start - *a->date + *b->date - b->start;
}
}  // namespace

Result<SegmentList> SegmentFetcher::list(std::size_t index) {
    {
        std::lock_guard lock(mutex_);
        if (auto* list = some_list(track_groups_[index])) return *list;
    }
    std::lock_guard one(fetching_);
    std::size_t rendition = 0;
    for (;;) {
        auto loaded = load(index, rendition);
        std::lock_guard lock(mutex_);
        auto& track_group = track_groups_[index];
        if (loaded) return *track_group.renditions[rendition].list;
        if (loaded.error().code == ErrorCode::cancelled || loaded.error().code == ErrorCode::timeout)
            return std::unexpected(loaded.error());
        lose(track_group, rendition, loaded.error());
        if (++rendition == track_group.renditions.size()) return std::unexpected(loaded.error());
    }
}

Status SegmentFetcher::list_all(std::size_t index) {
    std::lock_guard one(fetching_);
    for (std::size_t i = 0; i < track_groups_[index].renditions.size(); ++i) {
        {
            std::lock_guard lock(mutex_);
            if (track_groups_[index].renditions[i].list) continue;
        }
        auto loaded = load(index, i);
        if (loaded) continue;
        if (loaded.error().code == ErrorCode::cancelled) return loaded;
        std::lock_guard lock(mutex_);
        lose(track_groups_[index], i, loaded.error());
    }
    std::lock_guard lock(mutex_);
    surveyed_ = true;
    return {};
}

Status SegmentFetcher::load(std::size_t index, std::size_t rendition) {
    auto playlists = track_groups_[index].plan.playlists;  // neither changes
    RUEDO_TRY(auto fresh, playlists->list(fetch_, rendition));
    std::lock_guard lock(mutex_);
    join_lists(track_groups_[index], rendition, std::move(fresh));
    return {};
}

/// Puts a list that was fetched in place of the one before, its times on the stream's timeline.
void SegmentFetcher::join_lists(TrackGroup& track_group, std::size_t rendition, SegmentList fresh) {
    auto& r = track_group.renditions[rendition];
    auto move = [&](Time by) {
        for (auto& s : fresh.segments) s.start += by;
    };
    const SegmentList* old = r.list ? &*r.list : some_list(track_group);
    if (!old && &track_group != &track_groups_[0]) old = some_list(track_groups_[0]);
    bool whole = fresh.ended && (!old || old->ended) && !r.list;  // on demand: all begin at the same place
    if (old && !whole && !fresh.segments.empty() && !old->segments.empty()) {
        bool same = r.list.has_value();
        auto by = agree(*old, fresh);
        if (!by) by = agree_by_date(*old, fresh);
        if (same && (!by || fresh.segments.back().number < old->segments.back().number)) {
            // Numbers went back, or on beyond all that was known: later segments follow the known ones.
            bool back = fresh.segments.back().number <= old->segments.back().number;
            auto lost =
                back ? Time{}
                     : fresh.target * static_cast<std::int64_t>(std::min<std::uint64_t>(
                                          1000, fresh.segments.front().number - old->segments.back().number - 1));
            by = old->end() + lost - fresh.segments.front().start;
            if (back) ++r.carried;
            tell("list-jumped", back ? "the list of segments began anew" : "segments passed by between two lists");
        }
        // Rungs of a live one end at about the same moment, whatever their lists are called.
        move(by.value_or(old->end() - fresh.end()));
    }
    for (auto& s : fresh.segments) s.discontinuity += r.carried << 32;
    r.list = std::move(fresh), r.loaded = monotonic_now(), r.error.reset();
    if (&track_group != &track_groups_[0] || r.list->ended || options_.on_demand) return;
    // Segments are named when they are whole, so the list that was read soonest after that tells best; a source that
    // runs slower than our clock takes it back a little with every list.
    auto seen = r.list->end() - r.loaded;
    edge_ = edge_ ? std::max(seen, *edge_ - 5_ms) : seen;
}

/// The segment of a rendition at the goal; with a length of 0 where there is none yet.
Result<const Segment> SegmentFetcher::segment_for(Goal g, std::size_t rendition) {
    for (int turn = 0;; ++turn) {
        {
            std::lock_guard lock(mutex_);
            auto& r = track_groups_[g.track_group].renditions[rendition];
            if (r.list) {
                if (auto* s = r.list->at(g.at + about); s && (g.at + about < r.list->end() || r.list->ended)) return *s;
                if (turn > 0 || !due(r)) return Segment{};
            } else if (turn > 0) {
                return Segment{};
            }
        }
        RUEDO_TRY_DO(load(g.track_group, rendition));
    }
}

Result<std::shared_ptr<const Bytes>> SegmentFetcher::small(const std::string& address,
                                                           std::optional<ByteSource::Range> range, const Key* key) {
    auto name = range ? fmt::format("{}@{}-{}", address, range->from, range->to) : address;
    {
        std::lock_guard lock(mutex_);
        if (auto it = small_.find(name); it != small_.end()) return it->second;
    }
    RUEDO_TRY(auto got, fetch_.get(address, range, 4 << 20));
    if (key) {
        RUEDO_TRY(got.bytes, plain(std::move(got.bytes), key, 0));
    }
    auto kept = std::make_shared<const Bytes>(std::move(got.bytes));
    std::lock_guard lock(mutex_);
    if (small_.size() > 256) small_.clear();
    small_[name] = kept;
    return kept;
}

Result<Bytes> SegmentFetcher::plain(Bytes bytes, const Key* key, std::uint64_t number) {
    if (key->method == Key::Method::unsupported)
        return fail(ErrorCode::encrypted,
                    fmt::format("Its segments are encrypted in a way that is not known here ({}).", key->name),
                    "Ask for a copy without encryption; Ruedo holds no keys.");
    RUEDO_TRY(auto secret, small(key->address, {}, nullptr));
    if (secret->size() != 16)
        return fail(ErrorCode::encrypted,
                    fmt::format("The key at “{}” has {} bytes; it should have 16.", transfer::last_part(key->address),
                                secret->size()),
                    "Check what the server sends for it.");
    return decrypt(bytes, *secret, key->iv.value_or(vector_of(number)));
}

Result<std::shared_ptr<LoadedSegment>> SegmentFetcher::fetch_segment(std::size_t index, std::size_t rendition,
                                                                     const Segment& segment,
                                                                     std::optional<std::size_t>& instead) {
    std::uint64_t so_far = 0;
    auto watch = [&](std::uint64_t bytes, std::uint64_t of, Time since) {
        so_far = bytes;
        if (stop_) return false;
        std::lock_guard lock(mutex_);
        auto& track_group = track_groups_[index];
        bool wanted_here = false, wanted_elsewhere = false;
        for (auto& w : waits_)
            (w.track_group == index && w.at + about >= segment.start && w.at < segment.end() ? wanted_here
                                                                                             : wanted_elsewhere) = true;
        // A waiting reader elsewhere is served first, unless this one is nearly here.
        if (wanted_elsewhere && !wanted_here && (of == 0 || bytes < of - of / 4)) return false;
        if (of == 0) return true;
        instead = too_late(track_group, rendition, segment, static_cast<double>(of - std::min(of, bytes)) * 8,
                           static_cast<double>(bytes) * 8, since);
        return !instead;
    };
    auto got = fetch_.get(segment.address, segment.range, most_segment, watch);
    std::size_t size = 0;
    Time comes{};
    {
        std::lock_guard lock(mutex_);
        if (!got) {
            report_.bytes_fetched += so_far, report_.wasted_bytes += so_far;
            if (instead) throughput_.add(so_far, 500_ms);
            return std::unexpected(got.error());
        }
        size = got->bytes.size();
        if (options_.link) {
            RUEDO_TRY(comes, carried(track_groups_[index], rendition, segment, size, instead));
        }
        report_.bytes_fetched += size;
        ++report_.segments_fetched;
        if (!options_.on_demand) throughput_.add(size, got->took);

        if (track_groups_[index].plan.kind != Kind::text && segment.duration.ns > 0) {
            fetched_bits_ += static_cast<double>(size) * 8;
            if (index == 0) {
                fetched_seconds_ += segment.duration.seconds();
                auto& rung = report_.rungs[rendition];
                auto rate = static_cast<double>(size) * 8 / segment.duration.seconds();
                rung.measured_peak = std::max(rung.measured_peak, static_cast<std::uint64_t>(rate));
            }
        }
    }
    auto bytes = std::move(got->bytes);
    if (segment.key) {
        RUEDO_TRY(bytes, plain(std::move(bytes), segment.key.get(), segment.number));
    }
    if (segment.map) {
        RUEDO_TRY(auto front, small(segment.map->address, segment.map->range, segment.map->key.get()));
        bytes.insert(bytes.begin(), front->begin(), front->end());
    }
    RUEDO_TRY(auto loaded, open(index, rendition, segment, std::move(bytes)));
    loaded->comes = comes;
    return loaded;
}

Result<std::shared_ptr<LoadedSegment>> SegmentFetcher::open(std::size_t index, std::size_t rendition,
                                                            const Segment& segment, Bytes bytes) {
    auto loaded = std::make_shared<LoadedSegment>();
    loaded->segment = segment, loaded->rendition = rendition, loaded->bytes = bytes.size();
    auto& kind = track_groups_[index].plan.kind;
    if (kind == Kind::text) {
        loaded->text.assign(bytes.begin(), bytes.end());
        return loaded;
    }
    auto source = memory_source(std::move(bytes), transfer::last_part(segment.address));
    std::optional<Time> zero = segment.zero;
    if (!zero) {
        std::lock_guard lock(mutex_);
        if (auto it = clocks_.find(segment.discontinuity); it != clocks_.end()) zero = it->second;
    }
    if (!zero) {
        // The first segment of its clock tells how that stands to the stream's.
        RUEDO_TRY(auto clip, open_segment(source));
        if (clip->info().zero) {
            zero = *clip->info().zero - segment.start;
            std::lock_guard lock(mutex_);
            zero = clocks_.try_emplace(segment.discontinuity, *zero).first->second;
        }
    }
    RUEDO_TRY(auto clip, open_segment(source, zero ? std::optional(Timeline{*zero, segment.start}) : std::nullopt));
    loaded->shift = zero && clip->info().zero ? *clip->info().zero - *zero : segment.start;
    loaded->clip = std::move(clip);
    if (auto* t = loaded->clip->info().main(Kind::video))
        loaded->video_config = std::make_shared<const Bytes>(t->config);
    if (auto* t = loaded->clip->info().main(Kind::audio))
        loaded->audio_config = std::make_shared<const Bytes>(t->config);
    // What leads in this track group, and how much of it there is.
    auto& info = loaded->clip->info();
    auto* lead = kind == Kind::video && (loaded->video_config || track_groups_[index].has_pictures)
                     ? info.main(Kind::video)
                     : info.main(Kind::audio);
    auto& codec = track_groups_[index].codec;
    if (lead && codec != Codec::unknown && lead->codec != codec)
        return fail(ErrorCode::not_media,
                    fmt::format("“{}” is {} where the rest of its stream is {}.", transfer::last_part(segment.address),
                                codec_title(lead->codec), codec_title(codec)),
                    "Make all segments of a stream with one codec.");
    if (lead) codec = lead->codec;
    std::optional<TimeRange> holds;
    if (lead && !lead->problem) {
        auto reader = loaded->clip->reader(lead->id);
        PacketHead head;
        while (reader->next(head).value_or(false)) {
            if (!holds) holds = TimeRange{head.pts, head.pts};
            holds->from = std::min(holds->from, head.pts), holds->to = std::max(holds->to, head.pts + head.duration);
        }
    }
    if (lead && holds && !track_groups_[index].plan.as_asked && (holds->to - holds->from) * 2 < segment.duration) {
        std::lock_guard lock(mutex_);
        tell("short", fmt::format("“{}” holds {:.2f} s of the {:.2f} s that its list states.",
                                  transfer::last_part(segment.address), (holds->to - holds->from).seconds(),
                                  segment.duration.seconds()));
    }
    track_groups_[index].has_pictures = track_groups_[index].has_pictures || loaded->video_config;
    if (!lead || (!lead->problem && !holds))
        return fail(ErrorCode::not_media,
                    fmt::format("“{}” holds nothing that plays.", transfer::last_part(segment.address)),
                    "Check that its playlist names the right segments.");
    return loaded;
}

}  // namespace ruedo::stream
