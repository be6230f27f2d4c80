// SPDX-License-Identifier: Apache-2.0
#include "stream/playlist.h"

#include <fmt/format.h>

#include <charconv>
#include <chrono>

#include "io/transfer.h"
#include "stream/address.h"

namespace ruedo::stream {
namespace {
using Names = std::map<std::string, std::string>;

/// Seconds with a fraction, exact to the nanosecond; negative only where asked for.
std::optional<Time> seconds(std::string_view s, bool signed_ = false) {
    bool minus = signed_ && s.starts_with('-');
    if (minus) s.remove_prefix(1);
    auto dot = s.find('.');
    auto left = transfer::number_in(s.substr(0, dot));
    if (!left || *left > 1'000'000'000) return std::nullopt;
    std::int64_t ns = static_cast<std::int64_t>(*left) * 1'000'000'000, unit = 100'000'000;
    if (dot != std::string_view::npos)
        for (auto c : s.substr(dot + 1)) {
            if (c < '0' || c > '9') return std::nullopt;
            ns += (c - '0') * unit, unit /= 10;
        }
    return Time{minus ? -ns : ns};
}
/// Attributes of a tag (clause 4.2): name and value, quotes taken off.
std::map<std::string, std::string, std::less<>> attributes(std::string_view s) {
    std::map<std::string, std::string, std::less<>> all;
    while (!s.empty() && all.size() < 64) {
        auto equals = s.find('=');
        if (equals == std::string_view::npos) break;
        auto name = transfer::trimmed(s.substr(0, equals));
        s.remove_prefix(equals + 1);
        std::string_view value;
        if (s.starts_with('"')) {
            auto end = s.find('"', 1);
            value = s.substr(1, end == std::string_view::npos ? end : end - 1);
            s.remove_prefix(end == std::string_view::npos ? s.size() : end + 1);
            s.remove_prefix(std::min(s.size(), s.find(',') == std::string_view::npos ? s.size() : s.find(',') + 1));
        } else {
            auto end = std::min(s.find(','), s.size());
            value = transfer::trimmed(s.substr(0, end));
            s.remove_prefix(std::min(s.size(), end + 1));
        }
        all.emplace(name, value);
    }
    return all;
}

class Parser {
  public:
    Parser(const std::string& base, const Names& imported) : base_(base), imported_(imported) {}

    Result<Playlist> parse(std::string_view text) {
        std::size_t lines = 0;
        if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
        for (; !text.empty(); ++lines) {
            auto end = std::min(text.find('\n'), text.size());
            auto line = transfer::trimmed(text.substr(0, end));
            text.remove_prefix(std::min(text.size(), end + 1));
            if (lines == 0) {
                if (line != "#EXTM3U") return broken(1, "it does not begin with “#EXTM3U”");
                continue;
            }
            if (line.empty() || (line.starts_with('#') && !line.starts_with("#EXT"))) continue;
            auto done = line.starts_with('#') ? tag(line) : place(line);
            if (!done) {
                if (done.error().code != ErrorCode::malformed) return std::unexpected(done.error());
                return broken(lines + 1, done.error().sentence);
            }
        }
        if (lines == 0) return broken(1, "it is empty");
        if (is_master_) {
            if (master_.variants.empty()) return broken(lines, "it names no rendition");
            out_.master = std::move(master_);
        } else if (list_.target.ns <= 0 && !list_.segments.empty()) {
            for (auto& s : list_.segments) list_.target = std::max(list_.target, s.duration);
        }
        for (auto& s : list_.segments) {
            // To the nearest second, as the target is stated.
            if ((s.duration + 500_ms).ns / 1'000'000'000 <= list_.target.ns / 1'000'000'000) continue;
            if (list_.too_long++ == 0) list_.first_too_long = transfer::last_part(s.address);
        }
        out_.list = std::move(list_);
        out_.names = std::move(names_);
        return std::move(out_);
    }

  private:
    std::unexpected<Error> broken(std::size_t line, std::string_view why) const {
        return fail(ErrorCode::malformed,
                    fmt::format("“{}” can’t be followed at line {}: {}.", transfer::last_part(base_), line, why),
                    "Make the playlist again.");
    }
    static std::unexpected<Error> wrong(std::string why) { return fail(ErrorCode::malformed, std::move(why)); }

    /// With its variables replaced (second edition, clause 4.3).
    Result<std::string> filled(std::string_view text) const {
        std::string out;
        for (;;) {
            auto at = text.find("{$");
            out += text.substr(0, at);
            if (at == std::string_view::npos) return out;
            auto end = text.find('}', at);
            if (end == std::string_view::npos) return wrong("a variable’s name does not end");
            auto it = names_.find(std::string(text.substr(at + 2, end - at - 2)));
            if (it == names_.end())
                return wrong(fmt::format("the variable “{}” is not defined", text.substr(at + 2, end - at - 2)));
            out += it->second;
            if (out.size() > 8192) return wrong("an address is longer than 8192 letters");
            text.remove_prefix(end + 1);
        }
    }
    Result<std::string> address(std::string_view text) const {
        RUEDO_TRY(auto plain, filled(text));
        return resolve(base_, plain);
    }
    /// "length@offset": where the offset is left out it goes on after the one before, of the same file.
    Result<ByteSource::Range> range(std::string_view text, const std::string& of) {
        auto at = text.find('@');
        auto length = transfer::number_in(text.substr(0, at));
        auto from = at == std::string_view::npos ? std::nullopt : transfer::number_in(text.substr(at + 1));
        if (!length || *length == 0 || (at != std::string_view::npos && !from)) return wrong("a byte range is none");
        if (!from) {
            if (range_of_ != of) return wrong("a byte range goes on after nothing");
            from = range_to_;
        }
        if (*length > UINT64_MAX / 4 || *from > UINT64_MAX / 4) return wrong("a byte range is beyond all bounds");
        range_of_ = of, range_to_ = *from + *length;
        return ByteSource::Range{*from, *from + *length};
    }

    Status tag(std::string_view line) {
        auto colon = line.find(':');
        auto name = line.substr(0, colon);
        auto rest = colon == std::string_view::npos ? std::string_view{} : line.substr(colon + 1);
        struct Row {
            std::string_view name;
            Status (Parser::*read)(std::string_view);
        };
        static constexpr std::array rows{Row{"#EXTINF", &Parser::length},
                                         Row{"#EXT-X-BYTERANGE", &Parser::byte_range},
                                         Row{"#EXT-X-DISCONTINUITY", &Parser::discontinuity},
                                         Row{"#EXT-X-KEY", &Parser::key},
                                         Row{"#EXT-X-MAP", &Parser::map},
                                         Row{"#EXT-X-PROGRAM-DATE-TIME", &Parser::dated},
                                         Row{"#EXT-X-GAP", &Parser::gap},
                                         Row{"#EXT-X-TARGETDURATION", &Parser::target},
                                         Row{"#EXT-X-MEDIA-SEQUENCE", &Parser::sequence},
                                         Row{"#EXT-X-DISCONTINUITY-SEQUENCE", &Parser::discontinuities},
                                         Row{"#EXT-X-ENDLIST", &Parser::ended},
                                         Row{"#EXT-X-PLAYLIST-TYPE", &Parser::type},
                                         Row{"#EXT-X-I-FRAMES-ONLY", &Parser::iframes_only},
                                         Row{"#EXT-X-START", &Parser::begin},
                                         Row{"#EXT-X-SERVER-CONTROL", &Parser::server},
                                         Row{"#EXT-X-DEFINE", &Parser::define},
                                         Row{"#EXT-X-MEDIA", &Parser::alternative},
                                         Row{"#EXT-X-STREAM-INF", &Parser::variant},
                                         Row{"#EXT-X-I-FRAME-STREAM-INF", &Parser::iframe_variant},
                                         Row{"#EXT-X-SESSION-KEY", &Parser::session_key}};
        for (auto& row : rows)
            if (row.name == name) return (this->*row.read)(rest);
        return {};  // clause 6.3.1: what is not known is passed over
    }

    Status length(std::string_view s) {
        auto t = seconds(transfer::trimmed(s.substr(0, s.find(','))));
        if (!t) return wrong("the length of a segment is no number");
        next_.duration = *t;
        timed_ = true;
        return {};
    }
    Status byte_range(std::string_view s) {
        next_range_ = std::string(s);
        return {};
    }
    Status discontinuity(std::string_view) {
        ++discontinuity_;
        return {};
    }
    Status key(std::string_view s) {
        auto a = attributes(s);
        auto form = a["KEYFORMAT"];
        auto k = std::make_shared<Key>();
        k->name = a["METHOD"];
        if (k->name == "NONE") {
            key_.reset();
            return {};
        }
        k->method = k->name == "AES-128" && (form.empty() || form == "identity") ? Key::Method::aes_128
                                                                                 : Key::Method::unsupported;
        // Of several forms of one key the one that is understood counts.
        if (k->method == Key::Method::unsupported && key_ && key_->method == Key::Method::aes_128 && keyed_now_)
            return {};
        if (k->method == Key::Method::aes_128) {
            if (!a.contains("URI")) return wrong("a key is said to be nowhere");
            RUEDO_TRY(k->address, address(a["URI"]));
            if (auto iv = a["IV"]; !iv.empty()) {
                std::array<std::uint8_t, 16> bytes{};
                if (iv.size() != 34 || (!iv.starts_with("0x") && !iv.starts_with("0X")))
                    return wrong("an initialization vector is not 16 bytes");
                for (std::size_t i = 0; i < 16; ++i) {
                    auto* from = iv.data() + 2 + 2 * i;
                    auto [end, ec] = std::from_chars(from, from + 2, bytes[i], 16);
                    if (ec != std::errc{} || end != from + 2) return wrong("an initialization vector is not 16 bytes");
                }
                k->iv = bytes;
            }
        }
        key_ = std::move(k), keyed_now_ = true;
        return {};
    }
    Status map(std::string_view s) {
        auto a = attributes(s);
        auto m = std::make_shared<Map>();
        RUEDO_TRY(m->address, address(a["URI"]));
        if (auto r = a.find("BYTERANGE"); r != a.end()) {
            RUEDO_TRY(m->range, range(r->second.contains('@') ? r->second : r->second + "@0", m->address));
        }
        m->key = key_;
        map_ = std::move(m);
        return {};
    }
    Status dated(std::string_view s) {
        next_.date = parse_date(s);
        return {};
    }
    Status gap(std::string_view) {
        next_.gap = true;
        return {};
    }
    Status target(std::string_view s) {
        auto t = seconds(s);
        if (!t) return wrong("the target duration is no number");
        list_.target = *t;
        return {};
    }
    Status sequence(std::string_view s) {
        auto n = transfer::number_in(s);
        if (!n || *n > UINT64_MAX / 4) return wrong("the media sequence number is none");
        if (list_.segments.empty()) number_ = *n;
        return {};
    }
    Status discontinuities(std::string_view s) {
        auto n = transfer::number_in(s);
        if (!n || *n > UINT64_MAX / 4) return wrong("the discontinuity sequence number is none");
        if (list_.segments.empty()) discontinuity_ = *n;
        return {};
    }
    Status ended(std::string_view) {
        list_.ended = true;
        return {};
    }
    Status type(std::string_view s) {
        list_.grows = s == "EVENT" || s == "VOD";
        return {};
    }
    Status iframes_only(std::string_view) {
        list_.iframes_only = true;
        return {};
    }
    Status begin(std::string_view s) {
        auto t = seconds(attributes(s)["TIME-OFFSET"], true);
        if (!t) return wrong("the offset to begin at is no number");
        list_.begin = master_.begin = *t;
        return {};
    }
    Status server(std::string_view s) {
        list_.hold_back = seconds(attributes(s)["HOLD-BACK"]);
        return {};
    }
    Status define(std::string_view s) {
        auto a = attributes(s);
        if (names_.size() > 100) return wrong("more than 100 variables are defined");
        if (a.contains("NAME")) {
            names_[a["NAME"]] = a["VALUE"];
        } else if (a.contains("IMPORT")) {
            auto it = imported_.find(a["IMPORT"]);
            if (it == imported_.end())
                return wrong(fmt::format("the variable “{}” is imported from nowhere", a["IMPORT"]));
            names_.insert(*it);
        } else if (a.contains("QUERYPARAM")) {
            auto wanted = a["QUERYPARAM"];
            auto query = base_.find('?');
            auto rest = query == std::string::npos ? std::string_view{} : std::string_view(base_).substr(query + 1);
            rest = rest.substr(0, rest.find('#'));
            while (!rest.empty()) {
                auto one = rest.substr(0, rest.find('&'));
                rest.remove_prefix(std::min(rest.size(), one.size() + 1));
                if (one.substr(0, one.find('=')) == wanted)
                    names_[wanted] = one.contains('=') ? one.substr(one.find('=') + 1) : std::string_view{};
            }
            if (!names_.contains(wanted)) return wrong(fmt::format("the address has no parameter “{}”", wanted));
        }
        return {};
    }
    Status alternative(std::string_view s) {
        is_master_ = true;
        auto a = attributes(s);
        Alternative m;
        auto type = a["TYPE"];
        m.kind = type == "AUDIO"       ? Kind::audio
                 : type == "SUBTITLES" ? Kind::text
                 : type == "VIDEO"     ? Kind::video
                                       : Kind::other;
        m.group = a["GROUP-ID"], m.name = tidy_title(a["NAME"]), m.language = a["LANGUAGE"];
        m.is_default = a["DEFAULT"] == "YES", m.chosen_by_itself = a["AUTOSELECT"] == "YES",
        m.forced = a["FORCED"] == "YES";
        auto channels = a["CHANNELS"];
        m.channels = static_cast<int>(
            std::min<std::uint64_t>(64, transfer::number_in(channels.substr(0, channels.find('/'))).value_or(0)));
        if (a.contains("URI")) {
            RUEDO_TRY(m.address, address(a["URI"]));
        }
        if (master_.alternatives.size() >= most_variants) return too_many();
        master_.alternatives.push_back(std::move(m));
        return {};
    }
    static std::unexpected<Error> too_many() {
        return fail(ErrorCode::limit, fmt::format("A playlist names more than {} renditions.", most_variants),
                    "Is it what was meant?");
    }
    Variant variant_of(std::string_view s) {
        auto a = attributes(s);
        Variant v;
        constexpr std::uint64_t most = 1'000'000'000'000;  // a terabit a second
        v.bandwidth = std::min(most, transfer::number_in(a["BANDWIDTH"]).value_or(0));
        v.average_bandwidth = std::min(most, transfer::number_in(a["AVERAGE-BANDWIDTH"]).value_or(0));
        v.codecs = a["CODECS"], v.audio = a["AUDIO"], v.text = a["SUBTITLES"];
        auto size = a["RESOLUTION"];
        auto cross = size.find('x');
        if (cross != std::string::npos) {
            auto w = transfer::number_in(std::string_view(size).substr(0, cross)),
                 h = transfer::number_in(std::string_view(size).substr(cross + 1));
            if (w && h && *w <= 32768 && *h <= 32768) v.width = static_cast<int>(*w), v.height = static_cast<int>(*h);
        }
        auto named = [](unsigned char c) {
            return std::isalnum(c) || std::string_view("+/=-._").find(static_cast<char>(c)) != std::string_view::npos;
        };
        if (auto& id = a["STABLE-VARIANT-ID"]; id.size() <= 64 && std::all_of(id.begin(), id.end(), named)) v.id = id;
        if (auto score = seconds(a["SCORE"]); score && score->ns > 0) v.score = score->seconds();
        if (auto rate = seconds(a["FRAME-RATE"]); rate && rate->ns > 0) v.frame_rate = nearest_rate(rate->seconds());
        return v;
    }
    /// Playlists round to three decimals; 29.97 is 30000/1001.
    static Rational nearest_rate(double rate) {
        for (std::int64_t n : {24, 30, 48, 60, 120})
            if (std::abs(rate - static_cast<double>(n) * 1000 / 1001) < 0.002) return {n * 1000, 1001};
        return Rational{std::llround(rate * 1000), 1000}.reduced();
    }
    Status variant(std::string_view s) {
        is_master_ = true;
        variant_ = variant_of(s);
        return {};
    }
    Status iframe_variant(std::string_view s) {
        is_master_ = true;
        auto v = variant_of(s);
        RUEDO_TRY(v.address, address(attributes(s)["URI"]));
        if (master_.iframes_only.size() >= most_variants) return too_many();
        master_.iframes_only.push_back(std::move(v));
        return {};
    }
    Status session_key(std::string_view) {
        is_master_ = master_.session_encrypted = true;
        return {};
    }

    /// A line that is no tag: where a rendition or a segment lies.
    Status place(std::string_view line) {
        if (variant_) {
            RUEDO_TRY(variant_->address, address(line));
            if (master_.variants.size() >= most_variants) return too_many();
            master_.variants.push_back(*std::exchange(variant_, std::nullopt));
            return {};
        }
        if (is_master_) return {};
        if (!timed_) return wrong("a segment’s length is not stated");
        if (list_.segments.size() >= most_segments)
            return fail(ErrorCode::limit,
                        fmt::format("“{}” lists more than {} segments.", transfer::last_part(base_), most_segments),
                        "Make segments longer, or the playlist shorter.");
        auto& s = next_;
        RUEDO_TRY(s.address, address(line));
        if (next_range_) {
            RUEDO_TRY(s.range, range(*next_range_, s.address));
        }
        s.start = at_, s.number = number_++, s.discontinuity = discontinuity_, s.key = key_, s.map = map_;
        at_ += s.duration;
        list_.segments.push_back(std::exchange(next_, {}));
        next_range_.reset();
        timed_ = keyed_now_ = false;
        return {};
    }

    const std::string& base_;
    const Names& imported_;
    Playlist out_;
    MasterPlaylist master_;
    SegmentList list_;
    Names names_;
    Segment next_;
    std::optional<std::string> next_range_;
    std::optional<Variant> variant_;
    std::shared_ptr<const Key> key_;
    std::shared_ptr<const Map> map_;
    std::string range_of_;
    std::uint64_t range_to_ = 0, number_ = 0, discontinuity_ = 0;
    Time at_{};
    bool is_master_ = false, timed_ = false, keyed_now_ = false;
};
}  // namespace

std::optional<Time> parse_date(std::string_view s) {
    auto digits = [&](std::size_t at, std::size_t n) -> int {
        auto v = at + n <= s.size() ? transfer::number_in(s.substr(at, n)) : std::nullopt;
        return v ? static_cast<int>(*v) : -1;
    };
    auto year = digits(0, 4), month = digits(5, 2), day = digits(8, 2), hour = digits(11, 2), minute = digits(14, 2);
    auto date = std::chrono::year(year) / month / day;
    // Of other years no two would have a difference that can be told.
    if (year < 1970 || year >= 2200 || !date.ok() || hour < 0 || hour > 24 || minute < 0 || minute > 59 ||
        s.size() < 19)
        return std::nullopt;
    auto zone = s.find_first_of("Zz+-", 19);
    auto second = seconds(s.substr(17, zone == std::string_view::npos ? zone : zone - 17));
    if (!second || *second >= 61_s) return std::nullopt;
    auto days = std::chrono::sys_days(date).time_since_epoch().count();
    auto t = Time{(static_cast<std::int64_t>(days) * 86400 + hour * 3600 + minute * 60) * 1'000'000'000} + *second;
    if (zone == std::string_view::npos || s[zone] == 'Z' || s[zone] == 'z') return t;
    auto zh = digits(zone + 1, 2), zm = digits(zone + (s.size() > zone + 5 ? 4 : 3), 2);
    if (zh < 0 || zh > 24) return std::nullopt;
    auto off = 1_s * (zh * 3600 + std::max(0, zm) * 60);
    return s[zone] == '+' ? t - off : t + off;
}

const Segment* SegmentList::at(Time t) const {
    auto it = std::upper_bound(segments.begin(), segments.end(), t, [](Time v, auto& s) { return v < s.start; });
    if (segments.empty()) return nullptr;
    return it == segments.begin() ? &segments.front() : &*std::prev(it);
}

bool is_playlist(ByteView head) {
    std::string_view text(reinterpret_cast<const char*>(head.data()), head.size());
    if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
    return text.starts_with("#EXTM3U");
}

Result<Playlist> parse_playlist(ByteView text, const std::string& base, const Names& imported) {
    return Parser(base, imported).parse({reinterpret_cast<const char*>(text.data()), text.size()});
}

}  // namespace ruedo::stream
