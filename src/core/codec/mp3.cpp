// SPDX-License-Identifier: Apache-2.0
// MPEG audio layers II and III decoding through libmpg123, one frame in, that frame's samples out.
#include <mpg123.h>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public AudioDecoder {
  public:
    static Result<std::unique_ptr<AudioDecoder>> make(const Track&) {
        static const bool ready = mpg123_init() == MPG123_OK;
        auto d = std::make_unique<Decoder>();
        int error = 0;
        if (!ready || !(d->handle_ = mpg123_new(nullptr, &error)))
            return fail(ErrorCode::internal, "The MPEG sound decoder could not be started.");
        // The container knows the encoder's delay; here every frame gives all its samples.
        mpg123_param(d->handle_, MPG123_REMOVE_FLAGS, MPG123_GAPLESS, 0);
        mpg123_param(d->handle_, MPG123_ADD_FLAGS,
                     MPG123_QUIET | MPG123_FORCE_FLOAT | MPG123_IGNORE_INFOFRAME | MPG123_NO_READAHEAD, 0);
        mpg123_param(d->handle_, MPG123_RESYNC_LIMIT, 0, 0);
        d->reset();
        return d;
    }
    ~Decoder() override { mpg123_delete(handle_); }
    Status decode(ByteView data, AudioBlock& out) override {
        out.samples.clear();
        auto head = parse_mp3_frame(data);
        auto broken = [&] {
            reset();
            return fail(ErrorCode::malformed, "A packet of the MPEG sound track is damaged.", "Export the clip again.");
        };
        if (!head || head->size > data.size()) return broken();
        out.rate = head->rate, out.channels = head->channels;
        if (mpg123_feed(handle_, data.data(), head->size) != MPG123_OK) return broken();
        for (int i = 0; i < 8; ++i) {
            unsigned char* samples = nullptr;
            std::size_t bytes = 0;
            auto result = mpg123_decode_frame(handle_, nullptr, &samples, &bytes);
            if (bytes > 0) {
                auto* values = reinterpret_cast<const float*>(samples);
                out.samples.insert(out.samples.end(), values, values + bytes / sizeof(float));
            }
            if (result == MPG123_NEED_MORE) break;
            if (result != MPG123_OK && result != MPG123_NEW_FORMAT) return broken();
        }
        // What a frame lacks of the bytes before it (after a seek) is silence, so that time stays right.
        out.samples.resize(static_cast<std::size_t>(head->samples) * static_cast<std::size_t>(head->channels));
        return {};
    }
    void reset() override { mpg123_open_feed(handle_); }

  private:
    mpg123_handle* handle_ = nullptr;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "mp3",
                                    .library = "libmpg123",
                                    .licence = "LGPL-2.1-only",
                                    .package = "libmpg123-0",
                                    .decodes = {Codec::mp3, Codec::mp2},
                                    .encodes = {},
                                    .audio_decoder = &Decoder::make};
    return &module;
}
