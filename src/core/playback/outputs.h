// SPDX-License-Identifier: Apache-2.0
// What becomes of the devices that sound can be heard in, in words that a player's host says (player/host_life.h).
#pragma once
#include <functional>
#include <memory>
#include <string_view>

namespace ruedo {

class OutputWatch {
  public:
    /// `told` hears "unplug" when the device that was preferred is gone, as with headphones pulled out, and
    /// "output-changed" when another one is preferred now; on a thread of its own. Nothing without a sound server.
    static std::unique_ptr<OutputWatch> start(std::function<void(std::string_view word)> told);
    virtual ~OutputWatch() = default;  ///< No calls after this.
};

}  // namespace ruedo
