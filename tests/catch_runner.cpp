// SPDX-License-Identifier: Apache-2.0
#define CATCH_CONFIG_RUNNER
#include <catch2/catch.hpp>

#include "catch_runner.h"

int run_tests(int argc, char** argv) { return Catch::Session().run(argc, argv); }
