// SPDX-License-Identifier: Apache-2.0
// Hands values from one thread to another, never more than a few at a time: back pressure between the stages of a job.
#pragma once
#include <algorithm>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>

namespace ruedo {

/// Waiters wake when the queue is half full or half empty, so that there is work for a while. So two
/// stages wake each other seldom, which costs as much as a small picture does. Thread-safe.
template <class T>
class Bounded {
  public:
    explicit Bounded(std::size_t most) : most_(most), half_(std::max<std::size_t>(1, most / 2)) {}
    /// Waits for room; false, and the value dropped, once it is closed.
    bool put(T value) {
        std::unique_lock lock(mutex_);
        if (held_.size() >= most_) changed_.wait(lock, [&] { return closed_ || held_.size() <= most_ - half_; });
        if (closed_) return false;
        held_.push_back(std::move(value));
        bool enough = held_.size() >= half_;
        lock.unlock();  // or the thread that wakes would wait for it
        if (enough) changed_.notify_all();
        return true;
    }
    /// Waits for a value; nothing once it is closed and all have been taken.
    std::optional<T> take() {
        std::unique_lock lock(mutex_);
        if (held_.empty()) changed_.wait(lock, [&] { return closed_ || held_.size() >= half_; });
        if (held_.empty()) return std::nullopt;
        std::optional<T> value(std::move(held_.front()));
        held_.pop_front();
        bool enough = held_.size() <= most_ - half_;
        lock.unlock();
        if (enough) changed_.notify_all();
        return value;
    }
    /// Closes the queue from either end; waiters wake.
    void close() {
        std::lock_guard lock(mutex_);
        closed_ = true;
        changed_.notify_all();
    }

  private:
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<T> held_;
    std::size_t most_, half_;
    bool closed_ = false;
};

}  // namespace ruedo
