// SPDX-License-Identifier: Apache-2.0
// What becomes of each of many sources so that a target takes it: the shelf at once.
#pragma once
#include "convert/trial.h"

namespace ruedo {

struct TargetReport {
    enum class What { as_it_is, rewrapped, converted, refused, elsewhere };
    What what = What::as_it_is;
    Recipe recipe;                 ///< Of the output, where there is one.
    std::string ending;            ///< The output's extension: "mp4".
    std::vector<std::string> why;  ///< Sentences.
    std::uint64_t bytes_before = 0;
    /// As it looks; 0 where that takes a trial. What is made already weighs what it weighs.
    std::uint64_t bytes_after = 0;
    Time took{};        ///< To make it, as a trial says; 0 before.
    bool made = false;  ///< It is there already.
    bool makes() const { return (what == What::rewrapped || what == What::converted) && !made; }
};
/// "as it is", "rewrapped", "converted", "refused", "not bundled".
std::string_view target_report_name(TargetReport::What what);

/// Reads packet heads only. `chosen` instead of what the target proposes; `made` is what was made for it before, where
/// that is there. What can't be opened or made is `refused`, with why. An address without a problem stays `elsewhere`.
TargetReport report_for(const std::string& source, const Target& target, const std::optional<Recipe>& chosen,
                        const std::filesystem::path& made, CodecRegistry& codecs,
                        const std::atomic<bool>* cancel = nullptr);
/// The hardest two seconds made into `file`, and what they say of the whole: bytes and time. Blocks.
Status estimate(TargetReport& target_report, const std::string& source, const Target& target,
                const std::filesystem::path& file, CodecRegistry& codecs, const std::atomic<bool>* cancel = nullptr);
nlohmann::json to_json(const TargetReport& target_report);

/// Where the output for a source goes: under a name that says of what and what it is ("stairs poster.png"), and that
/// neither a file nor `taken` has.
std::filesystem::path free_place(const std::filesystem::path& folder, const std::string& source,
                                 const std::string& what, const std::string& ending,
                                 const std::function<bool(const std::filesystem::path&)>& taken = {});
/// The same of an output for a target.
std::filesystem::path place_for(const std::filesystem::path& folder, const std::string& source, const Target& target,
                                const std::string& ending,
                                const std::function<bool(const std::filesystem::path&)>& taken = {});

}  // namespace ruedo
