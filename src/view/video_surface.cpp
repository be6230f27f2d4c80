// SPDX-License-Identifier: Apache-2.0
#include "view/video_surface.h"

#include <QBackingStore>
#include <QPaintEngine>
#include <QPainter>
#include <QResizeEvent>
#include <algorithm>
#include <atomic>
#include <cmath>

#include "view/look.h"
#include "view/paint_player.h"
#include "view/spoken.h"

namespace ruedo {

class VideoSurface::Sink final : public FrameSink {
  public:
    explicit Sink(VideoSurface* surface) : surface_(surface) {}
    std::shared_ptr<const RgbImage> prepare(const Frame& picture) override {
        int w, h;
        {
            std::lock_guard lock(mutex_);
            w = width_, h = height_;
        }
        if (w <= 0 || h <= 0) {
            VideoFormat f{picture.width, picture.height, picture.pixel_aspect, picture.rotation, picture.colour};
            w = f.display_width(), h = f.display_height();
        }
        return std::make_shared<const RgbImage>(ruedo::render(picture, w, h));
    }
    void show(std::shared_ptr<const RgbImage> image, const Frame& picture, Time due) override {
        std::lock_guard lock(mutex_);
        image_ = std::move(image);
        pts_ = picture.pts, due_ = due;
        VideoFormat f{picture.width, picture.height, picture.pixel_aspect, picture.rotation, picture.colour};
        shape_ = {f.display_width(), f.display_height()};
        painted_ = false;
        ask();
    }
    void clear() override {
        std::lock_guard lock(mutex_);
        image_.reset();
        ask();
    }
    Time refresh() const override { return ticks_to_time(1, 1, 60); }
    /// What nobody can see is not painted, and that is no loss.
    bool reports_paint() const override { return visible_; }
    void set_visible(bool visible) { visible_ = visible; }

    /// Whether that is another one.
    bool set_size(int w, int h) {
        std::lock_guard lock(mutex_);
        bool other = w != width_ || h != height_;
        width_ = w, height_ = h;
        return other;
    }
    struct Taken {
        std::shared_ptr<const RgbImage> image;
        Time pts, due;
        bool first;
        QSize shape;
    };
    /// The current frame. Only with `for_screen` it counts as presented.
    Taken take(bool for_screen) {
        std::lock_guard lock(mutex_);
        if (!for_screen) return {image_, pts_, due_, false, shape_};
        asked_ = false;
        return {image_, pts_, due_, !std::exchange(painted_, true), shape_};
    }
    bool has_image() {
        std::lock_guard lock(mutex_);
        return image_ != nullptr;
    }
    void detach() {
        std::lock_guard lock(mutex_);
        surface_ = nullptr;
    }

  private:
    /// One repaint at a time is asked for, however many pictures come meanwhile.
    void ask() {
        if (!surface_ || std::exchange(asked_, true)) return;
        QMetaObject::invokeMethod(
            surface_, [s = surface_] { s->composed_ ? s->composed_() : s->update(); }, Qt::QueuedConnection);
    }
    std::mutex mutex_;
    VideoSurface* surface_;
    std::shared_ptr<const RgbImage> image_;
    Time pts_{}, due_{};
    QSize shape_;
    int width_ = 0, height_ = 0;
    bool painted_ = true, asked_ = false;
    std::atomic<bool> visible_ = false;
};

VideoSurface::VideoSurface(QWidget* parent) : QWidget(parent), sink_(std::make_shared<Sink>(this)) {
    setAttribute(Qt::WA_OpaquePaintEvent);
    setMouseTracking(true);
    setAccessibleName("Picture");
    speak_as(*this, QAccessible::Graphic);
}
VideoSurface::~VideoSurface() { sink_->detach(); }

std::shared_ptr<FrameSink> VideoSurface::sink() const { return sink_; }
void VideoSurface::report_to(Controller* controller) { controller_ = controller; }
bool VideoSurface::has_picture() const { return sink_->has_image(); }

QImage VideoSurface::still() const { return image_of(sink_->take(false).image); }
QImage VideoSurface::image_of(std::shared_ptr<const RgbImage> image) const {
    if (!image) return {};
    // The pixels live as long as this picture of them does.
    auto* kept = new std::shared_ptr<const RgbImage>(image);
    return {image->pixels.data(),
            image->width,
            image->height,
            image->stride(),
            QImage::Format_RGB32,
            [](void* p) { delete static_cast<std::shared_ptr<const RgbImage>*>(p); },
            kept};
}

void VideoSurface::compose_elsewhere(std::function<void()> told) {
    bool other = !composed_ != !told;
    composed_ = std::move(told);
    if (other) place();
}
VideoSurface::Composed VideoSurface::compose() {
    auto taken = sink_->take(true);
    if (!taken.image) return {};
    set_video_size(taken.shape.width(), taken.shape.height());
    Composed c{image_of(taken.image), video_rect(), {}};
    if (taken.first)
        c.shown = [this, taken] {
            if (controller_) controller_->painted(taken.pts, taken.due, monotonic_now());
        };
    return c;
}

void VideoSurface::set_fit(Fit fit, double x, double y) {
    fit_ = fit, align_x_ = x, align_y_ = y;
    place();
}
void VideoSurface::set_area(const QRect& area) {
    if (area_ == area) return;
    area_ = area;
    place();
}
void VideoSurface::set_look(const VideoSpec& look) {
    if (look == look_) return;
    look_ = look;
    place();
}
void VideoSurface::set_video_size(int width, int height) {
    if (width == width_ && height == height_) return;
    width_ = width, height_ = height;
    place();
}

QRectF VideoSurface::video_rect() const {
    auto area = area_.isEmpty() ? rect() : area_;
    if (width_ <= 0 || height_ <= 0) return area;
    auto r = fit_rect(fit_, width_, height_, area.width(), area.height(), align_x_, align_y_);
    r.x += area.x(), r.y += area.y();
    // Integer device pixels, so that an image of that size is drawn unscaled.
    auto d = ratio();
    auto x = std::round(r.x * d), y = std::round(r.y * d);
    return {x / d, y / d, std::max(1.0, std::round(r.width * d)) / d, std::max(1.0, std::round(r.height * d)) / d};
}

void VideoSurface::place() {
    if (width_ > 0 && height_ > 0) {
        auto size = (video_rect().size() * ratio()).toSize();
        if (look_.render_width > 0) size = {look_.render_width, look_.render_height};
        if (sink_->set_size(size.width(), size.height()) && on_resized) on_resized();
    }
    update();
}

void VideoSurface::showEvent(QShowEvent*) { sink_->set_visible(true); }
void VideoSurface::hideEvent(QHideEvent*) { sink_->set_visible(false); }

void VideoSurface::resizeEvent(QResizeEvent*) { place(); }

void VideoSurface::paintEvent(QPaintEvent*) {
    QPainter g(this);
    // Into an image, a mirror or a scene it is only drawn; what the window's own store holds comes to the screen.
    auto* store = window()->backingStore();
    bool for_screen = store && g.paintEngine() && g.paintEngine()->paintDevice() == store->paintDevice();
    auto taken = sink_->take(for_screen);
    // The picture itself knows its shape first; it is never laid down in another.
    if (taken.image) set_video_size(taken.shape.width(), taken.shape.height());
    auto target = video_rect();
    QColor surround(text(look_.surround));
    if (taken.image) {
        // Only what the picture leaves free is filled.
        auto area = area_.isEmpty() ? QRectF(rect()) : QRectF(area_);
        QRegion free(rect());
        if (look_.corner == 0) free -= (area & target).toAlignedRect();
        for (auto& part : free) g.fillRect(part, surround);
        QImage image(taken.image->pixels.data(), taken.image->width, taken.image->height, taken.image->stride(),
                     QImage::Format_RGB32);
        paint_video(g, image, target, area, look_);
        if (taken.first && controller_) controller_->painted(taken.pts, taken.due, monotonic_now());
    } else {
        g.fillRect(rect(), surround);
    }
}

}  // namespace ruedo
