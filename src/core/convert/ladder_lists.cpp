// SPDX-License-Identifier: Apache-2.0
#include "convert/ladder_lists.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace ruedo {
namespace fs = std::filesystem;
namespace {
std::uint64_t peak(const std::vector<WrittenSegment>& segments) {
    std::uint64_t most = 0;
    for (auto& s : segments)
        if (s.duration.ns > 0)
            most = std::max(
                most, static_cast<std::uint64_t>(std::ceil(static_cast<double>(s.bytes) * 8 / s.duration.seconds())));
    return most;
}
std::uint64_t mean(const std::vector<WrittenSegment>& segments) {
    std::uint64_t bytes = 0;
    Time length{};
    for (auto& s : segments) bytes += s.bytes, length += s.duration;
    return length.ns > 0 ? static_cast<std::uint64_t>(std::ceil(static_cast<double>(bytes) * 8 / length.seconds())) : 0;
}
/// Exact to the microsecond, which five decimals would not be.
std::string seconds(Time t) {
    auto us = (t.ns + 500) / 1000;
    return fmt::format("{}.{:06}", us / 1'000'000, us % 1'000'000);
}
std::int64_t target(const std::vector<WrittenSegment>& segments) {
    std::int64_t most = 1;
    for (auto& s : segments) most = std::max(most, (s.duration + 500_ms).ns / 1'000'000'000);
    return most;
}
Status put(const fs::path& path, const std::string& text) {
    return write_file(path, ByteView(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()),
                      Replace::nothing);
}
std::string escaped(std::string_view s) {
    std::string out;
    for (auto c : s) {
        if (c == '&')
            out += "&amp;";
        else if (c == '<')
            out += "&lt;";
        else if (c == '"')
            out += "&quot;";
        else
            out += c;
    }
    return out;
}
std::string stamp(Time t) {
    auto ms = t.ns / 1'000'000;
    return fmt::format("{:02}:{:02}:{:02}.{:03}", ms / 3'600'000, ms / 60'000 % 60, ms / 1000 % 60, ms % 1000);
}
}  // namespace

std::uint64_t LadderLists::bandwidth(const Row& row, bool in_fragments) const {
    return peak(row.of(in_fragments)) + (audio ? peak(audio->of(in_fragments)) : 0);
}
std::uint64_t LadderLists::average(const Row& row, bool in_fragments) const {
    return mean(row.of(in_fragments)) + (audio ? mean(audio->of(in_fragments)) : 0);
}
std::string LadderLists::codecs(const Row& row) const { return row.codecs + (audio ? "," + audio->codecs : ""); }

std::string LadderLists::segment_list(const std::vector<WrittenSegment>& segments, bool map, bool keys_alone) const {
    std::string out = fmt::format(
        "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:{}\n#EXT-X-MEDIA-SEQUENCE:1\n"
        "#EXT-X-PLAYLIST-TYPE:VOD\n",
        target(segments));
    out += keys_alone ? "#EXT-X-I-FRAMES-ONLY\n" : "#EXT-X-INDEPENDENT-SEGMENTS\n";
    if (map) out += "#EXT-X-MAP:URI=\"init.mp4\"\n";
    if (encrypted) out += "#EXT-X-KEY:METHOD=AES-128,URI=\"../../key\"\n";
    for (auto& s : segments) {
        out += fmt::format("#EXTINF:{},\n", seconds(s.duration));
        if (keys_alone) out += fmt::format("#EXT-X-BYTERANGE:{}@0\n", s.key_bytes);
        out += s.file + "\n";
    }
    return out + "#EXT-X-ENDLIST\n";
}

std::string LadderLists::master(bool in_fragments) const {
    std::string out = "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-INDEPENDENT-SEGMENTS\n";
    auto form = in_fragments ? "m4s" : "ts";
    // Each of a group has a name of its own (RFC 8216 clause 4.3.4.1.1); what is no tag of a language is not stated.
    std::set<std::string> names;
    auto named = [&](const std::string& language, const std::string& otherwise) {
        bool known = is_language_tag(language);
        auto name = known ? language_title(language) : otherwise;
        for (auto [n, plain] = std::pair(2, name); !names.insert(name).second; ++n)
            name = fmt::format("{} {}", plain, n);
        return fmt::format("NAME=\"{}\",{}", name, known ? fmt::format("LANGUAGE=\"{}\",", language) : "");
    };
    if (audio)
        out += fmt::format(
            "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"sound\",{}DEFAULT=YES,AUTOSELECT=YES,CHANNELS=\"{}\","
            "URI=\"sound/{}/list.m3u8\"\n",
            named(audio->language, "Sound"), audio->channels, form);
    names.clear();
    for (std::size_t i = 0; i < texts.size(); ++i)
        out +=
            fmt::format("#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=\"text\",{}AUTOSELECT=YES,URI=\"text-{}/{}/list.m3u8\"\n",
                        named(texts[i].language, fmt::format("Captions {}", i + 1)), i + 1, form);
    for (auto& row : pictures) {
        out += fmt::format(
            "#EXT-X-STREAM-INF:BANDWIDTH={},AVERAGE-BANDWIDTH={},CODECS=\"{}\",RESOLUTION={}x{},FRAME-RATE={:.3f},"
            "STABLE-VARIANT-ID=\"{}\"{}{}\n{}/{}/list.m3u8\n",
            bandwidth(row, in_fragments), average(row, in_fragments), codecs(row), row.width, row.height, rate.about(),
            row.name, audio ? ",AUDIO=\"sound\"" : "", texts.empty() ? "" : ",SUBTITLES=\"text\"", row.name, form);
    }
    // Parts of what is encrypted as a whole can't be read.
    for (auto& row : pictures) {
        if (encrypted) break;
        auto& segments = row.of(in_fragments);
        std::uint64_t most = 0;
        for (auto& s : segments)
            if (s.duration.ns > 0)
                most = std::max(
                    most, static_cast<std::uint64_t>(static_cast<double>(s.key_bytes) * 8 / s.duration.seconds()));
        out += fmt::format(
            "#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH={},CODECS=\"{}\",RESOLUTION={}x{},URI=\"{}/{}/keys.m3u8\"\n", most + 1,
            row.codecs, row.width, row.height, row.name, form);
    }
    return out;
}

std::string LadderLists::manifest() const {
    Time length{};
    for (auto& s : pictures[0].fragments) length += s.duration;
    std::string out = fmt::format(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" "
        "type=\"static\" mediaPresentationDuration=\"PT{}S\" minBufferTime=\"PT{}S\" "
        "profiles=\"urn:mpeg:dash:profile:isoff-live:2011\">\n  <Period>\n",
        seconds(length), target(pictures[0].fragments));
    auto timeline = [](const std::vector<WrittenSegment>& segments) {
        std::string t =
            "      <SegmentTemplate timescale=\"1000000\" startNumber=\"1\" "
            "initialization=\"$RepresentationID$/m4s/init.mp4\" media=\"$RepresentationID$/m4s/$Number$.m4s\">\n"
            "        <SegmentTimeline>\n";
        auto us = [](Time v) { return (v.ns + 500) / 1000; };
        for (std::size_t i = 0; i < segments.size();) {
            auto start = us(segments[i].start);
            auto lasts = [&](std::size_t k) {
                return us(segments[k].start + segments[k].duration) - us(segments[k].start);
            };
            std::size_t run = 1;
            while (i + run < segments.size() && lasts(i + run) == lasts(i)) ++run;
            t += fmt::format("          <S t=\"{}\" d=\"{}\"", std::max<std::int64_t>(0, start), lasts(i));
            if (run > 1) t += fmt::format(" r=\"{}\"", run - 1);
            t += "/>\n";
            i += run;
        }
        return t + "        </SegmentTimeline>\n      </SegmentTemplate>\n";
    };
    out +=
        "    <AdaptationSet contentType=\"video\" mimeType=\"video/mp4\" segmentAlignment=\"true\" "
        "startWithSAP=\"1\">\n";
    out += timeline(pictures[0].fragments);
    for (auto& row : pictures)
        out += fmt::format(
            "      <Representation id=\"{}\" bandwidth=\"{}\" codecs=\"{}\" width=\"{}\" height=\"{}\" "
            "frameRate=\"{}/{}\"/>\n",
            escaped(row.name), peak(row.fragments), escaped(row.codecs), row.width, row.height, rate.num, rate.den);
    out += "    </AdaptationSet>\n";
    if (audio) {
        auto language = is_language_tag(audio->language) ? fmt::format(" lang=\"{}\"", audio->language) : "";
        out += fmt::format(
            "    <AdaptationSet contentType=\"audio\" mimeType=\"audio/mp4\" segmentAlignment=\"true\"{}>\n", language);
        out += timeline(audio->fragments);
        out += fmt::format("      <Representation id=\"{}\" bandwidth=\"{}\" codecs=\"{}\"/>\n    </AdaptationSet>\n",
                           escaped(audio->name), peak(audio->fragments), escaped(audio->codecs));
    }
    for (std::size_t i = 0; i < texts.size(); ++i) {
        auto language = is_language_tag(texts[i].language) ? fmt::format(" lang=\"{}\"", texts[i].language) : "";
        out += fmt::format(
            "    <AdaptationSet contentType=\"text\" mimeType=\"text/vtt\"{}>\n      <Representation id=\"text-{}\" "
            "bandwidth=\"1000\"><BaseURL>text-{}/all.vtt</BaseURL></Representation>\n    </AdaptationSet>\n",
            language, i + 1, i + 1);
    }
    return out + "  </Period>\n</MPD>\n";
}

Status LadderLists::write(const fs::path& folder, bool dash) const {
    for (bool in_fragments : {true, false}) {
        if (in_fragments ? !fragments : !transport) continue;
        auto form = in_fragments ? "m4s" : "ts";
        for (auto& row : pictures) {
            RUEDO_TRY_DO(
                put(folder / row.name / form / "list.m3u8", segment_list(row.of(in_fragments), in_fragments, false)));
            if (!encrypted)
                RUEDO_TRY_DO(put(folder / row.name / form / "keys.m3u8",
                                 segment_list(row.of(in_fragments), in_fragments, true)));
        }
        if (audio)
            RUEDO_TRY_DO(
                put(folder / "sound" / form / "list.m3u8", segment_list(audio->of(in_fragments), in_fragments, false)));
        for (std::size_t i = 0; i < texts.size(); ++i) {
            auto place = folder / fmt::format("text-{}", i + 1) / form;
            std::error_code ec;
            fs::create_directories(place, ec);
            std::string list = fmt::format(
                "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:{}\n#EXT-X-MEDIA-SEQUENCE:1\n"
                "#EXT-X-PLAYLIST-TYPE:VOD\n",
                target(pictures[0].of(in_fragments)));
            for (auto& s : pictures[0].of(in_fragments)) {
                // A transport stream of ours has its first picture at one second of its clock.
                std::string text =
                    fmt::format("WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:{},LOCAL:00:00:00.000\n", in_fragments ? 0 : 90000);
                for (auto& cue : texts[i].cues.list)
                    if (cue.end > s.start && cue.start < s.start + s.duration)
                        text += fmt::format("\n{} --> {} {}\n{}\n", stamp(cue.start), stamp(cue.end), cue_settings(cue),
                                            cue_text(cue, true));
                auto name = s.file.substr(0, s.file.find('.')) + ".vtt";
                RUEDO_TRY_DO(put(place / name, text));
                list += fmt::format("#EXTINF:{},\n{}\n", seconds(s.duration), name);
            }
            RUEDO_TRY_DO(put(place / "list.m3u8", list + "#EXT-X-ENDLIST\n"));
        }
        RUEDO_TRY_DO(
            put(folder / (in_fragments || !fragments ? "master.m3u8" : "master-ts.m3u8"), master(in_fragments)));
    }
    if (!dash) return {};
    for (std::size_t i = 0; i < texts.size(); ++i) {
        std::string text = "WEBVTT\n";
        for (auto& cue : texts[i].cues.list)
            text += fmt::format("\n{} --> {} {}\n{}\n", stamp(cue.start), stamp(cue.end), cue_settings(cue),
                                cue_text(cue, true));
        RUEDO_TRY_DO(put(folder / fmt::format("text-{}", i + 1) / "all.vtt", text));
    }
    return put(folder / "manifest.mpd", manifest());
}

}  // namespace ruedo
