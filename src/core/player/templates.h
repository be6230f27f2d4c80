// SPDX-License-Identifier: Apache-2.0
// Players to begin from: one row each.
#pragma once
#include "player/screen.h"

namespace ruedo {

struct Template {
    std::string_view name, meaning;
    /// Its bars, controls and what they need; what the document says of volume, hiding and the like stays.
    void (*apply)(PlayerSpec&);
    /// Which sources belong to it, if any.
    void (*apply_to_source)(SourceSpec&) = nullptr;
    /// So many of them, one beside the other, each with a source of its own.
    std::size_t players = 1;
};
std::span<const Template> templates();
/// The document with it taken over, for one of its players and the sources that one plays.
PlayerDocument with_template(PlayerDocument document, const Template& chosen, std::size_t player = 0);

}  // namespace ruedo
