// SPDX-License-Identifier: Apache-2.0
#include "convert/ladder.h"

#include <fmt/format.h>

#include <atomic>
#include <cmath>
#include <nlohmann/json.hpp>
#include <random>
#include <mutex>
#include <thread>

#include "base/bounded.h"
#include "container/container.h"
#include "container/segments.h"
#include "convert/compare.h"
#include "convert/ladder_lists.h"
#include "convert/plan.h"
#include "convert/streams.h"
#include "media/codec_headers.h"
#include "picture/reshape.h"
#include "stream/fetch.h"

namespace ruedo {
namespace fs = std::filesystem;

namespace {

/// One rendition on its way: writers of fragments, of a transport stream, or of both, fed with the same packets.
struct Rendition {
    std::string name;
    fs::path folder;
    MuxerTrack track;
    SegmentSink *fragments = nullptr, *transport = nullptr;  ///< Owned by their writers.
    std::unique_ptr<Muxer> fragment_writer, transport_writer;
    std::vector<Time> starts;  ///< Of its segments.
    Time end{};

    Status open(const LadderOptions& o, const Bytes& key) {
        auto seal = [key](std::uint64_t number, Bytes bytes) {
            return key.empty() ? bytes : stream::encrypt(bytes, key, stream::vector_of(number));
        };
        auto make = [&](const char* form, SegmentSink*& sink) -> Result<std::unique_ptr<ByteSink>> {
            auto place = folder / form;
            RUEDO_TRY_DO(make_folder(place));
            auto made = std::make_unique<SegmentSink>(place, form, seal);
            sink = made.get();
            return made;
        };
        if (o.recipe.fragments) {
            RUEDO_TRY(auto sink, make("m4s", fragments));
            fragment_writer = mp4_segment_muxer(std::move(sink));
            RUEDO_TRY(auto ignored, fragment_writer->add(track));
            (void)ignored;
        }
        if (o.recipe.transport) {
            RUEDO_TRY(auto sink, make("ts", transport));
            transport_writer = mpegts_muxer(std::move(sink));
            RUEDO_TRY(auto ignored, transport_writer->add(track));
            (void)ignored;
        }
        return {};
    }
    /// `cut`: a segment begins with it.
    Status put(const MuxerPacket& p, bool cut) {
        // What comes before the beginning is decoded, and not heard.
        if (cut) starts.push_back(std::max(p.pts, Time{}));
        end = std::max(end, p.pts + p.duration);
        if (fragment_writer) {
            if (cut) fragment_writer->begins_segment();
            RUEDO_TRY_DO(fragment_writer->write(0, p));
        }
        if (transport_writer) {
            if (cut) RUEDO_TRY_DO(transport->cut(p.pts));
            if (cut) transport_writer->begins_segment();
            RUEDO_TRY_DO(transport_writer->write(0, p));
            if (cut) transport->key_ends();
        }
        return {};
    }
    Status finish() {
        if (fragment_writer) RUEDO_TRY_DO(fragment_writer->finish());
        if (transport_writer) RUEDO_TRY_DO(transport_writer->finish());
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
    Maker(const LadderOptions& options, CodecRegistry& codecs) : o_(options), r_(options.recipe), codecs_(codecs) {}

    Result<LadderResult> make(const std::string& source) {
        auto begun = monotonic_now();
        std::error_code ec;
        if (o_.out.empty())
            return fail(ErrorCode::usage, "No folder is named for the ladder.", "Name one that is not there yet.");
        RUEDO_TRY_DO(look_at_folder_place(o_.out, o_.replace, "master.m3u8"));
        RUEDO_TRY_DO(r_.check());
        clear_remains(o_.out.parent_path());
        RUEDO_TRY(clip_, open_to_end(source));
        RUEDO_TRY(auto tracks, select_tracks_for(*clip_));
        auto* video = source_ = tracks.first;
        if (!video)
            return fail(ErrorCode::not_media, fmt::format("“{}” has no pictures.", clip_->info().name),
                        "Choose a clip with pictures.");
        RUEDO_TRY(auto facts, scan_track(*clip_, *video));
        rate_ =
            facts.frame_rate.stated()
                ? facts.frame_rate
                : Rational{std::max<std::int64_t>(1, std::llround(facts.frames_per_second() * 1000)), 1000}.reduced();
        tick_ = ticks_to_time(rate_.den, 1, static_cast<std::uint64_t>(rate_.num));
        length_ = facts.end;
        frames_ = facts.frame_count;
        auto rungs = r_.rungs.empty()
                         ? propose_rungs(video->video, facts.frames_per_second(), std::max<std::size_t>(1, r_.propose))
                         : r_.rungs;
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
        if (r_.key) {
            std::random_device random;
            for (int i = 0; i < 16; ++i) key_.push_back(static_cast<std::uint8_t>(random()));
            RUEDO_TRY_DO(write_file(work / "key", key_, Replace::nothing));
        }
        RUEDO_TRY_DO(make_renditions(work, *video, tracks.second, rungs));
        RUEDO_TRY(auto made, write_lists(work));
        if (o_.measure) measure(source, work, made);
        RUEDO_TRY_DO(move_folder_into_place(work, o_.out, o_.replace));
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

    /// One rendition while it is made: pictures for it, and who encodes them.
    struct Rung {
        RungSpec spec;
        fs::path notes;  ///< What the first of two passes learned.
        VideoEncodeOptions options;
        Rendition rendition;
        std::unique_ptr<Bounded<Frame>> pictures;
        std::unique_ptr<VideoEncoder> encoder;
        Status outcome;
    };

    Status make_renditions(const fs::path& work, const Track& video, const Track* audio,
                           const std::vector<RungSpec>& specs) {
        // A whole number of pictures, and a keyframe with each segment's first.
        every_ = std::max(1, static_cast<int>(std::lround(r_.segment.seconds() * rate_.about())));
        std::vector<std::unique_ptr<Rung>> rungs;
        for (auto& spec : specs) {
            auto r = std::make_unique<Rung>();
            r->spec = spec;
            auto& e = r->options;
            e.width = spec.width, e.height = spec.height, e.rate = rate_, e.bitrate = spec.bitrate;
            e.keyframe_every = every_, e.b_frames = video_encoder_traits(r_.video)->b_frames ? 2 : 0, e.effort = 0;
            e.colour = video.video.colour.resolved(video.video.height).made_for(r_.video);
            r->rendition.name = rung_name(spec);
            for (auto& other : rungs)
                if (other->rendition.name == r->rendition.name) r->rendition.name += "-2";
            r->rendition.folder = work / r->rendition.name;
            r->notes = work / (r->rendition.name + ".pass");
            rungs.push_back(std::move(r));
        }
        auto first = r_.passes == 2 ? video_encoder_traits(r_.video)->first_pass : 0;
        if (r_.passes == 2) {
            RUEDO_TRY_DO(pass(1, 0, first, video, nullptr, work, rungs));
            for (auto& r : rungs) r->encoder.reset();
        }
        RUEDO_TRY_DO(pass(r_.passes == 2 ? 2 : 0, first, 1, video, audio, work, rungs));
        std::error_code ec;
        for (auto& r : rungs) {
            // An encoder may keep more than one file.
            for (auto& entry : fs::directory_iterator(work, ec))
                if (entry.path().filename().string().starts_with(r->notes.filename().string()))
                    fs::remove(entry.path(), ec);
            renditions_.push_back(std::move(r->rendition));
        }
        return {};
    }

    /// Decodes once, and hands every picture to all rungs; each has a thread of its own that fits and encodes. The
    /// first of two passes writes nothing. Takes from `from` to `to` of all that there is to do.
    Status pass(int number, double from, double to, const Track& video, const Track* audio, const fs::path& work,
                std::vector<std::unique_ptr<Rung>>& rungs) {
        bool writes = number != 1;
        for (auto& r : rungs) {
            r->options.pass = number, r->options.stats = r->notes;
            r->pictures = std::make_unique<Bounded<Frame>>(10);
            r->options.go_on = [this] { return go_on(); };
            RUEDO_TRY(r->encoder, codecs_.video_encoder(r_.video, r->options));
            if (!writes) continue;
            auto& w = r->rendition.track;
            w.codec = r_.video, w.config = r->encoder->config();
            w.video.width = r->spec.width, w.video.height = r->spec.height, w.video.colour = r->options.colour;
            w.timescale = static_cast<std::uint32_t>(
                rate_.num < 10'000 ? rate_.num * ((10'000 + rate_.num - 1) / rate_.num) : rate_.num);
            RUEDO_TRY_DO(r->rendition.open(o_, key_));
        }
        RUEDO_TRY(auto reader, FrameReader::open(clip_, video, codecs_));
        std::vector<std::thread> threads;
        for (auto& r : rungs)
            threads.emplace_back([&, rung = r.get()] {
                rung->outcome = encode(*rung, video, writes);
                if (!rung->outcome) stop_ = true;
                rung->pictures->close();
            });
        Status audio_outcome;
        if (audio) {
            audio_ = std::make_unique<Rendition>();
            audio_->folder = work / "sound", audio_->name = "sound";
            threads.emplace_back([&] {
                audio_outcome = encode_audio(*audio, stop_);
                if (!audio_outcome) stop_ = true;
            });
        }
        Status decoded = decode(*reader, from, to, [&](const Frame& p) {
            for (auto& r : rungs)
                if (!r->pictures->put(p)) return false;
            return !stop_;
        });
        if (!decoded) stop_ = true;
        for (auto& r : rungs) r->pictures->close();
        for (auto& t : threads) t.join();
        RUEDO_TRY_DO(decoded);
        // One that failed stops the others, which is not what is to be told.
        Status outcome;
        for (auto& r : rungs)
            if (!r->outcome && (outcome || outcome.error().code == ErrorCode::cancelled)) outcome = r->outcome;
        RUEDO_TRY_DO(outcome);
        return audio_outcome;
    }

    Status decode(FrameReader& reader, double from, double to, const std::function<bool(const Frame&)>& give) {
        std::uint64_t count = 0;
        Time told{};
        auto begun = monotonic_now();
        for (;;) {
            if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(clip_->info().name));
            RUEDO_TRY(auto picture, reader.next());
            if (!picture) break;
            if (!give(*picture)) return {};
            ++count;
            auto now = monotonic_now();
            if (!o_.told || now - told < 200_ms) continue;
            told = now;
            std::lock_guard lock(telling_);
            ConversionProgress p;
            auto part = frames_ ? std::min(1.0, static_cast<double>(count) / static_cast<double>(frames_)) : 0;
            // What is left at the end: the lists, and looking at what was made.
            p.done = 0.95 * (from + (to - from) * part);
            p.speed = picture->pts.seconds() / std::max(0.1, (now - begun).seconds());
            if (part > 0.02) {
                auto whole = static_cast<double>((now - begun).ns) / (part * (to - from));
                p.left = Time{static_cast<std::int64_t>(whole * (1 - from - (to - from) * part))};
            }
            p.bytes = bytes_;
            if (p.bytes && part > 0.02)
                p.expected_bytes = static_cast<std::uint64_t>(static_cast<double>(p.bytes) / part);
            told_ = p;
            if (!o_.told(p)) return stopped();
        }
        return {};
    }
    Status stopped() {
        stop_ = true;
        return fail(ErrorCode::cancelled, "Making the ladder was stopped.", "Run it again.");
    }
    /// While an encoder takes long, on its rung's thread.
    Status go_on() {
        std::lock_guard lock(telling_);
        return stop_ || (o_.told && !o_.told(told_)) ? stopped() : Status{};
    }

    /// How much of a rung a clip's pictures fill, in their own shape; all of it where less than two pixels are missing.
    static std::pair<int, int> shown_in(const RungSpec& rung, const VideoFormat& shown) {
        double width = shown.display_width(), height = shown.display_height();
        auto scale = std::min(rung.width / width, rung.height / height);
        auto fill = [&](double part, int whole) {
            auto even = std::max(2, static_cast<int>(std::lround(part * scale / 2)) * 2);
            return whole - part * scale <= 2 ? whole : std::min(even, whole);
        };
        return {fill(width, rung.width), fill(height, rung.height)};
    }

    Status encode(Rung& rung, const Track& video, bool writes) {
        Reshaper reshaper;
        std::vector<Encoded> ready;
        struct Given {
            Time duration;
            std::uint64_t number;
        };
        std::map<Time, Given> given;
        std::uint64_t number = 0;
        auto write = [&]() -> Status {
            for (auto& e : ready) {
                auto it = given.find(e.pts);
                auto g = it == given.end() ? Given{tick_, 1} : it->second;
                if (it != given.end()) given.erase(it);
                if (!writes) continue;
                // Segments of all rungs begin with the same pictures, whatever else an encoder makes a keyframe.
                bool cut = g.number % static_cast<std::uint64_t>(every_) == 0;
                if (cut && !e.keyframe)
                    return fail(ErrorCode::internal, fmt::format("Rung {} lacks a keyframe.", rung.rendition.name), {});
                bytes_ += e.data.size();
                RUEDO_TRY_DO(rung.rendition.put({e.pts, e.dts, g.duration, e.keyframe, e.data}, cut));
            }
            ready.clear();
            return {};
        };
        while (auto picture = rung.pictures->take()) {
            Reshape wanted;
            wanted.width = picture->width, wanted.height = picture->height;
            wanted.turn = video.video.rotation;
            bool turned = wanted.turn == 90 || wanted.turn == 270;
            auto& spec = rung.spec;
            // What is of another shape has bars: nothing is stretched.
            auto [width, height] = shown_in(spec, video.video);
            wanted.to_width = turned ? height : width, wanted.to_height = turned ? width : height;
            wanted.canvas_width = spec.width, wanted.canvas_height = spec.height;
            wanted.left = (spec.width - width) / 4 * 2, wanted.top = (spec.height - height) / 4 * 2;
            wanted.colour = rung.options.colour;
            RUEDO_TRY(auto fitted, reshaper.make(*picture, wanted));
            given[fitted.pts] = {fitted.duration, number++};
            RUEDO_TRY_DO(rung.encoder->encode(fitted, ready));
            RUEDO_TRY_DO(write());
        }
        RUEDO_TRY_DO(rung.encoder->drain(ready));
        RUEDO_TRY_DO(write());
        return writes ? rung.rendition.finish() : Status();
    }

    Status encode_audio(const Track& audio, const std::atomic<bool>& stop) {
        Plan::Audio plan;
        plan.track = &audio, plan.encode = true, plan.codec = r_.audio;
        plan.form.rate = audio.audio.rate == 44100 && r_.audio == Codec::aac ? 44100 : 48000;
        plan.form.channels = audio.audio.channels == 1 ? 1 : 2;
        plan.bitrate = plan.form.channels == 1 ? 64'000 : 128'000;
        RUEDO_TRY(auto reader, AudioReader::open(clip_, audio, codecs_, plan.form));
        RUEDO_TRY_DO(reader->seek({}));
        RUEDO_TRY(auto encoder,
                  codecs_.audio_encoder(
                      plan.codec,
                      {.rate = plan.form.rate, .channels = plan.form.channels, .bitrate = plan.bitrate, .bits = 16}));
        auto encoded = encoded_audio(std::move(reader), plan, std::move(encoder), {}, Time::max(), Level{});
        RUEDO_TRY(auto packet, encoded->next());
        audio_->track = encoded->track();
        audio_->track.language = audio.language;
        RUEDO_TRY_DO(audio_->open(o_, key_));
        // Segments of sound begin with the first packet that begins with or after those of the pictures.
        auto length = ticks_to_time(every_ * rate_.den, 1, static_cast<std::uint64_t>(rate_.num));
        std::int64_t next = 0;
        while (packet) {
            if (stop) return {};
            bool cut = packet->pts >= length * next || next == 0;
            if (cut) next = std::max(next + 1, packet->pts.ns / length.ns + 1);
            MuxerPacket p{packet->pts, packet->dts, packet->duration, true, packet->data};
            RUEDO_TRY_DO(audio_->put(p, cut));
            RUEDO_TRY(packet, encoded->next());
        }
        for (auto* w : {audio_->fragment_writer.get(), audio_->transport_writer.get()})
            if (w && encoded->trimmed()) w->ends(0, encoded->end());
        return audio_->finish();
    }

    Result<LadderResult> write_lists(const fs::path& work) {
        LadderResult made;
        LadderLists lists;
        lists.encrypted = r_.key;
        lists.fragments = r_.fragments, lists.transport = r_.transport;
        lists.rate = rate_;
        auto described = [](const MuxerTrack& w) {
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
        if (audio_) lists.audio = take(*audio_);

        for (auto& t : clip_->info().tracks) {
            if (!shows_captions(t)) continue;
            auto cues = read_cues(*clip_, t);
            if (!cues || cues->list.empty()) continue;
            lists.texts.push_back({t.language, std::move(*cues)});
        }
        RUEDO_TRY_DO(lists.write(work, r_.dash));
        if (r_.fragments) made.master = o_.out / "master.m3u8";
        if (r_.transport) made.transport_master = o_.out / (r_.fragments ? "master-ts.m3u8" : "master.m3u8");
        if (!r_.fragments) made.master = made.transport_master;
        if (r_.dash) made.dash = o_.out / "manifest.mpd";
        for (std::size_t i = 0; i < renditions_.size(); ++i) {
            auto& row = lists.pictures[i];
            auto& segments = row.of(r_.fragments);
            made.segments = std::max(made.segments, segments.size());
            LadderResult::Made m;
            m.id = row.name, m.width = row.width, m.height = row.height;
            m.bandwidth = lists.bandwidth(row, r_.fragments), m.average_bandwidth = lists.average(row, r_.fragments);
            m.codecs = lists.codecs(row);
            for (auto& s : segments) m.bytes += s.bytes;
            auto& shown = source_->video;
            if (shown_in({m.width, m.height, 0}, shown) != std::pair{m.width, m.height})
                made.findings.push_back({"rung-shape",
                                         fmt::format("{} × {} is not the clip’s shape, which is that of {} × {}; bars "
                                                     "fill the rest.",
                                                     m.width, m.height, shown.display_width(), shown.display_height()),
                                         "Give the rung the clip’s shape."});
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
    void measure(const std::string& source, const fs::path& work, LadderResult& made) {
        for (auto& r : made.rungs) {
            CompareOptions c;
            for (int i = 0; i < 8; ++i) c.at.push_back(length_ * (2 * i + 1) / 16);
            auto list = work / r.id / (r_.fragments ? "m4s" : "ts") / "list.m3u8";
            if (auto compared = compare(source, list.string(), codecs_, c)) r.ssim_y = compared->ssim_y;
        }
    }

    const LadderOptions& o_;
    const LadderRecipe& r_;
    CodecRegistry& codecs_;
    std::shared_ptr<Clip> clip_;
    Rational rate_{};
    Time length_{}, tick_{};  ///< Of the clip, and from one picture to the next, about.
    std::uint64_t frames_ = 0;
    int every_ = 1;                         ///< Pictures of a segment.
    std::atomic<std::uint64_t> bytes_ = 0;  ///< Of pictures, so far.
    std::atomic<bool> stop_ = false;
    std::mutex telling_;
    ConversionProgress told_;  ///< The last; guarded by `telling_`.
    Bytes key_;
    std::vector<Rendition> renditions_;
    const Track* source_ = nullptr;  ///< Of the clip's pictures.
    std::unique_ptr<Rendition> audio_;

    static std::string rung_name(const RungSpec& spec) {
        return spec.bitrate >= 10'000'000 ? fmt::format("{}x{}-{}M", spec.width, spec.height, spec.bitrate / 1'000'000)
                                          : fmt::format("{}x{}-{}k", spec.width, spec.height, spec.bitrate / 1000);
    }
};
}  // namespace

Result<LadderResult> make_ladder(const std::string& source, const LadderOptions& options, CodecRegistry& codecs) {
    return Maker(options, codecs).make(source);
}

nlohmann::json to_json(const LadderResult& m) {
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
