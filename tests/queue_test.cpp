// SPDX-License-Identifier: Apache-2.0
// Several sources in a row: what is heard and shown at the joints, and what is let go.
#include <cmath>
#include <thread>

#include "playback/queue.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// A queue in virtual time, with everything that is mixed.
struct Row {
    std::shared_ptr<VirtualStrand> strand = make_virtual_strand();
    Mixer mixer{*strand, {}};
    std::shared_ptr<NotingSink> sink = std::make_shared<NotingSink>(Time{}, true);
    std::vector<float> heard;
    std::vector<std::size_t> changes;
    PlayQueue queue{strand,
                    [this](std::shared_ptr<FrameSink> to) {
                        return std::make_unique<Controller>(
                            Controller::Env{strand, &mixer, &CodecRegistry::standard(), std::move(to)});
                    },
                    sink};
    Row() {
        mixer.on_mix([this](std::span<const float> s, std::int64_t) { heard.insert(heard.end(), s.begin(), s.end()); });
        queue.on_change([this](std::size_t i) { changes.push_back(i); });
    }
    void set(std::initializer_list<const char*> names, Repeat repeat) {
        std::vector<PlayQueue::Entry> entries;
        for (auto name : names) entries.push_back({fixture(name).string(), {}});
        queue.set(entries, repeat);
        queue.go(0);
        queue.current()->play();
    }
    void run(Time t) { strand->run_until(strand->now() + t); }
    Snapshot now() { return queue.current()->snapshot(); }
    /// Onsets of bursts in seconds since the first sample that is no silence.
    std::vector<double> onsets() const {
        std::vector<double> list;
        std::size_t quiet = 48'000, first = 0;
        for (std::size_t i = 0; i < heard.size() / 2; ++i) {
            if (std::abs(heard[2 * i]) > 0.05F) {
                if (quiet > 9600) {
                    if (list.empty()) first = i;
                    list.push_back(static_cast<double>(i - first) / mix_rate);
                }
                quiet = 0;
            } else {
                ++quiet;
            }
        }
        return list;
    }
};
}  // namespace

TEST_CASE("Gapless material goes on without a gap, to the sample", "[queue]") {
    Row row;
    row.set({"audio_info.mp3", "audio_info.mp3", "audio_opus.ogg"}, Repeat::once);
    row.run(16_s);
    CHECK(row.changes == std::vector<std::size_t>{1, 2});
    CHECK(row.now().state.phase == Phase::ended);
    auto onsets = row.onsets();
    REQUIRE(onsets.size() == 12);
    for (std::size_t i = 0; i < onsets.size(); ++i) CHECK(std::abs(onsets[i] - static_cast<double>(i)) < 0.002);
}

TEST_CASE("Between clips with pictures and sound less than fifty milliseconds pass", "[queue]") {
    Row row;
    row.set({"h264_high_aac.mp4", "vp9_opus.webm", "h264_high_aac.mp4"}, Repeat::once);
    row.run(25_s);
    CHECK(row.changes == std::vector<std::size_t>{1, 2});
    auto onsets = row.onsets();
    REQUIRE(onsets.size() == 18);
    for (std::size_t i = 0; i < onsets.size(); ++i) CHECK(std::abs(onsets[i] - static_cast<double>(i)) < 0.1);
    CHECK(onsets[6] - 6 < 0.05);
    CHECK(onsets[12] - onsets[6] - 6 < 0.05);
    // Every picture of all three was shown once, in order, none of the next before the last of the one before.
    auto& shown = row.sink->shown;
    REQUIRE(shown.size() >= 540);
    int jumps = 0;
    for (std::size_t i = 1; i < shown.size(); ++i) {
        CHECK((shown[i].number == shown[i - 1].number || shown[i].number == (shown[i - 1].number + 1) % 180));
        if (shown[i].number < shown[i - 1].number) {
            ++jumps;
            CHECK(shown[i - 1].number == 179);
        }
    }
    CHECK(jumps == 2);
}

TEST_CASE("At a hand-over the one before is gone within 200 ms", "[queue]") {
    Row row;
    row.set({"vfr_h264.mp4", "vp9_opus.webm"}, Repeat::once);
    auto first = row.queue.current();
    while (row.changes.empty() && row.strand->now() < 30_s) row.run(10_ms);
    REQUIRE(row.changes.size() == 1);
    row.run(200_ms);
    CHECK(first->snapshot().state.phase == Phase::closed);
    CHECK(first.use_count() == 1);
    CHECK(row.now().state.phase == Phase::playing);
    CHECK(row.now().position > 100_ms);
}

TEST_CASE("Next and previous, at the ends and round and round", "[queue]") {
    Row row;
    row.set({"vp9_opus.webm", "h264_high_aac.mp4", "vp8_vorbis.webm"}, Repeat::off);
    row.run(1_s);
    CHECK_FALSE(row.queue.has_previous());
    CHECK_FALSE(row.queue.previous());
    CHECK(row.queue.next());
    row.run(1_s);
    CHECK(row.queue.index() == 1);
    CHECK(row.now().source == "h264_high_aac.mp4");
    CHECK(row.now().state.phase == Phase::playing);
    row.queue.current()->pause();
    row.run(100_ms);
    CHECK(row.queue.next());
    row.run(1_s);
    CHECK(row.now().source == "vp8_vorbis.webm");
    CHECK(row.now().state.intent == Intent::hold);  // held before, held after
    CHECK_FALSE(row.queue.has_next());
    CHECK_FALSE(row.queue.next());
    row.queue.current()->play();
    row.run(9_s);
    CHECK(row.now().state.phase == Phase::ended);  // off: stays at its end
    row.queue.set({{fixture("audio_info.mp3").string(), {}}, {fixture("audio_info.mp3").string(), {}}}, Repeat::all);
    row.queue.go(1);
    row.queue.current()->play();
    row.changes.clear();
    row.run(10_s);
    CHECK(row.changes == std::vector<std::size_t>{0, 1, 0});
}

TEST_CASE("Pausing, seeking and failing near the end confuse nothing", "[queue][seek]") {
    Row row;
    row.set({"vp9_opus.webm", "h264_high_aac.mp4"}, Repeat::once);
    row.run(5700_ms);
    row.queue.current()->pause();
    row.run(2_s);
    CHECK(row.queue.index() == 0);
    CHECK(row.now().state.phase == Phase::paused);
    row.queue.current()->play();
    row.run(100_ms);
    row.queue.current()->seek(1_s);
    row.run(2_s);
    CHECK(row.queue.index() == 0);
    CHECK(row.now().position > 2_s);
    CHECK(row.now().position < 4_s);
    row.run(5_s);
    CHECK(row.queue.index() == 1);
    CHECK(row.now().state.phase == Phase::playing);
    // What can't be opened is reached all the same, and says why.
    Row bad;
    bad.set({"audio_info.mp3", "codec_xxxx.mp4", "audio_info.mp3"}, Repeat::once);
    bad.run(5_s);
    CHECK(bad.queue.index() == 1);
    CHECK(bad.now().state.phase == Phase::failed);
    CHECK(bad.queue.next());
    bad.queue.current()->play();
    bad.run(1_s);
    CHECK(bad.now().state.phase == Phase::playing);
}

TEST_CASE("Once a queue is gone nobody is told anything any more, not even what was on its way", "[queue]") {
    std::mt19937 random(93);
    auto mixer_strand = make_real_strand();
    Mixer mixer(*mixer_strand, {});
    std::shared_ptr<Strand> strand = make_real_strand();
    int told = 0;
    for (int i = 0; i < 30; ++i) {
        struct Listener {
            std::atomic<bool> alive = true;
            std::atomic<int> wrong = 0, told = 0;
        } listener;
        auto hear = [&listener] {
            if (!listener.alive) ++listener.wrong;
            ++listener.told;
            std::this_thread::sleep_for(std::chrono::milliseconds(2));
            if (!listener.alive) ++listener.wrong;
        };
        auto queue = std::make_unique<PlayQueue>(
            strand,
            [&](std::shared_ptr<FrameSink> to) {
                return std::make_unique<Controller>(
                    Controller::Env{make_real_strand(), &mixer, &CodecRegistry::standard(), std::move(to)});
            },
            make_null_sink(16_ms));
        queue->on_event([hear](const Event&) { hear(); });
        queue->on_change([hear](std::size_t) { hear(); });
        std::vector<PlayQueue::Entry> entries(3, {fixture("audio_opus.ogg").string(), {}});
        queue->set(entries, Repeat::all);
        queue->go(0);
        queue->current()->play();
        for (auto n = random() % 4; n > 0; --n)
            queue->next(), queue->current()->seek(1_s),
                std::this_thread::sleep_for(std::chrono::milliseconds(random() % 8));
        queue.reset();
        listener.alive = false;
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
        CHECK(listener.wrong == 0);
        told += listener.told;
    }
    CHECK(told > 0);
}
