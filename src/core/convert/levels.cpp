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

Result<Measured> measure(LevelledSound sound, const SoundForm& form, const std::function<Outcome()>& going) {
    auto channels = static_cast<unsigned>(form.channels);
    auto* state =
        ebur128_init(channels, static_cast<unsigned long>(form.rate), EBUR128_MODE_I | EBUR128_MODE_TRUE_PEAK);
    if (!state) return fail(Code::internal, "The loudness could not be measured.");
    std::unique_ptr<ebur128_state, void (*)(ebur128_state*)> kept(state, [](auto* p) { ebur128_destroy(&p); });
    for (std::vector<float> block;; block.clear()) {
        TRY(bool more, sound.next(block));
        ebur128_add_frames_float(state, block.data(), block.size() / channels);
        TRY_DO(going());
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

Result<Level> level_for(const Plan::Sound& plan, std::optional<double> loudness, Time length,
                        const std::function<Result<std::unique_ptr<SoundReader>>()>& sound,
                        const std::function<Outcome()>& going, std::vector<Finding>& why) {
    Level level;
    if (!plan.encode) return level;
    if (plan.form.channels < plan.track->audio.channels) level.ceiling = 1;
    if (!loudness) return level;
    auto at = [&](Level l) -> Result<Measured> {
        TRY(auto reader, sound());
        return measure(LevelledSound(std::move(reader), plan.form, length, l), plan.form, going);
    };
    TRY(auto plain, at({}));
    if (!std::isfinite(plain.lufs)) {
        why.push_back({"silent", "The sound is silent, so it keeps its level.", {}});
        return level;
    }
    constexpr double ceiling = 0.8913, margin = 0.988;  // -1 dB, and a tenth for what measuring may miss
    auto gain = std::pow(10, (*loudness - plain.lufs) / 20);
    level.gain = static_cast<float>(gain);
    level.ceiling.reset();
    if (plain.peak * gain <= ceiling) return level;
    level.ceiling = ceiling * margin;
    auto reached = plain.lufs, stepped = *loudness - plain.lufs;
    for (int round = 0; round < 7; ++round) {
        TRY(auto now, at(level));
        auto gained = now.lufs - std::exchange(reached, now.lufs), lacks = *loudness - reached;
        // What is held down gives less than it is turned up by; about how much less, the last step told.
        if (std::abs(lacks) < 0.1 || level.gain > 1000) break;
        stepped = lacks / std::clamp(gained / stepped, 0.4, 1.2);
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
