// SPDX-License-Identifier: Apache-2.0
#include "convert/conversion.h"

#include <ebur128.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <nlohmann/json.hpp>

#include "convert/streams.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {

constexpr std::uint32_t usual_audio_bitrate = 128'000;

/// A file for what the first of two passes learned; gone with this.
struct Notes {
    Notes() : path(fs::temp_directory_path() / temporary_name("passes")) {}
    ~Notes() {
        std::error_code ec;
        for (auto* more : {"", ".mbtree", ".temp", ".mbtree.temp"}) fs::remove(path.string() + more, ec);
    }
    Notes(const Notes&) = delete;
    fs::path path;
};

class Conversion {
  public:
    Conversion(const ConversionOptions& options, CodecRegistry& codecs) : o_(options), codecs_(codecs) {}

    Result<Converted> run(const std::string& source) {
        began_ = monotonic_now();
        auto& recipe = o_.recipe;
        auto extension = o_.out.extension().string();
        auto* wrapper =
            recipe.wrapper.empty() ? wrapper_of_extension(extension.empty() ? "" : extension.substr(1)) : nullptr;
        for (auto& w : wrappers())
            if (w.name == recipe.wrapper) wrapper = &w;
        if (!wrapper)
            return fail(Code::usage, fmt::format("“{}” does not say what is to be made.", o_.out.filename().string()),
                        "Name it .mp4 or .webm.");
        TRY_DO(look_at_place(source));
        {
            ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
            TRY(auto opened, open_clip(source));
            clip_ = std::move(opened);
        }
        if (clip_->info().live)
            return fail(Code::refused, fmt::format("“{}” has no end.", clip_->info().name),
                        "Convert a clip, or say where it is to end.");
        TRY(plan_, plan_for(clip_->info(), recipe, *wrapper, codecs_, o_.target ? &*o_.target : nullptr,
                            [this](const Track& t, Time to) { return cuts_clean(t, to); }));
        to_ = recipe.to.value_or(Time::max());
        TRY_DO(count_pictures());
        TRY_DO(measure_sound());
        TRY_DO(look_for_room());
        return encode();
    }

  private:
    /// Nothing is written over what is read, nor over what is there.
    Outcome look_at_place(const std::string& source) {
        std::error_code ec;
        if (o_.out.empty()) return fail(Code::usage, "No name is given for what is made.", "Name it .mp4 or .webm.");
        if (fs::exists(o_.out, ec)) {
            if (!fs::is_regular_file(o_.out, ec))
                return fail(Code::refused, fmt::format("“{}” is no file.", o_.out.filename().string()),
                            "Choose another name.");
            if (fs::equivalent(o_.out, source, ec) && !ec)
                return fail(Code::refused, "What is made can’t take the place of what is read.",
                            "Choose another name.");
            if (!o_.replace)
                return fail(Code::exists, fmt::format("“{}” exists already.", o_.out.filename().string()),
                            "Choose another name, or say that it may be replaced.");
        }
        return {};
    }
    /// No packet that is shown before `to` comes after one that is shown behind it.
    bool cuts_clean(const Track& track, Time to) {
        auto reader = clip_->reader(track.id);
        PacketHead head;
        for (bool behind = false; reader->next(head).value_or(false) && tell(0, 0);) {
            if (behind && head.pts < to) return false;
            behind = behind || head.pts >= to;
        }
        return true;
    }
    /// How many there are, for the rate and for what is done; by their heads alone.
    Outcome count_pictures() {
        if (!plan_.video) return {};
        Outcome going;
        TRY(auto facts, scan_track(*clip_, *plan_.video, [&](auto&) { return (going = tell(0, 0)).has_value(); }));
        TRY_DO(going);
        auto length = facts.end - facts.start;
        pictures_ = facts.frame_count;
        rate_ = facts.frame_rate;
        if (!rate_.stated() && length.ns > 0) {
            // About as many as come in a thousandth of a second's steps.
            auto mean = static_cast<double>(facts.frame_count) / length.seconds();
            rate_ = Rational{std::max<std::int64_t>(1, std::llround(mean * 1000)), 1000}.reduced();
        }
        if (o_.recipe.video.rate) rate_ = *o_.recipe.video.rate;
        if (!rate_.stated()) rate_ = {30, 1};
        if (plan_.length.ns <= 0) plan_.length = std::min(facts.end, to_) - o_.recipe.from;
        return {};
    }
    /// Two passes over the sound, where it is to have a loudness: how loud it is as a whole, and at its peaks.
    Outcome measure_sound() {
        auto& wanted = o_.recipe.audio.loudness;
        if (!plan_.audio || !plan_.encode_audio || !wanted) return {};
        TRY(auto sound, open_sound());
        auto* state = ebur128_init(mix_channels, mix_rate, EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK);
        if (!state) return fail(Code::internal, "The loudness could not be measured.");
        std::unique_ptr<ebur128_state, void (*)(ebur128_state*)> kept(state, [](auto* s) { ebur128_destroy(&s); });
        std::int64_t taken = 0,
                     most = to_ == Time::max() ? INT64_MAX : time_to_ticks_floor(to_ - o_.recipe.from, mix_rate);
        while (taken < most) {
            TRY(auto block, sound->next());
            if (!block) break;
            auto n = std::min<std::int64_t>(static_cast<std::int64_t>(block->frames()), most - taken);
            ebur128_add_frames_float(state, block->samples.data(), static_cast<std::size_t>(n));
            taken += n;
            TRY_DO(tell(0, 0));
        }
        double loudness = -HUGE_VAL, peak = 0;
        ebur128_loudness_global(state, &loudness);
        for (unsigned c = 0; c < mix_channels; ++c) {
            double p = 0;
            if (ebur128_true_peak(state, c, &p) == EBUR128_SUCCESS) peak = std::max(peak, p);
        }
        if (!std::isfinite(loudness)) {
            plan_.why.push_back({"silent", "The sound is silent, so it keeps its level.", {}});
            return {};
        }
        auto gain = std::pow(10, (*wanted - loudness) / 20), most_gain = std::pow(10, -1.0 / 20) / std::max(peak, 1e-9);
        if (gain > most_gain) {
            plan_.why.push_back(
                {"peak-limited",
                 fmt::format("At {:g} LUFS its peaks would clip; it is made {:.1f} LUFS, with peaks at -1 dB.", *wanted,
                             loudness + 20 * std::log10(most_gain)),
                 {}});
            gain = most_gain;
        }
        gain_ = static_cast<float>(gain);
        return {};
    }
    Outcome look_for_room() {
        std::error_code ec;
        auto folder = o_.out.has_parent_path() ? o_.out.parent_path() : fs::path(".");
        auto space = fs::space(folder, ec);
        if (ec) return std::unexpected(errno_error(ec.value(), fmt::format("Writing “{}”", o_.out.string())));
        auto wanted = o_.recipe.fit_bytes.value_or(
            o_.recipe.video.bitrate
                ? static_cast<std::uint64_t>(*o_.recipe.video.bitrate / 8.0 * plan_.length.seconds())
                : clip_->info().bytes / 4);
        if (space.available < wanted)
            return fail(Code::disk_full,
                        fmt::format("There is room for {} MB in “{}”, and about {} MB are needed.",
                                    space.available / 1'000'000, folder.string(), wanted / 1'000'000),
                        "Make room, or choose another folder.");
        return {};
    }

    Result<std::unique_ptr<SoundReader>> open_sound() {
        TRY(auto sound, SoundReader::open(clip_, *plan_.audio, codecs_));
        TRY_DO(sound->seek(o_.recipe.from));
        return sound;
    }
    Result<std::unique_ptr<MadeStream>> audio_stream() {
        if (!plan_.encode_audio) return copied_stream(*clip_, *plan_.audio, to_);
        TRY(auto sound, open_sound());
        TRY(auto encoder,
            codecs_.audio_encoder(plan_.audio_codec,
                                  {mix_rate, mix_channels, o_.recipe.audio.bitrate.value_or(usual_audio_bitrate)}));
        return encoded_sound(std::move(sound), plan_, std::move(encoder), o_.recipe.from, to_, gain_);
    }
    Result<std::unique_ptr<MadeStream>> video_stream(int pass, const fs::path& notes, std::uint32_t bitrate) {
        if (!plan_.encode_video) return copied_stream(*clip_, *plan_.video, to_);
        auto& v = o_.recipe.video;
        TRY(auto reader, PictureReader::open(clip_, *plan_.video, codecs_));
        std::optional<Picture> first;
        if (o_.recipe.from.ns > 0) {
            TRY(first, reader->at(o_.recipe.from));
            // The one that is seen there is seen from there on.
            first->duration = first->pts + first->duration - o_.recipe.from;
            first->pts = o_.recipe.from;
        }
        auto e = encoder_options(plan_.video_codec, o_.recipe, plan_.format.width, plan_.format.height, rate_);
        e.pixel_aspect = plan_.format.pixel_aspect;
        e.colour = plan_.video->video.colour.resolved(plan_.video->video.height);
        if (bitrate) e.control = VideoEncodeOptions::Control::bitrate, e.bitrate = bitrate;
        e.pass = pass, e.stats = notes;
        TRY(auto encoder, codecs_.video_encoder(plan_.video_codec, e));
        return encoded_pictures(std::move(reader), std::move(first), o_.recipe.from, to_, v.rate, plan_,
                                std::move(encoder));
    }

    /// Whether it may go on; the observer is told twice a second or oftener.
    Outcome tell(double part, std::uint64_t bytes) {
        if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(clip_->info().name));
        auto now = monotonic_now();
        if (now - told_at_ < 200_ms) return {};
        told_at_ = now;
        ConversionProgress p;
        p.done = std::clamp((passed_ + part) / passes_, 0.0, 1.0);
        p.bytes = bytes;
        // The pace of the last ten seconds is nearer to what is to come than that of all.
        recent_.push_back({now, p.done});
        while (recent_.size() > 2 && now - recent_.front().first > 10_s) recent_.pop_front();
        auto over = (now - recent_.front().first).seconds(), gained = p.done - recent_.front().second;
        if (over > 0.3 && gained > 0) {
            p.speed = gained * passes_ * plan_.length.seconds() / over;
            p.left = Time{static_cast<std::int64_t>((1 - p.done) / gained * over * 1e9)};
        }
        if (o_.recipe.fit_bytes)
            p.expected_bytes = *o_.recipe.fit_bytes;
        else if (part > 0.02)
            p.expected_bytes = static_cast<std::uint64_t>(static_cast<double>(bytes) / part);
        if (o_.told && !o_.told(p)) return fail(Code::cancelled, "Converting was stopped.", "Run it again.");
        return {};
    }
    double part_of(Time at) const {
        return plan_.length.ns > 0 ? std::clamp(at.seconds() / plan_.length.seconds(), 0.0, 1.0) : 0;
    }

    /// Pictures once through, for what a second pass is to know.
    Outcome learn(const fs::path& notes, std::uint32_t bitrate) {
        TRY(auto video, video_stream(1, notes, bitrate));
        for (;;) {
            TRY(auto packet, video->next());
            if (!packet) return {};
            TRY_DO(tell(part_of(packet->pts), 0));
        }
    }
    struct Written {
        std::uint64_t video = 0, audio = 0;  ///< Bytes of packets.
        Time end{};
    };
    Outcome write(ClipWriter& writer, MadeStream* video, MadeStream* audio, Written& so_far) {
        std::optional<MadePacket> picture, sound;
        if (video) {
            TRY(picture, video->next());
        }
        if (audio) {
            TRY(sound, audio->next());
        }
        if (!picture && !sound)
            return fail(Code::truncated, fmt::format("Nothing of “{}” could be read.", clip_->info().name),
                        "The file may be cut short.");
        std::size_t video_track = 0, audio_track = 0;
        if (picture) {
            TRY(video_track, writer.add(video->track()));
        }
        if (sound) {
            TRY(audio_track, writer.add(audio->track()));
        }
        // Some fifty packets of sound a second.
        auto seconds = std::max(1.0, plan_.length.seconds());
        auto pictures =
            o_.recipe.video.rate
                ? static_cast<std::uint64_t>(seconds * static_cast<double>(rate_.num) / static_cast<double>(rate_.den))
                : pictures_;
        writer.expect((video ? pictures : 0) + (audio ? static_cast<std::uint64_t>(seconds * 52) : 0));
        while (picture || sound) {
            bool first = picture && (!sound || picture->dts <= sound->dts);
            auto& m = first ? *picture : *sound;
            TRY_DO(writer.write(first ? video_track : audio_track, {m.pts, m.dts, m.duration, m.keyframe, m.data}));
            (first ? so_far.video : so_far.audio) += m.data.size();
            TRY_DO(tell(part_of(m.pts), so_far.video + so_far.audio));
            if (first) {
                TRY(picture, video->next());
            } else {
                TRY(sound, audio->next());
            }
        }
        so_far.end = std::max(video ? video->end() : Time{}, audio ? audio->end() : Time{});
        return writer.finish(audio && plan_.encode_audio ? audio->end() : Time{});
    }

    Result<Converted> encode() {
        auto& v = o_.recipe.video;
        auto target = o_.recipe.fit_bytes;
        double seconds = plan_.length.seconds();
        auto bitrate = plan_.encode_video ? v.bitrate.value_or(0) : 0;
        if (target) {
            double sound = plan_.audio ? o_.recipe.audio.bitrate.value_or(usual_audio_bitrate) * seconds / 8 : 0;
            double left = seconds > 0 ? (static_cast<double>(*target) * aim - sound - 2000) * 8 / seconds : 0;
            if (!plan_.encode_video || left < 8000)
                return fail(Code::limit, fmt::format("It does not fit into {} bytes.", *target),
                            "Allow more, a smaller picture, or less sound.");
            bitrate = static_cast<std::uint32_t>(std::min(left, 1e9));
        }
        bool twice = plan_.encode_video && (v.passes == 2 || target);
        if (twice && !bitrate)
            return fail(Code::usage, "Two passes need a bitrate or a size to aim at.",
                        "Give one, or let it be one pass.");
        Notes notes;
        passes_ = twice ? 2 : 1;
        if (twice) {
            TRY_DO(learn(notes.path, bitrate));
            passed_ = 1;
        }
        std::uint64_t least = target ? *target * 97 / 100 : 0, before = 0;
        for (int tries = 1;; ++tries) {
            std::unique_ptr<MadeStream> video, audio;
            if (plan_.video) {
                TRY(video, video_stream(twice ? 2 : 0, notes.path, bitrate));
            }
            if (plan_.audio) {
                TRY(audio, audio_stream());
            }
            TRY(auto file, FileWriter::create(o_.out, o_.replace));
            Weight weight{least, target.value_or(UINT64_MAX)};
            auto sink = std::make_unique<Weighed>(std::move(file), weight);
            auto writer = plan_.wrapper->name == "webm" ? write_webm(std::move(sink)) : write_mp4(std::move(sink));
            Written so_far;
            auto written = write(*writer, video.get(), audio.get(), so_far);
            if (written) return report(so_far, weight.size, video.get(), audio.get(), twice ? 2 : 1);
            if (!weight.refused || tries == 6) return std::unexpected(written.error());
            // Once more, with as much more or less as it was off. What does not grow any more has all it can use.
            auto pictures = static_cast<double>(so_far.video);
            auto rest = static_cast<double>(weight.size) - pictures;
            bool grows = weight.size > before + before / 100 || weight.size > *target;
            bitrate = static_cast<std::uint32_t>(std::clamp(
                bitrate * (static_cast<double>(*target) * aim - rest) / std::max(1.0, pictures), 1000.0, 1e9));
            if (!grows || tries >= 4) least = 0;
            before = weight.size;
        }
    }
    Result<Converted> report(const Written& written, std::uint64_t bytes, const MadeStream* video,
                             const MadeStream* audio, int passes) {
        Converted c;
        c.path = o_.out;
        c.bytes = bytes;
        c.container = plan_.wrapper->name;
        c.duration = written.end;
        c.took = monotonic_now() - began_;
        c.findings = plan_.why;
        if (video)
            c.video = {.action = plan_.encode_video ? "encoded" : "copied",
                       .codec = plan_.video_codec,
                       .width = plan_.format.width,
                       .height = plan_.format.height,
                       .passes = plan_.encode_video ? passes : 0,
                       .frames = video->count()};
        if (audio) {
            auto track = audio->track();
            c.audio = {.action = plan_.encode_audio ? "encoded" : "copied",
                       .codec = plan_.audio_codec,
                       .sample_rate = track.audio.rate,
                       .channels = track.audio.channels};
        }
        // What the source lacked was seen when it was opened, or when it was read.
        for (auto& f : clip_->info().findings)
            if (f.code == "truncated") c.findings.push_back(f);
        for (auto* s : {video, audio})
            if (s && s->cut() &&
                !std::any_of(c.findings.begin(), c.findings.end(), [](auto& f) { return f.code == "truncated"; }))
                c.findings.push_back(
                    {"truncated", s->cut()->sentence + " What came before it is kept.", s->cut()->hint});
        return c;
    }

    /// Aimed at is a little less than may be: what is written never becomes larger.
    static constexpr double aim = 0.985;
    struct Weight {
        std::uint64_t least, most, size = 0;
        bool refused = false;
    };
    /// A file that comes to its place only where it has the weight it is to have.
    struct Weighed final : ByteSink {
        Weighed(FileWriter f, Weight& w) : file(std::move(f)), weight(w) {}
        Outcome write(ByteView b) override { return file.write(b); }
        Outcome write_at(std::uint64_t at, ByteView b) override { return file.write_at(at, b); }
        std::uint64_t position() const override { return file.position(); }
        Outcome insert_gap(std::uint64_t at, std::uint64_t extra, const Progress& told) override {
            return file.insert_gap(at, extra, told);
        }
        Outcome commit() override {
            weight.size = file.position();
            weight.refused = weight.size > weight.most || weight.size < weight.least;
            if (weight.refused)
                return fail(Code::limit, fmt::format("It became {} bytes, and may be {}.", weight.size, weight.most),
                            "Allow more, or a smaller picture.");
            return file.commit();
        }
        FileWriter file;
        Weight& weight;
    };

    const ConversionOptions& o_;
    CodecRegistry& codecs_;
    std::shared_ptr<Clip> clip_;
    Plan plan_;
    Time to_ = Time::max(), began_{}, told_at_{};
    Rational rate_{};
    std::uint64_t pictures_ = 0;
    float gain_ = 1;
    double passes_ = 1, passed_ = 0;
    std::deque<std::pair<Time, double>> recent_;
};
}  // namespace

VideoEncodeOptions encoder_options(Codec codec, const Recipe& recipe, int width, int height, Rational rate) {
    auto& v = recipe.video;
    VideoEncodeOptions e;
    e.width = width, e.height = height;
    e.rate = rate;
    auto pictures = v.keyframes.seconds() * static_cast<double>(rate.num) / static_cast<double>(rate.den);
    e.keyframe_every = std::max(1, static_cast<int>(pictures + 0.5));
    e.b_frames = codec == Codec::h264 ? 3 : 0;
    e.effort = 1;
    e.control = VideoEncodeOptions::Control::quality;
    e.quality = v.quality.value_or(codec == Codec::h264 ? 21 : codec == Codec::vp9 ? 32 : 20);
    return e;
}

Result<Converted> convert(const std::string& source, const ConversionOptions& options, CodecRegistry& codecs) {
    return Conversion(options, codecs).run(source);
}

nlohmann::json to_json(const Converted& c) {
    using nlohmann::json;
    auto codec = [](const Converted::Stream& s) {
        return s.action == "none" ? json(nullptr) : json(codec_name(s.codec));
    };
    json findings = json::array();
    for (auto& f : c.findings) findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"hint", f.hint}});
    return {{"path", c.path.string()},
            {"bytes", c.bytes},
            {"container", c.container},
            {"duration_ns", c.duration.ns},
            {"took_ns", c.took.ns},
            {"speed", c.took.ns > 0 ? c.duration.seconds() / c.took.seconds() : 0},
            {"video",
             {{"action", c.video.action},
              {"codec", codec(c.video)},
              {"width", c.video.width},
              {"height", c.video.height},
              {"frames", c.video.frames},
              {"passes", c.video.passes}}},
            {"audio",
             {{"action", c.audio.action},
              {"codec", codec(c.audio)},
              {"sample_rate", c.audio.sample_rate},
              {"channels", c.audio.channels}}},
            {"findings", std::move(findings)}};
}

}  // namespace ruedo
