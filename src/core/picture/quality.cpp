// SPDX-License-Identifier: Apache-2.0
#include "picture/quality.h"

#include <algorithm>
#include <cmath>

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace ruedo {
namespace {
constexpr int most_taps = 11;

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
#define BEST(plain, wide) (fours ? wide : plain)
#else
#define BEST(plain, wide) plain
#endif

/// Four weighted sums along a row, at each place where all taps lie inside: of a, of b, of a*a + b*b, and of a*b.
void along(const std::uint8_t* a, const std::uint8_t* b, int width, int taps, const double* w, double* scratch,
           double* out) {
    double *pa = scratch, *pb = pa + width, *squares = pb + width, *products = squares + width;
    for (int x = 0; x < width; ++x) {
        int u = a[x], v = b[x];
        pa[x] = u, pb[x] = v, squares[x] = u * u + v * v, products[x] = u * v;
    }
    int places = width - taps + 1;
    for (int k = 0; k < 4; ++k) {
        std::array<const double*, most_taps> from{};
        for (int i = 0; i < taps; ++i) from[static_cast<std::size_t>(i)] = scratch + k * width + i;
        BEST(weigh, weigh_fours)(from.data(), w, taps, places, out + k * places);
    }
}

/// The same down a column over `taps` such rows, and the similarity of each place; their sum.
double down(const double* const* rows, int places, int taps, const double* w, double* sums) {
    BEST(weigh, weigh_fours)(rows, w, taps, 4 * places, sums);
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
    auto row = static_cast<std::size_t>(4 * places);
    rows_.resize(row * static_cast<std::size_t>(deep) + 4 * static_cast<std::size_t>(a.width));
    sums_.resize(row);
    double* scratch = rows_.data() + row * static_cast<std::size_t>(deep);
    // Rows of sums go round, as many as a window is high.
    auto row_at = [&](int y) { return rows_.data() + row * static_cast<std::size_t>(y % deep); };
    double total = 0;
    for (int y = 0; y < a.height; ++y) {
        auto at = static_cast<std::ptrdiff_t>(y);
        along(a.data + at * a.stride, b.data + at * b.stride, a.width, across, wx.data(), scratch, row_at(y));
        if (y < deep - 1) continue;
        std::array<const double*, most_taps> window{};
        for (int i = 0; i < deep; ++i) window[static_cast<std::size_t>(i)] = row_at(y - deep + 1 + i);
        total += down(window.data(), places, deep, wy.data(), sums_.data());
    }
    return total / (static_cast<double>(places) * lines);
}

}  // namespace ruedo
