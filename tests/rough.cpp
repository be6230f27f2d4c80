// SPDX-License-Identifier: Apache-2.0
// A rough neighbourhood for the tests: both cores are burnt, and now and then what is under test is stopped for 200 to
// 800 ms. `ruedo-rough SEED BIN COMMAND...` runs the command and stops programs from BIN that it started.
#include <dirent.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <random>
#include <set>
#include <thread>
#include <vector>

namespace {
using namespace std::chrono_literals;

pid_t parent_of(pid_t pid) {
    std::ifstream stat("/proc/" + std::to_string(pid) + "/stat");
    std::string text((std::istreambuf_iterator<char>(stat)), {});
    auto close = text.rfind(')');
    if (close == std::string::npos) return 0;
    char state = 0;
    int parent = 0;
    return std::sscanf(text.c_str() + close + 1, " %c %d", &state, &parent) == 2 ? parent : 0;
}

/// Programs from `folder` among the descendants of `root`.
std::vector<pid_t> under_test(pid_t root, const std::filesystem::path& folder) {
    std::vector<pid_t> found;
    std::error_code ec;
    for (auto& entry : std::filesystem::directory_iterator("/proc", ec)) {
        auto pid = static_cast<pid_t>(std::strtol(entry.path().filename().c_str(), nullptr, 10));
        if (pid <= 1) continue;
        auto exe = std::filesystem::read_symlink(entry.path() / "exe", ec);
        if (ec || exe.parent_path() != folder) continue;
        auto up = pid;
        for (int i = 0; i < 32 && up > 1 && up != root; ++i) up = parent_of(up);
        if (up == root) found.push_back(pid);
    }
    return found;
}
}  // namespace

int main(int argc, char** argv) {
    if (argc < 4) {
        std::fprintf(stderr, "usage: ruedo-rough SEED BIN COMMAND...\n");
        return 2;
    }
    std::mt19937 random(static_cast<unsigned>(std::strtoul(argv[1], nullptr, 10)));
    auto folder = std::filesystem::canonical(argv[2]);
    auto child = ::fork();
    if (child == 0) {
        ::execvp(argv[3], argv + 3);
        std::perror(argv[3]);
        ::_exit(127);
    }
    std::atomic<bool> running = true;
    std::vector<std::thread> burners;
    for (unsigned i = 0; i < 2; ++i)
        burners.emplace_back([&] {
            volatile double x = 1;
            while (running) x = x * 1.0000001 + 1e-9;
        });
    int status = 0, stops = 0;
    auto next = std::chrono::steady_clock::now() + 2s;
    while (::waitpid(child, &status, WNOHANG) == 0) {
        std::this_thread::sleep_for(20ms);
        if (std::chrono::steady_clock::now() < next) continue;
        auto victims = under_test(child, folder);
        for (auto pid : victims) ::kill(pid, SIGSTOP);
        std::this_thread::sleep_for(std::chrono::milliseconds(200 + random() % 601));
        for (auto pid : victims) ::kill(pid, SIGCONT);
        stops += !victims.empty();
        next = std::chrono::steady_clock::now() + std::chrono::milliseconds(8'000 + random() % 12'000);
    }
    running = false;
    for (auto& b : burners) b.join();
    std::fprintf(stderr, "Rough neighbourhood of seed %s: both cores burnt, what is under test stopped %d times.\n",
                 argv[1], stops);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 1;
}
