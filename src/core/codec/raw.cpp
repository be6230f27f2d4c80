// SPDX-License-Identifier: Apache-2.0
// Pictures as a camera gives them: YUYV, scaled where another size is wanted.
#include <libyuv.h>

#include "codec/codec.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        ByteReader r(track.config);
        auto d = std::make_unique<Decoder>();
        d->from_width_ = r.u16(), d->from_height_ = r.u16(), d->width_ = r.u16(), d->height_ = r.u16();
        if (r.overrun() || d->from_width_ < 2 || d->from_height_ < 2 || d->width_ < 2 || d->height_ < 2 ||
            d->from_width_ % 2)
            return fail(ErrorCode::malformed, "The camera's pictures have a size that can’t be.",
                        "Choose another mode.");
        return d;
    }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        if (data.size() < static_cast<std::size_t>(from_width_) * 2 * static_cast<std::size_t>(from_height_))
            return fail(ErrorCode::malformed, "A picture of the camera is cut short.",
                        "Unplug it and plug it in again.");
        std::array<std::uint8_t*, 3> to{};
        auto p = make_frame(from_width_, from_height_, to);
        libyuv::YUY2ToI420(data.data(), from_width_ * 2, to[0], p.stride[0], to[1], p.stride[1], to[2], p.stride[2],
                           from_width_, from_height_);
        if (width_ != from_width_ || height_ != from_height_) {
            auto s = make_frame(width_, height_, to);
            libyuv::I420Scale(p.plane[0], p.stride[0], p.plane[1], p.stride[1], p.plane[2], p.stride[2], from_width_,
                              from_height_, to[0], s.stride[0], to[1], s.stride[1], to[2], s.stride[2], width_, height_,
                              libyuv::kFilterBox);
            p = std::move(s);
        }
        p.pts = pts;
        out.push_back(std::move(p));
        return {};
    }
    Status drain(std::vector<Frame>&) override { return {}; }
    void reset() override {}

  private:
    int from_width_ = 0, from_height_ = 0, width_ = 0, height_ = 0;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "raw",
                                    .library = "libyuv",
                                    .licence = "BSD-3-Clause",
                                    .package = "libyuv0",
                                    .decodes = {Codec::raw},
                                    .encodes = {},
                                    .video_decoder = &Decoder::make};
    return &module;
}
