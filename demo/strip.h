// SPDX-License-Identifier: Apache-2.0
// The strip that numbers a frame: the lowest 2 % of the picture in 20 cells; cells 2 to 17 hold white, black, 13 bits
// of the number (most significant first) and an even parity bit, the others are white on a whole second. Clips made
// elsewhere for tests have the same in row 1 of a grid of 20 x 9, and a bottom row for the second; both are read.
#pragma once
#include "picture/picture.h"

namespace ruedo::demo {

constexpr int strip_numbers = 1 << 13;
void draw_strip(RgbImage& image, int number, bool whole_second);
/// The number in a picture of any size from 40 x 9 up; nothing when it can't be read.
std::optional<int> read_strip(const RgbImage& image);
bool read_flash(const RgbImage& image);

}  // namespace ruedo::demo
