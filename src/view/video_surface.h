// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <QWidget>
#include <mutex>

#include "player/player.h"

namespace ruedo {

/// The picture and its surround. Pictures are made ready beside the window's thread at the size they will have;
/// here they are only laid down. What comes to the screen is reported; drawing it elsewhere (`render`, `grab`) is not.
class VideoSurface : public QWidget {
  public:
    explicit VideoSurface(QWidget* parent = nullptr);
    ~VideoSurface() override;
    void set_fit(Fit fit, double align_x, double align_y);
    /// The room for the picture; the whole surface before it was said.
    void set_area(const QRect& area);
    /// Surround, corners, and the size that pictures are made at before they are scaled.
    void set_look(const VideoSpec& look);
    void set_video_size(int width, int height);  ///< Display size; 0 when there is no picture.
    /// For the controller. Outlives the surface safely.
    std::shared_ptr<FrameSink> sink() const;
    /// The controller to tell of what came to the screen.
    void report_to(Controller* controller);
    QRectF video_rect() const;
    bool has_picture() const;
    /// The picture that is shown, as it was made ready; none where there is none. Drawing it elsewhere counts nothing.
    QImage still() const;
    /// Changes when the place for the picture does: the held picture wants to be made anew.
    std::function<void()> on_resized;
    /// The view is composed elsewhere: `told` is called for every new frame (on the window's thread), which is then
    /// made in the surface's own pixels. An empty one gives it back to the surface.
    void compose_elsewhere(std::function<void()> told);
    /// What that one lays down, where, and whom it tells once that has come to the screen.
    struct Composed {
        QImage picture;
        QRectF place;
        std::function<void()> shown;
    };
    Composed compose();

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void showEvent(QShowEvent*) override;
    void hideEvent(QHideEvent*) override;

  private:
    class Sink;
    void place();
    QImage image_of(std::shared_ptr<const RgbImage> image) const;
    double ratio() const { return composed_ ? 1 : devicePixelRatioF(); }
    std::shared_ptr<Sink> sink_;
    Controller* controller_ = nullptr;
    Fit fit_ = Fit::contain;
    double align_x_ = 0.5, align_y_ = 0.5;
    int width_ = 0, height_ = 0;
    QRect area_;
    VideoSpec look_;
    std::function<void()> composed_;
};

}  // namespace ruedo
