// SPDX-License-Identifier: Apache-2.0
// VP8 and VP9 through libvpx.
#include <vpx/vp8cx.h>
#include <vpx/vp8dx.h>
#include <vpx/vpx_decoder.h>
#include <vpx/vpx_encoder.h>

#include <algorithm>
#include <cstring>
#include <fstream>

#include "codec/codec.h"
#include "codec/steered_rate.h"
#include "media/codec_headers.h"
#include "media/frame_memory.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        auto d = std::make_unique<Decoder>();
        d->vp9_ = track.codec == Codec::vp9;
        d->wide_ = track.video.width >= 960;
        RUEDO_TRY_DO(d->start());
        return d;
    }
    ~Decoder() override { vpx_codec_destroy(&codec_); }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        if (data.empty()) return {};
        // A header’s word is enough for the library to ask for memory by it.
        vpx_codec_stream_info_t said{};
        said.sz = sizeof said;
        auto* form = vp9_ ? vpx_codec_vp9_dx() : vpx_codec_vp8_dx();
        bool known =
            vpx_codec_peek_stream_info(form, data.data(), static_cast<unsigned>(data.size()), &said) == VPX_CODEC_OK;
        if (known && !frame_fits(said.w, said.h)) return std::unexpected(frame_too_large(said.w, said.h));
        RUEDO_TRY_DO(prepare_for(data));
        if (vpx_codec_decode(&codec_, data.data(), static_cast<unsigned>(data.size()), nullptr, 0) != VPX_CODEC_OK) {
            damaged_ = true;
            return fail(ErrorCode::malformed, "A picture of the track is damaged.", "Export the clip again.");
        }
        vpx_codec_iter_t iter = nullptr;
        vpx_image_t* shown = nullptr;
        while (auto* image = vpx_codec_get_frame(&codec_, &iter)) shown = image;  // a superframe shows one
        if (!shown) return {};
        if (shown->fmt == VPX_IMG_FMT_I42016 || shown->bit_depth > 8)
            return fail(ErrorCode::depth_unsupported, "The VP9 pictures have more than 8 bits, which is not supported.",
                        "Export it again with 8 bits; it can’t be decoded here, so not converted either.");
        if (shown->fmt != VPX_IMG_FMT_I420)
            return fail(ErrorCode::chroma_unsupported,
                        "The VP9 pictures have other than 4:2:0 chroma, which is not supported.",
                        "Export it again with 4:2:0 chroma; it can’t be decoded here, so not converted either.");
        if (pts < from_) return {};
        Frame p;
        if (shown->fb_priv) {
            // The decoder's own frame, kept as long as the picture is.
            p.width = static_cast<int>(shown->d_w), p.height = static_cast<int>(shown->d_h);
            for (std::size_t i = 0; i < 3; ++i) p.plane[i] = shown->planes[i], p.stride[i] = shown->stride[i];
            p.owner = static_cast<Buffer*>(shown->fb_priv)->memory;
        } else {
            p = copy_frame(static_cast<int>(shown->d_w), static_cast<int>(shown->d_h),
                           {shown->planes[0], shown->planes[1], shown->planes[2]},
                           {shown->stride[0], shown->stride[1], shown->stride[2]});
        }
        p.pts = pts;
        if (vp9_) {
            switch (shown->cs) {
                case VPX_CS_BT_601:
                case VPX_CS_SMPTE_170:
                    p.colour.matrix = Colour::Matrix::bt601;
                    break;
                case VPX_CS_BT_709:
                    p.colour.matrix = Colour::Matrix::bt709;
                    break;
                case VPX_CS_BT_2020:
                    p.colour.matrix = Colour::Matrix::bt2020;
                    break;
                default:
                    break;
            }
            p.colour.range = shown->range == VPX_CR_FULL_RANGE ? Colour::Range::full : Colour::Range::limited;
        } else {
            p.colour = *Colour::always(Codec::vp8);
        }
        out.push_back(std::move(p));
        return {};
    }
    Status drain(std::vector<Frame>&) override { return {}; }
    void reset() override { jumped_ = true; }

  private:
    /// What comes first, or first after a jump. A keyframe of VP9 leaves nothing of what was before it, so that its
    /// decoder goes on, with the memory it has.
    Status prepare_for(ByteView data) {
        if (begun_ && !jumped_) return {};
        auto key = vp9_ ? parse_vp9_keyframe(data) : std::nullopt;
        if (begun_ && (!key || damaged_)) {
            vpx_codec_destroy(&codec_);
            RUEDO_TRY_DO(start());
        }
        jumped_ = false;
        if (begun_) return {};
        begun_ = true;
        // Rows beside each other need memory for all coefficients of a picture, which takes longer to come by than
        // decoding a keyframe does: only where there are no columns of tiles to decode beside each other.
        if (vp9_ && wide_) vpx_codec_control(&codec_, VP9D_SET_ROW_MT, !key || key->tile_columns < 2);
        return {};
    }
    Status start() {
        vpx_codec_dec_cfg_t cfg{};
        cfg.threads = wide_ ? 2 : 1;
        if (vpx_codec_dec_init(&codec_, vp9_ ? vpx_codec_vp9_dx() : vpx_codec_vp8_dx(), &cfg, 0) != VPX_CODEC_OK)
            return fail(ErrorCode::internal, "The decoder could not be started.");
        begun_ = damaged_ = false;
        if (vp9_) vpx_codec_set_frame_buffer_functions(&codec_, take_frame, give_frame, this);
        return {};
    }
    struct Buffer {
        std::shared_ptr<std::uint8_t> memory;
        std::size_t size = 0;
    };
    /// Frames of VP9 live in memory of ours, shared by the decoder and by pictures; those that nobody else holds
    /// are used again.
    static int take_frame(void* self, std::size_t size, vpx_codec_frame_buffer_t* frame) {
        if (size > static_cast<std::size_t>(2 * most_frame_pixels)) return -1;
        auto& pool = static_cast<Decoder*>(self)->pool_;
        auto it = std::find_if(pool.begin(), pool.end(),
                               [&](auto& f) { return f.memory.use_count() == 1 && f.size >= size; });
        if (it == pool.end()) {
            std::erase_if(pool, [&](auto& f) { return f.memory.use_count() == 1 && f.size < size; });
            // The library asks for memory that was zero once.
            it = pool.insert(pool.end(), {frame_memory(size), size});
        }
        frame->data = it->memory.get();
        frame->size = it->size;
        frame->priv = new Buffer(*it);
        return 0;
    }
    static int give_frame(void*, vpx_codec_frame_buffer_t* frame) {
        delete static_cast<Buffer*>(frame->priv);
        frame->priv = nullptr;
        return 0;
    }
    std::vector<Buffer> pool_;
    vpx_codec_ctx_t codec_{};
    bool vp9_ = true, wide_ = false;
    bool begun_ = false, jumped_ = false, damaged_ = false;
};

class Encoder final : public VideoEncoder {
  public:
    static Result<std::unique_ptr<VideoEncoder>> make(Codec codec, const VideoEncodeOptions& o) {
        auto e = std::make_unique<Encoder>();
        auto* face = codec == Codec::vp9 ? vpx_codec_vp9_cx() : vpx_codec_vp8_cx();
        vpx_codec_enc_cfg_t cfg{};
        if (vpx_codec_enc_config_default(face, &cfg, 0) != VPX_CODEC_OK)
            return fail(ErrorCode::internal, "The encoder could not be started.");
        cfg.g_w = static_cast<unsigned>(o.width), cfg.g_h = static_cast<unsigned>(o.height);
        cfg.g_timebase = {1, 1'000'000};
        cfg.rc_target_bitrate = o.bitrate / 1000;
        // Two threads of VP8 wait for each other row by row, and lose more than they gain beside one that decodes.
        cfg.g_threads = codec == Codec::vp9 ? 2 : 1;
        cfg.g_lag_in_frames = 0;  // one packet per picture, in order
        cfg.kf_max_dist = cfg.kf_min_dist = static_cast<unsigned>(o.keyframe_every);
        cfg.kf_mode = VPX_KF_DISABLED;  // placed by hand, exactly
        cfg.rc_end_usage = o.control == VideoEncodeOptions::Control::quality ? VPX_Q : VPX_VBR;
        // VP8 has no constant quality but by holding its quantizer.
        if (o.control == VideoEncodeOptions::Control::quality && codec == Codec::vp8) {
            cfg.rc_end_usage = VPX_VBR;
            cfg.rc_target_bitrate = 100'000;
            cfg.rc_min_quantizer = cfg.rc_max_quantizer = static_cast<unsigned>(std::clamp(o.quality, 0, 63));
        }
        cfg.g_pass = o.pass == 1 ? VPX_RC_FIRST_PASS : o.pass == 2 ? VPX_RC_LAST_PASS : VPX_RC_ONE_PASS;
        if (o.pass && o.stats.empty())
            return fail(ErrorCode::internal, "Encoding in two passes needs a place between them.");
        if (o.pass == 2) {
            std::ifstream file(o.stats, std::ios::binary);
            e->statistics_.assign(std::istreambuf_iterator<char>(file), {});
            if (e->statistics_.empty())
                return fail(ErrorCode::internal, "The first of two passes left nothing behind.");
            cfg.rc_twopass_stats_in = {e->statistics_.data(), e->statistics_.size()};
        }
        if (vpx_codec_enc_init(&e->codec_, face, &cfg, 0) != VPX_CODEC_OK)
            return fail(ErrorCode::limit, "The encoder refused these settings.", "Choose another size.");
        static constexpr std::array speeds9{8, 4, 1}, speeds8{10, 4, 1};
        auto effort = static_cast<std::size_t>(std::clamp(o.effort, 0, 2));
        e->deadline_ = effort == 0 && o.pass == 0 ? VPX_DL_REALTIME : VPX_DL_GOOD_QUALITY;
        auto speed = codec == Codec::vp9 ? speeds9[effort] : speeds8[effort];
        // In real time VP8 goes by how long pictures took, unless its speed is below nought: then it is just that.
        if (codec == Codec::vp8 && e->deadline_ == VPX_DL_REALTIME) speed = -speed;
        vpx_codec_control(&e->codec_, VP8E_SET_CPUUSED, speed);
        if (o.control == VideoEncodeOptions::Control::quality && codec == Codec::vp9)
            vpx_codec_control(&e->codec_, VP8E_SET_CQ_LEVEL, static_cast<unsigned>(std::clamp(o.quality, 0, 63)));
        auto colour = o.colour.resolved(o.height);
        if (codec == Codec::vp9) {
            vpx_codec_control(&e->codec_, VP9E_SET_ROW_MT, 1);
            vpx_codec_control(&e->codec_, VP9E_SET_TILE_COLUMNS, 1);
            vpx_codec_control(&e->codec_, VP9E_SET_COLOR_SPACE,
                              colour.matrix == Colour::Matrix::bt601    ? VPX_CS_BT_601
                              : colour.matrix == Colour::Matrix::bt2020 ? VPX_CS_BT_2020
                                                                        : VPX_CS_BT_709);
            vpx_codec_control(&e->codec_, VP9E_SET_COLOR_RANGE, colour.range == Colour::Range::full ? 1 : 0);
        }
        e->options_ = o;
        e->codec_id_ = codec;
        e->settings_ = cfg;
        if (codec == Codec::vp9 && o.control == VideoEncodeOptions::Control::bitrate && o.pass == 0)
            e->steered_.emplace(o.bitrate);
        return e;
    }
    ~Encoder() override { vpx_codec_destroy(&codec_); }
    Status encode(const Frame& picture, std::vector<Encoded>& out) override {
        vpx_image_t image{};
        vpx_img_wrap(&image, VPX_IMG_FMT_I420, static_cast<unsigned>(picture.width),
                     static_cast<unsigned>(picture.height), 1, const_cast<std::uint8_t*>(picture.plane[0]));
        for (std::size_t i = 0; i < 3; ++i)
            image.planes[i] = const_cast<std::uint8_t*>(picture.plane[i]), image.stride[i] = picture.stride[i];
        auto flags = count_++ % options_.keyframe_every == 0 ? VPX_EFLAG_FORCE_KF : 0;
        auto length = static_cast<unsigned long>(1'000'000 * options_.rate.den / options_.rate.num);
        times_.push_back(picture.pts);
        if (vpx_codec_encode(&codec_, &image, picture.pts.ns / 1000, length, flags, deadline_) != VPX_CODEC_OK)
            return fail(ErrorCode::internal, "The encoder failed on a picture.");
        return collect(out);
    }
    Status drain(std::vector<Encoded>& out) override {
        vpx_codec_encode(&codec_, nullptr, 0, 1, 0, deadline_);
        RUEDO_TRY_DO(collect(out));
        if (options_.pass != 1) return {};
        std::ofstream file(options_.stats, std::ios::binary);
        file.write(reinterpret_cast<const char*>(statistics_.data()), static_cast<std::streamsize>(statistics_.size()));
        return file.flush() ? Status{}
                            : fail(ErrorCode::io, "What the first of two passes learned could not be kept.",
                                   "Make room on the disk.");
    }
    Bytes config() const override {
        if (codec_id_ != Codec::vp9) return {};
        double rate = static_cast<double>(options_.rate.num) / static_cast<double>(options_.rate.den);
        auto colour = options_.colour.resolved(options_.height);
        ByteWriter w;  // the payload of a vpcC box: profile, level, depth/chroma/range, colour, no init data
        w.u8(0)
            .u8(vp9_level(options_.width, options_.height, rate))
            .u8(8 << 4 | 1 << 1 | (colour.range == Colour::Range::full ? 1 : 0));
        w.u8(colour.primaries).u8(colour.transfer).u8(colour.matrix_code()).u16(0);
        return w.bytes;
    }

  private:
    Status collect(std::vector<Encoded>& out) {
        vpx_codec_iter_t iter = nullptr;
        while (auto* packet = vpx_codec_get_cx_data(&codec_, &iter)) {
            if (packet->kind == VPX_CODEC_STATS_PKT) {
                auto& stats = packet->data.twopass_stats;
                auto* from = static_cast<const std::uint8_t*>(stats.buf);
                statistics_.insert(statistics_.end(), from, from + stats.sz);
            }
            if (packet->kind != VPX_CODEC_CX_FRAME_PKT || times_.empty()) continue;
            Encoded e;
            auto* from = static_cast<const std::uint8_t*>(packet->data.frame.buf);
            e.data.assign(from, from + packet->data.frame.sz);
            e.pts = e.dts = times_.front();
            times_.erase(times_.begin());
            e.keyframe = (packet->data.frame.flags & VPX_FRAME_IS_KEY) != 0;
            if (steered_)
                steered_->add(e.data.size(),
                              static_cast<double>(options_.rate.den) / static_cast<double>(options_.rate.num));
            out.push_back(std::move(e));
        }
        if (steered_ && steered_->changed()) {
            settings_.rc_target_bitrate = static_cast<unsigned>(steered_->next() / 1000);
            vpx_codec_enc_config_set(&codec_, &settings_);
        }
        return {};
    }
    vpx_codec_ctx_t codec_{};
    VideoEncodeOptions options_;
    Codec codec_id_ = Codec::vp9;
    vpx_codec_enc_cfg_t settings_{};
    std::optional<SteeredRate> steered_;
    std::int64_t count_ = 0;
    std::vector<Time> times_;
    Bytes statistics_;  ///< Of the first of two passes.
    unsigned long deadline_ = VPX_DL_REALTIME;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "vpx",
                                    .library = "libvpx",
                                    .licence = "BSD-3-Clause",
                                    .package = "libvpx7",
                                    .decodes = {Codec::vp8, Codec::vp9},
                                    .encodes = {Codec::vp9, Codec::vp8},
                                    .video_decoder = &Decoder::make,
                                    .video_encoder = &Encoder::make};
    return &module;
}
