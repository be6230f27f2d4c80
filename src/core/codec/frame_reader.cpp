// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>
#include <libyuv.h>

#include <algorithm>
#include <numeric>

#include "codec/codec.h"
#include "io/io.h"
#include "media/codec_headers.h"

namespace ruedo {

Result<std::unique_ptr<FrameReader>> FrameReader::open(std::shared_ptr<Clip> clip, const Track& track,
                                                       CodecRegistry& codecs) {
    std::unique_ptr<FrameReader> r(new FrameReader);
    RUEDO_TRY(r->decoder_, codecs.video_decoder(track));
    r->track_ = track;
    r->codecs_ = &codecs;
    r->reader_ = clip->reader(track.id);
    r->heads_ = clip->reader(track.id);
    r->clip_ = std::move(clip);
    r->from_ = track.start;
    return r;
}

/// Decodes one more packet; false once everything has been drained.
Result<bool> FrameReader::feed() {
    if (drained_) return false;
    ready_.clear();
    ready_at_ = 0;
    PacketHead head;
    ReadBudget budget(ReadBudget::of_a_packet);
    RUEDO_TRY(bool more, reader_->next(head));
    if (more) {
        if (auto read = reader_->read(data_); !read) {
            if (read.error().code != ErrorCode::truncated) return std::unexpected(read.error());
            more = false;  // the file became shorter: what is there has been played
            cut_ = read.error();
        }
    }
    if (!more) {
        drained_ = true;
        if (auto end = decoder_->drain(ready_); !end) ++damaged_, last_damage_ = end.error();
        return true;
    }
    if (head.config && *head.config != track_.config) {
        (void)decoder_->drain(ready_);
        track_.config = *head.config;
        RUEDO_TRY(decoder_, codecs_->video_decoder(track_));
        decoder_->hand_out_from(from_);
    }
    end_.see(head);
    // On the way to a picture that is sought, what no other depends on need not be decoded.
    bool on_the_way = sought_ && head.pts < *sought_;
    if ((sparing_ || on_the_way) && !head.keyframe && disposable(track_, data_)) {
        left_out_ += !on_the_way;
        return true;
    }
    fed_.push_back(head.pts);
    recent_.push_back({head.pts, head.duration, head.variant});
    if (recent_.size() > 64) recent_.erase(recent_.begin());
    if (auto done = decoder_->decode(data_, head.pts, head.keyframe, ready_); !done) {
        // One bad packet costs a picture; a stream of nothing else can't be played.
        ++damaged_;
        last_damage_ = done.error();
        if (++damaged_in_a_row_ > 600 || done.error().code == ErrorCode::depth_unsupported ||
            done.error().code == ErrorCode::chroma_unsupported)
            return std::unexpected(done.error());
    } else {
        damaged_in_a_row_ = 0;
        if (sought_ == head.pts && ready_.empty()) {
            RUEDO_TRY_DO(decoder_->flush_early(ready_));
            auto behind = std::find_if(ready_.begin(), ready_.end(), [&](auto& p) { return p.pts > head.pts; });
            early_.assign(std::make_move_iterator(behind), std::make_move_iterator(ready_.end()));
            ready_.erase(behind, ready_.end());
        }
    }
    return true;
}

/// A stream may change its size on the way (VP9 does when a link gets narrow); what is shown keeps the track's.
static Frame at_track_size(Frame p, const VideoFormat& track) {
    if (track.width <= 0 || track.height <= 0 || (p.width == track.width && p.height == track.height)) return p;
    std::array<std::uint8_t*, 3> planes{};
    auto scaled = make_frame(track.width, track.height, planes);
    libyuv::I420Scale(p.plane[0], p.stride[0], p.plane[1], p.stride[1], p.plane[2], p.stride[2], p.width, p.height,
                      planes[0], scaled.stride[0], planes[1], scaled.stride[1], planes[2], scaled.stride[2],
                      track.width, track.height, libyuv::kFilterBilinear);
    scaled.pts = p.pts, scaled.duration = p.duration, scaled.colour = p.colour;
    return scaled;
}

Frame FrameReader::finished(Frame p) const {
    auto& video = track_.video;
    if (!track_.several_sizes) {
        p = at_track_size(std::move(p), video);
        p.pixel_aspect = video.pixel_aspect;
    } else if (p.width > 0 && video.height > 0) {
        // Sizes are rounded, the shape is not: that of the largest.
        auto aspect = video.pixel_aspect.stated() ? video.pixel_aspect : Rational{1, 1};
        p.pixel_aspect = Rational{aspect.num * video.width * p.height, aspect.den * video.height * p.width}.reduced();
    }
    p.rotation = track_.video.rotation;
    // What the container says counts before what the stream says.
    p.colour = track_.video.colour.or_else(p.colour).resolved(p.height);
    for (auto& fed : recent_)
        if (fed.pts == p.pts) p.duration = fed.duration, p.variant = fed.variant;
    return p;
}

Result<std::optional<Frame>> FrameReader::next(const std::atomic<bool>* cancel) {
    ReadScope scope(cancel);
    if (go_on_at_) RUEDO_TRY_DO(at(*go_on_at_, cancel));
    for (;;) {
        while (ready_at_ < ready_.size() || (drained_ && !early_.empty())) {
            // What came early takes its turn.
            bool early = !early_.empty() && (ready_at_ == ready_.size() || early_[0].pts < ready_[ready_at_].pts);
            auto p = std::move(early ? early_[0] : ready_[ready_at_++]);
            if (early) early_.erase(early_.begin());
            if (p.pts < from_ || p.pts >= track_.end) continue;
            from_ = p.pts + 1_ns;
            return finished(std::move(p));
        }
        if (ReadScope::given_up())
            return std::unexpected(ReadScope::stopped(fmt::format("“{}” was still being decoded", clip_->info().name)));
        RUEDO_TRY(bool more, feed());
        if (!more) return std::nullopt;
    }
}

/// Reads packets from the keyframe at or before `at`, and hands out pictures from `from` on.
Status FrameReader::restart(Time at, Time from) {
    RUEDO_TRY_DO(reader_->seek(at));
    decoder_->reset();
    decoder_->hand_out_from(from);
    ready_.clear(), ready_at_ = 0, early_.clear(), fed_.clear(), drained_ = false;
    from_ = from;
    return {};
}

Result<Frame> FrameReader::at(Time t, const std::atomic<bool>* cancel) {
    ReadScope scope(cancel);
    go_on_at_.reset();
    auto window = clip_->seekable();
    if (!window) {
        // What comes next is what there is.
        from_ = {INT64_MIN};
        RUEDO_TRY(auto picture, next(cancel));
        if (picture) return *picture;
        return fail(ErrorCode::truncated, "No picture comes any more.", "Open the source again.");
    }
    auto latest = track_.end != Time::max()      ? track_.end
                  : clip_->info().duration_known ? clip_->info().duration
                                                 : Time::max() / 4;
    t = std::clamp(t, window->from, std::max(window->from, std::min(latest, window->to)));
    RUEDO_TRY(auto target, frame_time_at(*heads_, track_, t));
    // Going on is cheaper than starting over when the target lies ahead in the group being decoded; but then
    // `decoded` would not tell the cost from the keyframe, so that is left to `next`.
    RUEDO_TRY_DO(restart(target, target));
    decoded_ = 0;
    sought_ = target;
    auto found = next(cancel);
    sought_.reset();
    RUEDO_TRY(auto picture, std::move(found));
    if (!picture) {
        if (last_damage_) return std::unexpected(*last_damage_);
        return fail(ErrorCode::truncated,
                    fmt::format("No picture of “{}” can be decoded at {}.", clip_->info().name, format_time(target)),
                    "The file may be cut short or damaged there.");
    }
    auto place = std::find(fed_.begin(), fed_.end(), picture->pts);
    decoded_ = static_cast<std::uint64_t>(place - fed_.begin()) + (place == fed_.end() ? 0 : 1);
    fed_.clear();
    return *picture;
}

Status FrameReader::at_each(const std::vector<Time>& times,
                            const std::function<Status(std::size_t which, const Frame& picture)>& take) {
    if (clip_->seekable()) {
        for (std::size_t i = 0; i < times.size(); ++i) {
            RUEDO_TRY(auto picture, at(times[i]));
            RUEDO_TRY_DO(take(i, picture));
        }
        return {};
    }
    std::vector<std::size_t> order(times.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) { return times[a] < times[b]; });
    RUEDO_TRY(auto shown, at({}));
    RUEDO_TRY(auto following, next());
    decoded_ = 1;
    for (auto which : order) {
        while (following && following->pts <= times[which]) {
            shown = std::move(*following), ++decoded_;
            RUEDO_TRY(following, next());
        }
        RUEDO_TRY_DO(take(which, shown));
        decoded_ = 0;
    }
    return {};
}

Result<std::optional<Frame>> FrameReader::leap(Time from, Time to, const std::atomic<bool>* cancel) {
    std::optional<Time> key;
    std::uint64_t passed = 0;
    {
        ReadScope only(cancel, true);
        if (!heads_->seek(from_)) return std::nullopt;
        PacketHead head;
        while (!key) {
            auto more = heads_->next(head);
            if (!more || !*more || head.pts >= track_.end) return std::nullopt;
            if (head.keyframe && head.pts > to) return std::nullopt;
            if (head.keyframe && head.pts >= from)
                key = head.pts;
            else if (head.pts >= from_)
                ++passed;
        }
    }
    auto waiting = static_cast<std::uint64_t>(ready_.size() - std::min(ready_at_, ready_.size()) + early_.size());
    RUEDO_TRY(auto picture, at(*key, cancel));
    left_out_ += std::max(passed, waiting);
    return picture;
}

Result<Frame> FrameReader::keyframe_near(Time t, const std::atomic<bool>* cancel) {
    ReadScope scope(cancel);
    auto* keyframes = clip_->keyframes(track_.id);
    if (keyframes && !apart_)
        if (auto reader = open(clip_, *keyframes, *codecs_)) apart_ = std::move(*reader);
    if (apart_) {
        Result<Time> here = Time{};
        {
            ReadScope only(cancel, true);
            here = keyframe_time_near(*heads_, track_, t);
        }
        if (here) return at(*here, cancel);
        auto picture = apart_->only(t);
        if (picture) go_on_at_ = picture->pts;
        if (picture || picture.error().code == ErrorCode::cancelled) return picture;
    }
    RUEDO_TRY(auto place, keyframe_time_near(*heads_, track_, t));
    return at(place, cancel);
}

/// The keyframe at `t` or before, and not a packet more.
Result<Frame> FrameReader::only(Time t) {
    RUEDO_TRY_DO(restart(t, {INT64_MIN}));
    RUEDO_TRY_DO(feed());
    if (ready_.empty()) RUEDO_TRY_DO(decoder_->drain(ready_));
    if (ready_.empty()) return fail(ErrorCode::truncated, "This keyframe can’t be decoded by itself.");
    return finished(std::move(ready_.front()));
}

}  // namespace ruedo
