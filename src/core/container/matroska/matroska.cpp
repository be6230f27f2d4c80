// SPDX-License-Identifier: Apache-2.0
// Opening Matroska and WebM (RFC 9559): what the headers say, and how to walk and search the clusters.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>

#include "container/container.h"
#include "container/matroska/ebml.h"
#include "media/codec_headers.h"

namespace ruedo::matroska {
namespace {

constexpr std::uint64_t header_limit = 16 << 20;  // no Info, Tracks or Cues needs more
constexpr std::uint64_t block_limit = 256 << 20;

struct TrackExtra {
    std::uint64_t number = 0;
    Time codec_delay{}, default_duration{};
    Bytes stripped;  ///< Bytes that header-stripping compression took from the front of every frame.
    bool is_video = false, is_opus = false, is_audio = false;
};

struct CueEntry {
    Time time;
    std::uint64_t track, cluster;
};

/// Shared by the clip and its readers; constant but for the cues, which are read when first needed.
struct Shared {
    std::shared_ptr<ByteSource> source;
    std::uint64_t segment = 0, segment_end = UINT64_MAX, first_cluster = 0, cues_at = 0;
    std::uint64_t scale = 1'000'000;
    Time origin{};  ///< Subtracted from container times so that the earliest presented sample is at 0.
    std::mutex mutex;
    bool cues_read = false;
    std::vector<CueEntry> cues;

    Time stamp(std::int64_t ticks) const { return ticks_to_time(ticks, scale, 1'000'000'000); }
    const std::vector<CueEntry>& read_cues(SourceReader& reader);
    void parse_cues(ByteView data);
};

void Shared::parse_cues(ByteView data) {
    walk(data, [&](std::uint32_t point, ByteView body) {
        if (point != id::cue_point) return;
        Time time{};
        walk(body, [&](std::uint32_t e, ByteView v) {
            if (e == id::cue_time) time = stamp(static_cast<std::int64_t>(as_uint(v)));
            if (e != id::cue_track_positions) return;
            CueEntry cue{time, 0, 0};
            walk(v, [&](std::uint32_t p, ByteView n) {
                if (p == id::cue_track) cue.track = as_uint(n);
                if (p == id::cue_cluster) cue.cluster = segment + as_uint(n);
            });
            cues.push_back(cue);
        });
    });
    std::stable_sort(cues.begin(), cues.end(), [](auto& a, auto& b) { return a.time < b.time; });
}

const std::vector<CueEntry>& Shared::read_cues(SourceReader& reader) {
    std::lock_guard lock(mutex);
    // Cues at the end of what comes only in order are not waited for.
    if (cues_read || cues_at == 0 || (source->forward_only() && cues_at > first_cluster)) return cues;
    cues_read = true;
    auto element = read_element(reader, cues_at);
    if (!element || !*element || (*element)->id != id::cues || (*element)->unknown() ||
        (*element)->size() > header_limit)
        return cues;
    Bytes data;
    if (reader.read((*element)->body, (*element)->size(), data)) parse_cues(data);
    return cues;
}

/// Finds clusters by their ID where no element leads to them.
Result<std::uint64_t> next_cluster(SourceReader& reader, std::uint64_t from, std::uint64_t limit) {
    static constexpr std::array<std::uint8_t, 4> mark{0x1F, 0x43, 0xB6, 0x75};
    limit = std::min(limit, reader.size_or_max());
    for (auto at = from; at < limit;) {
        TRY(auto data, reader.view(at, 32768));
        if (data.size() < 8) break;
        auto hit = std::search(data.begin(), data.end(), mark.begin(), mark.end());
        if (hit == data.end()) {
            at += data.size() - 3;
            continue;
        }
        auto place = at + static_cast<std::uint64_t>(hit - data.begin());
        TRY(auto cluster, read_element(reader, place));
        if (cluster) {
            // Chance bytes look like the ID once in 4 GB; a child that makes sense settles it.
            TRY(auto child, read_element(reader, cluster->body));
            if (child && (child->id == id::timestamp || child->id == id::crc32 || child->id == id::void_element ||
                          child->id == 0xAB || child->id == 0xA7))
                return place;
        }
        at = place + 4;
    }
    return UINT64_MAX;
}

class BlockReader final : public TrackReader {
  public:
    BlockReader(std::shared_ptr<Shared> shared, TrackExtra extra)
        : shared_(std::move(shared)), extra_(std::move(extra)), reader_(shared_->source) {
        enter(shared_->first_cluster);
    }

    Result<bool> next(PacketHead& head) override {
        while (lace_at_ >= laces_.size()) {
            TRY(bool more, next_block());
            if (!more) return false;
        }
        auto& lace = laces_[lace_at_++];
        head = lace.head;
        offset_ = lace.offset;
        return true;
    }
    Outcome read(Bytes& out) override {
        auto& head = laces_[lace_at_ - 1].head;
        TRY_DO(reader_.read(offset_, head.size, out));
        if (!extra_.stripped.empty()) out.insert(out.begin(), extra_.stripped.begin(), extra_.stripped.end());
        return {};
    }
    Outcome seek(Time t) override;
    /// The time of the cluster at `at`, if there is one.
    Result<std::optional<Time>> cluster_time(std::uint64_t at);

  private:
    struct Lace {
        PacketHead head;
        std::uint64_t offset;
    };

    void enter(std::uint64_t at) {
        at_ = at;
        cluster_end_ = 0;
        laces_.clear();
        lace_at_ = 0;
    }
    Result<bool> next_block();
    Result<bool> parse_block(const Element& e, bool simple, Time duration, Time discard, bool referenced);
    Result<bool> parse_group(const Element& group);
    bool lay_out(ByteView head, unsigned used, const Element& e, unsigned lacing, std::vector<std::uint64_t>& sizes,
                 std::uint64_t& from);
    /// The last keyframe with time <= t from the cluster at `from` on; nothing when there is none that early.
    Result<std::optional<std::uint64_t>> settle(std::uint64_t from, Time t);

    std::shared_ptr<Shared> shared_;
    TrackExtra extra_;
    SourceReader reader_;
    std::uint64_t at_ = 0, cluster_start_ = 0, cluster_end_ = 0, block_start_ = 0, offset_ = 0;
    Time cluster_time_{};
    std::vector<Lace> laces_;
    std::size_t lace_at_ = 0;
};

Result<bool> BlockReader::next_block() {
    auto size = reader_.size_or_max();
    for (;;) {
        if (at_ >= size || at_ >= shared_->segment_end) return false;
        TRY(auto element, read_element(reader_, at_));
        if (!element) {
            // Damage: go on with the next cluster that makes sense.
            TRY(at_, next_cluster(reader_, at_ + 1, shared_->segment_end));
            cluster_end_ = 0;
            if (at_ == UINT64_MAX) return false;
            continue;
        }
        auto& e = *element;
        if (e.id == id::cluster) {
            cluster_start_ = e.start;
            cluster_end_ = e.end;
            at_ = e.body;
            cluster_time_ = {};
            continue;
        }
        if (e.id == id::segment || e.id == id::ebml) {  // a second segment follows in some recordings
            at_ = e.id == id::segment ? e.body : e.end;
            continue;
        }
        if (e.unknown()) return false;
        at_ = e.end;
        bool inside = cluster_end_ != 0 && e.start < cluster_end_ && !is_level1(e.id);
        if (!inside) continue;
        if (e.id == id::timestamp) {
            TRY(auto v, reader_.view(e.body, std::min<std::uint64_t>(8, e.size())));
            cluster_time_ = shared_->stamp(static_cast<std::int64_t>(as_uint(v)));
        } else if (e.id == id::simple_block || e.id == id::block_group) {
            if (e.end > size) return false;  // cut short inside this block
            block_start_ = cluster_start_;
            TRY(bool ours, e.id == id::simple_block ? parse_block(e, true, {}, {}, false) : parse_group(e));
            if (ours) return true;
        }
    }
}

Result<bool> BlockReader::parse_group(const Element& group) {
    std::optional<Element> block;
    Time duration{}, discard{};
    bool referenced = false;
    for (auto at = group.body; at < group.end;) {
        TRY(auto e, read_element(reader_, at));
        if (!e || e->unknown() || e->end > group.end) break;
        if (e->id == id::block) block = *e;
        if (e->id == id::reference_block) referenced = true;
        if (e->id == id::block_duration || e->id == id::discard_padding) {
            TRY(auto v, reader_.view(e->body, std::min<std::uint64_t>(8, e->size())));
            if (e->id == id::block_duration)
                duration = shared_->stamp(static_cast<std::int64_t>(as_uint(v)));
            else
                discard = {as_int(v)};
        }
        at = e->end;
    }
    if (!block) return false;
    return parse_block(*block, false, duration, discard, referenced);
}

/// Frame sizes of a laced block (RFC 9559 clause 10.3).
bool BlockReader::lay_out(ByteView head, unsigned used, const Element& e, unsigned lacing,
                          std::vector<std::uint64_t>& sizes, std::uint64_t& from) {
    from = e.body + used;
    if (lacing == 0) {
        sizes = {e.end - from};
        return true;
    }
    ByteReader r(head.subspan(used));
    unsigned count = r.u8() + 1U;
    std::uint64_t sum = 0;
    std::uint64_t total = e.end - from;
    if (lacing == 1) {
        for (unsigned i = 0; i + 1 < count; ++i) {
            std::uint64_t n = 0;
            for (std::uint8_t b = 255; b == 255 && !r.overrun();) n += b = r.u8();
            sizes.push_back(n), sum += n;
        }
    } else if (lacing == 3) {
        std::int64_t n = 0;
        for (unsigned i = 0; i + 1 < count; ++i) {
            unsigned length = 0;
            auto rest = head.subspan(used + r.position());
            auto v = read_vint(rest, length);
            if (length == 0 || v == UINT64_MAX) return false;
            r.skip(length);
            n = i == 0 ? static_cast<std::int64_t>(v)
                       : n + static_cast<std::int64_t>(v) - ((1LL << (7 * length - 1)) - 1);
            if (n < 0) return false;
            sizes.push_back(static_cast<std::uint64_t>(n)), sum += static_cast<std::uint64_t>(n);
        }
    }
    from += r.position();
    total -= std::min<std::uint64_t>(total, r.position());
    if (r.overrun()) return false;
    if (lacing == 2)
        sizes.assign(count, total / count);
    else if (sum <= total)
        sizes.push_back(total - sum);
    else
        return false;
    return true;
}

Result<bool> BlockReader::parse_block(const Element& e, bool simple, Time duration, Time discard, bool referenced) {
    TRY(auto head, reader_.view(e.body, std::min<std::uint64_t>(e.size(), 4096)));
    unsigned used = 0;
    auto track = read_vint(head, used);
    if (used == 0 || track != extra_.number || head.size() < used + 3) return false;
    auto ticks = static_cast<std::int16_t>(head[used] << 8 | head[used + 1]);
    auto flags = head[used + 2];
    std::vector<std::uint64_t> sizes;
    std::uint64_t from = 0;
    if (!lay_out(head, used + 3, e, flags >> 1 & 3, sizes, from)) return false;
    Time time = cluster_time_ + shared_->stamp(ticks) - extra_.codec_delay - shared_->origin;
    Time each = extra_.default_duration;
    if (duration.ns > 0) each = duration / static_cast<std::int64_t>(sizes.size());
    laces_.clear();
    lace_at_ = 0;
    for (auto n : sizes) {
        if (n > block_limit)
            return fail(Code::limit, fmt::format("“{}” states a block of {} bytes.", shared_->source->name(), n),
                        "The file is damaged.");
        Time length = each;
        if (extra_.is_opus && n > 0) {
            TRY(auto start, reader_.view(from, 2));
            if (auto samples = opus_packet_samples(start)) length = ticks_to_time(samples, 1, 48000);
        }
        Lace lace{{}, from};
        lace.head = {.pts = time,
                     .duration = length,
                     .trim_end = {},
                     .keyframe = simple ? (flags & 0x80) != 0 || extra_.is_audio : !referenced || extra_.is_audio,
                     .size = n,
                     .offset = from,
                     .config = {}};
        laces_.push_back(lace);
        time += length;
        from += n;
    }
    if (!laces_.empty() && discard.ns > 0) laces_.back().head.trim_end = discard;
    return !laces_.empty();
}

Result<std::optional<Time>> BlockReader::cluster_time(std::uint64_t at) {
    TRY(auto cluster, read_element(reader_, at));
    if (!cluster || cluster->id != id::cluster) return std::nullopt;
    auto child_at = cluster->body;
    for (int i = 0; i < 8; ++i) {
        TRY(auto child, read_element(reader_, child_at));
        if (!child || child->unknown()) return std::nullopt;
        if (child->id == id::timestamp) {
            TRY(auto v, reader_.view(child->body, std::min<std::uint64_t>(8, child->size())));
            return shared_->stamp(static_cast<std::int64_t>(as_uint(v)));
        }
        child_at = child->end;
    }
    return std::nullopt;
}

Result<std::optional<std::uint64_t>> BlockReader::settle(std::uint64_t from, Time t) {
    std::optional<std::uint64_t> best;
    enter(from);
    PacketHead head;
    for (;;) {
        TRY(bool more, next(head));
        if (!more) break;
        if (head.keyframe && head.pts <= t) best = block_start_;
        // Pictures may be shown earlier than decoded, so look a little past t.
        if (head.pts > t + 500_ms) break;
    }
    return best;
}

Outcome BlockReader::seek(Time t) {
    auto container_time = t + shared_->origin + extra_.codec_delay;
    auto from = shared_->first_cluster;
    if (t.ns <= 0) return enter(from), Outcome{};
    auto& cues = shared_->read_cues(reader_);
    auto cue = std::upper_bound(cues.begin(), cues.end(), container_time, [](Time v, auto& c) { return v < c.time; });
    bool cued = false;
    while (cue != cues.begin()) {
        --cue;
        if (!extra_.is_video || cue->track == extra_.number || cue->track == 0) {
            from = cue->cluster;
            cued = true;
            break;
        }
    }
    if (!cued && !shared_->source->forward_only()) {
        // Bisection by position: clusters are in order of time.
        std::uint64_t low = shared_->first_cluster, high = std::min(shared_->segment_end, reader_.size_or_max());
        while (high > low && high - low > (1 << 17)) {
            auto middle = low + (high - low) / 2;
            TRY(auto found, next_cluster(reader_, middle, high));
            std::optional<Time> time;
            if (found != UINT64_MAX) {
                TRY(time, cluster_time(found));
            }
            if (time && *time <= container_time)
                low = found;
            else
                high = middle;
        }
        from = low;
    }
    // The cluster found may begin between keyframes: step back until one is early enough.
    std::uint64_t back = 1 << 18;
    for (;;) {
        TRY(auto cluster, settle(from, t));
        if (cluster || from <= shared_->first_cluster) {
            from = cluster.value_or(shared_->first_cluster);
            break;
        }
        auto to = from > shared_->first_cluster + back ? from - back : shared_->first_cluster;
        TRY(auto found, next_cluster(reader_, to, from));
        from = found < from ? found : shared_->first_cluster;
        if (found >= from && to == shared_->first_cluster) from = shared_->first_cluster;
        back *= 2;
    }
    // Stand before the last keyframe in that cluster that is early enough.
    enter(from);
    PacketHead head;
    std::optional<std::size_t> wanted;
    for (std::size_t i = 0;; ++i) {
        TRY(bool more, next(head));
        if (!more || block_start_ != from) break;
        if (head.keyframe && head.pts <= t) wanted = i;
        if (head.pts > t + 500_ms) break;
    }
    enter(from);
    for (std::size_t i = 0; i < wanted.value_or(0); ++i) {
        TRY(bool more, next(head));
        if (!more) break;
    }
    return {};
}

class MatroskaClip final : public Clip {
  public:
    explicit MatroskaClip(std::shared_ptr<ByteSource> source) : reader_(source) { shared_->source = std::move(source); }
    Outcome open();
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        return std::make_unique<BlockReader>(shared_, extras_.at(id));
    }

  private:
    Outcome read_segment(const Element& segment);
    Result<Bytes> body(const Element& e);
    void read_info(ByteView data);
    void read_track(ByteView data);
    void read_video(ByteView data, Track& track);
    void name_codec(Track& track, TrackExtra& extra, ByteView config);
    Outcome settle_times();
    Outcome find_end();

    SourceReader reader_;
    std::shared_ptr<Shared> shared_ = std::make_shared<Shared>();
    std::map<std::uint64_t, TrackExtra> extras_;
    double duration_ticks_ = 0;
};

Result<Bytes> MatroskaClip::body(const Element& e) {
    Bytes data;
    if (e.unknown() || e.size() > header_limit)
        return fail(Code::limit,
                    fmt::format("“{}” has a header of impossible size at byte {}.", shared_->source->name(), e.start),
                    "The file is damaged; copy it again.");
    TRY_DO(reader_.read(e.body, e.size(), data));
    return data;
}

Outcome MatroskaClip::open() {
    auto& name = shared_->source->name();
    TRY(auto header, read_element(reader_, 0));
    if (!header || header->id != id::ebml || header->unknown())
        return fail(Code::malformed, fmt::format("“{}” has a broken EBML header.", name), "Copy it again.");
    TRY(auto data, body(*header));
    info_.container = "matroska";
    std::string type = "matroska";
    walk(data, [&](std::uint32_t e, ByteView v) {
        if (e == id::doc_type) type = as_text(v);
    });
    if (type == "webm")
        info_.container = "webm";
    else if (type != "matroska")
        return fail(Code::not_media,
                    fmt::format("“{}” is an EBML document of type “{}”, not a clip.", name, type.substr(0, 40)),
                    "Choose a media file.");
    auto at = header->end;
    for (int i = 0; i < 64; ++i) {
        TRY(auto e, read_element(reader_, at));
        if (!e) break;
        if (e->id == id::segment) return read_segment(*e);
        if (e->unknown()) break;
        at = e->end;
    }
    return fail(Code::truncated, fmt::format("“{}” ends before its first track is described.", name), "Copy it again.");
}

Outcome MatroskaClip::read_segment(const Element& segment) {
    auto size = reader_.size_or_max();
    shared_->segment = segment.body;
    shared_->segment_end = segment.end;
    bool have_tracks = false, have_info = false;
    std::map<std::uint32_t, std::uint64_t> places;
    auto take = [&](const Element& e) -> Outcome {
        TRY(auto data, body(e));
        if (e.id == id::info && !std::exchange(have_info, true)) read_info(data);
        if (e.id == id::tracks && !std::exchange(have_tracks, true))
            walk(data, [&](std::uint32_t t, ByteView v) {
                if (t == id::track_entry && info_.tracks.size() < 64) read_track(v);
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
        if (e.id == id::cues && !shared_->cues_read) shared_->cues_read = true, shared_->parse_cues(data);
        return {};
    };
    for (auto at = segment.body; at < segment.end && at < size;) {
        TRY(auto e, read_element(reader_, at));
        if (!e) break;
        if (e->id == id::cluster) {
            shared_->first_cluster = e->start;
            break;
        }
        if (e->unknown()) break;
        if (e->id == id::info || e->id == id::tracks || e->id == id::seek_head || e->id == id::cues) TRY_DO(take(*e));
        at = e->end;
    }
    if (places.contains(id::cues))
        shared_->cues_at = places[id::cues];
    else if (!shared_->cues_read)
        info_.findings.push_back(
            {"no-index",
             fmt::format("“{}” has no cues; every seek searches the file for its place.", shared_->source->name()),
             "Rewrap it so that it gets an index."});
    for (auto late : {id::info, id::tracks}) {
        if ((late == id::info ? have_info : have_tracks) || !places.contains(late)) continue;
        TRY(auto e, read_element(reader_, places[late]));
        if (e && e->id == late) TRY_DO(take(*e));
    }
    auto& name = shared_->source->name();
    if (!have_tracks || info_.tracks.empty())
        return fail(size < segment.end && segment.end != UINT64_MAX ? Code::truncated : Code::malformed,
                    fmt::format("“{}” does not describe a single track.", name), "Copy or export it again.");
    if (!shared_->first_cluster)
        return fail(Code::truncated, fmt::format("“{}” ends before its first picture or sound.", name),
                    "Copy it again.");
    for (auto& track : info_.tracks)
        track.tick = Rational{static_cast<std::int64_t>(shared_->scale), 1'000'000'000}.reduced();
    TRY_DO(settle_times());
    if (segment.end != UINT64_MAX && segment.end > size) {
        TRY_DO(find_end());
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
        TRY_DO(find_end());
    }
    return {};
}

void MatroskaClip::read_info(ByteView data) {
    walk(data, [&](std::uint32_t e, ByteView v) {
        if (e == id::timestamp_scale) shared_->scale = std::clamp<std::uint64_t>(as_uint(v), 1, 1'000'000'000);
        if (e == id::duration) duration_ticks_ = as_float(v);
    });
}

void MatroskaClip::read_video(ByteView data, Track& track) {
    std::uint64_t dw = 0, dh = 0, unit = 0, cl = 0, cr = 0, ct = 0, cb = 0;
    auto& f = track.video;
    walk(data, [&](std::uint32_t e, ByteView v) {
        if (e == id::pixel_width) f.width = static_cast<int>(std::min<std::uint64_t>(as_uint(v), 32768));
        if (e == id::pixel_height) f.height = static_cast<int>(std::min<std::uint64_t>(as_uint(v), 32768));
        if (e == id::display_width) dw = as_uint(v);
        if (e == id::display_height) dh = as_uint(v);
        if (e == id::display_unit) unit = as_uint(v);
        if (e == id::crop_left) cl = as_uint(v);
        if (e == id::crop_right) cr = as_uint(v);
        if (e == id::crop_top) ct = as_uint(v);
        if (e == id::crop_bottom) cb = as_uint(v);
        if (e == id::colour)
            walk(v, [&](std::uint32_t c, ByteView n) {
                auto value = static_cast<unsigned>(as_uint(n));
                if (c == id::matrix) f.colour.matrix = Colour::matrix_from_code(value);
                if (c == id::range)
                    f.colour.range = value == 1   ? Colour::Range::limited
                                     : value == 2 ? Colour::Range::full
                                                  : Colour::Range::unspecified;
                if (c == id::transfer) f.colour.transfer = static_cast<std::uint8_t>(value);
                if (c == id::primaries) f.colour.primaries = static_cast<std::uint8_t>(value);
            });
        if (e == id::projection)
            walk(v, [&](std::uint32_t p, ByteView n) {
                // Positive roll turns the picture counter-clockwise to be shown.
                if (p == id::pose_roll)
                    f.rotation = ((static_cast<int>(std::lround(-as_float(n) / 90.0)) % 4) + 4) % 4 * 90;
            });
    });
    // Display size in pixels (unit 0) or as a shape (unit 3); both give the pixel's shape (clause 5.1.4.1.28.14).
    auto w = static_cast<std::int64_t>(f.width) - static_cast<std::int64_t>(cl + cr),
         h = static_cast<std::int64_t>(f.height) - static_cast<std::int64_t>(ct + cb);
    if (dw && dh && (unit == 0 || unit == 3) && w > 0 && h > 0 && dw < (1 << 24) && dh < (1 << 24)) {
        auto aspect = Rational{static_cast<std::int64_t>(dw) * h, static_cast<std::int64_t>(dh) * w}.reduced();
        if (aspect.num != aspect.den) f.pixel_aspect = aspect;
    }
}

void MatroskaClip::name_codec(Track& track, TrackExtra& extra, ByteView config) {
    auto& tag = track.codec_tag;
    static const std::map<std::string, Codec, std::less<>> names{{"V_VP8", Codec::vp8},
                                                                 {"V_VP9", Codec::vp9},
                                                                 {"V_AV1", Codec::av1},
                                                                 {"V_MPEG4/ISO/AVC", Codec::h264},
                                                                 {"V_MPEGH/ISO/HEVC", Codec::hevc},
                                                                 {"V_THEORA", Codec::theora},
                                                                 {"V_MJPEG", Codec::mjpeg},
                                                                 {"A_OPUS", Codec::opus},
                                                                 {"A_VORBIS", Codec::vorbis},
                                                                 {"A_MPEG/L3", Codec::mp3},
                                                                 {"A_FLAC", Codec::flac},
                                                                 {"A_PCM/INT/LIT", Codec::pcm},
                                                                 {"A_PCM/FLOAT/IEEE", Codec::pcm},
                                                                 {"S_TEXT/WEBVTT", Codec::webvtt},
                                                                 {"D_WEBVTT/SUBTITLES", Codec::webvtt},
                                                                 {"S_TEXT/UTF8", Codec::subrip}};
    if (auto it = names.find(tag); it != names.end())
        track.codec = it->second;
    else if (tag.starts_with("A_AAC"))
        track.codec = Codec::aac;
    track.config.assign(config.begin(), config.end());
    extra.is_opus = track.codec == Codec::opus;
    extra.is_audio = track.kind == Kind::audio;
    extra.is_video = track.kind == Kind::video;
    // An old writer's Opus track may lack CodecDelay; the header's pre-skip says the same.
    if (auto head = parse_opus_head(config); head && extra.is_opus && extra.codec_delay.ns == 0)
        extra.codec_delay = ticks_to_time(head->pre_skip, 1, 48000);
}

void MatroskaClip::read_track(ByteView data) {
    Track track;
    TrackExtra extra;
    Bytes config;
    std::string language = "eng", bcp;
    bool is_default = true, enabled = true, encrypted = false, packed = false;
    Time seek_preroll{};
    walk(data, [&](std::uint32_t e, ByteView v) {
        switch (e) {
            case id::track_number:
                track.id = extra.number = as_uint(v);
                break;
            case id::track_type: {
                auto type = as_uint(v);
                track.kind = type == 1 ? Kind::video : type == 2 ? Kind::audio : type == 17 ? Kind::text : Kind::other;
                break;
            }
            case id::flag_default:
                is_default = as_uint(v) != 0;
                break;
            case id::flag_enabled:
                enabled = as_uint(v) != 0;
                break;
            case id::default_duration:
                extra.default_duration = {
                    static_cast<std::int64_t>(std::min<std::uint64_t>(as_uint(v), 10'000'000'000ULL))};
                break;
            case id::language:
                language = as_text(v);
                break;
            case id::language_bcp47:
                bcp = as_text(v);
                break;
            case id::codec_id:
                track.codec_tag = as_text(v).substr(0, 64);
                break;
            case id::codec_private:
                config.assign(v.begin(), v.end());
                break;
            case id::codec_delay:
                extra.codec_delay = {static_cast<std::int64_t>(std::min<std::uint64_t>(as_uint(v), 10'000'000'000ULL))};
                break;
            case id::seek_pre_roll:
                seek_preroll = {static_cast<std::int64_t>(std::min<std::uint64_t>(as_uint(v), 10'000'000'000ULL))};
                break;
            case id::video:
                read_video(v, track);
                break;
            case id::audio:
                walk(v, [&](std::uint32_t a, ByteView n) {
                    if (a == id::sampling_frequency)
                        track.audio.rate = static_cast<int>(std::clamp(as_float(n), 0.0, 768000.0));
                    if (a == id::channels)
                        track.audio.channels = static_cast<int>(std::min<std::uint64_t>(as_uint(n), 255));
                });
                if (track.audio.channels == 0) track.audio.channels = 1;
                break;
            case id::content_encodings:
                walk(v, [&](std::uint32_t c, ByteView encoding) {
                    if (c != id::content_encoding) return;
                    walk(encoding, [&](std::uint32_t k, ByteView inner) {
                        if (k == id::encryption) encrypted = true;
                        if (k != id::compression) return;
                        std::uint64_t algo = 0;
                        walk(inner, [&](std::uint32_t s, ByteView n) {
                            if (s == id::compression_algo) algo = as_uint(n);
                            if (s == id::compression_settings) extra.stripped.assign(n.begin(), n.end());
                        });
                        if (algo != 3) packed = true;
                    });
                });
                break;
            default:
                break;
        }
    });
    if (track.id == 0 || extras_.contains(track.id)) return;
    track.language = !bcp.empty() ? bcp : bcp47_from_iso639(language);
    track.is_default = is_default && enabled;
    name_codec(track, extra, config);
    if (track.kind == Kind::video || track.kind == Kind::audio) {
        describe_from_config(track);
        track.preroll = std::max(track.preroll, seek_preroll);
        auto& file = shared_->source->name();
        if (encrypted)
            track.problem = Error{Code::encrypted, fmt::format("Track {} of “{}” is encrypted.", track.id, file),
                                  "Ask for a copy without encryption; Ruedo holds no keys."};
        else if (packed)
            track.problem =
                Error{Code::codec_missing,
                      fmt::format("Track {} of “{}” is packed in a way that is not known here.", track.id, file),
                      "Export the clip again without track compression."};
        else if (track.codec == Codec::unknown)
            track.problem = Error{Code::codec_missing,
                                  fmt::format("Track {} of “{}” is in a codec that is not known here (“{}”).", track.id,
                                              file, track.codec_tag),
                                  export_again};
    }
    extras_.emplace(track.id, std::move(extra));
    info_.tracks.push_back(std::move(track));
}

/// Finds where the first presented sample is, and makes that presentation time 0.
Outcome MatroskaClip::settle_times() {
    std::map<std::uint64_t, Time> firsts;
    std::optional<Time> origin;
    for (auto& track : info_.tracks) {
        if (track.kind != Kind::video && track.kind != Kind::audio) continue;
        BlockReader walker(shared_, extras_.at(track.id));
        PacketHead head;
        std::optional<Time> first;
        for (int i = 0; i < (track.kind == Kind::video ? 17 : 1); ++i) {
            TRY(bool more, walker.next(head));
            if (!more) break;
            if (i == 0 && track.codec == Codec::vp9 && head.keyframe) {
                Bytes data;
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
                                Code::depth_unsupported,
                                fmt::format("Track {} is {}-bit VP9, which is not supported.", track.id,
                                            vp9->bit_depth),
                                "Export it again with 8 bits; it can’t be decoded here, so not converted either."};
                        else if (!track.problem && !vp9->subsampled)
                            track.problem =
                                Error{Code::chroma_unsupported,
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
    for (auto& track : info_.tracks)
        if (firsts.contains(track.id)) track.start = firsts[track.id] - shared_->origin;
    return {};
}

/// The end of the last block, found from the last clusters of the file.
Outcome MatroskaClip::find_end() {
    auto size = reader_.size_or_max();
    if (size == UINT64_MAX || shared_->source->forward_only()) return {};
    std::uint64_t from = shared_->first_cluster;
    for (std::uint64_t back = 1 << 16; back < size - shared_->first_cluster; back *= 4) {
        // Two clusters, so that every track is likely to appear.
        TRY(auto found, next_cluster(reader_, size - back, size));
        if (found == UINT64_MAX) continue;
        TRY(auto second, next_cluster(reader_, found + 4, size));
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
        auto walk_from = [&](std::uint64_t at) -> Outcome {
            // Entering a cluster is what seeking to its own time does.
            BlockReader probe(shared_, extras_.at(track.id));
            TRY(auto time, probe.cluster_time(at));
            if (time) TRY_DO(tail.seek(*time - shared_->origin));
            return {};
        };
        TRY_DO(walk_from(from));
        for (;;) {
            TRY(bool more, tail.next(head));
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
    TRY_DO(clip->open());
    return clip;
}

}  // namespace ruedo::matroska
