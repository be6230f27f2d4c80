// SPDX-License-Identifier: Apache-2.0
#include "container/mpegts/joins.h"

#include <algorithm>

namespace ruedo::mpegts {

std::int64_t Joins::shift_of(const StreamClock& s, std::uint64_t offset) {
    auto behind =
        std::upper_bound(s.moved.begin(), s.moved.end(), offset, [](auto at, auto& m) { return at < m.from; });
    return behind == s.moved.begin() ? 0 : std::prev(behind)->by;
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
    s.offset = offset, ++s.run;
    auto goes_on = [&](std::int64_t by) {
        auto step = ticks + by - *s.last;
        return step >= -second && (step <= 10 * second || s.gap);
    };
    auto now = s.moved.empty() ? Moved{} : s.moved.back();
    if (s.last && !goes_on(now.by) && s.moved.size() < most) {
        auto before = s.moved.size() < 2 ? Moved{} : s.moved[s.moved.size() - 2];
        if (!s.moved.empty() && s.run <= 8 && before.part <= parts_.size() && goes_on(before.by)) {
            // As it was before: only a few stamps were astray.
            s.moved.push_back({offset, before.by, before.part});
            std::size_t begun = 0;
            for (auto& [other, seen] : streams_)
                if (!seen.moved.empty()) begun = std::max(begun, seen.moved.back().part);
            parts_.resize(begun);
        } else {
            if (now.part == parts_.size()) parts_.push_back(*s.last + 3003 - ticks);  // a usual picture later
            s.moved.push_back({offset, parts_[now.part], now.part + 1});
        }
        any_ = true, s.run = 0;
    }
    s.last = ticks + shift_of(s, offset), s.gap = false;
}

std::size_t Joins::count() const {
    std::lock_guard lock(mutex_);
    return parts_.size();
}

std::int64_t Joins::shift(unsigned pid, std::uint64_t offset) const {
    if (!any_) return 0;
    std::lock_guard lock(mutex_);
    auto s = streams_.find(pid);
    return s == streams_.end() ? 0 : shift_of(s->second, offset);
}

}  // namespace ruedo::mpegts
