// SPDX-License-Identifier: GPL-3.0-or-later
#include "streaming.h"

#include <fmt/format.h>

#include <charconv>
#include <cstdio>
#include <fstream>
#include <thread>

#include "convert/jobs.h"
#include "headless.h"
#include "io/json_text.h"
#include "making.h"
#include "stream/host.h"
#include "stream/simulate.h"
#include "stream/stream.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;
namespace {
std::string names_of(std::span<const std::string_view> names) { return fmt::format("{}", fmt::join(names, ", ")); }

/// A ladder as a document: {"segment_ns", "segments", "rungs": [{"bandwidth", "sizes": [bytes…]}]}.
Result<adapt::Ladder> ladder_of_json(const std::string& file) {
    RUEDO_TRY(auto j, read_json(file));
    auto bad = [&](std::string_view why) {
        return fail(ErrorCode::malformed,
                    fmt::format("“{}” is no ladder: {}.", fs::path(file).filename().string(), why),
                    "It needs segment_ns, segments, and rungs with their bandwidth.");
    };
    if (!j.is_object()) return bad("it is no JSON object");
    auto whole = [](const json& from, const char* name) -> std::int64_t {
        return from.contains(name) && from[name].is_number_integer() ? from[name].get<std::int64_t>() : 0;
    };
    adapt::Ladder l;
    l.segment = Time{whole(j, "segment_ns")};
    l.segments = static_cast<std::size_t>(std::clamp<std::int64_t>(whole(j, "segments"), 0, 100'000));
    if (l.segment < 100_ms || l.segment > 600_s || l.segments == 0) return bad("segments need a length and a number");
    if (!j.contains("rungs") || !j["rungs"].is_array() || j["rungs"].empty() || j["rungs"].size() > 32)
        return bad("it has no rungs, or more than 32");
    std::vector<std::pair<double, std::vector<double>>> rungs;
    for (auto& r : j["rungs"]) {
        auto rate = whole(r, "bandwidth");
        if (rate <= 0) return bad("a rung has no bandwidth");
        std::vector<double> sizes;
        if (r.contains("sizes") && r["sizes"].is_array())
            for (auto& s : r["sizes"])
                if (s.is_number()) sizes.push_back(s.get<double>() * 8);
        rungs.emplace_back(static_cast<double>(rate), std::move(sizes));
    }
    std::sort(rungs.begin(), rungs.end(), [](auto& a, auto& b) { return a.first < b.first; });
    for (auto& [rate, sizes] : rungs) l.bitrates.push_back(rate), l.sizes.push_back(std::move(sizes));
    return l;
}
}  // namespace

json stream_json(const StreamReport& r, const ClipInfo& info) {
    json rungs = json::array(), audio = json::array(), text = json::array();
    auto number = [](std::uint64_t v) { return v ? json(v) : json(nullptr); };
    for (auto& g : r.rungs)
        rungs.push_back(
            {{"id", g.id},
             {"bandwidth", number(g.bandwidth)},
             {"average_bandwidth", number(g.average_bandwidth)},
             {"codecs", g.codecs.empty() ? json(nullptr) : json(g.codecs)},
             {"width", number(static_cast<std::uint64_t>(g.width))},
             {"height", number(static_cast<std::uint64_t>(g.height))},
             {"frame_rate",
              g.frame_rate.stated() ? json(fmt::format("{}/{}", g.frame_rate.num, g.frame_rate.den)) : json(nullptr)},
             {"measured_peak", number(g.measured_peak)},
             {"segments", g.segments}});
    for (auto& t : info.tracks) {
        json one{{"id", t.id},
                 {"language", t.language.empty() ? json(nullptr) : json(t.language)},
                 {"default", t.is_default}};
        if (t.kind == Kind::audio)
            audio.push_back(std::move(one));
        else if (t.kind == Kind::text)
            text.push_back(std::move(one));
    }
    return {{"kind", r.kind},
            {"live", r.live},
            {"target_duration_ns", r.target_duration.ns},
            {"rungs", std::move(rungs)},
            {"sound", std::move(audio)},
            {"text", std::move(text)},
            {"encrypted", r.encrypted}};
}

Result<json> adapt_command(const AdaptArguments& w) {
    if (!w.policy.empty() && !adapt::make_policy(w.policy))
        return fail(ErrorCode::usage, fmt::format("There is no policy “{}”.", w.policy),
                    fmt::format("There are {}.", names_of(adapt::policy_names())));
    if (w.trace.empty() == w.set.empty())
        return fail(ErrorCode::usage, "One of --trace and --set says which links it is simulated on.");
    adapt::Ladder ladder;
    if (w.ladder.ends_with(".json")) {
        RUEDO_TRY(ladder, ladder_of_json(w.ladder));
    } else {
        RUEDO_TRY(ladder, stream::ladder_of(w.ladder));
    }
    std::vector<stream::NetworkTrace> links;
    if (!w.trace.empty()) {
        RUEDO_TRY(auto bytes, read_file(w.trace));
        RUEDO_TRY(auto link, stream::network_trace_from_csv(bytes, fs::path(w.trace).stem().string()));
        link.delay = 20_ms;
        links.push_back(std::move(link));
    } else {
        // "made" is a hundred of them, "made-N-SEED" another number or seed.
        std::uint64_t count = 100, seed = 1;
        auto rest = std::string_view(w.set);
        bool fine = rest == "made";
        if (rest.starts_with("made-")) {
            rest.remove_prefix(5);
            auto cut = rest.find('-');
            auto read = [](std::string_view s, std::uint64_t& v) {
                auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
                return ec == std::errc{} && end == s.data() + s.size();
            };
            fine = read(rest.substr(0, cut), count) && (cut == rest.npos || read(rest.substr(cut + 1), seed)) &&
                   count > 0 && count <= 10'000;
        }
        if (fine)
            links = stream::synthetic_traces(count, seed);
        else if (w.set == "named")
            links = stream::network_traces();
        else
            return fail(ErrorCode::usage, fmt::format("There is no set “{}”.", w.set),
                        "There are made (a hundred links), made-N-SEED, and named (those that a service knows).");
    }
    json traces = json::array();
    double ratios = 0;
    Time simulated{}, took{};
    auto policy = w.policy.empty() ? adapt::default_policy : std::string_view(w.policy);
    for (auto& link : links) {
        if (interrupted()) return fail(ErrorCode::cancelled, "The simulation was interrupted.", "Run it again.");
        auto begun = monotonic_now();
        auto run = adapt::simulate(ladder, link, policy);
        took += monotonic_now() - begun;
        simulated += run.length;
        auto best = adapt::optimum(ladder, link);
        auto ratio = adapt::share(run.qoe, best);
        ratios += ratio;
        traces.push_back({{"name", link.name},
                          {"qoe", run.qoe},
                          {"optimum", best},
                          {"ratio", ratio},
                          {"stalls", run.stalls},
                          {"stalled_ms", run.stalled.ms()},
                          {"started_ms", run.started.ms()},
                          {"switches", run.switches},
                          {"mean_bitrate", std::llround(run.mean_bitrate)}});
    }
    return json{{"policy", std::string(policy)},
                {"traces", std::move(traces)},
                {"ratio_mean", ratios / static_cast<double>(links.size())},
                {"simulated_ns", simulated.ns},
                {"took_ns", took.ns}};
}

Status host_command(const HostArguments& w) {
    stream::StaticServerOptions o;
    o.folder = w.folder, o.live = w.live;
    if (w.port < 0 || w.port > 65535) return fail(ErrorCode::usage, "A port is a number from 1 to 65535.");
    o.port = static_cast<std::uint16_t>(w.port);
    if (!w.network_trace.empty()) {
        RUEDO_TRY(o.network_trace, stream::find_network_trace(w.network_trace));
    }
    auto line = [](const json& j) {
        auto text = j.dump(-1, ' ', false, json::error_handler_t::replace) + "\n";
        std::fwrite(text.data(), 1, text.size(), stdout);
        std::fflush(stdout);
    };
    o.told = [&](const stream::Served& s) {
        line({{"at_ns", s.at.ns},
              {"method", s.method},
              {"path", s.path},
              {"status", s.status},
              {"bytes", s.bytes},
              {"took_ns", s.took.ns}});
    };
    RUEDO_TRY(auto host, stream::StaticServer::start(std::move(o)));
    line({{"address", host->address()}});
    while (!interrupted()) std::this_thread::sleep_for(std::chrono::milliseconds(50));
    return {};
}

Result<json> ladder_command(const LadderArguments& w) {
    LadderOptions o;
    auto& r = o.recipe;
    o.out = w.out, o.replace = w.replace, r.dash = w.dash, r.key = w.key;
    if (!w.rungs.empty()) {
        auto rungs = parse_rungs(w.rungs);
        if (!rungs)
            return fail(ErrorCode::usage, fmt::format("“{}” are no rungs.", w.rungs),
                        "Write even sizes and bitrates such as 1280x720@2.5M,640x360@700k.");
        r.rungs = std::move(*rungs);
    }
    r.propose = static_cast<std::size_t>(std::max(0, w.propose)), r.passes = w.passes;
    auto segment = parse_time(w.segment);
    if (!segment) return fail(ErrorCode::usage, not_a_time(w.segment) + ".", {});
    r.segment = *segment;
    if (w.wrap != "fmp4" && w.wrap != "ts" && w.wrap != "both")
        return fail(ErrorCode::usage, "--wrap is fmp4, ts or both.", {});
    r.fragments = w.wrap != "ts", r.transport = w.wrap != "fmp4";
    for (auto [word, codec] : {std::pair{&w.video, &r.video}, {&w.audio, &r.audio}})
        if (*codec = codec_from_name(*word); *codec == Codec::unknown)
            return fail(ErrorCode::usage, fmt::format("There is no codec “{}”.", *word), {});
    if (w.passes == 0)
        if (auto* form = video_encoder_traits(r.video)) r.passes = form->two_passes ? 2 : 1;
    if (!w.progress.empty() && w.progress != "json") return fail(ErrorCode::usage, "--progress is json.", {});
    if (w.later) {
        RUEDO_TRY(auto job, JobQueue(JobQueue::standard_folder()).add_ladder(w.in, o.out, r));
        return json{{"job", to_json(job)}};
    }
    o.told = told_in_lines(w.progress == "json");
    RUEDO_TRY(auto made, make_ladder(w.in, o, CodecRegistry::standard()));
    return to_json(made);
}

Result<StreamOptions> stream_options(const std::string& policy, const std::string& rung, const std::string& start) {
    StreamOptions o;
    o.policy = policy, o.rung = rung;
    if (!policy.empty() && !adapt::make_policy(policy))
        return fail(ErrorCode::usage, fmt::format("There is no policy “{}”.", policy),
                    fmt::format("There are {}.", names_of(adapt::policy_names())));
    if (start == "live") {
        o.at_edge = true;
    } else if (!start.empty() && !(o.start = parse_time(start))) {
        return fail(ErrorCode::usage, not_a_time(start) + ".", "Say one, or “live”.");
    }
    return o;
}

}  // namespace ruedo
