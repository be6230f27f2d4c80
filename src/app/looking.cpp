// SPDX-License-Identifier: GPL-3.0-or-later
#include "looking.h"

#include <fmt/format.h>

#include "convert/targets.h"
#include "headless.h"
#include "playback/playback.h"
#include "streaming.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;

namespace {
json text_or_null(const std::string& s) { return s.empty() ? json(nullptr) : json(s); }

json track_json(const Track& t, const TrackFacts& f) {
    json j{{"id", t.id},
           {"kind", std::string(kind_name(t.kind))},
           {"codec", std::string(codec_name(t.codec))},
           {"codec_string", text_or_null(t.codec_string)},
           {"language", text_or_null(t.language)},
           {"default", t.is_default},
           {"start_ns", f.start.ns},
           {"duration_ns", std::max<std::int64_t>(0, (f.end - f.start).ns)}};
    if (t.kind == Kind::video) {
        j["width"] = t.video.width;
        j["height"] = t.video.height;
        j["display_width"] = t.video.display_width();
        j["display_height"] = t.video.display_height();
        j["rotation"] = t.video.rotation;
        j["frame_count"] = f.frame_count;
        j["frame_rate"] =
            f.frame_rate.stated() ? json(fmt::format("{}/{}", f.frame_rate.num, f.frame_rate.den)) : json(nullptr);
        json keys = json::array();
        for (auto k : f.keyframe_times) keys.push_back(k.ns);
        j["keyframe_times_ns"] = std::move(keys);
    }
    if (t.kind == Kind::audio) {
        j["sample_rate"] = t.audio.rate;
        j["channels"] = t.audio.channels;
    }
    return j;
}
}  // namespace

Result<json> inspect(const std::string& source, const std::string& target_name, int& exit) {
    std::optional<Target> target;
    if (!target_name.empty()) {
        RUEDO_TRY(target, find_target(target_name));
    }
    std::shared_ptr<Clip> clip;
    std::optional<Error> problem;
    {
        // What playing would need first is tried here too, so that the two never disagree.
        ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
        RUEDO_TRY(auto opened, open_clip(source));
        clip = std::move(opened);
        if (auto playable = open_playable(clip, CodecRegistry::standard()); !playable) problem = playable.error();
        if (problem && problem->code == ErrorCode::cancelled) return std::unexpected(*problem);
    }
    RUEDO_TRY(auto facts, gather_facts(clip, CodecRegistry::standard(), source,
                                       {.loudness = false, .cancel = nullptr, .so_far = {}}));
    // Of a body in chunks it is known only now.
    if (auto fetched = clip->fetched(); fetched && fetched->of) facts.info.bytes = *fetched->of;
    json tracks = json::array();
    for (std::size_t i = 0; i < facts.tracks.size(); ++i)
        tracks.push_back(track_json(facts.info.tracks[i], facts.tracks[i]));
    json findings = json::array();
    for (auto& f : facts.findings) findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"hint", f.hint}});
    exit = problem ? exit_code(*problem) : 0;
    json document{
        {"container", facts.info.container}, {"duration_ns", facts.info.live ? json(nullptr) : json(facts.duration.ns)},
        {"bytes", facts.info.bytes},         {"tracks", std::move(tracks)},
        {"findings", std::move(findings)},   {"error", problem ? to_json(*problem) : json(nullptr)}};
    if (auto stream = clip->stream()) document["stream"] = stream_json(*stream, clip->info());
    if (target) document["verdict"] = to_json(judge(facts, *target, CodecRegistry::standard(), source));
    return document;
}

Result<json> list_targets() {
    json list = json::array();
    std::vector<Error> problems;
    for (auto& t : all_targets(&problems))
        list.push_back({{"name", t.name}, {"title", t.title}, {"about", t.about}, {"containers", t.containers}});
    json wrong = json::array();
    for (auto& p : problems) wrong.push_back(to_json(p));
    return json{
        {"targets", std::move(list)}, {"problems", std::move(wrong)}, {"folder", user_targets_folder().string()}};
}

Result<json> frames(const std::string& source, const std::vector<Time>& times, const fs::path& out, bool replace) {
    if (out.empty())
        return fail(ErrorCode::usage, "--out names no folder.", "Run “ruedo --help” to see how it is used.");
    std::shared_ptr<Clip> clip;
    {
        ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
        RUEDO_TRY(auto opened, open_clip(source));
        clip = std::move(opened);
    }
    RUEDO_TRY(auto tracks, select_tracks(clip->info(), CodecRegistry::standard()));
    if (!tracks.video)
        return fail(ErrorCode::not_media, fmt::format("“{}” has no pictures.", clip->info().name),
                    "Choose a clip with pictures.");
    RUEDO_TRY(auto reader, FrameReader::open(clip, *tracks.video, CodecRegistry::standard()));
    RUEDO_TRY(auto batch, FileBatch::begin(out, replacing(replace)));
    std::vector<json> list(times.size());
    auto taken = reader->at_each(times, [&](std::size_t i, const Frame& picture) -> Status {
        if (interrupted()) return fail(ErrorCode::cancelled, "Reading frames was interrupted.", "Run it again.");
        auto name = fmt::format("{:04}-{}.png", i, picture.pts.ns);
        RUEDO_TRY(auto path, batch.place(name));
        RUEDO_TRY_DO(write_png(path, render(picture), Replace::nothing));
        list[i] = {{"asked_ns", times[i].ns},
                   {"shown_ns", picture.pts.ns},
                   {"path", batch.final_place(name).string()},
                   {"decoded", reader->decoded()}};
        return {};
    });
    RUEDO_TRY_DO(taken);
    RUEDO_TRY_DO(batch.commit());
    return json{{"frames", std::move(list)}};
}

}  // namespace ruedo
