// SPDX-License-Identifier: Apache-2.0
// Where captions stand on a picture (WebVTT clause 7.2, in short), for every renderer alike.
#pragma once
#include "text/cues.h"

namespace ruedo {

/// Cues that are shown together; ask for the place of the last one first. Units are the caller's.
class CaptionPlaces {
  public:
    /// Nothing is put below `foot`.
    CaptionPlaces(double left, double top, double width, double height, double foot);
    /// Size of the letters, as a share of the picture's height.
    static constexpr double letters = 0.053;
    /// The lines of a cue are broken so as to stay within this.
    double width_for(const Cue& cue) const;
    struct Box {
        double left = 0, top = 0;  ///< Of what the lines take up.
        double block = 0;          ///< Where the block begins in which they are aligned.
    };
    /// For lines that come to `used` x `tall`, one every `line`.
    Box place(const Cue& cue, double used, double tall, double line);

  private:
    double left_, top_, width_, height_, foot_, lowest_;
};

}  // namespace ruedo
