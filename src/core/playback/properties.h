// SPDX-License-Identifier: Apache-2.0
// The properties of the snapshot under the names that documents, reports and, later, labels and conditions use: one row
// each, of which docs/properties.md is made.
#pragma once
#include <nlohmann/json.hpp>
#include <span>

#include "playback/playback.h"

namespace ruedo {

struct Property {
    enum class Type { word, yes_or_no, number, whole, time, text };
    std::string_view name;  ///< "position_ns": times are whole nanoseconds and say so.
    Type type;
    std::string_view unit;     ///< Empty where there is none.
    std::string_view meaning;  ///< For people; for words, which there are.
    /// Its value now; null where there is none.
    nlohmann::json (*value)(const Snapshot&);
};
/// Every property, in the order of the documentation.
std::span<const Property> properties();
/// Nothing when there is none of that name.
const Property* find_property(std::string_view name);
std::string_view type_name(Property::Type type);
/// The page of the documentation.
std::string properties_page();

}  // namespace ruedo
