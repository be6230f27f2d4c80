// SPDX-License-Identifier: Apache-2.0
#include "facts/keep.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

namespace ruedo {
using nlohmann::json;
namespace {
constexpr int keep_version = 2;

json rational(Rational r) { return {r.num, r.den}; }
Rational rational(const json& j) { return {j.at(0), j.at(1)}; }
}  // namespace

Result<std::string> content_key(ByteSource& source) {
    constexpr std::uint64_t stretch = 64 << 10;
    auto size = source.size().value_or(0);
    // FNV-1a, twice with different beginnings: 128 bits against mixing two clips up.
    std::array<std::uint64_t, 2> hash{0xcbf29ce484222325ULL, 0x9ae16a3b2f90404fULL};
    auto add = [&](ByteView bytes) {
        for (auto b : bytes)
            for (auto& h : hash) h = (h ^ b) * 0x100000001b3ULL, h ^= h >> 29;
    };
    Bytes part(stretch);
    for (auto at : {std::uint64_t{0}, size / 2, size > stretch ? size - stretch : 0}) {
        RUEDO_TRY(auto got, source.read_at(at, part));
        add(ByteView(part).first(got));
    }
    return fmt::format("{:x}-{:016x}{:016x}", size, hash[0], hash[1]);
}

json to_json(const SourceFacts& f) {
    json tracks = json::array();
    for (std::size_t i = 0; i < f.tracks.size(); ++i) {
        auto& t = f.info.tracks[i];
        auto& s = f.tracks[i];
        json j{{"id", t.id},
               {"kind", static_cast<int>(t.kind)},
               {"codec", codec_name(t.codec)},
               {"tag", t.codec_tag},
               {"string", t.codec_string},
               {"language", t.language},
               {"default", t.is_default},
               {"width", t.video.width},
               {"height", t.video.height},
               {"aspect", rational(t.video.pixel_aspect)},
               {"rotation", t.video.rotation},
               {"rate", t.audio.rate},
               {"channels", t.audio.channels},
               {"start", s.start.ns},
               {"end", s.end.ns},
               {"frames", s.frame_count},
               {"busiest", s.busiest_second},
               {"frame_rate", rational(s.frame_rate)}};
        if (t.problem) j["problem"] = {static_cast<int>(t.problem->code), t.problem->sentence, t.problem->hint};
        tracks.push_back(std::move(j));
    }
    json findings = json::array();
    for (auto& x : f.findings) findings.push_back({x.code, x.sentence, x.hint});
    return {{"version", keep_version},
            {"container", f.info.container},
            {"bytes", f.info.bytes},
            {"duration", f.duration.ns},
            {"duration_known", f.info.duration_known},
            {"first", f.first_sentence},
            {"second", f.second_sentence},
            {"mean", f.mean_bitrate},
            {"peak", f.peak_bitrate},
            {"tracks", std::move(tracks)},
            {"findings", std::move(findings)}};
}

std::optional<SourceFacts> facts_from_json(const json& j) {
    try {
        if (j.at("version") != keep_version) return std::nullopt;
        SourceFacts f;
        f.info.container = j.at("container");
        f.info.bytes = j.at("bytes");
        f.duration = f.info.duration = Time{j.at("duration")};
        f.info.duration_known = j.at("duration_known");
        f.first_sentence = j.at("first"), f.second_sentence = j.at("second");
        f.mean_bitrate = j.at("mean"), f.peak_bitrate = j.at("peak");
        for (auto& k : j.at("tracks")) {
            Track t;
            TrackFacts s;
            int kind = k.at("kind");
            if (kind < 0 || kind > static_cast<int>(Kind::other)) return std::nullopt;
            t.id = k.at("id"), t.kind = static_cast<Kind>(kind),
            t.codec = codec_from_name(k.at("codec").get_ref<const std::string&>());
            t.codec_tag = k.at("tag"), t.codec_string = k.at("string"), t.language = k.at("language"),
            t.is_default = k.at("default");
            t.video.width = k.at("width"), t.video.height = k.at("height"),
            t.video.pixel_aspect = rational(k.at("aspect")), t.video.rotation = k.at("rotation");
            t.audio = {k.at("rate"), k.at("channels")};
            s.start = Time{k.at("start")}, s.end = Time{k.at("end")}, s.frame_count = k.at("frames"),
            s.frame_rate = rational(k.at("frame_rate")), s.busiest_second = k.at("busiest");
            if (k.contains("problem"))
                t.problem = Error{static_cast<ErrorCode>(k["problem"].at(0).get<int>()), k["problem"].at(1),
                                  k["problem"].at(2)};
            f.info.tracks.push_back(std::move(t));
            f.tracks.push_back(std::move(s));
        }
        for (auto& x : j.at("findings")) f.findings.push_back({x.at(0), x.at(1), x.at(2)});
        return f;
    } catch (const json::exception&) {
        return std::nullopt;
    }
}

}  // namespace ruedo
