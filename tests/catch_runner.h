// SPDX-License-Identifier: Apache-2.0
#pragma once

/// Catch2's own command line; what a main returns.
int run_tests(int argc, char** argv);
