// SPDX-License-Identifier: Apache-2.0
// H.264 decoding through openh264.
#include <wels/codec_api.h>

#include <future>
#include <mutex>

#include "codec/codec.h"
#include "media/codec_headers.h"

namespace ruedo {
namespace {

void end(ISVCDecoder* decoder) {
    if (!decoder) return;
    decoder->Uninitialize();
    WelsDestroyDecoder(decoder);
}
/// Nothing where it can't be.
ISVCDecoder* start() {
    ISVCDecoder* decoder = nullptr;
    if (WelsCreateDecoder(&decoder) != 0 || !decoder) return nullptr;
    SDecodingParam param{};
    param.sVideoProperty.eVideoBsType = VIDEO_BITSTREAM_AVC;
    param.eEcActiveIdc = ERROR_CON_SLICE_COPY;
    int quiet = WELS_LOG_QUIET;
    decoder->SetOption(DECODER_OPTION_TRACE_LEVEL, &quiet);
    if (decoder->Initialize(&param) == 0) return decoder;
    end(decoder);
    return nullptr;
}
/// One that is started already, as starting one takes a tenth of a first picture's time, and only one that is new has
/// forgotten every reference. The next one is started, and the one before it ended, beside. Any thread. It is there to
/// the end, as a process may end while others still decode.
class Ready {
  public:
    /// In place of `before`, which may be none.
    ISVCDecoder* take(ISVCDecoder* before = nullptr) {
        std::scoped_lock lock(mutex_);
        auto* decoder = next_.valid() ? next_.get() : start();
        next_ = std::async([before] {
            end(before);
            return start();
        });
        return decoder;
    }

  private:
    std::mutex mutex_;
    std::future<ISVCDecoder*> next_;
};
Ready& ready = *new Ready;

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        auto config = parse_avcc(track.config);
        if (!config)
            return fail(ErrorCode::malformed, "The H.264 track has no readable parameter sets.",
                        "Export the clip again.");
        auto d = std::make_unique<Decoder>();
        d->config_ = std::move(*config);
        if (d->config_.sps) d->colour_ = d->config_.sps->colour;
        d->decoder_ = ready.take();
        if (!d->decoder_) return fail(ErrorCode::internal, "The H.264 decoder could not be started.");
        return d;
    }
    ~Decoder() override { end(decoder_); }

    Status decode(ByteView data, Time pts, bool keyframe, std::vector<Frame>& out) override {
        if (!decoder_) return fail(ErrorCode::internal, "The H.264 decoder could not be started again.");
        annex_b_.clear();
        if (needs_parameters_ || keyframe) {
            // Pictures still held back belong before an IDR.
            if (keyframe && !needs_parameters_) flush(out);
            annex_b_ = config_.parameter_sets;
            needs_parameters_ = false;
        }
        if (!to_annex_b(data, config_.length_size, annex_b_))
            return fail(ErrorCode::malformed, "An H.264 packet's lengths do not fit its size.",
                        "The file is damaged; export it again.");
        if (annex_b_.empty()) return {};
        SBufferInfo info{};
        info.uiInBsTimeStamp = static_cast<unsigned long long>(pts.ns);
        unsigned char* planes[3]{};
        auto state = decoder_->DecodeFrameNoDelay(annex_b_.data(), static_cast<int>(annex_b_.size()), planes, &info);
        if (info.iBufferStatus == 1)
            take(info, out);
        else if (state != dsErrorFree)
            return fail(ErrorCode::malformed, "A picture of the H.264 track is damaged.", "Export the clip again.");
        return {};
    }
    Status drain(std::vector<Frame>& out) override {
        flush(out);
        return {};
    }
    Status flush_early(std::vector<Frame>& out) override {
        flush(out);
        return {};
    }
    void reset() override {
        if (needs_parameters_) return;  // nothing has been decoded
        decoder_ = ready.take(decoder_);
        needs_parameters_ = true;
    }

  private:
    void flush(std::vector<Frame>& out) {
        if (!decoder_) return;
        for (int i = 0; i < 32; ++i) {
            SBufferInfo info{};
            unsigned char* planes[3]{};
            decoder_->FlushFrame(planes, &info);
            if (info.iBufferStatus != 1) break;
            take(info, out);
        }
    }
    void take(const SBufferInfo& info, std::vector<Frame>& out) {
        auto& b = info.UsrData.sSystemBuffer;
        Time pts{static_cast<std::int64_t>(info.uiOutYuvTimeStamp)};
        if (pts < from_) return;
        if (b.iWidth <= 0 || b.iHeight <= 0 || !info.pDst[0]) return;
        auto p = copy_frame(b.iWidth, b.iHeight, {info.pDst[0], info.pDst[1], info.pDst[2]},
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

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "h264",
                                    .library = "OpenH264",
                                    .licence = "BSD-2-Clause",
                                    .package = "libopenh264-7",
                                    .decodes = {Codec::h264},
                                    .video_decoder = &Decoder::make};
    return &module;
}
