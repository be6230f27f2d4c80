// SPDX-License-Identifier: Apache-2.0
#include "convert/conversion.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <deque>
#include <set>

#include "convert/bytes_over_time.h"
#include "convert/forecast.h"
#include "convert/levels.h"
#include "convert/streams.h"
#include "convert/weighed.h"
#include "io/transfer.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {

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
    Conversion(const ConversionOptions& options, CodecRegistry& codecs) : o_(options), codecs_(codecs) {
        // Named after a kind of file that holds sound, it holds sound, unless pictures are asked for.
        auto ending = transfer::lower(o_.out.extension().string());
        auto& video = o_.recipe.video;
        if (!ending.empty() && names_audio(ending.substr(1)) && video == Recipe::Video{})
            video.action = Recipe::Do::none;
    }

    Result<Converted> run(const std::string& source) {
        began_ = monotonic_now();
        auto& recipe = o_.recipe;
        RUEDO_TRY(auto container_format, container_format_for(recipe, o_.out));
        RUEDO_TRY_DO(look_at_place(source));
        RUEDO_TRY(clip_, open_to_end(source));
        to_ = recipe.to.value_or(Time::max());
        auto packets = from_packets(clip_, source);
        packets.rate = [this](const Track& t) { return walk(t) ? facts_->most_a_second() : 0; };
        RUEDO_TRY(plan_, plan_for(clip_->info(), recipe, *container_format, codecs_, o_.target ? &*o_.target : nullptr,
                                  packets));
        RUEDO_TRY_DO(tell(0, 0));
        RUEDO_TRY_DO(count_frames());
        for (auto& s : plan_.audio_tracks) {
            auto going = [this] { return tell(0, 0); };
            RUEDO_TRY(auto level, level_for(maker(), s, recipe.from, to_, going, plan_.why));
            levels_.push_back(level);
        }
        RUEDO_TRY_DO(look_for_room());
        return encode();
    }

  private:
    /// Nothing is written over what is read, nor over what is there.
    Status look_at_place(const std::string& source) {
        std::error_code ec;
        if (o_.out.empty())
            return fail(ErrorCode::usage, "No name is given for the output.", "Name it .mp4, .webm or .mkv.");
        if (fs::exists(o_.out, ec)) {
            if (!fs::is_regular_file(o_.out, ec))
                return fail(ErrorCode::refused, fmt::format("“{}” is no file.", o_.out.filename().string()),
                            "Choose another name.");
            if (fs::equivalent(o_.out, source, ec) && !ec)
                return fail(ErrorCode::refused, "What is made can’t take the place of what is read.",
                            "Choose another name.");
            if (o_.replace == Replace::nothing)
                return fail(ErrorCode::exists, fmt::format("“{}” exists already.", o_.out.filename().string()),
                            "Choose another name, or say that it may be replaced.");
        }
        return {};
    }
    /// How many there are, for the rate and for what is done; by their heads alone.
    Status count_frames() {
        if (!plan_.video) return {};
        RUEDO_TRY_DO(walk(*plan_.video));
        auto& facts = *facts_;
        // Ogg counts pictures: where they come at no one rate, in steps as small as the least between two of them.
        std::vector<Time> times;
        if (plan_.container_format->name == "ogg" && plan_.encode_video && !facts.frame_rate.stated()) {
            Status going;
            RUEDO_TRY_DO(scan_track(*clip_, *plan_.video, [&](auto& head) {
                if (times.size() < 4'000'000) times.push_back(head.pts);
                return (going = tell(0, 0)).has_value();
            }));
            RUEDO_TRY_DO(going);
        }
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
        auto& most = plan_.most_rate ? plan_.most_rate : v.most_rate;
        constant_ = v.rate.has_value();
        if (v.rate) rate_ = *v.rate;
        bool more = most && ((rate_.stated() && rate_.num * most->den > most->num * rate_.den) ||
                             (!v.rate && facts.most_a_second() > most->about() + 0.01));
        if (more) rate_ = *most, constant_ = true;
        if (!rate_.stated()) rate_ = {30, 1};
        if (plan_.length.ns <= 0) plan_.length = std::min(facts.end, to_) - o_.recipe.from;
        density_.assign(stretches, 0);
        for (std::size_t i = 0; i < bytes_.each.size(); ++i) {
            auto at = BytesOverTime::step * static_cast<std::int64_t>(i) - o_.recipe.from;
            if (at.ns < 0 || at >= plan_.length) continue;
            density_[std::min(stretches - 1, static_cast<std::size_t>(part_of(at) * stretches))] += bytes_.each[i];
        }
        return {};
    }
    /// Every packet's head, once: what only all of them tell, and where the bytes are.
    Status walk(const Track& track) {
        if (facts_) return {};
        Status going;
        RUEDO_TRY(facts_, scan_track(*clip_, track, [&](auto& head) {
                      bytes_.see(head);
                      return (going = tell(0, 0)).has_value();
                  }));
        return going;
    }

    Status look_for_room() {
        std::error_code ec;
        auto folder = o_.out.has_parent_path() ? o_.out.parent_path() : fs::path(".");
        auto space = fs::space(folder, ec);
        if (ec) return std::unexpected(errno_error(ec.value(), fmt::format("Writing “{}”", o_.out.string())));
        auto wanted = o_.recipe.fit_bytes.value_or(
            o_.recipe.video.bitrate
                ? static_cast<std::uint64_t>(*o_.recipe.video.bitrate / 8.0 * plan_.length.seconds())
                : clip_->info().bytes / 4);
        // What holds no files of ours says so when one is made there.
        if (space.capacity > 0 && space.available < wanted)
            return fail(ErrorCode::disk_full,
                        fmt::format("There is room for {} MB in “{}”, and about {} MB are needed.",
                                    space.available / 1'000'000, folder.string(), wanted / 1'000'000),
                        "Make room, or choose another folder.");
        return {};
    }

    StreamMaker maker() {
        return {clip_, plan_, o_.recipe, codecs_, rate_, constant_, [this] { return tell(told_part_, told_bytes_); }};
    }

    /// Whether it may go on; reports progress at least twice a second.
    Status tell(double part, std::uint64_t bytes) {
        if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped(clip_->info().name));
        // Once cancelled it stays cancelled.
        if (stopped_) return std::unexpected(*stopped_);
        told_part_ = part, told_bytes_ = bytes;
        auto now = monotonic_now();
        if (now - told_at_ < 200_ms) return {};
        told_at_ = now;
        ConversionProgress p;
        p.done = std::clamp(begins_ + part * share_, 0.0, 1.0);
        p.bytes = bytes;
        if (writing_) {
            forecast_.reached(p.done, now);
            p.left = forecast_.left();
        }
        // The pace of the last ten seconds.
        recent_.push_back({now, part});
        while (recent_.size() > 2 && now - recent_.front().first > 10_s) recent_.pop_front();
        auto over = (now - recent_.front().first).seconds(), gained = part - recent_.front().second;
        if (over > 0.3 && gained > 0) p.speed = gained * plan_.length.seconds() / over;
        if (o_.recipe.fit_bytes)
            p.expected_bytes = *o_.recipe.fit_bytes;
        else if (auto through = bytes_before(part); part > 0.02 && through > 0)
            p.expected_bytes = static_cast<std::uint64_t>(static_cast<double>(bytes) / through);
        RUEDO_TRY_DO(look_whether_it_fits(now, part, p));
        if (o_.told && !o_.told(p)) {
            stopped_ = Error{ErrorCode::cancelled, "Converting was stopped.", "Run it again."};
            return std::unexpected(*stopped_);
        }
        return {};
    }
    /// Of the source's bytes, how many of a hundred lie before a part of its length.
    double bytes_before(double part) const {
        double all = 0, before = 0;
        for (std::size_t i = 0; i < density_.size(); ++i) {
            all += density_[i];
            before += density_[i] *
                      std::clamp(part * static_cast<double>(density_.size()) - static_cast<double>(i), 0.0, 1.0);
        }
        return all > 0 ? before / all : part;
    }
    /// The room on the disk while it is filled, now and then: not only by this one.
    Status look_whether_it_fits(Time now, double part, const ConversionProgress& p) {
        if (now - looked_at_room_ < 2_s || part < 0.25 || p.expected_bytes <= p.bytes) return {};
        looked_at_room_ = now;
        std::error_code ec;
        auto folder = o_.out.has_parent_path() ? o_.out.parent_path() : fs::path(".");
        auto space = fs::space(folder, ec);
        // What is expected may be off by half; where it was too much, writing goes on until it fails.
        if (ec || static_cast<double>(space.available) > 0.5 * static_cast<double>(p.expected_bytes - p.bytes))
            return {};
        return fail(ErrorCode::disk_full,
                    fmt::format("About {} MB are still to come, and there is room for {} MB in “{}”.",
                                (p.expected_bytes - p.bytes) / 1'000'000, space.available / 1'000'000, folder.string()),
                    "Make room, or choose another folder.");
    }
    /// From here on `done` goes from `from` to `to`.
    void begin_pass(double from, double to) {
        begins_ = from, share_ = to - from;
        recent_.clear();
        if (std::exchange(writing_, true)) return;
        std::vector<Forecast::Part> parts;
        for (auto pass : from > 0 || to < 1 ? std::vector{to, 1 - to} : std::vector{1.0})
            for (auto d : density_) parts.push_back({pass / static_cast<double>(density_.size()), d});
        forecast_ = Forecast(std::move(parts));
    }
    double part_of(Time at) const {
        return plan_.length.ns > 0 ? std::clamp(at.seconds() / plan_.length.seconds(), 0.0, 1.0) : 0;
    }

    static fs::path learned_in(const ScratchFolder& notes) { return notes.path() / "learned"; }
    /// Before the pass that is written, the one that learns, where there is one.
    Status prepare(bool twice, const ScratchFolder& notes, std::uint32_t bitrate) {
        auto first = twice ? video_encoder_traits(plan_.video_codec)->first_pass : 0;
        if (twice) {
            begin_pass(0, first);
            RUEDO_TRY_DO(notes.make());
            RUEDO_TRY_DO(learn(learned_in(notes), bitrate));
        }
        begin_pass(first, 1);
        return {};
    }
    /// Pictures once through, for what a second pass is to know.
    Status learn(const fs::path& notes, std::uint32_t bitrate) {
        RUEDO_TRY(auto video, maker().pictures(o_.recipe.from, to_, {1, notes, bitrate}));
        for (;;) {
            RUEDO_TRY(auto packet, video->next());
            if (!packet) return {};
            RUEDO_TRY_DO(tell(part_of(packet->pts), 0));
        }
    }
    struct Written {
        std::uint64_t video = 0, all = 0;  ///< Bytes of packets.
        Time begin = Time::max(), end{};
    };
    /// A track on its way: its next packet waits.
    struct Line {
        std::unique_ptr<OutputTrack> stream;
        bool pictures = false, audio = false;
        std::optional<OutputPacket> next{};
        std::size_t number = 0;
    };
    /// Of the pictures as they were written: the first keyframe, the one in the middle and the last one.
    std::vector<Time> places() const {
        if (keys_.empty()) return {};
        std::set<Time> all{keys_.front(), keys_[keys_.size() / 2], keys_.back()};
        return {all.begin(), all.end()};
    }
    /// Whether what was made can be played, and is what the target takes.
    Status check(const fs::path& made) {
        RUEDO_TRY(auto opened, open_clip(made.string()));
        std::shared_ptr<Clip> clip = std::move(opened);
        auto wrong = [&](bool encoded, const Error& error) -> Status {
            if (error.code == ErrorCode::cancelled || error.code == ErrorCode::timeout) return std::unexpected(error);
            if (encoded)
                return fail(ErrorCode::internal, "What was made can’t be played: " + error.sentence,
                            "Choose another codec or size; --no-check keeps it all the same.");
            damage_ = Finding{"damaged", "What was copied is damaged: " + error.sentence, export_again};
            return {};
        };
        damage_.reset();
        if (plan_.video) {
            auto* track = clip->info().main(Kind::video);
            if (!track) return wrong(plan_.encode_video, {ErrorCode::malformed, "Its pictures are not found.", {}});
            auto reader = FrameReader::open(clip, *track, codecs_);
            if (!reader) RUEDO_TRY_DO(wrong(plan_.encode_video, reader.error()));
            for (auto at : reader ? places() : std::vector<Time>{})
                if (auto picture = (*reader)->at(at); !picture)
                    RUEDO_TRY_DO(wrong(plan_.encode_video, picture.error()));
        }
        if (!plan_.audio_tracks.empty()) {
            auto& s = plan_.audio_tracks.front();
            auto* track = clip->info().main(Kind::audio);
            if (!track) return wrong(s.encode, {ErrorCode::malformed, "Its sound is not found.", {}});
            auto reader = AudioReader::open(clip, *track, codecs_);
            if (!reader) RUEDO_TRY_DO(wrong(s.encode, reader.error()));
            for (auto at : reader ? std::vector{Time{}, plan_.length / 2} : std::vector<Time>{}) {
                auto there = (*reader)->seek(at);
                if (!there) RUEDO_TRY_DO(wrong(s.encode, there.error()));
                if (auto heard = (*reader)->next(); !heard) RUEDO_TRY_DO(wrong(s.encode, heard.error()));
            }
        }
        if (!o_.target) return {};
        RUEDO_TRY(auto facts, gather_facts(clip, codecs_, {}, {.loudness = false}));
        auto verdict = judge(facts, *o_.target, codecs_);
        if (verdict.plays == Verdict::Plays::yes) return {};
        return fail(ErrorCode::refused,
                    fmt::format("What was made is not for {}: {}", o_.target->title, verdict.sentence()),
                    "Leave more of the recipe open, or choose another target.");
    }
    Status write(Muxer& writer, std::vector<Line>& lines, Written& so_far) {
        keys_.clear();
        bool any = false, first_audio = true;
        writer.describe(clip_->info().tags);
        for (auto& l : lines) {
            RUEDO_TRY(l.next, l.stream->next());
            if (!l.next) continue;
            any = any || l.pictures || l.audio;
            auto track = l.stream->track();
            if (l.audio) track.is_default = std::exchange(first_audio, false);
            RUEDO_TRY(l.number, writer.add(track));
        }
        if (!any)
            return fail(ErrorCode::truncated, fmt::format("Nothing of “{}” could be read.", clip_->info().name),
                        "The file may be cut short.");
        // Some fifty packets of a sound a second.
        auto seconds = std::max(1.0, plan_.length.seconds());
        auto pictures =
            constant_
                ? static_cast<std::uint64_t>(seconds * static_cast<double>(rate_.num) / static_cast<double>(rate_.den))
                : pictures_;
        writer.expect((plan_.video ? pictures : 0) +
                      static_cast<std::uint64_t>(seconds * 52 * static_cast<double>(plan_.audio_tracks.size())));
        for (;;) {
            Line* now = nullptr;
            for (auto& l : lines)
                if (l.next && (!now || l.next->dts < now->next->dts)) now = &l;
            if (!now) break;
            auto& m = *now->next;
            RUEDO_TRY_DO(writer.write(now->number, {m.pts, m.dts, m.duration, m.keyframe, m.data}));
            so_far.all += m.data.size();
            if (now->pictures) {
                so_far.video += m.data.size();
                if (m.keyframe) keys_.push_back(m.pts);
            }
            if (now->pictures || now->audio) so_far.begin = std::min(so_far.begin, std::max(Time{}, m.pts));
            RUEDO_TRY_DO(tell(part_of(m.pts), so_far.all));
            RUEDO_TRY(now->next, now->stream->next());
        }
        for (auto& l : lines) {
            so_far.end = std::max(so_far.end, l.stream->end());
            if (l.stream->trimmed() && (l.audio || plan_.container_format->container == "mp4"))
                writer.ends(l.number, l.stream->end());
        }
        return writer.finish([&](double) { return tell(1, so_far.all).has_value(); });
    }

    Result<Converted> encode() {
        auto& v = o_.recipe.video;
        auto target = o_.recipe.fit_bytes;
        auto bitrate = plan_.encode_video ? v.bitrate.value_or(0) : 0;
        if (target) {
            RUEDO_TRY(bitrate, bitrate_for(*target));
        }
        auto* form = video_encoder_traits(plan_.video_codec);
        bool twice = plan_.encode_video && (v.passes == 2 || (target && form && form->two_passes));
        if (twice && !bitrate)
            return fail(ErrorCode::usage, "Two passes need a bitrate or a size to aim at.",
                        "Give one, or let it be one pass.");
        // What the first of two passes learns, which some libraries write as several files.
        ScratchFolder notes("passes");
        RUEDO_TRY_DO(prepare(twice, notes, bitrate));
        std::uint64_t least = target ? *target * 97 / 100 : 0, before = 0;
        for (int tries = 1;; ++tries) {
            std::vector<Line> lines;
            if (plan_.video) {
                RUEDO_TRY(auto pictures,
                          maker().pictures(o_.recipe.from, to_, {twice ? 2 : 0, learned_in(notes), bitrate}));
                lines.push_back({.stream = std::move(pictures), .pictures = true});
            }
            for (std::size_t i = 0; i < plan_.audio_tracks.size(); ++i) {
                RUEDO_TRY(auto audio, maker().audio(plan_.audio_tracks[i], o_.recipe.from, to_, levels_[i]));
                lines.push_back({.stream = std::move(audio), .audio = true});
            }
            for (auto& c : plan_.captions) {
                RUEDO_TRY(auto captions, maker().captions(c, o_.recipe.from, to_));
                lines.push_back({.stream = std::move(captions)});
            }
            RUEDO_TRY(auto file, FileWriter::create(o_.out, o_.replace));
            if (o_.check) file.before_commit([this](auto& made) { return check(made); });
            Weight weight{least, std::min(target.value_or(UINT64_MAX), plan_.most_bytes), !target};
            auto writer = plan_.container_format->write(std::make_unique<Weighed>(std::move(file), weight));
            Written so_far;
            auto written = write(*writer, lines, so_far);
            if (written) return report(so_far, weight.size, lines, twice ? 2 : 1);
            if (!weight.refused || tries == 6 || !plan_.encode_video) return std::unexpected(written.error());
            if (!target) {
                // As good as was asked for it is too large for the target's bundle.
                if (!form || !form->bitrate) return std::unexpected(written.error());
                target = plan_.most_bytes;
                plan_.why.push_back(
                    {"made-to-fit",
                     fmt::format("As good as that it would take more than the {:.1f} MB of a bundled clip; it is made "
                                 "to fit.",
                                 static_cast<double>(*target) / 1e6),
                     {}});
                RUEDO_TRY(bitrate, bitrate_for(*target));
                twice = form->two_passes;
                writing_ = false;
                RUEDO_TRY_DO(prepare(twice, notes, bitrate));
                continue;
            }
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
    /// Of pictures that together with the sound come to so many bytes.
    Result<std::uint32_t> bitrate_for(std::uint64_t bytes) const {
        double seconds = plan_.length.seconds(), audio = 0;
        for (auto& s : plan_.audio_tracks) audio += (s.encode ? s.bitrate : 128'000) * seconds / 8;
        double left = seconds > 0 ? (static_cast<double>(bytes) * aim - audio - 2000) * 8 / seconds : 0;
        if (!plan_.encode_video || left < 8000)
            return fail(ErrorCode::limit, fmt::format("It does not fit into {} bytes.", bytes),
                        "Allow more, a smaller picture, or less sound.");
        return static_cast<std::uint32_t>(std::min(left, 1e9));
    }
    Result<Converted> report(const Written& written, std::uint64_t bytes, const std::vector<Line>& lines, int passes) {
        Converted c;
        c.path = o_.out;
        c.bytes = bytes;
        c.container = plan_.container_format->container;
        // The earliest that is shown or heard is where the time of what was made begins.
        c.duration = std::max(Time{}, written.end - std::min(written.begin, written.end));
        c.took = monotonic_now() - began_;
        c.findings = plan_.why;
        if (damage_) c.findings.push_back(*damage_);
        for (auto& l : lines) {
            if (l.pictures)
                c.video = {.action = plan_.encode_video ? "encoded" : "copied",
                           .codec = plan_.video_codec,
                           .width = plan_.format.width,
                           .height = plan_.format.height,
                           .passes = plan_.encode_video ? passes : 0,
                           .frames = l.stream->count()};
            if (!l.audio || c.audio.action != "none") continue;
            auto track = l.stream->track();
            c.audio = {.action = plan_.audio_tracks[0].encode ? "encoded" : "copied",
                       .codec = plan_.audio_tracks[0].codec,
                       .sample_rate = track.audio.rate,
                       .channels = track.audio.channels};
        }
        // Over so short a time no encoder can be held to a rate.
        auto& asked = o_.recipe.video.bitrate;
        auto seconds = c.duration.seconds();
        if (asked && plan_.encode_video && seconds >= 8) {
            auto came = static_cast<double>(written.video) * 8 / seconds, off = came / *asked - 1;
            if (std::abs(off) > (passes == 2 ? 0.02 : 0.05))
                c.findings.push_back(
                    {"bitrate-missed",
                     fmt::format("The pictures came to {:.0f} kbit/s, {:.1f} % {} than was asked for.", came / 1000,
                                 std::abs(off) * 100, off > 0 ? "more" : "less"),
                     passes == 2 ? "The pictures need no more, or can’t do with less." : "Two passes come closer."});
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
    static constexpr std::size_t stretches = 256;
    ConversionOptions o_;
    CodecRegistry& codecs_;
    std::shared_ptr<Clip> clip_;
    Plan plan_;
    Time to_ = Time::max(), began_{}, told_at_{};
    double told_part_ = 0;
    std::uint64_t told_bytes_ = 0;
    std::optional<Error> stopped_;
    Rational rate_{};
    std::uint64_t pictures_ = 0;
    bool constant_ = false;
    std::vector<Level> levels_;
    double begins_ = 0, share_ = 1;  ///< Of all that is to be done, what the pass under way is.
    bool writing_ = false;
    Forecast forecast_;
    std::optional<TrackFacts> facts_;
    std::vector<Time> keys_;  ///< Of the pictures that were written.
    std::optional<Finding> damage_;
    BytesOverTime bytes_;          ///< Of the source's pictures ...
    std::vector<double> density_;  ///< ... and in equal stretches of the kept range.
    std::deque<std::pair<Time, double>> recent_;
    Time looked_at_room_{};
};
}  // namespace

Result<Converted> convert(const std::string& source, const ConversionOptions& options, CodecRegistry& codecs) {
    return Conversion(options, codecs).run(source);
}

}  // namespace ruedo
