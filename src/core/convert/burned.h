// SPDX-License-Identifier: Apache-2.0
// Captions drawn into pictures, where and as the player shows them.
#pragma once
#include "codec/codec.h"
#include "text/cues.h"

namespace ruedo {

/// Not thread-safe.
class CaptionBurner {
  public:
    CaptionBurner(Cues cues, std::unique_ptr<TextSetter> letters);
    /// `picture` with what is to be read at `t`, the clip's time; itself where that is nothing. Upright as it is shown,
    /// whatever its rotation and the shape of its pixels.
    Result<Frame> burn(const Frame& picture, Time t);
    /// The next moment after `t` at which something else is to be read; the end of time where nothing changes any more.
    Time changes_after(Time t) const;

  private:
    /// Letters on their ground, in the picture's own pixels.
    struct Patch {
        int x = 0, y = 0, width = 0, height = 0;
        std::vector<std::uint8_t> cover;
    };
    struct Kind {
        int width = 0, height = 0, rotation = 0;
        Rational pixel_aspect{};
        bool operator==(const Kind&) const = default;
    };
    Status draw(const std::vector<const Cue*>& shown, const Frame& picture);
    Cues cues_;
    std::unique_ptr<TextSetter> letters_;
    Kind kind_;
    std::vector<const Cue*> drawn_;
    std::vector<Patch> patches_;
};

}  // namespace ruedo
