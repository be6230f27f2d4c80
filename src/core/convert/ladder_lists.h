// SPDX-License-Identifier: Apache-2.0
// The playlists and the manifest of a ladder, from what its segments were measured to be.
#pragma once
#include "container/segments.h"
#include "text/cues.h"

namespace ruedo {

struct LadderLists {
    struct Row {
        std::string name, codecs, language;
        int width = 0, height = 0, channels = 0;
        std::vector<WrittenSegment> fragments, transport;
        const std::vector<WrittenSegment>& of(bool in_fragments) const { return in_fragments ? fragments : transport; }
    };
    struct Text {
        std::string language;
        Cues cues;
    };
    std::vector<Row> pictures;  ///< From the highest on.
    std::optional<Row> audio;
    std::vector<Text> texts;
    Rational rate{};
    bool fragments = true, transport = false, encrypted = false;

    /// Bits a second of the heaviest segment, and of all; with its audio.
    std::uint64_t bandwidth(const Row& row, bool in_fragments) const;
    std::uint64_t average(const Row& row, bool in_fragments) const;
    std::string codecs(const Row& row) const;
    /// Into a folder that holds the segments, by the names of the rows.
    Status write(const std::filesystem::path& folder, bool dash) const;

  private:
    std::string segment_list(const std::vector<WrittenSegment>& segments, bool map, bool keys_alone) const;
    std::string master(bool in_fragments) const;
    std::string manifest() const;
};

}  // namespace ruedo
