// SPDX-License-Identifier: Apache-2.0
#include "demo/clips.h"

#include "convert/ladder.h"

#include <fmt/format.h>

#include <cmath>

#include "demo/strip.h"

namespace ruedo::demo {
namespace {
constexpr double pi = 3.14159265358979;
constexpr Rgb night{14, 20, 42}, dusk{86, 58, 84}, sea{12, 38, 56}, sand{236, 222, 190}, wine{138, 36, 54},
    lamp{255, 226, 140}, stone{150, 140, 128};

/// A fixed noise: the same number for the same place.
double grain(int n) {
    auto h = static_cast<unsigned>(n) * 2654435761U;
    h ^= h >> 15;
    return (h % 1000) / 1000.0;
}

void tower(Canvas& c, double x, double base, double height, double wide) {
    std::array<Point, 4> body{{{x - wide / 2, base},
                               {x + wide / 2, base},
                               {x + wide * 0.32, base - height},
                               {x - wide * 0.32, base - height}}};
    c.polygon(body, sand);
    for (int i = 0; i < 3; ++i) {
        double y0 = base - height * (0.2 + 0.28 * i), y1 = y0 - height * 0.13;
        auto w = [&](double y) { return wide / 2 * (1 - 0.36 * (base - y) / height); };
        std::array<Point, 4> band{{{x - w(y0), y0}, {x + w(y0), y0}, {x + w(y1), y1}, {x - w(y1), y1}}};
        c.polygon(band, wine);
    }
    c.rect(x - wide * 0.42, base - height - 5, x + wide * 0.42, base - height, stone);
    c.rect(x - wide * 0.24, base - height - wide * 0.55, x + wide * 0.24, base - height - 5, {60, 52, 48});
    std::array<Point, 3> roof{{{x - wide * 0.34, base - height - wide * 0.55},
                               {x + wide * 0.34, base - height - wide * 0.55},
                               {x, base - height - wide * 0.95}}};
    c.polygon(roof, wine);
}

void lantern(Canvas& c, double t) {
    double w = c.width(), h = c.height();
    c.gradient(night, dusk);
    for (int i = 0; i < 60; ++i)
        c.circle({grain(i) * w, grain(i + 500) * h * 0.55}, 0.7 + grain(i + 900), {220, 220, 235},
                 0.4 + 0.5 * std::abs(std::sin(t * 1.3 + i)));
    Point light{w * 0.62, h * 0.345};
    double angle = 2 * pi * t / 6;  // the lantern turns once in six seconds
    for (int k = 0; k < 2; ++k) {
        double a = angle + pi * k, reach = w * 1.1, spread = 0.045 + 0.05 * std::abs(std::sin(a));
        // Seen from the side a beam swings in depth: it shortens as it turns towards or away.
        double x = std::cos(a);
        std::array<Point, 3> beam{{light,
                                   {light.x + x * reach, light.y - reach * spread + h * 0.05 * std::sin(a)},
                                   {light.x + x * reach, light.y + reach * spread + h * 0.05 * std::sin(a)}}};
        if (std::abs(x) > 0.02) c.polygon(beam, lamp, 0.16 + 0.16 * std::abs(x));
    }
    c.rect(0, h * 0.72, w, h, sea);
    for (int i = 0; i < 40; ++i) {
        double y = h * (0.735 + 0.15 * grain(i + 40)),
               x = std::fmod(grain(i) * w + t * (14 + 20 * grain(i + 7)), w + 120) - 60;
        c.rect(x, y, x + 40 + 40 * grain(i + 3), y + 2, {120, 150, 160}, 0.35);
    }
    std::array<Point, 5> rock{
        {{w * 0.46, h * 0.76}, {w * 0.53, h * 0.69}, {w * 0.68, h * 0.67}, {w * 0.77, h * 0.71}, {w * 0.82, h * 0.77}}};
    c.polygon(rock, {44, 40, 44});
    tower(c, light.x, h * 0.7, h * 0.3, w * 0.07);
    c.glow(light, h * 0.17 * (1 + 0.25 * std::cos(2 * angle)), lamp, 0.9);
    c.circle(light, h * 0.018, {255, 250, 225});
}

void stairs(Canvas& c, double t) {
    double w = c.width(), h = c.height();
    c.gradient({72, 62, 58}, {28, 24, 26});
    Point eye{w * 0.5, h * 0.47};
    double climb = std::fmod(t * 0.6, 1.0);
    for (int i = 15; i >= 0; --i) {
        // Rings of steps seen from below; nearer ones are larger and pass by.
        double depth = std::pow(0.78, i + 1 - climb), turn = (i - std::floor(t * 0.6)) * 0.52;
        double radius = w * 0.95 * depth;
        for (int k = 0; k < 10; ++k) {
            double a0 = turn + k * 2 * pi / 10, a1 = a0 + 2 * pi / 10 * 0.86;
            std::array<Point, 4> step{{{eye.x + radius * std::cos(a0), eye.y + radius * std::sin(a0)},
                                       {eye.x + radius * std::cos(a1), eye.y + radius * std::sin(a1)},
                                       {eye.x + radius * 0.7 * std::cos(a1), eye.y + radius * 0.7 * std::sin(a1)},
                                       {eye.x + radius * 0.7 * std::cos(a0), eye.y + radius * 0.7 * std::sin(a0)}}};
            double shade = (0.35 + 0.5 * (1 - depth)) * (0.75 + 0.25 * std::cos(a0 - t));
            c.polygon(step, {stone.r * shade + 40 * (1 - depth), stone.g * shade + 26 * (1 - depth), stone.b * shade},
                      0.9);
        }
    }
    c.glow(eye, w * 0.28, lamp, 0.85);
    c.circle(eye, w * 0.035, {255, 248, 220});
}

void reel(Canvas& c, double t) {
    double w = c.width(), h = c.height();
    double shake = (grain(static_cast<int>(t * 25)) - 0.5) * 2;
    c.gradient({190, 166, 128}, {150, 120, 84});
    c.rect(0, h * 0.6 + shake, w, h, {112, 88, 60});
    // A round sail turning: round only when the pixels' shape is honoured (here 16:11).
    Point hub{w * 0.5, h * 0.44 + shake};
    double squeeze = 11.0 / 16, r = h * 0.24;
    for (int i = 0; i < 48; ++i) {
        double a = i * 2 * pi / 48, b = a + 2 * pi / 48;
        std::array<Point, 4> rim{{{hub.x + r * squeeze * std::cos(a), hub.y + r * std::sin(a)},
                                  {hub.x + r * squeeze * std::cos(b), hub.y + r * std::sin(b)},
                                  {hub.x + r * 0.86 * squeeze * std::cos(b), hub.y + r * 0.86 * std::sin(b)},
                                  {hub.x + r * 0.86 * squeeze * std::cos(a), hub.y + r * 0.86 * std::sin(a)}}};
        c.polygon(rim, {64, 46, 32});
    }
    for (int k = 0; k < 6; ++k) {
        double a = t * 0.9 + k * pi / 3;
        std::array<Point, 3> spoke{{{hub.x + r * 0.05 * squeeze * std::sin(a), hub.y - r * 0.05 * std::cos(a)},
                                    {hub.x - r * 0.05 * squeeze * std::sin(a), hub.y + r * 0.05 * std::cos(a)},
                                    {hub.x + r * 0.88 * squeeze * std::cos(a), hub.y + r * 0.88 * std::sin(a)}}};
        c.polygon(spoke, {82, 60, 40});
    }
    for (int i = 0; i < 6; ++i) {
        int n = static_cast<int>(t * 25) * 7 + i;
        if (grain(n) > 0.5) c.rect(grain(n + 1) * w, 0, grain(n + 1) * w + 1, h, {225, 205, 170}, 0.35);
    }
}

/// A long pass along the coast: hills, houses with lit windows and now and then a light, at three distances.
void coast(Canvas& c, double t) {
    double w = c.width(), h = c.height();
    double evening = 0.5 + 0.5 * std::sin(t * 0.12);
    c.gradient({60 + 90 * evening, 70 + 60 * evening, 110}, {200, 140 + 40 * evening, 110});
    for (int layer = 0; layer < 3; ++layer) {
        double speed = w * (0.03 + 0.05 * layer), base = h * (0.5 + 0.09 * layer), tall = h * (0.2 - 0.03 * layer);
        Rgb land{90.0 - 22 * layer, 92.0 - 18 * layer, 96.0 - 20 * layer};
        double wide = w * 0.16;
        auto first = static_cast<int>(t * speed / wide) - 1;
        for (int i = first; i < first + 10; ++i) {
            double x = i * wide - t * speed, rise = tall * (0.4 + 0.6 * grain(i * 3 + layer * 101));
            std::array<Point, 4> hill{{{x - wide * 0.3, base},
                                       {x + wide * 0.3, base - rise},
                                       {x + wide * 0.8, base - rise * 0.8},
                                       {x + wide * 1.4, base}}};
            c.polygon(hill, land);
            if (layer == 2 && grain(i * 7) > 0.6) {
                tower(c, x + wide * 0.5, base - rise * 0.85, h * 0.16, w * 0.025);
                c.glow({x + wide * 0.5, base - rise * 0.85 - h * 0.17}, h * 0.06 * (1 + 0.5 * std::cos(t * 2 + i)),
                       lamp, 0.9);
            }
            for (int k = 0; k < 3; ++k)
                if (grain(i * 11 + k + layer) > 0.45)
                    c.rect(x + wide * (0.35 + 0.15 * k), base - rise * 0.5, x + wide * (0.35 + 0.15 * k) + 5,
                           base - rise * 0.5 + 7, {250, 220, 140}, 0.9);
        }
    }
    c.rect(0, h * 0.7, w, h, {46, 66, 84});
    for (int i = 0; i < 60; ++i) {
        double y = h * (0.71 + 0.2 * grain(i + 90)),
               x = std::fmod(grain(i) * w * 3 + w * 30 - t * w * (0.1 + 0.4 * (y / h - 0.7)), w * 1.2) - w * 0.1;
        c.rect(x, y, x + 30 + 40 * grain(i + 5), y + 2, {150, 170, 180}, 0.4);
    }
}

void fog(Canvas& c, double t) {
    double w = c.width(), h = c.height(), part = t - std::floor(t);
    bool on = part < 0.12;
    c.gradient({96, 104, 112}, {140, 144, 146});
    for (int i = 0; i < 14; ++i) {
        double x = std::fmod(grain(i) * w + t * (9 + 14 * grain(i + 60)), w * 1.3) - w * 0.15;
        c.glow({x, h * (0.25 + 0.5 * grain(i + 20))}, w * (0.1 + 0.1 * grain(i + 30)), {186, 190, 192}, 0.35);
    }
    c.rect(0, h * 0.74, w, h, {74, 84, 90});
    tower(c, w * 0.3, h * 0.76, h * 0.3, w * 0.07);
    Point horn{w * 0.62, h * 0.56};
    c.rect(horn.x - w * 0.06, horn.y - 8, horn.x, horn.y + 8, {60, 52, 48});
    std::array<Point, 4> bell{{{horn.x, horn.y - 10},
                               {horn.x, horn.y + 10},
                               {horn.x + w * 0.07, horn.y + h * 0.075},
                               {horn.x + w * 0.07, horn.y - h * 0.075}}};
    c.polygon(bell, wine);
    for (int i = 0; i < 4; ++i) {
        double age = part - i * 0.05;
        if (age > 0 && age < 0.7)
            c.circle({horn.x + w * (0.08 + age * 0.34), horn.y}, h * (0.02 + age * 0.05), {240, 236, 226},
                     0.5 * (1 - age / 0.7));
    }
    if (on) {
        c.rect(0, 0, w, h, {255, 250, 230}, 0.62);
        c.glow({w * 0.3, h * 0.42}, h * 0.3, {255, 255, 240}, 1);
    }
}

float waves(double t) {
    auto n = static_cast<int>(t * 48000);
    double hiss = grain(n) + grain(n + 1) + grain(n + 2) + grain(n + 3) - 2;
    double swell = 0.5 + 0.5 * std::sin(2 * pi * t / 6);
    double part = std::fmod(t, 3.0);
    double bell = part < 1.5 ? std::exp(-part * 3.2) * std::sin(2 * pi * 660 * part) : 0;
    return static_cast<float>(0.05 * hiss * (0.3 + 0.7 * swell) + 0.22 * bell);
}
float steps(double t) {
    double part = std::fmod(t, 0.55);
    auto n = static_cast<int>(t * 48000);
    return static_cast<float>(std::exp(-part * 40) * (0.35 * std::sin(2 * pi * 130 * part) + 0.12 * (grain(n) - 0.5)));
}
float projector(double t) {
    double part = std::fmod(t, 0.04);
    auto n = static_cast<int>(t * 48000);
    return static_cast<float>(0.12 * std::exp(-part * 300) * (grain(n) - 0.5) * 2 +
                              0.12 * std::sin(2 * pi * 392 * t) * (0.5 + 0.5 * std::sin(2 * pi * 0.5 * t)));
}
float horn(double t) {
    double part = t - std::floor(t);
    if (part >= 0.3) return 0;
    double tone = std::sin(2 * pi * 220 * part + pi / 2) + 0.5 * std::sin(2 * pi * 330 * part + pi / 2);
    return static_cast<float>(0.42 * tone * std::min(1.0, (0.3 - part) / 0.1));
}
}  // namespace

float burst(double t) {
    double part = t - std::floor(t);
    return part < 0.05 ? static_cast<float>(0.5 * std::sin(2 * pi * 1000 * part)) : 0.0F;
}

std::vector<ClipSpec> harbour_lights() {
    ClipSpec wide{.file = "lantern.webm", .draw = lantern, .sample = waves};
    ClipSpec upright{.file = "stairs.mp4",
                     .video = Codec::h264,
                     .audio = Codec::aac,
                     .width = 540,
                     .height = 960,
                     .seconds = 10,
                     .keyframe_every = 30,
                     .draw = stairs,
                     .sample = steps};
    ClipSpec old{.file = "reel.mp4",
                 .video = Codec::h264,
                 .audio = Codec::aac,
                 .width = 352,
                 .height = 288,
                 .rate = {25, 1},
                 .seconds = 14,
                 .pixel_aspect = {16, 11},
                 .keyframe_every = 50,
                 .bitrate = 600'000,
                 .audio_rate = 44100,
                 .draw = reel,
                 .sample = projector};
    ClipSpec signal{.file = "fog-signal.webm", .width = 960, .height = 540, .seconds = 20, .draw = fog, .sample = horn};
    return {wide, upright, old, signal};
}

ClipSpec coastal_pass() {
    return {.file = "coast.mp4",
            .video = Codec::h264,
            .audio = Codec::aac,
            .width = 960,
            .height = 540,
            .rate = {25, 1},
            .seconds = 40,
            .keyframe_every = 50,
            .bitrate = 2'400'000,
            .draw = coast,
            .sample = waves};
}

Status make_coast(const std::filesystem::path& folder, CodecRegistry& codecs) {
    std::error_code ec;
    auto spec = coastal_pass();
    auto whole = folder / ("." + spec.file);
    std::filesystem::remove_all(folder / "coast", ec);
    spec.file = whole.filename().string();
    auto made = make_clip(spec, folder, codecs);
    if (made) {
        LadderOptions o;
        o.out = folder / "coast", o.recipe.rungs = *parse_rungs("960x540@1500k,640x360@800k,448x252@400k");
        o.measure = false, o.recipe.dash = true;
        if (auto ladder = make_ladder(whole.string(), o, codecs); !ladder) made = std::unexpected(ladder.error());
    }
    std::filesystem::remove(whole, ec);
    return made;
}

RgbImage draw_frame(const ClipSpec& spec, int number) {
    Canvas canvas(spec.width, spec.height);
    double t = static_cast<double>(number) * static_cast<double>(spec.rate.den) / static_cast<double>(spec.rate.num);
    spec.draw(canvas, t);
    if (spec.numbered) draw_strip(canvas.image(), number, number * spec.rate.den % spec.rate.num == 0);
    return std::move(canvas.image());
}

Status make_clip(const ClipSpec& spec, const std::filesystem::path& folder, CodecRegistry& codecs,
                 const std::function<void(int, int)>& told) {
    auto path = folder / spec.file;
    auto writing = spec.file.ends_with(".webm") ? webm_muxer(path, true) : mp4_muxer(path, true);
    if (!writing) return std::unexpected(writing.error());
    auto& writer = **writing;
    RUEDO_TRY(auto encoder, codecs.video_encoder(spec.video, {.width = spec.width,
                                                              .height = spec.height,
                                                              .rate = spec.rate,
                                                              .bitrate = spec.bitrate,
                                                              .keyframe_every = spec.keyframe_every,
                                                              .pixel_aspect = spec.pixel_aspect}));
    RUEDO_TRY(auto speaker, codecs.audio_encoder(spec.audio, {spec.audio_rate, 2, 96'000}));

    int frames = static_cast<int>(static_cast<std::int64_t>(spec.seconds) * spec.rate.num / spec.rate.den);
    auto audio_rate = static_cast<std::uint64_t>(spec.audio_rate);
    auto block = static_cast<std::int64_t>(speaker->frame_samples());
    std::int64_t delay = speaker->delay_samples(), total = static_cast<std::int64_t>(spec.seconds) * spec.audio_rate,
                 fed = 0;
    std::size_t video_track = 0, audio_track = 0;
    bool tracks_added = false;

    auto audio_until = [&](Time until) -> Status {
        while (fed - delay < total && ticks_to_time(fed - delay, 1, audio_rate) < until) {
            std::vector<float> samples(static_cast<std::size_t>(block) * 2);
            for (std::int64_t i = 0; i < block; ++i) {
                float v = fed + i < total
                              ? spec.sample(static_cast<double>(fed + i) / static_cast<double>(spec.audio_rate))
                              : 0;
                samples[static_cast<std::size_t>(2 * i)] = samples[static_cast<std::size_t>(2 * i + 1)] = v;
            }
            std::vector<EncodedSamples> made;
            RUEDO_TRY_DO(speaker->encode(samples, made));
            for (auto& e : made) {
                MuxerPacket p;
                p.pts = p.dts = ticks_to_time(fed - delay, 1, audio_rate);
                fed += e.samples;
                p.duration = ticks_to_time(fed - delay, 1, audio_rate) - p.pts;
                p.data = e.data;
                RUEDO_TRY_DO(writer.write(audio_track, p));
            }
        }
        return {};
    };
    auto encode_clip_frames = [&](std::vector<Encoded>& packets) -> Status {
        for (auto& e : packets) {
            if (!tracks_added) {
                MuxerTrack v;
                v.codec = spec.video;
                v.config = encoder->config();
                v.video = {spec.width, spec.height, spec.pixel_aspect, 0, Colour{}.resolved(spec.height)};
                // Drawn in the primaries that go with the matrix, and tagged so.
                v.video.colour.primaries = v.video.colour.transfer =
                    static_cast<std::uint8_t>(v.video.colour.matrix_code());
                v.timescale = static_cast<std::uint32_t>(spec.rate.num) * 512;
                RUEDO_TRY(video_track, writer.add(v));
                MuxerTrack a;
                a.codec = spec.audio;
                a.config = speaker->config();
                a.audio = {spec.audio_rate, 2};
                a.language = "en";
                a.delay_samples = static_cast<unsigned>(delay);
                RUEDO_TRY(audio_track, writer.add(a));
                tracks_added = true;
            }
            MuxerPacket p;
            p.pts = e.pts, p.dts = e.dts;
            p.duration = ticks_to_time(spec.rate.den, 1, static_cast<std::uint64_t>(spec.rate.num));
            p.keyframe = e.keyframe;
            p.data = e.data;
            RUEDO_TRY_DO(writer.write(video_track, p));
            RUEDO_TRY_DO(audio_until(e.pts + p.duration));
        }
        packets.clear();
        return {};
    };
    std::vector<Encoded> packets;
    for (int n = 0; n < frames; ++n) {
        auto picture = to_frame(draw_frame(spec, n), {});
        picture.pts =
            ticks_to_time(static_cast<std::int64_t>(n) * spec.rate.den, 1, static_cast<std::uint64_t>(spec.rate.num));
        RUEDO_TRY_DO(encoder->encode(picture, packets));
        RUEDO_TRY_DO(encode_clip_frames(packets));
        if (told) told(n + 1, frames);
    }
    RUEDO_TRY_DO(encoder->drain(packets));
    RUEDO_TRY_DO(encode_clip_frames(packets));
    RUEDO_TRY_DO(audio_until(Time::max()));
    writer.ends(audio_track, ticks_to_time(spec.seconds, 1, 1));
    return writer.finish();
}

}  // namespace ruedo::demo
