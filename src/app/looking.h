// SPDX-License-Identifier: GPL-3.0-or-later
// What the command line's words mean where a clip is looked at: `inspect`, `frames` and `targets`.
#pragma once
#include <filesystem>
#include <nlohmann/json.hpp>
#include <vector>

#include "base/result.h"
#include "base/time.h"

namespace ruedo {

/// With a verdict where a target is named. `exit` is not 0 where it opens and can't be played.
Result<nlohmann::json> inspect(const std::string& source, const std::string& target, int& exit);
Result<nlohmann::json> list_targets();
/// What is shown at each of these times, as PNG files in a folder that is made if missing.
Result<nlohmann::json> frames(const std::string& source, const std::vector<Time>& times,
                              const std::filesystem::path& out, bool replace);

}  // namespace ruedo
