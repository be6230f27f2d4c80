// SPDX-License-Identifier: Apache-2.0
// HEVC decoding (8-bit 4:2:0) through libde265.
#include <libde265/de265.h>

#include <algorithm>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        auto config = parse_hvcc(track.config);
        if (!config)
            return fail(ErrorCode::malformed, "The HEVC track has no readable parameter sets.",
                        "Export the clip again.");
        auto d = std::make_unique<Decoder>();
        d->config_ = std::move(*config);
        if (d->config_.sps) d->colour_ = d->config_.sps->colour, d->reorder_ = d->config_.sps->reorder;
        if (!(d->context_ = de265_new_decoder()))
            return fail(ErrorCode::internal, "The HEVC decoder could not be started.");
        de265_start_worker_threads(d->context_, 2);
        return d;
    }
    ~Decoder() override {
        if (context_) de265_free_decoder(context_);
    }
    Status decode(ByteView data, Time pts, bool keyframe, std::vector<Frame>& out) override {
        bool damaged = false;
        if (keyframe) release(0, out);  // nothing before it is shown after it
        auto push = [&](ByteView nal) {
            damaged |= de265_push_NAL(context_, nal.data(), static_cast<int>(nal.size()), pts.ns, nullptr) != DE265_OK;
        };
        if (!std::exchange(started_, true))
            for (auto nal : split_annex_b(config_.parameter_sets)) push(nal);
        ByteReader r(data);
        while (r.left() > 0) {
            auto nal = r.take(r.be(config_.length_size));
            if (r.overrun())
                return fail(ErrorCode::malformed, "An HEVC packet's lengths do not fit its size.",
                            "The file is damaged; export it again.");
            if (nal.size() > 2) push(nal);
        }
        // The library then gives every picture as soon as it is decoded, in decoding order; the order of showing
        // is made here, so that an exact seek waits for no more pictures than the stream's own reordering asks.
        de265_push_end_of_frame(context_);
        RUEDO_TRY_DO(run(damaged));
        release(reorder_, out);
        if (damaged)
            return fail(ErrorCode::malformed, "A picture of the HEVC track is damaged.", "Export the clip again.");
        return {};
    }
    Status drain(std::vector<Frame>& out) override {
        bool damaged = false;
        de265_flush_data(context_);
        auto ran = run(damaged);
        release(0, out);
        return ran;
    }
    void reset() override {
        held_.clear();
        de265_reset(context_);
        started_ = false;
    }

  private:
    Status run(bool& damaged) {
        for (int more = 1, turns = 0; more && turns < 1000; ++turns) {
            more = 0;
            auto result = de265_decode(context_, &more);
            if (result == DE265_ERROR_WAITING_FOR_INPUT_DATA) break;
            if (result == DE265_ERROR_IMAGE_BUFFER_FULL)
                more = 1;
            else if (result != DE265_OK)
                damaged = true;
            RUEDO_TRY_DO(collect());
        }
        return collect();
    }
    Status collect() {
        while (auto* image = de265_get_next_picture(context_)) {
            if (de265_get_bits_per_pixel(image, 0) != 8)
                return fail(ErrorCode::depth_unsupported,
                            "The HEVC pictures have more than 8 bits, which is not supported.",
                            "Export it again with 8 bits; it can’t be decoded here, so not converted either.");
            if (de265_get_chroma_format(image) != de265_chroma_420)
                return fail(ErrorCode::chroma_unsupported,
                            "The HEVC pictures have other than 4:2:0 chroma, which is not supported.",
                            "Export it again with 4:2:0 chroma; it can’t be decoded here, so not converted either.");
            Time pts{de265_get_image_PTS(image)};
            std::array<const std::uint8_t*, 3> planes{};
            std::array<int, 3> strides{};
            for (int i = 0; i < 3; ++i)
                planes[static_cast<std::size_t>(i)] =
                    de265_get_image_plane(image, i, &strides[static_cast<std::size_t>(i)]);
            auto p = copy_frame(de265_get_image_width(image, 0), de265_get_image_height(image, 0), planes, strides);
            p.pts = pts;
            p.colour = colour_;
            held_.push_back(std::move(p));
        }
        return {};
    }
    void release(std::size_t keep, std::vector<Frame>& out) {
        while (held_.size() > keep) {
            auto first = std::min_element(held_.begin(), held_.end(), [](auto& a, auto& b) { return a.pts < b.pts; });
            if (first->pts >= from_) out.push_back(std::move(*first));
            held_.erase(first);
        }
    }
    de265_decoder_context* context_ = nullptr;
    HevcConfig config_;
    Colour colour_;
    std::size_t reorder_ = 0;
    std::vector<Frame> held_;
    bool started_ = false;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "hevc",
                                    .library = "libde265",
                                    .licence = "LGPL-3.0-or-later",
                                    .package = "libde265-0",
                                    .decodes = {Codec::hevc},
                                    .encodes = {},
                                    .video_decoder = &Decoder::make};
    return &module;
}
