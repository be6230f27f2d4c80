// SPDX-License-Identifier: Apache-2.0
// MPEG transport streams (ISO/IEC 13818-1): H.264, HEVC, AAC in ADTS and MP3. There is no index: places are found
// by bisection over time stamps, which wrap at 33 bits and may start over where streams were joined.
#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <map>

#include "container/container.h"
#include "container/mpegts/packets.h"
#include "media/codec_headers.h"

namespace ruedo::mpegts {
namespace {

constexpr std::int64_t wrap = std::int64_t{1} << 33;

struct Stream {
    unsigned pid = 0;
    Track track;
    std::optional<SoundFrame> frame;  ///< Sound: what every frame is like.
    /// Where, in this stream's packets, each further part of a joined file begins.
    std::vector<std::uint64_t> joins;
};

struct Shared {
    std::shared_ptr<ByteSource> source;
    Layout layout;
    std::int64_t base = 0;             ///< Ticks of the clip's first sample.
    std::vector<std::int64_t> shifts;  ///< Ticks added in each further part.
    std::vector<Stream> streams;

    /// Ticks since the clip's first sample; a stamp slightly before it is negative.
    std::int64_t ticks(const Stream& s, std::int64_t stamp, std::uint64_t offset) const {
        auto d = (stamp - base) & (wrap - 1);
        if (d >= wrap / 2) d -= wrap;
        auto part = std::upper_bound(s.joins.begin(), s.joins.end(), offset) - s.joins.begin();
        return d + (part > 0 ? shifts[static_cast<std::size_t>(part) - 1] : 0);
    }
    static Time time(std::int64_t ticks) { return ticks_to_time(ticks, 1, 90000); }
};

/// The last unit of `stream` whose decoding time is at or before `ticks`, by bisection.
Result<std::uint64_t> find_place(const Shared& shared, const Stream& stream, std::int64_t ticks) {
    PesWalker walker(shared.source, shared.layout, stream.pid);
    Pes pes;
    auto early = [&](std::uint64_t from, std::uint64_t before) -> Result<std::optional<bool>> {
        walker.seek(from);
        for (;;) {
            TRY(bool more, walker.next_head(pes));
            if (!more || pes.offset >= before) return std::nullopt;
            if (pes.pts) return shared.ticks(stream, pes.dts.value_or(*pes.pts), pes.offset) <= ticks;
        }
    };
    std::uint64_t low = shared.layout.first, high = shared.source->size().value_or(low);
    // The start is where it is; and where bytes come only in order, so does what is looked for.
    if (ticks <= 0 || shared.source->forward_only()) high = low;
    while (high - low > 64 * 188) {
        auto middle = low + (high - low) / 2;
        TRY(auto is_early, early(middle, high));
        if (is_early && *is_early)
            low = pes.offset;
        else
            high = middle;
    }
    auto best = low;
    walker.seek(low);
    for (;;) {
        TRY(bool more, walker.next_head(pes));
        if (!more) break;
        if (!pes.pts) continue;
        if (shared.ticks(stream, pes.dts.value_or(*pes.pts), pes.offset) > ticks) break;
        best = pes.offset;
    }
    return best;
}

class VideoReader final : public TrackReader {
  public:
    VideoReader(std::shared_ptr<const Shared> shared, const Stream& stream)
        : shared_(std::move(shared)), stream_(stream), walker_(shared_->source, shared_->layout, stream.pid) {}
    Result<bool> next(PacketHead& head) override {
        if (!ahead_) TRY_DO(fetch(ahead_));
        if (!ahead_) return false;
        unit_ = std::move(*ahead_);
        TRY_DO(fetch(ahead_));
        head = {};
        auto ticks = shared_->ticks(stream_, *unit_.pts, unit_.offset);
        head.pts = Shared::time(ticks);
        head.dts = Shared::time(shared_->ticks(stream_, unit_.dts.value_or(*unit_.pts), unit_.offset));
        if (ahead_) {
            auto step = shared_->ticks(stream_, ahead_->dts.value_or(*ahead_->pts), ahead_->offset) -
                        shared_->ticks(stream_, unit_.dts.value_or(*unit_.pts), unit_.offset);
            if (step > 0 && step < 10 * 90000) last_step_ = step;
        }
        head.duration = Shared::time(ticks + last_step_) - head.pts;
        head.keyframe = is_keyframe(stream_.track.codec, unit_.data);
        head.size = unit_.data.size();
        return true;
    }
    Outcome read(Bytes& out) override {
        from_annex_b(unit_.data, out);
        return {};
    }
    Outcome seek(Time t) override {
        auto wanted = time_to_ticks_floor(t + 1_ns, 90000);
        TRY(auto place, find_place(*shared_, stream_, wanted));
        // Back from there in growing steps to the last keyframe shown at or before it.
        for (std::uint64_t back = 1 << 18;; back *= 2) {
            auto from = place > back ? place - back : 0;
            walker_.seek(from);
            std::optional<std::uint64_t> key;
            for (;;) {
                Pes pes;
                TRY(bool more, walker_.next_head(pes));
                if (!more || pes.offset > place) break;
                if (!pes.pts || !is_keyframe(stream_.track.codec, pes.data, true)) continue;
                if (shared_->ticks(stream_, *pes.pts, pes.offset) <= wanted) key = pes.offset;
            }
            if (!key && from > 0) continue;
            walker_.seek(key.value_or(0));
            break;
        }
        ahead_.reset();
        do {
            TRY_DO(fetch(ahead_));
        } while (ahead_ && !is_keyframe(stream_.track.codec, ahead_->data));
        return {};
    }

  private:
    Outcome fetch(std::optional<Pes>& pes) {
        pes.emplace();
        for (;;) {
            TRY(bool more, walker_.next(*pes));
            if (!more) {
                pes.reset();
                return {};
            }
            if (pes->pts && !pes->data.empty()) return {};
        }
    }
    std::shared_ptr<const Shared> shared_;
    const Stream& stream_;
    PesWalker walker_;
    Pes unit_;
    std::optional<Pes> ahead_;
    std::int64_t last_step_ = 0;
};

class SoundFrames final : public TrackReader {
  public:
    SoundFrames(std::shared_ptr<const Shared> shared, const Stream& stream)
        : shared_(std::move(shared)),
          stream_(stream),
          walker_(shared_->source, shared_->layout, stream.pid),
          adts_(stream.track.codec == Codec::aac) {}
    Result<bool> next(PacketHead& head) override {
        auto least = adts_ ? 7U : 4U;
        for (;;) {
            while (at_ + least <= held_.size()) {
                auto here = ByteView(held_).subspan(at_);
                auto frame = adts_ ? parse_adts_frame(here) : parse_mp3_frame(here);
                if (!frame) {
                    ++at_;
                    continue;
                }
                if (at_ + frame->size > held_.size()) break;
                // A stamp belongs to the first frame that begins in its packet.
                if (stamp_ && at_ >= stamp_at_) {
                    auto rate = static_cast<std::uint64_t>(frame->rate);
                    auto stated = ticks_to_time(*stamp_, 1, 90000);
                    auto counted = ticks_to_time(samples_, 1, rate);
                    // Stamps are rounded to ticks; frames are laid end to end unless they are clearly apart.
                    if (!anchored_ || std::abs((stated - origin_ - counted).ns) > (20_ms).ns)
                        origin_ = stated, samples_ = 0;
                    anchored_ = true;
                    stamp_.reset();
                }
                begin_ = at_ + (adts_ ? frame->header : 0);
                size_ = frame->size - (adts_ ? frame->header : 0);
                at_ += frame->size;
                if (!anchored_) continue;
                auto rate = static_cast<std::uint64_t>(frame->rate);
                head = {};
                head.pts = origin_ + ticks_to_time(samples_, 1, rate);
                samples_ += frame->samples;
                head.duration = origin_ + ticks_to_time(samples_, 1, rate) - head.pts;
                head.keyframe = true;
                head.size = size_;
                return true;
            }
            Pes pes;
            TRY(bool more, walker_.next(pes));
            if (!more) return false;
            held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(std::min(at_, held_.size())));
            at_ = 0;
            if (held_.size() > (1 << 20)) held_.clear();
            if (pes.pts) stamp_ = shared_->ticks(stream_, *pes.pts, pes.offset), stamp_at_ = held_.size();
            held_.insert(held_.end(), pes.data.begin(), pes.data.end());
        }
    }
    Outcome read(Bytes& out) override {
        out.assign(held_.begin() + static_cast<std::ptrdiff_t>(begin_),
                   held_.begin() + static_cast<std::ptrdiff_t>(begin_ + size_));
        return {};
    }
    Outcome seek(Time t) override {
        // A little early: frames are passed over up to the one that holds `t`.
        TRY(auto place, find_place(*shared_, stream_, time_to_ticks_floor(t, 90000) - 9000));
        auto restart = [&] {
            walker_.seek(place);
            held_.clear();
            at_ = 0, anchored_ = false, stamp_.reset();
        };
        restart();
        PacketHead head;
        std::size_t skip = 0;
        for (;;) {
            TRY(bool more, next(head));
            if (!more || head.pts + head.duration > t) break;
            ++skip;
        }
        restart();
        for (; skip > 0; --skip) TRY_DO(next(head));
        return {};
    }

  private:
    std::shared_ptr<const Shared> shared_;
    const Stream& stream_;
    PesWalker walker_;
    bool adts_;
    Bytes held_;
    std::size_t at_ = 0, stamp_at_ = 0, begin_ = 0, size_ = 0;
    std::optional<std::int64_t> stamp_;
    Time origin_{};
    std::int64_t samples_ = 0;
    bool anchored_ = false;
};

/// A table section (clause 2.4.4) put together from packets of one PID.
struct Section {
    Bytes data;
    bool add(const Packet& p) {
        auto payload = p.payload;
        if (p.unit_start) {
            if (payload.empty() || payload[0] + 1U > payload.size()) return false;
            payload = payload.subspan(payload[0] + 1U);
            data.clear();
        } else if (data.empty()) {
            return false;
        }
        if (data.size() < 8192) data.insert(data.end(), payload.begin(), payload.end());
        return data.size() >= 3 && data.size() >= length();
    }
    std::size_t length() const { return 3U + ((data[1] & 0x0FU) << 8 | data[2]); }
    /// Between the table's own fields and its CRC.
    ByteView body() const { return length() >= 12 ? ByteView(data).subspan(8, length() - 12) : ByteView{}; }
};

class TsClip final : public Clip {
  public:
    Outcome open(std::shared_ptr<ByteSource> source, Layout layout) {
        shared_->source = std::move(source);
        shared_->layout = layout;
        info_.container = "mpegts";
        auto& name = shared_->source->name();
        TRY_DO(read_tables());
        if (shared_->streams.empty())
            return fail(Code::malformed,
                        fmt::format("“{}” looks like a transport stream, but no programme is described in it.", name),
                        "Copy or record it again.");
        std::optional<std::int64_t> base;
        for (auto& s : shared_->streams) {
            TRY(auto first, describe(s));
            if (!first) continue;
            auto d = base ? (*first - *base) & (wrap - 1) : 0;
            if (!base || d >= wrap / 2) base = first;
        }
        shared_->base = base.value_or(0);
        std::erase_if(shared_->streams, [](auto& s) { return s.track.start == Time::max(); });
        if (shared_->streams.empty())
            return fail(Code::truncated, fmt::format("“{}” ends before its first picture or sound.", name),
                        "Copy it again.");
        bool end_at_hand = shared_->source->size() && !shared_->source->forward_only();
        if (end_at_hand) TRY_DO(find_joins());
        if (end_at_hand) TRY_DO(find_end());
        for (auto& s : shared_->streams) {
            auto stamp = s.track.start.ns;  // held the first stamp until the base was known
            s.track.start = std::max(Time{}, Shared::time(shared_->ticks(s, stamp, 0)));
            info_.tracks.push_back(s.track);
        }
        return {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        auto it = std::find_if(shared_->streams.begin(), shared_->streams.end(), [&](auto& s) { return s.pid == id; });
        return make_reader(*it);
    }

  private:
    std::unique_ptr<TrackReader> make_reader(const Stream& s) const {
        if (s.track.kind == Kind::video) return std::make_unique<VideoReader>(shared_, s);
        return std::make_unique<SoundFrames>(shared_, s);
    }

    Outcome read_tables() {
        PacketWalker packets(shared_->source, shared_->layout);
        Packet p;
        Section pat, pmt;
        std::optional<unsigned> map_pid;
        for (int i = 0; i < 100'000; ++i) {
            TRY(bool more, packets.next(p));
            if (!more) break;
            if (p.pid == 0 && !map_pid && pat.add(p)) {
                ByteReader r(pat.body());
                while (r.left() >= 4) {
                    auto programme = r.u16();
                    auto pid = r.u16() & 0x1FFFU;
                    if (programme != 0) {
                        map_pid = pid;
                        break;
                    }
                }
            } else if (map_pid && p.pid == *map_pid && pmt.add(p)) {
                read_map(pmt.body());
                return {};
            }
        }
        return {};
    }
    void read_map(ByteView body) {
        ByteReader r(body);
        r.skip(2);
        r.skip(r.u16() & 0xFFF);
        while (r.left() >= 5 && shared_->streams.size() < 64) {
            auto type = r.u8();
            auto pid = r.u16() & 0x1FFFU;
            ByteReader d(r.take(r.u16() & 0xFFF));
            Stream s;
            s.pid = pid;
            auto& t = s.track;
            t.id = pid;
            t.tick = {1, 90000};
            t.codec_tag = fmt::format("stream type 0x{:02x}", type);
            switch (type) {
                case 0x1B:
                    t.kind = Kind::video, t.codec = Codec::h264;
                    break;
                case 0x24:
                    t.kind = Kind::video, t.codec = Codec::hevc;
                    break;
                case 0x01:
                case 0x02:
                case 0x10:
                    t.kind = Kind::video;
                    break;
                case 0x0F:
                    t.kind = Kind::audio, t.codec = Codec::aac;
                    break;
                case 0x03:
                case 0x04:
                    t.kind = Kind::audio, t.codec = Codec::mp3;
                    break;
                case 0x11:
                case 0x81:
                case 0x87:
                    t.kind = Kind::audio;
                    break;
                default:
                    continue;
            }
            while (d.left() >= 2) {
                auto tag = d.u8(), length = d.u8();
                auto content = d.take(length);
                if (tag == 0x0A && content.size() >= 3)
                    t.language = bcp47_from_iso639(std::string(content.begin(), content.begin() + 3));
            }
            t.is_default = std::none_of(shared_->streams.begin(), shared_->streams.end(),
                                        [&](auto& o) { return o.track.kind == t.kind; });
            shared_->streams.push_back(std::move(s));
        }
    }

    /// Finds out what a stream is from its first units; its first time stamp.
    Result<std::optional<std::int64_t>> describe(Stream& s) {
        auto& t = s.track;
        auto& name = shared_->source->name();
        PesWalker walker(shared_->source, shared_->layout, s.pid);
        std::optional<std::int64_t> first;
        t.start = Time::max();
        int seen = 0;
        for (Pes pes; seen < 300; ++seen) {
            TRY(bool more, walker.next(pes));
            if (!more) break;
            if (!pes.pts) continue;
            // Pictures before the first whole one can't be decoded, and do not count.
            bool usable = t.kind != Kind::video || t.codec == Codec::unknown || !t.config.empty() ||
                          is_keyframe(t.codec, pes.data);
            if (!usable) continue;
            if (!first || ((*pes.pts - *first) & (wrap - 1)) >= wrap / 2) first = pes.pts;
            if (t.kind == Kind::video && t.codec != Codec::unknown) {
                if (t.config.empty()) t.config = t.codec == Codec::h264 ? make_avcc(pes.data) : make_hvcc(pes.data);
                if (seen > 17 && !t.config.empty()) break;
            } else if (t.kind == Kind::audio && t.codec != Codec::unknown) {
                for (std::size_t at = 0; at + 7 < pes.data.size() && !s.frame; ++at) {
                    auto here = ByteView(pes.data).subspan(at);
                    s.frame = t.codec == Codec::aac ? parse_adts_frame(here) : parse_mp3_frame(here);
                }
                if (s.frame) break;
            } else {
                break;
            }
        }
        if (!first) return first;
        t.start = Time{*first};
        if (s.frame) t.audio = {s.frame->rate, s.frame->channels}, t.config = s.frame->config;
        if (t.codec == Codec::unknown || (t.kind == Kind::audio && !s.frame))
            t.problem = Error{
                Code::codec_missing,
                fmt::format("Track {} of “{}” is in a codec that is not known here ({}).", t.id, name, t.codec_tag),
                export_again};
        else
            describe_from_config(t);
        return first;
    }

    /// A file whose times start over was joined from several: the parts are laid end to end. Sixty-four looks
    /// tell whether there is any such place; only then is the file walked.
    Outcome find_joins() {
        auto& lead = shared_->streams[0];
        auto size = *shared_->source->size();
        PesWalker walker(shared_->source, shared_->layout, lead.pid);
        Pes pes;
        std::optional<std::int64_t> last;
        bool odd = false;
        std::int64_t first_step = 0;
        for (std::uint64_t k = 0; k < 64 && !odd; ++k) {
            walker.seek(size / 64 * k);
            TRY(bool more, walker.next_head(pes));
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
        PacketWalker packets(shared_->source, shared_->layout);
        Packet p;
        std::map<unsigned, std::int64_t> at;
        for (;;) {
            TRY(bool more, packets.next(p));
            if (!more) break;
            auto s =
                std::find_if(shared_->streams.begin(), shared_->streams.end(), [&](auto& x) { return x.pid == p.pid; });
            if (s == shared_->streams.end() || !p.unit_start || !begin_pes(pes, p) || !pes.pts) continue;
            auto now = shared_->ticks(*s, pes.dts.value_or(*pes.pts), p.offset);
            if (auto before = at.find(p.pid);
                before != at.end() && (now < before->second - 90000 || now > before->second + 10 * 90000)) {
                auto part = s->joins.size();
                if (part >= 4096) break;
                if (part == shared_->shifts.size()) {
                    auto shift = part > 0 ? shared_->shifts.back() : 0;
                    shared_->shifts.push_back(shift + before->second + 3003 - now);
                }
                s->joins.push_back(p.offset);
                now = shared_->ticks(*s, pes.dts.value_or(*pes.pts), p.offset);
            }
            at[p.pid] = now;
        }
        if (!shared_->shifts.empty())
            info_.findings.push_back(
                {"joined",
                 fmt::format("The times of “{}” start over in {} place{}; its parts are played end to end.",
                             shared_->source->name(), shared_->shifts.size(), shared_->shifts.size() == 1 ? "" : "s"),
                 "Export it again as one recording when a target has to seek."});
        return {};
    }

    Outcome find_end() {
        auto size = *shared_->source->size();
        for (std::uint64_t back = 1 << 18;; back *= 4) {
            auto from = size > back ? size - back : 0;
            bool all = true;
            for (auto& s : shared_->streams) {
                if (s.track.problem) continue;
                PesWalker walker(shared_->source, shared_->layout, s.pid);
                walker.seek(from);
                std::vector<std::int64_t> times;
                Pes pes;
                std::size_t bytes = 0;
                for (;;) {
                    TRY(bool more, walker.next(pes));
                    if (!more) break;
                    if (!pes.pts) continue;
                    times.push_back(shared_->ticks(s, *pes.pts, pes.offset));
                    if (times.back() == *std::max_element(times.begin(), times.end()))
                        bytes = s.frame ? count_frames(s, pes.data) : 0;
                }
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
        return {};
    }
    static std::size_t count_frames(const Stream& s, ByteView data) {
        std::size_t n = 0;
        for (std::size_t at = 0; at + 7 <= data.size();) {
            auto frame =
                s.track.codec == Codec::aac ? parse_adts_frame(data.subspan(at)) : parse_mp3_frame(data.subspan(at));
            if (!frame) {
                ++at;
                continue;
            }
            ++n;
            at += frame->size;
        }
        return n;
    }

    std::shared_ptr<Shared> shared_ = std::make_shared<Shared>();
};

}  // namespace

bool probe(ByteView head) { return find_layout(head).has_value(); }

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    Bytes head(2048);
    TRY(auto got, source->read_at(0, head));
    head.resize(got);
    auto clip = std::make_unique<TsClip>();
    TRY_DO(clip->open(std::move(source), find_layout(head).value_or(Layout{})));
    return clip;
}

}  // namespace ruedo::mpegts
