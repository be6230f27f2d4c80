// SPDX-License-Identifier: Apache-2.0
#include "picture/quality.h"

#include <algorithm>
#include <cmath>

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace ruedo {
namespace {
constexpr int most_taps = 11, strip = 240;

/// A Gaussian of deviation 1.5, its sum 1.
std::array<double, most_taps> gaussian(int taps) {
    std::array<double, most_taps> w{};
    double sum = 0;
    for (int i = 0; i < taps; ++i) {
        double d = i - (taps - 1) / 2.0;
        sum += w[static_cast<std::size_t>(i)] = std::exp(-d * d / (2 * 1.5 * 1.5));
    }
    for (auto& v : w) v /= sum;
    return w;
}

/// A row of a, of b, of a*a + b*b and of a*b, one behind the other.
void products(const std::uint8_t* a, const std::uint8_t* b, int width, double* out) {
    for (int x = 0; x < width; ++x) {
        int u = a[x], v = b[x];
        out[x] = u, out[x + width] = v, out[x + 2 * width] = u * u + v * v, out[x + 3 * width] = u * v;
    }
}
/// One sum for each of `count` places beside each other: of what stands there in each of `taps` rows, with weights.
void weigh(const double* const* from, const double* w, int taps, int count, double* out) {
    for (int x = 0; x < count; ++x) out[x] = from[0][x] * w[0];
    for (int i = 1; i < taps; ++i)
        for (int x = 0; x < count; ++x) out[x] += from[i][x] * w[i];
}
constexpr double c1 = (0.01 * 255) * (0.01 * 255), c2 = (0.03 * 255) * (0.03 * 255);
double similarity(const double* ma, const double* mb, const double* ss, const double* sp, int from, int places) {
    double total = 0;
    for (int x = from; x < places; ++x) {
        double both = ma[x] * mb[x], squares = ma[x] * ma[x] + mb[x] * mb[x];
        total += (2 * both + c1) * (2 * (sp[x] - both) + c2) / ((squares + c1) * (ss[x] - squares + c2));
    }
    return total;
}

#if defined(__x86_64__)
// The same four places at a time, where the processor can.
#define FOURS __attribute__((target("avx2,fma")))
FOURS inline __m256i eight(const std::uint8_t* from) {
    return _mm256_cvtepu8_epi32(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(from)));
}
FOURS inline void put(double* to, __m256i eights) {
    _mm256_storeu_pd(to, _mm256_cvtepi32_pd(_mm256_castsi256_si128(eights)));
    _mm256_storeu_pd(to + 4, _mm256_cvtepi32_pd(_mm256_extracti128_si256(eights, 1)));
}
FOURS void products_fours(const std::uint8_t* a, const std::uint8_t* b, int width, double* out) {
    int x = 0;
    for (; x + 8 <= width; x += 8) {
        auto u = eight(a + x), v = eight(b + x);
        put(out + x, u), put(out + x + width, v);
        put(out + x + 2 * width, _mm256_add_epi32(_mm256_mullo_epi32(u, u), _mm256_mullo_epi32(v, v)));
        put(out + x + 3 * width, _mm256_mullo_epi32(u, v));
    }
    for (; x < width; ++x) {
        int u = a[x], v = b[x];
        out[x] = u, out[x + width] = v, out[x + 2 * width] = u * u + v * v, out[x + 3 * width] = u * v;
    }
}
FOURS void weigh_fours(const double* const* from, const double* w, int taps, int count, double* out) {
    int x = 0;
    for (; x + 16 <= count; x += 16) {
        auto weight = _mm256_broadcast_sd(w);
        auto a = _mm256_mul_pd(_mm256_loadu_pd(from[0] + x), weight),
             b = _mm256_mul_pd(_mm256_loadu_pd(from[0] + x + 4), weight),
             c = _mm256_mul_pd(_mm256_loadu_pd(from[0] + x + 8), weight),
             d = _mm256_mul_pd(_mm256_loadu_pd(from[0] + x + 12), weight);
        for (int i = 1; i < taps; ++i) {
            const double* row = from[i] + x;
            weight = _mm256_broadcast_sd(w + i);
            a = _mm256_fmadd_pd(_mm256_loadu_pd(row), weight, a);
            b = _mm256_fmadd_pd(_mm256_loadu_pd(row + 4), weight, b);
            c = _mm256_fmadd_pd(_mm256_loadu_pd(row + 8), weight, c);
            d = _mm256_fmadd_pd(_mm256_loadu_pd(row + 12), weight, d);
        }
        _mm256_storeu_pd(out + x, a), _mm256_storeu_pd(out + x + 4, b);
        _mm256_storeu_pd(out + x + 8, c), _mm256_storeu_pd(out + x + 12, d);
    }
    if (x == count) return;
    std::array<const double*, most_taps> rest{};
    for (int i = 0; i < taps; ++i) rest[static_cast<std::size_t>(i)] = from[i] + x;
    weigh(rest.data(), w, taps, count - x, out + x);
}
__attribute__((target("avx512f"))) void weigh_eights(const double* const* from, const double* w, int taps, int count,
                                                     double* out) {
    int x = 0;
    for (; x + 32 <= count; x += 32) {
        auto weight = _mm512_set1_pd(w[0]);
        auto a = _mm512_mul_pd(_mm512_loadu_pd(from[0] + x), weight),
             b = _mm512_mul_pd(_mm512_loadu_pd(from[0] + x + 8), weight),
             c = _mm512_mul_pd(_mm512_loadu_pd(from[0] + x + 16), weight),
             d = _mm512_mul_pd(_mm512_loadu_pd(from[0] + x + 24), weight);
        for (int i = 1; i < taps; ++i) {
            const double* row = from[i] + x;
            weight = _mm512_set1_pd(w[i]);
            a = _mm512_fmadd_pd(_mm512_loadu_pd(row), weight, a);
            b = _mm512_fmadd_pd(_mm512_loadu_pd(row + 8), weight, b);
            c = _mm512_fmadd_pd(_mm512_loadu_pd(row + 16), weight, c);
            d = _mm512_fmadd_pd(_mm512_loadu_pd(row + 24), weight, d);
        }
        _mm512_storeu_pd(out + x, a), _mm512_storeu_pd(out + x + 8, b);
        _mm512_storeu_pd(out + x + 16, c), _mm512_storeu_pd(out + x + 24, d);
    }
    if (x == count) return;
    std::array<const double*, most_taps> rest{};
    for (int i = 0; i < taps; ++i) rest[static_cast<std::size_t>(i)] = from[i] + x;
    weigh_fours(rest.data(), w, taps, count - x, out + x);
}
FOURS double similarity_fours(const double* ma, const double* mb, const double* ss, const double* sp, int places) {
    const auto k1 = _mm256_set1_pd(c1), k2 = _mm256_set1_pd(c2), two = _mm256_set1_pd(2);
    auto sums = _mm256_setzero_pd();
    int x = 0;
    for (; x + 4 <= places; x += 4) {
        auto u = _mm256_loadu_pd(ma + x), v = _mm256_loadu_pd(mb + x), both = _mm256_mul_pd(u, v),
             squares = _mm256_fmadd_pd(u, u, _mm256_mul_pd(v, v));
        auto over = _mm256_mul_pd(_mm256_fmadd_pd(two, both, k1),
                                  _mm256_fmadd_pd(two, _mm256_sub_pd(_mm256_loadu_pd(sp + x), both), k2));
        auto under = _mm256_mul_pd(_mm256_add_pd(squares, k1),
                                   _mm256_add_pd(_mm256_sub_pd(_mm256_loadu_pd(ss + x), squares), k2));
        sums = _mm256_add_pd(sums, _mm256_div_pd(over, under));
    }
    std::array<double, 4> each{};
    _mm256_storeu_pd(each.data(), sums);
    return each[0] + each[1] + each[2] + each[3] + similarity(ma, mb, ss, sp, x, places);
}
const bool fours = __builtin_cpu_supports("avx2") && __builtin_cpu_supports("fma");
const bool eights = fours && __builtin_cpu_supports("avx512f");
const auto best_weigh = eights ? weigh_eights : fours ? weigh_fours : weigh;
const auto best_products = fours ? products_fours : products;
#else
const auto best_weigh = weigh;
const auto best_products = products;
#endif

/// Four weighted sums along a row, at each place where all taps lie inside: of a, of b, of a*a + b*b, and of a*b.
void along(const std::uint8_t* a, const std::uint8_t* b, int width, int taps, const double* w, double* scratch,
           double* out) {
    best_products(a, b, width, scratch);
    int places = width - taps + 1;
    for (int k = 0; k < 4; ++k) {
        std::array<const double*, most_taps> from{};
        for (int i = 0; i < taps; ++i) from[static_cast<std::size_t>(i)] = scratch + k * width + i;
        best_weigh(from.data(), w, taps, places, out + k * places);
    }
}

/// The same down a column over `taps` such rows, and the similarity of each place; their sum.
double down(const double* const* rows, int places, int taps, const double* w, double* sums) {
    best_weigh(rows, w, taps, 4 * places, sums);
    const double *ma = sums, *mb = ma + places, *ss = mb + places, *sp = ss + places;
#if defined(__x86_64__)
    if (fours) return similarity_fours(ma, mb, ss, sp, places);
#endif
    return similarity(ma, mb, ss, sp, 0, places);
}

std::uint64_t row_error(const std::uint8_t* a, const std::uint8_t* b, int width) {
    std::uint64_t total = 0;
    for (int from = 0; from < width; from += 32768) {
        // So many squares fit into 32 bits.
        std::uint32_t part = 0;
        for (int x = from; x < std::min(width, from + 32768); ++x) {
            int d = a[x] - b[x];
            part += static_cast<std::uint32_t>(d * d);
        }
        total += part;
    }
    return total;
}
}  // namespace

std::uint64_t squared_error(const Plane& a, const Plane& b) {
    std::uint64_t total = 0;
    for (std::ptrdiff_t y = 0; y < a.height; ++y)
        total += row_error(a.data + y * a.stride, b.data + y * b.stride, a.width);
    return total;
}

double psnr(double mean_squared_error) {
    return mean_squared_error > 0 ? 10 * std::log10(255.0 * 255.0 / mean_squared_error) : INFINITY;
}

double Similarity::of(const Plane& a, const Plane& b) {
    int across = std::min(most_taps, a.width), deep = std::min(most_taps, a.height);
    if (across < 1 || deep < 1) return 1;
    auto wx = gaussian(across), wy = gaussian(deep);
    int places = a.width - across + 1, lines = a.height - deep + 1;
    double total = 0;
    // In strips, whose sums stay close to the processor.
    for (int from = 0; from < places; from += strip) {
        int wide = std::min(strip, places - from), width = wide + across - 1;
        auto row = static_cast<std::size_t>(4 * wide);
        rows_.resize(row * static_cast<std::size_t>(deep) + 4 * static_cast<std::size_t>(width));
        sums_.resize(row);
        double* scratch = rows_.data() + row * static_cast<std::size_t>(deep);
        // Rows of sums go round, as many as a window is high.
        auto row_at = [&](int y) { return rows_.data() + row * static_cast<std::size_t>(y % deep); };
        for (int y = 0; y < a.height; ++y) {
            auto at = static_cast<std::ptrdiff_t>(y);
            along(a.data + at * a.stride + from, b.data + at * b.stride + from, width, across, wx.data(), scratch,
                  row_at(y));
            if (y < deep - 1) continue;
            std::array<const double*, most_taps> window{};
            for (int i = 0; i < deep; ++i) window[static_cast<std::size_t>(i)] = row_at(y - deep + 1 + i);
            total += down(window.data(), wide, deep, wy.data(), sums_.data());
        }
    }
    return total / (static_cast<double>(places) * lines);
}

}  // namespace ruedo
