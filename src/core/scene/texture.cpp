// SPDX-License-Identifier: Apache-2.0
#include "scene/texture.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstring>
#ifdef __x86_64__
#include <immintrin.h>
#endif

namespace ruedo::scene {
namespace {
constexpr int most_places = 16;  // of one pixel along an axis
constexpr double apart = 1.6;    // texels from one place to the next, each of which is a mean of its neighbours
/// Weights between neighbouring texels have six bits: four bytes are then weighed at once.
constexpr int weight_bits = 6, weight_one = 1 << weight_bits;
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
#ifdef __x86_64__
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
    // fewer would look blurred.
    auto fewest = std::max(std::min(steps.right, steps.down), std::max(steps.right, steps.down) / most_places) / 2;
    if (!(fewest > 1)) return 0;
    return std::min(Levels::most, std::ilogb(std::min(fewest, 1e6)));
}

namespace {
/// What the places of a run have in common.
struct Places {
    Levels::Level level;
    Mapping mapping;
    double x, y, wide, high;  ///< Where the run begins; of each pixel.
    int across, down;         ///< Places in each.
    float scale;              ///< From texels of the whole picture to weights of the level's.
    bool blocky;
};
/// Means of all places in each pixel, times weight_one twice and the number of places, for pixels `first` to `last`.
using Sums = std::array<std::array<std::uint32_t, 4>, run_length>;

void sum_plainly(const Places& p, int first, int last, Sums& sums) {
    const int last_x = (p.level.width - 1) * weight_one - 1, last_y = (p.level.height - 1) * weight_one - 1;
    auto& m = p.mapping;
    for (int j = 0; j < p.down; ++j)
        for (int i = 0; i < p.across; ++i) {
            auto px = p.x + p.wide * (i + 0.5) / p.across, py = p.y + p.high * (j + 0.5) / p.down;
            auto sx = static_cast<float>(m.x0 + m.xx * px + m.xy * py),
                 sy = static_cast<float>(m.y0 + m.yx * px + m.yy * py),
                 sw = static_cast<float>(m.w0 + m.wx * px + m.wy * py);
            auto dx = static_cast<float>(m.xx), dy = static_cast<float>(m.yx), dw = static_cast<float>(m.wx);
            for (int k = first; k < last; ++k) {
                auto f = static_cast<float>(k), inverse = p.scale / (sw + f * dw);
                // A texel's own place is its middle.
                auto at = [&](float v, int most) {
                    auto whole = static_cast<int>(std::max(-1e6F, std::min(v - weight_one / 2.0F, 1e8F)));
                    if (p.blocky) whole = (whole + weight_one / 2) & ~(weight_one - 1);
                    return std::clamp(whole, 0, most);
                };
                int u = at((sx + f * dx) * inverse, last_x), v = at((sy + f * dy) * inverse, last_y);
                auto* t = p.level.pixels + static_cast<std::ptrdiff_t>(v >> weight_bits) * p.level.stride +
                          static_cast<std::ptrdiff_t>(u >> weight_bits) * 4;
                int right = u & (weight_one - 1), low = v & (weight_one - 1);
                for (std::size_t c = 0; c < 4; ++c) {
                    int upper = t[c] * (weight_one - right) + t[c + 4] * right;
                    int lower = t[c + static_cast<std::size_t>(p.level.stride)] * (weight_one - right) +
                                t[c + static_cast<std::size_t>(p.level.stride) + 4] * right;
                    sums[static_cast<std::size_t>(k)][c] +=
                        static_cast<std::uint32_t>(upper * (weight_one - low) + lower * low);
                }
            }
        }
}

#ifdef __x86_64__
#pragma GCC push_options
#pragma GCC target("avx2")
/// The same, for the eight pixels from `begin` on.
void sum_eight(const Places& p, int begin, Sums& sums) {
    auto& m = p.mapping;
    const auto last_x = _mm256_set1_epi32((p.level.width - 1) * weight_one - 1);
    const auto last_y = _mm256_set1_epi32((p.level.height - 1) * weight_one - 1);
    const auto zero = _mm256_setzero_si256(), one = _mm256_set1_epi32(weight_one);
    const auto fraction = _mm256_set1_epi32(weight_one - 1), stride = _mm256_set1_epi32(p.level.stride);
    const auto half = _mm256_set1_ps(weight_one / 2.0F), least = _mm256_set1_ps(-1e6F), most = _mm256_set1_ps(1e8F);
    const auto ks = _mm256_add_ps(_mm256_set1_ps(static_cast<float>(begin)), _mm256_setr_ps(0, 1, 2, 3, 4, 5, 6, 7));
    const auto dx = _mm256_set1_ps(static_cast<float>(m.xx)), dy = _mm256_set1_ps(static_cast<float>(m.yx)),
               dw = _mm256_set1_ps(static_cast<float>(m.wx)), scale = _mm256_set1_ps(p.scale);
    // Left and right side by side, byte for byte, of the upper texels and of the lower.
    const auto side_by_side = _mm_setr_epi8(0, 4, 1, 5, 2, 6, 3, 7, 8, 12, 9, 13, 10, 14, 11, 15);
    alignas(32) std::array<std::int32_t, 8> offsets, across, down;
    __m128i eight[8];
    for (auto& sum : eight) sum = _mm_setzero_si128();
    for (int j = 0; j < p.down; ++j)
        for (int i = 0; i < p.across; ++i) {
            auto px = p.x + p.wide * (i + 0.5) / p.across, py = p.y + p.high * (j + 0.5) / p.down;
            auto start = [&](double v0, double vx, double vy) {
                return _mm256_set1_ps(static_cast<float>(v0 + vx * px + vy * py));
            };
            auto w = _mm256_add_ps(start(m.w0, m.wx, m.wy), _mm256_mul_ps(ks, dw));
            auto inverse = _mm256_div_ps(scale, w);
            auto at = [&](__m256 from, __m256 by, __m256i end) {
                auto v = _mm256_sub_ps(_mm256_mul_ps(_mm256_add_ps(from, _mm256_mul_ps(ks, by)), inverse), half);
                // What is no number at all becomes the least.
                v = _mm256_max_ps(_mm256_min_ps(v, most), least);
                auto whole = _mm256_cvttps_epi32(v);
                if (p.blocky) whole = _mm256_andnot_si256(fraction, _mm256_add_epi32(whole, _mm256_srli_epi32(one, 1)));
                return _mm256_max_epi32(_mm256_min_epi32(whole, end), zero);
            };
            auto u = at(start(m.x0, m.xx, m.xy), dx, last_x), v = at(start(m.y0, m.yx, m.yy), dy, last_y);
            auto offset = _mm256_add_epi32(_mm256_mullo_epi32(_mm256_srli_epi32(v, weight_bits), stride),
                                           _mm256_slli_epi32(_mm256_srli_epi32(u, weight_bits), 2));
            u = _mm256_and_si256(u, fraction), v = _mm256_and_si256(v, fraction);
            auto keep = [](std::array<std::int32_t, 8>& to, __m256i from) {
                _mm256_store_si256(reinterpret_cast<__m256i*>(to.data()), from);
            };
            keep(offsets, offset);
            keep(across, _mm256_or_si256(_mm256_sub_epi32(one, u), _mm256_slli_epi32(u, 8)));
            keep(down, _mm256_or_si256(_mm256_sub_epi32(one, v), _mm256_slli_epi32(v, 16)));
            // One load after the other is faster than a gather.
            for (std::size_t k = 0; k < 8; ++k) {
                auto* at_k = p.level.pixels + offsets[k];
                auto both = _mm_loadl_epi64(reinterpret_cast<const __m128i*>(at_k));
                both =
                    _mm_unpacklo_epi64(both, _mm_loadl_epi64(reinterpret_cast<const __m128i*>(at_k + p.level.stride)));
                auto words = _mm_maddubs_epi16(_mm_shuffle_epi8(both, side_by_side),
                                               _mm_set1_epi16(static_cast<short>(across[k])));
                auto pairs = _mm_unpacklo_epi16(words, _mm_srli_si128(words, 8));
                eight[k] = _mm_add_epi32(eight[k], _mm_madd_epi16(pairs, _mm_set1_epi32(down[k])));
            }
        }
    for (std::size_t k = 0; k < 8; ++k)
        _mm_storeu_si128(reinterpret_cast<__m128i*>(sums[static_cast<std::size_t>(begin) + k].data()), eight[k]);
}
#pragma GCC pop_options
#endif

std::atomic<bool> wide_registers = true;

/// Pixels `first` to `last` of a run from `x`, each `wide` x `high`, the run in all `whole` of them.
void sample(const Levels& levels, const Mapping& m, double x, double y, double wide, double high, int whole, int first,
            int last, std::uint32_t* out) {
    auto steps = m.steps_at(x + wide * whole / 2, y + high / 2);
    steps.right *= wide, steps.down *= high;
    int l = std::min(level_for(steps), levels.made());
    auto shrink = 1.0 / (1 << l);
    auto places = [&](double step) {
        return std::clamp(static_cast<int>(std::ceil(std::min(step, 1e6) * shrink / apart)), 1, most_places);
    };
    Places p{levels.level(l),
             m,
             x,
             y,
             wide,
             high,
             places(steps.right),
             places(steps.down),
             static_cast<float>(shrink * weight_one),
             levels.texture().blocky && l == 0};
    Sums sums;
#ifdef __x86_64__
    static const bool has_them = __builtin_cpu_supports("avx2");
    if (has_them && wide_registers && last - first > 1) {
        if (first < 8) sum_eight(p, 0, sums);
        if (last > 8) sum_eight(p, 8, sums);
    } else
#endif
    {
        sums = {};
        sum_plainly(p, first, last, sums);
    }
    const auto n = static_cast<std::uint32_t>(p.across * p.down * weight_one * weight_one);
    const float share = 1.0F / static_cast<float>(n);
    for (int k = first; k < last; ++k) {
        auto& s = sums[static_cast<std::size_t>(k)];
#ifdef __x86_64__
        auto mean = _mm_mul_ps(_mm_cvtepi32_ps(_mm_loadu_si128(reinterpret_cast<const __m128i*>(s.data()))),
                               _mm_set1_ps(share));
        auto words = _mm_cvttps_epi32(_mm_add_ps(mean, _mm_set1_ps(0.5F)));
        words = _mm_packs_epi32(words, words);
        *out++ = static_cast<std::uint32_t>(_mm_cvtsi128_si32(_mm_packus_epi16(words, words)));
#else
        std::uint32_t pixel = 0;
        for (std::size_t c = 4; c-- > 0;)
            pixel = pixel << 8 | static_cast<std::uint32_t>(static_cast<float>(s[c]) * share + 0.5F);
        *out++ = pixel;
#endif
    }
}
}  // namespace

void use_wide_registers(bool use) { wide_registers = use; }

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
