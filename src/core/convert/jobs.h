// SPDX-License-Identifier: Apache-2.0
// Conversions, and the making of ladders, in a queue that outlives the program: one file a job, so that a crash,
// another window or the command line find it as it was left.
#pragma once
#include "convert/conversion.h"
#include "convert/ladder.h"

namespace ruedo {

struct Job {
    enum class State { waiting, running, paused, done, failed, stopped };
    std::uint64_t id = 0;
    State state = State::waiting;
    std::string in;  ///< Absolute, or an address.
    std::filesystem::path out;
    Recipe recipe;
    std::optional<LadderRecipe> ladder;  ///< Instead of the recipe: `out` becomes a folder.
    std::string target;                  ///< Its name; empty for none.
    double done = 0;
    std::optional<Time> left{};
    std::uint64_t bytes = 0, expected_bytes = 0;
    /// What a trial said beforehand, and how long it took in the end; 0 where nothing was said, or it is not over.
    std::uint64_t estimated_bytes = 0;
    Time estimated{}, took{};
    double speed = 0;
    std::string sentence;  ///< What came of it, or why nothing did.
    bool over() const { return state == State::done || state == State::failed || state == State::stopped; }
};
std::string_view job_state_name(Job::State state);
nlohmann::json to_json(const Job& job);

/// Thread-safe, and safe beside other processes on the same folder.
class JobQueue {
  public:
    /// The user's own: `$XDG_STATE_HOME/ruedo/jobs`.
    static std::filesystem::path standard_folder();
    explicit JobQueue(std::filesystem::path folder);
    /// At the end of the queue. A missing source fails when its turn comes; `exists` where `out` is there.
    /// `estimated` of it counts: what a trial said of bytes and time.
    Result<Job> add(const std::string& in, const std::filesystem::path& out, const Recipe& recipe,
                    const std::string& target = {}, const Job& estimated = {});
    /// A ladder is made of it, in the same queue.
    Result<Job> add_ladder(const std::string& in, const std::filesystem::path& out, const LadderRecipe& ladder);
    /// In the order in which they are carried out. A file that is no job is set aside: its name ends in “.set-aside”
    /// from then on, and `problems` tells of it.
    std::vector<Job> list() const;
    /// What lies in the folder and is no job: `malformed`, naming the file. Nothing of it is lost.
    std::vector<Error> problems() const;
    /// What is running goes on or gives way within half a second, in whichever process. `refused` where that makes no
    /// sense for its state, `not-found` where there is no such job.
    Status pause(std::uint64_t id);
    Status go_on(std::uint64_t id);
    Status stop(std::uint64_t id);
    /// What failed or was stopped waits for its turn once more.
    Status again(std::uint64_t id);
    /// To before another one; to the end without.
    Status move(std::uint64_t id, std::optional<std::uint64_t> before);
    /// Forgets those that are over; or one that is.
    void clear();
    void forget(std::uint64_t id);
    const std::filesystem::path& folder() const { return folder_; }
    /// Carries out what waits, in its order, until nothing does or `go_on` says false; it is asked by one thread at a
    /// time. So many go on side by side: a short one need not wait for the long one before it, and one that is paused
    /// holds nothing up. A job whose process died starts over. One at a time looks after a queue
    /// (`refused`). A job that fails keeps none of the others.
    Status run(CodecRegistry& codecs, const std::function<bool(const Job&)>& go_on, int side_by_side = 1);

  private:
    struct StoredJob {
        Job job;
        std::uint64_t order = 0;
        std::int64_t owner = 0;  ///< Process that runs it.
    };
    /// Held while one of all processes has its turn at the files.
    class Turn;
    Result<Job> put(Job job);
    Status change(std::uint64_t id, const std::function<Status(StoredJob&)>& how);
    Status keep(const StoredJob& kept) const;
    Result<StoredJob> read(const std::filesystem::path& file) const;
    std::vector<StoredJob> kept() const;
    std::optional<StoredJob> take_next();
    Status carry_out(StoredJob kept, CodecRegistry& codecs, const std::function<bool(const Job&)>& go_on,
                     const std::atomic<bool>& stop);
    std::filesystem::path folder_;
};

}  // namespace ruedo
