#!/usr/bin/env python3
"""A packed app in a real window, read, pressed and set by way of the desktop's accessibility bus."""
import json
import os
import re
import subprocess
import sys
import tempfile

from checks import check, run, soon, wrong

if os.environ.get("RUEDO_OWN_BUS") != "1":
    os.environ["RUEDO_OWN_BUS"] = "1"
    os.execvp("dbus-run-session", ["dbus-run-session", "--", sys.executable, *sys.argv])

binaries, fixtures = sys.argv[1:3]


def string(variant):
    found = re.search(r"<?'((?:[^'\\]|\\.)*)'>?", variant)
    return found.group(1) if found else ""


class Thing:
    """What stands on the bus under a name and a path."""

    def __init__(self, bus, name, path):
        self.bus, self.name, self.path = bus, name, path

    def call(self, method, *words):
        return run("gdbus", "call", "--address", self.bus, "--dest", self.name, "--object-path", self.path,
                   "--method", method, *words).stdout.strip()

    def get(self, member, interface="Accessible"):
        return self.call("org.freedesktop.DBus.Properties.Get", "org.a11y.atspi." + interface, member)

    def words(self):
        return string(self.get("Name"))

    def role(self):
        return string(self.call("org.a11y.atspi.Accessible.GetRoleName"))

    def value(self):
        found = re.search(r"<([-\d.e+]+)>", self.get("CurrentValue", "Value"))
        return float(found.group(1)) if found else None

    def children(self):
        found = re.findall(r"\('(:[^']*)', (?:objectpath )?'([^']*)'\)",
                           self.call("org.a11y.atspi.Accessible.GetChildren"))
        return [Thing(self.bus, *where) for where in found]

    def all(self, depth=8):
        for child in self.children() if depth else []:
            yield child
            yield from child.all(depth - 1)


with tempfile.TemporaryDirectory() as work:
    os.environ.update(HOME=work, XDG_CONFIG_HOME=work + "/config", XDG_RUNTIME_DIR=work, QT_QPA_PLATFORM="xcb",
                      QT_LINUX_ACCESSIBILITY_ALWAYS_ON="1")
    read, write = os.pipe()
    screen = subprocess.Popen(["Xvfb", "-displayfd", str(write), "-screen", "0", "1280x800x24"],
                              stderr=subprocess.DEVNULL, pass_fds=[write])
    os.close(write)
    with os.fdopen(read) as f:
        os.environ["DISPLAY"] = ":" + f.readline().strip()
    project = {
        "ruedo": 2, "app": "Harbour Lights", "mount": "window",
        "sources": [{"name": "The lantern", "file": fixtures + "/h264_high_aac.mp4", "loop": "all"}],
        "players": [{"name": "Guide", "bars": [{"name": "foot"}],
                     "controls": [{"kind": "toggle", "slot": "foot/start"},
                                  {"kind": "position", "slot": "foot/middle"},
                                  {"kind": "time", "slot": "foot/end"},
                                  {"kind": "volume", "slot": "foot/end"}]}]}
    with open(work + "/lights.ruedo", "w") as f:
        json.dump(project, f)
    packed = run(binaries + "/ruedo", "pack", work + "/lights.ruedo", "--out", work + "/app", "--outside", "--json")
    check("packs", packed.returncode == 0)
    executable = os.path.join(work, "app", json.loads(packed.stdout)["executable"])
    app = subprocess.Popen([executable], stderr=subprocess.DEVNULL)
    bus = string(run("gdbus", "call", "--session", "--dest", "org.a11y.Bus", "--object-path", "/org/a11y/bus",
                     "--method", "org.a11y.Bus.GetAddress").stdout)
    check("there is a bus for screen readers", bool(bus))
    desktop = Thing(bus, "org.a11y.atspi.Registry", "/org/a11y/atspi/accessible/root")
    mine = soon(lambda: [a for a in desktop.children() if a.words() == "Harbour Lights"])
    check("the app is there by its name", bool(mine))

    def find(role, words):
        """The thing that plays this part under a name of this shape."""
        return next((t for t in mine[0].all() if t.role() == role and re.fullmatch(words, t.words())), None)

    play = soon(lambda: find("push button", "Play"))
    check("a button that plays", bool(play))
    check("the player by its name", bool(find("panel", "Guide")))
    check("the picture by what it is of", bool(find("graphic", "Picture of The lantern")) or
          bool(find("image", "Picture of The lantern")))
    time = find("label", r"\d:\d\d.*")
    check("the time as words", bool(time))
    position, volume = find("slider", "Position"), find("slider", "Volume")
    check("position and volume as values", bool(position and volume) and position.value() == 0)

    def set_value(thing, to):
        thing.call("org.freedesktop.DBus.Properties.Set", "org.a11y.atspi.Value", "CurrentValue", f"<{float(to)}>")

    set_value(position, 4200)
    check("a place that is set is gone to", soon(lambda: position.value() == 4200))
    check("and the time says so", soon(lambda: time.words().startswith("0:04")))
    set_value(volume, 35)
    check("a volume that is set is taken", soon(lambda: volume.value() == 35))
    play.call("org.a11y.atspi.Action.DoAction", "0")
    check("a press plays, and the button says what comes next", soon(lambda: play.words() == "Pause"))
    check("and the place moves", soon(lambda: position.value() != 4200))
    app.terminate()
    check("leaves when it is told to", soon(lambda: app.poll() is not None))
    if app.poll() is None:
        app.kill()
    screen.terminate()
    app.wait(), screen.wait()
sys.exit(1 if wrong else 0)
