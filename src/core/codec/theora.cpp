// SPDX-License-Identifier: Apache-2.0
// Theora decoding through libtheora.
#include <theora/theoradec.h>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        auto d = std::make_unique<Decoder>();
        th_comment comment;
        th_comment_init(&comment);
        bool good = true;
        int number = 0;
        for (auto header : split_laced(track.config)) {
            auto packet = as_packet(header);
            packet.b_o_s = number++ == 0;
            good = good && th_decode_headerin(&d->info_, &comment, &d->setup_, &packet) > 0;
        }
        th_comment_clear(&comment);
        if (!good || number != 3)
            return fail(Code::malformed, "The Theora track's headers can’t be followed.", "Export the clip again.");
        d->reset();
        if (!d->context_)
            return fail(Code::malformed, "The Theora track's headers do not fit together.", "Export the clip again.");
        return d;
    }
    Decoder() { th_info_init(&info_); }
    ~Decoder() override {
        if (context_) th_decode_free(context_);
        th_setup_free(setup_);
        th_info_clear(&info_);
    }
    Outcome decode(ByteView data, Time pts, bool, std::vector<Picture>& out) override {
        auto packet = as_packet(data);
        // An empty packet repeats the picture before it.
        auto result = th_decode_packetin(context_, &packet, nullptr);
        if (result != 0 && result != TH_DUPFRAME)
            return fail(Code::malformed, "A picture of the Theora track is damaged.", "Export the clip again.");
        if (pts < from_) return {};
        th_ycbcr_buffer planes;
        if (th_decode_ycbcr_out(context_, planes) != 0) return {};
        std::array<const std::uint8_t*, 3> from{};
        std::array<int, 3> strides{};
        for (std::size_t i = 0; i < 3; ++i) {
            auto x = static_cast<std::ptrdiff_t>(info_.pic_x) / (i ? 2 : 1),
                 y = static_cast<std::ptrdiff_t>(info_.pic_y) / (i ? 2 : 1);
            strides[i] = planes[i].stride;
            from[i] = planes[i].data + y * strides[i] + x;
        }
        auto p = copy_picture(static_cast<int>(info_.pic_width), static_cast<int>(info_.pic_height), from, strides);
        p.pts = pts;
        p.colour = {Colour::Matrix::bt601, Colour::Range::limited, 2, 2};
        out.push_back(std::move(p));
        return {};
    }
    Outcome drain(std::vector<Picture>&) override { return {}; }
    void reset() override {
        if (context_) th_decode_free(context_);
        context_ = th_decode_alloc(&info_, setup_);
    }

  private:
    static ogg_packet as_packet(ByteView data) {
        ogg_packet p{};
        p.packet = const_cast<unsigned char*>(data.data());
        p.bytes = static_cast<long>(data.size());
        p.granulepos = -1;
        return p;
    }
    th_info info_{};
    th_setup_info* setup_ = nullptr;
    th_dec_ctx* context_ = nullptr;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "theora",
                                    .library = "libtheora",
                                    .licence = "BSD-3-Clause",
                                    .package = "libtheora0",
                                    .decodes = {Codec::theora},
                                    .encodes = {},
                                    .video_decoder = &Decoder::make};
    return &module;
}
