// SPDX-License-Identifier: Apache-2.0
#include "capture/v4l2.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/videodev2.h>
#include <poll.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>

namespace ruedo::v4l2 {
namespace {

int request(int fd, unsigned long what, void* argument) {
    int result = 0;
    do result = ::ioctl(fd, what, argument);
    while (result < 0 && errno == EINTR);
    return result;
}

struct Handle {
    int fd = -1;
    explicit Handle(const std::string& path, int flags) : fd(::open(path.c_str(), flags | O_CLOEXEC)) {}
    ~Handle() {
        if (fd >= 0) ::close(fd);
    }
    Handle(const Handle&) = delete;
    Handle& operator=(const Handle&) = delete;
};

void add_modes(int fd, std::uint32_t pixel, Codec codec, std::vector<CameraMode>& modes) {
    auto add = [&](unsigned w, unsigned h) {
        if (w < 16 || h < 16 || w > 4096 || h > 4096 || modes.size() > 200) return;
        bool any = false;
        for (unsigned i = 0; i < 32; ++i) {
            v4l2_frmivalenum interval{};
            interval.index = i, interval.pixel_format = pixel, interval.width = w, interval.height = h;
            if (request(fd, VIDIOC_ENUM_FRAMEINTERVALS, &interval) < 0) break;
            auto f = interval.type == V4L2_FRMIVAL_TYPE_DISCRETE ? interval.discrete : interval.stepwise.min;
            if (f.numerator && f.denominator)
                modes.push_back(
                    {static_cast<int>(w), static_cast<int>(h), Rational{f.denominator, f.numerator}.reduced(), codec}),
                    any = true;
            if (interval.type != V4L2_FRMIVAL_TYPE_DISCRETE) break;
        }
        if (!any) modes.push_back({static_cast<int>(w), static_cast<int>(h), {30, 1}, codec});
    };
    for (unsigned i = 0; i < 64; ++i) {
        v4l2_frmsizeenum size{};
        size.index = i, size.pixel_format = pixel;
        if (request(fd, VIDIOC_ENUM_FRAMESIZES, &size) < 0) break;
        if (size.type == V4L2_FRMSIZE_TYPE_DISCRETE) {
            add(size.discrete.width, size.discrete.height);
        } else {
            for (auto [w, h] : {std::pair{640U, 480U}, {1280U, 720U}, {320U, 240U}, {1920U, 1080U}})
                if (w >= size.stepwise.min_width && w <= size.stepwise.max_width && h >= size.stepwise.min_height &&
                    h <= size.stepwise.max_height)
                    add(w, h);
            break;
        }
    }
}

class Device final : public CameraDevice {
  public:
    explicit Device(const std::string& path, std::string name)
        : handle_(path, O_RDWR | O_NONBLOCK), name_(std::move(name)) {}
    ~Device() override {
        int type = V4L2_BUF_TYPE_VIDEO_CAPTURE;
        if (handle_.fd >= 0 && streaming_) request(handle_.fd, VIDIOC_STREAMOFF, &type);
        for (auto& [at, size] : buffers_) ::munmap(at, size);
    }
    Status start(const CameraMode& mode) {
        auto wrong = [&](const char* what) -> Status {
            if (errno == EBUSY)
                return fail(ErrorCode::refused, fmt::format("“{}” is in use by another program.", name_),
                            "Close the other program, then try again.");
            if (errno == EACCES)
                return fail(ErrorCode::refused, fmt::format("You may not open “{}”.", name_),
                            "Ask for membership of the group “video”.");
            auto e = errno_error(errno, fmt::format("{} “{}”", what, name_));
            return std::unexpected(e);
        };
        if (handle_.fd < 0) return wrong("Opening");
        v4l2_format format{};
        format.type = V4L2_BUF_TYPE_VIDEO_CAPTURE;
        format.fmt.pix.width = static_cast<unsigned>(mode.width),
        format.fmt.pix.height = static_cast<unsigned>(mode.height);
        format.fmt.pix.pixelformat = mode.codec == Codec::mjpeg ? V4L2_PIX_FMT_MJPEG : V4L2_PIX_FMT_YUYV;
        format.fmt.pix.field = V4L2_FIELD_NONE;
        if (request(handle_.fd, VIDIOC_S_FMT, &format) < 0) return wrong("Setting the format of");
        if (static_cast<int>(format.fmt.pix.width) != mode.width ||
            static_cast<int>(format.fmt.pix.height) != mode.height)
            return fail(ErrorCode::io, fmt::format("“{}” does not keep to {}.", name_, mode.name()),
                        "Choose another mode.");
        row_ = format.fmt.pix.bytesperline;
        mode_ = mode;
        v4l2_streamparm rate{};
        rate.type = V4L2_BUF_TYPE_VIDEO_CAPTURE;
        rate.parm.capture.timeperframe = {static_cast<unsigned>(mode.rate.den), static_cast<unsigned>(mode.rate.num)};
        request(handle_.fd, VIDIOC_S_PARM, &rate);  // not every device can be told its rate
        v4l2_requestbuffers want{};
        want.count = 4, want.type = V4L2_BUF_TYPE_VIDEO_CAPTURE, want.memory = V4L2_MEMORY_MMAP;
        if (request(handle_.fd, VIDIOC_REQBUFS, &want) < 0 || want.count < 2) return wrong("Asking for memory of");
        for (unsigned i = 0; i < want.count; ++i) {
            v4l2_buffer b{};
            b.type = V4L2_BUF_TYPE_VIDEO_CAPTURE, b.memory = V4L2_MEMORY_MMAP, b.index = i;
            if (request(handle_.fd, VIDIOC_QUERYBUF, &b) < 0) return wrong("Asking for memory of");
            auto* at = ::mmap(nullptr, b.length, PROT_READ | PROT_WRITE, MAP_SHARED, handle_.fd,
                              static_cast<off_t>(b.m.offset));
            if (at == MAP_FAILED) return wrong("Mapping the memory of");
            buffers_.emplace_back(at, b.length);
            if (request(handle_.fd, VIDIOC_QBUF, &b) < 0) return wrong("Starting");
        }
        int type = V4L2_BUF_TYPE_VIDEO_CAPTURE;
        if (request(handle_.fd, VIDIOC_STREAMON, &type) < 0) return wrong("Starting");
        streaming_ = true;
        return {};
    }
    Result<std::optional<CapturedFrame>> grab(Time deadline) override {
        pollfd p{handle_.fd, POLLIN, 0};
        auto ready = ::poll(&p, 1, static_cast<int>(deadline.ns / 1'000'000));
        if (ready == 0) return std::nullopt;
        auto gone = [&] {
            return fail(ErrorCode::not_found, fmt::format("“{}” was unplugged.", name_),
                        "Plug it in again, then try again.");
        };
        if (p.revents & (POLLERR | POLLHUP | POLLNVAL)) return gone();
        v4l2_buffer b{};
        b.type = V4L2_BUF_TYPE_VIDEO_CAPTURE, b.memory = V4L2_MEMORY_MMAP;
        if (request(handle_.fd, VIDIOC_DQBUF, &b) < 0) {
            if (errno == EAGAIN) return std::nullopt;
            if (errno == ENODEV) return gone();
            return std::unexpected(errno_error(errno, fmt::format("Reading “{}”", name_)));
        }
        CapturedFrame f;
        bool monotonic = (b.flags & V4L2_BUF_FLAG_TIMESTAMP_MASK) == V4L2_BUF_FLAG_TIMESTAMP_MONOTONIC;
        f.at = monotonic ? Time{b.timestamp.tv_sec * 1'000'000'000LL + b.timestamp.tv_usec * 1000LL} : monotonic_now();
        if (b.index < buffers_.size() && !(b.flags & V4L2_BUF_FLAG_ERROR)) {
            auto* from = static_cast<const std::uint8_t*>(buffers_[b.index].first);
            auto used = std::min<std::size_t>(b.bytesused, buffers_[b.index].second);
            auto wide = static_cast<std::size_t>(mode_.width) * 2;
            if (mode_.codec == Codec::mjpeg) {
                f.data.assign(from, from + used);
            } else if (row_ >= wide && used >= row_ * static_cast<std::size_t>(mode_.height - 1) + wide) {
                f.data.reserve(wide * static_cast<std::size_t>(mode_.height));
                for (int y = 0; y < mode_.height; ++y)
                    f.data.insert(f.data.end(), from + static_cast<std::size_t>(y) * row_,
                                  from + static_cast<std::size_t>(y) * row_ + wide);
            }
        }
        if (request(handle_.fd, VIDIOC_QBUF, &b) < 0 && errno == ENODEV) return gone();
        if (f.data.empty()) return std::nullopt;
        return f;
    }

  private:
    Handle handle_;
    std::string name_;
    std::vector<std::pair<void*, std::size_t>> buffers_;
    CameraMode mode_;
    std::size_t row_ = 0;
    bool streaming_ = false;
};
}  // namespace

std::vector<CameraInfo> list() {
    std::vector<CameraInfo> cameras;
    std::error_code ec;
    std::vector<std::string> nodes;
    for (std::filesystem::directory_iterator it("/dev", ec), end; !ec && it != end; it.increment(ec))
        if (auto name = it->path().filename().string(); name.starts_with("video")) nodes.push_back(name);
    std::sort(nodes.begin(), nodes.end());
    for (auto& node : nodes) {
        Handle h("/dev/" + node, O_RDWR | O_NONBLOCK);
        v4l2_capability can{};
        if (h.fd < 0 || request(h.fd, VIDIOC_QUERYCAP, &can) < 0) continue;
        auto caps = can.capabilities & V4L2_CAP_DEVICE_CAPS ? can.device_caps : can.capabilities;
        if (!(caps & V4L2_CAP_VIDEO_CAPTURE) || !(caps & V4L2_CAP_STREAMING)) continue;
        CameraInfo c;
        c.id = node;
        c.name = reinterpret_cast<const char*>(can.card);
        for (unsigned i = 0; i < 64; ++i) {
            v4l2_fmtdesc format{};
            format.index = i, format.type = V4L2_BUF_TYPE_VIDEO_CAPTURE;
            if (request(h.fd, VIDIOC_ENUM_FMT, &format) < 0) break;
            if (format.pixelformat == V4L2_PIX_FMT_YUYV) add_modes(h.fd, format.pixelformat, Codec::raw, c.modes);
            if (format.pixelformat == V4L2_PIX_FMT_MJPEG) add_modes(h.fd, format.pixelformat, Codec::mjpeg, c.modes);
        }
        cameras.push_back(std::move(c));
    }
    return cameras;
}

Result<std::unique_ptr<CameraDevice>> open(const std::string& id, const CameraMode& mode) {
    auto device = std::make_unique<Device>("/dev/" + id, id);
    RUEDO_TRY_DO(device->start(mode));
    return device;
}

}  // namespace ruedo::v4l2
