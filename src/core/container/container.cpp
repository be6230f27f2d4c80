// SPDX-License-Identifier: Apache-2.0
#include "container/container.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <map>

#include "io/transfer.h"
#include "stream/stream.h"

namespace ruedo {
namespace {

bool starts_with(ByteView head, std::string_view magic, std::size_t at = 0) {
    return head.size() >= at + magic.size() && std::memcmp(head.data() + at, magic.data(), magic.size()) == 0;
}
bool is_isobmff(ByteView head) {
    if (head.size() < 8) return false;
    auto type = be32(head.data() + 4);
    for (auto known : {fourcc("ftyp"), fourcc("moov"), fourcc("mdat"), fourcc("wide"), fourcc("free"), fourcc("skip"),
                       fourcc("styp"), fourcc("pnot"), fourcc("moof"), fourcc("sidx")})
        if (type == known) return true;
    return false;
}
bool is_riff(ByteView head) {
    return (starts_with(head, "RIFF") || starts_with(head, "RF64")) &&
           (starts_with(head, "AVI ", 8) || starts_with(head, "WAVE", 8));
}

/// A family of containers: how its first bytes tell it, and what opens it. Sound without a container begins with
/// a mere frame, so those come last.
struct Family {
    bool (*probe)(ByteView head);
    Result<std::unique_ptr<Clip>> (*open)(std::shared_ptr<ByteSource> source);
};
constexpr std::array families{
    Family{[](ByteView h) { return starts_with(h, "\x1A\x45\xDF\xA3"); }, &matroska::open},
    Family{&is_isobmff, &isobmff::open},
    Family{[](ByteView h) { return starts_with(h, "OggS"); }, &ogg::open},
    Family{&is_riff, &riff::open},
    Family{[](ByteView h) { return starts_with(h, "fLaC"); }, &elementary::open_flac},
    Family{[](ByteView h) { return starts_with(h, std::string_view("\0\0\1\xBA", 4)); }, &mpegts::open_program},
    Family{&mpegts::probe, &mpegts::open},
    Family{&elementary::probe, &elementary::open},
};

struct Extensions {
    std::string_view container, usual;
    std::vector<std::string_view> target_report;
};
const std::vector<Extensions>& extensions() {
    static const std::vector<Extensions> all{{"mp4", "mp4", {"mp4", "m4v", "m4a", "mov", "qt"}},
                                             {"mov", "mov", {"mov", "qt", "mp4", "m4v", "m4a"}},
                                             {"matroska", "mkv", {"mkv", "mka", "webm"}},
                                             {"webm", "webm", {"webm", "mkv"}},
                                             {"ogg", "ogg", {"ogg", "ogv", "oga", "opus", "spx"}},
                                             {"mpegts", "ts", {"ts", "m2ts", "mts"}},
                                             {"hls", "m3u8", {"m3u8", "m3u"}},
                                             {"dash", "mpd", {"mpd"}},
                                             {"avi", "avi", {"avi"}},
                                             {"wav", "wav", {"wav", "wave"}},
                                             {"mpegps", "mpg", {"mpg", "mpeg", "vob", "m2p", "dat"}},
                                             {"mp3", "mp3", {"mp3"}},
                                             {"mp2", "mp2", {"mp2", "mpa"}},
                                             {"ac3", "ac3", {"ac3"}},
                                             {"adts", "aac", {"aac", "adts"}},
                                             {"flac", "flac", {"flac"}}};
    return all;
}

/// A wrong or doubled extension is a finding, never a failure.
void check_extension(ClipInfo& info) {
    auto dot = info.name.rfind('.');
    if (dot == std::string::npos) return;
    auto in = [](auto& list, std::string_view e) { return std::find(list.begin(), list.end(), e) != list.end(); };
    auto extension = transfer::lower(info.name.substr(dot + 1));
    auto own =
        std::find_if(extensions().begin(), extensions().end(), [&](auto& e) { return e.container == info.container; });
    if (own != extensions().end() && !in(own->target_report, extension)) {
        info.findings.push_back(
            {"wrong-extension",
             fmt::format("The name ends in “.{}”, but the content is {}.", extension, info.container),
             fmt::format("Rename it so that it ends in “.{}”.", own->usual)});
    }
    auto stem = transfer::lower(info.name.substr(0, dot));
    auto inner = stem.rfind('.');
    if (inner == std::string::npos) return;
    auto before = stem.substr(inner + 1);
    if (std::any_of(extensions().begin(), extensions().end(), [&](auto& e) { return in(e.target_report, before); }))
        info.findings.push_back({"doubled-extension", fmt::format("The name “{}” has two media extensions.", info.name),
                                 "Keep only the last one, and let it match the content."});
}

}  // namespace

/// What all containers share is filled in here; the clip's own class does not know its name.
struct ClipAccess {
    static ClipInfo& info(Clip& clip) { return clip.info_; }
    static void keep(Clip& clip, std::shared_ptr<ByteSource> bytes) { clip.bytes_ = std::move(bytes); }
};

std::string container_title(std::string_view c) {
    static const std::map<std::string, std::string, std::less<>> titles{
        {"mp4", "MP4"},           {"mov", "QuickTime"}, {"webm", "WebM"},
        {"matroska", "Matroska"}, {"ogg", "Ogg"},       {"mpegts", "a transport stream"},
        {"avi", "AVI"},           {"wav", "WAV"},       {"mpegps", "a program stream"},
        {"mp3", "bare MP3"},      {"adts", "bare AAC"}, {"mp2", "bare layer II sound"},
        {"ac3", "bare AC-3"},     {"flac", "FLAC"},     {"hls", "HLS segments"},
        {"dash", "DASH segments"}};
    auto it = titles.find(c);
    return it == titles.end() ? std::string(c) : it->second;
}

bool opens_here(ByteSource& source) {
    Bytes head(2048);
    auto got = source.read_at(0, head);
    if (got && stream::is_stream(ByteView(head).first(*got))) return true;
    return got &&
           std::any_of(families.begin(), families.end(), [&](auto& f) { return f.probe(ByteView(head).first(*got)); });
}

std::vector<std::string_view> media_extensions() {
    std::vector<std::string_view> all;
    for (auto& e : extensions()) all.insert(all.end(), e.target_report.begin(), e.target_report.end());
    std::sort(all.begin(), all.end());
    all.erase(std::unique(all.begin(), all.end()), all.end());
    return all;
}

Result<std::unique_ptr<Clip>> open_clip(std::shared_ptr<ByteSource> source) {
    ReadBudget budget(ReadBudget::of_opening);
    Bytes head(2048);
    std::size_t got = 0;
    while (got < head.size()) {
        RUEDO_TRY(auto n, source->read_at(got, std::span(head).subspan(got)));
        if (n == 0) break;
        got += n;
    }
    head.resize(got);
    auto name = source->name();
    auto size = source->size();
    auto family = std::find_if(families.begin(), families.end(), [&](auto& f) { return f.probe(head); });
    if (family == families.end()) {
        if (got < 8)
            return fail(ErrorCode::not_media,
                        fmt::format("“{}” holds only {} byte{}, which is no media.", name, got, got == 1 ? "" : "s"),
                        "Copy or export the clip again.");
        bool text =
            std::all_of(head.begin(), head.end(), [](unsigned char c) { return c >= 32 || (c >= 9 && c <= 13); });
        return fail(
            ErrorCode::not_media,
            fmt::format("“{}” is not a media file that opens here{}.", name, text ? "; it begins like plain text" : ""),
            "MP4, QuickTime, Matroska, WebM, Ogg, MPEG-TS and MPEG-PS, AVI, WAV, MP3, AAC, AC-3 and FLAC files open.");
    }
    auto clip = family->open(source);
    if (!clip) return clip;
    auto& info = ClipAccess::info(**clip);
    ClipAccess::keep(**clip, source);
    info.name = name;
    info.bytes = size.value_or(0);
    // A forward-only source of unknown length may be endless: it plays while it arrives.
    info.live = info.live || (!source->size() && source->forward_only() && !info.duration_known);
    check_extension(info);
    for (auto& t : info.tracks)
        if (t.kind == Kind::video && !frame_fits(t.video.width, t.video.height))
            t.problem = frame_too_large(t.video.width, t.video.height);
    return clip;
}

std::int64_t ticks_near(std::int64_t ticks, std::int64_t near) {
    constexpr auto turn = std::int64_t{1} << 33;
    return near + (((ticks - near + turn / 2) % turn + turn) % turn - turn / 2);
}

Result<std::unique_ptr<Clip>> open_segment(std::shared_ptr<ByteSource> source, std::optional<Timeline> timeline) {
    Bytes head(2048);
    RUEDO_TRY(auto got, source->read_at(0, head));
    head.resize(got);
    if (is_isobmff(head)) return isobmff::open_segment(std::move(source), timeline);
    if (mpegts::probe(head)) return mpegts::open_segment(std::move(source), timeline);
    if (elementary::probe(head)) return elementary::open_segment(std::move(source), timeline);
    return open_clip(std::move(source));
}

namespace {
/// The simplest rate for which every time is within one tick of its place.
Rational constant_rate(const std::vector<Time>& times, Rational tick) {
    if (times.size() < 2 || !tick.stated()) return {};
    auto tick_ns = ticks_to_time(1, static_cast<std::uint64_t>(tick.num), static_cast<std::uint64_t>(tick.den)).ns + 1;
    // By how much a picture is off at most; no more is looked at once that is too much.
    auto worst = [&](Rational rate) {
        std::int64_t most = 0;
        for (std::size_t k = 0; k < times.size() && most <= tick_ns; ++k) {
            auto ideal = ticks_to_time(static_cast<std::int64_t>(k), static_cast<std::uint64_t>(rate.den),
                                       static_cast<std::uint64_t>(rate.num));
            most = std::max(most, std::abs((times[k] - times[0] - ideal).ns));
        }
        return most;
    };
    auto span = times.back() - times.front();
    if (span.ns <= 0) return {};
    auto average = static_cast<double>(times.size() - 1) / span.seconds();
    std::vector<Rational> candidates;
    for (std::int64_t n = 1; n <= 300; ++n) {
        candidates.push_back({n, 1});
        if (n == 24 || n == 30 || n == 48 || n == 60 || n == 120) candidates.push_back({n * 1000, 1001});
    }
    // The exact mean in container ticks, for rates that are none of the usual ones; where every picture is exactly
    // there, nothing else was meant.
    auto ticks = time_to_ticks(span * tick.num, static_cast<std::uint64_t>(tick.den)) /
                 std::max<std::int64_t>(1, tick.num * tick.num);
    if (ticks > 0)
        candidates.push_back(
            Rational{static_cast<std::int64_t>(times.size() - 1) * tick.den, ticks * tick.num}.reduced());
    // Of several that hold, as with few pictures and coarse ticks, the one that is off by least; then the most usual.
    Rational best{};
    auto least = tick_ns + 1;
    for (auto& c : candidates) {
        double rate = static_cast<double>(c.num) / static_cast<double>(c.den);
        if (rate <= average * 0.9 || rate >= average * 1.1) continue;
        if (auto off = worst(c); off < least) least = off, best = c;
    }
    return best;
}
}  // namespace

double TrackFacts::frames_per_second() const {
    if (frame_rate.stated()) return static_cast<double>(frame_rate.num) / static_cast<double>(frame_rate.den);
    return frame_count > 1 && end > start ? static_cast<double>(frame_count) / (end - start).seconds() : 0;
}
double TrackFacts::most_a_second() const {
    return frame_rate.stated() ? frames_per_second()
                               : std::max(frames_per_second(), static_cast<double>(busiest_second));
}
Result<TrackFacts> scan_track(Clip& clip, const Track& track, const std::function<bool(const PacketHead&)>& each) {
    auto reader = clip.reader(track.id);
    TrackFacts facts;
    facts.start = track.start;
    std::vector<Time> times;
    TrackEnd end;
    PacketHead head;
    ReadBudget budget(ReadBudget::of_a_packet);
    for (;; budget.renew()) {
        RUEDO_TRY(bool more, reader->next(head));
        if (!more || (each && !each(head))) break;
        if (track.end != Time::max() && head.pts > track.end + 10_s) break;  // nothing presented comes any more
        bool before = track.kind == Kind::video ? head.pts < track.start
                                                : head.pts + std::max(head.duration, 1_ns) <= track.start;
        if (before || head.pts >= track.end) continue;
        if (track.kind == Kind::video) {
            times.push_back(head.pts);
            if (head.keyframe) facts.keyframe_times.push_back(head.pts);
        } else {
            ++facts.frame_count;
        }
        end.see(head);
    }
    std::sort(times.begin(), times.end());
    std::sort(facts.keyframe_times.begin(), facts.keyframe_times.end());
    if (track.kind == Kind::video) {
        facts.frame_count = times.size();
        facts.frame_rate = constant_rate(times, track.tick);
        if (!times.empty()) facts.start = times.front();
        for (std::size_t first = 0, last = 0; last < times.size(); ++last) {
            while (times[last] - times[first] > 1_s) ++first;
            facts.busiest_second = std::max<std::uint64_t>(facts.busiest_second, last - first);
        }
    }
    facts.end = std::max(Time{}, end.of(track).value_or(Time{}));
    return facts;
}

}  // namespace ruedo
