// SPDX-License-Identifier: Apache-2.0
#include "convert/compare.h"

#include <fmt/format.h>

#include <algorithm>

#include "codec/ahead.h"
#include "container/container.h"
#include "picture/quality.h"
#include "picture/reshape.h"

namespace ruedo {
namespace {

Result<std::unique_ptr<PictureReader>> pictures_of(const std::string& source, CodecRegistry& codecs) {
    ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
    TRY(auto opened, open_clip(source));
    std::shared_ptr<Clip> clip(std::move(opened));
    for (auto& t : clip->info().tracks)
        if (t.kind == Kind::video) {
            if (t.problem) return std::unexpected(*t.problem);
            return PictureReader::open(clip, t, codecs);
        }
    return fail(Code::not_media, fmt::format("“{}” has no pictures to compare.", clip->info().name),
                "Choose a clip with pictures.");
}

/// Upright, with square pixels, as large as it is shown.
Reshape as_shown(const Picture& p, int width, int height) {
    Reshape r;
    r.width = p.width, r.height = p.height;
    r.turn = p.rotation;
    bool aside = p.rotation % 180 != 0;
    r.to_width = aside ? height : width, r.to_height = aside ? width : height;
    r.canvas_width = width, r.canvas_height = height;
    // Compared are the numbers that mean the same light.
    r.colour = p.colour.resolved(p.height);
    return r;
}

/// Pictures of one track in order, and the one shown at a time that only grows.
class Shown {
  public:
    explicit Shown(std::unique_ptr<PictureReader> reader) : ahead_(std::move(reader)) {}
    Result<std::optional<Picture>> next() { return ahead_.next(); }
    Result<std::optional<Picture>> at(Time t) {
        for (;;) {
            if (!coming_ && !ended_) {
                TRY(coming_, ahead_.next());
                ended_ = !coming_;
            }
            if (now_ && (!coming_ || coming_->pts > t)) return now_;
            if (!coming_) return now_;
            now_ = std::exchange(coming_, std::nullopt);
        }
    }

  private:
    PicturesAhead ahead_;
    std::optional<Picture> now_, coming_;
    bool ended_ = false;
};
}  // namespace

std::vector<Comparison::Place> Comparison::worst(std::size_t count) const {
    auto list = places;
    count = std::min(count, list.size());
    std::partial_sort(list.begin(), list.begin() + static_cast<std::ptrdiff_t>(count), list.end(),
                      [](auto& a, auto& b) { return std::pair(a.ssim_y, a.at) < std::pair(b.ssim_y, b.at); });
    list.resize(count);
    return list;
}

Result<Comparison> compare(const std::string& a, const std::string& b, CodecRegistry& codecs,
                           const CompareOptions& options) {
    TRY(auto first, pictures_of(a, codecs));
    TRY(auto second, pictures_of(b, codecs));
    Comparison c;
    // Containers round times, each to its own ticks; what differs by that much is meant to be seen at the same time.
    auto half_tick = [](const PictureReader& r) {
        auto& tick = r.track().tick;
        return tick.stated() ? std::min(1_ms, ticks_to_time(1, static_cast<std::uint64_t>(tick.num),
                                                            static_cast<std::uint64_t>(tick.den)) /
                                                      2 +
                                                  1_ns)
                             : Time{};
    };
    auto slack = half_tick(*first) + half_tick(*second);
    Reshaper shape_a, shape_b;
    Similarity similarity;
    double errors = 0, similarities = 0;
    auto stopped = [&] { return options.cancel && *options.cancel; };
    auto take = [&](const Picture& pa, const Picture& pb) -> Outcome {
        VideoFormat f{pa.width, pa.height, pa.pixel_aspect, pa.rotation, pa.colour};
        int width = f.display_width(), height = f.display_height();
        TRY(auto shown_a, shape_a.make(pa, as_shown(pa, width, height)));
        auto wanted = as_shown(pb, width, height);
        // The second one in the first one's numbers.
        wanted.colour = shown_a.colour.resolved(shown_a.height);
        TRY(auto shown_b, shape_b.make(pb, wanted));
        auto la = luma(shown_a), lb = luma(shown_b);
        Comparison::Place place{pa.pts, 1, 0};
        if (auto error = squared_error(la, lb)) {
            place.mean_squared_error = static_cast<double>(error) / la.width / la.height;
            place.ssim_y = similarity.of(la, lb);
        }
        errors += place.mean_squared_error, similarities += place.ssim_y;
        ++c.frames;
        c.places.push_back(place);
        if (stopped() || (options.told && !options.told(place)))
            return fail(Code::cancelled, "Comparing was interrupted.", "Run it again.");
        return {};
    };
    if (!options.at.empty()) {
        for (auto t : options.at) {
            TRY(auto pa, first->at(t, options.cancel));
            TRY(auto pb, second->at(pa.pts + slack, options.cancel));
            TRY_DO(take(pa, pb));
        }
    } else {
        std::optional<Picture> begun;
        if (options.from.ns > 0) {
            TRY(begun, first->at(options.from, options.cancel));
            begun->pts = std::max(begun->pts, options.from);
        }
        Shown all_a(std::move(first)), all_b(std::move(second));
        for (;;) {
            auto pa = std::exchange(begun, std::nullopt);
            if (!pa) {
                TRY(pa, all_a.next());
            }
            if (!pa || pa->pts >= options.to) break;
            TRY(auto pb, all_b.at(pa->pts - options.from + slack));
            if (!pb)
                return fail(Code::truncated, "The second clip has no picture that can be read.",
                            "Choose another one to compare with.");
            TRY_DO(take(*pa, *pb));
        }
    }
    if (c.frames == 0)
        return fail(Code::truncated, "The first clip has no picture that can be read.", "Choose another one.");
    auto n = static_cast<double>(c.frames);
    c.psnr_y = psnr(errors / n);
    c.ssim_y = similarities / n;
    c.identical = errors == 0;
    return c;
}

}  // namespace ruedo
