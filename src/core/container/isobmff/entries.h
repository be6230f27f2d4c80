// SPDX-License-Identifier: Apache-2.0
// Boxes that say what a file and its tracks are (ISO/IEC 14496-12 clause 8.2 to 8.5), the same with an index in front
// and in fragments.
#pragma once
#include "container/container.h"

namespace ruedo::isobmff {

constexpr std::uint32_t movie_scale = 48000;  ///< Ticks a second of the movie header.

/// Builds nested boxes; sizes are filled in when a box ends.
class BoxWriter : public ByteWriter {
  public:
    template <class F>
    BoxWriter& box(const char (&type)[5], F&& fill) {
        auto at = bytes.size();
        u32(0).text(std::string_view(type, 4));
        fill();
        auto size = bytes.size() - at;
        for (unsigned i = 0; i < 4; ++i) bytes[at + i] = static_cast<std::uint8_t>(size >> (24 - 8 * i));
        return *this;
    }
    template <class F>
    BoxWriter& full(const char (&type)[5], unsigned version, unsigned flags, F&& fill) {
        return box(type, [&] { u8(version).u24(flags), fill(); });
    }
};

/// Ticks of the movie header; 0 before the beginning.
std::uint64_t movie_ticks(Time t);
/// Ticks a second of the track itself.
std::uint32_t track_scale(const MuxerTrack& track);

constexpr std::int64_t epoch_1904 = 2'082'844'800;  ///< Seconds from there to 1970.

void movie_header(BoxWriter& w, Time length, std::size_t tracks, const ClipTags& tags);
/// The title, as a list of items that players know (ISO/IEC 14496-12 clause 8.11 has the boxes); nothing without one.
void movie_tags(BoxWriter& w, const ClipTags& tags);
void track_header(BoxWriter& w, const MuxerTrack& track, std::size_t number, Time end);
/// An edit list of `length` from `media_time` on, in the track's ticks, after an empty one up to `start`.
void edit_list(BoxWriter& w, std::uint64_t start, std::uint64_t length, std::uint64_t media_time);
/// The headers of a track's media: scale, length in its own ticks, language, handler.
void media_header(BoxWriter& w, const MuxerTrack& track, std::uint64_t length);
/// What kind of media it is, that its data are in this file, and the sample table with its description in front.
template <class F>
void media_information(BoxWriter& w, const MuxerTrack& track, F&& tables);
void media_kind(BoxWriter& w, const MuxerTrack& track);
void sample_description(BoxWriter& w, const MuxerTrack& track);

template <class F>
void media_information(BoxWriter& w, const MuxerTrack& track, F&& tables) {
    w.box("minf", [&] {
        media_kind(w, track);
        w.box("dinf", [&] { w.full("dref", 0, 0, [&] { w.u32(1), w.full("url ", 0, 1, [] {}); }); });
        w.box("stbl", [&] { sample_description(w, track), tables(); });
    });
}

/// Captions as samples that lie end to end (ISO/IEC 14496-30 clause 7): each holds the cues that are shown through all
/// of it, or says that there are none.
class CueSamples {
  public:
    using Put = std::function<Status(const MuxerPacket&)>;
    /// Cues come by their beginnings.
    Status add(const MuxerPacket& cue, const Put& put);
    Status finish(const Put& put);

  private:
    struct ActiveCue {
        Time end{};
        Bytes box;
    };
    Status until(Time t, const Put& put);
    std::vector<ActiveCue> active_;
    Time at_{};
};

}  // namespace ruedo::isobmff
