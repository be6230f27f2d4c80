#!/usr/bin/env bash
# A player that is stopped half of the time, for real: what is seen keeps to what is heard, and sound is not broken.
set -u
bin=$1 fixtures=$2
work=$(mktemp -d) && trap 'rm -rf "$work"' EXIT
unset DISPLAY WAYLAND_DISPLAY QT_QPA_PLATFORM PULSE_SERVER
python3 - "$bin/ruedo" "$fixtures/h264_high_aac.mp4" "$work/report.json" <<'P'
import json, os, signal, subprocess, sys, threading, time
program, clip, path = sys.argv[1:]
def stolen():  # what this machine's processors lost to others on the same host, in seconds
    return int(open("/proc/stat").readline().split()[8]) / os.sysconf("SC_CLK_TCK")
class BareTimer(threading.Thread):
    """What the machine itself lost, beside the stops that are made here: by a timer's lateness, or as it counts it."""
    late, worst, on = 0, 0, True
    def run(self):
        before = stolen()
        while self.on:
            begun = time.monotonic(); time.sleep(0.002); late = time.monotonic() - begun - 0.002
            self.late += late if late > 0.005 else 0
            self.worst = max(self.worst, late)
        self.late = max(self.late, stolen() - before)
def play(stops):
    timer = BareTimer()
    timer.start()
    with open(path, "w") as out:
        p = subprocess.Popen([program, "play", clip, "--json"], stdout=out)
        stops(p)
        p.wait()
    timer.on = False
    timer.join()
    print(f"the machine lost {timer.late:.3f} s, {timer.worst:.3f} s at once")
    return p.returncode, json.load(open(path)), timer
def half(p):
    while p.poll() is None:
        time.sleep(0.04)
        p.send_signal(signal.SIGSTOP); time.sleep(0.04); p.send_signal(signal.SIGCONT)
def once(p):
    time.sleep(2)
    p.send_signal(signal.SIGSTOP); time.sleep(1); p.send_signal(signal.SIGCONT)
ok = True
def check(name, good, what):
    global ok
    if not good: print(f"FAIL {name}: {what}")
    ok = ok and good
code, d, machine = play(half)
show = {k: d[k] for k in ("state", "presented", "dropped", "av_offset_ms", "pacing_ms")}
starved = sum(e["event"] == "starved" for e in d["events"])
print("half of the time:", show, "starved", starved)
check("half", code == 0 and d["state"] == "ended", show)
check("half", d["av_offset_ms"] and d["av_offset_ms"]["max"] <= 250 + 1000 * machine.worst, show)
check("half", d["presented"] >= 12 - 2 * machine.late, show)
check("half", starved == 0 or machine.worst > 0.2, [e for e in d["events"] if e["event"] == "starved"])
code, d, machine = play(once)
show = {k: d[k] for k in ("state", "presented", "dropped", "av_offset_ms", "pacing_ms")}
print("for one second:", show)
check("once", code == 0 and d["state"] == "ended", show)
stood = [e for e in d["events"] if e["event"] == "stood-still"]
check("once", len(stood) >= 1, "nothing in the trace says that it stood still")
check("once", d["dropped"] <= 12 + 30 * machine.late, show)
late = [e for e in d["events"] if stood and e["wall_ns"] > stood[0]["wall_ns"] + 200_000_000 and "av_offset_ns" in e]
check("once", all(abs(e["av_offset_ns"]) < 60_000_000 + 1e9 * machine.worst for e in late), late)
sys.exit(0 if ok else 1)
P
