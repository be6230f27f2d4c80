// SPDX-License-Identifier: Apache-2.0
// Makes the demo's clips in a folder, those that are not there yet.
#include <atomic>
#include <cstdio>
#include <mutex>
#include <thread>

#include "demo/clips.h"

int main(int argc, char** argv) {
    using namespace ruedo;
    if (argc != 2) {
        std::fprintf(stderr, "usage: ruedo-demo FOLDER\n");
        return 2;
    }
    std::filesystem::path folder = argv[1];
    std::error_code ec;
    std::filesystem::create_directories(folder, ec);
    // Raised when the clips come to look or sound different: what an earlier one made is made anew then.
    constexpr auto drawn = ".drawn-4";
    bool outdated = !std::filesystem::exists(folder / drawn, ec);
    // Two at a time: an encoder keeps one core busy.
    auto specs = demo::harbour_lights();
    auto coast = [&]() -> Status {
        std::error_code gone;
        if (!outdated && std::filesystem::exists(folder / "coast" / "master.m3u8", gone)) return {};
        return demo::make_coast(folder, CodecRegistry::standard());
    };
    std::atomic<std::size_t> next = 0;
    std::atomic<bool> ok = true;
    std::mutex print;
    auto work = [&] {
        for (std::size_t i; (i = next++) < specs.size();) {
            std::error_code gone;
            if (!outdated && std::filesystem::exists(folder / specs[i].file, gone)) continue;
            auto made = demo::make_clip(specs[i], folder, CodecRegistry::standard());
            std::lock_guard lock(print);
            if (made)
                std::printf("  %s\n", specs[i].file.c_str());
            else
                std::fprintf(stderr, "%s: %s %s\n", specs[i].file.c_str(), made.error().sentence.c_str(),
                             made.error().hint.c_str()),
                    ok = false;
            std::fflush(stdout);
        }
    };
    std::thread other(work);
    work();
    other.join();
    // Its rungs are made side by side already.
    if (auto made = coast(); !made)
        std::fprintf(stderr, "coast: %s %s\n", made.error().sentence.c_str(), made.error().hint.c_str()), ok = false;
    if (ok) (void)write_file(folder / drawn, {});
    return ok ? 0 : 1;
}
