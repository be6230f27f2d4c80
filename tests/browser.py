#!/usr/bin/env python3
"""What is converted plays in a web browser's own media element, where it takes the form at all.

browser.py BIN FIXTURES: makes clips, serves them on the loopback address, and asks a headless browser to play each to
its end. Without a browser the test is skipped (77), and says so.
"""
import functools
import http.server
import json
import pathlib
import shutil
import subprocess
import sys
import tempfile
import threading

FORMS = [  # file, options, what it is for canPlayType
    ("h264_aac.mp4", "--video h264 --audio aac", 'video/mp4; codecs="avc1.640020, mp4a.40.2"'),
    ("fragments.mp4", "--wrapper mp4-fragments --video h264 --audio opus", 'video/mp4; codecs="avc1.640020, opus"'),
    ("vp9_flac.mp4", "--video vp9 --audio flac", 'video/mp4; codecs="vp09.00.20.08, flac"'),
    ("vp9_opus.webm", "--video vp9 --audio opus", 'video/webm; codecs="vp9, opus"'),
    ("vp8_vorbis.webm", "--video vp8 --audio vorbis", 'video/webm; codecs="vp8, vorbis"'),
    ("av1_opus.webm", "--video av1 --audio opus", 'video/webm; codecs="av01.0.04M.08, opus"'),
    ("mp3.mp3", "", "audio/mpeg"),
    ("aac.aac", "", "audio/aac"),
    ("flac.flac", "", "audio/flac"),
    ("wav.wav", "", 'audio/wav; codecs="1"'),
    ("opus.ogg", "--video none --audio opus", 'audio/ogg; codecs="opus"'),
    ("vorbis.ogg", "--video none --audio vorbis", 'audio/ogg; codecs="vorbis"'),
]
PAGE = """<!doctype html><title>clips</title><script>
const forms = FORMS_HERE;
async function play([file, , type]) {
    const v = document.createElement('video');
    if (!v.canPlayType(type)) return {file, skipped: true};
    v.muted = true; v.src = file; v.playbackRate = 2;
    document.body.append(v);
    const result = await new Promise(done => {
        const failed = () =>
            done({file, error: v.error ? v.error.code + ' ' + v.error.message : 'stuck at ' + v.currentTime});
        v.onerror = failed;
        v.onended = () => done({file, duration: v.duration, width: v.videoWidth, height: v.videoHeight,
                                frames: v.getVideoPlaybackQuality ? v.getVideoPlaybackQuality().totalVideoFrames : 0});
        setTimeout(failed, 15000);
        v.play().catch(failed);
    });
    v.remove();
    return result;
}
onload = async () => {
    const all = [];
    for (const f of forms) all.push(await play(f));
    await fetch('/done', {method: 'POST', body: JSON.stringify(all)});
};
</script><body></body>"""


def main():
    browser = next((b for b in ("chromium", "chromium-browser") if shutil.which(b)), None)
    if not browser:
        print("skipped: there is no browser here")
        return 77
    ruedo, fixtures = pathlib.Path(sys.argv[1]) / "ruedo", pathlib.Path(sys.argv[2])
    with tempfile.TemporaryDirectory() as folder:
        for file, words, _ in FORMS:
            subprocess.run([ruedo, "convert", fixtures / "h264_high_aac.mp4", f"{folder}/{file}", "--to", "2s",
                            *words.split()], check=True, stdout=subprocess.DEVNULL)
        page = PAGE.replace("FORMS_HERE", json.dumps(FORMS))
        pathlib.Path(folder, "index.html").write_text(page, encoding="utf-8")
        told, results = threading.Event(), []

        class Handler(http.server.SimpleHTTPRequestHandler):
            def do_POST(self):
                results.extend(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
                self.send_response(204)
                self.end_headers()
                told.set()

            def log_message(self, *_):
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(Handler, directory=folder))
        threading.Thread(target=server.serve_forever, daemon=True).start()
        running = subprocess.Popen(
            [browser, "--headless=new", "--no-sandbox", "--disable-gpu", "--mute-audio",
             f"--user-data-dir={folder}/profile", "--autoplay-policy=no-user-gesture-required",
             f"http://127.0.0.1:{server.server_port}/index.html"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            if not told.wait(240):
                print("the browser did not answer")
                return 1
        finally:
            running.terminate()
            running.wait()
            server.shutdown()
        wrong = 0
        for r in results:
            pictures = r["file"].endswith((".mp4", ".webm"))
            fine = r.get("skipped") or ("error" not in r and abs(r["duration"] - 2) < 0.1
                                        and (not pictures or (r["width"], r["height"]) == (640, 360)))
            print(("as it should: " if fine else "WRONG: ") + json.dumps(r))
            wrong += not fine
        return 1 if wrong or len(results) != len(FORMS) else 0


sys.exit(main())
