// SPDX-License-Identifier: Apache-2.0
// The demo's catalogue of clips, on the loopback address (docs/catalogue.md).
#pragma once
#include <filesystem>

#include "demo/server.h"

namespace ruedo::demo {

inline constexpr const char* catalogue_key = "harbour-demo-key";

/// Serves the clips of `folder` under their file names without extension; "old-pier" is withdrawn.
void serve_catalogue(LoopbackServer& server, const std::filesystem::path& folder);

}  // namespace ruedo::demo
