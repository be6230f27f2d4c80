// SPDX-License-Identifier: Apache-2.0
#include "container/matroska/blocks.h"

#include <fmt/format.h>

#include <algorithm>

#include "media/codec_headers.h"

namespace ruedo::matroska {
namespace {
constexpr std::uint64_t block_limit = 256 << 20;
}

void Shared::parse_cues(ByteView data) {
    std::vector<CueEntry> found;
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
            found.push_back(cue);
        });
    });
    std::stable_sort(found.begin(), found.end(), [](auto& a, auto& b) { return a.time < b.time; });
    cues = std::make_shared<const std::vector<CueEntry>>(std::move(found));
}

std::shared_ptr<const std::vector<CueEntry>> Shared::read_cues(SourceReader& reader) {
    static const auto none = std::make_shared<const std::vector<CueEntry>>();
    std::lock_guard lock(mutex);
    if (cues) return cues;
    // Cues at the end of a forward-only source are not waited for.
    if (cues_at == 0 || (source->forward_only() && cues_at > first_cluster)) return none;
    auto element = read_element(reader, cues_at);
    if (!element) return none;
    auto& e = *element;
    Bytes data;
    if (e && e->id == id::cues && !e->unknown() && e->size() <= header_limit)
        if (auto got = reader.read(e->body, e->size(), data); !got) {
            if (got.error().code != ErrorCode::truncated) return none;
            data.clear();
        }
    parse_cues(data);
    return cues;
}

Result<std::uint64_t> next_cluster(SourceReader& reader, std::uint64_t from, std::uint64_t limit) {
    static constexpr std::array<std::uint8_t, 4> mark{0x1F, 0x43, 0xB6, 0x75};
    limit = std::min(limit, reader.size_or_max());
    for (auto at = from; at < limit;) {
        RUEDO_TRY(auto data, reader.view(at, 32768));
        if (data.size() < 8) break;
        auto hit = std::search(data.begin(), data.end(), mark.begin(), mark.end());
        if (hit == data.end()) {
            at += data.size() - 3;
            continue;
        }
        auto place = at + static_cast<std::uint64_t>(hit - data.begin());
        RUEDO_TRY(auto cluster, read_element(reader, place));
        if (cluster) {
            // Chance bytes look like the ID once in 4 GB; a child that makes sense settles it.
            RUEDO_TRY(auto child, read_element(reader, cluster->body));
            if (child && (child->id == id::timestamp || child->id == id::crc32 || child->id == id::void_element ||
                          child->id == 0xAB || child->id == 0xA7))
                return place;
        }
        at = place + 4;
    }
    return UINT64_MAX;
}

Result<bool> BlockReader::next(PacketHead& head) {
    while (lace_at_ >= laces_.size()) {
        RUEDO_TRY(bool more, next_block());
        if (!more) return false;
    }
    auto& lace = laces_[lace_at_++];
    head = lace.head;
    offset_ = lace.offset;
    return true;
}

Status BlockReader::read(Bytes& out) {
    auto& head = laces_[lace_at_ - 1].head;
    RUEDO_TRY_DO(reader_.read(offset_, head.size, out));
    if (!extra_.stripped.empty()) out.insert(out.begin(), extra_.stripped.begin(), extra_.stripped.end());
    if (extra_.is_webvtt) {
        // As WebM has it: a name, settings, text.
        auto before = fmt::format("\n{}\n", settings_);
        out.insert(out.begin(), before.begin(), before.end());
    }
    if (extra_.annex_b) {
        Bytes units;
        from_annex_b(out, units);
        out.swap(units);
    }
    return {};
}

Result<bool> BlockReader::next_block() {
    auto size = reader_.size_or_max();
    for (;;) {
        if (at_ >= size || at_ >= shared_->segment_end) return false;
        RUEDO_TRY(auto element, read_element(reader_, at_));
        if (!element) {
            // Damage: go on with the next cluster that makes sense.
            RUEDO_TRY(at_, next_cluster(reader_, at_ + 1, shared_->segment_end));
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
        bool inside = cluster_end_ != 0 && e.start < cluster_end_ && !is_level1(e.id);
        if (inside && e.id == id::timestamp) {
            RUEDO_TRY(auto v, reader_.view(e.body, std::min<std::uint64_t>(8, e.size())));
            cluster_time_ = shared_->stamp(static_cast<std::int64_t>(as_uint(v)));
        } else if (inside && (e.id == id::simple_block || e.id == id::block_group)) {
            if (e.end > size) return false;  // cut short inside this block
            block_start_ = cluster_start_;
            auto ours = e.id == id::simple_block ? parse_block(e, true, {}, {}, false) : parse_group(e);
            if (!ours) laces_.clear(), lace_at_ = 0;
            if (!ours || *ours) {
                if (ours) at_ = e.end;
                return ours;
            }
        }
        at_ = e.end;
    }
}

Result<bool> BlockReader::parse_group(const Element& group) {
    std::optional<Element> block;
    Time duration{}, discard{};
    bool referenced = false;
    std::string settings;
    for (auto at = group.body; at < group.end;) {
        RUEDO_TRY(auto e, read_element(reader_, at));
        if (!e || e->unknown() || e->end > group.end) break;
        if (e->id == id::block) block = *e;
        if (e->id == id::reference_block) referenced = true;
        if (e->id == id::block_additions && extra_.is_webvtt && e->size() < 1024) {
            RUEDO_TRY(auto additions, reader_.view(e->body, static_cast<std::size_t>(e->size())));
            walk(additions, [&](std::uint32_t m, ByteView more) {
                if (m != id::block_more) return;
                walk(more, [&](std::uint32_t a, ByteView v) {
                    auto text = as_text(v);
                    if (a == id::block_additional) settings = text.substr(0, text.find('\n'));
                });
            });
        }
        if (e->id == id::block_duration || e->id == id::discard_padding) {
            RUEDO_TRY(auto v, reader_.view(e->body, std::min<std::uint64_t>(8, e->size())));
            if (e->id == id::block_duration)
                duration = shared_->stamp(static_cast<std::int64_t>(as_uint(v)));
            else
                discard = {as_int(v)};
        }
        at = e->end;
    }
    if (!block) return false;
    RUEDO_TRY(bool ours, parse_block(*block, false, duration, discard, referenced));
    if (ours) settings_ = std::move(settings);
    return ours;
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
    RUEDO_TRY(auto head, reader_.view(e.body, std::min<std::uint64_t>(e.size(), 4096)));
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
    settings_.clear();
    for (auto n : sizes) {
        if (n > block_limit)
            return fail(ErrorCode::limit, fmt::format("“{}” states a block of {} bytes.", shared_->source->name(), n),
                        "The file is damaged.");
        Time length = each;
        if (extra_.pcm_frame && extra_.pcm_rate)
            length = ticks_to_time(static_cast<std::int64_t>(n / extra_.pcm_frame), 1, extra_.pcm_rate);
        if (extra_.is_opus && n > 0) {
            RUEDO_TRY(auto start, reader_.view(from, 2));
            if (auto samples = opus_packet_samples(start)) length = ticks_to_time(samples, 1, 48000);
        }
        if (extra_.is_flac && n > 0) {
            RUEDO_TRY(auto start, reader_.view(from, static_cast<std::size_t>(std::min<std::uint64_t>(n, 32))));
            if (auto frame = parse_flac_frame(start); frame && frame->rate > 0)
                length = ticks_to_time(frame->samples, 1, static_cast<std::uint64_t>(frame->rate));
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
    RUEDO_TRY(auto cluster, read_element(reader_, at));
    if (!cluster || cluster->id != id::cluster) return std::nullopt;
    auto child_at = cluster->body;
    for (int i = 0; i < 8; ++i) {
        RUEDO_TRY(auto child, read_element(reader_, child_at));
        if (!child || child->unknown()) return std::nullopt;
        if (child->id == id::timestamp) {
            RUEDO_TRY(auto v, reader_.view(child->body, std::min<std::uint64_t>(8, child->size())));
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
        RUEDO_TRY(bool more, next(head));
        if (!more) break;
        if (head.keyframe && head.pts <= t) best = block_start_;
        // Pictures may be shown earlier than decoded, so look a little past t.
        if (head.pts > t + 500_ms) break;
    }
    return best;
}

Status BlockReader::seek(Time t) {
    auto container_time = t + shared_->origin + extra_.codec_delay;
    auto from = shared_->first_cluster;
    if (t.ns <= 0) return enter(from), Status{};
    auto cues = shared_->read_cues(reader_);
    auto cue = std::upper_bound(cues->begin(), cues->end(), container_time, [](Time v, auto& c) { return v < c.time; });
    bool cued = false;
    while (cue != cues->begin()) {
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
            RUEDO_TRY(auto found, next_cluster(reader_, middle, high));
            std::optional<Time> time;
            if (found != UINT64_MAX) {
                RUEDO_TRY(time, cluster_time(found));
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
        RUEDO_TRY(auto cluster, settle(from, t));
        if (cluster || from <= shared_->first_cluster) {
            from = cluster.value_or(shared_->first_cluster);
            break;
        }
        auto to = from > shared_->first_cluster + back ? from - back : shared_->first_cluster;
        RUEDO_TRY(auto found, next_cluster(reader_, to, from));
        from = found < from ? found : shared_->first_cluster;
        if (found >= from && to == shared_->first_cluster) from = shared_->first_cluster;
        back *= 2;
    }
    // Stand before the last keyframe in that cluster that is early enough.
    enter(from);
    PacketHead head;
    std::optional<std::size_t> wanted;
    for (std::size_t i = 0;; ++i) {
        RUEDO_TRY(bool more, next(head));
        if (!more || block_start_ != from) break;
        if (head.keyframe && head.pts <= t) wanted = i;
        if (head.pts > t + 500_ms) break;
    }
    enter(from);
    for (std::size_t i = 0; i < wanted.value_or(0); ++i) {
        RUEDO_TRY(bool more, next(head));
        if (!more) break;
    }
    return {};
}

}  // namespace ruedo::matroska
