// SPDX-License-Identifier: Apache-2.0
// Players to begin from: one row each.
#pragma once
#include "player/player.h"

namespace ruedo {

struct Template {
    std::string_view name, meaning;
    /// Its bars, controls and what they need; what the document says of volume, hiding and the like stays.
    void (*apply)(PlayerSpec&);
    /// What of the sources goes with it, if anything.
    void (*apply_to_source)(SourceSpec&) = nullptr;
};
std::span<const Template> templates();
/// The document with it taken over, for the player and all sources.
PlayerDocument with_template(PlayerDocument document, const Template& chosen);

}  // namespace ruedo
