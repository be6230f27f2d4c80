// SPDX-License-Identifier: Apache-2.0
#include "text/cues.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>

#include "io/transfer.h"

namespace ruedo {
namespace fs = std::filesystem;
using transfer::trimmed;
namespace {

/// Takes the next line off, whichever way lines end.
bool next_line(std::string_view& rest, std::string_view& line) {
    if (rest.empty()) return false;
    auto end = rest.find_first_of("\r\n");
    line = rest.substr(0, end);
    rest.remove_prefix(std::min(rest.size(), line.size()));
    if (rest.starts_with("\r\n"))
        rest.remove_prefix(2);
    else if (!rest.empty())
        rest.remove_prefix(1);
    return true;
}

/// "mm:ss.ttt", "hh:mm:ss.ttt", or with a comma as SubRip has it, where fewer digits are met too.
std::optional<Time> timestamp(std::string_view s) {
    std::array<std::uint64_t, 4> part{};
    std::size_t parts = 0;
    for (;;) {
        auto end = s.find_first_of(":.,");
        auto digits = s.substr(0, end);
        if (digits.empty() || parts == 4) return std::nullopt;
        auto [to, ec] = std::from_chars(digits.data(), digits.data() + digits.size(), part[parts]);
        if (ec != std::errc() || to != digits.data() + digits.size()) return std::nullopt;
        ++parts;
        if (end == std::string_view::npos) break;
        bool fraction = s[end] != ':', comma = s[end] == ',';
        s.remove_prefix(end + 1);
        if (fraction) {
            if (s.empty() || s.size() > 3 || (s.size() < 3 && !comma) || parts < 2 || parts > 3) return std::nullopt;
            std::uint64_t ms = 0;
            if (std::from_chars(s.data(), s.data() + s.size(), ms).ptr != s.data() + s.size()) return std::nullopt;
            for (auto n = s.size(); n < 3; ++n) ms *= 10;
            if (part[0] > 100'000 || part[parts - 1] > 59 || part[parts - 2] > (parts == 3 ? 59 : 100'000))
                return std::nullopt;
            auto seconds = parts == 3 ? part[0] * 3600 + part[1] * 60 + part[2] : part[0] * 60 + part[1];
            return 1_ms * static_cast<std::int64_t>(seconds * 1000 + ms);
        }
    }
    return std::nullopt;
}

bool timing_line(std::string_view line, Cue& cue, std::string_view& settings) {
    auto arrow = line.find("-->");
    if (arrow == std::string_view::npos) return false;
    auto from = timestamp(trimmed(line.substr(0, arrow)));
    auto rest = trimmed(line.substr(arrow + 3));
    auto space = rest.find_first_of(" \t");
    auto to = timestamp(rest.substr(0, space));
    if (!from || !to || *to <= *from) return false;
    cue.start = *from, cue.end = *to;
    settings = space == std::string_view::npos ? std::string_view{} : rest.substr(space + 1);
    return true;
}

void read_settings(std::string_view settings, Cue& cue) {
    auto number = [](std::string_view s, bool& percent) -> std::optional<double> {
        percent = s.ends_with('%');
        if (percent) s.remove_suffix(1);
        double v = 0;
        auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
        return ec == std::errc() && end == s.data() + s.size() && std::abs(v) < 10'000 ? std::optional(v)
                                                                                       : std::nullopt;
    };
    while (!(settings = trimmed(settings)).empty()) {
        auto space = settings.find_first_of(" \t");
        auto one = settings.substr(0, space);
        settings.remove_prefix(one.size());
        auto colon = one.find(':');
        if (colon == std::string_view::npos) continue;
        auto key = one.substr(0, colon), value = one.substr(colon + 1);
        auto first = value.substr(0, value.find(','));
        bool percent = false;
        if (key == "line") {
            if (auto v = number(first, percent); v && (!percent || (*v >= 0 && *v <= 100)))
                cue.line = v, cue.line_percent = percent;
        } else if (key == "position") {
            if (auto v = number(first, percent); v && percent && *v >= 0 && *v <= 100) cue.position = v;
        } else if (key == "size") {
            if (auto v = number(first, percent); v && percent && *v > 0 && *v <= 100) cue.size = *v;
        } else if (key == "align") {
            if (value == "start" || value == "left")
                cue.align = Cue::Align::start;
            else if (value == "end" || value == "right")
                cue.align = Cue::Align::end;
        }
    }
}

/// Bytes 0x80 to 0x9F of windows-1252, which is what most old files are in that are not UTF-8; the five it has no
/// letter for stay as they are, and the rest is Latin-1.
constexpr std::array<std::uint16_t, 32> windows_1252{0x20AC, 0x81,   0x201A, 0x0192, 0x201E, 0x2026, 0x2020, 0x2021,
                                                     0x02C6, 0x2030, 0x0160, 0x2039, 0x0152, 0x8D,   0x017D, 0x8F,
                                                     0x90,   0x2018, 0x2019, 0x201C, 0x201D, 0x2022, 0x2013, 0x2014,
                                                     0x02DC, 0x2122, 0x0161, 0x203A, 0x0153, 0x9D,   0x017E, 0x0178};

std::string utf8(ByteView bytes) {
    std::string out;
    auto put = [&](std::uint32_t c) {
        if (c < 0x80)
            out += static_cast<char>(c);
        else if (c < 0x800)
            out += static_cast<char>(0xC0 | c >> 6), out += static_cast<char>(0x80 | (c & 63));
        else if (c < 0x10000)
            out += static_cast<char>(0xE0 | c >> 12), out += static_cast<char>(0x80 | (c >> 6 & 63)),
                out += static_cast<char>(0x80 | (c & 63));
        else
            out += static_cast<char>(0xF0 | c >> 18), out += static_cast<char>(0x80 | (c >> 12 & 63)),
                out += static_cast<char>(0x80 | (c >> 6 & 63)), out += static_cast<char>(0x80 | (c & 63));
    };
    // UTF-16 is recognised by its byte order mark; UTF-8's own is dropped.
    if (bytes.size() >= 2 && ((bytes[0] == 0xFE && bytes[1] == 0xFF) || (bytes[0] == 0xFF && bytes[1] == 0xFE))) {
        bool big = bytes[0] == 0xFE;
        std::uint32_t high = 0;
        for (std::size_t i = 2; i + 1 < bytes.size(); i += 2) {
            std::uint32_t u = big ? static_cast<std::uint32_t>(bytes[i]) << 8 | bytes[i + 1]
                                  : static_cast<std::uint32_t>(bytes[i + 1]) << 8 | bytes[i];
            if (u >= 0xD800 && u < 0xDC00)
                high = u;
            else if (u >= 0xDC00 && u < 0xE000 && high)
                put(0x10000 + ((high - 0xD800) << 10) + (u - 0xDC00)), high = 0;
            else
                put(u >= 0xDC00 && u < 0xE000 ? 0xFFFD : u);  // half of a letter is none
        }
        return out;
    }
    if (bytes.size() >= 3 && bytes[0] == 0xEF && bytes[1] == 0xBB && bytes[2] == 0xBF) bytes = bytes.subspan(3);
    bool valid = true;
    for (std::size_t i = 0; i < bytes.size() && valid;) {
        auto lead = bytes[i];
        std::size_t n = lead < 0x80             ? 1
                        : (lead & 0xE0) == 0xC0 ? 2
                        : (lead & 0xF0) == 0xE0 ? 3
                        : (lead & 0xF8) == 0xF0 ? 4
                                                : 0;
        if (n == 0 || i + n > bytes.size()) valid = false;
        for (std::size_t k = 1; valid && k < n; ++k) valid = (bytes[i + k] & 0xC0) == 0x80;
        i += std::max<std::size_t>(n, 1);
    }
    if (valid) return {bytes.begin(), bytes.end()};
    for (auto b : bytes) put(b >= 0x80 && b < 0xA0 ? windows_1252[b - 0x80U] : b);
    return out;
}
}  // namespace

std::string Cue::text() const {
    std::string all;
    for (auto& r : runs) all += r.text;
    return all;
}

std::string cue_settings(const Cue& cue) {
    std::string all;
    auto add = [&](const std::string& setting) { all += (all.empty() ? "" : " ") + setting; };
    if (cue.line) add(fmt::format("line:{:g}{}", *cue.line, cue.line_percent ? "%" : ""));
    if (cue.position) add(fmt::format("position:{:g}%", *cue.position));
    if (cue.size < 100) add(fmt::format("size:{:g}%", cue.size));
    if (cue.align != Cue::Align::centre) add(cue.align == Cue::Align::start ? "align:start" : "align:end");
    return all;
}

std::string cue_text(const Cue& cue, bool webvtt) {
    std::string all;
    for (auto& run : cue.runs) {
        std::string after;
        for (auto [on, tag] : {std::pair{run.italic, 'i'}, {run.bold, 'b'}, {run.underline, 'u'}})
            if (on) all += fmt::format("<{}>", tag), after = fmt::format("</{}>", tag) + after;
        for (char c : run.text) {
            if (webvtt && (c == '&' || c == '<' || c == '>'))
                all += c == '&' ? "&amp;" : c == '<' ? "&lt;" : "&gt;";
            else
                all += c;
        }
        all += after;
    }
    return all;
}

std::vector<TextRun> parse_cue_text(std::string_view s) {
    std::vector<TextRun> runs;
    TextRun now;
    auto flush = [&] {
        if (!now.text.empty()) runs.push_back(now);
        now.text.clear();
    };
    for (std::size_t i = 0; i < s.size();) {
        if (s[i] == '<' || (s[i] == '{' && i + 1 < s.size() && s[i + 1] == '\\')) {
            auto close = s.find(s[i] == '<' ? '>' : '}', i);
            auto tag = close == std::string_view::npos ? std::string_view() : s.substr(i + 1, close - i - 1);
            // What is not closed, begins with a space or with what is no time, or holds another, is the sign itself.
            bool number = !tag.empty() && tag[0] >= '0' && tag[0] <= '9';
            if (close == std::string_view::npos || tag.starts_with(' ') || tag.find('<') != std::string_view::npos ||
                (number && tag.find_first_not_of("0123456789:.") != std::string_view::npos)) {
                now.text += s[i++];
                continue;
            }
            bool off = tag.starts_with('/');
            auto name = (off ? tag.substr(1) : tag).substr(0, (off ? tag.substr(1) : tag).find_first_of(". \t"));
            bool* which = name == "i" ? &now.italic : name == "b" ? &now.bold : name == "u" ? &now.underline : nullptr;
            if (which && *which == off) flush(), *which = !off;
            i = close + 1;
        } else if (s[i] == '&') {
            static constexpr std::array<std::pair<std::string_view, std::string_view>, 6> names{{{"&amp;", "&"},
                                                                                                 {"&lt;", "<"},
                                                                                                 {"&gt;", ">"},
                                                                                                 {"&nbsp;", "\u00A0"},
                                                                                                 {"&lrm;", "\u200E"},
                                                                                                 {"&rlm;", "\u200F"}}};
            auto it =
                std::find_if(names.begin(), names.end(), [&](auto& n) { return s.substr(i).starts_with(n.first); });
            now.text += it == names.end() ? "&" : it->second;
            i += it == names.end() ? 1 : it->first.size();
        } else {
            now.text += s[i++];
        }
    }
    flush();
    return runs;
}

Result<Cues> parse_captions(ByteView file, std::string_view name) {
    auto all = utf8(file);
    std::string_view rest(all), line;
    Cues cues;
    bool webvtt = rest.starts_with("WEBVTT");
    if (webvtt) {
        // The header goes up to the first empty line.
        while (next_line(rest, line) && !line.empty())
            if (line.starts_with("Language:")) cues.language = trimmed(line.substr(9));
    }
    std::size_t arrows = 0;
    while (next_line(rest, line)) {
        if (trimmed(line).empty()) continue;
        bool aside = webvtt && (line == "NOTE" || line.starts_with("NOTE ") || line.starts_with("NOTE\t") ||
                                line == "STYLE" || line == "REGION");
        // An identifier or a number may stand before the times.
        if (!aside && line.find("-->") == std::string_view::npos) {
            auto after = rest;
            std::string_view second;
            if (next_line(after, second) && second.find("-->") != std::string_view::npos) rest = after, line = second;
        }
        Cue cue;
        std::string_view settings;
        bool has_times = line.find("-->") != std::string_view::npos;
        arrows += has_times;
        bool good = !aside && timing_line(line, cue, settings);
        std::string text;
        for (auto here = rest; next_line(rest, line) && !(webvtt ? line : trimmed(line)).empty(); here = rest) {
            if (!aside && line.find("-->") != std::string_view::npos) {
                // The next one, with no empty line between; of SubRip its number was taken for text.
                rest = here;
                auto last = text.rfind('\n');
                if (!webvtt && text.find_first_not_of("0123456789", last == text.npos ? 0 : last + 1) == text.npos)
                    text.erase(last == text.npos ? 0 : last);
                break;
            }
            if (!text.empty()) text += '\n';
            text += line;
        }
        if (!good) {
            cues.skipped += has_times && !aside;
            continue;
        }
        if (webvtt) read_settings(settings, cue);
        cue.runs = parse_cue_text(text);
        if (!cue.runs.empty() && cues.list.size() < 200'000) cues.list.push_back(std::move(cue));
    }
    if (!webvtt && arrows == 0)
        return fail(ErrorCode::not_media, fmt::format("“{}” holds no captions: it is neither WebVTT nor SubRip.", name),
                    "Choose a .vtt or .srt file.");
    std::stable_sort(cues.list.begin(), cues.list.end(), [](auto& a, auto& b) { return a.start < b.start; });
    return cues;
}

namespace {
constexpr std::size_t most_captions = 16 << 20;

/// Up to `most` of its bytes.
Result<Bytes> beginning_of(ByteSource& source, std::size_t most) {
    auto too_large = [&] {
        return fail(ErrorCode::limit, fmt::format("“{}” is too large for captions.", source.name()),
                    "Choose a .vtt or .srt file.");
    };
    if (source.size().value_or(0) > most_captions) return too_large();
    Bytes all;
    for (constexpr std::size_t step = 64 << 10; all.size() < most;) {
        auto at = all.size();
        all.resize(at + step);
        RUEDO_TRY(auto got, source.read_at(at, std::span(all).subspan(at)));
        all.resize(at + got);
        if (got < step) return all;
    }
    if (most >= most_captions) return too_large();
    return all;
}
}  // namespace

Status check_captions(const std::string& file) {
    RUEDO_TRY(auto source, open_source(file));
    RUEDO_TRY(auto beginning, beginning_of(*source, 64 << 10));
    RUEDO_TRY(auto cues, parse_captions(beginning, source->name()));
    return {};
}

Result<Cues> load_captions(const std::string& source) {
    RUEDO_TRY(auto bytes, open_source(source));
    RUEDO_TRY(auto all, beginning_of(*bytes, most_captions));
    RUEDO_TRY(auto cues, parse_captions(all, bytes->name()));
    if (cues.language.empty()) cues.language = language_of_name(bytes->name());
    return cues;
}

bool shows_captions(const Track& t) {
    return t.kind == Kind::text && !t.problem &&
           (t.codec == Codec::webvtt || t.codec == Codec::subrip || t.codec == Codec::tx3g);
}

void cues_of_packet(const Track& track, const PacketHead& head, ByteView data, std::vector<Cue>& out) {
    Cue cue;
    cue.start = head.pts;
    cue.end = head.pts + head.duration;
    auto add = [&](std::string_view text) {
        while (text.ends_with('\n') || text.ends_with('\0')) text.remove_suffix(1);
        cue.runs = parse_cue_text(text);
        if (!cue.runs.empty() && cue.end > cue.start) out.push_back(cue);
    };
    if (track.codec_tag == "wvtt") {
        ByteReader r(data);
        while (r.left() >= 8) {
            auto size = r.u32();
            auto type = r.u32();
            ByteReader inner(r.take(size >= 8 ? size - 8 : 0));
            if (type != fourcc("vttc")) continue;
            cue.line.reset(), cue.position.reset(), cue.line_percent = false, cue.size = 100,
                                                    cue.align = Cue::Align::centre;
            std::string text;
            while (inner.left() >= 8) {
                auto n = inner.u32();
                auto what = inner.u32();
                auto body = inner.take(n >= 8 ? n - 8 : 0);
                std::string_view chars(reinterpret_cast<const char*>(body.data()), body.size());
                if (what == fourcc("sttg")) read_settings(chars, cue);
                if (what == fourcc("payl")) text = utf8(body);
            }
            add(text);
        }
    } else if (track.codec == Codec::tx3g) {
        ByteReader r(data);
        auto text = r.take(r.u16());
        if (!r.overrun()) add(utf8(text));
    } else if (track.codec == Codec::webvtt) {
        // A line of a name and one of settings stand before the text.
        auto all = utf8(data);
        std::string_view rest(all), name, settings;
        if (next_line(rest, name) && next_line(rest, settings)) read_settings(settings, cue);
        add(rest);
    } else {
        add(utf8(data));
    }
}

Result<Cues> read_cues(Clip& clip, const Track& track) {
    Cues cues;
    cues.language = track.language;
    auto reader = clip.reader(track.id);
    PacketHead head;
    Bytes data;
    for (;;) {
        RUEDO_TRY(bool more, reader->next(head));
        if (!more || cues.list.size() > 200'000) break;
        if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped("captions were still being read"));
        if (head.size > (1 << 20)) continue;
        if (!reader->read(data)) break;
        cues_of_packet(track, head, data, cues.list);
    }
    std::stable_sort(cues.list.begin(), cues.list.end(), [](auto& a, auto& b) { return a.start < b.start; });
    return cues;
}

std::string language_of_name(const std::string& file) {
    auto stem = fs::path(file).stem().string();
    auto dot = stem.rfind('.');
    auto part = dot == std::string::npos ? std::string() : stem.substr(dot + 1);
    auto primary = std::min(part.find('-'), part.size());
    part = transfer::lower(part.substr(0, primary)) + part.substr(primary);
    return !is_language_tag(part) ? std::string() : part.size() == 3 ? bcp47_from_iso639(part) : part;
}

std::vector<fs::path> captions_in(const fs::path& folder) {
    std::vector<fs::path> found;
    std::error_code ec;
    std::size_t seen = 0;
    for (fs::directory_iterator it(folder.empty() ? fs::path(".") : folder, ec), end;
         !ec && it != end && seen < 100'000; it.increment(ec), ++seen) {
        auto extension = transfer::lower(it->path().extension().string());
        if (extension == ".vtt" || extension == ".srt") found.push_back(it->path());
    }
    std::sort(found.begin(), found.end());
    return found;
}
std::vector<std::string> captions_beside(const std::string& source, const std::vector<fs::path>& captions) {
    auto stem = fs::path(source).stem().string();
    std::vector<std::string> found;
    for (auto& file : captions) {
        auto name = file.stem().string();
        if (name == stem || name.starts_with(stem + ".")) found.push_back(file.string());
    }
    return found;
}
std::vector<std::string> captions_beside(const std::string& source) {
    return captions_beside(source, captions_in(fs::path(source).parent_path()));
}

std::vector<Cue> cues_here(Clip& clip, const Track& track, Time position) {
    ReadScope scope(nullptr, true);
    std::vector<Cue> list;
    auto reader = clip.reader(track.id);
    if (!reader->seek(std::max(Time{}, position - 10_s))) return list;
    PacketHead head;
    Bytes data;
    for (int i = 0; i < 2000 && reader->next(head).value_or(false) && head.size < (1 << 20) && reader->read(data); ++i)
        cues_of_packet(track, head, data, list);
    return list;
}

}  // namespace ruedo
