// SPDX-License-Identifier: Apache-2.0
#include "container/mpegts/pes_clip.h"

#include <fmt/format.h>

#include <algorithm>

#include "container/mpegts/units.h"

namespace ruedo::mpegts {
namespace {
static std::size_t count_frames(const Stream& s, ByteView data) {
    std::size_t n = 0;
    for (std::size_t at = 0; at + 7 <= data.size();) {
        auto frame = frame_parser(s.track.codec)(data.subspan(at));
        if (!frame) {
            ++at;
            continue;
        }
        ++n;
        at += frame->size;
    }
    return n;
}
/// Whether some of the first packets begin within a picture, or with several.
Result<bool> access_units_are_split(PesSource& packets, Codec codec) {
    Pes pes;
    for (int i = 0; i < 18; ++i) {
        // Who puts several into one does so from the start; the heads of more tell whether each has a stamp.
        RUEDO_TRY(bool more, i < 3 ? packets.next(pes) : packets.next_head(pes));
        if (!more) break;
        // What has no stamp goes on with a picture, or begins one that nobody timed.
        auto begins = next_start_code(pes.data, 0);
        bool whole = pes.pts && frames_in(codec, pes.data) <= 1 && begins && *begins < 8;
        if (!whole && !pes.data.empty()) return true;
    }
    return false;
}

/// Packets of a forward-only file: where its clock restarts is found as they pass.
class Watched final : public PesSource {
  public:
    Watched(const Shared& shared, unsigned pid, std::unique_ptr<PesSource> packets)
        : shared_(shared), pid_(pid), packets_(std::move(packets)) {}
    void seek(std::uint64_t offset) override {
        shared_.joins.jump(pid_, offset);
        packets_->seek(offset);
    }
    Result<bool> next(Pes& pes) override {
        RUEDO_TRY(bool more, packets_->next(pes));
        return more && told(pes);
    }
    Result<bool> next_head(Pes& pes) override {
        RUEDO_TRY(bool more, packets_->next_head(pes));
        return more && told(pes);
    }

  private:
    bool told(const Pes& pes) {
        if (pes.pts) shared_.joins.see(pid_, pes.offset, shared_.ticks_of(pes.dts.value_or(*pes.pts)));
        return true;
    }
    const Shared& shared_;
    unsigned pid_;
    std::unique_ptr<PesSource> packets_;
};
}  // namespace

std::unique_ptr<PesSource> Shared::packets(const Stream& s) const {
    std::unique_ptr<PesSource> packets;
    if (layout)
        packets = std::make_unique<PesWalker>(source, *layout, s.pid);
    else
        packets = std::make_unique<PackWalker>(source, s.pid);
    if (arriving) packets = std::make_unique<Watched>(*this, s.pid, std::move(packets));
    return packets;
}

std::int64_t Shared::ticks_of(std::int64_t stamp) const {
    auto d = (stamp - base) & (wrap - 1);
    if (d >= wrap / 2) d -= wrap;
    return near ? ticks_near(d, *near) : d;
}

void PesClip::add(Stream stream) {
    auto& all = shared_->streams;
    stream.track.is_default =
        std::none_of(all.begin(), all.end(), [&](auto& o) { return o.track.kind == stream.track.kind; });
    all.push_back(std::move(stream));
}

std::unique_ptr<TrackReader> PesClip::reader(std::uint64_t id) {
    auto it = std::find_if(shared_->streams.begin(), shared_->streams.end(), [&](auto& s) { return s.pid == id; });
    return make_reader(shared_, *it);
}

Status PesClip::settle(std::optional<Timeline> timeline) {
    auto& all = shared_->streams;
    std::optional<std::int64_t> base;
    std::vector<unsigned> silent;
    for (auto& s : all) {
        bool units = s.track.codec == Codec::mpeg1 || s.track.codec == Codec::mpeg2;
        RUEDO_TRY(auto first, units ? describe_access_units(s) : describe(s));
        if (!first) {
            silent.push_back(s.pid);
            continue;
        }
        s.first = *first;
        if (s.counted) continue;
        auto d = base ? (*first - *base) & (wrap - 1) : 0;
        if (!base || d >= wrap / 2) base = first;
    }
    shared_->base = base.value_or(0);
    if (timeline) {
        shared_->base = time_to_ticks(timeline->zero, 90000);
        shared_->near = time_to_ticks(timeline->near, 90000);
    }
    info_.zero = ticks_to_time(shared_->base, 1, 90000);
    std::erase_if(all, [&](auto& s) { return std::find(silent.begin(), silent.end(), s.pid) != silent.end(); });
    if (all.empty())
        return fail(ErrorCode::truncated,
                    fmt::format("“{}” ends before its first picture or sound.", shared_->source->name()),
                    "Copy it again.");
    for (auto& s : all)
        if (!s.counted) s.first = shared_->ticks(s, *s.first, 0);
    bool end_at_hand = shared_->source->size() && !shared_->source->forward_only();
    if (end_at_hand) RUEDO_TRY_DO(find_joins());
    if (end_at_hand) RUEDO_TRY_DO(find_end());
    shared_->arriving = !end_at_hand;
    for (auto& s : all) {
        s.track.start = std::max(Time{}, Shared::time(*s.first));
        info_.tracks.push_back(s.track);
    }
    return {};
}

/// Finds out what a stream is from its first units; its first time stamp.
Result<std::optional<std::int64_t>> PesClip::describe(Stream& s) {
    auto& t = s.track;
    auto& name = shared_->source->name();
    if (t.codec == Codec::h264 || t.codec == Codec::hevc || t.codec == Codec::mpeg4) {
        RUEDO_TRY(s.by_units, access_units_are_split(*shared_->packets(s), t.codec));
    }
    auto packets = shared_->packets(s);
    UnitSplitter units(shared_->packets(s), t.codec);
    std::optional<std::int64_t> first;
    int seen = 0;
    for (Pes pes; seen < 300; ++seen) {
        if (s.by_units) {
            AccessUnit unit;
            RUEDO_TRY(bool more, units.next(unit));
            if (!more) break;
            pes = {unit.offset, unit.pts, unit.dts, false, std::move(unit.data)};
        } else {
            RUEDO_TRY(bool more, packets->next(pes));
            if (!more) break;
        }
        if (!pes.pts) continue;
        // Pictures before the first whole one can't be decoded, and do not count.
        bool usable =
            t.kind != Kind::video || t.codec == Codec::unknown || !t.config.empty() || is_keyframe(t.codec, pes.data);
        if (!usable) continue;
        if (!first || ((*pes.pts - *first) & (wrap - 1)) >= wrap / 2) first = pes.pts;
        if (t.kind == Kind::video && t.codec != Codec::unknown) {
            if (t.config.empty())
                t.config = t.codec == Codec::h264   ? make_avcc(pes.data)
                           : t.codec == Codec::hevc ? make_hvcc(pes.data)
                                                    : mpeg4_config_bytes(pes.data);
            if (seen > 17 && !t.config.empty()) break;
        } else if (t.kind == Kind::audio && t.codec != Codec::unknown) {
            for (std::size_t at = 0; at + 7 < pes.data.size() && !s.frame; ++at) {
                auto here = ByteView(pes.data).subspan(at);
                s.frame = frame_parser(t.codec)(here);
            }
            if (s.frame) break;
        } else {
            break;
        }
    }
    if (!first) return first;
    if (s.frame) t.codec = s.frame->codec, t.audio = {s.frame->rate, s.frame->channels}, t.config = s.frame->config;
    if (t.codec == Codec::unknown || (t.kind == Kind::audio && !s.frame))
        t.problem =
            Error{ErrorCode::codec_missing,
                  fmt::format("Track {} of “{}” is in a codec that is not known here ({}).", t.id, name, t.codec_tag),
                  export_again};
    else
        describe_from_config(t);
    if (s.by_units) {
        RUEDO_TRY(s.pace, pace_of(shared_, s));
    }
    return first;
}

/// MPEG-1 and MPEG-2 video: the first picture that depends on no other and whose time is known, and the header before
/// it.
Result<std::optional<std::int64_t>> PesClip::describe_access_units(Stream& s) {
    UnitSplitter units(shared_->packets(s), s.track.codec);
    AccessUnit unit;
    for (int seen = 0; seen < 600 && !s.sequence; ++seen) {
        RUEDO_TRY(bool more, units.next(unit));
        if (!more) break;
        if (!unit.sequence) continue;
        s.sequence = parse_mpeg_sequence(unit.data);
        s.track.config = mpeg_sequence_bytes(unit.data);
    }
    if (!s.sequence) return std::nullopt;
    describe_from_config(s.track);
    PacketHead head;
    RUEDO_TRY(bool stamped, make_reader(shared_, s)->next(head));
    if (stamped) return time_to_ticks(head.pts, 90000);
    s.counted = Time{};
    RUEDO_TRY(bool any, make_reader(shared_, s)->next(head));
    if (!any) return std::nullopt;
    s.counted = -head.pts;
    return 0;
}

/// A file whose times start over was joined from several: the parts are laid end to end. Sixty-four looks
/// tell whether there is any such place; only then is the file walked.
Status PesClip::find_joins() {
    auto& lead = shared_->streams[0];
    auto size = *shared_->source->size();
    auto looks = shared_->packets(lead);
    Pes pes;
    std::optional<std::int64_t> last;
    bool odd = false;
    std::int64_t first_step = 0;
    for (std::uint64_t k = 0; k < 64 && !odd; ++k) {
        looks->seek(size / 64 * k);
        RUEDO_TRY(bool more, looks->next_head(pes));
        if (!more || !pes.pts) continue;
        auto now = shared_->ticks(lead, pes.dts.value_or(*pes.pts), pes.offset);
        if (last) {
            auto step = now - *last;
            if (step < -90000) odd = true;
            // A jump forward by far more than its neighbours is a gap in the times as well.
            if (first_step > 0 && step > 30 * 90000 && step > 20 * first_step) odd = true;
            first_step = std::max(first_step, step);
        }
        last = now;
    }
    if (!odd) return {};
    for (auto& s : shared_->streams) {
        auto packets = shared_->packets(s);
        for (;;) {
            RUEDO_TRY(bool more, packets->next_head(pes));
            if (!more) break;
            if (pes.pts) shared_->joins.see(s.pid, pes.offset, shared_->ticks_of(pes.dts.value_or(*pes.pts)));
        }
    }
    if (auto joins = shared_->joins.count(); joins > 0)
        info_.findings.push_back(
            {"joined",
             fmt::format("The times of “{}” start over in {} place{}; its parts are played end to end.",
                         shared_->source->name(), joins, joins == 1 ? "" : "s"),
             "Export it again as one recording when a target has to seek."});
    return {};
}

Status PesClip::find_end() {
    auto size = *shared_->source->size();
    auto& layout = shared_->layout;
    bool cut = layout && (size - std::min(size, layout->first)) % layout->size != 0;
    for (std::uint64_t back = 1 << 18;; back *= 4) {
        auto from = size > back ? size - back : 0;
        bool all = true;
        for (auto& s : shared_->streams) {
            if (s.track.problem) continue;
            if (s.sequence || s.by_units) {
                // Not every picture has a stamp, so they are read.
                auto pictures = make_reader(shared_, s);
                pictures->go_to(from);
                PacketHead head;
                Time last{};
                for (;;) {
                    RUEDO_TRY(bool more, pictures->next(head));
                    if (!more) break;
                    last = std::max(last, head.pts + head.duration);
                }
                all = all && last.ns > 0;
                info_.duration = std::max(info_.duration, last);
                continue;
            }
            auto packets = shared_->packets(s);
            packets->seek(from);
            std::vector<std::int64_t> times;
            Pes pes;
            std::size_t bytes = 0;
            bool short_of = false;
            for (;;) {
                RUEDO_TRY(bool more, packets->next(pes));
                if (!more) break;
                short_of = pes.data.size() < pes.stated;
                if (!pes.pts) continue;
                times.push_back(shared_->ticks(s, *pes.pts, pes.offset));
                if (times.back() == *std::max_element(times.begin(), times.end()))
                    bytes = s.frame ? count_frames(s, pes.data) : 0;
            }
            cut = cut || short_of;
            if (times.size() < 2) {
                all = false;
                continue;
            }
            std::sort(times.begin(), times.end());
            Time end = s.frame ? Shared::time(times.back()) +
                                     ticks_to_time(static_cast<std::int64_t>(bytes) * s.frame->samples, 1,
                                                   static_cast<std::uint64_t>(s.frame->rate))
                               : Shared::time(times.back() + times.back() - times[times.size() - 2]);
            info_.duration = std::max(info_.duration, end);
        }
        if (all || from == 0 || back > (64 << 20)) break;
    }
    info_.duration_known = info_.duration.ns > 0;
    if (cut)
        info_.findings.push_back({"truncated",
                                  fmt::format("“{}” was cut short; the first {} of it play.", shared_->source->name(),
                                              format_time(info_.duration)),
                                  "Copy it again to have the rest."});
    return {};
}

}  // namespace ruedo::mpegts
