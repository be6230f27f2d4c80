// SPDX-License-Identifier: Apache-2.0
// The queue of conversions: what is said to it holds, whoever says it and whatever dies.
#include <atomic>
#include <set>
#include <thread>

#include "convert/jobs.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
Recipe anew(Time to = 500_ms) {
    Recipe r;
    r.video.action = Recipe::Do::encode, r.video.codec = Codec::vp8;
    r.to = to;
    return r;
}
Job::State state_of(const JobQueue& queue, std::uint64_t id) {
    for (auto& j : queue.list())
        if (j.id == id) return j.state;
    FAIL("there is no such job");
    return {};
}
const auto on = [](const Job&) { return true; };
}  // namespace

TEST_CASE("Jobs are carried out in their order, and one that fails keeps none of the others", "[jobs]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    auto in = fixture("vp9_opus.webm").string();
    auto first = value(queue.add(in, folder / "1.webm", anew()));
    auto bad = value(queue.add((folder / "missing.mp4").string(), folder / "2.webm", anew()));
    auto third = value(queue.add(in, folder / "3.mp4", {}, "no such target"));
    auto fourth = value(queue.add(fixture("h264_high_aac.mp4").string(), folder / "4.mp4", {}));
    done(queue.move(fourth.id, first.id));
    std::vector<std::uint64_t> seen;
    done(queue.run(CodecRegistry::standard(), [&](const Job& j) {
        if (seen.empty() || seen.back() != j.id) seen.push_back(j.id);
        CHECK((j.done >= 0 && j.done <= 1));
        return true;
    }));
    CHECK(seen == std::vector<std::uint64_t>{fourth.id, first.id, bad.id, third.id});
    // Another one on the same folder finds them as they were left.
    JobQueue other(folder / "jobs");
    CHECK(state_of(other, first.id) == Job::State::done);
    CHECK(state_of(other, fourth.id) == Job::State::done);
    CHECK(state_of(other, bad.id) == Job::State::failed);
    CHECK(state_of(other, third.id) == Job::State::failed);
    for (auto& j : other.list()) CHECK_FALSE(j.sentence.empty());
    CHECK((fs::exists(folder / "1.webm") && fs::exists(folder / "4.mp4")));
    CHECK(other.pause(first.id).error().code == ErrorCode::refused);
    CHECK(other.go_on(first.id).error().code == ErrorCode::refused);
    CHECK(other.stop(99).error().code == ErrorCode::not_found);
    other.clear();
    CHECK(queue.list().empty());
}

TEST_CASE("Two at a time: a short one does not wait for the long one before it, nor for one that is paused", "[jobs]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    auto in = fixture("h264_high_aac.mp4").string();
    auto longest = anew(3_s);
    longest.video.effort = 2;
    auto first = value(queue.add(in, folder / "1.webm", longest));
    std::vector<std::uint64_t> quick;
    for (int i = 2; i < 6; ++i) quick.push_back(value(queue.add(in, folder / (std::to_string(i) + ".mp4"), {})).id);
    std::atomic<bool> all_quick_done = false, held = false;
    std::atomic<int> at_once = 0, most = 0;
    done(queue.run(
        CodecRegistry::standard(),
        [&](const Job& j) {
            // One thread at a time is told.
            most = std::max(most.load(), ++at_once);
            if (j.id == first.id && !held.exchange(true)) done(queue.pause(first.id));
            bool over = std::all_of(quick.begin(), quick.end(),
                                    [&](auto id) { return state_of(queue, id) == Job::State::done; });
            if (over && !all_quick_done.exchange(true)) done(queue.go_on(first.id));
            --at_once;
            return true;
        },
        2));
    CHECK(most == 1);
    CHECK(all_quick_done);
    for (auto& j : queue.list()) CHECK(j.state == Job::State::done);
    for (int i = 2; i < 6; ++i) CHECK(fs::exists(folder / (std::to_string(i) + ".mp4")));
    CHECK(fs::exists(folder / "1.webm"));
    // Interrupted, both give way, and what they had begun waits again.
    queue.clear();
    for (int i = 6; i < 9; ++i) (void)value(queue.add(in, folder / (std::to_string(i) + ".webm"), longest));
    std::atomic<int> told = 0;
    auto stopped = queue.run(CodecRegistry::standard(), [&](const Job&) { return ++told < 4; }, 2);
    CHECK(stopped.error().code == ErrorCode::cancelled);
    for (auto& j : queue.list()) CHECK(j.state == Job::State::waiting);
}

TEST_CASE("A job under way is paused, goes on, and is stopped by whoever says so, and leaves nothing behind",
          "[jobs]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    auto job = value(queue.add(fixture("h264_high_aac.mp4").string(), folder / "out.webm", anew(60_s)));
    std::atomic<double> done_so_far = 0;
    std::atomic<int> told = 0;
    std::thread runner([&] {
        JobQueue mine(folder / "jobs");
        (void)mine.run(CodecRegistry::standard(), [&](const Job& j) {
            done_so_far = j.done, ++told;
            return true;
        });
    });
    auto until = [&](auto condition) {
        for (int i = 0; i < 3000 && !condition(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
        return condition();
    };
    REQUIRE(until([&] { return told > 0; }));
    // One at a time looks after a queue.
    CHECK(queue.run(CodecRegistry::standard(), on).error().code == ErrorCode::refused);
    done(queue.pause(job.id));
    int at_pause = told;
    REQUIRE(until([&] { return told > at_pause + 3; }));
    auto held = done_so_far.load();
    int asked = told;
    REQUIRE(until([&] { return told > asked + 5; }));
    CHECK(done_so_far == held);
    CHECK(state_of(queue, job.id) == Job::State::paused);
    done(queue.go_on(job.id));
    REQUIRE(until([&] { return done_so_far > held || state_of(queue, job.id) == Job::State::done; }));
    (void)queue.stop(job.id);
    runner.join();
    CHECK(queue.list().at(0).over());
    std::set<std::string> left;
    for (auto& e : fs::directory_iterator(folder.path)) left.insert(e.path().filename().string());
    left.erase("jobs");
    if (state_of(queue, job.id) == Job::State::stopped) CHECK(left.empty());
}

TEST_CASE("What was interrupted, or begun by a process that died, begins anew, and wrong files are passed over",
          "[jobs]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    auto job = value(queue.add(fixture("vp9_opus.webm").string(), folder / "o.webm", anew()));
    auto interrupted = queue.run(CodecRegistry::standard(), [](const Job&) { return false; });
    CHECK(interrupted.error().code == ErrorCode::cancelled);
    CHECK(state_of(queue, job.id) == Job::State::waiting);
    CHECK_FALSE(fs::exists(folder / "o.webm"));
    // As a crash leaves it: running, by a process that is no more.
    auto file = folder / "jobs" / "00000001.json";
    auto bytes = bytes_of(file);
    auto j = nlohmann::json::parse(bytes.begin(), bytes.end());
    j["state"] = "running", j["owner"] = 2147483000, j["done"] = 0.7;
    auto text = j.dump();
    put(file, ByteView(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
    put(folder / "jobs" / "broken.json", Bytes{'{', 'x'});
    put(folder / "jobs" / "other.json", Bytes{'[', ']'});
    CHECK(queue.list().size() == 1);
    done(queue.run(CodecRegistry::standard(), on));
    CHECK(state_of(queue, job.id) == Job::State::done);
    CHECK(fs::exists(folder / "o.webm"));
    CHECK(queue.add("/x.mp4", folder / "o.webm", {}).error().code == ErrorCode::exists);
    // Died between the clip and the word about it: the clip is there, so it is done.
    auto again = bytes_of(file);
    auto k = nlohmann::json::parse(again.begin(), again.end());
    k["state"] = "running", k["owner"] = 2147483000;
    text = k.dump();
    put(file, ByteView(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
    done(queue.run(CodecRegistry::standard(), on));
    CHECK(state_of(queue, job.id) == Job::State::done);
}

TEST_CASE("The order of jobs is what was asked for, whatever comes and goes", "[jobs]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    std::mt19937 random(91);
    std::vector<std::uint64_t> wanted;
    for (int i = 0; i < 120; ++i) {
        auto what = random() % 4;
        if (what < 2 || wanted.empty()) {
            wanted.push_back(value(queue.add("/x.mp4", folder / "y.mp4", {})).id);
        } else if (what == 2) {
            auto from = random() % wanted.size();
            auto id = wanted[from];
            wanted.erase(wanted.begin() + static_cast<std::ptrdiff_t>(from));
            auto to = random() % (wanted.size() + 1);
            done(queue.move(id, to < wanted.size() ? std::optional(wanted[to]) : std::nullopt));
            wanted.insert(wanted.begin() + static_cast<std::ptrdiff_t>(to), id);
        } else {
            auto at = random() % wanted.size();
            done(queue.stop(wanted[at]));
            queue.clear();
            wanted.erase(wanted.begin() + static_cast<std::ptrdiff_t>(at));
        }
        std::vector<std::uint64_t> ids;
        for (auto& j : queue.list()) ids.push_back(j.id);
        REQUIRE(ids == wanted);
    }
}

TEST_CASE("What was foretold stays with a job, and what failed can be tried again", "[jobs]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    Job estimated;
    estimated.estimated_bytes = 12345, estimated.estimated = 3_s;
    auto in = folder / "late.webm";
    auto job = value(queue.add(in.string(), folder / "1.webm", anew(), {}, estimated));
    CHECK(queue.again(job.id).error().code == ErrorCode::refused);
    done(queue.run(CodecRegistry::standard(), on));
    CHECK(state_of(queue, job.id) == Job::State::failed);
    fs::copy_file(fixture("vp9_opus.webm"), in);
    done(queue.again(job.id));
    CHECK(state_of(queue, job.id) == Job::State::waiting);
    done(queue.run(CodecRegistry::standard(), on));
    auto now = JobQueue(folder / "jobs").list().at(0);
    CHECK((now.state == Job::State::done && now.estimated_bytes == 12345 && now.estimated == 3_s));
    CHECK((now.took.ns > 0 && now.bytes == fs::file_size(folder / "1.webm")));
    CHECK(queue.again(job.id).error().code == ErrorCode::refused);
    auto other = value(queue.add(in.string(), folder / "2.webm", anew()));
    done(queue.stop(other.id));
    done(queue.again(other.id));
    CHECK(state_of(queue, other.id) == Job::State::waiting);
}

TEST_CASE("One that is added while another goes on begins beside it", "[jobs]") {
    Folder folder;
    JobQueue queue(folder / "jobs");
    auto in = fixture("vp9_opus.webm").string();
    auto first = value(queue.add(in, folder / "1.webm", anew(5_s)));
    std::atomic<bool> let_go = false, second_ran = false;
    std::optional<Job> second;
    done(queue.run(
        CodecRegistry::standard(),
        [&](const Job& j) {
            // The first one does not get on before the second has.
            if (j.id == first.id && !second) second = value(queue.add(in, folder / "2.webm", anew()));
            if (j.id == first.id && !let_go) done(queue.pause(first.id)), let_go = true;
            if (second && j.id == second->id && !second_ran) second_ran = true, done(queue.go_on(first.id));
            return true;
        },
        2));
    CHECK(second_ran);
    CHECK((state_of(queue, first.id) == Job::State::done && state_of(queue, second->id) == Job::State::done));
}
