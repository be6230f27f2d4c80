// SPDX-License-Identifier: Apache-2.0
// AV1 decoding through dav1d.
#include <dav1d/dav1d.h>

#include <cerrno>

#include "codec/codec.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track&) {
        auto d = std::make_unique<Decoder>();
        Dav1dSettings s;
        dav1d_default_settings(&s);
        s.n_threads = 2;
        s.max_frame_delay = 1;  // a picture for every packet: exact seeks decode nothing in vain
        s.logger.callback = nullptr;
        s.frame_size_limit = static_cast<unsigned>(most_frame_pixels);
        if (dav1d_open(&d->context_, &s) != 0)
            return fail(ErrorCode::internal, "The AV1 decoder could not be started.");
        return d;
    }
    ~Decoder() override { dav1d_close(&context_); }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        if (data.empty()) return {};
        Dav1dData d{};
        auto* to = dav1d_data_create(&d, data.size());
        if (!to) return fail(ErrorCode::limit, "There is no memory for an AV1 packet.");
        std::memcpy(to, data.data(), data.size());
        d.m.timestamp = pts.ns;
        bool damaged = false;
        for (int i = 0; i < 64 && d.sz > 0; ++i) {
            int sent = dav1d_send_data(context_, &d);
            if (sent < 0 && sent != -EAGAIN) {
                damaged = true;
                break;
            }
            RUEDO_TRY_DO(collect(out));
        }
        if (d.sz > 0) dav1d_data_unref(&d);
        RUEDO_TRY_DO(collect(out));
        if (damaged)
            return fail(ErrorCode::malformed, "A picture of the AV1 track is damaged.", "Export the clip again.");
        return {};
    }
    Status drain(std::vector<Frame>& out) override { return collect(out); }
    void reset() override { dav1d_flush(context_); }

  private:
    Status collect(std::vector<Frame>& out) {
        for (;;) {
            auto held = std::shared_ptr<Dav1dPicture>(new Dav1dPicture{}, [](Dav1dPicture* p) {
                dav1d_picture_unref(p);
                delete p;
            });
            if (dav1d_get_picture(context_, held.get()) != 0) return {};
            if (held->p.bpc != 8)
                return fail(ErrorCode::depth_unsupported,
                            "The AV1 pictures have more than 8 bits, which is not supported.",
                            "Export it again with 8 bits; it can’t be decoded here, so not converted either.");
            if (held->p.layout != DAV1D_PIXEL_LAYOUT_I420)
                return fail(ErrorCode::chroma_unsupported,
                            "The AV1 pictures have other than 4:2:0 chroma, which is not supported.",
                            "Export it again with 4:2:0 chroma; it can’t be decoded here, so not converted either.");
            Frame p;
            p.width = held->p.w, p.height = held->p.h;
            for (std::size_t i = 0; i < 3; ++i) {
                p.plane[i] = static_cast<const std::uint8_t*>(held->data[i]);
                p.stride[i] = static_cast<int>(held->stride[i == 0 ? 0 : 1]);
            }
            p.pts = {held->m.timestamp};
            if (auto* h = held->seq_hdr) {
                p.colour.matrix = Colour::matrix_from_code(static_cast<unsigned>(h->mtrx));
                p.colour.range = h->color_range ? Colour::Range::full : Colour::Range::limited;
                p.colour.primaries = static_cast<std::uint8_t>(h->pri);
                p.colour.transfer = static_cast<std::uint8_t>(h->trc);
            }
            p.owner = std::move(held);
            out.push_back(std::move(p));
        }
    }
    Dav1dContext* context_ = nullptr;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "av1",
                                    .library = "dav1d",
                                    .licence = "BSD-2-Clause",
                                    .package = "libdav1d6",
                                    .decodes = {Codec::av1},
                                    .encodes = {},
                                    .video_decoder = &Decoder::make};
    return &module;
}
