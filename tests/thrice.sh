#!/usr/bin/env bash
# Runs a test that needs real devices in real time; at most three times, and says how often it took.
for attempt in 1 2 3; do
    if "$@"; then
        [ $attempt = 1 ] || echo "passed at attempt $attempt of 3"
        exit 0
    fi
    echo "attempt $attempt of 3 failed"
done
exit 1
