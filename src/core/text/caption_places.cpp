// SPDX-License-Identifier: Apache-2.0
#include "text/caption_places.h"

#include <algorithm>

namespace ruedo {
namespace {
double across_of(const Cue& cue) {
    auto usual = cue.align == Cue::Align::start ? 0 : cue.align == Cue::Align::end ? 100 : 50;
    return cue.position.value_or(usual) / 100;
}
}  // namespace

CaptionPlaces::CaptionPlaces(double left, double top, double width, double height, double foot)
    : left_(left + width * 0.02),
      top_(top + height * 0.02),
      width_(width * 0.96),
      height_(height * 0.96),
      foot_(foot),
      lowest_(std::min(top_ + height_, foot)) {}

double CaptionPlaces::width_for(const Cue& cue) const {
    // The box may not reach beyond the edge on the side to which it grows.
    auto across = across_of(cue);
    double room = cue.align == Cue::Align::start ? 1 - across
                  : cue.align == Cue::Align::end ? across
                                                 : 2 * std::min(across, 1 - across);
    return width_ * std::clamp(std::min(cue.size / 100, room), 0.1, 1.0);
}

CaptionPlaces::Box CaptionPlaces::place(const Cue& cue, double used, double tall, double line) {
    bool start = cue.align == Cue::Align::start, end = cue.align == Cue::Align::end;
    auto wide = width_for(cue), bottom = top_ + height_;
    Box b;
    b.block = left_ + width_ * across_of(cue) - (start ? 0 : end ? wide : wide / 2);
    b.left = b.block + (start ? 0 : end ? wide - used : (wide - used) / 2);
    if (!cue.line) {
        // Without a line of their own they stack upwards from the bottom.
        b.top = lowest_ - tall;
        lowest_ = b.top - 2;
    } else if (cue.line_percent) {
        b.top = top_ + (height_ - tall) * *cue.line / 100;
    } else {
        b.top = *cue.line < 0 ? bottom + *cue.line * line : top_ + *cue.line * line;
    }
    b.top = std::clamp(b.top, top_, std::max(top_, foot_ - tall));
    return b;
}

}  // namespace ruedo
