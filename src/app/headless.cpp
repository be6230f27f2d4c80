// SPDX-License-Identifier: Apache-2.0
#include "headless.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <csignal>
#include <cstdlib>

namespace ruedo {
namespace {
volatile std::sig_atomic_t interrupt_seen = 0;

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

/// Collects what is mixed from where presentation time 0 sounds.
class SoundTap {
  public:
    explicit SoundTap(Mixer& mixer) : mixer_(mixer) {
        mixer.on_mix([this](std::span<const float> samples, std::int64_t frame) {
            std::lock_guard lock(mutex_);
            if (samples_.empty()) first_ = frame;
            samples_.insert(samples_.end(), samples.begin(), samples.end());
        });
    }
    Outcome write(const std::filesystem::path& path) {
        mixer_.on_mix({});
        std::lock_guard lock(mutex_);
        TRY(auto wav, WavWriter::create(path));
        if (auto mark = mixer_.first_mark()) {
            // Where media time 0 is: before the first mark if playing began later.
            auto zero = mark->first - time_to_ticks(mark->second, mix_rate) - first_;
            if (zero < 0) TRY_DO(wav.write(std::vector<float>(static_cast<std::size_t>(-zero) * 2)));
            auto from = static_cast<std::size_t>(std::max<std::int64_t>(zero, 0)) * 2;
            if (from < samples_.size()) TRY_DO(wav.write(std::span(samples_).subspan(from)));
        }
        return wav.finish();
    }

  private:
    Mixer& mixer_;
    std::mutex mutex_;
    std::vector<float> samples_;
    std::int64_t first_ = 0;
};

bool over(const Snapshot& s) { return s.state.phase == Phase::ended || s.state.phase == Phase::failed || s.state.phase == Phase::closed; }
}  // namespace

void catch_interrupts() {
    for (int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { interrupt_seen = 1; });
}
bool interrupted() { return interrupt_seen != 0; }

nlohmann::json error_document(const Error& error) { return {{"error", to_json(error)}}; }

std::optional<std::vector<ScriptedCall>> parse_script(std::string_view text, std::string& why) {
    std::vector<ScriptedCall> calls;
    for (auto part : split(text, ";")) {
        auto words = split(part, " \t\n");
        if (words.empty()) continue;
        auto bad = [&](std::string_view reason) { why = fmt::format("In “{}”: {}.", part, reason); return std::nullopt; };
        if (words.size() < 2) return bad("a call needs a time and a name");
        ScriptedCall c;
        auto at = parse_time(words[0]);
        if (!at) return bad("the time needs a unit, such as 250ms");
        c.at = *at;
        c.verb = words[1];
        bool plain = c.verb == "pause" || c.verb == "play" || c.verb == "mute" || c.verb == "unmute" || c.verb == "stop" || c.verb == "release";
        bool timed = c.verb == "seek", numbered = c.verb == "rate" || c.verb == "volume" || c.verb == "step";
        if (!plain && !timed && !numbered) return bad("there is no such call");
        if (words.size() != (plain ? 2U : 3U)) return bad(plain ? "it takes nothing more" : "it takes one value");
        if (timed) {
            auto t = parse_time(words[2]);
            if (!t) return bad("the place needs a unit, such as 10s");
            c.time = *t;
        }
        if (numbered) {
            auto n = number(words[2]);
            if (!n) return bad("the value is not a number");
            c.number = *n;
            if (c.verb == "rate" && (*n < 0.25 || *n > 4)) return bad("a rate is from 0.25 to 4");
            if (c.verb == "volume" && (*n < 0 || *n > 1)) return bad("a volume is from 0 to 1");
            if (c.verb == "step" && (*n != static_cast<int>(*n) || *n == 0)) return bad("a step is a whole number of pictures, not 0");
        }
        calls.push_back(std::move(c));
    }
    std::stable_sort(calls.begin(), calls.end(), [](auto& a, auto& b) { return a.at < b.at; });
    return calls;
}

void perform(Controller& controller, const ScriptedCall& c) {
    if (c.verb == "play") controller.play();
    else if (c.verb == "pause") controller.pause();
    else if (c.verb == "stop") controller.stop();
    else if (c.verb == "seek") controller.seek(c.time);
    else if (c.verb == "rate") controller.set_rate(c.number);
    else if (c.verb == "volume") controller.set_volume(c.number);
    else if (c.verb == "mute") controller.set_muted(true);
    else if (c.verb == "unmute") controller.set_muted(false);
    else if (c.verb == "step") controller.step(static_cast<int>(c.number));
    else if (c.verb == "release") controller.release();
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
    Mixer mixer(*mixer_strand, o.virtual_time || !o.device ? std::function<std::unique_ptr<SoundDevice>()>{} : make_server_device);
    std::optional<SoundTap> tap;
    if (!o.sound.empty()) tap.emplace(mixer);
    auto sink = make_null_sink(o.virtual_time ? Time{} : ticks_to_time(1, 1, 60));
    HeadlessResult result;
    {
        Controller controller({strand, &mixer, &CodecRegistry::standard(), sink});
        auto begin = strand->now();
        auto options = o.open;
        options.start.how = Start::How::play;
        controller.open(o.source, options);
        std::size_t next = 0;
        auto end = o.length ? begin + *o.length : Time::max();
        auto done = [&] {
            auto s = controller.snapshot();
            bool idle = s.state.phase == Phase::failed || s.state.phase == Phase::closed || (!o.length && over(s) && next >= o.script.size());
            // Held with nothing more to come, playing would never end.
            bool held = !o.length && next >= o.script.size() && (s.state.phase == Phase::paused || s.state.phase == Phase::ready) && !s.state.seeking;
            return idle || held || interrupted();
        };
        for (;;) {
            auto until = next < o.script.size() ? std::min(end, begin + o.script[next].at) : end;
            if (o.virtual_time) virtual_strand->run_until(until, done);
            else while (strand->now() < until && !done()) {
                auto left = until == Time::max() ? 20_ms : std::min(20_ms, until - strand->now());
                controller.wait([&](auto&) { return done(); }, left);
            }
            if (done() || until >= end || next >= o.script.size()) break;
            perform(controller, o.script[next++]);
            // The call is only posted yet; what comes next looks at what it led to.
            if (o.virtual_time) virtual_strand->run_until(strand->now());
            else (void)controller.snapshot_after_calls();
        }
        auto report = controller.report();
        result.report = to_json(report, o.virtual_time);
        result.exit = report.snapshot.state.phase == Phase::failed ? 1 : 0;
    }
    if (tap && result.exit == 0)
        if (auto written = tap->write(o.sound); !written) result = {error_document(written.error()), 1};
    if (interrupted()) result = {error_document({Code::cancelled, "Playing was interrupted.", "Run it again."}), 130};
    return result;
}

}  // namespace ruedo
