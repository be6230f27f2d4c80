// SPDX-License-Identifier: GPL-3.0-or-later
#include "workshop/arranging.h"

#include <QApplication>
#include <QClipboard>
#include <QGridLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QMouseEvent>
#include <QPainter>
#include <QScrollArea>
#include <QVBoxLayout>
#include <algorithm>

#include "view/look.h"
#include "view/screen_view.h"
#include "workshop/project.h"

namespace ruedo {
ArrangeLayer::ArrangeLayer(ScreenView& screen, Project& project, QWidget* parent)
    : QWidget(parent), screen_(screen), project_(project), handles_(screen, project) {
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAccessibleName("Player, in arranging mode");
    screen_.on_laid_out = [this] { update(); };
    connect(&project_, &Project::selected_changed, this, [this] {
        setAccessibleDescription(project_.selected().empty() ? QString("Nothing is selected")
                                                             : text(project_.selected()) + " is selected");
        update();
    });
}

std::optional<std::size_t> ArrangeLayer::selected() const {
    auto& controls = project_.spec().controls;
    for (std::size_t i = 0; i < controls.size(); ++i)
        if (controls[i].name == project_.selected()) return i;
    return std::nullopt;
}

QPolygonF ArrangeLayer::outline(std::size_t player, const Box& box) const {
    if (auto* room = screen_.room()) return room->outline(player, box);
    auto& view = screen_.player(player);
    return QPolygonF(QRectF(view.seen(box).translated(view.pos())));
}
ArrangeLayer::Under ArrangeLayer::under(QPoint at) const {
    if (auto* room = screen_.room()) {
        auto landing = room->aim_at(at).landing;
        auto eye = room->eye();
        if (!landing) landing = room->scene().landing_beyond(project_.player(), eye.ray(at.x(), at.y()));
        if (!landing) return {project_.player(), QPoint(-1, -1)};
        return {landing->player,
                QPoint(static_cast<int>(std::floor(landing->x)), static_cast<int>(std::floor(landing->y)))};
    }
    // Between two of them it is the selected one.
    auto player = project_.player();
    for (std::size_t i = 0; i < screen_.count(); ++i)
        if (screen_.player(i).geometry().contains(at)) player = i;
    auto& view = screen_.player(player);
    return {player, ((QPointF(at) - view.pos()) / view.scale()).toPoint()};
}
std::optional<std::size_t> ArrangeLayer::control_at(QPoint at) const {
    auto [player, pixel] = under(at);
    return ruedo::control_at(screen_.player(player).layout_now(), pixel.x(), pixel.y());
}

std::vector<DropZone> ArrangeLayer::zones(std::size_t player) const {
    auto& view = screen_.player(player);
    return drop_zones(project_.document().player(player), view.mount_shape(), view.layout_now());
}

QStringList ArrangeLayer::order() const {
    auto& controls = project_.spec().controls;
    auto& layout = screen_.player(project_.player()).layout_now();
    std::vector<std::size_t> list;
    for (std::size_t i = 0; i < std::min(controls.size(), layout.controls.size()); ++i)
        if (layout.controls[i].shown) list.push_back(i);
    // Lines of a bar's height, each from left to right.
    std::stable_sort(list.begin(), list.end(), [&](auto a, auto b) {
        auto &p = layout.controls[a].box, &q = layout.controls[b].box;
        bool same_line = p.y < q.bottom() && q.y < p.bottom();
        return same_line ? p.x < q.x : p.y < q.y;
    });
    QStringList names;
    for (auto i : list) names << text(controls[i].name);
    return names;
}

std::optional<ArrangeLayer::Over> ArrangeLayer::over(QPoint at) const {
    auto [player, pixel] = under(at);
    auto all = zones(player);
    auto* zone = zone_at(all, pixel.x(), pixel.y());
    return zone ? std::optional(Over{player, *zone}) : std::nullopt;
}

void ArrangeLayer::drag_over(QPoint at) {
    over_ = over(at);
    towards_ = under(at).player;
    dragging_ = true;
    update();
}
void ArrangeLayer::drag_left() {
    dragging_ = false;
    over_.reset();
    update();
}
bool ArrangeLayer::drop(QPoint at, const ControlSpec& control) {
    drag_left();
    auto to = over(at);
    if (!to) return false;
    auto d = project_.document();
    auto name = ruedo::drop(d.player(to->player), to->zone, control);
    project_.change(d, QString("%1 onto %2").arg(text(name), text(to->zone.words)));
    project_.select_player(to->player, name);
    return true;
}
void ArrangeLayer::move_to(const Over& to, std::size_t control) {
    auto d = project_.document();
    auto from = project_.player();
    std::string name;
    if (to.player == from) {
        name = ruedo::drop(d.player(from), to.zone, control);
        project_.change(d, QString("%1 to %2").arg(text(name), text(to.zone.words)));
    } else {
        // To another player it goes as it is.
        auto& controls = d.player(from).controls;
        auto moved = controls[control];
        controls.erase(controls.begin() + static_cast<std::ptrdiff_t>(control));
        name = ruedo::drop(d.player(to.player), to.zone, moved);
        project_.change(d, QString("%1 to “%2”").arg(text(name), text(d.player(to.player).name)));
    }
    project_.select_player(to.player, name);
}
void ArrangeLayer::add(const ControlSpec& control) {
    auto d = project_.document();
    auto& p = d.player(project_.player());
    auto slot = p.bars.empty() ? std::string("bottom") : p.bars.front().name + "/end";
    auto name = p.controls[p.put(control, slot)].name;
    project_.change(d, QString("%1 onto %2").arg(text(name), text(spoken(*parse_slot(slot)))));
    project_.select(name);
}
void ArrangeLayer::remove_selected() {
    auto at = selected();
    if (!at) return;
    auto names = order();
    auto place = names.indexOf(text(project_.selected()));
    auto d = project_.document();
    auto name = d.player(project_.player()).controls[*at].name;
    d.player(project_.player())
        .controls.erase(d.player(project_.player()).controls.begin() + static_cast<std::ptrdiff_t>(*at));
    project_.change(d, QString("%1 removed").arg(text(name)));
    // The one after it is next, so that several can go one after the other.
    names.removeAll(text(name));
    if (!names.isEmpty() && place >= 0) project_.select(names[std::min(place, names.size() - 1)].toStdString());
}
void ArrangeLayer::remove_player() {
    auto d = project_.document();
    auto name = project_.spec().name;
    d.players.erase(d.players.begin() + static_cast<std::ptrdiff_t>(project_.player()));
    project_.change(d, QString("“%1” removed").arg(text(name)));
}
void ArrangeLayer::copy_selected() const {
    if (auto at = selected()) QApplication::clipboard()->setText(text(control_text(project_.spec().controls[*at])));
}
void ArrangeLayer::paste() {
    auto read = control_from_text(QApplication::clipboard()->text().toStdString());
    if (!read) return;
    auto d = project_.document();
    auto& p = d.player(project_.player());
    // Beside what is selected, else where it came from, else where new ones go.
    auto slot = parse_slot(read->slot);
    bool there = slot && (slot->bar.empty() || p.bar(slot->bar));
    auto at = selected();
    if (!at && !there) return add(*read);
    auto to = at ? p.controls[*at].slot : read->slot;
    auto list = p.in_slot(to);
    auto place = at ? static_cast<std::size_t>(std::find(list.begin(), list.end(), *at) - list.begin()) + 1 : SIZE_MAX;
    auto name = p.controls[p.put(*read, to, place)].name;
    project_.change(d, QString("%1 pasted").arg(text(name)));
    project_.select(name);
}

void ArrangeLayer::mousePressEvent(QMouseEvent* e) {
    setFocus();
    pressed_ = e->position().toPoint();
    auto player = under(pressed_).player;
    held_ = e->button() == Qt::LeftButton ? control_at(pressed_) : std::nullopt;
    if (auto* room = screen_.room(); room && !held_) {
        // A screen by its edge or its mark on the floor; elsewhere one looks about.
        if (e->button() == Qt::LeftButton && handles_.take(pressed_)) return update();
        if (e->button() != Qt::LeftButton || !room->aim_at(pressed_).landing) return hand_on(*e);
    }
    project_.select_player(player, held_ ? project_.document().player(player).controls[*held_].name : std::string());
}
void ArrangeLayer::mouseMoveEvent(QMouseEvent* e) {
    auto at = e->position().toPoint();
    if (handles_.held()) return handles_.drag(at, e->modifiers() & Qt::ShiftModifier), update();
    if (screen_.room() && e->buttons() && !held_) return hand_on(*e), update();
    setCursor(handles_.at(at) ? Qt::SizeAllCursor : control_at(at) ? Qt::OpenHandCursor : Qt::ArrowCursor);
    if (!held_ || !(e->buttons() & Qt::LeftButton)) return;
    if (!dragging_ && (at - pressed_).manhattanLength() < 8) return;
    drag_over(at);
}
void ArrangeLayer::wheelEvent(QWheelEvent* e) { screen_.room() ? hand_on(*e) : e->ignore(); }
/// To the room, which looks about with it.
void ArrangeLayer::hand_on(QEvent& event) const {
    QApplication::sendEvent(screen_.room(), &event);
    event.accept();
}
void ArrangeLayer::mouseReleaseEvent(QMouseEvent* e) {
    if (handles_.held()) return handles_.let_go(), update();
    if (screen_.room() && !held_) return hand_on(*e);
    bool moved = dragging_ && held_;
    auto control = std::exchange(held_, std::nullopt);
    drag_left();
    if (!moved) return;
    if (auto to = over(e->position().toPoint())) move_to(*to, *control);
}

bool ArrangeLayer::event(QEvent* e) {
    // What the window does with these keys otherwise is not meant while a control is.
    if (e->type() == QEvent::ShortcutOverride) {
        auto* k = static_cast<QKeyEvent*>(e);
        bool leaves = k->key() == Qt::Key_Escape && !project_.selected().empty();
        if (leaves || k->matches(QKeySequence::Paste) || k->matches(QKeySequence::Copy) ||
            k->matches(QKeySequence::Cut))
            e->accept();
    }
    if (e->type() == QEvent::KeyPress) {
        auto* k = static_cast<QKeyEvent*>(e);
        bool back = k->key() == Qt::Key_Backtab, on = k->key() == Qt::Key_Tab;
        auto names = order();
        if ((back || on) && !names.isEmpty()) {
            auto at = names.indexOf(text(project_.selected()));
            auto next = at < 0 ? (back ? names.size() - 1 : 0) : at + (back ? -1 : 1);
            // Past the last one the focus goes on.
            if (next >= 0 && next < names.size()) return project_.select(names[next].toStdString()), true;
        }
    }
    return QWidget::event(e);
}

void ArrangeLayer::keyPressEvent(QKeyEvent* e) {
    if (e->matches(QKeySequence::Copy)) return copy_selected();
    if (e->matches(QKeySequence::Cut)) return copy_selected(), remove_selected();
    if (e->matches(QKeySequence::Paste)) return paste();
    if (e->key() == Qt::Key_Escape && !project_.selected().empty()) return project_.select({});
    auto at = selected();
    // With nothing selected on it, what is taken away is the player.
    bool takes = e->key() == Qt::Key_Delete || e->key() == Qt::Key_Backspace;
    if (takes && !at && screen_.count() > 1 && e->modifiers() == Qt::NoModifier) return remove_player();
    static const QHash<int, Toward> arrows{{Qt::Key_Left, Toward::left},
                                           {Qt::Key_Right, Toward::right},
                                           {Qt::Key_Up, Toward::up},
                                           {Qt::Key_Down, Toward::down}};
    if (auto* room = screen_.room(); room && !at && room->key(e->key(), e->modifiers())) return update();
    if (!at || e->modifiers() != Qt::NoModifier) return QWidget::keyPressEvent(e);
    if (takes) return remove_selected();
    if (auto toward = arrows.find(e->key()); toward != arrows.end()) {
        auto d = project_.document();
        auto name = d.player(project_.player()).controls[*at].name;
        if (!nudge(d.player(project_.player()), *at, *toward)) return;
        auto* moved = d.player(project_.player()).control(name);
        project_.change(d, QString("%1 to %2").arg(text(name), text(spoken(*parse_slot(moved->slot)))));
        return project_.select(name);
    }
    QWidget::keyPressEvent(e);
}

void ArrangeLayer::paintEvent(QPaintEvent*) {
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    if (screen_.room()) handles_.paint(g);
    dragging_ ? paint_zones(g) : paint_selection(g);
}

/// Every place there is, faintly; the one it would come to, strongly, with its name.
void ArrangeLayer::paint_zones(QPainter& g) const {
    auto paper = QColor(0xF7, 0xF1, 0xE5);
    for (auto& z : zones(towards_)) {
        auto line = outline(towards_, {z.box.x + 1, z.box.y + 1, z.box.width - 2, z.box.height - 2});
        auto box = line.boundingRect();
        g.setPen(QPen(QColor(0xE2, 0xAC, 0x4C, 110), 1, Qt::DotLine));
        g.setBrush(z.bar ? QColor(0x17, 0x13, 0x1A, 120) : QColor(0, 0, 0, 0));
        g.drawPolygon(line);
        g.setFont(look::font(look::Size::small));
        if (!z.bar || !z.slot.ends_with("/middle") || box.height() < g.fontMetrics().height()) continue;
        // Bars that are not there yet say what they would be, where there is room for it.
        static constexpr std::array said{"a bar on the picture", "a bar right beside it", "a bar clear of it"};
        g.setPen(paper);
        g.drawText(box, Qt::AlignCenter, said.at(static_cast<std::size_t>(z.bar->where)));
    }
    if (!over_) return;
    auto marked = outline(over_->player, over_->zone.mark);
    auto mark = marked.boundingRect().toAlignedRect();
    g.setPen(Qt::NoPen);
    g.setBrush(QColor(0xE2, 0xAC, 0x4C, over_->zone.mark.width > 8 ? 150 : 255));
    g.drawPolygon(marked);
    g.setFont(look::font(look::Size::small, true));
    auto words = text(over_->zone.words);
    if (over_->player != project_.player()) words += " of " + text(project_.document().player(over_->player).name);
    auto wide = g.fontMetrics().horizontalAdvance(words) + 16;
    QRect tag(std::clamp(mark.center().x() - wide / 2, 0, std::max(0, width() - wide)), std::max(0, mark.top() - 26),
              wide, 22);
    g.setBrush(QColor(0x2A, 0x21, 0x1C));
    g.drawRect(tag);
    g.setPen(paper);
    g.drawText(tag, Qt::AlignCenter, words);
}

/// The selected player's controls in outline, the selected one named; of several players, which one it is.
void ArrangeLayer::paint_selection(QPainter& g) const {
    auto& c = look::colours();
    auto player = project_.player();
    auto draw = [&](const QPolygonF& line, bool strong, Qt::PenStyle style) {
        g.setBrush(Qt::NoBrush);
        // Two lines, one light and one dark, so that it is seen on any picture.
        g.setPen(QPen(QColor(0x17, 0x13, 0x1A, strong ? 255 : 120), strong ? 4 : 1));
        g.drawPolygon(line);
        g.setPen(QPen(strong ? QColor(0xE2, 0xAC, 0x4C) : QColor(0xF7, 0xF1, 0xE5, 150), strong ? 2 : 1, style));
        g.drawPolygon(line);
    };
    auto tag = [&](const QRectF& of, const QString& words, bool inside) {
        g.setFont(look::font(look::Size::small, true));
        auto wide = g.fontMetrics().horizontalAdvance(words) + 14;
        auto y = inside ? of.top() : of.top() >= 24 ? of.top() - 24 : of.bottom() + 2;
        QRectF box(std::clamp(of.left(), 0.0, std::max(0.0, width() - wide * 1.0)), y, wide, 22);
        g.setPen(Qt::NoPen);
        g.setBrush(c.wine);
        g.drawRect(box);
        g.setPen(c.on_wine);
        g.drawText(box, Qt::AlignCenter, words);
    };
    if (screen_.count() > 1) {
        auto& view = screen_.player(player);
        auto line = screen_.room() ? outline(player, view.layout_now().area)
                                   : QPolygonF(QRectF(view.geometry()).adjusted(2, 2, -2, -2));
        draw(line, project_.selected().empty(), Qt::SolidLine);
        if (project_.selected().empty()) tag(line.boundingRect(), text(project_.spec().name), true);
    }
    auto& layout = screen_.player(player).layout_now();
    auto& controls = project_.spec().controls;
    for (std::size_t i = 0; i < std::min(controls.size(), layout.controls.size()); ++i) {
        if (!layout.controls[i].shown) continue;
        auto line = outline(player, layout.controls[i].box);
        bool now = controls[i].name == project_.selected();
        draw(line, now, now ? Qt::SolidLine : Qt::DotLine);
        if (now) tag(line.boundingRect(), text(controls[i].name), false);
    }
}

/// One kind of control, as it looks, with its name.
class Tray::Item : public QAbstractButton {
  public:
    Item(const ControlKind& kind, ArrangeLayer& layer, std::function<void()> arrange, QWidget* parent)
        : QAbstractButton(parent), layer_(layer), arrange_(std::move(arrange)), spec_{.kind = &kind} {
        if (kind.name == "words") spec_.settings.words = "{time} of {length}";
        setAccessibleName(QString("Add %1").arg(ruedo::text(kind.title)));
        setToolTip(QString("%1: %2").arg(ruedo::text(kind.title), ruedo::text(kind.meaning)));
        setFixedHeight(46);
        setFocusPolicy(Qt::StrongFocus);
        setCursor(Qt::OpenHandCursor);
        connect(this, &QAbstractButton::clicked, this, [this] {
            arrange_();
            layer_.add(spec_);
        });
    }

  protected:
    void paintEvent(QPaintEvent*) override {
        auto& c = look::colours();
        QPainter g(this);
        paint(g, QRectF(rect()));
        if (hasFocus() || underMouse()) {
            g.setPen(QPen(hasFocus() ? c.ochre : c.line, hasFocus() ? 2 : 1));
            g.setBrush(Qt::NoBrush);
            g.drawRect(QRectF(rect()).adjusted(1, 1, -1, -1));
        }
    }
    void mousePressEvent(QMouseEvent* e) override {
        from_ = e->position().toPoint();
        QAbstractButton::mousePressEvent(e);
    }
    void mouseMoveEvent(QMouseEvent* e) override {
        if (!(e->buttons() & Qt::LeftButton)) return QAbstractButton::mouseMoveEvent(e);
        if (!ghost_ && (e->position().toPoint() - from_).manhattanLength() < 8) return;
        if (!ghost_) {
            arrange_();
            setDown(false);
            ghost_ = new Ghost(*this, window());
        }
        ghost_->move(window()->mapFromGlobal(e->globalPosition().toPoint()) + QPoint(10, 10));
        auto at = layer_.mapFromGlobal(e->globalPosition().toPoint());
        layer_.rect().contains(at) ? layer_.drag_over(at) : layer_.drag_left();
    }
    void mouseReleaseEvent(QMouseEvent* e) override {
        if (!ghost_) return QAbstractButton::mouseReleaseEvent(e);
        delete std::exchange(ghost_, nullptr);
        auto at = layer_.mapFromGlobal(e->globalPosition().toPoint());
        layer_.drag_left();
        if (layer_.rect().contains(at) && layer_.drop(at, spec_)) layer_.setFocus();
    }

  private:
    /// What the hand carries.
    class Ghost : public QWidget {
      public:
        Ghost(const Item& item, QWidget* parent) : QWidget(parent), item_(item) {
            setAttribute(Qt::WA_TransparentForMouseEvents);
            resize(item.size());
            show();
        }

      protected:
        void paintEvent(QPaintEvent*) override {
            QPainter g(this);
            g.setOpacity(0.85);
            g.fillRect(rect(), look::colours().panel);
            item_.paint(g, QRectF(rect()));
        }

      private:
        const Item& item_;
    };
    void paint(QPainter& g, QRectF box) const {
        auto& c = look::colours();
        ControlContext sample;
        sample.snapshot.has_video = sample.snapshot.has_audio = sample.snapshot.duration_known = true;
        sample.snapshot.state.phase = Phase::ready;
        sample.snapshot.position = 42_s, sample.snapshot.duration = 120_s, sample.snapshot.buffered_to = 80_s;
        sample.snapshot.volume = 0.7;
        sample.countdown = 3_s;
        sample.has_next = sample.has_previous = true;
        sample.title = "a title";
        using Form = ControlKind::Form;
        auto form = spec_.kind->form;
        bool marked = spec_.kind->pressable() || form == Form::dial || form == Form::sign;
        QRectF place(box.left() + 4, box.top() + 3, 40, 40);
        if (marked) {
            Drawn drawn;
            drawn.on_picture = !spec_.kind->chief;
            paint_control(g, spec_, sample, place, drawn);
        } else {
            // Text and rails are recognised by their shape.
            g.setPen(QPen(c.line, 1));
            g.setBrush(c.panel);
            g.drawRect(place.adjusted(0, 8, 0, -8));
            g.setFont(look::font(look::Size::small));
            g.setPen(c.ink);
            g.drawText(place, Qt::AlignCenter,
                       form == Form::rail    ? "—|—"
                       : form == Form::strip ? "▯▯▯"
                       : form == Form::label ? "0:42"
                       : form == Form::meter ? "❘❘❘❘"
                                             : "abc");
        }
        g.setFont(look::font(look::Size::small));
        g.setPen(c.ink);
        g.drawText(box.adjusted(50, 0, -4, 0), Qt::AlignVCenter | Qt::AlignLeft | Qt::TextWordWrap,
                   ruedo::text(spec_.kind->title));
    }
    ArrangeLayer& layer_;
    std::function<void()> arrange_;
    ControlSpec spec_;
    QPoint from_;
    Ghost* ghost_ = nullptr;
};

Tray::Tray(ArrangeLayer& layer, std::function<void()> arrange, QWidget* parent) : QWidget(parent) {
    auto* box = new QVBoxLayout(this);
    box->setContentsMargins(12, 8, 4, 4);
    box->setSpacing(4);
    auto* heading = new look::Label("Drag onto the player to add it");
    heading->setFont(look::font(look::Size::small, true));
    box->addWidget(heading);
    auto* area = new QScrollArea;
    area->setFrameShape(QFrame::NoFrame);
    area->setWidgetResizable(true);
    area->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
    auto* page = new QWidget;
    auto* grid = new QGridLayout(page);
    grid->setContentsMargins(0, 0, 0, 0);
    grid->setSpacing(2);
    int n = 0;
    for (auto& kind : control_kinds()) {
        auto* item = new Item(kind, layer, arrange, page);
        grid->addWidget(item, n / 2, n % 2);
        ++n;
    }
    area->setWidget(page);
    box->addWidget(area, 1);
    setAccessibleName("Controls to add");
}

}  // namespace ruedo
