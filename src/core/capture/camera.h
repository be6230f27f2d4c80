// SPDX-License-Identifier: Apache-2.0
// Cameras: those of the kernel (Video4Linux2) and the simulated one of the harbour, behind one interface. A camera
// plays as a live clip, "camera://ID?mode=640x480@30&size=320x180".
#pragma once
#include <memory>

#include "media/media.h"

namespace ruedo {

struct CameraMode {
    int width = 0, height = 0;
    Rational rate{30, 1};
    Codec codec = Codec::raw;  ///< `raw` is YUYV; or `mjpeg`.
    std::string name() const;  ///< "640x480@30", "640x480@30/mjpeg".
    bool operator==(const CameraMode&) const = default;
};

struct CameraInfo {
    std::string id;                 ///< "harbour", or "video0" for /dev/video0.
    std::string name;               ///< As the device calls itself.
    std::vector<CameraMode> modes;  ///< The preferred one first.
    bool operator==(const CameraInfo&) const = default;
};

/// An opened device. Not thread-safe.
class CameraDevice {
  public:
    virtual ~CameraDevice() = default;
    struct CapturedFrame {
        Bytes data;
        Time at{};
    };  ///< `at`: monotonic.
    /// Waits for the next frame, at most `deadline`; nothing when none came. An unplugged device is `not-found`.
    virtual Result<std::optional<CapturedFrame>> grab(Time deadline) = 0;
};

/// The cameras there are now; an empty list is a fact, not an error.
std::vector<CameraInfo> list_cameras();
/// Errors: `not-found` (no such camera), `refused` (another program holds it), `io`.
Result<std::unique_ptr<CameraDevice>> open_camera(const std::string& id, const CameraMode& mode);

bool is_camera(std::string_view source);
/// "harbour" of "camera://harbour?mode=640x360@30"; `source` must be a camera.
std::string camera_id(std::string_view source);
/// The camera as a clip of one live track. `size` in the name scales every picture; without it, as the device gives.
Result<std::unique_ptr<Clip>> open_camera_clip(const std::string& source);

/// The simulated camera of the harbour: every picture carries its number. For the demo and for tests.
class HarbourCamera {
  public:
    static HarbourCamera& instance();
    void plug(bool in);         ///< Pulled out while running, the next frame is an error.
    void set_busy(bool busy);   ///< As if another program held it.
    void set_count(int count);  ///< How many of them there are: "harbour", "harbour-2" …
    bool plugged() const { return plugged_; }
    bool busy() const { return busy_; }
    int count() const { return count_; }
    int open_devices() const { return open_; }
    std::atomic<int> open_ = 0;  ///< Kept by the devices themselves.

  private:
    std::atomic<bool> plugged_ = true, busy_ = false;
    std::atomic<int> count_ = 1;
};

}  // namespace ruedo
