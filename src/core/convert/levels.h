// SPDX-License-Identifier: Apache-2.0
// How much louder or quieter a sound is made.
#pragma once
#include <functional>

#include "convert/streams.h"

namespace ruedo {

/// At which level a sound has `loudness` (LUFS, of the whole, gated: ITU-R BS.1770) where one is wanted, its true peaks
/// held under -1 dB; what is mixed down is held under full scale. Reads the sound once, oftener where its peaks are
/// held down, up to `length`; `sound` opens it anew, and `going` says whether it may go on. What could not be reached
/// is said in `why`.
Result<Level> level_for(const Plan::Sound& plan, std::optional<double> loudness, Time length,
                        const std::function<Result<std::unique_ptr<SoundReader>>()>& sound,
                        const std::function<Outcome()>& going, std::vector<Finding>& why);

}  // namespace ruedo
