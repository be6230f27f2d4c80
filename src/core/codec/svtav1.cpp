// SPDX-License-Identifier: Apache-2.0
// AV1 encoding through SVT-AV1 (Main profile, 8-bit 4:2:0). Every packet is a temporal unit with one shown picture, so
// packets come in the order of presentation.
#include <pthread.h>
#include <unistd.h>
#include <svt-av1/EbSvtAv1Enc.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <deque>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Encoder final : public VideoEncoder {
  public:
    static Result<std::unique_ptr<VideoEncoder>> make(Codec, const VideoEncodeOptions& o) {
        if (o.width < 64 || o.height < 64 || o.width > 8192 || o.height > 4352 || o.width % 2 || o.height % 2)
            return fail(Code::limit, "The AV1 encoder takes even sizes from 64 × 64 to 8192 × 4352.",
                        "Choose another size.");
        if (o.pass) return fail(Code::limit, "The AV1 encoder here works in one pass.", "Ask for one pass.");
        auto e = std::make_unique<Encoder>();
        EbSvtAv1EncConfiguration c{};
        // As root the library schedules its caller in real time as well as its own threads; this puts the caller back.
        struct Scheduled {
            int policy = 0;
            sched_param param{};
            Scheduled() { ::pthread_getschedparam(::pthread_self(), &policy, &param); }
            ~Scheduled() { ::pthread_setschedparam(::pthread_self(), policy, &param); }
        } scheduled;
        if (svt_av1_enc_init_handle(&e->handle_, nullptr, &c) != EB_ErrorNone)
            return fail(Code::internal, "The AV1 encoder could not be started.");
        e->width_ = o.width, e->height_ = o.height;
        c.source_width = static_cast<std::uint32_t>(o.width), c.source_height = static_cast<std::uint32_t>(o.height);
        c.frame_rate_numerator = static_cast<std::uint32_t>(o.rate.num);
        c.frame_rate_denominator = static_cast<std::uint32_t>(o.rate.den);
        static constexpr std::array<std::int8_t, 3> presets{12, 8, 5};
        c.enc_mode = presets.at(static_cast<std::size_t>(std::clamp(o.effort, 0, 2)));
        c.intra_period_length = std::max(1, o.keyframe_every) - 1;
        c.intra_refresh_type = SVT_AV1_KF_REFRESH;
        c.scene_change_detection = 0;
        // What it looks ahead at it keeps, and a good deal more with it; large pictures are kept fewer.
        bool large = o.width * o.height > 1280 * 720;
        c.hierarchical_levels = large ? 3 : 4;
        c.look_ahead_distance = large ? 0 : 16;
        c.enable_tf = !large;
        c.logical_processors = 2;
        if (o.control == VideoEncodeOptions::Control::quality) {
            c.rate_control_mode = SVT_AV1_RC_MODE_CQP_OR_CRF;
            c.qp = static_cast<std::uint32_t>(std::clamp(o.quality, 1, 63));
        } else {
            c.rate_control_mode = SVT_AV1_RC_MODE_VBR;
            c.target_bit_rate = std::max(10'000U, o.bitrate);
        }
        auto colour = o.colour.resolved(o.height);
        c.matrix_coefficients = static_cast<EbMatrixCoefficients>(colour.matrix_code());
        c.color_primaries = static_cast<EbColorPrimaries>(colour.primaries);
        c.transfer_characteristics = static_cast<EbTransferCharacteristics>(colour.transfer);
        c.color_range = colour.range == Colour::Range::full ? EB_CR_FULL_RANGE : EB_CR_STUDIO_RANGE;
        if (svt_av1_enc_set_parameter(e->handle_, &c) != EB_ErrorNone || svt_av1_enc_init(e->handle_) != EB_ErrorNone)
            return fail(Code::limit, "The AV1 encoder refused these settings.", "Choose another size or rate.");
        e->started_ = true;
        EbBufferHeaderType* header = nullptr;
        if (svt_av1_enc_stream_header(e->handle_, &header) == EB_ErrorNone && header) {
            for (auto& u : split_av1({header->p_buffer, header->n_filled_len}))
                if (u.type == Av1Unit::sequence_header) e->configure(u);
            svt_av1_enc_stream_header_release(header);
        }
        if (e->config_.empty()) return fail(Code::internal, "The AV1 encoder gave no header.");
        return e;
    }
    ~Encoder() override {
        if (!handle_) return;
        if (started_) {
            // It waits for its threads, and they for the end of what was begun.
            if (!ended_) send_end();
            std::vector<Encoded> rest;
            if (!drained_) (void)collect(rest, true);
            svt_av1_enc_deinit(handle_);
        }
        svt_av1_enc_deinit_handle(handle_);
    }
    Outcome encode(const Picture& p, std::vector<Encoded>& out) override {
        times_.push_back(p.pts);
        TRY_DO(send(p, forgotten_ + times_.size() - 1));
        return collect(out, false);
    }
    Outcome drain(std::vector<Encoded>& out) override {
        send_end();
        return collect(out, true);
    }
    /// An AV1CodecConfigurationRecord (AV1 in ISOBMFF clause 2.3.3).
    Bytes config() const override { return config_; }

  private:
    Outcome send(const Picture& p, std::size_t number) {
        EbSvtIOFormat planes{};
        planes.luma = const_cast<std::uint8_t*>(p.plane[0]);
        planes.cb = const_cast<std::uint8_t*>(p.plane[1]), planes.cr = const_cast<std::uint8_t*>(p.plane[2]);
        planes.y_stride = static_cast<std::uint32_t>(p.stride[0]);
        planes.cb_stride = static_cast<std::uint32_t>(p.stride[1]);
        planes.cr_stride = static_cast<std::uint32_t>(p.stride[2]);
        planes.width = static_cast<std::uint32_t>(p.width), planes.height = static_cast<std::uint32_t>(p.height);
        planes.color_fmt = EB_YUV420, planes.bit_depth = EB_EIGHT_BIT;
        EbBufferHeaderType in{};
        in.size = sizeof in;
        in.p_buffer = reinterpret_cast<std::uint8_t*>(&planes);
        in.n_filled_len = static_cast<std::uint32_t>(p.width * p.height * 3 / 2);
        in.pic_type = EB_AV1_INVALID_PICTURE;
        in.pts = static_cast<std::int64_t>(number);
        if (svt_av1_enc_send_picture(handle_, &in) != EB_ErrorNone)
            return fail(Code::internal, "The AV1 encoder failed on a picture.");
        return {};
    }
    void configure(const Av1Unit& u) {
        auto s = parse_av1_sequence(u.payload).value_or(Av1Sequence{});
        ByteWriter w;
        w.u8(0x81).u8(s.profile << 5 | s.level).u8(s.tier << 7 | 1 << 3 | 1 << 2).u8(0).raw(u.whole);
        config_ = std::move(w.bytes);
    }
    void send_end() {
        // Without a picture its threads wait for one for ever: they get one, whose time nobody knows, so it goes
        // nowhere.
        if (times_.empty()) {
            std::array<std::uint8_t*, 3> to{};
            (void)send(make_picture(width_, height_, to), 0);
        }
        EbBufferHeaderType end{};
        end.size = sizeof end;
        end.flags = EB_BUFFERFLAG_EOS;
        end.pic_type = EB_AV1_INVALID_PICTURE;
        svt_av1_enc_send_picture(handle_, &end);
        ended_ = true;
    }
    Outcome collect(std::vector<Encoded>& out, bool to_the_end) {
        for (;;) {
            EbBufferHeaderType* packet = nullptr;
            auto got = svt_av1_enc_get_packet(handle_, &packet, to_the_end);
            if (got == EB_NoErrorEmptyQueue || (got == EB_ErrorNone && !packet)) return {};
            if (got != EB_ErrorNone) {
                drained_ = true;
                return fail(Code::internal, "The AV1 encoder failed on a picture.");
            }
            Encoded e;
            // Containers mark where a picture begins, so delimiters are left out.
            for (auto& u : split_av1({packet->p_buffer, packet->n_filled_len}))
                if (u.type != Av1Unit::temporal_delimiter) e.data.insert(e.data.end(), u.whole.begin(), u.whole.end());
            auto number = static_cast<std::size_t>(std::max<std::int64_t>(0, packet->pts));
            e.keyframe = packet->pic_type == EB_AV1_KEY_PICTURE;
            bool last = packet->flags & EB_BUFFERFLAG_EOS;
            svt_av1_enc_release_out_buffer(&packet);
            if (!e.data.empty() && number >= forgotten_ && number - forgotten_ < times_.size()) {
                e.pts = e.dts = times_[number - forgotten_];
                out.push_back(std::move(e));
            }
            while (times_.size() > 512) times_.pop_front(), ++forgotten_;
            if (last) {
                drained_ = true;
                return {};
            }
        }
    }
    EbComponentType* handle_ = nullptr;
    int width_ = 0, height_ = 0;
    Bytes config_;
    std::deque<Time> times_;
    std::size_t forgotten_ = 0;
    bool started_ = false, ended_ = false, drained_ = false;
};

/// It would tell of itself on stderr, and only the environment keeps it from that. Modules are loaded while other
/// threads may be looking through the environment, which setenv moves: it is exchanged as a whole instead, and the one
/// before stays as it is.
void keep_silent() {
    if (std::getenv("SVT_LOG")) return;
    static char line[] = "SVT_LOG=0";
    std::size_t n = 0;
    while (environ && environ[n]) ++n;
    static auto& kept = *new std::vector<std::unique_ptr<char*[]>>;  // whoever reads one may do so for ever
    auto* with_it = kept.emplace_back(std::make_unique<char*[]>(n + 2)).get();
    std::copy_n(environ, n, with_it);
    with_it[n] = line, with_it[n + 1] = nullptr;
    std::atomic_ref(environ).store(with_it, std::memory_order_release);
}

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    keep_silent();
    static const CodecModule module{.name = "svtav1",
                                    .library = "SVT-AV1",
                                    .licence = "BSD-3-Clause-Clear",
                                    .package = "libsvtav1enc1",
                                    .decodes = {},
                                    .encodes = {Codec::av1},
                                    .video_encoder = &Encoder::make};
    return &module;
}
