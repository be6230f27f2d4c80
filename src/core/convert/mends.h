// SPDX-License-Identifier: Apache-2.0
// What a recipe can fix of what was found about a source: one row for each finding.
#pragma once
#include <span>

#include "convert/recipe.h"

namespace ruedo {

struct RecipeFix {
    std::string_view finding;  ///< Its code (facts/facts.h), or what a verdict says has to change ("size").
    std::string_view words;    ///< "Turn its pictures upright".
    /// Makes the recipe that stands one that fixes it.
    void (*apply)(Recipe& recipe, const ClipInfo& info);
};
std::span<const RecipeFix> recipe_fixes();
/// Nothing where a recipe is no help.
const RecipeFix* recipe_fix_for(std::string_view finding);

}  // namespace ruedo
