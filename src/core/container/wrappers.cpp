// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <algorithm>

#include "container/container.h"
#include "io/transfer.h"

namespace ruedo {
namespace {
using enum Codec;
const std::array wrapper_rows{
    Wrapper{"mp4",
            "MP4",
            {"mp4", "m4v", "m4a"},
            {h264, vp9, hevc, av1, mpeg4, mjpeg, mpeg2},
            {aac, opus, mp3, ac3, flac},
            {webvtt},
            static_cast<std::unique_ptr<ClipWriter> (*)(std::unique_ptr<ByteSink>)>(&write_mp4),
            "mp4",
            true},
    Wrapper{"mp4-fragments",
            "MP4 in fragments",
            {"cmfv", "m4s"},
            {h264, vp9, hevc, av1, mpeg4},
            {aac, opus, mp3, ac3, flac},
            {webvtt},
            &write_mp4_fragments,
            "mp4",
            true},
    Wrapper{"webm",
            "WebM",
            {"webm", "weba"},
            {vp9, vp8, av1},
            {opus, vorbis},
            {webvtt},
            static_cast<std::unique_ptr<ClipWriter> (*)(std::unique_ptr<ByteSink>)>(&write_webm),
            "webm",
            true},
    Wrapper{"matroska",
            "Matroska",
            {"mkv", "mka"},
            {h264, vp9, vp8, av1, hevc, theora, mjpeg, mpeg4, mpeg2, mpeg1},
            {opus, aac, vorbis, flac, mp3, ac3, mp2, pcm},
            {subrip, webvtt},
            &write_matroska,
            "matroska",
            true},
    Wrapper{"ogg", "Ogg", {"ogg", "ogv", "oga", "opus"}, {theora}, {opus, vorbis, flac}, {}, &write_ogg, "ogg"},
    Wrapper{"mpegts",
            "a transport stream",
            {"ts", "m2ts", "mts"},
            {h264, hevc, mpeg2, mpeg1},
            {aac, mp3, ac3, mp2},
            {},
            &write_mpegts,
            "mpegts"},
    Wrapper{"wav", "WAV", {"wav", "wave"}, {}, {pcm}, {}, &write_wav, "wav"},
    Wrapper{"mp3", "bare MP3", {"mp3"}, {}, {mp3}, {}, &write_frames, "mp3"},
    Wrapper{"flac", "FLAC", {"flac"}, {}, {flac}, {}, &write_flac, "flac"},
    Wrapper{"adts", "bare AAC", {"aac", "adts"}, {}, {aac}, {}, &write_frames, "adts"},
    Wrapper{"ac3", "bare AC-3", {"ac3"}, {}, {ac3}, {}, &write_frames, "ac3"},
};
bool in(const std::vector<Codec>& list, Codec codec) {
    return std::find(list.begin(), list.end(), codec) != list.end();
}
}  // namespace

Kind WriteTrack::kind() const {
    return audio.rate > 0                                                             ? Kind::audio
           : codec == Codec::webvtt || codec == Codec::subrip || codec == Codec::tx3g ? Kind::text
                                                                                      : Kind::video;
}

bool Wrapper::takes(Codec codec) const { return in(video, codec) || in(audio, codec) || in(text, codec); }

Status Wrapper::check(const WriteTrack& track) const {
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
std::span<const Wrapper> wrappers() { return wrapper_rows; }
const Wrapper* wrapper_named(std::string_view name) {
    auto it = std::find_if(wrapper_rows.begin(), wrapper_rows.end(), [&](auto& w) { return w.name == name; });
    return it == wrapper_rows.end() ? nullptr : &*it;
}
const Wrapper* wrapper_of_extension(std::string_view extension) {
    auto plain = transfer::lower(extension);
    for (auto& w : wrapper_rows)
        if (std::find(w.extensions.begin(), w.extensions.end(), plain) != w.extensions.end()) return &w;
    return nullptr;
}

}  // namespace ruedo
