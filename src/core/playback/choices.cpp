// SPDX-License-Identifier: Apache-2.0
// Which of a source’s sounds and captions play, chosen while it plays.
#include "playback/engine.h"

#include <fmt/format.h>

namespace ruedo {

void Controller::Engine::list_track_options() {
    auto list = std::make_shared<std::vector<TrackOption>>();
    std::uint64_t wanted = 0;
    auto title = [](const std::string& language, Codec codec) {
        return language.empty() ? std::string(codec_title(codec)) : language_title(language);
    };
    for (auto& t : clip_->info().tracks) {
        bool audio = t.kind == Kind::audio && !t.problem && env_.codecs->decodes(t.codec);
        if (audio || shows_captions(t)) list->push_back({t.kind, t.id, t.language, title(t.language, t.codec)});
        if (t.kind == Kind::text && !options_.text_language.empty() && t.language == options_.text_language && !wanted)
            wanted = t.id;
    }
    for (std::size_t i = 0; i < options_.captions.size(); ++i) {
        auto language = language_of_name(options_.captions[i]);
        list->push_back({Kind::text, first_outside + i, language,
                         language.empty() ? std::filesystem::path(options_.captions[i]).filename().string()
                                          : language_title(language)});
        if (!options_.text_language.empty() && language == options_.text_language && !wanted)
            wanted = first_outside + i;
    }
    track_options_ = std::move(list);
    if (wanted) choose_text(wanted);
}

/// The new track is opened beside the one that plays and read ahead from a place still to come; there it takes over.
void Controller::Engine::choose_audio(std::uint64_t id) {
    auto* track = clip_ ? clip_->info().find(id) : nullptr;
    if (!track || track->kind != Kind::audio || !audio_worker_ || !audio_)
        return note("refused", fmt::format("sound {}: there is no such track", id));
    if (audio_->track().id == id) return;
    renew(switch_cancel_);
    ++audio_switch_;
    if (!switch_worker_) switch_worker_ = env_.strand->worker();
    auto at = media_now() + switch_ahead();
    auto job = [clip = clip_, track = *track, codecs = env_.codecs, cancel = switch_cancel_, to = fold(at),
                end = looping() ? loop_to() : Time::max()]() -> Result<std::unique_ptr<AudioReader>> {
        ReadScope scope(cancel.get());
        RUEDO_TRY(auto audio, AudioReader::open(clip, track, *codecs));
        audio->set_end(end);
        RUEDO_TRY_DO(audio->read_ahead(to, switch_read_ahead));
        return audio;
    };
    beside(*switch_worker_, env_.costs.open, audio_switch_, std::move(job),
           [this, id, at, asked = now()](Result<std::unique_ptr<AudioReader>> made) {
               if (!audio_) return;
               if (!made) return note("refused", fmt::format("sound {}: {}", id, made.error().sentence));
               take_audio(std::move(*made), at, asked, 3);
           });
}

void Controller::Engine::take_audio(std::unique_ptr<AudioReader> audio, Time at, Time asked, int tries) {
    bool running = clock_.running() && audio_master_, in_time = media_now() + 20_ms <= at;
    if (running && !in_time && tries > 0) {
        // It took longer than thought: once more, from further on. What was read is cached now.
        at = media_now() + switch_ahead();
        auto shared = std::shared_ptr<AudioReader>(std::move(audio));
        auto job = [shared, to = fold(at), cancel = switch_cancel_]() -> Status {
            ReadScope scope(cancel.get());
            return shared->read_ahead(to, switch_read_ahead);
        };
        return beside(*switch_worker_, env_.costs.audio, audio_switch_, std::move(job),
                      [this, shared, at, asked, tries](Status read) mutable {
                          if (!read)
                              return note("refused",
                                          fmt::format("sound {}: {}", shared->track().id, read.error().sentence));
                          take_audio(std::make_unique<AudioReader>(std::move(*shared)), at, asked, tries - 1);
                      });
    }
    audio_ = std::move(audio);
    if (running && in_time) {
        ++audio_generation_;
        audio_busy_ = audio_end_ = false;
        mixer_input_->cut(at);
        begin_audio_at(at);
        pump_audio();
    } else {
        auto was_running = clock_.running() || want_run_;
        auto from = media_now();
        clock_.hold(from);
        prime_audio(from);
        want_run_ = was_running && state_.phase == Phase::playing;
        if (want_run_) tick();
    }
    note("sound-track", fmt::format("{}", audio_->track().id), now() - asked);
}

void Controller::Engine::choose_languages(const std::string& audio, const std::string& text) {
    bool other_audio = std::exchange(options_.audio_language, audio) != audio,
         other_text = std::exchange(options_.text_language, text) != text;
    if (!clip_) return;  // taken up when it is open
    if (other_audio) choose_spoken();
    if (!other_text) return;
    auto it = std::find_if(track_options_->begin(), track_options_->end(),
                           [&](auto& c) { return c.kind == Kind::text && !text.empty() && c.language == text; });
    choose_text(it == track_options_->end() ? 0 : it->id);
}
/// The sound in the language that is asked for.
void Controller::Engine::choose_spoken() {
    auto tracks = select_tracks(clip_->info(), *env_.codecs, options_.audio_language);
    if (audio_ && tracks && tracks->audio && tracks->audio->id != audio_->track().id) choose_audio(tracks->audio->id);
}

void Controller::Engine::list_frames() {
    if (std::exchange(lists_frames_, true) || !clip_) return;
    find_frames();
}
/// Beside everything else, by a reader of its own.
void Controller::Engine::find_frames() {
    if (!pictures_ || fetched_ || clip_->info().live) return;
    if (!list_worker_) list_worker_ = env_.strand->worker();
    auto job = [clip = clip_, track = pictures_->track(), cancel = list_cancel_]() -> Result<FrameTimes> {
        ReadScope scope(cancel.get());
        return frame_times(*clip->reader(track.id), track);
    };
    beside(*list_worker_, {}, list_generation_, std::move(job), [this](Result<FrameTimes> found) {
        if (!found) return note("refused", "the list of pictures: " + found.error().sentence);
        frame_times_ = std::make_shared<const FrameTimes>(std::move(*found));
        note("pictures",
             fmt::format("{}, {} of them keyframes", frame_times_->all.size(), frame_times_->keyframes.size()));
    });
}

void Controller::Engine::choose_text(std::uint64_t id) {
    ++text_generation_;
    renew(text_cancel_);
    cues_.reset();
    text_track_ = 0;
    if (id == 0 || !clip_) {
        note("text-track", "none");
        return;
    }
    auto* track = id < first_outside ? clip_->info().find(id) : nullptr;
    bool outside = id >= first_outside && id - first_outside < options_.captions.size();
    if (!outside && (!track || !shows_captions(*track)))
        return note("refused", fmt::format("text {}: there is no such track", id));
    text_track_ = id;
    if (!text_worker_) text_worker_ = env_.strand->worker();
    // Over a network a track inside the clip is read as the clip itself arrives; see measure_buffer.
    if (!outside && fetched_) {
        cues_ = std::make_shared<const Cues>();
        note("text-track", fmt::format("{}", id));
        return;
    }
    auto job = [clip = clip_, track = track ? *track : Track{},
                file = outside ? options_.captions[id - first_outside] : std::string(), cancel = text_cancel_] {
        ReadScope scope(cancel.get());
        return file.empty() ? read_cues(*clip, track) : load_captions(file);
    };
    beside(*text_worker_, {}, text_generation_, std::move(job), [this, id](Result<Cues> result) {
        if (!result) {
            text_track_ = 0;
            return note("refused", fmt::format("text {}: {}", id, result.error().sentence));
        }
        cues_ = std::make_shared<const Cues>(std::move(*result));
        note("text-track", fmt::format("{}, {} captions", id, cues_->list.size()));
    });
}

}  // namespace ruedo
