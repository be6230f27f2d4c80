// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <map>
#include <mutex>

#include "container/container.h"

namespace ruedo {

/// What clips hold, kept as long as they are the same: a file by its length and the time of its last change, an
/// address for as long as the window is open. Thread-safe.
class KnownClips : public std::enable_shared_from_this<KnownClips> {
  public:
    /// As `info_of`, but opens what is known only once.
    Result<ClipInfo> info(const std::string& source);
    /// What asks here, for as long as it is kept: work beside a window may end after the window does.
    InfoOf asker() {
        return [known = shared_from_this()](const std::string& source) { return known->info(source); };
    }

  private:
    std::mutex mutex_;
    std::map<std::string, Result<ClipInfo>> known_;
};

}  // namespace ruedo
