// SPDX-License-Identifier: Apache-2.0
// From a source to something that plays: which tracks, and whether they can be decoded from their start.
#include <algorithm>

#include "container/container.h"
#include "playback/playback.h"

namespace ruedo {

Result<Selection> select_tracks(const ClipInfo& info, CodecRegistry& codecs, const std::string& audio_language,
                                bool pictures) {
    Selection s;
    std::optional<Error> problem;
    auto pick = [&](Kind kind) -> const Track* {
        const Track* found = nullptr;
        for (auto& t : info.tracks) {
            if (t.kind != kind) continue;
            if (t.problem) {
                if (!problem) problem = t.problem;
                continue;
            }
            if (!codecs.decodes(t.codec)) {
                if (!problem)
                    problem = Error{ErrorCode::codec_missing,
                                    "Track " + std::to_string(t.id) + " of “" + info.name + "” is " +
                                        std::string(codec_title(t.codec)) + ", which no adapter here decodes.",
                                    "Install the codec’s library, or export the track again in another codec."};
                continue;
            }
            bool wanted = kind == Kind::audio && !audio_language.empty() && t.language == audio_language;
            if (wanted) return &t;
            if (!found || (t.is_default && !found->is_default)) found = &t;
        }
        return found;
    };
    if (pictures) s.video = pick(Kind::video);
    bool has_pictures =
        pictures && std::any_of(info.tracks.begin(), info.tracks.end(), [](auto& t) { return t.kind == Kind::video; });
    if (has_pictures && !s.video && problem->code != ErrorCode::codec_missing) return std::unexpected(*problem);
    auto unseen = has_pictures && !s.video ? std::exchange(problem, std::nullopt) : std::nullopt;
    problem.reset();
    s.audio = pick(Kind::audio);
    if (!s.audio) s.lacking = problem;
    if (unseen) s.lacking = unseen;
    if (!s.video && !s.audio) {
        if (s.lacking) return std::unexpected(*s.lacking);
        return fail(ErrorCode::not_media, "“" + info.name + "” has neither pictures nor sound.",
                    "Choose another file.");
    }
    return s;
}

Result<Playable> open_playable(const std::string& source, CodecRegistry& codecs, const std::string& audio_language,
                               std::optional<Time> from, const StreamOptions& options) {
    RUEDO_TRY(auto clip, open_clip(source, options));
    return open_playable(std::shared_ptr<Clip>(std::move(clip)), codecs, audio_language, from);
}

Result<Playable> open_playable(std::shared_ptr<Clip> clip, CodecRegistry& codecs, const std::string& audio_language,
                               std::optional<Time> from) {
    Playable p;
    p.clip = std::move(clip);
    p.from = from.value_or(p.clip->begins().value_or(Time{}));
    RUEDO_TRY(auto tracks, select_tracks(p.clip->info(), codecs, audio_language));
    p.lacking = tracks.lacking;
    p.unseen = p.lacking && !tracks.video && p.clip->info().main(Kind::video);
    if (tracks.video) {
        RUEDO_TRY(p.pictures, FrameReader::open(p.clip, *tracks.video, codecs));
        RUEDO_TRY(p.first, p.pictures->at(p.from));
        p.playing.push_back(*tracks.video);
    }
    if (tracks.audio) {
        // Without its sound a clip still plays, and it is said what is missing.
        auto audio = AudioReader::open(p.clip, *tracks.audio, codecs);
        if (audio && !tracks.video) {
            if (auto heard = (*audio)->next(); !heard)
                audio = std::unexpected(heard.error());
            else if (auto back = (*audio)->seek(p.from); !back)
                audio = std::unexpected(back.error());
        }
        if (audio)
            p.audio = std::move(*audio), p.playing.push_back(*tracks.audio);
        else if (tracks.video && audio.error().code != ErrorCode::cancelled && audio.error().code != ErrorCode::timeout)
            p.lacking = audio.error();
        else
            return std::unexpected(audio.error());
    }
    return p;
}

}  // namespace ruedo
