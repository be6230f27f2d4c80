// SPDX-License-Identifier: Apache-2.0
#include "player/player.h"

#include <fmt/format.h>

#include <algorithm>

#include "capture/camera.h"

namespace ruedo {
namespace fs = std::filesystem;

bool SourceSpec::operator==(const SourceSpec& o) const {
    return name == o.name && file == o.file && start.how == o.start.how && start.delay == o.start.delay &&
           loop == o.loop && fit == o.fit && align_x == o.align_x && align_y == o.align_y && captions == o.captions &&
           poster == o.poster && poster_at == o.poster_at && no_poster == o.no_poster &&
           audio_language == o.audio_language && text_language == o.text_language && prepared == o.prepared &&
           extra == o.extra;
}

const PreparedSpec* SourceSpec::prepared_for(std::string_view target) const {
    auto it = std::find_if(prepared.begin(), prepared.end(), [&](auto& p) { return p.target == target; });
    return it == prepared.end() ? nullptr : &*it;
}
PreparedSpec& SourceSpec::prepare_for(std::string_view target) {
    auto it = std::find_if(prepared.begin(), prepared.end(), [&](auto& p) { return p.target == target; });
    if (it != prepared.end()) return *it;
    return prepared.emplace_back(PreparedSpec{std::string(target), {}, {}});
}

FloatSpec float_of(const BarSpec& bar) {
    if (bar.floats) return *bar.floats;
    FloatSpec f;
    if (bar.edge == BarSpec::Edge::top) f.side = FloatSpec::Side::above, f.tilt = 0;
    if (bar.where == BarSpec::Where::beside) f.gap = 0.01, f.tilt = 0, f.out = 0;
    return f;
}
const BarSpec* PlayerSpec::bar(std::string_view wanted) const {
    auto it = std::find_if(bars.begin(), bars.end(), [&](auto& b) { return b.name == wanted; });
    return it == bars.end() ? nullptr : &*it;
}
const ControlSpec* PlayerSpec::control(std::string_view wanted) const {
    auto it = std::find_if(controls.begin(), controls.end(), [&](auto& c) { return c.name == wanted; });
    return it == controls.end() ? nullptr : &*it;
}
std::vector<std::size_t> PlayerSpec::in_slot(std::string_view slot) const {
    std::vector<std::size_t> list;
    for (std::size_t i = 0; i < controls.size(); ++i)
        if (controls[i].slot == slot) list.push_back(i);
    return list;
}
std::string PlayerSpec::free_name(std::string_view wanted) const {
    std::string free(wanted);
    for (int n = 2; control(free); ++n) free = fmt::format("{} {}", wanted, n);
    return free;
}
std::size_t PlayerSpec::put(ControlSpec c, std::string_view slot, std::size_t at) {
    c.name = free_name(c.name.empty() ? c.kind->name : std::string_view(c.name));
    c.slot = slot;
    auto there = in_slot(slot);
    auto index = at < there.size() ? there[at] : controls.size();
    controls.insert(controls.begin() + static_cast<std::ptrdiff_t>(index), std::move(c));
    return index;
}
void PlayerSpec::move(std::size_t control, std::string_view slot, std::size_t at) {
    auto c = std::move(controls.at(control));
    controls.erase(controls.begin() + static_cast<std::ptrdiff_t>(control));
    put(std::move(c), slot, at);
}

std::string PlayerDocument::free_player_name(std::string_view wanted) const {
    std::string free(wanted);
    auto taken = [&] { return std::any_of(players.begin(), players.end(), [&](auto& p) { return p.name == free; }); };
    for (int n = 2; taken(); ++n) free = fmt::format("{} {}", wanted, n);
    return free;
}

PlayerSpec usual_player() {
    PlayerSpec p;
    p.bars = {{}};
    for (auto [slot, kinds] : std::initializer_list<std::pair<const char*, std::vector<const char*>>>{
             {"foot/start", {"toggle", "back", "forward"}},
             {"foot/middle", {"position"}},
             {"foot/end", {"tracks", "mute", "volume", "full-screen"}},
             {"centre", {"start", "countdown", "waiting", "failure", "retry"}}})
        for (auto* kind : kinds) p.put({.kind = &control_kind(kind)}, slot);
    return p;
}

std::string resolve(const std::string& file, const fs::path& folder) {
    fs::path path(file);
    return is_address(file) || path.is_absolute() ? file : (folder / path).lexically_normal().string();
}

PlayerDocument for_target(PlayerDocument document, const fs::path& folder) {
    std::error_code ec;
    for (auto& s : document.sources)
        if (auto* made = s.prepared_for(document.target);
            made && !made->file.empty() && fs::exists(resolve(made->file, folder), ec))
            s.file = made->file;
    return document;
}

OpenOptions open_options(const PlayerDocument& document, const SourceSpec& source, const fs::path& folder) {
    auto& player = document.player();
    OpenOptions o;
    o.start = source.start;
    o.loop = source.loop;
    if (player.at_end == AtEnd::again && o.loop.kind == Loop::Kind::none) o.loop.kind = Loop::Kind::all;
    o.volume = player.volume;
    o.muted = player.muted;
    o.rate = player.speed;
    o.open_within = player.open_within;
    o.audio_language = source.audio_language;
    o.text_language = source.text_language;
    for (auto& file : source.captions) o.captions.push_back(resolve(file, folder));
    return o;
}

Status check_poster(const std::string& file) {
    RUEDO_TRY(auto source, open_file(file));
    std::array<std::uint8_t, 8> head{};
    RUEDO_TRY(auto got, source->read_at(0, head));
    static constexpr std::array<std::uint8_t, 8> png{0x89, 'P', 'N', 'G', '\r', '\n', 0x1A, '\n'};
    bool picture = got == head.size() && (head == png || (head[0] == 0xFF && head[1] == 0xD8 && head[2] == 0xFF));
    if (!picture)
        return fail(ErrorCode::not_media,
                    fmt::format("“{}” is not a picture, so it can’t be a poster.", source->name()),
                    "Choose a PNG or JPEG.");
    return {};
}

std::string file_stem(std::string_view app_name) {
    std::string stem;
    for (unsigned char c : app_name) {
        if (std::isalnum(c) && c < 128)
            stem += static_cast<char>(std::tolower(c));
        else if (!stem.empty() && stem.back() != '-')
            stem += '-';
    }
    while (!stem.empty() && stem.back() == '-') stem.pop_back();
    // These are names of folders beside the executable.
    if (stem == "media" || stem == "lib") stem += "-app";
    return stem.empty() ? "player" : stem.substr(0, 60);
}

}  // namespace ruedo
