// SPDX-License-Identifier: Apache-2.0
#include "convert/mends.h"

#include <algorithm>
#include <array>

namespace ruedo {
namespace {
using Do = Recipe::Do;

void encode(Recipe& r) {
    if (r.video.action != Do::encode) r.video.action = Do::encode;
}
/// Written anew its index is complete, and comes in front.
void rewrap(Recipe&, const ClipInfo&) {}
void upright(Recipe& r, const ClipInfo&) {
    encode(r);
    r.video.shape = Recipe::Shape::bake;
}
void keyframes(Recipe& r, const ClipInfo&) {
    encode(r);
    r.video.keyframes = 2_s;
}
/// What it takes on the whole it is to take everywhere.
void even_rate(Recipe& r, const ClipInfo& info) {
    encode(r);
    r.video.quality.reset(), r.fit_bytes.reset(), r.video.passes = 2;
    auto bits = info.duration.ns > 0 ? static_cast<double>(info.bytes) * 8 / info.duration.seconds() : 2e6;
    r.video.bitrate = static_cast<std::uint32_t>(std::clamp(bits, 50'000.0, 100e6));
}
void to_opus(Recipe& r, const ClipInfo&) { r.audio.action = Do::encode, r.audio.codec = Codec::opus; }
void no_audio(Recipe& r, const ClipInfo&) { r.audio = {.action = Do::none}; }
void quieter(Recipe& r, const ClipInfo&) {
    if (r.audio.action == Do::copy) r.audio.action = Do::fit;
    r.audio.loudness = -16;
}

constexpr std::array all_mends{
    Mend{"index-at-end", "Write it with the index in front", rewrap},
    Mend{"no-index", "Write it anew, with an index", rewrap},
    Mend{"sparse-keyframes", "Encode it with a keyframe every two seconds", keyframes},
    Mend{"no-keyframes", "Encode it with a keyframe every two seconds", keyframes},
    Mend{"rotated", "Turn its pictures upright", upright},
    Mend{"non-square-pixels", "Make its pixels square", upright},
    Mend{"bitrate-peaks", "Encode it at its mean rate", even_rate},
    Mend{"silent", "Leave its sound out", no_audio},
    Mend{"overloud", "Bring its sound to −16 LUFS", quieter},
    Mend{"aac-licence", "Convert its sound to Opus", to_opus},
    Mend{"size", "Make it fit into the budget", rewrap},
};
}  // namespace

std::span<const Mend> mends() { return all_mends; }
const Mend* mend_for(std::string_view finding) {
    auto it = std::find_if(all_mends.begin(), all_mends.end(), [&](auto& m) { return m.finding == finding; });
    return it == all_mends.end() ? nullptr : &*it;
}

}  // namespace ruedo
