// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/playthrough.h"

#include "convert/through.h"

namespace ruedo {

LiveTranscodeSwitch::LiveTranscodeSwitch(PlaybackHost& host) : host_(host) {
    host_.open_clip = [chosen = chosen_,
                       before = host_.open_clip](const std::string& source) -> Result<std::unique_ptr<Clip>> {
        std::optional<Target> target;
        {
            std::lock_guard lock(chosen->mutex);
            if (auto it = chosen->targets.find(source); it != chosen->targets.end()) target = it->second;
        }
        // A stream that is played adapts to its link; one that is converted comes as it is read.
        RUEDO_TRY(auto clip, before ? before(source) : target ? open_clip(source) : open_clip(source, StreamOptions{}));
        if (!target) return clip;
        return open_live_transcode(std::move(clip), {.target = *target}, CodecRegistry::standard());
    };
}
LiveTranscodeSwitch::~LiveTranscodeSwitch() { host_.open_clip = {}; }

void LiveTranscodeSwitch::set(const std::string& source, std::optional<Target> target) {
    std::lock_guard lock(chosen_->mutex);
    target ? void(chosen_->targets[source] = *target) : void(chosen_->targets.erase(source));
}
bool LiveTranscodeSwitch::on(const std::string& source, const std::string& target) const {
    std::lock_guard lock(chosen_->mutex);
    auto it = chosen_->targets.find(source);
    return it != chosen_->targets.end() && it->second.name == target;
}

}  // namespace ruedo
