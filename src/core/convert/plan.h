// SPDX-License-Identifier: Apache-2.0
// The plan that follows for a clip from a recipe: what is copied, what is encoded anew, and why.
#pragma once
#include "convert/recipe.h"
#include "convert/targets.h"
#include "picture/reshape.h"
#include "sound/sound.h"

namespace ruedo {

/// What the encoder of a picture codec can, one row each.
struct PictureForm {
    Codec codec;
    int quality, low, high;    ///< Usual, and the ends of its own scale.
    bool bitrate, two_passes;  ///< Whether it can aim at one, and learn first.
    int least, step;           ///< The smallest width and height, and by how much they grow.
    int b_frames;
};
/// Nothing for what is not encoded here.
const PictureForm* picture_form(Codec codec);

/// The same of sound.
struct SoundCodecForm {
    Codec codec;
    std::vector<int> rates;  ///< Rising; any when empty.
    int channels;            ///< At most.
    bool lossless;
};
const SoundCodecForm* sound_codec_form(Codec codec);

struct Plan {
    struct Sound {
        const Track* track = nullptr;
        bool encode = false;
        Codec codec = Codec::unknown;
        SoundForm form;  ///< Of what is made.
        int bits = 16;   ///< Of codecs without loss.
        std::uint32_t bitrate = 0;
    };
    struct Captions {
        const Track* track = nullptr;
        Codec codec = Codec::unknown;
    };
    const Wrapper* wrapper = nullptr;
    const Track* video = nullptr;  ///< Of the clip's info; none where there is none, or none is kept.
    bool encode_video = false;
    Codec video_codec = Codec::unknown;
    std::vector<Sound> sounds;  ///< The one that plays comes first.
    std::vector<Captions> captions;
    Reshape reshape;           ///< Without the colour, which the pictures tell.
    VideoFormat format;        ///< Of what is made.
    Time length{};             ///< Of what is made, as far as that is known before.
    std::vector<Finding> why;  ///< Sentences: what is done anew, and what is left out.
};
/// The container that a recipe names, or else the name of what is made; `usage` where neither says one.
Result<const Wrapper*> wrapper_for(const Recipe& recipe, const std::filesystem::path& out);
/// What only the clip's packets tell: whether what is copied of a track can begin at a time (a keyframe is shown then),
/// and end at one (no packet before it needs one from behind it).
struct Cuts {
    std::function<bool(const Track&, Time)> begins, ends;
};
/// `target` narrows what is chosen where the recipe leaves it open.
Result<Plan> plan_for(const ClipInfo& info, const Recipe& recipe, const Wrapper& wrapper, CodecRegistry& codecs,
                      const Target* target = nullptr, const Cuts& cuts = {});

}  // namespace ruedo
