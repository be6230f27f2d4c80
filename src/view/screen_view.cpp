// SPDX-License-Identifier: Apache-2.0
#include "view/screen_view.h"

#include <QApplication>
#include <QKeyEvent>

#include <QPainter>
#include <algorithm>
#include <cmath>
#include <utility>

#include "view/look.h"

namespace ruedo {

ScreenView::ScreenView(PlaybackHost& host, QWidget* parent) : QWidget(parent), host_(host) {
    seats_.push_back({make_view(), {}});
    share_keys();
    connect(&follow_, &QTimer::timeout, this, [this] { keep_one_sounding(); });
    connect(qApp, &QApplication::focusChanged, this, [this](QWidget*, QWidget* now) {
        for (auto* w = now; w; w = w->parentWidget())
            for (std::size_t i = 0; i < seats_.size(); ++i)
                if (seats_[i].view == w && i != active_) {
                    set_active(i);
                    if (on_active) on_active(i);
                    return;
                }
    });
    setMinimumSize(120, 80);
}
ScreenView::~ScreenView() {
    // Before what they call back into; one that is over the whole screen has no parent that would end it.
    qApp->disconnect(this);
    for (auto& s : std::exchange(seats_, {})) {
        s.view->on_event = {}, s.view->on_turned = {}, s.view->on_laid_out = {};
        delete s.view;
    }
}

PlayerView* ScreenView::make_view() {
    auto* view = new PlayerView(host_, this);
    view->on_event = [this, view](const Event& e) {
        keep_one_sounding();
        if (on_event) on_event(place_in(view), e);
    };
    view->on_turned = [this, view](std::size_t) {
        if (room_) room_->rebuild();
        if (on_turned) on_turned(place_in(view), source_of(place_in(view)));
    };
    view->on_renewed = [this, view] {
        if (on_renewed) on_renewed(*view);
    };
    view->on_laid_out = [this] {
        if (room_) room_->rebuild();
        if (on_laid_out) on_laid_out();
    };
    view->on_full_screen_left = [this] {
        place();
        if (on_full_screen_left) on_full_screen_left();
    };
    view->on_leave = [this, view] {
        seats_[place_in(view)].left = true;
        if (on_leave && std::all_of(seats_.begin(), seats_.end(), [](auto& s) { return s.left; })) on_leave();
    };
    view->set_arranging(arranging_);
    view->show();
    return view;
}

void ScreenView::remove(PlayerView* view) {
    if (view->in_full_screen()) view->toggle_full_screen();
    if (on_removed) on_removed(*view);
    if (room_) room_->forget(*view);
    view->on_event = {}, view->on_turned = {}, view->on_laid_out = {}, view->on_leave = {};
    view->hide();
    view->controller().release();
    view->deleteLater();
}

std::size_t ScreenView::place_in(const PlayerView* view) const {
    auto it = std::find_if(seats_.begin(), seats_.end(), [&](auto& s) { return s.view == view; });
    return it == seats_.end() ? 0 : static_cast<std::size_t>(it - seats_.begin());
}

void ScreenView::take(const PlayerDocument& document, const std::filesystem::path& folder, std::size_t active,
                      std::optional<std::size_t> source) {
    auto before = std::move(seats_);
    auto names = std::move(document_.players);
    document_ = document;
    seats_.assign(document.players.size(), {});
    // One that bears the same name is the same player; so is one that was renamed in its place.
    for (std::size_t i = 0; i < seats_.size(); ++i)
        for (std::size_t b = 0; b < before.size(); ++b)
            if (before[b].view && names[b].name == document.player(i).name) {
                seats_[i] = std::exchange(before[b], {});
                break;
            }
    for (std::size_t i = 0; i < seats_.size(); ++i) {
        if (!seats_[i].view && i < before.size()) seats_[i] = std::exchange(before[i], {});
        if (!seats_[i].view) seats_[i].view = make_view();
    }
    for (auto& gone : before)
        if (gone.view) remove(gone.view);
    active_ = std::min(active, seats_.size() - 1);
    share_keys();
    place();
    for (std::size_t i = 0; i < seats_.size(); ++i) {
        auto& seat = seats_[i];
        auto part = part_of(document, i);
        seat.queue = queue_of(document, i);
        // What it was told to play, else what it plays already, else what has come into its place.
        auto index = std::min(seat.view->index(), part.sources.empty() ? 0 : part.sources.size() - 1);
        if (!seat.view->loaded()) {
            index = 0;
        } else if (auto* now = seat.view->session().source()) {
            auto same = [&](auto& s) { return s.name == now->name && s.file == now->file; };
            if (index >= part.sources.size() || !same(part.sources[index])) {
                auto it = std::find_if(part.sources.begin(), part.sources.end(), same);
                if (it != part.sources.end()) index = static_cast<std::size_t>(it - part.sources.begin());
            }
        }
        auto wanted =
            i == active_ && source ? std::find(seat.queue.begin(), seat.queue.end(), *source) : seat.queue.end();
        if (wanted != seat.queue.end()) index = static_cast<std::size_t>(wanted - seat.queue.begin());
        seat.left = false;
        seat.view->take(part, index, folder);
    }
    if (room_) room_->take(document_);
    // What sounds is looked at now and then besides: a press on one player is an event of that one only.
    bool several = document.screen.one_sounds && seats_.size() > 1;
    several ? follow_.start(50) : follow_.stop();
    update();
}

void ScreenView::reopen() {
    for (auto& s : seats_) s.view->reopen();
}

void ScreenView::set_active(std::size_t i) {
    active_ = std::min(i, seats_.size() - 1);
    share_keys();
    update();
}

std::size_t ScreenView::source_of(std::size_t i) const {
    auto& seat = seats_.at(i);
    return seat.view->index() < seat.queue.size() ? seat.queue[seat.view->index()] : document_.sources.size();
}

void ScreenView::share_keys() {
    for (std::size_t i = 0; i < seats_.size(); ++i) {
        if (standalone_) seats_[i].view->set_standalone(seats_.size() == 1);
        seats_[i].view->take_keys_everywhere(i == active_);
    }
}

void ScreenView::keep_one_sounding() {
    if (!document_.screen.one_sounds || seats_.size() < 2) return;
    std::vector<Snapshot> all;
    for (auto& s : seats_) all.push_back(s.view->snapshot());
    for (auto i : one_sounds_.follow(all)) seats_[i].view->controller().set_muted(true);
}

void ScreenView::set_mount(Mount mount, QSize pixels) {
    mount_ = mount, pixels_ = pixels;
    place();
}
double ScreenView::scale() const { return pixels_.isEmpty() ? 1 : static_cast<double>(width()) / pixels_.width(); }
MountShape ScreenView::mount_shape() const {
    auto pixels = pixels_.isEmpty() ? size() : pixels_;
    return shape_of(mount_, pixels.width(), pixels.height());
}

/// Each on its own surface; the room decides what is visible of them.
void ScreenView::place_in_room() {
    if (!room_) room_ = new RoomView(*this);
    for (std::size_t i = 0; i < seats_.size(); ++i) {
        auto& view = *seats_[i].view;
        auto& hang = document_.player(i).hang;
        view.set_clear({});
        if (!view.in_full_screen() || view.parentWidget() == this) view.move(0, 0);
        view.set_mount(Mount::room, {hang.surface_width, hang.surface_height});
    }
    room_->setGeometry(rect());
    room_->raise();
    room_->show();
    room_->take(document_);
}
void ScreenView::leave_room() {
    for (auto& s : seats_) room_->forget(*s.view);
    delete std::exchange(room_, nullptr);
}

void ScreenView::place() {
    // While players come and go there may be more of them than the document has.
    if (mount_ == Mount::room && seats_.size() <= document_.players.size()) return place_in_room();
    if (room_) leave_room();
    auto shape = mount_shape();
    auto boxes = place_players(document_.screen, seats_.size(), shape);
    auto at = [of = scale()](int v) { return static_cast<int>(std::lround(v * of)); };
    for (std::size_t i = 0; i < seats_.size(); ++i) {
        auto& b = boxes[i];
        auto& view = *seats_[i].view;
        auto own = shape_in(shape, b);
        view.set_clear(QMargins(own.left, own.top, own.right, own.bottom));
        // What hung in a room had a size of its own until now.
        view.set_mount(mount_, pixels_.isEmpty() ? QSize() : QSize(b.width, b.height));
        if (!view.in_full_screen() || view.parentWidget() == this)
            view.setGeometry(QRect(QPoint(at(b.x), at(b.y)), QPoint(at(b.right()) - 1, at(b.bottom()) - 1)));
    }
}

void ScreenView::set_arranging(bool arranging) {
    arranging_ = arranging;
    for (auto& s : seats_) s.view->set_arranging(arranging);
}
void ScreenView::host(std::string_view word) {
    for (auto& s : seats_) s.view->host(word);
}
void ScreenView::set_standalone() {
    standalone_ = true;
    share_keys();
    // A window that becomes active gives the keyboard to whatever can take it, so to whichever player is ready first.
    seats_.front().view->setFocus(Qt::OtherFocusReason);
}

void ScreenView::resizeEvent(QResizeEvent*) { place(); }
void ScreenView::keyPressEvent(QKeyEvent* e) {
    if (!room_ || !room_->key(e->key(), e->modifiers())) QWidget::keyPressEvent(e);
}
// A press that was handed on to a player in a room is nobody's else.
void ScreenView::mousePressEvent(QMouseEvent* e) { e->setAccepted(room_); }
void ScreenView::mouseMoveEvent(QMouseEvent* e) { e->setAccepted(room_); }
void ScreenView::mouseReleaseEvent(QMouseEvent* e) { e->setAccepted(room_); }
void ScreenView::paintEvent(QPaintEvent*) {
    QPainter g(this);
    g.fillRect(rect(), QColor(text(document_.screen.ground)));
}

}  // namespace ruedo
