// SPDX-License-Identifier: Apache-2.0
// Pictures that are laid onto surfaces: seen smaller, each pixel of the view is the mean of what it covers, as nearly
// as a few places in halved pictures tell.
#pragma once
#include <array>
#include <cstdint>

#include "picture/picture.h"

namespace ruedo::scene {

/// Somebody's pixels: B G R A in memory, their colours multiplied by A where it is see-through.
struct Texture {
    const std::uint8_t* pixels = nullptr;
    int width = 0, height = 0, stride = 0;
    bool see_through = false;
    bool blocky = false;         ///< Pixels stay squares where they are seen larger.
    std::uint64_t revision = 0;  ///< Another one says that the pixels have changed.
    explicit operator bool() const { return pixels && width > 0 && height > 0; }
    static Texture of(const RgbImage& image, std::uint64_t revision) {
        return {image.pixels.data(), image.width, image.height, image.stride(), false, false, revision};
    }
};

/// A texture with its halved pictures, which are made for as many halvings as are asked for.
class Levels {
  public:
    static constexpr int most = 13;
    /// Takes a texture over; its pixels must stay until the next one comes. Nothing is made yet.
    void take(const Texture& texture);
    /// Makes halved pictures up to `level`, in rows shared out by `share(rows, work(from, to))`.
    template <class Share>
    void make(int level, Share&& share) {
        for (int l = made_ + 1; l <= level && l <= most && halve_to(l); ++l)
            share(levels_[l].height, [this, l](int from, int to) { halve(l, from, to); }), made_ = l;
    }
    int made() const { return made_; }
    const Texture& texture() const { return texture_; }

    struct Level {
        const std::uint8_t* pixels;
        int width, height, stride;
    };
    const Level& level(int l) const { return levels_[static_cast<std::size_t>(l)]; }

  private:
    bool halve_to(int level);
    void halve(int level, int from, int to);
    Texture texture_;
    std::array<Level, most + 1> levels_{};
    std::array<Pixels, most + 1> pixels_{};
    int made_ = -1;
};

/// Where pixels of a view fall on a texture: its coordinates are x / w and y / w, each of the three linear in the
/// view's.
struct Mapping {
    double x0 = 0, xx = 0, xy = 0, y0 = 0, yx = 0, yy = 0, w0 = 0, wx = 0, wy = 0;
    /// Texels that a step of a pixel to the right, or down, goes by.
    struct Steps {
        double right, down;
    };
    Steps steps_at(double x, double y) const;
};

/// Filtered pixels of a run of the view's row `y` from `x`, as 32-bit B G R A. Runs go no farther than to the next
/// multiple of `run_length`: a pixel is the same whatever run it is in.
constexpr int run_length = 16;
void sample_run(const Levels& levels, const Mapping& mapping, int x, int y, int count, std::uint32_t* out);
/// One, of a part of a pixel.
std::uint32_t sample_part(const Levels& levels, const Mapping& mapping, const RectF& part);
/// Whether registers of 256 bits are used where the processor has them; pixels are the same either way.
void use_wide_registers(bool use);
/// How far it would be halved for a place with these steps.
int level_for(const Mapping::Steps& steps);

}  // namespace ruedo::scene
