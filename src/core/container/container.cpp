// SPDX-License-Identifier: Apache-2.0
#include "container/container.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

namespace ruedo {
namespace {

struct Probe { std::string_view family; const char* extensions; };

/// The family a file belongs to by its first bytes; empty when it is none that opens here.
std::string_view probe(ByteView head) {
    ByteReader r(head);
    if (r.u32() == 0x1A45DFA3) return "matroska";
    if (head.size() >= 8) {
        auto type = be32(head.data() + 4);
        for (auto known : {fourcc("ftyp"), fourcc("moov"), fourcc("mdat"), fourcc("wide"), fourcc("free"),
                           fourcc("skip"), fourcc("styp"), fourcc("pnot"), fourcc("moof"), fourcc("sidx")})
            if (type == known) return "isobmff";
    }
    return {};
}

/// A wrong or doubled extension is a finding, never a failure.
void check_extension(ClipInfo& info) {
    auto dot = info.name.rfind('.');
    if (dot == std::string::npos) return;
    auto lower = [](std::string s) { std::transform(s.begin(), s.end(), s.begin(), [](unsigned char c) { return std::tolower(c); }); return s; };
    auto extension = lower(info.name.substr(dot + 1));
    auto fits = [&](std::string_view e) {
        if (info.container == "mp4" || info.container == "mov")
            return e == "mp4" || e == "m4v" || e == "m4a" || e == "mov" || e == "qt";
        return e == "mkv" || e == "mka" || e == "webm";
    };
    if (!fits(extension)) {
        info.findings.push_back({"wrong-extension",
            fmt::format("The name ends in “.{}”, but the content is {}.", extension, info.container),
            fmt::format("Rename it so that it ends in “.{}”.", info.container == "matroska" ? "mkv" : info.container)});
    }
    auto stem = lower(info.name.substr(0, dot));
    auto inner = stem.rfind('.');
    static constexpr std::array<std::string_view, 8> known{"mp4", "m4v", "m4a", "mov", "mkv", "mka", "webm", "ogg"};
    if (inner != std::string::npos && std::find(known.begin(), known.end(), stem.substr(inner + 1)) != known.end())
        info.findings.push_back({"doubled-extension",
            fmt::format("The name “{}” has two media extensions.", info.name), "Keep only the last one, and let it match the content."});
}

/// What all containers share is filled in here; the clip's own class does not know its name.
struct Access : Clip {
    static ClipInfo& info_of(Clip& clip) { return clip.*(&Access::info_); }
};

}  // namespace

Result<std::unique_ptr<Clip>> open_clip(std::shared_ptr<ByteSource> source) {
    Bytes head(64);
    TRY(auto got, source->read_at(0, head));
    head.resize(got);
    auto name = source->name();
    auto size = source->size();
    auto family = probe(head);
    if (family.empty()) {
        if (got < 8)
            return fail(Code::not_media, fmt::format("“{}” holds only {} byte{}, which is no media.", name, got, got == 1 ? "" : "s"),
                        "Copy or export the clip again.");
        bool text = std::all_of(head.begin(), head.end(), [](unsigned char c) { return c >= 32 || (c >= 9 && c <= 13); });
        return fail(Code::not_media, fmt::format("“{}” is not a media file that opens here{}.", name,
                    text ? "; it begins like plain text" : ""), "MP4, QuickTime, Matroska and WebM files open.");
    }
    auto clip = family == "matroska" ? matroska::open(source) : isobmff::open(source);
    if (!clip) return clip;
    auto& info = Access::info_of(**clip);
    info.name = name;
    info.bytes = size.value_or(0);
    check_extension(info);
    return clip;
}

Result<std::unique_ptr<Clip>> open_clip(const std::filesystem::path& path) {
    TRY(auto source, open_file(path));
    return open_clip(std::move(source));
}

namespace {
/// The simplest rate for which every time is within one tick of its place.
Rational constant_rate(const std::vector<Time>& times, Rational tick) {
    if (times.size() < 2 || !tick.stated()) return {};
    auto tick_ns = ticks_to_time(1, static_cast<std::uint64_t>(tick.num), static_cast<std::uint64_t>(tick.den)).ns + 1;
    auto holds = [&](Rational rate) {
        for (std::size_t k = 0; k < times.size(); ++k) {
            auto ideal = ticks_to_time(static_cast<std::int64_t>(k), static_cast<std::uint64_t>(rate.den), static_cast<std::uint64_t>(rate.num));
            if (std::abs((times[k] - times[0] - ideal).ns) > tick_ns) return false;
        }
        return true;
    };
    auto span = times.back() - times.front();
    if (span.ns <= 0) return {};
    auto average = static_cast<double>(times.size() - 1) / span.seconds();
    std::vector<Rational> candidates;
    for (std::int64_t n = 1; n <= 300; ++n) {
        candidates.push_back({n, 1});
        if (n == 24 || n == 30 || n == 48 || n == 60 || n == 120) candidates.push_back({n * 1000, 1001});
    }
    // The exact mean in container ticks, for rates that are none of the usual ones.
    auto ticks = time_to_ticks(span * tick.num, static_cast<std::uint64_t>(tick.den)) / std::max<std::int64_t>(1, tick.num * tick.num);
    if (ticks > 0) candidates.push_back(Rational{static_cast<std::int64_t>(times.size() - 1) * tick.den, ticks * tick.num}.reduced());
    for (auto& c : candidates) {
        double rate = static_cast<double>(c.num) / static_cast<double>(c.den);
        if (rate > average * 0.9 && rate < average * 1.1 && holds(c)) return c;
    }
    return {};
}
}  // namespace

Result<TrackFacts> scan_track(Clip& clip, const Track& track) {
    auto reader = clip.reader(track.id);
    TrackFacts facts;
    facts.start = track.start;
    std::vector<Time> times;
    Time last_pts{INT64_MIN / 2}, last_duration{}, last_gap{}, end{};
    PacketHead head;
    for (;;) {
        TRY(bool more, reader->next(head));
        if (!more) break;
        bool before = track.kind == Kind::video ? head.pts < track.start : head.pts + std::max(head.duration, 1_ns) <= track.start;
        if (before || head.pts >= track.end) continue;
        if (track.kind == Kind::video) {
            times.push_back(head.pts);
            if (head.keyframe) facts.keyframe_times.push_back(head.pts);
        } else {
            ++facts.frame_count;
        }
        if (head.pts > last_pts) last_gap = head.pts - last_pts, last_pts = head.pts, last_duration = head.duration;
        end = std::max(end, head.pts + head.duration - head.trim_end);
    }
    std::sort(times.begin(), times.end());
    std::sort(facts.keyframe_times.begin(), facts.keyframe_times.end());
    if (track.kind == Kind::video) {
        facts.frame_count = times.size();
        facts.frame_rate = constant_rate(times, track.tick);
        if (times.size() > 1) last_gap = times.back() - times[times.size() - 2];
        if (!times.empty()) facts.start = times.front();
    }
    // The last one lasts as long as the one before it where the container does not say.
    if (last_duration.ns == 0 && last_pts.ns >= 0 && last_gap < 10_s) end = std::max(end, last_pts + last_gap);
    facts.end = std::min(end, track.end);
    return facts;
}

}  // namespace ruedo
