// SPDX-License-Identifier: Apache-2.0
#include "picture/matrix.h"
#include "picture/picture.h"

#include <fmt/format.h>
#include <libyuv.h>
#include <png.h>

#include <algorithm>
#include <cmath>

#include "io/io.h"

namespace ruedo {

RectF fit_rect(Fit fit, double width, double height, double area_width, double area_height, double align_x,
               double align_y) {
    if (width <= 0 || height <= 0 || area_width <= 0 || area_height <= 0) return {};
    double sx = area_width / width, sy = area_height / height;
    switch (fit) {
        case Fit::contain:
            sx = sy = std::min(sx, sy);
            break;
        case Fit::cover:
            sx = sy = std::max(sx, sy);
            break;
        case Fit::none:
            sx = sy = 1;
            break;
        case Fit::fill:
            break;
    }
    RectF r{0, 0, width * sx, height * sy};
    r.x = (area_width - r.width) * align_x;
    r.y = (area_height - r.height) * align_y;
    return r;
}

namespace {
constexpr std::array<std::string_view, 4> fit_names{"contain", "cover", "fill", "none"};
}
std::string_view fit_name(Fit fit) { return fit_names.at(static_cast<std::size_t>(fit)); }
std::optional<Fit> fit_from_name(std::string_view name) {
    auto it = std::find(fit_names.begin(), fit_names.end(), name);
    if (it == fit_names.end()) return std::nullopt;
    return static_cast<Fit>(it - fit_names.begin());
}

namespace {

libyuv::RotationMode rotation_mode(int degrees) {
    return degrees == 90    ? libyuv::kRotate90
           : degrees == 180 ? libyuv::kRotate180
           : degrees == 270 ? libyuv::kRotate270
                            : libyuv::kRotate0;
}

/// Planes of a size, for steps between.
struct Planes {
    Planes(int w, int h)
        : width(w),
          height(h),
          half((w + 1) / 2),
          memory(static_cast<std::size_t>(w) * static_cast<std::size_t>(h) +
                 2 * static_cast<std::size_t>(half) * static_cast<std::size_t>((h + 1) / 2)) {}
    std::uint8_t* y() { return memory.data(); }
    std::uint8_t* u() { return y() + static_cast<std::size_t>(width) * static_cast<std::size_t>(height); }
    std::uint8_t* v() { return u() + static_cast<std::size_t>(half) * static_cast<std::size_t>((height + 1) / 2); }
    int width, height, half;
    Pixels memory;
};

RgbImage make_image(int width, int height) {
    RgbImage image{width, height, {}};
    image.pixels.resize(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 4);
    return image;
}

RgbImage convert(const std::uint8_t* y, int sy, const std::uint8_t* u, int su, const std::uint8_t* v, int sv, int w,
                 int h, const Colour& colour) {
    auto image = make_image(w, h);
    planes_to_bgra({y, u, v}, {sy, su, sv}, w, h, MatrixTerms::of(colour), image.pixels.data(), image.stride());
    return image;
}
}  // namespace

RgbImage render(const Frame& p, int width, int height) {
    width = std::clamp(width, 1, most_frame_side);
    height = std::clamp(height, 1, most_frame_side);
    auto colour = p.colour.resolved(p.height);
    bool turned = p.rotation % 180 != 0;
    int across = turned ? height : width, down = turned ? width : height;  // size before turning
    bool shrink = static_cast<std::int64_t>(across) * down < static_cast<std::int64_t>(p.width) * p.height;
    if (across == p.width && down == p.height && p.rotation == 0)
        return convert(p.plane[0], p.stride[0], p.plane[1], p.stride[1], p.plane[2], p.stride[2], p.width, p.height,
                       colour);
    if (shrink && p.rotation == 0 && across > 1 && down > 1) {
        Planes small(across, down);
        libyuv::I420Scale(p.plane[0], p.stride[0], p.plane[1], p.stride[1], p.plane[2], p.stride[2], p.width, p.height,
                          small.y(), across, small.u(), small.half, small.v(), small.half, across, down,
                          libyuv::kFilterBox);
        return convert(small.y(), across, small.u(), small.half, small.v(), small.half, across, down, colour);
    }
    // Turning moves chroma samples about, so it is done on whole pixels; only the scaling comes first when it shrinks.
    RgbImage image;
    if (shrink && across > 1 && down > 1) {
        Frame flat = p;
        flat.rotation = 0;
        image = render(flat, across, down);
    } else {
        image = convert(p.plane[0], p.stride[0], p.plane[1], p.stride[1], p.plane[2], p.stride[2], p.width, p.height,
                        colour);
        if (across != p.width || down != p.height) {
            auto scaled = make_image(across, down);
            libyuv::ARGBScale(image.pixels.data(), image.stride(), image.width, image.height, scaled.pixels.data(),
                              scaled.stride(), across, down, libyuv::kFilterBilinear);
            image = std::move(scaled);
        }
    }
    if (p.rotation == 0) return image;
    auto out = make_image(width, height);
    libyuv::ARGBRotate(image.pixels.data(), image.stride(), out.pixels.data(), out.stride(), image.width, image.height,
                       rotation_mode(p.rotation));
    return out;
}

RgbImage render(const Frame& p) {
    VideoFormat f{p.width, p.height, p.pixel_aspect, p.rotation, p.colour};
    return render(p, f.display_width(), f.display_height());
}

Status write_png(const std::filesystem::path& path, const RgbImage& image, Replace replace) {
    png_image png{};
    png.version = PNG_IMAGE_VERSION;
    png.width = static_cast<png_uint_32>(image.width);
    png.height = static_cast<png_uint_32>(image.height);
    png.format = PNG_FORMAT_RGB;
    std::vector<std::uint8_t> rgb(static_cast<std::size_t>(image.width) * static_cast<std::size_t>(image.height) * 3);
    for (std::size_t i = 0, n = rgb.size() / 3; i < n; ++i) {
        rgb[3 * i] = image.pixels[4 * i + 2];
        rgb[3 * i + 1] = image.pixels[4 * i + 1];
        rgb[3 * i + 2] = image.pixels[4 * i];
    }
    png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(png);
    Bytes out(size);
    if (!png_image_write_to_memory(&png, out.data(), &size, 0, rgb.data(), 0, nullptr))
        return fail(ErrorCode::internal,
                    fmt::format("“{}” could not be made: {}.", path.filename().string(), png.message));
    return write_file(path, ByteView(out).first(size), replace);
}

Frame to_frame(const RgbImage& image, const Colour& colour) {
    std::array<std::uint8_t*, 3> to{};
    auto p = make_frame(image.width, image.height, to);
    p.colour = colour.resolved(image.height);
    bool full = p.colour.range == Colour::Range::full;
    double kr = p.colour.matrix == Colour::Matrix::bt709    ? 0.2126
                : p.colour.matrix == Colour::Matrix::bt2020 ? 0.2627
                                                            : 0.299;
    double kb = p.colour.matrix == Colour::Matrix::bt709    ? 0.0722
                : p.colour.matrix == Colour::Matrix::bt2020 ? 0.0593
                                                            : 0.114;
    // 16-bit fixed point: y = kr r + kg g + kb b; cb and cr are scaled differences (ISO/IEC 23091-2).
    double ys = full ? 1 : 219.0 / 255, cs = full ? 1 : 224.0 / 255;
    int yr = static_cast<int>(std::lround(kr * ys * 65536)), yb = static_cast<int>(std::lround(kb * ys * 65536)),
        yg = static_cast<int>(std::lround(ys * 65536)) - yr - yb;
    int y0 = full ? 0 : 16;
    double fb = cs / (2 * (1 - kb)), fr = cs / (2 * (1 - kr)), kg = 1 - kr - kb;
    for (int y = 0; y < image.height; ++y) {
        auto* row = image.pixels.data() + static_cast<std::ptrdiff_t>(y) * image.stride();
        auto* out = to[0] + y * p.stride[0];
        for (int x = 0; x < image.width; ++x)
            out[x] = static_cast<std::uint8_t>(
                ((yr * row[4 * x + 2] + yg * row[4 * x + 1] + yb * row[4 * x] + 32768) >> 16) + y0);
    }
    // Chroma from the sum of four pixels: 18 bits of fraction in all.
    auto fixed = [](double v) { return static_cast<int>(std::lround(v * 65536)); };
    int br = fixed(-kr * fb), bg = fixed(-kg * fb), bb = fixed((1 - kb) * fb), rr = fixed((1 - kr) * fr),
        rg = fixed(-kg * fr), rb = fixed(-kb * fr);
    for (int y = 0; y < (image.height + 1) / 2; ++y) {
        auto* row0 = image.pixels.data() + static_cast<std::ptrdiff_t>(2 * y) * image.stride();
        auto* row1 =
            image.pixels.data() + static_cast<std::ptrdiff_t>(std::min(2 * y + 1, image.height - 1)) * image.stride();
        for (int x = 0; x < (image.width + 1) / 2; ++x) {
            int x0 = 8 * x, x1 = 4 * std::min(2 * x + 1, image.width - 1);
            int b = row0[x0] + row0[x1] + row1[x0] + row1[x1];
            int g = row0[x0 + 1] + row0[x1 + 1] + row1[x0 + 1] + row1[x1 + 1];
            int r = row0[x0 + 2] + row0[x1 + 2] + row1[x0 + 2] + row1[x1 + 2];
            auto clip = [](int v) {
                return static_cast<std::uint8_t>(std::clamp((v + (128 << 18) + (1 << 17)) >> 18, 0, 255));
            };
            to[1][y * p.stride[1] + x] = clip(br * r + bg * g + bb * b);
            to[2][y * p.stride[2] + x] = clip(rr * r + rg * g + rb * b);
        }
    }
    return p;
}

}  // namespace ruedo
