#!/usr/bin/env bash
# A longer look at clips that others made, not part of the tests: those in Debian's data packages given (by default two
# that hold some) are unpacked into a temporary folder, inspected and played in virtual time. What plays must show every
# picture that was counted; what does not must say why.
#   tests/foreign.sh [BIN-FOLDER [PACKAGE ...]]
set -u
bin=$(cd "${1:-build/release/bin}" && pwd) || exit 1
shift
[ $# -gt 0 ] || set -- opencv-doc python-pygame-doc
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work" || exit 1
chmod 755 "$work"
for package in "$@"; do
    apt-get download "$package" >/dev/null 2>&1 || { echo "“$package” could not be fetched."; exit 1; }
done
for deb in *.deb; do dpkg-deb -x "$deb" unpacked; done
find unpacked -type f -regextype egrep -iregex '.*\.(avi|mpe?g|mp4|m4v|mov|mkv|webm|ogv|ogg|mp[23]|wav|flac|ac3|ts)' |
    sort >clips
while read -r clip; do
    "$bin/ruedo" inspect "$clip" --json >inspect.json 2>/dev/null
    timeout 300 "$bin/ruedo" play "$clip" --clock virtual --json >play.json 2>/dev/null
    code=$?
    python3 - "$(basename "$clip")" $code <<'P' || touch wrong
import json, sys
name, code = sys.argv[1], int(sys.argv[2])
seen, played = json.load(open("inspect.json")), json.load(open("play.json"))
if code:
    error = played.get("error") or {}
    print(f"{name}: {error.get('sentence')}")
    sys.exit(not (error.get("sentence") and seen.get("error")))
counts = [t["frame_count"] for t in seen["tracks"] if t["kind"] == "video"]
shown = played["presented"]
print(f"{name}: {', '.join(t['codec'] for t in seen['tracks'])}, {shown} pictures of {counts}")
sys.exit(played["state"] != "ended" or bool(counts and shown not in counts))
P
done <clips
[ ! -e wrong ]
