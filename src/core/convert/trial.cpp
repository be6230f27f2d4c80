// SPDX-License-Identifier: Apache-2.0
#include "convert/trial.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>
#include <tuple>

#include "convert/bytes_over_time.h"
#include "convert/forecast.h"

namespace ruedo {
namespace {
/// `keys` are the keyframes from one time to another, each shifted by that time.
Result<BytesOverTime> bytes_of(Clip& clip, const Track& track, std::vector<Time>* keys = nullptr,
                               TimeRange of = {Time{}, Time::max()}, Time later = {}) {
    BytesOverTime bytes;
    RUEDO_TRY_DO(scan_track(clip, track, [&](auto& head) {
        bytes.see(head);
        if (keys && head.keyframe && head.pts >= of.from && head.pts < of.to) keys->push_back(head.pts + later);
        return !ReadScope::given_up();
    }));
    return bytes;
}
double sum(const std::vector<double>& of) { return std::accumulate(of.begin(), of.end(), 0.0); }
/// "half", "a seventh", "three times": of what there was before.
std::string share_in_words(double part) {
    static constexpr std::array<const char*, 9> words{"half",      "a third",   "a quarter", "a fifth", "a sixth",
                                                      "a seventh", "an eighth", "a ninth",   "a tenth"};
    if (part >= 1.5) return fmt::format("{:.1f} times", part);
    if (part > 0.75) return part > 1.05 ? "more than" : part > 0.95 ? "about" : "a little less than";
    if (part > 0.6) return "two thirds";
    auto n = static_cast<std::size_t>(std::lround(1 / std::max(part, 1e-9)));
    return n <= 10 ? words[n - 2] : fmt::format("{:.2g} %", part * 100);
}
/// How far into its stretch a time is.
double part_of(const SampleEncode& t, Time at) {
    return std::clamp((at - t.from).seconds() / std::max(1e-9, (t.to - t.from).seconds()), 0.0, 1.0);
}
}  // namespace

Result<Time> hardest_stretch(Clip& clip, Time length, TimeRange within) {
    auto* track = clip.info().main(Kind::video);
    if (!track) return Time{};
    RUEDO_TRY(auto bytes, bytes_of(clip, *track));
    auto& tenths = bytes.each;
    auto wide = std::max<std::size_t>(1, BytesOverTime::place(length));
    auto first = std::min(tenths.size(), BytesOverTime::place(within.from));
    if (within.to < Time::max()) tenths.resize(std::min(tenths.size(), BytesOverTime::place(within.to)));
    if (tenths.size() <= first + wide + wide / 2) return within.from;
    auto best = first;
    auto now = sum(bytes.between(within.from, within.from + length)), most = now;
    for (auto i = first + 1; i + wide <= tenths.size(); ++i) {
        now += tenths[i + wide - 1] - tenths[i - 1];
        if (now > most + 0.5) most = now, best = i;
    }
    return BytesOverTime::step * static_cast<std::int64_t>(best);
}

Result<SampleEncode> encode_sample(const std::string& source, const SampleEncodeOptions& options,
                                   CodecRegistry& codecs) {
    SampleEncode t;
    std::shared_ptr<Clip> clip;
    {
        ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
        RUEDO_TRY(clip, open_clip(source));
    }
    auto& info = clip->info();
    ConversionOptions o;
    o.out = options.file, o.recipe = options.recipe, o.target = options.target;
    std::error_code ec;
    std::filesystem::remove(o.out, ec);  // of the trial before it
    constexpr double converting = 0.8;   // of the time it takes, the rest being compared
    o.told = [&](auto& progress) {
        if (options.told) options.told(progress.done * converting);
        return !(options.cancel && *options.cancel);
    };
    // What is to be kept of the whole, and of that what is tried.
    auto begin = options.recipe.from,
         end = options.recipe.to.value_or(info.duration_known ? info.duration : Time::max());
    t.from = std::clamp(options.from, begin, std::max(begin, end - options.length));
    t.to = std::min(end, t.from + options.length);
    o.recipe.from = t.from, o.recipe.to = t.to;
    auto* track = info.main(Kind::video);
    t.source_bytes = info.bytes;
    // What is copied of the whole may not be copied of a part, so it is not tried: it stays what it is.
    RUEDO_TRY(auto container_format, container_format_for(options.recipe, options.file));
    RUEDO_TRY(auto plan, plan_for(info, options.recipe, *container_format, codecs, o.target ? &*o.target : nullptr,
                                  from_packets(clip, source)));
    BytesOverTime bytes;
    if (plan.video) {
        RUEDO_TRY(bytes, bytes_of(*clip, *track, &t.keys_before, {t.from, t.to}));
        t.before = bytes.between(t.from, t.to);
    }
    if (plan.video && !plan.encode_video) {
        t.after = t.before, t.keys_after = t.keys_before;
        t.made.video.action = "copied";
        auto kept = info.duration_known && info.duration.ns > 0 ? (end - begin).seconds() / info.duration.seconds() : 1;
        t.whole_bytes = static_cast<std::uint64_t>(static_cast<double>(info.bytes) * std::min(1.0, kept));
        return t;
    }
    // A part of the size is for a part of the length.
    auto part = end > begin ? (t.to - t.from).seconds() / (end - begin).seconds() : 1;
    if (o.recipe.fit_bytes)
        o.recipe.fit_bytes =
            std::max<std::uint64_t>(1000, static_cast<std::uint64_t>(static_cast<double>(*o.recipe.fit_bytes) * part));
    if (o.target) o.target->bundle_bytes = 0;
    RUEDO_TRY(t.made, convert(source, o, codecs));
    double density = 1;
    if (plan.video && t.made.video.action != "none") {
        t.bytes_before = static_cast<std::uint64_t>(sum(t.before));
        auto whole = sum(end == Time::max() ? bytes.each : bytes.between(begin, end + BytesOverTime::step));
        if (t.bytes_before > 0 && whole > 0) density = whole * part / static_cast<double>(t.bytes_before);
        RUEDO_TRY(auto result, open_clip(options.file.string()));
        if (auto* made = result->info().main(Kind::video)) {
            RUEDO_TRY(auto after, bytes_of(*result, *made, &t.keys_after, {Time{}, Time::max()}, t.from));
            t.after = std::move(after.each);
        }
        if (options.compared && t.made.video.action == "encoded") {
            CompareOptions c{.at = {}, .from = t.from, .to = t.to, .cancel = options.cancel};
            c.told = [&](auto& place) {
                if (options.told) options.told(converting + (1 - converting) * part_of(t, place.at));
                return true;
            };
            RUEDO_TRY(t.likeness, compare(source, options.file.string(), codecs, c));
        }
    }
    t.whole_bytes = options.recipe.fit_bytes.value_or(
        static_cast<std::uint64_t>(static_cast<double>(t.made.bytes) / std::max(part, 1e-9) * density));
    // Time goes with the bytes too, but less so.
    t.whole_took = Time{static_cast<std::int64_t>(static_cast<double>(t.made.took.ns) / std::max(part, 1e-9) *
                                                  std::pow(density, Forecast::guess))};
    return t;
}

Result<SampleEncode> hold_against(const std::string& source, const std::filesystem::path& made, Time from,
                                  CodecRegistry& codecs, const std::atomic<bool>* cancel,
                                  const std::function<void(double)>& told) {
    SampleEncode t;
    RUEDO_TRY(auto before, open_clip(source));
    RUEDO_TRY(auto after, open_clip(made.string()));
    t.from = from, t.to = from + after->info().duration;
    t.source_bytes = before->info().bytes, t.whole_bytes = t.made.bytes = after->info().bytes;
    t.made.path = made, t.made.container = after->info().container, t.made.duration = after->info().duration;
    auto *was = before->info().main(Kind::video), *is = after->info().main(Kind::video);
    if (!was || !is) return t;
    t.made.video.action = "encoded";
    RUEDO_TRY(auto bytes, bytes_of(*before, *was, &t.keys_before, {t.from, t.to}));
    t.before = bytes.between(t.from, t.to);
    t.bytes_before = static_cast<std::uint64_t>(sum(t.before));
    RUEDO_TRY(auto bytes_now, bytes_of(*after, *is, &t.keys_after, {Time{}, Time::max()}, from));
    t.after = std::move(bytes_now.each);
    CompareOptions o{.at = {}, .from = from, .to = t.to, .cancel = cancel};
    if (told)
        o.told = [&](auto& place) {
            told(part_of(t, place.at));
            return true;
        };
    RUEDO_TRY(t.likeness, compare(source, made.string(), codecs, o));
    return t;
}

std::vector<std::size_t> upper_hull(const std::vector<std::pair<double, double>>& points) {
    std::vector<std::size_t> order(points.size()), hull;
    std::iota(order.begin(), order.end(), std::size_t{0});
    // Of equal sizes the best comes first, and is all that counts.
    std::sort(order.begin(), order.end(), [&](auto a, auto b) {
        return std::tuple(points[a].first, -points[a].second, a) < std::tuple(points[b].first, -points[b].second, b);
    });
    auto turn = [&](std::size_t a, std::size_t b, std::size_t c) {
        auto &p = points[a], &q = points[b], &r = points[c];
        return (q.first - p.first) * (r.second - p.second) - (q.second - p.second) * (r.first - p.first);
    };
    for (auto i : order) {
        // Larger and no better is none of them.
        if (!hull.empty() && points[i].second <= points[hull.back()].second) continue;
        while (hull.size() > 1 && turn(hull[hull.size() - 2], hull.back(), i) >= 0) hull.pop_back();
        hull.push_back(i);
    }
    return hull;
}

std::string SampleEncode::sentence() const {
    auto size = source_bytes > 0 ? share_in_words(static_cast<double>(whole_bytes) / static_cast<double>(source_bytes))
                                 : std::string();
    if (!size.empty()) {
        size[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(size[0])));
        bool own = size.ends_with("than") || size == "About";
        size += own ? " the size it has" : size.ends_with("times") ? " the size" : " of the size";
    }
    if (made.video.action == "copied") return "Nothing of the pictures is lost: they are copied.";
    auto worst = likeness.worst(1);
    if (worst.empty()) return size + ".";
    if (likeness.identical) return size + "; every picture is the same.";
    auto at = worst[0].at.ns / 100'000'000;
    auto where = worst[0].part ? ", " + std::string(part_in_words(*worst[0].part)) : std::string();
    return fmt::format("{}; least alike at {}:{:02}.{}{}.", size, at / 600, at / 10 % 60, at % 10, where);
}

}  // namespace ruedo
