// SPDX-License-Identifier: Apache-2.0
// What a clip that comes in segments says of itself: its rungs, what was decided and fetched, and how it went.
#pragma once
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/time.h"

namespace ruedo {

/// A link in virtual time: what is fetched comes when it would have come over it. Times are those of a virtual strand.
class LinkModel {
  public:
    virtual ~LinkModel() = default;
    virtual Time now() const = 0;
    virtual Time done(Time asked, double bits) const = 0;  ///< When so many bits, asked for then, have come.
    virtual double bits(Time asked, Time until) const = 0;
};

/// How a stream is opened; means nothing to any other clip.
struct StreamOptions {
    std::string policy;         ///< Of `adapt::policy_names`; the default one when empty.
    std::string rung;           ///< Only this one, by its id; all when empty.
    bool best = false;          ///< The highest, whatever the link: for stills and facts.
    std::optional<Time> start;  ///< Where it begins, where that is not the stream's own place.
    bool at_edge = false;       ///< A live one begins at its newest.
    /// Fetched by the reader, in its order, so that two runs are the same; else ahead of the reader.
    bool on_demand = false;
    /// In virtual time: fetched ahead of who reads after all, over this link. Without, a link has no speed.
    std::shared_ptr<const LinkModel> link{};
};

/// One rendition of the pictures: the same stretch of time at one size and bitrate.
struct Rung {
    std::string id;
    std::uint64_t bandwidth = 0;  ///< Bits a second at most, as stated (RFC 8216 clause 4.3.4.2); 0: not stated.
    std::uint64_t average_bandwidth = 0;  ///< 0 where it is not stated.
    std::string codecs;                   ///< RFC 6381; empty where it is not stated.
    int width = 0, height = 0;            ///< 0 where not stated.
    Rational frame_rate{};
    double score = 0;  ///< How good it looks, on a scale of the ladder's own; 0 where that is not stated.
    std::uint64_t measured_peak = 0;  ///< Bits a second of the heaviest segment fetched; 0 before the first.
    std::size_t segments = 0;         ///< Listed now.
    std::vector<Time> starts;         ///< Of those, and where the last one ends; once `Clip::survey` has read the list.
    /// What its segments take of a link: the mean where that is stated.
    double bits_a_second() const { return static_cast<double>(average_bandwidth ? average_bandwidth : bandwidth); }
    std::string title() const;  ///< For sentences: "640 x 360, 0.7 Mbit/s".
};

/// Why a segment is fetched in one rung and not in another.
struct Decision {
    Time wall{};  ///< Since the clip was opened.
    std::uint64_t segment = 0;
    std::string rung, why;
    double throughput = 0;  ///< Bits a second expected; 0 while nothing is known of the link.
    Time ahead{};           ///< What was here beyond the place that plays.
};

struct StreamReport {
    std::string kind;  ///< "hls" or "dash".
    bool live = false;
    std::vector<Rung> rungs;  ///< From the lowest on.
    std::vector<Decision> decisions;
    std::uint64_t switches = 0, segments_fetched = 0, bytes_fetched = 0;
    std::uint64_t wasted_bytes = 0;  ///< Fetched and never played: segments given up half-way or replaced.
    double mean_bitrate = 0;         ///< Of what was fetched, over its time.
    double throughput = 0;           ///< Expected now; 0 while it is not known.
    Time target_duration{};
    std::string encrypted = "none";
    std::vector<std::string> audio_tracks, texts;  ///< Their languages, or names where none is stated.
};

/// Something that happened on the way, for the trace (docs/trace.md).
struct ClipNews {
    std::string name, detail;
};

}  // namespace ruedo
