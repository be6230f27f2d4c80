#!/usr/bin/env bash
# One run in a real window under Xvfb, with sound into a pipe whose samples are then looked at.
set -u
bin=$1 fixtures=$2
work=$(mktemp -d)
export XDG_RUNTIME_DIR=$work/run HOME=$work/home PULSE_RUNTIME_PATH=$work/pulse
mkdir -p -m 700 "$XDG_RUNTIME_DIR" "$HOME" "$PULSE_RUNTIME_PATH"
for n in $(seq 90 130); do [ -e /tmp/.X11-unix/X$n ] || { display=$n; break; }; done
Xvfb :$display -screen 0 1280x800x24 >/dev/null 2>&1 & xvfb=$!
mkfifo "$work/fifo"
(cat "$work/fifo" >"$work/heard.raw") & reader=$!
pulseaudio -n --daemonize=no --exit-idle-time=-1 --disable-shm=1 --use-pid-file=no \
    --load="module-native-protocol-unix auth-anonymous=1 socket=$work/pulse/native" \
    --load="module-pipe-sink file=$work/fifo format=s16le rate=48000 channels=2 use_system_clock_for_timing=yes" \
    >"$work/pulse.log" 2>&1 & pulse=$!
cleanup() { kill $pulse $xvfb $reader ${timer:-} 2>/dev/null; wait $pulse $xvfb $reader 2>/dev/null; rm -rf "$work"; }
trap cleanup EXIT
export DISPLAY=:$display PULSE_SERVER=unix:$work/pulse/native QT_QPA_PLATFORM=xcb
for i in $(seq 50); do [ -S "$work/pulse/native" ] && [ -e /tmp/.X11-unix/X$display ] && break; sleep 0.1; done
# A bare timer beside the player counts how often the machine itself was late by more than the sound can hide.
python3 -c '
import sys, time
late = 0
while True:
    begun = time.monotonic(); time.sleep(0.002)
    if time.monotonic() - begun > 0.010:
        late += 1
        with open(sys.argv[1], "w") as f: f.write(str(late))
' "$work/late" & timer=$!
"$bin/ruedo" play "$fixtures/vp9_opus.webm" --window --json >"$work/report.json" ||
    { cat "$work/report.json" "$work/pulse.log" | head -40; exit 1; }
sleep 0.5
kill $timer 2>/dev/null
python3 - "$work/report.json" "$work/heard.raw" "$work/late" <<'P' || exit 1
import array, json, os, sys
d = json.load(open(sys.argv[1]))
heard = array.array('h'); data = open(sys.argv[2], 'rb').read(); heard.frombytes(data[:len(data) // 4 * 4])
left = heard[0::2]
onsets, quiet = [], 48000
for i, v in enumerate(left):
    if abs(v) > 1500:
        if quiet > 9600: onsets.append(i / 48000)
        quiet = 0
    else:
        quiet += 1
print({k: d[k] for k in ("state", "presented", "dropped", "av_offset_ms", "pacing_ms", "first_picture_ms")})
print("through:", [e["detail"] for e in d["events"] if e["event"] == "sound"], "onsets:",
      [round(x - onsets[0], 3) for x in onsets] if onsets else onsets)
# A neighbour may have stopped the player; the trace says so, and each stop may break one interval.
stops = sum(e["event"] == "stood-still" for e in d["events"])
late = int(open(sys.argv[3]).read()) if os.path.exists(sys.argv[3]) else 0
print("the bare timer was late", late, "times")
ok = d["state"] == "ended" and d["error"] is None
ok = ok and d["presented"] >= 120 - 30 * stops - 2 * late
ok = ok and any("sound server" in e.get("detail", "") for e in d["events"] if e["event"] == "sound")
ok = ok and len(onsets) >= 5
ok = ok and sum(abs((b - a) - round(b - a)) >= 0.012 for a, b in zip(onsets, onsets[1:])) <= stops + late
ok = ok and d["av_offset_ms"] is not None and d["av_offset_ms"]["p50"] < 25
sys.exit(0 if ok else 1)
P
# Held with nothing more to come it ends by itself, and what was heard is in the file.
timeout 60 "$bin/ruedo" play "$fixtures/vp9_opus.webm" --window --do "1500ms pause" --sound "$work/heard.wav" \
    --json >"$work/held.json" || { echo "held in a window:"; head -c 400 "$work/held.json"; exit 1; }
python3 - "$work/held.json" "$work/heard.wav" <<'P' || exit 1
import json, os, sys
d = json.load(open(sys.argv[1]))
size = os.path.getsize(sys.argv[2])
print("held in a window:", d["state"], d["position_ns"], "wav", size)
sys.exit(0 if d["state"] == "paused" and 100_000 < size < 1_000_000 else 1)
P
