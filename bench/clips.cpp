// SPDX-License-Identifier: Apache-2.0
#include "bench/clips.h"

#include <fmt/format.h>

#include <cmath>
#include <cstdio>
#include <cstdlib>

#include "convert/conversion.h"

namespace ruedo::bench {
namespace fs = std::filesystem;
namespace {

void need(const Status& outcome) {
    if (outcome) return;
    std::fprintf(stderr, "%s\n", outcome.error().sentence.c_str());
    std::exit(1);
}

demo::ClipSpec spec_of(const std::string& name) {
    demo::ClipSpec s;
    s.file = name;
    s.seconds = 10;
    s.sample = demo::burst;
    s.draw = [](demo::Canvas& c, double t) {
        c.gradient({40, 50, 80}, {110, 90, 70});
        for (int i = 0; i < 12; ++i)
            c.circle({c.width() * (0.05 + 0.08 * i), c.height() * (0.5 + 0.25 * std::sin(t * 2 + i))},
                     c.height() * 0.05, {230, 200.0 - 10 * i, 120});
    };
    if (name.starts_with("h264"))
        s.video = Codec::h264, s.audio = Codec::aac, s.rate = {60, 1}, s.keyframe_every = 120, s.bitrate = 2'000'000;
    if (name.starts_with("vp9")) s.width = 1920, s.height = 1080, s.bitrate = 3'000'000;
    if (name.starts_with("vp8")) s.video = Codec::vp8, s.width = 640, s.height = 360, s.bitrate = 800'000;
    return s;
}

/// So many times ten seconds, packet by packet: only what is in the packets repeats.
void repeat(const fs::path& source, int times, const fs::path& path) {
    auto opened = open_clip(source.string());
    auto writer = mp4_muxer(path, true);
    if (!opened || !writer) std::exit(1);
    std::vector<std::vector<Packet>> all;
    std::vector<std::size_t> ids;
    for (auto& t : (*opened)->info().tracks) {
        MuxerTrack w;
        w.codec = t.codec, w.config = t.config, w.video = t.video, w.audio = t.audio,
        w.timescale = static_cast<std::uint32_t>(t.tick.den);
        ids.push_back(*(*writer)->add(w));
        auto reader = (*opened)->reader(t.id);
        auto& list = all.emplace_back();
        Packet p;
        while (reader->next(p.head).value_or(false)) {
            need(reader->read(p.data));
            if (p.head.pts.ns >= 0 && p.head.pts < 10_s) list.push_back(p);
        }
    }
    for (int lap = 0; lap < times; ++lap)
        for (int second = 0; second < 10; ++second)
            for (std::size_t k = 0; k < all.size(); ++k)
                for (auto& p : all[k]) {
                    if (p.head.pts < 1_s * second || p.head.pts >= 1_s * (second + 1)) continue;
                    auto at = p.head.pts + 10_s * lap;
                    need((*writer)->write(ids[k], {at, at, p.head.duration, p.head.keyframe, p.data}));
                }
    need((*writer)->finish());
}
}  // namespace

fs::path clip(const std::string& name) {
    auto folder = fs::temp_directory_path() / "ruedo-bench-clips-4";
    std::error_code ec;
    fs::create_directories(folder, ec);
    auto path = folder / name;
    if (!fs::exists(path, ec)) {
        if (name == "two-hours.mp4")
            repeat(clip("h264-720p60.mp4"), 720, path);
        else if (name == "quarter-hour.mp4")
            repeat(clip("h264-720p60.mp4"), 90, path);
        else if (name == "long-1080p.mp4")
            repeat(clip("vp9-1080p30.webm"), 12, path);
        else
            need(demo::make_clip(spec_of(name), folder, CodecRegistry::standard()));
    }
    return path;
}

fs::path beginning(const std::string& name, Time length) {
    auto whole = clip(name);
    auto path = whole.parent_path() / fmt::format("{}-ms-of-{}", length.ns / 1'000'000, name);
    if (std::error_code ec; fs::exists(path, ec)) return path;
    Recipe recipe;
    recipe.video.action = Recipe::Do::copy, recipe.audio.action = Recipe::Do::none, recipe.to = length;
    auto made = convert(whole.string(), {.out = path, .recipe = recipe, .target = {}}, CodecRegistry::standard());
    if (!made) need(std::unexpected(made.error()));
    return path;
}

Packets packets_of(const fs::path& path) {
    Packets packets;
    auto opened = open_clip(path);
    if (!opened) std::exit(1);
    packets.track = *(*opened)->info().main(Kind::video);
    auto reader = (*opened)->reader(packets.track.id);
    Packet p;
    while (reader->next(p.head).value_or(false)) {
        need(reader->read(p.data));
        packets.list.push_back(p);
    }
    return packets;
}

}  // namespace ruedo::bench
