// SPDX-License-Identifier: Apache-2.0
#pragma once

/// Catch2's own main: its command line, and what ours returns.
extern "C" int run_tests(int argc, char** argv);
