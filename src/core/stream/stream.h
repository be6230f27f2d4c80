// SPDX-License-Identifier: Apache-2.0
// A long clip that comes in segments (RFC 8216, ISO/IEC 23009-1), as a clip like any other.
#pragma once
#include "stream/simulate.h"
#include "stream/supply.h"

namespace ruedo::stream {

/// Whether these are the first bytes of a playlist or a manifest.
bool is_stream(ByteView head);
/// Opens the playlist at `address`, a path or an http address: its lists and the first segments are read. What it plays
/// is decided as it plays.
Result<std::unique_ptr<Clip>> open(const std::string& address, const StreamOptions& options = {});

/// The files that a stream on disk is made of, its playlist among them; what it names by addresses is left out.
/// `refused` where one lies outside the playlist’s folder.
Result<std::vector<std::filesystem::path>> files_of(const std::filesystem::path& playlist);

/// What adaptation has to know of the stream at `address`; sizes of segments where they can be told without fetching.
Result<adapt::Ladder> ladder_of(const std::string& address);

/// What a stream is made of, before any segment of it is fetched.
struct Plan {
    std::string kind;                          ///< "hls" or "dash".
    std::vector<TrackGroupPlan> track_groups;  ///< That of the pictures first; of a stream of sound alone, that.
    /// Of each track group after the first: what it is called and in which language.
    struct Spoken {
        std::size_t track_group = 0;
        std::string name, language;
        bool is_default = false;
    };
    std::vector<Spoken> audio_tracks, texts;
    std::optional<std::size_t>
        audio_within;                      ///< The sound that is in the pictures' own segments, among `audio_tracks`.
    std::optional<std::size_t> keyframes;  ///< The track group of keyframes alone.
    std::optional<Time> begin;
    std::vector<Finding> findings;
};
Result<Plan> plan_hls(const std::string& address, Playlist playlist);
/// `server_date`: what the server's clock said, since 1970; of a live one it tells which segments are there.
Result<Plan> plan_dash(ByteView xml, const std::string& address, std::optional<Time> server_date);
bool is_manifest(ByteView head);
/// What is to be said of the rungs as they are stated.
void find_in_rungs(Plan& plan, const std::vector<Rung>& rungs);

}  // namespace ruedo::stream
