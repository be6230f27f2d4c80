// SPDX-License-Identifier: Apache-2.0
// What the tests of conversion share: what is seen and heard in a file, and making one of another.
#pragma once
#include <cmath>
#include <set>

#include "convert/conversion.h"
#include "support.h"

namespace ruedo::test {

struct NumberedFrame {
    Time pts{};
    int number = -1;
};
inline std::vector<NumberedFrame> frames_in(const fs::path& path, Time until = Time::max()) {
    std::shared_ptr<Clip> clip = value(open_clip(path.string()));
    auto* track = clip->info().main(Kind::video);
    REQUIRE(track);
    auto reader = value(FrameReader::open(clip, *track, CodecRegistry::standard()));
    std::vector<NumberedFrame> all;
    for (auto p = value(reader->next()); p && p->pts < until; p = value(reader->next()))
        all.push_back({p->pts, demo::read_strip(render(*p)).value_or(-1)});
    return all;
}
/// Where bursts begin, in samples.
inline std::vector<std::size_t> onsets_in(const fs::path& path) {
    auto audio = audio_of(std::shared_ptr<Clip>(value(open_clip(path.string()))));
    std::vector<std::size_t> all;
    std::size_t quiet = 48000;
    for (std::size_t i = 0; i < audio.size() / 2; ++i) {
        bool loud = std::abs(audio[2 * i]) > 0.1F;
        if (loud && quiet > 9600) all.push_back(i);
        quiet = loud ? 0 : quiet + 1;
    }
    return all;
}
/// Quickly: what is looked at is not how well pictures are encoded.
inline Converted made(const std::string& source, const fs::path& out, Recipe recipe = {}) {
    recipe.video.effort = 0;
    return value(convert(source, {.out = out, .recipe = recipe, .target = {}}, CodecRegistry::standard()));
}
inline Error refused(const std::string& source, const fs::path& out, const Recipe& recipe = {}) {
    auto result = convert(source, {.out = out, .recipe = recipe, .target = {}}, CodecRegistry::standard());
    REQUIRE_FALSE(result.has_value());
    return result.error();
}
inline bool says(const Converted& c, const std::string& code) {
    return std::any_of(c.findings.begin(), c.findings.end(), [&](auto& f) { return f.code == code; });
}
/// Nothing but what is named lies in a folder.
inline void holds_only(const Folder& folder, std::set<std::string> names) {
    std::set<std::string> there;
    for (auto& e : fs::directory_iterator(folder.path)) there.insert(e.path().filename().string());
    CHECK(there == names);
}

/// A clip's sound in a container of this name, with these tags.
inline Bytes with_tags(Clip& clip, const char* container_format, const ClipTags& tags) {
    auto& track = *clip.info().main(Kind::audio);
    Bytes file;
    auto writer = container_format_named(container_format)->write(std::make_unique<MemorySink>(file));
    writer->describe(tags);
    MuxerTrack w;
    w.codec = track.codec, w.config = track.config, w.audio = track.audio;
    auto number = value(writer->add(w));
    auto reader = clip.reader(track.id);
    PacketHead head;
    Bytes data;
    while (value(reader->next(head))) {
        done(reader->read(data));
        done(writer->write(number, {head.pts, head.pts, head.duration, true, data}));
    }
    done(writer->finish());
    return file;
}
/// Grey pictures, ten a second, into whose luma `draw(number, rows, stride)` may draw.
template <class Draw>
fs::path drawn_clip(const fs::path& path, int width, int height, int count, Draw draw) {
    auto encoder = value(CodecRegistry::standard().video_encoder(
        Codec::vp8,
        {.width = width, .height = height, .rate = {10, 1}, .control = VideoEncodeOptions::Control::quality}));
    auto writer = value(webm_muxer(path));
    MuxerTrack v;
    v.codec = Codec::vp8, v.config = encoder->config(), v.video = {width, height};
    auto number = value(writer->add(v));
    std::vector<Encoded> packets;
    for (int i = 0; i < count; ++i) {
        std::array<std::uint8_t*, 3> planes{};
        auto p = make_frame(width, height, planes);
        for (std::size_t k = 0; k < 3; ++k)
            std::fill_n(planes[k], p.stride[k] * (k ? (height + 1) / 2 : height), static_cast<std::uint8_t>(128));
        draw(i, planes[0], p.stride[0]);
        p.pts = 100_ms * i;
        done(encoder->encode(p, packets));
    }
    done(encoder->drain(packets));
    for (auto& e : packets) done(writer->write(number, {e.pts, e.dts, 100_ms, e.keyframe, e.data}));
    done(writer->finish());
    return path;
}
/// A clip of grey pictures at these times, encoded as it comes; with a second of sound, or without.
inline fs::path odd_clip(const Folder& folder, const std::string& name, int width, int height,
                         const std::vector<Time>& times, Time last, std::optional<Time> audio_from = {}) {
    auto path = folder / name;
    auto& codecs = CodecRegistry::standard();
    auto encoder = value(codecs.video_encoder(Codec::vp9, {.width = width, .height = height, .rate = {30, 1}}));
    auto writer = value(webm_muxer(path));
    MuxerTrack v;
    v.codec = Codec::vp9, v.config = encoder->config(), v.video = {width, height};
    auto number = value(writer->add(v));
    std::size_t audio = 0;
    std::unique_ptr<AudioEncoder> speaker;
    if (audio_from) {
        speaker = value(codecs.audio_encoder(Codec::opus, {}));
        MuxerTrack a;
        a.codec = Codec::opus, a.config = speaker->config(), a.audio = {48000, 2},
        a.delay_samples = speaker->delay_samples();
        audio = value(writer->add(a));
    }
    std::vector<Encoded> packets;
    for (std::size_t i = 0; i < times.size(); ++i) {
        std::array<std::uint8_t*, 3> planes{};
        auto p = make_frame(width, height, planes);
        for (std::size_t k = 0; k < 3; ++k)
            std::fill_n(planes[k], p.stride[k] * (k ? (height + 1) / 2 : height),
                        static_cast<std::uint8_t>(k ? 128 : 60 + i));
        p.pts = times[i];
        done(encoder->encode(p, packets));
    }
    done(encoder->drain(packets));
    for (std::size_t i = 0; i < packets.size(); ++i) {
        auto& e = packets[i];
        auto until = i + 1 < times.size() ? times[i + 1] : times[i] + last;
        done(writer->write(number, {e.pts, e.dts, until - e.pts, e.keyframe, e.data}));
    }
    if (speaker)
        for (int i = 0; i < 50; ++i) {
            std::vector<EncodedSamples> made_here;
            done(speaker->encode(std::vector<float>(960 * 2, 0.2F), made_here));
            for (auto& e : made_here)
                done(writer->write(audio, {*audio_from + 20_ms * i, *audio_from + 20_ms * i, 20_ms, true, e.data}));
        }
    done(writer->finish());
    return path;
}

}  // namespace ruedo::test
