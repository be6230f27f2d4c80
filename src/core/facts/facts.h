// SPDX-License-Identifier: Apache-2.0
// Facts about a source: what it is in sentences, its bytes, keyframes and loudness along its length, and findings
// with numbers and with what to do. Everything is computed from the packets; nothing is guessed from names.
#pragma once
#include <functional>

#include "codec/codec.h"
#include "container/container.h"
#include "sound/sound.h"

namespace ruedo {

/// A stretch of the strip chart.
struct FactsBin {
    Time at{};
    std::uint64_t bytes = 0;         ///< Of all packets that begin in it.
    std::optional<double> loudness;  ///< LUFS over three seconds around it (EBU R 128 short-term).
};

struct Loudness {
    double integrated = 0;       ///< LUFS, gated (ITU-R BS.1770-4).
    double range = 0;            ///< LU (EBU Tech 3342).
    double peak = 0;             ///< dBFS, of samples.
    std::size_t samples_of = 0;  ///< Of a long clip only so many stretches of 3 s were heard; 0 for all of it.
};

struct SourceFacts {
    ClipInfo info;
    std::vector<TrackFacts> tracks;  ///< As in `info.tracks`.
    std::string first_sentence, second_sentence;
    Time bin{};  ///< Length of one bin.
    std::vector<FactsBin> bins;
    std::vector<Time> keyframes;  ///< Of the pictures that play.
    Time duration{};
    double mean_bitrate = 0, peak_bitrate = 0;  ///< Bits per second; the peak is over one second.
    std::optional<Loudness> loudness;
    std::vector<Finding> findings;       ///< The container's own, and those computed here.
    std::optional<StreamReport> stream;  ///< Of HLS and DASH.
};

struct FactsOptions {
    bool loudness = true;
    const std::atomic<bool>* cancel = nullptr;
    /// Of a stream only the beginning is fetched, and its lists; its packets are not counted then.
    bool whole = true;
    /// Told of what is there already, first without loudness.
    std::function<void(const SourceFacts&)> so_far;
};

/// Walks every packet head once, and hears the sound: wholly up to twenty minutes, in 240 stretches beyond.
/// `address` is how the source is reached, for findings about that.
Result<SourceFacts> gather_facts(std::shared_ptr<Clip> clip, CodecRegistry& codecs, const std::string& address = {},
                                 const FactsOptions& options = {});
/// Of what the reader still gives, up to `to`: LUFS, gated; nothing where that is silence.
std::optional<double> loudness_of(AudioReader& reader, Time to, const std::atomic<bool>* cancel = nullptr);

}  // namespace ruedo
