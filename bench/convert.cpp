// SPDX-License-Identifier: Apache-2.0
// Rows of conversion: against the same decoder and the same encoder with nothing between and around them, and against
// copying the bytes.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <cmath>
#include <random>

#include "bench/clips.h"
#include "bench/rows.h"
#include "convert/conversion.h"
#include "convert/ladder.h"
#include "convert/streams.h"
#include "convert/through.h"
#include "playback/playback.h"
#include "picture/quality.h"
#include "picture/reshape.h"

namespace ruedo::bench {
namespace {
double cpu_ms() {
    rusage u{};
    ::getrusage(RUSAGE_SELF, &u);
    auto ms = [](const timeval& t) {
        return static_cast<double>(t.tv_sec) * 1e3 + static_cast<double>(t.tv_usec) / 1e3;
    };
    return ms(u.ru_utime) + ms(u.ru_stime);
}
struct Cost {
    double wall = 0, cpu = 0;
};
template <class F>
Cost cost_of(F&& f) {
    auto cpu = cpu_ms();
    auto wall = ms_of(std::forward<F>(f));
    return {wall, cpu_ms() - cpu};
}
std::filesystem::path scratch(const char* name) {
    return std::filesystem::temp_directory_path() / fmt::format("ruedo-bench-{}-{}", ::getpid(), name);
}
template <class T>
T need(Result<T> r) {
    if (!r) fmt::print(stderr, "{}\n", r.error().sentence), std::exit(1);
    return std::move(*r);
}
}  // namespace

namespace {
/// What is converted, and everything it takes to do the same by hand.
struct Work {
    explicit Work(Codec codec, int count)
        : file(clip(codec == Codec::mjpeg ? "h264-720p60.mp4" : "vp8-360p30.webm")), packets(packets_of(file)) {
        packets.list.resize(std::min<std::size_t>(packets.list.size(), static_cast<std::size_t>(count)));
        opened = need(open_clip(file.string()));
        auto reader = need(FrameReader::open(opened, *opened->info().main(Kind::video), CodecRegistry::standard()));
        while (static_cast<int>(pictures.size()) < count) pictures.push_back(*need(reader->next()));
        recipe.video.action = Recipe::Do::encode, recipe.video.codec = codec;
        recipe.audio.action = Recipe::Do::none;
        recipe.to = pictures.back().pts + 1_ms;
        // Matroska takes them all.
        out = scratch("c.mkv");
        plan = need(plan_for(opened->info(), recipe, *container_format_named("matroska"), CodecRegistry::standard()));
    }
    ~Work() { std::filesystem::remove(out); }
    Work(const Work&) = delete;
    /// As the encoder wants it.
    Frame fitted(const Frame& p) { return need(reshaper.make(p, plan.reshape)); }
    std::vector<Encoded> bare() {
        auto encoder =
            need(CodecRegistry::standard().video_encoder(plan.video_codec, encoder_options(plan, recipe, {30, 1})));
        std::vector<Encoded> made;
        for (auto& p : pictures) (void)encoder->encode(fitted(p), made);
        (void)encoder->drain(made);
        config = encoder->config();
        return made;
    }
    void convert() {
        // Held against bare loops, which do not look at what they made either.
        need(ruedo::convert(file.string(),
                            {.out = out, .recipe = recipe, .target = {}, .replace = Replace::anything, .check = false},
                            CodecRegistry::standard()));
    }
    std::filesystem::path file, out;
    Packets packets;
    std::shared_ptr<Clip> opened;
    std::vector<Frame> pictures;
    Recipe recipe;
    Plan plan;
    Reshaper reshaper;
    Bytes config;
};
/// Of what is seen against what it was made of.
double likeness(const std::vector<Frame>& a, const std::vector<Frame>& b) {
    double sum = 0, samples = 0;
    if (a.size() != b.size()) fmt::print(stderr, "{} pictures became {}\n", a.size(), b.size()), std::exit(1);
    for (std::size_t i = 0; i < a.size(); ++i) {
        sum += static_cast<double>(squared_error(luma(a[i]), luma(b[i])));
        samples += a[i].width * a[i].height;
    }
    return psnr(sum / samples);
}
}  // namespace

json convert_row(Codec codec) {
    // So many that how it begins and ends is not what is measured, with an encoder that looks far ahead.
    auto slow = codec == Codec::vp9 || codec == Codec::av1 || codec == Codec::theora;
    Work work(codec, slow ? 45 : codec == Codec::mjpeg ? 120 : 160);
    return of_pairs(5, 1.10, "lower",
                    "time to the longest of decoding, fitting with encoding, and half of what all cost on one core",
                    [&] {
                        auto decoding = cost_of([&] {
                            auto decoder = bare_decoder(work.packets.track, 1);
                            for (auto& p : work.packets.list) decoder->decode(p, nullptr);
                            decoder->drain(nullptr);
                        });
                        auto encoding = cost_of([&] { work.bare(); });
                        double bare = std::max({decoding.wall, encoding.wall, (decoding.cpu + encoding.cpu) / 2});
                        return ms_of([&] { work.convert(); }) / bare;
                    });
}

/// Four rungs from one decoding, against that decoding and each rung by hand.
json ladder_row() {
    auto cut = beginning("vp8-360p30.webm", 4_s), out = scratch("ladder");
    auto packets = packets_of(cut);
    LadderOptions o;
    o.out = out, o.measure = false;
    std::shared_ptr<Clip> opened = need(open_clip(cut.string()));
    auto& track = *opened->info().main(Kind::video);
    o.recipe.rungs = propose_rungs(track.video, 30, 4);
    std::vector<Frame> decoded;
    auto reader = need(FrameReader::open(opened, track, CodecRegistry::standard()));
    while (auto p = need(reader->next())) decoded.push_back(*p);
    /// A rung by hand: its pictures fitted one after the other and encoded.
    auto by_hand = [&](const RungSpec& rung) {
        VideoEncodeOptions e;
        e.width = rung.width, e.height = rung.height, e.rate = {30, 1}, e.bitrate = rung.bitrate;
        e.keyframe_every = 120, e.b_frames = 2, e.effort = 0;
        auto encoder = need(CodecRegistry::standard().video_encoder(Codec::h264, e));
        Reshaper reshaper;
        std::vector<Encoded> ready;
        for (auto& p : decoded) {
            Reshape r;
            r.width = p.width, r.height = p.height;
            r.to_width = r.canvas_width = rung.width, r.to_height = r.canvas_height = rung.height;
            r.colour = p.colour;
            (void)encoder->encode(need(reshaper.make(p, r)), ready);
        }
        (void)encoder->drain(ready);
    };
    constexpr auto about = "time to the longest of decoding, the dearest rung by hand, and half of what all cost";
    auto made = of_pairs(5, 1.10, "lower", about, [&] {
        auto decoding = cost_of([&] {
            auto decoder = bare_decoder(packets.track, 1);
            for (auto& p : packets.list) decoder->decode(p, nullptr);
            decoder->drain(nullptr);
        });
        double longest = decoding.wall, all = decoding.cpu;
        for (auto& rung : o.recipe.rungs) {
            auto alone = cost_of([&] { by_hand(rung); });
            longest = std::max(longest, alone.wall), all += alone.cpu;
        }
        std::filesystem::remove_all(out);
        auto ours = ms_of([&] { need(make_ladder(cut.string(), o, CodecRegistry::standard())); });
        return ours / std::max(longest, all / 2);
    });
    std::filesystem::remove_all(out);
    return made;
}

json convert_quality_row() {
    double worst = -HUGE_VAL;
    constexpr std::array codecs{Codec::h264, Codec::vp9, Codec::vp8, Codec::av1, Codec::theora, Codec::mjpeg};
    for (auto codec : codecs) {
        Work work(codec, 30);
        auto packets = work.bare();
        Track track;
        track.kind = Kind::video, track.codec = codec, track.config = work.config;
        track.video = work.plan.format;
        auto decoder = need(CodecRegistry::standard().video_decoder(track));
        std::vector<Frame> given, by_hand, ours;
        for (auto& p : work.pictures) given.push_back(work.fitted(p));
        for (auto& p : packets) (void)decoder->decode(p.data, p.pts, p.keyframe, by_hand);
        (void)decoder->drain(by_hand);
        work.convert();
        std::shared_ptr<Clip> made = need(open_clip(work.out.string()));
        auto reader = need(FrameReader::open(made, *made->info().main(Kind::video), CodecRegistry::standard()));
        while (auto p = need(reader->next())) ours.push_back(*p);
        worst = std::max(worst, likeness(given, by_hand) - likeness(given, ours));
    }
    return row(worst, 0.1, "lower", "dB that the worst codec loses against its encoder alone, same pictures",
               codecs.size());
}

json rewrap_row() {
    // Large enough that moving the bytes is what costs, and small enough that a disk does not tire of it.
    auto file = clip("quarter-hour.mp4");
    auto out = scratch("r.mp4"), copied = scratch("copy");
    auto made =
        of_pairs(5, 0.5, "higher", "speed of copying the packets to that of copying the bytes, with fsync", [&] {
            double bare = ms_of([&] {
                int from = ::open(file.c_str(), O_RDONLY | O_CLOEXEC),
                    to = ::open(copied.c_str(), O_CREAT | O_TRUNC | O_WRONLY | O_CLOEXEC, 0600);
                std::vector<char> buffer(1 << 20);
                for (ssize_t n; (n = ::read(from, buffer.data(), buffer.size())) > 0;)
                    if (::write(to, buffer.data(), static_cast<std::size_t>(n)) != n) std::exit(1);
                ::fsync(to);
                ::close(from), ::close(to);
            });
            double ours = ms_of([&] {
                need(convert(file.string(),
                             {.out = out, .recipe = {}, .target = {}, .replace = Replace::anything, .check = false},
                             CodecRegistry::standard()));
            });
            std::filesystem::remove(out), std::filesystem::remove(copied);
            return bare / ours;
        });
    return made;
}

json play_through_row() {
    auto file = clip("h264-720p60.mp4").string();
    Target target;
    target.title = "VP8 alone", target.containers = {"webm"};
    target.video.push_back({.codec = Codec::vp8}), target.audio.push_back({.codec = Codec::opus});
    return of_pairs(5, 1.5, "lower", "seconds from opening a 720p clip that is converted to its first picture", [&] {
        return ms_of([&] {
                   std::shared_ptr<Clip> source = need(open_clip(file));
                   std::shared_ptr<Clip> through =
                       need(open_live_transcode(source, {.target = target}, CodecRegistry::standard()));
                   need(open_playable(through, CodecRegistry::standard()));
               }) /
               1000;
    });
}

json compare_row() {
    std::mt19937 random(1);
    std::vector<std::uint8_t> a(1280 * 720), b(a.size());
    for (std::size_t i = 0; i < a.size(); ++i)
        a[i] = static_cast<std::uint8_t>(random()), b[i] = static_cast<std::uint8_t>(a[i] + random() % 9);
    Plane pa{a.data(), 1280, 720, 1280}, pb{b.data(), 1280, 720, 1280};
    Similarity similarity;
    double kept = 0;
    auto made =
        of_pairs(60, 60, "higher", "pictures of 720p a second, structural similarity and squared error, one core", [&] {
            return 1000 / ms_of([&] { kept += similarity.of(pa, pb) + static_cast<double>(squared_error(pa, pb)); });
        });
    if (!(kept > 0)) std::exit(1);
    return made;
}

}  // namespace ruedo::bench
