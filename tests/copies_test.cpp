// SPDX-License-Identifier: Apache-2.0
// What is copied from container to container: it is shown as before, from the same picture to the same one, and so
// long.
#include "conversions.h"
#include "convert/compare.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// What of a track is presented, without decoding it.
struct Presented {
    std::vector<Time> times;
    Time end{};
};
Presented presented(Clip& clip, const Track& track) {
    Presented p;
    TrackEnd end;
    PacketHead head;
    auto reader = clip.reader(track.id);
    while (value(reader->next(head))) {
        end.see(head);
        if (head.pts.ns >= 0 && head.pts < track.end) p.times.push_back(head.pts);
    }
    std::sort(p.times.begin(), p.times.end());
    p.end = end.of(track).value_or(Time{});
    return p;
}
Recipe copying(Kind kind) {
    Recipe r;
    r.video.action = kind == Kind::audio ? Recipe::Do::none : Recipe::Do::copy;
    r.audio.action = kind == Kind::audio ? Recipe::Do::copy : Recipe::Do::none;
    return r;
}
/// A number of 32 bits in each box of this kind.
void patch_all(Bytes& file, std::string_view box, std::size_t at,
               const std::function<std::uint32_t(std::uint32_t)>& to) {
    for (auto it = file.begin();; it += 4) {
        it = std::search(it, file.end(), box.begin(), box.end());
        if (it == file.end()) return;
        auto* p = &it[4 + static_cast<std::ptrdiff_t>(at)];
        auto n = to(static_cast<std::uint32_t>(p[0] << 24 | p[1] << 16 | p[2] << 8 | p[3]));
        for (int i = 0; i < 4; ++i) p[i] = static_cast<std::uint8_t>(n >> (24 - 8 * i));
    }
}
/// The first pictures of a file.
std::vector<Frame> first_frames(const fs::path& path, std::size_t count) {
    std::shared_ptr<Clip> clip = value(open_clip(path.string()));
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    std::vector<Frame> all;
    while (all.size() < count) {
        auto p = value(reader->next());
        if (!p) break;
        all.push_back(std::move(*p));
    }
    return all;
}
bool same_samples(const Frame& a, const Frame& b) {
    if (a.width != b.width || a.height != b.height) return false;
    for (std::size_t i = 0; i < 3; ++i) {
        int rows = i ? (a.height + 1) / 2 : a.height, across = i ? (a.width + 1) / 2 : a.width;
        for (std::ptrdiff_t y = 0; y < rows; ++y)
            if (!std::equal(a.plane[i] + y * a.stride[i], a.plane[i] + y * a.stride[i] + across,
                            b.plane[i] + y * b.stride[i]))
                return false;
    }
    return true;
}
}  // namespace

TEST_CASE("Pictures that are copied keep their shape, their number, their times and their length, or are not copied",
          "[convert][copy]") {
    Folder folder;
    int copied = 0, refused = 0;
    for (auto& name : playable())
        for (auto container_format : {"mp4", "mkv", "webm", "ts", "ogv"}) {
            auto clip = test::open(name);
            auto* track = clip->info().main(Kind::video);
            if (!track) continue;
            INFO(name << " into " << container_format);
            auto out = folder / (name + "." + container_format);
            auto result = convert(fixture(name).string(), {.out = out, .recipe = copying(Kind::video), .target = {}},
                                  CodecRegistry::standard());
            if (!result) {
                CHECK(result.error().code == ErrorCode::refused);
                CHECK(result.error().sentence.starts_with("The pictures can’t be copied: "));
                ++refused;
                continue;
            }
            ++copied;
            auto made = value(open_clip(out.string()));
            auto* again = made->info().main(Kind::video);
            REQUIRE(again);
            CHECK(again->video.display_width() == track->video.display_width());
            CHECK(again->video.display_height() == track->video.display_height());
            CHECK(again->video.rotation == track->video.rotation);
            auto before = presented(*clip, *track), after = presented(*made, *again);
            REQUIRE(after.times.size() == before.times.size());
            auto shift = before.times.front() - after.times.front();
            for (std::size_t i = 0; i < before.times.size(); ++i)
                CHECK(std::abs((after.times[i] + shift - before.times[i]).ns) <= (1_ms).ns);
            // A transport stream does not say how long its last picture is shown.
            if (container_format != std::string("ts"))
                CHECK(std::abs((after.end + shift - before.end).ns) <= (2_ms).ns);
        }
    CHECK(copied > 50);
    CHECK(refused > 20);
}

TEST_CASE("Sound that is copied begins and ends where it did", "[convert][copy]") {
    Folder folder;
    int copied = 0;
    for (auto& name : playable())
        for (auto container_format : {"mp4", "mkv", "webm"}) {
            auto clip = test::open(name);
            auto* track = clip->info().main(Kind::audio);
            if (!track) continue;
            INFO(name << " into " << container_format);
            auto out = folder / (name + "." + container_format);
            auto result = convert(fixture(name).string(), {.out = out, .recipe = copying(Kind::audio), .target = {}},
                                  CodecRegistry::standard());
            if (!result) continue;
            ++copied;
            auto made = value(open_clip(out.string()));
            auto* again = made->info().main(Kind::audio);
            REQUIRE(again);
            // Matroska does not say how long a packet of Vorbis is, counts milliseconds, and cuts only what begins at
            // nought.
            auto slack = track->codec == Codec::vorbis                                   ? 6_ms
                         : track->start.ns > 0 && container_format != std::string("mp4") ? 40_ms
                                                                                         : 1_ms;
            auto before = presented(*clip, *track), after = presented(*made, *again);
            // Without the pictures it begins at once.
            CHECK(std::abs(((after.end - again->start) - (before.end - track->start)).ns) <= slack.ns);
        }
    CHECK(copied > 25);
}

TEST_CASE("A cut whose sound is copied holds the same samples as the original there", "[convert][copy]") {
    Folder folder;
    std::mt19937 random(23);
    int copied = 0;
    for (unsigned rate : {44100U, 48000U}) {
        ByteWriter wav;
        wav.text("RIFF").le(36 + rate * 16, 4).text("WAVEfmt ").le(16, 4).le(1, 2).le(2, 2).le(rate, 4).le(rate * 4, 4);
        wav.le(4, 2).le(16, 2).text("data").le(rate * 16, 4);
        for (unsigned i = 0; i < rate * 8; ++i) wav.le(random() & 0x3FFF, 2);  // 4 s of noise: found nowhere else
        auto noise = folder / "noise.wav";
        put(noise, wav.bytes);
        for (auto in : {"vorbis.ogg", "vorbis.mkv", "opus.ogg", "opus.mkv", "aac.mp4", "mp3.mp3", "flac.flac",
                        "pcm.wav", "pcm.mkv"}) {
            Recipe encoding;
            encoding.audio.action = Recipe::Do::encode;
            encoding.audio.codec = codec_from_name(fs::path(in).stem().string());
            auto source = folder / in;
            auto encoded =
                convert(noise.string(), {.out = source, .recipe = encoding, .target = {}, .replace = Replace::anything},
                        CodecRegistry::standard());
            REQUIRE(encoded);
            auto all = audio_of(std::shared_ptr<Clip>(value(open_clip(source.string()))));
            for (auto out : {"a.mp4", "a.mkv", "a.webm", "a.ogg"}) {
                auto recipe = copying(Kind::audio);
                recipe.from = 10_ms * (20 + static_cast<std::int64_t>(random() % 200));
                recipe.to = recipe.from + 10_ms * (20 + static_cast<std::int64_t>(random() % 100));
                INFO(rate << ": " << in << " into " << out << " from " << recipe.from.ms() << " to "
                          << recipe.to->ms());
                auto result =
                    convert(source.string(),
                            {.out = folder / out, .recipe = recipe, .target = {}, .replace = Replace::anything},
                            CodecRegistry::standard());
                if (!result) {
                    CHECK(result.error().code == ErrorCode::refused);
                    continue;
                }
                ++copied;
                auto cut = audio_of(std::shared_ptr<Clip>(value(open_clip((folder / out).string()))));
                auto first = static_cast<std::ptrdiff_t>(recipe.from.ms() * 96);
                auto wanted = static_cast<std::ptrdiff_t>((*recipe.to - recipe.from).ms() * 96);
                auto size = static_cast<std::ptrdiff_t>(cut.size());
                // The part of its energy that is wrong.
                auto error = [&](std::ptrdiff_t lag, std::ptrdiff_t from, std::ptrdiff_t to) {
                    double squares = 1e-9, off = 0;
                    for (auto i = std::max(from, -2 * lag); i < std::min(to, size - 2 * lag); ++i) {
                        double a = all[static_cast<std::size_t>(first + i)],
                               b = cut[static_cast<std::size_t>(i + 2 * lag)];
                        squares += a * a, off += (a - b) * (a - b);
                    }
                    return off / squares;
                };
                // Matroska rounds times to milliseconds, so packets of no stated length lie up to half of one off.
                bool rounded = in == std::string("vorbis.mkv") || in == std::string("pcm.mkv");
                std::ptrdiff_t lag = 0;
                for (std::ptrdiff_t l = -24; rounded && l <= 24; ++l)
                    if (error(l, 9600, 14400) < error(lag, 9600, 14400)) lag = l;
                CHECK(error(lag, 0, wanted) < (rounded ? 0.3 : 0.01));
                CHECK(std::abs((size - wanted) / 2 - lag) < (rounded ? 25 : 2));
                // Opus comes near to the original only after its first packets.
                if (!rounded && in[0] != 'o') CHECK(error(0, 0, 960) < 0.001);
            }
        }
    }
    CHECK(copied == 2 * 22);
}

TEST_CASE("What an edit cuts off is not copied, and what it keeps is shown and heard as before", "[convert][copy]") {
    Folder folder;
    std::mt19937 random(71);
    for (int i = 0; i < 4; ++i) {
        auto bytes = bytes_of(fixture("h264_high_aac.mp4"));
        // In thousandths: the movie's own ticks. Pictures count 30,000 a second, sound 48,000.
        auto some = [&](unsigned least, unsigned more) { return least + static_cast<unsigned>(random() % more); };
        auto from = i % 2 ? some(600, 3000) : 0, length = some(700, 1700);
        patch_all(bytes, "elst", 8, [&](auto) { return length; });
        patch_all(bytes, "elst", 12, [&](auto start) { return start + from * (start == 1600 ? 48 : 30); });
        auto in = folder / ("edited" + std::to_string(i) + ".mp4");
        put(in, bytes);
        INFO("from " << from << " for " << length);
        auto seen = frames_in(in);
        auto heard = onsets_in(in);
        REQUIRE_FALSE(seen.empty());
        for (auto out : {"a.mp4", "a.mkv", "a.ts"}) {
            INFO(out);
            auto path = folder / (std::to_string(i) + out);
            // Pictures that can't be copied are encoded anew.
            auto result = made(in.string(), path);
            bool bare = path.extension() == ".ts";
            if (path.extension() == ".mp4") CHECK(result.video.action == "copied");
            if (!bare) CHECK(result.audio.action == "copied");
            CHECK(result.bytes < bytes.size() * (length + 2500) / 6000);
            auto again = frames_in(path);
            REQUIRE(again.size() == seen.size());
            for (std::size_t k = 0; k < seen.size(); ++k) {
                CHECK(again[k].number == seen[k].number);
                CHECK(std::abs((again[k].pts - again[0].pts - seen[k].pts + seen[0].pts).ns) < (2_ms).ns);
            }
            auto onsets = onsets_in(path);
            REQUIRE(onsets.size() == heard.size());
            for (std::size_t k = 0; k < heard.size(); ++k)
                CHECK(std::abs(static_cast<double>(onsets[k]) - static_cast<double>(heard[k])) < (bare ? 5000 : 200));
            auto is = value(open_clip(path.string()))->info().duration;
            CHECK(std::abs((is - 1_ms * length).ns) < (bare ? 120_ms : 40_ms).ns);
        }
    }
}

TEST_CASE("What a container crops is not shown, and is cropped by what its frames are copied into",
          "[convert][copy][container][crop]") {
    Folder folder;
    for (std::string name : {"vp9_opus.webm", "h264_high_aac.mp4"})
        for (std::string container_format : {"mkv", "mp4"})
            for (auto edges : {Crop{2, 4, 6, 8}, Crop{0, 0, 1, 1}, Crop{0, 0, 0, 3}, Crop{64, 0, 0, 0}}) {
                INFO(name << " in " << container_format << ", " << edges.left << " " << edges.right);
                auto clip = test::open(name);
                auto& track = *clip->info().main(Kind::video);
                Bytes file;
                auto writer =
                    container_format_of_extension(container_format)->write(std::make_unique<MemorySink>(file));
                MuxerTrack w;
                w.codec = track.codec, w.config = track.config, w.video = track.video;
                w.video.crop = edges;
                w.video.set_coded_size(track.video.width, track.video.height);
                auto number = value(writer->add(w));
                auto reader = clip->reader(track.id);
                PacketHead head;
                Bytes data;
                while (value(reader->next(head))) {
                    done(reader->read(data));
                    done(writer->write(number,
                                       {head.pts, head.dts.value_or(head.pts), head.duration, head.keyframe, data}));
                }
                done(writer->finish());
                auto path = folder / ("cropped." + container_format);
                put(path, file);
                auto info = value(open_clip(path.string()))->info();
                auto& video = info.main(Kind::video)->video;
                CHECK(video.crop == edges);
                CHECK(video.width == track.video.width - edges.left - edges.right);
                CHECK(video.display_height() == track.video.height - edges.top - edges.bottom);
                auto all = first_frames(fixture(name), 4), part = first_frames(path, 4);
                REQUIRE(part.size() == all.size());
                for (std::size_t i = 0; i < all.size(); ++i) CHECK(same_samples(part[i], cropped(all[i], edges)));
                for (std::string into : {"mkv", "mp4"}) {
                    if (into == "mp4" && track.config.empty()) continue;  // it has to state one
                    auto copy = folder / ("copy." + into);
                    (void)value(convert(
                        path.string(),
                        {.out = copy, .recipe = copying(Kind::video), .target = {}, .replace = Replace::anything},
                        CodecRegistry::standard()));
                    CHECK(same_samples(first_frames(copy, 1)[0], part[0]));
                }
                if (track.codec == Codec::h264) {
                    auto result =
                        convert(path.string(), {.out = folder / "x.ts", .recipe = copying(Kind::video), .target = {}},
                                CodecRegistry::standard());
                    REQUIRE_FALSE(result.has_value());
                    CHECK(result.error().sentence.find("which of their edges are cut off") != std::string::npos);
                }
            }
    // More than there is: it is left alone.
    VideoFormat f;
    f.crop = {300, 0, 20, 0};
    f.set_coded_size(320, 180);
    CHECK((f.width == 320 && f.crop == Crop{}));
}

TEST_CASE("AV1 of odd sizes is coded with padding, which the container crops", "[convert][copy][crop]") {
    Folder folder;
    for (std::string container_format : {"webm", "mp4", "mkv"})
        for (auto [width, height] : {std::pair{213, 121}, {213, 120}, {214, 121}}) {
            INFO(container_format << " " << width << " x " << height);
            Recipe r;
            r.to = 300_ms;
            r.video.action = Recipe::Do::encode, r.video.codec = Codec::av1;
            r.video.width = width, r.video.height = height, r.video.shape = Recipe::Shape::crop;
            r.video.quality = 10;
            auto path = folder / ("odd." + container_format), plain = folder / "odd.vp9.webm";
            CHECK_FALSE(says(value(convert(fixture("vp9_opus.webm").string(),
                                           {.out = path, .recipe = r, .target = {}, .replace = Replace::anything},
                                           CodecRegistry::standard())),
                             "odd-size"));
            auto info = value(open_clip(path.string()))->info();
            auto& video = info.main(Kind::video)->video;
            CHECK((video.width == width && video.height == height));
            CHECK(video.crop == Crop{0, 0, width % 2, height % 2});
            // As near to the original as another codec that takes such sizes by itself.
            r.video.codec = Codec::vp9;
            (void)value(convert(fixture("vp9_opus.webm").string(),
                                {.out = plain, .recipe = r, .target = {}, .replace = Replace::anything},
                                CodecRegistry::standard()));
            auto alike = value(compare(path.string(), plain.string(), CodecRegistry::standard()));
            CHECK(alike.frames >= 8);
            CHECK(alike.ssim_y > 0.95);
        }
}
