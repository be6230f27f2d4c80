// SPDX-License-Identifier: Apache-2.0
// The rows of a room's review (`scene::review`), for the documentation.
#pragma once
#include <string>
#include <string_view>
#include <vector>

namespace ruedo::scene {

struct FindingRow {
    std::string_view code, meaning;
};
std::vector<FindingRow> finding_rows();
/// The page of the documentation.
std::string room_page();

}  // namespace ruedo::scene
