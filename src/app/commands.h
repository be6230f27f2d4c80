// SPDX-License-Identifier: GPL-3.0-or-later
// The command line (docs/command-line.md): works without a display and without a sound card.
#pragma once
#include <functional>

#include "headless.h"

namespace ruedo {

/// What `ruedo play --window` hands to the part that may open windows.
using WindowedPlay = std::function<HeadlessResult(const HeadlessOptions&, int& argc, char** argv)>;

/// True when the arguments name a subcommand (or ask for help), so that no window is wanted.
bool is_command(int argc, char** argv);
int run_command(int argc, char** argv, const WindowedPlay& windowed);

}  // namespace ruedo
