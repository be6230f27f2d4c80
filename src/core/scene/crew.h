// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <atomic>
#include <condition_variable>
#include <cstdint>
#include <functional>
#include <mutex>
#include <thread>
#include <vector>

namespace ruedo::scene {

/// Threads that share out rows. The calling thread works too.
class ThreadPool {
  public:
    static constexpr int band = 8;  ///< Rows that a thread takes at a time.
    explicit ThreadPool(int hands) {
        for (int i = 1; i < hands; ++i) threads_.emplace_back([this] { stand_by(); });
    }
    ~ThreadPool() {
        {
            std::lock_guard lock(mutex_);
            over_ = true;
        }
        called_.notify_all();
        for (auto& t : threads_) t.join();
    }
    /// Calls `work(from, to)` for bands of `rows` rows; all of it is done when this returns.
    void share(int rows, const std::function<void(int, int)>& work) {
        if (threads_.empty() || rows <= band) return work(0, rows);
        {
            std::lock_guard lock(mutex_);
            work_ = &work, rows_ = rows, next_ = 0, at_it_ = threads_.size(), ++turn_;
        }
        called_.notify_all();
        take_bands(work, rows);
        std::unique_lock lock(mutex_);
        done_.wait(lock, [this] { return at_it_ == 0; });
    }

  private:
    void take_bands(const std::function<void(int, int)>& work, int rows) {
        for (int from; (from = next_.fetch_add(band)) < rows;) work(from, std::min(rows, from + band));
    }
    void stand_by() {
        std::uint64_t seen = 0;
        std::unique_lock lock(mutex_);
        for (;;) {
            called_.wait(lock, [&] { return over_ || turn_ != seen; });
            if (over_) return;
            seen = turn_;
            auto* work = work_;
            auto rows = rows_;
            lock.unlock();
            take_bands(*work, rows);
            lock.lock();
            if (--at_it_ == 0) done_.notify_one();
        }
    }
    std::vector<std::thread> threads_;
    std::mutex mutex_;
    std::condition_variable called_, done_;
    const std::function<void(int, int)>* work_ = nullptr;
    std::atomic<int> next_ = 0;
    int rows_ = 0;
    std::size_t at_it_ = 0;
    std::uint64_t turn_ = 0;
    bool over_ = false;
};

}  // namespace ruedo::scene
