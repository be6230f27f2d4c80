// SPDX-License-Identifier: Apache-2.0
// A long clip cut into renditions of several sizes, in segments that begin together: playlists (RFC 8216) and a
// manifest (ISO/IEC 23009-1) over them.
#pragma once
#include <nlohmann/json_fwd.hpp>

#include "codec/codec.h"
#include "convert/conversion.h"

namespace ruedo {

struct RungSpec {
    int width = 0, height = 0;  ///< As shown; even.
    std::uint32_t bitrate = 0;  ///< Of the pictures, bits a second.
    bool operator==(const RungSpec&) const = default;
};
/// "1280x720@2.5M,640x360@700k"; nothing for what is none.
std::optional<std::vector<RungSpec>> parse_rungs(std::string_view text);
/// At most `count` rungs for a clip, in its shape, from its own size down: each with half the pixels or so of the one
/// above.
std::vector<RungSpec> propose_rungs(const VideoFormat& format, double frames_per_second, std::size_t count = 4);

/// How a ladder is to be; kept with jobs.
struct LadderRecipe {
    std::vector<RungSpec> rungs;  ///< Proposed where there are none.
    std::size_t propose = 4;
    Time segment = 4_s;  ///< About; a whole number of pictures.
    bool fragments = true, transport = false;
    bool dash = false;  ///< Over the fragments.
    bool key = false;   ///< Segments are encrypted with a key of 128 bits that is left beside them.
    Codec video = Codec::h264, audio = Codec::aac;
    int passes = 1;
    /// What of it can’t be: `refused` or `usage`.
    Status check() const;
    bool operator==(const LadderRecipe&) const = default;
};
nlohmann::json to_json(const LadderRecipe& recipe);
/// Members that are left out are as usual; `malformed` for others, and what `check` says.
Result<LadderRecipe> ladder_recipe_from_json(const nlohmann::json& json, std::string_view subject);

struct LadderOptions {
    std::filesystem::path out;  ///< A folder that is not there yet, ...
    bool replace = false;       ///< ... or another ladder’s, which it takes the place of.
    LadderRecipe recipe;
    bool measure = true;
    /// Told at least twice a second how much is done, 0 to 1; false stops it (`cancelled`), and nothing is left behind.
    std::function<bool(const ConversionProgress&)> told;
};

struct LadderResult {
    std::filesystem::path path, master, transport_master, dash;
    struct Made {
        std::string id;
        int width = 0, height = 0;
        std::uint64_t bandwidth = 0, average_bandwidth = 0;  ///< Measured, with the sound; bits a second.
        std::string codecs;
        std::uint64_t bytes = 0;
        std::optional<double> ssim_y;  ///< Against the source, at some places.
    };
    std::vector<Made> rungs;  ///< From the highest on.
    std::size_t segments = 0;
    std::vector<Finding> findings;
    Time took{};
    double speed = 0;  ///< Times real time.
};
nlohmann::json to_json(const LadderResult& made);

/// All rungs are made from one decoding. Errors: those of opening; `exists` where `out` is there; `not-media` without
/// pictures; `disk-full`; `cancelled`. Blocks.
Result<LadderResult> make_ladder(const std::string& source, const LadderOptions& options, CodecRegistry& codecs);

}  // namespace ruedo
