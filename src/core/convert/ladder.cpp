// SPDX-License-Identifier: Apache-2.0
#include "convert/ladder.h"

#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <fstream>
#include <nlohmann/json.hpp>
#include <random>
#include <thread>

#include "base/bounded.h"
#include "container/container.h"
#include "container/segments.h"
#include "convert/compare.h"
#include "convert/ladder_lists.h"
#include "convert/streams.h"
#include "media/codec_headers.h"
#include "picture/reshape.h"
#include "stream/fetch.h"

namespace ruedo {
namespace fs = std::filesystem;

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
            return ec == std::errc{} && end == s.data() + s.size() && v >= 16 && v <= 8192 && v % 2 == 0;
        };
        double rate = 0;
        auto words = one.substr(at + 1);
        auto [end, ec] = std::from_chars(words.data(), words.data() + words.size(), rate);
        auto unit = std::string_view(end, static_cast<std::size_t>(words.data() + words.size() - end));
        rate *= unit == "M" ? 1e6 : unit == "k" ? 1e3 : 1;
        if (!whole(one.substr(0, cross), r.width) || !whole(one.substr(cross + 1, at - cross - 1), r.height) ||
            ec != std::errc{} || !(unit.empty() || unit == "M" || unit == "k") || !(rate >= 10e3 && rate <= 200e6))
            return std::nullopt;
        r.bitrate = static_cast<std::uint32_t>(rate);
        all.push_back(r);
        if (all.size() > 16) return std::nullopt;
    }
    return all.empty() ? std::nullopt : std::optional(all);
}

std::vector<RungSpec> propose_rungs(const VideoFormat& format, double pictures_a_second, std::size_t count) {
    std::vector<RungSpec> all;
    double w = format.display_width(), h = format.display_height();
    // No more than a screen of the largest usual kind shows.
    auto down = std::min(1.0, std::min(3840 / std::max(w, h), 2160 / std::min(w, h)));
    w *= down, h *= down;
    auto even = [](double v) { return std::max(16, static_cast<int>(std::lround(v / 2)) * 2); };
    auto rate_factor = std::sqrt(std::clamp(pictures_a_second, 10.0, 120.0) / 30);
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

namespace {

/// One rendition on its way: writers of fragments, of a transport stream, or of both, fed with the same packets.
struct Rendition {
    std::string name;
    fs::path folder;
    WriteTrack track;
    SegmentSink *fragments = nullptr, *transport = nullptr;  ///< Owned by their writers.
    std::unique_ptr<ClipWriter> fragment_writer, transport_writer;
    std::vector<Time> starts;  ///< Of its segments.
    Time end{};

    Outcome open(const LadderOptions& o, const Bytes& key) {
        std::error_code ec;
        auto seal = [key](std::uint64_t number, Bytes bytes) {
            return key.empty() ? bytes : stream::encrypt(bytes, key, stream::vector_of(number));
        };
        auto make = [&](const char* form, SegmentSink*& sink) -> Result<std::unique_ptr<ByteSink>> {
            auto place = folder / form;
            fs::create_directories(place, ec);
            if (ec) return std::unexpected(errno_error(ec.value(), fmt::format("Making “{}”", place.string())));
            auto made = std::make_unique<SegmentSink>(place, form, seal);
            sink = made.get();
            return made;
        };
        if (o.fragments) {
            TRY(auto sink, make("m4s", fragments));
            fragment_writer = write_mp4_segments(std::move(sink));
            TRY(auto ignored, fragment_writer->add(track));
            (void)ignored;
        }
        if (o.transport) {
            TRY(auto sink, make("ts", transport));
            transport_writer = write_mpegts(std::move(sink));
            TRY(auto ignored, transport_writer->add(track));
            (void)ignored;
        }
        return {};
    }
    /// `cut`: a segment begins with it.
    Outcome put(const WritePacket& p, bool cut) {
        // What comes before the beginning is decoded, and not heard.
        if (cut) starts.push_back(std::max(p.pts, Time{}));
        end = std::max(end, p.pts + p.duration);
        if (fragment_writer) {
            if (cut) fragment_writer->begins_segment();
            TRY_DO(fragment_writer->write(0, p));
        }
        if (transport_writer) {
            if (cut) TRY_DO(transport->cut(p.pts));
            if (cut) transport_writer->begins_segment();
            TRY_DO(transport_writer->write(0, p));
            if (cut) transport->key_ends();
        }
        return {};
    }
    Outcome finish() {
        if (fragment_writer) TRY_DO(fragment_writer->finish());
        if (transport_writer) TRY_DO(transport_writer->finish());
        for (auto* sink : {fragments, transport}) {
            if (!sink) continue;
            auto& made = sink->made();
            for (std::size_t i = 0; i < made.size() && i < starts.size(); ++i) {
                made[i].start = starts[i];
                made[i].duration = (i + 1 < starts.size() ? starts[i + 1] : end) - starts[i];
            }
        }
        return {};
    }
};

class Maker {
  public:
    Maker(const LadderOptions& options, CodecRegistry& codecs) : o_(options), codecs_(codecs) {}

    Result<LadderMade> make(const std::string& source) {
        auto begun = monotonic_now();
        std::error_code ec;
        if (o_.out.empty())
            return fail(Code::usage, "No folder is named for the ladder.", "Name one that is not there yet.");
        if (fs::exists(fs::symlink_status(o_.out, ec)))
            return fail(Code::exists, fmt::format("“{}” is already there.", o_.out.string()), "Choose another name.");
        if (o_.key && o_.dash)
            return fail(Code::refused, "A manifest can’t name the key that its segments are encrypted with here.",
                        "Make the ladder without one of the two.");
        if (o_.dash && !o_.fragments)
            return fail(Code::refused, "A manifest is made over fragments, and only a transport stream was asked for.",
                        "Ask for fragments, or for both.");
        if (o_.segment < 500_ms || o_.segment > 60_s)
            return fail(Code::usage, "A segment lasts from half a second to a minute.", "Four seconds are usual.");
        TRY(auto opened, open_clip(source));
        clip_ = std::move(opened);
        TRY(auto tracks, select_tracks_for(*clip_));
        auto* video = tracks.first;
        if (!video)
            return fail(Code::not_media, fmt::format("“{}” has no pictures.", clip_->info().name),
                        "Choose a clip with pictures.");
        TRY(auto facts, scan_track(*clip_, *video));
        rate_ =
            facts.frame_rate.stated()
                ? facts.frame_rate
                : Rational{std::max<std::int64_t>(1, std::llround(facts.pictures_a_second() * 1000)), 1000}.reduced();
        length_ = facts.end;
        frames_ = facts.frame_count;
        auto rungs = o_.rungs.empty()
                         ? propose_rungs(video->video, facts.pictures_a_second(), std::max<std::size_t>(1, o_.propose))
                         : o_.rungs;
        std::sort(rungs.begin(), rungs.end(), [](auto& a, auto& b) { return a.bitrate > b.bitrate; });
        // Made beside its place, and moved there once it is whole.
        auto work = o_.out.parent_path() / temporary_name(o_.out.filename().string());
        fs::create_directories(work, ec);
        if (ec) return std::unexpected(errno_error(ec.value(), fmt::format("Making “{}”", o_.out.string())));
        struct Gone {
            fs::path path;
            ~Gone() {
                std::error_code ignored;
                fs::remove_all(path, ignored);
            }
        } gone{work};
        if (o_.key) {
            std::random_device random;
            for (int i = 0; i < 16; ++i) key_.push_back(static_cast<std::uint8_t>(random()));
            TRY_DO(write_file(work / "key", key_, false));
        }
        TRY_DO(make_renditions(work, *video, tracks.second, rungs));
        TRY(auto made, write_lists(work));
        if (o_.measure) measure(source, work, made);
        TRY_DO(move_into_place(work, o_.out));
        made.path = o_.out;
        made.took = monotonic_now() - begun;
        made.speed = length_.seconds() / std::max(1e-9, made.took.seconds());
        return made;
    }

  private:
    Result<std::pair<const Track*, const Track*>> select_tracks_for(Clip& clip) {
        const Track *video = clip.info().main(Kind::video), *audio = clip.info().main(Kind::audio);
        for (auto& t : clip.info().tracks)
            if (t.kind == Kind::video && t.problem && !video) return std::unexpected(*t.problem);
        if (audio && (audio->problem || !codecs_.decodes(audio->codec))) audio = nullptr;
        return std::pair{video, audio};
    }

    /// Decodes once, and hands every picture to all rungs; each has a thread of its own that fits and encodes.
    Outcome make_renditions(const fs::path& work, const Track& video, const Track* audio,
                            const std::vector<RungSpec>& rungs) {
        struct Rung {
            RungSpec spec;
            Bounded<Picture> pictures{6};
            Rendition rendition;
            std::unique_ptr<VideoEncoder> encoder;
            Outcome outcome;
        };
        std::vector<std::unique_ptr<Rung>> all;
        // A whole number of pictures, and a keyframe with each segment's first.
        auto every = std::max(1, static_cast<int>(std::lround(o_.segment.seconds() * rate_.about())));
        for (auto& spec : rungs) {
            auto r = std::make_unique<Rung>();
            r->spec = spec;
            VideoEncodeOptions e;
            e.width = spec.width, e.height = spec.height, e.rate = rate_, e.bitrate = spec.bitrate;
            e.keyframe_every = every, e.b_frames = 2, e.effort = 0;
            e.colour = video.video.colour.resolved(video.video.height);
            TRY(r->encoder, codecs_.video_encoder(Codec::h264, e));
            auto& w = r->rendition.track;
            w.codec = Codec::h264, w.config = r->encoder->config();
            w.video.width = spec.width, w.video.height = spec.height, w.video.colour = e.colour;
            w.timescale = static_cast<std::uint32_t>(
                rate_.num < 10'000 ? rate_.num * ((10'000 + rate_.num - 1) / rate_.num) : rate_.num);
            r->rendition.name = rung_name(spec);
            for (auto& other : all)
                if (other->rendition.name == r->rendition.name) r->rendition.name += "-2";
            r->rendition.folder = work / r->rendition.name;
            TRY_DO(r->rendition.open(o_, key_));
            all.push_back(std::move(r));
        }
        TRY(auto reader, PictureReader::open(clip_, video, codecs_));
        std::vector<std::thread> threads;
        std::atomic<bool> stop = false;
        for (auto& r : all)
            threads.emplace_back([&, rung = r.get()] {
                rung->outcome = encode(*rung->encoder, rung->rendition, rung->spec, video, rung->pictures);
                if (!rung->outcome) stop = true;
                rung->pictures.close();
            });
        Outcome sound_outcome;
        if (audio) {
            sound_ = std::make_unique<Rendition>();
            sound_->folder = work / "sound", sound_->name = "sound";
            threads.emplace_back([&] {
                sound_outcome = encode_sound(*audio, every, stop);
                if (!sound_outcome) stop = true;
            });
        }
        Outcome decoded = decode(*reader, [&](const Picture& p) {
            for (auto& r : all)
                if (!r->pictures.put(p)) return false;
            return !stop;
        });
        if (!decoded) stop = true;
        for (auto& r : all) r->pictures.close();
        for (auto& t : threads) t.join();
        TRY_DO(decoded);
        for (auto& r : all) TRY_DO(r->outcome);
        TRY_DO(sound_outcome);
        for (auto& r : all) renditions_.push_back(std::move(r->rendition));
        return {};
    }

    Outcome decode(PictureReader& reader, const std::function<bool(const Picture&)>& give) {
        std::uint64_t count = 0;
        Time told{};
        auto begun = monotonic_now();
        for (;;) {
            if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(clip_->info().name));
            TRY(auto picture, reader.next());
            if (!picture) break;
            last_duration_ = picture->duration;
            if (!give(*picture)) return {};
            ++count;
            auto now = monotonic_now();
            if (!o_.told || now - told < 200_ms) continue;
            told = now;
            ConversionProgress p;
            p.done = frames_ ? std::min(0.95, 0.95 * static_cast<double>(count) / static_cast<double>(frames_)) : 0;
            p.speed = picture->pts.seconds() / std::max(0.1, (now - begun).seconds());
            if (p.done > 0.02)
                p.left = Time{static_cast<std::int64_t>(static_cast<double>((now - begun).ns) * (1 - p.done) / p.done)};
            if (!o_.told(p)) return fail(Code::cancelled, "Making the ladder was stopped.", "Run it again.");
        }
        return {};
    }

    Outcome encode(VideoEncoder& encoder, Rendition& rendition, const RungSpec& spec, const Track& video,
                   Bounded<Picture>& pictures) {
        Reshaper reshaper;
        std::vector<Encoded> ready;
        std::map<Time, Time> durations;
        auto write = [&]() -> Outcome {
            for (auto& e : ready) {
                auto it = durations.find(e.pts);
                WritePacket p{e.pts, e.dts, it == durations.end() ? last_duration_ : it->second, e.keyframe, e.data};
                if (it != durations.end()) durations.erase(it);
                TRY_DO(rendition.put(p, e.keyframe));
            }
            ready.clear();
            return {};
        };
        while (auto picture = pictures.take()) {
            Reshape wanted;
            wanted.width = picture->width, wanted.height = picture->height;
            wanted.turn = video.video.rotation;
            bool turned = wanted.turn == 90 || wanted.turn == 270;
            wanted.to_width = turned ? spec.height : spec.width, wanted.to_height = turned ? spec.width : spec.height;
            wanted.canvas_width = spec.width, wanted.canvas_height = spec.height;
            wanted.colour = picture->colour;
            TRY(auto fitted, reshaper.make(*picture, wanted));
            durations[fitted.pts] = fitted.duration;
            TRY_DO(encoder.encode(fitted, ready));
            TRY_DO(write());
        }
        TRY_DO(encoder.drain(ready));
        TRY_DO(write());
        return rendition.finish();
    }

    Outcome encode_sound(const Track& audio, int every, const std::atomic<bool>& stop) {
        Plan::Sound plan;
        plan.track = &audio, plan.encode = true, plan.codec = Codec::aac;
        plan.form.rate = audio.audio.rate == 44100 ? 44100 : 48000;
        plan.form.channels = audio.audio.channels == 1 ? 1 : 2;
        plan.bitrate = plan.form.channels == 1 ? 64'000 : 128'000;
        TRY(auto reader, SoundReader::open(clip_, audio, codecs_, plan.form));
        TRY_DO(reader->seek({}));
        TRY(auto encoder,
            codecs_.audio_encoder(
                plan.codec,
                {.rate = plan.form.rate, .channels = plan.form.channels, .bitrate = plan.bitrate, .bits = 16}));
        auto sound = encoded_sound(std::move(reader), plan, std::move(encoder), {}, Time::max(), Level{});
        TRY(auto packet, sound->next());
        sound_->track = sound->track();
        sound_->track.language = audio.language;
        TRY_DO(sound_->open(o_, key_));
        // Segments of sound begin with the first packet that begins with or after those of the pictures.
        auto length = ticks_to_time(every * rate_.den, 1, static_cast<std::uint64_t>(rate_.num));
        std::int64_t next = 0;
        while (packet) {
            if (stop) return {};
            bool cut = packet->pts >= length * next || next == 0;
            if (cut) next = std::max(next + 1, packet->pts.ns / length.ns + 1);
            WritePacket p{packet->pts, packet->dts, packet->duration, true, packet->data};
            TRY_DO(sound_->put(p, cut));
            TRY(packet, sound->next());
        }
        for (auto* w : {sound_->fragment_writer.get(), sound_->transport_writer.get()})
            if (w && sound->trimmed()) w->ends(0, sound->end());
        return sound_->finish();
    }

    Result<LadderMade> write_lists(const fs::path& work) {
        LadderMade made;
        LadderLists lists;
        lists.encrypted = o_.key;
        lists.fragments = o_.fragments, lists.transport = o_.transport;
        lists.rate = rate_;
        auto described = [](const WriteTrack& w) {
            Track t;
            t.kind = w.kind(), t.codec = w.codec, t.config = w.config, t.video = w.video, t.audio = w.audio;
            describe_from_config(t);
            return t.codec_string;
        };
        auto take = [&](Rendition& r) {
            LadderLists::Row row;
            row.name = r.name, row.width = r.track.video.width, row.height = r.track.video.height;
            row.codecs = described(r.track);
            row.language = r.track.language;
            row.channels = r.track.audio.channels;
            if (r.fragments) row.fragments = r.fragments->made();
            if (r.transport) row.transport = r.transport->made();
            return row;
        };
        for (auto& r : renditions_) lists.pictures.push_back(take(r));
        if (sound_) lists.sound = take(*sound_);

        for (auto& t : clip_->info().tracks) {
            if (!shows_captions(t)) continue;
            auto cues = read_cues(*clip_, t);
            if (!cues || cues->list.empty()) continue;
            lists.texts.push_back({t.language, std::move(*cues)});
        }
        TRY_DO(lists.write(work, o_.dash));
        if (o_.fragments) made.master = o_.out / "master.m3u8";
        if (o_.transport) made.transport_master = o_.out / (o_.fragments ? "master-ts.m3u8" : "master.m3u8");
        if (!o_.fragments) made.master = made.transport_master;
        if (o_.dash) made.dash = o_.out / "manifest.mpd";
        for (std::size_t i = 0; i < renditions_.size(); ++i) {
            auto& row = lists.pictures[i];
            auto& segments = row.of(o_.fragments);
            made.segments = std::max(made.segments, segments.size());
            LadderMade::Made m;
            m.id = row.name, m.width = row.width, m.height = row.height;
            m.bandwidth = lists.bandwidth(row, o_.fragments), m.average_bandwidth = lists.average(row, o_.fragments);
            m.codecs = lists.codecs(row);
            for (auto& s : segments) m.bytes += s.bytes;
            if (m.average_bandwidth > 0 &&
                static_cast<double>(m.bandwidth) > 2.0 * static_cast<double>(m.average_bandwidth))
                made.findings.push_back(
                    {"peaks",
                     fmt::format("The heaviest segment of {} takes {:.1f} times its mean bitrate.", m.id,
                                 static_cast<double>(m.bandwidth) / static_cast<double>(m.average_bandwidth)),
                     "Make segments longer, or its bitrate higher."});
            made.rungs.push_back(std::move(m));
        }

        return made;
    }

    /// How much of the source is left in each rung, at eight places.
    void measure(const std::string& source, const fs::path& work, LadderMade& made) {
        for (auto& r : made.rungs) {
            CompareOptions c;
            for (int i = 0; i < 8; ++i) c.at.push_back(length_ * (2 * i + 1) / 16);
            auto list = work / r.id / (o_.fragments ? "m4s" : "ts") / "list.m3u8";
            if (auto compared = compare(source, list.string(), codecs_, c)) r.ssim_y = compared->ssim_y;
        }
    }

    const LadderOptions& o_;
    CodecRegistry& codecs_;
    std::shared_ptr<Clip> clip_;
    Rational rate_{};
    Time length_{}, last_duration_{};
    std::uint64_t frames_ = 0;
    Bytes key_;
    std::vector<Rendition> renditions_;
    std::unique_ptr<Rendition> sound_;

    static std::string rung_name(const RungSpec& spec) {
        return spec.bitrate >= 10'000'000 ? fmt::format("{}x{}-{}M", spec.width, spec.height, spec.bitrate / 1'000'000)
                                          : fmt::format("{}x{}-{}k", spec.width, spec.height, spec.bitrate / 1000);
    }
};
}  // namespace

Result<LadderMade> make_ladder(const std::string& source, const LadderOptions& options, CodecRegistry& codecs) {
    return Maker(options, codecs).make(source);
}

nlohmann::json to_json(const LadderMade& m) {
    auto rungs = nlohmann::json::array(), findings = nlohmann::json::array();
    for (auto& r : m.rungs)
        rungs.push_back({{"id", r.id},
                         {"width", r.width},
                         {"height", r.height},
                         {"bandwidth", r.bandwidth},
                         {"average_bandwidth", r.average_bandwidth},
                         {"codecs", r.codecs},
                         {"bytes", r.bytes},
                         {"ssim_y", r.ssim_y ? nlohmann::json(*r.ssim_y) : nlohmann::json(nullptr)}});
    for (auto& f : m.findings) findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"hint", f.hint}});
    auto path = [](const fs::path& p) { return p.empty() ? nlohmann::json(nullptr) : nlohmann::json(p.string()); };
    return {{"path", m.path.string()}, {"master", path(m.master)},  {"master_ts", path(m.transport_master)},
            {"dash", path(m.dash)},    {"rungs", std::move(rungs)}, {"segments", m.segments},
            {"took_ns", m.took.ns},    {"speed", m.speed},          {"findings", std::move(findings)}};
}

}  // namespace ruedo
