// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <deque>
#include <functional>
#include <mutex>

#include "playback/playback.h"

namespace ruedo {

/// The numbered events of a controller, the newest `limit` of them. Written on the strand, read anywhere.
class Trace {
  public:
    static constexpr std::size_t limit = 20000;
    void add(Event event);
    std::vector<Event> after(std::uint64_t n) const;
    std::uint64_t count() const;
    void listen(std::function<void(const Event&)> listener);

  private:
    mutable std::mutex mutex_;
    std::deque<Event> events_;
    std::uint64_t count_ = 0;
    std::function<void(const Event&)> listener_;
};

}  // namespace ruedo
