// SPDX-License-Identifier: Apache-2.0
// A short stretch of a clip converted before the whole is: what it costs to look at, and what the whole will weigh.
#pragma once
#include "convert/compare.h"
#include "convert/conversion.h"

namespace ruedo {

/// Where the packets of the pictures take most bytes for so long: what is hardest to encode. From the beginning where
/// the clip is hardly longer. Reads heads only.
Result<Time> hardest_stretch(Clip& clip, Time length, TimeRange within = {Time{}, Time::max()});

struct SampleEncodeOptions {
    Recipe recipe;
    std::optional<Target> target;
    Time from{}, length{4'000'000'000};
    std::filesystem::path file;  ///< What is made of it, where it is not copied; another trial's may be written over.
    bool compared = true;        ///< Its pictures are held against those there were.
    const std::atomic<bool>* cancel = nullptr;
    std::function<void(double)> told{};  ///< How far it is, 0 to 1, rising.
};
struct SampleEncode {
    Time from{}, to{};
    Converted made;
    Comparison likeness;             ///< Of its pictures; empty where there are none or they are copied.
    std::uint64_t bytes_before = 0;  ///< Of the source, in this stretch.
    /// Of the whole, as the stretch and the source's own bytes tell: about.
    std::uint64_t whole_bytes = 0, source_bytes = 0;
    Time whole_took{};
    /// Bytes of pictures in each tenth of a second of the stretch, before and after.
    std::vector<double> before, after;
    /// Keyframes of the stretch, before and after, in the source's time.
    std::vector<Time> keys_before, keys_after;
    /// "A seventh of the size; least alike at 0:07.2, at the lower right."
    std::string sentence() const;
};
/// Blocks. Errors: those of `convert`; `cancelled`.
Result<SampleEncode> encode_sample(const std::string& source, const SampleEncodeOptions& options,
                                   CodecRegistry& codecs);
/// The same of what was made already: `made` against the stretch of `source` that begins at `from`, every picture of
/// it. Hears how far it is, 0 to 1.
Result<SampleEncode> hold_against(const std::string& source, const std::filesystem::path& made, Time from,
                                  CodecRegistry& codecs, const std::atomic<bool>* cancel = nullptr,
                                  const std::function<void(double)>& told = {});

/// Of points (size, quality) those that no line between two others passes above or beside: from the smallest to the
/// best, in the order of their sizes.
std::vector<std::size_t> upper_hull(const std::vector<std::pair<double, double>>& points);

}  // namespace ruedo
