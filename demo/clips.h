// SPDX-License-Identifier: Apache-2.0
// The clips of "Harbour Lights": what they look and sound like, and the making of them.
#pragma once
#include <functional>

#include "container/container.h"
#include "demo/drawing.h"
#include "sound/sound.h"

namespace ruedo::demo {

struct ClipSpec {
    std::string file;  ///< "lantern.webm"; its ending decides the container.
    Codec video = Codec::vp9, audio = Codec::opus;
    int width = 1280, height = 720;
    Rational rate{30, 1};
    int seconds = 12;
    Rational pixel_aspect{};
    int keyframe_every = 60;
    std::uint32_t bitrate = 1'200'000;
    int audio_rate = 48000;
    bool numbered = false;  ///< Each frame carries its number as a strip at its foot (strip.h); for tests.
    /// Draws the frame at `t` seconds, without the strip.
    void (*draw)(Canvas& canvas, double t) = nullptr;
    /// One sample at `t` seconds.
    float (*sample)(double t) = nullptr;
};

std::vector<ClipSpec> harbour_lights();
/// The long one, and a ladder of it: "coast/master.m3u8" and "coast/manifest.mpd" in `folder`.
ClipSpec coastal_pass();
Status make_coast(const std::filesystem::path& folder, CodecRegistry& codecs);
/// Draws, encodes and writes one clip. `told` hears the frames done.
Status make_clip(const ClipSpec& spec, const std::filesystem::path& folder, CodecRegistry& codecs,
                 const std::function<void(int, int)>& told = {});
/// The picture of frame `number` as the clip will hold it before encoding.
RgbImage draw_frame(const ClipSpec& spec, int number);

/// One 1 kHz burst of 50 ms at every whole second: exact onsets for tests.
float burst(double t);

}  // namespace ruedo::demo
