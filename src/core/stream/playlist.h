// SPDX-License-Identifier: Apache-2.0
// Playlists of HTTP Live Streaming (RFC 8216, and the parts of its second edition that are common), as values.
#pragma once
#include <array>
#include <map>
#include <memory>
#include <optional>

#include "io/io.h"
#include "media/media.h"

namespace ruedo::stream {

/// How the bytes of a segment are encrypted (RFC 8216 clause 4.3.2.4).
struct Key {
    enum class Method { none, aes_128, unsupported } method = Method::none;
    std::string name;     ///< As stated, for sentences.
    std::string address;  ///< Of its 16 bytes.
    std::optional<std::array<std::uint8_t, 16>> iv;
};
/// What goes in front of segments so that they can be read on their own (clause 4.3.2.5).
struct Map {
    std::string address;
    std::optional<ByteSource::Range> range;
    std::shared_ptr<const Key> key;
    bool operator==(const Map& o) const {
        return address == o.address && range.has_value() == o.range.has_value() &&
               (!range || (range->from == o.range->from && range->to == o.range->to));
    }
};

struct Segment {
    std::string address;
    std::optional<ByteSource::Range> range;
    Time start{};                     ///< By the sum of what the playlist states, from its stream's beginning.
    Time duration{};                  ///< As stated.
    std::uint64_t number = 0;         ///< Media sequence number.
    std::uint64_t discontinuity = 0;  ///< Segments with the same share one clock.
    bool gap = false;                 ///< Said to be missing.
    std::shared_ptr<const Key> key;   ///< None where it is not encrypted.
    std::shared_ptr<const Map> map;
    std::optional<Time> date;  ///< Since 1970, where the playlist dates it.
    /// What the segment's clock says at presentation time 0, where that is known beforehand (DASH); else it is found.
    std::optional<Time> zero;
    Time end() const { return start + duration; }
};

struct SegmentList {
    Time target{};  ///< No segment is longer, to the second (clause 4.3.3.1).
    std::vector<Segment> segments;
    bool ended = false;  ///< Nothing is added any more.
    bool grows = false;  ///< Nothing is taken away (EVENT); else, while it has not ended, it is a window that slides.
    bool iframes_only = false;  ///< Keyframes only (clause 4.3.3.6).
    std::optional<Time> begin;  ///< Where to begin (clause 4.3.5.2): from the start, or where negative from the end.
    std::optional<Time> hold_back;  ///< How far from the edge of a live one to stay.
    std::size_t too_long = 0;       ///< Segments longer than the target duration.
    std::string first_too_long;
    Time end() const { return segments.empty() ? Time{} : segments.back().end(); }
    /// The one that holds `t`: the last that begins at or before it, the first before all; none where there are none.
    const Segment* at(Time t) const;
};

struct Variant {
    std::string id;  ///< Of the playlist’s own (STABLE-VARIANT-ID of RFC 8216’s second edition); mostly none.
    std::string address;
    std::uint64_t bandwidth = 0, average_bandwidth = 0;
    std::string codecs, audio, text;  ///< `audio` and `text`: the groups it goes with.
    int width = 0, height = 0;
    Rational frame_rate{};
    double score = 0;  ///< How good it looks, on a scale of the playlist’s own; 0 where it is not stated.
};
/// A rendition of its own (clause 4.3.4.1).
struct Alternative {
    Kind kind = Kind::other;
    std::string group, name, language, address;  ///< Without an address it is in the variant's own segments.
    bool is_default = false, chosen_by_itself = false, forced = false;
    int channels = 0;
};
struct MasterPlaylist {
    std::vector<Variant> variants;
    std::vector<Variant> iframes_only;  ///< Of keyframes only.
    std::vector<Alternative> alternatives;
    std::optional<Time> begin;
    bool session_encrypted = false;
};

struct Playlist {
    std::optional<MasterPlaylist> master;
    SegmentList list;                          ///< Where it is not a master.
    std::map<std::string, std::string> names;  ///< Variables that were defined, for playlists it names.
};

/// A date and time (ISO 8601) from 1970 to 2199, as time since 1970; by Greenwich where no zone is stated.
std::optional<Time> parse_date(std::string_view text);
/// Whether these are the first bytes of one.
bool is_playlist(ByteView head);
/// `base` is where it came from; `imported`: variables of the playlist that named it. `malformed` names the line. At
/// most 100,000 segments and 1,000 variants (`limit`).
Result<Playlist> parse_playlist(ByteView text, const std::string& base,
                                const std::map<std::string, std::string>& imported = {});
inline constexpr std::size_t most_segments = 100'000, most_variants = 1'000;
inline constexpr std::size_t most_playlist_bytes = 32 << 20;

}  // namespace ruedo::stream
