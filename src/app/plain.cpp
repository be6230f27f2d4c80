// SPDX-License-Identifier: GPL-3.0-or-later
#include "plain.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <vector>

#include "base/time.h"

namespace ruedo {
namespace {
using nlohmann::json;
constexpr std::size_t most_in_line = 12;

bool is_time(std::string_view name) { return name.ends_with("_ns"); }
std::string words_of(std::string name) {
    if (is_time(name)) name.resize(name.size() - 3);
    for (std::string_view unit : {"_ms", "_mbit"})
        if (name.ends_with(unit)) name.resize(name.size() - unit.size());
    std::replace(name.begin(), name.end(), '_', ' ');
    return printable(std::move(name));
}
std::string amount(double v, std::string_view unit) {
    if (v >= 1e9) return fmt::format("{:.2f} G{}", v / 1e9, unit);
    if (v >= 1e6) return fmt::format("{:.2f} M{}", v / 1e6, unit);
    if (v >= 1e4) return fmt::format("{:.0f} k{}", v / 1e3, unit);
    return fmt::format("{:.0f} {}", v, unit);
}
std::size_t letters(std::string_view s) {
    return static_cast<std::size_t>(
        std::count_if(s.begin(), s.end(), [](unsigned char c) { return (c & 0xC0) != 0x80; }));
}
std::string padded(std::string s, std::size_t width) {
    auto has = letters(s);
    return has < width ? s + std::string(width - has, ' ') : s;
}

std::string scalar(std::string_view name, const json& v) {
    if (v.is_null()) return "–";
    if (v.is_boolean()) return v.get<bool>() ? "yes" : "no";
    if (v.is_string()) return printable(v.get<std::string>());
    if (v.is_number_integer() && is_time(name)) return format_time(Time{v.get<std::int64_t>()});
    if (v.is_number()) {
        auto n = v.get<double>();
        if (name == "bytes" || name.ends_with("_bytes")) return amount(n, n >= 1e4 ? "B" : "bytes");
        if (name.ends_with("bandwidth") || name.ends_with("bitrate") || name == "measured_peak")
            return amount(n, "bit/s");
        if (name == "sample_rate") return fmt::format("{:g} Hz", n);
        if (name.ends_with("_ms")) return fmt::format("{:.4g} ms", n);
        return v.is_number_integer() ? v.dump() : fmt::format("{:.4g}", n);
    }
    return printable(v.dump(-1, ' ', false, json::error_handler_t::replace));
}
/// Members or elements are values, or lists of values.
bool is_flat(const json& j) {
    return j.is_structured() && std::none_of(j.begin(), j.end(), [](auto& v) {
               return v.is_object() ||
                      (v.is_array() && std::any_of(v.begin(), v.end(), [](auto& w) { return w.is_structured(); }));
           });
}
/// "0:00.000, 0:02.000 … 27 in all".
std::string in_line(std::string_view name, const json& list) {
    if (!list.is_structured()) return scalar(name, list);
    if (list.empty()) return "none";
    if (list.is_object()) {
        std::string all;
        for (auto& [key, value] : list.items())
            all += fmt::format("{}{} {}", all.empty() ? "" : ", ", words_of(key), scalar(key, value));
        return all;
    }
    std::string all;
    for (std::size_t i = 0; i < list.size() && i < most_in_line; ++i)
        all += (i ? ", " : "") + (list[i].is_array() ? in_line(name, list[i]) : scalar(name, list[i]));
    if (list.size() > most_in_line) all += fmt::format(" … {} in all", list.size());
    return all;
}

/// Objects of the same few members, one a line.
std::string table(const json& list, const std::string& pad) {
    std::vector<std::string> names;
    for (auto& row : list)
        for (auto& [key, unused] : row.items())
            if (std::find(names.begin(), names.end(), key) == names.end()) names.push_back(key);
    std::vector<std::vector<std::string>> cells(list.size() + 1);
    std::vector<std::size_t> widths;
    for (auto& name : names) {
        std::size_t wide = letters(words_of(name));
        cells[0].push_back(words_of(name));
        for (std::size_t i = 0; i < list.size(); ++i) {
            auto& row = list[i];
            auto cell = !row.contains(name)         ? std::string()
                        : row[name].is_structured() ? in_line(name, row[name])
                                                    : scalar(name, row[name]);
            wide = std::max(wide, letters(cell));
            cells[i + 1].push_back(std::move(cell));
        }
        widths.push_back(wide);
    }
    std::string all;
    for (auto& row : cells) {
        std::string line = pad;
        for (std::size_t k = 0; k < row.size(); ++k) line += padded(row[k], widths[k]) + "  ";
        line.resize(line.find_last_not_of(' ') + 1);
        all += line + "\n";
    }
    return all;
}

std::string block(const json& j, const std::string& pad) {
    std::size_t wide = 0;
    for (auto& [key, value] : j.items())
        if (!value.is_structured() || is_flat(value)) wide = std::max(wide, letters(words_of(key)));
    wide = std::min<std::size_t>(wide, 28);
    std::string all;
    for (auto& [key, value] : j.items()) {
        auto name = words_of(key);
        auto line = [&](const std::string& said) { all += fmt::format("{}{}  {}\n", pad, padded(name, wide), said); };
        if (!value.is_structured())
            line(scalar(key, value));
        else if (value.is_array() && (value.empty() || !value[0].is_object()))
            line(in_line(key, value));
        else if (value.is_array() &&
                 std::all_of(value.begin(), value.end(),
                             [](auto& v) { return v.is_object() && !v.empty() && is_flat(v); }) &&
                 value[0].size() <= 6 && std::none_of(value.begin(), value.end(), [](auto& row) {
                     return std::any_of(row.begin(), row.end(), [](auto& v) {
                         return v.is_string() && v.template get_ref<const std::string&>().size() > 60;
                     });
                 }))
            all += fmt::format("{}{}\n{}", pad, name, table(value, pad + "  "));
        else if (value.is_array()) {
            all += fmt::format("{}{}\n", pad, name);
            for (auto& one : value) {
                auto inner = one.is_object() && !one.empty() ? block(one, pad + "    ")
                                                             : pad + "    " + in_line(key, one) + "\n";
                if (inner.size() > pad.size() + 2) inner.replace(pad.size() + 2, 1, "·");
                all += inner;
            }
        } else
            all += fmt::format("{}{}\n{}", pad, name, block(value, pad + "  "));
    }
    return all;
}
}  // namespace

std::string printable(std::string s) {
    for (auto& c : s)
        if (static_cast<unsigned char>(c) < 32 || c == 127) c = '?';
    // The control characters of the second half (U+0080 to U+009F) as well.
    for (std::size_t at = 0; (at = s.find('\xC2', at)) != std::string::npos; ++at)
        if (at + 1 < s.size() && static_cast<unsigned char>(s[at + 1]) < 0xA0) s.replace(at, 2, "?");
    return s;
}

std::string plain_text(const json& document) { return block(document, ""); }

}  // namespace ruedo
