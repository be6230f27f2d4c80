// SPDX-License-Identifier: Apache-2.0
// MPEG program streams: no table need name what travels in them, so the first packets are looked at.
#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "container/mpegts/pes_clip.h"

namespace ruedo::mpegts {
namespace {

class PsClip final : public PesClip {
  public:
    Status open(std::shared_ptr<ByteSource> source) {
        shared_->source = source;
        info_.container = "mpegps";
        PackWalker packets(source, 0);
        std::map<unsigned, Stream> found;  // in the order of their numbers: sound before pictures
        Pes pes;
        // A stream that begins later than this is none that a clip is opened for.
        constexpr std::uint64_t reach = 4 << 20;
        for (;;) {
            RUEDO_TRY(bool more, packets.next(pes));
            if (!more || pes.offset > reach) break;
            auto [it, fresh] = found.try_emplace(packets.stream());
            if (fresh) it->second.pid = packets.stream();
            name(it->second, pes.data);
        }
        for (auto kind : {Kind::video, Kind::audio})
            for (auto& [pid, s] : found)
                if (s.track.kind == kind) {
                    // A header may be cut by the packets' borders; whether it is one, its pictures tell.
                    if (kind == Kind::video && s.track.codec == Codec::unknown) s.track.codec = Codec::mpeg2;
                    add(s);
                }
        if (shared_->streams.empty())
            return fail(
                ErrorCode::malformed,
                fmt::format("“{}” looks like a program stream, but holds no picture and no sound.", source->name()),
                "Copy or record it again.");
        return settle();
    }

  private:
    static void name(Stream& s, ByteView data) {
        auto& t = s.track;
        if (t.codec != Codec::unknown) return;
        t.id = s.pid;
        t.tick = {1, 90000};
        t.codec_tag = fmt::format("stream 0x{:x}", s.pid);
        if (s.pid >= 0xE0 && s.pid <= 0xEF) {
            t.kind = Kind::video;
            if (auto sequence = parse_mpeg_sequence(data))
                t.codec = sequence->second ? Codec::mpeg2 : Codec::mpeg1;
            else if (!make_avcc(data).empty())  // first, as its slices may look like the other's headers
                t.codec = Codec::h264;
            else if (parse_mpeg4_config(data))
                t.codec = Codec::mpeg4;
        } else if (s.pid >= 0xC0 && s.pid <= 0xDF) {
            t.kind = Kind::audio;
            for (std::size_t at = 0; at + 4 <= data.size() && t.codec == Codec::unknown; ++at)
                if (auto frame = parse_mp3_frame(data.subspan(at))) t.codec = frame->codec;
        } else if ((s.pid & 0xF8) == 0x80 && s.pid >> 8 == 0xBD) {
            t.kind = Kind::audio;
            t.codec = Codec::ac3;
        } else if (s.pid >> 8 == 0xBD && (s.pid & 0xFF) >= 0x88 && (s.pid & 0xFF) <= 0xAF) {
            t.kind = Kind::audio;  // named, not played
        }
    }
};

}  // namespace

Result<std::unique_ptr<Clip>> open_program(std::shared_ptr<ByteSource> source) {
    auto clip = std::make_unique<PsClip>();
    RUEDO_TRY_DO(clip->open(std::move(source)));
    return clip;
}

}  // namespace ruedo::mpegts
