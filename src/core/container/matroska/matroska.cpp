// SPDX-License-Identifier: Apache-2.0
// Opening Matroska and WebM (RFC 9559): what the file as a whole says, and what only the first blocks do.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "container/matroska/tracks.h"
#include "media/codec_headers.h"
#include "media/mpeg_video.h"

namespace ruedo::matroska {
namespace {

class MatroskaClip final : public Clip {
  public:
    explicit MatroskaClip(std::shared_ptr<ByteSource> source) : reader_(source) { shared_->source = std::move(source); }
    Status open();
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        return std::make_unique<BlockReader>(shared_, extras_.at(id));
    }

  private:
    Status read_segment(const Element& segment);
    Result<Bytes> body(const Element& e);
    void read_info(ByteView data);
    void take_track(ByteView data);
    void read_cover(std::uint64_t at);
    Status settle_times();
    void take_config(Track& track, const Bytes& first);
    Status find_end();

    SourceReader reader_;
    std::shared_ptr<Shared> shared_ = std::make_shared<Shared>();
    std::map<std::uint64_t, TrackExtra> extras_;
    double duration_ticks_ = 0;
};

Result<Bytes> MatroskaClip::body(const Element& e) {
    Bytes data;
    if (e.unknown() || e.size() > header_limit)
        return fail(ErrorCode::limit,
                    fmt::format("“{}” has a header of impossible size at byte {}.", shared_->source->name(), e.start),
                    "The file is damaged; copy it again.");
    RUEDO_TRY_DO(reader_.read(e.body, e.size(), data));
    return data;
}

Status MatroskaClip::open() {
    auto& name = shared_->source->name();
    RUEDO_TRY(auto header, read_element(reader_, 0));
    if (!header || header->id != id::ebml || header->unknown())
        return fail(ErrorCode::malformed, fmt::format("“{}” has a broken EBML header.", name), "Copy it again.");
    RUEDO_TRY(auto data, body(*header));
    info_.container = "matroska";
    std::string type = "matroska";
    walk(data, [&](std::uint32_t e, ByteView v) {
        if (e == id::doc_type) type = as_text(v);
    });
    if (type == "webm")
        info_.container = "webm";
    else if (type != "matroska")
        return fail(ErrorCode::not_media,
                    fmt::format("“{}” is an EBML document of type “{}”, not a clip.", name, type.substr(0, 40)),
                    "Choose a media file.");
    auto at = header->end;
    for (int i = 0; i < 64; ++i) {
        RUEDO_TRY(auto e, read_element(reader_, at));
        if (!e) break;
        if (e->id == id::segment) return read_segment(*e);
        if (e->unknown()) break;
        at = e->end;
    }
    return fail(ErrorCode::truncated, fmt::format("“{}” ends before its first track is described.", name),
                "Copy it again.");
}

Status MatroskaClip::read_segment(const Element& segment) {
    auto size = reader_.size_or_max();
    shared_->segment = segment.body;
    shared_->segment_end = segment.end;
    bool have_tracks = false, have_info = false;
    std::map<std::uint32_t, std::uint64_t> places;
    auto take = [&](const Element& e) -> Status {
        RUEDO_TRY(auto data, body(e));
        if (e.id == id::info && !std::exchange(have_info, true)) read_info(data);
        if (e.id == id::tracks && !std::exchange(have_tracks, true))
            walk(data, [&](std::uint32_t t, ByteView v) {
                if (t == id::track_entry && info_.tracks.size() < 64) take_track(v);
            });
        if (e.id == id::seek_head)
            walk(data, [&](std::uint32_t s, ByteView v) {
                if (s != id::seek) return;
                std::uint32_t what = 0;
                std::uint64_t where = 0;
                walk(v, [&](std::uint32_t k, ByteView n) {
                    if (k == id::seek_id) what = static_cast<std::uint32_t>(as_uint(n));
                    if (k == id::seek_position) where = shared_->segment + as_uint(n);
                });
                places.emplace(what, where);
            });
        if (e.id == id::cues && !shared_->cues) shared_->parse_cues(data);
        return {};
    };
    for (auto at = segment.body; at < segment.end && at < size;) {
        RUEDO_TRY(auto e, read_element(reader_, at));
        if (!e) break;
        if (e->id == id::cluster) {
            shared_->first_cluster = e->start;
            break;
        }
        if (e->unknown()) break;
        if (e->id == id::attachments) places.emplace(id::attachments, e->start);
        if (e->id == id::info || e->id == id::tracks || e->id == id::seek_head || e->id == id::cues)
            RUEDO_TRY_DO(take(*e));
        at = e->end;
    }
    if (places.contains(id::cues))
        shared_->cues_at = places[id::cues];
    else if (!shared_->cues)
        info_.findings.push_back(
            {"no-index",
             fmt::format("“{}” has no cues; every seek searches the file for its place.", shared_->source->name()),
             "Rewrap it so that it gets an index."});
    for (auto late : {id::info, id::tracks}) {
        if ((late == id::info ? have_info : have_tracks) || !places.contains(late)) continue;
        RUEDO_TRY(auto e, read_element(reader_, places[late]));
        if (e && e->id == late) RUEDO_TRY_DO(take(*e));
    }
    if (places.contains(id::attachments)) read_cover(places[id::attachments]);
    auto& name = shared_->source->name();
    if (!have_tracks || info_.tracks.empty())
        return fail(size < segment.end && segment.end != UINT64_MAX ? ErrorCode::truncated : ErrorCode::malformed,
                    fmt::format("“{}” does not describe a single track.", name), "Copy or export it again.");
    if (!shared_->first_cluster)
        return fail(ErrorCode::truncated, fmt::format("“{}” ends before its first picture or sound.", name),
                    "Copy it again.");
    for (auto& track : info_.tracks)
        track.tick = Rational{static_cast<std::int64_t>(shared_->scale), 1'000'000'000}.reduced();
    RUEDO_TRY_DO(settle_times());
    if (segment.end != UINT64_MAX && segment.end > size) {
        RUEDO_TRY_DO(find_end());
        info_.findings.push_back(
            {"truncated",
             fmt::format("“{}” was cut short; the first {} of it play.", name, format_time(info_.duration)),
             "Copy it again to have the rest."});
    } else if (duration_ticks_ > 0 && std::isfinite(duration_ticks_) && duration_ticks_ < 9e15) {
        info_.duration =
            Time{static_cast<std::int64_t>(std::llround(duration_ticks_ * static_cast<double>(shared_->scale)))} -
            shared_->origin;
        info_.duration_known = true;
    } else {
        RUEDO_TRY_DO(find_end());
    }
    return {};
}

/// The first attached file that is a picture; what is large or far away is left alone.
void MatroskaClip::read_cover(std::uint64_t at) {
    if (!shared_->source->cheap_to_seek()) return;
    auto e = read_element(reader_, at);
    if (!e || !*e || (*e)->id != id::attachments || (*e)->unknown() || (*e)->size() > 2 * ClipTags::most_cover) return;
    Bytes data;
    if (!reader_.read((*e)->body, (*e)->size(), data)) return;
    walk(data, [&](std::uint32_t a, ByteView file) {
        if (a == id::attached_file)
            walk(file, [&](std::uint32_t k, ByteView v) {
                if (k == id::file_data) info_.tags.take_cover(v);
            });
    });
}

void MatroskaClip::read_info(ByteView data) {
    walk(data, [&](std::uint32_t e, ByteView v) {
        if (e == id::timestamp_scale) shared_->scale = std::clamp<std::uint64_t>(as_uint(v), 1, 1'000'000'000);
        if (e == id::duration) duration_ticks_ = as_float(v);
        if (e == id::title) info_.tags.title = tidy_title(as_text(v));
        if (e == id::date && v.size() == 8) info_.tags.created = as_int(v) / 1'000'000'000 + epoch_2001;
    });
}

void MatroskaClip::take_track(ByteView data) {
    auto entry = read_track(data, shared_->source->name());
    if (entry.track.id == 0 || !extras_.emplace(entry.track.id, std::move(entry.extra)).second) return;
    info_.tracks.push_back(std::move(entry.track));
}

/// Recorders in browsers leave the codec's own header out: its parameter sets stand in the first pictures.
bool missing_config(const Track& t) {
    return t.config.empty() &&
           (t.codec == Codec::h264 || t.codec == Codec::hevc || t.codec == Codec::mpeg1 || t.codec == Codec::mpeg2 ||
            t.codec == Codec::mpeg4) &&
           !(t.problem && t.problem->code == ErrorCode::encrypted);
}

void MatroskaClip::take_config(Track& track, const Bytes& first) {
    Bytes stream;
    if (track.codec != Codec::h264 && track.codec != Codec::hevc) {
        // MPEG video repeats its header in its pictures, so nothing is amiss.
        track.config = track.codec == Codec::mpeg4 ? mpeg4_config_bytes(first) : mpeg_sequence_bytes(first);
        if (track.config.empty()) return;
        track.problem.reset();
        describe_from_config(track);
        return;
    }
    // Lengths of four bytes lead exactly to the end; otherwise it is a byte stream, which begins with a start code.
    bool starts = !to_annex_b(first, 4, stream);
    if (starts) {
        if (first.size() < 4 || first[0] != 0 || first[1] != 0 || first[2] > 1) return;
        stream = first;
    }
    auto config = track.codec == Codec::h264 ? make_avcc(stream) : make_hvcc(stream);
    if (config.empty()) return;
    track.config = std::move(config);
    track.problem.reset();
    extras_.at(track.id).annex_b = starts;
    describe_from_config(track);
    info_.findings.push_back(
        {"header-in-pictures",
         fmt::format("Track {} of “{}” does not state its codec’s header; it was found in the pictures.", track.id,
                     shared_->source->name()),
         "Rewrap it: many players refuse such a track."});
}

/// Finds where the first presented sample is, and makes that presentation time 0.
Status MatroskaClip::settle_times() {
    std::map<std::uint64_t, Time> firsts;
    std::optional<Time> origin;
    for (auto& track : info_.tracks) {
        if (track.kind != Kind::video && track.kind != Kind::audio) continue;
        BlockReader walker(shared_, extras_.at(track.id));
        PacketHead head;
        std::optional<Time> first;
        for (int i = 0; i < (track.kind == Kind::video ? 17 : 1); ++i) {
            RUEDO_TRY(bool more, walker.next(head));
            if (!more) break;
            Bytes data;
            if (missing_config(track) && walker.read(data)) take_config(track, data);
            if (track.codec == Codec::ac3 && walker.read(data))
                if (auto frame = parse_ac3_frame(data)) track.audio = {frame->rate, frame->channels};
            if (i == 0 && track.codec == Codec::vp9 && head.keyframe) {
                if (walker.read(data))
                    if (auto vp9 = parse_vp9_keyframe(data)) {
                        track.video.colour = track.video.colour.or_else(vp9->colour);
                        double rate = head.duration.ns > 0 ? 1e9 / static_cast<double>(head.duration.ns) : 30;
                        if (track.codec_string.empty())
                            track.codec_string =
                                fmt::format("vp09.{:02}.{:02}.{:02}", vp9->profile,
                                            vp9_level(track.video.width, track.video.height, rate), vp9->bit_depth);
                        if (!track.problem && vp9->bit_depth > 8)
                            track.problem = Error{
                                ErrorCode::depth_unsupported,
                                fmt::format("Track {} is {}-bit VP9, which is not supported.", track.id,
                                            vp9->bit_depth),
                                "Export it again with 8 bits; it can’t be decoded here, so not converted either."};
                        else if (!track.problem && !vp9->subsampled)
                            track.problem =
                                Error{ErrorCode::chroma_unsupported,
                                      fmt::format("Track {} is VP9 with other than 4:2:0 chroma.", track.id),
                                      "Export it again with 4:2:0 chroma; it can’t be decoded here, so not converted "
                                      "either."};
                    }
            }
            first = std::min(first.value_or(head.pts), head.pts);
        }
        if (!first) continue;
        // What the codec delay covers is decoded and cut, so presentation begins that much later.
        auto start = *first + extras_.at(track.id).codec_delay;
        firsts[track.id] = start;
        origin = std::min(origin.value_or(start), start);
    }
    shared_->origin = origin.value_or(Time{});
    info_.zero = shared_->origin;
    for (auto& track : info_.tracks)
        if (firsts.contains(track.id)) track.start = firsts[track.id] - shared_->origin;
    return {};
}

/// The end of the last block, found from the last clusters of the file.
Status MatroskaClip::find_end() {
    auto size = reader_.size_or_max();
    if (size == UINT64_MAX || shared_->source->forward_only()) return {};
    std::uint64_t from = shared_->first_cluster;
    for (std::uint64_t back = 1 << 16; back < size - shared_->first_cluster; back *= 4) {
        // Two clusters, so that every track is likely to appear.
        RUEDO_TRY(auto found, next_cluster(reader_, size - back, size));
        if (found == UINT64_MAX) continue;
        RUEDO_TRY(auto second, next_cluster(reader_, found + 4, size));
        from = found;
        if (second != UINT64_MAX || back > (8 << 20)) break;
        from = shared_->first_cluster;
    }
    Time end{};
    for (auto& track : info_.tracks) {
        if (track.kind != Kind::video && track.kind != Kind::audio) continue;
        BlockReader tail(shared_, extras_.at(track.id));
        PacketHead head;
        std::vector<Time> times;
        Time last_duration{};
        auto walk_from = [&](std::uint64_t at) -> Status {
            // Entering a cluster is what seeking to its own time does.
            BlockReader probe(shared_, extras_.at(track.id));
            RUEDO_TRY(auto time, probe.cluster_time(at));
            if (time) RUEDO_TRY_DO(tail.seek(*time - shared_->origin));
            return {};
        };
        RUEDO_TRY_DO(walk_from(from));
        for (;;) {
            RUEDO_TRY(bool more, tail.next(head));
            if (!more) break;
            times.push_back(head.pts);
            if (times.size() > 4096) times.erase(times.begin(), times.begin() + 2048);
            last_duration = head.duration - head.trim_end;
        }
        std::sort(times.begin(), times.end());
        if (times.empty()) continue;
        if (last_duration.ns <= 0 && times.size() > 1) last_duration = times.back() - times[times.size() - 2];
        end = std::max(end, times.back() + last_duration);
    }
    info_.duration = end;
    info_.duration_known = end.ns > 0;
    return {};
}

}  // namespace

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<MatroskaClip>(std::move(source));
    RUEDO_TRY_DO(clip->open());
    return clip;
}

}  // namespace ruedo::matroska
