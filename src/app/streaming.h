// SPDX-License-Identifier: GPL-3.0-or-later
// What the command line's words mean where something is streamed: `adapt`, `host`, and what `inspect` and `play` say of
// streams.
#pragma once
#include <nlohmann/json.hpp>

#include "media/media.h"

namespace ruedo {

/// What `inspect` says of a stream.
nlohmann::json stream_json(const StreamReport& report, const ClipInfo& info);

/// The options of `ruedo adapt`.
struct AdaptArguments {
    std::string ladder, trace, set, policy;
};
Result<nlohmann::json> adapt_command(const AdaptArguments& words);

/// The options of `ruedo host`.
struct HostArguments {
    std::string folder, network_trace;
    int port = 0;
    bool live = false;
};
/// Prints a line a request until it is stopped, which is no error.
Status host_command(const HostArguments& words);

/// The options of `ruedo ladder`.
struct LadderArguments {
    std::string in, out, rungs, segment = "4s", wrap = "fmp4", video = "h264", audio = "aac", progress;
    int propose = 4, passes = 0;  ///< 0: two, where the codec can.
    bool dash = false, key = false, later = false, replace = false;
};
Result<nlohmann::json> ladder_command(const LadderArguments& words);

/// `--policy`, `--rung` and `--start` of `ruedo play`.
Result<StreamOptions> stream_options(const std::string& policy, const std::string& rung, const std::string& start);

}  // namespace ruedo
