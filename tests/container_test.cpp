// SPDX-License-Identifier: Apache-2.0
// Every container against the exact facts of clips that others wrote, and our writers against our readers.
#include "demo/clips.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
std::vector<Time> frame_times(Clip& clip, const Track& track) {
    std::vector<Time> times;
    auto reader = clip.reader(track.id);
    PacketHead head;
    while (value(reader->next(head)))
        if (head.pts >= track.start && head.pts < track.end) times.push_back(head.pts);
    std::sort(times.begin(), times.end());
    return times;
}
Time seconds(const nlohmann::json& j) { return {static_cast<std::int64_t>(std::llround(j.get<double>() * 1e9))}; }
}  // namespace

TEST_CASE("Every fixture is what its maker says", "[container]") {
    for (auto& name : playable()) {
        DYNAMIC_SECTION(name) {
            auto& wanted = facts(name);
            auto clip = open(name);
            auto& info = clip->info();
            auto container = wanted["container"].get<std::string>();
            CHECK(info.container == container.substr(0, container.find('-')));
            std::size_t i = 0;
            for (auto& t : wanted["tracks"]) {
                REQUIRE(i < info.tracks.size());
                auto& track = info.tracks[i++];
                auto scanned = value(scan_track(*clip, track));
                if (t["type"] == "video") {
                    REQUIRE(track.kind == Kind::video);
                    CHECK(track.video.display_width() == t["display"][0]);
                    CHECK(track.video.display_height() == t["display"][1]);
                    CHECK(track.video.width == t["coded"][0]);
                    CHECK(track.video.rotation == t["rotation"]);
                    auto times = frame_times(*clip, track);
                    std::vector<std::int64_t> got;
                    for (auto time : times) got.push_back(time.ns);
                    CHECK(got == t["pts_ns"].get<std::vector<std::int64_t>>());
                    CHECK(scanned.frame_count == t["pts_ns"].size());
                    // Counted in order: every picture has the number of its time, until the next one's.
                    auto counted = value(frame_times(*clip->reader(track.id), track));
                    CHECK(counted.all == times);
                    CHECK(counted.keyframes == scanned.keyframe_times);
                    for (std::size_t n = 0; n < times.size(); ++n) {
                        CHECK(counted.number_at(times[n]) == n);
                        CHECK(counted.number_at(times[n] - 1_ns) == (n ? n - 1 : 0));
                    }
                    if (t["fps"] == "vfr")
                        CHECK_FALSE(scanned.frame_rate.stated());
                    else
                        CHECK(scanned.frame_rate == Rational{std::stoll(t["fps"].get<std::string>()), 1});
                    // Keyframes are told by frame number; the first shown ones may lie before an edit's start.
                    auto numbers = t["index"].get<std::vector<int>>();
                    std::vector<Time> keys;
                    for (int k : t["keyframes"])
                        for (std::size_t n = 0; n < numbers.size(); ++n)
                            if (numbers[n] == k && (keys.empty() || times[n] > keys.back())) {
                                keys.push_back(times[n]);
                                break;
                            }
                    if (name.find("recorded") == std::string::npos)
                        CHECK(scanned.keyframe_times == keys);
                    else
                        CHECK(scanned.keyframe_times.size() == keys.size());
                    // Two recordings do not say their level (their recorder did): it is what their size needs.
                    if (t["codec"] == "vp09.00.41.08")
                        CHECK(track.codec_string == "vp09.00.21.08");
                    else
                        CHECK(track.codec_string == t["codec"]);
                } else if (t["type"] == "audio") {
                    REQUIRE(track.kind == Kind::audio);
                    CHECK(track.audio.rate == t["rate"]);
                    if (t.contains("channels")) CHECK(track.audio.channels == t["channels"]);
                    if (t.contains("start_s")) CHECK(std::abs((scanned.start - seconds(t["start_s"])).ns) < (2_ms).ns);
                }
            }
            if (wanted.contains("duration_s") && name.find("recorded") == std::string::npos)
                CHECK(std::abs((info.duration - seconds(wanted["duration_s"])).ns) < (25_ms).ns);
        }
    }
}

TEST_CASE("Languages come as BCP 47", "[container]") {
    auto clip = open("two_audio_languages.mkv");
    CHECK(clip->info().tracks.at(1).language == "en");
    CHECK(clip->info().tracks.at(2).language == "de");
    CHECK(bcp47_from_iso639("und").empty());
    CHECK(bcp47_from_iso639("gsw") == "gsw");
}

TEST_CASE("Seeking stands before the last keyframe at or before the time, in every fixture", "[container][seek]") {
    std::mt19937 random(5);
    for (auto& name : playable()) {
        auto clip = open(name);
        for (auto& track : clip->info().tracks) {
            if (track.kind != Kind::video || track.problem) continue;
            auto reader = clip->reader(track.id);
            std::vector<Time> keys;
            PacketHead head;
            while (value(reader->next(head)))
                if (head.keyframe) keys.push_back(head.pts);
            REQUIRE_FALSE(keys.empty());
            for (int i = 0; i < 60; ++i) {
                Time t{static_cast<std::int64_t>(random() % 6'500) * 1'000'000};
                auto expected = std::upper_bound(keys.begin(), keys.end(), t);
                auto key = expected == keys.begin() ? keys.front() : *std::prev(expected);
                done(reader->seek(t));
                REQUIRE(value(reader->next(head)));
                INFO(name << " at " << format_time(t));
                CHECK(head.keyframe);
                CHECK(head.pts == key);
            }
        }
    }
}

TEST_CASE("The picture at a time is the last with time <= t, whatever the order of packets", "[container]") {
    std::mt19937 random(6);
    for (auto name : {"h264_high_aac.mp4", "h264_high_vorbis.mkv", "vfr_h264.mp4", "negative_ctts.mp4",
                      "edit_skip_500ms.mp4", "frag_no_sidx.mp4", "vp9_opus.webm", "live_unknown_sizes.webm",
                      "theora_vorbis.ogv", "h264_aac.ts", "pts_wrap.ts", "mjpeg_pcm.avi"}) {
        auto clip = open(name);
        auto& track = *clip->info().main(Kind::video);
        auto times = frame_times(*clip, track);
        auto reader = clip->reader(track.id);
        for (int i = 0; i < 40; ++i) {
            Time t{static_cast<std::int64_t>(random()) % 7'000'000'000};
            auto after = std::upper_bound(times.begin(), times.end(), t);
            auto expected = after == times.begin() ? times.front() : *std::prev(after);
            INFO(name << " at " << t.ns);
            CHECK(value(frame_time_at(*reader, track, t)) == expected);
        }
        for (auto t : times) CHECK(value(frame_time_at(*reader, track, t)) == t);
    }
}

TEST_CASE("An index at the front, at the end, in fragments or nowhere tells the same pictures",
          "[container][isobmff]") {
    // The same drawn clip in several wrappings.
    auto reference = open("h264_high_aac.mp4");
    auto times = frame_times(*reference, *reference->info().main(Kind::video));
    for (auto name : {"frag_no_sidx.mp4", "h264_cbp_opus_frag.mp4", "negative_ctts.mp4"}) {
        auto clip = open(name);
        CHECK(frame_times(*clip, *clip->info().main(Kind::video)) == times);
    }
}

TEST_CASE("A wrong or doubled extension is a finding, not a failure", "[container]") {
    auto clip = open("clip.mp4.mkv");
    std::vector<std::string> codes;
    for (auto& f : clip->info().findings) codes.push_back(f.code);
    CHECK(std::count(codes.begin(), codes.end(), "wrong-extension") == 1);
    CHECK(std::count(codes.begin(), codes.end(), "doubled-extension") == 1);
    CHECK(clip->info().container == "mp4");
}

namespace {
demo::ClipSpec small(const std::string& file, Codec video, Codec audio) {
    demo::ClipSpec spec;
    spec.file = file, spec.video = video, spec.audio = audio;
    spec.width = 320, spec.height = 180, spec.seconds = 2, spec.keyframe_every = 15, spec.bitrate = 400'000;
    spec.draw = [](demo::Canvas& c, double t) {
        c.gradient({40, 50, 70}, {90, 80, 60});
        c.circle({160 + 60 * t, 90}, 20, {220, 200, 120});
    };
    spec.numbered = true;
    spec.sample = demo::burst;
    return spec;
}
}  // namespace

TEST_CASE("What our writers write, our readers read exactly", "[container]") {
    Folder folder;
    struct Kind_ {
        const char* file;
        Codec video, audio;
    };
    for (auto [file, video, audio] :
         {Kind_{"a.webm", Codec::vp9, Codec::opus}, Kind_{"b.webm", Codec::vp8, Codec::opus},
          Kind_{"c.mp4", Codec::h264, Codec::aac}, Kind_{"d.mp4", Codec::vp9, Codec::opus}}) {
        INFO(file);
        auto spec = small(file, video, audio);
        spec.pixel_aspect = {4, 3};
        done(demo::make_clip(spec, folder.path, CodecRegistry::standard()));
        CHECK(std::distance(fs::directory_iterator(folder.path), {}) >= 1);
        auto clip = value(open_clip(folder / file));
        auto& info = clip->info();
        CHECK(info.findings.empty());
        CHECK(std::abs((info.duration - 2_s).ns) < (2_ms).ns);
        auto& track = *info.main(Kind::video);
        CHECK(track.video.display_width() == 427);
        auto scanned = value(scan_track(*clip, track));
        CHECK(scanned.frame_count == 60);
        CHECK(scanned.frame_rate == Rational{30, 1});
        CHECK(scanned.start == Time{});
        CHECK(scanned.keyframe_times.size() >= 4);
        auto heard = value(scan_track(*clip, *info.main(Kind::audio)));
        CHECK(heard.start == Time{});
        CHECK(std::abs((heard.end - 2_s).ns) < (1_ms).ns);
    }
}

TEST_CASE("A clip rewrapped from reader to writer keeps every packet and every time", "[container]") {
    Folder folder;
    for (auto name : {"h264_high_aac.mp4", "negative_ctts.mp4", "rotate90.mp4", "av1_opus.mp4"}) {
        INFO(name);
        auto clip = open(name);
        auto writer = value(mp4_muxer(folder / name));
        std::vector<std::vector<std::pair<PacketHead, Bytes>>> packets;
        for (auto& track : clip->info().tracks) {
            MuxerTrack w;
            w.codec = track.codec, w.config = track.config, w.video = track.video, w.audio = track.audio;
            w.timescale = static_cast<std::uint32_t>(track.tick.den);
            value(writer->add(w));
            auto reader = clip->reader(track.id);
            PacketHead head;
            auto& list = packets.emplace_back();
            while (value(reader->next(head))) {
                Bytes data;
                done(reader->read(data));
                list.emplace_back(head, data);
            }
        }
        for (std::size_t t = 0; t < packets.size(); ++t) {
            // Decoding times: the presentation times in order, early enough to precede each picture's own.
            std::vector<Time> order;
            for (auto& [head, data] : packets[t]) order.push_back(head.pts);
            std::sort(order.begin(), order.end());
            Time lead{};
            for (std::size_t i = 0; i < order.size(); ++i) lead = std::max(lead, order[i] - packets[t][i].first.pts);
            for (std::size_t i = 0; i < order.size(); ++i) {
                auto& [head, data] = packets[t][i];
                done(writer->write(t, {head.pts, order[i] - lead, head.duration, head.keyframe, data}));
            }
        }
        done(writer->finish());
        auto again = value(open_clip(folder / name));
        for (std::size_t t = 0; t < packets.size(); ++t) {
            auto reader = again->reader(again->info().tracks.at(t).id);
            PacketHead head;
            Bytes data;
            for (auto& [wanted, bytes] : packets[t]) {
                REQUIRE(value(reader->next(head)));
                done(reader->read(data));
                REQUIRE(data == bytes);
                REQUIRE(std::abs((head.pts - wanted.pts).ns) <= 1);
                REQUIRE(head.keyframe == wanted.keyframe);
            }
            CHECK_FALSE(value(reader->next(head)));
        }
        CHECK(again->info().main(Kind::video)->video.rotation == clip->info().main(Kind::video)->video.rotation);
    }
}

TEST_CASE("When pictures are shown, which one stands at a time, and the keyframe near it are told from heads alone",
          "[container]") {
    std::mt19937 random(19);
    for (auto& name : playable()) {
        const nlohmann::json* wanted = nullptr;
        for (auto& t : facts(name)["tracks"])
            if (t["type"] == "video") wanted = &t;
        if (!wanted) continue;
        INFO(name);
        auto clip = open(name);
        auto& track = *clip->info().main(Kind::video);
        auto reader = clip->reader(track.id);
        auto times = value(frame_times(*reader, track));
        std::vector<std::int64_t> shown;
        for (auto t : times.all) shown.push_back(t.ns);
        CHECK(shown == (*wanted)["pts_ns"].get<std::vector<std::int64_t>>());
        REQUIRE(!times.keyframes.empty());
        CHECK(std::ranges::is_sorted(times.keyframes));
        CHECK(std::ranges::includes(times.all, times.keyframes));
        for (int i = 0; i < 20; ++i) {
            Time t{static_cast<std::int64_t>(random() % 8'000'000'000) - 500'000'000};
            std::size_t at = 0;
            for (std::size_t n = 0; n < times.all.size(); ++n)
                if (times.all[n] <= t) at = n;
            CHECK(times.number_at(t) == at);
            CHECK(value(frame_time_at(*reader, track, t)) == times.all[at]);
            auto away = [&](Time key) { return std::abs((key - t).ns); };
            auto near = value(keyframe_time_near(*reader, track, t));
            for (auto key : times.keyframes) CHECK(away(near) <= away(key));
            // One before the window stands at its edge.
            CHECK((std::ranges::count(times.keyframes, near) == 1 || near == track.start));
        }
    }
}
