// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <map>
#include <mutex>

#include "container/container.h"

namespace ruedo {

/// What clips hold, kept as long as they are the same: a file by its length and the time of its last change, an
/// address for as long as the window is open. Thread-safe.
class KnownClips {
  public:
    /// As `info_of`, but opens what is known only once.
    Result<ClipInfo> info(const std::string& source);
    InfoOf asker() {
        return [this](const std::string& source) { return info(source); };
    }

  private:
    std::mutex mutex_;
    std::map<std::string, Result<ClipInfo>> known_;
};

}  // namespace ruedo
