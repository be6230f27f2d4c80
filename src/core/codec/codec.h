// SPDX-License-Identifier: Apache-2.0
// Codecs: what an adapter looks like, the registry that finds them, and reading pictures of a track.
//
// Each adapter is a module of its own (a shared object) around one codec library, so that a packed app carries
// only what its media need, and only those libraries' licences.
#pragma once
#include <filesystem>
#include <functional>
#include <span>

#include "media/media.h"

namespace ruedo {

/// Turns packets into pictures, one stream in decoding order. Not thread-safe.
class VideoDecoder {
  public:
    virtual ~VideoDecoder() = default;
    /// Appends decoded frames, in presentation order. A damaged packet is an error; decoding may go on after it.
    virtual Status decode(ByteView data, Time pts, bool keyframe, std::vector<Frame>& out) = 0;
    /// Appends everything still held back.
    virtual Status drain(std::vector<Frame>& out) = 0;
    /// Appends what is held back although pictures may still come that are shown before it; decoding goes on. Nothing
    /// where a library can't do that.
    virtual Status flush_early(std::vector<Frame>&) { return {}; }
    /// Forgets everything, for a jump to a keyframe.
    virtual void reset() = 0;
    /// Pictures before `from` are decoded but need not be handed out, which spares copying them.
    virtual void hand_out_from(Time from) { from_ = from; }

  protected:
    Time from_{INT64_MIN};
};

class AudioDecoder {
  public:
    virtual ~AudioDecoder() = default;
    /// The samples of one packet, possibly none. More than two channels come in the order
    /// FL FR FC LFE BL BR SL SR, as far as there are that many.
    virtual Status decode(ByteView data, AudioBlock& out) = 0;
    virtual void reset() = 0;
};

struct Encoded {
    Bytes data;
    Time pts{}, dts{};  ///< Packets come in order of `dts`, which is never after `pts`; negative before the first.
    bool keyframe = true;
};

struct VideoEncodeOptions {
    int width = 0, height = 0;
    Rational rate{30, 1};
    std::uint32_t bitrate = 1'000'000;  ///< Bits per second.
    int keyframe_every = 60;            ///< Pictures.
    Rational pixel_aspect{};
    Colour colour;
    enum class Control { bitrate, quality } control = Control::bitrate;
    int quality = 30;  ///< With that control: constant, on the encoder's own scale (x264 0 to 51, VP8 and VP9 0 to 63).
    int b_frames = 0;  ///< At most so many in a row, where the codec has them.
    int effort = 0;    ///< 0 quick, 1 middling, 2 thorough.
    std::string profile;  ///< Of H.264: baseline, main or high, which it is when empty.
    unsigned level = 0;   ///< Of H.264, ten times its number: nothing goes beyond it; 0 for no limit.
    /// Two passes: 1, then 2 over the same pictures with the same options; `stats` keeps what the first one learned.
    int pass = 0;
    std::filesystem::path stats;
    /// Asked every 50 ms by an encoder whose calls can take longer, on the caller's thread; an error ends the call.
    std::function<Status()> go_on{};
};
class VideoEncoder {
  public:
    /// Ends within a frame's time, also in the middle of a clip.
    virtual ~VideoEncoder() = default;
    virtual Status encode(const Frame& picture, std::vector<Encoded>& out) = 0;
    virtual Status drain(std::vector<Encoded>& out) = 0;
    /// The track's configuration for a writer; complete before the first picture.
    virtual Bytes config() const = 0;
    /// By how much its coded frames are larger than the pictures, where only the container can say so.
    virtual Crop padding() const { return {}; }
};

struct AudioEncodeOptions {
    int rate = 48000, channels = 2;
    std::uint32_t bitrate = 128'000;
    int bits = 16;  ///< Of codecs without loss: 16 or 24.
};
/// A packet of sound as an encoder gives it, and how many samples of each channel it lasts.
struct EncodedSamples {
    Bytes data;
    std::uint32_t samples = 0;
};
/// Channels go in as decoders give them (see `AudioDecoder::decode`).
class AudioEncoder {
  public:
    virtual ~AudioEncoder() = default;
    /// Samples per channel that `encode` takes at a time; the last time it may be fewer.
    virtual std::size_t frame_samples() const = 0;
    /// The first packet begins so many samples before the first one that was put in.
    virtual unsigned delay_samples() const = 0;
    /// Appends what is ready. Packets lie end to end.
    virtual Status encode(std::span<const float> interleaved, std::vector<EncodedSamples>& out) = 0;
    /// After the last samples: appends packets until all that was put in has come out.
    virtual Status drain(std::vector<EncodedSamples>& out) = 0;
    /// The track's configuration for a writer; complete before the first samples.
    virtual Bytes config() const = 0;
    int channels() const { return channels_; }

  protected:
    int channels_ = 2;
};

/// How a block of text is set; in pixels before stretching.
struct TextStyle {
    enum class Align { start, centre, end } align = Align::centre;
    double size = 20;   ///< Of the letters.
    double width = 0;   ///< Lines are broken so as to stay within it.
    double margin = 0;  ///< Left free round the lines.
    double stretch_x = 1, stretch_y = 1;
};
struct TextBlock {
    int width = 0, height = 0;        ///< As far as the lines reach, with the margin; stretched.
    std::vector<std::uint8_t> cover;  ///< 255 where a pixel is all letter; row after row.
    double line = 0;                  ///< From one line to the next, before stretching.
};
/// Sets text in lines, whatever its script. Not thread-safe.
class TextSetter {
  public:
    virtual ~TextSetter() = default;
    virtual Result<TextBlock> set(std::span<const TextRun> runs, const TextStyle& style) = 0;
};

/// What a module says of itself. One module may serve several codecs of one library.
struct CodecModule {
    static constexpr unsigned current_abi = 7;
    unsigned abi = current_abi;
    const char* name = "";     ///< "vpx"; the module's file is codec-vpx.so.
    const char* library = "";  ///< The library's name, for the notice sheet.
    const char* licence = "";  ///< SPDX expression of the library.
    const char* package = "";  ///< Debian's package of the library at run time.
    std::vector<Codec> decodes, encodes;
    Result<std::unique_ptr<VideoDecoder>> (*video_decoder)(const Track&) = nullptr;
    Result<std::unique_ptr<AudioDecoder>> (*audio_decoder)(const Track&) = nullptr;
    Result<std::unique_ptr<VideoEncoder>> (*video_encoder)(Codec, const VideoEncodeOptions&) = nullptr;
    Result<std::unique_ptr<AudioEncoder>> (*audio_encoder)(Codec, const AudioEncodeOptions&) = nullptr;
    Result<std::unique_ptr<TextSetter>> (*text_setter)() = nullptr;
};
#define RUEDO_CODEC_MODULE \
    extern "C" __attribute__((visibility("default"))) const ruedo::CodecModule* ruedo_codec_module()

/// Finds adapters in a folder and loads each at its first use. Thread-safe.
class CodecRegistry {
  public:
    /// The folder beside the running executable: `../lib/ruedo`, or `lib` in a packed app.
    static CodecRegistry& standard();
    /// Where a program that keeps its modules elsewhere has them; before the first use of `standard`.
    static void set_standard_folder(std::filesystem::path folder);
    explicit CodecRegistry(std::filesystem::path folder);
    ~CodecRegistry();
    const std::filesystem::path& folder() const { return folder_; }

    Result<std::unique_ptr<VideoDecoder>> video_decoder(const Track& track);
    Result<std::unique_ptr<AudioDecoder>> audio_decoder(const Track& track);
    Result<std::unique_ptr<VideoEncoder>> video_encoder(Codec codec, const VideoEncodeOptions& options);
    Result<std::unique_ptr<AudioEncoder>> audio_encoder(Codec codec, const AudioEncodeOptions& options);
    Result<std::unique_ptr<TextSetter>> text_setter();
    bool decodes(Codec codec);
    bool encodes(Codec codec);
    /// The module that decodes `codec` and its file; nothing when there is none.
    struct Found {
        const CodecModule* module;
        std::filesystem::path file;
    };
    std::optional<Found> decoder_module(Codec codec);
    /// All that decode something.
    std::vector<Found> decoder_modules();

  private:
    const std::vector<Found>& modules();
    std::filesystem::path folder_;
    struct State;
    std::unique_ptr<State> state_;
};
std::filesystem::path executable_path();

/// Reads the pictures of one track: forward, or at a time. Only presented pictures come out. Not thread-safe.
class FrameReader {
  public:
    static Result<std::unique_ptr<FrameReader>> open(std::shared_ptr<Clip> clip, const Track& track,
                                                     CodecRegistry& codecs);
    /// The next picture in presentation order; nothing at the end. Damaged packets are passed over and counted.
    Result<std::optional<Frame>> next(const std::atomic<bool>* cancel = nullptr);
    /// The picture shown at `t`, decoded from its keyframe. `next` goes on after it. `cancelled` when asked to stop.
    Result<Frame> at(Time t, const std::atomic<bool>* cancel = nullptr);
    /// Hands `take` the picture shown at each of `times`, with which of them it is: in their order, or as they come by
    /// where the clip can't be sought. What `take` fails with ends it.
    Status at_each(const std::vector<Time>& times,
                   const std::function<Status(std::size_t which, const Frame& picture)>& take);
    /// The keyframe nearest to `t`; where it would have to be fetched and the clip has keyframes apart, the one of
    /// those that is at `t` or before. `next` goes on after it.
    Result<Frame> keyframe_near(Time t, const std::atomic<bool>* cancel = nullptr);
    /// Goes on from the first keyframe within `from` to `to`, and gives it, leaving out what lies before; nothing,
    /// and nothing changed, when there is none or when looking for it would wait for the network.
    Result<std::optional<Frame>> leap(Time from, Time to, const std::atomic<bool>* cancel = nullptr);
    /// Whether pictures on which no other depends are left undecoded, as far as the codec tells (see `disposable`).
    void set_sparing(bool sparing) { sparing_ = sparing; }
    /// Pictures left out so far, by `leap` and by sparing.
    std::uint64_t left_out() const { return left_out_; }
    /// Where the track ends, once `next` has given nothing.
    std::optional<Time> end() const { return end_.of(track_); }
    /// Why the file gave less than it held when it was opened, if it did.
    const std::optional<Error>& cut() const { return cut_; }
    const Track& track() const { return track_; }
    /// Pictures decoded since the keyframe, up to the one `at` gave, without look-ahead for reordering.
    std::uint64_t decoded() const { return decoded_; }
    std::uint64_t damaged() const { return damaged_; }

  private:
    FrameReader() = default;
    Result<bool> feed();
    Status restart(Time at, Time from);
    Result<Frame> only(Time t);
    Frame finished(Frame p) const;
    Track track_;
    CodecRegistry* codecs_ = nullptr;
    std::shared_ptr<Clip> clip_;
    std::unique_ptr<TrackReader> reader_, heads_;
    std::unique_ptr<VideoDecoder> decoder_;
    std::unique_ptr<FrameReader> apart_;  ///< Of the keyframes that the clip has apart.
    std::optional<Time> go_on_at_;        ///< The last of those that was given.
    std::vector<Frame> ready_;
    std::size_t ready_at_ = 0;
    Bytes data_;
    Time from_{INT64_MIN};        ///< Pictures before this are decoded, not given out.
    std::optional<Time> sought_;  ///< What is waited for; once it is decoded, nothing behind it need be.
    std::vector<Frame> early_;    ///< Came out with it, and are shown later than some that are still to come.
    std::uint64_t decoded_ = 0, damaged_ = 0, damaged_in_a_row_ = 0;
    struct Fed {
        Time pts{}, duration{};
        std::uint32_t variant = 0;
    };
    std::vector<Fed> recent_;  ///< What was decoded last.
    std::vector<Time> fed_;
    bool drained_ = false, sparing_ = false;
    std::optional<Error> last_damage_, cut_;
    TrackEnd end_;
    std::uint64_t left_out_ = 0;
};

}  // namespace ruedo
