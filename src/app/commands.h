// SPDX-License-Identifier: GPL-3.0-or-later
// The command line (docs/command-line.md): works without a display and without a sound card.
#pragma once
#include <functional>

#include "arrange.h"
#include "headless.h"

namespace ruedo {

/// What the command line hands to the part that can draw.
struct Screens {
    /// `ruedo play --window`.
    std::function<HeadlessResult(const HeadlessOptions&, int& argc, char** argv)> play;
    /// `ruedo arrange --shot`: what the mount shows, 8-bit sRGB, of exactly its size.
    std::function<Result<RgbImage>(const Arranged&, int& argc, char** argv)> shot;
};

/// True when the arguments name a subcommand (or ask for help), so that no window is wanted.
bool is_command(int argc, char** argv);
int run_command(int argc, char** argv, const Screens& screens);

}  // namespace ruedo
