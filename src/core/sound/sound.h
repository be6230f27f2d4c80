// SPDX-License-Identifier: Apache-2.0
// Sound between the decoder and the mixer: placed exactly in time, in one format, at any speed.
#pragma once
#include <deque>
#include <filesystem>

#include "codec/codec.h"
#include "io/io.h"

namespace ruedo {

/// The one format behind the decoders: 48 kHz, two channels, interleaved float.
constexpr int mix_rate = 48000;
constexpr int mix_channels = 2;

/// Loudness follows the ear: a cubic of the control's value, so that half way sounds about half as loud.
/// `volume` is 0 to 1; the result multiplies samples.
float gain_of(double volume);

/// To another number of channels, 1 to 8 (order FL FR FC LFE BL BR SL SR): what has no place of its own goes to its
/// neighbours with the weights of ITU-R BS.775, low frequencies nowhere; places that nothing has are silent. More than
/// eight channels in are the first eight.
void remix(const AudioBlock& in, int channels, std::vector<float>& out);

/// What a reader of sound gives.
struct AudioSpec {
    int rate = mix_rate, channels = mix_channels;
    bool operator==(const AudioSpec&) const = default;
};

/// Reads one sound track forward in one form, sample-exact on the presentation timeline: encoder delay is
/// cut, gaps are silence, overlaps are cut. Not thread-safe.
class AudioReader {
  public:
    static Result<std::unique_ptr<AudioReader>> open(std::shared_ptr<Clip> clip, const Track& track,
                                                     CodecRegistry& codecs, AudioSpec form = {});
    ~AudioReader();
    AudioReader(AudioReader&&) noexcept;
    /// The next block begins at `t` exactly (to the sample).
    Status seek(Time t);
    /// The same, with `ahead` decoded already: the first blocks then cost nothing.
    Status read_ahead(Time t, Time much);
    /// Up to some 40 ms; `pts` counts on from `seek`. Nothing at the end.
    Result<std::optional<AudioBlock>> next();
    /// Sound ends here, and is filled with silence up to here when the track ends before. Time::max() for neither.
    void set_end(Time end) { end_ = end; }
    std::uint64_t damaged() const { return damaged_; }
    const Track& track() const { return track_; }
    /// Where the track ends, once `next` has given nothing.
    std::optional<Time> track_end() const { return seen_.of(track_); }
    /// Why the file gave less than it held when it was opened, if it did.
    const std::optional<Error>& cut() const { return cut_; }

  private:
    AudioReader();
    Status fill(std::size_t frames);
    Result<bool> decode_more();
    void place(AudioBlock& block, Time pts, Time trim_end);
    void push(std::vector<float> samples);
    Track track_;
    CodecRegistry* codecs_ = nullptr;
    std::shared_ptr<Clip> clip_;
    std::unique_ptr<TrackReader> reader_;
    std::unique_ptr<AudioDecoder> decoder_;
    struct Resampler;
    std::unique_ptr<Resampler> resampler_;
    int rate_ = mix_rate;
    bool anchored_ = false, finished_ = false, flushed_ = false;
    double drift_ = 0;           ///< How far, over about a second, stated times are ahead of the samples; in samples.
    std::int64_t position_ = 0;  ///< Native sample the decoder gives next.
    std::int64_t cursor_ = 0;    ///< Native sample that has been passed on next.
    std::int64_t silence_ = 0;   ///< Native samples of silence still to be passed on.
    std::int64_t out_position_ = 0;  ///< Frame that `next` gives next.
    AudioSpec form_;
    std::vector<float> held_;  ///< In its channels at native rate, behind pending silence.
    std::deque<float> out_;
    Time end_ = Time::max();
    Bytes data_;
    std::shared_ptr<const Bytes> config_;  ///< The one in force, where packets carry it.
    std::uint64_t damaged_ = 0;
    TrackEnd seen_;
    std::optional<Error> cut_;
};

/// Speed with pitch kept, 0.25 to 4.
class TimeStretcher {
  public:
    explicit TimeStretcher(double rate);
    ~TimeStretcher();
    /// Appends the output for these samples; the latency inside is compensated for.
    void process(std::span<const float> in, std::vector<float>& out);
    void flush(std::vector<float>& out);

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

/// Keeps true peaks (ITU-R BS.1770 annex 2, four times oversampled) under a ceiling: looks five milliseconds ahead and
/// turns down before them. What never comes near the ceiling passes unchanged, to the bit.
class Limiter {
  public:
    /// `ceiling`: full scale is 1.
    Limiter(AudioSpec form, double ceiling);
    ~Limiter();
    Limiter(Limiter&&) noexcept;
    /// Takes interleaved samples, appends as many as are ready.
    void process(std::span<const float> in, std::vector<float>& out);
    /// Appends those that are left.
    void flush(std::vector<float>& out);

  private:
    struct Impl;
    std::unique_ptr<Impl> impl_;
};

/// 16-bit WAV, 48 kHz stereo (RIFF). Appears complete or not at all; written incrementally.
class WavWriter {
  public:
    static Result<WavWriter> create(const std::filesystem::path& path, bool replace = false);
    Status write(std::span<const float> interleaved);
    Status finish();

  private:
    explicit WavWriter(FileWriter file) : file_(std::move(file)) {}
    FileWriter file_;
    std::uint64_t bytes_ = 0;
};

}  // namespace ruedo
