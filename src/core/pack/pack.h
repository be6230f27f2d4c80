// SPDX-License-Identifier: Apache-2.0
// Making the native app: a folder with an executable, its document, its media and what the law asks for.
#pragma once
#include "player/player.h"

namespace ruedo {

struct PackedItem {
    std::string path;  ///< Relative to the folder.
    std::uint64_t bytes = 0;
    std::string kind;  ///< executable, document, media, notice, desktop, library
};
struct Packed {
    std::filesystem::path folder, executable;
    std::uint64_t bytes = 0;
    std::vector<PackedItem> items;
    std::string licence;  ///< SPDX expression of the whole as packed.
    std::vector<Finding> findings;
};
/// Told of progress: bytes done, bytes in all. Returning false gives up.
using PackProgress = std::function<bool(std::uint64_t, std::uint64_t)>;

struct PackOptions {
    PackProgress progress;
    /// Whether a file that lies outside the project's folder was meant to go in; without an answer none is.
    std::function<bool(const std::filesystem::path&)> outside;
    bool replace = false;  ///< The folder may take the place of another packed app.
};

/// Packs `document` (in `folder`) into `out`, which must not exist unless `options` says so. Whole or not at all.
/// `player` is the built ruedo-player executable. What goes in is what it is used as: clips that play, posters that are
/// pictures, captions that are captions; anything else is `not-media`. What lies outside `folder` goes in where
/// `options` confirms it and is named in the findings; otherwise nothing is packed (`refused`).
Result<Packed> pack(const PlayerDocument& document, const std::filesystem::path& folder,
                    const std::filesystem::path& out, const std::filesystem::path& player, CodecRegistry& codecs,
                    const PackOptions& options = {});

/// Modules whose codecs the media of `document` need, and the licence that follows.
struct Needs {
    std::vector<CodecRegistry::Found> modules;
    std::string licence;
    /// Clips, or folders of streams, posters and captions; each once, with its bytes.
    std::vector<std::pair<std::filesystem::path, std::uint64_t>> media;
    std::vector<std::filesystem::path> outside;  ///< Of what goes in, what lies outside the project's folder.
    std::vector<Finding> findings;
};
Result<Needs> needs_of(const PlayerDocument& document, const std::filesystem::path& folder, CodecRegistry& codecs,
                       const InfoOf& ask = info_of);

}  // namespace ruedo
