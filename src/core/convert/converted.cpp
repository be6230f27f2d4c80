// SPDX-License-Identifier: Apache-2.0
#include <nlohmann/json.hpp>

#include "convert/conversion.h"

namespace ruedo {

nlohmann::json to_json(const Converted& c) {
    using nlohmann::json;
    auto codec = [](const Converted::Stream& s) {
        return s.action == "none" ? json(nullptr) : json(codec_name(s.codec));
    };
    json findings = json::array();
    for (auto& f : c.findings) findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"hint", f.hint}});
    return {{"path", c.path.string()},
            {"bytes", c.bytes},
            {"container", c.container},
            {"duration_ns", c.duration.ns},
            {"took_ns", c.took.ns},
            {"speed", c.took.ns > 0 ? c.duration.seconds() / c.took.seconds() : 0},
            {"video",
             {{"action", c.video.action},
              {"codec", codec(c.video)},
              {"width", c.video.width},
              {"height", c.video.height},
              {"frames", c.video.frames},
              {"passes", c.video.passes}}},
            {"audio",
             {{"action", c.audio.action},
              {"codec", codec(c.audio)},
              {"sample_rate", c.audio.sample_rate},
              {"channels", c.audio.channels}}},
            {"findings", std::move(findings)}};
}

}  // namespace ruedo
