// SPDX-License-Identifier: Apache-2.0
// What a review of the player turns up.
#include <fmt/format.h>

#include <algorithm>

#include "capture/camera.h"
#include "player/player.h"

namespace ruedo {
namespace fs = std::filesystem;

namespace {
using Fix = DocumentFinding::Fix;
Fix put_fix(std::string_view what, const char* kind) {
    return {fmt::format("Put {} on it", what),
            [kind](PlayerDocument& d) { d.player().put({.kind = &control_kind(kind)}, "centre"); }};
}
/// What can never be as it is written, and states that nothing leads out of.
void review_controls(const PlayerDocument& d, std::vector<DocumentFinding>& found) {
    auto& p = d.player();
    auto usable = [&](std::initializer_list<std::string_view> kinds) {
        return std::any_of(p.controls.begin(), p.controls.end(), [&](auto& c) {
            auto when = Condition::parse(c.settings.when), use = Condition::parse(c.settings.usable);
            return std::find(kinds.begin(), kinds.end(), c.kind->name) != kinds.end() && when && use &&
                   when->goes_with(*use);
        });
    };
    for (std::size_t i = 0; i < p.controls.size(); ++i) {
        auto& c = p.controls[i];
        auto at = fmt::format("/players/0/controls/{}", i);
        auto when = Condition::parse(c.settings.when), use = Condition::parse(c.settings.usable);
        if (!when || !use) continue;
        if (!when->possible())
            found.push_back({"never-seen", fmt::format("“{}” never appears: “{}” is never so.", c.name, when->text()),
                             "No moment fulfils its condition.", at + "/when",
                             Fix{"Let it appear as its kind does",
                                 [i](auto& doc) { doc.player().controls.at(i).settings.when.clear(); }}});
        else if (!use->possible())
            found.push_back({"never-usable",
                             fmt::format("“{}” can never be used: “{}” is never so.", c.name, use->text()),
                             "No moment fulfils its condition.", at + "/usable",
                             Fix{"Let it be used whenever it can do something",
                                 [i](auto& doc) { doc.player().controls.at(i).settings.usable.clear(); }}});
        else if (!when->goes_with(*use))
            found.push_back({"never-usable", fmt::format("“{}” can be used only while it is not to be seen.", c.name),
                             fmt::format("“{}” and “{}” are never so together.", when->text(), use->text()),
                             at + "/usable", Fix{"Let it be used whenever it can do something", [i](auto& doc) {
                                                     doc.player().controls.at(i).settings.usable.clear();
                                                 }}});
        if (c.kind->name == "words" && c.settings.words.empty())
            found.push_back({"says-nothing", fmt::format("“{}” says nothing.", c.name),
                             "Give it words, or take it away.", at + "/template",
                             Fix{"Take it away", [i](auto& doc) {
                                     doc.player().controls.erase(doc.player().controls.begin() +
                                                                 static_cast<std::ptrdiff_t>(i));
                                 }}});
    }
    if (d.sources.empty()) return;
    if (d.sources.front().start.how == Start::How::hold && !usable({"toggle", "play", "start"}))
        found.push_back({"no-way-to-start", "The player is held at the start and no control sets it going.",
                         "Put a control that plays on it, or let the source start by itself.", "/players/0/controls",
                         put_fix("the large mark", "start")});
    if (!usable({"failure"}))
        found.push_back({"silent-failure", "When it fails, nothing on the player says so.",
                         "Put the failure sign on it; without it an empty screen is all there is.",
                         "/players/0/controls", put_fix("the failure sign", "failure")});
    else if (!usable({"retry", "leave", "next", "previous", "strip"}))
        found.push_back({"no-way-on", "When it has failed, nothing on the player leads on.",
                         "Put “try again” or “leave” on it.", "/players/0/controls", put_fix("“try again”", "retry")});
}
}  // namespace

std::vector<DocumentFinding> review(const PlayerDocument& d, const fs::path& folder, const InfoOf& ask) {
    std::vector<DocumentFinding> found;
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
    review_controls(d, found);
    return found;
}

}  // namespace ruedo
