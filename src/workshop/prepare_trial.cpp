// SPDX-License-Identifier: GPL-3.0-or-later
// Trials of Prepare: a moment of the hardest stretch first, then all of it.
#include <nlohmann/json.hpp>

#include "view/look.h"
#include "view/poster.h"
#include "workshop/prepare_page.h"

namespace ruedo {
namespace fs = std::filesystem;

/// The hardest four seconds, as they will be.
void PreparePage::try_it() {
    auto& p = *planned_;
    auto key = shown_ + to_json(p.recipe).dump();
    if (key == tried_key_ && (sample_encode_ || compared_)) return;
    compared_.reset();
    tasks_.forget("trial"), tasks_.forget("held");
    auto extension = p.plan->container_format->extensions.empty()
                         ? std::string("bin")
                         : std::string(p.plan->container_format->extensions.front());
    auto file = scratch_.path() / ("trial-" + std::to_string(++number_) + "." + extension);
    SampleEncodeOptions o;
    o.recipe = p.recipe, o.target = p.known->target, o.from = p.known->hardest, o.file = file;
    if (!sample_encode_) sum_->setText("Testing the hardest 4 seconds …");
    before_after_->clear("testing …");
    keep_->setEnabled(false);
    bool pictures = p.plan->video != nullptr;
    // The source itself is there at once.
    stills_.forget("source");
    if (pictures)
        stills_.ask(
            "source", source() + "@" + std::to_string(o.from.ns),
            [from = source(), at = o.from](const std::atomic<bool>& cancel) {
                return find_poster(from, 1920, 1280, &cancel, at);
            },
            [this](QImage picture) { before_after_->show_source(picture); });
    using Answer = std::pair<std::shared_ptr<const SampleEncode>, std::string>;
    tasks_.ask(
        "trial", key,
        [this, from = source(), o, pictures](const BackgroundTasks::Question& question) mutable -> Answer {
            const std::atomic<bool>& cancel = question;
            o.cancel = &cancel;
            if (pictures) try_a_moment(question, from, o);
            auto told = Time{};
            o.told = [&](double part) {
                if (monotonic_now() - told < 200_ms) return;
                told = monotonic_now();
                question.post([this, part] {
                    if (!sample_encode_)
                        sum_->setText(QString("Testing the hardest 4 seconds: %1 %").arg(qRound(part * 100)));
                });
            };
            auto made = encode_sample(from, o, CodecRegistry::standard());
            if (made) return {std::make_shared<const SampleEncode>(std::move(*made)), std::string()};
            return {nullptr, made.error().sentence + " " + made.error().hint};
        },
        [this, file, key, pictures](Answer answer) {
            tried_key_ = key;
            std::error_code ec;
            if (!tried_.empty() && tried_ != file) fs::remove(tried_, ec), fs::remove(moment_file(tried_), ec);
            tried_ = file;
            sample_encode_ = answer.first;
            if (!sample_encode_) {
                strip_->show_sample_encode({});
                sum_->setText(text(answer.second).toHtmlEscaped());
                return before_after_->clear("it can’t be converted this way");
            }
            auto& t = *sample_encode_;
            auto sum = QString("%1 About %2").arg(text(t.sentence()).toHtmlEscaped(), bytes_said(t.whole_bytes));
            // A copy is there at once; a conversion takes at least a second.
            if (t.whole_took.ns > 0)
                sum += QString(" and %1 to convert, estimated from the hardest %2 s")
                           .arg(text(format_clock(t.whole_took + 1_s - 1_ns)).section('.', 0, 0))
                           .arg((t.to - t.from).seconds(), 0, 'g', 2);
            // Nothing of what is copied was made for the trial.
            bool copied = !fs::exists(file, ec);
            auto from = source();
            show_sample_encode(sample_encode_,
                               {from, copied ? from : file.string(), t.from, t.to, copied ? t.from : Time{}, pictures},
                               sum + ".");
            show_runs();
        });
}

fs::path PreparePage::moment_file(const fs::path& sample_encode) {
    return sample_encode.parent_path() / ("moment-" + sample_encode.filename().string());
}

/// So short that it can be compared at once, where it is hardest; off the window's thread. Nothing of it is counted.
void PreparePage::try_a_moment(const BackgroundTasks::Question& question, const std::string& from,
                               SampleEncodeOptions o) {
    auto within = TimeRange{o.from, o.from + o.length};
    o.file = moment_file(o.file), o.length = 200_ms;
    o.recipe.video.passes = 1, o.recipe.audio.action = Recipe::Do::none;
    auto clip = open_clip(from);
    if (!clip) return;
    if (auto at = hardest_stretch(**clip, o.length, within)) o.from = *at;
    auto made = encode_sample(from, o, CodecRegistry::standard());
    if (!made || made->made.video.action != "encoded") return;
    question.post([this, from, file = o.file.string(), t = std::move(*made)] {
        auto worst = t.likeness.worst(1);
        before_after_->open({from, file, t.from, t.to, {}, true}, worst.empty() ? t.from : worst[0].at);
    });
}

void PreparePage::show_sample_encode(std::shared_ptr<const SampleEncode> sample_encode, const Pairing::Subject& subject,
                                     const QString& sum) {
    sum_->setText(sum);
    strip_->show_sample_encode(sample_encode);
    auto worst = sample_encode->likeness.worst(1);
    auto at = worst.empty() ? sample_encode->from + (sample_encode->to - sample_encode->from) / 2 : worst[0].at;
    strip_->set_place(at);
    before_after_->open(subject, at);
}

}  // namespace ruedo
