// SPDX-License-Identifier: Apache-2.0
// What a review of the player turns up.
#include <fmt/format.h>

#include <algorithm>

#include "capture/camera.h"
#include "player/player.h"

namespace ruedo {
namespace fs = std::filesystem;

std::vector<DocumentFinding> review(const PlayerDocument& d, const fs::path& folder, const InfoOf& ask) {
    std::vector<DocumentFinding> found;
    for (std::size_t i = 0; i < d.sources.size(); ++i) {
        auto& s = d.sources[i];
        auto path = resolve(s, folder);
        std::error_code ec;
        if (!s.poster.empty()) {
            if (auto poster = resolve(s.poster, folder); !is_address(poster) && !fs::exists(poster, ec))
                found.push_back({fmt::format("There is no poster “{}”.", s.poster),
                                 "The first frame would stand in its place.", i});
        }
        if (is_address(path)) {
            if (is_camera(path)) {
                auto cameras = list_cameras();
                auto id = camera_id(path);
                if (std::none_of(cameras.begin(), cameras.end(), [&](auto& c) { return c.id == id; }))
                    found.push_back({fmt::format("The camera of “{}” is not connected.", s.name),
                                     "Plug it in, or choose another one.", i});
            }
            // The network is not asked at every change; the address itself tells this much.
            if (path.starts_with("catalogue"))
                found.push_back(
                    {fmt::format("“{}” needs an access key, which is not packed with the app.", s.name),
                     "Keys stay in the settings of each user; give your users theirs, or pack the clip itself.", i});
            if (path.starts_with("http://") || path.starts_with("catalogue://"))
                found.push_back({fmt::format("“{}” comes over an address without encryption.", s.name),
                                 "Handsets refuse such addresses by default; serve it over https.", i});
            continue;
        }
        if (!fs::exists(path, ec)) {
            auto near = nearest_name(path);
            found.push_back(
                {fmt::format("There is no file “{}”.", s.file),
                 near ? fmt::format("The nearest name is “{}”. The player would show an error instead of a picture.",
                                    near->filename().string())
                      : "The player would show an error instead of a picture.",
                 i});
            continue;
        }
        auto info = ask(path);
        if (!info) {
            found.push_back({info.error().sentence, info.error().hint, i});
            continue;
        }
        auto& known = *info;
        if (auto tracks = select_tracks(known, CodecRegistry::standard()); !tracks)
            found.push_back({tracks.error().sentence, tracks.error().hint, i});
        for (auto& f : known.findings) found.push_back({f.sentence, f.hint, i});
        if (s.loop.kind == Loop::Kind::range && known.duration_known && s.loop.to > known.duration)
            found.push_back(
                {fmt::format("The loop of “{}” ends at {}, after the clip does.", s.name, format_time(s.loop.to)),
                 fmt::format("It would end at {} instead.", format_time(known.duration)), i});
        if (s.fit == Fit::fill)
            found.push_back({fmt::format("“{}” is stretched to fill its place.", s.name),
                             "Its shape changes with the window’s; contain or cover keep it.", i});
    }
    auto has = [&](Control c) {
        for (auto* group : {&d.bar.start, &d.bar.middle, &d.bar.end})
            if (std::find(group->begin(), group->end(), c) != group->end()) return true;
        return false;
    };
    if (!d.sources.empty() && !has(Control::toggle) && d.sources.front().start.how == Start::How::hold)
        found.push_back({"The player is held at the start and no control sets it going.",
                         "Put the play control on the bar, or let the source start by itself.", 0});
    return found;
}

}  // namespace ruedo
