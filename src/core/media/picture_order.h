// SPDX-License-Identifier: Apache-2.0
// In which order pictures are shown, from their own headers; for containers that keep only the order of decoding.
#pragma once
#include <deque>

#include "media/media.h"

namespace ruedo {

/// Reads marks of pictures that come in decoding order. H.264: the picture order count of types 0 and 2 (ITU-T H.264
/// clause 8.2.1); MPEG video: a B picture stands before the last picture of another type.
class PictureOrder {
  public:
    explicit PictureOrder(const Track& track);
    struct Mark {
        std::int64_t key = 0;     ///< Pictures of one run are shown in the order of their keys.
        bool starts_run = false;  ///< Everything before is shown before.
        bool settled = false;     ///< Nothing that follows is shown before it.
        bool settles = false;     ///< Nothing that follows is shown before what came before it.
    };
    /// `packet`: H.264 in Annex B form. Only its beginning, up to the first slice, is looked at.
    Mark mark(ByteView packet);
    /// What came before is forgotten.
    void reset();
    /// Whether the order of decoding may differ from that of showing at all.
    static bool reorders(const Track& track);

  private:
    Mark mark_h264(ByteView packet);
    Codec codec_;
    unsigned frame_num_bits_ = 4, order_bits_ = 4;
    bool frames_only_ = true, begun_ = false;
    std::int64_t high_ = 0, low_ = 0, references_ = 0, between_ = 0;
};

/// Gives pictures that come in decoding order their places in the order of showing.
class DisplayOrder {
  public:
    /// The next picture, and its place were it shown as it is decoded.
    void add(const PictureOrder::Mark& mark, std::int64_t place);
    /// The place of the `i`th picture not yet taken; nothing until enough of what follows it is known.
    std::optional<std::int64_t> place(std::size_t i, bool ended) const;
    /// The place after that of the `i`th, as far as it is known.
    std::int64_t after(std::size_t i) const;
    void take();
    void reset();

  private:
    struct One {
        std::int64_t run;
        PictureOrder::Mark mark;
        std::int64_t place;
    };
    std::size_t rank(std::size_t i) const;
    std::deque<One> known_;
    std::size_t taken_ = 0;  ///< Of `known_`, how many were taken; some are kept, for those shown among them.
    std::int64_t run_ = 0;
};

}  // namespace ruedo
