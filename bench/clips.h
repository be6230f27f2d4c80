// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <nlohmann/json_fwd.hpp>

#include "bench/bare.h"
#include "demo/clips.h"

namespace ruedo::bench {

/// The clips made for measuring, in a folder of temporary files that is kept between runs.
/// "h264-720p60.mp4", "vp9-1080p30.webm" and "vp8-360p30.webm" of ten seconds, "long-1080p.mp4", "quarter-hour.mp4" and
/// "two-hours.mp4", which repeat them.
std::filesystem::path clip(const std::string& name);
/// The beginning of one of them, packet by packet.
std::filesystem::path beginning(const std::string& name, Time length);
/// Into this codec, of pictures that decode quickly.
nlohmann::json convert_row(Codec codec);
nlohmann::json convert_quality_row();
Packets packets_of(const std::filesystem::path& path);

}  // namespace ruedo::bench
