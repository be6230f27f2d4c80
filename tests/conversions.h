// SPDX-License-Identifier: Apache-2.0
// What the tests of conversion share: what is seen and heard in a file, and making one of another.
#pragma once
#include <cmath>
#include <set>

#include "convert/conversion.h"
#include "support.h"

namespace ruedo::test {

struct Seen {
    Time pts{};
    int number = -1;
};
inline std::vector<Seen> pictures_in(const fs::path& path, Time until = Time::max()) {
    std::shared_ptr<Clip> clip = value(open_clip(path.string()));
    auto* track = clip->info().main(Kind::video);
    REQUIRE(track);
    auto reader = value(PictureReader::open(clip, *track, CodecRegistry::standard()));
    std::vector<Seen> all;
    for (auto p = value(reader->next()); p && p->pts < until; p = value(reader->next()))
        all.push_back({p->pts, demo::read_strip(render(*p)).value_or(-1)});
    return all;
}
/// Where bursts begin, in samples.
inline std::vector<std::size_t> onsets_in(const fs::path& path) {
    auto sound = sound_of(std::shared_ptr<Clip>(value(open_clip(path.string()))));
    std::vector<std::size_t> all;
    std::size_t quiet = 48000;
    for (std::size_t i = 0; i < sound.size() / 2; ++i) {
        bool loud = std::abs(sound[2 * i]) > 0.1F;
        if (loud && quiet > 9600) all.push_back(i);
        quiet = loud ? 0 : quiet + 1;
    }
    return all;
}
/// Quickly: what is looked at is not how well pictures are encoded.
inline Converted made(const std::string& source, const fs::path& out, Recipe recipe = {}) {
    recipe.video.effort = 0;
    return value(convert(source, {.out = out, .recipe = recipe, .target = {}}, CodecRegistry::standard()));
}
inline Error refused(const std::string& source, const fs::path& out, const Recipe& recipe = {}) {
    auto result = convert(source, {.out = out, .recipe = recipe, .target = {}}, CodecRegistry::standard());
    REQUIRE_FALSE(result.has_value());
    return result.error();
}
inline bool says(const Converted& c, const std::string& code) {
    return std::any_of(c.findings.begin(), c.findings.end(), [&](auto& f) { return f.code == code; });
}
/// Nothing but what is named lies in a folder.
inline void holds_only(const Folder& folder, std::set<std::string> names) {
    std::set<std::string> there;
    for (auto& e : fs::directory_iterator(folder.path)) there.insert(e.path().filename().string());
    CHECK(there == names);
}

}  // namespace ruedo::test
