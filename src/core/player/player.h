// SPDX-License-Identifier: Apache-2.0
// The player document: which sources, how they start, loop and fit, which controls sit where. A project file and a
// packed app's document are the same format (docs/project.md, docs/project.schema.json).
#pragma once
#include <filesystem>
#include <nlohmann/json_fwd.hpp>

#include "container/container.h"
#include "convert/recipe.h"
#include "io/http.h"
#include "io/json_text.h"
#include "playback/playback.h"
#include "player/conditions.h"
#include "player/controls.h"
#include "player/host_life.h"
#include "player/room.h"
#include "player/theme.h"

namespace ruedo {

enum class Mount { window, handset_upright, handset_sideways, tablet, wall, room };
std::span<const std::string_view> mount_names();  ///< In the order of the enumeration.
std::string_view mount_name(Mount mount);
std::optional<Mount> mount_from_name(std::string_view name);

/// What a source becomes where a target does not take it as it is.
struct PreparedSpec {
    std::string target;            ///< Its name.
    std::optional<Recipe> recipe;  ///< As it was chosen; the target's own proposal without.
    std::string file;              ///< What was made by it, written as a source's `file` is; empty before.
    bool operator==(const PreparedSpec&) const = default;
};

struct SourceSpec {
    std::string name;  ///< What the card and the app call it.
    std::string file;  ///< As written: relative to the document, or absolute.
    Start start;
    Loop loop;
    Fit fit = Fit::contain;
    double align_x = 0.5, align_y = 0.5;  ///< 0 left or top, 1 right or bottom.
    /// What stands in front of the first frame until it is started: a picture (PNG or JPEG, written as `file` is), a
    /// frame of the clip, or nothing; without any of these the first frame itself.
    std::string poster;
    std::optional<Time> poster_at;
    bool no_poster = false;
    bool has_poster() const { return !poster.empty() || poster_at || no_poster; }
    std::vector<std::string> captions;          ///< Files of captions, written as `file` is.
    std::string audio_language, text_language;  ///< Chosen from the start, where the clip has them (BCP 47).
    std::vector<PreparedSpec> prepared;         ///< At most one for each target.
    std::string extra;                          ///< Members this version does not know: JSON, or nothing.
    bool operator==(const SourceSpec&) const;
    const PreparedSpec* prepared_for(std::string_view target) const;
    /// The same, made where there is none.
    PreparedSpec& prepare_for(std::string_view target);
};

/// A bar of controls: on the picture, right beside it, or clear of it by a gap.
struct BarSpec {
    enum class Edge { bottom, top };
    enum class Where { on, beside, clear };
    std::string name = "foot";
    Edge edge = Edge::bottom;
    Where where = Where::on;
    ThemeSpec theme{};                  ///< Counts before its player's.
    double cover = 0.93;                ///< How much of what is behind it its plate covers, 0 to 1.
    std::optional<FloatSpec> floats{};  ///< In a room, where it lies beside the picture; as `float_of` has it without.
    std::string extra{};
    bool operator==(const BarSpec&) const = default;
};
/// How a bar beside the picture hangs in a room.
FloatSpec float_of(const BarSpec& bar);

/// What happens at the end of a source.
enum class AtEnd { hold, next, again, round, poster, leave };
std::span<const std::string_view> at_end_names();  ///< In the order of the enumeration.
std::string_view at_end_name(AtEnd at_end);

/// What a packed app keeps of a player from one run to the next.
enum class Remember { volume, place, captions };
std::span<const std::string_view> remember_names();  ///< In the order of the enumeration.

/// How the picture is drawn, whatever the source.
struct VideoSpec {
    std::string surround = "#17131A";         ///< Colour beside the picture.
    int corner = 0;                           ///< Radius of its corners, in pixels of the mount.
    int render_width = 0, render_height = 0;  ///< Size it is drawn at before it is scaled; 0: as large as it is seen.
    bool blocky = false;                      ///< Scaled in blocks instead of smoothly.
    std::string extra;
    bool operator==(const VideoSpec&) const = default;
};

struct PlayerSpec {
    std::string name = "Player";  ///< Of its own in the document.
    /// Its queue: sources by name, in this order; without one, all there are.
    std::optional<std::vector<std::string>> sources;
    AtEnd at_end = AtEnd::hold;
    VideoSpec picture;
    ThemeSpec theme;
    double volume = 1, speed = 1;
    bool muted = false;
    Time hide_after = 3_s;             ///< What hides does so after so long of playing without a touch.
    Time give_up_after{};              ///< The picture starves for longer: the failure sign; 0 waits for ever.
    Time open_within = open_deadline;  ///< For opening as a whole; then it fails in words.
    std::vector<BarSpec> bars;
    std::vector<ControlSpec> controls;  ///< In each group and place, in this order.
    HangSpec hang;                      ///< In a room.
    HostSpec host;                      ///< What it does when something happens to its app.
    std::vector<Remember> remembered;   ///< In the order of the enumeration, each at most once.
    bool remembers(Remember r) const;
    std::string extra;
    bool operator==(const PlayerSpec&) const = default;

    const BarSpec* bar(std::string_view name) const;
    const ControlSpec* control(std::string_view name) const;
    /// Numbers in `controls` of those that stand in a slot, in order.
    std::vector<std::size_t> in_slot(std::string_view slot) const;
    /// What counts on a bar, or on the picture where there is none.
    ThemeSpec theme_on(const BarSpec* bar) const { return bar ? inheriting(bar->theme, theme) : theme; }
    /// "volume", or "volume 2" where that is taken.
    std::string free_name(std::string_view wanted) const;
    /// Puts a control into a slot, before the `at`-th there (the last where there are fewer); its name is made free.
    std::size_t put(ControlSpec control, std::string_view slot, std::size_t at = SIZE_MAX);
    /// Moves one; `at` counts without it.
    void move(std::size_t control, std::string_view slot, std::size_t at = SIZE_MAX);
};
/// What a new document has: the usual controls on one bar at the foot.
PlayerSpec usual_player();

/// How several players share the screen.
struct ScreenSpec {
    enum class Arrangement { row, column, stage };  ///< `stage`: the first one large, the others in a strip.
    Arrangement arrangement = Arrangement::row;
    int gap = 8;                     ///< Between them, in pixels of the mount.
    std::string ground = "#17131A";  ///< Colour of what lies between them.
    bool one_sounds = false;         ///< A player that starts to sound mutes the others.
    std::string extra;
    bool operator==(const ScreenSpec&) const = default;
};
std::span<const std::string_view> arrangement_names();  ///< In the order of the enumeration.

struct PlayerDocument {
    static constexpr int current_version = 2;
    static constexpr std::size_t most_players = 12;
    std::string app_name = "New player";
    std::vector<SourceSpec> sources;
    std::vector<PlayerSpec> players{usual_player()};  ///< Never none.
    ScreenSpec screen;
    int mount_width = 0, mount_height = 0;  ///< In pixels; 0: the mount's own size, or the room there is.
    Mount mount = Mount::window;            ///< What the workshop shows it in, and a packed app.
    RoomSpec room;                          ///< What they hang in, where that is the mount.
    std::string target = "desktop";         ///< What sources are judged for (see convert/targets.h).
    std::string extra;
    int version = current_version;  ///< Of what was read; a newer one is shown and not written.
    bool operator==(const PlayerDocument&) const = default;
    bool newer() const { return version > current_version; }
    /// "Player 2" where "Player" is taken.
    std::string free_player_name(std::string_view wanted) const;
    PlayerSpec& player(std::size_t i = 0) { return players.at(i); }
    const PlayerSpec& player(std::size_t i = 0) const { return players.at(i); }
};

nlohmann::json to_json(const PlayerDocument& document);
/// The document's JSON Schema, made from the tables.
nlohmann::json project_schema();
/// Errors name the place, as a JSON pointer. Members that are not known are kept. A newer format is read as far as it
/// is understood (`newer`); where it is not, it is refused as `too-new`.
Result<PlayerDocument> document_from_json(const nlohmann::json& json, std::string_view subject);
/// What makes a text no document: the error, the JSON pointer it is about, and where that stands.
struct DocumentFault {
    Error error;
    std::string where;
    TextPlace place;
};
std::expected<PlayerDocument, DocumentFault> document_from_text(ByteView text, std::string_view subject);
constexpr std::uint64_t most_document_bytes = 16 << 20;
/// Errors name the line as well.
Result<PlayerDocument> load_document(const std::filesystem::path& path);
/// A document of a newer format is refused (`too-new`): what was not understood would be lost.
Status save_document(const PlayerDocument& document, const std::filesystem::path& path);
/// Where a source is, for a document in `folder`: a path, or its address as it stands.
std::string resolve(const std::string& file, const std::filesystem::path& folder);
inline std::string resolve(const SourceSpec& source, const std::filesystem::path& folder) {
    return resolve(source.file, folder);
}
/// Whether a file is there and begins as a PNG or a JPEG does.
Status check_poster(const std::string& file);
/// The document as it is played and packed for its target: what was made for that stands in a source's place, once it
/// is there.
PlayerDocument for_target(PlayerDocument document, const std::filesystem::path& folder);
OpenOptions open_options(const PlayerDocument& document, const SourceSpec& source, const std::filesystem::path& folder);
/// "harbour-lights" for "Harbour Lights": what files and programs may be called. Never empty.
std::string file_stem(std::string_view app_name);

/// An error is what can’t have been meant: something would fail, stay empty or be refused.
enum class Severity { finding, error };

/// What a review of the player turns up.
struct DocumentFinding {
    std::string code, sentence, why;
    std::string where;  ///< JSON pointer.
    struct Fix {
        std::string words;  ///< "Put “try again” on it".
        std::function<void(PlayerDocument&)> apply;
    };
    std::optional<Fix> fix{};  ///< Where a press can fix it.
    Severity severity = Severity::finding;
};
/// For people: what is found of several sources alike becomes one finding that names them, with one fix for all.
std::vector<DocumentFinding> gather_findings(std::vector<DocumentFinding> found, const PlayerDocument& document);
/// `ask` opens what lies on this machine; addresses are not asked.
std::vector<DocumentFinding> review(const PlayerDocument& document, const std::filesystem::path& folder,
                                    const InfoOf& ask = info_of);

}  // namespace ruedo
