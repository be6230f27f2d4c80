// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <optional>

#include "base/result.h"

namespace ruedo {

/// Why no window can be opened, if so; `argc` and `argv` are those of `main`. The window library ends the process where
/// a display is named but dead, so it is asked first.
std::optional<Error> no_display(int argc, char** argv);

}  // namespace ruedo
