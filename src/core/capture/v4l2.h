// SPDX-License-Identifier: Apache-2.0
// Video4Linux2, the kernel's interface to cameras (linux/videodev2.h).
#pragma once
#include "capture/camera.h"

namespace ruedo::v4l2 {

std::vector<CameraInfo> list();
Result<std::unique_ptr<CameraDevice>> open(const std::string& id, const CameraMode& mode);

}  // namespace ruedo::v4l2
