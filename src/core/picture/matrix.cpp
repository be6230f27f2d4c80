// SPDX-License-Identifier: Apache-2.0
#include "picture/matrix.h"

#include <algorithm>
#include <cmath>
#ifdef __SSE2__
#include <emmintrin.h>
#endif

namespace ruedo {
namespace {

// Five bits below the point: the largest factor, BT.2020's for blue, still fits, and so does every sum.
constexpr double scale = 32;
constexpr int shift = 5;

void row_to_bgra(const std::uint8_t* y, const std::uint8_t* u, const std::uint8_t* v, int width, const MatrixTerms& m,
                 std::uint8_t* out) {
    int x = 0;
#ifdef __SSE2__
    const auto zero = _mm_setzero_si128(), opaque = _mm_set1_epi8(-1), middle = _mm_set1_epi16(128);
    const auto luma = _mm_set1_epi16(m.luma), bias = _mm_set1_epi16(m.luma_bias);
    const auto red_v = _mm_set1_epi16(m.red_v), green_u = _mm_set1_epi16(m.green_u);
    const auto green_v = _mm_set1_epi16(m.green_v), blue_u = _mm_set1_epi16(m.blue_u);
    for (; x + 16 <= width; x += 16) {
        auto load8 = [&](const std::uint8_t* from) {
            auto bytes = _mm_loadl_epi64(reinterpret_cast<const __m128i*>(from + x / 2));
            return _mm_slli_epi16(_mm_sub_epi16(_mm_unpacklo_epi8(bytes, zero), middle), 8);
        };
        auto du = load8(u), dv = load8(v);
        auto r = _mm_mulhi_epi16(dv, red_v), b = _mm_mulhi_epi16(du, blue_u);
        auto g = _mm_add_epi16(_mm_mulhi_epi16(du, green_u), _mm_mulhi_epi16(dv, green_v));
        auto bytes = _mm_loadu_si128(reinterpret_cast<const __m128i*>(y + x));
        // Luma times 256, so that the high half of the product is the product.
        auto low = _mm_add_epi16(_mm_mulhi_epu16(_mm_unpacklo_epi8(zero, bytes), luma), bias);
        auto high = _mm_add_epi16(_mm_mulhi_epu16(_mm_unpackhi_epi8(zero, bytes), luma), bias);
        auto channel = [&](__m128i c) {
            auto first = _mm_srai_epi16(_mm_add_epi16(low, _mm_unpacklo_epi16(c, c)), shift);
            auto second = _mm_srai_epi16(_mm_add_epi16(high, _mm_unpackhi_epi16(c, c)), shift);
            return _mm_packus_epi16(first, second);
        };
        auto red = channel(r), green = channel(g), blue = channel(b);
        auto bg_low = _mm_unpacklo_epi8(blue, green), bg_high = _mm_unpackhi_epi8(blue, green);
        auto ra_low = _mm_unpacklo_epi8(red, opaque), ra_high = _mm_unpackhi_epi8(red, opaque);
        auto* to = reinterpret_cast<__m128i*>(out + 4 * x);
        _mm_storeu_si128(to, _mm_unpacklo_epi16(bg_low, ra_low));
        _mm_storeu_si128(to + 1, _mm_unpackhi_epi16(bg_low, ra_low));
        _mm_storeu_si128(to + 2, _mm_unpacklo_epi16(bg_high, ra_high));
        _mm_storeu_si128(to + 3, _mm_unpackhi_epi16(bg_high, ra_high));
    }
#endif
    for (; x < width; ++x) {
        int du = (u[x / 2] - 128) * 256, dv = (v[x / 2] - 128) * 256;
        int base = (y[x] * 256 * m.luma >> 16) + m.luma_bias;
        auto clip = [](int value) { return static_cast<std::uint8_t>(std::clamp(value >> shift, 0, 255)); };
        out[4 * x] = clip(base + (du * m.blue_u >> 16));
        out[4 * x + 1] = clip(base + (du * m.green_u >> 16) + (dv * m.green_v >> 16));
        out[4 * x + 2] = clip(base + (dv * m.red_v >> 16));
        out[4 * x + 3] = 255;
    }
}

}  // namespace

MatrixTerms MatrixTerms::of(const Colour& colour) {
    double kr = 0.299, kb = 0.114;
    if (colour.matrix == Colour::Matrix::bt709) kr = 0.2126, kb = 0.0722;
    if (colour.matrix == Colour::Matrix::bt2020) kr = 0.2627, kb = 0.0593;
    double kg = 1 - kr - kb;
    bool full = colour.range == Colour::Range::full;
    double luma = full ? 1 : 255.0 / 219, chroma = full ? 1 : 255.0 / 224;
    auto term = [](double factor) { return static_cast<std::int16_t>(std::lround(factor * scale * 256)); };
    MatrixTerms m;
    m.luma = term(luma);
    // Half a step for rounding, and half of what cutting off loses on the way (a thirty-second in each product).
    m.luma_bias = static_cast<std::int16_t>(std::lround((full ? 0 : -16 * luma) * scale + scale / 2 + 1));
    m.red_v = term(2 * (1 - kr) * chroma);
    m.blue_u = term(2 * (1 - kb) * chroma);
    m.green_u = term(-2 * (1 - kb) * kb / kg * chroma);
    m.green_v = term(-2 * (1 - kr) * kr / kg * chroma);
    return m;
}

void planes_to_bgra(const std::array<const std::uint8_t*, 3>& planes, const std::array<int, 3>& strides, int width,
                    int height, const MatrixTerms& terms, std::uint8_t* out, int stride) {
    for (std::ptrdiff_t row = 0; row < height; ++row)
        row_to_bgra(planes[0] + row * strides[0], planes[1] + row / 2 * strides[1], planes[2] + row / 2 * strides[2],
                    width, terms, out + row * stride);
}

}  // namespace ruedo
