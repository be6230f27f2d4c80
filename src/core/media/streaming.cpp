// SPDX-License-Identifier: Apache-2.0
#include "media/streaming.h"

#include <fmt/format.h>

namespace ruedo {

std::string Rung::title() const {
    auto rate = bits_a_second();
    auto size = width > 0 ? fmt::format("{} × {}", width, height) : id;
    return rate <= 0    ? size
           : rate < 1e6 ? fmt::format("{}, {:.0f} kbit/s", size, rate / 1e3)
                        : fmt::format("{}, {:.1f} Mbit/s", size, rate / 1e6);
}

}  // namespace ruedo
