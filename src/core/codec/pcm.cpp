// SPDX-License-Identifier: Apache-2.0
// Plain samples: 8 bits unsigned, 16 to 32 bits signed, 32 and 64 bits float.
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

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "pcm",
                                    .library = "none",
                                    .licence = "Apache-2.0",
                                    .package = "none",
                                    .decodes = {Codec::pcm},
                                    .encodes = {},
                                    .audio_decoder = &Decoder::make};
    return &module;
}
