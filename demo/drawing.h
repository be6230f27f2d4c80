// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <string_view>

#include "picture/picture.h"

namespace ruedo::demo {

struct Rgb {
    double r = 0, g = 0, b = 0;
};
struct Point {
    double x = 0, y = 0;
};

/// A canvas with the few shapes the clips need; coordinates in pixels, edges smoothed over one pixel.
class Canvas {
  public:
    Canvas(int width, int height);
    void gradient(Rgb top, Rgb bottom);
    void rect(double x0, double y0, double x1, double y1, Rgb colour, double alpha = 1);
    void circle(Point centre, double radius, Rgb colour, double alpha = 1);
    void glow(Point centre, double radius, Rgb colour, double strength);
    /// A convex polygon, corners in either direction.
    void polygon(std::span<const Point> corners, Rgb colour, double alpha = 1);
    /// Digits, capitals and a few signs, `size` pixels high.
    void text(Point at, double size, std::string_view text, Rgb colour);
    RgbImage& image() { return image_; }
    int width() const { return image_.width; }
    int height() const { return image_.height; }

  private:
    /// Pixels of one row, the last one not among them; what lies outside is left out.
    void blend(int y, int from, int to, Rgb colour, double alpha);
    RgbImage image_;
};

}  // namespace ruedo::demo
