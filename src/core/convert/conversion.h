// SPDX-License-Identifier: Apache-2.0
// Making a clip of another form: read, decoded, fitted, encoded and written as it goes, so that memory does not grow
// with the clip. The result appears whole under its name, or not at all.
#pragma once
#include "codec/codec.h"
#include "convert/plan.h"

namespace ruedo {

struct ConversionProgress {
    double done = 0;   ///< 0 to 1, over all passes.
    double speed = 0;  ///< Times real time, over the last seconds; 0 before anything is known.
    std::optional<Time> left;
    std::uint64_t bytes = 0, expected_bytes = 0;  ///< So far, and as it looks; 0 while nothing is known.
};

struct ConversionOptions {
    std::filesystem::path out;
    Recipe recipe;
    std::optional<Target> target;
    Replace replace = Replace::nothing;  ///< What `out` may take the place of; never that of `source`.
    /// What was made is opened, decoded at its beginning, middle and end, and judged by the target before it takes its
    /// place. What is not right of what was encoded is an error, of what was copied a finding (`damaged`).
    bool check = true;
    /// Told at least twice a second; false stops it (`cancelled`), and nothing is left behind.
    std::function<bool(const ConversionProgress&)> told{};
};

struct Converted {
    std::filesystem::path path;
    std::uint64_t bytes = 0;
    std::string container;
    Time duration{}, took{};
    struct Stream {
        std::string action = "none";  ///< encoded, copied or none
        Codec codec = Codec::unknown;
        int width = 0, height = 0, passes = 0;
        std::uint64_t frames = 0;
        int sample_rate = 0, channels = 0;
    } video, audio;
    std::vector<Finding> findings;  ///< What was done anew and why; what the source lacked.
};
nlohmann::json to_json(const Converted& converted);

/// Errors: those of opening `source`; `refused` where the recipe asks for what cannot be, or `out` is what is read;
/// `exists`; `disk-full` where there is not the room; `cancelled`. A source that breaks off gives a shorter clip, and a
/// finding. Blocks.
Result<Converted> convert(const std::string& source, const ConversionOptions& options, CodecRegistry& codecs);

}  // namespace ruedo
