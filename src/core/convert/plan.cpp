// SPDX-License-Identifier: Apache-2.0
#include "convert/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "convert/shape.h"
#include "io/transfer.h"
#include "media/codec_headers.h"
#include "playback/playback.h"
#include "text/cues.h"

namespace ruedo {
namespace {
using Do = Recipe::Do;
using Shape = Recipe::Shape;

constexpr std::array video_encoders{
    VideoEncoderTraits{Codec::h264, 21, 0, 51, true, true, 2, 2, 3, 0.45, true},
    VideoEncoderTraits{Codec::vp9, 32, 0, 63, true, true, 1, 1, 0, 0.2, true},
    VideoEncoderTraits{Codec::vp8, 20, 0, 63, true, true, 1, 1, 0, 0.3, false},
    VideoEncoderTraits{Codec::av1, 35, 1, 63, true, false, 64, 1, 0, 0.5, true},
    VideoEncoderTraits{Codec::theora, 48, 0, 63, true, true, 1, 1, 0, 0.45, false},
    VideoEncoderTraits{Codec::mjpeg, 85, 1, 100, false, false, 1, 1, 0, 0.5, false},
};
const std::array audio_encoders{
    AudioEncoderTraits{
        Codec::aac, {8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 64000, 88200, 96000}, 2, false},
    AudioEncoderTraits{Codec::opus, {48000}, 8, false},
    AudioEncoderTraits{Codec::vorbis, {}, 8, false},
    AudioEncoderTraits{Codec::mp3, {8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000}, 2, false},
    AudioEncoderTraits{Codec::flac, {}, 8, true},
    AudioEncoderTraits{Codec::pcm, {}, 8, true},
};
/// Codecs whose header a container needs outside their packets.
bool needs_config(Codec codec, const ContainerFormat& container_format) {
    switch (codec) {
        case Codec::vp8:
        case Codec::mjpeg:
        case Codec::mp3:
        case Codec::mp2:
            return false;
        case Codec::mpeg1:
        case Codec::mpeg2:
        case Codec::ac3:
            return container_format.container == "mp4";
        case Codec::vp9:
            return container_format.container == "mp4";
        default:
            return true;
    }
}
std::string_view matrix_title(Colour::Matrix matrix) {
    return matrix == Colour::Matrix::bt709 ? "BT.709" : matrix == Colour::Matrix::bt2020 ? "BT.2020" : "BT.601";
}
/// Whether a container can say that a sound begins or ends inside a packet.
bool trims(const ContainerFormat& container_format, Codec codec) {
    return container_format.container == "mp4" || container_format.container == "webm" ||
           container_format.container == "matroska" || (container_format.container == "ogg" && codec != Codec::flac);
}

class Planner {
  public:
    Planner(const ClipInfo& info, const Recipe& recipe, const ContainerFormat& container_format, CodecRegistry& codecs,
            const Target* target, const FromPackets& packets)
        : info_(info),
          recipe_(recipe),
          container_format_(container_format),
          codecs_(codecs),
          target_(target),
          packets_(packets) {}

    Result<Plan> make() {
        p_.container_format = &container_format_;
        RUEDO_TRY_DO(look_at_recipe());
        if (target_ && std::find(target_->containers.begin(), target_->containers.end(), container_format_.container) ==
                           target_->containers.end()) {
            if (!recipe_.container_format.empty())
                return std::unexpected(
                    not_taken("/wrapper", fmt::format("does not take {}", container_format_.title)).error());
            return fail(ErrorCode::refused,
                        fmt::format("{} does not take {}.", target_->title, container_format_.title),
                        fmt::format("Name the file .{}, or choose another target.",
                                    target_->containers.empty() ? "mp4" : target_->containers.front()));
        }
        bool wants_video = recipe_.video.action != Do::none;
        RUEDO_TRY(auto tracks, select_tracks(info_, codecs_, {}, wants_video));
        if (tracks.lacking && (tracks.video || recipe_.video.action != Do::none || recipe_.audio.action != Do::none))
            note("track-left-out", "Left out is what is not known here: " + tracks.lacking->sentence);
        p_.video = !wants_video || container_format_.video.empty() ? nullptr : tracks.video;
        if (tracks.video && !p_.video && recipe_.video.action != Do::none)
            note("pictures-left-out",
                 fmt::format("The pictures are left out: {} holds none.", container_format_.title));
        if (tracks.audio && recipe_.audio.action != Do::none) add_audio(*tracks.audio);
        if (!p_.video && p_.audio_tracks.empty())
            return fail(ErrorCode::empty, fmt::format("Nothing of “{}” would be left.", info_.name),
                        "Keep its pictures or its sound.");
        auto end = recipe_.to.value_or(info_.duration_known ? info_.duration : Time::max());
        if (info_.duration_known && recipe_.from >= info_.duration)
            return fail(ErrorCode::refused, fmt::format("“{}” is over at {}.", info_.name, format_time(info_.duration)),
                        "Begin earlier.");
        p_.length = info_.duration_known ? std::min(end, info_.duration) - recipe_.from
                    : recipe_.to         ? *recipe_.to - recipe_.from
                                         : Time{};
        if (recipe_.captions == Recipe::Captions::burn) plan_burn_in();
        if (p_.video) RUEDO_TRY_DO(plan_video());
        for (auto& s : p_.audio_tracks) RUEDO_TRY_DO(plan_audio(s));
        plan_captions();
        return std::move(p_);
    }

  private:
    /// What a recipe says and its target does not take.
    Status not_taken(const char* at, const std::string& what) const {
        return fail(ErrorCode::refused,
                    fmt::format("The recipe’s {} is not for {}, which {}.", at, target_->title, what),
                    "Change it there, or choose another target.");
    }
    Status look_at_recipe() {
        if (!target_) return {};
        for (auto [at, encodes, codec, rules] :
             {std::tuple{"/video/codec", recipe_.video.action == Do::encode, recipe_.video.codec, &target_->video},
              {"/audio/codec", recipe_.audio.action == Do::encode, recipe_.audio.codec, &target_->audio}})
            if (encodes && codec && !rule_of(*rules, *codec))
                return not_taken(at, fmt::format("does not take {}", codec_title(*codec)));
        if (!target_->bundle_bytes) return {};
        p_.most_bytes = target_->bundle_bytes;
        if (recipe_.fit_bytes.value_or(0) > p_.most_bytes)
            return not_taken("/fit_bytes", fmt::format("takes at most {} bytes in a bundle", p_.most_bytes));
        return {};
    }
    void note(std::string code, std::string sentence) { p_.why.push_back({std::move(code), std::move(sentence), {}}); }

    void add_audio(const Track& main) {
        p_.audio_tracks.push_back({.track = &main});
        if (!recipe_.all_tracks) return;
        std::size_t left_out = 0;
        for (auto& t : info_.tracks) {
            if (t.kind != Kind::audio || &t == &main) continue;
            if (t.problem || !codecs_.decodes(t.codec) || container_format_.alone())
                ++left_out;
            else
                p_.audio_tracks.push_back({.track = &t});
        }
        if (left_out)
            note("tracks-left-out",
                 fmt::format("{} more of its sounds can’t be kept{}.", left_out,
                             container_format_.alone() ? fmt::format(": {} holds one", container_format_.title) : ""));
    }

    /// The first codec of the container that the target takes and that can be written here.
    Result<Codec> choose(const std::vector<Codec>& of, const std::vector<CodecRule>* rules,
                         const std::optional<Codec>& wanted) {
        if (wanted) {
            if (std::find(of.begin(), of.end(), *wanted) == of.end())
                return fail(ErrorCode::refused,
                            fmt::format("{} can’t be put into {}.", codec_title(*wanted), container_format_.title),
                            "Choose another codec, or another name for the output.");
            if (!codecs_.encodes(*wanted))
                return fail(ErrorCode::codec_missing, fmt::format("{} can’t be encoded here.", codec_title(*wanted)),
                            "Choose another codec.");
            return *wanted;
        }
        for (auto c : of)
            if (codecs_.encodes(c) && (!rules || rule_of(*rules, c))) return c;
        return fail(
            ErrorCode::refused,
            fmt::format("Nothing that can be encoded here goes into {} and is taken there.", container_format_.title),
            "Choose another target, or another name for the output.");
    }

    /// Upright, where it can't be said that they are to be turned.
    Recipe::Video shape_wanted() const {
        auto v = recipe_.video;
        if (v.shape == Shape::keep && p_.video->video.rotation != 0 && !container_format_.shapes) v.shape = Shape::bake;
        return v;
    }
    /// Why the pictures can't stay as they are; empty when they can.
    std::string video_change() {
        auto& v = recipe_.video;
        auto& track = *p_.video;
        auto* rule = target_ ? rule_of(target_->video, track.codec) : nullptr;
        bool reshaped = p_.reshape.to_width != track.video.width || p_.reshape.to_height != track.video.height ||
                        p_.reshape.turn || p_.reshape.canvas_width != p_.reshape.to_width ||
                        p_.reshape.width != track.video.width || p_.reshape.height != track.video.height;
        if (v.action == Do::encode) return "it was asked for";
        if (p_.burn_in || !p_.burn_in_file.empty()) return "captions are drawn into them";
        if (std::find(container_format_.video.begin(), container_format_.video.end(), track.codec) ==
            container_format_.video.end())
            return fmt::format("{} does not go into {}", codec_title(track.codec), container_format_.title);
        if (target_ && !rule) return fmt::format("{} does not take {}", target_->title, codec_title(track.codec));
        if (auto what = unsaid_shape(track, container_format_); !what.empty())
            return fmt::format("{} can’t say {}", container_format_.title, what);
        if (reshaped) return "its size or shape changes";
        if (auto why = rule ? misfit(track, rate(), *rule) : std::string(); !why.empty()) return why;
        if (wanted_colour(nullptr) != given_colour()) return "its colours change";
        // As much of it as is kept.
        auto kept = info_.duration.ns > 0 ? p_.length.seconds() / info_.duration.seconds() : 1;
        if (auto bytes = static_cast<double>(info_.bytes) * kept; bytes > static_cast<double>(p_.most_bytes))
            return fmt::format("it takes {:.1f} MB, and {} bundles {:.1f} MB at most", bytes / 1e6, target_->title,
                               static_cast<double>(p_.most_bytes) / 1e6);
        if (v.quality || v.bitrate || recipe_.fit_bytes || v.rate || v.most_rate) return "its rate changes";
        // An edit of the source's own cuts as well, but for MP4, which says itself from when to when it is shown.
        auto edited = [&](auto& clean, Time at) {
            return container_format_.container != "mp4" && clean && !clean(track, at);
        };
        if (recipe_.from.ns > 0 ? !(packets_.begins && packets_.begins(track, recipe_.from))
                                : edited(packets_.begins, Time{}))
            return "it begins between keyframes";
        if (recipe_.to && *recipe_.to < track.end ? !(packets_.ends && packets_.ends(track, *recipe_.to))
                                                  : track.end != Time::max() && edited(packets_.ends, track.end))
            return "it ends among pictures that need later ones";
        if (track.config.empty() && needs_config(track.codec, container_format_))
            return "its settings stand in the stream";
        return {};
    }
    Status plan_video() {
        auto& v = recipe_.video;
        if (p_.video->video.alpha)
            note("opaque", "The file says that its pictures may be see-through; the output is opaque.");
        plan_shape(p_, shape_wanted(), 0, 0, step_);
        auto reason = video_change();
        p_.encode_video = !reason.empty();
        p_.video_codec = p_.video->codec;
        if (!p_.encode_video) return {};
        if (v.action == Do::copy)
            return fail(ErrorCode::refused, fmt::format("The pictures can’t be copied: {}.", reason),
                        "Let them be encoded, or leave the rest as it is.");
        RUEDO_TRY(p_.video_codec, choose(container_format_.video, target_ ? &target_->video : nullptr, v.codec));
        auto* form = video_encoder_traits(p_.video_codec);
        if (!form) return fail(ErrorCode::internal, "The encoder is not described.");
        step_ = form->step % 2 == 0 ? 2 : 1;
        plan_shape(p_, shape_wanted(), 0, 0, step_);
        auto* rule = target_ ? rule_of(target_->video, p_.video_codec) : nullptr;
        if (rule) RUEDO_TRY_DO(keep_within(*rule));
        if (v.quality && (*v.quality < form->low || *v.quality > form->high))
            return fail(
                ErrorCode::refused,
                fmt::format("The quality of {} goes from {} to {}.", codec_title(form->codec), form->low, form->high),
                "Choose one of these.");
        if ((v.bitrate || recipe_.fit_bytes) && !form->bitrate)
            return fail(ErrorCode::refused,
                        fmt::format("{} can’t aim at a bitrate or a size.", codec_title(form->codec)),
                        "Give a quality, or choose another codec.");
        if (v.passes == 2 && !form->two_passes)
            return fail(ErrorCode::refused, fmt::format("{} is encoded in one pass here.", codec_title(form->codec)),
                        "Ask for one pass.");
        even_out(*form);
        p_.format.crop = {};
        if (p_.format.width < form->least || p_.format.height < form->least)
            return fail(
                ErrorCode::refused,
                fmt::format("{} is encoded from {} × {} on, and this would be {} × {}.", codec_title(form->codec),
                            form->least, form->least, p_.format.width, p_.format.height),
                "Choose another codec, or a larger size.");
        note("pictures-encoded", fmt::format("The pictures are encoded anew: {}.", reason));
        auto given = given_colour(), wanted = wanted_colour(rule);
        p_.format.colour = p_.reshape.colour = wanted.made_for(form->codec);
        bool alone = p_.format.colour != wanted;
        p_.format.colour = p_.format.colour.tagged();
        auto range = p_.format.colour.range == Colour::Range::full ? "full" : "limited";
        if (alone)
            note("colours-converted", fmt::format("Colours are converted: the numbers of {} always mean BT.601 in {} "
                                                  "range.",
                                                  codec_title(form->codec), range));
        else if (wanted != given)
            note("colours-converted",
                 fmt::format("Colours are converted to {} in {} range.", matrix_title(wanted.matrix), range));
        return {};
    }
    Colour given_colour() const { return p_.video->video.colour.resolved(p_.video->video.height); }
    /// Before the codec has its say. Another matrix does not make other primaries.
    Colour wanted_colour(const CodecRule* rule) const {
        auto& v = recipe_.video;
        auto c = given_colour();
        if (v.matrix != Colour::Matrix::unspecified && v.matrix != c.matrix) c = c.tagged(), c.matrix = v.matrix;
        if (v.range != Colour::Range::unspecified) c.range = v.range;
        if (rule && rule->limited_range) c.range = Colour::Range::limited;
        return c;
    }
    double rate() const { return packets_.rate ? packets_.rate(*p_.video) : 0; }
    /// What is encoded is what a target takes: of its size, its rate, its profile and its level.
    Status keep_within(const CodecRule& rule) {
        auto& v = recipe_.video;
        auto large = std::max(v.width, v.height), small = v.width && v.height ? std::min(v.width, v.height) : 0;
        if ((rule.max_width && large > std::max(rule.max_width, rule.max_height)) ||
            (rule.max_height && small > std::min(rule.max_width, rule.max_height)))
            return not_taken(v.width ? "/video/width" : "/video/height",
                             fmt::format("takes at most {} × {}", rule.max_width, rule.max_height));
        if (v.rate && rule.max_rate && v.rate->num > v.rate->den * rule.max_rate)
            return not_taken("/video/rate", fmt::format("takes at most {} pictures a second", rule.max_rate));
        if (rule.limited_range && v.range == Colour::Range::full)
            return not_taken("/video/range", "shows colours of full range wrongly");
        auto most = v.most_rate;
        if (rule.max_rate && (!most || most->about() > rule.max_rate)) most = Rational{rule.max_rate, 1};
        if (auto now = rate(); most && now > most->about() + 0.01) {
            p_.most_rate = most;
            if (!v.most_rate)
                note("rate-limited",
                     fmt::format("It has up to {:.4g} pictures a second, of which {} are kept.", now, rule.max_rate));
        }
        // Either way round.
        bool upright = p_.video->video.display_height() > p_.video->video.display_width();
        int w = rule.max_width ? rule.max_width : 8192, h = rule.max_height ? rule.max_height : w;
        if (upright == (w > h)) std::swap(w, h);
        const int w0 = w, h0 = h;
        if (rule.max_width) plan_shape(p_, shape_wanted(), w, h, step_);
        for (auto name : {"high", "main", "baseline"})
            if (p_.video_codec == Codec::h264 && p_.profile.empty() &&
                std::find(rule.profiles.begin(), rule.profiles.end(), name) != rule.profiles.end())
                p_.profile = name;
        p_.level = rule.max_level;
        auto pace = v.rate ? v.rate->about() : p_.most_rate ? p_.most_rate->about() : std::max(1.0, rate());
        auto level = [&] {
            return p_.video_codec == Codec::h264  ? h264_level(p_.format.width, p_.format.height, pace)
                   : p_.video_codec == Codec::vp9 ? vp9_level(p_.format.width, p_.format.height, pace)
                                                  : 0;
        };
        auto fits = [&] {
            auto wide = std::max(p_.format.width, p_.format.height), low = std::min(p_.format.width, p_.format.height);
            return (!p_.level || level() <= p_.level) && (!rule.max_width || wide <= std::max(w0, h0)) &&
                   (!rule.max_height || low <= std::min(w0, h0));
        };
        w = std::min(w, p_.format.display_width()), h = std::min(h, p_.format.display_height());
        while (!fits() && std::min(w, h) > 16) {
            w -= std::max(1, w / 32), h -= std::max(1, h / 32);
            plan_shape(p_, shape_wanted(), w, h, step_);
        }
        return {};
    }
    /// Encoders that count in pairs lose the last column or row of an odd size.
    void even_out(const VideoEncoderTraits& form) {
        auto& r = p_.reshape;
        auto& f = p_.format;
        int across = f.width % form.step, down = f.height % form.step;
        if ((!across && !down) || r.canvas_width != f.width) return;
        // One pixel wide or high is doubled rather than lost.
        if (f.width < form.step) across = f.width - form.step;
        if (f.height < form.step) down = f.height - form.step;
        if (across > 0) r.width -= across;
        if (down > 0) r.height -= down;
        r.to_width -= across, r.to_height -= down;
        f.width -= across, f.height -= down;
        r.canvas_width = f.width, r.canvas_height = f.height;
        note("odd-size", "The last column or row of its odd size is cut off.");
    }

    std::string audio_changes(const Track& t) {
        auto& a = recipe_.audio;
        auto* rule = target_ ? rule_of(target_->audio, t.codec) : nullptr;
        if (a.action == Do::encode) return "it was asked for";
        if (std::find(container_format_.audio.begin(), container_format_.audio.end(), t.codec) ==
            container_format_.audio.end())
            return fmt::format("{} does not go into {}", codec_title(t.codec), container_format_.title);
        if (target_ && !rule) return fmt::format("{} does not take {}", target_->title, codec_title(t.codec));
        if (auto why = rule ? misfit(t, 0, *rule) : std::string(); !why.empty()) return why;
        if (a.bitrate || a.loudness) return "its rate or loudness changes";
        if ((a.channels && a.channels != t.audio.channels) || (a.rate && a.rate != t.audio.rate))
            return "its channels or samples change";
        bool edited = packets_.begins && !packets_.begins(t, {});
        if ((recipe_.from.ns > 0 || recipe_.to || edited) && !trims(container_format_, t.codec)) return "it is cut";
        if (t.config.empty() && needs_config(t.codec, container_format_)) return "its settings stand in the stream";
        auto pcm = t.codec == Codec::pcm ? parse_pcm_format(t.config) : std::nullopt;
        if (pcm && container_format_.container != "matroska" && pcm->big_endian)
            return "its samples lie the other way round";
        if (container_format_.container == "adts" && adts_header(t.config, 0).empty())
            return "its settings have no form there";
        return {};
    }
    Status plan_audio(Plan::Audio& s) {
        auto& a = recipe_.audio;
        auto& t = *s.track;
        auto reason = audio_changes(t);
        s.encode = !reason.empty();
        s.codec = t.codec;
        s.form = {t.audio.rate, t.audio.channels};
        if (!s.encode) return {};
        if (a.action == Do::copy)
            return fail(ErrorCode::refused, fmt::format("The sound can’t be copied: {}.", reason),
                        "Let it be encoded, or leave the rest as it is.");
        RUEDO_TRY(s.codec, choose(container_format_.audio, target_ ? &target_->audio : nullptr, a.codec));
        auto* form = audio_encoder_traits(s.codec);
        if (!form) return fail(ErrorCode::internal, "The encoder is not described.");
        auto* rule = target_ ? rule_of(target_->audio, s.codec) : nullptr;
        if (rule && rule->max_channels && a.channels > rule->max_channels)
            return not_taken("/audio/channels", fmt::format("takes at most {} channels", rule->max_channels));
        if (rule && rule->max_rate && a.rate > rule->max_rate)
            return not_taken("/audio/sample_rate", fmt::format("takes at most {} samples a second", rule->max_rate));
        auto channels = a.channels ? a.channels : std::clamp(t.audio.channels, 1, 8);
        if (a.channels > form->channels)
            return fail(ErrorCode::refused,
                        fmt::format("{} is encoded in up to {} channels here.", codec_title(s.codec), form->channels),
                        "Choose fewer, or another codec.");
        channels = std::min(channels, form->channels);
        if (rule && rule->max_channels) channels = std::min(channels, rule->max_channels);
        auto rate = a.rate ? a.rate : t.audio.rate > 0 ? t.audio.rate : mix_rate;
        if (rule && rule->max_rate) rate = std::min(rate, rule->max_rate);
        if (!form->rates.empty()) {
            auto it = std::lower_bound(form->rates.begin(), form->rates.end(), rate);
            if (it != form->rates.begin() &&
                (it == form->rates.end() || (rule && rule->max_rate && *it > rule->max_rate)))
                --it;
            rate = *it;
        }
        s.form = {rate, channels};
        // More than 16 bits stay more, where nothing is lost otherwise.
        auto pcm = t.codec == Codec::pcm ? parse_pcm_format(t.config) : std::nullopt;
        auto flac = t.codec == Codec::flac ? parse_flac_info(t.config) : std::nullopt;
        if (form->lossless && ((pcm && pcm->bits > 16) || (flac && flac->bits > 16))) s.bits = 24;
        s.bitrate = a.bitrate.value_or(64'000U * static_cast<std::uint32_t>(channels));
        note("sound-encoded", fmt::format("The sound is encoded anew: {}.", reason));
        if (channels < t.audio.channels)
            note("mixed-down", fmt::format("Its {} channels are mixed down to {}.", t.audio.channels, channels));
        if (s.codec == Codec::aac && container_format_.container == "adts")
            note("late-sound", "Bare AAC can’t say that its encoder begins early; it is heard 33 ms late.");
        return {};
    }

    /// Those that a player shows first, else those of a file beside the clip.
    void plan_burn_in() {
        for (auto& t : info_.tracks)
            if (t.kind == Kind::text && shows_captions(t) && (!p_.burn_in || (t.is_default && !p_.burn_in->is_default)))
                p_.burn_in = &t;
        if (!p_.burn_in) p_.burn_in_file = packets_.captions_beside;
        if (!p_.burn_in && p_.burn_in_file.empty()) note("no-captions", "There are no captions to be drawn into it.");
    }
    void plan_captions() {
        if (recipe_.captions != Recipe::Captions::keep) return;
        std::size_t left_out = 0;
        for (auto& t : info_.tracks) {
            if (t.kind != Kind::text) continue;
            if (!shows_captions(t) || container_format_.text.empty()) {
                ++left_out;
                continue;
            }
            bool as_it_is = std::find(container_format_.text.begin(), container_format_.text.end(), t.codec) !=
                            container_format_.text.end();
            p_.captions.push_back({&t, as_it_is ? t.codec : container_format_.text.front()});
        }
        if (left_out)
            note("captions-left-out",
                 container_format_.text.empty()
                     ? fmt::format("Its captions are left out: {} has no form for them here.", container_format_.title)
                     : "Captions of a kind that is not known here are left out.");
    }

    const ClipInfo& info_;
    const Recipe& recipe_;
    const ContainerFormat& container_format_;
    CodecRegistry& codecs_;
    const Target* target_;
    const FromPackets& packets_;
    int step_ = 1;  ///< By how much the sizes that the encoder takes grow; 1 before it is chosen.
    Plan p_;
};
}  // namespace

Result<const ContainerFormat*> container_format_for(const Recipe& recipe, const std::filesystem::path& out) {
    auto extension = transfer::lower(out.extension().string());
    auto* container_format = !recipe.container_format.empty()
                                 ? container_format_named(recipe.container_format)
                                 : container_format_of_extension(extension.empty() ? "" : extension.substr(1));
    if (container_format) return container_format;
    return fail(ErrorCode::usage, fmt::format("“{}” does not say what is to be made.", out.filename().string()),
                "Name it .mp4, .webm or .mkv.");
}

Result<const ContainerFormat*> container_format_for(const Target& target, const ClipInfo& info) {
    auto holds = [&](Kind kind, const std::vector<Codec>& codecs, const std::vector<CodecRule>& rules) {
        return !info.main(kind) ||
               std::any_of(codecs.begin(), codecs.end(), [&](Codec c) { return rule_of(rules, c) != nullptr; });
    };
    for (bool own : {true, false})
        for (auto& w : container_formats())
            if (holds(Kind::video, w.video, target.video) && holds(Kind::audio, w.audio, target.audio) &&
                (!own || w.container == info.container) &&
                std::find(target.containers.begin(), target.containers.end(), w.container) != target.containers.end())
                return &w;
    return fail(ErrorCode::refused, fmt::format("Nothing that {} takes can be made here of this.", target.title),
                "Choose another target.");
}

const VideoEncoderTraits* video_encoder_traits(Codec codec) {
    auto it = std::find_if(video_encoders.begin(), video_encoders.end(), [&](auto& f) { return f.codec == codec; });
    return it == video_encoders.end() ? nullptr : &*it;
}
const AudioEncoderTraits* audio_encoder_traits(Codec codec) {
    auto it = std::find_if(audio_encoders.begin(), audio_encoders.end(), [&](auto& f) { return f.codec == codec; });
    return it == audio_encoders.end() ? nullptr : &*it;
}

Result<Plan> plan_for(const ClipInfo& info, const Recipe& recipe, const ContainerFormat& container_format,
                      CodecRegistry& codecs, const Target* target, const FromPackets& packets) {
    return Planner(info, recipe, container_format, codecs, target, packets).make();
}

}  // namespace ruedo
