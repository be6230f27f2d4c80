// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <cmath>
#include <numbers>

#include "sound/sound.h"

namespace ruedo {
namespace {
constexpr std::size_t phases = 4, taps = 12;  ///< Of the oversampling filter.

/// A windowed sinc for each place between two samples.
const std::array<std::array<float, taps>, phases>& between_samples() {
    static const auto table = [] {
        std::array<std::array<float, taps>, phases> t{};
        for (std::size_t p = 0; p < phases; ++p) {
            double sum = 0;
            std::array<double, taps> row{};
            for (std::size_t k = 0; k < taps; ++k) {
                auto x = static_cast<double>(k) - (taps / 2 - 1) - static_cast<double>(p) / phases;
                auto sinc = std::abs(x) < 1e-9 ? 1 : std::sin(std::numbers::pi * x) / (std::numbers::pi * x);
                auto window = 0.5 + 0.5 * std::cos(std::numbers::pi * x / (taps / 2));
                row[k] = sinc * window, sum += row[k];
            }
            for (std::size_t k = 0; k < taps; ++k) t[p][k] = static_cast<float>(row[k] / sum);
        }
        return t;
    }();
    return table;
}
}  // namespace

/// Every frame's peak asks for a gain. The least that the next five milliseconds ask for, slowly up again, and the mean
/// of that over as long: a slope that has come down where the peak begins.
struct Limiter::Impl {
    std::size_t channels, ahead;
    float ceiling, recovery;
    std::vector<float> held;  ///< Interleaved, from frame `first` on.
    std::size_t first = 0, frames = 0, measured = 0, given = 0;
    std::deque<std::pair<std::size_t, float>> least;  ///< Gains asked for, with their frames, rising.
    std::deque<float> slope;
    double sum = 0;
    float released = 1;

    /// The loudest of a frame and of what lies between it and the next one.
    float peak(std::size_t frame) const {
        float most = 0;
        std::array<float, taps> near{};
        for (std::size_t c = 0; c < channels; ++c) {
            float loudest = 0;
            for (std::size_t k = 0; k < taps; ++k) {
                auto n = frame + k;  // so many behind the place of the filter's first tap
                bool there = n >= first + (taps / 2 - 1) && n < frames + (taps / 2 - 1);
                near[k] = there ? held[(n - (taps / 2 - 1) - first) * channels + c] : 0;
                loudest = std::max(loudest, std::abs(near[k]));
            }
            if (loudest * 2.5F < ceiling) continue;
            for (auto& row : between_samples()) {
                float v = 0;
                for (std::size_t k = 0; k < taps; ++k) v += row[k] * near[k];
                most = std::max(most, std::abs(v));
            }
        }
        return most;
    }
    void measure(bool all) {
        auto to = all ? frames : frames - std::min(frames, taps / 2);
        for (; measured < to; ++measured) {
            auto most = peak(measured);
            auto gain = most > ceiling ? ceiling / most : 1.0F;
            while (!least.empty() && least.back().second >= gain) least.pop_back();
            least.emplace_back(measured, gain);
        }
    }
    void give(bool all, std::vector<float>& out) {
        for (; given < measured && (all || given + ahead < measured); ++given) {
            while (least.front().first < given) least.pop_front();
            released = std::min(least.front().second, released + (1 - released) * recovery);
            if (released > 0.9999F) released = 1;
            if (slope.empty())
                slope.assign(ahead + 1, released), sum = static_cast<double>(released) * static_cast<double>(ahead + 1);
            sum += static_cast<double>(released) - static_cast<double>(slope.front());
            slope.pop_front();
            slope.push_back(released);
            auto gain = static_cast<float>(sum / static_cast<double>(ahead + 1));
            for (std::size_t c = 0; c < channels; ++c) out.push_back(held[(given - first) * channels + c] * gain);
        }
        // What the filter still looks back at stays.
        auto keep = std::min(given, measured - std::min(measured, taps));
        held.erase(held.begin(), held.begin() + static_cast<std::ptrdiff_t>((keep - first) * channels));
        first = keep;
    }
};

Limiter::Limiter(AudioSpec form, double ceiling) : impl_(std::make_unique<Impl>()) {
    impl_->channels = static_cast<std::size_t>(form.channels);
    impl_->ahead = static_cast<std::size_t>(std::max(1, form.rate / 200));
    impl_->ceiling = static_cast<float>(ceiling);
    impl_->recovery = 1.0F / (0.04F * static_cast<float>(form.rate));
}
Limiter::~Limiter() = default;
Limiter::Limiter(Limiter&&) noexcept = default;
void Limiter::process(std::span<const float> in, std::vector<float>& out) {
    impl_->held.insert(impl_->held.end(), in.begin(), in.end());
    impl_->frames += in.size() / impl_->channels;
    impl_->measure(false);
    impl_->give(false, out);
}
void Limiter::flush(std::vector<float>& out) {
    impl_->measure(true);
    impl_->give(true, out);
}

}  // namespace ruedo
