// SPDX-License-Identifier: Apache-2.0
// Containers: opening a source whatever it is, scanning a track for exact facts, and writing.
#pragma once
#include <filesystem>
#include <functional>
#include <map>

#include "io/io.h"
#include "media/media.h"

namespace ruedo {

/// Opens by content, never by name. Reads headers only; the cost does not grow with the clip.
Result<std::unique_ptr<Clip>> open_clip(std::shared_ptr<ByteSource> source);
/// Whatever a document or a user may call a source: a path, an address, a camera, a clip of a catalogue. The one way.
/// A stream comes in its highest rung, fetched as it is read, unless `options` say otherwise.
Result<std::unique_ptr<Clip>> open_clip(const std::string& source,
                                        const StreamOptions& options = {.best = true, .on_demand = true});
/// The same for what is worked through to its end: opened within `open_deadline`; `refused` where there is none.
Result<std::shared_ptr<Clip>> open_to_end(const std::string& source);

/// How the times of a segment count: its container’s clock says `zero` at presentation time 0 of the stream it is part
/// of, and it is presented near `near`, which tells how often a clock of few bits has started over.
struct Timeline {
    Time zero{}, near{};
};
/// Of a clock of 33 bits at 90 kHz, which starts over every 26.5 hours: the ticks that are meant near `near`.
std::int64_t ticks_near(std::int64_t ticks, std::int64_t near);
/// One segment of a stream, with what has to go in front of it. Where its container has no clock, or `timeline` is not
/// given, its own first sample is at 0 (see `ClipInfo::zero`).
Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline = {});

/// What an address or a path holds, as far as opening tells.
using InfoOf = std::function<Result<ClipInfo>(const std::string& source)>;
Result<ClipInfo> info_of(const std::string& source);

/// What a container is called in sentences, by its name in documents ("mpegts": "a transport stream").
std::string container_title(std::string_view container);
/// Whether the first bytes are those of a container that opens here, or of a list of segments.
bool opens_here(ByteSource& source);
/// File name extensions, without dots, that what opens here usually bears; for a dialog's filter.
std::vector<std::string_view> media_extensions();

/// What only reading every packet head can tell.
struct TrackFacts {
    Time start{}, end{};               ///< Of what is presented.
    std::uint64_t frame_count = 0;     ///< Presented packets.
    Rational frame_rate{};             ///< Stated only when every frame is within one tick of constant.
    std::vector<Time> keyframe_times;  ///< Sorted, presented ones only.
    std::uint64_t busiest_second = 0;  ///< Pictures: how many follow one another within a second at most.
    double frames_per_second() const;  ///< The mean where it varies; 0 where that can't be said.
    double most_a_second() const;      ///< The same, or as many as come in its busiest second.
};
/// `each` hears of every packet; returning false ends the walk early.
Result<TrackFacts> scan_track(Clip& clip, const Track& track, const std::function<bool(const PacketHead&)>& each = {});

/// Describes a track to a muxer, before its packets.
struct MuxerTrack {
    Codec codec = Codec::unknown;
    Bytes config;  ///< As in `Track`.
    VideoFormat video;
    AudioFormat audio;
    std::string language;             ///< BCP 47; empty when not known.
    std::uint32_t timescale = 90000;  ///< MP4 ticks per second; sound uses its rate.
    unsigned delay_samples = 0;       ///< Encoder delay, in samples of the sound's rate, to be trimmed.
    bool is_default = true;           ///< Of several of a kind the one that plays.
    Kind kind() const;                ///< By its codec.
};

struct MuxerPacket {
    Time pts{}, dts{}, duration{};  ///< For sound pts may be negative by the delay; dts <= pts.
    bool keyframe = true;
    /// Of captions: a line of WebVTT settings (clause 4.4), mostly empty, a line feed, and the cue's text.
    ByteView data;
};

/// Takes packets in decoding order, interleaved by the caller within a second or so; holds only the index in
/// memory. `finish` puts the whole file in its place; without it nothing appears there.
class Muxer {
  public:
    virtual ~Muxer() = default;
    /// Before the first track: what the clip is to say of itself, as far as the container has a place for it.
    void describe(ClipTags tags) { tags_ = std::move(tags); }
    /// All tracks come before the first packet; returns the number to pass to `write`.
    virtual Result<std::size_t> add(const MuxerTrack& track) = 0;
    virtual Status write(std::size_t track, const MuxerPacket& packet) = 0;
    /// Before the first packet: about so many will come. Room for the index is then kept in front, where a container
    /// has it there, so that nothing has to be moved at the end.
    virtual void expect(std::uint64_t packets) { (void)packets; }
    /// Of what is cut into segments: the next packet begins one, and is a keyframe.
    virtual void begins_segment() {}
    /// Before `finish`: what is presented of this track ends here, though its last packet is longer: sound, and in MP4
    /// pictures, too.
    void ends(std::size_t track, Time at) { ends_[track] = at; }
    /// `told` hears of what takes long in it, which is moving everything to make room for the index.
    virtual Status finish(const Progress& told = {}) = 0;

  protected:
    ClipTags tags_;
    std::optional<Time> end_of(std::size_t track) const {
        auto it = ends_.find(track);
        return it == ends_.end() ? std::nullopt : std::optional(it->second);
    }

  private:
    std::map<std::size_t, Time> ends_;
};
/// A container that is written here: what it is called in documents and sentences, which file names mean it, and which
/// codecs it takes, the one that is chosen first in front. One row each.
struct ContainerFormat {
    std::string_view name, title;
    std::vector<std::string_view> extensions;
    std::vector<Codec> video, audio, text;
    std::unique_ptr<Muxer> (*write)(std::unique_ptr<ByteSink> sink);
    std::string_view container;  ///< What it is called once it is opened.
    bool shapes = false;         ///< It says how its pictures are turned and how wide their pixels are.
    bool takes(Codec codec) const;
    /// `codec-missing` for what it does not take.
    Status check(const MuxerTrack& track) const;
    bool alone() const { return video.empty(); }  ///< One track of sound, and nothing else.
};
std::span<const ContainerFormat> container_formats();
/// Whether a file of this extension (without its dot) holds sound alone, whatever its container could hold.
bool names_audio(std::string_view extension);
/// Nothing where none is written under such a name.
const ContainerFormat* container_format_named(std::string_view name);
const ContainerFormat* container_format_of_extension(std::string_view extension);

/// moov in front; edit lists for reordering and encoder delay. Of AC-3 the configuration is the dac3 box’s content.
std::unique_ptr<Muxer> mp4_muxer(std::unique_ptr<ByteSink> sink);
/// moov without samples, then fragments of one to four seconds.
std::unique_ptr<Muxer> fragmented_mp4_muxer(std::unique_ptr<ByteSink> sink);
/// The same of one track, a fragment for each segment, which begin where `begins_segment` says and nowhere else.
std::unique_ptr<Muxer> mp4_segment_muxer(std::unique_ptr<ByteSink> sink);
/// Cues, in front where it was said how much is to come; duration, CodecDelay, DiscardPadding.
std::unique_ptr<Muxer> webm_muxer(std::unique_ptr<ByteSink> sink);
std::unique_ptr<Muxer> matroska_muxer(std::unique_ptr<ByteSink> sink);
std::unique_ptr<Muxer> ogg_muxer(std::unique_ptr<ByteSink> sink);
std::unique_ptr<Muxer> mpegts_muxer(std::unique_ptr<ByteSink> sink);
std::unique_ptr<Muxer> wav_muxer(std::unique_ptr<ByteSink> sink);
std::unique_ptr<Muxer> flac_muxer(std::unique_ptr<ByteSink> sink);
/// Frames one after the other: MP3 with an information frame in front that states length and delay, AAC as ADTS, which
/// can't state them, AC-3 as it is.
std::unique_ptr<Muxer> bare_frame_muxer(std::unique_ptr<ByteSink> sink);
/// The same into a file.
Result<std::unique_ptr<Muxer>> mp4_muxer(const std::filesystem::path& path, bool replace = false);
Result<std::unique_ptr<Muxer>> webm_muxer(const std::filesystem::path& path, bool replace = false);

namespace isobmff {
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline);
}  // namespace isobmff
namespace matroska {
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
}
namespace ogg {
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
}
namespace riff {
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
}
namespace mpegts {
bool probe(ByteView head);
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline);
Result<std::unique_ptr<Clip>> open_program(std::shared_ptr<ByteSource> source);
}  // namespace mpegts
/// MP3, layer II, ADTS, AC-3 and FLAC: frames one after the other, without a container.
namespace elementary {
bool probe(ByteView head);
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline);
Result<std::unique_ptr<Clip>> open_flac(std::shared_ptr<ByteSource> source);
/// FLAC that begins at byte `from`, behind a tag that says `tags`.
Result<std::unique_ptr<Clip>> open_flac_behind(std::shared_ptr<ByteSource> source, std::uint64_t from, ClipTags tags);
}  // namespace elementary

}  // namespace ruedo
