// SPDX-License-Identifier: Apache-2.0
#include "container/mpegts/joins.h"

#include <algorithm>

namespace ruedo::mpegts {

std::int64_t Joins::shift_of(const Seen& s, std::uint64_t offset) const {
    auto part = std::upper_bound(s.joins.begin(), s.joins.end(), offset) - s.joins.begin();
    return part > 0 ? shifts_[static_cast<std::size_t>(part) - 1] : 0;
}

void Joins::jump(unsigned pid, std::uint64_t offset) {
    std::lock_guard lock(mutex_);
    auto& s = streams_[pid];
    s.gap = s.gap || (s.last && offset > s.offset);
}

void Joins::see(unsigned pid, std::uint64_t offset, std::int64_t ticks) {
    constexpr std::int64_t second = 90000;
    std::lock_guard lock(mutex_);
    auto& s = streams_[pid];
    if (s.last && offset <= s.offset) return;
    s.offset = offset;
    auto now = ticks + shift_of(s, offset);
    bool apart = s.last && (now < *s.last - second || (now > *s.last + 10 * second && !s.gap));
    if (apart && s.joins.size() < most) {
        // The stream that comes first to a part says where it lies; 3,003 ticks are a usual picture.
        if (s.joins.size() == shifts_.size()) shifts_.push_back(*s.last + 3003 - ticks);
        s.joins.push_back(offset);
        count_ = shifts_.size();
        now = ticks + shift_of(s, offset);
    }
    s.last = now, s.gap = false;
}

std::int64_t Joins::shift(unsigned pid, std::uint64_t offset) const {
    if (count_ == 0) return 0;
    std::lock_guard lock(mutex_);
    auto s = streams_.find(pid);
    return s == streams_.end() ? 0 : shift_of(s->second, offset);
}

}  // namespace ruedo::mpegts
