// SPDX-License-Identifier: Apache-2.0
// The plain values that everything else passes round: tracks, packets, pictures, sound, and the interface of a
// source of them.
#pragma once
#include <array>
#include <atomic>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.h"
#include "base/result.h"
#include "base/time.h"
#include "media/streaming.h"

namespace ruedo {

enum class Kind { video, audio, text, other };
enum class Codec {
    h264,
    vp8,
    vp9,
    av1,
    hevc,
    theora,
    mjpeg,
    png,
    mpeg1,
    mpeg2,
    mpeg4,
    aac,
    opus,
    vorbis,
    mp3,
    mp2,
    ac3,
    flac,
    pcm,
    webvtt,
    subrip,
    tx3g,
    raw,
    unknown
};
std::string_view kind_name(Kind kind);
std::string_view codec_name(Codec codec);  ///< As in documents: "h264".
Codec codec_from_name(std::string_view name);
std::string_view codec_title(Codec codec);  ///< As in sentences: "H.264".

/// What the numbers of a picture mean (ISO/IEC 23091-2). Unspecified values are resolved by `resolved`.
struct Colour {
    enum class Matrix : std::uint8_t { unspecified, bt601, bt709, bt2020, identity };
    enum class Range : std::uint8_t { unspecified, limited, full };
    Matrix matrix = Matrix::unspecified;
    Range range = Range::unspecified;
    std::uint8_t primaries = 2, transfer = 2;  ///< ISO/IEC 23091-2 codes; 2 is unspecified.
    bool operator==(const Colour&) const = default;
    static Matrix matrix_from_code(unsigned code);
    unsigned matrix_code() const;  ///< ISO/IEC 23091-2; 2 when unspecified.
    bool stated() const { return *this != Colour{}; }
    /// Values stated here, else those of `fallback`.
    Colour or_else(const Colour& fallback) const;
    /// With nothing left unspecified, nor what pictures of 4:2:0 can't be: BT.709 from 720 lines up, BT.601 below;
    /// limited range.
    Colour resolved(int height) const;
    /// What the numbers of a codec mean that knows no others: those of VP8 (RFC 6386 clause 9.2) and of Theora the
    /// matrix of ITU-R BT.601 in limited range, JPEG's (JFIF 1.02), and what PNG becomes here, the same in full range.
    static std::optional<Colour> always(Codec codec);
    /// This, with primaries and transfer stated as well, where they were not: those that go with the matrix. What
    /// reads tags may ignore all of them where one is missing.
    Colour tagged() const;
    /// This, or the matrix and range that `codec` knows alone.
    Colour made_for(Codec codec) const;
};

/// No frame is decoded, drawn or made that is larger than this: 16384 pixels either way, 268 million in all.
constexpr int most_frame_side = 16384;
constexpr std::int64_t most_frame_pixels = std::int64_t{most_frame_side} * most_frame_side;
constexpr bool frame_fits(std::int64_t width, std::int64_t height) {
    return width <= most_frame_side && height <= most_frame_side;
}
/// `limit`, for a track whose frames are larger.
Error frame_too_large(std::int64_t width, std::int64_t height);

/// Pixels cut off the edges of a frame.
struct Crop {
    int left = 0, top = 0, right = 0, bottom = 0;
    bool operator==(const Crop&) const = default;
};

struct VideoFormat {
    int width = 0, height = 0;  ///< Pixels after cropping: the codec's, then `crop`.
    Rational pixel_aspect{};    ///< Width of a pixel over its height; not stated means 1:1.
    int rotation = 0;           ///< 0, 90, 180 or 270: degrees clockwise to be applied to show it.
    Colour colour;
    bool alpha = false;  ///< The file says that it may be see-through; here it is opaque.
    /// What the container cuts off decoded frames (RFC 9559 clause 5.1.4.1.28.8, ISO/IEC 14496-12 clause 12.1.4).
    Crop crop{};
    int display_width() const;  ///< After pixel shape and rotation; the coded height is kept.
    int display_height() const;
    /// Takes over the size of decoded frames, less `crop`; which is forgotten where it would leave nothing.
    void set_coded_size(int coded_width, int coded_height);
};

struct AudioFormat {
    int rate = 0, channels = 0;  ///< As decoded and heard.
};

struct Track {
    std::uint64_t id = 0;  ///< The container's own number.
    Kind kind = Kind::other;
    Codec codec = Codec::unknown;
    std::string codec_tag;     ///< What the container calls the codec, for sentences.
    std::string codec_string;  ///< RFC 6381; empty when it can't be said.
    std::string language;      ///< BCP 47; empty when not stated.
    bool is_default = false;
    Time start{};            ///< Presentation time of the first presented sample.
    Time end = Time::max();  ///< Nothing is presented from here on; max when the file does not say.
    Rational tick{};         ///< Seconds per container tick.
    VideoFormat video;
    AudioFormat audio;
    Bytes config;  ///< The codec's own header as its adapter wants it (avcC, ASC, OpusHead ...).
    /// Pictures come in several sizes of one shape, and are shown as they come; `video` is that of the largest.
    bool several_sizes = false;
    Time preroll{};                ///< Decode from this much earlier after a seek (Opus, AAC).
    std::optional<Error> problem;  ///< Why this track can't be played, if so.
};

/// BCP 47 for a three-letter code; empty for undetermined.
std::string bcp47_from_iso639(std::string_view code);
/// The three-letter code of a BCP 47 tag's language (ISO 639-2/T); "und" when there is none.
std::string iso639_from_bcp47(std::string_view tag);
/// Whether this is a tag (RFC 5646 clause 2.1) that begins with a language of two letters or a code of three.
bool is_language_tag(std::string_view tag);
/// What a BCP 47 tag's language is called: "German" for "de", "Portuguese (pt-BR)" where there is more to it. The tag
/// itself for what has no two letters (ISO 639-1).
std::string language_title(const std::string& tag);

struct Finding {
    std::string code, sentence, hint;
};
/// What to do about a track that can't be decoded here, and so can't be converted here either.
inline constexpr const char* export_again =
    "It can’t be decoded here, so it can’t be converted here either; export it again where it was made, as H.264, VP9 "
    "or AV1 with AAC or Opus.";

/// What a clip says of itself as a whole.
struct ClipTags {
    std::string title;                         ///< UTF-8, one line; empty when it has none.
    std::optional<std::int64_t> created = {};  ///< When it was made: seconds since 1970, UTC.
    Bytes cover = {};                          ///< A picture that stands for it, as JPEG or PNG; empty without one.
    static constexpr std::size_t most_cover = 8 << 20;
    /// `image/jpeg` or `image/png`; empty for anything else.
    static std::string_view image_type(ByteView image);
    /// Takes over what is a picture of those kinds and not too large, where there is none yet.
    void take_cover(ByteView image);
};
/// Text from a file as a title: without control characters, and cut to 1,000 bytes.
std::string tidy_title(std::string_view text);

struct ClipInfo {
    std::string container;
    std::string name;
    std::uint64_t bytes = 0;
    Time duration{};  ///< End of the last presented sample; 0 when `duration_known` is false.
    bool duration_known = false;
    bool live = false;  ///< Comes as it happens: no end, no seeking.
    /// What the container’s own clock says at presentation time 0, where it has one.
    std::optional<Time> zero = {};
    ClipTags tags;
    std::vector<Track> tracks;
    std::vector<Finding> findings;
    const Track* find(std::uint64_t id) const;
    /// The track that plays unless another is asked for: the default one of its kind that has no problem,
    /// else the first without one.
    const Track* main(Kind kind) const;
};

struct PacketHead {
    Time pts{};               ///< Presentation time; below the track's start it is decoded, never presented.
    std::optional<Time> dts;  ///< When it is decoded, on the same clock, where the container says.
    Time duration{};          ///< 0 when the container does not say.
    Time trim_end{};          ///< Sound to cut from the end of this packet (Matroska DiscardPadding).
    bool keyframe = false;
    std::uint64_t size = 0;
    std::optional<std::uint64_t> offset;  ///< Of its bytes in the source, where `next` has not read them yet.
    /// The codec's own header from this packet on, where it may differ from the track's (a chain's later links).
    std::shared_ptr<const Bytes> config;
    std::uint32_t variant = 0;  ///< Number of its rung, from 1, where a clip has several.
};

struct Packet {
    PacketHead head;
    Bytes data;
};

/// Whether an edit cuts off samples before time 0, as the first packet of a track tells. Sound may begin a little
/// earlier without: with its encoder's delay, which is less than a decoder's preroll and four packets.
bool edited_off(const Track& track, const PacketHead& first);

/// Where a track ends, from the packets that were seen: with the last of them. Where the container does not say how
/// long that one lasts, it lasts as long as the one before it. The one definition of a clip's end.
class TrackEnd {
  public:
    void see(const PacketHead& head);
    /// Nothing when no packet was seen.
    std::optional<Time> of(const Track& track) const;

  private:
    Time end_{INT64_MIN}, last_{INT64_MIN}, before_{INT64_MIN}, duration_{};
};

/// Walks one track of a clip in decoding order, on its own. Not thread-safe; readers of one clip are independent.
class TrackReader {
  public:
    virtual ~TrackReader() = default;
    /// Moves to the next packet; false at the end of what can be read. Where bytes of it have not come (`timeout`) it
    /// may be asked again, and goes on where it was.
    virtual Result<bool> next(PacketHead& head) = 0;
    /// The bytes of the packet that `next` moved to.
    virtual Status read(Bytes& out) = 0;
    /// Moves so that `next` gives the keyframe from which the sample at `t` can be decoded: the last keyframe
    /// with a time <= t, or the first of the track.
    virtual Status seek(Time t) = 0;
};

struct TimeRange {
    Time from{}, to{};
    bool operator==(const TimeRange&) const = default;
};

class ByteSource;
class BufferedWalk;

/// An opened source. `info` does not change; what is asked of it besides may, at any moment and from any thread.
class Clip {
  public:
    Clip();
    virtual ~Clip();
    const ClipInfo& info() const { return info_; }
    /// A reader at the start of track `id`, which must exist.
    virtual std::unique_ptr<TrackReader> reader(std::uint64_t id) = 0;
    /// Where one can go now: everywhere, or in what is live the window that is kept, which slides. Nothing where there
    /// is no seeking. An end that is not known is `Time::max()`.
    virtual std::optional<TimeRange> seekable() const;
    /// The stretch round `position` in which every packet of `tracks` is here; nothing where nothing has to be fetched.
    /// Never waits.
    virtual std::optional<TimeRange> buffered(const std::vector<Track>& tracks, Time position);
    /// What was fetched so far, and how much there is, where it has to be fetched at all.
    struct Fetched {
        std::uint64_t bytes = 0;
        std::optional<std::uint64_t> of;
    };
    virtual std::optional<Fetched> fetched() const;
    /// Where it is made of something else while it is read: the stretch it is at, and how often it began at another
    /// place. Nothing where all of it is there.
    struct Made {
        Time from{}, to{};
        std::uint64_t places = 0;
    };
    virtual std::optional<Made> made() const { return std::nullopt; }
    /// Whether what it is read from is no longer what was opened.
    virtual bool altered() const;
    /// Where playing begins by default; at its start when not stated.
    virtual std::optional<Time> begins() const { return std::nullopt; }
    /// Of what is live and keeps a window: the time of the live edge, which grows evenly, where there is a clock;
    /// and how far from the newest of its window to stay, so as not to stall at once.
    struct Edge {
        std::optional<Time> now;
        Time keep{};
    };
    virtual std::optional<Edge> edge() const { return std::nullopt; }
    /// The track of keyframes alone that goes with track `id`, for looking round; it is not among those of `info`, and
    /// each of its packets can be decoded by itself.
    virtual const Track* keyframes(std::uint64_t id) const { return (void)id, nullptr; }
    /// Where it comes in segments: how that goes.
    virtual std::optional<StreamReport> stream() const { return std::nullopt; }
    /// Reads all that its lists say, what playing has not needed too. May take long.
    virtual Status survey() { return {}; }
    /// What happened since the last call, for the trace; for one listener.
    virtual std::vector<ClipNews> news() { return {}; }
    /// Its pictures are shown at so many pixels; more need not be fetched.
    virtual void shown_at(int width, int height) { (void)width, (void)height; }
    /// What it is read from, where that is one run of bytes.
    const std::shared_ptr<ByteSource>& bytes() const { return bytes_; }

  protected:
    ClipInfo info_;

  private:
    friend struct ClipAccess;
    std::shared_ptr<ByteSource> bytes_;  ///< Filled in by `open_clip`.
    std::mutex walk_mutex_;
    std::unique_ptr<BufferedWalk> walk_;
};

/// The presentation time of the picture shown at `t`: the last with time <= t, the first before it. Reads packet
/// heads only. `reader` is left anywhere. Times outside the track's window don't count.
Result<Time> frame_time_at(TrackReader& reader, const Track& track, Time t);
/// When the pictures of a track are shown, in order, and at which of them decoding can begin.
struct FrameTimes {
    std::vector<Time> all, keyframes;
    /// Number of the picture shown at `t`, from 0: the last with a time <= t, the first before it.
    std::size_t number_at(Time t) const;
};
/// Of the whole track, by its packets' heads; `limit` where there are more than four million.
Result<FrameTimes> frame_times(TrackReader& reader, const Track& track);
/// The keyframe time nearest to `t`, either way.
Result<Time> keyframe_time_near(TrackReader& reader, const Track& track, Time t);

/// Letters in one style.
struct TextRun {
    std::string text;  ///< UTF-8; lines end with '\n'.
    bool italic = false, bold = false, underline = false;
    bool operator==(const TextRun&) const = default;
};

/// Planar 8-bit 4:2:0, with all it takes to show it. Immutable once made; shared, never copied.
struct Frame {
    int width = 0, height = 0;  ///< Luma samples; chroma planes are half, rounded up.
    std::array<const std::uint8_t*, 3> plane{};
    std::array<int, 3> stride{};
    std::shared_ptr<const void> owner;  ///< Keeps the planes alive.
    Time pts{};
    Time duration{};
    Rational pixel_aspect{};
    int rotation = 0;
    Colour colour;
    std::uint32_t variant = 0;  ///< As in `PacketHead`.
};
/// Planes of one allocation for a picture of this size, from a pool that keeps a few for reuse.
Frame make_frame(int width, int height, std::array<std::uint8_t*, 3>& planes);
/// The part of `picture` inside `edges`, sharing its planes; of an odd left or top edge, chroma is that of the sample
/// before it. The picture itself where nothing would be left.
Frame cropped(Frame picture, const Crop& edges);
/// The same with a copy of these planes in it.
Frame copy_frame(int width, int height, std::array<const std::uint8_t*, 3> planes, std::array<int, 3> strides);

/// Interleaved float samples, full scale is 1.
struct AudioBlock {
    Time pts{};
    int rate = 0, channels = 0;
    std::vector<float> samples;
    std::size_t frames() const { return channels > 0 ? samples.size() / static_cast<std::size_t>(channels) : 0; }
};

/// Set to cancel; long work checks it between steps.
using CancelFlag = std::shared_ptr<std::atomic<bool>>;

}  // namespace ruedo
