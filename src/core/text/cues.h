// SPDX-License-Identifier: Apache-2.0
// Captions: WebVTT (W3C WebVTT: The Web Video Text Tracks Format) and SubRip, from files of their own and from
// tracks inside a clip.
#pragma once
#include <filesystem>

#include "io/io.h"
#include "media/media.h"

namespace ruedo {

/// One caption, with those of its settings that move it (WebVTT clause 4.4).
struct Cue {
    enum class Align { start, centre, end };
    Time start{}, end{};
    std::vector<TextRun> runs;
    /// Lines from the top, negative from the bottom; or with `line_percent` a share of the picture's height.
    std::optional<double> line;
    bool line_percent = false;
    std::optional<double> position;  ///< Percent across; by default what `align` says.
    double size = 100;               ///< Percent of the picture's width.
    Align align = Align::centre;
    std::string text() const;
};

struct Cues {
    std::vector<Cue> list;    ///< By start.
    std::size_t skipped = 0;  ///< Cues that could not be followed.
    std::string language;
};

/// Either format, told by its content. `not-media` for what is neither.
Result<Cues> parse_captions(ByteView file, std::string_view name);
Result<Cues> load_captions(const std::string& source);
/// Whether a file is there, has the size of captions and begins as they do. Reads little of it.
Status check_captions(const std::string& file);
/// The settings of a cue as WebVTT has them (clause 4.4); empty when it has none of its own.
std::string cue_settings(const Cue& cue);
/// Its text with tags; in WebVTT `&`, `<` and `>` are written as names.
std::string cue_text(const Cue& cue, bool webvtt);
/// The text of one cue with its tags made into runs.
std::vector<TextRun> parse_cue_text(std::string_view text);

/// Whether captions of this codec can be shown.
bool shows_captions(const Track& track);
/// The cues of one packet of a text track; several or none in MP4 (ISO/IEC 14496-30 clause 7), one elsewhere.
void cues_of_packet(const Track& track, const PacketHead& head, ByteView data, std::vector<Cue>& out);
/// All cues of a track. Reads the whole track.
Result<Cues> read_cues(Clip& clip, const Track& track);

/// Caption files beside a clip: the same name but for “.vtt”, “.srt”, or “.LANGUAGE.vtt”.
std::vector<std::string> captions_beside(const std::string& source);
/// The same for many clips of a folder: what it holds of captions is asked once.
std::vector<std::filesystem::path> captions_in(const std::filesystem::path& folder);
std::vector<std::string> captions_beside(const std::string& source, const std::vector<std::filesystem::path>& captions);
/// "en" of "lantern.en.vtt"; empty when the name does not say.
std::string language_of_name(const std::string& file);

/// Those captions of `track` that need not be waited for, from shortly before `position` on.
std::vector<Cue> cues_here(Clip& clip, const Track& track, Time position);

}  // namespace ruedo
