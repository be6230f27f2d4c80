// SPDX-License-Identifier: Apache-2.0
// Hands values from one thread to another, never more than a few at a time: back pressure between the stages of a job.
#pragma once
#include <condition_variable>
#include <deque>
#include <mutex>
#include <optional>

namespace ruedo {

/// Thread-safe.
template <class T>
class Bounded {
  public:
    explicit Bounded(std::size_t most) : most_(most) {}
    /// Waits for room; false, and the value dropped, once it is closed.
    bool put(T value) {
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [&] { return closed_ || held_.size() < most_; });
        if (closed_) return false;
        held_.push_back(std::move(value));
        lock.unlock();  // or whoever is woken would wait for it
        changed_.notify_all();
        return true;
    }
    /// Waits for a value; nothing once it is closed and all have been taken.
    std::optional<T> take() {
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [&] { return closed_ || !held_.empty(); });
        if (held_.empty()) return std::nullopt;
        std::optional<T> value(std::move(held_.front()));
        held_.pop_front();
        lock.unlock();
        changed_.notify_all();
        return value;
    }
    /// No more comes, or is wanted; whoever waits goes on.
    void close() {
        std::lock_guard lock(mutex_);
        closed_ = true;
        changed_.notify_all();
    }

  private:
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<T> held_;
    std::size_t most_;
    bool closed_ = false;
};

}  // namespace ruedo
