// SPDX-License-Identifier: Apache-2.0
#include "base/strand.h"

#include <atomic>
#include <condition_variable>
#include <cstdio>
#include <cstdlib>
#include <deque>
#include <exception>
#include <list>
#include <map>
#include <mutex>
#include <thread>
#include <utility>

namespace ruedo {
namespace {

/// What a task lets through is a fault of ours; it ends that task, not the process.
void run_guarded(const char* where, Task& task) {
    try {
        task();
    } catch (const std::exception& e) {
        std::fprintf(stderr, "A fault inside, on %s: %s.\n", where, e.what());
    }
}

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
    std::unique_ptr<Worker> worker() override;
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
            run_guarded("a strand", task);
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

/// Threads of workers that were let go of while a job still ran. Never destroyed: a job may let go of workers at any
/// time.
class Leaving {
  public:
    static Leaving& all() {
        static auto& leaving = *new Leaving;
        return leaving;
    }
    void wait() {
        // What a job held may own workers itself, which come here while others are waited for.
        for (decltype(threads_) last;; last.clear()) {
            {
                std::lock_guard lock(mutex_);
                last.swap(threads_);
            }
            if (last.empty()) return;
            for (auto& t : last) t.first.join();
        }
    }
    void add(std::thread thread, std::shared_ptr<std::atomic<bool>> ended) {
        // Registered now rather than earlier: statics constructed before are destroyed after the wait.
        static const bool registered = std::atexit([] { all().wait(); }) == 0;
        (void)registered;
        std::lock_guard lock(mutex_);
        threads_.emplace_back(std::move(thread), std::move(ended));
        for (auto it = threads_.begin(); it != threads_.end();) {
            if (!*it->second) {
                ++it;
                continue;
            }
            it->first.join();
            it = threads_.erase(it);
        }
    }

  private:
    std::mutex mutex_;
    std::list<std::pair<std::thread, std::shared_ptr<std::atomic<bool>>>> threads_;
};

class RealWorker final : public Worker {
  public:
    explicit RealWorker(Strand& strand) : inside_(std::make_shared<Inside>()) {
        inside_->strand = &strand;
        thread_ = std::thread([inside = inside_] { inside->loop(); });
    }
    ~RealWorker() override {
        std::deque<Work> dropped;
        {
            std::lock_guard lock(inside_->mutex);
            inside_->strand = nullptr;
            dropped.swap(inside_->queue);
        }
        inside_->wake.notify_all();
        Leaving::all().add(std::move(thread_), std::shared_ptr<std::atomic<bool>>(inside_, &inside_->ended));
    }
    void run(Time, Task job, Task done) override {
        {
            std::lock_guard lock(inside_->mutex);
            inside_->queue.push_back({std::move(job), std::move(done)});
        }
        inside_->wake.notify_one();
    }

  private:
    struct Work {
        Task job, done;
    };
    struct Inside {
        std::mutex mutex;
        std::condition_variable wake;
        std::deque<Work> queue;
        Strand* strand = nullptr;  ///< None once the worker was let go of.
        std::atomic<bool> ended = false;

        void loop() {
            std::unique_lock lock(mutex);
            for (;;) {
                wake.wait(lock, [this] { return !strand || !queue.empty(); });
                if (!strand) break;
                Work work = std::move(queue.front());
                queue.pop_front();
                lock.unlock();
                run_guarded("a lane", work.job);
                work.job = {};
                lock.lock();
                if (strand) strand->post(std::move(work.done));
            }
            lock.unlock();
            ended = true;
        }
    };
    std::shared_ptr<Inside> inside_;
    std::thread thread_;
};

std::unique_ptr<Worker> RealStrand::worker() { return std::make_unique<RealWorker>(*this); }

class Virtual final : public VirtualStrand {
  public:
    Time now() const override { return now_; }
    void post(Task task) override { at(now_, std::move(task)); }
    std::uint64_t at(Time when, Task task) override { return agenda_.add(std::max(when, now_), std::move(task)); }
    void cancel(std::uint64_t ticket) override { agenda_.take(ticket); }
    std::unique_ptr<Worker> worker() override;
    bool is_virtual() const override { return true; }
    bool is_current() const override { return running_; }
    void run_until(Time end, const std::function<bool()>& done) override {
        while (!agenda_.tasks.empty() && !(done && done())) {
            Time due{agenda_.tasks.begin()->first.first};
            if (due > end) break;
            now_ = std::max(now_, due);
            Task task = agenda_.take_first();
            running_ = true;
            run_guarded("the virtual strand", task);
            running_ = false;
        }
        if (!(done && done())) now_ = std::max(now_, end == Time::max() ? now_ : end);
    }

    void stand_still(Time length) override { now_ += length; }

  private:
    Agenda agenda_;
    Time now_{};
    bool running_ = false;
};

/// What the job that runs just now has been charged beyond its cost.
struct Charged {
    Time more{};
    const std::atomic<bool>* given_up = nullptr;
};
thread_local Charged* charging = nullptr;

class VirtualWorker final : public Worker {
  public:
    explicit VirtualWorker(Virtual& strand) : strand_(strand) {}
    void run(Time cost, Task job, Task done) override {
        // A worker works on one job at a time, so a job is charged from when the one before it ends.
        free_at_ = std::max(free_at_, strand_.now()) + cost;
        at(free_at_, Work{std::move(job), std::move(done)});
    }

  private:
    struct Work {
        Task job, done;
    };
    void at(Time when, Work work) {
        strand_.at(when, [this, alive = std::weak_ptr<int>(alive_), work = std::move(work)]() mutable {
            if (!alive.expired()) begin(std::move(work));
        });
    }
    void begin(Work work) {
        // The one before took longer than it was to, and still does.
        bool held = strand_.now() < held_until_ && !(held_.given_up && *held_.given_up);
        if (held) return at(held_until_, std::move(work));
        Charged charged;
        auto* before = std::exchange(charging, &charged);
        work.job();
        charging = before;
        if (charged.more <= Time{}) {
            work.job = {};
            return work.done();
        }
        held_ = charged, held_until_ = strand_.now() + charged.more;
        strand_.at(held_until_, [this, alive = std::weak_ptr<int>(alive_), work = std::move(work),
                                 flag = charged.given_up]() mutable {
            if (alive.expired()) return;
            if (held_.given_up == flag) held_ = {};
            work.job = {};
            work.done();
        });
    }
    Virtual& strand_;
    Time free_at_{}, held_until_{};
    Charged held_;
    std::shared_ptr<int> alive_ = std::make_shared<int>(0);
};

std::unique_ptr<Worker> Virtual::worker() { return std::make_unique<VirtualWorker>(*this); }

}  // namespace

WorkersEnd::~WorkersEnd() { Leaving::all().wait(); }

void charge(Time more, const std::atomic<bool>* given_up) {
    if (charging) charging->more += more, charging->given_up = given_up;
}
Time charged() { return charging ? charging->more : Time{}; }

std::unique_ptr<Strand> make_real_strand() { return std::make_unique<RealStrand>(); }
std::unique_ptr<VirtualStrand> make_virtual_strand() { return std::make_unique<Virtual>(); }

}  // namespace ruedo
