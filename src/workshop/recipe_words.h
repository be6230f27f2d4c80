// SPDX-License-Identifier: GPL-3.0-or-later
// A recipe told in sentences whose words can be changed.
#pragma once
#include <QString>
#include <functional>
#include <vector>

#include "convert/plan.h"

namespace ruedo {

/// A word of the recipe, and what it may become instead.
struct RecipeWord {
    struct Option {
        QString label;
        std::function<void(Recipe&)> take;
        bool now = false;
    };
    QString key, what, shown;
    std::vector<Option> options;
    /// What may be typed besides ("Megabytes"); false where it makes no sense.
    QString typed{};
    std::function<bool(Recipe&, const QString&)> take_typed{};
};
struct RecipeText {
    QString html;  ///< Words are links, "word:KEY".
    std::vector<RecipeWord> words;
    const RecipeWord* find(const QString& key) const;
};
/// `recipe` as it stands for a clip, with what `plan` makes of what it leaves open.
RecipeText describe_recipe(const Recipe& recipe, const Plan& plan, const ClipInfo& info, const Target& target,
                           CodecRegistry& codecs);

}  // namespace ruedo
