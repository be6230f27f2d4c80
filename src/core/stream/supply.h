// SPDX-License-Identifier: Apache-2.0
// The segments of a stream: which there are, in which rung each is fetched, and those that are here. One thread
// fetches, for what has the least ahead first; readers of pictures, sound and text share what came.
#pragma once
#include <condition_variable>
#include <deque>
#include <mutex>
#include <set>
#include <thread>

#include "media/streaming.h"
#include "stream/adapt.h"
#include "stream/fetch.h"
#include "stream/playlist.h"

namespace ruedo::stream {

/// One segment that is here.
struct LoadedSegment {
    Segment segment;
    std::size_t rendition = 0;   ///< Number in its track group.
    std::shared_ptr<Clip> clip;  ///< None where it is missing for good.
    Time shift{};                ///< Added to the clip's times.
    std::uint64_t bytes = 0;
    std::shared_ptr<const Bytes> video_config, audio_config;
    std::string text;     ///< Of captions: the whole file.
    bool played = false;  ///< A reader has been through it.
    Time comes{};         ///< Over a link in virtual time: when it is here.
    Time end() const { return segment.end(); }
};

/// Where the lists of segments of a rendition come from, and come from again while they grow.
class PlaylistSource {
  public:
    virtual ~PlaylistSource() = default;
    virtual Result<SegmentList> list(Fetch& fetch, std::size_t rendition) = 0;
};

/// What goes in one row: the rungs of the pictures (with the sound that is in them), or one sound, or one text.
struct TrackGroupPlan {
    Kind kind = Kind::video;
    std::vector<Rung> rungs;  ///< From the lowest bitrate on; of sound and text one.
    std::shared_ptr<PlaylistSource> playlists;
    std::string name;       ///< For sentences.
    bool as_asked = false;  ///< Nothing of it is fetched ahead of who reads: keyframes to look round by.
};

class SegmentFetcher {
  public:
    /// `link`: the host it comes over, whose speed is remembered for the next one; empty for a disk.
    SegmentFetcher(std::vector<TrackGroupPlan> track_groups, std::string link, StreamOptions options);
    ~SegmentFetcher();

    /// The segment of `track_group` that holds `t` (by its list), fetched if need be; waits for it, and gives up with
    /// `ReadScope`. Nothing past the end. Where a live one has no more yet, it waits for that.
    Result<std::shared_ptr<LoadedSegment>> loaded(std::size_t track_group, Time t);
    /// The one after.
    Result<std::shared_ptr<LoadedSegment>> after(std::size_t track_group, const LoadedSegment& loaded);
    /// The list of some rendition of a track group; fetched if there is none yet.
    Result<SegmentList> list(std::size_t track_group);
    /// The lists of all renditions of a track group. One that can’t be had is left out of what is fetched.
    Status list_all(std::size_t track_group);
    /// Where the playing place is, as far as someone knows better than by what is read.
    void playing_at(Time t);
    /// From where to where all that is played is here without a gap round `t`.
    TimeRange here(const std::set<std::size_t>& track_groups, Time t) const;
    std::uint64_t received() const;
    /// Pixels the picture is shown at; nothing more than one rung above that is fetched.
    void shown_at(int width, int height);
    /// What can be gone to in a live one, and its newest end.
    TimeRange window() const;
    /// Of a live one, in real time: the live edge, growing evenly.
    std::optional<Time> edge() const;

    /// What the clock of a discontinuity says at presentation time 0, once a segment has told.
    std::optional<Time> clock(std::uint64_t discontinuity) const;
    StreamReport report() const;
    std::vector<ClipNews> news();

    static constexpr std::uint64_t most_kept = 64 << 20;  ///< Bytes.
    static constexpr Time most_ahead = 30_s;
    static constexpr Time about = 20_ms;  ///< Lists of different rungs may round differently.

  private:
    struct Rendition {
        std::optional<SegmentList> list;
        Time loaded{};  ///< Monotonic.
        std::optional<Error> error;
        std::uint64_t carried = 0;  ///< Added to its discontinuity numbers.
    };
    struct TrackGroup {
        TrackGroupPlan plan;
        std::vector<Rendition> renditions;
        std::map<Time, std::shared_ptr<LoadedSegment>> loaded;  ///< By their listed start.
        std::unique_ptr<adapt::Policy> policy;
        std::optional<std::size_t> last;  ///< Rung fetched last.
        bool wanted = false;              ///< Somebody reads it.
        bool has_pictures = false;        ///< Some segment had; only who fetches asks.
        Codec codec = Codec::unknown;     ///< Of what leads in it, as in its first segment; for the same.
        std::optional<Error> error;       ///< Why it can't go on.
        std::size_t holes = 0;            ///< In a row.
    };
    struct Wait {
        std::size_t track_group;
        Time at;
    };
    struct Goal {
        std::size_t track_group = 0;
        Time at{};
    };

    // With the mutex held.
    std::shared_ptr<LoadedSegment> find(const TrackGroup& track_group, Time t) const;
    bool past_end(const TrackGroup& track_group, Time t) const;
    const SegmentList* some_list(const TrackGroup& track_group) const;
    std::optional<Goal> goal() const;
    std::optional<std::size_t> stale() const;
    /// How far it goes on without a gap from `t`, of what is here `by` then.
    Time reach(const TrackGroup& track_group, Time t, Time by = Time::max()) const;
    adapt::Situation situation(const TrackGroup& track_group, Time at, const Segment* segment) const;
    std::size_t choose(TrackGroup& track_group, Time at);
    /// The rung to fetch a segment in instead, where the one it is on its way in would come too late.
    std::optional<std::size_t> too_late(const TrackGroup& track_group, std::size_t rendition, const Segment& segment,
                                        double bits_left, double bits_so_far, Time since) const;
    /// Over a link in virtual time: when a segment that was asked for has come; or it is given up for `instead`.
    Result<Time> carried(const TrackGroup& track_group, std::size_t rendition, const Segment& segment, std::size_t size,
                         std::optional<std::size_t>& instead);
    void keep(TrackGroup& track_group, std::shared_ptr<LoadedSegment> loaded);
    void make_room();
    Time since_opened() const;
    void tell(std::string name, std::string detail);
    bool due(const Rendition& r) const;
    void lose(TrackGroup& track_group, std::size_t rendition, const Error& error);

    // Without it.
    void run();
    Status fetch_next(Goal goal);
    void fetch_by_now();
    bool pause(Goal goal, Time length);
    Result<const Segment> segment_for(Goal goal, std::size_t rendition);
    Status load(std::size_t track_group, std::size_t rendition);
    void join_lists(TrackGroup& track_group, std::size_t rendition, SegmentList fresh);
    Result<std::shared_ptr<LoadedSegment>> fetch_segment(std::size_t track_group, std::size_t rendition,
                                                         const Segment& segment, std::optional<std::size_t>& instead);
    Result<std::shared_ptr<LoadedSegment>> open(std::size_t track_group, std::size_t rendition, const Segment& segment,
                                                Bytes bytes);
    Result<std::shared_ptr<const Bytes>> small(const std::string& address, std::optional<ByteSource::Range> range,
                                               const Key* key);
    Result<Bytes> plain(Bytes bytes, const Key* key, std::uint64_t number);

    StreamOptions options_;
    std::string link_;
    /// Over a link in virtual time: when the fetch under way began, when the link is free, and whether nothing was
    /// wanted when it was last looked at.
    Time asked_{}, free_at_{};
    bool idle_ = true;
    Fetch fetch_;
    Time opened_{};
    std::mutex fetching_;  ///< Held while fetching: one at a time.
    mutable std::mutex mutex_;
    std::condition_variable changed_;
    std::vector<TrackGroup> track_groups_;
    std::deque<Wait> waits_;
    std::map<std::uint64_t, Time> clocks_;  ///< What each clock says at presentation time 0, by discontinuity.
    std::map<std::string, std::shared_ptr<const Bytes>> small_;  ///< Initialization segments and keys.
    adapt::Throughput throughput_;
    StreamReport report_;
    std::vector<ClipNews> news_;
    double fetched_bits_ = 0, fetched_seconds_ = 0;
    std::uint64_t kept_ = 0;
    Time playing_at_{};
    std::optional<Time> edge_;  ///< Of a live one, against the monotonic clock.
    int shown_width_ = 0, shown_height_ = 0;
    bool surveyed_ = false;
    std::atomic<bool> stop_ = false;
    std::thread thread_;
};

}  // namespace ruedo::stream
