// SPDX-License-Identifier: Apache-2.0
// H.264 through openh264.
#include <wels/codec_api.h>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        auto config = parse_avcc(track.config);
        if (!config)
            return fail(Code::malformed, "The H.264 track has no readable parameter sets.", "Export the clip again.");
        auto d = std::make_unique<Decoder>();
        d->config_ = std::move(*config);
        if (d->config_.sps) d->colour_ = d->config_.sps->colour;
        if (WelsCreateDecoder(&d->decoder_) != 0 || !d->decoder_)
            return fail(Code::internal, "The H.264 decoder could not be started.");
        TRY_DO(d->start());
        return d;
    }
    ~Decoder() override {
        if (!decoder_) return;
        decoder_->Uninitialize();
        WelsDestroyDecoder(decoder_);
    }

    Outcome decode(ByteView data, Time pts, bool keyframe, std::vector<Picture>& out) override {
        annex_b_.clear();
        if (needs_parameters_ || keyframe) {
            // Pictures still held back belong before an IDR.
            if (keyframe && !needs_parameters_) flush(out);
            annex_b_ = config_.parameter_sets;
            needs_parameters_ = false;
        }
        if (!to_annex_b(data, config_.length_size, annex_b_))
            return fail(Code::malformed, "An H.264 packet's lengths do not fit its size.",
                        "The file is damaged; export it again.");
        if (annex_b_.empty()) return {};
        SBufferInfo info{};
        info.uiInBsTimeStamp = static_cast<unsigned long long>(pts.ns);
        unsigned char* planes[3]{};
        auto state = decoder_->DecodeFrameNoDelay(annex_b_.data(), static_cast<int>(annex_b_.size()), planes, &info);
        if (info.iBufferStatus == 1)
            take(info, out);
        else if (state != dsErrorFree)
            return fail(Code::malformed, "A picture of the H.264 track is damaged.", "Export the clip again.");
        return {};
    }
    Outcome drain(std::vector<Picture>& out) override {
        flush(out);
        return {};
    }
    void reset() override {
        // Starting afresh is the only reset that forgets every reference.
        decoder_->Uninitialize();
        if (auto again = start(); !again) return;
        needs_parameters_ = true;
    }

  private:
    Outcome start() {
        SDecodingParam param{};
        param.sVideoProperty.eVideoBsType = VIDEO_BITSTREAM_AVC;
        param.eEcActiveIdc = ERROR_CON_SLICE_COPY;
        int quiet = WELS_LOG_QUIET;
        decoder_->SetOption(DECODER_OPTION_TRACE_LEVEL, &quiet);
        if (decoder_->Initialize(&param) != 0) return fail(Code::internal, "The H.264 decoder could not be started.");
        return {};
    }
    void flush(std::vector<Picture>& out) {
        for (int i = 0; i < 32; ++i) {
            SBufferInfo info{};
            unsigned char* planes[3]{};
            decoder_->FlushFrame(planes, &info);
            if (info.iBufferStatus != 1) break;
            take(info, out);
        }
    }
    void take(const SBufferInfo& info, std::vector<Picture>& out) {
        auto& b = info.UsrData.sSystemBuffer;
        Time pts{static_cast<std::int64_t>(info.uiOutYuvTimeStamp)};
        if (pts < from_) return;
        if (b.iWidth <= 0 || b.iHeight <= 0 || !info.pDst[0]) return;
        auto p = copy_picture(b.iWidth, b.iHeight, {info.pDst[0], info.pDst[1], info.pDst[2]},
                              {b.iStride[0], b.iStride[1], b.iStride[1]});
        p.pts = pts;
        p.colour = colour_;
        out.push_back(std::move(p));
    }

    ISVCDecoder* decoder_ = nullptr;
    AvcConfig config_;
    Colour colour_;
    Bytes annex_b_;
    bool needs_parameters_ = true;
};

class Encoder final : public VideoEncoder {
  public:
    static Result<std::unique_ptr<VideoEncoder>> make(Codec, const VideoEncodeOptions& o) {
        if (o.width < 16 || o.height < 16 || o.width > 3840 || o.height > 2160 || o.width % 2 || o.height % 2)
            return fail(Code::limit, "The H.264 encoder takes even sizes from 16 x 16 to 3840 x 2160.",
                        "Choose another size.");
        auto e = std::make_unique<Encoder>();
        if (WelsCreateSVCEncoder(&e->encoder_) != 0)
            return fail(Code::internal, "The H.264 encoder could not be started.");
        int quiet = WELS_LOG_QUIET;
        e->encoder_->SetOption(ENCODER_OPTION_TRACE_LEVEL, &quiet);
        SEncParamExt p{};
        e->encoder_->GetDefaultParams(&p);
        p.iUsageType = CAMERA_VIDEO_REAL_TIME;
        p.iPicWidth = o.width, p.iPicHeight = o.height;
        p.iTargetBitrate = static_cast<int>(o.bitrate);
        p.iMaxBitrate = UNSPECIFIED_BIT_RATE;
        p.iRCMode = RC_QUALITY_MODE;
        p.fMaxFrameRate = static_cast<float>(o.rate.num) / static_cast<float>(o.rate.den);
        p.bEnableFrameSkip = false;
        p.uiIntraPeriod = static_cast<unsigned>(o.keyframe_every);
        p.iMultipleThreadIdc = 2;
        p.iSpatialLayerNum = 1, p.iTemporalLayerNum = 1;
        p.iEntropyCodingModeFlag = 1;
        p.bEnableSceneChangeDetect = false;
        p.eSpsPpsIdStrategy = CONSTANT_ID;
        auto& layer = p.sSpatialLayers[0];
        layer.iVideoWidth = o.width, layer.iVideoHeight = o.height;
        layer.fFrameRate = p.fMaxFrameRate;
        layer.iSpatialBitrate = p.iTargetBitrate;
        layer.iMaxSpatialBitrate = UNSPECIFIED_BIT_RATE;
        layer.uiProfileIdc = PRO_HIGH;
        layer.sSliceArgument.uiSliceMode = SM_FIXEDSLCNUM_SLICE;
        layer.sSliceArgument.uiSliceNum = 2;
        if (o.pixel_aspect.stated()) {
            layer.bAspectRatioPresent = true;
            layer.eAspectRatio = ASP_EXT_SAR;
            layer.sAspectRatioExtWidth = static_cast<unsigned short>(o.pixel_aspect.num);
            layer.sAspectRatioExtHeight = static_cast<unsigned short>(o.pixel_aspect.den);
        }
        auto colour = o.colour.resolved(o.height);
        layer.bVideoSignalTypePresent = true;
        layer.bFullRange = colour.range == Colour::Range::full;
        layer.bColorDescriptionPresent = true;
        bool sd = colour.matrix == Colour::Matrix::bt601;
        layer.uiColorPrimaries = layer.uiTransferCharacteristics = layer.uiColorMatrix =
            static_cast<unsigned char>(sd ? 6 : 1);
        if (e->encoder_->InitializeExt(&p) != 0)
            return fail(Code::internal, "The H.264 encoder refused these settings.");
        e->options_ = o;
        return e;
    }
    ~Encoder() override {
        if (!encoder_) return;
        encoder_->Uninitialize();
        WelsDestroySVCEncoder(encoder_);
    }
    Outcome encode(const Picture& picture, std::vector<Encoded>& out) override {
        SSourcePicture s{};
        s.iColorFormat = videoFormatI420;
        s.iPicWidth = picture.width, s.iPicHeight = picture.height;
        for (std::size_t i = 0; i < 3; ++i)
            s.pData[i] = const_cast<unsigned char*>(picture.plane[i]), s.iStride[i] = picture.stride[i];
        s.uiTimeStamp = picture.pts.ns / 1'000'000;
        SFrameBSInfo info{};
        if (encoder_->EncodeFrame(&s, &info) != cmResultSuccess)
            return fail(Code::internal, "The H.264 encoder failed on a picture.");
        if (info.eFrameType == videoFrameTypeSkip) return fail(Code::internal, "The H.264 encoder left a picture out.");
        Encoded e;
        e.pts = picture.pts;
        e.keyframe = info.eFrameType == videoFrameTypeIDR;
        for (int l = 0; l < info.iLayerNum; ++l) {
            auto& layer = info.sLayerInfo[l];
            auto* at = layer.pBsBuf;
            for (int n = 0; n < layer.iNalCount; ++n) {
                ByteView nal(at + 4, static_cast<std::size_t>(layer.pNalLengthInByte[n]) - 4);
                at += layer.pNalLengthInByte[n];
                auto type = nal[0] & 31;
                if (type == 7)
                    sps_.assign(nal.begin(), nal.end());
                else if (type == 8)
                    pps_.assign(nal.begin(), nal.end());
                else {
                    ByteWriter w;
                    w.u32(nal.size()).raw(nal);
                    e.data.insert(e.data.end(), w.bytes.begin(), w.bytes.end());
                }
            }
        }
        out.push_back(std::move(e));
        return {};
    }
    Outcome drain(std::vector<Encoded>&) override { return {}; }
    Bytes config() const override {
        if (sps_.size() < 4) return {};
        ByteWriter w;
        w.u8(1)
            .u8(sps_[1])
            .u8(sps_[2])
            .u8(sps_[3])
            .u8(0xFF)
            .u8(0xE1)
            .u16(sps_.size())
            .raw(sps_)
            .u8(1)
            .u16(pps_.size())
            .raw(pps_);
        if (sps_[1] == 100) w.u8(0xFD).u8(0xF8).u8(0xF8).u8(0);
        return w.bytes;
    }

  private:
    ISVCEncoder* encoder_ = nullptr;
    VideoEncodeOptions options_;
    Bytes sps_, pps_;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "h264",
                                    .library = "OpenH264",
                                    .licence = "BSD-2-Clause",
                                    .package = "libopenh264-7",
                                    .decodes = {Codec::h264},
                                    .encodes = {Codec::h264},
                                    .video_decoder = &Decoder::make,
                                    .video_encoder = &Encoder::make};
    return &module;
}
