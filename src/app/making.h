// SPDX-License-Identifier: GPL-3.0-or-later
// What the command line's words mean where something is made of a clip or clips are compared: `convert`, `compare`,
// `stills`, `jobs`.
#pragma once
#include "convert/conversion.h"

namespace ruedo {

/// The options of `ruedo convert` as they were typed; empty where they were not.
struct ConvertWords {
    std::string in, out, target, recipe, video, audio, size, shape, rate, bitrate, quality, fit_bytes, passes, loudness,
        from, to, progress, wrapper, captions, tracks, channels, sample_rate, most_rate, keyframes, effort;
    bool replace = false;
};
/// What they ask for; `usage` where they make no sense.
Result<ConversionOptions> read_words(const ConvertWords& words);
Result<nlohmann::json> convert_command(const ConvertWords& words);
/// The options of `ruedo stills`.
struct StillWords {
    std::string in, at, every, count, sheet, size, format, out;
    bool replace = false;
};
Result<nlohmann::json> stills_command(const StillWords& words);
/// The options of `ruedo jobs`.
struct JobWords {
    std::vector<std::string> add;  ///< Recipe, in, out.
    std::string target, pause, go_on, stop, move, before;
    bool run = false, clear = false;
};
Result<nlohmann::json> jobs_command(const JobWords& words);
Result<nlohmann::json> compare_command(const std::string& a, const std::string& b, const std::string& at);

}  // namespace ruedo
