"""What trials of packed apps by real clients share."""
import subprocess
import time

wrong = []


def check(what, fine):
    print(("ok    " if fine else "WRONG ") + what, flush=True)
    if not fine:
        wrong.append(what)


def soon(say, seconds=15):
    """The first thing that counts, within so many seconds of this process running."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if got := say():
            return got
        time.sleep(0.05)
    return say()


def run(*words):
    return subprocess.run(words, capture_output=True, text=True, timeout=60)
