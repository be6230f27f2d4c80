// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <cstddef>
#include <cstdint>
#include <memory>

namespace ruedo {

/// Memory for a picture's samples, at least `size` bytes on a boundary of 64; what is in it is zero, or left over from
/// other pictures. A few pieces are kept when they are given back, since fresh ones cost as much as copying a picture
/// does. Thread-safe; std::bad_alloc where there is none.
std::shared_ptr<std::uint8_t> frame_memory(std::size_t size);

}  // namespace ruedo
