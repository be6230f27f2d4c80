// SPDX-License-Identifier: Apache-2.0
// Where playlists and what they name lie.
#pragma once
#include <string>

#include "base/result.h"

namespace ruedo {

/// `reference`, as it stands in the playlist at `base` (RFC 3986 clause 5): a path for a path, an address for an
/// address. What comes over a network names no file (`refused`), and what came securely nothing that does not.
Result<std::string> resolve(const std::string& base, const std::string& reference);

}  // namespace ruedo
