// SPDX-License-Identifier: Apache-2.0
#include "convert/fitting.h"

#include <fmt/format.h>

#include <array>
#include <nlohmann/json.hpp>

#include "capture/camera.h"
#include "io/http.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {
constexpr std::array<std::string_view, 5> target_report_names{"as it is", "rewrapped", "converted", "refused",
                                                              "not bundled"};

TargetReport refused(const Error& error) {
    TargetReport f;
    f.what = TargetReport::What::refused;
    f.why = {error.sentence};
    if (!error.hint.empty()) f.why.push_back(error.hint);
    return f;
}
Result<TargetReport> planned(const std::string& source, const Target& target, const std::optional<Recipe>& chosen,
                             const fs::path& made, CodecRegistry& codecs, const std::atomic<bool>* cancel) {
    std::shared_ptr<Clip> clip;
    {
        ReadScope opening(cancel, false, monotonic_now() + open_deadline);
        RUEDO_TRY(clip, open_clip(source));
    }
    auto& info = clip->info();
    TargetReport f;
    f.bytes_before = f.bytes_after = info.bytes;
    RUEDO_TRY(auto proposal, propose(clip, target, codecs, source, cancel));
    f.why = proposal.why;
    if (!proposal.needed && !chosen) {
        if (is_address(source)) f.what = TargetReport::What::elsewhere;
        return f;
    }
    f.recipe = chosen.value_or(proposal.recipe);
    RUEDO_TRY(auto container_format, container_format_for(f.recipe, "x." + proposal.recipe.container_format));
    f.ending =
        container_format->extensions.empty() ? std::string("bin") : std::string(container_format->extensions.front());
    RUEDO_TRY(auto plan, plan_for(info, f.recipe, *container_format, codecs, &target, from_packets(clip, source)));
    bool encodes = plan.encode_video ||
                   std::any_of(plan.audio_tracks.begin(), plan.audio_tracks.end(), [](auto& s) { return s.encode; });
    f.what = encodes ? TargetReport::What::converted : TargetReport::What::rewrapped;
    if (chosen) {
        f.why = {"It is made as it was chosen in Prepare."};
        for (auto& w : plan.why) f.why.push_back(w.sentence);
    }
    if (encodes) f.bytes_after = f.recipe.fit_bytes.value_or(0);
    if (std::error_code ec; !made.empty() && fs::exists(made, ec)) {
        f.made = true;
        f.bytes_after = fs::file_size(made, ec);
    }
    return f;
}
}  // namespace

std::string_view target_report_name(TargetReport::What what) {
    return target_report_names.at(static_cast<std::size_t>(what));
}

TargetReport report_for(const std::string& source, const Target& target, const std::optional<Recipe>& chosen,
                        const fs::path& made, CodecRegistry& codecs, const std::atomic<bool>* cancel) {
    if (is_camera(source)) {
        TargetReport f;
        f.what = TargetReport::What::elsewhere;
        f.why = {"A camera gives its pictures as they come; nothing is made of them beforehand."};
        return f;
    }
    auto f = planned(source, target, chosen, made, codecs, cancel);
    return f ? *f : refused(f.error());
}

Status estimate(TargetReport& target_report, const std::string& source, const Target& target, const fs::path& file,
                CodecRegistry& codecs, const std::atomic<bool>* cancel) {
    if (!target_report.makes() || target_report.what != TargetReport::What::converted) return {};
    RUEDO_TRY(auto opened, open_clip(source));
    SampleEncodeOptions o;
    o.recipe = target_report.recipe, o.target = target, o.length = 2_s, o.file = file, o.cancel = cancel;
    o.compared = false;
    RUEDO_TRY(o.from, hardest_stretch(*opened, o.length));
    RUEDO_TRY(auto sample_encode, encode_sample(source, o, codecs));
    target_report.bytes_after = sample_encode.whole_bytes;
    target_report.took = sample_encode.whole_took;
    return {};
}

nlohmann::json to_json(const TargetReport& f) {
    return {{"what", target_report_name(f.what)},
            {"why", f.why},
            {"bytes_before", f.bytes_before},
            {"bytes_after", f.bytes_after ? nlohmann::json(f.bytes_after) : nlohmann::json(nullptr)},
            {"took_ns", f.took.ns},
            {"made", f.made},
            {"recipe", f.what == TargetReport::What::rewrapped || f.what == TargetReport::What::converted
                           ? to_json(f.recipe)
                           : nlohmann::json(nullptr)}};
}

fs::path free_place(const fs::path& folder, const std::string& source, const std::string& what,
                    const std::string& ending, const std::function<bool(const fs::path&)>& taken) {
    auto stem = is_address(source) ? fs::path(source.substr(source.rfind('/') + 1)).stem().string()
                                   : fs::path(source).stem().string();
    std::erase_if(stem, [](unsigned char c) { return c < 32 || c == '?' || c == '/'; });
    std::error_code ec;
    for (int n = 1;; ++n) {
        auto number = n > 1 ? fmt::format(" {}", n) : std::string();
        auto place = folder / fmt::format("{} {}{}.{}", stem.empty() ? "clip" : stem, what, number, ending);
        if (!fs::exists(place, ec) && !(taken && taken(place))) return place;
    }
}
fs::path place_for(const fs::path& folder, const std::string& source, const Target& target, const std::string& ending,
                   const std::function<bool(const fs::path&)>& taken) {
    return free_place(folder, source, "for " + target.name, ending, taken);
}

}  // namespace ruedo
