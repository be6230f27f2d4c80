// SPDX-License-Identifier: Apache-2.0
// Ogg (RFC 3533) with Theora, Vorbis, Opus (RFC 7845) and FLAC: chained links on one timeline, times from granule
// positions, seeking by bisection over the file. There is no index to read and none is built.
#include <fmt/format.h>

#include <algorithm>

#include "container/container.h"
#include "container/ogg/link.h"

namespace ruedo::ogg {
namespace {

/// Links that are looked for: each is a wait of its own when a file is opened.
constexpr std::size_t most_links = 256;

struct Shared {
    std::shared_ptr<ByteSource> source;
    std::vector<std::shared_ptr<const Link>> links;
};

/// The stream of `link` that carries on track number `index` of the `opening` link.
const Logical* counterpart(const Link& opening, const Link& link, std::size_t index) {
    auto& first = opening.streams[index];
    std::size_t nth = 0;
    for (std::size_t i = 0; i < index; ++i) nth += opening.streams[i].track.codec == first.track.codec;
    for (auto& s : link.streams)
        if (s.track.codec == first.track.codec && nth-- == 0) return &s;
    return nullptr;
}

class Reader final : public TrackReader {
  public:
    Reader(std::shared_ptr<const Shared> shared, std::size_t index)
        : shared_(std::move(shared)), links_(shared_->links), index_(index), walker_(shared_->source) {
        ogg_stream_init(&stream_, 0);
        enter(0, links_[0]->data);
    }
    ~Reader() override { ogg_stream_clear(&stream_); }

    Result<bool> next(PacketHead& head) override {
        if (at_ < ready_.size()) ++at_;
        RUEDO_TRY(bool more, fill());
        if (more) head = ready_[at_].head;
        return more;
    }
    Status read(Bytes& out) override {
        out = at_ < ready_.size() ? ready_[at_].data : Bytes{};
        return {};
    }
    Status seek(Time t) override {
        std::size_t k = 0;
        const Logical* s = nullptr;
        std::int64_t target = 0;
        for (auto known = links_.size() + 1; links_.size() != known;) {  // again when another link was met
            known = links_.size();
            k = known - 1;
            while (k > 0 && (t < links_[k]->place || !track_in(k))) --k;
            auto link = links_[k];
            s = track_in(k);
            if (!s) return {};
            auto within = t - link->place + link->origin;
            target = time_to_ticks_floor(within / static_cast<std::int64_t>(s->num), s->den);
            // Rounding to a nanosecond must not lose the unit that begins there.
            while (s->time_of(target + 1) <= within) ++target;
            if (s->is_video()) target = std::max(target, s->first);  // sound has more before it, to be decoded only
            RUEDO_TRY_DO(stand_before(k, *s, target));
        }
        if (!s->is_video()) {
            return drop_until([&](const Pending& p) { return p.unit + p.length > target || p.unit >= target; });
        }
        // The keyframe: named by the page before, unless a later one comes by on the way to the target.
        auto key = key_before_;
        for (;;) {
            ++at_;
            RUEDO_TRY(bool more, fill());
            if (!more || link_ != k || ready_[at_].unit > target) break;
            if (ready_[at_].head.keyframe) key = ready_[at_].unit;
        }
        s = track_in(k);  // where the link's end was met, it was written down anew
        RUEDO_TRY_DO(stand_before(k, *s, key));
        return drop_until([&](const Pending& p) { return p.head.keyframe && p.unit >= key; });
    }

  private:
    struct Pending {
        PacketHead head;
        Bytes data;
        std::int64_t unit = 0, length = 0;
    };

    const Logical* track_in(std::size_t link) const { return counterpart(*shared_->links[0], *links_[link], index_); }

    void enter(std::size_t link, std::uint64_t offset) {
        link_ = link;
        logical_ = track_in(link);
        walker_.seek(offset);
        ogg_stream_reset_serialno(&stream_, logical_ ? logical_->serial : 0);
        length_ = {};
        position_.reset();
        fresh_ = offset == links_[link]->data;
        key_before_ = logical_ ? logical_->first : 0;
        ready_.clear();
        // `next` moves on before it gives, so the place stands one before the first.
        at_ = static_cast<std::size_t>(-1);
    }

    /// The next page of link `k`; false where it ends. Where that can't be known beforehand, a page that begins a
    /// stream ends it, and what begins there is put on the list.
    Result<bool> next_page(std::size_t k, ogg_page& page, std::uint64_t& start) {
        RUEDO_TRY(bool more, walker_.next(page, start));
        if (!more || start >= links_[k]->end) return false;
        if (k + 1 < links_.size() || !shared_->source->forward_only()) return true;
        if (!ogg_page_bos(&page)) {
            for (auto& s : links_[k]->streams)
                if (s.serial == ogg_page_serialno(&page) && ogg_page_granulepos(&page) >= 0)
                    until_ = std::max(until_, s.time_of(s.end_of(ogg_page_granulepos(&page))));
            return true;
        }
        auto next = read_link(shared_->source, start, links_[k]->end);
        // What has not come yet is met again.
        if (!next) walker_.seek(start);
        RUEDO_TRY(auto link, std::move(next));
        if (!link) return false;
        auto before = std::make_shared<Link>(*links_[k]);
        before->end = start;
        before->length = std::max(until_ - before->origin, Time{});
        link->place = before->place + before->length;
        links_[k] = std::move(before);
        links_.push_back(std::make_shared<Link>(std::move(*link)));
        // A station never ends; of what it played long ago only the place is kept.
        constexpr std::size_t kept = 64;
        if (links_.size() > kept) {
            auto old = std::make_shared<Link>();
            old->place = links_[links_.size() - kept]->place;
            links_[links_.size() - kept] = std::move(old);
        }
        if (k == link_) logical_ = track_in(k);
        until_ = {};
        return false;
    }

    /// Starts with the last page all of whose packets end at or before `target`, so that one which begins on it
    /// is whole.
    Status stand_before(std::size_t k, const Logical& s, std::int64_t target) {
        auto link = links_[k];
        auto low = link->data, high = link->end;
        std::uint64_t best = link->data;
        std::int64_t key = s.first;
        ogg_page page;
        std::uint64_t start = 0;
        auto consider = [&]() -> Result<bool> {  // the next page of this stream that ends a packet; false past `high`
            for (;;) {
                RUEDO_TRY(bool more, next_page(k, page, start));
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
            RUEDO_TRY(bool found, consider());
            if (found && early())
                take();
            else
                high = middle;
        }
        high = link->end;
        walker_.seek(low);
        for (;;) {
            RUEDO_TRY(bool found, consider());
            if (!found || !early()) break;
            take();
        }
        enter(k, best);
        key_before_ = std::max(key, s.first);
        return {};
    }

    template <class F>
    Status drop_until(F&& wanted) {
        for (;;) {
            ++at_;
            RUEDO_TRY(bool more, fill());
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
            RUEDO_TRY(bool more, next_page(link_, page, start));
            if (!more) {
                if (link_ + 1 >= links_.size()) return false;
                enter(link_ + 1, links_[link_ + 1]->data);
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
        auto& link = *links_[link_];
        auto unit = begin;
        bool chained = links_.size() > 1 || shared_->source->forward_only();
        for (auto& p : ready_) {
            p.unit = unit;
            p.head.pts = logical_->time_of(unit) - link.origin + link.place;
            unit += p.length;
            p.head.duration = logical_->time_of(unit) - logical_->time_of(p.unit);
            if (chained) p.head.config = std::shared_ptr<const Bytes>(links_[link_], &logical_->track.config);
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
    std::vector<std::shared_ptr<const Link>> links_;  ///< Those known on opening, and those met since.
    Time until_{};                                    ///< Within the last of them: where what was seen of it ends.
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
    explicit OggClip(std::shared_ptr<ByteSource> source) : shared_(std::make_shared<Shared>()) {
        shared_->source = std::move(source);
    }

    Status open() {
        info_.container = "ogg";
        auto size = shared_->source->size().value_or(UINT64_MAX);
        Time place{};
        for (std::uint64_t at = 0; at < size;) {
            RUEDO_TRY(auto link, read_link(shared_->source, at, size));
            if (!link) break;
            if (shared_->links.size() == most_links) {
                info_.findings.push_back(
                    {"chain-cut",
                     fmt::format("“{}” is a chain of more than {} recordings, and only those are played.",
                                 shared_->source->name(), most_links),
                     "Cut it into several files."});
                break;
            }
            link->place = place;
            place += link->length;
            at = link->end;
            shared_->links.push_back(std::make_shared<Link>(std::move(*link)));
        }
        auto& name = shared_->source->name();
        if (shared_->links.empty())
            return fail(ErrorCode::malformed,
                        fmt::format("“{}” is Ogg, but no Theora, Vorbis, Opus or FLAC stream can be read in it.", name),
                        "Copy or export it again.");
        auto& first = *shared_->links[0];
        if (std::none_of(first.streams.begin(), first.streams.end(), [](auto& s) { return s.has_data; }))
            return fail(ErrorCode::truncated, fmt::format("“{}” ends before its first picture or sound.", name),
                        "Copy it again.");
        for (std::size_t i = 0; i < first.streams.size(); ++i) {
            auto& s = first.streams[i];
            auto track = s.track;
            if (info_.tags.title.empty()) info_.tags.title = s.tags.title;
            info_.tags.take_cover(s.tags.cover);
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
                    if (!counterpart(first, *shared_->links[k], i)) {
                        info_.findings.push_back(
                            {"chain-changes",
                             fmt::format("From {} on “{}” has no {} any more.", format_time(shared_->links[k]->place),
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
    std::shared_ptr<Shared> shared_;
};

}  // namespace

Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<OggClip>(std::move(source));
    RUEDO_TRY_DO(clip->open());
    return clip;
}

}  // namespace ruedo::ogg
