// SPDX-License-Identifier: Apache-2.0
// FLAC through libFLAC, one frame at a time.
#include <FLAC/stream_decoder.h>
#include <FLAC/stream_encoder.h>

#include <algorithm>
#include <cmath>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track& track) {
        auto info = parse_flac_info(track.config);
        if (!info)
            return fail(ErrorCode::malformed, "The FLAC track's header can’t be followed.", "Export the sound again.");
        auto d = std::make_unique<Decoder>();
        // Only the first metadata block matters for decoding; it is marked as the last one.
        d->head_.assign(track.config.begin(), track.config.begin() + 42);
        d->head_[4] = 0x80;
        d->decoder_ = FLAC__stream_decoder_new();
        if (!d->decoder_) return fail(ErrorCode::limit, "There is no memory for the FLAC decoder.");
        FLAC__stream_decoder_set_md5_checking(d->decoder_, false);
        if (FLAC__stream_decoder_init_stream(d->decoder_, &Decoder::give, nullptr, nullptr, nullptr, nullptr,
                                             &Decoder::take, nullptr, &Decoder::complain,
                                             d.get()) != FLAC__STREAM_DECODER_INIT_STATUS_OK)
            return fail(ErrorCode::internal, "The FLAC decoder could not be started.");
        d->input_ = d->head_;
        if (!FLAC__stream_decoder_process_until_end_of_metadata(d->decoder_))
            return fail(ErrorCode::malformed, "The FLAC track's header can’t be followed.", "Export the sound again.");
        return d;
    }
    ~Decoder() override {
        if (decoder_) FLAC__stream_decoder_delete(decoder_);
    }
    Status decode(ByteView data, AudioBlock& out) override {
        out.samples.clear();
        out_ = &out;
        input_ = data;
        damaged_ = false;
        FLAC__stream_decoder_process_single(decoder_);
        out_ = nullptr;
        if (damaged_ || out.samples.empty()) {
            reset();
            return fail(ErrorCode::malformed, "A packet of the FLAC track is damaged.", "Export the clip again.");
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
    AudioBlock* out_ = nullptr;
    bool damaged_ = false;
};

class Encoder final : public AudioEncoder {
  public:
    static Result<std::unique_ptr<AudioEncoder>> make(Codec, const AudioEncodeOptions& o) {
        if (o.channels < 1 || o.channels > 8 || o.rate < 1 || o.rate > 655350 || (o.bits != 16 && o.bits != 24))
            return fail(ErrorCode::limit, "The FLAC encoder takes up to eight channels of 16 or 24 bits.",
                        "Mix it down first.");
        auto e = std::make_unique<Encoder>();
        e->channels_ = o.channels, e->bits_ = o.bits;
        e->encoder_ = FLAC__stream_encoder_new();
        if (!e->encoder_) return fail(ErrorCode::limit, "There is no memory for the FLAC encoder.");
        FLAC__stream_encoder_set_channels(e->encoder_, static_cast<unsigned>(o.channels));
        FLAC__stream_encoder_set_bits_per_sample(e->encoder_, static_cast<unsigned>(o.bits));
        FLAC__stream_encoder_set_sample_rate(e->encoder_, static_cast<unsigned>(o.rate));
        FLAC__stream_encoder_set_compression_level(e->encoder_, 5);
        FLAC__stream_encoder_set_blocksize(e->encoder_, block);
        // Rates of its own, not only those of the subset that can be told from a frame alone.
        FLAC__stream_encoder_set_streamable_subset(e->encoder_, o.rate <= 48000);
        if (FLAC__stream_encoder_init_stream(e->encoder_, &Encoder::take, nullptr, nullptr, nullptr, e.get()) !=
            FLAC__STREAM_ENCODER_INIT_STATUS_OK)
            return fail(ErrorCode::limit, "The FLAC encoder refused these settings.", "Choose another rate.");
        if (e->head_.size() < 42) return fail(ErrorCode::internal, "The FLAC encoder gave no header.");
        // Of what it tells before the first frame only the first block counts; it is marked as the last one.
        e->head_.resize(42);
        e->head_[4] = 0x80;
        return e;
    }
    ~Encoder() override {
        if (encoder_) FLAC__stream_encoder_delete(encoder_);
    }
    std::size_t frame_samples() const override { return block; }
    unsigned delay_samples() const override { return 0; }
    Status encode(std::span<const float> samples, std::vector<EncodedSamples>& out) override {
        auto full = static_cast<float>(1 << (bits_ - 1));
        whole_.resize(samples.size());
        std::transform(samples.begin(), samples.end(), whole_.begin(), [&](float v) {
            return static_cast<FLAC__int32>(std::clamp(std::lrint(v * full), -std::lrint(full), std::lrint(full) - 1));
        });
        out_ = &out;
        bool fine = FLAC__stream_encoder_process_interleaved(
            encoder_, whole_.data(), static_cast<unsigned>(samples.size() / static_cast<std::size_t>(channels_)));
        out_ = nullptr;
        return fine ? Status{} : fail(ErrorCode::internal, "The FLAC encoder failed on a block.");
    }
    Status drain(std::vector<EncodedSamples>& out) override {
        out_ = &out;
        bool fine = FLAC__stream_encoder_finish(encoder_);
        out_ = nullptr;
        return fine ? Status{} : fail(ErrorCode::internal, "The FLAC encoder failed at the end.");
    }
    Bytes config() const override { return head_; }

  private:
    static constexpr unsigned block = 4096;
    static FLAC__StreamEncoderWriteStatus take(const FLAC__StreamEncoder*, const FLAC__byte data[], size_t bytes,
                                               unsigned samples, unsigned, void* self) {
        auto& e = *static_cast<Encoder*>(self);
        if (samples == 0)
            e.head_.insert(e.head_.end(), data, data + bytes);
        else if (e.out_)
            e.out_->push_back({Bytes(data, data + bytes), samples});
        return FLAC__STREAM_ENCODER_WRITE_STATUS_OK;
    }
    FLAC__StreamEncoder* encoder_ = nullptr;
    Bytes head_;
    std::vector<FLAC__int32> whole_;
    std::vector<EncodedSamples>* out_ = nullptr;
    int bits_ = 16;
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
                                    .encodes = {Codec::flac},
                                    .audio_decoder = &Decoder::make,
                                    .audio_encoder = &Encoder::make};
    return &module;
}
