// SPDX-License-Identifier: Apache-2.0
// The catalogue service of the demo: ruedo-catalogue FOLDER [PORT]. It runs until it is told to stop.
#include <csignal>
#include <cstdio>
#include <cstdlib>

#include "demo/catalogue.h"

int main(int argc, char** argv) {
    if (argc < 2 || argc > 3) {
        std::fprintf(stderr, "usage: ruedo-catalogue FOLDER [PORT]\n");
        return 2;
    }
    auto port = argc == 3 ? std::atoi(argv[2]) : 8321;
    sigset_t stop;
    sigemptyset(&stop);
    sigaddset(&stop, SIGINT), sigaddset(&stop, SIGTERM);
    pthread_sigmask(SIG_BLOCK, &stop, nullptr);
    auto server = ruedo::demo::LoopbackServer::start(static_cast<std::uint16_t>(port));
    if (!server) {
        std::fprintf(stderr, "Port %d is taken; choose another.\n", port);
        return 1;
    }
    ruedo::demo::serve_catalogue(*server, argv[1]);
    std::printf("catalogue://127.0.0.1:%d/ID, with the key %s\n", server->port(), ruedo::demo::catalogue_key);
    std::fflush(stdout);
    int got = 0;
    sigwait(&stop, &got);
    return 0;
}
