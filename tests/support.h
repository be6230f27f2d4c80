// SPDX-License-Identifier: Apache-2.0
// What the tests share: fixtures and their facts, folders that go away, and playing in virtual time.
#pragma once
#include <unistd.h>

#include <catch2/catch.hpp>
#include <filesystem>
#include <fstream>
#include <mutex>
#include <nlohmann/json.hpp>
#include <random>

#include "container/container.h"
#include "demo/clips.h"
#include "demo/strip.h"
#include "playback/playback.h"

namespace ruedo::test {
namespace fs = std::filesystem;

inline fs::path fixture(const std::string& name) { return fs::path(RUEDO_FIXTURES) / name; }

/// Exact facts about every fixture, by those who made it.
inline const nlohmann::json& all_facts() {
    static const auto facts = nlohmann::json::parse(std::ifstream(fixture("facts.json")));
    return facts;
}
inline const nlohmann::json& facts(const std::string& name) {
    for (auto& f : all_facts())
        if (f["file"] == name) return f;
    throw std::runtime_error("no facts about " + name);
}
/// Fixtures that play, by name.
inline std::vector<std::string> playable() {
    std::vector<std::string> names;
    for (auto& f : all_facts())
        if (!f.contains("expect") || f["expect"] == "play") names.push_back(f["file"]);
    return names;
}

struct Folder {
    fs::path path;
    Folder() {
        static std::atomic<int> count = 0;
        path = fs::temp_directory_path() / ("ruedo-test-" + std::to_string(::getpid()) + "-" + std::to_string(count++));
        fs::create_directories(path);
    }
    ~Folder() {
        std::error_code ec;
        fs::remove_all(path, ec);
    }
    fs::path operator/(const std::string& name) const { return path / name; }
};

template <class T>
T value(Result<T> r) {
    if (!r) FAIL(r.error().sentence);
    return std::move(*r);
}
inline void done(const Status& r) {
    if (!r) FAIL(r.error().sentence);
}
inline std::shared_ptr<Clip> open(const std::string& name) { return value(open_clip(fixture(name))); }
inline std::shared_ptr<Clip> opened(Bytes bytes, const std::string& name) {
    return value(open_clip(memory_source(std::move(bytes), name)));
}
/// What is heard from `from` on, 48 kHz and two channels.
inline std::vector<float> audio_of(const std::shared_ptr<Clip>& clip, Time from = {}) {
    auto reader = value(AudioReader::open(clip, *clip->info().main(Kind::audio), CodecRegistry::standard()));
    done(reader->seek(from));
    std::vector<float> all;
    while (auto block = value(reader->next())) all.insert(all.end(), block->samples.begin(), block->samples.end());
    return all;
}
inline bool has_finding(const Clip& clip, const std::string& code) {
    return std::any_of(clip.info().findings.begin(), clip.info().findings.end(),
                       [&](auto& f) { return f.code == code; });
}
inline Bytes bytes_of(const fs::path& path) { return value(read_file(path, 1 << 30)); }
inline void put(const fs::path& path, ByteView bytes) { done(write_file(path, bytes)); }

/// The same bytes so many times in a row, as of files that were put one behind the other.
inline Bytes many(const Bytes& one, int times) {
    Bytes all;
    for (int i = 0; i < times; ++i) all.insert(all.end(), one.begin(), one.end());
    return all;
}

/// Clips of 96 x 54 that cost next to nothing to decode; made once for a run of the tests.
inline fs::path tiny(const std::string& file, int seconds = 6) {
    static Folder folder;
    static std::mutex mutex;
    std::lock_guard lock(mutex);
    auto path = folder / file;
    if (!fs::exists(path)) {
        demo::ClipSpec spec;
        spec.file = file;
        bool webm = file.ends_with(".webm");
        spec.video = webm ? Codec::vp9 : Codec::h264, spec.audio = webm ? Codec::opus : Codec::aac;
        spec.width = 96, spec.height = 54, spec.seconds = seconds, spec.keyframe_every = 30, spec.bitrate = 60'000;
        spec.numbered = true;
        spec.draw = [](demo::Canvas& c, double t) {
            c.gradient({60, 70, 90}, {90, 80, 60});
            c.circle({20 + 9 * t, 40}, 4, {220, 200, 120});
        };
        spec.sample = demo::burst;
        done(demo::make_clip(spec, folder.path, CodecRegistry::standard()));
    }
    return path;
}

/// Notes every picture's time as it is shown.
class NotingSink final : public FrameSink {
  public:
    struct PresentedFrame {
        Time pts, due;
        int number;
    };
    explicit NotingSink(Time refresh = {}, bool read_numbers = false) : refresh_(refresh), read_(read_numbers) {}
    std::shared_ptr<const RgbImage> prepare(const Frame& p) override {
        return read_ ? std::make_shared<const RgbImage>(render(p)) : nullptr;
    }
    void show(std::shared_ptr<const RgbImage> image, const Frame& p, Time due) override {
        shown.push_back({p.pts, due, image ? demo::read_strip(*image).value_or(-1) : -1});
    }
    void clear() override {}
    Time refresh() const override { return refresh_; }
    std::vector<PresentedFrame> shown;

  private:
    Time refresh_;
    bool read_;
};

/// Starts by itself.
inline const OpenOptions playing{.start = {Start::How::play, {}}};
inline bool ended(const Snapshot& s) { return s.state.phase == Phase::ended; }

/// A controller in virtual time.
struct Stage {
    std::shared_ptr<VirtualStrand> strand = make_virtual_strand();
    Mixer mixer;
    std::shared_ptr<NotingSink> sink;
    Controller controller;
    explicit Stage(double drift_ppm = 0, bool read_numbers = false,
                   std::function<Result<std::unique_ptr<Clip>>(const std::string&)> how_opened = {})
        : mixer(
              *strand, drift_ppm == 0 ? std::function<std::unique_ptr<AudioDevice>()>{}
                                      : [this, drift_ppm] { return make_silent_device(*strand, drift_ppm); }),
          sink(std::make_shared<NotingSink>(Time{}, read_numbers)),
          controller({.strand = strand,
                      .mixer = &mixer,
                      .codecs = &CodecRegistry::standard(),
                      .sink = sink,
                      .open_clip = std::move(how_opened)}) {}
    void run(Time length) { strand->run_until(strand->now() + length); }
    Snapshot now() const { return controller.snapshot(); }
    bool run_until(const std::function<bool(const Snapshot&)>& wanted, Time limit = 60_s) {
        strand->run_until(strand->now() + limit, [&] { return wanted(now()); });
        return wanted(now());
    }
    /// Takes up the calls that were made and waits for what they lead to.
    bool settle() {
        run({});
        return run_until([](auto& s) { return s.state.phase != Phase::opening && !s.state.seeking; });
    }
};

}  // namespace ruedo::test
