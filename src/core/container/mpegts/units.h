// SPDX-License-Identifier: Apache-2.0
// Pictures of MPEG-1 and MPEG-2 video in the PES packets that carry them, which need not begin together.
#pragma once
#include <deque>

#include "container/mpegts/packets.h"
#include "media/mpeg_video.h"

namespace ruedo::mpegts {

/// A frame with the headers before it; both fields where they are coded apart.
struct PictureUnit {
    std::uint64_t offset = 0;              ///< Of the packet in which it begins.
    std::optional<std::int64_t> pts, dts;  ///< 90 kHz, 33 bits, where that packet says.
    Bytes data;
    MpegPicture picture;
    bool sequence = false;  ///< A sequence header stands before it.
};

class UnitSplitter {
  public:
    UnitSplitter(std::unique_ptr<PesSource> packets, bool progressive)
        : packets_(std::move(packets)), progressive_(progressive) {}
    void seek(std::uint64_t offset);
    Result<bool> next(PictureUnit& unit);

  private:
    /// Where a packet's payload begins in `held_`.
    struct Mark {
        std::size_t at;
        std::uint64_t offset;
        std::optional<std::int64_t> pts, dts;
    };
    Outcome fill();
    void cut(std::size_t from, std::size_t to, PictureUnit& unit);
    std::unique_ptr<PesSource> packets_;
    bool progressive_;
    Bytes held_;
    std::deque<Mark> marks_;
    bool ended_ = false;
};

}  // namespace ruedo::mpegts
