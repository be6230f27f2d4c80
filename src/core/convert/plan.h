// SPDX-License-Identifier: Apache-2.0
// The plan that follows for a clip from a recipe: what is copied, what is encoded anew, and why.
#pragma once
#include "convert/recipe.h"
#include "convert/targets.h"
#include "picture/reshape.h"
#include "sound/sound.h"

namespace ruedo {

/// What the encoder of a picture codec can, one row each.
struct VideoEncoderTraits {
    Codec codec;
    int quality, low, high;    ///< Usual, and the ends of its own scale.
    bool bitrate, two_passes;  ///< Whether it can aim at one, and learn first.
    int least, step;           ///< The smallest width and height, and by how much they grow.
    int b_frames;
    double first_pass;  ///< Of the time of two passes, what the first one takes, about.
    bool several;       ///< It encodes on several threads, which keep the processors busy but for gaps between them.
};
/// Nothing for what is not encoded here.
const VideoEncoderTraits* video_encoder_traits(Codec codec);

/// The same of sound.
struct AudioEncoderTraits {
    Codec codec;
    std::vector<int> rates;  ///< Rising; any when empty.
    int channels;            ///< At most.
    bool lossless;
};
const AudioEncoderTraits* audio_encoder_traits(Codec codec);

struct Plan {
    struct Audio {
        const Track* track = nullptr;
        bool encode = false;
        Codec codec = Codec::unknown;
        AudioSpec form;  ///< Of the output.
        int bits = 16;   ///< Of codecs without loss.
        std::uint32_t bitrate = 0;
    };
    struct Captions {
        const Track* track = nullptr;
        Codec codec = Codec::unknown;
    };
    const ContainerFormat* container_format = nullptr;
    const Track* video = nullptr;  ///< Of the clip's info; none where there is none, or none is kept.
    bool encode_video = false;
    Codec video_codec = Codec::unknown;
    std::vector<Audio> audio_tracks;  ///< The one that plays comes first.
    std::vector<Captions> captions;
    const Track* burn_in = nullptr;     ///< Captions that are drawn into the pictures ...
    std::string burn_in_file;           ///< ... or those of a file beside the clip.
    Reshape reshape;                    ///< What becomes of each picture that is encoded.
    VideoFormat format;                 ///< Of the output.
    std::optional<Rational> most_rate;  ///< Made constant at this, where there are more pictures.
    std::string profile;                ///< What the target takes of the codec; empty for all of it.
    unsigned level = 0;
    std::uint64_t most_bytes = UINT64_MAX;  ///< The whole file may be so large.
    Time length{};                          ///< Of the output, as far as it is known beforehand.
    std::vector<Finding> why;               ///< Sentences: what is done anew, and what is left out.
};
/// The container that a recipe names, or else the output's extension; `usage` where neither says one.
Result<const ContainerFormat*> container_format_for(const Recipe& recipe, const std::filesystem::path& out);
/// The container for a target: the clip's own where that is taken and written here, else the first that is; each only
/// where something goes into it that the target takes, too. `refused` where there is none.
Result<const ContainerFormat*> container_format_for(const Target& target, const ClipInfo& info);
/// What only the clip's packets tell: whether what is copied of a track can begin at a time (a keyframe is shown then),
/// and end at one (no packet before it needs one from behind it); and how many pictures come in a second.
struct FromPackets {
    std::function<bool(const Track&, Time)> begins, ends;
    std::function<double(const Track&)> rate;
    std::string captions_beside{};  ///< A file of captions that belongs to the clip.
};
/// Of a clip, each looked for when it is asked for.
FromPackets from_packets(std::shared_ptr<Clip> clip, const std::string& source);
/// `target` narrows what is chosen where the recipe leaves it open; where the recipe asks for what the target does not
/// take, that is `refused`, and the sentence names the place in the recipe. What is made is taken there.
Result<Plan> plan_for(const ClipInfo& info, const Recipe& recipe, const ContainerFormat& container_format,
                      CodecRegistry& codecs, const Target* target = nullptr, const FromPackets& packets = {});

/// What makes a clip one that a target takes: a recipe that leaves nothing open but how well, and why, in sentences.
struct Proposal {
    Recipe recipe;
    bool needed = false;  ///< It does not play there as it is.
    std::vector<std::string> why;
};
/// `address` is how the clip is reached. Reads packet heads only; `cancelled` when asked to stop. Errors: those of
/// planning, and `refused` where nothing can be done.
Result<Proposal> propose(std::shared_ptr<Clip> clip, const Target& target, CodecRegistry& codecs,
                         const std::string& address = {}, const std::atomic<bool>* cancel = nullptr);
nlohmann::json to_json(const Proposal& proposal);

}  // namespace ruedo
