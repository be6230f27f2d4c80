// SPDX-License-Identifier: Apache-2.0
// What is to become of a clip, as a document (docs/recipe.md).
#pragma once
#include <nlohmann/json_fwd.hpp>

#include "container/container.h"

namespace ruedo {

struct Recipe {
    /// `fit` copies what may stay as it is and encodes the rest.
    enum class Do { fit, encode, copy, none };
    /// Where a size is given: `keep` shows all of it, at most so large, in its own shape; `crop` fills the size and
    /// cuts; `pad` fills it up with black. `bake` turns it upright and makes its pixels square.
    enum class Shape { keep, crop, pad, bake };
    enum class Captions { keep, none, burn };
    struct Video {
        Do action = Do::fit;
        std::optional<Codec> codec;
        std::optional<int> quality;            ///< Constant, on the encoder's own scale.
        std::optional<std::uint32_t> bitrate;  ///< Bits per second.
        int passes = 1;
        int width = 0, height = 0;  ///< As shown; one of them 0 follows from the other.
        Shape shape = Shape::keep;
        Colour::Matrix matrix = Colour::Matrix::unspecified;  ///< Converted to; as it is without.
        Colour::Range range = Colour::Range::unspecified;     ///< The same.
        std::optional<Rational> rate;                         ///< Made constant.
        std::optional<Rational> most_rate;                    ///< Made constant at this, where it has more.
        Time keyframes = 2_s;                                 ///< At most so far apart.
        int effort = 1;                                       ///< Of the encoder: 0 quick, 1 middling, 2 thorough.
        bool operator==(const Video&) const = default;
    } video;
    struct Audio {
        Do action = Do::fit;
        std::optional<Codec> codec;
        std::optional<std::uint32_t> bitrate;
        int channels = 0, rate = 0;      ///< 0: as it is, as far as the codec goes.
        std::optional<double> loudness;  ///< LUFS (EBU R 128); true peaks stay under -1 dB.
        bool operator==(const Audio&) const = default;
    } audio;
    Captions captions = Captions::keep;
    bool all_tracks = false;       ///< Of sound every track is kept, not only the one that plays.
    std::string container_format;  ///< By its name (`container_formats`); without, by the output’s extension.
    Time from{};
    std::optional<Time> to;
    std::optional<std::uint64_t> fit_bytes;  ///< The whole file is at most so large, and hardly smaller.
    bool operator==(const Recipe&) const = default;
};
nlohmann::json to_json(const Recipe& recipe);
/// Their JSON Schema (docs/recipe.schema.json).
nlohmann::json recipe_schema();
/// Their page of the documentation (docs/recipe.md).
std::string recipe_page();
/// Errors name the place, as a JSON pointer. What is not known is refused: a recipe is carried out as a whole.
Result<Recipe> recipe_from_json(const nlohmann::json& json, std::string_view subject);

}  // namespace ruedo
