// SPDX-License-Identifier: Apache-2.0
// Plain samples: 8 bits unsigned, 16 to 32 bits signed, 32 and 64 bits float.
#include <algorithm>
#include <cmath>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto format = parse_pcm_format(track.config);
        if (!format)
            return fail(Code::malformed, "The PCM track does not say how its samples are stored.",
                        "Export the sound again.");
        auto d = std::make_unique<Decoder>();
        d->format_ = *format;
        return d;
    }
    Outcome decode(ByteView data, SoundBlock& out) override {
        auto size = format_.container_bytes;
        out.rate = format_.rate, out.channels = format_.channels;
        auto wide = static_cast<std::size_t>(format_.channels);
        auto n = data.size() / size / wide * wide;
        out.samples.resize(n);
        auto* at = data.data();
        for (std::size_t i = 0; i < n; ++i, at += size) {
            std::uint64_t v = 0;
            for (unsigned k = 0; k < size; ++k)
                v |= static_cast<std::uint64_t>(at[format_.big_endian ? size - 1 - k : k]) << (8 * k);
            if (format_.is_float)
                out.samples[i] = size == 4 ? std::bit_cast<float>(static_cast<std::uint32_t>(v))
                                           : static_cast<float>(std::bit_cast<double>(v));
            else if (size == 1)
                out.samples[i] = (static_cast<float>(v) - 128.0F) / 128.0F;
            else
                out.samples[i] = static_cast<float>(
                    static_cast<double>(static_cast<std::int32_t>(static_cast<std::uint32_t>(v << (32 - 8 * size)))) /
                    2147483648.0);
            if (!(out.samples[i] > -64.0F && out.samples[i] < 64.0F)) out.samples[i] = 0;  // not a number, or far off
        }
        return {};
    }
    void reset() override {}

  private:
    PcmFormat format_;
};

class Encoder final : public AudioEncoder {
  public:
    static Result<std::unique_ptr<AudioEncoder>> make(Codec, const AudioEncodeOptions& o) {
        if (o.channels < 1 || o.channels > 64 || o.rate < 1 || o.rate > 768000 || (o.bits != 16 && o.bits != 24))
            return fail(Code::limit, "Plain samples are written with 16 or 24 bits.", "Choose one of these.");
        auto e = std::make_unique<Encoder>();
        e->channels_ = o.channels;
        e->format_ = {.bits = static_cast<unsigned>(o.bits),
                      .container_bytes = static_cast<unsigned>(o.bits) / 8,
                      .rate = o.rate,
                      .channels = o.channels};
        return e;
    }
    std::size_t frame_samples() const override { return 1024; }
    unsigned delay_samples() const override { return 0; }
    Outcome encode(std::span<const float> samples, std::vector<EncodedSamples>& out) override {
        if (samples.empty()) return {};
        auto full = static_cast<double>(1 << (format_.bits - 1));
        ByteWriter w;
        for (auto v : samples)
            w.le(static_cast<std::uint64_t>(
                     std::clamp(std::lrint(static_cast<double>(v) * full), -std::lrint(full), std::lrint(full) - 1)),
                 format_.container_bytes);
        out.push_back(
            {std::move(w.bytes), static_cast<std::uint32_t>(samples.size() / static_cast<std::size_t>(channels_))});
        return {};
    }
    Outcome drain(std::vector<EncodedSamples>&) override { return {}; }
    Bytes config() const override { return make_pcm_config(format_); }

  private:
    PcmFormat format_;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "pcm",
                                    .library = "none",
                                    .licence = "Apache-2.0",
                                    .package = "none",
                                    .decodes = {Codec::pcm},
                                    .encodes = {Codec::pcm},
                                    .audio_decoder = &Decoder::make,
                                    .audio_encoder = &Encoder::make};
    return &module;
}
