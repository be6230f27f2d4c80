// SPDX-License-Identifier: Apache-2.0
// Motion JPEG through libjpeg-turbo.
#include <libyuv.h>
#include <turbojpeg.h>

#include <algorithm>

#include "codec/codec.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track&) {
        auto d = std::make_unique<Decoder>();
        if (!(d->handle_ = tjInitDecompress()))
            return fail(ErrorCode::internal, "The JPEG decoder could not be started.");
        return d;
    }
    ~Decoder() override {
        if (handle_) tjDestroy(handle_);
    }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        if (pts < from_) return {};
        auto broken = [] {
            return fail(ErrorCode::malformed, "A picture of the Motion JPEG track is damaged.",
                        "Export the clip again.");
        };
        int width = 0, height = 0, sampling = 0, space = 0;
        if (tjDecompressHeader3(handle_, data.data(), data.size(), &width, &height, &sampling, &space) != 0 ||
            width > 16384 || height > 16384)
            return broken();
        std::array<std::uint8_t*, 3> to{};
        auto p = make_frame(width, height, to);
        bool planar =
            space == TJCS_YCbCr && (sampling == TJSAMP_420 || sampling == TJSAMP_422 || sampling == TJSAMP_444);
        std::array<unsigned char*, 3> planes{};
        std::array<int, 3> strides{};
        if (planar) {
            // The library pads its planes to whole blocks, so they are not the picture's own.
            for (int i = 0; i < 3; ++i) {
                auto n = static_cast<std::size_t>(i);
                strides[n] = tjPlaneWidth(i, width, sampling);
                scratch_[n].resize(static_cast<std::size_t>(strides[n]) *
                                   static_cast<std::size_t>(tjPlaneHeight(i, height, sampling)));
                planes[n] = scratch_[n].data();
            }
            if (tjDecompressToYUVPlanes(handle_, data.data(), data.size(), planes.data(), width, strides.data(), height,
                                        0) != 0 &&
                tjGetErrorCode(handle_) != TJERR_WARNING)
                return broken();
            auto convert = sampling == TJSAMP_420   ? libyuv::I420Copy
                           : sampling == TJSAMP_422 ? libyuv::I422ToI420
                                                    : libyuv::I444ToI420;
            convert(planes[0], strides[0], planes[1], strides[1], planes[2], strides[2], to[0], p.stride[0], to[1],
                    p.stride[1], to[2], p.stride[2], width, height);
        } else {
            scratch_[0].resize(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 4);
            if (tjDecompress2(handle_, data.data(), data.size(), scratch_[0].data(), width, width * 4, height,
                              TJPF_BGRA, 0) != 0 &&
                tjGetErrorCode(handle_) != TJERR_WARNING)
                return broken();
            libyuv::ARGBToJ420(scratch_[0].data(), width * 4, to[0], p.stride[0], to[1], p.stride[1], to[2],
                               p.stride[2], width, height);
        }
        p.pts = pts;
        p.colour = *Colour::always(Codec::mjpeg);
        out.push_back(std::move(p));
        return {};
    }
    Status drain(std::vector<Frame>&) override { return {}; }
    void reset() override {}

  private:
    tjhandle handle_ = nullptr;
    std::array<Bytes, 3> scratch_;
};

/// Each picture for itself, 4:2:0. What the numbers mean is fixed (JFIF): pictures come in full range and the matrix of
/// ITU-R BT.601, or are taken to.
class Encoder final : public VideoEncoder {
  public:
    static Result<std::unique_ptr<VideoEncoder>> make(Codec, const VideoEncodeOptions& o) {
        if (o.width < 1 || o.height < 1 || o.width > 16384 || o.height > 16384)
            return fail(ErrorCode::limit, "The JPEG encoder takes sizes up to 16384 × 16384.", "Choose a smaller one.");
        auto e = std::make_unique<Encoder>();
        if (!(e->handle_ = tjInitCompress()))
            return fail(ErrorCode::internal, "The JPEG encoder could not be started.");
        e->options_ = o;
        return e;
    }
    ~Encoder() override {
        if (handle_) tjDestroy(handle_);
    }
    Status encode(const Frame& picture, std::vector<Encoded>& out) override {
        std::array<const unsigned char*, 3> planes{picture.plane[0], picture.plane[1], picture.plane[2]};
        std::array<int, 3> strides = picture.stride;
        unsigned char* made = nullptr;
        unsigned long size = 0;
        auto quality =
            options_.control == VideoEncodeOptions::Control::quality ? std::clamp(options_.quality, 1, 100) : 85;
        bool fine = tjCompressFromYUVPlanes(handle_, planes.data(), picture.width, strides.data(), picture.height,
                                            TJSAMP_420, &made, &size, quality, 0) == 0;
        Encoded e;
        if (fine) e.data.assign(made, made + size);
        tjFree(made);
        if (!fine) return fail(ErrorCode::internal, "The JPEG encoder failed on a picture.");
        e.pts = e.dts = picture.pts;
        out.push_back(std::move(e));
        return {};
    }
    Status drain(std::vector<Encoded>&) override { return {}; }
    Bytes config() const override { return {}; }

  private:
    tjhandle handle_ = nullptr;
    VideoEncodeOptions options_;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "jpeg",
                                    .library = "libjpeg-turbo",
                                    .licence = "BSD-3-Clause AND IJG",
                                    .package = "libturbojpeg0",
                                    .decodes = {Codec::mjpeg},
                                    .encodes = {Codec::mjpeg},
                                    .video_decoder = &Decoder::make,
                                    .video_encoder = &Encoder::make};
    return &module;
}
