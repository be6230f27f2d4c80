// SPDX-License-Identifier: Apache-2.0
// The one place that turns an address of any kind into a clip.
#include <fmt/format.h>

#include "capture/camera.h"
#include "container/container.h"
#include "stream/stream.h"

namespace ruedo {

Result<std::unique_ptr<Clip>> open_clip(const std::string& source, const StreamOptions& options) {
    if (is_camera(source)) return open_camera_clip(source);
    RUEDO_TRY(auto bytes, open_source(source));
    Bytes head(512);
    RUEDO_TRY(auto got, bytes->read_at(0, head));
    head.resize(got);
    if (stream::is_stream(head)) return stream::open(bytes->address().value_or(source), options);
    return open_clip(std::move(bytes));
}

Result<std::shared_ptr<Clip>> open_to_end(const std::string& source) {
    ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
    RUEDO_TRY(auto clip, open_clip(source));
    if (clip->info().live)
        return fail(ErrorCode::refused, fmt::format("“{}” has no end.", clip->info().name), "Choose a clip that ends.");
    return std::shared_ptr<Clip>(std::move(clip));
}

Result<ClipInfo> info_of(const std::string& source) {
    RUEDO_TRY(auto clip, open_clip(source));
    return clip->info();
}

}  // namespace ruedo
