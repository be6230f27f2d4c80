// SPDX-License-Identifier: Apache-2.0
// What tests of streams share: ladders to be changed, and what is seen of a stream.
#pragma once
#include <fmt/format.h>

#include <numeric>

#include "convert/ladder.h"
#include "stream/host.h"
#include "stream/stream.h"
#include "support.h"

namespace ruedo::test {

inline std::string text_of(const fs::path& path) {
    auto bytes = bytes_of(path);
    return {bytes.begin(), bytes.end()};
}
inline void put_text(const fs::path& path, const std::string& text) {
    fs::create_directories(path.parent_path());
    put(path, ByteView(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
}
/// A folder with a copy of a fixture's ladder, to be changed.
struct Copy {
    Folder folder;
    explicit Copy(const std::string& name) {
        fs::copy(fixture("streams/" + name), folder.path,
                 fs::copy_options::recursive | fs::copy_options::overwrite_existing);
    }
    std::string operator/(const std::string& name) const { return (folder.path / name).string(); }
};
/// Numbers and times of all pictures from the reader's place on.
struct Sights {
    std::vector<int> numbers;
    std::vector<Time> times;
    std::set<std::uint32_t> rungs;
};
inline Sights all_frames(const std::shared_ptr<Clip>& clip) {
    Sights seen;
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    while (auto p = value(reader->next())) {
        seen.numbers.push_back(demo::read_strip(render(*p)).value_or(-1));
        seen.times.push_back(p->pts);
        seen.rungs.insert(p->variant);
    }
    return seen;
}
inline std::vector<int> counting(int n) {
    std::vector<int> all(static_cast<std::size_t>(n));
    std::iota(all.begin(), all.end(), 0);
    return all;
}
inline std::shared_ptr<Clip> opened_stream(const std::string& address, const StreamOptions& options = {}) {
    return value(open_clip(address, options));
}

/// Made once: six seconds in three rungs and segments of a second, in both wraps, with a manifest.
inline const LadderResult& made_ladder() {
    static Folder folder;
    static const auto made = [] {
        LadderOptions o;
        o.out = folder / "ladder";
        o.recipe.rungs = *parse_rungs("96x54@120k,64x36@50k,48x28@30k");
        o.recipe.segment = 1_s;
        o.recipe.transport = o.recipe.dash = true;
        return value(make_ladder(tiny("ladder.mp4").string(), o, CodecRegistry::standard()));
    }();
    return made;
}
}  // namespace ruedo::test
