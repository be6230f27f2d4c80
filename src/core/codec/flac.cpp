// SPDX-License-Identifier: Apache-2.0
// FLAC decoding through libFLAC, one frame at a time.
#include <FLAC/stream_decoder.h>

#include <algorithm>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto info = parse_flac_info(track.config);
        if (!info)
            return fail(Code::malformed, "The FLAC track's header can’t be followed.", "Export the sound again.");
        auto d = std::make_unique<Decoder>();
        // Only the first metadata block matters for decoding; it is marked as the last one.
        d->head_.assign(track.config.begin(), track.config.begin() + 42);
        d->head_[4] = 0x80;
        d->decoder_ = FLAC__stream_decoder_new();
        if (!d->decoder_) return fail(Code::limit, "There is no memory for the FLAC decoder.");
        FLAC__stream_decoder_set_md5_checking(d->decoder_, false);
        if (FLAC__stream_decoder_init_stream(d->decoder_, &Decoder::give, nullptr, nullptr, nullptr, nullptr,
                                             &Decoder::take, nullptr, &Decoder::complain,
                                             d.get()) != FLAC__STREAM_DECODER_INIT_STATUS_OK)
            return fail(Code::internal, "The FLAC decoder could not be started.");
        d->input_ = d->head_;
        if (!FLAC__stream_decoder_process_until_end_of_metadata(d->decoder_))
            return fail(Code::malformed, "The FLAC track's header can’t be followed.", "Export the sound again.");
        return d;
    }
    ~Decoder() override {
        if (decoder_) FLAC__stream_decoder_delete(decoder_);
    }
    Outcome decode(ByteView data, SoundBlock& out) override {
        out.samples.clear();
        out_ = &out;
        input_ = data;
        damaged_ = false;
        FLAC__stream_decoder_process_single(decoder_);
        out_ = nullptr;
        if (damaged_ || out.samples.empty()) {
            reset();
            return fail(Code::malformed, "A packet of the FLAC track is damaged.", "Export the clip again.");
        }
        return {};
    }
    void reset() override {
        input_ = {};
        FLAC__stream_decoder_flush(decoder_);
    }

  private:
    static FLAC__StreamDecoderReadStatus give(const FLAC__StreamDecoder*, FLAC__byte to[], size_t* bytes, void* self) {
        auto& in = static_cast<Decoder*>(self)->input_;
        *bytes = std::min(*bytes, in.size());
        if (*bytes == 0) return FLAC__STREAM_DECODER_READ_STATUS_END_OF_STREAM;
        std::copy_n(in.begin(), *bytes, to);
        in = in.subspan(*bytes);
        return FLAC__STREAM_DECODER_READ_STATUS_CONTINUE;
    }
    static FLAC__StreamDecoderWriteStatus take(const FLAC__StreamDecoder*, const FLAC__Frame* frame,
                                               const FLAC__int32* const planes[], void* self) {
        auto* out = static_cast<Decoder*>(self)->out_;
        if (!out) return FLAC__STREAM_DECODER_WRITE_STATUS_CONTINUE;
        auto wide = frame->header.channels, n = frame->header.blocksize;
        out->rate = static_cast<int>(frame->header.sample_rate), out->channels = static_cast<int>(wide);
        out->samples.resize(static_cast<std::size_t>(n) * wide);
        auto scale = 1.0F / static_cast<float>(1ULL << (frame->header.bits_per_sample - 1));
        for (unsigned i = 0; i < n; ++i)
            for (unsigned k = 0; k < wide; ++k)
                out->samples[static_cast<std::size_t>(i) * wide + k] = static_cast<float>(planes[k][i]) * scale;
        return FLAC__STREAM_DECODER_WRITE_STATUS_CONTINUE;
    }
    static void complain(const FLAC__StreamDecoder*, FLAC__StreamDecoderErrorStatus, void* self) {
        static_cast<Decoder*>(self)->damaged_ = true;
    }

    FLAC__StreamDecoder* decoder_ = nullptr;
    Bytes head_;
    ByteView input_;
    SoundBlock* out_ = nullptr;
    bool damaged_ = false;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "flac",
                                    .library = "libFLAC",
                                    .licence = "BSD-3-Clause",
                                    .package = "libflac12",
                                    .decodes = {Codec::flac},
                                    .encodes = {},
                                    .audio_decoder = &Decoder::make};
    return &module;
}
