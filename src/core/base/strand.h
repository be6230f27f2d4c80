// SPDX-License-Identifier: Apache-2.0
// Who runs what, when. The same engine code runs on a real strand (threads, the monotonic clock) and on a
// virtual one (one thread, invented time, the same order on every run).
#pragma once
#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>

#include "base/time.h"

namespace ruedo {

using Task = std::move_only_function<void()>;

/// One ordered queue of slow jobs beside a strand. Jobs of one worker never overlap. A job owns what it works on.
class Worker {
  public:
    /// Returns at once: a running job ends by itself, and no `done` is called any more. Its owner
    /// cancels that job first, where it may take long.
    virtual ~Worker() = default;
    /// Runs `job` beside the strand, then `done` on the strand. `cost` is what virtual time charges for it.
    virtual void run(Time cost, Task job, Task done) = 0;
};

/// The first object of a program's `main`: when it goes, every job that still ran as its worker was let go of has
/// ended. Only then may the static objects go that such a job uses, those of libraries among them. Programs without one
/// have the same done at exit, which is too late for what was made static after the first worker was let go of.
struct WorkersEnd {
    WorkersEnd() = default;
    WorkersEnd(const WorkersEnd&) = delete;
    WorkersEnd& operator=(const WorkersEnd&) = delete;
    ~WorkersEnd();
};

/// From within a job of a worker in virtual time: it takes that much longer, unless `given_up` becomes true meanwhile,
/// which must live as long as the job. Anywhere else it does nothing.
void charge(Time more, const std::atomic<bool>* given_up = nullptr);
/// What the running job was charged so far.
Time charged();

/// Runs tasks one at a time, in order of (time, ticket). Thread-safe to post to.
class Strand {
  public:
    virtual ~Strand() = default;
    virtual Time now() const = 0;
    virtual void post(Task task) = 0;
    /// Runs `task` at `when` or as soon after as possible; the ticket (never 0) can be given to `cancel`.
    virtual std::uint64_t at(Time when, Task task) = 0;
    virtual void cancel(std::uint64_t ticket) = 0;
    virtual std::unique_ptr<Worker> worker() = 0;
    virtual bool is_virtual() const = 0;
    /// True on the thread that runs the strand's tasks.
    virtual bool is_current() const = 0;
};

/// A strand with a thread of its own and the monotonic clock. Destroying it discards what has not begun.
std::unique_ptr<Strand> make_real_strand();

/// Invented time: nothing happens until `run_until`.
class VirtualStrand : public Strand {
  public:
    /// Runs everything due up to `end`, or until `done` says true; time then stands at the last task or `end`.
    virtual void run_until(Time end, const std::function<bool()>& done = {}) = 0;
    /// The clock goes on and nothing runs, as when the process is stopped or the machine sleeps.
    virtual void stand_still(Time length) = 0;
};
std::unique_ptr<VirtualStrand> make_virtual_strand();

}  // namespace ruedo
