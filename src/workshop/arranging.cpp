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
#include "view/player_view.h"
#include "workshop/project.h"

namespace ruedo {
ArrangeLayer::ArrangeLayer(PlayerView& player, Project& project, QWidget* parent)
    : QWidget(parent), player_(player), project_(project) {
    setFocusPolicy(Qt::StrongFocus);
    setMouseTracking(true);
    setAccessibleName("The player, to be arranged");
    player_.on_laid_out = [this] { update(); };
    connect(&project_, &Project::selected_changed, this, [this] {
        setAccessibleDescription(project_.selected().empty() ? QString("Nothing is selected")
                                                             : text(project_.selected()) + " is selected");
        update();
    });
}

std::optional<std::size_t> ArrangeLayer::selected() const {
    auto& controls = project_.document().player().controls;
    for (std::size_t i = 0; i < controls.size(); ++i)
        if (controls[i].name == project_.selected()) return i;
    return std::nullopt;
}

std::optional<std::size_t> ArrangeLayer::control_at(QPoint at) const {
    auto& layout = player_.layout_now();
    for (std::size_t i = 0; i < layout.controls.size(); ++i)
        if (layout.controls[i].shown && player_.seen(layout.controls[i].box).contains(at)) return i;
    return std::nullopt;
}

std::vector<DropZone> ArrangeLayer::zones() const {
    return drop_zones(project_.document().player(), player_.mount_shape(), player_.layout_now());
}

QStringList ArrangeLayer::order() const {
    auto& controls = project_.document().player().controls;
    auto& layout = player_.layout_now();
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

const DropZone* ArrangeLayer::zone_under(const std::vector<DropZone>& all, QPoint at) const {
    return zone_at(all, static_cast<int>(at.x() / player_.scale()), static_cast<int>(at.y() / player_.scale()));
}

void ArrangeLayer::drag_over(QPoint at) {
    auto all = zones();
    auto* zone = zone_under(all, at);
    over_ = zone ? std::optional(*zone) : std::nullopt;
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
    auto all = zones();
    auto* zone = zone_under(all, at);
    if (!zone) return false;
    auto d = project_.document();
    auto name = ruedo::drop(d.player(), *zone, control);
    project_.change(d, QString("%1 onto %2").arg(text(name), text(zone->words)));
    project_.select(name);
    return true;
}
void ArrangeLayer::move_to(const DropZone& zone, std::size_t control) {
    auto d = project_.document();
    auto name = ruedo::drop(d.player(), zone, control);
    project_.change(d, QString("%1 to %2").arg(text(name), text(zone.words)));
    project_.select(name);
}
void ArrangeLayer::add(const ControlSpec& control) {
    auto d = project_.document();
    auto& p = d.player();
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
    auto name = d.player().controls[*at].name;
    d.player().controls.erase(d.player().controls.begin() + static_cast<std::ptrdiff_t>(*at));
    project_.change(d, QString("%1 taken away").arg(text(name)));
    // The one after it is next, so that several can go one after the other.
    names.removeAll(text(name));
    if (!names.isEmpty() && place >= 0) project_.select(names[std::min(place, names.size() - 1)].toStdString());
}
void ArrangeLayer::copy_selected() const {
    if (auto at = selected())
        QApplication::clipboard()->setText(text(control_text(project_.document().player().controls[*at])));
}
void ArrangeLayer::paste() {
    auto read = control_from_text(QApplication::clipboard()->text().toStdString());
    if (!read) return;
    auto d = project_.document();
    auto& p = d.player();
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
    held_ = e->button() == Qt::LeftButton ? control_at(e->position().toPoint()) : std::nullopt;
    pressed_ = e->position().toPoint();
    project_.select(held_ ? project_.document().player().controls[*held_].name : std::string());
}
void ArrangeLayer::mouseMoveEvent(QMouseEvent* e) {
    auto at = e->position().toPoint();
    setCursor(control_at(at) ? Qt::OpenHandCursor : Qt::ArrowCursor);
    if (!held_ || !(e->buttons() & Qt::LeftButton)) return;
    if (!dragging_ && (at - pressed_).manhattanLength() < 8) return;
    drag_over(at);
}
void ArrangeLayer::mouseReleaseEvent(QMouseEvent* e) {
    bool moved = dragging_ && held_;
    auto control = std::exchange(held_, std::nullopt);
    drag_left();
    if (!moved) return;
    auto all = zones();
    if (auto* zone = zone_under(all, e->position().toPoint())) move_to(*zone, *control);
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
    auto at = selected();
    static const QHash<int, Toward> arrows{{Qt::Key_Left, Toward::left},
                                           {Qt::Key_Right, Toward::right},
                                           {Qt::Key_Up, Toward::up},
                                           {Qt::Key_Down, Toward::down}};
    if (e->key() == Qt::Key_Escape && !project_.selected().empty()) return project_.select({});
    if (!at || e->modifiers() != Qt::NoModifier) return QWidget::keyPressEvent(e);
    if (e->key() == Qt::Key_Delete || e->key() == Qt::Key_Backspace) return remove_selected();
    if (auto toward = arrows.find(e->key()); toward != arrows.end()) {
        auto d = project_.document();
        auto name = d.player().controls[*at].name;
        if (!nudge(d.player(), *at, *toward)) return;
        auto* moved = d.player().control(name);
        project_.change(d, QString("%1 to %2").arg(text(name), text(spoken(*parse_slot(moved->slot)))));
        return project_.select(name);
    }
    QWidget::keyPressEvent(e);
}

void ArrangeLayer::paintEvent(QPaintEvent*) {
    auto& c = look::colours();
    QPainter g(this);
    g.setRenderHint(QPainter::Antialiasing);
    auto& layout = player_.layout_now();
    auto& controls = project_.document().player().controls;
    auto paper = QColor(0xF7, 0xF1, 0xE5);
    if (dragging_) {
        // Every place there is, faintly; the one it would come to, strongly, with its name.
        for (auto& z : zones()) {
            g.setPen(QPen(QColor(0xE2, 0xAC, 0x4C, 110), 1, Qt::DotLine));
            g.setBrush(z.bar ? QColor(0x17, 0x13, 0x1A, 120) : QColor(0, 0, 0, 0));
            g.drawRect(QRectF(player_.seen(z.box)).adjusted(1.5, 1.5, -1.5, -1.5));
            if (!z.bar || !z.slot.ends_with("/middle")) continue;
            // Bars that are not there yet say what they would be.
            static constexpr std::array said{"a bar on the picture", "a bar right beside it", "a bar clear of it"};
            g.setFont(look::font(look::Size::small));
            g.setPen(paper);
            g.drawText(player_.seen(z.box), Qt::AlignCenter, said.at(static_cast<std::size_t>(z.bar->where)));
        }
        if (over_) {
            g.setPen(Qt::NoPen);
            g.setBrush(QColor(0xE2, 0xAC, 0x4C, over_->mark.width > 8 ? 150 : 255));
            g.drawRect(player_.seen(over_->mark));
            g.setFont(look::font(look::Size::small, true));
            auto words = text(over_->words);
            auto wide = g.fontMetrics().horizontalAdvance(words) + 16;
            auto mark = player_.seen(over_->mark);
            QRect tag(std::clamp(mark.center().x() - wide / 2, 0, std::max(0, width() - wide)),
                      std::max(0, mark.top() - 26), wide, 22);
            g.setBrush(QColor(0x2A, 0x21, 0x1C));
            g.drawRect(tag);
            g.setPen(paper);
            g.drawText(tag, Qt::AlignCenter, words);
        }
        return;
    }
    for (std::size_t i = 0; i < std::min(controls.size(), layout.controls.size()); ++i) {
        if (!layout.controls[i].shown) continue;
        auto box = QRectF(player_.seen(layout.controls[i].box));
        bool now = controls[i].name == project_.selected();
        g.setBrush(Qt::NoBrush);
        // Two lines, one light and one dark, so that it is seen on any picture.
        g.setPen(QPen(QColor(0x17, 0x13, 0x1A, now ? 255 : 120), now ? 4 : 1));
        g.drawRect(box.adjusted(-0.5, -0.5, 0.5, 0.5));
        g.setPen(QPen(now ? QColor(0xE2, 0xAC, 0x4C) : QColor(0xF7, 0xF1, 0xE5, 150), now ? 2 : 1,
                      now ? Qt::SolidLine : Qt::DotLine));
        g.drawRect(box.adjusted(-0.5, -0.5, 0.5, 0.5));
        if (!now) continue;
        g.setFont(look::font(look::Size::small, true));
        auto words = text(controls[i].name);
        auto wide = g.fontMetrics().horizontalAdvance(words) + 14;
        QRectF tag(std::clamp(box.left(), 0.0, std::max(0.0, width() - wide * 1.0)),
                   box.top() >= 24 ? box.top() - 24 : box.bottom() + 2, wide, 22);
        g.setPen(Qt::NoPen);
        g.setBrush(c.wine);
        g.drawRect(tag);
        g.setPen(c.on_wine);
        g.drawText(tag, Qt::AlignCenter, words);
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
            // What is made of words or rails is told by its form.
            g.setPen(QPen(c.line, 1));
            g.setBrush(c.panel);
            g.drawRect(place.adjusted(0, 8, 0, -8));
            g.setFont(look::font(look::Size::small));
            g.setPen(c.ink);
            g.drawText(place, Qt::AlignCenter,
                       form == Form::rail    ? "—|—"
                       : form == Form::strip ? "▯▯▯"
                       : form == Form::label ? "0:42"
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
    auto* heading = new QLabel("Drag onto the player");
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
    setAccessibleName("Tray of controls");
}

}  // namespace ruedo
