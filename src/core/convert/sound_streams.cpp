// SPDX-License-Identifier: Apache-2.0
// Sound and captions on their way.
#include <algorithm>
#include <deque>

#include "convert/streams.h"

namespace ruedo {
namespace {

/// Sound decoded and encoded; it begins and ends to the sample.
class EncodedAudio final : public OutputTrack {
  public:
    EncodedAudio(LevelledAudio audio, const Plan::Audio& plan, std::unique_ptr<AudioEncoder> encoder)
        : audio_(std::move(audio)), plan_(plan), encoder_(std::move(encoder)), config_(encoder_->config()) {
        trimmed_ = true;
        position_ = -static_cast<std::int64_t>(encoder_->delay_samples());
    }
    Result<std::optional<OutputPacket>> next() override {
        auto wide = static_cast<std::size_t>(plan_.form.channels);
        auto rate = static_cast<std::uint64_t>(plan_.form.rate);
        while (ready_.empty() && !drained_) {
            std::vector<EncodedSamples> out;
            auto block = encoder_->frame_samples() * wide;
            while (!ended_ && held_.size() < block) {
                RUEDO_TRY(bool more, audio_.next(held_));
                ended_ = !more;
            }
            if (ended_) cut_ = audio_.cut();
            auto n = std::min(held_.size(), block);
            if (n > 0) {
                RUEDO_TRY_DO(encoder_->encode(std::span(held_).first(n), out));
                held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(n));
                taken_ += static_cast<std::int64_t>(n / wide);
                end_ = ticks_to_time(taken_, 1, rate);
            } else {
                RUEDO_TRY_DO(encoder_->drain(out));
                drained_ = true;
            }
            for (auto& e : out) ready_.push_back(std::move(e));
        }
        if (ready_.empty()) return std::nullopt;
        auto e = std::move(ready_.front());
        ready_.pop_front();
        OutputPacket m;
        m.pts = m.dts = ticks_to_time(position_, 1, rate);
        position_ += e.samples;
        m.duration = ticks_to_time(position_, 1, rate) - m.pts;
        m.data = std::move(e.data);
        ++count_;
        return m;
    }
    MuxerTrack track() const override {
        MuxerTrack w;
        w.codec = plan_.codec, w.config = config_;
        w.audio = {plan_.form.rate, plan_.form.channels};
        w.language = plan_.track->language;
        w.delay_samples = encoder_->delay_samples();
        return w;
    }

  private:
    LevelledAudio audio_;
    const Plan::Audio plan_;
    std::unique_ptr<AudioEncoder> encoder_;
    Bytes config_;
    std::vector<float> held_;
    std::deque<EncodedSamples> ready_;
    std::int64_t taken_ = 0, position_ = 0;
    bool ended_ = false, drained_ = false;
};

/// Cues, each as a packet.
class Captioned final : public OutputTrack {
  public:
    Captioned(Cues cues, const Plan::Captions& plan, Time from, Time to)
        : cues_(std::move(cues)), plan_(plan), from_(from), to_(to) {}
    Result<std::optional<OutputPacket>> next() override {
        while (at_ < cues_.list.size()) {
            auto& cue = cues_.list[at_++];
            auto start = std::max(cue.start, from_), until = std::min(cue.end, to_);
            if (start >= until) continue;
            OutputPacket m{start - from_, start - from_, until - start, true, {}};
            auto text = cue_settings(cue) + "\n" + cue_text(cue, plan_.codec == Codec::webvtt);
            m.data.assign(text.begin(), text.end());
            end_ = std::max(end_, m.pts + m.duration);
            ++count_;
            return m;
        }
        return std::nullopt;
    }
    MuxerTrack track() const override {
        MuxerTrack w;
        w.codec = plan_.codec;
        w.language = plan_.track->language;
        w.is_default = plan_.track->is_default;
        return w;
    }

  private:
    Cues cues_;
    const Plan::Captions plan_;
    Time from_, to_;
    std::size_t at_ = 0;
};

}  // namespace

LevelledAudio::LevelledAudio(std::unique_ptr<AudioReader> audio, AudioSpec form, Time length, Level level)
    : audio_(std::move(audio)),
      form_(form),
      level_(level),
      left_(length == Time::max() ? INT64_MAX : time_to_ticks_floor(length, static_cast<std::uint64_t>(form.rate))) {
    if (level.ceiling) limiter_.emplace(form, *level.ceiling);
}
Result<bool> LevelledAudio::next(std::vector<float>& out) {
    if (ended_) return false;
    RUEDO_TRY(auto block, audio_->next());
    auto n = block ? std::min<std::int64_t>(static_cast<std::int64_t>(block->frames()), left_) : 0;
    left_ -= n;
    ended_ = !block || left_ == 0;
    if (block) {
        block->samples.resize(static_cast<std::size_t>(n * form_.channels));
        for (auto& v : block->samples) v *= level_.gain;
        if (limiter_)
            limiter_->process(block->samples, out);
        else
            out.insert(out.end(), block->samples.begin(), block->samples.end());
    }
    if (ended_ && limiter_) limiter_->flush(out);
    return true;
}

std::unique_ptr<OutputTrack> encoded_audio(std::unique_ptr<AudioReader> audio, const Plan::Audio& plan,
                                           std::unique_ptr<AudioEncoder> encoder, Time from, Time to, Level level) {
    return std::make_unique<EncodedAudio>(
        LevelledAudio(std::move(audio), plan.form, to == Time::max() ? to : to - from, level), plan,
        std::move(encoder));
}
std::unique_ptr<OutputTrack> caption_stream(Cues cues, const Plan::Captions& plan, Time from, Time to) {
    return std::make_unique<Captioned>(std::move(cues), plan, from, to);
}

}  // namespace ruedo
