// SPDX-License-Identifier: Apache-2.0
// Rows of conversion: against the same decoder and the same encoder with nothing between and around them, and against
// copying the bytes.
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <random>

#include "bench/clips.h"
#include "bench/rows.h"
#include "convert/conversion.h"
#include "convert/streams.h"
#include "convert/through.h"
#include "picture/quality.h"

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

json convert_row(Codec codec) {
    constexpr int count = 120;
    auto file = clip("h264-720p60.mp4");
    auto packets = packets_of(file);
    packets.list.resize(std::min<std::size_t>(packets.list.size(), count));
    std::shared_ptr<Clip> opened = need(open_clip(file.string()));
    auto reader = need(PictureReader::open(opened, *opened->info().main(Kind::video), CodecRegistry::standard()));
    std::vector<Picture> pictures;
    while (static_cast<int>(pictures.size()) < count) pictures.push_back(*need(reader->next()));
    Recipe recipe;
    recipe.video.action = Recipe::Do::encode, recipe.video.codec = codec;
    recipe.audio.action = Recipe::Do::none;
    recipe.to = pictures.back().pts + 1_ms;
    auto out = scratch(codec == Codec::h264 ? "c.mp4" : "c.webm");
    auto made = of_pairs(
        5, 1.10, "lower", "time to the longest of decoding, encoding, and half of what both cost on one core", [&] {
            auto decoding = cost_of([&] {
                auto decoder = bare_decoder(packets.track, 1);
                for (auto& p : packets.list) decoder->decode(p, nullptr);
                decoder->drain(nullptr);
            });
            auto encoding = cost_of([&] {
                auto o = encoder_options(codec, recipe, pictures.front().width, pictures.front().height, {60, 1});
                auto encoder = need(CodecRegistry::standard().video_encoder(codec, o));
                std::vector<Encoded> packets_out;
                for (auto& p : pictures) (void)encoder->encode(p, packets_out);
                (void)encoder->drain(packets_out);
            });
            double bare = std::max({decoding.wall, encoding.wall, (decoding.cpu + encoding.cpu) / 2});
            double ours = ms_of([&] {
                need(convert(file.string(), {.out = out, .recipe = recipe, .target = {}, .replace = true},
                             CodecRegistry::standard()));
            });
            return ours / bare;
        });
    std::filesystem::remove(out);
    return made;
}

json rewrap_row() {
    // Large enough that moving the bytes is what costs, and small enough that a disk does not tire of it.
    auto file = clip("two-hours.mp4").parent_path() / "quarter-hour.mp4";
    if (std::error_code ec; !std::filesystem::exists(file, ec)) {
        Recipe quarter;
        quarter.audio.action = Recipe::Do::none;
        quarter.to = 900_s;
        need(convert(clip("two-hours.mp4").string(), {.out = file, .recipe = quarter, .target = {}},
                     CodecRegistry::standard()));
    }
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
                need(convert(file.string(), {.out = out, .recipe = {}, .target = {}, .replace = true},
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
                       need(open_through(source, {.target = target}, CodecRegistry::standard()));
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
