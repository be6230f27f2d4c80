// SPDX-License-Identifier: Apache-2.0
// Two clips held against each other, picture by picture.
#pragma once
#include <functional>

#include "codec/codec.h"

namespace ruedo {

struct Comparison {
    struct Place {
        Time at{};  ///< Presentation time in the first clip.
        double ssim_y = 1, mean_squared_error = 0;
        /// Of three by three parts of the picture the one where it is least alike, row by row from the upper left;
        /// nothing where they hardly differ, or it was not the least alike picture so far.
        std::optional<int> part{};
    };
    std::uint64_t frames = 0;
    double psnr_y = 0;  ///< dB, of the mean squared error over all pictures; infinite where they are identical.
    double ssim_y = 1;  ///< Mean of the pictures'.
    bool identical = false;
    std::vector<Place> places;  ///< Of every picture compared, in order.
    /// The least alike by their similarity, `count` of them at most, the worst first.
    std::vector<Place> worst(std::size_t count = 5) const;
};

/// "at the upper left", "in the middle": of the nine parts of a picture.
std::string_view part_in_words(int part);

struct CompareOptions {
    std::vector<Time> at;  ///< Only what is shown at these times of the first clip; all of it when empty.
    /// Instead: from here on, the second clip being a part of the first that begins here.
    Time from{};
    Time to = Time::max();  ///< Up to here.
    const std::atomic<bool>* cancel = nullptr;
    /// Hears of every picture compared; false stops it (`cancelled`).
    std::function<bool(const Comparison::Place&)> told{};
};

/// Pairs pictures by presentation time, to half a tick of their containers: each of `a` with the one `b` shows then,
/// scaled to its size where it has another, turned and in shape as shown. Compared is their luma. `not-media` where one
/// of them has no pictures.
Result<Comparison> compare(const std::string& a, const std::string& b, CodecRegistry& codecs,
                           const CompareOptions& options = {});

}  // namespace ruedo
