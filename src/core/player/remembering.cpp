// SPDX-License-Identifier: Apache-2.0
#include "player/remembering.h"

#include <fmt/format.h>

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <cstdlib>
#include <nlohmann/json.hpp>

#include "io/json_text.h"
#include "player/screen.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;

Remembered remember(const PlayerSession& session) {
    Remembered r;
    auto& p = session.player();
    auto s = session.snapshot();
    if (p.remembers(Remember::volume)) r.volume = s.volume, r.muted = s.muted;
    if (auto* source = session.source(); source && p.remembers(Remember::place)) {
        r.source = source->name;
        bool over = s.state.phase == Phase::ended || (s.duration_known && s.duration - s.position < 2_s);
        if (!s.live && !over) r.at = s.position;
    }
    if (p.remembers(Remember::captions) && (s.has_video || s.has_audio)) {
        r.text_language = "";
        for (auto& c : *s.track_options)
            if (c.kind == Kind::text && c.id == s.text_track) r.text_language = c.language;
    }
    return r;
}

void recall(PlayerDocument& d, const Memory& memory) {
    for (std::size_t i = 0; i < d.players.size(); ++i) {
        auto& p = d.player(i);
        auto it = memory.find(p.name);
        if (it == memory.end()) continue;
        auto& was = it->second;
        if (was.volume && p.remembers(Remember::volume)) p.volume = *was.volume, p.muted = was.muted;
        if (was.text_language && p.remembers(Remember::captions))
            for (auto source : queue_of(d, i)) d.sources[source].text_language = *was.text_language;
    }
}

void recall(PlayerSession& session, const Memory& memory) {
    auto it = memory.find(session.player().name);
    if (it == memory.end() || !session.player().remembers(Remember::place)) return;
    auto& sources = session.document().sources;
    auto source = std::find_if(sources.begin(), sources.end(), [&](auto& s) { return s.name == it->second.source; });
    if (source == sources.end()) return;
    session.calls().go(static_cast<std::size_t>(source - sources.begin()));
    session.resume(it->second.at);
}

Memory read_memory(const fs::path& file) {
    Memory memory;
    auto j = read_json(file, 1 << 20).value_or(json());
    if (!j.is_object()) return memory;
    for (auto& [name, v] : j.items()) {
        if (!v.is_object()) continue;
        Remembered r;
        if (auto n = v.value("volume", json()); n.is_number()) r.volume = std::clamp(n.get<double>(), 0.0, 1.0);
        if (auto b = v.value("muted", json()); b.is_boolean()) r.muted = b.get<bool>();
        if (auto t = v.value("source", json()); t.is_string()) r.source = t.get<std::string>();
        if (auto n = v.value("at_ns", json()); n.is_number_integer() && n.get<double>() >= 0 && n.get<double>() < 9e18)
            r.at = Time{n.get<std::int64_t>()};
        if (auto t = v.value("captions", json()); t.is_string()) r.text_language = t.get<std::string>();
        memory[name] = std::move(r);
    }
    return memory;
}

Status write_memory(const Memory& memory, const fs::path& file) {
    json j = json::object();
    for (auto& [name, r] : memory) {
        auto& v = j[name] = json::object();
        if (r.volume) v["volume"] = *r.volume, v["muted"] = r.muted;
        if (!r.source.empty()) v["source"] = r.source, v["at_ns"] = r.at.ns;
        if (r.text_language) v["captions"] = *r.text_language;
    }
    std::error_code ec;
    fs::create_directories(file.parent_path(), ec);
    auto text = j.dump(2, ' ', false, json::error_handler_t::replace) + "\n";
    return write_file(file, {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
}

Status keep_memory(const Memory& now, const Memory& before, const fs::path& file) {
    std::error_code ec;
    fs::create_directories(file.parent_path(), ec);
    auto lock = file.string() + ".lock";
    int fd = ::open(lock.c_str(), O_CREAT | O_RDWR | O_CLOEXEC, 0600);
    if (fd < 0 || ::flock(fd, LOCK_EX) != 0) {
        auto why = errno_error(errno, fmt::format("Locking “{}”", lock));
        if (fd >= 0) ::close(fd);
        return std::unexpected(std::move(why));
    }
    auto merged = read_memory(file);
    for (auto& [name, mine] : now) {
        auto was = before.contains(name) ? before.at(name) : Remembered{};
        auto& theirs = merged[name];
        if (mine.volume != was.volume || mine.muted != was.muted)
            theirs.volume = mine.volume, theirs.muted = mine.muted;
        if (mine.source != was.source || mine.at != was.at) theirs.source = mine.source, theirs.at = mine.at;
        if (mine.text_language != was.text_language) theirs.text_language = mine.text_language;
    }
    auto written = write_memory(merged, file);
    ::close(fd);
    return written;
}

fs::path memory_file(const std::string& app_name, const fs::path& executable) {
    auto* state = std::getenv("XDG_STATE_HOME");
    auto* home = std::getenv("HOME");
    if (!(state && *state) && !(home && *home)) return {};
    auto base = state && *state ? fs::path(state) : fs::path(home) / ".local/state";
    // The same app in two places is two apps.
    std::uint64_t hash = 14695981039346656037ULL;
    for (unsigned char c : executable.string()) hash = (hash ^ c) * 1099511628211ULL;
    return base / fmt::format("{}-{:08x}", file_stem(app_name), hash & 0xffffffff) / "remembered.json";
}

}  // namespace ruedo
