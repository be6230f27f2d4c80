// SPDX-License-Identifier: Apache-2.0
// Plain samples: 8 bits unsigned, 16 to 32 bits signed, 32 and 64 bits float.
#include <algorithm>
#include <cmath>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

/// `n` samples as they are stored; what is stored is known while compiling, which makes it six times as quick.
template <unsigned size, bool big, bool floats>
void take(const std::uint8_t* at, float* out, std::size_t n) {
    for (std::size_t i = 0; i < n; ++i, at += size) {
        std::uint64_t v = 0;
        for (unsigned k = 0; k < size; ++k) v |= static_cast<std::uint64_t>(at[big ? size - 1 - k : k]) << (8 * k);
        if constexpr (floats) {
            auto f = size == 4 ? std::bit_cast<float>(static_cast<std::uint32_t>(v))
                               : static_cast<float>(std::bit_cast<double>(v));
            out[i] = f > -64.0F && f < 64.0F ? f : 0;  // else not a number, or far off
        } else if constexpr (size == 1) {
            out[i] = (static_cast<float>(v) - 128.0F) / 128.0F;
        } else {
            out[i] = static_cast<float>(static_cast<std::int32_t>(static_cast<std::uint32_t>(v << (32 - 8 * size)))) *
                     0x1p-31F;
        }
    }
}
using Take = void (*)(const std::uint8_t*, float*, std::size_t);
Take take_of(const PcmFormat& f) {
    auto whole = [&]<unsigned size>() { return f.big_endian ? take<size, true, false> : take<size, false, false>; };
    auto real = [&]<unsigned size>() { return f.big_endian ? take<size, true, true> : take<size, false, true>; };
    switch (f.container_bytes) {
        case 1:
            return whole.operator()<1>();
        case 2:
            return whole.operator()<2>();
        case 3:
            return whole.operator()<3>();
        case 4:
            return f.is_float ? real.operator()<4>() : whole.operator()<4>();
        default:
            return real.operator()<8>();
    }
}

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto format = parse_pcm_format(track.config);
        if (!format)
            return fail(ErrorCode::malformed, "The PCM track does not say how its samples are stored.",
                        "Export the sound again.");
        auto d = std::make_unique<Decoder>();
        d->format_ = *format;
        d->take_ = take_of(*format);
        return d;
    }
    Status decode(ByteView data, AudioBlock& out) override {
        auto size = format_.container_bytes;
        out.rate = format_.rate, out.channels = format_.channels;
        auto wide = static_cast<std::size_t>(format_.channels);
        auto n = data.size() / size / wide * wide;
        out.samples.resize(n);
        take_(data.data(), out.samples.data(), n);
        return {};
    }
    void reset() override {}

  private:
    PcmFormat format_;
    Take take_ = nullptr;
};

class Encoder final : public AudioEncoder {
  public:
    static Result<std::unique_ptr<AudioEncoder>> make(Codec, const AudioEncodeOptions& o) {
        if (o.channels < 1 || o.channels > 64 || o.rate < 1 || o.rate > 768000 || (o.bits != 16 && o.bits != 24))
            return fail(ErrorCode::limit, "Plain samples are written with 16 or 24 bits.", "Choose one of these.");
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
    Status encode(std::span<const float> samples, std::vector<EncodedSamples>& out) override {
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
    Status drain(std::vector<EncodedSamples>&) override { return {}; }
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
