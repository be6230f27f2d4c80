// SPDX-License-Identifier: Apache-2.0
// AC-3 decoding through liba52, one frame in, its 1,536 samples out.
extern "C" {
#include <inttypes.h>

#include <a52dec/a52.h>
}

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

/// How the library is asked for a frame's channels, and for each that is handed out (FL FR FC LFE BL BR, as far as
/// there are that many) where the library has it: it puts the low frequencies first, then the order of ETSI TS 102 366
/// table 4.3. One surround channel, and low frequencies without a full surround, have no place of their own.
struct Layout {
    int flags;
    std::vector<std::size_t> places;
};
Layout layout_of(int flags) {
    switch (flags & A52_CHANNEL_MASK) {
        case A52_MONO:
            return {A52_MONO, {0}};
        case A52_3F:
            return {A52_3F, {0, 2, 1}};
        case A52_2F2R:
            return {A52_2F2R, {0, 1, 2, 3}};
        case A52_3F2R:
            if (flags & A52_LFE) return {A52_3F2R | A52_LFE, {1, 3, 2, 0, 4, 5}};
            return {A52_3F2R, {0, 2, 1, 3, 4}};
        case A52_CHANNEL:
            return {A52_CHANNEL, {0, 1}};
        default:
            return {A52_STEREO, {0, 1}};
    }
}

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track&) {
        auto d = std::make_unique<Decoder>();
        d->reset();
        if (!d->state_) return fail(ErrorCode::internal, "The AC-3 decoder could not be started.");
        return d;
    }
    ~Decoder() override {
        if (state_) a52_free(state_);
    }
    Status decode(ByteView data, AudioBlock& out) override {
        out.samples.clear();
        auto head = parse_ac3_frame(data);
        auto broken = [] {
            return fail(ErrorCode::malformed, "A packet of the AC-3 track is damaged.", "Export the clip again.");
        };
        if (!head || head->size > data.size() || !state_) return broken();
        out.rate = head->rate, out.channels = head->channels;
        // The library reads words beyond a frame's end.
        frame_.assign(data.begin(), data.begin() + static_cast<std::ptrdiff_t>(head->size));
        frame_.resize(head->size + 16);
        int flags = 0, rate = 0, bits = 0;
        if (a52_syncinfo(frame_.data(), &flags, &rate, &bits) == 0) return broken();
        auto [wanted, from] = layout_of(flags);
        sample_t level = 1;
        if (a52_frame(state_, frame_.data(), &wanted, &level, 0) != 0) return broken();
        auto channels = from.size();
        if (channels != static_cast<std::size_t>(head->channels)) return broken();
        out.samples.resize(1536 * channels);
        for (std::size_t block = 0; block < 6; ++block) {
            if (a52_block(state_) != 0) return broken();
            auto* samples = a52_samples(state_);
            for (std::size_t c = 0; c < channels; ++c)
                for (std::size_t i = 0; i < 256; ++i)
                    out.samples[(block * 256 + i) * channels + c] = static_cast<float>(samples[from[c] * 256 + i]);
        }
        return {};
    }
    void reset() override {
        if (state_) a52_free(state_);
        state_ = a52_init(0);
    }

  private:
    a52_state_t* state_ = nullptr;
    Bytes frame_;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "ac3",
                                    .library = "liba52",
                                    .licence = "GPL-2.0-or-later",
                                    .package = "liba52-0.7.4",
                                    .decodes = {Codec::ac3},
                                    .encodes = {},
                                    .audio_decoder = &Decoder::make};
    return &module;
}
