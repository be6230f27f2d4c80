// SPDX-License-Identifier: Apache-2.0
// What transport and program streams have in common: elementary streams in PES packets with 33-bit stamps, and no
// index.
#pragma once
#include "container/container.h"
#include "container/mpegts/joins.h"
#include "container/mpegts/packets.h"
#include "media/codec_headers.h"
#include "media/mpeg_video.h"

namespace ruedo::mpegts {

constexpr std::int64_t wrap = std::int64_t{1} << 33;

struct Stream {
    unsigned pid = 0;  ///< Or, in a program stream, as `PackWalker` names it.
    Track track;
    std::optional<AudioFrameHeader> frame;  ///< Sound: what every frame is like.
    std::optional<MpegSequence> sequence;   ///< MPEG-1 and MPEG-2 video.
    /// Pictures that do not fill a PES packet each; and ticks from one to the next, for those without a stamp.
    bool by_units = false;
    std::int64_t pace = 0;
    /// Pictures without a single stamp: times are counted from the start, where the first decoded one has this time.
    std::optional<Time> counted;
    std::optional<std::int64_t> first;  ///< Ticks of the first picture or sound, since the clip's.
};

struct Shared {
    std::shared_ptr<ByteSource> source;
    std::optional<Layout> layout;      ///< Of a transport stream.
    std::int64_t base = 0;             ///< Ticks of the clip's first sample, or of its stream's.
    std::optional<std::int64_t> near;  ///< Of a segment: ticks since then, to within half the time stamps take to wrap.
    std::vector<Stream> streams;
    mutable Joins joins;
    bool arriving = false;  ///< Where parts begin is not known beforehand: readers tell as they come by.

    std::unique_ptr<PesSource> packets(const Stream& s) const;
    /// Ticks since the clip's first sample; a stamp slightly before it is negative.
    std::int64_t ticks(const Stream& s, std::int64_t stamp, std::uint64_t offset) const {
        return ticks_of(stamp) + joins.shift(s.pid, offset);
    }
    /// The same within one part of a joined file.
    std::int64_t ticks_of(std::int64_t stamp) const;
    static Time time(std::int64_t ticks) { return ticks_to_time(ticks, 1, 90000); }
};

/// A reader that can also be put to a place in the file.
class PesReader : public TrackReader {
  public:
    virtual void go_to(std::uint64_t offset) = 0;
};
/// Pictures that are cut out of their packets, walked from a place on; those before the first keyframe are passed over.
class ByUnits : public PesReader {
  public:
    ByUnits(std::shared_ptr<const Shared> shared, const Stream& stream) : shared_(std::move(shared)), stream_(stream) {}
    Result<bool> next(PacketHead& head) final;
    void go_to(std::uint64_t offset) final { walk_from(offset), begun_ = false; }
    Status seek(Time t) final;

  protected:
    virtual void walk_from(std::uint64_t offset) = 0;
    /// The next one, keyframe or not; false at the end.
    virtual Result<bool> advance(PacketHead& head) = 0;
    std::shared_ptr<const Shared> shared_;
    const Stream& stream_;
    std::uint64_t offset_ = 0;  ///< Of the packet in which the last one began.

  private:
    bool begun_ = false;
};
std::unique_ptr<PesReader> make_reader(std::shared_ptr<const Shared> shared, const Stream& stream);
/// Of a stream `by_units`.
std::unique_ptr<PesReader> access_unit_reader(std::shared_ptr<const Shared> shared, const Stream& stream);
/// The ticks from a picture to the next that its first ones are apart; 0 where they don't tell.
Result<std::int64_t> pace_of(std::shared_ptr<const Shared> shared, const Stream& stream);

/// The last packet of `stream` whose decoding time is at or before `ticks`, by bisection.
Result<std::uint64_t> find_place(const Shared& shared, const Stream& stream, std::int64_t ticks);

/// A clip of such streams, once they are named.
class PesClip : public Clip {
  public:
    std::unique_ptr<TrackReader> reader(std::uint64_t id) override;

  protected:
    /// A stream that was found; its kind and codec are in `track`.
    void add(Stream stream);
    /// Learns from the first packets what the streams are, and how long they last.
    Status settle(std::optional<Timeline> timeline = {});
    std::shared_ptr<Shared> shared_ = std::make_shared<Shared>();

  private:
    Result<std::optional<std::int64_t>> describe(Stream& s);
    Result<std::optional<std::int64_t>> describe_access_units(Stream& s);
    Status find_joins();
    Status find_end();
};

}  // namespace ruedo::mpegts
