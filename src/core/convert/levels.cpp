// SPDX-License-Identifier: Apache-2.0
#include "convert/levels.h"

#include <ebur128.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

namespace ruedo {
namespace {

struct Measured {
    double lufs = -HUGE_VAL, peak = 0;  ///< Of the whole, gated; the true peak, full scale being 1.
};

/// What is heard of an encoded sound, block by block.
class DecodedAudio {
  public:
    static Result<DecodedAudio> open(std::unique_ptr<OutputTrack> made, CodecRegistry& codecs) {
        auto w = made->track();
        Track t;
        t.kind = Kind::audio, t.codec = w.codec, t.config = w.config, t.audio = w.audio;
        RUEDO_TRY(auto decoder, codecs.audio_decoder(t));
        return DecodedAudio(std::move(made), std::move(decoder));
    }
    /// Appends some more; false when there is none.
    Result<bool> next(std::vector<float>& out) {
        RUEDO_TRY(auto packet, made_->next());
        if (!packet) return false;
        RUEDO_TRY_DO(decoder_->decode(packet->data, block_));
        out.insert(out.end(), block_.samples.begin(), block_.samples.end());
        return true;
    }

  private:
    DecodedAudio(std::unique_ptr<OutputTrack> made, std::unique_ptr<AudioDecoder> decoder)
        : made_(std::move(made)), decoder_(std::move(decoder)) {}
    std::unique_ptr<OutputTrack> made_;
    std::unique_ptr<AudioDecoder> decoder_;
    AudioBlock block_;
};

Result<Measured> measure(auto audio, const AudioSpec& form, const std::function<Status()>& going) {
    auto channels = static_cast<unsigned>(form.channels);
    auto* state =
        ebur128_init(channels, static_cast<unsigned long>(form.rate), EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK);
    if (!state) return fail(ErrorCode::internal, "The loudness could not be measured.");
    std::unique_ptr<ebur128_state, void (*)(ebur128_state*)> kept(state, [](auto* p) { ebur128_destroy(&p); });
    for (std::vector<float> block;; block.clear()) {
        RUEDO_TRY(bool more, audio.next(block));
        ebur128_add_frames_float(state, block.data(), block.size() / channels);
        RUEDO_TRY_DO(going());
        if (!more) break;
    }
    Measured m;
    ebur128_loudness_global(state, &m.lufs);
    for (unsigned c = 0; c < channels; ++c) {
        double p = 0;
        if (ebur128_true_peak(state, c, &p) == EBUR128_SUCCESS) m.peak = std::max(m.peak, p);
    }
    return m;
}
}  // namespace

Result<Level> level_for(const StreamMaker& maker, const Plan::Audio& plan, Time from, Time to,
                        const std::function<Status()>& going, std::vector<Finding>& why) {
    Level level;
    auto loudness = maker.recipe.audio.loudness;
    if (!plan.encode) return level;
    if (plan.form.channels < plan.track->audio.channels) level.ceiling = 1;
    if (!loudness) return level;
    RUEDO_TRY(auto reader, maker.open_audio(plan, from));
    auto length = to == Time::max() ? to : to - from;
    RUEDO_TRY(auto plain, measure(LevelledAudio(std::move(reader), plan.form, length, {}), plan.form, going));
    if (!std::isfinite(plain.lufs)) {
        why.push_back({"silent", "The sound is silent, so it keeps its level.", {}});
        return level;
    }
    constexpr double ceiling = 0.8913, margin = 0.988;  // -1 dB, and a tenth for what measuring may miss
    auto reached = plain.lufs, stepped = *loudness - plain.lufs;
    level.gain = static_cast<float>(std::pow(10, stepped / 20));
    level.ceiling.reset();
    auto loudest = plain.peak * level.gain;
    if (loudest > ceiling) level.ceiling = ceiling * margin;
    // Encoding changes peaks, so they are measured after decoding.
    for (int round = 0; round < 8; ++round) {
        RUEDO_TRY(auto made, maker.audio(plan, from, to, level));
        RUEDO_TRY(auto heard, DecodedAudio::open(std::move(made), maker.codecs));
        RUEDO_TRY(auto now, measure(std::move(heard), plan.form, going));
        auto gained = now.lufs - std::exchange(reached, now.lufs), lacks = *loudness - reached;
        bool over = now.peak > ceiling, lower = level.ceiling && std::abs(lacks) >= 0.1 && level.gain <= 1000;
        if (!over && !lower) break;
        if (over) level.ceiling = level.ceiling.value_or(std::min(loudest, ceiling)) * margin * ceiling / now.peak;
        if (!lower) continue;
        // What is held down gives less than it is turned up by; about how much less, the last step told.
        stepped = lacks / (std::abs(stepped) < 0.05 ? 1 : std::clamp(gained / stepped, 0.4, 1.2));
        level.gain *= static_cast<float>(std::pow(10, stepped / 20));
    }
    if (*loudness - reached > 0.5)
        why.push_back(
            {"peak-limited",
             fmt::format("Its peaks leave no room for {:g} LUFS; it is made {:.1f} LUFS.", *loudness, reached),
             {}});
    return level;
}

}  // namespace ruedo
