// SPDX-License-Identifier: Apache-2.0
// What is to become of a clip, and the plan that follows for one: what is copied, what is encoded anew, and why.
#pragma once
#include "convert/targets.h"
#include "picture/reshape.h"

namespace ruedo {

struct Recipe {
    /// `fit` copies what may stay as it is and encodes the rest.
    enum class Do { fit, encode, copy, none };
    /// Where a size is given: `keep` shows all of it, at most so large, in its own shape; `crop` fills the size and
    /// cuts; `pad` fills it up with black. `bake` turns it upright and makes its pixels square.
    enum class Shape { keep, crop, pad, bake };
    struct Video {
        Do action = Do::fit;
        std::optional<Codec> codec;
        std::optional<int> quality;            ///< Constant, on the encoder's own scale.
        std::optional<std::uint32_t> bitrate;  ///< Bits per second.
        int passes = 1;
        int width = 0, height = 0;  ///< As shown; one of them 0 follows from the other.
        Shape shape = Shape::keep;
        std::optional<Rational> rate;  ///< Made constant.
        Time keyframes = 2_s;          ///< At most so far apart.
        bool operator==(const Video&) const = default;
    } video;
    struct Audio {
        Do action = Do::fit;
        std::optional<Codec> codec;
        std::optional<std::uint32_t> bitrate;
        std::optional<double> loudness;  ///< LUFS (EBU R 128); never louder than a true peak of -1 dB allows.
        bool operator==(const Audio&) const = default;
    } audio;
    std::string wrapper;  ///< "mp4" or "webm"; without, by the name of what is made.
    Time from{};
    std::optional<Time> to;
    std::optional<std::uint64_t> fit_bytes;  ///< The whole file is at most so large, and hardly smaller.
    bool operator==(const Recipe&) const = default;
};
nlohmann::json to_json(const Recipe& recipe);
/// Their JSON Schema (docs/recipe.schema.json).
nlohmann::json recipe_schema();
/// Errors name the place, as a JSON pointer. What is not known is refused: a recipe is carried out as a whole.
Result<Recipe> recipe_from_json(const nlohmann::json& json, std::string_view subject);

/// What a wrapper is called in documents, and what goes into it; the first of each is what is chosen.
struct Wrapper {
    std::string_view name, title;
    std::vector<std::string_view> extensions;
    std::vector<Codec> video, audio;
    bool takes(Codec codec) const;
};
std::span<const Wrapper> wrappers();
/// Nothing where none is written under such a name.
const Wrapper* wrapper_of_extension(std::string_view extension);

struct Plan {
    const Wrapper* wrapper = nullptr;
    const Track *video = nullptr, *audio = nullptr;  ///< Of the clip's info; none where there is none, or none is kept.
    bool encode_video = false, encode_audio = false;
    Codec video_codec = Codec::unknown, audio_codec = Codec::unknown;
    Reshape reshape;           ///< Without the colour, which the pictures tell.
    VideoFormat format;        ///< Of what is made.
    Time length{};             ///< Of what is made, as far as that is known before.
    std::vector<Finding> why;  ///< Sentences: what is done anew, and what is left out.
};
/// `target` narrows what is chosen where the recipe leaves it open. `cuts_clean` says whether what is copied of a track
/// can end at a time: no packet before it needs one from behind it.
Result<Plan> plan_for(const ClipInfo& info, const Recipe& recipe, const Wrapper& wrapper, CodecRegistry& codecs,
                      const Target* target = nullptr, const std::function<bool(const Track&, Time)>& cuts_clean = {});

}  // namespace ruedo
