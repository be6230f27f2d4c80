// SPDX-License-Identifier: Apache-2.0
// Where along its length a track's bytes are.
#pragma once
#include <algorithm>
#include <vector>

#include "media/media.h"

namespace ruedo {

/// Bytes of packets in each tenth of a second, up to 27 hours.
struct BytesOverTime {
    static constexpr Time step{100'000'000};
    std::vector<double> each;
    void see(const PacketHead& head) {
        auto at = place(head.pts);
        if (at >= 1'000'000) return;
        if (at >= each.size()) each.resize(at + 1);
        each[at] += static_cast<double>(head.size);
    }
    /// Those from one time to another, in whole steps; nought where there are none.
    std::vector<double> between(Time from, Time to) const {
        std::vector<double> part;
        for (auto i = place(from); i < place(to); ++i) part.push_back(i < each.size() ? each[i] : 0);
        return part;
    }
    static std::size_t place(Time t) { return static_cast<std::size_t>(std::max<std::int64_t>(0, t.ns) / step.ns); }
};

}  // namespace ruedo
