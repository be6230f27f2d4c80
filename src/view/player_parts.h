// SPDX-License-Identifier: Apache-2.0
// What a player's widget is put together from, besides the picture: the bar, the poster, the waiting sign, the large
// mark.
#pragma once
#include <QHBoxLayout>
#include <algorithm>

#include "view/look.h"
#include "view/player_view.h"

namespace ruedo {

/// A plate on the picture with three groups of controls.
class PlayerView::Bar : public QWidget {
  public:
    Bar(const ruedo::Bar& slots_of, const ControlCalls& calls, QWidget* parent) : QWidget(parent) {
        auto* rows = new QVBoxLayout(this);
        rows->setContentsMargins(8, 2, 8, 2);
        rows->setSpacing(0);
        upper_ = new QHBoxLayout;
        row_ = new QHBoxLayout;
        for (auto* r : {upper_, row_}) r->setSpacing(2), rows->addLayout(r);
        add(slots_of.start, calls, row_);
        middle_at_ = row_->count();
        add(slots_of.middle, calls, row_);
        // Takes the room where the position is not shown; next to it, next to none.
        row_->addStretch(0);
        add(slots_of.end, calls, row_);
        set_narrow(false);
    }
    /// Where there is no room for the position beside the buttons, it has a row of its own above them.
    void set_width(int wide) {
        constexpr int least_position = 150, each = 46, margins = 16;
        auto there = [](auto& list) {
            return static_cast<int>(std::count_if(list.begin(), list.end(), [](auto* w) { return !w->isHidden(); }));
        };
        folded_ = false;
        set_shown();
        for (auto* v : volumes_) v->set_compact(false);
        int needed = margins + each * (there(buttons_) + 2 * there(volumes_));
        set_narrow(!(positions_.empty() && strips_.empty()) && wide < needed + least_position);
        // Still too many: the sound's button goes first, then the skips; keys do the same as they did.
        if (wide >= needed) return;
        for (auto* v : volumes_) v->set_compact(true), needed -= each;
        folded_ = wide < needed;
        set_shown();
    }
    bool narrow() const { return narrow_; }
    void show_context(const ControlContext& c) {
        context_ = c;
        for (auto* b : buttons_) b->show_context(c);
        for (auto* p : positions_) p->show_context(c);
        for (auto* v : volumes_) v->show_context(c);
        for (auto* s : strips_) s->show_context(c);
        set_shown();
        set_stretch();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(Qt::NoPen);
        g.setBrush(QColor(0xED, 0xE3, 0xCF, 238));
        g.drawRoundedRect(rect(), 4, 4);
    }

  private:
    void add(const std::vector<Control>& group, const ControlCalls& calls, QHBoxLayout* row) {
        for (auto control : group) {
            auto& kind = kind_of(control);
            auto place = [&](auto* widget, auto& list, int stretch) {
                list.push_back(widget);
                row->addWidget(widget, stretch);
                all_.push_back({&kind, widget});
            };
            switch (kind.form) {
                case ControlKind::Form::slider:
                    place(new PositionSlider(calls, this), positions_, 1);
                    break;
                case ControlKind::Form::dial:
                    place(new VolumeControl(calls, this), volumes_, 0);
                    break;
                case ControlKind::Form::strip:
                    place(new PosterStrip(calls, this), strips_, 2);
                    break;
                case ControlKind::Form::button:
                    place(new ControlButton(control, calls, this), buttons_, 0);
                    break;
            }
        }
    }
    /// What there is no reason for is not shown; nor, where there is no room, what keys do as well.
    void set_shown() {
        for (auto& [kind, widget] : all_)
            widget->setVisible(kind->absent(context_).empty() && !(folded_ && kind->spares));
    }
    void set_narrow(bool narrow) {
        narrow_ = narrow;
        int at = middle_at_;
        auto move = [&](QWidget* w, int stretch) {
            row_->removeWidget(w), upper_->removeWidget(w);
            if (narrow_)
                upper_->addWidget(w, stretch);
            else
                row_->insertWidget(at++, w, stretch);
        };
        for (auto* p : positions_) move(p, 1);
        for (auto* s : strips_) move(s, 2);
        set_stretch();
    }
    void set_stretch() {
        bool rail = std::any_of(positions_.begin(), positions_.end(), [](auto* p) { return !p->isHidden(); });
        // The stretch is the one item of the row that is no widget.
        for (int i = 0; i < row_->count(); ++i)
            if (row_->itemAt(i)->spacerItem()) row_->setStretch(i, narrow_ || !(rail || !strips_.empty()) ? 1 : 0);
    }
    struct Placed {
        const ControlKind* kind;
        QWidget* widget;
    };
    std::vector<Placed> all_;
    ControlContext context_;
    std::vector<ControlButton*> buttons_;
    std::vector<PositionSlider*> positions_;
    std::vector<PosterStrip*> strips_;
    QHBoxLayout *upper_ = nullptr, *row_ = nullptr;
    int middle_at_ = 0;
    bool narrow_ = false, folded_ = false;
    friend class PlayerView;
    std::vector<VolumeControl*> volumes_;
};

/// A still in the place of the picture.
class PlayerView::Poster : public QWidget {
  public:
    explicit Poster(QWidget* parent) : QWidget(parent) {
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAccessibleName("Poster");
        hide();
    }
    void set(const QImage& image) {
        if (image.cacheKey() != image_.cacheKey()) image_ = image, update();
        if (isVisible() == image_.isNull()) setVisible(!image_.isNull());
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::SmoothPixmapTransform);
        g.fillRect(rect(), look::surround);
        auto size = QSizeF(image_.size()).scaled(QSizeF(this->size()), Qt::KeepAspectRatio);
        g.drawImage(QRectF(QPointF(width() - size.width(), height() - size.height()) / 2, size), image_);
    }

  private:
    QImage image_;
};

/// Turns only while something can still come.
class PlayerView::WaitingSign : public QWidget {
  public:
    explicit WaitingSign(QWidget* parent) : QWidget(parent) {
        setFixedSize(64, 64);
        setAttribute(Qt::WA_TransparentForMouseEvents);
        setAccessibleName("Waiting");
        connect(&turn_, &QTimer::timeout, this, [this] { angle_ = (angle_ + 30) % 360, update(); });
        hide();
    }
    void set_waiting(bool waiting) {
        if (waiting == isVisible()) return;
        setVisible(waiting);
        if (waiting)
            turn_.start(90);
        else
            turn_.stop();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.translate(rect().center());
        g.rotate(angle_);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(Qt::NoPen);
        g.setBrush(QColor(0x17, 0x13, 0x1A, 190));
        g.drawEllipse(QPointF(0, 0), 31, 31);
        look::draw_glyph(g, QRectF(-22, -22, 44, 44), look::Glyph::broken, QColor(0xF7, 0xF1, 0xE5));
    }

  private:
    QTimer turn_;
    int angle_ = 0;
};

/// The large mark before the first start.
class PlayerView::StartMark : public QAbstractButton {
  public:
    explicit StartMark(QWidget* parent) : QAbstractButton(parent) {
        setFixedSize(88, 88);
        setAccessibleName("Play from the start");
        setToolTip("Play");
        setCursor(Qt::PointingHandCursor);
        setFocusPolicy(Qt::StrongFocus);
        hide();
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        QPainter g(this);
        g.setRenderHint(QPainter::Antialiasing);
        g.setPen(QPen(QColor(0xF7, 0xF1, 0xE5), hasFocus() ? 5 : 3));
        g.setBrush(QColor(0x8A, 0x24, 0x36, 235));
        g.drawEllipse(QRectF(rect()).adjusted(4, 4, -4, -4));
        look::draw_play(g, QRectF(rect()).adjusted(30, 28, -26, -28), QColor(0xF7, 0xF1, 0xE5));
    }
};

}  // namespace ruedo
