// SPDX-License-Identifier: Apache-2.0
// What a playlist says a stream is made of.
#include <fmt/format.h>

#include "io/transfer.h"
#include "stream/address.h"
#include "stream/stream.h"

namespace ruedo::stream {
namespace {

class HlsPlaylists final : public PlaylistSource {
  public:
    HlsPlaylists(std::vector<std::string> addresses, std::map<std::string, std::string> names)
        : addresses_(std::move(addresses)), names_(std::move(names)) {}
    Result<SegmentList> list(Fetch& fetch, std::size_t rendition) override {
        if (first_) return *std::exchange(first_, std::nullopt);
        auto& address = addresses_[rendition];
        RUEDO_TRY(auto got, fetch.get(address, {}, most_playlist_bytes));
        auto name = transfer::last_part(address);
        if (!is_playlist(got.bytes))
            return fail(ErrorCode::not_media, fmt::format("“{}” should be a list of segments, and is none.", name),
                        "Check what the server sends for it.");
        RUEDO_TRY(auto playlist, parse_playlist(got.bytes, got.address, names_));
        if (playlist.master)
            return fail(ErrorCode::malformed,
                        fmt::format("“{}” should list segments, and names further playlists instead.", name),
                        "Name lists of segments in the playlist of renditions.");
        if (playlist.list.segments.empty())
            return fail(ErrorCode::empty, fmt::format("“{}” lists no segment.", name),
                        "If it is live, it may not have begun; try again later.");
        return std::move(playlist.list);
    }
    void begin_with(SegmentList list) { first_ = std::move(list); }

  private:
    std::vector<std::string> addresses_;
    std::map<std::string, std::string> names_;
    std::optional<SegmentList> first_;
};

bool has_pictures(const Variant& v) {
    if (v.width > 0) return true;
    if (v.codecs.empty()) return true;
    for (auto audio : {"mp4a", "opus", "Opus", "ac-3", "ec-3", "fLaC", "flac", "mp3"})
        if (v.codecs.starts_with(audio) && v.codecs.find(',') == std::string::npos) return false;
    return true;
}

/// Where the pictures come in several codecs, a player stays with one of them: that of the most rungs, or of the first.
void keep_one_codec(std::vector<Variant>& variants) {
    auto family = [](const Variant& v) {
        for (std::string_view name : {"avc", "hvc1", "hev1", "vp09", "vp08", "av01"})
            if (v.codecs.find(name) != std::string::npos) return name == "hev1" ? "hvc1" : name;
        return std::string_view();
    };
    std::map<std::string_view, std::size_t> count;
    for (auto& v : variants) ++count[family(v)];
    if (count.size() < 2 || count.contains("")) return;
    auto kept = family(variants.front());
    for (auto& v : variants)
        if (count[family(v)] > count[kept]) kept = family(v);
    std::erase_if(variants, [&](auto& v) { return family(v) != kept; });
}

/// "640x360-700k"; the same again gets a number.
std::string id_of(const Variant& v, const std::vector<Rung>& before) {
    auto rate = v.average_bandwidth ? v.average_bandwidth : v.bandwidth;
    auto bits =
        rate >= 10'000'000 ? fmt::format("{}M", (rate + 500'000) / 1'000'000) : fmt::format("{}k", (rate + 500) / 1000);
    auto name = v.width > 0 ? fmt::format("{}x{}-{}", v.width, v.height, bits) : bits;
    auto taken = [&](const std::string& n) {
        return std::any_of(before.begin(), before.end(), [&](auto& r) { return r.id == n; });
    };
    if (!v.id.empty()) name = v.id;
    auto unique = name;
    for (int k = 2; taken(unique); ++k) unique = fmt::format("{}-{}", name, k);
    return unique;
}

}  // namespace

void find_in_rungs(Plan& plan, const std::vector<Rung>& rungs) {
    auto find = [&](std::string code, std::string sentence, std::string hint) {
        plan.findings.push_back({std::move(code), std::move(sentence), std::move(hint)});
    };
    if (rungs.size() == 1)
        find("one-rung", "There is one rung alone, so nothing can give way when the link gets narrow.",
             "Add a lower rung, of half the bitrate or less.");
    for (std::size_t i = 1; i < rungs.size(); ++i)
        if (rungs[i].bits_a_second() > 2.05 * rungs[i - 1].bits_a_second() && rungs[i - 1].bandwidth > 0)
            find("rung-gap",
                 fmt::format(
                     "From {} to {} the bitrate grows {:.1f} times at once; between them much of a link is left "
                     "unused.",
                     rungs[i - 1].title(), rungs[i].title(), rungs[i].bits_a_second() / rungs[i - 1].bits_a_second()),
                 "Put a rung between them: steps of 1.5 to 2 times serve most links.");
    auto silent = std::count_if(rungs.begin(), rungs.end(), [](auto& r) { return r.codecs.empty(); });
    if (silent > 0)
        find("no-codecs",
             fmt::format("{} of {} rungs do not say what they are coded in, so a player has to fetch them to find out.",
                         silent, rungs.size()),
             "State the codecs of each.");
}

Result<Plan> plan_hls(const std::string& address, Playlist playlist) {
    Plan plan;
    plan.kind = "hls";
    auto name = fmt::format("“{}”", transfer::last_part(address));
    if (!playlist.master) {
        if (playlist.list.segments.empty())
            return fail(ErrorCode::empty, fmt::format("{} lists no segment.", name),
                        "If it is live, it may not have begun; try again later.");
        auto playlists = std::make_shared<HlsPlaylists>(std::vector{address}, playlist.names);
        plan.begin = playlist.list.begin;
        playlists->begin_with(std::move(playlist.list));
        Rung rung;
        rung.id = "only";
        plan.track_groups.push_back({Kind::video, {rung}, std::move(playlists), name});
        return plan;
    }
    auto& master = *playlist.master;
    plan.begin = master.begin;
    auto& variants = master.variants;
    if (std::any_of(variants.begin(), variants.end(), has_pictures))
        std::erase_if(variants, [](auto& v) { return !has_pictures(v); });
    keep_one_codec(variants);
    std::stable_sort(variants.begin(), variants.end(), [](auto& a, auto& b) { return a.bandwidth < b.bandwidth; });
    // One of the pictures may go with several sounds, and is named once for each.
    std::vector<std::string> addresses;
    std::vector<Rung> rungs;
    for (auto& v : variants) {
        if (std::find(addresses.begin(), addresses.end(), v.address) != addresses.end()) continue;
        Rung r;
        r.id = id_of(v, rungs);
        r.bandwidth = v.bandwidth, r.average_bandwidth = v.average_bandwidth, r.codecs = v.codecs;
        r.width = v.width, r.height = v.height, r.frame_rate = v.frame_rate, r.score = v.score;
        rungs.push_back(std::move(r));
        addresses.push_back(v.address);
    }
    if (std::find(addresses.begin(), addresses.end(), address) != addresses.end())
        return fail(ErrorCode::malformed, fmt::format("{} names itself as one of its renditions.", name),
                    "Make the playlist again.");
    find_in_rungs(plan, rungs);
    plan.track_groups.push_back(
        {Kind::video, std::move(rungs), std::make_shared<HlsPlaylists>(std::move(addresses), playlist.names), name});
    // To look round by, the smallest will do.
    if (auto& alone = master.iframes_only; !alone.empty()) {
        auto least =
            std::min_element(alone.begin(), alone.end(), [](auto& a, auto& b) { return a.bandwidth < b.bandwidth; });
        Rung rung;
        rung.id = "keyframes", rung.bandwidth = least->bandwidth, rung.codecs = least->codecs;
        plan.keyframes = plan.track_groups.size();
        plan.track_groups.push_back({Kind::video,
                                     {rung},
                                     std::make_shared<HlsPlaylists>(std::vector{least->address}, playlist.names),
                                     fmt::format("the keyframes of {}", name),
                                     true});
    }
    // The group that the best pictures go with.
    for (auto& a : master.alternatives) {
        bool audio = a.kind == Kind::audio && a.group == variants.back().audio,
             text = a.kind == Kind::text && a.group == variants.back().text;
        if (!audio && !text) continue;
        Plan::Spoken spoken{0, a.name, a.language, a.is_default};
        if (!a.address.empty()) {
            spoken.track_group = plan.track_groups.size();
            Rung rung;
            rung.id = a.name;
            plan.track_groups.push_back({a.kind,
                                         {rung},
                                         std::make_shared<HlsPlaylists>(std::vector{a.address}, playlist.names),
                                         fmt::format("the {} “{}” of {}", audio ? "sound" : "captions", a.name, name)});
        } else if (audio) {
            plan.audio_within = plan.audio_tracks.size();
        } else {
            continue;
        }
        (audio ? plan.audio_tracks : plan.texts).push_back(std::move(spoken));
    }
    return plan;
}

}  // namespace ruedo::stream
