// SPDX-License-Identifier: Apache-2.0
#include "capture/camera.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <mutex>

#include "capture/v4l2.h"
#include "io/io.h"

namespace ruedo {

std::string CameraMode::name() const {
    return fmt::format("{}x{}@{}{}", width, height,
                       rate.den == 1 ? fmt::format("{}", rate.num) : fmt::format("{}:{}", rate.num, rate.den),
                       codec == Codec::mjpeg ? "/mjpeg" : "");
}

namespace {

const std::vector<CameraMode>& harbour_modes() {
    static const std::vector<CameraMode> modes{
        {640, 360, {30, 1}, Codec::raw}, {320, 240, {15, 1}, Codec::raw}, {1280, 720, {25, 1}, Codec::raw}};
    return modes;
}

/// Water, a mole and a light that turns; the foot of the picture carries the number in sixteen cells, as every clip
/// of the demo does.
void draw_harbour(Bytes& yuyv, const CameraMode& m, int number) {
    auto w = static_cast<std::size_t>(m.width), h = static_cast<std::size_t>(m.height);
    yuyv.resize(w * h * 2);
    auto cell_w = w / 20, cell_h = h / 9;
    unsigned bits = static_cast<unsigned>(number) & 0x1FFF, parity = static_cast<unsigned>(std::popcount(bits)) & 1;
    // White, black, thirteen bits, even parity.
    unsigned word = 1U << 15 | bits << 1 | parity;
    auto foot = h - std::max<std::size_t>(2, (h * 2 + 50) / 100);
    auto light = static_cast<std::size_t>(number * 7) % w;
    for (std::size_t y = 0; y < h; ++y) {
        auto row = y / std::max<std::size_t>(1, cell_h);
        for (std::size_t x = 0; x < w; ++x) {
            auto column = x / std::max<std::size_t>(1, cell_w);
            int luma = row < 5 ? 60 + static_cast<int>(y * 70 / h)
                               : 70 + static_cast<int>((x + y * 3 + static_cast<std::size_t>(number) * 2) / 6 % 2) * 8;
            int chroma = row < 5 ? 140 : 120;
            auto off = x > light ? x - light : light - x;
            if (row >= 3 && row < 5 && off < w / 14) luma = 210;
            if (y >= foot)
                luma = (column >= 2 && column < 18 ? word >> (17 - column) & 1 : number % m.rate.num == 0) ? 130 : 32,
                chroma = 128;
            auto* p = &yuyv[(y * w + x) * 2];
            p[0] = static_cast<std::uint8_t>(luma);
            p[1] = static_cast<std::uint8_t>(x % 2 ? 128 : chroma);
        }
    }
}

class HarbourDevice final : public CameraDevice {
  public:
    explicit HarbourDevice(const CameraMode& mode) : mode_(mode), begun_(monotonic_now()) {
        ++HarbourCamera::instance().open_;
    }
    ~HarbourDevice() override { --HarbourCamera::instance().open_; }
    Result<std::optional<CapturedFrame>> grab(Time deadline) override {
        auto until = monotonic_now() + deadline;
        // A device that nobody asked for a while gives the newest picture, not the old ones.
        auto passed = time_to_ticks_floor((monotonic_now() - begun_) / mode_.rate.den,
                                          static_cast<std::uint64_t>(mode_.rate.num));
        if (number_ < passed - 1) number_ = passed - 1;
        auto due = begun_ + ticks_to_time(number_, static_cast<std::uint64_t>(mode_.rate.den),
                                          static_cast<std::uint64_t>(mode_.rate.num));
        for (;;) {
            if (!HarbourCamera::instance().plugged())
                return fail(ErrorCode::not_found, "The harbour camera was unplugged.",
                            "Plug it in again, then try again.");
            auto now = monotonic_now();
            if (now >= due) break;
            if (now >= until) return std::nullopt;
            timespec rest{0, static_cast<long>(std::min({(due - now).ns, (until - now).ns, std::int64_t{5'000'000}}))};
            nanosleep(&rest, nullptr);
        }
        CapturedFrame f;
        f.at = due;
        draw_harbour(f.data, mode_, static_cast<int>(number_++));
        return f;
    }

  private:
    CameraMode mode_;
    Time begun_;
    std::int64_t number_ = 0;
};

struct CameraName {
    std::string id, mode;
    int width = 0, height = 0;
};
std::optional<CameraName> parse_name(std::string_view source) {
    if (!is_camera(source)) return std::nullopt;
    auto query = source.find('?');
    CameraName n;
    n.id = camera_id(source);
    if (query != std::string_view::npos) {
        auto rest = source.substr(query + 1);
        while (!rest.empty()) {
            auto part = rest.substr(0, rest.find('&'));
            rest.remove_prefix(std::min(rest.size(), part.size() + 1));
            if (part.starts_with("mode=")) n.mode = part.substr(5);
            if (part.starts_with("size=")) {
                auto text = part.substr(5);
                auto x = text.find('x');
                if (x == std::string_view::npos) return std::nullopt;
                std::from_chars(text.data(), text.data() + x, n.width);
                std::from_chars(text.data() + x + 1, text.data() + text.size(), n.height);
                if (n.width < 16 || n.height < 16 || n.width > 4096 || n.height > 4096) return std::nullopt;
            }
        }
    }
    return n.id.empty() ? std::nullopt : std::optional(n);
}

/// Frames as they come; there is only one place to read from, so all readers share the device.
class CameraReader final : public TrackReader {
  public:
    CameraReader(std::shared_ptr<CameraDevice> device, Time begun, Time each)
        : device_(std::move(device)), begun_(begun), each_(each) {}
    Result<bool> next(PacketHead& head) override {
        for (Time waited{}; waited < 3_s; waited += 50_ms) {
            if (ReadScope::given_up()) return fail(ErrorCode::cancelled, "Waiting for the camera was given up.");
            RUEDO_TRY(auto frame, device_->grab(50_ms));
            if (!frame) continue;
            frame_ = std::move(*frame);
            head = {};
            head.pts = std::max(Time{}, frame_.at - begun_);
            head.duration = each_;
            head.keyframe = true;
            head.size = frame_.data.size();
            return true;
        }
        return fail(ErrorCode::timeout, "The camera gives no pictures.", "Unplug it and plug it in again.");
    }
    Status read(Bytes& out) override {
        out.swap(frame_.data);
        return {};
    }
    Status seek(Time) override { return {}; }

  private:
    std::shared_ptr<CameraDevice> device_;
    Time begun_, each_;
    CameraDevice::CapturedFrame frame_;
};

class CameraClip final : public Clip {
  public:
    CameraClip(std::shared_ptr<CameraDevice> device, const CameraInfo& camera, const CameraMode& mode, int width,
               int height)
        : device_(std::move(device)) {
        info_.container = "camera";
        info_.name = camera.name;
        info_.live = true;
        Track t;
        t.id = 1;
        t.kind = Kind::video;
        t.codec = mode.codec;
        t.codec_tag = mode.name();
        t.is_default = true;
        t.tick = {1, 1'000'000'000};
        t.video.width = width ? width : mode.width;
        t.video.height = height ? height : mode.height;
        t.video.colour = {Colour::Matrix::bt601,
                          mode.codec == Codec::mjpeg ? Colour::Range::full : Colour::Range::limited, 2, 2};
        ByteWriter w;  // the raw adapter's configuration: input size and format, output size
        w.u16(static_cast<unsigned>(mode.width))
            .u16(static_cast<unsigned>(mode.height))
            .u16(static_cast<unsigned>(t.video.width))
            .u16(static_cast<unsigned>(t.video.height));
        if (mode.codec == Codec::raw) t.config = w.bytes;
        info_.tracks.push_back(std::move(t));
        each_ = ticks_to_time(1, static_cast<std::uint64_t>(mode.rate.den), static_cast<std::uint64_t>(mode.rate.num));
        begun_ = monotonic_now();
    }
    std::unique_ptr<TrackReader> reader(std::uint64_t) override {
        return std::make_unique<CameraReader>(device_, begun_, each_);
    }

  private:
    std::shared_ptr<CameraDevice> device_;
    Time begun_{}, each_{};
};
}  // namespace

HarbourCamera& HarbourCamera::instance() {
    static HarbourCamera camera;
    return camera;
}
void HarbourCamera::plug(bool in) { plugged_ = in; }
void HarbourCamera::set_busy(bool busy) { busy_ = busy; }
void HarbourCamera::set_count(int count) { count_ = std::clamp(count, 0, 8); }

std::string camera_id(std::string_view source) {
    source.remove_prefix(std::string_view("camera://").size());
    return std::string(source.substr(0, source.find('?')));
}
bool is_camera(std::string_view source) { return source.starts_with("camera://"); }

std::vector<CameraInfo> list_cameras() {
    auto list = v4l2::list();
    auto& harbour = HarbourCamera::instance();
    if (harbour.plugged())
        for (int i = 1; i <= harbour.count(); ++i)
            list.push_back({i == 1 ? "harbour" : fmt::format("harbour-{}", i),
                            i == 1 ? "Harbour camera (simulated)" : fmt::format("Harbour camera {} (simulated)", i),
                            harbour_modes()});
    return list;
}

Result<std::unique_ptr<CameraDevice>> open_camera(const std::string& id, const CameraMode& mode) {
    if (!id.starts_with("harbour")) return v4l2::open(id, mode);
    if (HarbourCamera::instance().busy())
        return fail(ErrorCode::refused, "The harbour camera is in use by another program.",
                    "Close the other program, then try again.");
    return std::make_unique<HarbourDevice>(mode);
}

Result<std::unique_ptr<Clip>> open_camera_clip(const std::string& source) {
    auto name = parse_name(source);
    if (!name)
        return fail(ErrorCode::usage, fmt::format("“{}” names no camera.", source),
                    "Write it as camera://ID, with ?mode= and size= where they are wanted.");
    auto cameras = list_cameras();
    auto camera = std::find_if(cameras.begin(), cameras.end(), [&](auto& c) { return c.id == name->id; });
    if (camera == cameras.end()) {
        std::string there;
        for (auto& c : cameras) there += (there.empty() ? "" : ", ") + c.id;
        return fail(ErrorCode::not_found, fmt::format("There is no camera “{}”.", name->id),
                    there.empty() ? "No camera is connected." : fmt::format("There are: {}.", there));
    }
    if (camera->modes.empty())
        return fail(ErrorCode::codec_missing,
                    fmt::format("“{}” gives pictures only in forms that are not read here.", camera->name),
                    "A camera that gives YUYV or MJPEG works.");
    auto mode = camera->modes.front();
    if (!name->mode.empty()) {
        auto wanted =
            std::find_if(camera->modes.begin(), camera->modes.end(), [&](auto& m) { return m.name() == name->mode; });
        if (wanted == camera->modes.end())
            return fail(ErrorCode::not_found, fmt::format("“{}” has no mode {}.", camera->name, name->mode),
                        fmt::format("Its first one is {}.", mode.name()));
        mode = *wanted;
    }
    RUEDO_TRY(auto device, open_camera(name->id, mode));
    return std::make_unique<CameraClip>(std::shared_ptr<CameraDevice>(std::move(device)), *camera, mode, name->width,
                                        name->height);
}

}  // namespace ruedo
