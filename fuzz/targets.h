// SPDX-License-Identifier: Apache-2.0
// Every parser that meets untrusted bytes, as a function of bytes.
#pragma once
#include <string>
#include <vector>

#include "base/bytes.h"

namespace ruedo::fuzz {

struct Target {
    const char* name;
    void (*run)(ByteView bytes);
    /// Extensions of the fixtures that are its seeds.
    std::vector<std::string> seeds;
};
const std::vector<Target>& targets();

}  // namespace ruedo::fuzz
