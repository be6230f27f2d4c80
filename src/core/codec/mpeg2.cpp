// SPDX-License-Identifier: Apache-2.0
// MPEG-1 and MPEG-2 video decoding through libmpeg2. A picture is finished when the start of the next one is seen, and
// handed out in the order of showing.
#include <cstdint>

extern "C" {
#include <mpeg2dec/mpeg2.h>
}

#include "codec/codec.h"
#include "media/mpeg_video.h"

namespace ruedo {
namespace {

class Decoder final : public VideoDecoder {
  public:
    static Result<std::unique_ptr<VideoDecoder>> make(const Track& track) {
        auto d = std::make_unique<Decoder>();
        if (!(d->handle_ = mpeg2_init()))
            return fail(ErrorCode::internal, "The MPEG video decoder could not be started.");
        d->config_ = track.config;
        d->colour_.range = Colour::Range::limited;
        return d;
    }
    ~Decoder() override {
        if (handle_) mpeg2_close(handle_);
    }
    Status decode(ByteView data, Time pts, bool, std::vector<Frame>& out) override {
        // A picture may have the header before it; twice in a row the library takes it for damage.
        if (!std::exchange(started_, true) && !parse_mpeg_sequence(data)) RUEDO_TRY_DO(feed(config_, out));
        auto ns = static_cast<std::uint64_t>(pts.ns);
        mpeg2_tag_picture(handle_, static_cast<std::uint32_t>(ns >> 32), static_cast<std::uint32_t>(ns));
        return feed(data, out);
    }
    Status drain(std::vector<Frame>& out) override {
        static constexpr std::array<std::uint8_t, 4> end{0, 0, 1, 0xB7};
        auto fed = feed(end, out);
        reset();
        return fed;
    }
    void reset() override {
        mpeg2_reset(handle_, 1);
        started_ = false;
    }

  private:
    Status feed(ByteView data, std::vector<Frame>& out) {
        if (data.empty()) return {};
        // The library reads ahead of what it was given, and does not write.
        held_.assign(data.begin(), data.end());
        held_.resize(data.size() + 16);
        mpeg2_buffer(handle_, held_.data(), held_.data() + data.size());
        auto* info = mpeg2_info(handle_);
        bool damaged = false;
        for (;;) {
            auto state = mpeg2_parse(handle_);
            if (state == STATE_BUFFER) break;
            if (state == STATE_INVALID) damaged = true;
            if (state == STATE_SLICE || state == STATE_END || state == STATE_INVALID_END) take(*info, out);
        }
        if (damaged)
            return fail(ErrorCode::malformed, "A picture of the MPEG video track is damaged.", "Export it again.");
        return {};
    }
    void take(const mpeg2_info_t& info, std::vector<Frame>& out) {
        if (!info.display_fbuf || !info.display_picture || !info.sequence || !info.display_fbuf->buf[0]) return;
        auto& picture = *info.display_picture;
        // Fields of one frame, and a frame that was handed out before, carry no time of their own.
        if (!(picture.flags & PIC_FLAG_TAGS)) return;
        Time pts{static_cast<std::int64_t>(std::uint64_t{picture.tag} << 32 | picture.tag2)};
        if (pts < from_) return;
        auto& s = *info.sequence;
        if (s.chroma_width * 2 != s.width || s.chroma_height * 2 != s.height) return;
        auto width = static_cast<int>(s.picture_width), height = static_cast<int>(s.picture_height);
        auto& planes = info.display_fbuf->buf;
        auto p =
            copy_frame(width, height, {planes[0], planes[1], planes[2]},
                       {static_cast<int>(s.width), static_cast<int>(s.chroma_width), static_cast<int>(s.chroma_width)});
        p.pts = pts;
        p.colour = colour_;
        out.push_back(std::move(p));
    }

    mpeg2dec_t* handle_ = nullptr;
    Bytes config_, held_;
    Colour colour_;
    bool started_ = false;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "mpeg2",
                                    .library = "libmpeg2",
                                    .licence = "GPL-2.0-or-later",
                                    .package = "libmpeg2-4",
                                    .decodes = {Codec::mpeg1, Codec::mpeg2},
                                    .encodes = {},
                                    .video_decoder = &Decoder::make};
    return &module;
}
