// SPDX-License-Identifier: GPL-3.0-or-later
// A command's document as a person would write it: names and values beside each other, units, lists as tables.
#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>

namespace ruedo {

/// Names come from files and servers; what steers a terminal does not reach it.
std::string printable(std::string text);
/// Ends with a line's end. Members named `*_ns` are times, `bytes` and `*_bytes` amounts, bandwidths and bitrates bits
/// a second.
std::string plain_text(const nlohmann::json& document);

}  // namespace ruedo
