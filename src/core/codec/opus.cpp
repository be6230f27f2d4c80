// SPDX-License-Identifier: Apache-2.0
// Opus through libopus.
#include <opus/opus.h>
#include <opus/opus_multistream.h>

#include "codec/channel_order.h"
#include "codec/fixed_frames.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto head = parse_opus_head(track.config);
        auto d = std::make_unique<Decoder>();
        d->channels_ = head ? head->channels : std::max(1, track.audio.channels);
        // RFC 7845 clause 5.1.1: mapping family 0 is one stream; others list streams and a mapping.
        unsigned char mapping[8]{0, 1, 2, 3, 4, 5, 6, 7};
        int streams = 1, coupled = d->channels_ > 1 ? 1 : 0;
        auto& c = track.config;
        if (head && c[18] != 0 && c.size() >= 21U + static_cast<unsigned>(d->channels_)) {
            streams = c[19], coupled = c[20];
            for (int i = 0; i < d->channels_; ++i) mapping[i] = c[21U + static_cast<unsigned>(i)];
        } else if (d->channels_ > 2) {
            return fail(ErrorCode::malformed, "The Opus track does not say how its channels are laid out.",
                        "Export the sound again.");
        }
        if (head) d->gain_ = static_cast<std::int16_t>(c[16] | c[17] << 8);
        int error = 0;
        d->decoder_ = opus_multistream_decoder_create(48000, d->channels_, streams, coupled, mapping, &error);
        if (!d->decoder_)
            return fail(ErrorCode::malformed, "The Opus track's header can't be followed.", "Export the sound again.");
        opus_multistream_decoder_ctl(d->decoder_, OPUS_SET_GAIN(d->gain_));
        return d;
    }
    ~Decoder() override { opus_multistream_decoder_destroy(decoder_); }
    Status decode(ByteView data, AudioBlock& out) override {
        auto wide = static_cast<std::size_t>(channels_);
        buffer_.resize(5760 * wide);
        int n = opus_multistream_decode_float(decoder_, data.data(), static_cast<opus_int32>(data.size()),
                                              buffer_.data(), 5760, 0);
        if (n < 0)
            return fail(ErrorCode::malformed, "A packet of the Opus track is damaged.", "Export the clip again.");
        out.rate = 48000, out.channels = channels_;
        out.samples.resize(static_cast<std::size_t>(n) * wide);
        auto places = vorbis_places(channels_);
        for (std::size_t i = 0; i < static_cast<std::size_t>(n); ++i)
            for (std::size_t k = 0; k < wide; ++k) out.samples[i * wide + k] = buffer_[i * wide + places[k]];
        return {};
    }
    void reset() override {
        opus_multistream_decoder_ctl(decoder_, OPUS_RESET_STATE);
        opus_multistream_decoder_ctl(decoder_, OPUS_SET_GAIN(gain_));
    }

  private:
    OpusMSDecoder* decoder_ = nullptr;
    int channels_ = 2, gain_ = 0;
    std::vector<float> buffer_;
};

class Encoder final : public FixedFrameEncoder {
  public:
    static Result<std::unique_ptr<AudioEncoder>> make(Codec, const AudioEncodeOptions& o) {
        if (o.rate != 48000 || o.channels < 1 || o.channels > 8)
            return fail(ErrorCode::limit, "The Opus encoder takes 48 kHz sound in up to eight channels.",
                        "Resample it first.");
        auto e = std::make_unique<Encoder>();
        int error = 0;
        e->family_ = o.channels > 2 ? 1 : 0;
        e->encoder_ =
            opus_multistream_surround_encoder_create(48000, o.channels, e->family_, &e->streams_, &e->coupled_,
                                                     e->mapping_.data(), OPUS_APPLICATION_AUDIO, &error);
        if (!e->encoder_) return fail(ErrorCode::internal, "The Opus encoder could not be started.");
        opus_multistream_encoder_ctl(e->encoder_, OPUS_SET_BITRATE(static_cast<opus_int32>(o.bitrate)));
        e->channels_ = o.channels;
        return e;
    }
    ~Encoder() override { opus_multistream_encoder_destroy(encoder_); }
    std::size_t frame_samples() const override { return 960; }
    unsigned delay_samples() const override {
        opus_int32 n = 0;
        opus_multistream_encoder_ctl(encoder_, OPUS_GET_LOOKAHEAD(&n));
        return static_cast<unsigned>(n);
    }
    Result<Bytes> encode_frame(std::span<const float> samples) override {
        auto wide = static_cast<std::size_t>(channels_);
        auto places = vorbis_places(channels_);
        placed_.resize(samples.size());
        for (std::size_t i = 0; i < samples.size(); i += wide)
            for (std::size_t k = 0; k < wide; ++k) placed_[i + places[k]] = samples[i + k];
        Bytes out(1500 * wide + 2500);
        auto n = opus_multistream_encode_float(encoder_, placed_.data(), 960, out.data(),
                                               static_cast<opus_int32>(out.size()));
        if (n < 0) return fail(ErrorCode::internal, "The Opus encoder failed on a block.");
        out.resize(static_cast<std::size_t>(n));
        return out;
    }
    Bytes config() const override {
        ByteWriter w;
        w.text("OpusHead").u8(1).u8(static_cast<unsigned>(channels_)).le(delay_samples(), 2).le(48000, 4).le(0, 2);
        w.u8(static_cast<unsigned>(family_));
        if (family_)
            w.u8(static_cast<unsigned>(streams_))
                .u8(static_cast<unsigned>(coupled_))
                .raw(ByteView(mapping_).first(static_cast<std::size_t>(channels_)));
        return w.bytes;
    }

  private:
    OpusMSEncoder* encoder_ = nullptr;
    int family_ = 0, streams_ = 1, coupled_ = 1;
    std::array<unsigned char, 8> mapping_{};
    std::vector<float> placed_;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "opus",
                                    .library = "libopus",
                                    .licence = "BSD-3-Clause",
                                    .package = "libopus0",
                                    .decodes = {Codec::opus},
                                    .encodes = {Codec::opus},
                                    .audio_decoder = &Decoder::make,
                                    .audio_encoder = &Encoder::make};
    return &module;
}
