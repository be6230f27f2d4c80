// SPDX-License-Identifier: Apache-2.0
// The room as a document's players hang in it. It lies over the players' own widgets, which go on being the ones that
// are pressed and have the focus: it draws what they show, and hands on what a ray does to them.
#pragma once
#include <QElapsedTimer>
#include <QPointer>
#include <QWidget>

#include "scene/projection.h"

namespace ruedo {

class PlayerView;
class ScreenView;

class RoomView : public QWidget {
  public:
    explicit RoomView(ScreenView& screen);
    ~RoomView() override;
    /// Shows a document's room; a viewer who has begun to walk stays where they are.
    void take(const PlayerDocument& document);
    /// Back to where the document has the viewer begin.
    void reset();
    scene::Eye eye() const;
    void set_viewer(const ViewerSpec& viewer);
    /// A player is laid out otherwise.
    void rebuild();
    /// Gives a player back to its own widget.
    void forget(PlayerView& view);
    const ViewerSpec& viewer() const { return viewer_; }
    const scene::Scene& scene() const { return scene_; }
    const PlayerDocument& document() const { return document_; }
    scene::Aim aim_at(QPointF at) const { return scene_.aim(eye().ray(at.x(), at.y())); }
    /// Where a place of a player's layout is seen; nothing where it is behind the eye.
    std::optional<QPointF> seen(std::size_t player, QPointF at) const;
    /// A part of a player's layout in outline; empty where it is not before the eye.
    QPolygonF outline(std::size_t player, const Box& part) const;
    std::optional<QPointF> seen(const scene::Vec& place) const;
    /// What the pointer's ray meets, in words; empty while it is elsewhere.
    QString told() const { return told_; }
    /// A small view from above in a corner.
    void set_top_view(bool shown) { top_view_ = shown, update(); }
    /// What points besides the pointer; none where the document has none.
    const std::optional<PoseSpec>& hand() const { return hand_; }
    void set_hand(const std::optional<PoseSpec>& hand);
    scene::Aim hand_aim() const;
    /// What the hand does from now on is kept; `recorded` gives it as calls of `ruedo arrange --do`, one a line.
    void record_hand(bool on);

    QString recorded() const { return recorded_.join(";\n"); }
    /// The hand presses what its ray meets, and lets go of it.
    void hand_press();
    void hand_release();
    /// Moves along the view, sideways or up by metres, or turns by degrees.
    void walk(double ahead, double right, double up = 0);
    void turn(double left, double up);
    /// Round the place in front of the eye.
    void orbit(const scene::Vec& round, double left, double up);
    /// Keys that nothing else takes, and what they do; true for those that are there.
    struct Key {
        int key;
        bool shift;
        std::string_view keys, meaning;
        void (*act)(RoomView&);
    };
    static std::span<const Key> keys();
    bool key(int key, Qt::KeyboardModifiers modifiers);
    std::function<void()> on_told;                            ///< The ray meets something else.
    std::function<void()> on_moved;                           ///< The viewer is elsewhere.
    std::function<void()> on_hand_moved;                      ///< By its handles.
    std::size_t drawn_faces() const { return drawn_faces_; }  ///< By all paints so far.

  protected:
    void paintEvent(QPaintEvent*) override;
    void resizeEvent(QResizeEvent*) override;
    void showEvent(QShowEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    void mouseMoveEvent(QMouseEvent*) override;
    void mouseReleaseEvent(QMouseEvent*) override;
    void mouseDoubleClickEvent(QMouseEvent*) override;
    void wheelEvent(QWheelEvent*) override;
    void leaveEvent(QEvent*) override;
    void keyPressEvent(QKeyEvent*) override;
    bool event(QEvent*) override;

  private:
    struct Under {
        QWidget* widget = nullptr;
        QPointF at;  ///< In the widget.
    };
    Under under(const scene::Aim& aim) const;
    void enter(const Under& now, QPointF global);
    void send(QEvent::Type type, const Under& to, const QMouseEvent& as);
    void press(const scene::Aim& aim, const QMouseEvent& as);
    void press_through(QEvent::Type type, const scene::Aim& aim);
    void note_hand(const QString& call);
    void note_pose();
    void tell(const scene::Aim& aim);
    void lay();
    void refresh();
    void refresh_soon();
    void reach_screen();
    QRectF top_view_box() const;
    void hear();
    void moved();
    void paint_top_view(QPainter& g) const;
    void paint_hand(QPainter& g) const;
    enum class Grip { none, hand, tip };
    Grip grip_at(QPointF at) const;
    void drag_grip(QPointF to);
    ScreenView& screen_;
    PlayerDocument document_;
    ViewerSpec viewer_;
    bool begun_ = false;  ///< The viewer has moved since the start.
    std::optional<PoseSpec> hand_;
    scene::Scene scene_;
    std::vector<Layout> layouts_;
    std::vector<scene::Laid> laid_;
    std::vector<QImage> pictures_, sheets_;  ///< Kept while the projection has them.
    std::vector<std::uint64_t> sheet_revisions_;
    std::vector<std::function<void()>> shown_;  ///< To be told once it has come to the screen.
    scene::Projection projection_;
    std::size_t drawn_faces_ = 0;
    QPointer<QWidget> pressed_, entered_, hand_pressed_;
    bool by_place_ = false;  ///< Players were told how loud they are where they hang.
    bool poked_ = false, refresh_asked_ = false, grip_moved_ = false;
    QElapsedTimer recorder_;
    QStringList recorded_;
    Qt::MouseButton dragging_ = Qt::NoButton;
    Grip grip_ = Grip::none;
    QPointF last_;
    scene::Vec pivot_;
    QString told_;
    bool top_view_ = true;
};

}  // namespace ruedo
