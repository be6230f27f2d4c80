// SPDX-License-Identifier: Apache-2.0
// What a review of the player turns up.
#include <fmt/format.h>

#include <algorithm>

#include "capture/camera.h"
#include "player/rules.h"

namespace ruedo {
namespace fs = std::filesystem;

std::vector<DocumentFinding> review(const PlayerDocument& d, const fs::path& folder, const InfoOf& ask) {
    using Fix = DocumentFinding::Fix;
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
    Reviewing reviewing{d, folder, clips, found};
    for (auto& rule : review_rules()) reviewing.rule = &rule, rule.run(reviewing);
    return found;
}

}  // namespace ruedo
