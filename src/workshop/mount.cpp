// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/mount.h"

#include <QApplication>
#include <QClipboard>
#include <QFrame>

#include <QGridLayout>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QVBoxLayout>
#include <cmath>

#include "view/look.h"
#include "player/templates.h"

#include "workshop/arranging.h"
#include "workshop/mirror.h"
#include "workshop/project.h"

namespace ruedo {
namespace {
constexpr int head = 38;      // the row over the mount
constexpr int foot_row = 24;  // and under a room
constexpr auto panes = static_cast<std::size_t>(Mount::room);
/// A player to begin from, as it looks on the clip that plays, with its name and what it is for.
class TemplateItem : public QAbstractButton {
  public:
    TemplateItem(const Template& chosen, const PlayerDocument& made, ScreenView& screen, QWidget* parent)
        : QAbstractButton(parent), name_(ruedo::text(chosen.name)), meaning_(ruedo::text(chosen.meaning)) {
        setAccessibleName("Start from " + name_);
        setAccessibleDescription(meaning_);
        setFocusPolicy(Qt::StrongFocus);
        setCursor(Qt::PointingHandCursor);
        setFixedSize(250, 222);
        auto* mirror = new Mirror(screen, this);
        mirror->set_document(made);
        mirror->set_size({560, 315});
        mirror->setAttribute(Qt::WA_TransparentForMouseEvents);
        mirror->setGeometry(8, 8, 234, 134);
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        auto& c = look::colours();
        QPainter g(this);
        g.setPen(QPen(hasFocus() ? c.ochre : underMouse() ? c.wine : c.line, hasFocus() ? 3 : 1));
        g.setBrush(c.panel);
        g.drawRect(QRectF(rect()).adjusted(1.5, 1.5, -1.5, -1.5));
        g.setPen(c.ink);
        g.setFont(look::font(look::Size::body, true));
        g.drawText(QRect(10, 146, width() - 20, 20), Qt::AlignLeft | Qt::AlignVCenter, name_);
        g.setFont(look::font(look::Size::small));
        g.setPen(c.soft);
        g.drawText(QRect(10, 166, width() - 20, 50), Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap, meaning_);
    }

  private:
    QString name_, meaning_;
};
}  // namespace

MountView::MountView(ScreenView* screen, Project& project, QWidget* parent)
    : QWidget(parent), view_(screen), project_(project) {
    view_->setParent(this);
    view_->on_full_screen_left = [this] { place(); };
    layer_ = new ArrangeLayer(*view_, project, this);
    auto add = [&](const QString& words, const QString& tip) {
        auto* b = new QPushButton(words, this);
        b->setToolTip(tip);
        b->setCursor(Qt::PointingHandCursor);
        return b;
    };
    use_ = add("Use", "Presses on the player work as in the app");
    arrange_ = add("Arrange", "Presses on the player select controls, which can be dragged");
    side_ = add("Side by side", "Shows the other mounts beside this one");
    side_->setCheckable(true);
    begin_ = add("Start from …", "Complete players to start from, shown with the current clip");
    connect(side_, &QPushButton::toggled, this, [this](bool on) { set_side_by_side(on); });
    connect(begin_, &QPushButton::clicked, this, [this] { choose_template(); });
    turn_ = add("Turn", "Rotates the handset; playback continues");
    before_me_ = add("Hang it in front", "Places the selected player’s screen 2 m in front of the viewer");
    connect(before_me_, &QPushButton::clicked, this, [this] {
        auto d = project_.document();
        auto& hang = d.player(project_.player()).hang;
        auto pose = scene::before_viewer(view_->room()->viewer(), 2);
        hang.at = pose.at, hang.turn = pose.turn, hang.tilt = 0, hang.facing = HangSpec::Facing::fixed;
        project_.change(d, "Hanging it in front of the viewer");
    });
    record_ = add("Record", "Copies the hand’s movements as text for “ruedo arrange --do”");
    record_->setCheckable(true);
    connect(record_, &QPushButton::toggled, this, [this](bool on) {
        auto* room = view_->room();
        if (!room) return;
        room->record_hand(on);
        record_->setText(on ? "Recording …" : "Record");
        if (!on) QApplication::clipboard()->setText(room->recorded());
        place();
    });
    to_start_ = add("To the start", "Back to the viewer’s start (Home)");
    connect(to_start_, &QPushButton::clicked, this, [this] { view_->room()->reset(); });
    start_here_ = add("Start from here", "The viewer starts at the current position");
    connect(start_here_, &QPushButton::clicked, this, [this] {
        auto d = project_.document();
        d.room.viewer = view_->room()->viewer();
        auto round = [](double& v) { v = std::round(v * 100) / 100; };
        for (auto* v :
             {&d.room.viewer.at.x, &d.room.viewer.at.y, &d.room.viewer.at.z, &d.room.viewer.turn, &d.room.viewer.tilt})
            round(*v);
        view_->room()->set_viewer(d.room.viewer);
        project_.change(d, "Moving the viewer’s start");
    });
    for (auto* b : {use_, arrange_}) b->setCheckable(true), b->setObjectName("step");
    connect(use_, &QPushButton::clicked, this, [this] { set_arranging(false); });
    connect(arrange_, &QPushButton::clicked, this, [this] { set_arranging(true); });
    connect(turn_, &QPushButton::clicked, this, [this] {
        auto d = project_.document();
        d.mount = d.mount == Mount::handset_upright ? Mount::handset_sideways : Mount::handset_upright;
        std::swap(d.mount_width, d.mount_height);
        project_.change(d, "Turning the handset");
    });
    connect(&project_, &Project::selected_changed, this, [this] {
        if (!project_.selected().empty()) set_arranging(true);
    });
    setMouseTracking(true);
    set_arranging(false);
}

void MountView::set_arranging(bool arranging) {
    use_->setChecked(!arranging);
    arrange_->setChecked(arranging);
    view_->set_arranging(arranging);
    layer_->setVisible(arranging);
    layer_->raise();
    if (arranging)
        layer_->setFocus();
    else
        project_.select({});
}

void MountView::set_side_by_side(bool on) {
    side_->setChecked(on);
    for (auto* m : mirrors_) m->deleteLater();
    mirrors_.clear();
    // A room is no pane that could be drawn small.
    for (std::size_t i = 0; on && i < panes - (mount_ == Mount::room ? 0 : 1); ++i) {
        mirrors_.push_back(new Mirror(*view_, this));
        mirrors_.back()->set_named(true);
        mirrors_.back()->show();
    }
    set_mount(mount_, size_);
}

void MountView::choose_template() {
    auto* panel = new QFrame(this, Qt::Popup);
    panel->setAttribute(Qt::WA_DeleteOnClose);
    panel->setObjectName("templates");
    auto* grid = new QGridLayout(panel);
    int n = 0;
    for (auto& t : templates()) {
        auto* item = new TemplateItem(t, with_template(project_.document(), t, project_.player()), *view_, panel);
        connect(item, &QAbstractButton::clicked, this, [this, panel, chosen = &t] {
            panel->close();
            project_.change(with_template(project_.document(), *chosen, project_.player()),
                            "Start from " + text(chosen->name));
            project_.select({});
        });
        grid->addWidget(item, n / 3, n % 3);
        ++n;
    }
    panel->adjustSize();
    panel->move(mapToGlobal(QPoint(14, head)));
    panel->show();
}

void MountView::set_mount(Mount mount, QSize size) {
    mount_ = mount, size_ = size;
    for (std::size_t i = 0, of = 0; i < mirrors_.size(); ++i, ++of) {
        if (of == static_cast<std::size_t>(mount)) ++of;
        mirrors_[i]->set_mount(static_cast<Mount>(of));
    }
    place();
    update();
}
void MountView::resizeEvent(QResizeEvent*) { place(); }

void MountView::place() {
    auto area = rect().adjusted(14, head + 4, -14, -14);
    QSize pixels;
    if (!mirrors_.empty()) {
        // The player on the left, the others two by two on the right.
        int wide = area.width() * 42 / 100, each = (wide - 10) / 2, high = (area.height() - 10) / 2;
        for (std::size_t i = 0; i < mirrors_.size(); ++i)
            mirrors_[i]->setGeometry(area.right() - wide + static_cast<int>(i % 2) * (each + 10),
                                     area.top() + static_cast<int>(i / 2) * (high + 10), each, high);
        area.setRight(area.right() - wide - 10);
    }
    bool window = mount_ == Mount::window, room = mount_ == Mount::room;
    if (room) {
        // As large as there is room for, in the shape that it was given, over a line of words.
        area.setBottom(area.bottom() - foot_row + 6);
        auto seen = size_.isEmpty() ? area.size() : size_.scaled(area.size(), Qt::KeepAspectRatio);
        frame_ = screen_ = QRect(area.topLeft(), seen);
    } else if (window && size_.isEmpty()) {
        frame_ = area;
        screen_ = frame_.adjusted(1, 25, -1, -1);
    } else {
        // At the size it has, or smaller where there is not the room; never larger.
        auto shape = shape_of(mount_, size_.width(), size_.height());
        auto rim = window ? QMargins(1, 25, 1, 1) : QMargins(11, 11, 11, 11);
        auto inside = area.marginsRemoved(rim);
        auto scale = std::min({1.0, static_cast<double>(inside.width()) / shape.width,
                               static_cast<double>(inside.height()) / shape.height});
        QSize seen(static_cast<int>(shape.width * scale), static_cast<int>(shape.height * scale));
        screen_ = QRect(inside.topLeft() + QPoint(window ? 0 : (inside.width() - seen.width()) / 2,
                                                  window ? 0 : (inside.height() - seen.height()) / 2),
                        seen);
        frame_ = screen_.marginsAdded(rim);
        pixels = {shape.width, shape.height};
    }
    view_->setGeometry(screen_);
    view_->set_mount(mount_, pixels);
    if (auto* hung = view_->room()) {
        hung->on_told = [this] { update(words_row()); };
        hung->on_moved = [this] { update(words_row()), layer_->update(); };
        hung->on_hand_moved = [this] {
            auto d = project_.document();
            d.room.hand = view_->room()->hand();
            project_.change(d, "The hand");
        };
    }
    layer_->setGeometry(screen_);
    layer_->raise();
    int x = 14;
    for (auto* b : {use_, arrange_}) {
        b->setGeometry(x, 4, b->sizeHint().width(), head - 6);
        x += b->width() + 2;
    }
    int right = width() - 14;
    side_->setVisible(!room), begin_->setVisible(!room);
    for (auto* b : {before_me_, to_start_, start_here_}) b->setVisible(room);
    record_->setVisible(room && project_.document().room.hand);
    auto shown = room ? std::vector{start_here_, to_start_, before_me_, record_} : std::vector{begin_, side_, turn_};
    for (auto* b : shown) {
        right -= b->sizeHint().width();
        b->setGeometry(right, 5, b->sizeHint().width(), head - 8);
        right -= 6;
    }
    bool handset = mount_ == Mount::handset_upright || mount_ == Mount::handset_sideways;
    turn_->setVisible(handset);
}

QRect MountView::words_row() const {
    if (mount_ == Mount::room) return {frame_.left(), frame_.bottom() + 4, frame_.width(), foot_row - 4};
    return {arrange_->geometry().right() + 20, 4, turn_->x() - arrange_->geometry().right() - 30, head - 6};
}
QString MountView::room_words() const {
    auto* room = view_->room();
    if (!room) return {};
    if (!room->told().isEmpty()) return room->told();
    auto seen = scene::visible_size(room->scene(), room->eye(), project_.player());
    auto& hang = project_.spec().hang;
    return seen ? text(scene::surface_sentence(hang.surface_width, hang.surface_height, *seen)) : QString();
}

/// The window's lower right corner, by which its size is dragged.
QRect MountView::grip() const {
    return mount_ == Mount::window ? QRect(frame_.bottomRight() - QPoint(10, 10), QSize(22, 22)) : QRect();
}
void MountView::mousePressEvent(QMouseEvent* e) {
    if (e->button() == Qt::LeftButton && grip().contains(e->position().toPoint())) resizing_ = true;
}
void MountView::mouseMoveEvent(QMouseEvent* e) {
    auto at = e->position().toPoint();
    setCursor(resizing_ || grip().contains(at) ? Qt::SizeFDiagCursor : Qt::ArrowCursor);
    if (!resizing_) return;
    auto end = at - screen_.topLeft();
    size_ = QSize(std::clamp(end.x(), 200, 8192), std::clamp(end.y(), 120, 8192));
    set_mount(mount_, size_);
}
void MountView::mouseReleaseEvent(QMouseEvent*) {
    if (!std::exchange(resizing_, false)) return;
    auto d = project_.document();
    d.mount_width = size_.width(), d.mount_height = size_.height();
    project_.change(d, "Size of the window");
}

void MountView::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto shape = view_->mount_shape();
    auto words = QString("%1 × %2").arg(shape.width).arg(shape.height);
    if (mount_ == Mount::window) words = "window, " + words;
    if (view_->scale() < 1) words += QString(", at %1 %").arg(qRound(view_->scale() * 100));
    g.setFont(look::font(look::Size::small));
    if (mount_ == Mount::window) {
        g.setPen(QPen(c.line, 1));
        g.setBrush(c.panel);
        g.drawRect(QRectF(frame_).adjusted(0.5, 0.5, -0.5, -0.5));
        g.setPen(c.soft);
        g.drawText(QRect(frame_.left() + 10, frame_.top(), frame_.width() - 20, 25), Qt::AlignVCenter | Qt::AlignLeft,
                   words);
        g.setPen(QPen(c.soft, 2));
        for (int off : {4, 8})
            g.drawLine(frame_.bottomRight() - QPoint(off - 2, -4), frame_.bottomRight() - QPoint(-4, off - 2));
    } else {
        if (mount_ == Mount::room) {
            words = g.fontMetrics().elidedText(room_words(), Qt::ElideRight, words_row().width());
        } else {
            g.setPen(QPen(c.soft, 2));
            g.setBrush(c.ink);
            g.drawRoundedRect(frame_, 14, 14);
        }
        g.setPen(c.soft);
        g.drawText(words_row(), Qt::AlignLeft | Qt::AlignVCenter, words);
    }
}

}  // namespace ruedo
