// SPDX-License-Identifier: Apache-2.0
// What a target proposes for a clip, and what of a plan only the clip's packets tell.
#include <fmt/format.h>

#include <map>
#include <nlohmann/json.hpp>

#include "convert/plan.h"
#include "text/cues.h"

namespace ruedo {
namespace {

bool begins_clean(Clip& clip, const Track& track, Time from) {
    auto reader = clip.reader(track.id);
    PacketHead head;
    if (from.ns <= 0 && !(reader->next(head).value_or(false) && edited_off(track, head))) return true;
    return reader->seek(from) && reader->next(head).value_or(false) && head.keyframe && head.pts == from;
}
bool ends_clean(Clip& clip, const Track& track, Time to) {
    auto reader = clip.reader(track.id);
    PacketHead head;
    for (bool behind = false; !ReadScope::given_up() && reader->next(head).value_or(false);) {
        if (behind && head.pts < to) return false;
        behind = behind || head.pts >= to;
    }
    return true;
}

/// A recipe that says what a plan came to.
Recipe recipe_of(const Plan& plan) {
    Recipe r;
    r.container_format = plan.container_format->name;
    r.video.action = !plan.video ? Recipe::Do::none : plan.encode_video ? Recipe::Do::encode : Recipe::Do::copy;
    if (plan.video && plan.encode_video) {
        r.video.codec = plan.video_codec;
        auto& f = plan.format;
        if (f.width != plan.video->video.width || f.height != plan.video->video.height)
            r.video.width = f.display_width();  // its height follows
        r.video.most_rate = plan.most_rate;
    }
    r.audio.action = Recipe::Do::none;
    if (!plan.audio_tracks.empty()) {
        auto& s = plan.audio_tracks.front();
        r.audio.action = s.encode ? Recipe::Do::encode : Recipe::Do::copy;
        if (s.encode) {
            r.audio.codec = s.codec;
            if (s.form.channels != s.track->audio.channels) r.audio.channels = s.form.channels;
            if (s.form.rate != s.track->audio.rate) r.audio.rate = s.form.rate;
        }
    }
    return r;
}
}  // namespace

FromPackets from_packets(std::shared_ptr<Clip> clip, const std::string& source) {
    auto beside = captions_beside(source);
    auto rates = std::make_shared<std::map<std::uint64_t, double>>();
    return {[clip](const Track& t, Time from) { return begins_clean(*clip, t, from); },
            [clip](const Track& t, Time to) { return ends_clean(*clip, t, to); },
            [clip, rates](const Track& t) {
                auto [it, fresh] = rates->try_emplace(t.id, 0);
                if (fresh)
                    if (auto facts = scan_track(*clip, t, [](auto&) { return !ReadScope::given_up(); }))
                        it->second = facts->most_a_second();
                return it->second;
            },
            beside.empty() ? std::string() : beside.front()};
}

Result<Proposal> propose(std::shared_ptr<Clip> clip, const Target& target, CodecRegistry& codecs,
                         const std::string& address, const std::atomic<bool>* cancel) {
    auto& info = clip->info();
    RUEDO_TRY(auto facts, gather_facts(clip, codecs, address, {.loudness = false, .cancel = cancel, .so_far = {}}));
    auto verdict = judge(facts, target, codecs, address);
    if (verdict.plays == Verdict::Plays::no)
        return fail(ErrorCode::refused, verdict.sentence(), "Export it again where it was made.");
    Proposal p;
    p.needed = verdict.plays != Verdict::Plays::yes && verdict.needs != std::vector<std::string>{"address"};
    RUEDO_TRY(auto container_format, container_format_for(target, info));
    // Every head was read for the facts already.
    auto packets = from_packets(clip, address);
    packets.rate = [&](const Track& t) {
        return facts.tracks[static_cast<std::size_t>(&t - info.tracks.data())].most_a_second();
    };
    RUEDO_TRY(auto plan, plan_for(info, {}, *container_format, codecs, &target, packets));
    p.recipe = recipe_of(plan);
    if (!p.needed) p.why.push_back(fmt::format("It plays on {} as it is.", target.title));
    if (container_format->container != info.container)
        p.why.push_back(fmt::format("It is put into {}, which {} takes.", container_format->title, target.title));
    else if (target.wants_index_first && container_format->container == "mp4" && p.needed)
        p.why.push_back("Its index comes in front, so that it plays while it arrives.");
    if (plan.video && !plan.encode_video)
        p.why.push_back(
            fmt::format("The pictures are copied: {} of this size is taken.", codec_title(plan.video_codec)));
    for (auto& s : plan.audio_tracks)
        if (!s.encode) p.why.push_back(fmt::format("The sound is copied: {} is taken.", codec_title(s.codec)));
    for (auto& f : plan.why) p.why.push_back(f.sentence);
    if (plan.encode_video && p.recipe.video.width)
        p.why.push_back(fmt::format("It becomes {} × {}.", plan.format.display_width(), plan.format.display_height()));
    if (target.bundle_bytes && info.bytes > target.bundle_bytes) {
        p.recipe.fit_bytes = target.bundle_bytes;
        p.why.push_back(
            fmt::format("It is made to fit into {:.1f} MB.", static_cast<double>(target.bundle_bytes) / 1e6));
    }
    return p;
}

nlohmann::json to_json(const Proposal& p) {
    return {{"recipe", to_json(p.recipe)}, {"needed", p.needed}, {"why", p.why}};
}

}  // namespace ruedo
