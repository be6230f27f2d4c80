// SPDX-License-Identifier: Apache-2.0
#include "convert/burned.h"

#include <algorithm>
#include <cmath>

#include "picture/picture.h"
#include "text/caption_places.h"

namespace ruedo {
namespace {
constexpr std::array<std::uint8_t, 3> ground_colour{0x17, 0x13, 0x1A}, letter_colour{0xF7, 0xF1, 0xE5};
constexpr int ground_cover = 205;  ///< Of 255.

/// A colour as the numbers of a picture of this kind.
std::array<std::uint8_t, 3> to_yuv(const std::array<std::uint8_t, 3>& rgb, const Colour& colour) {
    RgbImage image{2, 2, Pixels(16)};
    for (std::size_t i = 0; i < 16; i += 4)
        image.pixels[i] = rgb[2], image.pixels[i + 1] = rgb[1], image.pixels[i + 2] = rgb[0], image.pixels[i + 3] = 255;
    auto p = to_frame(image, colour);
    return {*p.plane[0], *p.plane[1], *p.plane[2]};
}
std::uint8_t mixed(int below, int above, int cover) {
    return static_cast<std::uint8_t>((below * (255 - cover) + above * cover + 127) / 255);
}
int to_even(double v) { return static_cast<int>(std::lround(v / 2)) * 2; }
}  // namespace

CaptionBurner::CaptionBurner(Cues cues, std::unique_ptr<TextSetter> letters)
    : cues_(std::move(cues)), letters_(std::move(letters)) {}

Time CaptionBurner::changes_after(Time t) const {
    auto next = Time::max();
    for (auto& c : cues_.list)
        for (auto edge : {c.start, c.end})
            if (edge > t) next = std::min(next, edge);
    return next;
}

Result<Frame> CaptionBurner::burn(const Frame& picture, Time t) {
    std::vector<const Cue*> shown;
    for (auto& c : cues_.list)
        if (c.start <= t && t < c.end) shown.push_back(&c);
    if (shown.empty()) return picture;
    Kind kind{picture.width, picture.height, picture.rotation, picture.pixel_aspect};
    if (shown != drawn_ || kind != kind_) {
        RUEDO_TRY_DO(draw(shown, picture));
        drawn_ = std::move(shown), kind_ = kind;
    }
    auto colour = picture.colour.resolved(picture.height);
    auto ground = to_yuv(ground_colour, colour), letters = to_yuv(letter_colour, colour);
    std::array<std::uint8_t*, 3> planes{};
    auto made = make_frame(picture.width, picture.height, planes);
    for (std::size_t i = 0; i < 3; ++i) {
        auto rows = i ? (picture.height + 1) / 2 : picture.height;
        auto bytes = static_cast<std::size_t>(i ? (picture.width + 1) / 2 : picture.width);
        for (std::ptrdiff_t y = 0; y < rows; ++y)
            std::copy_n(picture.plane[i] + y * picture.stride[i], bytes, planes[i] + y * made.stride[i]);
    }
    for (auto& p : patches_)
        for (int i = 0; i < 3; ++i) {
            auto plane = static_cast<std::size_t>(i);
            int step = i ? 2 : 1;  // chroma is of four pixels together
            for (int y = 0; y < p.height; y += step)
                for (int x = 0; x < p.width; x += step) {
                    int cover = 0;
                    for (int v = 0; v < step; ++v)
                        for (int u = 0; u < step; ++u)
                            cover += p.cover[static_cast<std::size_t>((y + v) * p.width + x + u)];
                    auto& to = planes[plane][std::ptrdiff_t{(p.y + y) / step} * made.stride[plane] + (p.x + x) / step];
                    to = mixed(mixed(to, ground[plane], ground_cover), letters[plane], cover / (step * step));
                }
        }
    made.pts = picture.pts, made.duration = picture.duration, made.colour = picture.colour;
    made.pixel_aspect = picture.pixel_aspect, made.rotation = picture.rotation;
    return made;
}

/// Set as they are seen, then turned and squeezed as the picture's own pixels are.
Status CaptionBurner::draw(const std::vector<const Cue*>& shown, const Frame& picture) {
    VideoFormat format{picture.width, picture.height, picture.pixel_aspect, picture.rotation, {}};
    double seen_width = format.display_width(), seen_height = format.display_height();
    bool aside = picture.rotation % 180 != 0;
    int upright_width = aside ? picture.height : picture.width, upright_height = aside ? picture.width : picture.height;
    TextStyle style;
    style.size = std::max(8.0, seen_height * CaptionPlaces::letters);
    style.margin = style.size / 4;
    style.stretch_x = upright_width / seen_width, style.stretch_y = upright_height / seen_height;
    patches_.clear();
    CaptionPlaces places(0, 0, seen_width, seen_height, seen_height);
    for (auto cue = shown.rbegin(); cue != shown.rend(); ++cue) {
        style.width = places.width_for(**cue);
        style.align = (*cue)->align == Cue::Align::start ? TextStyle::Align::start
                      : (*cue)->align == Cue::Align::end ? TextStyle::Align::end
                                                         : TextStyle::Align::centre;
        RUEDO_TRY(auto block, letters_->set((*cue)->runs, style));
        auto box = places.place(**cue, block.width / style.stretch_x, block.height / style.stretch_y, block.line * 1.1);
        // Whole pairs of pixels, within the picture.
        Patch p;
        p.x = std::max(0, to_even(box.left * style.stretch_x)), p.y = std::max(0, to_even(box.top * style.stretch_y));
        p.width = std::min((block.width + 1) / 2 * 2, (upright_width - p.x) / 2 * 2);
        p.height = std::min((block.height + 1) / 2 * 2, (upright_height - p.y) / 2 * 2);
        if (p.width <= 0 || p.height <= 0) continue;
        p.cover.resize(static_cast<std::size_t>(p.width) * static_cast<std::size_t>(p.height));
        for (int y = 0; y < std::min(p.height, block.height); ++y)
            for (int x = 0; x < std::min(p.width, block.width); ++x)
                p.cover[static_cast<std::size_t>(y * p.width + x)] =
                    block.cover[static_cast<std::size_t>(y * block.width + x)];
        Patch turned = p;
        if (aside) std::swap(turned.width, turned.height);
        if (picture.rotation == 90) turned.x = p.y, turned.y = upright_width - p.x - p.width;
        if (picture.rotation == 180)
            turned.x = upright_width - p.x - p.width, turned.y = upright_height - p.y - p.height;
        if (picture.rotation == 270) turned.x = upright_height - p.y - p.height, turned.y = p.x;
        for (int y = 0; y < p.height && picture.rotation; ++y)
            for (int x = 0; x < p.width; ++x) {
                int to_x = picture.rotation == 90 ? y : picture.rotation == 180 ? p.width - 1 - x : p.height - 1 - y;
                int to_y = picture.rotation == 90 ? p.width - 1 - x : picture.rotation == 180 ? p.height - 1 - y : x;
                turned.cover[static_cast<std::size_t>(to_y * turned.width + to_x)] =
                    p.cover[static_cast<std::size_t>(y * p.width + x)];
            }
        // An odd picture's last column or row may make a turned place odd.
        turned.x -= turned.x % 2, turned.y -= turned.y % 2;
        patches_.push_back(std::move(turned));
    }
    return {};
}

}  // namespace ruedo
