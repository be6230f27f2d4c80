// SPDX-License-Identifier: Apache-2.0
// The tracks of what a conversion makes, packet by packet: copied, or decoded, fitted and encoded.
#pragma once
#include "codec/codec.h"
#include "convert/burned.h"
#include "convert/plan.h"
#include "text/cues.h"

namespace ruedo {

/// A packet on its way to the writer; its data are its own.
struct OutputPacket {
    Time pts{}, dts{}, duration{};
    bool keyframe = true;
    Bytes data;
    Time trim{};  ///< To be cut from its end, where the container has no other place for that.
};

/// One track of the output, packet by packet in decoding order. Not thread-safe.
class OutputTrack {
  public:
    virtual ~OutputTrack() = default;
    virtual Result<std::optional<OutputPacket>> next() = 0;
    virtual MuxerTrack track() const = 0;
    /// Where it ends, as far as it has been made.
    Time end() const { return end_; }
    /// Whether that may be before the end of its last packet.
    bool trimmed() const { return trimmed_; }
    std::uint64_t count() const { return count_; }
    const std::optional<Error>& cut() const { return cut_; }

  protected:
    Time end_{};
    std::uint64_t count_ = 0;
    bool trimmed_ = false;
    std::optional<Error> cut_;
};

/// Packets as they are, of what is shown or heard from `from` to `to`; their times count from `from`. Of sound as much
/// comes before as a decoder needs.
Result<std::unique_ptr<OutputTrack>> copied_stream(Clip& clip, const Track& track, Time from, Time to);
/// How a sound's level is changed: multiplied, and kept under a ceiling of its true peaks where there is one.
struct Level {
    float gain = 1;
    std::optional<double> ceiling;
};
/// `audio` stands at `from`, in the form that is planned. It begins and ends to the sample.
std::unique_ptr<OutputTrack> encoded_audio(std::unique_ptr<AudioReader> audio, const Plan::Audio& plan,
                                           std::unique_ptr<AudioEncoder> encoder, Time from, Time to, Level level);
/// Sound in a form and at a level, block by block, to the sample.
class LevelledAudio {
  public:
    LevelledAudio(std::unique_ptr<AudioReader> audio, AudioSpec form, Time length, Level level);
    /// Appends some more; false when there is none.
    Result<bool> next(std::vector<float>& out);
    const std::optional<Error>& cut() const { return audio_->cut(); }

  private:
    std::unique_ptr<AudioReader> audio_;
    AudioSpec form_;
    Level level_;
    std::optional<Limiter> limiter_;
    std::int64_t left_;  ///< Frames.
    bool ended_ = false;
};
std::unique_ptr<OutputTrack> caption_stream(Cues cues, const Plan::Captions& plan, Time from, Time to);

/// How an encoder is set for a recipe: quality, distance of keyframes, effort.
VideoEncodeOptions encoder_options(const Plan& plan, const Recipe& recipe, Rational rate);

/// Number 0 where there is one, or the first or second of two that leave their notes in a file.
struct EncodingPass {
    int number = 0;
    std::filesystem::path notes{};
    std::uint32_t bitrate = 0;  ///< Instead of a constant quality; 0 for that.
};

/// Begins the tracks of a plan at any place of the clip. What it is made of must outlive it.
struct StreamMaker {
    std::shared_ptr<Clip> clip;
    const Plan& plan;
    const Recipe& recipe;
    CodecRegistry& codecs;
    Rational rate{};                  ///< Of the pictures, about, for the encoder.
    bool constant = false;            ///< They are made to come at it.
    std::function<Status()> go_on{};  ///< As `VideoEncodeOptions` has it.
    Result<std::unique_ptr<OutputTrack>> pictures(Time from, Time to, const EncodingPass& pass = {}) const;
    /// The same up to the end, as fast as can be, and in the order in which they are shown.
    Result<std::unique_ptr<OutputTrack>> quick_frames(Time from) const;
    Result<std::unique_ptr<OutputTrack>> audio(const Plan::Audio& audio, Time from, Time to, Level level = {}) const;
    Result<std::unique_ptr<AudioReader>> open_audio(const Plan::Audio& audio, Time from) const;
    /// Decoded in the gaps that the encoder leaves, or as fast as can be (see `FramesAhead`).
    Result<std::unique_ptr<OutputTrack>> encode_frames(VideoEncodeOptions options, Time from, Time to,
                                                       bool in_gaps) const;
    Result<std::unique_ptr<CaptionBurner>> burner() const;  ///< None where nothing is to be drawn in.
    Result<std::unique_ptr<OutputTrack>> captions(const Plan::Captions& captions, Time from, Time to) const;
};

}  // namespace ruedo
