// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/recipe_words.h"

#include <algorithm>
#include <cmath>

#include "text/cues.h"
#include "view/look.h"

namespace ruedo {
namespace {
using Do = Recipe::Do;

/// One sentence after the other; words are put in as they are told.
struct PageBuilder {
    RecipeText out{};
    QString say(RecipeWord word) {
        auto now = std::find_if(word.options.begin(), word.options.end(), [](auto& c) { return c.now; });
        if (word.shown.isEmpty()) word.shown = now == word.options.end() ? QString("…") : now->label;
        auto link = QString("<a href='word:%1' style='color:%2;'>%3</a>")
                        .arg(word.key, look::colours().wine.name(), word.shown.toHtmlEscaped());
        out.words.push_back(std::move(word));
        return link;
    }
    void paragraph(const QString& html) { out.html += "<p style='margin:0 0 10px 0;'>" + html + "</p>"; }
};
QString megabits(std::uint32_t bits) {
    return bits >= 1'000'000 ? QString("%1 Mbit/s").arg(bits / 1e6, 0, 'g', 3) : QString("%1 kbit/s").arg(bits / 1000);
}
bool taken(const std::vector<CodecRule>& rules, Codec codec) { return rules.empty() || rule_of(rules, codec); }

void describe_container(PageBuilder& t, const Plan& plan, const Target& target) {
    RecipeWord w{.key = "container", .what = "Container", .shown = {}, .options = {}};
    for (auto& each : container_formats()) {
        bool fits =
            std::find(target.containers.begin(), target.containers.end(), each.container) != target.containers.end();
        if (!fits || (plan.video && each.video.empty())) continue;
        auto take = [&each](Recipe& r) {
            r.container_format = each.name;
            // What does not go there is chosen anew.
            auto holds = [](auto& list, auto& codec) {
                return codec && std::find(list.begin(), list.end(), *codec) != list.end();
            };
            if (r.video.action != Do::none && !holds(each.video, r.video.codec))
                r.video.action = Do::fit, r.video.codec.reset(), r.video.quality.reset();
            if (r.audio.action != Do::none && !holds(each.audio, r.audio.codec))
                r.audio.action = Do::fit, r.audio.codec.reset();
        };
        w.options.push_back({text(each.title), take, &each == plan.container_format});
    }
    t.paragraph(QString("It becomes %1, for %2.").arg(t.say(std::move(w)), text(target.title).toHtmlEscaped()));
}

/// Whether a recipe can be carried out, as far as the clip's head tells.
bool can_be(const Recipe& recipe, const Plan& plan, const ClipInfo& info, const Target& target, CodecRegistry& codecs) {
    return plan_for(info, recipe, *plan.container_format, codecs, &target).has_value();
}

RecipeWord codec_word(const Recipe& recipe, const Plan& plan, const ClipInfo& info, const Target& target,
                      CodecRegistry& codecs) {
    RecipeWord w{.key = "codec", .what = "Pictures", .shown = {}, .options = {}};
    auto copied = recipe;
    copied.video = {.action = Do::copy};
    if (!plan.encode_video || can_be(copied, plan, info, target, codecs))
        w.options.push_back(
            {"are copied unchanged", [](Recipe& r) { r.video = {.action = Do::copy}; }, !plan.encode_video});
    for (auto c : plan.container_format->video)
        if (codecs.encodes(c) && taken(target.video, c))
            w.options.push_back({"become " + text(codec_title(c)),
                                 [c](Recipe& r) {
                                     // Each encoder has a scale of its own.
                                     if (r.video.codec != c) r.video.quality.reset();
                                     r.video.action = Do::encode, r.video.codec = c;
                                 },
                                 plan.encode_video && plan.video_codec == c});
    w.options.push_back({"are left out", [](Recipe& r) { r.video.action = Do::none; }, false});
    return w;
}
/// Finer and coarser than is usual; a bitrate, or a size to land under.
RecipeWord quality_word(const Recipe& recipe, const VideoEncoderTraits& form) {
    RecipeWord w{.key = "quality", .what = "Quality", .shown = {}, .options = {}};
    auto less_is_better = form.codec != Codec::theora && form.codec != Codec::mjpeg;
    auto step = std::max(1, (form.high - form.low) / 10);
    auto now = recipe.video.quality.value_or(form.quality);
    bool constant = !recipe.video.bitrate && !recipe.fit_bytes;
    for (auto [label, steps] : {std::pair{"much better than default", 2},
                                {"better than default", 1},
                                {"at default quality", 0},
                                {"lower than default", -1},
                                {"much lower than default", -2}}) {
        auto quality = std::clamp(form.quality + (less_is_better ? -1 : 1) * steps * step, form.low, form.high);
        w.options.push_back({label,
                             [quality, usual = steps == 0](Recipe& r) {
                                 r.video.bitrate.reset(), r.fit_bytes.reset(), r.video.passes = 1;
                                 r.video.quality = usual ? std::nullopt : std::optional(quality);
                             },
                             constant && quality == now});
    }
    if (form.bitrate)
        for (std::uint32_t bits : {500'000U, 1'000'000U, 2'000'000U, 4'000'000U})
            w.options.push_back({"at " + megabits(bits),
                                 [bits, twice = form.two_passes](Recipe& r) {
                                     r.video.quality.reset(), r.fit_bytes.reset();
                                     r.video.bitrate = bits, r.video.passes = twice ? 2 : 1;
                                 },
                                 recipe.video.bitrate == bits});
    if (recipe.fit_bytes)
        w.shown = QString("to fit into %1 MB").arg(static_cast<double>(*recipe.fit_bytes) / 1e6, 0, 'g', 3);
    else if (recipe.video.bitrate)
        w.shown = "at " + megabits(*recipe.video.bitrate);
    else if (std::none_of(w.options.begin(), w.options.end(), [](auto& c) { return c.now; }))
        w.shown = QString("at %2 quality %1").arg(now).arg(text(codec_title(form.codec)));
    if (form.bitrate) {
        w.typed = "File size limit in megabytes";
        w.take_typed = [](Recipe& r, const QString& typed) {
            bool fine = false;
            auto megabytes = typed.trimmed().toDouble(&fine);
            if (!fine || megabytes < 0.001 || megabytes > 1e6) return false;
            r.video.quality.reset(), r.video.bitrate.reset(), r.video.passes = 1;
            r.fit_bytes = static_cast<std::uint64_t>(megabytes * 1e6);
            return true;
        };
    }
    return w;
}
RecipeWord size_word(const Recipe& recipe, const Plan& plan) {
    RecipeWord w{.key = "size", .what = "Size", .shown = {}, .options = {}};
    w.options.push_back({"as large as allowed", [](Recipe& r) { r.video.width = r.video.height = 0; },
                         !recipe.video.width && !recipe.video.height});
    for (int across : {1920, 1280, 960, 640, 480, 320})
        if (across < plan.video->video.display_width())
            w.options.push_back({QString("%1 pixels across").arg(across),
                                 [across](Recipe& r) { r.video.width = across, r.video.height = 0; },
                                 recipe.video.width == across});
    if (recipe.video.width || recipe.video.height)
        w.shown = recipe.video.width ? QString("%1 pixels across").arg(recipe.video.width)
                                     : QString("%1 pixels high").arg(recipe.video.height);
    return w;
}
RecipeWord rate_word(const Recipe& recipe) {
    RecipeWord w{.key = "rate", .what = "Frame rate limit", .shown = {}, .options = {}};
    w.options.push_back(
        {"at the original frame rate", [](Recipe& r) { r.video.most_rate.reset(); }, !recipe.video.most_rate});
    for (int rate : {60, 30, 25, 15})
        w.options.push_back({QString("at most %1 frames per second").arg(rate),
                             [rate](Recipe& r) { r.video.most_rate = Rational{rate, 1}; },
                             recipe.video.most_rate == Rational{rate, 1}});
    return w;
}
RecipeWord effort_word(const Recipe& recipe) {
    RecipeWord w{.key = "effort", .what = "Effort", .shown = {}, .options = {}};
    int effort = 0;
    for (auto label : {"fast", "at medium speed", "thoroughly"}) {
        w.options.push_back({label, [effort](Recipe& r) { r.video.effort = effort; }, recipe.video.effort == effort});
        ++effort;
    }
    return w;
}

RecipeWord matrix_word(const Recipe& recipe) {
    using Matrix = Colour::Matrix;
    RecipeWord w{.key = "matrix", .what = "Colour matrix", .shown = {}, .options = {}};
    for (auto [matrix, label] : {std::pair{Matrix::unspecified, "keep their matrix"},
                                 {Matrix::bt601, "are converted to BT.601"},
                                 {Matrix::bt709, "are converted to BT.709"},
                                 {Matrix::bt2020, "are converted to BT.2020"}})
        w.options.push_back({label, [matrix](Recipe& r) { r.video.matrix = matrix; }, recipe.video.matrix == matrix});
    return w;
}
RecipeWord range_word(const Recipe& recipe, bool limited_only) {
    using Range = Colour::Range;
    RecipeWord w{.key = "range", .what = "Colour range", .shown = {}, .options = {}};
    for (auto [range, label] : {std::pair{Range::unspecified, "their own range"},
                                {Range::limited, "limited range"},
                                {Range::full, "full range"}})
        if (!limited_only || range != Range::full)
            w.options.push_back({label, [range](Recipe& r) { r.video.range = range; }, recipe.video.range == range});
    return w;
}

void describe_video(PageBuilder& t, const Recipe& recipe, const Plan& plan, const ClipInfo& info, const Target& target,
                    CodecRegistry& codecs) {
    auto codec = t.say(codec_word(recipe, plan, info, target, codecs));
    auto* form = video_encoder_traits(plan.video_codec);
    if (!plan.encode_video || !form) return t.paragraph(QString("The pictures %1.").arg(codec));
    t.paragraph(
        QString("The pictures %1, %2, %3: %4, %5 × %6. They are encoded %7.")
            .arg(codec, t.say(quality_word(recipe, *form)), t.say(size_word(recipe, plan)), t.say(rate_word(recipe)))
            .arg(plan.format.display_width())
            .arg(plan.format.display_height())
            .arg(t.say(effort_word(recipe))));
    // Where a codec's numbers mean one thing only there is nothing to choose.
    if (Colour::always(plan.video_codec)) return;
    bool limited = std::any_of(target.video.begin(), target.video.end(),
                               [&](auto& r) { return r.codec == plan.video_codec && r.limited_range; });
    t.paragraph(
        QString("Their colours %1, in %2.").arg(t.say(matrix_word(recipe)), t.say(range_word(recipe, limited))));
}

void describe_audio(PageBuilder& t, const Recipe& recipe, const Plan& plan, const ClipInfo& info, const Target& target,
                    CodecRegistry& codecs) {
    auto& audio = plan.audio_tracks.front();
    RecipeWord codec{.key = "sound", .what = "Sound", .shown = {}, .options = {}};
    auto copied = recipe;
    copied.audio = {.action = Do::copy};
    if (!audio.encode || can_be(copied, plan, info, target, codecs))
        codec.options.push_back(
            {"is copied unchanged", [](Recipe& r) { r.audio = {.action = Do::copy}; }, !audio.encode});
    for (auto c : plan.container_format->audio)
        if (codecs.encodes(c) && taken(target.audio, c))
            codec.options.push_back({"becomes " + text(codec_title(c)),
                                     [c](Recipe& r) { r.audio.action = Do::encode, r.audio.codec = c; },
                                     audio.encode && audio.codec == c});
    codec.options.push_back({"is left out", [](Recipe& r) { r.audio.action = Do::none; }, false});
    auto said = t.say(std::move(codec));
    if (!audio.encode) return t.paragraph(QString("The sound %1.").arg(said));
    RecipeWord loud{.key = "loudness", .what = "Loudness", .shown = {}, .options = {}};
    loud.options.push_back(
        {"at its own loudness", [](Recipe& r) { r.audio.loudness.reset(); }, !recipe.audio.loudness});
    for (double level : {-23.0, -16.0, -14.0})
        loud.options.push_back({QString("at %1 LUFS").arg(level), [level](Recipe& r) { r.audio.loudness = level; },
                                recipe.audio.loudness == level});
    auto* form = audio_encoder_traits(audio.codec);
    QString rate;
    if (form && !form->lossless) {
        RecipeWord bits{.key = "sound-rate", .what = "Audio bitrate", .shown = megabits(audio.bitrate), .options = {}};
        bits.options.push_back(
            {"at the default bitrate", [](Recipe& r) { r.audio.bitrate.reset(); }, !recipe.audio.bitrate});
        for (std::uint32_t b : {48'000U, 64'000U, 96'000U, 128'000U, 192'000U})
            bits.options.push_back({megabits(b), [b](Recipe& r) { r.audio.bitrate = b; }, recipe.audio.bitrate == b});
        rate = " at " + t.say(std::move(bits));
    }
    t.paragraph(QString("The sound %1%2, %3.").arg(said, rate, t.say(std::move(loud))));
}

void describe_captions(PageBuilder& t, const Recipe& recipe, const Plan& plan) {
    using Captions = Recipe::Captions;
    RecipeWord w{.key = "captions", .what = "Captions", .shown = {}, .options = {}};
    auto add = [&](const char* label, Captions how) {
        w.options.push_back({label,
                             [how](Recipe& r) {
                                 r.captions = how;
                                 // Letters are drawn into pictures that are made anew.
                                 if (how == Captions::burn && r.video.action == Do::copy) r.video.action = Do::fit;
                             },
                             recipe.captions == how});
    };
    if (!plan.container_format->text.empty()) add("are kept", Captions::keep);
    if (plan.video) add("are burnt into the pictures", Captions::burn);
    add("are left out", Captions::none);
    if (plan.container_format->text.empty() && recipe.captions == Captions::keep) w.shown = "are left out";
    t.paragraph(QString("The captions %1.").arg(t.say(std::move(w))));
}
}  // namespace

const RecipeWord* RecipeText::find(const QString& key) const {
    auto it = std::find_if(words.begin(), words.end(), [&](auto& w) { return w.key == key; });
    return it == words.end() ? nullptr : &*it;
}

RecipeText describe_recipe(const Recipe& recipe, const Plan& plan, const ClipInfo& info, const Target& target,
                           CodecRegistry& codecs) {
    PageBuilder t;
    describe_container(t, plan, target);
    auto left_out = [&](const char* sentence, RecipeWord word) {
        t.paragraph(QString(sentence).arg(t.say(std::move(word))));
    };
    if (plan.video)
        describe_video(t, recipe, plan, info, target, codecs);
    else if (info.main(Kind::video))
        left_out("The pictures %1.",
                 {"codec", "Pictures", "are left out", {{"are kept", [](Recipe& r) { r.video = {}; }}}});
    if (!plan.audio_tracks.empty())
        describe_audio(t, recipe, plan, info, target, codecs);
    else if (info.main(Kind::audio))
        left_out("The sound %1.", {"sound", "Sound", "is left out", {{"is kept", [](Recipe& r) { r.audio = {}; }}}});
    if (std::any_of(info.tracks.begin(), info.tracks.end(), [](auto& each) { return shows_captions(each); }))
        describe_captions(t, recipe, plan);
    return std::move(t.out);
}

}  // namespace ruedo
