// SPDX-License-Identifier: Apache-2.0
#include "demo/strip.h"

#include <bit>
#include <cmath>

namespace ruedo::demo {
namespace {
constexpr int columns = 20, rows = 9, row = 1, first = 2, cells = 16;
/// Our own clips carry it along the foot of the picture, where nobody looks.
constexpr double foot_share = 0.02;
constexpr std::uint8_t foot_dark = 20, foot_light = 132;  // quiet, and still far enough apart to be read
int foot_height(int height) { return std::max(2, static_cast<int>(std::lround(height * foot_share))); }

void fill(RgbImage& image, int x0, int y0, int x1, int y1, std::uint8_t v) {
    for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x)
            for (int c = 0; c < 3; ++c) image.pixels[static_cast<std::size_t>((y * image.width + x) * 4 + c)] = v;
}
double mean(const RgbImage& image, double x0, double y0, double x1, double y1) {
    // At least a pixel, and none outside, however small the image is.
    int left = std::min(image.width - 1, static_cast<int>(x0 + 0.5));
    int top = std::min(image.height - 1, static_cast<int>(y0 + 0.5));
    int right = std::clamp(static_cast<int>(x1 + 0.5), left + 1, image.width);
    int bottom = std::clamp(static_cast<int>(y1 + 0.5), top + 1, image.height);
    double sum = 0;
    for (int y = top; y < bottom; ++y)
        for (int x = left; x < right; ++x) {
            auto* p = &image.pixels[static_cast<std::size_t>((y * image.width + x) * 4)];
            sum += 0.114 * p[0] + 0.587 * p[1] + 0.299 * p[2];
        }
    return sum / ((right - left) * (bottom - top));
}
}  // namespace

void draw_strip(RgbImage& image, int number, bool whole_second) {
    auto n = static_cast<unsigned>(number) % strip_numbers;
    auto x = [&](int c) { return static_cast<int>(std::lround(static_cast<double>(c) * image.width / columns)); };
    int top = image.height - foot_height(image.height);
    fill(image, 0, top, image.width, image.height, whole_second ? foot_light : foot_dark);
    for (int i = 0; i < cells; ++i) {
        bool on = i == 0 || (i >= 2 && i < 15 && (n >> (14 - i) & 1)) || (i == 15 && std::popcount(n) % 2);
        fill(image, x(first + i), top, x(first + i + 1), image.height, on ? foot_light : foot_dark);
    }
}

namespace {
/// The number in cells whose middle lies between these lines.
std::optional<int> read_cells(const RgbImage& image, double top, double bottom) {
    std::array<double, cells> m{};
    for (int i = 0; i < cells; ++i) {
        double w = static_cast<double>(image.width) / columns, h = bottom - top;
        double x0 = (first + i) * w;
        m[static_cast<std::size_t>(i)] = mean(image, x0 + w / 4, top + h / 4, x0 + w * 3 / 4, top + h * 3 / 4);
    }
    double white = m[0], black = m[1];
    if (white - black < 48) return std::nullopt;
    unsigned bits = 0, ones = 0;
    for (std::size_t i = 2; i < cells; ++i) {
        double level = (m[i] - black) / (white - black);
        if (level > 0.4 && level < 0.6) return std::nullopt;
        bool on = level >= 0.6;
        ones += on;
        if (i < 15) bits = bits << 1 | on;
    }
    if (ones % 2) return std::nullopt;
    return static_cast<int>(bits);
}
std::optional<int> read_foot(const RgbImage& image) {
    return read_cells(image, image.height * (1 - foot_share), image.height);
}
}  // namespace

std::optional<int> read_strip(const RgbImage& image) {
    if (image.width < 40 || image.height < 9) return std::nullopt;
    if (auto number = read_foot(image)) return number;
    return read_cells(image, static_cast<double>(row) * image.height / rows, (row + 1.0) * image.height / rows);
}

bool read_flash(const RgbImage& image) {
    if (read_foot(image))
        return mean(image, 0, image.height * (1 - foot_share * 0.75), image.width * 1.5 / columns,
                    image.height * (1 - foot_share * 0.25)) > (foot_dark + foot_light) / 2;
    double h = static_cast<double>(image.height) / rows;
    return mean(image, image.width / 8.0, 8.3 * h, image.width * 7 / 8.0, 8.7 * h) > 128;
}

}  // namespace ruedo::demo
