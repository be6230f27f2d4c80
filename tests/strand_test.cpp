// SPDX-License-Identifier: Apache-2.0
#include <thread>

#include "support.h"

using namespace ruedo;

TEST_CASE("virtual time runs tasks in order of time, then of ticket") {
    auto strand = make_virtual_strand();
    std::vector<int> order;
    strand->at(20_ms, [&] { order.push_back(4); });
    strand->at(10_ms, [&] { order.push_back(2); strand->post([&] { order.push_back(3); }); });
    strand->post([&] { order.push_back(1); });
    auto dropped = strand->at(15_ms, [&] { order.push_back(99); });
    strand->cancel(dropped);
    strand->run_until(1_s);
    CHECK(order == std::vector{1, 2, 3, 4});
    CHECK(strand->now() == 1_s);
}

TEST_CASE("a lane charges its jobs one after another, and forgets them when it goes") {
    auto strand = make_virtual_strand();
    auto lane = strand->lane();
    std::vector<Time> ends;
    for (int i = 0; i < 3; ++i) lane->run(5_ms, [] {}, [&] { ends.push_back(strand->now()); });
    strand->run_until(12_ms);
    CHECK(ends == std::vector{5_ms, 10_ms});
    lane.reset();
    strand->run_until(1_s);
    CHECK(ends.size() == 2);
}

TEST_CASE("a real strand keeps the order of posts and the times of timers") {
    auto strand = make_real_strand();
    std::vector<int> order;
    std::atomic<bool> finished = false;
    auto start = strand->now();
    std::atomic<std::int64_t> late{};
    strand->at(start + 30_ms, [&] { late = (strand->now() - start).ns; finished = true; });
    for (int i = 0; i < 100; ++i) strand->post([&, i] { order.push_back(i); });
    while (!finished) std::this_thread::sleep_for(std::chrono::milliseconds(1));
    CHECK(order.size() == 100);
    CHECK(std::is_sorted(order.begin(), order.end()));
    CHECK(late >= (30_ms).ns);
}

TEST_CASE("destroying a lane waits for the job that runs and drops the rest") {
    auto strand = make_real_strand();
    std::atomic<int> begun = 0, ended = 0;
    auto lane = strand->lane();
    for (int i = 0; i < 5; ++i)
        lane->run({}, [&] { ++begun; std::this_thread::sleep_for(std::chrono::milliseconds(20)); ++ended; }, [] {});
    while (begun == 0) std::this_thread::yield();
    lane.reset();
    CHECK(begun == ended);
    CHECK(begun < 5);
}
