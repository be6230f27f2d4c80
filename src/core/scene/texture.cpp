// SPDX-License-Identifier: Apache-2.0
#include "scene/texture.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#ifdef __SSE2__
#include <emmintrin.h>
#endif

namespace ruedo::scene {
namespace {
constexpr int most_places = 16;  // of one pixel along an axis
/// Weights between neighbouring texels have seven bits.
constexpr int weight_bits = 7, weight_one = 1 << weight_bits;
}  // namespace

void Levels::take(const Texture& t) {
    texture_ = t;
    made_ = 0;
    levels_[0] = {t.pixels, t.width, t.height, t.stride};
    if (t.width > 1 && t.height > 1) return;
    // Neighbours are looked up in pairs.
    int w = std::max(2, t.width), h = std::max(2, t.height);
    pixels_[0].resize(static_cast<std::size_t>(w) * static_cast<std::size_t>(h) * 4);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x)
            std::memcpy(&pixels_[0][static_cast<std::size_t>(y * w + x) * 4],
                        t.pixels + static_cast<std::ptrdiff_t>(std::min(y, t.height - 1)) * t.stride +
                            static_cast<std::ptrdiff_t>(std::min(x, t.width - 1)) * 4,
                        4);
    levels_[0] = {pixels_[0].data(), w, h, w * 4};
}

bool Levels::halve_to(int l) {
    auto& from = levels_[static_cast<std::size_t>(l - 1)];
    if (from.width < 4 || from.height < 4) return false;
    auto& to = levels_[static_cast<std::size_t>(l)];
    int w = (from.width + 1) / 2, h = (from.height + 1) / 2;
    auto& store = pixels_[static_cast<std::size_t>(l)];
    store.resize(static_cast<std::size_t>(w) * static_cast<std::size_t>(h) * 4);
    to = {store.data(), w, h, w * 4};
    return true;
}

void Levels::halve(int l, int first, int last) {
    auto& from = levels_[static_cast<std::size_t>(l - 1)];
    auto& to = levels_[static_cast<std::size_t>(l)];
    for (int y = first; y < last; ++y) {
        auto* a = from.pixels + static_cast<std::ptrdiff_t>(2 * y) * from.stride;
        // An odd last row or column counts twice.
        auto* b = 2 * y + 1 < from.height ? a + from.stride : a;
        auto* out = pixels_[static_cast<std::size_t>(l)].data() + static_cast<std::ptrdiff_t>(y) * to.stride;
        int x = 0;
#ifdef __SSE2__
        const auto zero = _mm_setzero_si128(), two = _mm_set1_epi16(2);
        for (; 2 * x + 8 <= from.width; x += 4) {
            auto sums = [&](int at) {
                auto up = _mm_loadu_si128(reinterpret_cast<const __m128i*>(a + 8 * x + at));
                auto low = _mm_loadu_si128(reinterpret_cast<const __m128i*>(b + 8 * x + at));
                auto left = _mm_add_epi16(_mm_unpacklo_epi8(up, zero), _mm_unpacklo_epi8(low, zero));
                auto right = _mm_add_epi16(_mm_unpackhi_epi8(up, zero), _mm_unpackhi_epi8(low, zero));
                // Each holds two texels: their neighbours are added.
                auto firsts = _mm_unpacklo_epi64(left, right), seconds = _mm_unpackhi_epi64(left, right);
                return _mm_srli_epi16(_mm_add_epi16(_mm_add_epi16(firsts, seconds), two), 2);
            };
            _mm_storeu_si128(reinterpret_cast<__m128i*>(out + 4 * x), _mm_packus_epi16(sums(0), sums(16)));
        }
#endif
        for (; x < to.width; ++x) {
            int next = 2 * x + 1 < from.width ? 4 : 0;
            for (int c = 0; c < 4; ++c)
                out[4 * x + c] = static_cast<std::uint8_t>(
                    (a[8 * x + c] + a[8 * x + next + c] + b[8 * x + c] + b[8 * x + next + c] + 2) / 4);
        }
    }
}

Mapping::Steps Mapping::steps_at(double x, double y) const {
    auto w = w0 + wx * x + wy * y, s = (x0 + xx * x + xy * y) / w, t = (y0 + yx * x + yy * y) / w;
    return {std::hypot(xx - s * wx, yx - t * wx) / std::abs(w), std::hypot(xy - s * wy, yy - t * wy) / std::abs(w)};
}
int level_for(const Mapping::Steps& steps) {
    // So far that a pixel still covers two texels of the smaller step, or what the larger needs is few enough: means of
    // fewer would be softer than what is seen.
    auto fewest = std::max(std::min(steps.right, steps.down), std::max(steps.right, steps.down) / most_places) / 2;
    if (!(fewest > 1)) return 0;
    return std::min(Levels::most, std::ilogb(std::min(fewest, 1e6)));
}

namespace {
/// Pixels `first` to `last` of a run from `x`, each `wide` x `high`, the run in all `whole` of them.
void sample(const Levels& levels, const Mapping& m, double x, double y, double wide, double high, int whole, int first,
            int last, std::uint32_t* out) {
    auto steps = m.steps_at(x + wide * whole / 2, y + high / 2);
    steps.right *= wide, steps.down *= high;
    int l = std::min(level_for(steps), levels.made());
    auto& level = levels.level(l);
    auto shrink = 1.0 / (1 << l);
    auto places = [&](double step) {
        return std::clamp(static_cast<int>(std::ceil(std::min(step, 1e6) * shrink - 0.1)), 1, most_places);
    };
    int across = places(steps.right), down = places(steps.down);
    bool blocky = levels.texture().blocky && l == 0;
    // A texel's own place is its middle.
    const float scale_x = static_cast<float>(shrink * weight_one), scale_y = scale_x;
    const float off = weight_one / 2.0F;
    const int last_x = (level.width - 1) * weight_one - 1, last_y = (level.height - 1) * weight_one - 1;
#ifdef __SSE2__
    __m128i sum[run_length];
    for (auto& s : sum) s = _mm_setzero_si128();
    const auto zero = _mm_setzero_si128();
#else
    std::array<std::array<std::uint32_t, 4>, run_length> sum{};
#endif
    alignas(16) std::array<std::int32_t, run_length> xs, ys;
    for (int j = 0; j < down; ++j)
        for (int i = 0; i < across; ++i) {
            auto px = x + wide * (i + 0.5) / across, py = y + high * (j + 0.5) / down;
            auto sx = static_cast<float>(m.x0 + m.xx * px + m.xy * py),
                 sy = static_cast<float>(m.y0 + m.yx * px + m.yy * py);
            auto sw = static_cast<float>(m.w0 + m.wx * px + m.wy * py);
            auto dx = static_cast<float>(m.xx), dy = static_cast<float>(m.yx), dw = static_cast<float>(m.wx);
            for (int k = 0; k < run_length; ++k) {
                auto f = static_cast<float>(k), inverse = 1 / (sw + f * dw);
                xs[static_cast<std::size_t>(k)] =
                    static_cast<std::int32_t>(std::max(-1e6F, std::min((sx + f * dx) * inverse * scale_x - off, 1e8F)));
                ys[static_cast<std::size_t>(k)] =
                    static_cast<std::int32_t>(std::max(-1e6F, std::min((sy + f * dy) * inverse * scale_y - off, 1e8F)));
            }
            for (int k = first; k < last; ++k) {
                int u = xs[static_cast<std::size_t>(k)], v = ys[static_cast<std::size_t>(k)];
                if (blocky) u = (u + weight_one / 2) & ~(weight_one - 1), v = (v + weight_one / 2) & ~(weight_one - 1);
                u = std::clamp(u, 0, last_x), v = std::clamp(v, 0, last_y);
                auto* at = level.pixels + static_cast<std::ptrdiff_t>(v >> weight_bits) * level.stride +
                           static_cast<std::ptrdiff_t>(u >> weight_bits) * 4;
                int right = u & (weight_one - 1), low = v & (weight_one - 1);
#ifdef __SSE2__
                auto upper = _mm_unpacklo_epi8(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(at)), zero);
                auto lower =
                    _mm_unpacklo_epi8(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(at + level.stride)), zero);
                auto column =
                    _mm_add_epi16(_mm_mullo_epi16(upper, _mm_set1_epi16(static_cast<short>(weight_one - low))),
                                  _mm_mullo_epi16(lower, _mm_set1_epi16(static_cast<short>(low))));
                auto pairs = _mm_unpacklo_epi16(column, _mm_srli_si128(column, 8));
                auto weights = _mm_set1_epi32((right << 16) | (weight_one - right));
                auto& s = sum[k];
                s = _mm_add_epi32(s, _mm_madd_epi16(pairs, weights));
#else
                auto& s = sum[k];
                for (int c = 0; c < 4; ++c) {
                    int a = at[c] * (weight_one - low) + at[level.stride + c] * low;
                    int b = at[4 + c] * (weight_one - low) + at[level.stride + 4 + c] * low;
                    s[static_cast<std::size_t>(c)] += static_cast<std::uint32_t>(a * (weight_one - right) + b * right);
                }
#endif
            }
        }
    const float share = 1.0F / static_cast<float>(weight_one * weight_one * across * down);
    for (int k = first; k < last; ++k) {
#ifdef __SSE2__
        auto mean = _mm_cvtps_epi32(_mm_mul_ps(_mm_cvtepi32_ps(sum[static_cast<std::size_t>(k)]), _mm_set1_ps(share)));
        auto words = _mm_packs_epi32(mean, mean);
        *out++ = static_cast<std::uint32_t>(_mm_cvtsi128_si32(_mm_packus_epi16(words, words)));
#else
        std::uint32_t pixel = 0;
        for (int c = 3; c >= 0; --c)
            pixel = pixel << 8 |
                    static_cast<std::uint32_t>(std::lround(
                        static_cast<float>(sum[static_cast<std::size_t>(k)][static_cast<std::size_t>(c)]) * share));
        *out++ = pixel;
#endif
    }
}
}  // namespace

void sample_run(const Levels& levels, const Mapping& mapping, int x, int y, int count, std::uint32_t* out) {
    int begin = x & ~(run_length - 1);
    sample(levels, mapping, begin, y, 1, 1, run_length, x - begin, x - begin + count, out);
}
std::uint32_t sample_part(const Levels& levels, const Mapping& mapping, const RectF& part) {
    std::uint32_t out = 0;
    sample(levels, mapping, part.x, part.y, part.width, part.height, 1, 0, 1, &out);
    return out;
}

}  // namespace ruedo::scene
