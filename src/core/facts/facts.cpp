// SPDX-License-Identifier: Apache-2.0
#include "facts/facts.h"

#include <ebur128.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "media/mpeg_video.h"
#include "playback/playback.h"
#include "sound/sound.h"

namespace ruedo {
namespace {

constexpr std::size_t most_bins = 1200;
constexpr Time heard_wholly = 1200_s;
constexpr std::size_t stretches = 240;
constexpr std::uint64_t looked_at_of_endless = 2 << 20;

Error given_up() { return {ErrorCode::cancelled, "Looking into the source was given up.", "Choose it again."}; }

/// Sizes and times of all packets, in bins and in seconds.
struct Census {
    Time bin;
    std::vector<FactsBin>& bins;
    std::vector<std::uint64_t> seconds;
    void add(Time at, std::uint64_t bytes) {
        auto t = std::max(at, Time{});
        auto b = std::min<std::size_t>(static_cast<std::size_t>(t.ns / bin.ns), bins.size() - 1);
        bins[b].bytes += bytes;
        auto s = std::min<std::size_t>(static_cast<std::size_t>(t.ns / 1'000'000'000), 1U << 20);
        if (s >= seconds.size()) seconds.resize(s + 1);
        seconds[s] += bytes;
    }
};

std::string rate_words(const TrackFacts& f) {
    if (!f.frame_rate.stated()) return "at a rate that varies";
    if (f.frame_rate.den == 1) return fmt::format("at {} pictures a second", f.frame_rate.num);
    return fmt::format("at {}/{} pictures a second", f.frame_rate.num, f.frame_rate.den);
}
std::string bytes_words(double bytes) {
    return bytes >= 1e9   ? fmt::format("{:.2f} GB", bytes / 1e9)
           : bytes >= 1e6 ? fmt::format("{:.2f} MB", bytes / 1e6)
                          : fmt::format("{:.0f} kB", std::max(1.0, bytes / 1e3));
}
std::string bitrate_words(double bits) {
    return bits >= 1e6 ? fmt::format("{:.2f} Mbit/s", bits / 1e6) : fmt::format("{:.0f} kbit/s", bits / 1e3);
}
void tell(SourceFacts& f, const Track* video, const TrackFacts* vf, const Track* audio) {
    std::string what = video && audio ? "Pictures and sound"
                       : video        ? "Pictures without sound"
                       : audio        ? "Sound without pictures"
                                      : "Nothing that plays";
    f.first_sentence = fmt::format("{} in {}, {} long, {} ({} on average).", what, container_title(f.info.container),
                                   f.duration.ns ? format_time(f.duration) : "of unknown length",
                                   bytes_words(static_cast<double>(f.info.bytes)), bitrate_words(f.mean_bitrate));
    std::string second;
    if (video) {
        auto& v = video->video;
        second = fmt::format("{} of {} × {} {}", codec_title(video->codec), v.display_width(), v.display_height(),
                             rate_words(*vf));
        if (v.pixel_aspect.stated() && v.pixel_aspect.num != v.pixel_aspect.den)
            second += fmt::format(", from pixels of {} to {}", v.pixel_aspect.num, v.pixel_aspect.den);
        if (v.rotation) second += fmt::format(", turned by {}° clockwise", v.rotation);
    }
    if (audio)
        second +=
            fmt::format("{}{} at {} Hz with {} channel{}", second.empty() ? "" : ", with ", codec_title(audio->codec),
                        audio->audio.rate, audio->audio.channels, audio->audio.channels == 1 ? "" : "s");
    f.second_sentence = second.empty() ? "No track of it can be played here." : second + ".";
}

/// Whether MPEG video says that its pictures are of two moments each. MPEG-2 says it with every picture, and film among
/// them is of one; so some of the first ones are looked at.
bool in_fields(Clip& clip, const Track& track) {
    if (track.codec == Codec::mpeg4) {
        auto config = parse_mpeg4_config(track.config);
        return config && config->in_fields;
    }
    auto sequence = track.codec == Codec::mpeg2 ? parse_mpeg_sequence(track.config) : std::nullopt;
    if (!sequence || sequence->progressive) return false;
    auto reader = clip.reader(track.id);
    PacketHead head;
    Bytes data;
    for (int i = 0; i < 60 && reader->next(head).value_or(false) && reader->read(data); ++i)
        if (auto picture = parse_mpeg_picture(data, false); picture && picture->in_fields) return true;
    return false;
}

void find(SourceFacts& f, const Track* video, const TrackFacts* vf, const Track* audio, const TrackFacts* af,
          const std::string& address, bool counted) {
    auto add = [&](const char* code, std::string sentence, std::string hint) {
        f.findings.push_back({code, std::move(sentence), std::move(hint)});
    };
    if (address.starts_with("http://"))
        add("clear-text",
            fmt::format("“{}” comes over an address without encryption, which handsets refuse by default.",
                        f.info.name),
            "Serve it over https.");
    for (auto& t : f.info.tracks)
        if (t.problem)
            add(t.problem->code == ErrorCode::depth_unsupported    ? "bit-depth"
                : t.problem->code == ErrorCode::chroma_unsupported ? "chroma"
                                                                   : "track-unplayable",
                t.problem->sentence, t.problem->hint);
    if (video) {
        auto& v = video->video;
        if (v.width % 2 || v.height % 2)
            add("odd-size",
                fmt::format("The picture is {} × {}; many encoders and handsets want even sizes.", v.width, v.height),
                fmt::format("Crop or scale it to {} × {}.", v.width & ~1, v.height & ~1));
        if (v.pixel_aspect.stated() && v.pixel_aspect.num != v.pixel_aspect.den)
            add("non-square-pixels",
                fmt::format("Pixels are {} to {}: {} × {} is to be shown as {} × {}.", v.pixel_aspect.num,
                            v.pixel_aspect.den, v.width, v.height,
                            v.rotation % 180 ? v.display_height() : v.display_width(),
                            v.rotation % 180 ? v.display_width() : v.display_height()),
                "A player that ignores this shows it stretched; scale it to square pixels when a target does.");
        if (v.rotation)
            add("rotated", fmt::format("A flag says to turn the picture by {}° clockwise.", v.rotation),
                "A player that ignores the flag shows it lying down; turn the pictures themselves when a target does.");
        if (v.colour.matrix == Colour::Matrix::unspecified)
            add("no-colour-tags",
                fmt::format("Nothing says by which matrix its colours are coded; {} is assumed from its {} lines.",
                            v.height >= 720 ? "BT.709" : "BT.601", v.height),
                "Tag it when encoding, so that every player assumes the same.");
        if (vf->frame_count > 2 && !vf->frame_rate.stated())
            add("varying-rate", fmt::format("Its {} frames do not come at a constant rate.", vf->frame_count),
                "Nothing is wrong with that here; editors and some targets want a constant rate.");
        Time widest{}, at{};
        for (std::size_t i = 0; i <= f.keyframes.size() && !f.keyframes.empty(); ++i) {
            auto from = i == 0 ? vf->start : f.keyframes[i - 1],
                 to = i == f.keyframes.size() ? vf->end : f.keyframes[i];
            if (to - from > widest) widest = to - from, at = from;
        }
        if (widest > 5_s && counted)
            add("sparse-keyframes",
                fmt::format("From {} on there is no keyframe for {:.1f} s; a seek may have to decode all of that.",
                            format_time(at), widest.seconds()),
                "Encode with a keyframe at least every 2 s.");
        if (f.keyframes.empty() && vf->frame_count && counted)
            add("no-keyframes", "No frame is marked as a keyframe, so it can’t be entered anywhere but at its start.",
                "Encode it again.");
    }
    if (video && audio && counted) {
        auto late = af->start - vf->start;
        if (late > 100_ms)
            add("sound-late", fmt::format("Sound starts {:.2f} s after the pictures.", late.seconds()),
                "If that is not meant, shift or fill it.");
        auto apart = vf->end - af->end;
        if (std::abs(apart.ns) > (500_ms).ns)
            add("lengths-differ",
                fmt::format("{} end {:.2f} s before the {}.", apart.ns > 0 ? "Sound" : "Pictures",
                            std::abs(apart.seconds()), apart.ns > 0 ? "pictures" : "sound"),
                "If that is not meant, cut or fill the shorter one.");
    }
    if (counted && f.duration > 3_s && f.peak_bitrate > 3 * f.mean_bitrate && f.peak_bitrate > 1e6)
        add("bitrate-peaks",
            fmt::format("At its densest second it takes {}, {:.1f} times its average.", bitrate_words(f.peak_bitrate),
                        f.peak_bitrate / f.mean_bitrate),
            "Cap the rate when encoding, or a link that carries the average will stall there.");
}

struct Meter {
    explicit Meter(int mode) : state(ebur128_init(mix_channels, mix_rate, mode)) {}
    ~Meter() { ebur128_destroy(&state); }
    Meter(const Meter&) = delete;
    Meter& operator=(const Meter&) = delete;
    ebur128_state* state;
};

}  // namespace

std::optional<double> loudness_of(AudioReader& reader, Time to, const std::atomic<bool>* cancel) {
    Meter meter(EBUR128_MODE_I);
    while (meter.state && !(cancel && *cancel)) {
        auto block = reader.next();
        if (!block || !*block || (*block)->pts >= to) break;
        ebur128_add_frames_float(meter.state, (*block)->samples.data(), (*block)->frames());
    }
    double lufs = 0;
    if (!meter.state || ebur128_loudness_global(meter.state, &lufs) != EBUR128_SUCCESS || !std::isfinite(lufs))
        return std::nullopt;
    return lufs;
}

namespace {
Status hear(SourceFacts& f, std::shared_ptr<Clip> clip, const Track& audio, CodecRegistry& codecs,
            const FactsOptions& options) {
    RUEDO_TRY(auto reader, AudioReader::open(std::move(clip), audio, codecs));
    Meter meter(EBUR128_MODE_I | EBUR128_MODE_LRA | EBUR128_MODE_S | EBUR128_MODE_SAMPLE_PEAK);
    if (!meter.state) return fail(ErrorCode::limit, "There is no memory to measure loudness.");
    auto mark = [&](Time at) {
        double lufs = 0;
        if (ebur128_loudness_shortterm(meter.state, &lufs) != EBUR128_SUCCESS || !std::isfinite(lufs)) lufs = -70;
        auto b = static_cast<std::size_t>(std::max<std::int64_t>(0, at.ns) / f.bin.ns);
        if (b < f.bins.size()) f.bins[b].loudness = std::max(lufs, -70.0);
    };
    Loudness total;
    auto feed = [&](const AudioBlock& block) {
        ebur128_add_frames_float(meter.state, block.samples.data(), block.frames());
    };
    if (f.duration <= heard_wholly) {
        Time next{};
        for (;;) {
            if (options.cancel && *options.cancel) return std::unexpected(given_up());
            RUEDO_TRY(auto block, reader->next());
            if (!block) break;
            feed(*block);
            if (block->pts >= next) mark(block->pts - std::min(block->pts, 1500_ms)), next += f.bin;
        }
        for (auto at = f.duration - std::min(f.duration, 1500_ms); at <= f.duration; at += f.bin) mark(at);
    } else {
        total.samples_of = stretches;
        for (std::size_t i = 0; i < stretches; ++i) {
            auto at = f.duration / static_cast<std::int64_t>(stretches) * static_cast<std::int64_t>(i);
            RUEDO_TRY_DO(reader->seek(at));
            for (Time heard{}; heard < 3_s;) {
                if (options.cancel && *options.cancel) return std::unexpected(given_up());
                RUEDO_TRY(auto block, reader->next());
                if (!block) break;
                feed(*block);
                heard += ticks_to_time(static_cast<std::int64_t>(block->frames()), 1, mix_rate);
            }
            mark(at);
        }
    }
    ebur128_loudness_global(meter.state, &total.integrated);
    ebur128_loudness_range(meter.state, &total.range);
    double peak = 0;
    for (unsigned c = 0; c < mix_channels; ++c) {
        double v = 0;
        ebur128_sample_peak(meter.state, c, &v);
        peak = std::max(peak, v);
    }
    total.peak = peak > 0 ? 20 * std::log10(peak) : -120;
    if (!std::isfinite(total.integrated)) total.integrated = -70;
    f.loudness = total;
    if (total.integrated <= -69.5)
        f.findings.push_back({"silent", "The sound track is silent from beginning to end.",
                              "If that is not meant, export it with its sound."});
    else if (peak > 1.0)
        f.findings.push_back({"overloud",
                              fmt::format("Sound goes {:.1f} dB beyond full scale, where it is clipped.", total.peak),
                              "Lower it before encoding."});
    return {};
}
}  // namespace

namespace {
/// What the lists and what was fetched say of a stream.
void find_in_stream(SourceFacts& f) {
    auto& s = *f.stream;
    for (auto& r : s.rungs)
        if (r.bandwidth > 0 && r.measured_peak > r.bandwidth + r.bandwidth / 50)
            f.findings.push_back({"over-bandwidth",
                                  fmt::format("A segment of {} takes {}, {:.1f} times the most that is stated.",
                                              r.title(), bitrate_words(static_cast<double>(r.measured_peak)),
                                              static_cast<double>(r.measured_peak) / static_cast<double>(r.bandwidth)),
                                  "State what its heaviest segment takes, or a link that just carries it will stall."});
    if (s.live) return;
    for (std::size_t i = 1; i < s.rungs.size(); ++i) {
        auto &a = s.rungs[0].starts, &b = s.rungs[i].starts;
        if (a.empty() || b.empty()) continue;
        auto apart = std::mismatch(a.begin(), a.end(), b.begin(), b.end(),
                                   [](Time x, Time y) { return std::abs((x - y).ns) < (50_ms).ns; });
        if (apart.first == a.end() && apart.second == b.end()) continue;
        auto at = apart.second != b.end() ? *apart.second : b.back();
        f.findings.push_back(
            {"rungs-apart",
             fmt::format("From {} on the segments of {} and {} do not begin together, so changing between "
                         "them fetches the same stretch twice.",
                         format_time(at), s.rungs[0].title(), s.rungs[i].title()),
             "Cut all rungs at the same keyframes."});
    }
}
void describe_stream(SourceFacts& f) {
    auto& s = *f.stream;
    auto rates = [&] {
        auto low = s.rungs.front().bits_a_second(), high = s.rungs.back().bits_a_second();
        if (low <= 0) return std::string();
        return s.rungs.size() == 1 ? fmt::format(" of {}", bitrate_words(low))
                                   : fmt::format(" from {} to {}", bitrate_words(low), bitrate_words(high));
    }();
    f.first_sentence =
        fmt::format("{} in {}{}: {} rung{}{}.", s.live ? "Live" : "A stream", container_title(f.info.container),
                    s.live ? std::string() : fmt::format(", {} long", format_time(f.duration)), s.rungs.size(),
                    s.rungs.size() == 1 ? "" : "s", rates);
    auto list = [](const std::vector<std::string>& all) { return fmt::format("{}", fmt::join(all, ", ")); };
    if (s.audio_tracks.size() > 1) f.second_sentence += fmt::format(" Sound in {}.", list(s.audio_tracks));
    if (!s.texts.empty()) f.second_sentence += fmt::format(" Captions in {}.", list(s.texts));
}
}  // namespace

Result<SourceFacts> gather_facts(std::shared_ptr<Clip> clip, CodecRegistry& codecs, const std::string& address,
                                 const FactsOptions& options) {
    ReadScope scope(options.cancel);
    SourceFacts f;
    f.info = clip->info();
    f.info.tags.cover.clear();  // large, and no fact
    if (f.info.live && f.info.container == "camera") {
        // There is nothing to walk: a live source is what it is now.
        for (auto& t : f.info.tracks) {
            f.tracks.push_back({});
            f.second_sentence =
                fmt::format("{} of {} × {}, {}.", codec_title(t.codec), t.video.width, t.video.height, t.codec_tag);
        }
        f.first_sentence =
            fmt::format("Live pictures from “{}”; they have no end, and no other place can be sought.", f.info.name);
        return f;
    }
    f.findings = f.info.findings;
    bool streamed = clip->stream().has_value();
    if (streamed) RUEDO_TRY_DO(clip->survey());
    auto part = streamed && (!options.whole || f.info.live);
    bool endless = f.info.live && !streamed, overlong = false;
    // What comes without a size may go on for ever behind the length that it states.
    auto coming = clip->fetched();
    auto enough = coming && !coming->of && f.info.duration_known ? f.info.duration + 5_s : Time::max();
    // What is walked is not known to be longer than this; the last bin takes the rest.
    auto length = f.info.duration_known && f.info.duration.ns > 0 ? f.info.duration : 3600_s;
    f.bin = std::max(100_ms, length / static_cast<std::int64_t>(most_bins) + 1_ns);
    f.bins.resize(static_cast<std::size_t>(length.ns / f.bin.ns) + 1);
    for (std::size_t i = 0; i < f.bins.size(); ++i) f.bins[i].at = f.bin * static_cast<std::int64_t>(i);
    Census census{f.bin, f.bins, {}};
    std::uint64_t bytes = 0;
    for (auto& track : f.info.tracks) {
        RUEDO_TRY(auto facts, scan_track(*clip, track, [&](const PacketHead& head) {
                      census.add(head.pts, head.size);
                      bytes += head.size;
                      if (part && head.pts > clip->begins().value_or(Time{}) + 5_s) return false;
                      // Of what may have no end, a first part is looked at.
                      if (endless && (bytes > looked_at_of_endless || head.pts > 5_s)) return false;
                      if (head.pts > enough) return !(overlong = true);
                      return !ReadScope::given_up();
                  }));
        if (part && !f.info.live) facts.end = std::max(facts.end, f.info.duration);
        if (track.kind == Kind::video || track.kind == Kind::audio) f.duration = std::max(f.duration, facts.end);
        f.tracks.push_back(std::move(facts));
    }
    if (ReadScope::given_up()) return std::unexpected(given_up());
    if (endless || overlong)
        f.findings.push_back(
            {"no-end",
             fmt::format("“{}” {}; its first {:.1f} s were looked at.", f.info.name,
                         overlong ? "goes on behind the length that it states" : "states no end", f.duration.seconds()),
             "It plays while it arrives; seeking is not possible."});
    f.stream = clip->stream();
    // Of what was not fetched the lists say what it weighs, about.
    if (part && !f.info.live)
        bytes = static_cast<std::uint64_t>(f.stream->rungs.back().bits_a_second() / 8 * f.duration.seconds());
    while (f.bins.size() > 1 && f.bins.back().at > f.duration) f.bins.pop_back();
    if (f.info.bytes == 0) f.info.bytes = bytes;
    if (f.duration.ns > 0) f.mean_bitrate = static_cast<double>(bytes) * 8 / f.duration.seconds();
    for (auto s : census.seconds) f.peak_bitrate = std::max(f.peak_bitrate, static_cast<double>(s) * 8);
    auto chosen = select_tracks(f.info, codecs);
    auto* video = chosen ? chosen->video : nullptr;
    auto* audio = chosen ? chosen->audio : nullptr;
    auto facts_of = [&](const Track* t) -> const TrackFacts* {
        return t ? &f.tracks[static_cast<std::size_t>(t - f.info.tracks.data())] : nullptr;
    };
    if (video) f.keyframes = facts_of(video)->keyframe_times;
    tell(f, video, facts_of(video), audio);
    if (streamed) describe_stream(f), find_in_stream(f);
    find(f, video, facts_of(video), audio, facts_of(audio), address, !part);
    if (audio && !streamed)
        if (auto decoder = codecs.audio_decoder(*audio); !decoder)
            f.findings.push_back({"sound-missing", decoder.error().sentence, decoder.error().hint});
    if (video && !f.info.live && !streamed && in_fields(*clip, *video))
        f.findings.push_back({"interlaced",
                              "Its pictures are interlaced: every other line is of another moment, so what moves shows "
                              "combed edges, and scaling smears them.",
                              "Deinterlace it where it comes from; nothing here takes the moments apart."});
    if (options.so_far) options.so_far(f);
    if (options.loudness && audio && !f.info.live && !part)
        if (auto heard = hear(f, std::move(clip), *audio, codecs, options);
            !heard && heard.error().code == ErrorCode::cancelled)
            return std::unexpected(heard.error());
    return f;
}

}  // namespace ruedo
