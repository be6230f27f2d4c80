// SPDX-License-Identifier: Apache-2.0
#include "base/strand.h"

#include <condition_variable>
#include <deque>
#include <map>
#include <mutex>
#include <thread>

namespace ruedo {
namespace {

/// Tasks by (time, ticket): the one order in which anything happens.
struct Agenda {
    std::map<std::pair<std::int64_t, std::uint64_t>, Task> tasks;
    std::map<std::uint64_t, std::int64_t> when;
    std::uint64_t next = 1;

    std::uint64_t add(Time at, Task task) {
        auto ticket = next++;
        tasks.emplace(std::pair{at.ns, ticket}, std::move(task));
        when.emplace(ticket, at.ns);
        return ticket;
    }
    Task take(std::uint64_t ticket) {
        auto found = when.find(ticket);
        if (found == when.end()) return {};
        auto entry = tasks.find({found->second, ticket});
        Task task = std::move(entry->second);
        tasks.erase(entry);
        when.erase(found);
        return task;
    }
    Task take_first() { return take(tasks.begin()->first.second); }
};

class RealStrand final : public Strand {
  public:
    RealStrand() : thread_([this] { loop(); }) {}
    ~RealStrand() override {
        {
            std::lock_guard lock(mutex_);
            ending_ = true;
        }
        wake_.notify_all();
        thread_.join();
    }
    Time now() const override { return monotonic_now(); }
    void post(Task task) override { at({INT64_MIN}, std::move(task)); }
    std::uint64_t at(Time when, Task task) override {
        std::uint64_t ticket;
        {
            std::lock_guard lock(mutex_);
            ticket = agenda_.add(when, std::move(task));
        }
        wake_.notify_one();
        return ticket;
    }
    void cancel(std::uint64_t ticket) override {
        Task dropped;  // destroyed outside the lock: it may own things that post
        std::lock_guard lock(mutex_);
        dropped = agenda_.take(ticket);
    }
    std::unique_ptr<Lane> lane() override;
    bool is_virtual() const override { return false; }
    bool is_current() const override { return std::this_thread::get_id() == thread_.get_id(); }

  private:
    void loop() {
        std::unique_lock lock(mutex_);
        while (!ending_) {
            if (agenda_.tasks.empty()) {
                wake_.wait(lock);
                continue;
            }
            auto due = agenda_.tasks.begin()->first.first;
            if (due > now().ns) {
                wake_.wait_until(lock, std::chrono::steady_clock::time_point(std::chrono::nanoseconds(due)));
                continue;
            }
            Task task = agenda_.take_first();
            lock.unlock();
            task();
            task = {};
            lock.lock();
        }
    }
    std::mutex mutex_;
    std::condition_variable wake_;
    Agenda agenda_;
    bool ending_ = false;
    std::thread thread_;
};

class RealLane final : public Lane {
  public:
    explicit RealLane(Strand& strand) : strand_(strand), thread_([this] { loop(); }) {}
    ~RealLane() override {
        std::deque<Work> dropped;
        {
            std::lock_guard lock(mutex_);
            ending_ = true;
            dropped.swap(queue_);
        }
        wake_.notify_all();
        thread_.join();
    }
    void run(Time, Task job, Task done) override {
        {
            std::lock_guard lock(mutex_);
            queue_.push_back({std::move(job), std::move(done)});
        }
        wake_.notify_one();
    }

  private:
    struct Work { Task job, done; };
    void loop() {
        std::unique_lock lock(mutex_);
        for (;;) {
            wake_.wait(lock, [this] { return ending_ || !queue_.empty(); });
            if (ending_) return;
            Work work = std::move(queue_.front());
            queue_.pop_front();
            lock.unlock();
            work.job();
            work.job = {};
            strand_.post(std::move(work.done));
            lock.lock();
        }
    }
    Strand& strand_;
    std::mutex mutex_;
    std::condition_variable wake_;
    std::deque<Work> queue_;
    bool ending_ = false;
    std::thread thread_;
};

std::unique_ptr<Lane> RealStrand::lane() { return std::make_unique<RealLane>(*this); }

class Virtual final : public VirtualStrand {
  public:
    Time now() const override { return now_; }
    void post(Task task) override { at(now_, std::move(task)); }
    std::uint64_t at(Time when, Task task) override { return agenda_.add(std::max(when, now_), std::move(task)); }
    void cancel(std::uint64_t ticket) override { agenda_.take(ticket); }
    std::unique_ptr<Lane> lane() override;
    bool is_virtual() const override { return true; }
    bool is_current() const override { return running_; }
    void run_until(Time end, const std::function<bool()>& done) override {
        while (!agenda_.tasks.empty() && !(done && done())) {
            Time due{agenda_.tasks.begin()->first.first};
            if (due > end) break;
            now_ = std::max(now_, due);
            Task task = agenda_.take_first();
            running_ = true;
            task();
            running_ = false;
        }
        if (!(done && done())) now_ = std::max(now_, end == Time::max() ? now_ : end);
    }

  private:
    Agenda agenda_;
    Time now_{};
    bool running_ = false;
};

class VirtualLane final : public Lane {
  public:
    explicit VirtualLane(Virtual& strand) : strand_(strand) {}
    void run(Time cost, Task job, Task done) override {
        // A lane works on one job at a time, so a job is charged from when the one before it ends.
        free_at_ = std::max(free_at_, strand_.now()) + cost;
        strand_.at(free_at_, [alive = std::weak_ptr<int>(alive_), job = std::move(job), done = std::move(done)]() mutable {
            if (alive.expired()) return;
            job();
            job = {};
            done();
        });
    }

  private:
    Virtual& strand_;
    Time free_at_{};
    std::shared_ptr<int> alive_ = std::make_shared<int>(0);
};

std::unique_ptr<Lane> Virtual::lane() { return std::make_unique<VirtualLane>(*this); }

}  // namespace

std::unique_ptr<Strand> make_real_strand() { return std::make_unique<RealStrand>(); }
std::unique_ptr<VirtualStrand> make_virtual_strand() { return std::make_unique<Virtual>(); }

}  // namespace ruedo
