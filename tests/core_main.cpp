// SPDX-License-Identifier: Apache-2.0
#include "catch_runner.h"

int main(int argc, char** argv) { return run_tests(argc, argv); }
