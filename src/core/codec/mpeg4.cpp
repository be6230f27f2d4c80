// SPDX-License-Identifier: Apache-2.0
// MPEG-4 Visual decoding through Xvid. The library hands out a picture when the next one on which others depend has
// come, in the order of showing; so timestamps of input packets go to output frames, the earliest first.
#include <xvid.h>

#include <set>

#include "codec/codec.h"
#include "media/mpeg_video.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        static const bool ready = [] {
            xvid_gbl_init_t init{};
            init.version = XVID_VERSION;
            return xvid_global(nullptr, XVID_GBL_INIT, &init, nullptr) == 0;
        }();
        auto d = std::make_unique<Decoder>();
        xvid_dec_create_t create{};
        create.version = XVID_VERSION;
        create.width = track.video.width, create.height = track.video.height;
        if (!ready || xvid_decore(nullptr, XVID_DEC_CREATE, &create, nullptr) != 0)
            return fail(ErrorCode::internal, "The MPEG-4 decoder could not be started.");
        d->handle_ = create.handle;
        d->width_ = track.video.width, d->height_ = track.video.height;
        if (auto config = parse_mpeg4_config(track.config)) d->time_bits_ = config->time_bits;
        std::vector<Frame> none;
        (void)d->run(track.config, none);
        return d;
    }
    ~Decoder() override {
        if (handle_) xvid_decore(handle_, XVID_DEC_DESTROY, nullptr, nullptr);
    }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        if (auto config = parse_mpeg4_config(data)) time_bits_ = config->time_bits;
        waiting_.insert(pts);
        return run(data, out);
    }
    Status drain(std::vector<Frame>& out) override {
        if (waiting_.empty()) return {};
        Bytes nothing(16);
        RUEDO_TRY(auto step, call(nothing, -1, out));
        (void)step;
        waiting_.clear();
        return {};
    }
    void reset() override {
        waiting_.clear();
        afresh_ = true;
    }

  private:
    struct Step {
        int used = 0;
        int type = 0;
    };
    Status run(ByteView data, std::vector<Frame>& out) {
        if (data.empty()) return {};
        // The library reads whole words, so some bytes beyond the end.
        padded_.assign(data.begin(), data.end());
        padded_.resize(data.size() + 32);
        std::size_t at = 0;
        for (int turns = 0; at + 4 <= data.size() && turns < 16; ++turns) {
            auto left = ByteView(padded_).subspan(at, data.size() - at);
            auto pictures = split_mpeg4(left, time_bits_);
            auto here = std::span(padded_).subspan(at);
            RUEDO_TRY(auto step, call(here, static_cast<int>(data.size() - at), out));
            // A picture between two that never came gives nothing; its time is spent all the same.
            if (step.type == XVID_TYPE_NOTHING && !pictures.empty() && pictures[0].type == 'B' && !waiting_.empty())
                waiting_.erase(waiting_.begin());
            if (step.used <= 0) break;
            at += static_cast<std::size_t>(step.used);
            if (step.type != XVID_TYPE_VOL && !next_start_code(ByteView(padded_).first(data.size()), at)) break;
        }
        return {};
    }
    Result<Step> call(std::span<std::uint8_t> bytes, int length, std::vector<Frame>& out) {
        xvid_dec_frame_t frame{};
        frame.version = XVID_VERSION;
        if (afresh_) frame.general = XVID_DISCONTINUITY;
        afresh_ = false;
        frame.bitstream = bytes.data();
        frame.length = length;
        xvid_dec_stats_t stats{};
        stats.version = XVID_VERSION;
        bool wanted = !waiting_.empty() && *waiting_.begin() >= from_ && width_ > 0 && height_ > 0;
        frame.output.csp = XVID_CSP_NULL;
        std::array<std::uint8_t*, 3> planes{};
        Frame p;
        if (wanted) {
            p = make_frame(width_, height_, planes);
            frame.output.csp = XVID_CSP_PLANAR;
            for (std::size_t i = 0; i < 3; ++i) frame.output.plane[i] = planes[i], frame.output.stride[i] = p.stride[i];
        }
        auto used = xvid_decore(handle_, XVID_DEC_DECODE, &frame, &stats);
        if (used < 0 && length >= 0)
            return fail(ErrorCode::malformed, "A picture of the MPEG-4 track is damaged.", "Export the clip again.");
        if (stats.type == XVID_TYPE_VOL) {
            width_ = stats.data.vol.width, height_ = stats.data.vol.height;
        } else if (stats.type > 0 && !waiting_.empty()) {
            p.pts = *waiting_.begin();
            waiting_.erase(waiting_.begin());
            if (wanted) out.push_back(std::move(p));
        }
        return Step{used, stats.type};
    }

    void* handle_ = nullptr;
    int width_ = 0, height_ = 0;
    unsigned time_bits_ = 1;
    bool afresh_ = false;
    Bytes padded_;
    std::multiset<Time> waiting_;  ///< Of pictures that went in and did not come out yet.
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "mpeg4",
                                    .library = "Xvid",
                                    .licence = "GPL-2.0-or-later",
                                    .package = "libxvidcore4",
                                    .decodes = {Codec::mpeg4},
                                    .encodes = {},
                                    .video_decoder = &Decoder::make};
    return &module;
}
