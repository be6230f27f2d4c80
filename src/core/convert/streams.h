// SPDX-License-Identifier: Apache-2.0
// The tracks of what a conversion makes, packet by packet: copied, or decoded, fitted and encoded.
#pragma once
#include "container/container.h"
#include "convert/recipe.h"
#include "sound/sound.h"

namespace ruedo {

/// A packet on its way to the writer; its data are its own.
struct MadePacket {
    Time pts{}, dts{}, duration{};
    bool keyframe = true;
    Bytes data;
};

/// One track of what is made, packet by packet in the order of decoding.
class MadeStream {
  public:
    virtual ~MadeStream() = default;
    virtual Result<std::optional<MadePacket>> next() = 0;
    virtual WriteTrack track() const = 0;
    /// Where it ends, as far as it has been made.
    Time end() const { return end_; }
    std::uint64_t count() const { return count_; }
    const std::optional<Error>& cut() const { return cut_; }

  protected:
    Time end_{};
    std::uint64_t count_ = 0;
    std::optional<Error> cut_;
};

/// Packets as they are, but for those that are shown at `to` or later.
Result<std::unique_ptr<MadeStream>> copied_stream(Clip& clip, const Track& track, Time to);
/// From `from` to `to`, at `rate` where that is stated. `first` is what is seen at `from`, where that is inside the
/// clip; `reader` goes on behind it. `plan` must outlive it.
std::unique_ptr<MadeStream> encoded_pictures(std::unique_ptr<PictureReader> reader, std::optional<Picture> first,
                                             Time from, Time to, std::optional<Rational> rate, const Plan& plan,
                                             std::unique_ptr<VideoEncoder> encoder);
/// `sound` stands at `from`. It begins and ends to the sample.
std::unique_ptr<MadeStream> encoded_sound(std::unique_ptr<SoundReader> sound, const Plan& plan,
                                          std::unique_ptr<AudioEncoder> encoder, Time from, Time to, float gain);

}  // namespace ruedo
