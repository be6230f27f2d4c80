// SPDX-License-Identifier: GPL-3.0-or-later
// Which sources are converted for the target while they play.
#pragma once
#include <map>
#include <memory>
#include <mutex>

#include "convert/targets.h"
#include "view/player_view.h"

namespace ruedo {

/// The host's players open their sources by it, from any thread.
class LiveTranscodeSwitch {
  public:
    explicit LiveTranscodeSwitch(PlaybackHost& host);
    ~LiveTranscodeSwitch();
    /// From the next opening on; nothing for as it is.
    void set(const std::string& source, std::optional<Target> target);
    /// For that target.
    bool on(const std::string& source, const std::string& target) const;

  private:
    struct Chosen {
        std::mutex mutex;
        std::map<std::string, Target> targets;
    };
    PlaybackHost& host_;
    std::shared_ptr<Chosen> chosen_ = std::make_shared<Chosen>();
};

}  // namespace ruedo
