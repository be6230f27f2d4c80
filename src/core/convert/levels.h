// SPDX-License-Identifier: Apache-2.0
// How much louder or quieter a sound is made.
#pragma once
#include <functional>

#include "convert/streams.h"

namespace ruedo {

/// At which level a sound has the loudness its recipe wants (LUFS, of the whole, gated: ITU-R BS.1770), its true peaks
/// under -1 dB as they are heard: once encoded and decoded again. What is mixed down is held under full scale. Reads
/// the sound twice where a loudness is wanted, oftener where its peaks are held down, between `from` and `to`; `going`
/// says whether it may go on. What could not be reached is said in `why`.
Result<Level> level_for(const StreamMaker& maker, const Plan::Audio& plan, Time from, Time to,
                        const std::function<Status()>& going, std::vector<Finding>& why);

}  // namespace ruedo
