// SPDX-License-Identifier: Apache-2.0
// Every container with every codec that goes into it: each picture where it was, each sound where it was, and the file
// as its standard has it.
#include <ebur128.h>
#include <fmt/format.h>
#include <ogg/ogg.h>

#include <map>

#include "conversions.h"
#include "convert/compare.h"
#include "convert/stills.h"
#include "media/codec_headers.h"
#include "text/cues.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
std::shared_ptr<Clip> opened_at(const fs::path& path) { return value(open_clip(path.string())); }
/// In the form the track itself has.
std::vector<float> samples_of(const fs::path& path, AudioSpec form) {
    auto clip = opened_at(path);
    auto reader = value(AudioReader::open(clip, *clip->info().main(Kind::audio), CodecRegistry::standard(), form));
    std::vector<float> all;
    while (auto block = value(reader->next())) all.insert(all.end(), block->samples.begin(), block->samples.end());
    return all;
}
struct Pair {
    const ContainerFormat* container_format;
    Codec video, audio;
};
/// Each container with each codec that can be encoded into it at least once.
std::vector<Pair> pairs() {
    std::vector<Pair> all;
    auto& codecs = CodecRegistry::standard();
    for (auto& w : container_formats()) {
        std::vector<Codec> video, audio;
        for (auto c : w.video)
            if (codecs.encodes(c)) video.push_back(c);
        for (auto c : w.audio)
            if (codecs.encodes(c)) audio.push_back(c);
        for (std::size_t i = 0; i < std::max(video.size(), audio.size()) && !audio.empty(); ++i)
            all.push_back({&w, video.empty() ? Codec::unknown : video[i % video.size()], audio[i % audio.size()]});
    }
    return all;
}

/// A document in PCM, its value known: a click at each `apart`.
void put_wav(const fs::path& path, int rate, int channels, int bits, std::size_t frames,
             const std::function<float(std::size_t, int)>& at) {
    auto encoder =
        value(CodecRegistry::standard().audio_encoder(Codec::pcm, {.rate = rate, .channels = channels, .bits = bits}));
    auto writer = container_format_named("wav")->write(
        std::make_unique<FileWriter>(value(FileWriter::create(path, Replace::anything))));
    MuxerTrack t;
    t.codec = Codec::pcm, t.config = encoder->config(), t.audio = {rate, channels};
    auto number = value(writer->add(t));
    std::vector<EncodedSamples> packets;
    std::vector<float> block;
    for (std::size_t i = 0; i < frames; ++i)
        for (int c = 0; c < channels; ++c) block.push_back(at(i, c));
    done(encoder->encode(block, packets));
    for (auto& p : packets) done(writer->write(number, {{}, {}, {}, true, p.data}));
    done(writer->finish());
}
/// A deterministic noise that fills the scale.
float noise(std::size_t i, int c) {
    auto v = static_cast<std::uint32_t>(i * 2654435761U + static_cast<std::size_t>(c) * 40503U);
    v ^= v >> 15, v *= 2246822519U, v ^= v >> 13;
    return static_cast<float>(static_cast<std::int16_t>(v)) / 32768.0F;
}
}  // namespace

TEST_CASE("Into every container with every codec that goes there pictures and sounds stay where they were",
          "[convert]") {
    Folder folder;
    const std::array sources{"h264_high_aac.mp4",   "vp9_opus.webm",     "vfr_h264.mp4", "vp8_vorbis.webm",
                             "edit_skip_500ms.mp4", "theora_vorbis.ogv", "h264_aac.ts",  "h264_high_vorbis.mkv"};
    // The sources take turns; with RUEDO_EVERY_PAIR set each one goes into each, which takes minutes.
    std::size_t turn = 0, each = std::getenv("RUEDO_EVERY_PAIR") ? sources.size() : 1;
    for (auto& [container_format, video, audio] : pairs())
        for (std::size_t k = 0; k < each; ++k) {
            auto name = sources.at(turn++ % sources.size());
            INFO(name << " into " << container_format->name << " with " << codec_name(video) << " and "
                      << codec_name(audio));
            Recipe recipe;
            recipe.container_format = container_format->name;
            recipe.to = 1300_ms;
            if (video != Codec::unknown) recipe.video.action = Recipe::Do::encode, recipe.video.codec = video;
            recipe.audio.action = Recipe::Do::encode, recipe.audio.codec = audio;
            auto path = folder / fmt::format("{}.{}", turn, container_format->extensions.front());
            auto result = made(fixture(name).string(), path, recipe);
            CHECK(result.bytes == fs::file_size(path));
            CHECK(result.container == container_format->container);
            auto clip = opened_at(path);
            CHECK(clip->info().container == container_format->container);
            CHECK(clip->info().duration_known);
            CHECK(std::abs((clip->info().duration - 1300_ms).ns) < (80_ms).ns);
            // Where a container can't say that sound begins early, everything comes later by as much.
            auto late =
                container_format->container == "mpegts" || container_format->container == "adts" ? 40_ms : Time{};
            if (video != Codec::unknown) {
                CHECK(result.video.codec == video);
                CHECK(clip->info().main(Kind::video)->codec == video);
                auto before = frames_in(fixture(name), 1300_ms), after = frames_in(path);
                // Frames that are counted repeat where there were none.
                std::vector<NumberedFrame> once;
                for (auto& p : after)
                    if (once.empty() || once.back().number != p.number || container_format->name != "ogg")
                        once.push_back(p);
                REQUIRE(once.size() == before.size());
                auto shift = once[0].pts - before[0].pts;
                CHECK((shift >= Time{} - 20_ms && shift <= late + 20_ms));
                auto tick = container_format->container == "webm" || container_format->container == "matroska" ? 500'001
                            : container_format->name == "ogg" ? 20'000'000
                                                              : 12'000;
                for (std::size_t i = 0; i < once.size(); ++i) {
                    CHECK(once[i].number == before[i].number);
                    CHECK(std::abs((once[i].pts - before[i].pts - shift).ns) <= 2 * tick);
                }
                // It can be entered anywhere, exactly.
                auto reader =
                    value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
                for (std::size_t i = 3; i < once.size(); i += 13)
                    CHECK(demo::read_strip(render(value(reader->at(once[i].pts)))) == once[i].number);
            }
            CHECK(result.audio.codec == audio);
            auto heard = onsets_in(fixture(name)), again = onsets_in(path);
            for (auto* list : {&heard, &again}) std::erase_if(*list, [](auto at) { return at > 60'000; });
            REQUIRE(again.size() == heard.size());
            REQUIRE_FALSE(heard.empty());
            bool exact = audio == Codec::pcm || audio == Codec::flac;
            for (std::size_t i = 0; i < heard.size(); ++i) {
                auto moved = static_cast<double>(again[i]) - static_cast<double>(heard[i]);
                CHECK(moved >= -96);
                CHECK(moved <= late.seconds() * 48000 + (exact ? 2 : 96));
            }
        }
}

TEST_CASE("Copies go from container to container bit for bit, and play as what they were made of", "[convert]") {
    Folder folder;
    for (auto [name, out] : {std::pair{"h264_high_aac.mp4", "a.mkv"},
                             {"h264_high_aac.mp4", "a.ts"},
                             {"h264_aac.ts", "b.mp4"},
                             {"h264_high_vorbis.mkv", "c.mkv"},
                             {"theora_vorbis.ogv", "d.mkv"},
                             {"theora_vorbis.ogv", "d.ogg"},
                             {"vp8_vorbis.webm", "e.mkv"},
                             {"audio_opus.ogg", "f.webm"},
                             {"audio_opus.ogg", "f.mp4"},
                             {"vp9_opus.webm", "g.ogg"},
                             {"audio.flac", "h.mkv"},
                             {"audio.flac", "h.mp4"},
                             {"audio.flac", "h.ogg"},
                             {"audio_info.mp3", "i.mp4"},
                             {"audio_info.mp3", "i.mkv"},
                             {"audio_info.mp3", "i.mp3"},
                             {"mjpeg_pcm.avi", "j.mkv"},
                             {"hevc.mp4", "k.ts"},
                             {"av1_opus.mp4", "l.mkv"}}) {
        INFO(name << " into " << out);
        Recipe recipe;
        if (std::string(name) == "vp9_opus.webm") recipe.video.action = Recipe::Do::none;
        auto result = made(fixture(name).string(), folder / out, recipe);
        if (result.video.action != "none") {
            CHECK(result.video.action == "copied");
            // A transport stream begins with the sound that is decoded before the first, so all comes a little later.
            if (std::string(out).ends_with(".ts")) {
                auto before = frames_in(fixture(name)), after = frames_in(folder / out);
                REQUIRE(before.size() == after.size());
                for (std::size_t i = 0; i < before.size(); ++i) CHECK(before[i].number == after[i].number);
            } else {
                CHECK(value(compare(fixture(name).string(), (folder / out).string(), CodecRegistry::standard()))
                          .identical);
            }
        }
        if (result.audio.action != "none") {
            CHECK(result.audio.action == "copied");
            auto before = audio_of(open(name)), after = audio_of(opened_at(folder / out));
            // But for what a container can't cut at either end.
            bool bare = std::string(out).ends_with(".ts");
            auto heard = onsets_in(fixture(name)), again = onsets_in(folder / out);
            REQUIRE(heard.size() == again.size());
            for (std::size_t i = 0; i < heard.size(); ++i)
                CHECK(std::abs(static_cast<double>(heard[i]) - static_cast<double>(again[i])) <= (bare ? 2500 : 1));
            if (!bare) CHECK(std::abs(std::ssize(before) - std::ssize(after)) <= 4800);
        }
    }
}

TEST_CASE("Pictures at no one rate go into Ogg to the last one's end, and keyframes come as often as elsewhere",
          "[convert]") {
    Folder folder;
    Recipe recipe;
    recipe.container_format = "ogg", recipe.audio.action = Recipe::Do::none;
    for (auto name : {"recorded_h264_opus.webm", "vfr_h264.mp4"}) {
        INFO(name);
        auto out = folder / (std::string(name) + ".ogv");
        auto told = made(fixture(name).string(), out, recipe);
        CHECK(says(told, "times-rounded"));
        // Steps in which no picture comes repeat the one before.
        auto apart_from_repeats = [](std::vector<NumberedFrame> all) {
            auto same = [](auto& a, auto& b) { return a.number == b.number; };
            all.erase(std::unique(all.begin(), all.end(), same), all.end());
            return all;
        };
        auto before = apart_from_repeats(frames_in(fixture(name))), once = apart_from_repeats(frames_in(out));
        Time key{}, apart{};
        REQUIRE(once.size() == before.size());
        for (std::size_t i = 0; i < once.size(); ++i) {
            CHECK(once[i].number == before[i].number);
            CHECK(std::abs((once[i].pts - once[0].pts - before[i].pts + before[0].pts).ns) < (20_ms).ns);
        }
        auto clip = opened_at(out);
        auto& track = *clip->info().main(Kind::video);
        auto was = value(scan_track(*test::open(name), *test::open(name)->info().main(Kind::video)));
        auto is = value(scan_track(*clip, track, [&](auto& head) {
            if (head.keyframe) apart = std::max(apart, head.pts - key), key = head.pts;
            return true;
        }));
        CHECK(std::abs((is.end - is.start - was.end + was.start).ns) < (20_ms).ns);
        CHECK(apart > 1_s);
        CHECK(apart < 2200_ms);
        auto reader = value(FrameReader::open(clip, track, CodecRegistry::standard()));
        for (std::size_t i = 0; i < once.size(); i += 17)
            CHECK(demo::read_strip(render(value(reader->at(once[i].pts)))) == once[i].number);
    }
}

TEST_CASE("A stretch that begins inside a picture's time is not late in Ogg by as much from there on", "[convert]") {
    Folder folder;
    Recipe recipe;
    recipe.container_format = "ogg", recipe.audio.action = Recipe::Do::none;
    auto all = frames_in(fixture("vp9_small.webm"));
    for (int ms : {398, 410, 430}) {
        recipe.from = 1_ms * ms;
        auto out = folder / (std::to_string(ms) + ".ogv");
        made(fixture("vp9_small.webm").string(), out, recipe);
        for (auto& p : frames_in(out)) {
            auto it = std::find_if(all.begin(), all.end(), [&](auto& b) { return b.number == p.number; });
            REQUIRE(it != all.end());
            INFO(ms << " " << p.pts.ms() << " " << it->pts.ms());
            if (p.pts.ns > 0) CHECK(std::abs((it->pts - recipe.from - p.pts).ns) < (18_ms).ns);
        }
    }
}

TEST_CASE("A last picture that is shown for long is so in what is made, at a rate of its own too", "[convert]") {
    Folder folder;
    auto was = open("vfr_h264.mp4");
    auto end = value(scan_track(*was, *was->info().main(Kind::video))).end;
    for (auto out : {"a.mp4", "a.mkv", "a.webm"})
        for (auto rate : {std::optional<Rational>{}, std::optional(Rational{30, 1})}) {
            Recipe r;
            r.audio.action = Recipe::Do::none;
            r.video.action = Recipe::Do::encode, r.video.rate = rate;
            r.video.width = 96;
            auto path = folder / ((rate ? "constant." : "own.") + std::string(out));
            made(fixture("vfr_h264.mp4").string(), path, r);
            auto is = opened_at(path);
            INFO(path);
            CHECK(std::abs((value(scan_track(*is, *is->info().main(Kind::video))).end - end).ns) < (20_ms).ns);
        }
}

TEST_CASE("What a Theora header can't count is not written as if it could", "[convert]") {
    auto clip = test::open("theora_vorbis.ogv");
    auto& track = *clip->info().main(Kind::video);
    for (int gap : {60, 70}) {
        Bytes file;
        auto writer = ogg_muxer(std::make_unique<MemorySink>(file));
        MuxerTrack w;
        w.codec = track.codec, w.config = track.config, w.video = track.video;
        auto number = value(writer->add(w));
        Bytes picture(40, 0);
        done(writer->write(number, {{}, {}, 33_ms, true, picture}));
        picture[0] = 0x40;
        auto at = ticks_to_time(gap, 1, 30);
        auto wrote = writer->write(number, {at, at, 33_ms, false, picture});
        CHECK(wrote.has_value() == (gap < 64));
        if (!wrote) CHECK(wrote.error().code == ErrorCode::limit);
    }
}

TEST_CASE("Sound without loss keeps every sample, in its own rate, channels and bits", "[convert]") {
    Folder folder;
    for (auto [rate, channels, bits] :
         {std::tuple{44100, 2, 16}, {48000, 1, 16}, {96000, 2, 24}, {22050, 6, 16}, {48000, 8, 24}}) {
        INFO(rate << " " << channels << " " << bits);
        auto wav = folder / "a.wav";
        std::size_t frames = 20'001;
        put_wav(wav, rate, channels, bits, frames, noise);
        AudioSpec form{rate, channels};
        auto before = samples_of(wav, form);
        REQUIRE(before.size() == frames * static_cast<std::size_t>(channels));
        CHECK(before[5] == noise(5 / static_cast<std::size_t>(channels), 5 % channels));
        for (auto out : {"b.flac", "b.mkv", "b.ogg", "b.mp4", "b.wav"}) {
            INFO(out);
            Recipe r;
            r.audio.action = Recipe::Do::encode;
            r.audio.codec =
                std::string(out).ends_with("wav") || std::string(out).ends_with("mkv") ? Codec::pcm : Codec::flac;
            auto result = value(convert(wav.string(),
                                        {.out = folder / out, .recipe = r, .target = {}, .replace = Replace::anything},
                                        CodecRegistry::standard()));
            CHECK(result.audio.sample_rate == rate);
            CHECK(result.audio.channels == channels);
            CHECK(samples_of(folder / out, form) == before);
        }
    }
    // Cut inside, to the sample.
    put_wav(folder / "c.wav", 44100, 2, 16, 44100, noise);
    Recipe cut;
    cut.from = 250_ms, cut.to = 750_ms;
    (void)made((folder / "c.wav").string(), folder / "c.flac", cut);
    auto part = samples_of(folder / "c.flac", {44100, 2}), all = samples_of(folder / "c.wav", {44100, 2});
    CHECK(part.size() == 22050 * 2);
    CHECK(std::equal(part.begin(), part.end(), all.begin() + 11025 * 2));
}

TEST_CASE("Channels are mixed as they are weighted, and what grows too loud is held down", "[convert]") {
    Folder folder;
    put_wav(folder / "six.wav", 48000, 6, 16, 48000, [](std::size_t i, int c) {
        // One channel after the other, each for an eighth of a second.
        return static_cast<int>(i / 6000) == c ? 0.5F * std::sin(static_cast<float>(i) * 0.13F) : 0.0F;
    });
    auto level = [&](const std::vector<float>& s, int channels, int channel, std::size_t eighth) {
        float most = 0;
        for (std::size_t i = eighth * 6000 + 600; i < eighth * 6000 + 5400; ++i)
            most =
                std::max(most, std::abs(s[i * static_cast<std::size_t>(channels) + static_cast<std::size_t>(channel)]));
        return most;
    };
    Recipe r;
    r.audio.action = Recipe::Do::encode;
    for (int channels : {1, 2}) {
        r.audio.channels = channels;
        auto result = value(convert((folder / "six.wav").string(),
                                    {.out = folder / "m.wav", .recipe = r, .target = {}, .replace = Replace::anything},
                                    CodecRegistry::standard()));
        CHECK(says(result, "mixed-down"));
        auto s = samples_of(folder / "m.wav", {48000, channels});
        // ITU-R BS.775: table 2; the low frequencies are left out.
        const std::array<float, 6> mono{0.7071F, 0.7071F, 1, 0, 0.5F, 0.5F}, left{1, 0, 0.7071F, 0, 0.7071F, 0};
        for (std::size_t k = 0; k < 6; ++k)
            CHECK(level(s, channels, 0, k) == Approx(0.5F * (channels == 1 ? mono : left)[k]).margin(0.003));
    }
    // All of them at once, at full scale.
    put_wav(folder / "loud.wav", 48000, 6, 16, 24000,
            [](std::size_t i, int) { return 0.99F * std::sin(static_cast<float>(i) * 0.21F); });
    r.audio.channels = 2;
    (void)made((folder / "loud.wav").string(), folder / "loud2.wav", r);
    auto s = samples_of(folder / "loud2.wav", {48000, 2});
    CHECK(*std::max_element(s.begin(), s.end()) < 1.0F);
    CHECK(*std::max_element(s.begin() + 9600, s.end()) > 0.9F);
}

TEST_CASE("A limiter holds true peaks under its ceiling, and leaves alone what stays under it", "[convert]") {
    std::mt19937 random(7);
    for (int round = 0; round < 12; ++round) {
        AudioSpec form{round % 2 ? 44100 : 48000, 1 + round % 3};
        auto loud = round % 4 == 0 ? 0.3F : 1.5F;
        std::vector<float> in, out;
        for (std::size_t i = 0; i < 30'000; ++i)
            for (int c = 0; c < form.channels; ++c) {
                float burst = i / 4000 % 2 ? loud : loud * 0.1F;
                in.push_back(burst * (random() % 40 == 0
                                          ? noise(i, c)
                                          : std::sin(static_cast<float>(i) * (0.5F + 0.2F * static_cast<float>(c)))));
            }
        Limiter limiter(form, 0.89);
        for (std::size_t at = 0; at < in.size();) {
            auto n =
                std::min<std::size_t>(in.size() - at, (1 + random() % 3000) * static_cast<std::size_t>(form.channels));
            limiter.process(std::span(in).subspan(at, n), out);
            at += n;
        }
        limiter.flush(out);
        REQUIRE(out.size() == in.size());
        auto* state = ebur128_init(static_cast<unsigned>(form.channels), static_cast<unsigned long>(form.rate),
                                   EBUR128_MODE_TRUE_PEAK);
        ebur128_add_frames_float(state, out.data(), out.size() / static_cast<std::size_t>(form.channels));
        for (unsigned c = 0; c < static_cast<unsigned>(form.channels); ++c) {
            double peak = 0;
            ebur128_true_peak(state, c, &peak);
            CHECK(peak < 0.89 * 1.03);
        }
        ebur128_destroy(&state);
        if (loud < 0.5F) CHECK(out == in);
        // Only ever turned down, never over.
        for (std::size_t i = 0; i < out.size(); ++i) {
            CHECK(std::abs(out[i]) <= std::abs(in[i]) + 1e-6F);
            CHECK(out[i] * in[i] >= 0);
        }
    }
}

TEST_CASE("A loudness is reached though its peaks are in the way, as far as that can be", "[convert]") {
    Folder folder;
    put_wav(folder / "p.wav", 48000, 2, 16, 48000 * 4, [](std::size_t i, int) {
        // Quiet, with a click now and then that fills the scale.
        return i % 24'000 < 24 ? 0.95F : 0.05F * std::sin(static_cast<float>(i) * 0.07F);
    });
    for (double wanted : {-23.0, -18.0}) {
        Recipe r;
        r.audio.loudness = wanted;
        r.audio.action = Recipe::Do::encode;
        (void)value(convert((folder / "p.wav").string(),
                            {.out = folder / "q.wav", .recipe = r, .target = {}, .replace = Replace::anything},
                            CodecRegistry::standard()));
        auto s = samples_of(folder / "q.wav", {48000, 2});
        auto* state = ebur128_init(2, 48000, EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK);
        ebur128_add_frames_float(state, s.data(), s.size() / 2);
        double lufs = 0, peak = 0;
        ebur128_loudness_global(state, &lufs);
        ebur128_true_peak(state, 0, &peak);
        ebur128_destroy(&state);
        CHECK(lufs == Approx(wanted).margin(0.3));
        CHECK(20 * std::log10(peak) <= -0.95);
    }
}

TEST_CASE("True peaks stay under -1 dB as they are heard, whatever encodes them", "[convert]") {
    Folder folder;
    std::mt19937 random(11);
    std::vector<float> taps(48000 * 6);
    for (std::size_t at = 0; at < taps.size(); at += 3000 + random() % 9000)
        for (std::size_t i = 0; i < 2400 && at + i < taps.size(); ++i)
            taps[at + i] += std::exp(-static_cast<float>(i) / 300) * std::sin(static_cast<float>(i) * 0.9F) +
                            0.2F * noise(i, 0) * (i < 40);
    put_wav(folder / "t.wav", 48000, 2, 16, taps.size(),
            [&](std::size_t i, int c) { return 0.6F * taps[i] * (c ? 0.8F : 1.0F); });
    for (auto [ending, codec] : {std::pair{"webm", Codec::opus},
                                 {"mp4", Codec::aac},
                                 {"ogg", Codec::vorbis},
                                 {"mp3", Codec::mp3},
                                 {"flac", Codec::flac}}) {
        INFO(ending);
        Recipe r;
        r.video.action = Recipe::Do::none;
        r.audio.loudness = -14, r.audio.codec = codec;
        if (codec != Codec::flac) r.audio.bitrate = 64'000;
        auto out = folder / (std::string("t.") + ending);
        (void)value(
            convert((folder / "t.wav").string(), {.out = out, .recipe = r, .target = {}}, CodecRegistry::standard()));
        auto s = samples_of(out, {48000, 2});
        auto* state = ebur128_init(2, 48000, EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK);
        ebur128_add_frames_float(state, s.data(), s.size() / 2);
        double lufs = 0;
        ebur128_loudness_global(state, &lufs);
        CHECK(lufs == Approx(-14).margin(0.3));
        for (unsigned c : {0U, 1U}) {
            double peak = 0;
            ebur128_true_peak(state, c, &peak);
            CHECK(20 * std::log10(peak) <= -0.99);
        }
        ebur128_destroy(&state);
    }
}

TEST_CASE("Captions stay what they say, when and where, in each container that has a form for them",
          "[convert][captions]") {
    Folder folder;
    auto clip = open("text_webvtt.mkv");
    auto before = value(read_cues(*clip, *std::find_if(clip->info().tracks.begin(), clip->info().tracks.end(),
                                                       [](auto& t) { return t.kind == Kind::text; })));
    REQUIRE_FALSE(before.list.empty());
    std::string source = fixture("text_webvtt.mkv").string();
    // Round and round: each form is made of the one before it.
    for (auto out : {"a.webm", "b.mp4", "c.mkv", "d.mp4", "e.mkv"}) {
        INFO(out);
        Recipe r;
        if (std::string(out) == "d.mp4") r.container_format = "mp4-fragments";
        auto path = folder / out;
        (void)made(source, path, r);
        auto again = opened_at(path);
        auto* track = &*std::find_if(again->info().tracks.begin(), again->info().tracks.end(),
                                     [](auto& t) { return t.kind == Kind::text; });
        auto after = value(read_cues(*again, *track));
        REQUIRE(after.list.size() == before.list.size());
        for (std::size_t i = 0; i < after.list.size(); ++i) {
            auto &a = before.list[i], &b = after.list[i];
            CHECK(std::abs((a.start - b.start).ns) <= 1'000'000);
            CHECK(std::abs((a.end - b.end).ns) <= 1'000'000);
            CHECK(a.runs == b.runs);
            CHECK(a.line == b.line);
            CHECK(a.position == b.position);
            CHECK(a.size == b.size);
            CHECK(a.align == b.align);
        }
        source = path.string();
    }
    Recipe without;
    without.captions = Recipe::Captions::none;
    (void)made(source, folder / "n.mkv", without);
    auto without_captions = opened_at(folder / "n.mkv");
    for (auto& t : without_captions->info().tracks) CHECK(t.kind != Kind::text);
    CHECK(says(made(source, folder / "n.ts"), "captions-left-out"));
    // What is written of a cue is read as it was.
    std::mt19937 random(3);
    for (int i = 0; i < 300; ++i) {
        Cue cue;
        cue.start = 1_s, cue.end = 2_s;
        for (unsigned k = 0; k < 1 + random() % 3; ++k) {
            TextRun run;
            for (unsigned n = 0; n < 1 + random() % 6; ++n) run.text += "a <&>\nü"[random() % 7];
            run.italic = random() % 2, run.bold = random() % 2, run.underline = random() % 2;
            if (cue.runs.empty() || !(cue.runs.back().italic == run.italic && cue.runs.back().bold == run.bold &&
                                      cue.runs.back().underline == run.underline))
                cue.runs.push_back(run);
        }
        CHECK(parse_cue_text(cue_text(cue, true)) == cue.runs);
    }
}

TEST_CASE("All sounds are kept where they are asked for, one of them as the one that plays", "[convert]") {
    Folder folder;
    for (auto out : {"a.mp4", "a.mkv", "a.ts", "a.webm"}) {
        INFO(out);
        Recipe r;
        r.all_tracks = true;
        (void)made(fixture("two_audio_languages.mkv").string(), folder / out, r);
        auto before = open("two_audio_languages.mkv"), after = opened_at(folder / out);
        std::vector<std::string> languages, again;
        for (auto& t : before->info().tracks)
            if (t.kind == Kind::audio) languages.push_back(t.language);
        for (auto& t : after->info().tracks)
            if (t.kind == Kind::audio) again.push_back(t.language);
        std::sort(languages.begin(), languages.end()), std::sort(again.begin(), again.end());
        CHECK(languages == again);
        CHECK(after->info().main(Kind::audio)->language == before->info().main(Kind::audio)->language);
    }
    auto one = made(fixture("two_audio_languages.mkv").string(), folder / "b.mp4");
    CHECK(opened_at(folder / "b.mp4")->info().tracks.size() == 2);
}

TEST_CASE("A stretch that begins with a keyframe is copied, the sound to the sample", "[convert]") {
    Folder folder;
    auto clip = open("h264_high_aac.mp4");
    auto facts = value(scan_track(*clip, *clip->info().main(Kind::video)));
    REQUIRE(facts.keyframe_times.size() >= 2);
    Recipe r;
    r.from = facts.keyframe_times[1];
    for (auto out : {"a.mp4", "a.mkv"}) {
        INFO(out);
        auto result = made(fixture("h264_high_aac.mp4").string(), folder / out, r);
        CHECK(result.video.action == "copied");
        CHECK(result.audio.action == "copied");
        auto all = frames_in(fixture("h264_high_aac.mp4")), cut = frames_in(folder / out);
        std::erase_if(all, [&](auto& p) { return p.pts < r.from; });
        REQUIRE(all.size() == cut.size());
        for (std::size_t i = 0; i < all.size(); ++i) CHECK(all[i].number == cut[i].number);
        std::vector<double> heard, again;
        for (auto at : onsets_in(fixture("h264_high_aac.mp4")))
            if (auto moved = static_cast<double>(at) - r.from.seconds() * 48000; moved > 100) heard.push_back(moved);
        for (auto at : onsets_in(folder / out))
            if (at > 100) again.push_back(static_cast<double>(at));
        REQUIRE(heard.size() == again.size());
        for (std::size_t i = 0; i < heard.size(); ++i) CHECK(std::abs(heard[i] - again[i]) <= 2);
    }
}

TEST_CASE("Transport streams and Ogg pages and fragments are built as their standards say", "[convert]") {
    Folder folder;
    Recipe r;
    r.to = 3_s;
    // As many pictures as there are, or so few that the clock has to be stated between them.
    for (bool few : {false, true}) {
        auto slow = r;
        if (few) slow.video.rate = Rational{3, 1};
        auto path = folder / (few ? "few.ts" : "t.ts");
        (void)made(fixture("h264_high_aac.mp4").string(), path, slow);
        auto ts = bytes_of(path);
        REQUIRE(ts.size() % 188 == 0);
        std::map<unsigned, unsigned> counters;
        std::optional<std::uint64_t> clock;
        int tables = 0;
        for (std::size_t at = 0; at < ts.size(); at += 188) {
            REQUIRE(ts[at] == 0x47);
            unsigned pid = (ts[at + 1] & 0x1FU) << 8 | ts[at + 2], control = ts[at + 3] >> 4 & 3U,
                     count = ts[at + 3] & 15U;
            // What carries nothing is not counted (2.4.3.3).
            if (counters.contains(pid)) CHECK(count == ((counters[pid] + (control & 1)) & 15));
            counters[pid] = count;
            CHECK(control != 0);
            std::size_t field = control & 2 ? ts[at + 4] + 1U : 0;
            CHECK(field <= (control & 1 ? 183 : 184));
            if (field > 7 && ts[at + 5] & 0x10) {
                std::uint64_t base = 0;
                for (std::size_t i = 0; i < 4; ++i) base = base << 8 | ts[at + 6 + i];
                base = base << 1 | ts[at + 10] >> 7;
                // At least ten times a second, and never back (2.7.2).
                if (clock) CHECK((base >= *clock && base - *clock <= 9000));
                clock = base;
            }
            if (pid == 0) {
                ++tables;
                // A section’s checksum over all of it, itself included, comes to nothing.
                std::uint32_t crc = 0xFFFFFFFF;
                unsigned length = 3 + ((ts[at + 6] & 0x0FU) << 8 | ts[at + 7]);
                for (unsigned i = 0; i < length; ++i)
                    for (unsigned bit = 0; bit < 8; ++bit) {
                        bool top = (crc >> 31 ^ ts[at + 5 + i] >> (7 - bit)) & 1;
                        crc = crc << 1 ^ (top ? 0x04C11DB7 : 0);
                    }
                CHECK(crc == 0);
            }
        }
        CHECK(clock.has_value());
        CHECK(tables >= 28);
    }

    r.audio.action = Recipe::Do::encode, r.audio.codec = Codec::vorbis;
    (void)made(fixture("h264_high_aac.mp4").string(), folder / "o.ogv", r);
    auto file = bytes_of(folder / "o.ogv");
    ogg_sync_state sync;
    ogg_sync_init(&sync);
    std::memcpy(ogg_sync_buffer(&sync, static_cast<long>(file.size())), file.data(), file.size());
    ogg_sync_wrote(&sync, static_cast<long>(file.size()));
    std::map<int, std::int64_t> granules, numbers;
    std::set<int> begun, over;
    ogg_page page;
    bool data = false;
    std::size_t whole = 0;
    while (ogg_sync_pageout(&sync, &page) == 1) {
        auto serial = ogg_page_serialno(&page);
        whole += static_cast<std::size_t>(page.header_len + page.body_len);
        if (ogg_page_bos(&page)) {
            CHECK_FALSE(data);
            CHECK(begun.insert(serial).second);
            CHECK(ogg_page_pageno(&page) == 0);
        } else {
            data = true;
            CHECK(begun.contains(serial));
            CHECK(ogg_page_pageno(&page) == numbers[serial] + 1);
        }
        numbers[serial] = ogg_page_pageno(&page);
        CHECK_FALSE(over.contains(serial));
        if (ogg_page_granulepos(&page) >= 0) {
            CHECK(ogg_page_granulepos(&page) >= granules[serial]);
            granules[serial] = ogg_page_granulepos(&page);
        }
        if (ogg_page_eos(&page)) over.insert(serial);
    }
    ogg_sync_clear(&sync);
    CHECK(whole == file.size());
    CHECK(over == begun);
    CHECK(begun.size() == 2);

    Recipe parts;
    parts.container_format = "mp4-fragments";
    (void)made(fixture("h264_high_aac.mp4").string(), folder / "f.mp4", parts);
    auto mp4 = bytes_of(folder / "f.mp4");
    std::vector<std::string> boxes;
    std::map<std::uint32_t, std::uint64_t> decoded;
    for (std::size_t at = 0; at + 8 <= mp4.size();) {
        auto size = be32(mp4.data() + at);
        REQUIRE((size >= 8 && at + size <= mp4.size()));
        boxes.emplace_back(mp4.begin() + static_cast<std::ptrdiff_t>(at + 4),
                           mp4.begin() + static_cast<std::ptrdiff_t>(at + 8));
        if (boxes.back() == "moof") {
            // What each run states of its samples is what the box of data behind it holds, all of it.
            auto data_size = be32(mp4.data() + at + size) - 8;
            std::uint64_t claimed = 0;
            for (auto traf = at + 8 + be32(mp4.data() + at + 8); traf < at + size;) {
                auto end = traf + be32(mp4.data() + traf);
                std::uint32_t track = 0, count = 0;
                std::uint64_t time = 0, length = 0;
                for (auto box = traf + 8; box < end; box += be32(mp4.data() + box)) {
                    ByteReader b(ByteView(mp4).subspan(box, be32(mp4.data() + box)));
                    b.skip(4);
                    auto type = b.u32(), flags = b.u32() & 0xFFFFFF;
                    if (type == fourcc("tfhd")) {
                        track = b.u32();
                        CHECK(flags == 0x020000);
                    }
                    if (type == fourcc("tfdt")) time = b.u64();
                    if (type != fourcc("trun")) continue;
                    count = b.u32();
                    CHECK(b.u32() == size + 8 + claimed);
                    for (std::uint32_t i = 0; i < count; ++i) {
                        length += b.u32();
                        claimed += b.u32();
                        b.skip(flags & 0x800 ? 8 : 4);
                    }
                    CHECK_FALSE(b.overrun());
                }
                if (decoded.contains(track)) CHECK(time == decoded[track]);
                decoded[track] = time + length;
                traf = end;
            }
            CHECK(claimed == data_size);
        }
        at += size;
    }
    CHECK(std::count(boxes.begin(), boxes.end(), "moof") >= 3);
    CHECK(boxes[0] == "ftyp");
    CHECK(boxes[1] == "moov");
    CHECK(boxes.back() == "mfra");
}

TEST_CASE("Matroska's cues stand in front, lead to clusters, and find room when there are more than was thought",
          "[convert][captions]") {
    Folder folder;
    auto clip = open("h264_high_aac.mp4");
    auto& track = *clip->info().main(Kind::video);
    for (std::uint64_t expected : {0U, 1U, 100'000U}) {
        INFO(expected);
        Bytes file;
        auto writer = matroska_muxer(std::make_unique<MemorySink>(file));
        MuxerTrack w;
        w.codec = track.codec, w.config = track.config, w.video = track.video;
        auto number = value(writer->add(w));
        if (expected) writer->expect(expected);
        auto reader = clip->reader(track.id);
        PacketHead head;
        Bytes data;
        // Over and over, so that there are many.
        for (int lap = 0; lap < 60; ++lap) {
            done(reader->seek({}));
            while (value(reader->next(head))) {
                done(reader->read(data));
                auto at = 6_s * lap;
                done(writer->write(
                    number, {at + head.pts, at + head.dts.value_or(head.pts), head.duration, head.keyframe, data}));
            }
        }
        done(writer->finish());
        auto find = [&](std::initializer_list<std::uint8_t> id) {
            return std::search(file.begin(), file.end(), id.begin(), id.end()) - file.begin();
        };
        auto cues = find({0x1C, 0x53, 0xBB, 0x6B}), cluster = find({0x1F, 0x43, 0xB6, 0x75});
        // The first mention of the cues is the one that says where they are.
        if (expected) CHECK(cues < cluster);
        auto made_clip = opened(file, "m.mkv");
        CHECK(made_clip->info().findings.empty());
        auto seeker = made_clip->reader(1);
        for (auto t : {1_s, 100_s, 359_s, 200_s + 17_ms}) {
            done(seeker->seek(t));
            REQUIRE(value(seeker->next(head)));
            CHECK(head.keyframe);
            CHECK(head.pts <= t);
            CHECK(t - head.pts <= 2_s + 100_ms);
        }
    }
}

TEST_CASE("A clip's title and the day it was made go with it, as far as containers have a place for them",
          "[convert]") {
    Folder folder;
    const ClipTags tags{"Harbour Lights, the lantern — “at dusk”", 1'700'000'000};
    auto clip = open("audio.flac");
    put(folder / "t.mkv", with_tags(*clip, "matroska", tags));
    CHECK(opened_at(folder / "t.mkv")->info().tags.title == tags.title);
    for (auto [out, dated] : {std::pair{"a.mp4", true},
                              {"a.mkv", true},
                              {"a.webm", true},
                              {"a.ogg", false},
                              {"a.flac", false},
                              {"a.mp3", false}}) {
        INFO(out);
        (void)made((folder / "t.mkv").string(), folder / out);
        auto result = opened_at(folder / out);
        CHECK(result->info().tags.title == tags.title);
        if (dated) CHECK(result->info().tags.created == tags.created);
        CHECK(std::abs((result->info().duration - clip->info().duration).ns) < (2_ms).ns);
    }
    Recipe parts;
    parts.container_format = "mp4-fragments";
    (void)made((folder / "t.mkv").string(), folder / "f.mp4", parts);
    CHECK(opened_at(folder / "f.mp4")->info().tags.title == tags.title);
    CHECK(tidy_title(std::string("a\nb\x01") + "c") == "a b c");
    std::string endless;
    for (int i = 0; i < 700; ++i) endless += "ü";
    CHECK(tidy_title(endless).size() == 1000);
    CHECK(tidy_title("x" + endless).size() == 999);
}

TEST_CASE("The sharpest picture near a moment is the one with most detail", "[convert]") {
    Folder folder;
    // Grey pictures, and noise at two of them.
    std::mt19937 random(4);
    drawn_clip(folder / "n.webm", 160, 90, 40, [&](int i, std::uint8_t* rows, int stride) {
        auto deep = i == 12 ? 200U : i == 31 ? 100U : 0U;
        for (int n = 0; deep && n < stride * 90; ++n)
            rows[n] = static_cast<std::uint8_t>(128 - deep / 2 + random() % deep);
    });
    auto file = (folder / "n.webm").string();
    auto near = [&](Time at, Time span) { return value(sharpest_near(file, at, span, CodecRegistry::standard())); };
    CHECK(near(1_s, 500_ms) == 1200_ms);
    CHECK(near(1500_ms, 400_ms) == 1200_ms);
    CHECK(near(3_s, 500_ms) == 3100_ms);
    CHECK(near(2_s, 5_s) == 1200_ms);
    CHECK(near(2_s, 100_ms) >= 1900_ms);
    CHECK(near(Time{}, 100_ms) <= 100_ms);
    std::atomic<bool> cancel = true;
    CHECK(sharpest_near(file, 1_s, 1_s, CodecRegistry::standard(), &cancel).error().code == ErrorCode::cancelled);
    CHECK(sharpest_near(fixture("audio.flac").string(), 1_s, 1_s, CodecRegistry::standard()).error().code ==
          ErrorCode::not_media);
}
