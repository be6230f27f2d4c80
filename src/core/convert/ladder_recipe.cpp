// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <nlohmann/json.hpp>

#include "convert/ladder.h"
#include "convert/plan.h"

namespace ruedo {
using nlohmann::json;
using namespace std::string_view_literals;
namespace {
constexpr std::array<std::string_view, 3> wraps{"fmp4", "ts", "both"};
constexpr std::size_t most_rungs = 16;
constexpr auto mp4 = "mp4"sv;
bool fits(const RungSpec& r) {
    auto size = [](int v) { return v >= 16 && v <= 8192 && v % 2 == 0; };
    return size(r.width) && size(r.height) && r.bitrate >= 10'000 && r.bitrate <= 200'000'000;
}
}  // namespace

std::optional<std::vector<RungSpec>> parse_rungs(std::string_view text) {
    std::vector<RungSpec> all;
    while (!text.empty()) {
        auto one = text.substr(0, text.find(','));
        text.remove_prefix(std::min(text.size(), one.size() + 1));
        auto cross = one.find('x'), at = one.find('@');
        if (cross == one.npos || at == one.npos || at < cross) return std::nullopt;
        RungSpec r;
        auto whole = [](std::string_view s, int& v) {
            auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
            return ec == std::errc{} && end == s.data() + s.size();
        };
        double rate = 0;
        auto words = one.substr(at + 1);
        auto [end, ec] = std::from_chars(words.data(), words.data() + words.size(), rate);
        auto unit = std::string_view(end, static_cast<std::size_t>(words.data() + words.size() - end));
        rate *= unit == "M" ? 1e6 : unit == "k" ? 1e3 : 1;
        if (!whole(one.substr(0, cross), r.width) || !whole(one.substr(cross + 1, at - cross - 1), r.height) ||
            ec != std::errc{} || !(unit.empty() || unit == "M" || unit == "k") || !(rate >= 0 && rate <= 1e9))
            return std::nullopt;
        r.bitrate = static_cast<std::uint32_t>(rate);
        all.push_back(r);
        if (!fits(r) || all.size() > most_rungs) return std::nullopt;
    }
    return all.empty() ? std::nullopt : std::optional(all);
}

std::vector<RungSpec> propose_rungs(const VideoFormat& format, double frames_per_second, std::size_t count) {
    std::vector<RungSpec> all;
    double w = format.display_width(), h = format.display_height();
    // No more than a screen of the largest usual kind shows.
    auto down = std::min(1.0, std::min(3840 / std::max(w, h), 2160 / std::min(w, h)));
    w *= down, h *= down;
    auto even = [](double v) { return std::max(16, static_cast<int>(std::lround(v / 2)) * 2); };
    auto rate_factor = std::sqrt(std::clamp(frames_per_second, 10.0, 120.0) / 30);
    for (std::size_t i = 0; i < count && (i == 0 || std::min(w, h) >= 90); ++i, w /= 1.45, h /= 1.45) {
        RungSpec r{even(w), even(h), 0};
        // Larger pictures need less for each pixel.
        auto pixels = static_cast<double>(r.width) * r.height;
        auto bits = 2.4e6 * std::pow(pixels / (1280 * 720), 0.8) * rate_factor;
        r.bitrate = static_cast<std::uint32_t>(std::lround(bits / 10'000)) * 10'000;
        r.bitrate = std::max(60'000U, r.bitrate);
        all.push_back(r);
    }
    return all;
}

Status LadderRecipe::check() const {
    if (!fragments && !transport)
        return fail(ErrorCode::usage, "A ladder needs fragments, a transport stream, or both.", {});
    if (key && dash)
        return fail(ErrorCode::refused, "A manifest can’t name the key that its segments are encrypted with here.",
                    "Make the ladder without one of the two.");
    if (dash && !fragments)
        return fail(ErrorCode::refused, "A manifest is made over fragments, and only a transport stream was asked for.",
                    "Ask for fragments, or for both.");
    if (segment < 500_ms || segment > 60_s)
        return fail(ErrorCode::usage, "A segment lasts from half a second to a minute.", "Four seconds are usual.");
    if (propose < 1 || propose > 8) return fail(ErrorCode::usage, "From one to eight rungs are proposed.", {});
    if (rungs.size() > most_rungs || !std::all_of(rungs.begin(), rungs.end(), fits))
        return fail(ErrorCode::usage, "A rung has even sizes from 16 to 8192, and from 10 kbit/s to 200 Mbit/s.", {});
    auto* form = video_encoder_traits(video);
    if (!form || !form->bitrate)
        return fail(ErrorCode::refused, fmt::format("No rungs are made of {}.", codec_name(video)),
                    "There are h264, vp9 and av1.");
    if (passes != 1 && (passes != 2 || !form->two_passes))
        return fail(ErrorCode::refused, fmt::format("{} is not encoded in {} passes here.", codec_name(video), passes),
                    {});
    for (auto [wanted, container_format] : {std::pair{fragments, mp4}, {transport, "mpegts"sv}}) {
        if (!wanted) continue;
        for (auto codec : {video, audio})
            if (!container_format_named(container_format)->takes(codec))
                return fail(ErrorCode::refused,
                            fmt::format("{} does not go into {}.", codec_name(codec),
                                        container_format == mp4 ? "fragments" : "a transport stream"),
                            "H.264 and AAC go into both.");
    }
    return {};
}

json to_json(const LadderRecipe& r) {
    json rungs = json::array();
    for (auto& g : r.rungs) rungs.push_back({{"width", g.width}, {"height", g.height}, {"bitrate", g.bitrate}});
    return {{"rungs", std::move(rungs)},
            {"propose", r.propose},
            {"segment_ns", r.segment.ns},
            {"wrap", wraps.at(r.fragments && r.transport ? 2
                              : r.transport              ? 1
                                                         : 0)},
            {"dash", r.dash},
            {"key", r.key},
            {"video", codec_name(r.video)},
            {"audio", codec_name(r.audio)},
            {"passes", r.passes}};
}

Result<LadderRecipe> ladder_recipe_from_json(const json& j, std::string_view subject) {
    auto bad = [&](std::string_view why) {
        return fail(ErrorCode::malformed, fmt::format("{} is no recipe of a ladder: {}.", subject, why),
                    "See docs/streams.md for its members.");
    };
    if (!j.is_object()) return bad("it is no JSON object");
    LadderRecipe r;
    try {
        for (auto& [name, v] : j.items()) {
            if (name == "rungs") {
                for (auto& g : v)
                    r.rungs.push_back(
                        {g.at("width").get<int>(), g.at("height").get<int>(), g.at("bitrate").get<std::uint32_t>()});
            } else if (name == "propose") {
                r.propose = v.get<std::size_t>();
            } else if (name == "segment_ns") {
                r.segment = Time{v.get<std::int64_t>()};
            } else if (name == "wrap") {
                auto at = std::find(wraps.begin(), wraps.end(), v.get<std::string>()) - wraps.begin();
                if (at == std::ssize(wraps)) return bad("wrap is fmp4, ts or both");
                r.fragments = at != 1, r.transport = at != 0;
            } else if (name == "dash") {
                r.dash = v.get<bool>();
            } else if (name == "key") {
                r.key = v.get<bool>();
            } else if (name == "video") {
                r.video = codec_from_name(v.get<std::string>());
            } else if (name == "audio") {
                r.audio = codec_from_name(v.get<std::string>());
            } else if (name == "passes") {
                r.passes = v.get<int>();
            } else {
                return bad(fmt::format("there is no “{}”", name));
            }
        }
    } catch (const json::exception&) {
        return bad("a member is of another kind than it should be");
    }
    RUEDO_TRY_DO(r.check());
    return r;
}

}  // namespace ruedo
