// SPDX-License-Identifier: Apache-2.0
// Pictures in the PES packets that carry them, which need not begin together.
#pragma once
#include <deque>

#include "container/mpegts/packets.h"
#include "media/mpeg_video.h"

namespace ruedo::mpegts {

/// A frame with the headers before it; of MPEG-1 and MPEG-2 video both fields where they are coded apart.
struct AccessUnit {
    std::uint64_t offset = 0;              ///< Of the packet in which it begins.
    std::optional<std::int64_t> pts, dts;  ///< 90 kHz, 33 bits, where that packet says.
    Bytes data;
    MpegPicture picture;    ///< Of MPEG-1 and MPEG-2 video.
    bool sequence = false;  ///< A sequence header stands before it.
};

/// How many pictures begin in it. Codecs: as `UnitSplitter` takes them.
int frames_in(Codec codec, ByteView data);

/// Cuts where a picture’s headers begin, or its first slice: MPEG-1 and MPEG-2 video, MPEG-4 Visual, H.264 (ITU-T H.264
/// clause 7.4.1.2.3) and HEVC (ITU-T H.265 clause 7.4.2.4.4).
class UnitSplitter {
  public:
    UnitSplitter(std::unique_ptr<PesSource> packets, Codec codec, bool progressive = true)
        : packets_(std::move(packets)), codec_(codec), progressive_(progressive) {}
    void seek(std::uint64_t offset);
    Result<bool> next(AccessUnit& unit);

  private:
    /// Where a packet's payload begins in `held_`.
    struct Mark {
        std::size_t at;
        std::uint64_t offset;
        std::optional<std::int64_t> pts, dts;
    };
    Status fill();
    void cut(std::size_t from, std::size_t to, AccessUnit& unit);
    std::unique_ptr<PesSource> packets_;
    Codec codec_;
    bool progressive_;
    Bytes held_;
    std::deque<Mark> marks_;
    bool ended_ = false;
};

}  // namespace ruedo::mpegts
