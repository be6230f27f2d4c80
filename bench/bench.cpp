// SPDX-License-Identifier: Apache-2.0
// ruedo-bench: every figure is a ratio of the engine to something bare, taken alternately in the same run.
#include <fmt/format.h>
#include <sched.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <fstream>
#include <map>
#include <functional>
#include <future>
#include <nlohmann/json.hpp>
#include <random>
#include <sstream>
#include <thread>

#include "bench/clips.h"
#include "bench/rows.h"
#include "convert/conversion.h"
#include "bench/walks.h"
#include "codec/ahead.h"
#include "demo/server.h"
#include "facts/facts.h"
#include "io/http.h"
#include "playback/playback.h"

namespace ruedo::bench {
namespace {
struct OpenReader {
    std::shared_ptr<Clip> clip;
    std::unique_ptr<FrameReader> pictures;
};
OpenReader open_reader(const std::filesystem::path& path) {
    OpenReader o;
    auto opened = open_clip(path);
    if (!opened) std::exit(1);
    o.clip = std::move(*opened);
    auto reader = FrameReader::open(o.clip, *o.clip->info().main(Kind::video), CodecRegistry::standard());
    if (!reader) std::exit(1);
    o.pictures = std::move(*reader);
    return o;
}

/// All libraries but that of VP9 take a picture's memory back with the next packet, so whoever keeps one has to copy
/// it: what can be had at best, then.
class Copying {
  public:
    explicit Copying(const Track& track)
        : from_(static_cast<std::size_t>(track.video.width * track.video.height * 3 / 2)),
          to_(from_),
          needed_(track.codec != Codec::vp9) {}
    bool needed() const { return needed_; }
    void copy() { to_ = from_; }
    double ms() {
        return ms_of([&] { copy(); });
    }
    void see(double bound) { bounds_.push_back(bound); }
    json bound(json made) const { return needed_ ? bounded(std::move(made), median(bounds_)) : made; }

  private:
    Bytes from_, to_;
    bool needed_;
    std::vector<double> bounds_;
};

/// Decoding and converting beside each other, as the engine and the converter do, to one thread that does both.
json decode_to_picture(const std::string& name, Time length) {
    auto file = beginning(name, length);
    auto packets = packets_of(file);
    Copying copying(packets.track);
    auto bare_loop = [&](std::vector<std::uint8_t>* pixels) {
        return ms_of([&] {
            auto decoder = bare_decoder(packets.track, 1);
            for (auto& p : packets.list) decoder->decode(p, pixels);
            decoder->drain(pixels);
        });
    };
    // What this machine makes of it at best, as one picture depends on the one before and only converting can go on
    // beside it: two threads that never wait for each other. One decodes and copies, one converts as many pictures.
    auto apart = [&] {
        auto w = packets.track.video.width, h = packets.track.video.height;
        Bytes picture(static_cast<std::size_t>(w * h * 3 / 2), 100);
        const std::uint8_t* planes[] = {picture.data(), picture.data() + w * h, picture.data() + w * h * 5 / 4};
        const int strides[] = {w, w / 2, w / 2};
        return ms_of([&] {
            std::jthread converting([&] {
                std::vector<std::uint8_t> pixels;
                for (std::size_t i = 0; i < packets.list.size(); ++i) to_pixels(planes, strides, w, h, pixels);
            });
            auto decoder = bare_decoder(packets.track, 1);
            for (auto& p : packets.list) decoder->decode(p, nullptr), copying.copy();
            decoder->drain(nullptr);
        });
    };
    return copying.bound(of_pairs(5, 1.1, "higher", "throughput to a bare loop’s on one thread", [&] {
        std::vector<std::uint8_t> pixels;
        double bare = bare_loop(&pixels);
        if (copying.needed()) copying.see(bare / apart());
        double ours = ms_of([&] {
            FramesAhead pictures(open_reader(file).pictures);
            while (auto p = pictures.next().value_or(std::nullopt)) render(*p);
        });
        return bare / ours;
    }));
}

json exact_seek(const std::string& name) {
    auto packets = packets_of(clip(name));
    auto o = open_reader(clip(name));
    std::mt19937 random(1);
    Copying copying(packets.track);
    return copying.bound(of_pairs(9, 1.0, "lower", "time to decoding from the keyframe, bare; median", [&] {
        auto target = random() % packets.list.size();
        auto key = target;
        while (key > 0 && !packets.list[key].head.keyframe) --key;
        double bare = ms_of([&] {
            auto decoder = bare_decoder(packets.track, 2);
            for (auto k = key; k <= target; ++k) decoder->decode(packets.list[k], nullptr);
        });
        copying.see(1 + copying.ms() / bare);
        return ms_of([&] { (void)o.pictures->at(packets.list[target].head.pts); }) / bare;
    }));
}

json first_frame(const std::string& name) {
    auto path = clip(name);
    auto packets = packets_of(path);
    Copying copying(packets.track);
    constexpr auto about = "time to reading the header and decoding one keyframe, bare";
    return copying.bound(of_pairs(40, 1.0, "lower", about, [&] {
        // Neither is closed while the time is taken.
        std::unique_ptr<BareDecoder> decoder;
        OpenReader reader;
        double bare = ms_of([&] {
            auto source = open_file(path);
            Bytes head(65536);
            (void)(*source)->read_at(0, head);
            decoder = bare_decoder(packets.track, 2);
            decoder->decode(packets.list[0], nullptr);
        });
        copying.see(1 + copying.ms() / bare);
        return ms_of([&] {
                   reader = open_reader(path);
                   (void)reader.pictures->at({});
               }) /
               bare;
    }));
}

json two_hours_open() {
    auto long_clip = clip("two-hours.mp4"), short_clip = clip("h264-720p60.mp4");
    return of_pairs(21, 1.1, "lower", "opening to a ten-second clip’s", [&] {
        double s = ms_of([&] { (void)open_reader(short_clip).pictures->at({}); });
        return ms_of([&] { (void)open_reader(long_clip).pictures->at({}); }) / s;
    });
}
json two_hours_seek() {
    auto l = open_reader(clip("two-hours.mp4")), s = open_reader(clip("h264-720p60.mp4"));
    std::mt19937 random(2);
    return of_pairs(9, 1.1, "lower", "seeking anywhere to a ten-second clip’s", [&] {
        // The same place in the group of pictures, so that decoding costs the same.
        Time inside{static_cast<std::int64_t>(random()) % 9'900'000'000};
        double near = ms_of([&] { (void)s.pictures->at(inside); });
        auto far = inside + 10_s * static_cast<std::int64_t>(random() % 719);
        return ms_of([&] { (void)l.pictures->at(far); }) / near;
    });
}
double peak_of_this_kb() {
    std::ifstream status("/proc/self/status");
    std::string line;
    while (std::getline(status, line))
        if (line.starts_with("VmHWM:")) return std::stod(line.substr(6));
    return 0;
}
/// Peak memory of converting a clip's beginning, in kB.
double convert_peak_kb(const std::filesystem::path& path, Time length) {
    auto out = std::filesystem::temp_directory_path() / fmt::format("ruedo-bench-{}-peak.mp4", ::getpid());
    Recipe recipe;
    recipe.video.action = Recipe::Do::encode, recipe.video.codec = Codec::h264, recipe.to = length;
    auto made = convert(path.string(), {.out = out, .recipe = recipe, .target = {}}, CodecRegistry::standard());
    std::filesystem::remove(out);
    if (!made) fmt::print(stderr, "{}\n", made.error().sentence), std::exit(1);
    return peak_of_this_kb();
}
/// Peak memory of opening and seeking about, in kB as the system counts it for this process.
double peak_kb(const std::filesystem::path& path) {
    auto o = open_reader(path);
    for (int i = 0; i < 3; ++i) (void)o.pictures->at(scaled(o.clip->info().duration, i / 3.0 + 0.1));
    return peak_of_this_kb();
}
/// The same in a fresh process, which has nothing of what was measured before.
double fresh_peak_mb(const std::filesystem::path& path, int converted_seconds = 0) {
    auto command = fmt::format("'{}' --peak '{}' {}", std::filesystem::read_symlink("/proc/self/exe").string(),
                               path.string(), converted_seconds);
    auto* out = ::popen(command.c_str(), "r");
    double kb = 0;
    if (!out || std::fscanf(out, "%lf", &kb) != 1 || ::pclose(out) != 0 || kb <= 0) std::exit(1);
    return kb / 1024;
}
/// Of 1080p: what it takes, and that it grows no more once everything is under way.
json convert_memory() {
    auto small = fresh_peak_mb(clip("long-1080p.mp4"), 3), large = fresh_peak_mb(clip("long-1080p.mp4"), 9);
    auto grows = large > small * 1.1 + 16;
    return row(grows ? 1e6 : large, 400, "lower", "MB of peak memory to convert 9 s of 1080p, not more than for 3 s",
               2);
}
json two_hours_memory() {
    return of_pairs(5, 8, "lower", "MB of peak memory more than a ten-second clip", [] {
        auto small = fresh_peak_mb(clip("h264-720p60.mp4"));
        return fresh_peak_mb(clip("two-hours.mp4")) - small;
    });
}

/// Plays for a while in real time against the silent stand-in, showing into nothing.
PlaybackReport play(const std::filesystem::path& path, Time length, bool audio) {
    auto mixer_strand = make_real_strand();
    Mixer mixer(*mixer_strand, {});
    Controller controller(
        {make_real_strand(), &mixer, &CodecRegistry::standard(), make_null_sink(ticks_to_time(1, 1, 60))});
    OpenOptions o;
    o.start.how = Start::How::play;
    o.loop.kind = Loop::Kind::all;
    o.muted = !audio;
    controller.open(path, o);
    controller.wait([&](auto& s) { return s.state.phase == Phase::failed; }, length);
    return controller.report();
}
/// What is between sight and sound in a round of playing, ms.
double apart(const PlaybackReport& report) {
    auto& s = report.av_offset_ms;
    return s ? std::max(std::abs(s->p99), std::abs(s->p50)) : 1e9;
}
/// Of the rounds that pacing has played with sound already, so that they need not be played again.
std::vector<double>& heard_apart() {
    static std::vector<double> rounds;
    return rounds;
}
json sync() {
    auto& known = heard_apart();
    std::size_t next = 0;
    return of_pairs(5, 20, "lower", "ms between sight and sound, p99 (from inside)", [&] {
        if (next < known.size()) return known[next++];
        return apart(play(clip("h264-720p60.mp4"), 4_s, true));
    });
}

struct Paced {
    double p99 = 0, lost = 0;
};
/// Timers, as bare as pacing can be, one on each processor, as a host takes them away one by one. A
/// moment in which one of them came a whole frame late is lost.
Paced bare_pacing(int fps, Time length) {
    auto begin = monotonic_now();
    auto on = [&](unsigned processor) {
        cpu_set_t only;
        CPU_ZERO(&only);
        CPU_SET(processor, &only);
        (void)sched_setaffinity(0, sizeof only, &only);
        std::vector<double> late;
        for (int i = 1; i <= fps * length.seconds(); ++i) {
            auto due = begin + ticks_to_time(i, 1, static_cast<std::uint64_t>(fps));
            timespec ts{due.ns / 1'000'000'000, due.ns % 1'000'000'000};
            clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &ts, nullptr);
            late.push_back((monotonic_now() - due).ms());
        }
        return late;
    };
    std::vector<std::future<std::vector<double>>> timers;
    for (unsigned i = 0; i < std::max(1u, std::thread::hardware_concurrency()); ++i)
        timers.push_back(std::async(std::launch::async, on, i));
    std::vector<double> all, worst;
    for (auto& t : timers) {
        auto late = t.get();
        worst.resize(late.size());
        for (std::size_t i = 0; i < late.size(); ++i) worst[i] = std::max(worst[i], late[i]);
        all.insert(all.end(), late.begin(), late.end());
    }
    std::sort(all.begin(), all.end());
    return {all[all.size() * 99 / 100],
            static_cast<double>(std::count_if(worst.begin(), worst.end(), [&](double l) { return l > 1000.0 / fps; }))};
}
/// The bare timers run beside the player, so that a machine which stands still does so for both. Lateness is the median
/// of the rounds; pictures that were dropped are counted over all of them.
json pacing() {
    double worst = 0;
    std::size_t frames = 0;
    // 1,800 pictures over five rounds of both.
    for (auto [name, fps, length] : {std::tuple{"vp8-360p30.webm", 30, 2_s}, std::tuple{"h264-720p60.mp4", 60, 5_s}}) {
        double shown = 0, dropped = 0, lost = 0;
        auto late = of_pairs(5, 1, "lower", "", [&, name = name, fps = fps, length = length] {
            auto bare = std::async(std::launch::async, bare_pacing, fps, length);
            auto report = play(clip(name), length, true);
            auto loop = bare.get();
            lost += loop.lost;
            if (fps == 60) heard_apart().push_back(apart(report));
            shown += static_cast<double>(report.snapshot.counters.presented);
            dropped += static_cast<double>(report.snapshot.counters.dropped);
            return report.pacing_ms ? report.pacing_ms->p99 / (loop.p99 + 4) : 1e9;
        });
        frames += static_cast<std::size_t>(shown);
        worst = std::max({worst, late["ratio"].get<double>(), dropped / (lost + 0.001 * (shown + dropped))});
    }
    return row(worst, 1, "lower", "p99 lateness to a bare timer’s and 4 ms, median; or drops of all to its and 0.1 %",
               frames);
}

// A bare walk of these small clips is little more than reading a hundred kilobytes, and opening also tells what the
// tracks are; a search through the file would cost many times as much on a long one.
constexpr double open_goal = 12, seek_goal = 4;

/// A small clip of a container, by another writer.
std::filesystem::path sample(const std::string& name) { return std::filesystem::path(RUEDO_FIXTURES) / name; }
std::shared_ptr<Clip> opened(const std::filesystem::path& path) {
    auto clip = open_clip(path);
    if (!clip) std::exit(1);
    return std::move(*clip);
}
std::uint64_t walk(Clip& clip) {
    std::uint64_t bytes = 0;
    PacketHead head;
    Bytes data;
    for (auto& t : clip.info().tracks) {
        auto reader = clip.reader(t.id);
        while (reader->next(head).value_or(false)) (void)reader->read(data), bytes += data.size();
    }
    return bytes;
}
/// Opening must not look through the file: against reading all of it and hopping over its units, bare.
json open_row(const std::string& name) {
    auto path = sample(name);
    return of_pairs(54, open_goal, "lower", "opening to a bare walk through all of six seconds; median", [&] {
        double bare = ms_of([&] {
            if (bare_walk(path) == 0) std::exit(1);
        });
        return ms_of([&] { (void)opened(path); }) / bare;
    });
}
json seek_row(const std::string& name) {
    auto path = sample(name);
    auto clip = opened(path);
    auto& track = clip->info().tracks.front();
    std::mt19937 random(4);
    PacketHead head;
    return of_pairs(54, seek_goal, "lower", "finding a place to a bare walk through all of six seconds; median", [&] {
        double bare = ms_of([&] {
            if (bare_walk(path) == 0) std::exit(1);
        });
        auto reader = clip->reader(track.id);
        Time t{static_cast<std::int64_t>(random()) % 5'900'000'000};
        return ms_of([&] { (void)reader->seek(t), (void)reader->next(head); }) / bare;
    });
}
json walk_row(const std::string& name) {
    auto path = sample(name);
    auto clip = opened(path);
    Bytes block(1 << 20);
    return of_pairs(36, 1, "higher", "packets read, in units of 20 MB/s beyond the reading itself", [&] {
        double bare = ms_of([&] {
            auto source = *open_file(path);
            for (std::uint64_t at = 0;;) {
                auto n = source->read_at(at, block).value_or(0);
                if (n == 0) break;
                at += n;
            }
        });
        double beyond = std::max(ms_of([&] { walk(*clip); }) - bare, 1e-6);
        return static_cast<double>(std::filesystem::file_size(path)) / 1e6 / (beyond / 1000) / 20;
    });
}

/// Over a link of 2 Mbit/s: what was fetched before the first picture, to the index and one group of pictures.
json network_first_picture() {
    auto path = clip("two-hours.mp4");
    auto server = demo::LoopbackServer::start();
    if (!server) std::exit(1);
    server->serve("/two-hours.mp4", {.file = path.string(), .bytes_per_second = 250'000});
    auto fetch = [&] {
        auto source = http_source(server->address("/two-hours.mp4"));
        auto clip = open_clip(source);
        if (!clip) std::exit(1);
        std::shared_ptr<Clip> held = std::move(*clip);
        auto reader = FrameReader::open(held, *held->info().main(Kind::video), CodecRegistry::standard());
        if (!reader || !(*reader)->at({})) std::exit(1);
        return static_cast<double>(source->received());
    };
    // All that lies before the first sample, and the first group.
    auto local = opened(path);
    auto heads = local->reader(local->info().main(Kind::video)->id);
    PacketHead head;
    double need = 0;
    for (int keys = 0; heads->next(head).value_or(false);) {
        if (need == 0) need = static_cast<double>(head.offset.value_or(0));
        if (head.keyframe && ++keys > 1) break;
        need += static_cast<double>(head.size);
    }
    return of_pairs(5, 1, "lower", "bytes fetched to header, index and one group of pictures",
                    [&] { return fetch() / need; });
}
json facts_row() {
    auto path = clip("two-hours.mp4");
    auto shared = opened(path);
    (void)gather_facts(shared, CodecRegistry::standard(), {}, {.loudness = false, .cancel = nullptr, .so_far = {}});
    auto gb = static_cast<double>(std::filesystem::file_size(path)) / 1e9;
    return of_pairs(5, 1, "lower", "facts of two hours, with loudness, to 3 s per GB",
                    [&] { return ms_of([&] { (void)gather_facts(shared, CodecRegistry::standard()); }) / 3000 / gb; });
}

}  // namespace

const std::vector<std::pair<std::string, std::function<json()>>>& rows() {
    static const std::vector<std::pair<std::string, std::function<json()>>> list{
        {"decode-to-picture.h264", [] { return decode_to_picture("h264-720p60.mp4", 2_s); }},
        {"decode-to-picture.vp9", [] { return decode_to_picture("vp9-1080p30.webm", 1500_ms); }},
        {"decode-to-picture.vp8", [] { return decode_to_picture("vp8-360p30.webm", 8_s); }},
        {"exact-seek.h264", [] { return exact_seek("h264-720p60.mp4"); }},
        {"exact-seek.vp9", [] { return exact_seek("vp9-1080p30.webm"); }},
        {"first-picture.mp4", [] { return first_frame("h264-720p60.mp4"); }},
        {"first-picture.webm", [] { return first_frame("vp9-1080p30.webm"); }},
        {"open.ogg", [] { return open_row("theora_vorbis.ogv"); }},
        {"open.mpegts", [] { return open_row("h264_aac.ts"); }},
        {"open.avi", [] { return open_row("mjpeg_pcm.avi"); }},
        {"open.flac", [] { return open_row("audio.flac"); }},
        {"open.mp3", [] { return open_row("audio_info.mp3"); }},
        {"seek.mp4", [] { return seek_row("h264_high_aac.mp4"); }},
        {"seek.webm", [] { return seek_row("vp9_opus.webm"); }},
        {"seek.ogg", [] { return seek_row("theora_vorbis.ogv"); }},
        {"seek.mpegts", [] { return seek_row("h264_aac.ts"); }},
        {"seek.avi", [] { return seek_row("mjpeg_pcm.avi"); }},
        {"seek.flac", [] { return seek_row("audio.flac"); }},
        {"seek.mp3", [] { return seek_row("audio_info.mp3"); }},
        {"walk.mp4", [] { return walk_row("h264_high_aac.mp4"); }},
        {"walk.webm", [] { return walk_row("vp9_opus.webm"); }},
        {"walk.ogg", [] { return walk_row("theora_vorbis.ogv"); }},
        {"walk.mpegts", [] { return walk_row("h264_aac.ts"); }},
        {"walk.avi", [] { return walk_row("mjpeg_pcm.avi"); }},
        {"walk.flac", [] { return walk_row("audio.flac"); }},
        {"walk.mp3", [] { return walk_row("audio_info.mp3"); }},
        {"network.first-picture", network_first_picture},
        {"facts", facts_row},
        {"two-hours.open", two_hours_open},
        {"two-hours.seek", two_hours_seek},
        {"two-hours.memory", two_hours_memory},
        {"convert.h264", [] { return convert_row(Codec::h264); }},
        {"convert.vp9", [] { return convert_row(Codec::vp9); }},
        {"convert.vp8", [] { return convert_row(Codec::vp8); }},
        {"convert.av1", [] { return convert_row(Codec::av1); }},
        {"convert.theora", [] { return convert_row(Codec::theora); }},
        {"convert.mjpeg", [] { return convert_row(Codec::mjpeg); }},
        {"convert-quality", convert_quality_row},
        {"convert.memory", convert_memory},
        {"rewrap", rewrap_row},
        {"ladder", ladder_row},
        {"play-through", play_through_row},
        {"compare", compare_row},
        {"room", room_row},
        {"room-still", room_still_row},
        {"adapt.lookahead", adapt_lookahead_row},
        {"adapt.buffer", adapt_buffer_row},
        {"adapt.throughput", adapt_throughput_row},
        {"adapt.speed", adapt_speed_row},
        {"pacing", pacing},
        {"sync", sync},
#ifdef RUEDO_BENCH_WINDOW
        {"overlay", overlay},
        {"path", path_row},
        {"history", history_row},
        {"findings", findings_row},
        {"findings-pictures", contrast_row},
        {"heartbeat", heartbeat},
        {"prepare-answers", prepare_answers},
        {"crowd", crowd},
        {"room-rate", room_rate},
#endif
    };
    return list;
}
}  // namespace ruedo::bench

int main(int argc, char** argv) {
    using namespace ruedo;
    const WorkersEnd workers_end;
    // What a row asks of a process of its own.
    if (argc == 4 && std::string_view(argv[1]) == "--peak") {
        int seconds = std::atoi(argv[3]);
        fmt::print("{}\n", seconds ? bench::convert_peak_kb(argv[2], 1_s * seconds) : bench::peak_kb(argv[2]));
        return 0;
    }
    bool as_json = false, wrong = false, missed = false;
    std::vector<std::string> only;
    for (int i = 1; i < argc; ++i) {
        std::string a = argv[i];
        if (a == "--json")
            as_json = true;
        else if (a == "--only" && i + 1 < argc) {
            std::stringstream list(argv[++i]);
            for (std::string name; std::getline(list, name, ',');) only.push_back(name);
        } else
            wrong = true;
    }
    auto& rows = bench::rows();
    for (auto& name : only)
        wrong = wrong || std::none_of(rows.begin(), rows.end(), [&](auto& r) { return r.first == name; });
    if (wrong) {
        if (as_json)
            fmt::print("{}\n", nlohmann::json{{"error",
                                               {{"code", "usage"},
                                                {"sentence", "There is no such option or row."},
                                                {"hint", "ruedo-bench [--json] [--only NAME[,NAME]]"}}}}
                                   .dump());
        else
            fmt::print(stderr, "ruedo-bench [--json] [--only NAME[,NAME]]\n");
        return 2;
    }
    nlohmann::json all = nlohmann::json::object();
    Time took;
    for (auto& [name, measure] : rows) {
        if (!only.empty() && std::find(only.begin(), only.end(), name) == only.end()) continue;
        auto begin = monotonic_now();
        auto& r = all[name] = measure();
        r["took_ns"] = (monotonic_now() - begin).ns;
        took += monotonic_now() - begin;
        missed = missed || (!bench::met(r) && !bench::unsteady(r));
        auto bound = r.contains("bound") ? fmt::format(", of {:.3f} that can be had", r["bound"].get<double>()) : "";
        if (bench::unsteady(r)) bound += fmt::format("; its pairs spread by {:.0f} %", r["spread"].get<double>() * 100);
        fmt::print(stderr, "{} {:24} {:8.3f}   goal {} {}   {}{}\n",
                   bench::unsteady(r) ? "?"
                   : bench::met(r)    ? " "
                                      : "!",
                   name, r["ratio"].get<double>(), r["better"] == "higher" ? ">=" : "<=", r["goal"].get<double>(),
                   r["unit"].get<std::string>(), bound);
    }
    fmt::print(stderr, "{} rows in {:.0f} s\n", all.size(), took.seconds());
    if (as_json) fmt::print("{}\n", all.dump(2));
    return missed ? 1 : 0;
}
