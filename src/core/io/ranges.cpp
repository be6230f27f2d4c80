// SPDX-License-Identifier: Apache-2.0
#include "io/ranges.h"

#include <algorithm>

#include "io/transfer.h"

namespace ruedo {

bool asked_range(std::string_view text, std::uint64_t size, std::uint64_t& from, std::uint64_t& to, bool& part) {
    if (!text.starts_with("bytes=") || text.find(',') != std::string_view::npos) return true;
    text.remove_prefix(6);
    auto dash = text.find('-');
    if (dash == std::string_view::npos) return true;
    auto a = transfer::number_in(text.substr(0, dash)), b = transfer::number_in(text.substr(dash + 1));
    if ((!a && !b) || (dash > 0 && !a) || (dash + 1 < text.size() && !b)) return true;
    if (!a) {
        if (*b == 0 || size == 0) return false;
        from = size - std::min(*b, size), part = true;
        return true;
    }
    if (b && *b < *a) return true;
    if (*a >= size) return false;
    from = *a, part = true;
    if (b) to = std::min(size, *b == UINT64_MAX ? *b : *b + 1);
    return true;
}

}  // namespace ruedo
