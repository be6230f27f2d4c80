// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <string>

#include "io/io.h"

namespace ruedo {

/// Which line of a JSON text the value at a JSON pointer begins on, from 1; 0 where it is not there.
std::size_t line_of(ByteView text, const std::string& pointer);

}  // namespace ruedo
