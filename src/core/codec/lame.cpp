// SPDX-License-Identifier: Apache-2.0
// MPEG-1 audio layer III encoding through libmp3lame.
#include <lame/lame.h>

#include <algorithm>
#include <cstdarg>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Encoder final : public AudioEncoder {
  public:
    static Result<std::unique_ptr<AudioEncoder>> make(Codec, const AudioEncodeOptions& o) {
        if (o.channels < 1 || o.channels > 2)
            return fail(ErrorCode::limit, "The MP3 encoder takes one or two channels.", "Mix it down first.");
        auto e = std::make_unique<Encoder>();
        if (!(e->handle_ = lame_init())) return fail(ErrorCode::internal, "The MP3 encoder could not be started.");
        auto silent = [](const char*, std::va_list) {};
        lame_set_errorf(e->handle_, silent), lame_set_debugf(e->handle_, silent), lame_set_msgf(e->handle_, silent);
        e->channels_ = o.channels;
        lame_set_num_channels(e->handle_, o.channels);
        lame_set_mode(e->handle_, o.channels == 1 ? MONO : JOINT_STEREO);
        lame_set_in_samplerate(e->handle_, o.rate);
        lame_set_out_samplerate(e->handle_, o.rate);
        lame_set_brate(e->handle_, static_cast<int>((o.bitrate + 500) / 1000));
        lame_set_quality(e->handle_, 3);
        lame_set_bWriteVbrTag(e->handle_, 0);  // the writer of the file knows more
        if (lame_init_params(e->handle_) < 0 || lame_get_out_samplerate(e->handle_) != o.rate)
            return fail(ErrorCode::limit, "The MP3 encoder refused these settings.",
                        "Choose one of its rates, of which 48000 is the highest.");
        return e;
    }
    ~Encoder() override {
        if (handle_) lame_close(handle_);
    }
    std::size_t frame_samples() const override { return 1152; }
    /// The encoder's own, and the 528 samples and one of every decoder's filters, which no file states.
    unsigned delay_samples() const override { return static_cast<unsigned>(lame_get_encoder_delay(handle_)) + 529; }
    Status encode(std::span<const float> samples, std::vector<EncodedSamples>& out) override {
        auto n = static_cast<int>(samples.size() / static_cast<std::size_t>(channels_));
        put_in_ += n;
        Bytes made(static_cast<std::size_t>(n) * 5 / 4 + 7200);
        int got = channels_ == 1 ? lame_encode_buffer_ieee_float(handle_, samples.data(), samples.data(), n,
                                                                 made.data(), static_cast<int>(made.size()))
                                 : lame_encode_buffer_interleaved_ieee_float(handle_, samples.data(), n, made.data(),
                                                                             static_cast<int>(made.size()));
        if (got < 0) return fail(ErrorCode::internal, "The MP3 encoder failed on a block.");
        held_.insert(held_.end(), made.begin(), made.begin() + got);
        return split(out);
    }
    Status drain(std::vector<EncodedSamples>& out) override {
        // Its own end leaves out what decoders are late by, where that begins another frame.
        auto wanted = put_in_ + static_cast<std::int64_t>(delay_samples());
        const std::vector<float> silence(frame_samples() * static_cast<std::size_t>(channels_));
        while (come_out_ < wanted) RUEDO_TRY_DO(encode(silence, out));
        return {};
    }
    Bytes config() const override { return {}; }

  private:
    /// What comes out is a run of bytes; frames say themselves how long they are.
    Status split(std::vector<EncodedSamples>& out) {
        std::size_t at = 0;
        while (auto frame = parse_mp3_frame(ByteView(held_).subspan(at))) {
            if (frame->size > held_.size() - at) break;
            auto from = held_.begin() + static_cast<std::ptrdiff_t>(at);
            out.push_back({Bytes(from, from + static_cast<std::ptrdiff_t>(frame->size)),
                           static_cast<std::uint32_t>(frame->samples)});
            come_out_ += frame->samples;
            at += frame->size;
        }
        held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(at));
        return {};
    }
    lame_t handle_ = nullptr;
    Bytes held_;
    std::int64_t put_in_ = 0, come_out_ = 0;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "lame",
                                    .library = "libmp3lame",
                                    .licence = "LGPL-2.0-or-later",
                                    .package = "libmp3lame0",
                                    .decodes = {},
                                    .encodes = {Codec::mp3},
                                    .audio_encoder = &Encoder::make};
    return &module;
}
