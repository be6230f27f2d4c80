// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/known_clips.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include "io/http.h"

namespace ruedo {

Result<ClipInfo> KnownClips::info(const std::string& source) {
    auto key = source;
    struct stat st{};
    if (!is_address(source) && ::stat(source.c_str(), &st) == 0)
        key += fmt::format("|{}|{}|{}", st.st_size, st.st_mtim.tv_sec, st.st_mtim.tv_nsec);
    {
        std::lock_guard lock(mutex_);
        if (auto it = known_.find(key); it != known_.end()) return it->second;
    }
    ReadScope within(nullptr, false, monotonic_now() + open_deadline);
    auto found = info_of(source);
    // What was given up, or did not answer in time, is asked again another time.
    bool final = found || (found.error().code != ErrorCode::cancelled && found.error().code != ErrorCode::timeout &&
                           found.error().code != ErrorCode::network);
    std::lock_guard lock(mutex_);
    if (known_.size() > 2000) known_.clear();
    if (final) known_.insert_or_assign(key, found);
    return found;
}

}  // namespace ruedo
