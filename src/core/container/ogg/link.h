// SPDX-License-Identifier: Apache-2.0
// A chain's links (RFC 3533 section 4): what each holds, where it ends, and its times.
#pragma once
#include "container/ogg/pages.h"

namespace ruedo::ogg {

/// One link of the chain: a group of logical streams that begin and end together.
struct Link {
    std::uint64_t begin = 0, data = 0, end = 0;
    std::vector<Logical> streams;
    Time origin{};  ///< Within the link: of its first presented sample.
    Time place{};   ///< On the clip's timeline: where that sample is.
    Time length{};
    bool holds(int serial) const {
        return std::any_of(streams.begin(), streams.end(), [&](auto& s) { return s.serial == serial; });
    }
};

/// The link that begins at `at`: its headers, where it ends, and its times; nothing when none can be read there. Where
/// bytes come in order only, its end and its length are not looked for: `end` is `size`, `length` is 0.
Result<std::optional<Link>> read_link(const std::shared_ptr<ByteSource>& source, std::uint64_t at, std::uint64_t size);

}  // namespace ruedo::ogg
