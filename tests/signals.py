#!/usr/bin/env python3
"""Signals are obeyed at once, whatever is waited for, and nothing is left behind."""
import json, os, signal, socket, subprocess, sys, threading, time

program, work, fixtures = sys.argv[1:]
bad = 0


def serve(answer):
    """An address whose every connection is handled by `answer` on a thread of its own."""
    listener = socket.create_server(("127.0.0.1", 0))

    def accept():
        while True:
            peer, _ = listener.accept()
            threading.Thread(target=answer, args=(peer,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    return f"http://127.0.0.1:{listener.getsockname()[1]}/clip.webm"


def mute(peer):
    time.sleep(600)
    peer.close()


def drip(peer):
    try:
        peer.recv(4096)
        peer.send(b"HTTP/1.1 200 OK\r\nContent-Type: video/webm\r\n\r\n")
        while True:
            peer.send(b"\0")
            time.sleep(0.2)
    except OSError:
        pass


def busy(p):
    """How long it goes on, without the time it is stopped, and what a bare timer beside it is late by, five times."""
    took = 0.0
    for _ in range(6000):
        if p.poll() is not None:
            break
        with open(f"/proc/{p.pid}/stat") as stat:
            stopped = stat.read().rsplit(")", 1)[1].split()[0] == "T"
        begun = time.monotonic()
        time.sleep(0.01)
        slept = time.monotonic() - begun
        if not stopped:
            took += max(0.0, 0.01 - 5 * (slept - 0.01))
    return took


def listens(p, sign):
    """Waits until the program has taken the signal over; before that it ends the system's way."""
    for _ in range(1200):
        with open(f"/proc/{p.pid}/status") as status:
            caught = [int(l.split()[1], 16) for l in status if l.startswith("SigCgt")]
        if p.poll() is not None or (caught and caught[0] >> (sign - 1) & 1):
            return
        time.sleep(0.05)


silent, slow = serve(mute), serve(drip)
commands = [["inspect", silent], ["inspect", slow], ["frames", slow, "--at", "1s", "--out", work + "/never"],
            ["play", silent],
            ["play", slow, "--clock", "virtual"], ["play", slow],
            ["play", fixtures + "/vp9_opus.webm", "--sound", work + "/never.wav"]]
for sign in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
    running = [subprocess.Popen([program] + c + ["--json"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
               for c in commands]
    for p in running:
        listens(p, sign)
    time.sleep(0.5)
    for command, p in zip(commands, running):
        p.send_signal(sign)
        took = busy(p)
        out = p.communicate(timeout=60)[0]
        good = p.returncode == 130 and json.loads(out)["error"]["code"] == "cancelled" and took < 1.0
        if not good:
            print("FAIL", sign, command, p.returncode, out[:200], f"{took:.2f} s")
            bad += 1
if os.path.exists(work + "/never.wav") or any(n.endswith(".part") for n in os.listdir(work)):
    print("FAIL: something was left behind", os.listdir(work))
    bad += 1
# However long a body is, a play of one second ends after that.
begun = time.monotonic()
p = subprocess.run([program, "play", slow, "--for", "1s", "--json"], capture_output=True, timeout=60)
if p.returncode != 0 or time.monotonic() - begun > 6:
    print("FAIL --for on a body that drips:", p.returncode, time.monotonic() - begun)
    bad += 1
sys.exit(bad != 0)
