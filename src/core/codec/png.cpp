// SPDX-License-Identifier: Apache-2.0
// Pictures that are PNG each, as QuickTime and AVI may hold them, through libpng. What is transparent is black.
#include <libyuv.h>
#include <png.h>

#include "codec/codec.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track&) { return std::make_unique<Decoder>(); }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        if (pts < from_) return {};
        png_image image{};
        image.version = PNG_IMAGE_VERSION;
        bool fine = png_image_begin_read_from_memory(&image, data.data(), data.size()) != 0;
        if (fine && image.width <= 16384 && image.height <= 16384) {
            pixels_.resize(std::size_t{image.width} * image.height * 4);
            const png_color black{};
            image.format = PNG_FORMAT_BGR;
            rgb_.resize(PNG_IMAGE_SIZE(image));
            fine = png_image_finish_read(&image, &black, rgb_.data(), 0, nullptr) != 0;
        } else {
            fine = false;
        }
        png_image_free(&image);
        if (!fine)
            return fail(ErrorCode::malformed, "A PNG picture of the track is damaged.", "Export the clip again.");
        auto width = static_cast<int>(image.width), height = static_cast<int>(image.height);
        std::array<std::uint8_t*, 3> to{};
        auto p = make_frame(width, height, to);
        libyuv::RGB24ToARGB(rgb_.data(), width * 3, pixels_.data(), width * 4, width, height);
        libyuv::ARGBToJ420(pixels_.data(), width * 4, to[0], p.stride[0], to[1], p.stride[1], to[2], p.stride[2], width,
                           height);
        p.pts = pts;
        p.colour = *Colour::always(Codec::png);
        out.push_back(std::move(p));
        return {};
    }
    Status drain(std::vector<Frame>&) override { return {}; }
    void reset() override {}

  private:
    Bytes pixels_, rgb_;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "png",
                                    .library = "libpng",
                                    .licence = "libpng-2.0",
                                    .package = "libpng16-16",
                                    .decodes = {Codec::png},
                                    .encodes = {},
                                    .video_decoder = &Decoder::make};
    return &module;
}
