// SPDX-License-Identifier: Apache-2.0
// From luma and colour differences to red, green and blue, by the standard's matrix (ISO/IEC 23091-2 clause 8.3).
#pragma once
#include "media/media.h"

namespace ruedo {

/// The matrix as 16-bit numbers; results are within one of what it gives exactly.
struct MatrixTerms {
    std::int16_t luma = 0, luma_bias = 0;  ///< Times 32 * 256, and times 32.
    std::int16_t red_v = 0, green_u = 0, green_v = 0, blue_u = 0;
    /// `colour` must be resolved.
    static MatrixTerms of(const Colour& colour);
};

/// 8-bit 4:2:0 planes to B, G, R, 255; a chroma sample counts for the pixels that share it. Rows of `out` are `stride`
/// bytes apart.
void planes_to_bgra(const std::array<const std::uint8_t*, 3>& planes, const std::array<int, 3>& strides, int width,
                    int height, const MatrixTerms& terms, std::uint8_t* out, int stride);

}  // namespace ruedo
