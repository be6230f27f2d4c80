#!/usr/bin/env bash
# A conversion killed at fifty random moments: never a broken file under its name, and nothing left after the next one.
# killed.sh BIN FIXTURES
set -u
ruedo=$1/ruedo fixtures=$2
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir "$work/tmp" && export TMPDIR=$work/tmp
RANDOM=50
whole=0
for n in $(seq 50); do
    case $((n % 5)) in
        0) out=$work/k$n.mp4 words="--video h264 --to 2s" ;;
        1) out=$work/k$n.webm words="--video vp8 --to 1s" ;;
        2) out=$work/k$n.mkv words="" ;;
        3) out=$work/k$n.mp4 words="--wrapper mp4-fragments --video h264 --passes 2 --bitrate 300k --to 2s" ;;
        *) out=$work/k$n.ogv words="--to 1s" ;;
    esac
    # shellcheck disable=SC2086
    "$ruedo" convert "$fixtures/h264_high_aac.mp4" "$out" $words >/dev/null 2>&1 & pid=$!
    sleep "0.$((RANDOM % 5))$((RANDOM % 10))"
    kill -KILL $pid 2>/dev/null
    wait $pid 2>/dev/null
    if [ -e "$out" ]; then
        whole=$((whole + 1))
        "$ruedo" play "$out" --clock virtual --json >"$work/report" 2>/dev/null ||
            { echo "killed, it left a broken $out"; exit 1; }
        rm "$work/report"
    fi
done
# What the first of two passes learned lies in a place of its own, which the next one of two clears.
"$ruedo" convert "$fixtures/h264_high_aac.mp4" "$work/last.mp4" --to 1s --video h264 --passes 2 --bitrate 300k \
    >/dev/null ||
    { echo "the last one failed"; exit 1; }
left=$(find "$work" -name '.*.part*' | wc -l)
[ "$left" = 0 ] || { echo "$left temporary files were left"; find "$work"; exit 1; }
echo "fifty killed, $whole of them after they were done"
