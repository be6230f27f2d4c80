// SPDX-License-Identifier: Apache-2.0
// AAC-LC decoding through FAAD2, whose licence makes whatever carries this module GPL.
#include <neaacdec.h>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto config = parse_aac_config(track.config);
        if (!config)
            return fail(ErrorCode::malformed, "The AAC track's configuration can't be followed.",
                        "Export the sound again.");
        auto d = std::make_unique<Decoder>();
        d->asc_ = track.config;
        d->rate_ = config->rate;
        d->channels_ = config->channels > 0 ? config->channels : std::max(1, track.audio.channels);
        RUEDO_TRY_DO(d->start());
        return d;
    }
    ~Decoder() override {
        if (handle_) NeAACDecClose(handle_);
    }
    Status decode(ByteView data, AudioBlock& out) override {
        NeAACDecFrameInfo info{};
        out.rate = rate_, out.channels = channels_;
        out.samples.clear();
        auto* samples =
            static_cast<float*>(NeAACDecDecode(handle_, &info, const_cast<unsigned char*>(data.data()), data.size()));
        if (info.error != 0)
            return fail(ErrorCode::malformed, "A packet of the AAC track is damaged.", "Export the clip again.");
        if (!samples || info.samples == 0 || info.channels == 0) return {};
        std::size_t from = info.channels, wide = static_cast<std::size_t>(channels_);
        auto n = info.samples / from;
        out.samples.resize(n * wide);
        // Centre comes first here; elsewhere it is third and the low-frequency channel fourth.
        static constexpr std::array<std::array<std::size_t, 8>, 9> orders{{{},
                                                                           {0},
                                                                           {0, 1},
                                                                           {1, 2, 0},
                                                                           {1, 2, 0, 3},
                                                                           {1, 2, 0, 3, 4},
                                                                           {1, 2, 0, 5, 3, 4},
                                                                           {1, 2, 0, 6, 3, 4, 5},
                                                                           {1, 2, 0, 7, 5, 6, 3, 4}}};
        auto& order = orders[std::min<std::size_t>(wide, 8)];
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t k = 0; k < wide; ++k)
                out.samples[i * wide + k] = samples[i * from + std::min(order[k], from - 1)];
        return {};
    }
    void reset() override { (void)start(); }

  private:
    Status start() {
        if (handle_) NeAACDecClose(handle_);
        handle_ = NeAACDecOpen();
        auto* config = NeAACDecGetCurrentConfiguration(handle_);
        config->outputFormat = FAAD_FMT_FLOAT;
        config->downMatrix = 0;
        config->dontUpSampleImplicitSBR = 1;
        NeAACDecSetConfiguration(handle_, config);
        unsigned long rate = 0;
        unsigned char channels = 0;
        if (NeAACDecInit2(handle_, asc_.data(), asc_.size(), &rate, &channels) != 0)
            return fail(ErrorCode::malformed, "The AAC track's configuration can't be followed.",
                        "Export the sound again.");
        return {};
    }
    NeAACDecHandle handle_ = nullptr;
    Bytes asc_;
    int rate_ = 48000, channels_ = 2;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "aac-decode",
                                    .library = "FAAD2",
                                    .licence = "GPL-2.0-or-later",
                                    .package = "libfaad2",
                                    .decodes = {Codec::aac},
                                    .encodes = {},
                                    .audio_decoder = &Decoder::make};
    return &module;
}
