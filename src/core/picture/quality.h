// SPDX-License-Identifier: Apache-2.0
// How alike two pictures are, by their luma (8 bits): the mean squared error, and the structural similarity of Wang,
// Bovik, Sheikh and Simoncelli (IEEE Transactions on Image Processing 13-4, 2004).
#pragma once
#include "media/media.h"

namespace ruedo {

/// 8-bit samples in rows.
struct Plane {
    const std::uint8_t* data = nullptr;
    int width = 0, height = 0, stride = 0;
};
inline Plane luma(const Frame& p) { return {p.plane[0], p.width, p.height, p.stride[0]}; }

/// Sum of squared differences; both of one size. Exact.
std::uint64_t squared_error(const Plane& a, const Plane& b);
/// Peak signal to noise in dB for a mean squared error; infinity for 0.
double psnr(double mean_squared_error);
/// Mean structural similarity: windows of 11 x 11 weighted by a Gaussian of deviation 1.5, K1 0.01, K2 0.03, at every
/// place where a whole window lies inside; 1 for identical pictures. Smaller pictures have one window, cut to their
/// size. Both of one size. Scratch memory is kept by the object; not thread-safe.
class Similarity {
  public:
    double of(const Plane& a, const Plane& b);

  private:
    std::vector<double> rows_, sums_;
};

}  // namespace ruedo
