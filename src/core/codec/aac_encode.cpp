// SPDX-License-Identifier: Apache-2.0
// AAC-LC encoding through vo-aacenc.
extern "C" {
#include <vo-aacenc/cmnMemory.h>
#include <vo-aacenc/voAAC.h>
}

#include <algorithm>
#include <cmath>

#include "codec/fixed_frames.h"

namespace ruedo {
namespace {

class Encoder final : public FixedFrameEncoder {
  public:
    static Result<std::unique_ptr<AudioEncoder>> make(Codec, const AudioEncodeOptions& o) {
        auto e = std::make_unique<Encoder>();
        e->options_ = o;
        if (o.channels < 1 || o.channels > 2)
            return fail(ErrorCode::limit, "The AAC encoder takes one or two channels.", "Mix it down first.");
        voGetAACEncAPI(&e->api_);
        e->memory_.Alloc = cmnMemAlloc, e->memory_.Copy = cmnMemCopy, e->memory_.Free = cmnMemFree;
        e->memory_.Set = cmnMemSet, e->memory_.Check = cmnMemCheck;
        VO_CODEC_INIT_USERDATA user{};
        user.memflag = VO_IMF_USERMEMOPERATOR;
        user.memData = &e->memory_;
        if (e->api_.Init(&e->handle_, VO_AUDIO_CodingAAC, &user) != VO_ERR_NONE)
            return fail(ErrorCode::internal, "The AAC encoder could not be started.");
        AACENC_PARAM p{};
        e->channels_ = o.channels;
        p.sampleRate = o.rate, p.nChannels = static_cast<short>(o.channels), p.bitRate = static_cast<int>(o.bitrate),
        p.adtsUsed = 0;
        if (e->api_.SetParam(e->handle_, VO_PID_AAC_ENCPARAM, &p) != VO_ERR_NONE)
            return fail(ErrorCode::limit, "The AAC encoder refused these settings.", "Choose another rate.");
        return e;
    }
    ~Encoder() override {
        if (handle_) api_.Uninit(handle_);
    }
    std::size_t frame_samples() const override { return 1024; }
    unsigned delay_samples() const override { return 1600; }
    Result<Bytes> encode_frame(std::span<const float> samples) override {
        std::vector<std::int16_t> pcm(samples.size());
        std::transform(samples.begin(), samples.end(), pcm.begin(), [](float v) {
            return static_cast<std::int16_t>(std::lrint(std::clamp(v, -1.0F, 1.0F) * 32767));
        });
        VO_CODECBUFFER in{}, out{};
        in.Buffer = reinterpret_cast<VO_PBYTE>(pcm.data());
        in.Length = static_cast<VO_U32>(pcm.size() * 2);
        api_.SetInputData(handle_, &in);
        Bytes data(8192);
        out.Buffer = data.data();
        out.Length = static_cast<VO_U32>(data.size());
        VO_AUDIO_OUTPUTINFO info{};
        if (api_.GetOutputData(handle_, &out, &info) != VO_ERR_NONE)
            return fail(ErrorCode::internal, "The AAC encoder failed on a block.");
        data.resize(out.Length);
        return data;
    }
    Bytes config() const override {
        static constexpr std::array<int, 12> rates{96000, 88200, 64000, 48000, 44100, 32000,
                                                   24000, 22050, 16000, 12000, 11025, 8000};
        auto index = static_cast<unsigned>(std::find(rates.begin(), rates.end(), options_.rate) - rates.begin());
        unsigned word = 2U << 11 | index << 7 | static_cast<unsigned>(options_.channels) << 3;
        return {static_cast<std::uint8_t>(word >> 8), static_cast<std::uint8_t>(word)};
    }

  private:
    AudioEncodeOptions options_;
    VO_AUDIO_CODECAPI api_{};
    VO_MEM_OPERATOR memory_{};
    VO_HANDLE handle_ = nullptr;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "aac-encode",
                                    .library = "vo-aacenc",
                                    .licence = "Apache-2.0",
                                    .package = "libvo-aacenc0",
                                    .decodes = {},
                                    .encodes = {Codec::aac},
                                    .audio_encoder = &Encoder::make};
    return &module;
}
