// SPDX-License-Identifier: Apache-2.0
// What a request for a part of a file means, for who serves one.
#pragma once
#include <cstdint>
#include <string_view>

namespace ruedo {

/// Which bytes are asked for (RFC 9110 clause 14.1.2), of one range only: `from` up to before `to`, which come in as 0
/// and `size`; `part` where they are a part. False where none of it is there.
bool asked_range(std::string_view text, std::uint64_t size, std::uint64_t& from, std::uint64_t& to, bool& part);

}  // namespace ruedo
