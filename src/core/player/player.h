// SPDX-License-Identifier: Apache-2.0
// The player document: which sources, how they start, loop and fit, which controls sit where. A project file and a
// packed app's document are the same format (docs/project.md, docs/project.schema.json).
#pragma once
#include <filesystem>
#include <nlohmann/json_fwd.hpp>

#include "container/container.h"
#include "io/http.h"
#include "playback/playback.h"
#include "player/controls.h"

namespace ruedo {

enum class Mount { window, handset_upright, handset_sideways };
std::string_view mount_name(Mount mount);

struct SourceSpec {
    std::string name;  ///< What the card and the app call it.
    std::string file;  ///< As written: relative to the document, or absolute.
    Start start;
    Loop loop;
    Fit fit = Fit::contain;
    double align_x = 0.5, align_y = 0.5;  ///< 0 left or top, 1 right or bottom.
    std::string poster;                   ///< A picture (PNG or JPEG) shown until it is started; written as `file` is.
    std::vector<std::string> captions;    ///< Files of captions, written as `file` is.
    std::string sound_language, text_language;  ///< Chosen from the start, where the clip has them (BCP 47).
    bool operator==(const SourceSpec&) const;
};

/// Where controls sit on the bar: groups at the start, in the middle (which takes the room left) and at the end.
struct Bar {
    std::vector<Control> start{Control::toggle, Control::back, Control::forward};
    std::vector<Control> middle{Control::position};
    std::vector<Control> end{Control::tracks, Control::volume, Control::full_screen};
    bool operator==(const Bar&) const = default;
};

/// What follows at the end of a source, when there are several.
enum class Queue { off, once, repeat_one, repeat_all };
std::string_view queue_name(Queue queue);

struct PlayerDocument {
    static constexpr int current_version = 1;
    std::string app_name = "New player";
    std::vector<SourceSpec> sources;
    std::string surround = "#17131A";  ///< Colour beside the picture.
    Time skip = 10_s;                  ///< What back and forward skip by.
    Time hide_after = 3_s;             ///< Controls hide after so long of playing without the pointer.
    double volume = 1;
    Time open_within = open_deadline;  ///< For opening as a whole; then it fails in words.
    Bar bar;
    Queue queue = Queue::off;
    Mount mount = Mount::window;     ///< What the workshop shows it in.
    std::string target = "desktop";  ///< What sources are judged for (see convert/targets.h).
    bool operator==(const PlayerDocument&) const;
};

nlohmann::json to_json(const PlayerDocument& document);
/// Errors name the place, as a JSON pointer. A newer format is refused as `too-new`.
Result<PlayerDocument> document_from_json(const nlohmann::json& json, std::string_view subject);
Result<PlayerDocument> load_document(const std::filesystem::path& path);
Outcome save_document(const PlayerDocument& document, const std::filesystem::path& path);
/// Where a source is, for a document in `folder`: a path, or its address as it stands.
std::string resolve(const std::string& file, const std::filesystem::path& folder);
inline std::string resolve(const SourceSpec& source, const std::filesystem::path& folder) {
    return resolve(source.file, folder);
}
OpenOptions open_options(const PlayerDocument& document, const SourceSpec& source, const std::filesystem::path& folder);
/// "harbour-lights" for "Harbour Lights": what files and programs may be called. Never empty.
std::string file_stem(std::string_view app_name);

/// What a review of the player turns up.
struct DocumentFinding {
    std::string sentence, why;
    std::size_t source;  ///< Number in `sources`.
};
/// `ask` opens what lies on this machine; addresses are not asked.
std::vector<DocumentFinding> review(const PlayerDocument& document, const std::filesystem::path& folder,
                                    const InfoOf& ask = info_of);

}  // namespace ruedo
