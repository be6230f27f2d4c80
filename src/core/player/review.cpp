// SPDX-License-Identifier: Apache-2.0
// What a review of the player turns up.
#include <fmt/format.h>

#include <algorithm>

#include "capture/camera.h"
#include "player/rules.h"
#include "player/screen.h"

namespace ruedo {
namespace fs = std::filesystem;

namespace {
using Fix = DocumentFinding::Fix;

/// What one player of a document can never be as it is written, and states that nothing leads out of.
class PlayerReview {
  public:
    PlayerReview(const PlayerDocument& d, std::size_t player, std::vector<DocumentFinding>& found)
        : d_(d), player_(player), p_(d.player(player)), at_(fmt::format("/players/{}/", player)), found_(found) {
        for (std::size_t i = 0; i < p_.controls.size(); ++i) review_control(i);
        auto queue = queue_of(d, player);
        if (queue.empty()) {
            if (!d.sources.empty())
                note({"nothing-to-play", of("", "there is nothing to play."), "Its place on the screen stays empty.",
                      at_ + "sources",
                      Fix{"Let it play every source", [player](auto& doc) { doc.player(player).sources.reset(); }}});
            return;
        }
        auto controls = at_ + "controls";
        if (d.sources[queue.front()].start.how == Start::How::hold && !usable({"toggle", "play", "start"}))
            note({"no-way-to-start", of("The player is", "it is", " held at the start and no control sets it going."),
                  "Put a control that plays on it, or let the source start by itself.", controls,
                  put("the large mark", "start")});
        if (!usable({"failure"}))
            note({"silent-failure", of("When it fails,", "when it fails,", " nothing on the player says so."),
                  "Put the failure sign on it; without it an empty screen is all there is.", controls,
                  put("the failure sign", "failure")});
        else if (!usable({"retry", "leave", "next", "previous", "strip"}))
            note({"no-way-on", of("When it has failed,", "when it has failed,", " nothing on the player leads on."),
                  "Put “try again” or “leave” on it.", controls, put("“try again”", "retry")});
    }

  private:
    void note(DocumentFinding f) { found_.push_back(std::move(f)); }
    /// Where there are several, each is named first.
    std::string of(std::string_view alone, std::string_view named, std::string_view rest = {}) const {
        if (d_.players.size() == 1) return fmt::format("{}{}", alone.empty() ? named : alone, rest);
        return fmt::format("On “{}” {}{}", p_.name, named, rest);
    }
    std::string control_of(const ControlSpec& c) const {
        return d_.players.size() == 1 ? fmt::format("“{}”", c.name) : fmt::format("“{}” on “{}”", c.name, p_.name);
    }
    Fix put(std::string_view what, const char* kind) const {
        return {fmt::format("Put {} on it", what), [kind, player = player_](PlayerDocument& d) {
                    d.player(player).put({.kind = &control_kind(kind)}, "centre");
                }};
    }
    template <class Change>
    Fix change(std::string words, std::size_t control, Change how) const {
        return {std::move(words), [player = player_, control, how](PlayerDocument& d) {
                    how(d.player(player).controls.at(control).settings);
                }};
    }
    bool usable(std::initializer_list<std::string_view> kinds) const {
        return std::any_of(p_.controls.begin(), p_.controls.end(), [&](auto& c) {
            auto when = Condition::parse(c.settings.when), use = Condition::parse(c.settings.usable);
            return std::find(kinds.begin(), kinds.end(), c.kind->name) != kinds.end() && when && use &&
                   when->goes_with(*use);
        });
    }
    void review_control(std::size_t i) {
        auto& c = p_.controls[i];
        auto at = fmt::format("{}controls/{}", at_, i);
        auto when = Condition::parse(c.settings.when), use = Condition::parse(c.settings.usable);
        if (!when || !use) return;
        auto whenever = [&] {
            return change("Let it be used whenever it can do something", i, [](auto& s) { s.usable.clear(); });
        };
        if (!when->possible())
            note({"never-seen", fmt::format("{} never appears: “{}” is never so.", control_of(c), when->text()),
                  "No moment fulfils its condition.", at + "/when",
                  change("Let it appear as its kind does", i, [](auto& s) { s.when.clear(); })});
        else if (!use->possible())
            note({"never-usable", fmt::format("{} can never be used: “{}” is never so.", control_of(c), use->text()),
                  "No moment fulfils its condition.", at + "/usable", whenever()});
        else if (!when->goes_with(*use))
            note({"never-usable", fmt::format("{} can be used only while it is not to be seen.", control_of(c)),
                  fmt::format("“{}” and “{}” are never so together.", when->text(), use->text()), at + "/usable",
                  whenever()});
        if (c.kind->name == "words" && c.settings.words.empty())
            note({"says-nothing", fmt::format("{} says nothing.", control_of(c)), "Give it words, or take it away.", at,
                  Fix{"Take it away", [player = player_, i](PlayerDocument& d) {
                          auto& controls = d.player(player).controls;
                          controls.erase(controls.begin() + static_cast<std::ptrdiff_t>(i));
                      }}});
    }

    const PlayerDocument& d_;
    std::size_t player_;
    const PlayerSpec& p_;
    std::string at_;
    std::vector<DocumentFinding>& found_;
};

/// What several players do to each other, and what none of them plays.
void review_screen(const PlayerDocument& d, std::vector<DocumentFinding>& found) {
    std::vector<std::string_view> loud;
    std::vector<bool> played(d.sources.size());
    for (std::size_t p = 0; p < d.players.size(); ++p) {
        for (auto i : queue_of(d, p)) played[i] = true;
        if (starts_loud(d, p)) loud.push_back(d.player(p).name);
    }
    if (loud.size() > 1 && !d.screen.one_sounds)
        found.push_back({"all-at-once",
                         fmt::format("“{}” and “{}” both start by themselves with their sound on.", loud[0], loud[1]),
                         "They would be heard at the same time.", "/players",
                         Fix{"Let one sound at a time", [](auto& doc) { doc.screen.one_sounds = true; }}});
    for (std::size_t i = 0; i < played.size(); ++i)
        if (!played[i])
            found.push_back({"never-played", fmt::format("No player plays “{}”.", d.sources[i].name),
                             "It would be packed and never be seen.", fmt::format("/sources/{}", i),
                             Fix{"Take it off the shelf", [i](auto& doc) { remove_source(doc, i); }}});
}
}  // namespace

std::vector<DocumentFinding> review(const PlayerDocument& d, const fs::path& folder, const InfoOf& ask) {
    std::vector<DocumentFinding> found;
    std::vector<std::optional<ClipInfo>> clips(d.sources.size());
    for (std::size_t i = 0; i < d.sources.size(); ++i) {
        auto& s = d.sources[i];
        auto path = resolve(s, folder);
        auto at = fmt::format("/sources/{}", i);
        std::error_code ec;
        if (!s.poster.empty()) {
            if (auto poster = resolve(s.poster, folder); !is_address(poster) && !fs::exists(poster, ec))
                found.push_back(
                    {"no-poster", fmt::format("There is no poster “{}”.", s.poster),
                     "The first frame would stand in its place.", at + "/poster",
                     Fix{"Begin on its first frame", [i](auto& doc) { doc.sources.at(i).poster.clear(); }}});
        }
        if (is_address(path)) {
            if (is_camera(path)) {
                auto cameras = list_cameras();
                auto id = camera_id(path);
                if (std::none_of(cameras.begin(), cameras.end(), [&](auto& c) { return c.id == id; }))
                    found.push_back({"no-camera", fmt::format("The camera of “{}” is not connected.", s.name),
                                     "Plug it in, or choose another one.", at + "/file"});
            }
            // The network is not asked at every change; the address itself tells this much.
            if (path.starts_with("catalogue"))
                found.push_back(
                    {"needs-key", fmt::format("“{}” needs an access key, which is not packed with the app.", s.name),
                     "Keys stay in the settings of each user; give your users theirs, or pack the clip itself.",
                     at + "/file"});
            if (path.starts_with("http://") || path.starts_with("catalogue://"))
                found.push_back({"clear-text", fmt::format("“{}” comes over an address without encryption.", s.name),
                                 "Handsets refuse such addresses by default; serve it over https.", at + "/file"});
            continue;
        }
        if (!fs::exists(path, ec)) {
            auto near = nearest_name(path);
            found.push_back(
                {"no-file", fmt::format("There is no file “{}”.", s.file),
                 near ? fmt::format("The nearest name is “{}”. The player would show an error instead of a picture.",
                                    near->filename().string())
                      : "The player would show an error instead of a picture.",
                 at + "/file",
                 near ? std::optional(Fix{fmt::format("Take “{}”", near->filename().string()),
                                          [i, name = near->filename()](auto& doc) {
                                              auto& file = doc.sources.at(i).file;
                                              file = (fs::path(file).parent_path() / name).string();
                                          }})
                      : std::nullopt});
            continue;
        }
        auto info = ask(path);
        if (!info) {
            found.push_back(
                {std::string(code_name(info.error().code)), info.error().sentence, info.error().hint, at + "/file"});
            continue;
        }
        auto& known = *info;
        clips[i] = known;
        if (auto tracks = select_tracks(known, CodecRegistry::standard()); !tracks)
            found.push_back({std::string(code_name(tracks.error().code)), tracks.error().sentence, tracks.error().hint,
                             at + "/file"});
        for (auto& f : known.findings) found.push_back({f.code, f.sentence, f.hint, at + "/file"});
        if (s.loop.kind == Loop::Kind::range && known.duration_known && s.loop.to > known.duration)
            found.push_back(
                {"loop-too-long",
                 fmt::format("The loop of “{}” ends at {}, after the clip does.", s.name, format_time(s.loop.to)),
                 fmt::format("It would end at {} instead.", format_time(known.duration)), at + "/loop",
                 Fix{"End it there", [i, end = known.duration](auto& doc) {
                         auto& l = doc.sources.at(i).loop;
                         l.to = end;
                         if (l.to <= l.from) l = {};
                     }}});
        if (s.fit == Fit::fill)
            found.push_back({"stretched", fmt::format("“{}” is stretched to fill its place.", s.name),
                             "Its shape changes with the window’s; contain or cover keep it.", at + "/fit",
                             Fix{"Show it whole", [i](auto& doc) { doc.sources.at(i).fit = Fit::contain; }}});
    }
    for (std::size_t p = 0; p < d.players.size(); ++p) PlayerReview(d, p, found);
    review_screen(d, found);
    Reviewing reviewing{d, folder, clips, found};
    for (auto& rule : review_rules()) reviewing.rule = &rule, rule.run(reviewing);
    return found;
}

}  // namespace ruedo
