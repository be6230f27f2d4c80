// SPDX-License-Identifier: Apache-2.0
// What a review of the player turns up.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>

#include "capture/camera.h"
#include "convert/targets.h"
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
                found.push_back({"no-poster", fmt::format("There is no poster “{}”.", s.poster),
                                 "The first frame is shown instead.", at + "/poster",
                                 Fix{"Use its first frame", [i](auto& doc) { doc.sources.at(i).poster.clear(); }}});
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
                     "Keys are kept per user; give your users their own, or pack the clip itself.", at + "/file"});
            if (path.starts_with("http://") || path.starts_with("catalogue://"))
                found.push_back({"clear-text", fmt::format("“{}” has an unencrypted address.", s.name),
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
                      : std::nullopt,
                 Severity::error});
            continue;
        }
        auto info = ask(path);
        if (!info) {
            found.push_back({std::string(error_code_name(info.error().code)), info.error().sentence, info.error().hint,
                             at + "/file", std::nullopt, Severity::error});
            continue;
        }
        auto& known = *info;
        clips[i] = known;
        if (auto tracks = select_tracks(known, CodecRegistry::standard()); !tracks)
            found.push_back({std::string(error_code_name(tracks.error().code)), tracks.error().sentence,
                             tracks.error().hint, at + "/file", std::nullopt, Severity::error});
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
                             Fix{"Contain it", [i](auto& doc) { doc.sources.at(i).fit = Fit::contain; }}});
    }
    Reviewing reviewing{d, folder, clips, found};
    for (auto& rule : review_rules()) reviewing.rule = &rule, rule.run(reviewing);
    return found;
}

namespace {
/// The source that a finding is about; nothing of others.
std::optional<std::size_t> source_of(const DocumentFinding& f, const PlayerDocument& d) {
    constexpr std::string_view sources = "/sources/";
    if (!f.where.starts_with(sources)) return {};
    std::size_t n = 0;
    auto digits = std::string_view(f.where).substr(sources.size());
    auto [end, ec] = std::from_chars(digits.data(), digits.data() + digits.size(), n);
    return ec == std::errc{} && n < d.sources.size() ? std::optional(n) : std::nullopt;
}
/// “A”, “B” and “C”.
std::string listed(const std::vector<std::string>& names) {
    std::string all;
    for (std::size_t i = 0; i < names.size(); ++i)
        all += fmt::format("{}“{}”", i == 0 ? "" : i + 1 == names.size() ? " and " : ", ", names[i]);
    return all;
}
}  // namespace

std::vector<DocumentFinding> gather_findings(std::vector<DocumentFinding> found, const PlayerDocument& d) {
    // Of each of these the sentence itself is what matters.
    auto told_apart = [](const std::string& code) {
        static constexpr std::array<std::string_view, 5> codes{"no-file", "no-captions-file", "unread-captions",
                                                               "unread-poster", "no-poster"};
        return std::find(codes.begin(), codes.end(), code) != codes.end();
    };
    std::vector<DocumentFinding> all;
    std::vector<bool> taken(found.size());
    for (std::size_t i = 0; i < found.size(); ++i) {
        if (taken[i]) continue;
        std::vector<std::size_t> alike{i};
        std::vector<std::string> names;
        if (auto first = source_of(found[i], d); first && !told_apart(found[i].code)) {
            names.push_back(d.sources[*first].name);
            for (std::size_t k = i + 1; k < found.size(); ++k)
                if (auto n = source_of(found[k], d);
                    n && found[k].code == found[i].code && found[k].why == found[i].why)
                    alike.push_back(k), names.push_back(d.sources[*n].name), taken[k] = true;
        }
        auto f = found[i];
        if (alike.size() > 1) {
            auto target = find_target(d.target);
            if (f.code == "target-refuses" && target)
                f.sentence =
                    fmt::format("{} sources need converting for {}: {}.", alike.size(), target->title, listed(names));
            else
                f.sentence += fmt::format(" The same goes for {}.", listed({names.begin() + 1, names.end()}));
            std::vector<DocumentFinding::Fix> fixes;
            for (auto k : alike)
                if (found[k].fix) fixes.push_back(*found[k].fix);
            f.fix.reset();
            // From the last on: what takes one away leaves those before it where they are.
            if (fixes.size() == alike.size())
                f.fix = DocumentFinding::Fix{fixes[0].words + ", for all of them", [fixes](PlayerDocument& doc) {
                                                 for (auto fix = fixes.rbegin(); fix != fixes.rend(); ++fix)
                                                     fix->apply(doc);
                                             }};
        }
        all.push_back(std::move(f));
    }
    return all;
}

}  // namespace ruedo
