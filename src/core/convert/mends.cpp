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

constexpr std::array all_recipe_fixes{
    RecipeFix{"index-at-end", "Write it with the index in front", rewrap},
    RecipeFix{"no-index", "Write it anew, with an index", rewrap},
    RecipeFix{"sparse-keyframes", "Encode it with a keyframe every two seconds", keyframes},
    RecipeFix{"no-keyframes", "Encode it with a keyframe every two seconds", keyframes},
    RecipeFix{"rotated", "Turn its pictures upright", upright},
    RecipeFix{"non-square-pixels", "Make its pixels square", upright},
    RecipeFix{"bitrate-peaks", "Encode it at its mean rate", even_rate},
    RecipeFix{"silent", "Leave its sound out", no_audio},
    RecipeFix{"overloud", "Bring its sound to −16 LUFS", quieter},
    RecipeFix{"aac-licence", "Convert its sound to Opus", to_opus},
    RecipeFix{"size", "Make it fit into the budget", rewrap},
};
}  // namespace

std::span<const RecipeFix> recipe_fixes() { return all_recipe_fixes; }
const RecipeFix* recipe_fix_for(std::string_view finding) {
    auto it =
        std::find_if(all_recipe_fixes.begin(), all_recipe_fixes.end(), [&](auto& m) { return m.finding == finding; });
    return it == all_recipe_fixes.end() ? nullptr : &*it;
}

}  // namespace ruedo
