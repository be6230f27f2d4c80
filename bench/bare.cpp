// SPDX-License-Identifier: Apache-2.0
#include "bench/bare.h"

#include <libyuv.h>
#include <vpx/vp8dx.h>
#include <vpx/vpx_decoder.h>
#include <wels/codec_api.h>

#include "media/codec_headers.h"

namespace ruedo::bench {

void to_pixels(const std::uint8_t* const p[3], const int s[2], int w, int h, std::vector<std::uint8_t>& out) {
    out.resize(static_cast<std::size_t>(w * h * 4));
    libyuv::I420ToARGBMatrix(p[0], s[0], p[1], s[1], p[2], s[1], out.data(), w * 4, &libyuv::kYuvH709Constants, w, h);
}

namespace {

class BareH264 final : public BareDecoder {
  public:
    explicit BareH264(const Track& track) : config_(*parse_avcc(track.config)) {
        WelsCreateDecoder(&decoder_);
        SDecodingParam param{};
        param.sVideoProperty.eVideoBsType = VIDEO_BITSTREAM_AVC;
        int quiet = WELS_LOG_QUIET;
        decoder_->SetOption(DECODER_OPTION_TRACE_LEVEL, &quiet);
        decoder_->Initialize(&param);
    }
    ~BareH264() override {
        decoder_->Uninitialize();
        WelsDestroyDecoder(decoder_);
    }
    int decode(const Packet& packet, std::vector<std::uint8_t>* pixels) override {
        buffer_.clear();
        if (packet.head.keyframe) buffer_ = config_.parameter_sets;
        to_annex_b(packet.data, config_.length_size, buffer_);
        SBufferInfo info{};
        unsigned char* planes[3]{};
        decoder_->DecodeFrameNoDelay(buffer_.data(), static_cast<int>(buffer_.size()), planes, &info);
        return give(info, pixels);
    }
    int drain(std::vector<std::uint8_t>* pixels) override {
        for (int n = 0;; ++n) {
            SBufferInfo info{};
            unsigned char* planes[3]{};
            decoder_->FlushFrame(planes, &info);
            if (!give(info, pixels)) return n;
        }
    }

  private:
    static int give(const SBufferInfo& info, std::vector<std::uint8_t>* pixels) {
        if (info.iBufferStatus != 1) return 0;
        auto& b = info.UsrData.sSystemBuffer;
        if (pixels) to_pixels(info.pDst, b.iStride, b.iWidth, b.iHeight, *pixels);
        return 1;
    }
    ISVCDecoder* decoder_ = nullptr;
    AvcConfig config_;
    Bytes buffer_;
};

class BareVpx final : public BareDecoder {
  public:
    BareVpx(const Track& track, unsigned threads) {
        vpx_codec_dec_cfg_t cfg{};
        // The rows' clips have columns of tiles: they share the threads, and need no memory for rows beside each other.
        cfg.threads = track.video.width >= 960 ? threads : 1;
        vpx_codec_dec_init(&codec_, track.codec == Codec::vp9 ? vpx_codec_vp9_dx() : vpx_codec_vp8_dx(), &cfg, 0);
    }
    ~BareVpx() override { vpx_codec_destroy(&codec_); }
    int decode(const Packet& packet, std::vector<std::uint8_t>* pixels) override {
        vpx_codec_decode(&codec_, packet.data.data(), static_cast<unsigned>(packet.data.size()), nullptr, 0);
        vpx_codec_iter_t iter = nullptr;
        auto* image = vpx_codec_get_frame(&codec_, &iter);
        if (!image) return 0;
        int strides[2]{image->stride[0], image->stride[1]};
        if (pixels)
            to_pixels(image->planes, strides, static_cast<int>(image->d_w), static_cast<int>(image->d_h), *pixels);
        return 1;
    }
    int drain(std::vector<std::uint8_t>*) override { return 0; }

  private:
    vpx_codec_ctx_t codec_{};
};
}  // namespace

std::unique_ptr<BareDecoder> bare_decoder(const Track& track, unsigned threads) {
    if (track.codec == Codec::h264) return std::make_unique<BareH264>(track);
    return std::make_unique<BareVpx>(track, threads);
}

}  // namespace ruedo::bench
