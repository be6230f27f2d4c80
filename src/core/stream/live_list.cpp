// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <cstdlib>

#include "io/transfer.h"
#include "stream/host.h"

namespace ruedo::stream {

std::string live_list(std::string_view finished, Time since, std::size_t window) {
    struct Entry {
        std::vector<std::string> lines;
        std::string map, map_key, key;  ///< In force; a map's key is the one before it.
        Time duration{};
        bool breaks = false;  ///< Another recording begins.
    };
    std::vector<std::string> head;
    std::vector<Entry> entries;
    Entry next;
    std::string map, map_key, key;
    std::uint64_t number = 0;  ///< Of the first one, in the finished list.
    std::optional<std::uint64_t> length;
    std::uint64_t from = 0, goes_on = 0;
    while (!finished.empty()) {
        auto raw = finished.substr(0, finished.find('\n'));
        finished.remove_prefix(std::min(finished.size(), raw.size() + 1));
        auto line = transfer::trimmed(raw);
        if (line.starts_with("#EXT-X-STREAM-INF") || line.empty()) continue;
        bool about_all = line == "#EXTM3U";
        for (auto tag : {"#EXT-X-VERSION", "#EXT-X-TARGETDURATION", "#EXT-X-INDEPENDENT-SEGMENTS",
                         "#EXT-X-I-FRAMES-ONLY", "#EXT-X-DEFINE"})
            about_all = about_all || line.starts_with(tag);
        if (about_all) {
            head.emplace_back(line);
        } else if (line.starts_with("#EXT-X-MAP")) {
            map = line, map_key = key;
        } else if (line.starts_with("#EXT-X-KEY")) {
            key = line;
        } else if (line.starts_with("#EXTINF:")) {
            next.duration = Time{std::llround(std::atof(std::string(line.substr(8)).c_str()) * 1e9)};
            next.lines.emplace_back(line);
        } else if (line.starts_with("#EXT-X-MEDIA-SEQUENCE:")) {
            number = transfer::number_in(line.substr(22)).value_or(0);
        } else if (line.starts_with("#EXT-X-BYTERANGE:")) {
            // One that goes on after the segment before says where, as that one may not be listed any more.
            auto stated = line.substr(17);
            auto at = stated.find('@');
            length = transfer::number_in(stated.substr(0, at));
            from = at == stated.npos ? goes_on : transfer::number_in(stated.substr(at + 1)).value_or(0);
        } else if (line == "#EXT-X-DISCONTINUITY") {
            next.breaks = true;
        } else if (line.starts_with("#EXT-X-GAP")) {
            next.lines.emplace_back(line);
        } else if (!line.starts_with('#')) {
            if (length) next.lines.push_back(fmt::format("#EXT-X-BYTERANGE:{}@{}", *length, from));
            goes_on = from + std::exchange(length, {}).value_or(0);
            next.lines.emplace_back(line);
            next.map = map, next.map_key = map_key, next.key = key;
            // A vector that is not stated is the number of the segment, which is another one on every lap.
            if (key.find("METHOD=AES-128") != key.npos && key.find(",IV=") == key.npos)
                next.key += fmt::format(",IV=0x{:032x}", number + entries.size());
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
    auto breaks = [&](std::uint64_t k) { return entries[k % n].breaks || (k > 0 && k % n == 0); };
    std::uint64_t seams = 0;  // before the first one that is listed
    for (std::uint64_t k = 0; k < std::min<std::uint64_t>(first, n); ++k)
        seams += breaks(k) + (first - 1 - k) / n * breaks(n + k);
    out += fmt::format("#EXT-X-MEDIA-SEQUENCE:{}\n#EXT-X-DISCONTINUITY-SEQUENCE:{}\n", first, seams);
    std::string shown_map, shown_map_key, shown_key;
    auto lock = [&](const std::string& now) {
        if (now != shown_key) out += (shown_key = now).empty() ? "#EXT-X-KEY:METHOD=NONE\n" : now + "\n";
    };
    for (auto k = first; k <= last; ++k) {
        auto& e = entries[k % n];
        if (breaks(k)) out += "#EXT-X-DISCONTINUITY\n";
        if (e.map != shown_map || e.map_key != shown_map_key) {
            lock(shown_map_key = e.map_key);
            out += (shown_map = e.map) + "\n";
        }
        lock(e.key);
        for (auto& line : e.lines) out += line + "\n";
    }
    return out;
}

}  // namespace ruedo::stream
