// SPDX-License-Identifier: Apache-2.0
// Ogg (RFC 3533) with Theora, Vorbis, Opus (RFC 7845) and FLAC: chained links on one timeline, times from granule
// positions, seeking by bisection over the file. There is no index to read and none is built.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "container/container.h"
#include "container/ogg/pages.h"

namespace ruedo::ogg {
namespace {

/// One link of the chain: a group of logical streams that begin and end together.
struct Link {
    std::uint64_t begin = 0, data = 0, end = 0;
    std::vector<Logical> streams;
    Time origin{};  ///< Within the link: of its first presented sample.
    Time place{};   ///< On the clip's timeline: where that sample is.
    Time length{};
    bool holds(int serial) const {
        return std::any_of(streams.begin(), streams.end(), [&](auto& s) { return s.serial == serial; });
    }
};

struct Shared {
    std::shared_ptr<ByteSource> source;
    std::vector<Link> links;
};

/// The stream of `link` that carries on track number `index` of the first link.
const Logical* counterpart(const Shared& shared, std::size_t link, std::size_t index) {
    auto& first = shared.links[0].streams[index];
    std::size_t nth = 0;
    for (std::size_t i = 0; i < index; ++i) nth += shared.links[0].streams[i].track.codec == first.track.codec;
    for (auto& s : shared.links[link].streams)
        if (s.track.codec == first.track.codec && nth-- == 0) return &s;
    return nullptr;
}

class Reader final : public TrackReader {
  public:
    Reader(std::shared_ptr<const Shared> shared, std::size_t index)
        : shared_(std::move(shared)), index_(index), walker_(shared_->source) {
        ogg_stream_init(&stream_, 0);
        enter(0, shared_->links[0].data);
    }
    ~Reader() override { ogg_stream_clear(&stream_); }

    Result<bool> next(PacketHead& head) override {
        if (at_ < ready_.size()) ++at_;
        TRY(bool more, fill());
        if (more) head = ready_[at_].head;
        return more;
    }
    Outcome read(Bytes& out) override {
        out = at_ < ready_.size() ? ready_[at_].data : Bytes{};
        return {};
    }
    Outcome seek(Time t) override {
        std::size_t k = shared_->links.size() - 1;
        while (k > 0 && (t < shared_->links[k].place || !counterpart(*shared_, k, index_))) --k;
        auto& link = shared_->links[k];
        auto* s = counterpart(*shared_, k, index_);
        auto within = t - link.place + link.origin;
        auto target = time_to_ticks_floor(within / static_cast<std::int64_t>(s->num), s->den);
        // Rounding to a nanosecond must not lose the unit that begins there.
        while (s->time_of(target + 1) <= within) ++target;
        target = std::max(target, s->first);
        TRY_DO(stand_before(k, *s, target));
        if (!s->is_video()) {
            return drop_until([&](const Pending& p) { return p.unit + p.length > target || p.unit >= target; });
        }
        // The keyframe: named by the page before, unless a later one comes by on the way to the target.
        auto key = key_before_;
        for (;;) {
            ++at_;
            TRY(bool more, fill());
            if (!more || link_ != k || ready_[at_].unit > target) break;
            if (ready_[at_].head.keyframe) key = ready_[at_].unit;
        }
        TRY_DO(stand_before(k, *s, key));
        return drop_until([&](const Pending& p) { return p.head.keyframe && p.unit >= key; });
    }

  private:
    struct Pending {
        PacketHead head;
        Bytes data;
        std::int64_t unit = 0, length = 0;
    };

    void enter(std::size_t link, std::uint64_t offset) {
        link_ = link;
        logical_ = counterpart(*shared_, link, index_);
        walker_.seek(offset);
        ogg_stream_reset_serialno(&stream_, logical_ ? logical_->serial : 0);
        length_ = {};
        position_.reset();
        fresh_ = offset == shared_->links[link].data;
        key_before_ = logical_ ? logical_->first : 0;
        ready_.clear();
        // `next` moves on before it gives, so the place stands one before the first.
        at_ = static_cast<std::size_t>(-1);
    }

    /// Starts with the last page all of whose packets end at or before `target`, so that one which begins on it
    /// is whole.
    Outcome stand_before(std::size_t k, const Logical& s, std::int64_t target) {
        auto& link = shared_->links[k];
        auto low = link.data, high = link.end;
        std::uint64_t best = link.data;
        std::int64_t key = s.first;
        ogg_page page;
        std::uint64_t start = 0;
        auto consider = [&]() -> Result<bool> {  // the next page of this stream that ends a packet; false past `high`
            for (;;) {
                TRY(bool more, walker_.next(page, start));
                if (!more || start >= high) return false;
                if (ogg_page_serialno(&page) == s.serial && ogg_page_granulepos(&page) >= 0) return true;
            }
        };
        auto early = [&] { return s.end_of(ogg_page_granulepos(&page)) <= target; };
        auto take = [&] {
            best = low = start;
            if (s.is_video()) key = s.key_of(ogg_page_granulepos(&page));
        };
        // The start is where it is; and where bytes come only in order, so does what is looked for.
        bool search = target > s.first && !shared_->source->forward_only();
        while (search && high - low > 16384) {
            auto middle = low + (high - low) / 2;
            walker_.seek(middle);
            TRY(bool found, consider());
            if (found && early())
                take();
            else
                high = middle;
        }
        high = link.end;
        walker_.seek(low);
        for (;;) {
            TRY(bool found, consider());
            if (!found || !early()) break;
            take();
        }
        enter(k, best);
        key_before_ = std::max(key, s.first);
        return {};
    }

    template <class F>
    Outcome drop_until(F&& wanted) {
        for (;;) {
            ++at_;
            TRY(bool more, fill());
            if (!more) return {};
            if (wanted(ready_[at_])) break;
        }
        --at_;
        return {};
    }

    /// Makes `ready_[at_]` a packet; false at the end of the track.
    Result<bool> fill() {
        if (at_ == static_cast<std::size_t>(-1)) at_ = 0;
        while (at_ >= ready_.size()) {
            ready_.clear(), at_ = 0;
            if (!logical_) return false;
            ogg_page page;
            std::uint64_t start = 0;
            TRY(bool more, walker_.next(page, start));
            if (!more || start >= shared_->links[link_].end) {
                if (link_ + 1 >= shared_->links.size()) return false;
                enter(link_ + 1, shared_->links[link_ + 1].data);
                at_ = 0;
                continue;
            }
            if (ogg_page_serialno(&page) == logical_->serial) take_page(page);
        }
        return true;
    }

    void take_page(ogg_page& page) {
        if (ogg_stream_pagein(&stream_, &page) != 0) return;
        ogg_packet packet;
        for (int got; (got = ogg_stream_packetout(&stream_, &packet)) != 0;) {
            if (got < 0) {
                position_.reset(), length_ = {};
                continue;
            }
            ByteView data(packet.packet, static_cast<std::size_t>(packet.bytes));
            if (is_header(data)) continue;
            Pending p;
            p.length = length_.of(*logical_, data);
            p.data.assign(data.begin(), data.end());
            p.head.size = data.size();
            p.head.keyframe = !logical_->is_video() || (!data.empty() && !(data[0] & 0x40));
            ready_.push_back(std::move(p));
        }
        if (ready_.empty()) return;
        std::int64_t sum = 0;
        for (auto& p : ready_) sum += p.length;
        auto granule = ogg_page_granulepos(&page);
        auto end = granule >= 0 ? logical_->end_of(granule) : position_.value_or(0) + sum;
        auto begin = end - sum;
        std::int64_t extra = 0;
        if (ogg_page_eos(&page) && !logical_->is_video()) {
            // The last page may say that fewer samples count than its packets hold.
            auto expected = position_.value_or(fresh_ ? logical_->first - logical_->pre_skip : begin);
            if (expected > begin) begin = expected, extra = begin + sum - end;
        }
        auto& link = shared_->links[link_];
        auto unit = begin;
        for (auto& p : ready_) {
            p.unit = unit;
            p.head.pts = logical_->time_of(unit) - link.origin + link.place;
            unit += p.length;
            p.head.duration = logical_->time_of(unit) - logical_->time_of(p.unit);
            if (shared_->links.size() > 1)
                p.head.config = std::shared_ptr<const Bytes>(shared_, &logical_->track.config);
        }
        for (auto p = ready_.rbegin(); p != ready_.rend() && extra > 0; ++p) {
            auto cut = std::min(extra, p->length);
            p->head.trim_end = logical_->time_of(cut);
            extra -= cut;
        }
        position_ = end;
        fresh_ = false;
    }
    bool is_header(ByteView data) const {
        if (data.empty()) return false;
        if (logical_->track.codec == Codec::vorbis) return data[0] & 1;
        if (logical_->track.codec == Codec::theora) return data[0] & 0x80;
        if (logical_->track.codec == Codec::flac) return data[0] != 0xFF;
        return data.size() >= 8 && std::equal(data.begin(), data.begin() + 4, "Opus");
    }

    std::shared_ptr<const Shared> shared_;
    std::size_t index_;
    PageWalker walker_;
    ogg_stream_state stream_{};
    std::size_t link_ = 0;
    const Logical* logical_ = nullptr;
    PacketLength length_;
    std::optional<std::int64_t> position_;
    bool fresh_ = true;
    std::int64_t key_before_ = 0;
    std::vector<Pending> ready_;
    std::size_t at_ = 0;
};

class OggClip final : public Clip {
  public:
    explicit OggClip(std::shared_ptr<ByteSource> source) : shared_(std::make_shared<Shared>()), walker_(source) {
        shared_->source = std::move(source);
    }

    Outcome open() {
        info_.container = "ogg";
        auto size = shared_->source->size().value_or(UINT64_MAX);
        Time place{};
        for (std::uint64_t at = 0; shared_->links.size() < 256;) {
            TRY(auto link, read_link(at, size));
            if (!link) break;
            link->place = place;
            place += link->length;
            at = link->end;
            shared_->links.push_back(std::move(*link));
            if (at >= size) break;
        }
        auto& name = shared_->source->name();
        if (shared_->links.empty())
            return fail(Code::malformed,
                        fmt::format("“{}” is Ogg, but no Theora, Vorbis, Opus or FLAC stream can be read in it.", name),
                        "Copy or export it again.");
        auto& first = shared_->links[0];
        if (std::none_of(first.streams.begin(), first.streams.end(), [](auto& s) { return s.has_data; }))
            return fail(Code::truncated, fmt::format("“{}” ends before its first picture or sound.", name),
                        "Copy it again.");
        for (std::size_t i = 0; i < first.streams.size(); ++i) {
            auto& s = first.streams[i];
            auto track = s.track;
            track.start = s.time_of(s.first) - first.origin;
            // Encoder delay lies before the start; where sound ends is said packet by packet.
            info_.tracks.push_back(std::move(track));
        }
        info_.duration = place;
        info_.duration_known = place.ns > 0;
        if (shared_->links.size() > 1) {
            info_.findings.push_back({"chained",
                                      fmt::format("“{}” is a chain of {} recordings, played one after the other.", name,
                                                  shared_->links.size()),
                                      "Join them into one when the target has to seek."});
            for (std::size_t k = 1; k < shared_->links.size(); ++k)
                for (std::size_t i = 0; i < first.streams.size(); ++i)
                    if (!counterpart(*shared_, k, i)) {
                        info_.findings.push_back(
                            {"chain-changes",
                             fmt::format("From {} on “{}” has no {} any more.", format_time(shared_->links[k].place),
                                         name, codec_title(first.streams[i].track.codec)),
                             "Export it again as one recording."});
                        return {};
                    }
        }
        return {};
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override {
        for (std::size_t i = 0; i < info_.tracks.size(); ++i)
            if (info_.tracks[i].id == id) return std::make_unique<Reader>(shared_, i);
        return std::make_unique<Reader>(shared_, 0);
    }

  private:
    /// The link that begins at `at`: its headers, where it ends, and its times.
    Result<std::optional<Link>> read_link(std::uint64_t at, std::uint64_t size) {
        Link link;
        link.begin = at;
        walker_.seek(at);
        ogg_page page;
        std::uint64_t start = 0;
        std::map<int, ogg_stream_state> assembling;
        struct Clear {
            std::map<int, ogg_stream_state>& m;
            ~Clear() {
                for (auto& [serial, s] : m) ogg_stream_clear(&s);
            }
        } clear{assembling};
        std::vector<int> others;
        bool headers_done = false;
        for (int pages = 0; !headers_done && pages < 4096; ++pages) {
            TRY(bool more, walker_.next(page, start));
            if (!more) break;
            auto serial = ogg_page_serialno(&page);
            if (ogg_page_bos(&page)) {
                if (link.streams.size() + others.size() > 32)
                    return fail(Code::limit,
                                fmt::format("“{}” holds more than 32 streams at once.", shared_->source->name()),
                                "Export it with fewer tracks.");
                if (assembling.contains(serial)) continue;
                auto& state = assembling[serial];
                ogg_stream_init(&state, serial);
                ogg_stream_pagein(&state, &page);
                ogg_packet packet;
                Logical logical;
                logical.serial = serial;
                if (ogg_stream_packetout(&state, &packet) == 1 &&
                    logical.begin({packet.packet, static_cast<std::size_t>(packet.bytes)}))
                    link.streams.push_back(std::move(logical));
                else
                    others.push_back(serial);
                link.data = walker_.position();
                continue;
            }
            auto s =
                std::find_if(link.streams.begin(), link.streams.end(), [&](auto& l) { return l.serial == serial; });
            if (s != link.streams.end() && !s->complete()) {
                auto& state = assembling[serial];
                ogg_stream_pagein(&state, &page);
                ogg_packet packet;
                while (!s->complete() && ogg_stream_packetout(&state, &packet) == 1)
                    s->add_header({packet.packet, static_cast<std::size_t>(packet.bytes)});
            }
            headers_done = !link.streams.empty() &&
                           std::all_of(link.streams.begin(), link.streams.end(), [](auto& l) { return l.complete(); });
        }
        std::erase_if(link.streams, [](auto& l) { return !l.complete(); });
        if (link.streams.empty()) return std::nullopt;
        TRY_DO(find_end(link, others, size));
        TRY_DO(find_first(link));
        TRY_DO(find_last(link));
        std::optional<Time> from;
        Time to{};
        for (auto& s : link.streams) {
            if (!s.has_data) continue;
            from = std::min(from.value_or(s.time_of(s.first)), s.time_of(s.first));
            to = std::max(to, s.time_of(s.last));
        }
        link.origin = from.value_or(Time{});
        link.length = std::max(to - link.origin, Time{});
        return link;
    }

    /// Where pages of other streams than this link's begin: a chain's next link.
    Outcome find_end(Link& link, const std::vector<int>& others, std::uint64_t size) {
        link.end = size;
        if (size == UINT64_MAX || shared_->source->forward_only()) return {};
        auto ours = [&](ogg_page& page) {
            auto serial = ogg_page_serialno(&page);
            return link.holds(serial) || std::find(others.begin(), others.end(), serial) != others.end();
        };
        ogg_page page;
        std::uint64_t start = 0;
        // The file's last pages tell whether there is another link at all.
        bool chained = false;
        for (std::uint64_t back = 1 << 17;; back *= 4) {
            walker_.seek(size - std::min(back, size - link.data));
            bool any = false;
            for (;;) {
                TRY(bool more, walker_.next(page, start));
                if (!more) break;
                any = true;
                chained = !ours(page);
            }
            if (any || back >= size - link.data) break;
        }
        if (!chained) return {};
        auto low = link.data, high = size;
        while (high - low > 8192) {
            auto middle = low + (high - low) / 2;
            walker_.seek(middle);
            TRY(bool more, walker_.next(page, start));
            if (more && start < high && ours(page))
                low = start;
            else
                high = middle;
        }
        walker_.seek(low);
        for (;;) {
            TRY(bool more, walker_.next(page, start));
            if (!more) return {};
            if (!ours(page)) {
                link.end = start;
                return {};
            }
        }
    }

    /// The unit at which each stream begins: its first page's position less what the page holds.
    Outcome find_first(Link& link) {
        for (auto& s : link.streams) {
            s.has_data = false;
            walker_.seek(link.data);
            ogg_stream_state state;
            ogg_stream_init(&state, s.serial);
            struct Clear {
                ogg_stream_state& s;
                ~Clear() { ogg_stream_clear(&s); }
            } clear{state};
            ogg_page page;
            std::uint64_t start = 0;
            PacketLength length;
            std::size_t headers = 1;
            std::int64_t sum = 0;
            for (int pages = 0; pages < 65536; ++pages) {
                TRY(bool more, walker_.next(page, start));
                if (!more || start >= link.end) break;
                if (ogg_page_serialno(&page) != s.serial || ogg_page_bos(&page)) continue;
                ogg_stream_pagein(&state, &page);
                ogg_packet packet;
                for (int got; (got = ogg_stream_packetout(&state, &packet)) != 0;) {
                    if (got < 0 || headers++ < s.headers_wanted) continue;
                    sum += length.of(s, {packet.packet, static_cast<std::size_t>(packet.bytes)});
                    s.has_data = true;
                }
                if (!s.has_data || ogg_page_granulepos(&page) < 0) continue;
                auto begin = s.end_of(ogg_page_granulepos(&page)) - sum;
                // A first page that claims less than it holds cuts the beginning (or, when it is also the last,
                // the end); one that claims more was cut out of a longer stream.
                s.first =
                    s.is_video() ? std::max<std::int64_t>(begin, 0) : std::max<std::int64_t>(begin + s.pre_skip, 0);
                break;
            }
        }
        return {};
    }

    Outcome find_last(Link& link) {
        if (link.end == UINT64_MAX || shared_->source->forward_only()) return {};
        for (std::uint64_t back = 1 << 16;; back *= 4) {
            auto from = link.end - std::min(back, link.end - link.data);
            walker_.seek(from);
            std::set<int> found;
            ogg_page page;
            std::uint64_t start = 0;
            for (;;) {
                TRY(bool more, walker_.next(page, start));
                if (!more || start >= link.end) break;
                for (auto& s : link.streams)
                    if (s.serial == ogg_page_serialno(&page) && ogg_page_granulepos(&page) >= 0) {
                        s.last = std::max(s.end_of(ogg_page_granulepos(&page)), s.first);
                        found.insert(s.serial);
                    }
            }
            if (from == link.data || found.size() == link.streams.size() || back > (64 << 20)) return {};
        }
    }

    std::shared_ptr<Shared> shared_;
    PageWalker walker_;
};

}  // namespace

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<OggClip>(std::move(source));
    TRY_DO(clip->open());
    return clip;
}

}  // namespace ruedo::ogg
