// SPDX-License-Identifier: Apache-2.0
// Containers read as barely as can be, with nothing of ours: what opening and seeking are measured against.
#pragma once
#include <cstddef>
#include <filesystem>

namespace ruedo::bench {

/// Reads the file whole and hops over its units (samples, blocks, packets, frames); how many there were. The name's
/// ending says which container it is.
std::size_t bare_walk(const std::filesystem::path& path);

}  // namespace ruedo::bench
