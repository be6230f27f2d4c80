// SPDX-License-Identifier: Apache-2.0
#include "convert/pairs.h"

#include <fmt/format.h>

#include "container/container.h"

namespace ruedo {
namespace {
Result<std::unique_ptr<FrameReader>> frames_of(const std::string& source, CodecRegistry& codecs) {
    RUEDO_TRY(auto clip, open_to_end(source));
    for (auto& t : clip->info().tracks)
        if (t.kind == Kind::video) {
            if (t.problem) return std::unexpected(*t.problem);
            return FrameReader::open(clip, t, codecs);
        }
    return fail(ErrorCode::not_media, fmt::format("“{}” has no pictures to compare.", clip->info().name),
                "Choose a clip with pictures.");
}
/// Containers round times, each to its own ticks; what differs by that much is meant to be seen at the same time.
Time half_tick(const FrameReader& r) {
    auto& tick = r.track().tick;
    if (!tick.stated()) return {};
    auto whole = ticks_to_time(1, static_cast<std::uint64_t>(tick.num), static_cast<std::uint64_t>(tick.den));
    return std::min(1_ms, whole / 2 + 1_ns);
}
}  // namespace

Pairs::Pairs(std::unique_ptr<FrameReader> first, std::unique_ptr<FrameReader> second, Time from)
    : first_(std::move(first)), second_(std::move(second)), from_(from) {}

Result<std::unique_ptr<Pairs>> Pairs::open(const std::string& first, const std::string& second, CodecRegistry& codecs,
                                           Time from) {
    RUEDO_TRY(auto a, frames_of(first, codecs));
    RUEDO_TRY(auto b, frames_of(second, codecs));
    auto slack = half_tick(*a) + half_tick(*b);
    std::unique_ptr<Pairs> pairs(new Pairs(std::move(a), std::move(b), from));
    pairs->slack_ = slack;
    return pairs;
}

Result<Pair> Pairs::at(Time t, const std::atomic<bool>* cancel) {
    RUEDO_TRY(auto before, first_.at(t, cancel));
    // The part begins within a picture, perhaps.
    auto at = std::max(before.pts, from_);
    RUEDO_TRY(now_, second_.at(at - from_ + slack_, cancel));
    coming_.reset(), ended_ = false;
    return Pair{at, std::move(before), *now_};
}

Result<std::optional<Pair>> Pairs::next() {
    RUEDO_TRY(auto before, first_.next());
    if (!before) return std::nullopt;
    auto at = before->pts;
    RUEDO_TRY(auto shown, after(at - from_ + slack_));
    return Pair{at, std::move(*before), std::move(shown)};
}

/// What the second shows at a time that only grows.
Result<Frame> Pairs::after(Time t) {
    for (;;) {
        if (!coming_ && !ended_) {
            RUEDO_TRY(coming_, second_.next());
            ended_ = !coming_;
        }
        if (now_ && (!coming_ || coming_->pts > t)) return *now_;
        if (!coming_)
            return fail(ErrorCode::truncated, "The second clip has no picture that can be read.",
                        "Choose another one to compare with.");
        now_ = std::exchange(coming_, std::nullopt);
    }
}

}  // namespace ruedo
