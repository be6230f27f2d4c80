// SPDX-License-Identifier: Apache-2.0
#include "headless.h"

#include "player/host_life.h"
#include "sound_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <charconv>
#include <csignal>
#include <cstdlib>

namespace ruedo {
namespace {
std::atomic<bool> interrupt_seen = false;
static_assert(std::atomic<bool>::is_always_lock_free);  // it is set in a signal handler

std::vector<std::string_view> split(std::string_view text, std::string_view separators) {
    std::vector<std::string_view> parts;
    while (!text.empty()) {
        auto end = std::min(text.find_first_of(separators), text.size());
        if (end > 0) parts.push_back(text.substr(0, end));
        text.remove_prefix(std::min(end + 1, text.size()));
    }
    return parts;
}

std::optional<double> number(std::string_view text) {
    double v = 0;
    auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), v);
    if (ec != std::errc{} || end != text.data() + text.size() || !(v >= -1e9 && v <= 1e9)) return std::nullopt;
    return v;
}

}  // namespace

void catch_interrupts() {
    for (int signal : {SIGINT, SIGTERM, SIGHUP}) std::signal(signal, [](int) { interrupt_seen = true; });
}
bool interrupted() { return interrupt_seen; }
InterruptScope::InterruptScope() : scope_(&interrupt_seen) {}

int exit_code(const Error& error) {
    return error.code == ErrorCode::cancelled ? 130 : error.code == ErrorCode::usage ? 2 : 1;
}

bool ScriptRun::over() const {
    auto s = controller_.snapshot();
    if (s.state.phase == Phase::failed || s.state.phase == Phase::closed) return true;
    if (options_.length || next()) return false;
    // Held with nothing more to come, playing would never end.
    bool held = (s.state.phase == Phase::paused || s.state.phase == Phase::ready) && !s.state.seeking;
    return held || s.state.phase == Phase::ended;
}

HeadlessResult ScriptRun::result(bool virtual_time) const {
    if (interrupted())
        return {error_document({ErrorCode::cancelled, "Playing was interrupted.", "Run it again."}), 130};
    auto report = controller_.report();
    bool failed = report.snapshot.state.phase == Phase::failed;
    return {to_json(report, virtual_time), failed ? exit_code(report.snapshot.error.value_or(Error{})) : 0};
}

nlohmann::json error_document(const Error& error) { return {{"error", to_json(error)}}; }

std::optional<std::vector<ScriptedCall>> parse_script(std::string_view text, std::string& why, bool hands) {
    std::vector<ScriptedCall> calls;
    for (auto part : split(text, ";")) {
        auto words = split(part, " \t\n");
        if (words.empty()) continue;
        auto bad = [&](std::string_view reason) {
            why = fmt::format("In “{}”: {}.", part, reason);
            return std::nullopt;
        };
        if (words.size() < 2) return bad("a call needs a time and a name");
        ScriptedCall c;
        auto at = parse_time(words[0]);
        if (!at) return bad(not_a_time(words[0]));
        c.at = *at;
        c.verb = words[1];
        bool plain = c.verb == "pause" || c.verb == "play" || c.verb == "mute" || c.verb == "unmute" ||
                     c.verb == "stop" || c.verb == "release";
        bool timed = c.verb == "seek", numbered = c.verb == "rate" || c.verb == "volume" || c.verb == "step";
        if (hands && c.verb == "host") {
            if (words.size() != 3) return bad("it says one thing");
            if (!is_host_word(words[2])) return bad(fmt::format("a host says {}", host_words()));
            c.name = words[2];
            calls.push_back(std::move(c));
            continue;
        }
        if (hands && c.verb == "hand") {
            std::array<double, 5> n{};
            bool fine = words.size() == 7;
            for (std::size_t i = 0; fine && i < n.size(); ++i) {
                auto read = number(words[i + 2]);
                fine = read && std::abs(*read) <= room_limits::place;
                n[i] = fine ? *read : 0;
            }
            if (!fine) return bad("a hand is at three numbers of metres, with two of degrees it is turned by");
            c.pose = {{n[0], n[1], n[2]}, n[3], std::clamp(n[4], -90.0, 90.0)};
            calls.push_back(std::move(c));
            continue;
        }
        if (hands && c.verb == "pull") {
            if (words.size() != 2) return bad("it takes nothing more");
            calls.push_back(std::move(c));
            continue;
        }
        bool hand = hands && (c.verb == "press" || c.verb == "drag" || c.verb == "key" || c.verb == "touch");
        if (hand) {
            // A name may be of several words; what is dragged to stands last.
            auto last = words.size() - (c.verb == "drag" ? 1 : 0);
            for (std::size_t i = 2; i < last; ++i) c.name += (i > 2 ? " " : "") + std::string(words[i]);
            if (c.name.empty()) return bad(c.verb == "key" ? "it names no key" : "it names no control");
            if (c.verb == "touch") {
                auto x = number(words[2]), y = words.size() == 4 ? number(words[3]) : std::nullopt;
                if (!x || !y) return bad("a touch is two numbers of pixels");
                c.x = static_cast<int>(*x), c.y = static_cast<int>(*y);
            }
            if (c.verb == "drag") {
                auto to = number(words.back());
                if (!to || *to < 0 || *to > 1) return bad("it is dragged to a number from 0 to 1");
                c.number = *to;
            }
            calls.push_back(std::move(c));
            continue;
        }
        if (!plain && !timed && !numbered) return bad("there is no such call");
        if (words.size() != (plain ? 2U : 3U)) return bad(plain ? "it takes nothing more" : "it takes one value");
        if (timed) {
            auto t = parse_time(words[2]);
            if (!t) return bad(not_a_time(words[2]));
            c.time = *t;
        }
        if (numbered) {
            auto n = number(words[2]);
            if (!n) return bad("the value is not a number");
            c.number = *n;
            if (c.verb == "rate" && (*n < 0.25 || *n > 4)) return bad("a rate is from 0.25 to 4");
            if (c.verb == "volume" && (*n < 0 || *n > 1)) return bad("a volume is from 0 to 1");
            if (c.verb == "step" && (*n != static_cast<int>(*n) || *n == 0))
                return bad("a step is an integer number of frames, not 0");
        }
        calls.push_back(std::move(c));
    }
    std::stable_sort(calls.begin(), calls.end(), [](auto& a, auto& b) { return a.at < b.at; });
    return calls;
}

void perform(Controller& controller, const ScriptedCall& c) {
    if (c.verb == "play")
        controller.play();
    else if (c.verb == "pause")
        controller.pause();
    else if (c.verb == "stop")
        controller.stop();
    else if (c.verb == "seek")
        controller.seek(c.time);
    else if (c.verb == "rate")
        controller.set_rate(c.number);
    else if (c.verb == "volume")
        controller.set_volume(c.number);
    else if (c.verb == "mute")
        controller.set_muted(true);
    else if (c.verb == "unmute")
        controller.set_muted(false);
    else if (c.verb == "step")
        controller.step(static_cast<int>(c.number));
    else if (c.verb == "release")
        controller.release();
}

HeadlessResult play_headless(const HeadlessOptions& o) {
    std::shared_ptr<VirtualStrand> virtual_strand;
    std::shared_ptr<Strand> strand, mixer_strand;
    if (o.virtual_time) {
        virtual_strand = make_virtual_strand();
        strand = mixer_strand = virtual_strand;
    } else {
        strand = make_real_strand();
        mixer_strand = make_real_strand();
    }
    Mixer mixer(*mixer_strand,
                o.virtual_time || !o.device ? std::function<std::unique_ptr<AudioDevice>()>{} : make_server_device);
    std::unique_ptr<WavFile> heard;
    if (!o.audio.empty()) {
        auto made = WavFile::create(mixer, o.audio, o.source, o.replace);
        if (!made) return {error_document(made.error()), exit_code(made.error())};
        heard = std::move(*made);
    }
    auto sink = make_null_sink(o.virtual_time ? Time{} : ticks_to_time(1, 1, 60));
    HeadlessResult result;
    {
        auto streaming = o.stream;
        if (o.network_trace) streaming.link = stream::link_of(*o.network_trace, [strand] { return strand->now(); });
        Controller controller({.strand = strand,
                               .mixer = &mixer,
                               .codecs = &CodecRegistry::standard(),
                               .sink = sink,
                               .open_clip = o.open_clip,
                               .stream = streaming});
        auto begin = strand->now();
        auto options = o.open;
        options.start.how = Start::How::play;
        controller.open(o.source, options);
        ScriptRun run(o, controller);
        auto end = o.length ? begin + *o.length : Time::max();
        auto done = [&] { return interrupted() || run.over(); };
        for (;;) {
            auto until = run.next() ? std::min(end, begin + *run.next()) : end;
            if (o.virtual_time)
                virtual_strand->run_until(until, done);
            else
                while (strand->now() < until && !done()) {
                    auto left = until == Time::max() ? 20_ms : std::min(20_ms, until - strand->now());
                    controller.wait([&](auto&) { return done(); }, left);
                }
            if (done() || until >= end || !run.next()) break;
            run.perform_next();
            // The call has only been posted; the next step looks at its effect.
            if (o.virtual_time)
                virtual_strand->run_until(strand->now());
            else
                (void)controller.snapshot_after_calls();
        }
        result = run.result(o.virtual_time);
    }
    if (heard && result.exit == 0)
        if (auto written = heard->finish(); !written)
            result = {error_document(written.error()), exit_code(written.error())};
    return result;
}

}  // namespace ruedo
