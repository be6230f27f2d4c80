// SPDX-License-Identifier: Apache-2.0
#include "convert/compare.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "convert/pairs.h"
#include "picture/quality.h"
#include "picture/reshape.h"

namespace ruedo {
namespace {

/// Upright, with square pixels, as large as it is shown.
Reshape as_shown(const Frame& p, int width, int height) {
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

/// Which of the nine parts of a frame differs most, where one clearly does.
std::optional<int> least_alike_part(const Plane& a, const Plane& b) {
    std::array<double, 9> errors{};
    double all = 0;
    auto cut = [](int size, int third) { return size * third / 3; };
    auto view = [&](const Plane& p, int left, int top, int right, int bottom) {
        return Plane{p.data + static_cast<std::ptrdiff_t>(top) * p.stride + left, right - left, bottom - top, p.stride};
    };
    if (a.width < 3 || a.height < 3) return std::nullopt;
    for (int i = 0; i < 9; ++i) {
        int left = cut(a.width, i % 3), right = cut(a.width, i % 3 + 1);
        int top = cut(a.height, i / 3), bottom = cut(a.height, i / 3 + 1);
        auto error = squared_error(view(a, left, top, right, bottom), view(b, left, top, right, bottom));
        errors[static_cast<std::size_t>(i)] = static_cast<double>(error) / (right - left) / (bottom - top);
        all += errors[static_cast<std::size_t>(i)] / 9;
    }
    auto most = std::max_element(errors.begin(), errors.end());
    if (*most < 1.6 * all) return std::nullopt;
    return static_cast<int>(most - errors.begin());
}
}  // namespace

std::string_view part_in_words(int part) {
    static constexpr std::array<std::string_view, 9> words{"at the upper left", "at the top",    "at the upper right",
                                                           "at the left",       "in the middle", "at the right",
                                                           "at the lower left", "at the bottom", "at the lower right"};
    return words.at(static_cast<std::size_t>(part));
}

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
    RUEDO_TRY(auto pairs, Pairs::open(a, b, codecs, options.from));
    Comparison c;
    Reshaper shape_a, shape_b;
    Similarity similarity;
    double errors = 0, similarities = 0, least = 1;
    auto stopped = [&] { return options.cancel && *options.cancel; };
    auto take = [&](const Pair& pair) -> Status {
        auto& [at, pa, pb] = pair;
        VideoFormat f{pa.width, pa.height, pa.pixel_aspect, pa.rotation, pa.colour};
        int width = f.display_width(), height = f.display_height();
        RUEDO_TRY(auto shown_a, shape_a.make(pa, as_shown(pa, width, height)));
        auto wanted = as_shown(pb, width, height);
        // The second one in the first one's numbers.
        wanted.colour = shown_a.colour.resolved(shown_a.height);
        RUEDO_TRY(auto shown_b, shape_b.make(pb, wanted));
        auto la = luma(shown_a), lb = luma(shown_b);
        Comparison::Place place{at, 1, 0};
        if (auto error = squared_error(la, lb)) {
            place.mean_squared_error = static_cast<double>(error) / la.width / la.height;
            place.ssim_y = similarity.of(la, lb);
            if (place.ssim_y < least) least = place.ssim_y, place.part = least_alike_part(la, lb);
        }
        errors += place.mean_squared_error, similarities += place.ssim_y;
        ++c.frames;
        c.places.push_back(place);
        if (stopped() || (options.told && !options.told(place)))
            return fail(ErrorCode::cancelled, "Comparing was interrupted.", "Run it again.");
        return {};
    };
    if (!options.at.empty()) {
        for (auto t : options.at) {
            RUEDO_TRY(auto pair, pairs->at(t, options.cancel));
            RUEDO_TRY_DO(take(pair));
        }
    } else {
        std::optional<Pair> pair;
        if (options.from.ns > 0) {
            RUEDO_TRY(pair, pairs->at(options.from, options.cancel));
        } else {
            RUEDO_TRY(pair, pairs->next());
        }
        while (pair && pair->at < options.to) {
            RUEDO_TRY_DO(take(*pair));
            RUEDO_TRY(pair, pairs->next());
        }
    }
    if (c.frames == 0)
        return fail(ErrorCode::truncated, "The first clip has no picture that can be read.", "Choose another one.");
    auto n = static_cast<double>(c.frames);
    c.psnr_y = psnr(errors / n);
    c.ssim_y = similarities / n;
    c.identical = errors == 0;
    return c;
}

}  // namespace ruedo
