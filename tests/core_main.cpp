// SPDX-License-Identifier: Apache-2.0
#include "base/strand.h"
#include "catch_runner.h"

int main(int argc, char** argv) {
    const ruedo::WorkersEnd workers_end;
    return run_tests(argc, argv);
}
