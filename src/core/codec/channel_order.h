// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <array>
#include <cstddef>
#include <vector>

namespace ruedo {

/// For each of `channels` in the order FL FR FC LFE BL BR SL SR, its place in the order that Vorbis I clause
/// 4.3.9 lays down (which Opus mapping family 1 shares).
inline std::array<std::size_t, 8> vorbis_places(int channels) {
    switch (channels) {
        case 3:
            return {0, 2, 1};
        case 5:
            return {0, 2, 1, 3, 4};
        case 6:
            return {0, 2, 1, 5, 3, 4};
        case 7:
            return {0, 2, 1, 6, 5, 3, 4};
        case 8:
            return {0, 2, 1, 7, 5, 6, 3, 4};
        default:
            return {0, 1, 2, 3, 4, 5, 6, 7};
    }
}

}  // namespace ruedo
