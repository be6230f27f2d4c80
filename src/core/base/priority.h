// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <sys/resource.h>
#include <unistd.h>

namespace ruedo {

/// From here on the calling thread, and those begun from it, get what others leave over: ten steps further down than
/// before (setpriority(2), 19 at most). There is no way back up. Never fails.
inline void lower_priority() {
    auto self = static_cast<id_t>(::gettid());
    ::setpriority(PRIO_PROCESS, self, ::getpriority(PRIO_PROCESS, self) + 10);
}

}  // namespace ruedo
