// SPDX-License-Identifier: Apache-2.0
// Targets: what a platform takes, as data files (docs/targets.md, docs/target.schema.json), and the verdict on a
// source for one of them.
#pragma once
#include <filesystem>
#include <nlohmann/json_fwd.hpp>

#include "facts/facts.h"

namespace ruedo {

/// What a target takes of one codec; 0 and empty mean "any".
struct CodecRule {
    Codec codec = Codec::unknown;
    std::vector<std::string> profiles;  ///< H.264: baseline, main, high; AAC: lc, he; VP9, AV1, HEVC: 0, main …
    unsigned max_level = 0;             ///< As written, times ten: 31 for 3.1.
    int max_width = 0, max_height = 0;  ///< Of the picture as coded; either way round.
    int max_rate = 0;                   ///< Pictures a second, or samples a second.
    int max_channels = 0;
    std::vector<int> bit_depths;
    bool limited_range = false;  ///< Shows pictures of full range wrongly.
};

struct Target {
    std::string name, title, about;
    std::vector<std::string> containers;
    std::vector<CodecRule> video, audio;
    bool seeks = true;
    bool wants_index_first = false;  ///< Plays from the network only with the index in front.
    bool clear_text = true;          ///< Allows http addresses.
    bool starts_loud = true;         ///< Lets what starts by itself begin with its sound on.
    std::uint64_t bundle_bytes = 0;  ///< Budget for one bundled clip; 0 for none.
};

Result<Target> target_from_json(const nlohmann::json& json, std::string_view subject);
/// The targets that ship and those in the user's folder (`~/.config/ruedo/targets`), by name. Files that can't be
/// read are told in `problems`.
std::vector<Target> all_targets(std::vector<Error>* problems = nullptr);
/// `not-found` names those there are.
Result<Target> find_target(const std::string& name);
std::filesystem::path user_targets_folder();

struct Verdict {
    enum class Plays { yes, after_conversion, no } plays = Plays::yes;
    std::vector<std::string> needs;    ///< "wrapper", "sound", "pictures", "size", "address": what has to change.
    std::vector<std::string> reasons;  ///< Sentences; also remarks on what plays but does not seek.
    std::string sentence() const;      ///< The one that matters most.
};
/// Why a track does not fit a rule, as a sentence without its point; empty when it does. `rate` is how many pictures
/// come in a second, 0 where that is not known.
std::string misfit(const Track& track, double rate, const CodecRule& rule);
/// The rule for a codec; none where it is not taken.
const CodecRule* rule_of(const std::vector<CodecRule>& rules, Codec codec);
Verdict judge(const SourceFacts& facts, const Target& target, CodecRegistry& codecs, const std::string& address = {});
nlohmann::json to_json(const Verdict& verdict);

}  // namespace ruedo
