// SPDX-License-Identifier: Apache-2.0
// Facts kept between runs: what a card and a verdict need, as a document, under a key made from the content.
#pragma once
#include <nlohmann/json_fwd.hpp>

#include "facts/facts.h"

namespace ruedo {

/// The same for the same content, whatever it is called or where it lies: made from the size and from three
/// stretches of 64 KiB (start, middle, end).
Result<std::string> content_key(ByteSource& source);

/// All but the chart and the loudness.
nlohmann::json to_json(const SourceFacts& facts);
/// Nothing for a document of another version, or one that is damaged.
std::optional<SourceFacts> facts_from_json(const nlohmann::json& json);

}  // namespace ruedo
