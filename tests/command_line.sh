#!/usr/bin/env bash
# The command line's contract: exit codes, one JSON document, and what stands in it.
set -u
bin=$1 fixtures=$2
work=$(mktemp -d) && trap 'rm -rf "$work"' EXIT
failures=0
unset DISPLAY WAYLAND_DISPLAY QT_QPA_PLATFORM

# wrong WHAT [DETAIL]
wrong() { echo "FAIL $1"; [ -z "${2:-}" ] || echo "$2"; failures=$((failures + 1)); }
# One judge for all conditions: starting one takes longer than most of what is judged.
coproc judge { python3 -u -c '
import json, sys
condition = ""
while piece := sys.stdin.read(1):
    if piece != "\0":
        condition += piece
        continue
    try:
        d = json.load(open(sys.argv[1]))
        print(bool(eval("(" + condition + ")")))
    except Exception as e:
        print(repr(e).replace("\n", " "))
    condition = ""
' "$work/out"; }
# check NAME EXIT PYTHON-CONDITION COMMAND...
check() {
    local name=$1 want=$2 condition=$3; shift 3
    "$@" >"$work/out" 2>"$work/err"
    local got=$?
    if [ "$got" != "$want" ]; then
        wrong "$name: exit $got, not $want" "$(cat "$work/out" "$work/err" | head -20)"
        return
    fi
    printf '%s\0' "$condition" >&${judge[1]}
    read -r -u ${judge[0]} verdict
    [ "$verdict" = True ] || wrong "$name: $condition: $verdict" "$(head -c 600 "$work/out")"
}
r=$bin/ruedo
export XDG_CONFIG_HOME=$work/config
# A whole shelf for its target, told and made.
mkdir "$work/shelf" && cp "$fixtures/vp9_opus.webm" "$work/shelf"
cat >"$work/shelf/p.ruedo" <<'P'
{"ruedo": 2, "target": "handset-basic",
 "sources": [{"name": "A", "file": "vp9_opus.webm"}, {"name": "B", "file": "gone.mp4"}]}
P
shelf="$r prepare $work/shelf/p.ruedo --json"
first="d['sources'][0]"
check "prepare tells" 0 "[s['what'] for s in d['sources']]==['converted','refused'] and not $first['made']" $shelf
check "prepare for another" 0 "$first['what']=='as it is' and $first['recipe'] is None" $shelf --target desktop
check "prepare makes" 0 "$first['made'] and $first['file'].endswith('vp9_opus for handset-basic.mp4')" $shelf --make
check "what was made is named in the project" 0 "$first['prepared'][0]['file']=='vp9_opus for handset-basic.mp4'" \
    cat "$work/shelf/p.ruedo"
check "prepare has nothing left to do" 0 "$first['made'] and $first['took_ns']==0" $shelf --make
sed "s/\"ruedo\": 2/\"ruedo\": 99/" "$work/shelf/p.ruedo" >"$work/shelf/new.ruedo"
check "prepare makes nothing for what it can't write" 1 "d['error']['code']=='too-new'" \
    "$r" prepare "$work/shelf/new.ruedo" --make --json
check "prepare without such a target" 1 "d['error']['code']=='not-found'" $shelf --target no
for f in theora_vorbis.ogv:ogg h264_aac.ts:mpegts mjpeg_pcm.avi:avi audio.flac:flac audio_info.mp3:mp3 \
    audio_opus.ogg:ogg; do
    check "inspect $f" 0 "d['container']=='${f#*:}' and d['error'] is None and d['duration_ns']>2900000000" \
        "$r" inspect "$fixtures/${f%:*}" --json
    check "play $f" 0 'd["state"]=="ended"' "$r" play "$fixtures/${f%:*}" --clock virtual --json
done
"$bin/ruedo-bench" --only open.flac --json >"$work/bench.json" 2>"$work/err"
met=$(($? == 0))
check "the bench says what it measured" 0 \
    "(d['open.flac']['ratio']<=d['open.flac']['goal'])==bool($met) and d['open.flac']['took_ns']>0" \
    cat "$work/bench.json"
check "the bench has no such row" 2 'd["error"]["code"]=="usage"' "$bin/ruedo-bench" --only open.nothing --json
check targets 0 'len(d["targets"])>=6 and d["problems"]==[]' "$r" targets --json
check verdict 0 'd["verdict"]["plays"] is False and d["verdict"]["needs"]==["wrapper"] and d["verdict"]["reasons"]' \
    "$r" inspect "$fixtures/h264_aac.ts" --target handset-recent --json
check "verdict: no such target" 1 'd["error"]["code"]=="not-found"' \
    "$r" inspect "$fixtures/h264_aac.ts" --target no-such --json
mkdir -p "$work/config/ruedo/targets"
echo '{"format":"ruedo-target","version":1,"name":"mine","containers":["mpegts"],
       "video":[{"codec":"h264"}],"audio":[{"codec":"aac"}]}' >"$work/config/ruedo/targets/mine.json"
check "verdict: a target of one's own" 0 'd["verdict"]=={"plays":True,"needs":[],"reasons":[]}' \
    "$r" inspect "$fixtures/h264_aac.ts" --target mine --json
"$bin/ruedo-catalogue" "$fixtures" 0 >"$work/service" & service=$!
for i in $(seq 50); do [ -s "$work/service" ] && break; sleep 0.1; done
host=$(sed -E 's|catalogue://([^/]*)/.*|\1|' "$work/service")
check "catalogue without a key" 1 'd["error"]["code"]=="refused"' "$r" inspect "catalogue://$host/vp9_opus" --json
check key 0 'd["kept"]' "$r" key "$host" harbour-demo-key --json
[ "$(stat -c %a "$work/config/ruedo/keys.json")" = 600 ] || wrong "key: others may read it"
check "catalogue with its key" 0 'd["container"]=="webm"' "$r" inspect "catalogue://$host/vp9_opus" --json
check "play over http" 0 'd["state"]=="ended" and d["presented"]==180' \
    "$r" play "http://$host/media/vp9_opus.webm" --clock virtual --json
check "a dead address" 1 'd["error"]["code"]=="network"' "$r" play "http://127.0.0.1:1/x.mp4" --json
kill $service
check "play a camera" 0 'd["state"]=="playing" and d["presented"]>20' "$r" play camera://harbour --for 3s --json
check "no such camera" 1 'd["error"]["code"]=="not-found"' "$r" play camera://elsewhere --json
check inspect 0 \
    'd["container"]=="mp4" and d["tracks"][0]["frame_count"]==180 and d["tracks"][0]["frame_rate"]=="30/1" and
        d["error"] is None and d["tracks"][0]["language"] is None' \
    "$r" inspect "$fixtures/h264_high_aac.mp4" --json
check "inspect languages" 0 '[t["language"] for t in d["tracks"]]==[None,"en","de"]' \
    "$r" inspect "$fixtures/two_audio_languages.mkv" --json
check "inspect rotation" 0 'd["tracks"][0]["rotation"]==90 and d["tracks"][0]["display_width"]==360' \
    "$r" inspect "$fixtures/rotate90.mp4" --json
check "inspect partial" 0 'any(f["code"]=="truncated" for f in d["findings"])' \
    "$r" inspect "$fixtures/trunc_moov_first_50.mp4" --json
check "inspect encrypted" 1 'd["error"]["code"]=="encrypted"' "$r" inspect "$fixtures/encrypted_encv.mp4" --json
check "inspect missing" 1 'd["error"]["code"]=="not-found" and list(d)==["error"]' \
    "$r" inspect "$fixtures/nothing.mp4" --json
check "usage: no file" 2 'd["error"]["code"]=="usage"' "$r" inspect --json
check "usage: option" 2 'd["error"]["code"]=="usage"' "$r" inspect "$fixtures/h264_high_aac.mp4" --colour --json
check "usage: bare time" 2 'd["error"]["code"]=="usage"' \
    "$r" frames "$fixtures/h264_high_aac.mp4" --at 5 --out "$work/f" --json
check "usage: unknown command" 2 'd["error"]["code"]=="usage"' "$r" conjure --json
check frames 0 \
    '[f["shown_ns"] for f in d["frames"]]==[1000000000,0,5966666667,1000000000] and d["frames"][0]["decoded"]>0 and
        len({f["path"] for f in d["frames"]})==4' \
    "$r" frames "$fixtures/h264_high_aac.mp4" --at 1s,0s,99s,1010ms --out "$work/f" --json
[ "$(head -c 4 "$work/f/$(ls "$work/f" | head -1)" | tail -c 3)" = PNG ] || wrong "frames: no PNG"
check play 0 'd["state"]=="ended" and d["presented"]==180 and d["dropped"]==0 and d["pacing_ms"] is None' \
    "$r" play "$fixtures/vp9_opus.webm" --clock virtual --json
cp "$work/out" "$work/first"
check "play again" 0 'True' "$r" play "$fixtures/vp9_opus.webm" --clock virtual --json
cmp -s "$work/out" "$work/first" || wrong "play: two runs in virtual time differ"
check "play calls" 0 'd["state"]=="paused" and d["position_ns"]==3033000000' \
    "$r" play "$fixtures/vp9_opus.webm" --clock virtual --do "1s pause; 2s seek 3s; 3s step 1" --json
check "play sound" 0 'd["state"]=="ended"' \
    "$r" play "$fixtures/h264_high_aac.mp4" --clock virtual --sound "$work/s.wav" --json
[ "$(head -c 4 "$work/s.wav")" = RIFF ] || wrong "play: no WAV"
check "play real" 0 'd["state"]=="playing" and d["pacing_ms"] is not None' \
    "$r" play "$fixtures/vp9_opus.webm" --for 3s --json
check "play virtual window" 2 'd["error"]["code"]=="usage"' \
    "$r" play "$fixtures/vp9_opus.webm" --clock virtual --window --json
check "play bad" 1 'd["state"]=="failed" and d["error"]["code"]=="depth-unsupported"' \
    "$r" play "$fixtures/h264_10bit.mp4" --clock virtual --json
cat >"$work/p.ruedo" <<P
{"ruedo": 1, "app": "Harbour Lights", "sources": [{"name": "a", "file": "$fixtures/vp9_opus.webm", "start": "hold"}]}
P
check arrange 0 \
    'd["mount"]=="handset-upright" and d["size"]==[360,780] and d["state"]=="paused" and d["intent"]=="hold" and
        {c["name"]: c for c in d["controls"]}["position"]["value"]==0.5 and
        [f["code"] for f in d["findings"]]==["no-way-to-leave"] and
        all(c["shown"] or c["why"] for c in d["controls"]) and
        all(0<=c["box"][0] and c["box"][0]+c["box"][2]<=360 and c["box"][3]>=44 for c in d["controls"] if c["shown"])' \
    "$r" arrange "$work/p.ruedo" --mount handset-upright --size 360x780 --shot "$work/shot.png" --json \
    --do "1s press start; 2s key Ctrl+Space; 2s drag position 0.5; 2100ms touch 5 100"
[ "$(file -b "$work/shot.png" 2>/dev/null | cut -d, -f1,2)" = "PNG image data, 360 x 780" ] ||
    [ "$(head -c 4 "$work/shot.png" | tail -c 3)" = PNG ] || wrong "arrange: no PNG"
check "arrange over a picture that is there" 1 'd["error"]["code"]=="exists"' \
    "$r" arrange "$work/p.ruedo" --shot "$work/shot.png" --json
check "arrange again" 0 'd["state"]=="ready"' \
    "$r" arrange "$work/p.ruedo" --shot "$work/shot.png" --replace --json
check "arrange with an app that is put away and comes back" 0 'd["state"]=="paused" and d["intent"]=="hold"' \
    "$r" arrange "$work/p.ruedo" --do "0s play; 1s host background" --at 2s --json
check "arrange with a phone call that is over" 0 'd["state"]=="playing"' \
    "$r" arrange "$work/p.ruedo" --do "0s play; 1s host call; 2s host end-call" --at 3s --json
check "arrange with a machine that sleeps" 0 'd["state"]=="paused"' \
    "$r" arrange "$work/p.ruedo" --do "0s play; 1s host sleep; 2s host wake" --at 3s --json
check "arrange with an app that was torn down" 0 'd["state"] in ("playing","ready","paused") and
        {c["name"]: c for c in d["controls"]}["position"]["value"]>0.1' \
    "$r" arrange "$work/p.ruedo" --do "0s play; 1s host tear-down; 2s host bring-back" --at 3s --json
check "arrange with a word no host says" 2 'd["error"]["code"]=="usage" and "background" in str(d["error"])' \
    "$r" arrange "$work/p.ruedo" --do "1s host gong" --json
check "arrange before anything is open" 0 'd["state"]=="opening"' "$r" arrange "$work/p.ruedo" --at 1ms --json
check "arrange presses what is not there" 1 'd["error"]["code"]=="not-found"' \
    "$r" arrange "$work/p.ruedo" --do "1s press gong" --json
check "arrange presses what cannot be pressed" 1 \
    'd["error"]["code"]=="refused" and "failed" in d["error"]["sentence"]' \
    "$r" arrange "$work/p.ruedo" --do "1s press retry" --json
check "arrange with a key that does nothing" 2 'd["error"]["code"]=="usage"' \
    "$r" arrange "$work/p.ruedo" --do "1s key Q" --json
cat >"$work/two.ruedo" <<P
{"ruedo": 2, "sources": [{"name": "a", "file": "$fixtures/vp9_opus.webm"}],
 "screen": {"arrangement": "column", "gap_px": 10},
 "players": [{"name": "Left", "controls": [{"kind": "toggle", "slot": "centre"}]},
             {"name": "Right", "controls": [{"kind": "toggle", "slot": "centre"}]}]}
P
check "arrange two players" 0 'len(d["players"])==2 and d["players"][1]["box"]==[0,395,360,385] and
    {c["player"] for c in d["controls"]}=={"Left","Right"} and d["players"][1]["state"]=="playing"' \
    "$r" arrange "$work/two.ruedo" --mount handset-upright --size 360x780 --do "1s press Right/toggle" \
    --shot "$work/two.png" --json
[ "$(python3 -c 'import struct,sys; print(*struct.unpack(">II", open(sys.argv[1],"rb").read()[16:24]))' \
    "$work/two.png")" = "360 780" ] || wrong "arrange two players: the picture has another size"
check "arrange says whose control is meant" 2 'd["error"]["code"]=="usage" and "Left/toggle" in d["error"]["hint"]' \
    "$r" arrange "$work/two.ruedo" --do "1s press toggle" --json
check "convert copies what may stay" 0 \
    'd["container"]=="mp4" and d["video"]["action"]==d["audio"]["action"]=="copied" and d["video"]["frames"]==180' \
    "$r" convert "$fixtures/h264_high_aac.mp4" "$work/copy.mp4" --json
check "compare what was copied" 0 'd["identical"] and d["psnr_y"] is None and d["frames"]==180 and d["ssim_y"]==1' \
    "$r" compare "$work/copy.mp4" "$fixtures/h264_high_aac.mp4" --json
check "convert to another form" 0 \
    'd["container"]=="webm" and d["video"]["codec"]=="vp9" and d["video"]["width"]==320 and d["audio"]["codec"]=="opus"
        and d["duration_ns"]==1000000000 and {f["code"] for f in d["findings"]}=={"pictures-encoded","sound-encoded"}' \
    "$r" convert "$fixtures/h264_high_aac.mp4" "$work/small.webm" --size 320x --from 1s --to 2s --json --progress json \
    2>"$work/lines"
python3 -c 'import json,sys
for l in open(sys.argv[1]):
    d = json.loads(l)
    assert 0 <= d["done"] <= 1 and {"speed", "left_ns", "bytes", "expected_bytes"} <= set(d)' \
    "$work/lines" || wrong "convert: progress is not one object a line"
check "compare at a place" 0 'd["frames"]==1 and d["identical"] and abs(d["worst"][0]["at_ns"]-500000000)<1000000' \
    "$r" compare "$work/small.webm" "$work/small.webm" --at 500ms --json
check "stills spread over a clip" 0 'len(d["stills"])==3 and d["stills"][0]["at_ns"]==1000000000 and
    {(s["width"], s["height"]) for s in d["stills"]}=={(320, 180)}' \
    "$r" stills "$fixtures/vp9_opus.webm" --count 3 --size 320x320 --format jpeg --out "$work/stills" --json
[ "$(find "$work/stills" -name '*.jpg' | wc -l)" = 3 ] || wrong "stills: not three files"
check "a sheet of stills" 0 'len(d["stills"])==6' \
    "$r" stills "$fixtures/vp9_opus.webm" --sheet 3x2 --size 160x90 --out "$work/sheet.png" --json
[ "$(python3 -c 'import struct,sys; print(*struct.unpack(">II", open(sys.argv[1],"rb").read()[16:24]))' \
    "$work/sheet.png")" = "512 204" ] || wrong "stills: the sheet has another size"
check "one still in a file, of the form that its name says" 0 'd["stills"][0]["path"].endswith("/One.JPG")' \
    "$r" stills "$fixtures/vp9_opus.webm" --at 1s --out "$work/One.JPG" --json
[ "$(head -c 2 "$work/One.JPG" | od -An -tx1)" = " ff d8" ] || wrong "stills: One.JPG is no JPEG"
check "several stills in one file" 2 'd["error"]["code"]=="usage"' \
    "$r" stills "$fixtures/vp9_opus.webm" --at 1s,2s --out "$work/two.png" --json
check "stills over what is there" 1 'd["error"]["code"]=="exists"' \
    "$r" stills "$fixtures/vp9_opus.webm" --sheet 3x2 --size 160x90 --out "$work/sheet.png" --json
for words in "--at 5" "--every 0" "--count 0" "--sheet 4" "--size 0x9" "--format gif" "--at 1s --count 2"; do
    # shellcheck disable=SC2086
    check "stills with $words" 2 'd["error"]["code"]=="usage"' \
        "$r" stills "$fixtures/vp9_opus.webm" --out "$work/no-stills" $words --json
done
export XDG_STATE_HOME=$work/state
echo '{"to_ns": 2500000000}' >"$work/part.json"
check "jobs: added" 0 'd["jobs"][0]["state"]=="waiting"' \
    "$r" jobs --add "$work/part.json" "$fixtures/h264_high_aac.mp4" "$work/job.webm" --json
# Killed at any moment while it works, it leaves nothing under the final name, and the next one begins it anew.
for wait in 0.2 0.5 0.9; do
    "$r" jobs --run >/dev/null 2>&1 & working=$!
    sleep $wait; kill -9 $working 2>/dev/null; wait $working 2>/dev/null
    [ ! -e "$work/job.webm" ] || "$r" inspect "$work/job.webm" >/dev/null || wrong "jobs: killed, it left half a clip"
done
check "play through a target" 0 'd["state"]=="ended" and d["dropped"]==0 and d["converter"]["restarts"]==1 and
        d["converter"]["kept_bytes"]>1000 and d["converter"]["first_picture_ms"]>0' \
    "$r" play "$fixtures/vp9_opus.webm" --through handset-basic --clock virtual --do "1s seek 4s" --json
check "play through no target" 1 'd["error"]["code"]=="not-found"' \
    "$r" play "$fixtures/vp9_opus.webm" --through boat --clock virtual --json
for to in mkv ogv ts wav mp3 flac aac; do
    check "convert into $to" 0 'd["audio"]["action"]!="none" and d["bytes"]>1000' \
        "$r" convert "$fixtures/h264_high_aac.mp4" "$work/form.$to" --to 1s --json
    check "what was made into $to" 0 'd["error"] is None and d["tracks"] and
            not [f for f in d["findings"] if f["code"]=="wrong-extension"]' "$r" inspect "$work/form.$to" --json
done
check "convert with more words" 0 \
    'd["audio"]["channels"]==1 and d["audio"]["sample_rate"]==22050 and d["container"]=="mp4"' \
    "$r" convert "$fixtures/h264_high_aac.mp4" "$work/words.mp4" --wrapper mp4-fragments --channels 1 \
    --sample-rate 22050 --most-rate 15 --keyframes 1s --captions none --tracks all --to 1s --json
check "jobs: carried out" 0 'd["jobs"][0]["state"]=="done" and d["jobs"][0]["sentence"]' "$r" jobs --run --json
find "$work" -maxdepth 1 -name '.job*' | grep -q . && wrong "jobs: killed, it left something behind"
check "jobs: cleared" 0 'd["jobs"]==[]' "$r" jobs --clear --json
check "jobs: no such one" 1 'd["error"]["code"]=="not-found"' "$r" jobs --stop 7 --json
check "jobs: no number" 2 'd["error"]["code"]=="usage"' "$r" jobs --stop x --json
check "convert over what is there" 1 'd["error"]["code"]=="exists"' \
    "$r" convert "$fixtures/vp9_opus.webm" "$work/copy.mp4" --json
check "convert over what is read" 1 'd["error"]["code"]=="refused"' \
    "$r" convert "$work/copy.mp4" "$work/copy.mp4" --replace --json
check "convert for a target" 0 'd["video"]["codec"]=="h264" and d["audio"]["codec"]=="aac"' \
    "$r" convert "$fixtures/vp9_opus.webm" "$work/target.mp4" --target handset-basic --to 1s --json
for words in "--size 3" "--size 0x0" "--quality 101" "--rate x" "--from 5" "--from 2s --to 1s" "--passes 3" \
    "--loudness 4" "--range wide" "--matrix bt1" \
    "--shape round" "--bitrate much" "--fit-bytes 0" "--video h999" "--progress xml" \
    "--channels 9" "--wrapper tar" "--captions burnt" "--keyframes 2" "--effort none" "--quality 20 --bitrate 1M"; do
    # shellcheck disable=SC2086
    check "convert with $words" 2 'd["error"]["code"]=="usage"' \
        "$r" convert "$fixtures/vp9_opus.webm" "$work/never.mp4" $words --json
done
[ -e "$work/never.mp4" ] && wrong "convert: wrong usage made a file"
"$r" convert "$fixtures/h264_high_aac.mp4" "$work/stopped.webm" --video vp9 >/dev/null 2>&1 & converting=$!
for _ in $(seq 400); do find "$work" -name '.stopped*' | grep -q . && break; sleep 0.05; done
kill -INT $converting; wait $converting; code=$?
[ $code = 130 ] || wrong "convert: interrupted, it exits with $code"
find "$work" -name '*stopped*' | grep -q . && wrong "convert: interrupted, it leaves something behind"
# A room: what stands where in pixels and metres, presses along rays, what stops them, and its picture.
cat >"$work/room.ruedo" <<P
{"ruedo": 2, "app": "Hung", "sources": [{"name": "a", "file": "$fixtures/vp9_opus.webm", "loop": "all"}],
 "players": [{"bars": [{"name": "foot", "where": "clear"}],
              "controls": [{"kind": "toggle", "slot": "foot/start"}, {"kind": "start", "slot": "centre"},
                           {"kind": "failure", "slot": "centre"}, {"kind": "retry", "slot": "centre"}]}]}
P
check "arrange in a room" 0 'd["mount"]=="room" and d["size"]==[1280,800] and d["state"]=="playing" and
    abs(d["controls"][0]["room"]["size_m"][0]-0.06)<1e-9 and d["controls"][0]["room"]["seen"] and
    abs(d["pictures"][0]["room"]["middle_m"][2]+2)<1e-6 and d["room"]["presses"][0]["lands"] and
    d["room"]["presses"][0]["told"].startswith("Lands on the screen at ") and
    d["room"]["surfaces"][0]["size"]==[1280,720]' \
    "$r" arrange "$work/room.ruedo" --mount room --do "1s touch 639 399" --shot "$work/room.png" --json
python3 -c 'import sys,struct; d=open(sys.argv[1],"rb").read(); sys.exit(struct.unpack(">II",d[16:24])!=(1280,800))' \
    "$work/room.png" || wrong "arrange in a room: the picture has another size"
check "a hand in a room" 0 'd["state"]=="ready" and [p["lands"] for p in d["room"]["presses"]]==[False,False] and
    d["room"]["presses"][0]["told"]=="Meets nothing." and "back of the screen" in d["room"]["presses"][1]["told"]' \
    "$r" arrange "$work/room.ruedo" --mount room --json \
    --do "1s hand 0 1.6 0 180 0; 1s pull; 2s hand 0 1.6 -4 180 0; 2s pull"
check "no hand to pull with" 2 'd["error"]["code"]=="usage"' \
    "$r" arrange "$work/room.ruedo" --mount room --do "1s pull" --json
check "no ray on a wall" 2 'd["error"]["code"]=="usage"' \
    "$r" arrange "$work/room.ruedo" --mount wall --do "1s pull" --json
check "half a hand" 2 'd["error"]["code"]=="usage"' \
    "$r" arrange "$work/room.ruedo" --mount room --do "1s hand 1 2" --json
# Packed, it hangs in its room.
sed 's/"ruedo": 2/"mount": "room", "ruedo": 2/' "$work/room.ruedo" >"$work/hung.ruedo"
check "pack a room" 0 'd["executable"].endswith("/hung")' \
    "$r" pack "$work/hung.ruedo" --outside --out "$work/hung" --json
check "a packed room" 0 'd["presented"]>5 and d["error"] is None' "$work/hung/hung" --check 3s --json
grep -q '"mount": "room"' "$work/hung/player.json" || wrong "a packed room: its document says otherwise"
check "arrange on no mount" 2 'd["error"]["code"]=="usage"' "$r" arrange "$work/p.ruedo" --mount boat --json
check "arrange without its source" 1 'd["error"]["code"]=="not-found"' \
    "$r" arrange "$work/p.ruedo" --source b --json
check pack 0 \
    'd["licence"]=="Apache-2.0 AND BSD-3-Clause" and sum(i["bytes"] for i in d["items"])==d["bytes"] and
        {i["kind"] for i in d["items"]}=={"executable","document","media","notice","desktop","library"}' \
    "$r" pack "$work/p.ruedo" --outside --out "$work/app" --json
cat >"$work/q.ruedo" <<P
{"ruedo": 1, "app": "Both", "sources": [{"name": "a", "file": "camera://harbour"},
                                        {"name": "b", "file": "$fixtures/theora_vorbis.ogv"}]}
P
check "pack a camera and Theora" 0 \
    'd["licence"]=="Apache-2.0 AND BSD-3-Clause AND IJG" and
        {"lib/codec-raw.so","lib/codec-theora.so","lib/codec-vorbis.so"} <= {i["path"] for i in d["items"]}' \
    "$r" pack "$work/q.ruedo" --outside --out "$work/both" --json
check "packed camera" 0 'd["state"] in ("ready","playing") and d["error"] is None' "$work/both/both" --check 3s --json
check "pack again" 1 'd["error"]["code"]=="exists"' "$r" pack "$work/p.ruedo" --outside --out "$work/app" --json
check "packed check" 0 'd["state"]=="playing" and d["presented"]>20' "$work/app/harbour-lights" --check 3s --json
check "packed usage" 2 'd["error"]["code"]=="usage"' "$work/app/harbour-lights" --check 1 --json
rm "$work/app/media/vp9_opus.webm"
check "packed without its clip" 1 'd["error"]["code"]=="not-found"' "$work/app/harbour-lights" --check 1s --json
[ "$(ls -A "$work" | grep -c '\.part$')" = 0 ] || wrong "a temporary file was left"
python3 "$(dirname "$0")/signals.py" "$r" "$work" "$fixtures" || failures=$((failures + 1))
check "display that does not answer" 1 'd["error"]["code"]=="io"' \
    env DISPLAY=:4711 "$r" play "$fixtures/vp9_opus.webm" --window --json
# Streams: looked at, played, simulated, made and served.
coast=$fixtures/streams/fmp4/master.m3u8
check "inspect a stream" 0 'd["container"]=="hls" and d["stream"]["kind"]=="hls" and not d["stream"]["live"]
    and [g["width"] for g in d["stream"]["rungs"]]==[320,640,960] and d["stream"]["encrypted"]=="none"
    and d["stream"]["sound"][0]["language"]=="en" and d["tracks"][0]["frame_count"]==180
    and all(g["segments"]==3 for g in d["stream"]["rungs"])' "$r" inspect "$coast" --json
check "play one rung" 0 'd["state"]=="ended" and d["presented"]==180
    and d["stream"]["rungs_shown"]==[["640x360-232k",180]]
    and d["stream"]["switches"]==0 and len(d["stream"]["decisions"])==3' \
    "$r" play "$coast" --rung 640x360-232k --clock virtual --json
check "play from a place" 0 'd["presented"]==60' "$r" play "$coast" --start 4s --clock virtual --json
check "no such rung" 1 'd["error"]["code"]=="not-found" and "320x180" in d["error"]["hint"]' \
    "$r" play "$coast" --rung x --json
check "no such policy" 2 'd["error"]["code"]=="usage"' "$r" play "$coast" --policy x --json
check "frames of a stream" 0 'd["frames"][0]["shown_ns"]==3000000000' \
    "$r" frames "$coast" --at 3s --out "$work/coast" --json
check "a stream through a target" 0 'd["state"]=="ended" and d["presented"]==180' \
    "$r" play "$coast" --through open-web-view --clock virtual --json
check "convert a stream" 0 'd["video"]["frames"]==180 and d["video"]["action"]=="copied" and d["video"]["width"]==960' \
    "$r" convert "$coast" "$work/coast.mp4" --json
printf 'seconds,mbit\n0,2\n20,0.4\n40,2\n' >"$work/link.csv"
check "adapt" 0 'len(d["traces"])==1 and 0<d["ratio_mean"]<=1 and d["traces"][0]["qoe"]<=d["traces"][0]["optimum"]' \
    "$r" adapt --ladder "$coast" --trace "$work/link.csv" --json
check "adapt needs links" 2 'd["error"]["code"]=="usage"' "$r" adapt --ladder "$coast" --json
check "a link that is none" 1 'd["error"]["code"]=="malformed"' "$r" adapt --ladder "$coast" --trace "$r" --json
check "ladder" 0 'd["segments"]==3 and [g["id"] for g in d["rungs"]]==["96x54-90k","64x36-50k"]
    and d["dash"].endswith(".mpd")
    and all(g["bandwidth"]>=g["average_bandwidth"]>0 and 0.5<g["ssim_y"]<=1 for g in d["rungs"])' \
    "$r" ladder "$fixtures/vp9_opus.webm" --out "$work/ladder" --rungs 96x54@90k,64x36@50k --segment 2s --dash --json
check "ladder over what is there" 1 'd["error"]["code"]=="exists"' \
    "$r" ladder "$fixtures/vp9_opus.webm" --out "$work/ladder" --json
printf '0,1.5\n1,0\n9,1.5\n600,1.5\n' >"$work/tunnel.csv"
check "a stream in virtual weather" 0 'd["state"]=="ended" and d["presented"]==180 and d["stream"]["stalls"]==1
    and 6e3<d["stream"]["stalled_ms"]<9e3' \
    "$r" play "$fixtures/streams/fmp4/master.m3u8" --clock virtual --weather "$work/tunnel.csv" --json
check "weather by the real clock" 2 'd["error"]["code"]=="usage"' \
    "$r" play "$fixtures/streams/fmp4/master.m3u8" --weather fair --json
check "a ladder for later" 0 'd["job"]["state"]=="waiting" and d["job"]["ladder"]["wrap"]=="ts"' \
    "$r" ladder "$fixtures/vp9_opus.webm" --out "$work/later" --rungs 64x36@50k --wrap ts --later --json
check "and its turn comes" 0 'd["jobs"][-1]["state"]=="done"' "$r" jobs --run --json
check "it plays" 0 'd["state"]=="ended" and d["presented"]==180' \
    "$r" play "$work/later/master.m3u8" --clock virtual --json
check "codecs that do not go there" 1 'd["error"]["code"]=="refused"' \
    "$r" ladder "$fixtures/vp9_opus.webm" --out "$work/l3" --wrap ts --video vp9 --json
check "rungs that are none" 2 'd["error"]["code"]=="usage"' "$r" ladder "$coast" --out "$work/l2" --rungs 1x1 --json
check "host of nothing" 1 'd["error"]["code"]=="not-found"' "$r" host "$work/none" --json
"$r" host "$work/ladder" --weather fair >"$work/host" & host=$!
for i in $(seq 100); do [ -s "$work/host" ] && break; sleep 0.05; done
address=$(python3 -c 'import json,sys; print(json.loads(open(sys.argv[1]).readline())["address"])' "$work/host")
check "play what is served" 0 'd["state"]=="ended" and d["stream"]["segments_fetched"]>=6 and d["error"] is None' \
    "$r" play "$address"manifest.mpd --json
kill -INT $host; wait $host || wrong "host: its exit code"
python3 - "$work/host" <<'P' || wrong "host: a line a request"
import json, sys
lines = [json.loads(l) for l in open(sys.argv[1])]
good = all(l["status"] in (200, 206) and l["method"] == "GET" and l["bytes"] > 0 for l in lines[1:])
sys.exit(0 if len(lines) > 8 and good else 1)
P
odd="$work/$(printf 'caf\351')"
mkdir "$odd" && cp -r "$work/app/." "$odd/"
check "a folder that is not UTF-8" 1 'd["error"]["code"]=="not-found"' "$odd/harbour-lights" --check 1s --json
echo '{"ruedo": 1, "app": "Leak", "sources": [
       {"name": "a", "file": "'"$fixtures/vp9_opus.webm"'", "captions": ["/etc/passwd"]}]}' >"$work/leak.ruedo"
check "pack what is no caption" 1 'd["error"]["code"]=="not-media"' \
    "$r" pack "$work/leak.ruedo" --out "$work/leak" --json
check "pack takes nothing from outside unasked" 1 'd["error"]["code"]=="refused"' \
    "$r" pack "$work/p.ruedo" --out "$work/app2" --json
check "pack names what comes from outside" 0 'd["findings"][0]["code"]=="outside"' \
    "$r" pack "$work/p.ruedo" --outside --out "$work/app2" --json
# A signal before the program listens for it ends it the system's way.
interrupt_it() {
    for _ in $(seq 1000); do
        sleep 0.05
        local id caught
        id=$(pgrep -P $$ -x ruedo | head -n 1)
        caught=$(awk '/^SigCgt/ {print $2}' "/proc/$id/status" 2>/dev/null)
        [ -n "$caught" ] && [ $((0x$caught & 2)) != 0 ] && break
    done
    kill -INT "$id"
}
interrupt_it & check interrupted 130 'd["error"]["code"]=="cancelled"' \
    "$r" play "$fixtures/vp9_opus.webm" --json
# What is linked: nothing but the packages that are stated.
for f in "$r" "$bin/ruedo-player" "$bin"/../lib/ruedo/*.so; do
    ldd "$f" | grep -q "not found" && wrong "$f: a library is missing"
done
ldd "$bin/ruedo-player" | grep -qE "libfaad|libopenh264|libvpx|libqcustomplot" &&
    wrong "the player itself links codecs or charts"
if [ "$(df --output=fstype /dev/shm 2>/dev/null | tail -1)" = tmpfs ] && mkdir -p "$work/small" &&
    mount -t tmpfs -o size=300k none "$work/small" 2>/dev/null; then
    check "pack on a full disk" 1 'd["error"]["code"]=="disk-full"' \
        "$r" pack "$work/p.ruedo" --outside --out "$work/small/app" --json
    [ -z "$(ls -A "$work/small")" ] || wrong "pack: a full disk keeps remains"
    mount -o remount,ro "$work/small"
    check "pack on a read-only disk" 1 'd["error"]["code"]=="read-only"' \
        "$r" pack "$work/p.ruedo" --outside --out "$work/small/app" --json
    umount "$work/small"
fi
[ "$failures" = 0 ] && echo "every check passed"
exit "$failures"
