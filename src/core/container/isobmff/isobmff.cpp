// SPDX-License-Identifier: Apache-2.0
// Opening ISO base media files (ISO/IEC 14496-12) and QuickTime movies.
#include <fmt/format.h>

#include <algorithm>

#include "container/isobmff/iso_clip.h"
#include "media/codec_headers.h"

namespace ruedo::isobmff {

Status IsoClip::open() {
    auto size = source_->size().value_or(UINT64_MAX);
    file_end_ = size;
    info_.container = "mp4";
    std::optional<Box> moov;
    std::uint64_t at = 0, first_moof = 0, first_mdat = UINT64_MAX;
    std::optional<std::uint64_t> broken_at;
    bool first = true, has_mdat = false;
    while (at < size) {
        RUEDO_TRY(auto box, read_box(reader_, at, size));
        if (!box) {
            if (first)
                return fail(ErrorCode::malformed,
                            fmt::format("“{}” begins with a box whose size is impossible.", source_->name()),
                            "The file is damaged; copy it again.");
            if (size - at >= 8)
                broken_at = at;
            else
                cut_short_ = true;
            break;
        }
        first = false;
        if (box->stated_end > size && box->stated_end != UINT64_MAX) cut_short_ = true;
        if (box->type == fourcc("ftyp")) {
            RUEDO_TRY(auto brand, body(*box, 64));
            if (brand.size() >= 4 && be32(brand.data()) == fourcc("qt  ")) info_.container = "mov";
        } else if (box->type == fourcc("moov") && !moov) {
            moov = box;
            moov_end_ = box->end;
            RUEDO_TRY_DO(read_moov(*box));
        } else if (box->type == fourcc("mdat")) {
            if (!has_mdat) first_mdat = box->start;
            has_mdat = true;
        } else if (box->type == fourcc("sidx") && !sidx_ && moov) {
            sidx_ = box;
        } else if (box->type == fourcc("moof")) {
            first_moof = box->start;
            if (moov) break;  // the rest is walked when it is needed
        }
        if (moov && !fragmented_) {
            // Only what follows the moov could still tell of a cut; the mdat before it has been seen.
            if (has_mdat) {
                if (moov->start > first_mdat)
                    info_.findings.push_back(
                        {"index-at-end",
                         fmt::format("The index of “{}” begins at byte {} of {}, after the pictures and sound; over a "
                                     "network playing starts late.",
                                     source_->name(), moov->start, size == UINT64_MAX ? moov->end : size),
                         "Rewrap it with the index in front."});
                break;
            }
        }
        at = box->end;
    }
    if (!moov) {
        if (broken_at)
            return fail(ErrorCode::malformed,
                        fmt::format("“{}” has a box of impossible size at byte {}, before its index.", source_->name(),
                                    *broken_at),
                        "Export the clip again.");
        if (cut_short_ || has_mdat)
            return fail(
                ErrorCode::truncated,
                fmt::format("“{}” was cut short before its index (the moov box), so nothing in it can be found.",
                            source_->name()),
                "Copy it again; an export with the index in front survives such cuts.");
        return fail(ErrorCode::malformed, fmt::format("“{}” has no index (moov box).", source_->name()),
                    "Export the clip again.");
    }
    if (fragmented_) {
        fragments_ = std::make_shared<FragmentIndex>(source_, first_moof ? first_moof : moov_end_);
        if (sidx_) RUEDO_TRY_DO(read_sidx(*sidx_, 0));
        if (!sidx_ && !source_->forward_only()) RUEDO_TRY_DO(read_mfra());
    }
    return finish();
}

Status IsoClip::read_sidx(const Box& box, int depth) {
    RUEDO_TRY(auto data, body(box, 16 << 20));
    ByteReader r(data);
    auto version = r.u32() >> 24;
    r.skip(4);
    auto timescale = std::max<std::uint32_t>(1, r.u32());
    auto time = static_cast<std::int64_t>(version ? r.u64() : r.u32());
    auto offset = box.end + (version ? r.u64() : r.u32());
    r.skip(2);
    auto count = r.u16();
    auto start = time;
    for (unsigned i = 0; i < count && !r.overrun(); ++i) {
        auto word = r.u32();
        auto duration = r.u32();
        r.skip(4);
        if (word >> 31) {
            // An index of indexes. Over a network more than a few of them would cost more than walking does.
            if (depth >= 3 || ++inner_indexes_ > (source_->cheap_to_seek() ? 4096 : 8)) return {};
            RUEDO_TRY(auto inner, read_box(reader_, offset, source_->size().value_or(UINT64_MAX)));
            if (!inner || inner->type != fourcc("sidx")) return {};
            RUEDO_TRY_DO(read_sidx(*inner, depth + 1));
        } else {
            fragments_->know(offset, ticks_to_time(time, 1, timescale));
        }
        offset += word & 0x7FFFFFFF;
        time += duration;
    }
    if (depth > 0) return {};
    // One index may be for all that follows, or for a segment of it only.
    auto size = source_->size();
    bool whole = size && offset >= *size;
    if (size && !whole && !source_->forward_only()) {
        RUEDO_TRY(auto next, read_box(reader_, offset, *size));
        whole = next && next->type == fourcc("mfra");
    }
    if (whole) sidx_duration_ = ticks_to_time(time - start, 1, timescale);
    return {};
}

Status IsoClip::read_mfra() {
    // The last box of the file states the size of the mfra around it (8.8.11).
    auto size = source_->size();
    if (!size || *size < 16) return {};
    RUEDO_TRY(auto tail, reader_.view(*size - 16, 16));
    if (tail.size() < 16 || be32(tail.data() + 4) != fourcc("mfro")) return {};
    std::uint64_t length = be32(tail.data() + 12);
    if (length < 24 || length > *size || length > (64 << 20)) return {};
    RUEDO_TRY(auto mfra, read_box(reader_, *size - length, *size));
    if (!mfra || mfra->type != fourcc("mfra")) return {};
    return children(
        *mfra, mfra->body,
        [&](const Box& box) -> Status {
            if (box.type != fourcc("tfra")) return {};
            RUEDO_TRY(auto data, body(box, 16 << 20));
            ByteReader r(data);
            auto version = r.u32() >> 24;
            auto id = r.u32();
            auto lengths = r.u32();
            auto count = r.u32();
            auto draft = std::find_if(drafts_.begin(), drafts_.end(), [&](auto& d) { return d.track.id == id; });
            if (draft == drafts_.end() || draft->track.kind != Kind::video) return {};
            for (std::uint32_t i = 0; i < count && r.left() > 0; ++i) {
                auto time = static_cast<std::int64_t>(version ? r.u64() : r.u32());
                auto moof = version ? r.u64() : r.u32();
                r.skip((lengths >> 4 & 3) + 1 + (lengths >> 2 & 3) + 1 + (lengths & 3) + 1);
                if (r.overrun()) break;
                fragments_->know(moof, ticks_to_time(time, 1, draft->plan.timescale));
            }
            return {};
        },
        1);
}

/// Leading empty edits and one media edit are played; anything else plays as if there were none.
void IsoClip::apply_edits(Draft& draft) {
    auto& edits = draft.edits;
    std::uint64_t empty = 0;
    std::size_t i = 0;
    while (i < edits.size() && edits[i].media_time == -1) empty += edits[i++].duration;
    if (i + 1 < edits.size() || (i < edits.size() && edits[i].media_time < 0)) {
        info_.findings.push_back(
            {"edit-list",
             fmt::format("Track {} has an edit list of {} edits, which is played as if it had none.", draft.track.id,
                         edits.size()),
             "Export the clip with its cuts applied."});
        return;
    }
    draft.plan.offset = ticks_to_time(static_cast<std::int64_t>(empty), 1, movie_timescale_);
    if (i >= edits.size()) return;
    draft.plan.shift_ticks = edits[i].media_time;
    draft.track.start = draft.plan.offset;
    // A fragmented file states its edit's length as 0 or as that of the empty moov; neither is an end.
    if (edits[i].duration > 0 && !fragmented_)
        draft.track.end =
            draft.plan.offset + ticks_to_time(static_cast<std::int64_t>(edits[i].duration), 1, movie_timescale_);
}

Status IsoClip::finish() {
    if (drafts_.empty())
        return fail(ErrorCode::malformed, fmt::format("“{}” has an index without a single track.", source_->name()),
                    "Export the clip again.");
    for (auto& d : drafts_) {
        if (chapters_.contains(d.track.id)) d.track.kind = Kind::other;
        d.track.tick = {1, d.plan.timescale};
        d.plan.file_end = file_end_;
        d.plan.intra = d.track.kind == Kind::audio;
        if (d.plan.pcm_frame) d.plan.tables.constant_size = d.plan.pcm_frame;
        d.plan.defaults = defaults_[d.track.id];
        if (d.track.kind == Kind::video || d.track.kind == Kind::audio) {
            describe_from_config(d.track);
            if (!d.encrypted_as.empty())
                d.track.problem = Error{
                    ErrorCode::encrypted,
                    fmt::format("Track {} of “{}” is encrypted ({}).", d.track.id, source_->name(), d.encrypted_as),
                    "Ask for a copy without encryption; Ruedo holds no keys."};
            else if (d.track.codec == Codec::unknown)
                d.track.problem = Error{ErrorCode::codec_missing,
                                        fmt::format("Track {} of “{}” is in a codec that is not known here (“{}”).",
                                                    d.track.id, source_->name(), d.track.codec_tag),
                                        export_again};
        }
        apply_edits(d);
        // Opus states its delay twice, here and in its header; the header counts where there is no edit list.
        if (d.track.codec == Codec::opus && d.edits.empty())
            if (auto head = parse_opus_head(d.track.config))
                d.plan.shift_ticks = time_to_ticks(ticks_to_time(head->pre_skip, 1, 48000), d.plan.timescale);
    }
    // The first enabled track of each kind is the default one.
    for (auto kind : {Kind::video, Kind::audio, Kind::text}) {
        bool taken = false;
        for (auto& d : drafts_) {
            if (d.track.kind != kind) continue;
            d.track.is_default = d.enabled && !taken;
            taken = taken || d.enabled;
        }
    }
    RUEDO_TRY_DO(settle_fragments());
    // The earliest presented sample of the whole clip is presentation time 0.
    std::optional<Time> origin;
    for (auto& d : drafts_) {
        if (d.track.kind != Kind::video && d.track.kind != Kind::audio) continue;
        auto walker =
            fragments_ ? make_fragment_reader(source_, d.plan, fragments_) : make_table_reader(source_, d.plan);
        PacketHead head;
        Time first = Time::max();
        for (int i = 0; i < 17; ++i) {
            RUEDO_TRY(bool more, walker->next(head));
            if (!more) break;
            auto pts = d.track.kind == Kind::audio ? std::max(head.pts, d.track.start) : head.pts;
            if (pts >= d.track.start) first = std::min(first, pts);
        }
        if (first == Time::max()) continue;
        if (d.edits.empty() || d.track.start < first) d.track.start = std::max(first, Time{});
        origin = std::min(origin.value_or(first), first);
    }
    auto zero = timeline_ ? timeline_->zero : origin.value_or(Time{});
    info_.zero = zero;

    for (auto& d : drafts_) {
        if (zero.ns != 0) {
            // Shift in ticks where that is exact, so that nothing is rounded twice.
            auto ticks = time_to_ticks(zero, d.plan.timescale);
            if (ticks_to_time(ticks, 1, d.plan.timescale) == zero && d.plan.offset.ns == 0)
                d.plan.shift_ticks += ticks;
            else
                d.plan.offset -= zero;
            d.track.start -= zero;
            if (d.track.end != Time::max()) d.track.end -= zero;
        }
        // Headers of a fragmented file state no length, or that of its first fragment: it is not asked.
        if (fragmented_) d.media_duration = 0;
        Time end{};
        // Pictures are shown later than decoded, by a composition offset that the media's length does not hold.
        if (d.media_duration && d.track.kind == Kind::video)
            end = d.track.start + ticks_to_time(static_cast<std::int64_t>(d.media_duration), 1, d.plan.timescale);
        else if (d.media_duration)
            end = d.plan.present(static_cast<std::int64_t>(d.media_duration));
        if (d.track.end != Time::max()) end = end.ns ? std::min(end, d.track.end) : d.track.end;
        if (d.track.kind == Kind::audio && d.track.end == Time::max() && end.ns > 0 && !fragmented_) d.track.end = end;
        if (d.track.kind == Kind::video || d.track.kind == Kind::audio) info_.duration = std::max(info_.duration, end);
        plans_.emplace(d.track.id, d.plan);
        info_.tracks.push_back(d.track);
    }
    RUEDO_TRY_DO(fragmented_ ? find_length() : find_truncation());
    // What could not be read was zeros, and is no clip.
    for (auto& [id, plan] : plans_) RUEDO_TRY_DO(plan.tables.check());
    if (cut_short_)
        info_.findings.push_back(
            {"truncated",
             fmt::format("“{}” was cut short; the first {} of it play.", source_->name(), format_time(info_.duration)),
             "Copy it again to have the rest."});
    info_.duration_known = info_.duration.ns > 0;
    return {};
}

Status IsoClip::settle_fragments() {
    if (!fragmented_) return {};
    // A moov that holds samples of its own is a plain file with an empty mvex.
    bool any = std::any_of(drafts_.begin(), drafts_.end(), [](auto& d) { return d.plan.tables.samples > 0; });
    if (any) {
        fragments_.reset();
        fragmented_ = false;
    }
    return {};
}

/// Where a file with sample tables was cut.
Status IsoClip::find_truncation() {
    Time reach{};
    bool missing = false;
    for (auto& track : info_.tracks) {
        if (track.kind != Kind::video && track.kind != Kind::audio) continue;
        auto& plan = plans_.at(track.id);
        // Chunks are stored in order in nearly every file: the last sample tells at once whether all are there.
        RUEDO_TRY(bool there, has_last_sample(source_, plan));
        if (there) continue;
        missing = true;
        PacketHead head;
        auto all = make_table_reader(source_, plan);
        Time end{};
        for (;;) {
            RUEDO_TRY(bool more, all->next(head));
            if (!more) break;
            end = std::max(end, head.pts + head.duration);
        }
        track.end = std::min(track.end, end);
        reach = std::max(reach, end);
    }
    if (missing) info_.duration = reach;
    cut_short_ = missing;
    return {};
}

/// How long a fragmented file is: as its index says, or as its last fragments do; where bytes come in order only, as
/// its header does (8.8.2), if that does.
Status IsoClip::find_length() {
    info_.duration = sidx_duration_;
    if (sidx_duration_.ns && !cut_short_) return {};
    if (source_->forward_only()) {
        info_.duration =
            std::max(info_.duration, ticks_to_time(static_cast<std::int64_t>(fragment_duration_), 1, movie_timescale_));
        return {};
    }
    info_.duration = {};
    for (auto& track : info_.tracks) {
        if (track.kind != Kind::video && track.kind != Kind::audio) continue;
        RUEDO_TRY(auto end, fragments_end(plans_.at(track.id), fragments_));
        if (end) info_.duration = std::max(info_.duration, *end);
    }
    cut_short_ = cut_short_ || fragments_->cut_short();
    return {};
}

Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline) {
    auto clip = std::make_unique<IsoClip>(std::move(source), timeline);
    RUEDO_TRY_DO(clip->open());
    return clip;
}
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    return isobmff::open_segment(std::move(source), std::nullopt);
}

}  // namespace ruedo::isobmff
