// SPDX-License-Identifier: Apache-2.0
#include "codec/codec.h"
#include "demo/catalogue.h"

#include <unistd.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "container/container.h"
#include "picture/picture.h"

namespace ruedo::demo {
namespace fs = std::filesystem;

namespace {
/// What is played of an entry of the folder: of a stream, which is a folder of its own, the playlist on top.
fs::path playlist_of(const fs::path& entry) {
    std::error_code ec;
    return fs::is_directory(entry, ec) ? entry / "master.m3u8" : entry;
}
}  // namespace

void serve_catalogue(LoopbackServer& server, const fs::path& folder) {
    std::error_code ec;
    for (fs::directory_iterator it(folder, ec), end; !ec && it != end; it.increment(ec)) {
        auto clip = open_clip(playlist_of(it->path()).string());
        if (!clip) continue;
        std::error_code gone;
        for (fs::recursive_directory_iterator part(it->path(), gone), last; !gone && part != last; part.increment(gone))
            if (part->is_regular_file())
                server.serve("/media/" + part->path().lexically_relative(folder).generic_string(),
                             {.file = part->path().string(), .type = "application/octet-stream"});
        if (it->is_directory()) continue;
        server.serve("/media/" + it->path().filename().string(), {.file = it->path().string(), .type = "video/*"});
    }
    server.answer("/clips/", [folder](const Asked& asked) -> Answered {
        auto id = asked.path.substr(asked.path.rfind('/') + 1);
        auto key = asked.headers.find("Authorization");
        if (key == asked.headers.end()) return {401, "application/json", "{}"};
        if (key->second != std::string("Bearer ") + catalogue_key) return {403, "application/json", "{}"};
        if (id == "old-pier") return {410, "application/json", "{}"};
        std::error_code gone;
        for (fs::directory_iterator it(folder, gone), end; !gone && it != end; it.increment(gone)) {
            if (it->path().stem() != id) continue;
            auto played = playlist_of(it->path());
            auto clip = open_clip(played.string());
            if (!clip) break;
            std::string title = id;
            title[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(title[0])));
            std::replace(title.begin(), title.end(), '-', ' ');
            nlohmann::json j{{"format", "ruedo-catalogue"},
                             {"version", 1},
                             {"id", id},
                             {"title", title},
                             {"duration_ns", (*clip)->info().duration.ns},
                             {"poster", "/posters/" + id},
                             {"play",
                              {{"form", it->is_directory() ? "stream" : "file"},
                               {"address", "/media/" + played.lexically_relative(folder).generic_string()}}}};
            return {200, "application/json", j.dump()};
        }
        return {404, "application/json", "{}"};
    });
    server.answer("/posters/", [folder](const Asked& asked) -> Answered {
        auto id = asked.path.substr(asked.path.rfind('/') + 1);
        std::error_code gone;
        for (fs::directory_iterator it(folder, gone), end; !gone && it != end; it.increment(gone)) {
            if (it->path().stem() != id) continue;
            auto opened = open_clip(playlist_of(it->path()).string());
            if (!opened) break;
            std::shared_ptr<Clip> clip = std::move(*opened);
            auto* track = clip->info().main(Kind::video);
            if (!track) break;
            auto reader = FrameReader::open(clip, *track, CodecRegistry::standard());
            if (!reader) break;
            auto picture = (*reader)->at(1_s);
            if (!picture) break;
            auto place = fs::temp_directory_path() / ("ruedo-poster-" + std::to_string(::getpid()) + "-" + id + ".png");
            auto r = fit_rect(Fit::contain, track->video.display_width(), track->video.display_height(), 392, 256);
            if (!write_png(place, render(*picture, static_cast<int>(r.width), static_cast<int>(r.height)))) break;
            auto bytes = read_file(place);
            fs::remove(place, gone);
            if (bytes) return {200, "image/png", std::string(bytes->begin(), bytes->end())};
            break;
        }
        return {404, "application/json", "{}"};
    });
}

}  // namespace ruedo::demo
