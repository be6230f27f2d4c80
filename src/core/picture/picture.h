// SPDX-License-Identifier: Apache-2.0
// Fitting pictures into places, and turning them into display pixels.
#pragma once
#include <filesystem>
#include <memory>
#include <vector>

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

/// Leaves new elements as they are: pixels are written right after they are made room for.
template <class T>
struct Unset : std::allocator<T> {
    template <class U>
    struct rebind {
        using other = Unset<U>;
    };
    using std::allocator<T>::allocator;
    template <class U>
    void construct(U* p) noexcept {
        ::new (static_cast<void*>(p)) U;
    }
    template <class U, class... A>
    void construct(U* p, A&&... a) {
        ::new (static_cast<void*>(p)) U(std::forward<A>(a)...);
    }
};
using Pixels = std::vector<std::uint8_t, Unset<std::uint8_t>>;

/// 32-bit pixels, as bytes B G R A in memory; opaque.
struct Image {
    int width = 0, height = 0;
    Pixels pixels;
    int stride() const { return width * 4; }
};
/// The picture turned, with square pixels, in exactly `width` x `height`; smooth scaling, before colour
/// conversion where that is cheaper. Full-range sRGB-coded values as the picture's matrix and range say.
Image render(const Picture& picture, int width, int height);
/// At display size.
Image render(const Picture& picture);

Outcome write_png(const std::filesystem::path& path, const Image& image, bool replace = true);

/// The inverse, for making media: display pixels to a picture. Odd sizes are fine.
Picture to_picture(const Image& image, const Colour& colour);

}  // namespace ruedo
