// SPDX-License-Identifier: Apache-2.0
// What a test says about time holds on a machine that stands still for half a second: it is judged against what a bare
// timer saw in the same moments.
#pragma once
#include <unistd.h>

#include <fstream>
#include <string>
#include <thread>

#include "base/time.h"

namespace ruedo::test {

/// What this machine's processors have lost so far to other machines on the same host, all of them together; nought
/// where the system does not count it. A thread that hands on to another loses on both, so the sum is what may be lost.
inline Time stolen() {
    std::ifstream file("/proc/stat");
    std::string cpu;
    std::int64_t ticks = 0;
    file >> cpu;
    for (int field = 0; field < 8; ++field) file >> ticks;  // user nice system idle iowait irq softirq steal
    return file ? Time{ticks * (1'000'000'000 / sysconf(_SC_CLK_TCK))} : Time{};
}

/// How long this thread has stood in line for a processor so far, as the system counts it; nought where it does not.
inline Time stood_in_line() {
    std::ifstream file("/proc/thread-self/schedstat");
    std::int64_t ran = 0, waited = 0;
    file >> ran >> waited;
    return Time{waited};
}

/// Watches, for as long as it lives, how long the process did not run although it wanted to.
class BareTimer {
  public:
    BareTimer()
        : thread_([this] {
              while (running_) {
                  auto before = monotonic_now(), in_line = stood_in_line();
                  std::this_thread::sleep_for(std::chrono::milliseconds(2));
                  auto late = monotonic_now() - before - 2_ms;
                  if (late > 5_ms) stood_ += late.ns, stopped_ += std::max(0_ms, late - (stood_in_line() - in_line)).ns;
                  if (late > 100_ms) ++stops_;
              }
          }) {}
    ~BareTimer() {
        running_ = false;
        thread_.join();
    }
    BareTimer(const BareTimer&) = delete;
    BareTimer& operator=(const BareTimer&) = delete;
    /// Time lost so far (to stops, or to other machines, whichever is more), and how often a tenth of a second or more
    /// was lost at once.
    Time stood() const { return std::max(Time{stood_}, stolen() - stolen_before_); }
    int stops() const { return stops_; }
    /// Of the time lost, what was lost to stops: who is stopped stands in no line.
    Time stopped() const { return Time{stopped_}; }
    /// Time that ran since the timer began.
    Time ran() const {
        auto all = monotonic_now() - begun_;
        return std::max(Time{}, all - stood());
    }

  private:
    Time begun_ = monotonic_now(), stolen_before_ = stolen();
    std::atomic<bool> running_ = true;
    std::atomic<std::int64_t> stood_ = 0, stopped_ = 0;
    std::atomic<int> stops_ = 0;
    std::thread thread_;
};

/// Instrumented code takes so many times as long.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
inline constexpr std::int64_t slowed = 6;
#else
inline constexpr std::int64_t slowed = 1;
#endif

/// How long `what` ran, less what the bare timer beside it lost, or what this thread lost to stops and to standing in
/// line for a processor that others had, whichever is more.
template <class F>
Time took(F&& what) {
    BareTimer timer;
    auto begun = monotonic_now(), in_line = stood_in_line();
    what();
    std::this_thread::sleep_for(std::chrono::milliseconds(3));  // a stop at the very end is seen as well
    auto lost = std::max(timer.stood(), timer.stopped() + (stood_in_line() - in_line));
    return std::max(Time{}, monotonic_now() - begun - lost - 3_ms);
}

}  // namespace ruedo::test
