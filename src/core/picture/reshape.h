// SPDX-License-Identifier: Apache-2.0
// Pictures made into pictures of another size, cut, shape or colour, for conversion and for comparing: exact matrices
// and filters, in planes, never by way of display pixels.
#pragma once
#include "picture/picture.h"

namespace ruedo {

/// What is to become of a picture. The parts are done in this order: cut, scaled, turned, laid on a ground of black.
struct Reshape {
    double x = 0, y = 0, width = 0, height = 0;  ///< The part taken, in its own pixels before turning.
    int to_width = 0, to_height = 0;             ///< Its size afterwards, before turning.
    int turn = 0;                                ///< Degrees clockwise.
    int canvas_width = 0, canvas_height = 0;     ///< Of the whole; where it has no other than the part's, the same.
    int left = 0, top = 0;                       ///< Where the part lies on it; even.
    Colour colour;                               ///< Resolved; its matrix and range are converted to.
    bool operator==(const Reshape&) const = default;
    /// Nothing of `picture` would be changed.
    bool leaves(const Frame& picture) const;
};

/// Keeps what it has set up for pictures of one kind. Lanczos down, spline up (z.lib). Not thread-safe.
class Reshaper {
  public:
    Reshaper();
    ~Reshaper();
    /// `pts` and `duration` stay; pixels become square and upright where that was asked for by the caller's numbers.
    Result<Frame> make(const Frame& picture, const Reshape& wanted);

  private:
    struct Graph;
    std::unique_ptr<Graph> graph_;
};

}  // namespace ruedo
