// SPDX-License-Identifier: Apache-2.0
// One target as libFuzzer wants it; which one is said when building.
#include <cstring>

#include "fuzz/targets.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    for (auto& t : ruedo::fuzz::targets())
        if (std::strcmp(t.name, RUEDO_FUZZ_TARGET) == 0) t.run({data, size});
    return 0;
}
