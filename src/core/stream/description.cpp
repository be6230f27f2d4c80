// SPDX-License-Identifier: Apache-2.0
#include "stream/description.h"

#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <cstring>

#include "io/transfer.h"
#include "stream/address.h"

namespace ruedo::stream::dash {

/// Elements by their local names: a manifest may bind its namespace to a prefix.
bool is(Node n, const char* name) {
    auto* full = n.name();
    auto* colon = std::strchr(full, ':');
    return std::strcmp(colon ? colon + 1 : full, name) == 0;
}
Node child(Node of, const char* name) {
    for (auto n : of.children())
        if (is(n, name)) return n;
    return {};
}
/// "PT1H2M3.5S" (xs:duration, ISO/IEC 23009-1 clause 5.3.1.2); years and months have no length.
std::optional<Time> duration(std::string_view s) {
    if (!s.starts_with('P')) return std::nullopt;
    s.remove_prefix(1);
    Time sum{};
    bool in_day = false;
    while (!s.empty()) {
        if (s.starts_with('T')) {
            in_day = true;
            s.remove_prefix(1);
            continue;
        }
        double v = 0;
        auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
        auto used = static_cast<std::size_t>(end - s.data());
        if (ec != std::errc{} || used >= s.size() || !(v >= 0 && v < 1e9)) return std::nullopt;
        auto unit = s[used];
        s.remove_prefix(used + 1);
        auto seconds = unit == 'D'             ? 86400.0
                       : unit == 'H'           ? 3600.0
                       : unit == 'M' && in_day ? 60.0
                       : unit == 'S'           ? 1.0
                                               : -1.0;
        if (seconds < 0) return std::nullopt;
        sum += scaled(1_s, v * seconds);
    }
    return sum;
}
std::uint64_t number(Node n, const char* name, std::uint64_t otherwise) {
    auto a = n.attribute(name);
    return a ? std::min<std::uint64_t>(a.as_ullong(otherwise), UINT64_MAX / 1024) : otherwise;
}
std::optional<ByteSource::Range> range(std::string_view s) {
    auto dash = s.find('-');
    std::uint64_t a = 0, b = 0;
    auto read = [](std::string_view t, std::uint64_t& v) {
        auto [end, ec] = std::from_chars(t.data(), t.data() + t.size(), v);
        return ec == std::errc{} && end == t.data() + t.size();
    };
    if (dash == s.npos || !read(s.substr(0, dash), a) || !read(s.substr(dash + 1), b) || b < a || b > UINT64_MAX / 4)
        return std::nullopt;
    return ByteSource::Range{a, b + 1};
}

/// "seg-$Number%05d$.m4s" (clause 5.3.9.4.4). Nothing where it can't be followed.
std::optional<std::string> fill(std::string_view form, std::string_view id, std::uint64_t bandwidth, std::uint64_t n,
                                std::uint64_t time) {
    std::string out;
    while (!form.empty()) {
        auto at = form.find('$');
        out += form.substr(0, at);
        if (at == form.npos) break;
        auto end = form.find('$', at + 1);
        if (end == form.npos) return std::nullopt;
        auto name = form.substr(at + 1, end - at - 1);
        form.remove_prefix(end + 1);
        std::size_t width = 1;
        if (auto percent = name.find('%'); percent != name.npos) {
            auto digits = name.substr(percent + 1);
            if (!digits.ends_with('d')) return std::nullopt;
            digits.remove_suffix(1);
            while (digits.starts_with('0')) digits.remove_prefix(1);
            auto [to, ec] = std::from_chars(digits.data(), digits.data() + digits.size(), width);
            if (ec != std::errc{} || width > 32) return std::nullopt;
            name = name.substr(0, percent);
        }
        if (name.empty())
            out += '$';
        else if (name == "RepresentationID")
            out += id;
        else if (name == "Bandwidth")
            out += fmt::format("{:0{}}", bandwidth, width);
        else if (name == "Number")
            out += fmt::format("{:0{}}", n, width);
        else if (name == "Time")
            out += fmt::format("{:0{}}", time, width);
        else
            return std::nullopt;
    }
    return out;
}

namespace {
Result<std::string> based(const std::string& on, Node n) {
    auto b = child(n, "BaseURL");
    auto text = std::string(transfer::trimmed(b.text().get()));
    return text.empty() ? Result<std::string>(on) : resolve(on, text);
}
const char* either(Node a, Node b, const char* name) {
    auto v = a.attribute(name).value();
    return *v ? v : b.attribute(name).value();
}
}  // namespace

Status Description::read(ByteView xml, const std::string& from) {
    auto name = transfer::last_part(from);
    address = from;
    auto bad = [&](std::string why) {
        return fail(ErrorCode::malformed, fmt::format("“{}” can’t be followed: {}.", name, why),
                    "Make the manifest again.");
    };
    // Entities that a document defines itself are never put in, and nothing outside it is read.
    auto parsed = document.load_buffer(xml.data(), xml.size(), pugi::parse_default);
    if (!parsed) return bad(fmt::format("at byte {} it is no XML any more", parsed.offset));
    root = document.document_element();
    if (!is(root, "MPD")) return bad("it is not a media presentation description");
    live = std::string_view(root.attribute("type").value()) == "dynamic";
    depth = duration(root.attribute("timeShiftBufferDepth").value()).value_or(Time{});
    delay = duration(root.attribute("suggestedPresentationDelay").value()).value_or(Time{});
    update = duration(root.attribute("minimumUpdatePeriod").value()).value_or(Time{});
    begun = parse_date(root.attribute("availabilityStartTime").value());
    if (live && !begun) return bad("it is live and does not say since when");
    return {};
}

Result<std::vector<Description::Group>> Description::groups() const {
    std::vector<Group> all;
    auto length = duration(root.attribute("mediaPresentationDuration").value()).value_or(Time{});
    std::vector<Node> periods;
    each(root, "Period", [&](Node n) {
        if (periods.size() < 1000) periods.push_back(n);
    });
    Time at{};
    for (std::size_t p = 0; p < periods.size(); ++p) {
        auto start = duration(periods[p].attribute("start").value()).value_or(at);
        auto own = duration(periods[p].attribute("duration").value());
        Time lasts{};
        if (own)
            lasts = *own;
        else if (p + 1 < periods.size()) {
            if (auto next = duration(periods[p + 1].attribute("start").value())) lasts = *next - start;
        } else if (length > start) {
            lasts = length - start;
        }
        at = start + lasts;
        RUEDO_TRY(auto base, based(address, root));
        RUEDO_TRY(base, based(base, periods[p]));
        std::map<std::string, int> seen;
        for (auto set : periods[p].children()) {
            if (!is(set, "AdaptationSet")) continue;
            RUEDO_TRY_DO(take_set(all, seen, set, periods[p], base, start, lasts, p));
        }
    }
    for (auto& g : all) {
        std::vector<std::size_t> order(g.rungs.size());
        for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
        std::stable_sort(order.begin(), order.end(),
                         [&](auto a, auto b) { return g.rungs[a].bandwidth < g.rungs[b].bandwidth; });
        auto rungs = g.rungs;
        auto parts = g.parts;
        for (std::size_t i = 0; i < order.size(); ++i) g.rungs[i] = rungs[order[i]], g.parts[i] = parts[order[i]];
    }
    return all;
}

Status Description::take_set(std::vector<Group>& all, std::map<std::string, int>& seen, Node set, Node period,
                             const std::string& period_base, Time start, Time lasts, std::size_t p) const {
    RUEDO_TRY(auto set_base, based(period_base, set));
    auto first = child(set, "Representation");
    std::string type = either(set, first, "contentType"), mime = either(set, first, "mimeType");
    auto kind = type == "video" || mime.starts_with("video/")   ? Kind::video
                : type == "audio" || mime.starts_with("audio/") ? Kind::audio
                : mime == "text/vtt"                            ? Kind::text
                                                                : Kind::other;
    if (kind == Kind::other) return {};
    // Pictures for fast forward are none that play.
    bool trick = false;
    each(set, "EssentialProperty",
         [&](Node n) { trick = trick || std::strstr(n.attribute("schemeIdUri").value(), "trickmode"); });
    if (trick) return {};
    std::string language = set.attribute("lang").value();
    if (language == "und") language.clear();
    auto key = fmt::format("{} {}", static_cast<int>(kind), kind == Kind::video ? std::string() : language);
    // Of several sets alike the first is taken; of pictures all are, as far as their codec is the same.
    bool again = seen[key]++ > 0;
    auto it = std::find_if(all.begin(), all.end(),
                           [&](auto& g) { return g.kind == kind && (kind == Kind::video || g.language == language); });
    if (again && kind != Kind::video) return {};
    if (it == all.end()) {
        if (p > 0 && kind != Kind::video) return {};  // what begins later is not offered
        all.push_back({kind, language, set.attribute("label").value(), false, false, {}, {}});
        it = std::prev(all.end());
        each(set, "Role", [&](Node n) { it->is_default = std::string_view(n.attribute("value").value()) == "main"; });
    }
    auto& group = *it;
    std::size_t index = 0;
    std::vector<Part> fresh;
    std::vector<Rung> rungs;
    for (auto n : set.children()) {
        if (!is(n, "Representation") || fresh.size() >= 100) continue;
        if (child(set, "ContentProtection") || child(n, "ContentProtection")) group.encrypted = true;
        RUEDO_TRY(auto base, based(set_base, n));
        Rung r;
        r.id = n.attribute("id").value();
        r.bandwidth = number(n, "bandwidth");
        r.codecs = either(n, set, "codecs");
        r.width = static_cast<int>(std::min<std::uint64_t>(32768, std::strtoull(either(n, set, "width"), nullptr, 10)));
        r.height =
            static_cast<int>(std::min<std::uint64_t>(32768, std::strtoull(either(n, set, "height"), nullptr, 10)));
        r.frame_rate = parse_rational(either(n, set, "frameRate")).value_or(Rational{});
        rungs.push_back(std::move(r));
        fresh.push_back({{period, set, n}, std::move(base), start, lasts, p});
        ++index;
    }
    if (p == 0 || group.rungs.empty()) {
        auto codec = [](const Rung& r) { return r.codecs.substr(0, 4); };
        for (std::size_t i = 0; i < fresh.size(); ++i) {
            if (again && !group.rungs.empty() && codec(rungs[i]) != codec(group.rungs[0])) continue;
            group.rungs.push_back(rungs[i]);
            group.parts.push_back({fresh[i]});
        }
        return {};
    }
    // In a later period: the one of the same name, or else of the nearest bitrate.
    for (std::size_t r = 0; r < group.rungs.size() && !fresh.empty(); ++r) {
        auto apart = [&](std::size_t i) {
            if (rungs[i].id == group.rungs[r].id) return -1.0;
            return std::abs(std::log((static_cast<double>(rungs[i].bandwidth) + 1) /
                                     (static_cast<double>(group.rungs[r].bandwidth) + 1)));
        };
        std::size_t best = 0;
        for (std::size_t i = 1; i < fresh.size(); ++i)
            if (apart(i) < apart(best)) best = i;
        if (group.parts[r].back().period != p) group.parts[r].push_back(fresh[best]);
    }
    return {};
}

}  // namespace ruedo::stream::dash
