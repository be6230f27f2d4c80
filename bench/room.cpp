// SPDX-License-Identifier: Apache-2.0
// A screen in a room, playing: a new picture every time, a bar below it.
#include <cstring>
#include <fmt/format.h>
#include <thread>

#include "bench/rows.h"
#include "scene/projection.h"

namespace ruedo::bench {
namespace {
constexpr int width = 1280, height = 800;

RgbImage noise(int w, int h, unsigned seed) {
    RgbImage image{w, h, {}};
    image.pixels.resize(static_cast<std::size_t>(w) * static_cast<std::size_t>(h) * 4);
    for (auto& b : image.pixels) b = static_cast<std::uint8_t>((seed = seed * 1664525 + 1013904223) >> 24);
    return image;
}

/// One 1280 x 720 screen two metres ahead, with a bar of controls that moves now and then.
struct Room {
    PlayerDocument document;
    std::vector<Layout> layouts;
    scene::Eye eye = scene::Eye::of(document.room.viewer, width, height);
    scene::Scene scene;
    std::array<RgbImage, 2> pictures{noise(1280, 720, 1), noise(1280, 720, 2)};
    RgbImage sheet;
    std::vector<scene::Laid> laid;
    Room() {
        document.player().bars[0].where = BarSpec::Where::clear;
        layouts = {lay_out(document.player(), scene::surface_of(document.player()), usual_moment())};
        scene = scene::build(document, layouts, eye);
        auto& l = layouts[0];
        sheet = noise(l.whole.width, l.whole.height, 3);
        for (std::size_t i = 3; i < sheet.pixels.size(); i += 4) sheet.pixels[i] = 255;
        auto over = scene::Texture::of(sheet, 1);
        over.see_through = true;
        laid = {{{{scene::Texture::of(pictures[0], 1), l.area.rect(), {l.area.rect()}},
                  {over, l.whole.rect(), {l.bars.at(0).box.rect()}}},
                 "#17131A"}};
    }
    void next(std::uint64_t n) { laid[0].layers[0].texture = scene::Texture::of(pictures[n % 2], n); }
};

/// The same number of pixels, by so many threads.
double copy_ms(const std::vector<std::uint32_t>& from, std::vector<std::uint32_t>& to, unsigned threads) {
    // Threads that are there already, as the projection's are.
    std::atomic<unsigned> go = 0, done = 0;
    std::vector<std::thread> pool;
    auto part = from.size() / threads;
    auto work = [&](unsigned i) { std::memcpy(&to[i * part], &from[i * part], part * 4); };
    for (unsigned i = 1; i < threads; ++i)
        pool.emplace_back([&, i] {
            while (!go) std::this_thread::yield();
            work(i), ++done;
        });
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
    auto ms = ms_of([&] {
        go = 1;
        work(0);
        while (done + 1 < threads) std::this_thread::yield();
    });
    for (auto& t : pool) t.join();
    return ms;
}
}  // namespace

json room_row() {
    Room room;
    auto threads = std::clamp(std::thread::hardware_concurrency(), 1U, 16U);
    scene::Projection projection(static_cast<int>(threads));
    std::vector<std::uint32_t> from(width * height, 7), to(width * height, 9);
    std::uint64_t n = 1;
    return of_pairs(200, 12, "lower", "times a copy of 1280 x 800 pixels: a new picture of a 720p screen with its bar",
                    [&] {
                        room.next(++n);
                        auto drawn = ms_of([&] { projection.draw(room.scene, room.eye, room.laid); });
                        auto copied = copy_ms(from, to, threads);
                        return drawn / std::max(0.05, copied);
                    });
}

json room_still_row() {
    Room room;
    scene::Projection projection;
    projection.draw(room.scene, room.eye, room.laid);
    std::size_t faces = 0, samples = 100;
    for (std::size_t i = 0; i < samples; ++i) {
        projection.draw(room.scene, room.eye, room.laid);
        faces += projection.work().faces + projection.work().halved;
    }
    return row(static_cast<double>(faces) / static_cast<double>(samples), 0, "lower",
               "faces drawn and pictures halved where nothing changed", samples);
}

}  // namespace ruedo::bench
