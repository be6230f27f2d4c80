// SPDX-License-Identifier: Apache-2.0
#include <thread>

#include "base/priority.h"
#include "support.h"

using namespace ruedo;

TEST_CASE("Virtual time runs tasks in order of time, then of ticket", "[strand]") {
    auto strand = make_virtual_strand();
    std::vector<int> order;
    strand->at(20_ms, [&] { order.push_back(4); });
    strand->at(10_ms, [&] {
        order.push_back(2);
        strand->post([&] { order.push_back(3); });
    });
    strand->post([&] { order.push_back(1); });
    auto dropped = strand->at(15_ms, [&] { order.push_back(99); });
    strand->cancel(dropped);
    strand->run_until(1_s);
    CHECK(order == std::vector{1, 2, 3, 4});
    CHECK(strand->now() == 1_s);
}

TEST_CASE("Who gives way takes along whom it begins, and nobody else", "[strand]") {
    auto now = [] { return ::getpriority(PRIO_PROCESS, static_cast<id_t>(::gettid())); };
    int here = now(), there = 0, further = 0, last = 0;
    std::thread([&] {
        lower_priority();
        there = now();
        std::thread([&] {
            further = now();
            lower_priority(), lower_priority();
            last = now();
        }).join();
    }).join();
    CHECK((there == std::min(19, here + 10) && further == there && last == 19));
    CHECK(now() == here);
}

TEST_CASE("A lane charges its jobs one after another, and forgets them when it goes", "[strand]") {
    auto strand = make_virtual_strand();
    auto worker = strand->worker();
    std::vector<Time> ends;
    for (int i = 0; i < 3; ++i) worker->run(5_ms, [] {}, [&] { ends.push_back(strand->now()); });
    strand->run_until(12_ms);
    CHECK(ends == std::vector{5_ms, 10_ms});
    worker.reset();
    strand->run_until(1_s);
    CHECK(ends.size() == 2);
}

TEST_CASE("A real strand keeps the order of posts and the times of timers", "[strand]") {
    auto strand = make_real_strand();
    std::vector<int> order;
    std::atomic<bool> finished = false;
    auto start = strand->now();
    std::atomic<std::int64_t> late{};
    strand->at(start + 30_ms, [&] {
        late = (strand->now() - start).ns;
        finished = true;
    });
    for (int i = 0; i < 100; ++i) strand->post([&, i] { order.push_back(i); });
    while (!finished) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    CHECK(order.size() == 100);
    CHECK(std::is_sorted(order.begin(), order.end()));
    CHECK(late >= (30_ms).ns);
}

TEST_CASE("Letting go of a lane waits for nothing: the job that runs ends by itself, the rest is dropped", "[strand]") {
    auto strand = make_real_strand();
    struct Shared {
        std::atomic<int> begun = 0, ended = 0, told = 0;
        std::atomic<bool> go_on = false;
    };
    auto shared = std::make_shared<Shared>();
    auto worker = strand->worker();
    for (int i = 0; i < 5; ++i)
        worker->run(
            {},
            [shared] {
                ++shared->begun;
                while (!shared->go_on) std::this_thread::yield();
                ++shared->ended;
            },
            [shared] { ++shared->told; });
    while (shared->begun == 0) std::this_thread::yield();
    worker.reset();  // would wait for ever if it waited for the job
    CHECK(shared->ended == 0);
    shared->go_on = true;
    while (shared->ended == 0) std::this_thread::yield();
    strand.reset();
    CHECK(shared->begun == 1);
    CHECK(shared->told == 0);
}

TEST_CASE("What a task throws ends that task, not the strand", "[strand]") {
    auto real = make_real_strand();
    std::atomic<int> ran = 0;
    auto worker = real->worker();
    worker->run({}, [] { throw std::runtime_error("meant for a test"); }, [&] { ++ran; });
    real->post([] { throw std::runtime_error("meant for a test"); });
    real->post([&] { ++ran; });
    while (ran < 2) std::this_thread::yield();
    auto invented = make_virtual_strand();
    invented->post([] { throw std::runtime_error("meant for a test"); });
    invented->post([&] { ++ran; });
    invented->run_until(1_s);
    CHECK(ran == 3);
}

TEST_CASE("While the clock stands still for nobody, what was due runs afterwards, in order", "[strand]") {
    auto strand = make_virtual_strand();
    std::vector<std::pair<int, Time>> ran;
    for (int i = 0; i < 5; ++i) strand->at(100_ms * i, [&, i] { ran.emplace_back(i, strand->now()); });
    strand->run_until(150_ms);
    strand->stand_still(1_s);
    strand->run_until(2_s);
    REQUIRE(ran.size() == 5);
    for (int i = 0; i < 5; ++i) CHECK(ran[static_cast<std::size_t>(i)].first == i);
    CHECK(ran[1].second == 100_ms);
    CHECK(ran[2].second == 1150_ms);
}

// Not for the suite: a process of its own that ends while workers which own workers are still at work.
TEST_CASE("A process ends while lanes are at work", "[.][strand]") {
    auto strand = make_real_strand();
    for (int i = 0; i < 12; ++i) {
        // A strand outlives its workers.
        struct Inner {
            std::unique_ptr<Strand> strand = make_real_strand();
            std::vector<std::unique_ptr<Worker>> workers{};
        };
        auto inner = std::make_shared<Inner>();
        for (int k = 0; k < 4; ++k) {
            inner->workers.push_back(inner->strand->worker());
            inner->workers.back()->run({}, [] { std::this_thread::sleep_for(std::chrono::milliseconds(3)); }, [] {});
        }
        auto worker = strand->worker();
        worker->run({}, [inner, i] { std::this_thread::sleep_for(std::chrono::milliseconds(1 + i % 4)); }, [] {});
    }
}

struct MadeStatic {
    std::atomic<bool> there = true;
    ~MadeStatic() { there = false; }
};
template <int>
MadeStatic& made_static() {
    static MadeStatic made;
    return made;
}
/// A job that is still at work when the process ends uses what was made static before it, beside it, and by itself.
void leave_at_work() {
    auto strand = make_real_strand();
    auto worker = strand->worker();
    auto begun = std::make_shared<std::atomic<bool>>();
    made_static<0>();
    worker->run(
        {},
        [begun] {
            auto& beside = made_static<1>();
            *begun = true;
            for (int i = 0; i < 30; ++i) {
                std::this_thread::sleep_for(std::chrono::milliseconds(1));
                if (!made_static<0>().there || !beside.there || !made_static<2>().there) std::_Exit(3);
            }
        },
        [] {});
    while (!*begun) std::this_thread::yield();
}
TEST_CASE("A process ends while a job uses what is static", "[.][strand]") { leave_at_work(); }
TEST_CASE("A process that says nothing at its end ends while a job uses what is static", "[.][strand]") {
    made_static<2>();
    leave_at_work();
    std::exit(0);
}

TEST_CASE("A process ends in order though jobs are at work that use what is static or let go of lanes themselves",
          "[strand]") {
    auto itself = std::filesystem::read_symlink("/proc/self/exe").string();
    for (auto name : {"A process ends while lanes are at work", "A process ends while a job uses what is static",
                      "A process that says nothing at its end ends while a job uses what is static"})
        for (int i = 0; i < 15; ++i)
            REQUIRE(std::system(("'" + itself + "' '" + name + "' >/dev/null 2>&1").c_str()) == 0);
}
