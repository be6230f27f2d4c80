// SPDX-License-Identifier: Apache-2.0
// H.264 encoding through x264 (High profile, 8-bit 4:2:0).
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <deque>

#include <stdint.h>
#include <x264.h>

#include "codec/codec.h"

namespace ruedo {
namespace {

class Encoder final : public VideoEncoder {
  public:
    static Result<std::unique_ptr<VideoEncoder>> make(Codec, const VideoEncodeOptions& o) {
        if (o.width < 2 || o.height < 2 || o.width > 8192 || o.height > 8192 || o.width % 2 || o.height % 2)
            return fail(ErrorCode::limit, "The H.264 encoder takes even sizes from 2 × 2 to 8192 × 8192.",
                        "Choose another size.");
        // Level 5.2 (ITU-T H.264 table A-1) is the highest that is decoded here, and by most hardware.
        constexpr int most_blocks = 36864, highest_level = 52;
        if ((o.width + 15) / 16 * ((o.height + 15) / 16) > most_blocks)
            return fail(
                ErrorCode::limit,
                fmt::format("H.264 of {} × {} would be of level 6, which is not decoded here.", o.width, o.height),
                "Choose a size up to 4096 × 2304, or another codec.");
        static constexpr std::array presets{"veryfast", "medium", "slow"};
        x264_param_t p;
        if (x264_param_default_preset(&p, presets.at(static_cast<std::size_t>(std::clamp(o.effort, 0, 2))), nullptr))
            return fail(ErrorCode::internal, "The H.264 encoder could not be started.");
        auto e = std::make_unique<Encoder>();
        e->options_ = o;
        // Smaller than a macroblock is padded, and the padding cropped away by the parameter set (7.4.2.1.1).
        e->coded_width_ = std::max(16, o.width), e->coded_height_ = std::max(16, o.height);
        p.i_log_level = X264_LOG_NONE;
        p.i_width = e->coded_width_, p.i_height = e->coded_height_;
        p.crop_rect.i_right = static_cast<unsigned>(e->coded_width_ - o.width);
        p.crop_rect.i_bottom = static_cast<unsigned>(e->coded_height_ - o.height);
        p.i_csp = X264_CSP_I420;
        // Pictures it looks ahead at are kept; of large ones a second's worth or so.
        if (o.width * o.height > 1280 * 720) p.rc.i_lookahead = std::min(p.rc.i_lookahead, 20);
        p.i_threads = 2;
        // The library's functions for the widest registers read beyond a row whose macroblocks are no multiple of
        // eight, whatever lies there, and the same clip became another file on every run.
        if ((e->coded_width_ + 15) / 16 % 8 != 0) p.cpu &= ~static_cast<std::uint32_t>(X264_CPU_AVX512);
        p.i_fps_num = static_cast<unsigned>(o.rate.num), p.i_fps_den = static_cast<unsigned>(o.rate.den);
        // Pictures are counted; their own times are put back afterwards, to the nanosecond.
        p.b_vfr_input = 0;
        p.i_keyint_max = p.i_keyint_min = std::max(1, o.keyframe_every);
        p.i_scenecut_threshold = 0;
        p.b_open_gop = 0;
        p.i_bframe = std::clamp(o.b_frames, 0, 16);
        p.i_bframe_pyramid = p.i_bframe > 1 ? p.i_bframe_pyramid : X264_B_PYRAMID_NONE;
        p.b_annexb = 0;
        p.b_repeat_headers = 0;
        if (o.control == VideoEncodeOptions::Control::quality) {
            p.rc.i_rc_method = X264_RC_CRF;
            // At nought it would lose nothing, which no profile here can.
            p.rc.f_rf_constant = static_cast<float>(std::clamp(o.quality, 1, 51));
        } else {
            p.rc.i_rc_method = X264_RC_ABR;
            p.rc.i_bitrate = static_cast<int>(std::max(1U, o.bitrate / 1000));
            p.rc.f_rate_tolerance = 0.2F;  // at the usual 1 ten seconds miss by up to 14 %
        }
        e->stats_ = o.stats.string();
        if (o.pass) {
            if (e->stats_.empty())
                return fail(ErrorCode::internal, "Encoding in two passes needs a place between them.");
            p.rc.b_stat_write = o.pass == 1, p.rc.b_stat_read = o.pass == 2;
            p.rc.psz_stat_out = p.rc.psz_stat_in = e->stats_.data();
        }
        if (o.level) hold(p, o);
        // What goes by a buffer looks at what the picture beside it has taken so far, which is another amount on every
        // run: then the threads share a picture instead.
        p.b_sliced_threads = p.rc.i_vbv_buffer_size > 0;
        if (o.pixel_aspect.stated())
            p.vui.i_sar_width = static_cast<int>(o.pixel_aspect.num),
            p.vui.i_sar_height = static_cast<int>(o.pixel_aspect.den);
        auto colour = o.colour.resolved(o.height);
        p.vui.b_fullrange = colour.range == Colour::Range::full;
        p.vui.i_colmatrix = static_cast<int>(colour.matrix_code());
        p.vui.i_colorprim = colour.primaries, p.vui.i_transfer = colour.transfer;
        if (o.pass == 1 && o.effort > 0) x264_param_apply_fastfirstpass(&p);
        if (x264_param_apply_profile(&p, o.profile.empty() ? "high" : o.profile.c_str()))
            return fail(ErrorCode::refused, "The H.264 encoder has no such profile.",
                        "It has baseline, main and high.");
        e->encoder_ = x264_encoder_open(&p);
        if (!e->encoder_)
            return fail(ErrorCode::limit, "The H.264 encoder refused these settings.", "Choose another size or rate.");
        x264_param_t chosen;
        x264_encoder_parameters(e->encoder_, &chosen);
        if (chosen.i_level_idc > highest_level) {
            // Its rate asks for more; stated is what it is decoded as all the same.
            x264_encoder_close(std::exchange(e->encoder_, nullptr));
            p.i_level_idc = highest_level;
            e->encoder_ = x264_encoder_open(&p);
            if (!e->encoder_)
                return fail(ErrorCode::limit, "The H.264 encoder refused these settings.",
                            "Choose another size or rate.");
        }
        x264_nal_t* nals = nullptr;
        int count = 0;
        if (x264_encoder_headers(e->encoder_, &nals, &count) < 0)
            return fail(ErrorCode::internal, "The H.264 encoder gave no headers.");
        for (int i = 0; i < count; ++i) {
            ByteView nal(nals[i].p_payload + 4, static_cast<std::size_t>(nals[i].i_payload) - 4);
            if (nals[i].i_type == NAL_SPS) e->sps_.assign(nal.begin(), nal.end());
            if (nals[i].i_type == NAL_PPS) e->pps_.assign(nal.begin(), nal.end());
        }
        return e;
    }
    ~Encoder() override {
        if (encoder_) x264_encoder_close(encoder_);
    }

    Status encode(const Frame& picture, std::vector<Encoded>& out) override {
        Frame padded;
        auto* from = &picture;
        if (coded_width_ != options_.width || coded_height_ != options_.height) {
            padded = pad(picture);
            from = &padded;
        }
        x264_picture_t in;
        x264_picture_init(&in);
        in.img.i_csp = X264_CSP_I420;
        in.img.i_plane = 3;
        for (std::size_t i = 0; i < 3; ++i) {
            in.img.plane[i] = const_cast<std::uint8_t*>(from->plane[i]);
            in.img.i_stride[i] = from->stride[i];
        }
        in.i_pts = static_cast<std::int64_t>(times_.size() + forgotten_);
        times_.push_back(picture.pts);
        return give(&in, out);
    }
    Status drain(std::vector<Encoded>& out) override {
        while (x264_encoder_delayed_frames(encoder_) > 0) RUEDO_TRY_DO(give(nullptr, out));
        return {};
    }
    /// An AVCDecoderConfigurationRecord (ISO/IEC 14496-15 clause 5.3.3.1), complete from the start.
    Bytes config() const override {
        ByteWriter w;
        w.u8(1).u8(sps_[1]).u8(sps_[2]).u8(sps_[3]).u8(0xFF).u8(0xE1);
        w.u16(sps_.size()).raw(sps_).u8(1).u16(pps_.size()).raw(pps_);
        if (sps_[1] == 100) w.u8(0xFD).u8(0xF8).u8(0xF8).u8(0);
        return w.bytes;
    }

  private:
    /// Within a level: its rate, its buffer, and the pictures that others may refer to (Table A-1).
    static void hold(x264_param_t& p, const VideoEncodeOptions& o) {
        auto* level = x264_levels;
        for (auto* next = level; next->level_idc; ++next)
            if (next->level_idc <= static_cast<int>(o.level) && next->level_idc > level->level_idc) level = next;
        p.i_level_idc = level->level_idc;
        auto blocks = (p.i_width + 15) / 16 * ((p.i_height + 15) / 16);
        p.i_frame_reference = std::clamp(p.i_frame_reference, 1, std::max(1, level->dpb / blocks));
        p.rc.i_vbv_max_bitrate = level->bitrate, p.rc.i_vbv_buffer_size = level->cpb;
        if (p.rc.i_rc_method == X264_RC_ABR) p.rc.i_bitrate = std::min(p.rc.i_bitrate, level->bitrate);
    }
    Status give(x264_picture_t* in, std::vector<Encoded>& out) {
        x264_nal_t* nals = nullptr;
        int count = 0;
        x264_picture_t made;
        auto size = x264_encoder_encode(encoder_, &nals, &count, in, &made);
        if (size < 0) return fail(ErrorCode::internal, "The H.264 encoder failed on a picture.");
        if (size == 0) return {};
        Encoded e;
        for (int i = 0; i < count; ++i)
            if (nals[i].i_type != NAL_SEI)  // which would only tell the encoder's settings
                e.data.insert(e.data.end(), nals[i].p_payload, nals[i].p_payload + nals[i].i_payload);
        e.pts = time_of(made.i_pts);
        e.dts = time_of(made.i_dts);
        e.keyframe = made.b_keyframe;
        out.push_back(std::move(e));
        // What lies far behind is not asked for any more.
        while (times_.size() > 512) times_.pop_front(), ++forgotten_;
        return {};
    }
    /// Of picture number `n`; before the first one, as far ahead of it as pictures are apart.
    Time time_of(std::int64_t n) const {
        if (n < 0)
            return first() + ticks_to_time(n * options_.rate.den, 1, static_cast<std::uint64_t>(options_.rate.num));
        auto at = static_cast<std::size_t>(n) - forgotten_;
        return times_.at(std::min(at, times_.size() - 1));
    }
    Time first() const { return times_.front(); }

    Frame pad(const Frame& p) const {
        std::array<std::uint8_t*, 3> planes{};
        auto out = make_frame(coded_width_, coded_height_, planes);
        for (std::size_t i = 0; i < 3; ++i) {
            int w = i ? (p.width + 1) / 2 : p.width, h = i ? (p.height + 1) / 2 : p.height;
            int to_w = i ? coded_width_ / 2 : coded_width_, to_h = i ? coded_height_ / 2 : coded_height_;
            for (std::ptrdiff_t y = 0; y < to_h; ++y) {
                auto* row = p.plane[i] + std::min<std::ptrdiff_t>(y, h - 1) * p.stride[i];
                auto* to = planes[i] + y * out.stride[i];
                std::memcpy(to, row, static_cast<std::size_t>(w));
                std::memset(to + w, row[w - 1], static_cast<std::size_t>(to_w - w));
            }
        }
        return out;
    }

    x264_t* encoder_ = nullptr;
    VideoEncodeOptions options_;
    std::string stats_;
    int coded_width_ = 0, coded_height_ = 0;
    Bytes sps_, pps_;
    std::deque<Time> times_;
    std::size_t forgotten_ = 0;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "x264",
                                    .library = "x264",
                                    .licence = "GPL-2.0-or-later",
                                    .package = "libx264-164",
                                    .encodes = {Codec::h264},
                                    .video_encoder = &Encoder::make};
    return &module;
}
