// SPDX-License-Identifier: GPL-3.0-or-later
// What the command line's words mean where something is made of a clip or clips are compared: `convert`, `recipe`,
// `prepare`, `compare`, `stills`, `jobs`.
#pragma once
#include <map>
#include <span>

#include "convert/conversion.h"

namespace ruedo {

/// An option of `ruedo convert` that says a member of the recipe.
struct RecipeOption {
    enum class Says { word, whole, number, bits, bytes, time, size };
    const char* name;
    const char* pointer;  ///< Of the member; of a size, of what it is the width and height of.
    Says says;
    const char* about;
};
std::span<const RecipeOption> recipe_options();
/// The options of `ruedo convert` as they were typed; empty where they were not.
struct ConvertArguments {
    std::string in, out, target, recipe, progress;
    std::map<std::string, std::string> options;  ///< By their names, as in `recipe_options`.
    bool replace = false, unchecked = false;
};
/// What they ask for; `usage` where they make no sense.
Result<ConversionOptions> read_words(const ConvertArguments& words);
/// What hears how much is done: with `lines` it says so on standard error, a document a line. An interrupt stops it.
std::function<bool(const ConversionProgress&)> told_in_lines(bool lines);
Result<nlohmann::json> convert_command(const ConvertArguments& words);
Result<nlohmann::json> recipe_command(const std::string& in, const std::string& target);
/// Every source of a project for its target, or another: what becomes of it; with `make` that is made, and the project
/// names it from then on.
Result<nlohmann::json> prepare_command(const std::string& project, const std::string& target, bool make);
/// The options of `ruedo stills`.
struct StillArguments {
    std::string in, at, every, count, sheet, size, format, out, mount;
    bool replace = false, crop = false;
};
Result<nlohmann::json> stills_command(const StillArguments& words);
/// The options of `ruedo jobs`.
struct JobArguments {
    std::vector<std::string> add;  ///< Recipe, in, out.
    std::string target, pause, go_on, stop, move, before;
    bool run = false, clear = false;
};
Result<nlohmann::json> jobs_command(const JobArguments& words);
/// "1s,2s": times separated by commas; none of an empty text. `usage` for what is no time.
Result<std::vector<Time>> read_times(const std::string& at);
Result<nlohmann::json> compare_command(const std::string& a, const std::string& b, const std::string& at);

}  // namespace ruedo
