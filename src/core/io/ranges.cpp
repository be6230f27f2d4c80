// SPDX-License-Identifier: Apache-2.0
#include "io/ranges.h"

#include <algorithm>
#include <charconv>

namespace ruedo {

bool asked_range(std::string_view text, std::uint64_t size, std::uint64_t& from, std::uint64_t& to, bool& part) {
    if (!text.starts_with("bytes=") || text.find(',') != std::string_view::npos) return true;
    text.remove_prefix(6);
    auto dash = text.find('-');
    if (dash == std::string_view::npos) return true;
    auto number = [](std::string_view s, std::uint64_t& v) {
        auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
        return !s.empty() && ec == std::errc{} && end == s.data() + s.size();
    };
    std::uint64_t a = 0, b = 0;
    bool has_a = number(text.substr(0, dash), a), has_b = number(text.substr(dash + 1), b);
    if ((!has_a && !has_b) || (dash > 0 && !has_a) || (dash + 1 < text.size() && !has_b)) return true;
    if (!has_a) {
        if (b == 0 || size == 0) return false;
        from = size - std::min(b, size), part = true;
        return true;
    }
    if (has_b && b < a) return true;
    if (a >= size) return false;
    from = a, part = true;
    if (has_b) to = std::min(size, b == UINT64_MAX ? b : b + 1);
    return true;
}

}  // namespace ruedo
