// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <algorithm>

#include "container/container.h"
#include "io/transfer.h"

namespace ruedo {
namespace {
using enum Codec;
const std::array container_format_rows{
    ContainerFormat{"mp4",
                    "MP4",
                    {"mp4", "m4v", "m4a"},
                    {h264, vp9, hevc, av1, mpeg4, mjpeg, mpeg2},
                    {aac, opus, mp3, ac3, flac},
                    {webvtt},
                    static_cast<std::unique_ptr<Muxer> (*)(std::unique_ptr<ByteSink>)>(&mp4_muxer),
                    "mp4",
                    true},
    ContainerFormat{"mp4-fragments",
                    "MP4 in fragments",
                    {"cmfv", "m4s"},
                    {h264, vp9, hevc, av1, mpeg4},
                    {aac, opus, mp3, ac3, flac},
                    {webvtt},
                    &fragmented_mp4_muxer,
                    "mp4",
                    true},
    ContainerFormat{"webm",
                    "WebM",
                    {"webm", "weba"},
                    {vp9, vp8, av1},
                    {opus, vorbis},
                    {webvtt},
                    static_cast<std::unique_ptr<Muxer> (*)(std::unique_ptr<ByteSink>)>(&webm_muxer),
                    "webm",
                    true},
    ContainerFormat{"matroska",
                    "Matroska",
                    {"mkv", "mka"},
                    {h264, vp9, vp8, av1, hevc, theora, mjpeg, mpeg4, mpeg2, mpeg1},
                    {opus, aac, vorbis, flac, mp3, ac3, mp2, pcm},
                    {subrip, webvtt},
                    &matroska_muxer,
                    "matroska",
                    true},
    ContainerFormat{"ogg", "Ogg", {"ogg", "ogv", "oga", "opus"}, {theora}, {opus, vorbis, flac}, {}, &ogg_muxer, "ogg"},
    ContainerFormat{"mpegts",
                    "a transport stream",
                    {"ts", "m2ts", "mts"},
                    {h264, hevc, mpeg2, mpeg1},
                    {aac, mp3, ac3, mp2},
                    {},
                    &mpegts_muxer,
                    "mpegts"},
    ContainerFormat{"wav", "WAV", {"wav", "wave"}, {}, {pcm}, {}, &wav_muxer, "wav"},
    ContainerFormat{"mp3", "bare MP3", {"mp3"}, {}, {mp3}, {}, &bare_frame_muxer, "mp3"},
    ContainerFormat{"flac", "FLAC", {"flac"}, {}, {flac}, {}, &flac_muxer, "flac"},
    ContainerFormat{"adts", "bare AAC", {"aac", "adts"}, {}, {aac}, {}, &bare_frame_muxer, "adts"},
    ContainerFormat{"ac3", "bare AC-3", {"ac3"}, {}, {ac3}, {}, &bare_frame_muxer, "ac3"},
};
bool in(const std::vector<Codec>& list, Codec codec) {
    return std::find(list.begin(), list.end(), codec) != list.end();
}
}  // namespace

Kind MuxerTrack::kind() const {
    return audio.rate > 0                                                             ? Kind::audio
           : codec == Codec::webvtt || codec == Codec::subrip || codec == Codec::tx3g ? Kind::text
                                                                                      : Kind::video;
}

bool ContainerFormat::takes(Codec codec) const { return in(video, codec) || in(audio, codec) || in(text, codec); }

Status ContainerFormat::check(const MuxerTrack& track) const {
    if (takes(track.codec)) return {};
    std::string could;
    auto& list = track.kind() == Kind::video ? video : track.kind() == Kind::audio ? audio : text;
    for (auto c : list) could += fmt::format("{}{}", could.empty() ? "" : ", ", codec_title(c));
    return fail(ErrorCode::codec_missing, fmt::format("{} can’t be put into {} here.", codec_title(track.codec), title),
                could.empty() ? "Choose another container." : fmt::format("It takes {}.", could));
}

bool names_audio(std::string_view extension) {
    static constexpr std::array<std::string_view, 5> names{"m4a", "weba", "mka", "oga", "opus"};
    return std::find(names.begin(), names.end(), extension) != names.end();
}
std::span<const ContainerFormat> container_formats() { return container_format_rows; }
const ContainerFormat* container_format_named(std::string_view name) {
    auto it = std::find_if(container_format_rows.begin(), container_format_rows.end(),
                           [&](auto& w) { return w.name == name; });
    return it == container_format_rows.end() ? nullptr : &*it;
}
const ContainerFormat* container_format_of_extension(std::string_view extension) {
    auto plain = transfer::lower(extension);
    for (auto& w : container_format_rows)
        if (std::find(w.extensions.begin(), w.extensions.end(), plain) != w.extensions.end()) return &w;
    return nullptr;
}

}  // namespace ruedo
