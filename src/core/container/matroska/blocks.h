// SPDX-License-Identifier: Apache-2.0
// Walking and searching the clusters of Matroska and WebM (RFC 9559 clause 5.1.3).
#pragma once
#include <mutex>

#include "container/container.h"
#include "container/matroska/ebml.h"

namespace ruedo::matroska {

constexpr std::int64_t epoch_2001 = 978'307'200;  ///< Seconds from 1970 to there, from which dates count.
constexpr std::uint64_t header_limit = 16 << 20;  // no Info, Tracks or Cues needs more

struct TrackExtra {
    std::uint64_t number = 0;
    Time codec_delay{}, default_duration{};
    std::uint64_t pcm_frame = 0, pcm_rate = 0;  ///< Of PCM: bytes of a sample of all channels, and samples a second.
    Bytes stripped;  ///< Bytes that header-stripping compression took from the front of every frame.
    bool is_video = false, is_opus = false, is_flac = false, is_audio = false;
    bool is_webvtt = false;  ///< Settings of its cues lie beside their text.
    bool annex_b = false;    ///< Frames come as a byte stream with start codes; read as if with lengths.
};

struct CueEntry {
    Time time;
    std::uint64_t track, cluster;
};

/// Shared by the clip and its readers; constant but for the cues, which are read when first needed.
struct Shared {
    std::shared_ptr<ByteSource> source;
    std::uint64_t segment = 0, segment_end = UINT64_MAX, first_cluster = 0, cues_at = 0;
    std::uint64_t scale = 1'000'000;
    Time origin{};  ///< Subtracted from container times so that the earliest presented sample is at 0.
    std::mutex mutex;
    std::shared_ptr<const std::vector<CueEntry>> cues;  ///< In order of time; nothing until they were read.

    Time stamp(std::int64_t ticks) const { return ticks_to_time(ticks, scale, 1'000'000'000); }
    /// None where they can't be had now. Reading them that was given up is tried again the next time.
    std::shared_ptr<const std::vector<CueEntry>> read_cues(SourceReader& reader);
    void parse_cues(ByteView data);
};

/// Finds clusters by their ID where no element leads to them; UINT64_MAX when there is none before `limit`.
Result<std::uint64_t> next_cluster(SourceReader& reader, std::uint64_t from, std::uint64_t limit);

class BlockReader final : public TrackReader {
  public:
    BlockReader(std::shared_ptr<Shared> shared, TrackExtra extra)
        : shared_(std::move(shared)), extra_(std::move(extra)), reader_(shared_->source) {
        enter(shared_->first_cluster);
    }

    Result<bool> next(PacketHead& head) override;
    Status read(Bytes& out) override;
    Status seek(Time t) override;
    /// The time of the cluster at `at`, if there is one.
    Result<std::optional<Time>> cluster_time(std::uint64_t at);

  private:
    struct Lace {
        PacketHead head;
        std::uint64_t offset;
    };

    void enter(std::uint64_t at) {
        at_ = at;
        cluster_end_ = 0;
        laces_.clear();
        lace_at_ = 0;
    }
    Result<bool> next_block();
    Result<bool> parse_block(const Element& e, bool simple, Time duration, Time discard, bool referenced);
    Result<bool> parse_group(const Element& group);
    bool lay_out(ByteView head, unsigned used, const Element& e, unsigned lacing, std::vector<std::uint64_t>& sizes,
                 std::uint64_t& from);
    /// The last keyframe with time <= t from the cluster at `from` on; nothing when there is none that early.
    Result<std::optional<std::uint64_t>> settle(std::uint64_t from, Time t);

    std::shared_ptr<Shared> shared_;
    TrackExtra extra_;
    SourceReader reader_;
    std::uint64_t at_ = 0, cluster_start_ = 0, cluster_end_ = 0, block_start_ = 0, offset_ = 0;
    Time cluster_time_{};
    std::vector<Lace> laces_;
    std::size_t lace_at_ = 0;
    std::string settings_;  ///< Of the cue in the block.
};

}  // namespace ruedo::matroska
