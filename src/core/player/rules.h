// SPDX-License-Identifier: Apache-2.0
// The rules of a review (`review`): one row for each thing that it can turn up, of which docs/findings.md is made.
#pragma once
#include <optional>
#include <span>

#include "picture/picture.h"
#include "player/player.h"

namespace ruedo {

struct Reviewing;

struct ReviewRule {
    std::string_view code;
    std::string_view meaning;  ///< For the documentation: what is found.
    std::string_view why;      ///< Why it matters, said with each finding.
    void (*run)(const Reviewing&);
    Severity severity = Severity::finding;
};
std::span<const ReviewRule> review_rules();

/// What the rules go by.
struct Reviewing {
    const PlayerDocument& document;
    const std::filesystem::path& folder;
    /// One for each source that is local and can be opened.
    const std::vector<std::optional<ClipInfo>>& clips;
    std::vector<DocumentFinding>& found;
    const ReviewRule* rule = nullptr;
    void note(std::string sentence, std::string where, std::optional<DocumentFinding::Fix> fix = {}) const {
        found.push_back({std::string(rule->code), std::move(sentence), std::string(rule->why), std::move(where),
                         std::move(fix), rule->severity});
    }
};

/// Frames of a source, local or not.
using SampledFrames = std::function<std::vector<RgbImage>(const std::string& source)>;
/// Three of them, decoded from a file; none of what would have to be fetched.
std::vector<RgbImage> sample_frames(const std::string& source);
/// Words and marks that can’t be read on the pictures that lie under them: contrast below 4.5 to 1 (WCAG 2.2 clause
/// 1.4.3) on a tenth of them or more. Reads pictures, so it takes its time.
std::vector<DocumentFinding> review_contrast(const PlayerDocument& document, const std::filesystem::path& folder,
                                             const SampledFrames& pictures = sample_frames);

/// The page of the documentation.
std::string findings_page();

}  // namespace ruedo
