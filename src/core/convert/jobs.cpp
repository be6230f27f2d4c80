// SPDX-License-Identifier: Apache-2.0
#include "convert/jobs.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <nlohmann/json.hpp>
#include <atomic>
#include <future>
#include <mutex>
#include <thread>

#include "base/priority.h"
#include "container/container.h"
#include "io/json_text.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;
namespace {
constexpr std::array<std::string_view, 6> state_names{"waiting", "running", "paused", "done", "failed", "stopped"};
constexpr std::size_t most_jobs = 10'000;

bool alive(std::int64_t process) {
    return process > 0 && (::kill(static_cast<pid_t>(process), 0) == 0 || errno == EPERM);
}
std::string name_of(std::uint64_t id) { return fmt::format("{:08}.json", id); }
Error no_such(std::uint64_t id) {
    return {ErrorCode::not_found, fmt::format("There is no job {}.", id), "See “ruedo jobs” for those there are."};
}
}  // namespace

std::string_view job_state_name(Job::State state) { return state_names.at(static_cast<std::size_t>(state)); }

json to_json(const Job& j) {
    return {{"id", j.id},
            {"state", job_state_name(j.state)},
            {"in", j.in},
            {"out", j.out.string()},
            {"recipe", j.ladder ? json(nullptr) : to_json(j.recipe)},
            {"ladder", j.ladder ? to_json(*j.ladder) : json(nullptr)},
            {"target", j.target},
            {"done", j.done},
            {"left_ns", j.left ? json(j.left->ns) : json(nullptr)},
            {"bytes", j.bytes},
            {"expected_bytes", j.expected_bytes},
            {"foretold_bytes", j.estimated_bytes},
            {"foretold_ns", j.estimated.ns},
            {"took_ns", j.took.ns},
            {"speed", j.speed},
            {"sentence", j.sentence}};
}

/// A lock on a file, for as long as this lives or the process does; `held` is false where another one has it.
class JobQueue::Turn {
  public:
    Turn(const fs::path& file, bool wait) : fd_(::open(file.c_str(), O_CREAT | O_RDWR | O_CLOEXEC, 0600)) {
        held_ = fd_ >= 0 && ::flock(fd_, wait ? LOCK_EX : LOCK_EX | LOCK_NB) == 0;
    }
    ~Turn() {
        if (fd_ >= 0) ::close(fd_);
    }
    Turn(const Turn&) = delete;
    bool held() const { return held_; }

  private:
    int fd_;
    bool held_ = false;
};
fs::path JobQueue::standard_folder() {
    if (auto* state = std::getenv("XDG_STATE_HOME"); state && *state == '/') return fs::path(state) / "ruedo" / "jobs";
    auto* home = std::getenv("HOME");
    return fs::path(home && *home == '/' ? home : "/tmp") / ".local" / "state" / "ruedo" / "jobs";
}

JobQueue::JobQueue(fs::path folder) : folder_(std::move(folder)) {
    std::error_code ec;
    fs::create_directories(folder_, ec);
}

namespace {
constexpr std::string_view set_aside = ".set-aside";
/// Of numbers that documents hold exactly.
constexpr std::uint64_t last_id = 1'000'000'000'000'000;

std::uint64_t whole(const json& j, const char* name, std::optional<std::uint64_t> usual = {}) {
    if (!j.contains(name) && usual) return *usual;
    auto& v = j.at(name);
    if (!v.is_number_unsigned() || v.get<std::uint64_t>() > last_id)
        throw std::runtime_error(fmt::format("“{}” is not an integer up to {}", name, last_id));
    return v.get<std::uint64_t>();
}
}  // namespace

Result<JobQueue::StoredJob> JobQueue::read(const fs::path& path) const {
    auto file = path.filename().string();
    RUEDO_TRY(auto j, read_json(path, 1 << 20));
    auto wrong = [&](std::string_view why) {
        return fail(ErrorCode::malformed, fmt::format("“{}” is no job: {}.", file, why), "It was set aside.");
    };
    try {
        StoredJob k;
        auto state = std::find(state_names.begin(), state_names.end(), j.at("state").get<std::string>());
        if (state == state_names.end()) return wrong("it has no state there is");
        if (j.contains("ladder") && !j["ladder"].is_null()) {
            RUEDO_TRY(k.job.ladder, ladder_recipe_from_json(j["ladder"], file));
        } else {
            RUEDO_TRY(k.job.recipe, recipe_from_json(j.at("recipe"), file));
        }
        k.job.id = whole(j, "id");
        // Files under other names would be jobs again that are there already.
        if (k.job.id == 0 || file != name_of(k.job.id)) return wrong("it is not called after its number");
        k.job.state = static_cast<Job::State>(state - state_names.begin());
        k.job.in = j.at("in").get<std::string>(), k.job.out = j.at("out").get<std::string>();
        k.job.target = j.value("target", "");
        k.job.done = j.value("done", 0.0), k.job.speed = j.value("speed", 0.0);
        if (j.contains("left_ns") && j["left_ns"].is_number_integer()) k.job.left = Time{j["left_ns"]};
        k.job.bytes = whole(j, "bytes", 0);
        k.job.expected_bytes = whole(j, "expected_bytes", 0), k.job.estimated_bytes = whole(j, "foretold_bytes", 0);
        k.job.estimated = Time{j.value("foretold_ns", std::int64_t{0})};
        k.job.took = Time{j.value("took_ns", std::int64_t{0})};
        k.job.sentence = j.value("sentence", "");
        k.order = whole(j, "order"), k.owner = j.value("owner", std::int64_t{0});
        return k;
    } catch (const std::exception& e) {
        std::string_view why = e.what();
        // The library's sentences begin with a code of its own.
        if (auto end = why.find("] "); why.starts_with('[') && end != why.npos) why.remove_prefix(end + 2);
        return wrong(why);
    }
}

std::vector<JobQueue::StoredJob> JobQueue::kept() const {
    std::vector<StoredJob> all;
    std::error_code ec;
    for (auto& entry : fs::directory_iterator(folder_, ec)) {
        if (entry.path().extension() != ".json" || all.size() == most_jobs) continue;
        auto read = this->read(entry.path());
        if (read) {
            all.push_back(std::move(*read));
        } else if (auto code = read.error().code; code == ErrorCode::malformed || code == ErrorCode::empty ||
                                                  code == ErrorCode::limit || code == ErrorCode::refused ||
                                                  code == ErrorCode::usage) {
            auto aside = entry.path().string() + std::string(set_aside);
            (void)move_into_place(entry.path(), aside);
        }
    }
    std::sort(all.begin(), all.end(),
              [](auto& a, auto& b) { return std::pair(a.order, a.job.id) < std::pair(b.order, b.job.id); });
    return all;
}

std::vector<Error> JobQueue::problems() const {
    std::vector<Error> all;
    std::error_code ec;
    for (auto& entry : fs::directory_iterator(folder_, ec))
        if (entry.path().extension() == set_aside)
            all.push_back({ErrorCode::malformed,
                           fmt::format("“{}” could not be read as a job and was set aside.", entry.path().string()),
                           "Put it right and take “.set-aside” off its name, or remove it."});
    std::sort(all.begin(), all.end(), [](auto& a, auto& b) { return a.sentence < b.sentence; });
    return all;
}

Status JobQueue::keep(const StoredJob& k) const {
    auto j = to_json(k.job);
    j["order"] = k.order, j["owner"] = k.owner;
    auto text = j.dump(1, ' ', false, json::error_handler_t::replace) + "\n";
    return write_file(folder_ / name_of(k.job.id), {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
}

std::vector<Job> JobQueue::list() const {
    std::vector<Job> jobs;
    for (auto& k : kept()) jobs.push_back(std::move(k.job));
    return jobs;
}

Result<Job> JobQueue::add(const std::string& in, const fs::path& out, const Recipe& recipe, const std::string& target,
                          const Job& estimated) {
    Job job;
    job.in = in, job.out = out, job.recipe = recipe, job.target = target;
    job.estimated_bytes = estimated.estimated_bytes, job.estimated = estimated.estimated;
    return put(std::move(job));
}
Result<Job> JobQueue::add_ladder(const std::string& in, const fs::path& out, const LadderRecipe& ladder) {
    RUEDO_TRY_DO(ladder.check());
    Job job;
    job.in = in, job.out = out, job.ladder = ladder;
    return put(std::move(job));
}
Result<Job> JobQueue::put(Job job) {
    Turn turn(folder_ / ".turn", true);
    auto all = kept();
    if (all.size() >= most_jobs)
        return fail(ErrorCode::limit, fmt::format("There are {} jobs already.", all.size()),
                    "Clear those that are over.");
    StoredJob k;
    k.job = std::move(job);
    for (auto& other : all) k.job.id = std::max(k.job.id, other.job.id), k.order = std::max(k.order, other.order);
    ++k.job.id, ++k.order;
    std::error_code ec;
    auto& in = k.job.in;
    auto& out = k.job.out;
    if (fs::exists(out, ec))
        return fail(ErrorCode::exists, fmt::format("“{}” exists already.", out.filename().string()),
                    "Choose another name.");
    if (in.find("://") == std::string::npos) in = fs::absolute(in, ec).lexically_normal().string();
    out = fs::absolute(out, ec).lexically_normal();
    RUEDO_TRY_DO(keep(k));
    return k.job;
}

Status JobQueue::change(std::uint64_t id, const std::function<Status(StoredJob&)>& how) {
    Turn turn(folder_ / ".turn", true);
    for (auto& k : kept())
        if (k.job.id == id) {
            RUEDO_TRY_DO(how(k));
            return keep(k);
        }
    return std::unexpected(no_such(id));
}
Status JobQueue::pause(std::uint64_t id) {
    return change(id, [](StoredJob& k) -> Status {
        if (k.job.over())
            return fail(ErrorCode::refused,
                        fmt::format("Job {} is over: it is {}.", k.job.id, job_state_name(k.job.state)));
        k.job.state = Job::State::paused;
        return {};
    });
}
Status JobQueue::go_on(std::uint64_t id) {
    return change(id, [](StoredJob& k) -> Status {
        if (k.job.state != Job::State::paused)
            return fail(ErrorCode::refused, fmt::format("Job {} is not paused.", k.job.id));
        k.job.state = alive(k.owner) ? Job::State::running : Job::State::waiting;
        return {};
    });
}
Status JobQueue::stop(std::uint64_t id) {
    return change(id, [](StoredJob& k) -> Status {
        if (k.job.over())
            return fail(ErrorCode::refused,
                        fmt::format("Job {} is over: it is {}.", k.job.id, job_state_name(k.job.state)));
        k.job.state = Job::State::stopped;
        k.job.sentence = "It was stopped.";
        return {};
    });
}
Status JobQueue::again(std::uint64_t id) {
    return change(id, [](StoredJob& k) -> Status {
        if (k.job.state != Job::State::failed && k.job.state != Job::State::stopped)
            return fail(ErrorCode::refused, fmt::format("Job {} is {}.", k.job.id, job_state_name(k.job.state)));
        k.job.state = Job::State::waiting, k.job.done = 0, k.job.bytes = 0, k.job.sentence.clear();
        return {};
    });
}
Status JobQueue::move(std::uint64_t id, std::optional<std::uint64_t> before) {
    Turn turn(folder_ / ".turn", true);
    auto all = kept();
    auto it = std::find_if(all.begin(), all.end(), [&](auto& k) { return k.job.id == id; });
    if (it == all.end()) return std::unexpected(no_such(id));
    auto moved = std::move(*it);
    all.erase(it);
    auto to = all.end();
    if (before) {
        to = std::find_if(all.begin(), all.end(), [&](auto& k) { return k.job.id == *before; });
        if (to == all.end()) return std::unexpected(no_such(*before));
    }
    all.insert(to, std::move(moved));
    for (std::size_t i = 0; i < all.size(); ++i)
        if (auto order = i + 1; all[i].order != order) {
            all[i].order = order;
            RUEDO_TRY_DO(keep(all[i]));
        }
    return {};
}
void JobQueue::clear() {
    Turn turn(folder_ / ".turn", true);
    std::error_code ec;
    for (auto& k : kept())
        if (k.job.over()) fs::remove(folder_ / fmt::format("{:08}.json", k.job.id), ec);
}

void JobQueue::forget(std::uint64_t id) {
    Turn turn(folder_ / ".turn", true);
    std::error_code ec;
    for (auto& k : kept())
        if (k.job.id == id && k.job.over()) fs::remove(folder_ / fmt::format("{:08}.json", id), ec);
}

/// The first that waits, or was begun by a process that has died; from here on it is this one's.
std::optional<JobQueue::StoredJob> JobQueue::take_next() {
    Turn turn(folder_ / ".turn", true);
    for (auto& k : kept()) {
        bool orphan = k.job.state == Job::State::running && !alive(k.owner);
        if (k.job.state != Job::State::waiting && !orphan) continue;
        // Nothing was there when it was added, and outputs appear complete: renaming was its last step.
        if (std::error_code ec; orphan && fs::exists(k.job.out, ec)) {
            k.job.state = Job::State::done, k.job.done = 1, k.owner = 0;
            k.job.sentence = "It was made before the program ended.";
            if (!keep(k)) return std::nullopt;
            continue;
        }
        k.job.state = Job::State::running;
        k.job.done = 0, k.job.bytes = 0, k.job.left.reset();
        k.owner = ::getpid();
        if (!keep(k)) return std::nullopt;
        return k;
    }
    return std::nullopt;
}

Status JobQueue::carry_out(StoredJob k, CodecRegistry& codecs, const std::function<bool(const Job&)>& go_on,
                           const std::atomic<bool>& stop) {
    /// What was made, and in what time.
    struct JobOutput {
        std::uint64_t bytes;
        Time took;
    };
    Result<JobOutput> result = std::unexpected(Error{});
    bool given_up = false;
    auto said = [&]() -> std::optional<Job::State> {
        for (auto& now : kept())
            if (now.job.id == k.job.id) return now.job.state;
        return std::nullopt;  // forgotten, or its file is gone
    };
    Time kept_at{};
    auto told = [&](const ConversionProgress& p) {
        k.job.done = p.done, k.job.speed = p.speed, k.job.left = p.left;
        k.job.bytes = p.bytes, k.job.expected_bytes = p.expected_bytes;
        for (auto state = said();; state = said()) {
            given_up = !go_on(k.job);
            if (given_up || !state || *state == Job::State::stopped) return false;
            if (*state != Job::State::paused) break;
            k.job.state = Job::State::paused;
            std::this_thread::sleep_for(std::chrono::milliseconds(100));
        }
        k.job.state = Job::State::running;
        if (monotonic_now() - kept_at < 500_ms) return true;
        kept_at = monotonic_now();
        (void)change(k.job.id, [&](StoredJob& now) -> Status {
            // What was said meanwhile stays said.
            auto state = now.job.state;
            now.job = k.job, now.job.state = state;
            return {};
        });
        return true;
    };
    auto make = [&]() -> Result<JobOutput> {
        ReadScope scope(&stop);
        if (k.job.ladder) {
            RUEDO_TRY(auto made,
                      make_ladder(k.job.in, {.out = k.job.out, .recipe = *k.job.ladder, .told = told}, codecs));
            std::uint64_t bytes = 0;
            for (auto& r : made.rungs) bytes += r.bytes;
            return JobOutput{bytes, made.took};
        }
        ConversionOptions o;
        o.out = k.job.out, o.recipe = k.job.recipe, o.told = told;
        if (!k.job.target.empty()) {
            RUEDO_TRY(o.target, find_target(k.job.target));
        }
        RUEDO_TRY(auto made, convert(k.job.in, o, codecs));
        return JobOutput{made.bytes, made.took};
    };
    result = make();
    given_up = given_up || (stop && !result && result.error().code == ErrorCode::cancelled);
    auto kept_now = change(k.job.id, [&](StoredJob& now) -> Status {
        auto stopped = now.job.state == Job::State::stopped;
        now.job = k.job;
        now.owner = 0;
        now.job.left.reset();
        if (result) {
            now.job.state = Job::State::done, now.job.done = 1;
            now.job.bytes = now.job.expected_bytes = result->bytes;
            now.job.took = result->took;
            now.job.sentence = fmt::format("It was made in {}, {} bytes.", format_clock(result->took), result->bytes);
        } else if (stopped) {
            now.job.state = Job::State::stopped;
            now.job.sentence = "It was stopped.";
        } else if (given_up) {
            // The next process starts it over.
            now.job.state = Job::State::waiting, now.job.done = 0;
        } else {
            now.job.state = Job::State::failed;
            now.job.sentence = result.error().sentence + " " + result.error().hint;
        }
        k.job = now.job;
        return {};
    });
    if (!kept_now && kept_now.error().code != ErrorCode::not_found) return kept_now;
    if (given_up) return fail(ErrorCode::cancelled, "The queue was interrupted.", "Run it again; nothing is lost.");
    if (!go_on(k.job))
        return fail(ErrorCode::cancelled, "The queue was interrupted.", "Run it again; nothing is lost.");
    return {};
}

Status JobQueue::run(CodecRegistry& codecs, const std::function<bool(const Job&)>& go_on, int side_by_side) {
    Turn lock(folder_ / ".running", false);
    if (!lock.held())
        return fail(ErrorCode::refused, "Another Ruedo carries out this queue already.", "Its jobs go on there.");
    std::atomic<bool> stop = false;
    std::atomic<int> busy = 0;
    std::mutex mutex;
    Status outcome;
    auto asked = [&](const Job& job) {
        std::lock_guard one_at_a_time(mutex);
        if (!stop && !go_on(job)) stop = true;
        return !stop;
    };
    auto work = [&] {
        lower_priority();  // what plays comes first
        while (!stop) {
            ++busy;
            auto next = take_next();
            auto done = next ? carry_out(std::move(*next), codecs, asked, stop) : Status();
            --busy;
            if (!next && busy == 0) return;
            // What is added while another one goes on need not wait for its end.
            if (!next) std::this_thread::sleep_for(std::chrono::milliseconds(100));
            if (done) continue;
            stop = true;
            std::lock_guard one_at_a_time(mutex);
            if (outcome) outcome = done;
        }
    };
    std::vector<std::future<void>> beside;
    for (int i = 0; i < side_by_side; ++i) beside.push_back(std::async(std::launch::async, work));
    for (auto& b : beside) {
        // Cancelling this thread cancels the others too.
        while (b.wait_for(std::chrono::milliseconds(50)) != std::future_status::ready)
            if (ReadScope::given_up()) stop = true;
        try {
            b.get();
        } catch (const std::exception& e) {
            if (outcome) outcome = fail(ErrorCode::internal, fmt::format("A fault inside, in a job: {}.", e.what()));
        }
    }
    return outcome;
}

}  // namespace ruedo
