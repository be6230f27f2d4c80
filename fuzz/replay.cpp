// SPDX-License-Identifier: Apache-2.0
// Every target over its seeds and over changes of them: fuzz-replay SEEDS-FOLDER CORPUS-FOLDER [CHANGES-EACH].
// Built with sanitizers, so that reading past an end is seen. An input that takes over ten seconds of computing
// ends the run, however busy the machine is; and so does one that waits for minutes.
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <sys/time.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <random>

#include "fuzz/targets.h"
#include "io/io.h"

namespace fs = std::filesystem;
using namespace ruedo;

namespace {
char current[512];
void hung(int) {
    [[maybe_unused]] auto n = ::write(2, current, std::char_traits<char>::length(current));
    (void)n;
    const char words[] = ": over ten seconds\n";
    n = ::write(2, words, sizeof words - 1);
    ::_exit(1);
}
void run(const fuzz::Target& t, ByteView bytes, const std::string& what) {
    std::snprintf(current, sizeof current, "%s, %s", t.name, what.c_str());
    auto limit = [](time_t seconds) {
        itimerval timer{};
        timer.it_value.tv_sec = seconds;
        ::setitimer(ITIMER_PROF, &timer, nullptr);
        ::alarm(static_cast<unsigned>(seconds * 30));
    };
    limit(10);
    t.run(bytes);
    limit(0);
}
/// A few bytes changed, a stretch cut out, doubled or taken from elsewhere, the end cut off.
void change(Bytes& b, std::mt19937& random) {
    for (unsigned k = 0; k < 1 + random() % 6 && !b.empty(); ++k) {
        // Headers are where lies hurt.
        auto span = random() % 2 ? std::min<std::size_t>(b.size(), 4096) : b.size();
        auto at = random() % 8 == 0 ? b.size() - 1 - random() % std::min<std::size_t>(b.size(), 4096) : random() % span;
        auto n = std::min<std::size_t>(1 + random() % 64, b.size() - at);
        auto from = b.begin() + static_cast<std::ptrdiff_t>(at);
        switch (random() % 8) {
            case 0:
                b[at] = 0xFF;
                break;
            case 1:
                b[at] = 0;
                break;
            case 2:
                std::fill_n(from, std::min<std::size_t>(n, 4), static_cast<std::uint8_t>(0xFF));
                break;
            case 3:
                b[at] ^= static_cast<std::uint8_t>(1U << random() % 8);
                break;
            case 4:
                b.erase(from, from + static_cast<std::ptrdiff_t>(n));
                break;
            case 5: {
                Bytes part(from, from + static_cast<std::ptrdiff_t>(n));
                b.insert(b.begin() + static_cast<std::ptrdiff_t>(random() % b.size()), part.begin(), part.end());
                break;
            }
            case 6:
                if (random() % 4 == 0)
                    b.resize(at);
                else
                    b[at] = static_cast<std::uint8_t>(random());
                break;
            default:
                for (std::size_t i = 0; i < n; ++i) b[at + i] = static_cast<std::uint8_t>(random());
        }
    }
}
struct Seed {
    const fuzz::Target* target;
    fs::path file;
    unsigned number;  ///< Among those of its target.
};

/// Of every target; empty where one has none.
std::vector<Seed> seeds_of(const fs::path& shared, const fs::path& corpus) {
    std::vector<Seed> all;
    for (auto& t : fuzz::targets()) {
        std::vector<fs::path> files;
        std::error_code ec;
        for (auto& folder : {shared, corpus / t.name})
            for (fs::directory_iterator it(folder, ec), end; !ec && it != end; it.increment(ec)) {
                auto extension = it->path().extension().string();
                if (folder != shared || std::find(t.seeds.begin(), t.seeds.end(), extension) != t.seeds.end())
                    files.push_back(it->path());
            }
        std::sort(files.begin(), files.end());
        if (files.empty()) {
            std::fprintf(stderr, "%s has no seeds\n", t.name);
            return {};
        }
        for (unsigned n = 0; auto& file : files) all.push_back({&t, file, n++});
    }
    return all;
}

/// Seeds that nobody has begun, one after the other, until there are none.
int replay(const std::vector<Seed>& all, int changes, std::atomic<std::size_t>& begun) {
    std::size_t inputs = 0;
    for (std::size_t number; (number = begun++) < all.size();) {
        auto& seed = all[number];
        auto bytes = read_file(seed.file, 16 << 20);
        if (!bytes) continue;
        // The same changes on every run, whoever comes to them.
        std::mt19937 random(20 + seed.number);
        auto name = seed.file.filename().string();
        run(*seed.target, *bytes, name);
        ++inputs;
        auto small = *bytes;
        // Large clips differ from their beginnings in nothing that a parser sees; those cost less.
        if (small.size() > (256 << 10)) small.resize(256 << 10);
        for (int i = 0; i < changes; ++i, ++inputs) {
            auto changed = small;
            change(changed, random);
            run(*seed.target, changed, name + " changed, number " + std::to_string(i));
        }
    }
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    std::printf("%zu inputs, %ld MB at most\n", inputs, usage.ru_maxrss / 1024);
    return 0;
}
}  // namespace

int main(int argc, char** argv) {
    if (argc < 3) {
        std::fprintf(stderr, "usage: fuzz-replay SEEDS CORPUS [CHANGES-EACH]\n");
        return 2;
    }
    int changes = argc > 3 ? std::atoi(argv[3]) : 200;
    for (int signal : {SIGALRM, SIGPROF}) std::signal(signal, hung);
    // Two at a time, each in a process of its own.
    void* shared =
        mmap(nullptr, sizeof(std::atomic<std::size_t>), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (shared == MAP_FAILED) return 1;
    auto& begun = *new (shared) std::atomic<std::size_t>(0);
    auto seeds = seeds_of(argv[1], argv[2]);
    if (seeds.empty()) return 1;
    auto child = fork();
    auto result = replay(seeds, changes, begun);
    if (child == 0) return result;
    int status = 1;
    if (child < 0 || waitpid(child, &status, 0) != child || !WIFEXITED(status) || WEXITSTATUS(status) != 0) return 1;
    return result;
}
