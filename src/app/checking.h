// SPDX-License-Identifier: GPL-3.0-or-later
// Projects judged without a window: `ruedo check`.
#pragma once
#include <filesystem>
#include <nlohmann/json_fwd.hpp>

#include "base/result.h"

namespace ruedo {

struct CheckArguments {
    std::string place;  ///< A project, or a folder with all the projects in and below it.
    std::string target, fail_on = "error";
};
/// Syntax, schema, members nobody reads, review of players, sources and room. `exit` is 1 where something is as bad as
/// `fail_on` says. The network is not asked.
Result<nlohmann::json> check_command(const CheckArguments& words, int& exit);
/// Its report a line a finding, as compilers write them: "p.ruedo:12:7: error: …".
std::string check_lines(const nlohmann::json& report);

}  // namespace ruedo
