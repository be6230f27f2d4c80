// SPDX-License-Identifier: Apache-2.0
// Media presentation descriptions (ISO/IEC 23009-1) as the same lists of segments that playlists give.
#include <fmt/format.h>

#include <charconv>
#include <chrono>
#include <limits>
#include <mutex>

#include "io/transfer.h"
#include "stream/address.h"
#include "stream/description.h"
#include "stream/stream.h"

namespace ruedo::stream {
using namespace dash;
namespace {

/// What the segments of a part are said to be, by the nearest level that says anything.
struct Addressing {
    const Part& part;
    /// An attribute of SegmentTemplate and its like, inherited (clause 5.3.9.1).
    std::string attribute(const char* element, const char* name) const {
        for (auto l = part.levels.rbegin(); l != part.levels.rend(); ++l)
            if (auto a = child(*l, element).attribute(name)) return a.value();
        return {};
    }
    Node inner(const char* element, const char* name) const {
        for (auto l = part.levels.rbegin(); l != part.levels.rend(); ++l)
            if (auto n = child(child(*l, element), name)) return n;
        return {};
    }
    bool has(const char* element) const {
        return std::any_of(part.levels.begin(), part.levels.end(), [&](Node n) { return child(n, element); });
    }
    std::uint64_t whole(const char* element, const char* name, std::uint64_t otherwise) const {
        auto s = attribute(element, name);
        std::uint64_t v = 0;
        auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
        return !s.empty() && ec == std::errc{} ? std::min<std::uint64_t>(v, INT64_MAX / 4) : otherwise;
    }
};

/// The lists of segments that a description gives; read again while it is live.
class DashManifest final : public PlaylistSource {
  public:
    DashManifest(std::shared_ptr<Description> description, std::size_t group) : group_(group) {
        shared_ = std::make_shared<Shared>(std::move(description));
    }
    DashManifest(const DashManifest& other, std::size_t group) : shared_(other.shared_), group_(group) {}

    Result<SegmentList> list(Fetch& fetch, std::size_t rendition) override {
        std::lock_guard lock(shared_->mutex);
        auto& d = shared_->description;
        auto every = std::max(500_ms, d->update);
        if (d->live && shared_->listed && monotonic_now() - shared_->read >= every) {
            RUEDO_TRY(auto got, fetch.get(d->address, {}, most_playlist_bytes));
            auto fresh = std::make_shared<Description>();
            RUEDO_TRY_DO(fresh->read(got.bytes, got.address));
            fresh->clock_off = got.server_date ? *got.server_date - unix_now() : d->clock_off;
            if (got.server_date && abs_ns(fresh->clock_off - d->clock_off) < 2_s) fresh->clock_off = d->clock_off;
            RUEDO_TRY(auto groups, fresh->groups());
            d = fresh, shared_->groups = std::move(groups), shared_->read = monotonic_now();
        }
        if (!shared_->listed) {
            RUEDO_TRY(shared_->groups, d->groups());
            shared_->listed = true, shared_->read = monotonic_now();
        }
        if (group_ >= shared_->groups.size() || rendition >= shared_->groups[group_].parts.size())
            return fail(ErrorCode::malformed,
                        fmt::format("“{}” does not name this rendition any more.", transfer::last_part(d->address)),
                        {});
        auto& group = shared_->groups[group_];
        SegmentList list;
        list.ended = !d->live, list.grows = d->live && d->depth.ns == 0;
        if (d->live && d->delay.ns > 0) list.hold_back = d->delay;
        for (auto& part : group.parts[rendition]) RUEDO_TRY_DO(add(fetch, list, part, group, rendition));
        for (auto& s : list.segments) list.target = std::max(list.target, s.duration);
        if (d->live && !list.segments.empty()) {
            // Times count from the first segment that was ever listed.
            if (!shared_->base) shared_->base = list.segments.front().start;
            for (auto& s : list.segments) {
                s.start -= *shared_->base;
                if (s.zero) *s.zero += *shared_->base;
            }
        }
        if (list.segments.empty())
            return fail(ErrorCode::empty,
                        fmt::format("“{}” names no segment of {}.", transfer::last_part(d->address),
                                    group.rungs[rendition].title()),
                        "If it is live, it may not have begun; try again later.");
        return list;
    }

  private:
    struct Shared {
        explicit Shared(std::shared_ptr<Description> d) : description(std::move(d)) {}
        std::mutex mutex;
        std::shared_ptr<Description> description;
        std::vector<Description::Group> groups;
        bool listed = false;
        Time read{};
        std::optional<Time> base;
    };
    static Time unix_now() { return Time{std::chrono::system_clock::now().time_since_epoch().count()}; }
    static Time abs_ns(Time t) { return t.ns < 0 ? -t : t; }
    static std::unexpected<Error> bad(const Part& part, std::string_view why) {
        return fail(ErrorCode::malformed,
                    fmt::format("The manifest can’t be followed for “{}”: {}.",
                                part.levels.back().attribute("id").value(), why),
                    "Make the manifest again.");
    }
    /// How far a live one has come within a part.
    std::optional<Time> passed(const Part& part) const {
        auto& d = *shared_->description;
        if (!d.live) return std::nullopt;
        return unix_now() + d.clock_off - *d.begun - part.start;
    }

    Status add(Fetch& fetch, SegmentList& list, const Part& part, const Description::Group& group,
               std::size_t rendition) {
        Addressing a{part};
        auto& rung = group.rungs[rendition];
        if (a.has("SegmentTemplate")) return add_template(list, part, a, rung);
        if (a.has("SegmentList")) return add_list(list, part, a);
        return add_base(fetch, list, part, a);
    }
    struct Scale {
        std::uint64_t ticks = 1;
        std::uint64_t offset = 0;
        Time at(std::uint64_t t) const {
            return ticks_to_time(static_cast<std::int64_t>(t) - static_cast<std::int64_t>(offset), 1, ticks);
        }
        Time length(std::uint64_t t) const { return ticks_to_time(static_cast<std::int64_t>(t), 1, ticks); }
    };
    static Scale scale_of(const Addressing& a, const char* element) {
        return {std::max<std::uint64_t>(1, a.whole(element, "timescale", 1)),
                a.whole(element, "presentationTimeOffset", 0)};
    }
    Status put(SegmentList& list, const Part& part, const Scale& scale, Segment s) {
        s.discontinuity = part.period;
        s.zero = scale.length(scale.offset) - part.start;
        if (list.segments.size() >= most_segments)
            return fail(ErrorCode::limit, fmt::format("The manifest names more than {} segments.", most_segments),
                        "Make segments longer.");
        s.duration = std::max(s.duration, 1_ms);
        list.segments.push_back(std::move(s));
        return {};
    }

    Status add_template(SegmentList& list, const Part& part, const Addressing& a, const Rung& rung) {
        constexpr auto element = "SegmentTemplate";
        auto scale = scale_of(a, element);
        auto media = a.attribute(element, "media"), initialization = a.attribute(element, "initialization");
        auto id = std::string(part.levels.back().attribute("id").value());
        std::shared_ptr<Map> map;
        if (!initialization.empty()) {
            auto filled = fill(initialization, id, rung.bandwidth, 0, 0);
            if (!filled) return bad(part, "its template has something between dollar signs that is not known");
            map = std::make_shared<Map>();
            RUEDO_TRY(map->address, resolve(part.base, *filled));
        }
        auto first = a.whole(element, "startNumber", 1);
        auto here = passed(part);
        auto one = [&](std::uint64_t n, std::uint64_t time, Time start, Time length) -> Status {
            auto filled = fill(media, id, rung.bandwidth, n, time);
            if (!filled) return bad(part, "its template has something between dollar signs that is not known");
            Segment s;
            RUEDO_TRY(s.address, resolve(part.base, *filled));
            s.start = part.start + start, s.duration = length, s.number = n, s.map = map;
            return put(list, part, scale, std::move(s));
        };
        auto depth = shared_->description->depth;
        if (auto timeline = a.inner(element, "SegmentTimeline")) {
            std::uint64_t t = 0, n = first;
            std::vector<Node> entries;
            each(timeline, "S", [&](Node e) { entries.push_back(e); });
            for (std::size_t i = 0; i < entries.size(); ++i) {
                auto e = entries[i];
                t = number(e, "t", t);
                auto d = number(e, "d");
                if (d == 0) return bad(part, "a segment of its timeline has no length");
                if (scale.length(d) > 86'400_s) return bad(part, "a segment of its timeline lasts longer than a day");
                auto repeat = std::strtoll(e.attribute("r").value(), nullptr, 10);
                auto until = UINT64_MAX;
                if (repeat < 0) {
                    // As often as it fits before the next entry, or the end.
                    if (i + 1 < entries.size() && entries[i + 1].attribute("t"))
                        until = number(entries[i + 1], "t");
                    else {
                        auto end = here ? *here : part.length;
                        until = scale.offset + static_cast<std::uint64_t>(
                                                   std::max<std::int64_t>(0, time_to_ticks_floor(end, scale.ticks)));
                    }
                    repeat = std::numeric_limits<long long>::max();
                }
                for (long long k = 0; k <= repeat && t < until && list.segments.size() <= most_segments; ++k) {
                    auto start = scale.at(t), length = scale.length(d);
                    if (part.length.ns > 0 && start >= part.length) return {};
                    bool there =
                        !here || (start + length <= *here && (depth.ns == 0 || start + length > *here - depth));
                    if (there) RUEDO_TRY_DO(one(n, t, start, length));
                    t += d, ++n;
                }
            }
            return {};
        }
        auto d = a.whole(element, "duration", 0);
        if (d == 0) return bad(part, "the length of its segments is not stated");
        auto length = scale.length(d);
        if (length < 1_ms) return bad(part, "its segments last less than a thousandth of a second");
        if (!here && part.length.ns <= 0) return bad(part, "it is not said how long it lasts");
        auto count = [&](Time t) {
            return static_cast<std::uint64_t>(std::max<std::int64_t>(0, t.ns)) / static_cast<std::uint64_t>(length.ns);
        };
        std::uint64_t from = 0, to = 0;
        if (here) {
            auto end = part.length.ns > 0 ? std::min(*here, part.length) : *here;
            to = count(end);
            from = depth.ns > 0 ? count(*here - depth) : 0;
            if (to - std::min(from, to) > 10'000) from = to - 10'000;
        } else {
            to = count(part.length + length - 1_ms);
        }
        for (auto k = from; k < to; ++k) {
            auto start = scale.length(d * k);
            auto lasts = part.length.ns > 0 ? std::min(length, part.length - start) : length;
            RUEDO_TRY_DO(one(first + k, d * k + scale.offset, start, lasts));
        }
        return {};
    }

    Status add_list(SegmentList& list, const Part& part, const Addressing& a) {
        constexpr auto element = "SegmentList";
        auto scale = scale_of(a, element);
        auto length = scale.length(a.whole(element, "duration", 0));
        std::shared_ptr<Map> map;
        if (auto n = a.inner(element, "Initialization")) {
            map = std::make_shared<Map>();
            auto source = std::string(n.attribute("sourceURL").value());
            RUEDO_TRY(map->address, source.empty() ? Result<std::string>(part.base) : resolve(part.base, source));
            map->range = range(n.attribute("range").value());
        }
        std::vector<Node> entries;
        for (auto l = part.levels.rbegin(); l != part.levels.rend() && entries.empty(); ++l)
            each(child(*l, element), "SegmentURL", [&](Node n) { entries.push_back(n); });
        std::vector<std::pair<Time, Time>> times;
        if (auto timeline = a.inner(element, "SegmentTimeline")) {
            std::uint64_t t = 0;
            each(timeline, "S", [&](Node e) {
                t = number(e, "t", t);
                auto repeat = std::clamp<long long>(std::strtoll(e.attribute("r").value(), nullptr, 10), 0, 100'000);
                for (long long k = 0; k <= repeat && times.size() < entries.size(); ++k)
                    times.emplace_back(scale.at(t), scale.length(number(e, "d"))), t += number(e, "d");
            });
        }
        if (length.ns <= 0 && times.size() < entries.size()) {
            if (entries.size() != 1 || part.length.ns <= 0)
                return bad(part, "the length of its segments is not stated");
            length = part.length;
        }
        auto first = a.whole(element, "startNumber", 1);
        for (std::size_t k = 0; k < entries.size(); ++k) {
            Segment s;
            auto name = std::string(entries[k].attribute("media").value());
            RUEDO_TRY(s.address, name.empty() ? Result<std::string>(part.base) : resolve(part.base, name));
            s.range = range(entries[k].attribute("mediaRange").value());
            auto start = k < times.size() ? times[k].first : length * static_cast<std::int64_t>(k);
            s.start = part.start + start, s.duration = k < times.size() ? times[k].second : length;
            if (part.length.ns > 0) s.duration = std::min(s.duration, std::max(1_ms, part.length - start));
            s.number = first + k, s.map = map;
            RUEDO_TRY_DO(put(list, part, scale, std::move(s)));
        }
        return {};
    }

    /// One file: the places of its segments stand in an index within it (ISO/IEC 14496-12 clause 8.16.3); without one
    /// it is a single segment.
    Status add_base(Fetch& fetch, SegmentList& list, const Part& part, const Addressing& a) {
        constexpr auto element = "SegmentBase";
        auto scale = scale_of(a, element);
        Segment whole;
        whole.address = part.base, whole.start = part.start, whole.duration = part.length, whole.number = 1;
        auto index = range(a.attribute(element, "indexRange"));
        if (!index) {
            if (part.length.ns <= 0) return bad(part, "it is not said how long it lasts");
            return put(list, part, scale, std::move(whole));
        }
        RUEDO_TRY(auto got, fetch.get(part.base, index, 16 << 20));
        auto map = std::make_shared<Map>();
        map->address = part.base;
        auto n = a.inner(element, "Initialization");
        map->range = n ? range(n.attribute("range").value()) : std::nullopt;
        if (!map->range) map->range = ByteSource::Range{0, index->from};
        ByteReader r(got.bytes);
        auto size = r.u32();
        if (r.u32() != fourcc("sidx") || size < 24) return bad(part, "there is no index where it is said to be");
        auto version = r.u32() >> 24;
        r.skip(4);
        auto timescale = std::max<std::uint32_t>(1, r.u32());
        auto time = version ? r.u64() : r.u32();
        auto at = index->from + size + (version ? r.u64() : r.u32());
        r.skip(2);
        auto count = r.u16();
        std::uint64_t number = 1;
        for (unsigned i = 0; i < count && !r.overrun(); ++i) {
            auto word = r.u32(), lasts = r.u32();
            r.skip(4);
            if (r.overrun()) break;
            if (word >> 31) return bad(part, "its index is one of further indexes, which is not followed");
            Segment s;
            s.address = part.base, s.map = map, s.number = number++;
            s.range = ByteSource::Range{at, at + (word & 0x7FFFFFFF)};
            s.start =
                part.start +
                ticks_to_time(static_cast<std::int64_t>(std::min<std::uint64_t>(time, INT64_MAX / 4)), 1, timescale) -
                scale.length(scale.offset);
            s.duration = ticks_to_time(lasts, 1, timescale);
            at += word & 0x7FFFFFFF, time += lasts;
            RUEDO_TRY_DO(put(list, part, scale, std::move(s)));
        }
        return {};
    }

    std::shared_ptr<Shared> shared_;
    std::size_t group_;
};
}  // namespace

bool is_stream(ByteView head) { return is_playlist(head) || is_manifest(head); }
bool is_manifest(ByteView head) {
    std::string_view text(reinterpret_cast<const char*>(head.data()), head.size());
    if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
    text = transfer::trimmed(text);
    while (text.starts_with('\n') || text.starts_with('\r')) text.remove_prefix(1);
    return text.starts_with('<') && (text.find("<MPD") != text.npos || text.find(":MPD") != text.npos);
}

Result<Plan> plan_dash(ByteView xml, const std::string& address, std::optional<Time> server_date) {
    auto description = std::make_shared<Description>();
    RUEDO_TRY_DO(description->read(xml, address));
    if (server_date)
        description->clock_off = *server_date - Time{std::chrono::system_clock::now().time_since_epoch().count()};
    RUEDO_TRY(auto groups, description->groups());
    auto name = fmt::format("“{}”", transfer::last_part(address));
    auto main = std::find_if(groups.begin(), groups.end(), [](auto& g) { return g.kind == Kind::video; });
    if (main == groups.end())
        main = std::find_if(groups.begin(), groups.end(), [](auto& g) { return g.kind == Kind::audio; });
    if (main == groups.end())
        return fail(ErrorCode::malformed, fmt::format("{} names neither pictures nor sound.", name),
                    "Make the manifest again.");
    if (main->encrypted)
        return fail(ErrorCode::encrypted,
                    fmt::format("The segments of {} are encrypted in a way that is not known here.", name),
                    "Ask for a copy without encryption; Ruedo holds no keys.");
    Plan plan;
    plan.kind = "dash";
    std::shared_ptr<DashManifest> playlists;
    auto add = [&](std::size_t g) {
        auto next =
            playlists ? std::make_shared<DashManifest>(*playlists, g) : std::make_shared<DashManifest>(description, g);
        if (!playlists) playlists = next;
        plan.track_groups.push_back({groups[g].kind, groups[g].rungs, next, name});
        // Of sound and captions the best is taken: they cost little.
        return plan.track_groups.size() - 1;
    };
    auto main_index = static_cast<std::size_t>(main - groups.begin());
    add(main_index);
    find_in_rungs(plan, plan.track_groups[0].rungs);
    for (std::size_t g = 0; g < groups.size(); ++g) {
        if (g == main_index || groups[g].kind == Kind::video || groups[g].encrypted) continue;
        auto track_group = add(g);
        auto& list = groups[g].kind == Kind::audio ? plan.audio_tracks : plan.texts;
        list.push_back({track_group, groups[g].name, groups[g].language, groups[g].is_default});
    }
    return plan;
}

}  // namespace ruedo::stream
