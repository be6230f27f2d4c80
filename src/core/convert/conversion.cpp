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

/// So many that the two pictures nearest to each other are a step apart; at most 120.
std::int64_t steps_a_second(std::vector<Time> times) {
    std::sort(times.begin(), times.end());
    auto least = times.back() - times.front();
    for (std::size_t i = 1; i < times.size(); ++i)
        if (times[i] > times[i - 1]) least = std::min(least, times[i] - times[i - 1]);
    return std::clamp<std::int64_t>((999'999'999 + least.ns) / std::max<std::int64_t>(1, least.ns), 1, 120);
}

class Conversion {
  public:
    Conversion(const ConversionOptions& options, CodecRegistry& codecs) : o_(options), codecs_(codecs) {}

    Result<Converted> run(const std::string& source) {
        began_ = monotonic_now();
        auto& recipe = o_.recipe;
        TRY(auto wrapper, wrapper_for(recipe, o_.out));
        TRY_DO(look_at_place(source));
        {
            ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
            TRY(auto opened, open_clip(source));
            clip_ = std::move(opened);
        }
        if (clip_->info().live)
            return fail(Code::refused, fmt::format("“{}” has no end.", clip_->info().name),
                        "Convert a clip, or say where it is to end.");
        Cuts cuts{[this](const Track& t, Time from) { return begins_clean(t, from); },
                  [this](const Track& t, Time to) { return ends_clean(t, to); }};
        TRY(plan_, plan_for(clip_->info(), recipe, *wrapper, codecs_, o_.target ? &*o_.target : nullptr, cuts));
        to_ = recipe.to.value_or(Time::max());
        levels_.resize(plan_.sounds.size());
        TRY_DO(count_pictures());
        for (std::size_t i = 0; i < plan_.sounds.size(); ++i) TRY_DO(settle_level(i));
        TRY_DO(look_for_room());
        return encode();
    }

  private:
    /// Nothing is written over what is read, nor over what is there.
    Outcome look_at_place(const std::string& source) {
        std::error_code ec;
        if (o_.out.empty())
            return fail(Code::usage, "No name is given for what is made.", "Name it .mp4, .webm or .mkv.");
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
    /// A keyframe is shown at `from`.
    bool begins_clean(const Track& track, Time from) {
        auto reader = clip_->reader(track.id);
        PacketHead head;
        return reader->seek(from) && reader->next(head).value_or(false) && head.keyframe && head.pts == from;
    }
    /// No packet that is shown before `to` comes after one that is shown behind it.
    bool ends_clean(const Track& track, Time to) {
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
        // Ogg counts pictures: where they come at no one rate, in steps as small as the least between two of them.
        std::vector<Time> times;
        bool counted = plan_.wrapper->name == "ogg" && plan_.encode_video;
        TRY(auto facts, scan_track(*clip_, *plan_.video, [&](auto& head) {
                if (counted && times.size() < 4'000'000) times.push_back(head.pts);
                return (going = tell(0, 0)).has_value();
            }));
        TRY_DO(going);
        auto length = facts.end - facts.start;
        pictures_ = facts.frame_count;
        rate_ = facts.frame_rate;
        if (!rate_.stated() && times.size() > 1) {
            rate_ = {steps_a_second(std::move(times)), 1};
            plan_.why.push_back({"times-rounded",
                                 fmt::format("Its pictures come at no one rate; here they are counted in "
                                             "steps of a {}th of a second.",
                                             rate_.num),
                                 {}});
        }
        if (!rate_.stated() && length.ns > 0) {
            // About as many as come in a thousandth of a second's steps.
            auto mean = static_cast<double>(facts.frame_count) / length.seconds();
            rate_ = Rational{std::max<std::int64_t>(1, std::llround(mean * 1000)), 1000}.reduced();
        }
        auto& v = o_.recipe.video;
        constant_ = v.rate.has_value();
        if (v.rate) rate_ = *v.rate;
        if (v.most_rate && rate_.stated() && rate_.num * v.most_rate->den > v.most_rate->num * rate_.den)
            rate_ = *v.most_rate, constant_ = true;
        if (!rate_.stated()) rate_ = {30, 1};
        if (plan_.length.ns <= 0) plan_.length = std::min(facts.end, to_) - o_.recipe.from;
        return {};
    }

    struct Loudness {
        double lufs = -HUGE_VAL, peak = 0;  ///< Of the whole, gated; the true peak, full scale being 1.
    };
    /// How loud a sound is as a whole, at a level.
    Result<Loudness> measure(const Plan::Sound& s, Level level) {
        auto form = s.form;
        TRY(auto reader, maker().open_sound(s, o_.recipe.from));
        LevelledSound sound(std::move(reader), form, to_ == Time::max() ? to_ : to_ - o_.recipe.from, level);
        auto* state = ebur128_init(static_cast<unsigned>(form.channels), static_cast<unsigned long>(form.rate),
                                   EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK);
        if (!state) return fail(Code::internal, "The loudness could not be measured.");
        std::unique_ptr<ebur128_state, void (*)(ebur128_state*)> kept(state, [](auto* p) { ebur128_destroy(&p); });
        for (std::vector<float> block;; block.clear()) {
            TRY(bool more, sound.next(block));
            ebur128_add_frames_float(state, block.data(), block.size() / static_cast<std::size_t>(form.channels));
            TRY_DO(tell(0, 0));
            if (!more) break;
        }
        Loudness l;
        ebur128_loudness_global(state, &l.lufs);
        for (unsigned c = 0; c < static_cast<unsigned>(form.channels); ++c) {
            double p = 0;
            if (ebur128_true_peak(state, c, &p) == EBUR128_SUCCESS) l.peak = std::max(l.peak, p);
        }
        return l;
    }
    /// Two passes over a sound that is to have a loudness; more where its peaks have to be held down, since that makes
    /// it less loud. What is mixed down may be louder than full scale, and is held under it.
    Outcome settle_level(std::size_t number) {
        auto& s = plan_.sounds[number];
        auto& level = levels_[number];
        auto& wanted = o_.recipe.audio.loudness;
        if (!s.encode) return {};
        if (s.form.channels < s.track->audio.channels) level.ceiling = 1;
        if (!wanted) return {};
        TRY(auto plain, measure(s, {}));
        if (!std::isfinite(plain.lufs)) {
            plan_.why.push_back({"silent", "The sound is silent, so it keeps its level.", {}});
            return {};
        }
        constexpr double ceiling = 0.8913, margin = 0.988;  // -1 dB, and a tenth for what measuring may miss
        auto gain = std::pow(10, (*wanted - plain.lufs) / 20);
        level.gain = static_cast<float>(gain);
        level.ceiling.reset();
        if (plain.peak * gain <= ceiling) return {};
        level.ceiling = ceiling * margin;
        auto reached = plain.lufs, stepped = *wanted - plain.lufs;
        for (int round = 0; round < 7; ++round) {
            TRY(auto now, measure(s, level));
            auto gained = now.lufs - std::exchange(reached, now.lufs), lacks = *wanted - reached;
            // What is held down gives less than it is turned up by; about how much less, the last step told.
            if (std::abs(lacks) < 0.1 || level.gain > 1000) break;
            stepped = lacks / std::clamp(gained / stepped, 0.4, 1.2);
            level.gain *= static_cast<float>(std::pow(10, stepped / 20));
        }
        if (*wanted - reached > 0.5)
            plan_.why.push_back(
                {"peak-limited",
                 fmt::format("Its peaks leave no room for {:g} LUFS; it is made {:.1f} LUFS.", *wanted, reached),
                 {}});
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

    StreamMaker maker() const { return {clip_, plan_, o_.recipe, codecs_, rate_, constant_}; }

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
        TRY(auto video, maker().pictures(o_.recipe.from, to_, {1, notes, bitrate}));
        for (;;) {
            TRY(auto packet, video->next());
            if (!packet) return {};
            TRY_DO(tell(part_of(packet->pts), 0));
        }
    }
    struct Written {
        std::uint64_t video = 0, all = 0;  ///< Bytes of packets.
        Time end{};
    };
    /// A track on its way: its next packet waits.
    struct Line {
        std::unique_ptr<MadeStream> stream;
        bool pictures = false, sound = false;
        std::optional<MadePacket> next{};
        std::size_t number = 0;
    };
    Outcome write(ClipWriter& writer, std::vector<Line>& lines, Written& so_far) {
        bool any = false, first_sound = true;
        writer.describe(clip_->info().tags);
        for (auto& l : lines) {
            TRY(l.next, l.stream->next());
            if (!l.next) continue;
            any = any || l.pictures || l.sound;
            auto track = l.stream->track();
            if (l.sound) track.is_default = std::exchange(first_sound, false);
            TRY(l.number, writer.add(track));
        }
        if (!any)
            return fail(Code::truncated, fmt::format("Nothing of “{}” could be read.", clip_->info().name),
                        "The file may be cut short.");
        // Some fifty packets of a sound a second.
        auto seconds = std::max(1.0, plan_.length.seconds());
        auto pictures =
            constant_
                ? static_cast<std::uint64_t>(seconds * static_cast<double>(rate_.num) / static_cast<double>(rate_.den))
                : pictures_;
        writer.expect((plan_.video ? pictures : 0) +
                      static_cast<std::uint64_t>(seconds * 52 * static_cast<double>(plan_.sounds.size())));
        for (;;) {
            Line* now = nullptr;
            for (auto& l : lines)
                if (l.next && (!now || l.next->dts < now->next->dts)) now = &l;
            if (!now) break;
            auto& m = *now->next;
            TRY_DO(writer.write(now->number, {m.pts, m.dts, m.duration, m.keyframe, m.data}));
            so_far.all += m.data.size();
            if (now->pictures) so_far.video += m.data.size();
            TRY_DO(tell(part_of(m.pts), so_far.all));
            TRY(now->next, now->stream->next());
        }
        for (auto& l : lines) {
            so_far.end = std::max(so_far.end, l.stream->end());
            if (l.sound && l.stream->trimmed()) writer.ends(l.number, l.stream->end());
        }
        return writer.finish([&](double) { return tell(1, so_far.all).has_value(); });
    }

    Result<Converted> encode() {
        auto& v = o_.recipe.video;
        auto target = o_.recipe.fit_bytes;
        double seconds = plan_.length.seconds();
        auto bitrate = plan_.encode_video ? v.bitrate.value_or(0) : 0;
        if (target) {
            double sound = 0;
            for (auto& s : plan_.sounds) sound += (s.encode ? s.bitrate : 128'000) * seconds / 8;
            double left = seconds > 0 ? (static_cast<double>(*target) * aim - sound - 2000) * 8 / seconds : 0;
            if (!plan_.encode_video || left < 8000)
                return fail(Code::limit, fmt::format("It does not fit into {} bytes.", *target),
                            "Allow more, a smaller picture, or less sound.");
            bitrate = static_cast<std::uint32_t>(std::min(left, 1e9));
        }
        auto* form = picture_form(plan_.video_codec);
        bool twice = plan_.encode_video && (v.passes == 2 || (target && form && form->two_passes));
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
            std::vector<Line> lines;
            if (plan_.video) {
                TRY(auto pictures, maker().pictures(o_.recipe.from, to_, {twice ? 2 : 0, notes.path, bitrate}));
                lines.push_back({.stream = std::move(pictures), .pictures = true});
            }
            for (std::size_t i = 0; i < plan_.sounds.size(); ++i) {
                TRY(auto sound, maker().sound(plan_.sounds[i], o_.recipe.from, to_, levels_[i]));
                lines.push_back({.stream = std::move(sound), .sound = true});
            }
            for (auto& c : plan_.captions) {
                TRY(auto captions, maker().captions(c, o_.recipe.from, to_));
                lines.push_back({.stream = std::move(captions)});
            }
            TRY(auto file, FileWriter::create(o_.out, o_.replace));
            Weight weight{least, target.value_or(UINT64_MAX)};
            auto writer = plan_.wrapper->write(std::make_unique<Weighed>(std::move(file), weight));
            Written so_far;
            auto written = write(*writer, lines, so_far);
            if (written) return report(so_far, weight.size, lines, twice ? 2 : 1);
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
    Result<Converted> report(const Written& written, std::uint64_t bytes, const std::vector<Line>& lines, int passes) {
        Converted c;
        c.path = o_.out;
        c.bytes = bytes;
        c.container = plan_.wrapper->container;
        c.duration = written.end;
        c.took = monotonic_now() - began_;
        c.findings = plan_.why;
        for (auto& l : lines) {
            if (l.pictures)
                c.video = {.action = plan_.encode_video ? "encoded" : "copied",
                           .codec = plan_.video_codec,
                           .width = plan_.format.width,
                           .height = plan_.format.height,
                           .passes = plan_.encode_video ? passes : 0,
                           .frames = l.stream->count()};
            if (!l.sound || c.audio.action != "none") continue;
            auto track = l.stream->track();
            c.audio = {.action = plan_.sounds[0].encode ? "encoded" : "copied",
                       .codec = plan_.sounds[0].codec,
                       .sample_rate = track.audio.rate,
                       .channels = track.audio.channels};
        }
        // What the source lacked was seen when it was opened, or when it was read.
        for (auto& f : clip_->info().findings)
            if (f.code == "truncated") c.findings.push_back(f);
        for (auto& l : lines)
            if (auto* s = l.stream.get(); s->cut() && !std::any_of(c.findings.begin(), c.findings.end(),
                                                                   [](auto& f) { return f.code == "truncated"; }))
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
    bool constant_ = false;
    std::vector<Level> levels_;
    double passes_ = 1, passed_ = 0;
    std::deque<std::pair<Time, double>> recent_;
};
}  // namespace

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
