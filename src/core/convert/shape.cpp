// SPDX-License-Identifier: Apache-2.0
#include "convert/shape.h"

#include <algorithm>
#include <cmath>

#include "media/codec_headers.h"

namespace ruedo {

void plan_shape(Plan& p, const Recipe::Video& wanted, int most_width, int most_height, int step) {
    using Shape = Recipe::Shape;
    auto stepped = [step](double v) { return std::max(step, static_cast<int>(std::lround(v / step)) * step); };
    auto& from = p.video->video;
    auto& r = p.reshape;
    r.width = from.width, r.height = from.height;
    r.to_width = from.width, r.to_height = from.height;
    p.format = from;
    bool sized = wanted.width || wanted.height || most_width || most_height;
    bool baked = wanted.shape == Shape::bake;
    if (!sized && !baked) {
        r.canvas_width = r.to_width, r.canvas_height = r.to_height;
        return;
    }
    double shown_width = from.display_width(), shown_height = from.display_height();
    double width = wanted.width, height = wanted.height;
    bool exactly = width > 0 && height > 0 && (wanted.shape == Shape::crop || wanted.shape == Shape::pad);
    if (width > 0 && height <= 0) height = width * shown_height / shown_width;
    if (height > 0 && width <= 0) width = height * shown_width / shown_height;
    if (width <= 0) width = shown_width, height = shown_height;
    // What a target takes at most.
    if (most_width > 0 && most_height > 0) {
        double less = std::min({1.0, most_width / width, most_height / height});
        width *= less, height *= less;
    }
    bool aside = from.rotation % 180 != 0;
    if (!exactly) {
        auto scale = std::min(width / shown_width, height / shown_height);
        if (wanted.shape != Shape::bake && !wanted.width && !wanted.height) scale = std::min(scale, 1.0);
        width = shown_width * scale, height = shown_height * scale;
        if (wanted.shape == Shape::keep) {
            // Turning and the pixels' shape stay what they are; only their number changes.
            r.to_width = stepped(from.width * scale), r.to_height = stepped(from.height * scale);
            r.canvas_width = r.to_width, r.canvas_height = r.to_height;
            p.format.width = r.to_width, p.format.height = r.to_height;
            return;
        }
    }
    int whole_width = stepped(width), whole_height = stepped(height);
    p.format.pixel_aspect = {}, p.format.rotation = 0;
    p.format.width = r.canvas_width = whole_width, p.format.height = r.canvas_height = whole_height;
    r.turn = from.rotation;
    int part_width = whole_width, part_height = whole_height;  // upright
    if (exactly && wanted.shape == Shape::pad) {
        auto scale = std::min(whole_width / shown_width, whole_height / shown_height);
        part_width = std::min(whole_width, stepped(shown_width * scale));
        part_height = std::min(whole_height, stepped(shown_height * scale));
        r.left = (whole_width - part_width) / 4 * 2, r.top = (whole_height - part_height) / 4 * 2;
    } else if (exactly) {
        auto scale = std::max(whole_width / shown_width, whole_height / shown_height);
        // So much of it is seen, in its own pixels before turning.
        double across = std::min(1.0, whole_width / scale / shown_width),
               down = std::min(1.0, whole_height / scale / shown_height);
        if (aside) std::swap(across, down);
        r.width = from.width * across, r.height = from.height * down;
        r.x = (from.width - r.width) / 2, r.y = (from.height - r.height) / 2;
    }
    r.to_width = aside ? part_height : part_width, r.to_height = aside ? part_width : part_height;
}

std::string unsaid_shape(const Track& track, const ContainerFormat& container_format) {
    auto& shown = track.video;
    if (container_format.shapes) return {};
    if (shown.rotation != 0) return "that they are turned";
    if (shown.crop != Crop{}) return "which of their edges are cut off";
    Track bare;
    bare.kind = Kind::video, bare.codec = track.codec, bare.config = track.config;
    describe_from_config(bare);
    bare.video.width = shown.width, bare.video.height = shown.height;
    return track.config.empty() || bare.video.display_width() == shown.display_width() ? ""
                                                                                       : "how wide their pixels are";
}

}  // namespace ruedo
