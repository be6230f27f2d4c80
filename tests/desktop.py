#!/usr/bin/env python3
"""A packed app on a desktop's bus: read and pressed by real clients, locked and unlocked, started twice."""
import json
import os
import re
import subprocess
import sys
import tempfile
import time

from checks import check, run, soon, wrong

if "DBUS_SESSION_BUS_ADDRESS" not in os.environ or os.environ.get("RUEDO_OWN_BUS") != "1":
    os.environ["RUEDO_OWN_BUS"] = "1"
    os.execvp("dbus-run-session", ["dbus-run-session", "--", sys.executable, *sys.argv])

binaries, fixtures = sys.argv[1:3]

with tempfile.TemporaryDirectory() as work:
    os.environ.update(HOME=work, XDG_CONFIG_HOME=work + "/config", XDG_RUNTIME_DIR=work, QT_QPA_PLATFORM="offscreen")
    project = {
        "ruedo": 2, "app": "Harbour Lights", "mount": "window",
        "sources": [{"name": "The lantern", "file": fixtures + "/h264_high_aac.mp4", "loop": "all"},
                    {"name": "The fog", "file": fixtures + "/vp9_opus.webm"}],
        "players": [{"name": "Player", "remembers": ["volume", "place"], "host": {"asleep": "pause-and-return"},
                     "bars": [{"name": "foot"}],
                     "controls": [{"kind": "toggle", "slot": "foot/start"}, {"kind": "failure", "slot": "centre"}]}]}
    with open(work + "/lights.ruedo", "w") as f:
        json.dump(project, f)
    packed = run(binaries + "/ruedo", "pack", work + "/lights.ruedo", "--out", work + "/app", "--outside", "--json")
    check("packs", packed.returncode == 0)
    executable = json.loads(packed.stdout)["executable"]
    if not os.path.isabs(executable):
        executable = os.path.join(work, "app", executable)
    # A sound server with two outputs, so that one can be pulled out.
    os.environ.update(PULSE_RUNTIME_PATH=work + "/pulse", PULSE_SERVER=f"unix:{work}/pulse/native")
    os.mkdir(work + "/pulse", 0o700)
    pulse = subprocess.Popen(
        ["pulseaudio", "-n", "--daemonize=no", "--exit-idle-time=-1", "--disable-shm=1", "--use-pid-file=no",
         f"--load=module-native-protocol-unix auth-anonymous=1 socket={work}/pulse/native"],
        stderr=subprocess.DEVNULL)
    modules = {}
    if soon(lambda: os.path.exists(work + "/pulse/native")):
        for sink in ("headphones", "speakers"):
            modules[sink] = run("pactl", "load-module", "module-null-sink", "sink_name=" + sink).stdout.strip()
        run("pactl", "set-default-sink", "headphones")
    check("has two outputs", all(modules.values()) and len(modules) == 2)
    monitor = subprocess.Popen(["dbus-monitor", "--session"], stdout=open(work + "/seen", "w"))
    time.sleep(0.5)
    app = subprocess.Popen([executable])

    def names():
        out = run("gdbus", "call", "--session", "--dest", "org.freedesktop.DBus", "--object-path",
                  "/org/freedesktop/DBus", "--method", "org.freedesktop.DBus.ListNames").stdout
        return [n for n in re.findall(r"'([^']*)'", out) if n.startswith("org.mpris.MediaPlayer2.")]

    name = (soon(names) or [""])[0]
    check("takes a name of its own", "harbour_lights" in name)

    def call(method, *args):
        return run("gdbus", "call", "--session", "--dest", name, "--object-path", "/org/mpris/MediaPlayer2",
                   "--method", method, *args)

    def get(member, interface="org.mpris.MediaPlayer2.Player"):
        return call("org.freedesktop.DBus.Properties.Get", interface, member).stdout.strip()

    def status(wanted):
        return soon(lambda: wanted in get("PlaybackStatus"))

    player = "org.mpris.MediaPlayer2.Player."
    check("says who it is", "Harbour Lights" in get("Identity", "org.mpris.MediaPlayer2"))
    check("is held at first", status("Paused"))
    check("says what plays", soon(lambda: "The lantern" in get("Metadata") and "mpris:length" in get("Metadata")))
    call(player + "PlayPause")
    check("plays when asked to", status("Playing"))
    check("moves", soon(lambda: int(re.search(r"(\d+)>", get("Position")).group(1)) > 200_000))
    call(player + "Pause")
    check("pauses", status("Paused"))
    was = int(re.search(r"(\d+)>", get("Position")).group(1))
    sought = call(player + "Seek", "700000")
    check("seeks", sought.returncode == 0 and
          soon(lambda: int(re.search(r"(\d+)>", get("Position")).group(1)) >= was + 600_000))
    check("has a clip that can be gone through", "true" in get("CanSeek"))
    call("org.freedesktop.DBus.Properties.Set", "org.mpris.MediaPlayer2.Player", "Volume", "<0.4>")
    check("takes a volume", soon(lambda: "0.4" in get("Volume")))

    def told_of_the_screen():
        return re.findall(r'member=PropertiesChanged\n   string "org\.mpris\.MediaPlayer2"\n[^§]{0,60}"Fullscreen"\s*'
                          r'variant\s*boolean (\w+)', open(work + "/seen").read())

    for told in (["true"], ["true", "false"]):
        call("org.freedesktop.DBus.Properties.Set", "org.mpris.MediaPlayer2", "Fullscreen", f"<{told[-1]}>")
        check("is seen whole, and not any more", soon(
            lambda: told[-1] in get("Fullscreen", "org.mpris.MediaPlayer2")))
        check("and tells so where it belongs", soon(lambda: told_of_the_screen() == told))
    check("refuses what is no property", "UnknownProperty" in call("org.freedesktop.DBus.Properties.Get",
                                                                    "org.mpris.MediaPlayer2.Player", "Colour").stderr)
    check("refuses to have its place set so", "ReadOnly" in call(
        "org.freedesktop.DBus.Properties.Set", "org.mpris.MediaPlayer2.Player", "Position", "<int64 5>").stderr)
    check("refuses arguments of another kind", "InvalidArgs" in call(player + "OpenUri", "5").stderr or
          call(player + "Seek", "'soon'").returncode != 0)
    busctl = run("busctl", "--user", "introspect", name, "/org/mpris/MediaPlayer2") if os.path.exists(
        "/usr/bin/busctl") else None
    if busctl and busctl.returncode == 0:
        check("can be looked into", "PlaybackStatus" in busctl.stdout and "Seeked" in busctl.stdout)
    call(player + "Next")
    check("goes to the next source", soon(lambda: "The fog" in get("Metadata")))
    call(player + "Previous")
    check("and back", soon(lambda: "The lantern" in get("Metadata")))
    call(player + "Play")
    check("plays again", status("Playing"))

    def lock(now):
        run("gdbus", "emit", "--session", "--object-path", "/org/freedesktop/ScreenSaver", "--signal",
            "org.freedesktop.ScreenSaver.ActiveChanged", now)

    lock("true")
    check("pauses when the session is locked", status("Paused"))
    lock("false")
    check("and goes on after it", status("Playing"))
    twice = run(executable)
    check("a second start leaves it to the first", twice.returncode == 0 and len(names()) == 1)
    if pulse:
        status("Playing")
        subprocess.run(["pactl", "set-default-sink", "speakers"])
        time.sleep(3)
        check("plays on in another output", status("Playing"))
        subprocess.run(["pactl", "unload-module", modules["speakers"]])
        check("pauses when what it is heard in is pulled out", status("Paused"))
    call("org.mpris.MediaPlayer2.Quit")
    check("quits", soon(lambda: app.poll() is not None) and app.returncode == 0)
    check("lets its name go", soon(lambda: not names()))

    app = subprocess.Popen([executable])
    name = (soon(names) or [""])[0]
    status("Paused")
    check("remembers its volume", soon(lambda: "0.4" in get("Volume")))
    check("remembers its place", soon(lambda: int(re.search(r"(\d+)>", get("Position")).group(1)) > 50_000))
    call("org.mpris.MediaPlayer2.Quit")
    app.wait(timeout=30)
    monitor.terminate(), pulse.terminate()
    monitor.wait(), pulse.wait()
    seen = open(work + "/seen").read()
    check("asks that the screen stay awake while pictures move", "member=Inhibit" in seen)
    check("tells what changes", "PropertiesChanged" in seen and "PlaybackStatus" in seen)
    check("tells of seeks", "member=Seeked" in seen)
sys.exit(1 if wrong else 0)
