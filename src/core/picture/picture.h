// SPDX-License-Identifier: Apache-2.0
// Placing frames (contain, cover, fill, none), and converting them to display pixels.
#pragma once
#include <algorithm>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <utility>

#include "io/io.h"
#include "media/media.h"

namespace ruedo {

enum class Fit { contain, cover, fill, none };
struct RectF {
    double x = 0, y = 0, width = 0, height = 0;
};
/// Where a picture of `width` x `height` (display size) goes in an area, as CSS object-fit and object-position
/// have it. `align_x`, `align_y`: 0 is left or top, 0.5 the middle, 1 right or bottom.
RectF fit_rect(Fit fit, double width, double height, double area_width, double area_height, double align_x = 0.5,
               double align_y = 0.5);
std::string_view fit_name(Fit fit);
std::optional<Fit> fit_from_name(std::string_view name);

/// A picture's bytes. New ones are left as they are, since they are written right after they are made room for, and
/// neither making room nor letting go ever goes over them: pictures come sixty times a second.
class Pixels {
  public:
    Pixels() = default;
    explicit Pixels(std::size_t size) { resize(size); }
    Pixels(std::size_t size, std::uint8_t value) { assign(size, value); }
    Pixels(const Pixels& other) { assign(other.begin(), other.end()); }
    Pixels(Pixels&& other) noexcept { *this = std::move(other); }
    Pixels& operator=(const Pixels& other) {
        if (this != &other) assign(other.begin(), other.end());
        return *this;
    }
    Pixels& operator=(Pixels&& other) noexcept {
        bytes_ = std::move(other.bytes_);
        size_ = std::exchange(other.size_, 0), room_ = std::exchange(other.room_, 0);
        return *this;
    }
    /// What they are is kept only where there are no more of them than ever.
    void resize(std::size_t size) {
        if (size > room_) bytes_ = std::make_unique_for_overwrite<std::uint8_t[]>(size), room_ = size;
        size_ = size;
    }
    void assign(std::size_t size, std::uint8_t value) { resize(size), std::fill_n(begin(), size, value); }
    void assign(const std::uint8_t* from, const std::uint8_t* to) {
        resize(static_cast<std::size_t>(to - from)), std::copy(from, to, begin());
    }
    std::uint8_t* data() { return bytes_.get(); }
    const std::uint8_t* data() const { return bytes_.get(); }
    std::uint8_t* begin() { return bytes_.get(); }
    const std::uint8_t* begin() const { return bytes_.get(); }
    std::uint8_t* end() { return begin() + size_; }
    const std::uint8_t* end() const { return begin() + size_; }
    std::uint8_t& operator[](std::size_t i) { return bytes_[i]; }
    const std::uint8_t& operator[](std::size_t i) const { return bytes_[i]; }
    std::size_t size() const { return size_; }
    bool empty() const { return size_ == 0; }
    bool operator==(const Pixels& other) const { return std::equal(begin(), end(), other.begin(), other.end()); }

  private:
    std::unique_ptr<std::uint8_t[]> bytes_;
    std::size_t size_ = 0, room_ = 0;
};

/// 32-bit pixels, as bytes B G R A in memory; opaque.
struct RgbImage {
    int width = 0, height = 0;
    Pixels pixels;
    int stride() const { return width * 4; }
};
/// The picture turned, with square pixels, in exactly `width` x `height`; smooth scaling, before colour
/// conversion where that is cheaper. Full-range sRGB-coded values as the picture's matrix and range say.
RgbImage render(const Frame& picture, int width, int height);
/// At display size.
RgbImage render(const Frame& picture);

Status write_png(const std::filesystem::path& path, const RgbImage& image, Replace replace = Replace::anything);

/// The inverse, for making media: display pixels to a picture. Odd sizes are fine.
Frame to_frame(const RgbImage& image, const Colour& colour);

}  // namespace ruedo
