#!/usr/bin/env bash
# An installed prefix, moved, is all that an outside program needs to find, build with and play.
set -eu
build=$1 source=$2 fixtures=$2/fixtures
work=$(mktemp -d) && trap 'rm -rf "$work"' EXIT
cmake --install "$build" --prefix "$work/first" >"$work/log" 2>&1 || { tail -20 "$work/log"; exit 1; }
mv "$work/first" "$work/prefix"
cmake -S "$source/outside" -B "$work/build" -G Ninja -DCMAKE_PREFIX_PATH="$work/prefix" >"$work/log" 2>&1 &&
    cmake --build "$work/build" >"$work/log" 2>&1 || { tail -30 "$work/log"; exit 1; }
"$work/build/outside" "$fixtures/vp9_opus.webm"
# Half a clip does not end well, so the program's answer means something.
! "$work/build/outside" "$fixtures/h264_10bit.mp4"
QT_QPA_PLATFORM=offscreen "$work/build/outside-window" "$fixtures/vp9_opus.webm"
env -u DISPLAY "$work/prefix/bin/ruedo" inspect "$fixtures/vp9_opus.webm" --target handset-recent --json >/dev/null
grep -rl "$build\|$source" "$work/prefix/lib/cmake" && { echo "the package names the folder it was built in"; exit 1; }
exit 0
