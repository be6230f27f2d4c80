// SPDX-License-Identifier: Apache-2.0
// Containers: opening a source whatever it is, scanning a track for exact facts, and writing.
#pragma once
#include <filesystem>
#include <functional>

#include "io/io.h"
#include "media/media.h"

namespace ruedo {

/// Opens by content, never by name. Reads headers only; the cost does not grow with the clip.
Result<std::unique_ptr<Clip>> open_clip(std::shared_ptr<ByteSource> source);
/// Whatever a document or a user may call a source: a path, an address, a camera, a clip of a catalogue. The one way.
Result<std::unique_ptr<Clip>> open_clip(const std::string& source);

/// What an address or a path holds, as far as opening tells.
using InfoOf = std::function<Result<ClipInfo>(const std::string& source)>;
Result<ClipInfo> info_of(const std::string& source);

/// What a container is called in sentences, by its name in documents ("mpegts": "a transport stream").
std::string container_title(std::string_view container);
/// Whether the first bytes are those of a container that opens here.
bool opens_here(ByteSource& source);
/// File name extensions, without dots, that what opens here usually bears; for a dialog's filter.
std::vector<std::string_view> media_extensions();

/// What only reading every packet head can tell.
struct TrackFacts {
    Time start{}, end{};               ///< Of what is presented.
    std::uint64_t frame_count = 0;     ///< Presented packets.
    Rational frame_rate{};             ///< Stated only when every frame is within one tick of constant.
    std::vector<Time> keyframe_times;  ///< Sorted, presented ones only.
};
/// `each` hears of every packet; returning false ends the walk early.
Result<TrackFacts> scan_track(Clip& clip, const Track& track, const std::function<bool(const PacketHead&)>& each = {});

/// What a writer is told of a track before its packets come.
struct WriteTrack {
    Codec codec = Codec::unknown;
    Bytes config;  ///< avcC, AudioSpecificConfig, OpusHead, av1C, vpcC payload.
    VideoFormat video;
    AudioFormat audio;
    std::string language;             ///< BCP 47; empty when not known.
    std::uint32_t timescale = 90000;  ///< MP4 ticks per second; sound uses its rate.
    unsigned delay_samples = 0;       ///< Encoder delay, in samples of the sound's rate, to be trimmed.
};

struct WritePacket {
    Time pts{}, dts{}, duration{};  ///< For sound pts may be negative by the delay; dts <= pts.
    bool keyframe = true;
    ByteView data;
};

/// Takes packets in decoding order, interleaved by the caller within a second or so; holds only the index in
/// memory. `finish` puts the whole file in its place; without it nothing appears there.
class ClipWriter {
  public:
    virtual ~ClipWriter() = default;
    /// All tracks come before the first packet; returns the number to pass to `write`.
    virtual Result<std::size_t> add(const WriteTrack& track) = 0;
    virtual Outcome write(std::size_t track, const WritePacket& packet) = 0;
    /// Before the first packet: about so many will come. Room for the index is then kept in front, where a container
    /// has it there, so that nothing has to be moved at the end.
    virtual void expect(std::uint64_t packets) { (void)packets; }
    /// `sound_end`: presented length of each sound track where the last packet is longer; 0 for none. `told` hears of
    /// what takes long in it, which is moving everything to make room for the index.
    virtual Outcome finish(Time sound_end = {}, const Progress& told = {}) = 0;
};
/// MP4: H.264, HEVC, AV1, VP9 or MPEG-4 Visual, AAC, Opus or AC-3 (config: the dac3 box’s content); moov in front; edit
/// lists for reordering and encoder delay.
std::unique_ptr<ClipWriter> write_mp4(std::unique_ptr<ByteSink> sink);
/// WebM: VP8, VP9 or AV1, Opus or Vorbis; cues, duration, CodecDelay, DiscardPadding.
std::unique_ptr<ClipWriter> write_webm(std::unique_ptr<ByteSink> sink);
/// The same into a file.
Result<std::unique_ptr<ClipWriter>> write_mp4(const std::filesystem::path& path, bool replace = false);
Result<std::unique_ptr<ClipWriter>> write_webm(const std::filesystem::path& path, bool replace = false);

namespace isobmff {
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
}
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
Result<std::unique_ptr<Clip>> open_program(std::shared_ptr<ByteSource> source);
}  // namespace mpegts
/// MP3, layer II, ADTS, AC-3 and FLAC: frames one after the other, without a container.
namespace elementary {
bool probe(ByteView head);
Result<std::unique_ptr<Clip>> open(std::shared_ptr<ByteSource> source);
Result<std::unique_ptr<Clip>> open_flac(std::shared_ptr<ByteSource> source);
}  // namespace elementary

}  // namespace ruedo
