// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <cstdlib>

#include "io/transfer.h"
#include "stream/host.h"

namespace ruedo::stream {

std::string live_list(std::string_view finished, Time since, std::size_t window) {
    struct Entry {
        std::vector<std::string> lines;
        std::string map, key;  ///< In force.
        Time duration{};
    };
    std::vector<std::string> head;
    std::vector<Entry> entries;
    Entry next;
    std::string map, key;
    while (!finished.empty()) {
        auto raw = finished.substr(0, finished.find('\n'));
        finished.remove_prefix(std::min(finished.size(), raw.size() + 1));
        auto line = transfer::trimmed(raw);
        if (line.starts_with("#EXT-X-STREAM-INF") || line.empty()) continue;
        bool about_all = line == "#EXTM3U";
        for (auto tag :
             {"#EXT-X-VERSION", "#EXT-X-TARGETDURATION", "#EXT-X-INDEPENDENT-SEGMENTS", "#EXT-X-I-FRAMES-ONLY"})
            about_all = about_all || line.starts_with(tag);
        if (about_all) {
            head.emplace_back(line);
        } else if (line.starts_with("#EXT-X-MAP")) {
            map = line;
        } else if (line.starts_with("#EXT-X-KEY")) {
            key = line;
        } else if (line.starts_with("#EXTINF:")) {
            next.duration = Time{std::llround(std::atof(std::string(line.substr(8)).c_str()) * 1e9)};
            next.lines.emplace_back(line);
        } else if (line.starts_with("#EXT-X-BYTERANGE") || line.starts_with("#EXT-X-DISCONTINUITY") ||
                   line.starts_with("#EXT-X-GAP")) {
            if (!line.starts_with("#EXT-X-DISCONTINUITY-")) next.lines.emplace_back(line);
        } else if (!line.starts_with('#')) {
            next.lines.emplace_back(line);
            next.map = map, next.key = key;
            entries.push_back(std::exchange(next, {}));
        }
    }
    Time lap{};
    for (auto& e : entries) lap += e.duration;
    if (entries.empty() || lap.ns <= 0) return {};
    // As many as are there at the start, and from then on one for each that has passed.
    auto n = entries.size();
    std::uint64_t last = std::min<std::size_t>(window, n) - 1;
    auto laps = static_cast<std::uint64_t>(since.ns / lap.ns);
    auto rest = Time{since.ns % lap.ns};
    last += laps * n;
    for (std::size_t k = 0; k < n && entries[(last + 1) % n].duration <= rest; ++k) {
        rest -= entries[(last + 1) % n].duration;
        ++last;
    }
    std::uint64_t first = last + 1 >= window ? last + 1 - window : 0;
    std::string out;
    for (auto& line : head) out += line + "\n";
    std::uint64_t seams = first > 0 ? (first - 1) / n : 0;  // before the first one that is listed
    out += fmt::format("#EXT-X-MEDIA-SEQUENCE:{}\n#EXT-X-DISCONTINUITY-SEQUENCE:{}\n", first, seams);
    std::string shown_map, shown_key;
    for (auto k = first; k <= last; ++k) {
        auto& e = entries[k % n];
        if (k > 0 && k % n == 0) out += "#EXT-X-DISCONTINUITY\n";
        if (e.key != shown_key) out += (shown_key = e.key).empty() ? "#EXT-X-KEY:METHOD=NONE\n" : e.key + "\n";
        if (e.map != shown_map) out += (shown_map = e.map) + "\n";
        for (auto& line : e.lines) out += line + "\n";
    }
    return out;
}

}  // namespace ruedo::stream
