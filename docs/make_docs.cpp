// SPDX-License-Identifier: Apache-2.0
// Writes the pages that are made from the code into the folder given.
#include <fstream>
#include <nlohmann/json.hpp>

#include "convert/recipe.h"
#include "playback/machine.h"
#include "playback/properties.h"
#include "player/player.h"
#include "player/rules.h"
#include "scene/findings.h"

int main(int argc, char** argv) {
    if (argc != 2) return 2;
    std::ofstream(std::string(argv[1]) + "/controller-states.md") << ruedo::machine::table();
    std::ofstream(std::string(argv[1]) + "/properties.md") << ruedo::properties_page();
    std::ofstream(std::string(argv[1]) + "/controls.md") << ruedo::controls_page();
    std::ofstream(std::string(argv[1]) + "/conditions.md") << ruedo::conditions_page();
    std::ofstream(std::string(argv[1]) + "/host.md") << ruedo::host_page();
    std::ofstream(std::string(argv[1]) + "/findings.md") << ruedo::findings_page();
    std::ofstream(std::string(argv[1]) + "/project.schema.json") << ruedo::project_schema().dump(2) << "\n";
    std::ofstream(std::string(argv[1]) + "/room.md") << ruedo::scene::room_page();
    std::ofstream(std::string(argv[1]) + "/recipe.md") << ruedo::recipe_page();
    std::ofstream(std::string(argv[1]) + "/recipe.schema.json") << ruedo::recipe_schema().dump(2) << "\n";
    return 0;
}
