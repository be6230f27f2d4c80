// SPDX-License-Identifier: Apache-2.0
#include "convert/stills.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "container/container.h"
#include "picture/picture.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {
constexpr int gap = 8;  ///< Round the pictures of a sheet.
constexpr std::size_t most_stills = 10'000;

Status write_image(const fs::path& path, const RgbImage& image, const StillOptions& o, CodecRegistry& codecs) {
    if (o.format == StillOptions::Format::png) return write_png(path, image, o.replace);
    VideoEncodeOptions e;
    e.width = image.width, e.height = image.height;
    e.colour = *Colour::always(Codec::mjpeg);
    e.control = VideoEncodeOptions::Control::quality;
    e.quality = 92;
    RUEDO_TRY(auto encoder, codecs.video_encoder(Codec::mjpeg, e));
    std::vector<Encoded> packets;
    RUEDO_TRY_DO(encoder->encode(to_frame(image, e.colour), packets));
    if (packets.empty()) return fail(ErrorCode::internal, "No JPEG came of a picture.");
    return write_file(path, packets.front().data, o.replace);
}

/// A picture laid onto another one, which is large enough.
void lay(const RgbImage& image, RgbImage& onto, int left, int top) {
    for (std::ptrdiff_t y = 0; y < image.height; ++y)
        std::memcpy(onto.pixels.data() + (top + y) * onto.stride() + left * 4, image.pixels.data() + y * image.stride(),
                    static_cast<std::size_t>(image.stride()));
}
/// The middle of a picture that is at least so large.
RgbImage cut(const RgbImage& image, int width, int height) {
    RgbImage made{width, height, {}};
    made.pixels.resize(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 4);
    auto left = (image.width - width) / 2, top = (image.height - height) / 2;
    for (std::ptrdiff_t y = 0; y < height; ++y)
        std::memcpy(made.pixels.data() + y * made.stride(), image.pixels.data() + (top + y) * image.stride() + left * 4,
                    static_cast<std::size_t>(made.stride()));
    return made;
}
Result<std::shared_ptr<Clip>> clip_with_frames(const std::string& source) {
    ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
    RUEDO_TRY(auto clip, open_clip(source));
    if (!clip->info().main(Kind::video))
        return fail(ErrorCode::not_media, fmt::format("“{}” has no pictures.", clip->info().name),
                    "Choose a clip with pictures.");
    return std::shared_ptr<Clip>(std::move(clip));
}
/// How much fine detail there is.
double detail_of(const Frame& p) {
    double sum = 0;
    for (std::ptrdiff_t y = 1; y + 1 < p.height; ++y) {
        auto* row = p.plane[0] + y * p.stride[0];
        std::int64_t squares = 0;
        for (std::ptrdiff_t x = 1; x + 1 < p.width; ++x) {
            int edge = 4 * row[x] - row[x - 1] - row[x + 1] - row[x - p.stride[0]] - row[x + p.stride[0]];
            squares += edge * edge;
        }
        sum += static_cast<double>(squares);
    }
    return sum / std::max(1, (p.width - 2) * (p.height - 2));
}
}  // namespace

Result<Time> sharpest_near(const std::string& source, Time at, Time span, CodecRegistry& codecs,
                           const std::atomic<bool>* cancel) {
    RUEDO_TRY(auto clip, clip_with_frames(source));
    RUEDO_TRY(auto reader, FrameReader::open(clip, *clip->info().main(Kind::video), codecs));
    RUEDO_TRY(auto picture, reader->at(std::max(Time{}, at - span), cancel));
    Time best = picture.pts;
    double most = -1;
    for (std::optional<Frame> now(std::move(picture)); now && now->pts <= at + span;) {
        if (auto detail = detail_of(*now); detail > most) most = detail, best = now->pts;
        RUEDO_TRY(now, reader->next(cancel));
    }
    return best;
}

Result<std::vector<Still>> stills(const std::string& source, const StillOptions& o, CodecRegistry& codecs) {
    RUEDO_TRY(auto clip, clip_with_frames(source));
    auto& info = clip->info();
    auto* track = info.main(Kind::video);
    bool spread = o.every || o.count || o.columns;
    if (spread && !info.duration_known)
        return fail(ErrorCode::refused, fmt::format("How long “{}” is is not known.", info.name),
                    "Name the times instead.");
    auto times = o.at;
    auto count = o.columns ? static_cast<std::size_t>(o.columns) * static_cast<std::size_t>(o.rows) : o.count;
    if (o.every)
        for (Time t{}; t < info.duration && times.size() <= most_stills; t = t + *o.every) times.push_back(t);
    for (std::size_t i = 0; i < count && i <= most_stills; ++i)
        times.push_back(scaled(info.duration, (static_cast<double>(i) + 0.5) / static_cast<double>(count)));
    if (times.empty()) times.push_back(info.duration_known ? std::min(2_s, info.duration / 4) : Time{});
    if (times.size() > most_stills)
        return fail(ErrorCode::limit, fmt::format("That would be more than {} pictures.", most_stills), "Take fewer.");
    if (o.single && times.size() > 1)
        return fail(ErrorCode::refused, "Several pictures don’t go into one file.", "Name a folder for them.");
    RUEDO_TRY(auto reader, FrameReader::open(clip, *track, codecs));
    int width = track->video.display_width(), height = track->video.display_height();
    bool cuts = o.fills && o.width > 0 && o.height > 0;
    RectF whole{0, 0, static_cast<double>(width), static_cast<double>(height)};
    if (cuts) {
        whole = fit_rect(Fit::cover, width, height, o.width, o.height);
        width = o.width, height = o.height;
    } else if (o.width > 0 && o.height > 0) {
        auto fitted = fit_rect(Fit::contain, width, height, o.width, o.height);
        width = std::max(1, static_cast<int>(fitted.width + 0.5)),
        height = std::max(1, static_cast<int>(fitted.height + 0.5));
    }
    RgbImage sheet;
    if (o.columns) {
        auto across = std::int64_t{gap} + o.columns * (width + std::int64_t{gap}),
             down = std::int64_t{gap} + o.rows * (height + std::int64_t{gap});
        if (count > 400 || across > 16384 || down > 16384)
            return fail(ErrorCode::limit, fmt::format("A sheet of {} × {} pixels is too large.", across, down),
                        "Say a --size for its pictures, or take fewer.");
        sheet = RgbImage{static_cast<int>(across), static_cast<int>(down), {}};
        sheet.pixels.resize(static_cast<std::size_t>(across * down * 4));
        for (std::size_t i = 0; i < sheet.pixels.size(); i += 4)
            sheet.pixels[i] = 0x1A, sheet.pixels[i + 1] = 0x13, sheet.pixels[i + 2] = 0x17, sheet.pixels[i + 3] = 0xFF;
    }
    std::optional<FileBatch> batch;
    if (!o.columns && !o.single) {
        RUEDO_TRY(auto begun, FileBatch::begin(o.out, o.replace));
        batch.emplace(std::move(begun));
    }
    std::vector<Still> made(times.size());
    auto ending = o.format == StillOptions::Format::png ? "png" : "jpg";
    auto taken = reader->at_each(times, [&](std::size_t i, const Frame& picture) -> Status {
        if (o.go_on && !o.go_on()) return fail(ErrorCode::cancelled, "Making stills was interrupted.", "Run it again.");
        auto image = cuts ? cut(render(picture, std::max(width, static_cast<int>(whole.width + 0.5)),
                                       std::max(height, static_cast<int>(whole.height + 0.5))),
                                width, height)
                          : render(picture, width, height);
        if (o.columns) {
            auto column = static_cast<int>(i) % o.columns, row = static_cast<int>(i) / o.columns;
            lay(image, sheet, gap + column * (width + gap), gap + row * (height + gap));
            made[i] = {picture.pts, o.out, width, height};
            return {};
        }
        if (!batch) {
            made[i] = {picture.pts, o.out, width, height};
            return write_image(o.out, image, o, codecs);
        }
        auto name = fmt::format("{:04}-{}.{}", i, picture.pts.ns, ending);
        RUEDO_TRY(auto path, batch->place(name));
        RUEDO_TRY_DO(write_image(path, image, o, codecs));
        made[i] = {picture.pts, batch->final_place(name), width, height};
        return {};
    });
    RUEDO_TRY_DO(taken);
    if (o.columns) RUEDO_TRY_DO(write_image(o.out, sheet, o, codecs));
    if (batch) RUEDO_TRY_DO(batch->commit());
    return made;
}

}  // namespace ruedo
